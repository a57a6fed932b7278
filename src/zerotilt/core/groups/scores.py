"""Measures of a whole set of predictions, for every kind of outcome, with intervals (methods section 9)."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.groups import intervals
from zerotilt.core.groups.calibration import calibration_error
from zerotilt.core.groups.metrics import LOSS_CLIP, Estimate
from zerotilt.core.spec import Task

DRAWS = 300
DRAWN_ROWS = 5_000
"""Rows of one resample; the spread of larger sets is that of a sample of this size, narrowed by the root of the sizes."""


class Score(Estimate):
    """One measure. ``unit``: a share of rows, a number without unit, or the outcome's own unit."""

    name: str
    label: str
    unit: Literal["share", "number", "outcome", "outcome squared"]
    of_class: str | None = None


Given = tuple[NDArray, NDArray[np.float64], NDArray[np.float64]]
"""Outcome, outputs (n, k) and weights of some rows."""
Measure = Callable[[NDArray, NDArray[np.float64], NDArray[np.float64]], float]


def scores(
    task: Task,
    outcome: NDArray,
    outputs: NDArray[np.float64],
    weights: NDArray[np.float64] | None,
    classes: tuple[str, ...],
    confidence: float,
    seed: int,
) -> tuple[Score, ...]:
    """All measures of a set of rows with seeded percentile bootstrap intervals (Efron 1979).

    Parameters
    ----------
    outcome : as :attr:`Subject.outcome`. outputs : shape (n, k); of an event the decisions and the scores.
    """
    w = np.ones(len(outputs)) if weights is None else weights
    wanted = _measures(task, classes)
    # sorted once, so that no resample has to be
    order = np.argsort(outputs[:, -1], kind="stable")
    outcome, outputs, w = outcome[order], outputs[order], w[order]
    given = (outcome, outputs, w)
    n = len(w)
    rng = np.random.default_rng(seed)
    size = min(n, DRAWN_ROWS)
    kept = np.sort(rng.permutation(n)[:size])
    sample = (outcome[kept], outputs[kept])
    drawn = np.full((DRAWS, len(wanted)), np.nan)
    if w.sum() > 0:
        for draw in range(DRAWS):
            times = np.bincount(rng.integers(0, size, size), minlength=size) * w[kept]
            if times.sum() > 0:
                drawn[draw] = [measure(*sample, times) for *_, measure in wanted]
    narrowed = np.sqrt(size / n) if n else 1.0
    found = []
    for place, (name, label, unit, of_class, measure) in enumerate(wanted):
        value = measure(*given) if w.sum() > 0 else float("nan")
        if not np.isfinite(value):
            found.append(Score(name=name, label=label, unit=unit, of_class=of_class, value=None, low=None, high=None))
            continue
        own = drawn[:, place][np.isfinite(drawn[:, place])]
        middle = float(np.mean(own)) if len(own) else value
        low, high = intervals.percentile(value + (own - middle) * narrowed, confidence) if len(own) else (value, value)
        if unit == "share":
            low, high = max(low, 0.0), min(high, 1.0)
        found.append(
            Score(name=name, label=label, unit=unit, of_class=of_class, value=float(value), low=low, high=high)
        )
    return tuple(found)


def _measures(task: Task, classes: tuple[str, ...]) -> list[tuple]:
    if task is Task.regression:
        return [
            ("mae", "MAE", "outcome", None, lambda y, o, w: _mean(np.abs(o[:, 0] - y), w)),
            ("rmse", "RMSE", "outcome", None, lambda y, o, w: float(np.sqrt(_mean((o[:, 0] - y) ** 2, w)))),
            ("r_squared", "R²", "number", None, _r_squared),
            ("median_absolute_error", "Median absolute error", "outcome", None, _median_error),
            ("mean_error", "Mean error", "outcome", None, lambda y, o, w: _mean(o[:, 0] - y, w)),
        ]
    if task is Task.binary:

        def decided(o: NDArray[np.float64]) -> NDArray[np.bool_]:
            return o[:, 0] > 0

        # precision and recall stand among the event's rates, as positive predictive value and true positive rate
        return [
            (
                "balanced_accuracy",
                "Balanced accuracy",
                "share",
                None,
                lambda y, o, w: _balanced(y.astype(int), decided(o).astype(int), w, 2),
            ),
            ("f1", "F1", "share", None, lambda y, o, w: _f1(y, decided(o), w)),
            ("average_precision", "Average precision", "share", None, lambda y, o, w: average_precision(y, o[:, 1], w)),
        ]
    found = [
        ("accuracy", "Accuracy", "share", None, lambda y, o, w: _mean(o.argmax(axis=1) == y, w)),
        (
            "balanced_accuracy",
            "Balanced accuracy",
            "share",
            None,
            lambda y, o, w: _balanced(y, o.argmax(axis=1), w, len(classes)),
        ),
        (
            "log_loss",
            "Log loss",
            "number",
            None,
            lambda y, o, w: _mean(-np.log(np.maximum(o[np.arange(len(y)), y], LOSS_CLIP)), w),
        ),
        (
            "brier_score",
            "Brier score",
            "number",
            None,
            lambda y, o, w: _mean(((o - np.eye(o.shape[1])[y]) ** 2).sum(axis=1), w),
        ),
    ]
    if task is Task.ordered:
        found.append(
            (
                "rank_error",
                "Mean distance of ranks",
                "number",
                None,
                lambda y, o, w: _mean(np.abs(o.argmax(axis=1) - y), w),
            )
        )
    for place, name in enumerate(classes):

        def one(measure: Callable, of: Callable, c: int = place) -> Measure:
            return lambda y, o, w: measure(y == c, of(o, c), w)

        found += [
            ("precision", "Precision", "share", name, one(_precision, _said)),
            ("recall", "Recall", "share", name, one(lambda y, d, w: _precision(d, y, w), _said)),
            ("f1", "F1", "share", name, one(_f1, _said)),
            ("auc", "AUC", "share", name, one(_auc, lambda o, c: o[:, c])),
            ("average_precision", "Average precision", "share", name, one(average_precision, lambda o, c: o[:, c])),
            ("calibration_error", "Calibration error", "share", name, one(calibration_error, lambda o, c: o[:, c])),
        ]
    return found


def _said(o: NDArray[np.float64], c: int) -> NDArray[np.bool_]:
    return o.argmax(axis=1) == c


def _mean(values: NDArray, w: NDArray[np.float64]) -> float:
    return float(np.average(values, weights=w))


def _r_squared(y, o, w) -> float:
    total = _mean((y - _mean(y, w)) ** 2, w)
    return 1 - _mean((o[:, 0] - y) ** 2, w) / total if total else float("nan")


def _median_error(y, o, w) -> float:
    off = np.abs(o[:, 0] - y)
    order = np.argsort(off, kind="stable")
    mass = np.cumsum(w[order])
    low, high = np.searchsorted(mass, mass[-1] / 2, "left"), np.searchsorted(mass, mass[-1] / 2, "right")
    return float((off[order[low]] + off[order[min(high, len(off) - 1)]]) / 2)


def _balanced(y, d, w, k: int) -> float:
    """Mean over the classes that occur of the share recognised."""
    mass = np.bincount(y, w, k)
    right = np.bincount(y, w * (y == d), k)
    return float(np.mean(right[mass > 0] / mass[mass > 0]))


def _precision(y, d, w) -> float:
    said = float(w[d].sum())
    return float(w[d & y].sum()) / said if said else float("nan")


def _f1(y, d, w) -> float:
    both = float(w[y & d].sum())
    either = float(w[y].sum() + w[d].sum())
    return 2 * both / either if either else float("nan")


def _auc(y, s, w) -> float:
    return float(intervals.auc(s, y, w)[0]) if w[y].sum() and w[~y].sum() else float("nan")


def average_precision(y: NDArray[np.bool_], s: NDArray[np.float64], w: NDArray[np.float64]) -> float:
    """Σ (recall gained) · precision, from the highest score down; ties are one step."""
    if not w[y].sum():
        return float("nan")
    order = np.argsort(s, kind="stable")[::-1]
    last = np.append(np.flatnonzero(np.diff(s[order])), len(s) - 1)
    hits, said = np.cumsum((w * y)[order])[last], np.cumsum(w[order])[last]
    gained = np.diff(np.concatenate([[0.0], hits]))
    return float((gained * hits / np.maximum(said, 1e-300)).sum() / hits[-1])
