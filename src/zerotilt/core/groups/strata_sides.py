"""Two sides of every stratum: sums, estimates, and what is pooled of them."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.groups.given_result import Pooled, Stratum, if_known
from zerotilt.core.groups.metrics import Measure
from zerotilt.core.groups.pair import Pair
from zerotilt.core.membership import Grouping
from zerotilt.core.stats import intervals, strata
from zerotilt.core.stats.estimates import estimate


@dataclass(frozen=True)
class _Sums:
    """One side by strata, shapes (k,): rows that weigh something, Σw, Σw·value, and the mean's standard error; of a rate
    also Σw² of all and of those counted."""

    rows: NDArray[np.int64]
    mass: NDArray[np.float64]
    top: NDArray[np.float64]
    square: NDArray[np.float64]
    top_square: NDArray[np.float64]
    error: NDArray[np.float64]

    @property
    def mean(self) -> NDArray[np.float64]:
        with np.errstate(invalid="ignore", divide="ignore"):
            return self.top / self.mass

    def counts(self, confidence: float) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        return intervals.effective_counts(self.top, self.top_square, self.mass, self.square, self.rows, confidence)


class Sides:
    """The two groups' rows, counted or summed by strata, each by its weight."""

    def __init__(
        self, two: Pair, top: NDArray, bottom: NDArray, rate: bool, confidence: float, weights: NDArray | None
    ):
        self.two, self.top, self.bottom, self.rate, self.confidence = two, top, bottom, rate, confidence
        self.weighted = weights is not None
        self.weights = np.ones(len(top)) if weights is None else weights

    @property
    def by(self) -> Literal["ratio", "difference"]:
        return "ratio" if self.rate else "difference"

    def sums(self, codes: NDArray[np.int64], k: int) -> tuple[_Sums, _Sums]:
        """The group's, then the reference's. Spreads are taken about each stratum's own mean, so that they keep their
        digits however far the values are from zero."""
        found = []
        for mask in (self.two.inside, self.two.against):
            kept = mask & (self.bottom > 0) & (self.weights > 0)
            code, w, values = codes[kept], self.weights[kept], self.top[kept]
            rows, mass = np.bincount(code, minlength=k), np.bincount(code, w, k)
            top = np.bincount(code, w * values, k)
            off = values - (top / np.where(mass > 0, mass, 1))[code]
            # once more, since the mean of large values is itself rounded
            off = off - (np.bincount(code, w * off, k) / np.where(mass > 0, mass, 1))[code]
            left = np.bincount(code, (w * off) ** 2, k) / np.where(mass > 0, mass, 1) ** 2
            error = np.sqrt(left * rows / np.maximum(rows - 1, 1))
            square, of_values = (np.bincount(code, w**2 * one, k) for one in (np.ones(len(w)), values))
            found.append(_Sums(rows, mass, top, square, of_values, error))
        return found[0], found[1]

    def kept(self, codes: NDArray[np.int64], k: int) -> int:
        first, second = self.sums(codes, k)
        told = (first.rows > 0) & (second.rows > 0)
        return int((first.rows + second.rows)[told].sum())

    def pooled(self, codes: NDArray[np.int64], k: int) -> Pooled:
        first, second = self.sums(codes, k)
        if self.rate:
            if self.weighted:
                kept = self.two.both & (self.bottom > 0) & (self.weights > 0)
                found = strata.weighted(
                    codes[kept], k, self.two.inside[kept], self.top[kept], self.weights[kept], self.confidence
                )
            else:
                found = strata.mantel_haenszel(first.top, first.mass, second.top, second.mass, self.confidence)
            return Pooled(
                ratio=estimate(*found.ratio),
                odds_ratio=estimate(*found.odds_ratio),
                difference=estimate(*found.difference),
                p_value=if_known(found.p),
                p_alike=if_known(found.p_alike),
            )
        gap, p = strata.pooled_means(
            first.mean, first.error, first.mass, second.mean, second.error, second.mass, self.confidence,
            (first.rows > 1) & (second.rows > 1),
        )  # fmt: skip
        nothing = estimate(math.nan, 0, 0)
        return Pooled(ratio=nothing, odds_ratio=nothing, difference=estimate(*gap), p_value=if_known(p), p_alike=None)

    def each(self, grouping: Grouping) -> tuple[Stratum, ...]:
        k = len(grouping.labels)
        sides = self.sums(grouping.codes, k)
        if self.rate:
            counts = [one.counts(self.confidence) for one in sides]
            *ratios, _ = intervals.koopman(*counts[0], *counts[1], self.confidence)
            gaps = intervals.mee(*counts[0], *counts[1], self.confidence)
            both = [intervals.wilson(*one, self.confidence) for one in counts]
        else:
            ratios = [np.full(k, np.nan)] * 3
            both = [intervals.mean(one.mean, one.error, 0.0, one.rows, self.confidence) for one in sides]
            gaps = intervals.between(*both)

        def measure_of(side: int, i: int) -> Measure:
            found = estimate(*(one[i] for one in both[side]))
            count = round(sides[side].top_square[i]) if self.rate and not self.weighted else None
            return Measure(**found.model_dump(), count=count, of=int(sides[side].rows[i]))

        rows = sides[0].rows + sides[1].rows
        return tuple(
            Stratum(
                stratum=grouping.labels[i],
                group=measure_of(0, i),
                reference=measure_of(1, i),
                ratio=estimate(*(one[i] for one in ratios)),
                difference=estimate(*(one[i] for one in gaps)),
            )
            for i in np.argsort(-rows, kind="stable")
            if rows[i] > 0
        )
