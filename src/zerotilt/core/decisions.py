"""How decisions follow from predictions: thresholds, the decisions themselves, and which of them are favourable."""

from __future__ import annotations

from copy import copy
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import levels, membership, words
from zerotilt.core.meaning import Rule, Spec
from zerotilt.core.predictions import Predictions
from zerotilt.core.refusal import Refused
from zerotilt.core.tasks import TaskKind, kind_of


@dataclass(frozen=True)
class Decisions:
    """All arrays have shape (n,) unless said."""

    predictions: Predictions
    rule: Rule | None
    names: Spec | None = None
    """What decisions are called by, where it is not the meaning that the rows are read by."""

    def called_by(self, spec: Spec) -> Decisions:
        """The same decisions under other names; what is known of them is not found anew."""
        found = copy(self)
        object.__setattr__(found, "names", spec)
        return found

    @property
    def spec(self) -> Spec:
        return self.predictions.rows.spec

    @property
    def kind(self) -> TaskKind:
        return kind_of(self.spec.task)

    # ── thresholds ──

    @property
    def cut(self) -> float:
        """The threshold of every row that no group's own is for."""
        return self.spec.threshold if self.rule is None else self.rule.threshold

    @property
    def common_cut(self) -> float | None:
        """The one threshold of all rows; None where decisions have none, or groups have their own."""
        own = self.rule is not None and bool(self.rule.thresholds)
        return self.cut if self.kind.cut and not own else None

    def precise(self, thresholds: NDArray[np.float64]) -> NDArray[np.float64]:
        """Thresholds in the scores' own precision: a score of 0.7 in single precision lies a little under 0.7 and is
        meant to reach it."""
        if self.kind.cut and self.predictions.single:
            return thresholds.astype(np.float32).astype(np.float64)
        return thresholds

    @cached_property
    def cuts(self) -> NDArray[np.float64]:
        """The decision threshold of each row."""
        return self._all_cuts[self.predictions.rows.numbers]

    def cut_at(self, row: int) -> float:
        """The decision threshold of one row of the table."""
        return float(self._all_cuts[row])

    @cached_property
    def _all_cuts(self) -> NDArray[np.float64]:
        table = self.predictions.rows.table
        found = np.full(table.rows, self.cut)
        if self.rule is None or not self.rule.thresholds:
            return self.precise(found)
        grouping = membership.grouping(self.spec, table, np.arange(table.rows), self.rule.columns)
        for one in self.rule.thresholds:
            if one.group in grouping.labels:
                found[grouping.mask(grouping.labels.index(one.group))] = one.threshold
        return self.precise(found)

    def cut_for(self, column: str, level: str, otherwise: NDArray[np.float64]) -> NDArray[np.float64]:
        """The thresholds of rows asked as if of another level of a column."""
        if self.rule is None or self.rule.columns != (column,):
            return otherwise
        own = {one.group: one.threshold for one in self.rule.thresholds}
        return self.precise(np.full(len(otherwise), own.get(membership.written(level), self.rule.threshold)))

    # ── what is decided ──

    @cached_property
    def taken(self) -> NDArray[np.int64]:
        """The decision of each row: 1 where the event is predicted, or the class as its number in ``classes``."""
        predictions = self.predictions
        if predictions.predictor is not None:
            return self.of(predictions.outputs, self.cuts)
        if not self.kind.classed and predictions.scores is not None:
            return self.of(predictions.scores[:, None], self.cuts)
        values, codes = predictions.decisions
        if self.kind.classed:
            return np.array([predictions.classes.index(level) for level in values])[codes]
        event = [levels.match_level(self.spec.event, [level]) is not None for level in values]
        return np.array(event, np.int64)[codes]

    @cached_property
    def predicted(self) -> NDArray[np.bool_]:
        """Whether the event was predicted: score at or above the threshold, or the recorded decision."""
        self.kind.needs_event()
        return self.taken == 1

    def of(self, outputs: NDArray[np.float64], cuts: NDArray[np.float64] | float | None = None) -> NDArray[np.int64]:
        """The decision of each row of any outputs (rows, k); ``cuts``: their thresholds, the common one without.

        Raises
        ------
        Refused : the output is a number, about which nothing is decided.
        """
        return self.kind.decide(outputs, self.precise(np.array([self.cut])) if cuts is None else cuts)

    def named(self, decision: int) -> str:
        """What a decision is called: the audit's own words for an event, else the class."""
        return self.kind.decision_named(self.names or self.spec, self.predictions.classes, decision)

    # ── which is favourable ──

    @cached_property
    def favoured(self) -> NDArray[np.bool_]:
        """Whether the decision was the favourable one."""
        return self._favourable(self.taken)

    @cached_property
    def deserved(self) -> NDArray[np.bool_]:
        """Whether the outcome as recorded is the one that the favourable decision is meant for."""
        return self._favourable(self.predictions.rows.outcome.astype(np.int64))

    def _favourable(self, which: NDArray[np.int64]) -> NDArray[np.bool_]:
        return np.isin(which, self.favourable)

    @property
    def favourable(self) -> list[int]:
        """The favourable decisions, as their numbers.

        Raises
        ------
        Refused : one of them is none of the classes, or all of them are favourable.
        """
        spec, classes = self.spec, self.predictions.classes
        if not self.kind.classed:
            return [1 if spec.favourable == "event" else 0]
        named = spec.favourable_classes or ((spec.event,) if spec.event else classes[-1:])
        if unknown := [name for name in named if name not in classes]:
            raise Refused(
                f"“{unknown[0]}” is marked as favourable and is none of the classes {words.listing(list(classes))}.",
                todo="Choose the favourable classes in Intake.",
            )
        if len(set(named)) == len(classes):
            raise Refused("All classes are marked as favourable.", todo="Leave one out in Intake.")
        return [classes.index(name) for name in named]
