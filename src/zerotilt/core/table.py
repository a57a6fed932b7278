"""A table of cases: Parquet in, columns as NumPy arrays out, read one at a time so that memory stays bounded."""

from __future__ import annotations

import math
from collections.abc import Iterator
from functools import cached_property, lru_cache
from typing import Any, BinaryIO

import numpy as np
import pyarrow as pa
import pyarrow.compute
import pyarrow.parquet as pq
from numpy.typing import NDArray

from zerotilt.core import csvdialect, csvfile, foreign, words
from zerotilt.core.csvdialect import Dialect
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work

pc: Any = pyarrow.compute  # its functions are made when it is imported; no checker knows them

BATCH_ROWS = 65_536
PIECE_ROWS = 256
"""Rows of a column of bytes that are held at once."""
FEW_ROWS = 1_000
SMALL_ROWS, MANY_COLUMNS = 20_000, 256
"""Columns as they were read that are held of a table of up to so many rows."""
YES = {
    "true", "yes", "t", "y", "1", "on", "ja", "j", "oui", "o", "vrai", "si", "sí", "s", "sim", "verdadero", "vero", "wahr",
    "waar", "tak", "ano", "kyllä", "igen", "da",
}  # fmt: skip
NO = {
    "false", "no", "f", "n", "0", "off", "nein", "nee", "non", "faux", "não", "nao", "falso", "falsch", "onwaar", "nej",
    "nie", "ne", "ei", "nem",
}  # fmt: skip
"""Spellings of yes and no, as people write them in several languages."""
FIRST_DAY, LAST_DAY = -719_162, 2_932_896
"""The days of the years 1 to 9999, counted from 1970."""


def _number(text: str) -> float:
    """A finite number as it is written; NaN where it is none."""
    try:
        found = float(text.replace("−", "-"))
    except ValueError:
        return math.nan
    return found if math.isfinite(found) else math.nan


class Table:
    """Typed columns of one table.

    ``numbers`` and ``texts`` are the two views every method works on: float64
    with NaN for missing, and strings with None for missing.
    """

    def __init__(self, source: BinaryIO | pa.Table):
        self.names: list[str]
        self.rows: int
        self._whole: Any = source if isinstance(source, pa.Table) else None
        self._file: pq.ParquetFile | None = None
        if self._whole is not None:
            self.names, self.rows = self._whole.column_names, self._whole.num_rows
        else:
            self._file = pq.ParquetFile(source)
            self.names = self._file.schema_arrow.names
            self.rows = self._file.metadata.num_rows
        # of a large table few: the views below are what is asked for again
        self._column = lru_cache(maxsize=MANY_COLUMNS if self.rows <= SMALL_ROWS else 4)(self._read)
        self.texts = lru_cache(maxsize=64)(self._texts)
        self.numbers = lru_cache(maxsize=64)(self.uncached_numbers)
        self.coded = lru_cache(maxsize=64)(self._coded)

    def _read(self, name: str) -> pa.ChunkedArray:
        if name not in self.names:
            raise Refused(f"The table has no column “{name}”.", where=f"column “{name}”")
        if self._whole is not None:
            return self._whole.column(self.names.index(name))
        return self._opened.read(columns=[name]).column(0)

    @property
    def _opened(self) -> pq.ParquetFile:
        if self._file is None:
            raise ValueError("the table is in memory")
        return self._file

    def __reduce__(self) -> tuple[type[Table], tuple[pa.Table]]:
        """Sent elsewhere it goes along with its columns, not with the file that it was opened from."""
        return Table, (self.whole(),)

    def whole(self) -> pa.Table:
        """All columns, in memory."""
        return self._whole if self._whole is not None else self._opened.read()

    def column(self, name: str) -> pa.ChunkedArray:
        return self._column(name)

    @cached_property
    def _types(self) -> list[pa.DataType]:
        return list((self._whole.schema if self._whole is not None else self._opened.schema_arrow).types)

    def _type(self, name: str) -> pa.DataType:
        """Found from the file's description: nothing is read."""
        if name not in self.names:
            raise Refused(f"The table has no column “{name}”.", where=f"column “{name}”")
        return self._types[self.names.index(name)]

    def stored(self, name: str) -> pa.DataType:
        """The type that the column is stored in."""
        return self._type(name)

    def among(self, rows: NDArray[np.int64]) -> Table:
        """Only some of the rows, held in memory."""
        return Table(self.whole().take(pa.array(rows)))

    def is_number(self, name: str) -> bool:
        kind = self._type(name)
        return pa.types.is_integer(kind) or pa.types.is_floating(kind)

    def is_whole(self, name: str) -> bool:
        return pa.types.is_integer(self._type(name))

    def is_truth(self, name: str) -> bool:
        return pa.types.is_boolean(self._type(name))

    def is_text(self, name: str) -> bool:
        return pa.types.is_string(self._type(name))

    def holds_bytes(self, name: str) -> bool:
        return name in self.names and pa.types.is_binary(self._type(name))

    def pieces(self, name: str) -> Iterator[pa.Array]:
        """The column piece by piece, for what must not be held whole."""
        if self._whole is not None:
            yield from self.column(name).chunks
        else:
            for batch in self._opened.iter_batches(PIECE_ROWS, columns=[name]):
                yield batch.column(0)

    def is_date(self, name: str) -> bool:
        return pa.types.is_date(self._type(name))

    def uncached_numbers(self, name: str) -> NDArray[np.float64]:
        """The column as float64, shape (rows,), NaN where missing.

        Raises
        ------
        Refused : a cell is not a number; the message names the first.
        """
        column = self.column(name)
        kind = column.type
        _readable(name, kind)
        if pa.types.is_boolean(kind):
            column = pc.cast(column, pa.int8())
        elif pa.types.is_date(kind):
            column = pc.cast(column, pa.int32())
        elif pa.types.is_string(kind):
            return self._truths(name)
        return pc.cast(column, pa.float64(), safe=False).to_numpy(zero_copy_only=False).astype(np.float64)

    def _truths(self, name: str) -> NDArray[np.float64]:
        levels, codes = self.coded(name)
        known = dict.fromkeys(YES, 1.0) | dict.fromkeys(NO, 0.0)
        numbers = np.array([known.get(plain, _number(plain)) for plain in (str(one).strip().lower() for one in levels)])
        wrong = np.flatnonzero(np.isnan(numbers))
        if len(wrong):
            rows = np.isin(codes, wrong)
            held = np.bincount(codes[rows], minlength=len(levels))
            most = [f"“{levels[i]}” ({words.count(int(held[i]))})" for i in sorted(wrong, key=lambda i: -held[i])[:5]]
            more = f" and {words.plural(len(wrong) - 5, 'other')}" if len(wrong) > 5 else ""
            cells = int(rows.sum())
            raise Refused(
                f"{words.plural(cells, 'cell')} of {words.count(len(codes))} {'is' if cells == 1 else 'are'} no number: "
                f"{', '.join(most)}{more}; the first in row {words.count(int(np.flatnonzero(rows)[0]) + 1)}.",
                where=f"column “{name}”",
                todo="Let it hold levels or text, or say in Intake what of this stands for no value.",
            )
        return np.append(numbers, np.nan)[codes]

    def _coded(self, name: str) -> tuple[NDArray[np.object_], NDArray[np.int64]]:
        """The column's distinct texts, and of each row which one it holds, shape (rows,), −1 where missing."""
        column = self.column(name)
        _readable(name, column.type)
        coded = column.combine_chunks().dictionary_encode()
        coded = coded.combine_chunks() if isinstance(coded, pa.ChunkedArray) else coded
        found = [words.value_text(value) for value in coded.dictionary.to_pylist()]
        codes = coded.indices.fill_null(len(found)).to_numpy(zero_copy_only=False)
        # NaN and null are the same absence
        place = np.array(
            [-1 if text == "nan" and pa.types.is_floating(column.type) else i for i, text in enumerate(found)] + [-1]
        )
        return np.array(found, dtype=object), place[codes]

    def texts_of(self, name: str, rows: NDArray[np.int64]) -> NDArray[np.object_]:
        """The column as text in some rows, shape (len(rows),): of a few rows no more than these is made."""
        if len(rows) > FEW_ROWS:
            return self.texts(name)[rows]
        column = self.column(name)
        _readable(name, column.type)
        found = [
            None if value is None or value != value else words.value_text(value)
            for value in column.take(pa.array(rows)).to_pylist()
        ]
        return np.array([*found, None], dtype=object)[:-1]

    def _texts(self, name: str) -> NDArray[np.object_]:
        """The column as text, shape (rows,), None where missing."""
        column = self.column(name)
        if pa.types.is_string(column.type):
            return column.to_numpy(zero_copy_only=False).astype(object)
        levels, codes = self.coded(name)
        return np.append(levels, np.array([None], dtype=object))[codes]


def _readable(name: str, kind: pa.DataType) -> None:
    if pa.types.is_binary(kind):
        raise Refused(
            "It holds bytes, which are kept and passed by.", where=f"column “{name}”", todo="Set its kind to bytes."
        )


def convert(
    source: BinaryIO,
    sink: BinaryIO,
    dialect: Dialect | None = None,
    work: Work | None = None,
    name: str = "",
    marks: dict[str, int] | None = None,
    notes: list[str] | None = None,
) -> Dialect | None:
    """Write any table file read from ``source`` to ``sink`` as Parquet with plain types, piece by piece.

    Parquet, Arrow and Feather are known by their first bytes; anything else is
    read as CSV, as ``dialect`` says or as found out. Returns the CSV dialect
    used, None for the others. ``name``: what the file is called, for refusals. ``marks``: takes
    how many cells of a CSV hold each mark that stands for no value, or may. ``notes``: takes what was found
    out that nobody could see from the table, in sentences.

    Raises
    ------
    Refused : the file is empty, broken, has no rows, or a column has no plain type.
    """
    work = work or Work()
    source.seek(0)
    start = source.read(foreign.PEEKED)
    source.seek(0)
    if start[:4] == b"PAR1" or start[:6] == b"ARROW1" or start[:4] == b"\xff\xff\xff\xff":
        _write(_arrow_batches(source, start, work), sink)
        return None
    foreign.refuse_foreign(start, name)
    guessed, dialect = dialect is None, dialect or csvdialect.sniff(source)
    found = csvfile.scan(source, dialect, work)
    if guessed and (also := found.no_values):
        dialect = dialect.model_copy(update={"missing": (*dialect.missing, *also)})
        found = csvfile.scan(source, dialect, work)
        if notes is not None:
            notes += [
                f"“{mark}” is read as no value: all else in {words.listing([f'“{one}”' for one in names])} is a number."
                for mark, names in also.items()
            ]
    if marks is not None:
        marks.update(found.marks)
    _write(csvfile.typed_batches(source, found, work), sink)
    return dialect


def _arrow_batches(source: BinaryIO, start: bytes, work: Work) -> Iterator[pa.RecordBatch]:
    try:
        if start[:4] == b"PAR1":
            file = pq.ParquetFile(source)
            total, batches = file.metadata.num_rows, file.iter_batches(BATCH_ROWS)
            names = file.schema_arrow.names
        elif start[:6] == b"ARROW1":
            reader = pa.ipc.open_file(source)
            total = sum(reader.get_batch(i).num_rows for i in range(reader.num_record_batches))
            batches = (reader.get_batch(i) for i in range(reader.num_record_batches))
            names = reader.schema.names
        else:
            reader = pa.ipc.open_stream(source)
            total, batches, names = 0, iter(reader), reader.schema.names
        csvfile.check_names([name.strip() for name in names])
        work.begin(total, "rows read")
        empty, before = True, 0
        for batch in batches:
            empty = empty and not batch.num_rows
            for name, column in zip(batch.schema.names, batch.columns, strict=True):
                _validate(name, column)
            columns = [plain(name, column) for name, column in zip(batch.schema.names, batch.columns, strict=True)]
            for name, column in zip(batch.schema.names, columns, strict=True):
                if pa.types.is_string(column.type):
                    csvfile.refuse_unwritable(name, column, before)
            before += batch.num_rows
            yield pa.record_batch(columns, names=[name.strip() for name in batch.schema.names])
            work.advance(batch.num_rows)
        if empty:
            raise Refused("The file has columns and no rows.", todo="Upload a file with at least one row.")
    except UnicodeDecodeError:
        raise Refused(
            "The name of a column holds bytes that are no text.",
            todo="Write the file again at its source and upload it again.",
        ) from None
    except (pa.ArrowException, OSError, EOFError) as problem:
        raise Refused(
            f"The file is cut off or damaged: {problem}", todo="Write it again at its source and upload it again."
        ) from None


def _validate(name: str, column: pa.Array) -> None:
    """Bytes that are no text, and offsets that lead nowhere, are found here, not where they are read."""
    try:
        column.validate(full=True)
    except pa.ArrowException as problem:
        said = "It holds bytes that are no text" if "UTF" in str(problem) else "It is damaged"
        raise Refused(
            f"{said}: {problem}",
            where=f"column “{name}”",
            todo="Write the file again at its source and upload it again.",
        ) from None


_BYTES = (pa.types.is_binary, pa.types.is_large_binary, pa.types.is_fixed_size_binary, pa.types.is_binary_view)


def plain(name: str, column: pa.Array | pa.ChunkedArray) -> pa.Array | pa.ChunkedArray:
    """Whole numbers, numbers, truth values, dates, text and bytes are kept; near kinds become one of them."""
    kind = column.type
    if pa.types.is_dictionary(kind):
        return plain(name, pc.cast(column, kind.value_type))
    if pa.types.is_boolean(kind) or pa.types.is_string(kind) or kind in (pa.int64(), pa.float64()):
        return column
    try:
        if pa.types.is_integer(kind):
            return pc.cast(column, pa.int64())
        if pa.types.is_floating(kind) or pa.types.is_decimal(kind):
            return pc.cast(column, pa.float64())
    except pa.ArrowInvalid:
        raise Refused(
            "It holds whole numbers beyond 9,223,372,036,854,775,807, which are not told apart as numbers.",
            where=f"column “{name}”",
            todo="Write them as text if they are names, or as decimal numbers, and upload again.",
        ) from None
    if pa.types.is_large_string(kind) or pa.types.is_string_view(kind) or pa.types.is_null(kind):
        return pc.cast(column, pa.string())
    if any(is_kind(kind) for is_kind in _BYTES):
        return pc.cast(column, pa.binary())
    if pa.types.is_date(kind) or pa.types.is_timestamp(kind):
        days = pc.cast(column, pa.date32(), safe=False)
        reach = pc.min_max(pc.cast(days, pa.int32())).as_py()
        if reach["min"] is not None and not FIRST_DAY <= reach["min"] <= reach["max"] <= LAST_DAY:
            raise Refused(
                "It holds a day before the year 1 or after the year 9999.",
                where=f"column “{name}”",
                todo="Mend those days, or leave the column out, and upload again.",
            )
        return days
    raise Refused(
        f"The column holds {kind}, which is not a number, text, truth value, date or bytes.",
        where=f"column “{name}”",
        todo="Leave the column out or turn it into text, and upload again.",
    )


def _write(batches: Iterator[pa.RecordBatch], sink: BinaryIO) -> None:
    writer: pq.ParquetWriter | None = None
    try:
        for batch in batches:
            if writer is None:
                writer = pq.ParquetWriter(sink, batch.schema, compression="zstd")
            writer.write_batch(batch, row_group_size=BATCH_ROWS * 4)
    finally:
        if writer is not None:
            writer.close()


def from_arrays(columns: dict[str, list | np.ndarray]) -> Table:
    """A table from arrays of equal length, for notebooks and tests."""
    return Table(pa.table({name: pa.array(values) for name, values in columns.items()}))
