"""Levels of a column as people write them, and those of the outcome."""

from __future__ import annotations

from collections.abc import Sequence

from zerotilt.core import words
from zerotilt.core.meaning import Role, Spec
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table


def match_level(value: str, levels: list[str]) -> str | None:
    """The level a person means by ``value``: the same text, or the same truth value or number written otherwise.

    >>> match_level("1.0", ["0", "1"]), match_level("YES", ["no", "yes"]), match_level("maybe", ["no", "yes"])
    ('1', 'yes', None)
    """
    if value in levels:
        return value
    folded = [level for level in levels if level.lower() == value.lower()]
    if len(folded) == 1:
        return folded[0]
    try:
        number = words.value_text(float(value))
    except ValueError:
        return None
    return number if number in levels else None


def outcome_levels(spec: Spec, table: Table) -> tuple[str, ...]:
    """The outcome's values: in their declared order where they have one, else by name.

    Raises
    ------
    Refused : the outcome is missing in every row.
    """
    levels = sorted({value for value in table.texts(spec.outcome.name) if value is not None})
    if not levels:
        raise Refused(
            "The outcome is missing in every row.",
            where=f"column “{spec.outcome.name}”",
            todo="Choose another outcome column.",
        )
    order = [level for level in spec.outcome.order if level in levels]
    return (*order, *(level for level in levels if level not in order))


def predicted_levels(spec: Spec, table: Table) -> tuple[str, ...]:
    """The values a prediction may have: the outcome's; where it is not known, those decided; none where nothing says."""
    if spec.knows_outcome:
        return outcome_levels(spec, table)
    column = spec.only(Role.decision)
    if column is None:
        return ()
    found = sorted({meant(spec, value) for value in table.texts(column.name) if value is not None})
    order = [level for level in column.order if level in found]
    return (*order, *(level for level in found if level not in order))


def meant(spec: Spec, decision: str) -> str:
    """The outcome's value that a recorded decision stands for; its own where nothing else was said, or no outcome is known."""
    return spec.decision_means.get(decision, decision) if spec.knows_outcome else decision


def among(given: str, levels: Sequence[str]) -> str:
    """The level a person means.

    Raises
    ------
    Refused : it is none of them.
    """
    level = match_level(given, list(levels))
    if level is None:
        raise Refused(
            f"favourable: “{given}” is not in the outcome column; it holds {', '.join(levels[:6])}.",
            todo="Give one of these values.",
        )
    return level


def several_levels(spec: Spec, table: Table) -> tuple[str, ...]:
    """The outcome's values, of which there is more than one.

    Raises
    ------
    Refused : there is one only, or none.
    """
    levels = outcome_levels(spec, table)
    if len(levels) == 1:
        raise Refused(
            f"The outcome has one class only ({listed(levels)}); there is nothing to tell apart.",
            where=f"column “{spec.outcome.name}”",
            todo="Choose another outcome column or add rows of the other class.",
        )
    return levels


def listed(levels: tuple[str, ...]) -> str:
    """The first few in a sentence."""
    return words.listing([f"“{level}”" for level in levels[:6]]) + (" …" if len(levels) > 6 else "")
