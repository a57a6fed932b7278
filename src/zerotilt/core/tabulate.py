"""Any result as one flat table: what a person would copy from the sheet."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
from pydantic import BaseModel

from zerotilt.core.refusal import Refused
from zerotilt.core.response.surface import SurfaceResult


def as_table(result: BaseModel) -> pa.Table:
    """The records of a result, one a row; nested numbers become columns such as ``permutation_low``.

    Raises
    ------
    Refused : the result holds no records.
    """
    if isinstance(result, SurfaceResult):
        return pa.Table.from_pylist(_points(result))
    for name in type(result).model_fields:
        records = getattr(result, name)
        if isinstance(records, tuple) and records and all(isinstance(one, BaseModel) for one in records):
            return pa.Table.from_pylist([_flat(one) for one in records])
    raise Refused("The result holds no rows to make a table of.")


def _flat(record: BaseModel, before: str = "") -> dict[str, Any]:
    out: dict[str, Any] = {}
    for name in type(record).model_fields:
        value = getattr(record, name)
        if isinstance(value, BaseModel):
            out |= _flat(value, f"{before}{name}_")
        elif isinstance(value, dict):
            for key, inner in value.items():
                out |= (
                    _flat(inner, f"{before}{key}_")
                    if isinstance(inner, BaseModel)
                    else {f"{before}{name}_{key}": inner}
                )
        elif isinstance(value, tuple) and value and isinstance(value[0], BaseModel):
            out[before + name] = "; ".join(_said(one) for one in value)
        elif isinstance(value, tuple):
            out[before + name] = list(value)
        else:
            out[before + name] = value
    return out


def _said(record: BaseModel) -> str:
    """A nested record in a cell: its numbers and words in order."""
    return " ".join(str(value) for value in record.model_dump().values() if not isinstance(value, bool | dict | list))


def _points(result: SurfaceResult) -> list[dict[str, Any]]:
    out = []
    for i, first in enumerate(result.first.labels):
        for j, second in enumerate(result.second.labels):
            out.append(
                {
                    result.first.feature: first if result.first.positions is None else result.first.positions[i],
                    result.second.feature: second if result.second.positions is None else result.second.positions[j],
                    "value": result.values[i][j],
                    "rows_near": result.support[i][j],
                    "scarce": result.scarce[i][j],
                }
            )
    return out
