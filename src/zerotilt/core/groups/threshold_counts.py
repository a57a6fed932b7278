"""Rows of every group by their score, counted once, so that any threshold is looked up."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import membership
from zerotilt.core.groups.threshold_result import (
    Held,
    Histogram,
    Moved,
    Setting,
    ThresholdSettings,
)
from zerotilt.core.meaning import NOBODY, GroupThreshold, Rule
from zerotilt.core.subject import Subject

STEPS = 1_000


EDGES = np.append(np.arange(STEPS + 1) / STEPS, NOBODY)


"""Thresholds weighed: every thousandth, and one that no score reaches. A score equal to one is at or above it, here and
where rules are applied."""


@dataclass(frozen=True)
class Counts:
    """Rows by group, thousandth of the score, and outcome (without, with): ``plain`` and weighted ``mass`` (k, 1001, 2)."""

    plain: NDArray[np.int64]
    mass: NDArray[np.float64]
    favourable: str

    @classmethod
    def of(cls, subject: Subject, grouping: membership.Grouping) -> Counts:
        k, width = len(grouping.labels), STEPS + 1
        edges = subject.decisions.precise(EDGES[:-1])
        place = np.searchsorted(edges, subject.predictions.required_scores, side="right") - 1
        flat = (grouping.exclusive * width + place) * 2 + subject.rows.outcome
        shape = (k, width, 2)
        plain = np.bincount(flat, minlength=k * width * 2).reshape(shape)
        mass = plain.astype(float)
        if subject.rows.weights is not None:
            mass = np.bincount(flat, subject.rows.weights, k * width * 2).reshape(shape)
        return cls(plain, mass, subject.spec.favourable)

    @property
    def k(self) -> int:
        return len(self.plain)

    def above(self, counts: NDArray) -> NDArray:
        """Predicted with each threshold 0 … 1 and with none reaching it: sums from the top, shape (k, 1002, 2)."""
        tail = np.flip(np.cumsum(np.flip(counts, axis=1), axis=1), axis=1)
        return np.concatenate([tail, np.zeros((len(counts), 1, 2), counts.dtype)], axis=1)

    def rate(self, which: Held) -> NDArray[np.float64]:
        """A rate of every group at every threshold, shape (k, 1002); NaN where it is not defined."""
        said, total = self.above(self.mass), self.mass.sum(axis=1)[:, None, :]
        with np.errstate(invalid="ignore", divide="ignore"):
            if which == "true positive rate":
                return said[..., 1] / total[..., 1]
            if which == "false positive rate":
                return said[..., 0] / total[..., 0]
            whole = total.sum(axis=2)
            if which == "accuracy":
                return (said[..., 1] + total[..., 0] - said[..., 0]) / whole
            share = said.sum(axis=2) / whole
            return share if self.favourable == "event" else 1 - share

    def histograms(self, labels: tuple[str, ...], weighted: bool) -> tuple[Histogram, ...]:
        found = []
        for i, label in enumerate(labels):
            places = np.flatnonzero(self.plain[i].sum(axis=1))
            more = {}
            if weighted:
                more = {"with_mass": self.mass[i, places, 1].tolist(), "without_mass": self.mass[i, places, 0].tolist()}
            found.append(
                Histogram(
                    group=label,
                    rows=int(self.plain[i].sum()),
                    places=places.tolist(),
                    with_event=self.plain[i, places, 1].tolist(),
                    without=self.plain[i, places, 0].tolist(),
                    **more,
                )
            )
        return tuple(found)


def costs_of(counts: Counts, settings: ThresholdSettings) -> NDArray[np.float64]:
    """Cost of every group at every threshold, as a part of the mean cost of all rows, shape (k, 1002)."""
    said, total = counts.above(counts.mass), counts.mass.sum(axis=1)[:, None, :]
    missed = total[..., 1] - said[..., 1]
    return (settings.false_positive * said[..., 0] + settings.false_negative * missed) / max(
        float(counts.mass.sum()), 1e-300
    )


class Shown:
    """Turns thresholds into what they come to."""

    def __init__(self, subject: Subject, grouping, counts: Counts, costs: NDArray, asked: ThresholdSettings):
        self.subject, self.grouping, self.counts, self.costs = subject, grouping, counts, costs
        self.predicted, self.asked = subject.decisions.predicted, asked
        self.rates = {
            name: counts.rate(name)
            for name in ("selection rate", "true positive rate", "false positive rate", "accuracy")
        }
        self.share = counts.mass.sum(axis=(1, 2)) / max(float(counts.mass.sum()), 1e-300)

    def cost(self, places: NDArray[np.int64]) -> float:
        return self.costs[np.arange(len(places)), places].sum()

    def setting(
        self,
        name: str,
        how: str,
        places: NDArray[np.int64],
        base: float,
        alone: bool = False,
        finer: float | None = None,
    ) -> Setting:
        labels = self.grouping.labels
        at = np.arange(len(places))
        rule = Rule(threshold=float(EDGES[places[0]])) if alone else Rule(
            threshold=self.subject.decisions.cut,
            columns=self.grouping.columns,
            thresholds=tuple(GroupThreshold(group=label, threshold=float(EDGES[place])) for label, place in zip(labels, places, strict=True)),
        )  # fmt: skip
        now = self.subject.predictions.scores >= self.subject.decisions.precise(EDGES[places])[self.grouping.codes]
        return self._setting(
            name,
            how,
            rule,
            now,
            {key: one[at, places] for key, one in self.rates.items()},
            float(self.cost(places)),
            base,
            EDGES[places],
            finer,
        )

    def in_force(self, base: float) -> Setting:
        """The rule as it is, whose thresholds need not be thousandths, nor by these groups."""
        y, w = self.subject.rows.outcome, self.subject.rows.weights
        w = np.ones(self.subject.n) if w is None else w
        rates: dict[str, NDArray] = {name: np.full(self.counts.k, np.nan) for name in self.rates}
        cuts = np.full(self.counts.k, np.nan)
        for i in range(self.counts.k):
            mine = self.grouping.mask(i)
            for name, (counted, among) in {
                "selection rate": (self.subject.decisions.favoured, np.ones(self.subject.n, bool)),
                "true positive rate": (self.predicted, y),
                "false positive rate": (self.predicted, ~y),
                "accuracy": (self.predicted == y, np.ones(self.subject.n, bool)),
            }.items():
                rows = mine & among
                if w[rows].sum() > 0:
                    rates[name][i] = w[rows & counted].sum() / w[rows].sum()
            own = np.unique(self.subject.decisions.cuts[mine])
            # as it was chosen, not as it is in the scores' precision
            cuts[i] = (
                float(np.float32(own[0]).astype(str))
                if len(own) == 1 and self.subject.predictions.single
                else own[0]
                if len(own) == 1
                else np.nan
            )
        wrong = np.where(y, self.asked.false_negative * ~self.predicted, self.asked.false_positive * self.predicted)
        cost = float((w * wrong).sum() / max(w.sum(), 1e-300))
        rule = self.subject.context.rule or Rule(threshold=self.subject.spec.threshold)
        return self._setting(
            "in force", "The decision rule of this model version.", rule, self.predicted, rates, cost, base, cuts
        )

    def _setting(self, name, how, rule, now, rates, cost, base, cuts, finer=None) -> Setting:
        labels, favoured = self.grouping.labels, self.subject.spec.favourable == "event"
        to, fro = (
            (now & ~self.predicted, ~now & self.predicted)
            if favoured
            else (~now & self.predicted, now & ~self.predicted)
        )
        k = len(labels)
        gain, lose = (np.bincount(self.grouping.codes[which], minlength=k) for which in (to, fro))

        def known(value: float) -> float | None:
            return float(value) if np.isfinite(value) else None

        return Setting(
            name=name,
            how=how,
            rule=rule,
            cost=cost,
            price=cost - base,
            finer=finer,
            accuracy=float(np.nansum(self.share * np.nan_to_num(rates["accuracy"]))),
            selection_rate=float(np.nansum(self.share * np.nan_to_num(rates["selection rate"]))),
            gaps={key: spread_of(one) for key, one in rates.items()},
            gain=int(gain.sum()),
            lose=int(lose.sum()),
            groups=tuple(
                Moved(
                    group=label,
                    threshold=known(cuts[i]),
                    selection_rate=known(rates["selection rate"][i]),
                    true_positive_rate=known(rates["true positive rate"][i]),
                    false_positive_rate=known(rates["false positive rate"][i]),
                    accuracy=known(rates["accuracy"][i]),
                    gain=int(gain[i]),
                    lose=int(lose[i]),
                )
                for i, label in enumerate(labels)
            ),
        )


def spread_of(values: NDArray[np.float64]) -> float | None:
    known = values[np.isfinite(values)]
    return float(known.max() - known.min()) if len(known) else None


Rates = Costs = list[NDArray[np.float64]] | NDArray[np.float64]
