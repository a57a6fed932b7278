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
from typing import Any, BinaryIO, Literal

import charset_normalizer
import pyarrow as pa
import pyarrow.compute
import pyarrow.csv as pacsv
from pydantic import model_validator

from zerotilt.core.frozen import Frozen
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work

pc: Any = pyarrow.compute  # its functions are made when it is imported; no checker knows them

SAMPLE_BYTES = 256 * 1024
BLOCK_BYTES = 4 * 1024 * 1024
MISSING = ("", "NA", "N/A", "n/a", "na", "NaN", "nan", "null", "NULL", "None", "-")
_SPACES = "[ \u00a0\u202f]"


class Dialect(Frozen):
    """How a CSV file is written. Every part can be corrected by the person."""

    encoding: str = "utf-8"
    delimiter: Literal[",", ";", "\t", "|"] = ","
    quote: Literal['"', "'"] = '"'
    decimal: Literal[".", ","] = "."
    thousands: Literal["", ",", ".", " ", "'"] = ""

    @model_validator(mode="after")
    def _marks_differ(self) -> Dialect:
        if self.decimal == self.thousands:
            raise ValueError(f"decimal mark and thousands mark are both “{self.decimal}”")
        return self


def sniff(source: BinaryIO) -> Dialect:
    """Find out encoding, delimiter, quote, decimal mark and thousands mark from the head of a file.

    Raises
    ------
    Refused : the file is empty or is not text.
    """
    source.seek(0)
    head = source.read(SAMPLE_BYTES)
    if not head.strip():
        raise Refused("The file is empty.", todo="Choose a file with a header line and rows.")
    encoding = _encoding(head, whole=len(head) < SAMPLE_BYTES)
    text = head.decode(encoding, errors="replace").lstrip("\ufeff")
    if not text.strip():
        raise Refused("The file is empty.", todo="Choose a file with a header line and rows.")
    if "\x00" in text:
        raise Refused("The file is not text, so it is not CSV.", todo="Upload CSV, Parquet, or Arrow/Feather.")
    if len(head) == SAMPLE_BYTES:  # the last line is probably cut
        text = text[: text.rfind("\n") + 1] or text
    quote, delimiter, rows = _shape(text)
    decimal, thousands = _marks(rows[1:200], delimiter)
    return Dialect(encoding=encoding, delimiter=delimiter, quote=quote, decimal=decimal, thousands=thousands)


def _encoding(head: bytes, whole: bool) -> str:
    for mark, name in (
        (codecs.BOM_UTF8, "utf-8-sig"),
        (codecs.BOM_UTF16_LE, "utf-16"),
        (codecs.BOM_UTF16_BE, "utf-16"),
    ):
        if head.startswith(mark):
            return name
    try:
        codecs.getincrementaldecoder("utf-8")().decode(head, final=whole)
        return "utf-8"
    except UnicodeDecodeError:
        return _likeliest(head)


def _likeliest(head: bytes) -> str:
    """The single-byte encoding under which the text is likeliest: letters stand in words, signs do not.

    Where most letters are beyond ASCII, as in Greek or Cyrillic, another script
    is meant; elsewhere the commonest encoding wins unless another reads better.
    """
    best = charset_normalizer.from_bytes(head[:32_768]).best()
    guessed = None if best is None or best.encoding in ("utf_8", "ascii") else best.encoding
    letters = sum(one in _ASCII_LETTERS for one in head)
    if guessed and sum(one >= 0x80 for one in head) > 0.4 * max(letters, 1):
        return guessed
    candidates = dict.fromkeys(
        ("cp1252", "cp1250", *([guessed] if guessed else []), "iso-8859-15", "cp1257", "mac_roman")
    )
    scored = {}
    for name in candidates:
        try:
            scored[name] = _plausible(head.decode(name))
        except (UnicodeDecodeError, LookupError):
            continue
    return max(scored, key=lambda name: scored[name]) if scored else "cp1252"


_ASCII_LETTERS = frozenset(b"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ")
_COMMON = frozenset("äöüßéèêëáàâçñíóúåæøãõîïôûùÄÖÜÉÅØÆÑ€–—“”‘’°§")
_CENTRAL = frozenset("ąćęłńśźżčďěňřšťžůýőűăâîșțşţđĄĆĘŁŃŚŹŻČĎĚŇŘŠŤŽŮÝŐŰ")


def _plausible(text: str) -> float:
    """How well the characters beyond ASCII sit: letters that European words have, not signs and capitals inside words."""
    found = 0.0
    for place, one in enumerate(text):
        if one < "\x80":
            continue
        before, after = text[place - 1 : place], text[place + 1 : place + 2]
        inside = before.isalpha() or after.isalpha()
        if not one.isprintable() or one == "\xa0":
            found -= 2.0
        elif one.isalpha():
            found += 1.0 if one in _COMMON else 0.9 if one in _CENTRAL else 0.4
            found -= 1.0 if one.isupper() and before.islower() else 0.0
        else:
            found += -1.5 if inside and one not in "’‘“”–—°" else 0.5 if one in _COMMON else 0.0
    return found


def _shape(text: str) -> tuple[str, str, list[list[str]]]:
    """The quote and delimiter under which most leading rows have one and the same width above one."""
    best: tuple[float, str, str, list[list[str]]] | None = None
    for quote in ('"', "'"):
        for delimiter in (",", ";", "\t", "|"):
            reader = csv.reader(io.StringIO(text), delimiter=delimiter, quotechar=quote)
            rows: list[list[str]] = []
            try:
                for row in reader:
                    if row:
                        rows.append(row)
                    if len(rows) >= 200:
                        break
            except csv.Error:
                continue
            width, agreeing = Counter(len(row) for row in rows).most_common(1)[0]
            score = (agreeing / len(rows)) * (1 if width > 1 else 0) + min(width, 50) / 1000
            if quote == "'" and f"{delimiter}'" not in text:
                score -= 0.01
            if best is None or score > best[0] + 1e-9:
                best = (score, quote, delimiter, rows)
    if best is None:
        raise Refused("The file cannot be read as CSV.", todo="Check that it is a text table.")
    return best[1], best[2], best[3]


def _number(decimal: str, thousands: str) -> str:
    d = re.escape(decimal)
    plain = rf"\d+({d}\d*)?|{d}\d+"
    if not thousands:
        return rf"^[+-]?({plain})([eE][+-]?\d+)?$"
    t = _SPACES if thousands == " " else re.escape(thousands)
    return rf"^[+-]?({plain}|\d{{1,3}}({t}\d{{3}})+({d}\d*)?)([eE][+-]?\d+)?$"


def _marks(rows: list[list[str]], delimiter: str) -> tuple[str, str]:
    """Decimal and thousands marks that make most columns numeric; plainer marks win ties."""
    candidates = [(".", ""), (".", ","), (",", ""), (",", "."), (".", " "), (",", " "), (".", "'"), (",", "'")]
    if delimiter == ";":  # such files come from places that write 1,5
        candidates[1], candidates[2] = candidates[2], candidates[1]
    width = max((len(row) for row in rows), default=0)
    columns = [[row[i].strip() for row in rows if i < len(row) and row[i].strip() not in MISSING] for i in range(width)]
    best, most = (".", ""), -1
    for decimal, thousands in candidates:
        if delimiter in (decimal, thousands) and delimiter != "," and delimiter != ";":
            continue
        pattern = re.compile(_number(decimal, thousands))
        numeric = sum(1 for values in columns if values and all(pattern.match(value) for value in values))
        if numeric > most:
            best, most = (decimal, thousands), numeric
    return best


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
    except (UnicodeDecodeError, LookupError):
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
    date: bool = True
    padded: bool = False
    values: int = 0

    def arrow(self) -> pa.DataType:
        if self.values and self.number and not self.padded:
            return pa.int64() if self.whole else pa.float64()
        return pa.date32() if self.values and self.date else pa.string()


@dataclass
class Scan:
    """The first pass: names, types and the number of rows."""

    dialect: Dialect
    names: list[str]
    rows: int = 0
    columns: dict[str, _Column] = field(default_factory=dict)

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
    number, whole = _number(dialect.decimal, dialect.thousands), r"^[+-]?\d{1,18}$"
    for batch in _text_batches(source, dialect, names, work, "bytes read"):
        found.rows += batch.num_rows
        for name, column in zip(names, batch.columns, strict=True):
            refuse_unwritable(name, column, found.rows - batch.num_rows)
            state = found.columns[name]
            values = column.filter(pc.invert(_is_missing(column)))
            if not len(values):
                continue
            values = pc.utf8_trim_whitespace(values)
            state.values += len(values)
            if state.number:
                state.number = pc.all(pc.match_substring_regex(values, number)).as_py()
                state.padded = state.padded or pc.any(pc.match_substring_regex(values, r"^[+-]?0\d|^\d{19,}$")).as_py()
            if state.number and state.whole:
                bare = _strip_marks(values, dialect) if dialect.thousands else values
                state.whole = pc.all(pc.match_substring_regex(bare, whole)).as_py()
            state.date = state.date and _are_dates(values)
    if not found.rows:
        raise Refused(
            "The file has a header line and no rows.", where="line 2", todo="Upload a file with at least one row."
        )
    return found


MOST_CELL = 100_000
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
            _convert(column, kind.type, found.dialect) for column, kind in zip(batch.columns, schema, strict=True)
        ]
        yield pa.record_batch(arrays, schema=schema)


def _are_dates(values: pa.Array) -> bool:
    """Whether every value is a day that exists, written year-month-day; 2026-02-30 is text."""
    if not pc.all(pc.match_substring_regex(values, r"^\d{4}-\d{2}-\d{2}$")).as_py():
        return False
    try:
        pc.cast(values, pa.date32())
    except pa.ArrowInvalid:
        return False
    return True


def _is_missing(column: pa.Array) -> pa.Array:
    return pc.is_in(pc.utf8_trim_whitespace(column), value_set=pa.array(MISSING))


def _strip_marks(values: pa.Array, dialect: Dialect) -> pa.Array:
    if dialect.thousands:
        mark = _SPACES if dialect.thousands == " " else re.escape(dialect.thousands)
        values = pc.replace_substring_regex(values, mark, "")
    return pc.replace_substring(values, dialect.decimal, ".") if dialect.decimal != "." else values


def _convert(column: pa.Array, kind: pa.DataType, dialect: Dialect) -> pa.Array:
    blank = pc.if_else(_is_missing(column), pa.scalar(None, pa.string()), column)
    if pa.types.is_string(kind):
        return blank
    bare = pc.utf8_trim_whitespace(blank)
    if pa.types.is_date(kind):
        return pc.cast(bare, kind)
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
    except LookupError:
        raise Refused(
            f"“{dialect.encoding}” is not an encoding known here.", todo="Use a name such as utf-8 or cp1252."
        ) from None
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
