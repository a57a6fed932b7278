"""What a method is given: the rows of the context, what happened in them, and the predictor."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import membership, output, rows, words
from zerotilt.core.predictors import Asked, Frame, Predictor
from zerotilt.core.predictors.structure import Structure
from zerotilt.core.refusal import Refused
from zerotilt.core.spec import Context, Kind, Role, Spec, Task
from zerotilt.core.table import Table

STRUCTURE_ROWS = 20_000
STEADY_ROWS = 200
NO_MODEL = "This needs a model that can be asked about new rows; the audit has recorded scores or decisions only."


@dataclass(frozen=True)
class Subject:
    """One decision system read in one context. All arrays have shape (n,), n the rows of the context."""

    spec: Spec
    table: Table
    predictor: Predictor | None = None
    context: Context = field(default_factory=Context)
    beside: Subject | None = None
    """The second model version or row set of the context, read in the same figures."""

    @cached_property
    def rows(self) -> NDArray[np.int64]:
        return rows.select(self.spec, self.table, self.context.rows, self.context.segment)

    @property
    def n(self) -> int:
        return len(self.rows)

    @cached_property
    def outcome(self) -> NDArray:
        """What happened: whether the event did (bool), the class (its number in ``classes``), or the value."""
        found = rows.outcome(self.spec, self.table)[0][self.rows]
        if self.task in (Task.several, Task.ordered) and self.predictor is not None:
            own = rows.classes(self.spec, self.table)
            return np.array([self.classes.index(level) for level in own])[found]
        return found

    @property
    def task(self) -> Task:
        return self.spec.task

    @cached_property
    def classes(self) -> tuple[str, ...]:
        """The classes where there are more than two, in their order."""
        if self.task in (Task.binary, Task.regression):
            return ()
        return self.predictor.classes if self.predictor is not None else rows.classes(self.spec, self.table)

    @cached_property
    def column(self) -> int:
        """Which column of the outputs is read: the class of the context, of the spec, or the last.

        Raises
        ------
        Refused : the class is none of the model's.
        """
        if not self.classes:
            return 0
        wanted = self.context.read_class or self.spec.event
        if not wanted:
            return len(self.classes) - 1
        label = rows.match_level(wanted, list(self.classes))
        if label is None:
            raise Refused(
                f"read_class: “{wanted}” is none of the classes {words.listing(list(self.classes))}.",
                todo="Choose one of these classes.",
            )
        return self.classes.index(label)

    def of_class(self, name: str) -> Subject:
        """The same rows and model with another class read; what does not depend on the class is not computed again."""
        other = replace(self, context=self.context.model_copy(update={"read_class": name}))
        for known in ("rows", "outcome", "classes", "weights", "frame", "outputs", "structure", "steady"):
            if known in self.__dict__:
                other.__dict__[known] = self.__dict__[known]
        return other

    @property
    def scale(self) -> output.Scale:
        """The scale the output is read on."""
        return "value" if self.task is Task.regression else self.context.output

    @property
    def what(self) -> str:
        """What the output is the probability of, or the value."""
        if self.classes:
            return f"{words.title(self.spec.outcome.name)} is {self.classes[self.column]}"
        return self.spec.event_phrase

    @cached_property
    def weights(self) -> NDArray[np.float64] | None:
        found = rows.weights(self.spec, self.table)
        return None if found is None else found[self.rows]

    @cached_property
    def mass(self) -> NDArray[np.float64]:
        """The weight of every row; one where the table has none."""
        return np.ones(self.n) if self.weights is None else self.weights

    def drawn(self, rng: np.random.Generator, most: int) -> NDArray[np.intp]:
        """Places of up to ``most`` rows of the context in random order; rows that weigh nothing are never drawn.

        Raises
        ------
        Refused : no row weighs anything.
        """
        counting = np.flatnonzero(self.mass > 0)
        if not len(counting):
            raise Refused("All of these rows have a weight of zero.", todo="Choose rows with a weight.")
        return counting[rng.permutation(len(counting))[:most]]

    @cached_property
    def frame(self) -> Frame:
        """The model's inputs; refused with the reason where there is no model."""
        return self.model.frame(self.table, self.rows)

    @property
    def model(self) -> Predictor:
        if self.predictor is None:
            raise Refused(NO_MODEL, todo="Upload the model as ONNX in Intake.")
        return self.predictor

    @cached_property
    def scores(self) -> NDArray[np.float64] | None:
        """Probability of the event, None where only decisions were recorded.

        Raises
        ------
        Refused : the audit is not of an event.
        """
        self.needs_event()
        if self.predictor is not None:
            return self.outputs[:, 0]
        column = self.spec.only(Role.score)
        return None if column is None else recorded_scores(self.table, column.name)[self.rows]

    def needs_event(self) -> None:
        """Refuse what is defined for an event and its absence alone."""
        if self.task is not Task.binary:
            raise Refused(
                f"This compares an event with its absence; the audit is of {self.task.value}.",
                todo="Open an audit whose outcome is an event.",
            )

    @cached_property
    def outputs(self) -> NDArray[np.float64]:
        """The model's outputs for the rows of the context, shape (n, k)."""
        return self.model.outputs(self.frame)

    @cached_property
    def predicted(self) -> NDArray[np.bool_]:
        """Whether the event was predicted: score at or above the threshold, or the recorded decision."""
        if self.scores is not None:
            return self.scores >= self.cuts
        levels, codes = self.recorded
        return np.array([rows.match_level(self.spec.event, [level]) is not None for level in levels], bool)[codes]

    @cached_property
    def recorded(self) -> tuple[list[str], NDArray[np.int64]]:
        """The recorded decisions: the values there are, and of each row which one.

        Raises
        ------
        Refused : no column holds decisions, or it cannot be used.
        """
        column = self.spec.only(Role.decision)
        if column is None:
            raise Refused(
                "There is nothing to compare with the outcome: no model, no recorded score, no recorded decision.",
                todo="Upload a model, or mark a column as score or decision.",
            )
        levels, codes = recorded_decisions(self.table, column.name, self.spec, self.classes)
        return levels, codes[self.rows]

    @cached_property
    def decisions(self) -> NDArray[np.int64]:
        """With several classes: the class decided, as its number in ``classes``."""
        if self.predictor is not None:
            return self.outputs.argmax(axis=1)
        levels, codes = self.recorded
        return np.array([self.classes.index(level) for level in levels])[codes]

    @cached_property
    def values(self) -> NDArray[np.float64]:
        """The predicted numbers, of a model or recorded.

        Raises
        ------
        Refused : there are none.
        """
        if self.predictor is not None:
            return self.outputs[:, 0]
        column = self.spec.only(Role.score)
        if column is None:
            raise Refused(
                "There is nothing to compare with the outcome: no model and no recorded prediction.",
                todo="Upload a model, or mark a column of predictions as score.",
            )
        found = self.table.numbers(column.name)[self.rows]
        if not np.isfinite(found).all():
            raise Refused(
                f"The prediction is missing in {words.plural(int((~np.isfinite(found)).sum()), 'row')}.",
                where=f"column “{column.name}”",
                todo="Fill the predictions or leave those rows out.",
            )
        return found

    @cached_property
    def favoured(self) -> NDArray[np.bool_]:
        """Whether the decision was the favourable one."""
        if self.classes:
            return np.isin(self.decisions, self.favourable)
        return self.predicted if self.spec.favourable == "event" else ~self.predicted

    @cached_property
    def deserved(self) -> NDArray[np.bool_]:
        """Whether the outcome as recorded is the one that the favourable decision is meant for."""
        if self.classes:
            return np.isin(self.outcome, self.favourable)
        return self.outcome if self.spec.favourable == "event" else ~self.outcome

    @property
    def favourable(self) -> list[int]:
        """The favourable classes, as their numbers.

        Raises
        ------
        Refused : one of them is none of the classes, or all of them are favourable.
        """
        named = self.spec.favourable_classes or ((self.spec.event,) if self.spec.event else self.classes[-1:])
        if unknown := [name for name in named if name not in self.classes]:
            raise Refused(
                f"“{unknown[0]}” is marked as favourable and is none of the classes {words.listing(list(self.classes))}.",
                todo="Choose the favourable classes in Intake.",
            )
        if len(set(named)) == len(self.classes):
            raise Refused("All classes are marked as favourable.", todo="Leave one out in Intake.")
        return [self.classes.index(name) for name in named]

    @property
    def cut(self) -> float:
        """The threshold of every row that no group's own is for."""
        return self.spec.threshold if self.context.rule is None else self.context.rule.threshold

    @cached_property
    def single(self) -> bool:
        """Whether scores are numbers of single precision, as most model files give them."""
        if self.task is not Task.binary:
            return False
        scores = self.scores
        return scores is not None and bool((scores.astype(np.float32) == scores).all())

    def precise(self, thresholds: NDArray[np.float64]) -> NDArray[np.float64]:
        """Thresholds in the scores' own precision: a score of 0.7 in single precision lies a little under 0.7 and is
        meant to reach it."""
        return thresholds.astype(np.float32).astype(np.float64) if self.single else thresholds

    @cached_property
    def cuts(self) -> NDArray[np.float64]:
        """The decision threshold of each row, shape (n,)."""
        return self._all_cuts[self.rows]

    def cut_at(self, row: int) -> float:
        """The decision threshold of one row of the table."""
        return float(self._all_cuts[row])

    @cached_property
    def _all_cuts(self) -> NDArray[np.float64]:
        rule = self.context.rule
        found = np.full(self.table.rows, self.cut)
        if rule is None or not rule.thresholds:
            return self.precise(found)
        grouping = membership.grouping(self.spec, self.table, np.arange(self.table.rows), rule.columns)
        for one in rule.thresholds:
            if one.group in grouping.labels:
                found[grouping.mask(grouping.labels.index(one.group))] = one.threshold
        return self.precise(found)

    def cut_for(self, column: str, level: str, otherwise: NDArray[np.float64]) -> NDArray[np.float64]:
        """The thresholds of rows asked as if of another level of a column."""
        rule = self.context.rule
        if rule is None or rule.columns != (column,):
            return otherwise
        own = {one.group: one.threshold for one in rule.thresholds}
        return self.precise(np.full(len(otherwise), own.get(membership.written(level), rule.threshold)))

    @cached_property
    def asked(self) -> Asked:
        """The context's output, f(x), as something that can be asked about any rows, here or elsewhere."""
        if self.scale == "log-odds":
            self.structure  # noqa: B018  read on all rows, before it is asked about a few
        return Asked(self.model, self.scale, self.column)

    def case(self, row: int, edits: Mapping[str, str] | None = None) -> Frame:
        """The model's inputs of one row of the table, numbered from 0, with some values written over.

        Parameters
        ----------
        edits : values as they would stand in the table; an empty text is missing.

        Raises
        ------
        Refused : there is no such row, or an edit names no feature or no fitting value.
        """
        if not 0 <= row < self.table.rows:
            raise Refused(f"row: {row + 1} was given; the table has {words.count(self.table.rows)} rows.")
        frame = self.model.frame(self.table, np.array([row]))
        for name, text in (edits or {}).items():
            if name not in frame.names:
                raise Refused(
                    f"edits: “{name}” is not a feature of the model; it has {words.listing(list(frame.names))}."
                )
            frame = frame.replace(name, self._edited(name, text, frame[name].dtype))
        return frame

    def _edited(self, name: str, text: str, kind: np.dtype) -> NDArray:
        if kind.kind != "f":
            return np.array([text], dtype=object)
        try:
            if text and self.is_date(name):
                return np.array([float(np.datetime64(text, "D").astype(int))])
            return np.array([float(text) if text else np.nan])
        except ValueError:
            what = "a date as 2026-01-31" if self.is_date(name) else "a number"
            raise Refused(
                f"edits: “{text}” was given for “{name}”; it takes {what}.", where=f"column “{name}”"
            ) from None

    def name_of(self, row: int) -> str:
        """A row of the table by its identifier, else by its number from 1."""
        return rows.name(self.spec, self.table, row)

    def label(self, feature: str, value: float | str) -> str:
        """A model input as people read it: a number in few digits, a day as a date, a level as it is."""
        if isinstance(value, str):
            return value or "missing"
        if np.isnan(value):
            return "missing"
        if self.is_date(feature):
            return str(np.datetime64(int(value), "D"))
        return f"{value:.4g}"

    def is_date(self, feature: str) -> bool:
        """Whether a model input is a day, counted from 1970."""
        return feature in self.table.names and self.table.is_date(feature)

    @property
    def partable(self) -> tuple[str, ...]:
        """Columns the rows can be told apart by: all but identifiers, weights, splits and free text."""
        apart = (Role.identifier, Role.weight, Role.split)
        return tuple(c.name for c in self.spec.columns if c.role not in apart and c.kind is not Kind.text)

    @property
    def threshold(self) -> float | None:
        """The decision threshold on the scale that is read; None where decisions have none, or groups have their own."""
        if self.task is not Task.binary or (self.context.rule is not None and self.context.rule.thresholds):
            return None
        return self.on_scale(self.cut)

    def on_scale(self, probability: float) -> float:
        """A probability on the scale that is read."""
        return float(output.transform(np.array([probability]), self.scale)[0])

    def decided(
        self, outputs: NDArray[np.float64], cuts: NDArray[np.float64] | float | None = None
    ) -> NDArray[np.int64]:
        """The decision of each row of outputs (rows, k): 1 where the event is predicted, or the class of the largest probability.

        ``cuts``: the rows' thresholds; the common one without.

        Raises
        ------
        Refused : the output is a number, about which nothing is decided.
        """
        if self.task is Task.regression:
            raise Refused(
                "The model gives a number; nothing is decided by it that could change.",
                todo="Open an audit whose outcome is an event or a class.",
            )
        if self.task is Task.binary:
            return (outputs[:, 0] >= (self.precise(np.array([self.cut])) if cuts is None else cuts)).astype(np.int64)
        return outputs.argmax(axis=1)

    def decision_named(self, decision: int) -> str:
        """What a decision is called: the audit's own words for an event, else the class."""
        if self.classes:
            return self.classes[decision]
        favoured = bool(decision) == (self.spec.favourable == "event")
        return self.spec.wording.favourable if favoured else self.spec.wording.unfavourable

    def output(self, frame: Frame) -> NDArray[np.float64]:
        """The context's output, f(x), for any rows, shape (frame.rows,)."""
        return self.asked(frame)

    @cached_property
    def steady(self) -> bool:
        """Checked once: the model says the same about the same rows.

        Raises
        ------
        Refused : it does not.
        """
        few = self.frame.take(slice(0, STEADY_ROWS))
        first, again = self.model.outputs(few), self.model.outputs(few)
        off = np.abs(first - again)
        reach = max(float(np.abs(first).max(initial=0)), 1e-12)
        if off.max(initial=0) > 1e-6 * reach:
            changed = int((off > 1e-6 * reach).any(axis=1).sum())
            raise Refused(
                f"The model gives other numbers when asked again: {changed} of {words.plural(few.rows, 'row')} changed, "
                f"by up to {off.max():.3g}.",
                where="the model",
                todo="Export it without randomness (dropout, sampling), so that an explanation is of one model.",
            )
        return True

    @cached_property
    def own_output(self) -> NDArray[np.float64]:
        """The context's output for its own rows, shape (n,)."""
        return self.output(self.frame) if self.scale == "log-odds" else self.outputs[:, self.column]

    @cached_property
    def structure(self) -> tuple[Structure | None, str]:
        """Trees and linear terms of the model, checked on rows of the table; or why there are none."""
        rows = np.arange(self.table.rows)
        if len(rows) > STRUCTURE_ROWS:
            rows = np.sort(np.random.default_rng(0).choice(rows, STRUCTURE_ROWS, replace=False))
        return self.model.structure(self.model.frame(self.table, rows))


def recorded_scores(table: Table, name: str) -> NDArray[np.float64]:
    """A score column, checked: every row a number within 0 and 1."""
    where = f"column “{name}”"
    values = table.numbers(name)
    absent = np.flatnonzero(~np.isfinite(values))
    if len(absent):
        raise Refused(
            f"The score is missing in {words.plural(len(absent), 'row')}, first in row {words.count(int(absent[0]) + 1)}.",
            where=where,
            todo="Fill the scores or leave those rows out.",
        )
    outside = np.flatnonzero((values < 0) | (values > 1))
    if len(outside):
        first = int(outside[0])
        raise Refused(
            f"The score is outside 0 to 1 in {words.plural(len(outside), 'row')}, first in row {words.count(first + 1)} "
            f"({values[first]:g}).",
            where=where,
            todo="Give the score as the probability of the event.",
        )
    return values


def recorded_decisions(
    table: Table, name: str, spec: Spec, classes: tuple[str, ...]
) -> tuple[list[str], NDArray[np.int64]]:
    """A decision column, checked: every row decided, by the event and one other value, or by known classes."""
    where = f"column “{name}”"
    found, codes = table.coded(name)
    absent = np.flatnonzero(codes < 0)
    if len(absent):
        raise Refused(
            f"The decision is missing in {words.plural(len(absent), 'row')}, first in row "
            f"{words.count(int(absent[0]) + 1)}.",
            where=where,
            todo="Fill the decisions or leave those rows out.",
        )
    levels = [str(level) for level in found]
    if classes:
        if unknown := [level for level in levels if level not in classes]:
            raise Refused(
                f"The decision “{unknown[0]}” is none of the classes {words.listing(list(classes))}.",
                where=where,
                todo="Write decisions with the outcome's own classes.",
            )
    elif len(levels) > 2 or (len(levels) == 2 and rows.match_level(spec.event, levels) is None):
        raise Refused(
            f"The decisions are {words.listing([f'“{level}”' for level in sorted(levels)[:5]])}; expected “{spec.event}” for the event "
            "and one other value.",
            where=where,
            todo="Write decisions with the outcome's own values.",
        )
    return levels, codes
