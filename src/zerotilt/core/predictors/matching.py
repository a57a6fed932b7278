"""Which columns of a table feed which inputs of a model."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterator, Sequence

import numpy as np

from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import ModelReading, Role, Spec
from zerotilt.core.predictors.modelfile import ModelCard, ModelInput
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table


class Match(Frozen):
    """One column of the table feeding one place of the model."""

    column: str
    input: str
    tensor: str


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
    by_name = {name: name for name in table.names}
    folded = Counter(_fold(name) for name in table.names)
    by_folded = {_fold(name): name for name in table.names if folded[_fold(name)] == 1}
    found, notes = [], []
    for entry in card.inputs:
        column = by_name.get(entry.name) or by_folded.get(_fold(entry.name))
        if column is None:
            raise Refused(
                f"The model wants an input “{entry.name}” ({entry.holds}); the table has no such column.",
                where=f"model input “{entry.name}”",
                todo="Add the column to the table, or rename the one that holds it.",
            )
        if column != entry.name:
            notes.append(f"The model's input “{entry.name}” is fed from the column “{column}”.")
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
    if entry.width is not None and len(columns) != entry.width:
        raise Refused(
            f"The model wants {entry.width} columns in its input “{entry.name}”; the table has {len(columns)} feature "
            f"columns: {', '.join(columns[:12])}{' …' if len(columns) > 12 else ''}.",
            where=f"model input “{entry.name}”",
            todo="Mark exactly the model's columns as features, or ignore the others.",
        )
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
