"""A table of a result that is too large to be read as records: kept as a Parquet file, named by its digest."""

from __future__ import annotations

import hashlib
import io
from collections.abc import Mapping
from typing import Any, Literal

import pyarrow as pa
import pyarrow.parquet as pq
from pydantic import BaseModel, PrivateAttr

from zerotilt.core.frozen import Frozen

MEMBER = "parquet file"


class Attached(Frozen):
    """What a result says of the table; the table itself goes with it as a file and is never part of its JSON."""

    held: Literal["parquet file"] = MEMBER
    digest: str
    size: int
    rows: int
    columns: tuple[str, ...]
    _data: bytes = PrivateAttr(default=b"")

    @classmethod
    def of(cls, table: pa.Table) -> Attached:
        """The table as it will be kept."""
        sink = io.BytesIO()
        pq.write_table(table, sink, compression="zstd", row_group_size=65_536)
        data = sink.getvalue()
        found = cls(
            digest=hashlib.sha256(data).hexdigest(),
            size=len(data),
            rows=table.num_rows,
            columns=tuple(table.column_names),
        )
        found._data = data
        return found

    @property
    def data(self) -> bytes:
        """The file; empty where only what was said of it was read back."""
        return self._data


def attached_to(result: BaseModel) -> dict[str, bytes]:
    """The files that go with a result just computed, by the names of its fields."""
    found = {name: getattr(result, name) for name in type(result).model_fields}
    return {name: one.data for name, one in found.items() if isinstance(one, Attached) and one.data}


def digests_in(result: Mapping[str, Any]) -> dict[str, str]:
    """The digests of the files that go with a result as it is kept, by the names of its fields."""
    return {
        name: value["digest"]
        for name, value in result.items()
        if isinstance(value, dict) and value.get("held") == MEMBER and "digest" in value
    }
