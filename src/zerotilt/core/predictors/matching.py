"""Which columns of a table feed which inputs of a model."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from difflib import get_close_matches
from typing import Literal

import numpy as np
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import ModelReading, Role, Spec
from zerotilt.core.predictors.encoded import misfit
from zerotilt.core.predictors.modelfile import ModelCard, ModelInput
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table

NEAR = 0.6
"""How alike two names must be, from 0 to 1, for one to be proposed for the other."""


class Match(Frozen):
    """One column of the table feeding one place of the model."""

    column: str
    input: str
    tensor: str


class InputPair(Frozen):
    """One input of a model beside the column that it takes, and how that was found."""

    input: str
    holds: str
    column: str | None = Field(description="Null where none was found; the model cannot be asked until one is chosen")
    how: Literal["name", "spelling", "prefix", "by hand", "missing"]
    near: str | None = Field(
        default=None, description="Where none was found: a column that may be meant; not taken unasked"
    )


def pairs(card: ModelCard, names: Sequence[str], reading: ModelReading | None = None) -> tuple[InputPair, ...]:
    """Every named input beside its column: as chosen by hand, by its name, its name in another spelling, or its name
    behind a prefix that pipelines add. A name that is merely alike is proposed. None for a model of one tensor.
    """
    if len(card.inputs) == 1 and card.inputs[0].width != 1:
        return ()
    chosen = dict(zip((entry.name for entry in card.inputs), reading.inputs if reading else (), strict=False))
    by_folded = _only({name: _fold(name) for name in names})
    by_letters = _only({name: _fold(name).replace("_", "") for name in names})
    found: list[InputPair] = []
    for entry in card.inputs:
        said, folded = chosen.get(entry.name), _fold(entry.name)
        column, how = None, "missing"
        if said and said in names:
            column, how = said, "by hand"
        elif entry.name in names:
            column, how = entry.name, "name"
        elif spelt := by_folded.get(folded) or by_letters.get(folded.replace("_", "")):
            column, how = spelt, "spelling"
        elif behind := [name for name in names if folded.endswith(f"__{_fold(name)}")]:
            column, how = max(behind, key=len), "prefix"
        found.append(InputPair(input=entry.name, holds=entry.holds, column=column, how=how))
    taken = {pair.column for pair in found}
    free = {_fold(name): name for name in names if name not in taken}
    return tuple(
        pair
        if pair.column is not None
        else pair.model_copy(
            update={"near": next((free[one] for one in get_close_matches(_fold(pair.input), free, 1, NEAR)), None)}
        )
        for pair in found
    )


def _only(spelt: Mapping[str, str]) -> dict[str, str]:
    """Names by a spelling that only one of them has."""
    times = Counter(spelt.values())
    return {way: name for name, way in spelt.items() if times[way] == 1}


def match(
    card: ModelCard, table: Table, spec: Spec, reading: ModelReading | None = None
) -> tuple[tuple[Match, ...], tuple[str, ...]]:
    """Match model inputs to columns by name and type; also the assumptions made, in words.

    A model with one wide input takes the columns in the order chosen for it, or
    by the names that the file has for them, or the features in table order.

    Raises
    ------
    Refused : an input with no column, of another kind, or another number of columns.
    """
    if len(card.inputs) == 1 and card.inputs[0].width != 1:
        return _match_wide(card, table, spec, reading or ModelReading(model=""))
    found, notes = [], []
    paired = pairs(card, table.names, reading)
    _refuse_missing([pair for pair in paired if pair.column is None])
    for entry, pair in zip(card.inputs, paired, strict=True):
        column = str(pair.column)
        if column != entry.name:
            chosen = ", as was chosen" if pair.how == "by hand" else ""
            notes.append(f"The model's input “{entry.name}” is fed from the column “{column}”{chosen}.")
        _check_kind(entry, column, table)
        found.append(Match(column=column, input=entry.name, tensor=entry.tensor))
    outcome = spec.only(Role.outcome)
    if outcome and any(pair.column == outcome.name for pair in found):
        raise Refused(
            f"The model takes the outcome “{outcome.name}” as an input.",
            where=f"model input “{outcome.name}”",
            todo="Choose another outcome column or another model.",
        )
    return tuple(found), tuple(notes)


def _refuse_missing(missing: Sequence[InputPair]) -> None:
    if not missing:
        return
    wanted = words.listing([f"“{pair.input}” ({pair.holds})" for pair in missing[:12]])
    more = f" and {len(missing) - 12} more" if len(missing) > 12 else ""
    near = next((pair for pair in missing if pair.near), None)
    hint = f" Is “{near.near}” what “{near.input}” means?" if near else ""
    inputs, columns = ("an input", "no such column") if len(missing) == 1 else ("inputs", "no such columns")
    raise Refused(
        f"The model wants {inputs} {wanted}{more}; the table has {columns}.{hint}",
        where=f"model input “{missing[0].input}”",
        todo="Choose the column that feeds it, add it to the table, or rename the one that holds it.",
    )


def _match_wide(
    card: ModelCard, table: Table, spec: Spec, reading: ModelReading
) -> tuple[tuple[Match, ...], tuple[str, ...]]:
    entry = card.inputs[0]
    chosen = reading.inputs or spec.model_inputs
    if unknown := [name for name in chosen if name not in table.names]:
        raise Refused(
            f"The order of the model's columns names “{unknown[0]}”, which the table has not.",
            where=f"model input “{entry.name}”",
            todo="Name the table's columns in the order the model was trained with.",
        )
    columns = list(chosen) or list(columns_in_order(card, spec, table.names, table.is_number))
    if (why := misfit(card, spec, columns, table.is_text, lambda name: len(table.coded(name)[0]))) is not None:
        raise why
    for column in columns:
        _check_kind(entry, column, table)
    how = (
        "as was chosen"
        if chosen
        else "by the names the file has for them"
        if card.columns
        else "as they stand in the table"
    )
    note = f"The model takes its columns in one tensor; they are fed {how}: {', '.join(columns)}."
    return tuple(Match(column=column, input=entry.name, tensor=entry.tensor) for column in columns), (note,)


def columns_in_order(
    card: ModelCard, spec: Spec, names: Sequence[str], is_number: Callable[[str], bool]
) -> tuple[str, ...]:
    """The columns that a model of one wide input is fed, in order, where nobody has chosen another; empty for others."""
    if len(card.inputs) != 1 or card.inputs[0].width == 1:
        return ()
    folded = {_fold(name): name for name in names}
    named = [folded.get(_fold(name)) for name in card.columns]
    if named and None not in named and len(set(named)) == len(named):
        return tuple(str(name) for name in named)
    width = card.inputs[0].width
    candidates = list(_in_table_order(spec, is_number))
    return tuple(next((found for found in candidates if width is None or len(found) == width), candidates[0]))


def _in_table_order(spec: Spec, is_number: Callable[[str], bool]) -> Iterator[list[str]]:
    """Which columns a model of one wide input may mean: the features first, then wider and narrower readings."""
    for roles in ((Role.feature,), (Role.feature, Role.group), (Role.feature, Role.group, Role.identifier)):
        chosen = [column.name for column in spec.columns if column.role in roles]
        yield chosen
        yield [name for name in chosen if is_number(name)]


def _fold(name: str) -> str:
    return re.sub(r"\W+", "_", name.strip().lower())


def _check_kind(entry: ModelInput, column: str, table: Table) -> None:
    where = f"column “{column}”"
    if entry.holds == "text":
        return
    try:
        values = table.numbers(column)
    except Refused as problem:
        raise Refused(
            f"The model's input “{entry.name}” wants a {entry.holds}; the column holds text. {problem.message}",
            where=where,
            todo="Upload the column as the model was trained with it, or correct its reading.",
        ) from None
    absent = int(np.isnan(values).sum())
    if entry.holds != "number" and absent:
        raise Refused(
            f"The model's input “{entry.name}” wants a {entry.holds} in every row; {words.plural(absent, 'row')} "
            "have none.",
            where=where,
            todo="Fill the missing cells, or export the model with a float input.",
        )
    if entry.holds == "whole number" and (values % 1 != 0).any():
        raise Refused(
            f"The model's input “{entry.name}” wants whole numbers; the column holds {values[values % 1 != 0][0]:g}.",
            where=where,
            todo="Upload the column as the model was trained with it.",
        )
