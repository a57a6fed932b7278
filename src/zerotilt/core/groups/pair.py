"""Two sets of rows to set side by side: a group, and the reference group or all others."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import membership, words
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups.reference import OTHERS, reference_place
from zerotilt.core.membership import Grouping
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import weighing
from zerotilt.core.subject import Subject


class PairSettings(Frozen):
    attribute: str = Field(default="", description="Column or intersection; the audit's first when empty")
    group: str = Field(default="", description="The one with fewest favourable decisions when empty")
    reference: str = Field(default="", description="Another group, or “all others”; the attribute's own when empty")


@dataclass(frozen=True)
class Pair:
    """Masks over the rows of the context, shape (n,)."""

    attribute: str
    columns: tuple[str, ...]
    group: str
    reference: str
    inside: NDArray[np.bool_]
    against: NDArray[np.bool_]

    @property
    def both(self) -> NDArray[np.bool_]:
        return self.inside | self.against


def pair(subject: Subject, settings: PairSettings) -> Pair:
    """The two sides that settings name, with what they leave open filled in.

    Raises
    ------
    Refused : no column makes groups, or a group is not there or is its own reference.
    """
    spec = subject.spec
    every = membership.all_groupings(spec)
    if not settings.attribute and not every:
        raise Refused("No column is marked as a group.", todo="Mark the columns whose groups are compared in Intake.")
    columns = membership.columns_of(spec, settings.attribute) if settings.attribute else every[0]
    grouping = membership.grouping(spec, subject.table, subject.rows.numbers, columns)
    place = reference_place(subject, grouping)
    if settings.reference == OTHERS:
        place = -1
    elif settings.reference:
        place = grouping.place(settings.reference)
    group = grouping.place(settings.group) if settings.group else _worst_off(subject, grouping, place)
    if group == place:
        raise Refused(
            f"“{grouping.labels[group]}” is its own reference.", todo="Choose another group, or another reference."
        )
    inside = grouping.mask(group)
    return Pair(
        grouping.attribute,
        columns,
        grouping.labels[group],
        OTHERS if place < 0 else grouping.labels[place],
        inside,
        ~inside if place < 0 else grouping.mask(place),
    )


def _worst_off(subject: Subject, grouping: Grouping, reference: int) -> int:
    """The group with enough rows that gets the favourable decision least often, or the worst numbers."""
    better = _better(subject)
    shares, mass = {}, subject.rows.mass
    for i in range(len(grouping.labels)):
        mask = grouping.mask(i) & (mass > 0)
        if i != reference and mask.any():
            told = float(weighing.mean(better[mask], mass[mask]))
            shares[i] = (mask.sum() < subject.spec.policy.minimum_rows, told)
    if not shares:
        raise Refused(
            f"{words.opening(words.title(grouping.attribute))} has one group only here.", todo="Choose another column."
        )
    return min(shares, key=lambda i: shares[i])


def _better(subject: Subject) -> NDArray[np.float64]:
    return subject.kind.better(subject.spec, subject.predictions, subject.decisions)
