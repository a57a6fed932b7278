"""Every array of a result as a flat table: what a person would copy from the sheet."""

from __future__ import annotations

from typing import Any, get_args

import pyarrow as pa
from pydantic import BaseModel

from zerotilt.core.refusal import Refused
from zerotilt.core.response.partial import ResponseResult
from zerotilt.core.response.surface import SurfaceResult


def as_table(result: BaseModel) -> pa.Table:
    """The first of a result's arrays: the records behind its figure.

    Raises
    ------
    Refused : the result holds no records.
    """
    for table in tables(result).values():
        return table
    raise Refused("The result holds no rows to make a table of.")


def tables(result: BaseModel) -> dict[str, pa.Table]:
    """Every array of records in a result, one record a row; nested numbers become columns such as ``permutation_low``.

    Single curves and surfaces, which are kept as plain numbers, are written out point by point.
    """
    found = {}
    if isinstance(result, SurfaceResult):
        found["points"] = pa.Table.from_pylist(_points(result))
    for name in type(result).model_fields:
        records = getattr(result, name)
        if isinstance(records, tuple) and records and all(isinstance(one, BaseModel) for one in records):
            found[name] = pa.Table.from_pylist([_flat(one) for one in records])
    if isinstance(result, ResponseResult):
        found |= _curves(result)
    return found


def _curves(result: ResponseResult) -> dict[str, pa.Table]:
    """What a response holds along its points: single curves, classes, parts, the case, the curve alongside."""
    labels = [point.label for point in result.points]
    positions = [point.position for point in result.points]

    def along(values) -> list[dict[str, Any]]:
        return [
            {result.feature: label, "position": position, "value": value}
            for label, position, value in zip(labels, positions, values, strict=True)
        ]

    found = {
        "curves": [
            {"row": row} | point
            for row, curve in zip(result.curve_rows, result.curves, strict=True)
            for point in along(curve)
        ],
        "parts": [
            {"part": part.label, "rows": part.rows} | point for part in result.parts for point in along(part.mean)
        ],
        "classes": [{"class": one.label} | point for one in result.classes for point in along(one.mean)],
        "case": [{"row": result.case.row} | point for point in along(result.case.values)] if result.case else [],
        "alongside": [
            point
            | {
                "low": low,
                "high": high,
                "difference": gap.value,
                "difference_low": gap.low,
                "difference_high": gap.high,
            }
            for point, low, high, gap in zip(
                along(result.beside.mean),
                result.beside.mean_low,
                result.beside.mean_high,
                result.beside.difference,
                strict=True,
            )
        ]
        if result.beside
        else [],
    }
    return {name: pa.Table.from_pylist(records) for name, records in found.items() if records}


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
        elif isinstance(value, tuple) and _of_records(type(record).model_fields[name].annotation):
            out[before + name] = "; ".join(_said(one) for one in value)
        elif isinstance(value, tuple):
            out[before + name] = list(value)
        else:
            out[before + name] = value
    return out


def _of_records(annotation: Any) -> bool:
    """Whether a field holds records, also where it is empty."""
    return any(isinstance(one, type) and issubclass(one, BaseModel) for one in get_args(annotation))


def _said(record: BaseModel) -> str:
    """A nested record in a cell: its numbers and words in order."""
    return " ".join(str(value) for value in record.model_dump().values() if not isinstance(value, bool | dict | list))


def _points(result: SurfaceResult) -> list[dict[str, Any]]:
    out = []
    for i, first in enumerate(result.first.labels):
        for j, second in enumerate(result.second.labels):
            point: dict[str, Any] = {
                result.first.feature: first if result.first.positions is None else result.first.positions[i],
                result.second.feature: second if result.second.positions is None else result.second.positions[j],
                "value": result.values[i][j],
                "rows_near": result.support[i][j],
                "scarce": result.scarce[i][j],
            }
            if result.decision:
                point |= {"decision": result.decisions[result.decision[i][j]], "strength": result.strength[i][j]}
            out.append(point)
    return out
