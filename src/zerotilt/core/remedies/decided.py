"""What groups get when decisions are taken otherwise: rates of each way of deciding the same rows, and the gap between two."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import membership, words
from zerotilt.core.counterfactuals.flip import share_of
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups.reference import reference_place
from zerotilt.core.membership import Grouping
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import intervals
from zerotilt.core.stats.estimates import Estimate, estimate
from zerotilt.core.subject import Subject

Bools = NDArray[np.bool_]
Floats = NDArray[np.float64]
NOT_DEFINED = Estimate(value=None, low=None, high=None)


class WayRates(Frozen):
    """One way of deciding, of one set of rows."""

    rows: int
    favoured: Estimate = Field(description="Share that gets the favourable decision")
    wrong: Estimate = Field(description="Share decided otherwise than the outcome; of rows whose outcome is known")


@dataclass(frozen=True)
class Deciding:
    """The rows of a subject of an event, by one grouping, and which group is held against which."""

    grouping: Grouping
    favoured: Bools
    deserved: Bools | None
    mass: Floats
    confidence: float
    worse: int
    better: int

    @classmethod
    def of(cls, subject: Subject, attribute: str) -> Deciding:
        """Held against the reference is the group that gets the favourable decision most rarely, of those with rows enough
        (of all, where fewer than two have them); where that is the reference alone, it is held against the one that gets it
        most often.

        Raises
        ------
        Refused : no event is decided about, no column is marked as a group, or its groups overlap.
        """
        if not subject.kind.cut:
            subject.kind.needs_event()
        every = membership.all_groupings(subject.spec)
        if not attribute and not every:
            raise Refused(
                "No column is marked as a group.", todo="Mark the columns whose groups are compared in Intake."
            )
        columns = membership.columns_of(subject.spec, attribute) if attribute else every[0]
        grouping = membership.grouping(subject.spec, subject.table, subject.rows.numbers, columns)
        if grouping.overlapping:
            raise Refused(
                "Groups that overlap cannot be told apart here: a row would be of several.",
                where=words.title(grouping.attribute),
                todo="Choose a column whose groups do not overlap.",
            )
        favoured, mass = subject.decisions.favoured, subject.rows.mass
        codes, k = grouping.exclusive, len(grouping.labels)
        rows = np.bincount(codes[mass > 0], minlength=k)
        with np.errstate(invalid="ignore", divide="ignore"):
            rates = np.bincount(codes, mass * favoured, k) / np.bincount(codes, mass, k)
        enough = np.flatnonzero((rows >= subject.spec.policy.minimum_rows) & np.isfinite(rates))
        if len(enough) < 2:
            enough = np.flatnonzero(rows > 0)
        reference = reference_place(subject, grouping)
        # of groups that get it as rarely the reference is the last one: no group is held against itself while there is another
        worse, *others = sorted((int(one) for one in enough), key=lambda one: (rates[one], one == reference))
        better = reference if reference != worse and rows[reference] else others[-1] if others else worse
        deserved = subject.decisions.deserved if subject.spec.knows_outcome else None
        return cls(grouping, favoured, deserved, mass, subject.spec.policy.confidence, worse, better)

    def rates(self, favoured: Bools, among: Bools) -> WayRates:
        """Of some rows, under one way of deciding; both of shape (n,)."""
        rows = among & (self.mass > 0)
        n = int(rows.sum())
        if not n:
            return WayRates(rows=0, favoured=NOT_DEFINED, wrong=NOT_DEFINED)
        wrong = NOT_DEFINED
        if self.deserved is not None:
            wrong = share_of((favoured != self.deserved)[rows], self.mass[rows], self.confidence)
        return WayRates(rows=n, favoured=share_of(favoured[rows], self.mass[rows], self.confidence), wrong=wrong)

    def gap(self, favoured: Bools, among: Bools) -> Estimate:
        """The worse-off group's share less the other's (Mee 1984)."""
        counts = []
        for place in (self.worse, self.better):
            mine = self.grouping.mask(place) & among & (self.mass > 0)
            if not mine.any():
                return NOT_DEFINED
            w, hit = self.mass[mine], self.mass[mine] * favoured[mine]
            sums = hit.sum(), (hit**2).sum(), w.sum(), (w**2).sum(), mine.sum()
            counts.append(intervals.effective_counts(*sums, self.confidence))
        (x1, n1), (x2, n2) = counts
        return estimate(*(float(one) for one in intervals.mee(x1, n1, x2, n2, self.confidence)))

    @property
    def names(self) -> tuple[str, str]:
        labels = self.grouping.labels
        return labels[self.worse], labels[self.better]


def points(one: Estimate) -> str:
    """A difference of shares with its interval, in words."""
    return words.points_span(one.value, one.low, one.high)
