"""Every array of a result as a flat table: what a person would copy from the sheet."""

from __future__ import annotations

from typing import Any, get_args

import pyarrow as pa
from pydantic import BaseModel

from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Refused


def as_table(result: BaseModel) -> pa.Table:
    """The records behind a result's figure; where there are none, a table of no rows.

    Raises
    ------
    Refused : the result is of no records.
    """
    for table in tables(result).values():
        return table
    method = next((one for one in METHODS.values() if one.result is type(result)), None)
    records = _records_of(type(result).model_fields[method.main].annotation) if method else None
    if records is None:
        raise Refused("The result holds no rows to make a table of.")
    return pa.table({name: pa.nulls(0) for name in _names(records)})


def tables(result: BaseModel) -> dict[str, pa.Table]:
    """Every array of records in a result, its main one first; nested numbers become columns such as ``permutation_low``.

    What a result keeps as plain numbers, single curves and surfaces, its method writes out.
    """
    found = {}
    for name in type(result).model_fields:
        records = getattr(result, name)
        if isinstance(records, tuple) and records and all(isinstance(one, BaseModel) for one in records):
            found[name] = pa.Table.from_pylist([_flat(one) for one in records])
    method = next((one for one in METHODS.values() if one.result is type(result)), None)
    if method is None:
        return found
    if method.arrays is not None:
        found |= {name: pa.Table.from_pylist(records) for name, records in method.arrays(result).items() if records}
    return {name: found[name] for name in sorted(found, key=lambda name: name != method.main)}


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


def _records_of(annotation: Any) -> type[BaseModel] | None:
    """What a field holds records of, if it does."""
    return next((one for one in get_args(annotation) if isinstance(one, type) and issubclass(one, BaseModel)), None)


def _names(records: type[BaseModel], before: str = "") -> list[str]:
    """Columns of a table of such records that holds none."""
    found = []
    for name, field in records.model_fields.items():
        inner = field.annotation
        if isinstance(inner, type) and issubclass(inner, BaseModel):
            found += _names(inner, f"{before}{name}_")
        else:
            found.append(before + name)
    return found


def _of_records(annotation: Any) -> bool:
    """Whether a field holds records, also where it is empty."""
    return _records_of(annotation) is not None


def _said(record: BaseModel) -> str:
    """A nested record in a cell: its numbers and words in order."""
    return " ".join(str(value) for value in record.model_dump().values() if not isinstance(value, bool | dict | list))
