"""Reading CSV: finding out how it is written, and streaming it as typed record batches.

The file is parsed twice in bounded memory: once to learn what every column
holds over *all* rows (not the first block only), once to convert.
"""

from __future__ import annotations

import codecs
import csv
import io
import re
import unicodedata
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any, BinaryIO

import pyarrow as pa
import pyarrow.compute
import pyarrow.csv as pacsv

from zerotilt.core import days
from zerotilt.core.csvdialect import MAY_BE_MISSING, MISSING, SPACES, Dialect, number_pattern
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work

pc: Any = pyarrow.compute  # its functions are made when it is imported; no checker knows them

BLOCK_BYTES = 4 * 1024 * 1024


def header(source: BinaryIO, dialect: Dialect) -> list[str]:
    """Column names of the first line.

    Raises
    ------
    Refused : blank or repeated names, or bytes that are not in the stated encoding.
    """
    return _header(source, dialect)[0]


def _header(source: BinaryIO, dialect: Dialect) -> tuple[list[str], int]:
    """Column names, and how many lines of the file they take: a quoted name may hold a line break."""
    source.seek(0)
    text = io.TextIOWrapper(source, encoding=dialect.encoding, newline="")
    try:
        reader = csv.reader(text, delimiter=dialect.delimiter, quotechar=dialect.quote)
        names = next(reader, [])
        lines = reader.line_num
    except UnicodeDecodeError:
        raise _encoding_refusal(source, dialect) from None
    except csv.Error as problem:
        raise Refused(f"The header cannot be read: {problem}.", where="line 1", todo="Mend that line.") from None
    finally:
        text.detach()
    names = [" ".join(name.lstrip("\ufeff").split()) for name in names]
    check_names(names)
    return names, lines


MOST_COLUMNS = 5_000
UNSEEN = re.compile("[\u00ad\u200b-\u200f\u202a-\u202e\u2060-\u2064\ufeff]")


def seen_as(text: str) -> str:
    """A text as it looks: one Unicode form, without characters that are not seen."""
    return UNSEEN.sub("", unicodedata.normalize("NFKC", text)).strip()


def check_names(names: list[str]) -> None:
    """Refuse blank and repeated column names, naming their places; names that look alike; and too many columns."""
    if len(names) > MOST_COLUMNS:
        raise Refused(
            f"The table has {len(names):,} columns; up to {MOST_COLUMNS:,} can be read.",
            todo="Leave out columns that are not needed, and upload again.",
        )
    for place, name in enumerate(names, 1):
        if any(ord(one) < 32 or 0xD800 <= ord(one) < 0xE000 for one in name):
            raise Refused(
                f"The name of column {place} holds a character that cannot be written.",
                where="header, line 1",
                todo="Rename the column and upload again.",
            )
    for place, name in enumerate(names, 1):
        if not name:
            raise Refused(
                f"Column {place} has no name.",
                where="header, line 1",
                todo="Give every column a name and upload again.",
            )
    for name, times in Counter(names).items():
        if times > 1:
            places = [str(i) for i, other in enumerate(names, 1) if other == name]
            raise Refused(
                f"{times} columns are called “{name}” (columns {', '.join(places)}).",
                where="header, line 1",
                todo="Rename them so that each name is used once, and upload again.",
            )
    looks: dict[str, str] = {}
    for name in names:
        other = looks.setdefault(seen_as(name), name)
        if other != name:
            raise Refused(
                f"Two columns look alike and are written otherwise: “{name}” ({written_out(name)}) and “{other}” "
                f"({written_out(other)}).",
                where="header, line 1",
                todo="Rename one of them, and upload again.",
            )


def written_out(text: str) -> str:
    """A text with what is not seen, and what is not plain, by its number."""
    return "".join(one if " " <= one < "\x7f" else f"[U+{ord(one):04X}]" for one in text)


@dataclass
class _Column:
    """What one column has turned out to hold so far."""

    number: bool = True
    whole: bool = True
    orders: list[str] = field(default_factory=lambda: list(days.ORDERS))
    """In which a day of every value could be written."""
    padded: bool = False
    values: int = 0
    perhaps: set[str] = field(default_factory=set)
    """What stands in it, is no number, and may stand for no value."""
    but_for_those: bool = True
    """Whether everything else in it is a number."""
    others: int = 0

    def arrow(self) -> pa.DataType:
        if self.values and self.number and not self.padded:
            return pa.int64() if self.whole else pa.float64()
        return pa.date32() if self.values and self.orders else pa.string()

    def order(self, dialect: Dialect) -> str:
        """The order that is meant: the one its values allow, else the file's."""
        return dialect.days if dialect.days in self.orders else self.orders[0]


@dataclass
class Scan:
    """The first pass: names, types and the number of rows."""

    dialect: Dialect
    names: list[str]
    rows: int = 0
    columns: dict[str, _Column] = field(default_factory=dict)
    marks: Counter[str] = field(default_factory=Counter)
    """Cells that hold what stands for no value, or may."""

    @property
    def no_values(self) -> dict[str, list[str]]:
        """Of what may stand for no value, what stands only in columns where all else is a number; and in which."""
        held: dict[str, list[str]] = {}
        for name in self.names:
            for mark in sorted(self.columns[name].perhaps):
                held.setdefault(mark, []).append(name)
        return {
            mark: names
            for mark, names in held.items()
            if all(self.columns[name].but_for_those and self.columns[name].others for name in names)
        }

    @property
    def schema(self) -> pa.Schema:
        return pa.schema([(name, self.columns[name].arrow()) for name in self.names])


def scan(source: BinaryIO, dialect: Dialect, work: Work | None = None) -> Scan:
    """Read the whole file once and learn what every column holds.

    Raises
    ------
    Refused : header only, a row of another width (with its line), undecodable bytes.
    """
    work = work or Work()
    names = header(source, dialect)
    found = Scan(dialect, names, columns={name: _Column() for name in names})
    marks = pa.array(sorted({*dialect.missing, *MISSING, *MAY_BE_MISSING}))
    number, whole = number_pattern(dialect.decimal, dialect.thousands), r"^[+-]?\d{1,18}$"
    asked = {one for one in MAY_BE_MISSING if one not in dialect.missing and not re.match(number, one)}
    for batch in _text_batches(source, dialect, names, work, "bytes read"):
        found.rows += batch.num_rows
        for name, column in zip(names, batch.columns, strict=True):
            refuse_unwritable(name, column, found.rows - batch.num_rows)
            state = found.columns[name]
            values = pc.utf8_trim_whitespace(column)
            for mark in pc.value_counts(values.filter(pc.is_in(values, value_set=marks))).to_pylist():
                found.marks[mark["values"]] += mark["counts"]
                state.perhaps |= {mark["values"]} & asked
            values = values.filter(pc.invert(_is_missing(values, dialect)))
            if not len(values):
                continue
            state.values += len(values)
            if state.but_for_those:
                rest = values.filter(pc.invert(pc.is_in(values, value_set=pa.array(sorted(asked)))))
                state.others += len(rest)
                state.but_for_those = pc.all(pc.match_substring_regex(rest, number)).as_py() is not False
            if state.number:
                state.number = pc.all(pc.match_substring_regex(values, number)).as_py()
                state.padded = state.padded or pc.any(pc.match_substring_regex(values, r"^[+-]?0\d|^\d{19,}$")).as_py()
            if state.number and state.whole:
                bare = _strip_marks(values, dialect) if dialect.thousands else values
                state.whole = pc.all(pc.match_substring_regex(bare, whole)).as_py()
            state.orders = [order for order in state.orders if days.are_days(values, order)]
    if not found.rows:
        raise Refused(
            "The file has a header line and no rows.", where="line 2", todo="Upload a file with at least one row."
        )
    return found


MOST_CELL = 1_000_000
"""Characters that one cell may hold."""


def refuse_unwritable(name: str, column: pa.Array, before: int) -> None:
    """Refuse cells with a NUL character, and cells of a length that nobody reads; ``before``: rows above these."""
    for bad, what in (
        (pc.match_substring(column, "\x00"), "holds a NUL character"),
        (pc.greater(pc.binary_length(column), MOST_CELL), f"is longer than {MOST_CELL:,} characters"),
    ):
        if pc.any(bad).as_py():
            row = before + pc.index(pc.fill_null(bad, False), True).as_py() + 1
            raise Refused(
                f"A cell {what}.",
                where=f"column “{name}”, row {row:,}",
                todo="Mend that cell, or leave the column out.",
            )


def typed_batches(source: BinaryIO, found: Scan, work: Work | None = None) -> Iterator[pa.RecordBatch]:
    """The second pass: record batches of ``found.schema``. Missing marks become nulls."""
    schema = found.schema
    for batch in _text_batches(source, found.dialect, found.names, work or Work(), "bytes converted"):
        arrays = [
            _convert(column, kind.type, found.dialect, found.columns[kind.name])
            for column, kind in zip(batch.columns, schema, strict=True)
        ]
        yield pa.record_batch(arrays, schema=schema)


def _is_missing(trimmed: pa.Array, dialect: Dialect) -> pa.Array:
    return pc.is_in(trimmed, value_set=pa.array(["", *dialect.missing]))


def _strip_marks(values: pa.Array, dialect: Dialect) -> pa.Array:
    if dialect.thousands:
        mark = SPACES if dialect.thousands == " " else re.escape(dialect.thousands)
        values = pc.replace_substring_regex(values, mark, "")
    return pc.replace_substring(values, dialect.decimal, ".") if dialect.decimal != "." else values


def _convert(column: pa.Array, kind: pa.DataType, dialect: Dialect, state: _Column) -> pa.Array:
    blank = pc.if_else(_is_missing(pc.utf8_trim_whitespace(column), dialect), pa.scalar(None, pa.string()), column)
    if pa.types.is_string(kind):
        return blank
    bare = pc.utf8_trim_whitespace(blank)
    if pa.types.is_date(kind):
        return days.as_days(bare, state.order(dialect))
    bare = pc.replace_substring_regex(_strip_marks(bare, dialect), r"^\+", "")
    return pc.cast(bare, kind)


class _Counted(io.RawIOBase):
    """A binary source that tells how far it has been read."""

    def __init__(self, source: BinaryIO, work: Work):
        self._source, self._work = source, work

    def readable(self) -> bool:
        return True

    def readinto(self, into) -> int:
        piece = self._source.read(len(into))
        into[: len(piece)] = piece
        self._work.advance(len(piece))
        return len(piece)


def _text_batches(
    source: BinaryIO, dialect: Dialect, names: list[str], work: Work, what: str
) -> Iterator[pa.RecordBatch]:
    size = source.seek(0, io.SEEK_END)
    lines = _header(source, dialect)[1]
    source.seek(0)
    work.begin(size, what)
    try:
        reader = pacsv.open_csv(
            io.BufferedReader(_Counted(source, work), BLOCK_BYTES),
            read_options=pacsv.ReadOptions(
                use_threads=False,
                block_size=BLOCK_BYTES,
                encoding="utf-8" if dialect.encoding == "utf-8-sig" else dialect.encoding,
                column_names=names,
                skip_rows=lines,
            ),
            parse_options=pacsv.ParseOptions(
                delimiter=dialect.delimiter, quote_char=dialect.quote, newlines_in_values=True
            ),
            convert_options=pacsv.ConvertOptions(
                column_types={name: pa.string() for name in names}, strings_can_be_null=False
            ),
        )
        yield from reader
    except UnicodeDecodeError:
        raise _encoding_refusal(source, dialect) from None
    except (pa.ArrowInvalid, pa.ArrowKeyError) as problem:
        raise _located(source, dialect, len(names), str(problem)) from None


def _encoding_refusal(source: BinaryIO, dialect: Dialect) -> Refused:
    """Find the first line that is not in the stated encoding. Slow, but only walked on failure."""
    source.seek(0)
    decoder = codecs.getincrementaldecoder(dialect.encoding.replace("-sig", ""))()
    for number, line in enumerate(source, 1):
        try:
            decoder.decode(line)
        except UnicodeDecodeError as problem:
            return Refused(
                f"The bytes there are not {dialect.encoding} text ({problem.object[problem.start : problem.end].hex()}).",
                where=f"line {number}",
                todo="Choose another encoding, for example cp1252 or iso-8859-1.",
            )
    return Refused(f"The file is not {dialect.encoding} text.", todo="Choose another encoding.")


def _located(source: BinaryIO, dialect: Dialect, width: int, problem: str) -> Refused:
    """Name the line of the first row that has another width. Slow, but only walked on failure."""
    source.seek(0)
    text = io.TextIOWrapper(source, encoding=dialect.encoding, newline="", errors="strict")
    try:
        reader = csv.reader(text, delimiter=dialect.delimiter, quotechar=dialect.quote, strict=True)
        before = 0
        for row in reader:
            if row and len(row) != width:
                return Refused(
                    f"The row has {len(row)} values where the header has {width} columns.",
                    where=f"line {before + 1}",
                    todo="Mend that line, or choose another delimiter or quote.",
                )
            before = reader.line_num
    except UnicodeDecodeError:
        return _encoding_refusal(source, dialect)
    except csv.Error as error:
        return Refused(f"The row cannot be read: {error}.", where=f"line {reader.line_num}", todo="Mend that line.")
    finally:
        text.detach()
    return Refused(f"The file cannot be read as CSV: {problem}", todo="Check delimiter and quotes.")
