"""First guesses of kind and role for each column. Every guess is shown and can be corrected."""

from __future__ import annotations

import re

from zerotilt.core.meaning import ColumnSpec, Kind, Role
from zerotilt.core.table import LONGEST_LEVEL, ColumnProfile, TableProfile

_TRUTH = {"true", "false", "yes", "no", "t", "f", "y", "n"}
_SPLITS = {
    "train",
    "training",
    "valid",
    "validation",
    "val",
    "test",
    "testing",
    "holdout",
    "hold-out",
    "held-out",
    "later",
}
_HELD_OUT = {"test", "testing", "holdout", "hold-out", "held-out"}
_SCALES = (("low", "medium", "high"), ("none", "low", "medium", "high"), ("small", "medium", "large"))
_OUTCOMES = {"outcome", "label", "target", "y", "actual", "truth", "observed"}
_WEIGHTS = {"weight", "weights", "row_weight", "sample_weight", "case_weight"}
_SCORES = {"score", "probability", "prediction_score", "predicted_probability", "model_score"}
_DECISIONS = {"decision", "decided", "predicted", "prediction", "model_decision"}
_IDENTIFIERS = re.compile(r"(^|_)(id|ids|key|number|nr|no|uuid|code|reference|ref)$")
_GROUPS = re.compile(
    r"(^|_)(age_?(band|group)|sex|gender|ethnic\w*|race|religion|language|region|area|nationality|disab\w*|marital\w*)($|_)"
)


def guess_columns(profile: TableProfile) -> tuple[ColumnSpec, ...]:
    """One guess a column, in table order."""
    found = [_guess(column, profile.rows) for column in profile.columns]
    if not any(column.role is Role.outcome for column in found):
        binary = [
            i for i, column in enumerate(profile.columns) if column.distinct == 2 and found[i].role is Role.feature
        ]
        if binary and binary[-1] == len(found) - 1:  # by habit the outcome is the last column
            found[-1] = found[-1].model_copy(update={"role": Role.outcome})
    return tuple(found)


def _guess(column: ColumnProfile, rows: int) -> ColumnSpec:
    kind, order = _kind(column)
    if kind is Kind.bytes:
        return ColumnSpec(name=column.name, kind=kind, role=Role.ignored)
    name = re.sub(r"\W+", "_", column.name.strip().lower())
    levels = {level.level.lower() for level in column.levels}
    filled = rows - column.missing
    role = Role.feature
    if levels and levels <= _SPLITS and 2 <= len(levels) <= 4:
        role = Role.split
    elif column.missing == rows or column.distinct == 1:
        role = Role.ignored
    elif name in _OUTCOMES:
        role = Role.outcome
    elif name in _WEIGHTS and kind is Kind.numeric and (column.low or 0) >= 0:
        role = Role.weight
    elif name in _SCORES and column.low is not None and column.low >= 0 and (column.high or 0) <= 1:
        role = Role.score
    elif name in _DECISIONS and column.distinct == 2:
        role = Role.decision
    elif column.distinct == filled and filled > 20 and _names_rows(column, name):
        role = Role.identifier
    elif _GROUPS.search(name) and column.distinct <= 30:
        role = Role.group
    elif kind is Kind.text:
        role = Role.ignored
    return ColumnSpec(name=column.name, kind=kind, role=role, order=order)


def _names_rows(column: ColumnProfile, name: str) -> bool:
    """Text that never repeats names a row; numbers do when they count up or are called so."""
    if column.stored == "string":
        return column.longest <= LONGEST_LEVEL
    counts_up = column.low is not None and column.high is not None and column.high - column.low + 1 == column.distinct
    return column.stored == "int64" and (counts_up or bool(_IDENTIFIERS.search(name)))


def _kind(column: ColumnProfile) -> tuple[Kind, tuple[str, ...]]:
    if column.stored in ("int64", "double"):
        return Kind.numeric, ()
    if column.stored == "bool":
        return Kind.boolean, ()
    if column.stored.startswith("date"):
        return Kind.date, ()
    if column.stored == "binary":
        return Kind.bytes, ()
    if column.longest > LONGEST_LEVEL:
        return Kind.text, ()
    levels = [level.level for level in column.levels]
    if len(levels) == 2 and {level.lower() for level in levels} <= _TRUTH:
        return Kind.boolean, ()
    if order := ordered_levels(levels):
        return Kind.ordered, order
    return (Kind.categorical if levels or column.distinct <= 1000 else Kind.text), ()


def ordered_levels(levels: list[str]) -> tuple[str, ...]:
    """An order where the levels carry one: number bands, single letters, known scales. Else empty."""
    if len(levels) < 3:
        return ()
    by_lower = {level.lower(): level for level in levels}
    for scale in _SCALES:
        if set(by_lower) == set(scale):
            return tuple(by_lower[step] for step in scale)
    if all(re.fullmatch(r"[A-Z]", level) for level in levels):
        return tuple(sorted(levels))
    bands = [re.match(r"^\D{0,3}(\d+(?:\.\d+)?)\s*(?:[-–+]|to\b|and\b|or\b)", level) for level in levels]
    if bands and all(bands):
        lowest = {level: float(band[1]) for level, band in zip(levels, bands, strict=True) if band}
        return tuple(sorted(levels, key=lambda level: lowest[level]))
    return ()


def split_values(levels: list[str]) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Held-out and training values among the levels of a split column.

    The test split is held out; where there is none, whatever is not training.
    """
    training = tuple(level for level in levels if level.lower() in ("train", "training"))
    held = tuple(level for level in levels if level.lower() in _HELD_OUT)
    if not held:
        held = tuple(level for level in levels if level not in training and level.lower() != "later")
    return held, training
