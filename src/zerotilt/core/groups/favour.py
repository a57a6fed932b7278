"""In whose favour a gap is: what a higher value of a metric means for those of whom it is read."""

from __future__ import annotations

from typing import Literal

from zerotilt.core.groups.metrics import metric_named
from zerotilt.core.meaning import Role, Spec, Task
from zerotilt.core.membership import JOIN

Favour = Literal["advantage", "disadvantage", "better", "worse", ""]

PREDICTED = ("true_positive_rate", "false_positive_rate", "class_share", "mean_score")
"""The higher, the more often the event, or the class, is predicted."""
NOT_PREDICTED = ("true_negative_rate", "false_negative_rate")
AMOUNTS = ("mean_prediction", "mean_error")
RANKS = ("mean_rank", "mean_rank_error")
RIGHT = ("accuracy", "auc", "macro_true_positive_rate", "macro_positive_predictive_value")
WRONG = ("brier_score", "log_loss", "calibration_error", "mae", "rmse")
NOT_OF_ERRORS = ("selection_rate", "class_share", "mean_score", "mean_prediction", "mean_rank")
"""Of what was predicted or decided alone: gaps in it say nothing of how often that is right."""
HAPPENED = ("base_rate", "mean_outcome")
"""Of what happened alone: gaps in it say nothing of the model."""


def favour(key: str, higher: bool, spec: Spec) -> Favour:
    """What it means for a group that a metric of it is higher, or lower, than that of what it is compared with.

    "advantage" and "disadvantage" where decisions or amounts are concerned, "better" and "worse" where it is how often the
    model is right; empty where the metric alone does not tell, such as a predictive value or a base rate.
    """
    name = metric_named(key).name
    if name in RIGHT or name in WRONG:
        return "better" if (name in RIGHT) == higher else "worse"
    good = _good_when_high(name, key.partition(JOIN)[2], spec)
    return "" if good is None else "advantage" if good == higher else "disadvantage"


def _good_when_high(name: str, of_class: str, spec: Spec) -> bool | None:
    if name == "selection_rate":
        return True
    if name in AMOUNTS:
        return spec.favourable_end == "high"
    if name in RANKS:
        return _upward(spec)
    if name not in PREDICTED and name not in NOT_PREDICTED:
        return None
    if of_class:
        # more of one class that is not favourable may be less of another
        return name in PREDICTED if of_class in (spec.favourable_classes or (spec.event,)) else None
    return (name in PREDICTED) == (spec.favourable == "event")


def _upward(spec: Spec) -> bool | None:
    """Whether the favourable classes are those at the upper end of the order; None where they are at neither end."""
    column = spec.only(Role.outcome)
    order, good = column.order if column else (), set(spec.favourable_classes or (spec.event,))
    if spec.task is not Task.ordered or not order or not good < set(order):
        return None
    upper, lower = set(order[-len(good) :]), set(order[: len(good)])
    return True if good == upper else False if good == lower else None
