"""What is measured of the rows of a context, row by row: outcomes, decisions, scores and losses as arrays."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.groups.metrics import METRICS, Metric, losses, of_task
from zerotilt.core.membership import JOIN
from zerotilt.core.refusal import Refused
from zerotilt.core.spec import Task
from zerotilt.core.subject import Subject

Bools = NDArray[np.bool_]
Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Lens:
    """One way of telling rows in two: an event, a class against the rest, right against wrong. Shapes (n,).

    ``y``: it happened; ``d``: it was decided; ``keys``: the rates read from it, by key.
    """

    y: Bools
    d: Bools
    favoured: Bools
    keys: dict[str, Metric]

    @property
    def cells(self) -> NDArray[np.int8]:
        """y + 2·d of each row, and 4 more where the decision was favourable."""
        return (self.y + 2 * self.d + 4 * self.favoured).astype(np.int8)


@dataclass(frozen=True)
class Readout:
    """All arrays of shape (n,), n the rows of the context."""

    lenses: tuple[Lens, ...]
    means: dict[str, Floats]
    weights: Floats | None
    scores: Floats | None = None
    happened: Bools | None = None
    """Of the event, where there are scores for it."""
    area: bool = False
    calibration: bool = False
    macro: tuple[str, ...] = ()
    spread: float = 1.0
    """Standard deviation of the outcome, in which tolerances of signed metrics are told."""

    @property
    def keys(self) -> list[str]:
        """Every metric read, in the order of :data:`METRICS`, classes in theirs."""
        found = [key for lens in self.lenses for key in lens.keys]
        found += [*self.macro, *self.means]
        found += ["auc"] if self.area else []
        found += ["calibration_error"] if self.calibration else []
        order = list(METRICS)
        return sorted(found, key=lambda key: order.index(key.split(JOIN)[0]))


def read(subject: Subject, wanted: Sequence[str] = ()) -> Readout:
    """The rows of a context ready to be counted by groups; ``wanted``: names of metrics, all when empty.

    Raises
    ------
    Refused : the outcome or the predictions cannot be used, or nothing wanted is defined here.
    """
    chosen = {metric.name: metric for metric in of_task(subject.task) if not wanted or metric.name in wanted}
    if not chosen:
        raise Refused(
            f"None of the metrics chosen is defined for {subject.task.value}.",
            where="flag policy",
            todo="Choose others in the flag policy of Tilt.",
        )
    if subject.task is Task.binary:
        return _of_event(subject, chosen)
    return _of_number(subject, chosen) if subject.task is Task.regression else _of_classes(subject, chosen)


def _of_event(subject: Subject, chosen: dict[str, Metric]) -> Readout:
    y, scores = subject.outcome, subject.scores
    lens = Lens(y, subject.predicted, subject.favoured, {n: m for n, m in chosen.items() if m.kind == "rate"})
    means: dict[str, Floats] = {}
    if scores is not None:
        if "brier_score" in chosen or "log_loss" in chosen:
            means = dict(zip(("brier_score", "log_loss"), losses(y, scores).T, strict=True))
        means = {name: values for name, values in (means | {"mean_score": scores}).items() if name in chosen}
    return Readout(
        (lens,),
        means,
        subject.weights,
        scores,
        y,
        area=scores is not None and "auc" in chosen,
        calibration=scores is not None and "calibration_error" in chosen,
        spread=_spread(y.astype(float)),
    )


def _of_classes(subject: Subject, chosen: dict[str, Metric]) -> Readout:
    y, d, favoured = subject.outcome, subject.decisions, subject.favoured
    rates = {name: metric for name, metric in chosen.items() if metric.kind == "rate"}
    right = y == d
    whole = {name: metric for name, metric in rates.items() if not metric.each_class}
    # seen as "it happened: always; decided: rightly", the share decided rightly is an accuracy
    lenses = [Lens(np.ones_like(right), right, favoured, whole)] if whole else []
    macro = tuple(name for name, metric in chosen.items() if metric.kind == "macro")
    each = {name: metric for name, metric in rates.items() if metric.each_class}
    each |= {name.removeprefix("macro_"): METRICS[name.removeprefix("macro_")] for name in macro}
    for c, label in enumerate(subject.classes):
        keys = {f"{name}{JOIN}{label}": metric for name, metric in each.items()}
        lenses.append(Lens(y == c, d == c, d == c, keys))
    means = {}
    if "mean_rank" in chosen:
        means["mean_rank"] = d + 1.0
    if "mean_rank_error" in chosen:
        means["mean_rank_error"] = (d - y).astype(float)
    return Readout(tuple(lenses), means, subject.weights, macro=macro, spread=_spread(y.astype(float)))


def _of_number(subject: Subject, chosen: dict[str, Metric]) -> Readout:
    y, predicted = subject.outcome, subject.values
    off = predicted - y
    means = {
        "mean_prediction": predicted,
        "mean_outcome": y,
        "mean_error": off,
        "mae": np.abs(off),
        "rmse": off**2,
    }
    return Readout((), {name: one for name, one in means.items() if name in chosen}, subject.weights, spread=_spread(y))


def _spread(values: Floats) -> float:
    return float(values.std()) or 1.0
