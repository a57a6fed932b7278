"""What is measured of the rows of a context, row by row: outcomes, decisions, scores and losses as arrays."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.groups.metrics import METRICS, Metric, of_set, of_task
from zerotilt.core.membership import JOIN
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.tasks import View

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
    def events(self) -> tuple[Floats, Bools]:
        """Scores of an event and whether it happened; to be asked for where both are there."""
        if self.scores is None or self.happened is None:
            raise ValueError("no scores of an event, or nothing known about it")
        return self.scores, self.happened

    @cached_property
    def ranking(self) -> tuple[NDArray[np.int64], Bools]:
        """Rows in the order of their scores, and whether the next in it has another score."""
        return ranked_by(self.events[0])

    def among(self, rows: Bools) -> Readout:
        """Of some of the rows only; ``rows`` of shape (n,)."""

        def some(values: NDArray | None) -> Any:
            return None if values is None else values[rows]

        return replace(
            self,
            lenses=tuple(
                replace(one, y=one.y[rows], d=one.d[rows], favoured=one.favoured[rows]) for one in self.lenses
            ),
            means={name: values[rows] for name, values in self.means.items()},
            weights=some(self.weights),
            scores=some(self.scores),
            happened=some(self.happened),
        )

    @property
    def keys(self) -> list[str]:
        """Every metric read, in the order of :data:`METRICS`, classes in theirs."""
        found = [key for lens in self.lenses for key in lens.keys]
        found += [*self.macro, *self.means]
        found += ["auc"] if self.area else []
        found += ["calibration_error"] if self.calibration else []
        order = list(METRICS)
        return sorted(found, key=lambda key: order.index(key.split(JOIN)[0]))


def ranked_by(scores: Floats) -> tuple[NDArray[np.int64], Bools]:
    """Rows in the order of some scores, and whether the next in it has another; both of shape (n,)."""
    order = np.argsort(scores, kind="stable")
    return order, np.append(scores[order][1:] != scores[order][:-1], True)


def read(subject: Subject, wanted: Sequence[str] = (), whole: bool = False) -> Readout:
    """The rows of a context ready to be counted by groups; ``wanted``: names of metrics, all when empty.

    ``whole``: metrics that are told of a whole set only are read too.

    Raises
    ------
    Refused : the outcome or the predictions cannot be used, or nothing wanted is defined here.
    """
    every = of_set(subject.spec.task, subject.kind.told) if whole else of_task(subject.spec.task)
    chosen = {metric.name: metric for metric in every if not wanted or metric.name in wanted}
    if not subject.spec.knows_outcome:
        chosen = {name: metric for name, metric in chosen.items() if not metric.needs_outcome}
    if not chosen:
        raise Refused(
            f"None of the metrics chosen is defined for {subject.kind.name}"
            f"{'' if subject.spec.knows_outcome else ' whose outcome is not known'}.",
            where="flag policy",
            todo="Choose others in the flag policy of Tilt.",
        )
    outcome = subject.rows.outcome_if_known
    said = (outcome, subject.predictions, subject.decisions)
    macro = tuple(name for name, metric in chosen.items() if metric.kind == "macro")
    parts = [METRICS[name.removeprefix("macro_")] for name in macro]
    rates = {metric.name: metric for metric in (*chosen.values(), *parts) if metric.kind == "rate"}
    lenses = [Lens(v.y, v.d, v.favoured, _keys(v, rates, subject.kind.classed)) for v in subject.kind.views(*said)]
    scores = subject.predictions.scores if subject.kind.cut else None
    scored = scores is not None and outcome is not None
    return Readout(
        # of an event the cells are counted for its AUC too
        tuple(lens for lens in lenses if lens.keys or not subject.kind.classed),
        {name: values for name, values in subject.kind.numbers(*said).items() if name in chosen},
        subject.rows.weights,
        scores,
        outcome if scored else None,
        area=scored and "auc" in chosen,
        calibration=scored and "calibration_error" in chosen,
        macro=macro,
        spread=_spread(subject, outcome),
    )


def _keys(view: View, rates: dict[str, Metric], classed: bool) -> dict[str, Metric]:
    """The rates that a view tells, by key: those of the whole, or those of its class."""
    if view.of_class:
        return {f"{name}{JOIN}{view.of_class}": metric for name, metric in rates.items() if metric.each_class}
    return {name: metric for name, metric in rates.items() if not (classed and metric.each_class)}


def _spread(subject: Subject, outcome: NDArray | None) -> float:
    """Of the outcome; where it is not known of the predictions, in the same unit."""
    if outcome is not None:
        return float(outcome.astype(float).std()) or 1.0
    known = subject.decisions.taken if subject.kind.decides else subject.predictions.values
    return float(known.astype(float).std()) or 1.0
