"""What a method is given: one decision system read in one context, in parts."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from zerotilt.core import levels, named_places, output, words
from zerotilt.core.context_rows import Rows
from zerotilt.core.decisions import Decisions
from zerotilt.core.editor import Editor
from zerotilt.core.meaning import Context, Kind, Role, Spec
from zerotilt.core.predictions import Predictions
from zerotilt.core.predictors import Asked, Frame, Predictor
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table
from zerotilt.core.tasks import TaskKind, kind_of
from zerotilt.core.weighed import Weighing


@dataclass(frozen=True)
class Subject:
    """The parts, and the one output that is read of them. Arrays have shape (n,), n the rows of the context."""

    spec: Spec
    table: Table
    predictor: Predictor | None = None
    context: Context = field(default_factory=Context)
    beside: Subject | None = None
    """The second model version or row set of the context, read in the same figures."""
    others: Mapping[str, Subject | Refused] = field(default_factory=dict, repr=False, compare=False)
    """All other versions of the audit on the same rows, by name, where a method reads them; of one that does not fit, why."""
    again: Callable[..., Any] | None = field(default=None, repr=False, compare=False)
    """Trains the version's recipe again without some columns: ``again(left_out, work)`` gives what each fold measures. None
    where the version was not trained here."""
    alike: Subject | None = field(default=None, repr=False, compare=False)
    """The same rows and model with another class read, whose parts are these."""
    given: Mapping[str, bytes | pa.Buffer] = field(default_factory=dict, repr=False, compare=False)
    """Tables of the same context that were computed before, as Parquet files, by the names of their methods."""
    inputs: Mapping[str, Any] = field(default_factory=dict, repr=False, compare=False)
    """What else the audit was given, opened, by the names of :data:`zerotilt.core.inputs.INPUTS`."""

    @cached_property
    def rows(self) -> Rows:
        """Which rows, what happened in them, and their weights."""
        return self.alike.rows if self.alike else Rows(self.spec, self.table, self.predictor, self.context.row_set)

    @cached_property
    def predictions(self) -> Predictions:
        """What is predicted for them."""
        return self.alike.predictions if self.alike else Predictions(self.rows, self.predictor)

    @cached_property
    def decisions(self) -> Decisions:
        """What is decided about them."""
        if self.alike is None:
            return Decisions(self.predictions, self.context.rule)
        return self.alike.decisions.called_by(self.spec)

    @cached_property
    def editor(self) -> Editor:
        """Single cases, edited."""
        return self.alike.editor if self.alike else Editor(self.predictions)

    @property
    def weighing(self) -> Weighing | None:
        """By what the rows are weighted; None where no column holds weights."""
        column = self.spec.only(Role.weight)
        return None if column is None else Weighing.by(column.name, self.rows.mass)

    @property
    def second(self) -> Subject:
        """What is read alongside; to be asked for where something is."""
        if self.beside is None:
            raise ValueError("nothing is read alongside")
        return self.beside

    @property
    def n(self) -> int:
        return self.rows.n

    @property
    def kind(self) -> TaskKind:
        """What kind of outcome it is."""
        return kind_of(self.spec.task)

    @property
    def model(self) -> Predictor:
        """The model; refused with the reason where there is none."""
        return self.predictions.model

    @property
    def frame(self) -> Frame:
        """The model's inputs for the rows."""
        return self.predictions.frame

    @property
    def classes(self) -> tuple[str, ...]:
        return self.rows.classes

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
        label = levels.match_level(wanted, list(self.classes))
        if label is None:
            raise Refused(
                f"read_class: “{wanted}” is none of the classes {words.listing(list(self.classes))}.",
                todo="Choose one of these classes.",
            )
        return self.classes.index(label)

    def with_given(self, tables: Mapping[str, bytes | pa.Buffer]) -> Subject:
        """The same subject with tables computed before; none of its parts is made again."""
        return replace(self, given={**self.given, **tables}, alike=self)

    def of_class(self, name: str) -> Subject:
        """The same rows and model with another class read; what does not depend on the class is not computed again."""
        return replace(self, context=self.context.model_copy(update={"read_class": name}), alike=self, given={})

    @cached_property
    def with_marks(self) -> Subject:
        """The same subject, whose own words stand between marks (:mod:`zerotilt.core.named_places`)."""
        marked = named_places.marked(self.spec)

        def other(one: Subject) -> Subject:
            return replace(one, spec=marked, alike=one)

        others = {name: other(one) if isinstance(one, Subject) else one for name, one in self.others.items()}
        return replace(other(self), beside=self.beside and other(self.beside), others=others)

    @property
    def read_class(self) -> str:
        """The class that is read; empty where there are none."""
        return self.classes[self.column] if self.classes else ""

    @property
    def scale(self) -> output.Scale:
        """The scale the output is read on."""
        return self.context.output if self.kind.scaled else "value"

    @property
    def what(self) -> str:
        """What the output is the probability of, or the value."""
        return self.kind.phrase(self.spec, self.read_class)

    @property
    def event_label(self) -> str:
        """The output in a few words, as it stands on an axis."""
        heads = {"probability": "chance that ", "log-odds": "log-odds that ", "value": ""}
        return f"{heads[self.scale]}{self.what}"

    @cached_property
    def asked(self) -> Asked:
        """The context's output, f(x), as something that can be asked about any rows, here or elsewhere."""
        if self.scale == "log-odds":
            self.predictions.find_structure()
        return Asked(self.model, self.scale, self.column)

    def output(self, frame: Frame) -> NDArray[np.float64]:
        """The context's output, f(x), for any rows, shape (frame.rows,)."""
        return self.asked(frame)

    @cached_property
    def own_output(self) -> NDArray[np.float64]:
        """The context's output for its own rows."""
        return self.output(self.frame) if self.scale == "log-odds" else self.predictions.outputs[:, self.column]

    @property
    def read_output(self) -> NDArray[np.float64] | None:
        """The same, also where it was recorded; None where only decisions were."""
        if self.predictor is not None:
            return self.own_output
        found = self.kind.recorded(self.predictions)
        return found if found is None or not self.kind.scaled else output.transform(found, self.scale)

    @property
    def threshold(self) -> float | None:
        """The one decision threshold on the scale that is read; None where there is none."""
        cut = self.decisions.common_cut
        return None if cut is None else self.on_scale(cut)

    def on_scale(self, probability: float) -> float:
        """A probability on the scale that is read."""
        return float(output.transform(np.array([probability]), self.scale)[0])

    @property
    def partable(self) -> tuple[str, ...]:
        """Columns the rows can be told apart by: all but identifiers, weights, splits, free text and bytes."""
        apart = (Role.identifier, Role.weight, Role.split)
        return tuple(c.name for c in self.spec.columns if c.role not in apart and c.kind not in (Kind.text, Kind.bytes))
