"""The settings of one audit put to the table of another: what fits is taken, what does not is named."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from zerotilt.core import words
from zerotilt.core.levels import match_level
from zerotilt.core.meaning import ColumnSpec, Kind, Problem, Role, Schema, Spec
from zerotilt.core.profiles import ColumnProfile, TableProfile
from zerotilt.core.tasks import kind_of

_CAN_BE = {
    "int64": (Kind.numeric, Kind.categorical, Kind.ordered, Kind.boolean),
    "double": (Kind.numeric, Kind.categorical, Kind.ordered, Kind.boolean),
    "bool": (Kind.boolean, Kind.categorical),
    "string": (Kind.categorical, Kind.ordered, Kind.boolean, Kind.text),
    "date32[day]": (Kind.date, Kind.categorical, Kind.ordered),
    "binary": (Kind.bytes,),
}
"""What a column that is stored in a way can be taken as."""
_ONE_OF_EACH = (Role.outcome, Role.split, Role.weight, Role.score, Role.decision)


def refit(wanted: Spec, profile: TableProfile, guessed: Spec) -> tuple[Spec, tuple[str, ...]]:
    """Settings for a table, from those of another; and what did not fit, each in a sentence.

    Parameters
    ----------
    profile, guessed : of the table that they are put to; what the settings do not speak of stays as it is guessed.
    """
    notes: list[str] = []
    by_name = {column.name: column for column in profile.columns}
    columns = _columns(wanted, guessed, by_name, notes)
    there = set(by_name)
    spec = guessed.model_copy(update={"columns": columns, "wording": wanted.wording})
    spec = spec.model_copy(update=_problem(wanted, spec, guessed, by_name, notes))
    segments, crossings = [], []
    for segment in wanted.segments:
        if _named(f"segment “{segment.name}”", segment.columns, there, notes):
            segments.append(segment)
    for crossing in wanted.intersections:
        if _named(f"crossing of {words.listing([f'“{name}”' for name in crossing])}", crossing, there, notes):
            crossings.append(crossing)
    # columns that are not there are named already
    allowed = tuple(one for one in wanted.allowed if one.feature in there)
    update: dict[str, Any] = {"segments": tuple(segments), "intersections": tuple(crossings), "allowed": allowed}
    if spec.task is wanted.task:
        update["policy"] = wanted.policy
    else:
        notes.append("The flag policy is left as it is, since something else is predicted.")
    return Spec.model_validate(dict(spec) | update), tuple(notes)


def _named(what: str, columns: Sequence[str], there: set[str], notes: list[str]) -> bool:
    missing = [f"“{name}”" for name in columns if name not in there]
    if missing:
        notes.append(f"The {what} is left out: the table has no {words.listing(missing)}.")
    return not missing


def _columns(
    wanted: Schema, guessed: Schema, by_name: dict[str, ColumnProfile], notes: list[str]
) -> tuple[ColumnSpec, ...]:
    given = {column.name: column for column in wanted.columns}
    if gone := [name for name in given if name not in by_name]:
        one = "column" if len(gone) == 1 else "columns"
        notes.append(f"The table has no {one} {_some(gone)}.")
    if new := [name for name in by_name if name not in given]:
        notes.append(
            f"The settings do not speak of {_some(new)}; what {'it is' if len(new) == 1 else 'they are'} was guessed."
        )
    taken = {column.role for column in wanted.columns if column.name in by_name and column.role in _ONE_OF_EACH}
    found = []
    for own in guessed.columns:
        before, profile = given.get(own.name), by_name[own.name]
        if before is None:
            # a column that the settings name is there for what only one can be
            found.append(own.model_copy(update={"role": Role.feature}) if own.role in taken else own)
            continue
        if before.kind not in _CAN_BE.get(profile.stored, tuple(Kind)):
            notes.append(
                f"“{own.name}” was {before.kind.value} and cannot be so here; it is taken as {own.kind.value}."
            )
            role = Role.ignored if own.kind is Kind.bytes else before.role
            found.append(own.model_copy(update={"role": role, "expected": before.expected}))
            continue
        found.append(_levels_kept(before, profile, notes))
    return tuple(found)


def _levels_kept(column: ColumnSpec, profile: ColumnProfile, notes: list[str]) -> ColumnSpec:
    levels = [level.level for level in profile.levels]
    if not levels:
        return column
    if column.reference is not None and column.reference not in levels and column.kind is not Kind.numeric:
        notes.append(
            f"The reference group “{column.reference}” of “{column.name}” has no rows here; the largest is taken."
        )
        column = column.model_copy(update={"reference": None})
    if column.order and (new := [level for level in levels if level not in column.order]):
        notes.append(
            f"“{column.name}” holds {_some(new)}, which the settings' order of levels does not; they stand at its end."
        )
        column = column.model_copy(update={"order": (*column.order, *new)})
    return column


def _problem(
    wanted: Spec, spec: Spec, guessed: Spec, by_name: dict[str, ColumnProfile], notes: list[str]
) -> dict[str, object]:
    """What is predicted, as the settings say, where the column it is of is there and holds what they name."""
    target = wanted.target_name
    found = {name: getattr(wanted, name) for name in Problem.model_fields}
    if target not in by_name:
        if any(column.name == target for column in wanted.columns):
            notes.append(f"What is predicted was guessed anew, since “{target}” is not there.")
        return {name: getattr(guessed, name) for name in Problem.model_fields}
    levels = [level.level for level in by_name[target].levels]
    kind = kind_of(wanted.task)
    if kind.scaled and levels:
        event = match_level(wanted.event, levels) if wanted.event else ""
        if event is None:
            notes.append(f"“{target}” does not hold “{wanted.event}”; it holds {_some(levels)}. Choose the event.")
            found |= {"event": guessed.event if guessed.task is wanted.task else "", "favourable_said": False}
        else:
            found["event"] = event
        if kind.classed and (gone := [one for one in wanted.favourable_classes if one not in levels]):
            notes.append(f"The favourable {_some(gone)} {'is' if len(gone) == 1 else 'are'} none of the classes here.")
            found["favourable_classes"] = tuple(one for one in wanted.favourable_classes if one in levels)
    split = spec.only(Role.split)
    values = [level.level for level in by_name[split.name].levels] if split else []
    for name, which in (("holdout_values", "held-out"), ("training_values", "training")):
        if gone := [one for one in getattr(wanted, name) if one not in values]:
            if split:
                notes.append(f"“{split.name}” does not hold the {which} {_some(gone)}.")
            kept = tuple(one for one in getattr(wanted, name) if one in values)
            found[name] = kept or getattr(guessed, name)
    if gone := [name for name in wanted.model_inputs if name not in by_name]:
        notes.append(f"The order of the model's columns is left out: the table has no {_some(gone)}.")
        found["model_inputs"] = ()
    return found


def _some(names: Sequence[str]) -> str:
    """The first of them, in quotes, and how many more there are."""
    if len(names) <= 6:
        return words.listing([f"“{name}”" for name in names])
    return f"{', '.join(f'“{name}”' for name in names[:5])} and {words.count(len(names) - 5)} more"
