"""A table and a model, ready for every method: a data frame in, results with a reading, a table and a plot out."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping, Sequence
from copy import copy
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from pydantic import BaseModel, ValidationError

from zerotilt.cluster import executor_at
from zerotilt.core import typed_conditions
from zerotilt.core.contributions import stream
from zerotilt.core.contributions.explain import Contributions, MethodChoice, explain
from zerotilt.core.contributions.stream import Streamed
from zerotilt.core.evidence import within
from zerotilt.core.frozen import CountedFromOne, in_words
from zerotilt.core.meaning import Context, ModelReading, Spec, Wording
from zerotilt.core.method import Method
from zerotilt.core.methods import METHODS, method_named, result_of
from zerotilt.core.reading import Reading
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.tabulate import as_table
from zerotilt.core.weighed import Weighing
from zerotilt.core.work import Work
from zerotilt.report import figures
from zerotilt.report.explanations import drawing_of
from zerotilt.report.figures import Drawing
from zerotilt.study_inputs import Model, arrow_of, given_of, predictor_of, spec_of

SEED = 20


@dataclass(frozen=True)
class Plot:
    """A drawing that a notebook shows by itself."""

    drawing: Drawing

    @property
    def svg(self) -> str:
        return figures.svg(self.drawing)

    def _repr_svg_(self) -> str:
        return self.svg.replace(
            'aria-hidden="true"', f'width="{self.drawing.width}in" xmlns="http://www.w3.org/2000/svg"', 1
        )

    def save(self, path: str | Path) -> None:
        """Write an SVG or a PNG, by the ending of the name.

        Raises
        ------
        Refused : the name ends otherwise.
        """
        path = Path(path)
        if path.suffix == ".svg":
            path.write_text(self._repr_svg_(), encoding="utf-8")
        elif path.suffix == ".png":
            path.write_bytes(figures.png(self.drawing))
        else:
            raise Refused(f"path: “{path.name}” ends neither in .svg nor in .png.", todo="Choose one of these.")


@dataclass(frozen=True)
class Found:
    """One computed result. ``result`` is the frozen object that screens, storage and report use."""

    method: Method
    settings: BaseModel
    result: BaseModel
    spec: Spec
    context: Context
    weighing: Weighing | None = None

    @property
    def reading(self) -> str:
        """What the figure shows, in a sentence, with its numbers and row count."""
        said = self._said
        return f"{said.text} {said.detail}".strip()

    @property
    def points(self) -> tuple[str, ...]:
        """What else there is to say, a sentence each."""
        return self._said.points

    @property
    def _said(self) -> Reading:
        said = self.method.read(self.result, self.spec.wording, self.settings)
        return within(said, self.context, self.weighing, self.spec)

    def table(self) -> pa.Table:
        """The result's records; ``.to_pandas()`` where a pandas frame is wanted."""
        return as_table(self.result)

    def plot(self) -> Plot:
        """The result drawn."""
        return Plot(drawing_of(self.method, self.result, self.spec))

    def __repr__(self) -> str:
        return self.reading


@dataclass(frozen=True)
class Explained:
    """Contributions of many rows. ``values`` (rows, features), in the order of ``features``."""

    contributions: Contributions
    spec: Spec

    def __getattr__(self, name: str) -> Any:
        if name.startswith("__"):
            raise AttributeError(name)
        return getattr(self.contributions, name)

    def table(self) -> pa.Table:
        """One row for each row explained: a column a feature, the baseline, and the output they add up to with it."""
        found = self.contributions
        sums = {stream.BASELINE: np.full(len(found.output), found.baseline), stream.OUTPUT: found.output}
        return pa.table(dict(zip(found.features, found.values.T, strict=True)) | sums)

    def plot(self) -> Plot:
        """Mean absolute contribution of each feature, largest first."""
        from zerotilt.core import words
        from zerotilt.report.bars import bars

        size = np.abs(self.contributions.values).mean(axis=0)
        order = np.argsort(-size, kind="stable")[:20]
        names = [words.title(self.contributions.features[j]) for j in order]
        rows = words.count(len(self.contributions.values))
        return Plot(bars(names, size[order].tolist(), f"mean absolute contribution over {rows} rows"))


class Study:
    """A table and a model, ready for every method of the engine.

    Parameters
    ----------
    frame : a pandas, Polars or Arrow table (anything with Arrow's stream interface),
        or a mapping from column names to arrays.
    model : ONNX as a path or bytes; or a function from a frame (of the kind given)
        to probabilities of the event or values, shape (rows,), or to one column a
        class, shape (rows, classes). None where predictions were recorded in the frame: then what needs none that is new
        is read, and the rest is refused.
    score, decision : without a model, the column of recorded scores of the event (or values of a number), or of decisions.
    outcome : column that says what happened; None where nobody knows: then what needs it is refused, and the rest is
        read. event : its value whose probability
        the model gives, for an event.
    task : "binary", "several classes", "ordered classes" or "regression"; by the
        outcome when left out.
    features : the model's columns, for a function or a model of one wide input.
    outputs : the outcome's values that the model's probabilities are of, in their
        order, where its file does not tell.
    order : classes from lowest to highest, for ordered ones.
    levels : levels from lowest to highest of other ordered columns.
    groups : columns whose groups are compared. weights : column of row weights.
    output : "probability" or "log-odds". read_class : the class that is read.
    favourable : the value of the outcome whose prediction is the favourable decision, or "event" or "other"; several
        values for classes; "high" or "low" for a number, high when left out. Where the words of the outcome do not
        tell, what compares groups asks for it.
    unit : of a number. wording : names used in readings.
    inputs : files that some methods read besides table and model, by the names of their inputs, as paths or bytes.
    cluster : address of a Dask scheduler; this machine's cores when left out.
    progress : called as progress(done, total, what).

    Raises
    ------
    Refused : the table, the model or an argument cannot be used; the message says which.
    """

    def __init__(
        self,
        frame: Any,
        model: Model | None,
        outcome: str | None = None,
        event: str | None = None,
        *,
        score: str | None = None,
        decision: str | None = None,
        task: str | None = None,
        features: Sequence[str] = (),
        outputs: Sequence[str] = (),
        order: Sequence[str] = (),
        levels: dict[str, Sequence[str]] | None = None,
        groups: Sequence[str] = (),
        weights: str | None = None,
        output: str = "probability",
        read_class: str = "",
        favourable: str | Sequence[str] = "",
        threshold: float = 0.5,
        unit: str = "",
        wording: Wording | None = None,
        inputs: Mapping[str, str | Path | bytes] | None = None,
        seed: int = SEED,
        cluster: str | None = None,
        progress: Callable[[int, int, str], None] | None = None,
    ):
        self.table = Table(arrow_of(frame))
        self.seed = seed
        self.work = partial(Work, progress, executor_at(cluster))
        if (model is None) == (score is None and decision is None):
            raise Refused("model: give a model, or the column of recorded scores or decisions; one of them, not both.")
        for name in (*(one for one in (outcome, weights, score, decision) if one), *features, *groups):
            self.table.column(name)
        self.spec = spec_of(
            self.table, outcome, event, task, order, levels or {}, groups, weights, features, favourable, threshold,
            (wording or Wording()).model_copy(update={"unit": unit} if unit else {}),
            score, decision,
        )  # fmt: skip
        if outputs:
            data = (
                model
                if isinstance(model, bytes)
                else Path(model).read_bytes()
                if isinstance(model, str | Path)
                else b""
            )
            reading = ModelReading(model=hashlib.sha256(data).hexdigest(), outputs=tuple(outputs))
            self.spec = self.spec.model_copy(update={"model_readings": (reading,)})
        try:
            context = Context(rows="all", output=output, read_class=read_class)
        except ValidationError:
            raise Refused(f"output: “{output}” was given; there are “probability” and “log-odds”.") from None
        predictor = None if model is None else predictor_of(model, self.table, self.spec, features, frame)
        self.subject = Subject(
            self.spec, self.table, predictor, context, inputs=given_of(inputs or {}, self.table, self.spec)
        )

    def read(self, method: str, /, **settings: Any) -> Found:
        """Compute one method by its name; see ``methods()`` for those there are.

        Raises
        ------
        Refused : the method or a setting is unknown, or a setting is out of its range.
        """
        found = method_named(method)
        checked = _checked(found, settings)
        subject = self.subject
        if "recipe" in found.needs:
            from zerotilt.train.again import trainable  # loads what trains, which nothing else needs

            subject = trainable(subject)
        found.refuse(subject)
        if self.subject.predictor is not None:
            self.subject.predictions.require_steady()
        return Found(
            found,
            checked,
            result_of(found, subject, checked, self.seed, self.work()),
            self.spec,
            self.subject.context,
            subject.weighing if found.weighs else None,
        )

    def __getattr__(self, name: str) -> Callable[..., Found]:
        if name.startswith("_") or name not in METHODS:
            raise AttributeError(f"There is no method “{name}”; there are {', '.join(METHODS)}.")
        return partial(self.read, name)

    def __dir__(self) -> list[str]:
        return [*super().__dir__(), *METHODS]

    @staticmethod
    def methods() -> dict[str, str]:
        """Every method's name and title."""
        return {name: method.title for name, method in METHODS.items()}

    def on(self, *conditions: str, picked: Sequence[str] = (), name: str = "", segment: str = "") -> Study:
        """The same study of some rows only: those that meet every condition, or those picked by identifier.

        >>> study.on("channel=telephone", "parcel_weight>10").drivers()  # doctest: +SKIP

        Parameters
        ----------
        conditions : as "column=level|level", "column>number", "column<=number", or "column=" for missing cells.
        picked : identifiers of rows, or their numbers from 1. name : what readings call them; the conditions when empty.
        segment : instead, "NAME: conditions" joined by and, or, not and parentheses; or the name of a saved segment.

        Raises
        ------
        Refused : a condition cannot be read, or no row meets them.
        """
        held = typed_conditions.asked_for(conditions, picked, segment, self.table.names, self.spec.segments, name)
        other = copy(self)
        context = self.subject.context.model_copy(update={"segment": held})
        other.subject = replace(self.subject, context=context, alike=None)
        _ = other.subject.rows.numbers  # refuses rows that are not there
        return other

    def against(self, **models: Model) -> Study:
        """The same study with other versions on the same rows, by name, for what compares them: ``versions``, ``leaning``.

        >>> study.against(v2="v2.onnx").versions()  # doctest: +SKIP

        Raises
        ------
        Refused : a model cannot be read, or does not fit the frame.
        """
        other, context = copy(self), self.subject.context.model_copy(update={"model_named": "this version"})
        others = {
            name: Subject(
                self.spec, self.table, predictor_of(model, self.table, self.spec, (), None),
                context.model_copy(update={"model_named": name}), inputs=self.subject.inputs,
            )
            for name, model in models.items()
        }  # fmt: skip
        other.subject = replace(self.subject, context=context, others=others, alike=None)
        return other

    def explain(self, rows: Any = None, method: MethodChoice = "auto", **how: Any) -> Explained:
        """Contributions of many rows against this study's.

        Parameters
        ----------
        rows : places of rows in this study's frame, from 0, as an array or slice; or another frame with the model's
            columns, all of whose rows are explained; every row of this study when left out.
        how : as for ``core.contributions.explain``.

        Raises
        ------
        Refused : another frame lacks columns of the model; all of them are named.
        """
        if (
            rows is None
            or isinstance(rows, slice | np.ndarray)
            or (isinstance(rows, Sequence) and not isinstance(rows, str))
        ):
            chosen: Any = np.arange(self.table.rows)[slice(None) if rows is None else rows]
        else:
            other = Table(arrow_of(rows))
            stream.require_columns(self.subject.model.inputs, other.names, "frame")
            chosen = self.subject.model.frame(other, np.arange(other.rows))
        return Explained(explain(self.subject, chosen, self.seed, self.work(), method, **how), self.spec)

    def explain_file(self, source: str | Path, target: str | Path, method: MethodChoice = "auto") -> Streamed:
        """Contributions of every row of a Parquet file against this study's rows, written as Parquet in pieces."""
        with open(source, "rb") as read, open(target, "wb") as written:
            return stream.explain_stream(self.subject, read, written, self.seed, self.work(), method)


def _checked(method: Method, settings: dict[str, Any]) -> BaseModel:
    """Settings as a person gives them: rows are counted from 1, as the table shows them."""
    for name, field in method.settings.model_fields.items():
        given = settings.get(name)
        if isinstance(given, int) and any(isinstance(one, CountedFromOne) for one in field.metadata):
            if given < 1:
                raise Refused(f"{name}: {given} was given; rows are counted from 1.")
            settings = settings | {name: given - 1}
    try:
        return method.settings.model_validate(settings)
    except ValidationError as problem:
        first = problem.errors()[0]
        name = ".".join(str(part) for part in first["loc"])
        known = ", ".join(method.settings.model_fields) or "none"
        if first["type"] == "extra_forbidden":
            raise Refused(f"{name}: {method.name} has no such setting; it has {known}.") from None
        if first["type"] == "missing":
            raise Refused(f"{name}: {in_words(first)}.") from None
        raise Refused(f"{name}: {first['input']!r} was given; {in_words(first)}.") from None
