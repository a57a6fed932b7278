"""How errors stand inside a set of rows and outside it, and whether that is more than chance."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core.frozen import Frozen
from zerotilt.core.pockets.errors import Errors
from zerotilt.core.stats import distributions, intervals, weighing
from zerotilt.core.stats.estimates import Estimate, estimate
from zerotilt.core.stats.intervals import Interval
from zerotilt.core.stats.means import mean_span

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]


class ErrorSide(Estimate):
    """An error of some rows, with its interval."""

    rows: int = Field(description="Rows that it can be read of")
    wrong: int | None = Field(default=None, description="Of these, rows that are wrong, where it is a rate")


class ErrorGap(Frozen):
    """An error inside a set of rows against all others."""

    inside: ErrorSide
    outside: ErrorSide
    difference: Estimate
    ratio: Estimate = Field(description="Null where the error can be nothing or less")
    share: float | None = Field(description="Of all errors, those that lie inside; by weight where rows weigh")
    balance: float | None = Field(
        description="Inside: share in which the event or class happened, or the mean outcome; null where the error is of one alone"
    )
    balance_outside: float | None
    p: float | None = Field(description="Two-sided, of no difference")
    foretold: float | None = Field(
        default=None, description="Inside: the error that the model's own scores foretell; null where they do not tell"
    )
    beyond: Estimate | None = Field(default=None, description="Inside: the error less what the scores foretell")


def gap_of(errors: Errors, inside: Bools, outcome: Floats, confidence: float) -> ErrorGap:
    """Both sides of one set of rows.

    Rates: Wilson (1927), Mee (1984) and Koopman (1984) with the score test; means: Hall (1992), differences and ratios from
    both intervals (Zou & Donner 2008; Donner & Zou 2012).

    Parameters
    ----------
    inside : shape (m,). outcome : what happened, as a number, shape (m,).
    """
    sides = [_side(errors.among(which), confidence) for which in (inside, ~inside)]
    (one, x1, n1), (two, x2, n2) = sides
    if errors.rate:
        counts = x1, n1, x2, n2
        gap = intervals.mee(*counts, confidence)
        ratio = Interval(*intervals.koopman(*counts, confidence)[:3])
        p = float(intervals.score_test(*counts))
    else:
        gap = intervals.between(one, two)
        ratio = Interval(*(np.array(np.nan),) * 3) if errors.signed else intervals.over(one, two)
        p = float(intervals.tested(gap, confidence))
    lost = errors.values * errors.mass
    total = float(lost.sum())
    told = bool(np.ptp(outcome) > 0)  # of false positives there are only rows in which nothing happened
    found = [
        ErrorSide(
            **estimate(*(float(end) for end in span)).model_dump(),
            rows=int(which.sum()),
            wrong=int(errors.values[which].sum()) if errors.rate else None,
        )
        for span, which in ((one, inside), (two, ~inside))
    ]
    return ErrorGap(
        inside=found[0],
        outside=found[1],
        difference=estimate(*(float(end) for end in gap)),
        ratio=estimate(*(float(end) for end in ratio)),
        share=float(lost[inside].sum()) / total if total > 0 and not errors.signed else None,
        balance=_mean(outcome, errors.mass, inside) if told else None,
        balance_outside=_mean(outcome, errors.mass, ~inside) if told else None,
        p=p if np.isfinite(p) else None,
        **_foretold(errors.among(inside), confidence),
    )


def _foretold(errors: Errors, confidence: float) -> dict[str, Any]:
    """What scores foretell of rows, and how far the error is from it: a mean of differences row by row (Hall 1992). Where the
    scores are right, it is nothing but chance: errors then stand where decisions are uncertain.
    """
    if errors.foretold is None or not errors.m:
        return {}
    off = mean_span(errors.values - errors.foretold, errors.mass, confidence)
    return {
        "foretold": float(weighing.mean(errors.foretold, errors.mass)),
        "beyond": estimate(*(float(end) for end in off)),
    }


def denser(errors: Errors, inside: Bools) -> float:
    """Two-sided p-value of a set of rows in which the error is higher than in all others; 1 where it is not, NaN where it
    cannot be told."""
    own, others = errors.among(inside), errors.among(~inside)
    if not errors.rate:
        gap = intervals.between(*(mean_span(one.values, one.mass, 0.95) for one in (own, others)))
        return float(intervals.tested(gap, 0.95)) if not gap.value <= 0 else 1.0
    counts = [one for side in (own, others) for one in _counts(side, 0.95)]
    if np.average(own.values, weights=own.mass) <= np.average(others.values, weights=others.mass):
        return 1.0
    return float(intervals.score_test(*counts))


def _counts(errors: Errors, confidence: float):
    """x and n of a rate."""
    w, x = errors.mass, errors.values
    return intervals.effective_counts((w * x).sum(), (w**2 * x).sum(), w.sum(), (w**2).sum(), len(x), confidence)


def _side(errors: Errors, confidence: float):
    """The interval, and effective counts of a rate."""
    if not errors.rate:
        return mean_span(errors.values, errors.mass, confidence), None, None
    x1, n1 = _counts(errors, confidence)
    return intervals.wilson(x1, n1, confidence), x1, n1


def _mean(outcome: Floats, mass: Floats, which: Bools) -> float | None:
    return float(weighing.mean(outcome[which], mass[which])) if which.any() else None


def beyond(errors: Errors, inside: Bools, pattern: NDArray[np.int64]) -> float:
    """One-sided p-value of errors that are denser inside than among rows of the same pattern: the permutation test within
    strata (Cochran 1954; Mantel 1963 for numbers), NaN where no stratum has rows on both sides.

    Parameters
    ----------
    pattern : a number for rows that are in the same ones of the pockets chosen before, shape (m,).
    """
    moved = errors.values * errors.mass / errors.mass.mean()
    sizes = np.bincount(pattern)
    means = np.bincount(pattern, moved) / np.maximum(sizes, 1)
    off = moved - means[pattern]
    spread = np.bincount(pattern, off**2) / np.maximum(sizes - 1, 1)
    held = np.bincount(pattern[inside], minlength=len(sizes))
    with np.errstate(invalid="ignore", divide="ignore"):
        variance = float(np.nansum(np.where(sizes > 1, spread * held * (sizes - held) / sizes, 0.0)))
    if variance <= 0:
        return float("nan")
    return float(distributions.normal_tail(float(off[inside].sum()) / np.sqrt(variance)))
