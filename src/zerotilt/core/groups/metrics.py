"""The metrics of a set of rows: which rows count, among which. Defined once for performance and for groups."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import AfterValidator, Field

from zerotilt.core import words
from zerotilt.core.meaning import Task
from zerotilt.core.membership import JOIN
from zerotilt.core.refusal import Refused
from zerotilt.core.stats.estimates import Estimate

MetricName = Literal[
    "base_rate",
    "selection_rate",
    "accuracy",
    "true_positive_rate",
    "false_positive_rate",
    "true_negative_rate",
    "false_negative_rate",
    "positive_predictive_value",
    "negative_predictive_value",
    "class_share",
    "macro_true_positive_rate",
    "macro_positive_predictive_value",
    "auc",
    "brier_score",
    "log_loss",
    "mean_score",
    "calibration_error",
    "mean_rank",
    "mean_rank_error",
    "mean_prediction",
    "mean_outcome",
    "mean_error",
    "mae",
    "rmse",
    "balanced_accuracy",
    "f1",
    "average_precision",
    "rank_error",
    "r_squared",
    "median_absolute_error",
]
Kind = Literal["rate", "macro", "area", "mean", "root", "calibration", "set"]
Mask = NDArray[np.bool_]


def _all(y: Mask, d: Mask, f: Mask) -> Mask:
    return np.ones_like(y)


class Measure(Estimate):
    """A metric of some rows. For rates, ``count`` rows out of ``of`` rows (unweighted)."""

    count: int | None = None
    of: int = Field(description="Rows that the metric can be read from; for AUC the smaller class")


@dataclass(frozen=True)
class Metric:
    name: MetricName
    label: str
    meaning: str
    kind: Kind
    counted: Callable[[Mask, Mask, Mask], Mask] = _all
    among: Callable[[Mask, Mask, Mask], Mask] = _all
    tasks: tuple[Task, ...] = (Task.binary,)
    """In which groups are compared by it."""
    whole: tuple[Task, ...] = ()
    """In which it is told of a whole set of rows only."""
    each_class: bool = False
    """With several classes, read of every class apart."""
    signed: bool = False
    """Can be negative, or its zero is out of reach: compared by its difference, not by a ratio."""
    unit: Literal["share", "number", "outcome", "rank"] = "number"

    @property
    def needs_outcome(self) -> bool:
        """Whether it takes more than what was predicted and decided."""
        return self.name not in OF_DECISIONS

    @property
    def short(self) -> str:
        """For the head of a narrow column."""
        return {
            "positive_predictive_value": "PPV",
            "negative_predictive_value": "NPV",
            "macro_true_positive_rate": "Macro TPR",
            "macro_positive_predictive_value": "Macro PPV",
        }.get(self.name, self.label)

    @property
    def phrase(self) -> str:
        """The label inside a sentence; names and initials keep their capitals."""
        return (
            self.label
            if self.name in ("auc", "brier_score", "mae", "rmse", "f1", "r_squared")
            else self.label[0].lower() + self.label[1:]
        )


OF_DECISIONS = ("selection_rate", "class_share", "mean_score", "mean_rank", "mean_prediction")
CLASSES = (Task.several, Task.ordered)
EVERY = (Task.binary, *CLASSES)


def _rate(name: MetricName, label: str, meaning: str, counted, among, tasks=EVERY, each_class=True) -> Metric:
    return Metric(name, label, meaning, "rate", counted, among, tasks, each_class=each_class, unit="share")


def _mean(name: MetricName, label: str, meaning: str, task: Task, unit, signed: bool = True) -> Metric:
    return Metric(name, label, meaning, "mean", tasks=(task,), signed=signed, unit=unit)


def _whole(name: MetricName, label: str, meaning: str, tasks, unit, each_class: bool = False) -> Metric:
    return Metric(name, label, meaning, "set", tasks=(), whole=tasks, each_class=each_class, unit=unit)


# y: the event happened; d: the event was predicted; f: the decision was favourable
METRICS: dict[str, Metric] = {
    metric.name: metric
    for metric in (
        _rate("base_rate", "Base rate", "share of rows in which the event happened", lambda y, d, f: y, _all),
        _rate(
            "selection_rate",
            "Selection rate",
            "share of rows with the favourable decision",
            lambda y, d, f: f,
            _all,
            each_class=False,
        ),
        _rate("accuracy", "Accuracy", "share of rows decided rightly", lambda y, d, f: y == d, _all, each_class=False),
        _rate(
            "true_positive_rate",
            "True positive rate",
            "of the rows in which the event happened, the share predicted so",
            lambda y, d, f: d,
            lambda y, d, f: y,
        ),
        _rate(
            "false_positive_rate",
            "False positive rate",
            "of the rows in which the event did not happen, the share predicted as if",
            lambda y, d, f: d,
            lambda y, d, f: ~y,
        ),
        _rate(
            "true_negative_rate",
            "True negative rate",
            "of the rows in which the event did not happen, the share predicted so",
            lambda y, d, f: ~d,
            lambda y, d, f: ~y,
        ),
        _rate(
            "false_negative_rate",
            "False negative rate",
            "of the rows in which the event happened, the share predicted as if not",
            lambda y, d, f: ~d,
            lambda y, d, f: y,
        ),
        _rate(
            "positive_predictive_value",
            "Positive predictive value",
            "of the rows predicted to have the event, the share that had it",
            lambda y, d, f: y,
            lambda y, d, f: d,
        ),
        _rate(
            "negative_predictive_value",
            "Negative predictive value",
            "of the rows predicted not to have the event, the share that had it not",
            lambda y, d, f: ~y,
            lambda y, d, f: ~d,
        ),
        _rate(
            "class_share", "Share decided", "share of rows decided to be of the class", lambda y, d, f: d, _all, CLASSES
        ),
        Metric(
            "macro_true_positive_rate",
            "Macro true positive rate",
            "mean over the classes of their true positive rates",
            "macro",
            tasks=CLASSES,
            unit="share",
        ),
        Metric(
            "macro_positive_predictive_value",
            "Macro positive predictive value",
            "mean over the classes of their positive predictive values",
            "macro",
            tasks=CLASSES,
            unit="share",
        ),
        Metric(
            "auc",
            "AUC",
            "chance that a row with the event scores above a row without it",
            "area",
            whole=CLASSES,
            each_class=True,
        ),
        Metric(
            "brier_score",
            "Brier score",
            "mean squared distance of the score from what happened; with several classes over all of them",
            "mean",
            whole=CLASSES,
        ),
        Metric(
            "log_loss",
            "Log loss",
            "mean of minus the log of the probability given to what happened",
            "mean",
            whole=CLASSES,
        ),
        Metric("mean_score", "Mean score", "mean of the scores", "mean"),
        Metric(
            "calibration_error",
            "Calibration error",
            "mean distance of mean score and share of the event over 15 bins of equal counts",
            "calibration",
            whole=CLASSES,
            each_class=True,
            signed=True,
        ),
        _mean(
            "mean_rank",
            "Mean rank",
            "mean place of the decided class in the classes' order, from 1",
            Task.ordered,
            "rank",
        ),
        _mean(
            "mean_rank_error", "Mean rank error", "mean of decided less true place in the order", Task.ordered, "rank"
        ),
        _mean("mean_prediction", "Mean prediction", "mean of the predictions", Task.regression, "outcome"),
        _mean("mean_outcome", "Mean outcome", "mean of what happened", Task.regression, "outcome"),
        _mean("mean_error", "Mean error", "mean of prediction less outcome", Task.regression, "outcome"),
        _mean(
            "mae", "MAE", "mean absolute distance of prediction and outcome", Task.regression, "outcome", signed=False
        ),
        Metric(
            "rmse",
            "RMSE",
            "root of the mean squared distance of prediction and outcome",
            "root",
            tasks=(Task.regression,),
            unit="outcome",
        ),
        _whole(
            "balanced_accuracy", "Balanced accuracy", "mean over the classes of the share recognised", EVERY, "share"
        ),
        _whole("f1", "F1", "harmonic mean of precision and recall", EVERY, "share", each_class=True),
        _whole(
            "average_precision",
            "Average precision",
            "precision on average over the rows with the event, from the highest score down",
            EVERY,
            "share",
            each_class=True,
        ),
        Metric(
            "rank_error",
            "Mean distance of ranks",
            "mean distance of the decided from the true place in the order",
            "mean",
            tasks=(),
            whole=(Task.ordered,),
        ),
        _whole("r_squared", "R²", "share of the outcome's variance that is predicted", (Task.regression,), "number"),
        _whole(
            "median_absolute_error",
            "Median absolute error",
            "half of the predictions are off by less",
            (Task.regression,),
            "outcome",
        ),
    )
}


def of_task(task: Task) -> list[Metric]:
    """The metrics that are defined for what is predicted, in their order."""
    return [metric for metric in METRICS.values() if task in metric.tasks]


def of_set(task: Task, told: Sequence[str] = ()) -> list[Metric]:
    """The metrics that a whole set of rows is told in; ``told``: of these names, all when empty."""
    found = [metric for metric in METRICS.values() if task in metric.tasks or task in metric.whole]
    return [metric for metric in found if not told or metric.name in told]


def metric_named(key: str) -> Metric:
    """The metric of a key: a name, or with several classes a name and a class ("class_share · front desk").

    Raises
    ------
    Refused : there is none of that name.
    """
    name = key.split(JOIN)[0]
    if name not in METRICS:
        raise Refused(f"metric: “{name}” is unknown; there are {', '.join(METRICS)}.")
    return METRICS[name]


def class_of(key: str) -> str:
    """The class a key is of; empty without one."""
    return key.partition(JOIN)[2]


def phrase(key: str) -> str:
    """A key inside a sentence: "share decided of front desk"."""
    which = class_of(key)
    return f"{metric_named(key).phrase} of {which}" if which else metric_named(key).phrase


def in_order(found: dict[str, Measure]) -> dict[str, Measure]:
    """By the order of the metrics; records in a database keep none."""
    known = list(METRICS)
    return dict(sorted(found.items(), key=lambda one: known.index(metric_named(one[0]).name)))


Metrics = Annotated[dict[str, Measure], AfterValidator(in_order)]
"""Of some rows, by key: a metric, with several classes a metric and a class."""

USUAL = (
    "base_rate",
    "selection_rate",
    "accuracy",
    "true_positive_rate",
    "false_positive_rate",
    "positive_predictive_value",
)


def usual(keys: Sequence[str], most: int) -> list[str]:
    """The metrics that a figure or table of groups has room for: the usual ones of an event; with classes or numbers what is
    decided and how rightly before what happened, and what is of all classes together before what is of one.
    """
    if len(known := [name for name in USUAL if name in keys]) == len(USUAL):
        return known[:most]
    happened = ("base_rate", "mean_outcome")
    return sorted(keys, key=lambda key: (metric_named(key).name in happened, bool(class_of(key))))[:most]


def written(key: str, value: float, unit: str = "") -> str:
    """A value of a metric, on screens, in reports and in files alike: a share in percent, what is in the outcome's unit with
    four digits, all else with three decimals.

    >>> written("accuracy", 0.7561), written("mae", 13956860.26, "crowns"), written("auc", 0.83)
    ('75.6%', '13,956,860 crowns', '0.830')
    """
    of = metric_named(key).unit
    if of == "share":
        return words.percent(value)
    return words.quantity(value, unit) if of == "outcome" else words.decimal(value)


def written_gap(key: str, gap: float, unit: str = "") -> str:
    """A difference of two values of a metric, with its sign.

    >>> written_gap("accuracy", -0.046), written_gap("mae", 0.5, "days"), written_gap("auc", 0.02)
    ('−4.6 points', '+0.5 days', '+0.020')
    """
    of = metric_named(key).unit
    if of == "share":
        return words.signed_points(gap)
    if of == "outcome":
        return f"{'+' if gap > 0 else ''}{words.quantity(gap, unit)}"
    return words.signed_decimal(gap)


def short(key: str) -> str:
    """A key over a narrow column: "Share decided, now"."""
    which = class_of(key)
    return f"{metric_named(key).short}, {which}" if which else metric_named(key).short


def label(key: str) -> str:
    which = class_of(key)
    return f"{metric_named(key).label}, {which}" if which else metric_named(key).label
