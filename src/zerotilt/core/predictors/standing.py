"""Which of a model's columns is of which class of the audit; asked, where the file leaves it open."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import levels as level_names
from zerotilt.core import words
from zerotilt.core.levels import match_level
from zerotilt.core.meaning import ModelReading, Spec
from zerotilt.core.predictors import meant
from zerotilt.core.predictors.fed import Fed
from zerotilt.core.predictors.protocol import checked_numbers
from zerotilt.core.predictors.session import CHUNK_ROWS, MODEL
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table
from zerotilt.core.tasks import TaskKind, kind_of


@dataclass(frozen=True)
class Standing:
    """The audit's classes where there are more than two, which of the model's columns they are, and what was assumed."""

    classes: tuple[str, ...]
    places: tuple[int, ...]
    notes: tuple[str, ...] = ()


def shaped(result: Any, rows: int, kind: TaskKind, wanted: tuple[int, ...]) -> NDArray[np.float64]:
    """What the graph gives as numbers of shape (rows, columns).

    Raises
    ------
    Refused : it has another shape than predictions of this kind have.
    """
    values = np.asarray(result, dtype=np.float64)
    if values.ndim == 1 and len(values) == rows:
        values = values[:, None]
    if values.ndim == 2 and len(values) == rows and values.shape[1] in wanted:
        return values
    if kind.cut and values.ndim == 2 and len(values) == rows:
        raise Refused(
            f"The model gives {values.shape[1]} classes; this audit is of two.",
            where=MODEL,
            todo="Upload a model of two classes.",
        )
    shapes = " or ".join(f"({rows}, {width})" for width in reversed(wanted))
    raise Refused(
        f"The model gave an output of shape {tuple(np.shape(result))} for {words.plural(rows, 'row')}; expected {shapes}.",
        where=MODEL,
        todo="Check whether the audit is of an event, of several classes or of a number, and that the model "
        "gives one probability a class.",
    )


def standing_of(fed: Fed, digest: str, table: Table, spec: Spec, reading: ModelReading) -> Standing:
    """How a model's columns stand for the audit's classes.

    Raises
    ------
    Refused : it stays open which column is of which class; the ways of reading it are given with how each would do.
    """
    kind = kind_of(spec.task)
    if not kind.scaled:
        return Standing((), (0,))
    levels = level_names.predicted_levels(spec, table)
    if reading.outputs:
        return _as_chosen(reading.outputs, levels, spec)
    probabilities, said, rows = _first_look(fed, table, kind, len(levels))
    asked = _Question(digest, table, spec, levels, probabilities, rows)
    width = probabilities.shape[1]
    known = fed.card.classes
    if said is not None:
        known = meant.learnt_labels(probabilities, said, fed.card.classes, levels) or (
            known if len(known) == width and not _contradicted(probabilities, said, known) else ()
        )
    if kind.cut:
        if width > 2 or len(known) > 2:
            many = f"knows {len(known)} classes ({', '.join(known[:6])})" if known else f"gives {width} classes"
            raise Refused(
                f"The model {many}; this audit is of two.", where=MODEL, todo="Upload a model of two classes."
            )
        return _event(known, asked)
    if not known:
        raise asked.put()
    found = {match_level(level, list(known)): level for level in levels}
    if None in found:
        if len(known) == len(levels) and not any(match_level(level, list(known)) for level in levels):
            raise asked.put()  # numbers stand for the classes
        raise Refused(
            f"The outcome's class “{found[None]}” is none of the model's ({words.listing(list(known))}).",
            where=MODEL,
            todo="Choose the model that was trained on these classes.",
        )
    # classes the table does not show keep the model's own name, after the others
    order = [label for label in (*found, *(label for label in known if label not in found)) if label is not None]
    return Standing(tuple(found.get(label, label) for label in order), tuple(known.index(label) for label in order))


def _first_look(
    fed: Fed, table: Table, kind: TaskKind, classes: int
) -> tuple[NDArray[np.float64], NDArray | None, NDArray[np.int64]]:
    """Probabilities as the file orders them, its own labels where it gives them, and the rows asked."""
    rows = np.unique(np.linspace(0, table.rows - 1, min(table.rows, meant.ASKED_ROWS)).astype(np.int64))
    parts, labels = [], []
    for start in range(0, len(rows), CHUNK_ROWS):
        frame = fed.frame(table, rows[start : start + CHUNK_ROWS])
        results, place = fed.answers(frame)
        values = np.asarray(results[place], np.float64)
        if values.ndim not in (1, 2) or len(values) != frame.rows:
            shaped(results[place], frame.rows, kind, kind.widths(classes))  # says what is wrong with its shape
        parts.append(checked_numbers(values.reshape(len(values), -1), kind.task, MODEL))
        own = [r for r in results if isinstance(r, np.ndarray) and r.dtype.kind in "iuOUSb" and r.size == frame.rows]
        labels.append(own[0].ravel() if own else None)
    probabilities = np.concatenate(parts)
    return probabilities, None if labels[0] is None else np.concatenate(labels), rows


def _as_chosen(outputs: tuple[str, ...], levels: tuple[str, ...], spec: Spec) -> Standing:
    """As a person said; where outcomes are not known, any name is taken."""
    if spec.knows_outcome and (strange := [name for name in outputs if name not in levels]):
        raise Refused(
            f"The reading of the model's outputs names “{strange[0]}”, which is none of the outcome's values "
            f"({words.listing(list(levels))}).",
            where=MODEL,
            todo="Choose again what its outputs are of.",
        )
    notes = (f"The model's outputs were said to be of {words.listing(list(outputs))}, in this order.",)
    if kind_of(spec.task).cut:
        if len(outputs) == 1:
            return Standing((), (1 if outputs[0] == spec.event else 0,), notes)
        return Standing((), (outputs.index(spec.event),), notes)
    if not spec.knows_outcome:
        return Standing(outputs, tuple(range(len(outputs))), notes)
    return Standing(tuple(levels), tuple(outputs.index(level) for level in levels), notes)


@dataclass(frozen=True)
class _Question:
    """Everything that is needed to ask a person which column is of which class."""

    digest: str
    table: Table
    spec: Spec
    levels: tuple[str, ...]
    probabilities: NDArray[np.float64]
    rows: NDArray[np.int64]

    def put(self) -> Refused:
        spec, probabilities = self.spec, self.probabilities
        outcome = None
        if spec.knows_outcome:
            outcome, told = kind_of(spec.task).outcome(spec, self.table)
            kept = told[self.rows]
            outcome, probabilities = outcome[self.rows][kept], probabilities[kept]
        if kind_of(spec.task).cut:
            other = next((level for level in self.levels if level != spec.event), "not so")
            single = probabilities.shape[1] == 1
            return meant.ask_event(self.digest, probabilities[:, -1], outcome, spec.event, other, single)
        if outcome is None:
            return Refused(
                "The model file names no classes, and the table has no outcome that could tell them.",
                where=MODEL,
                todo="Export the model with its class labels, or say what its outputs are of.",
            )
        if probabilities.shape[1] != len(self.levels):
            return Refused(
                f"The model gives {probabilities.shape[1]} probabilities a row and names no classes; the outcome has "
                f"{len(self.levels)}.",
                where=MODEL,
                todo="Upload a model of the outcome's classes.",
            )
        return meant.ask_classes(self.digest, probabilities, outcome, self.levels)


def _event(known: tuple[str, ...], asked: _Question) -> Standing:
    """Which of the two probability columns is the event's, and what was assumed for it."""
    spec = asked.spec
    if spec.model_event_class is not None:
        label = match_level(spec.model_event_class, list(known))
        if label is None:
            raise Refused(
                f"The model has no class “{spec.model_event_class}”; it knows "
                f"{words.listing(list(known)) or 'none by name'}.",
                where=MODEL,
                todo="Choose one of its classes as the event.",
            )
        return Standing((), (known.index(label),))
    place, note = meant.event_of(known, spec.event, asked.levels) if len(known) == 2 else (None, "")
    if place is None:
        if len(known) == 2 and not set(known) <= {"0", "1", "True", "False"}:
            raise Refused(
                f"The event “{spec.event}” is none of the model's classes ({words.listing(list(known))}).",
                where=MODEL,
                todo="Say which of the model's classes means the event.",
            )
        raise asked.put()
    return Standing((), (place,), (note,) if note else ())


def _contradicted(probabilities: NDArray, said: NDArray, known: tuple[str, ...]) -> bool:
    """Whether the labels given to rows are often not those written for the column of the largest probability."""
    if probabilities.shape[1] != len(known):
        return False
    took = np.array(known)[probabilities.argmax(axis=1)]
    given = np.array([words.value_text(one.item() if hasattr(one, "item") else one) for one in said.ravel()])
    alike = set(given) <= set(known)
    return bool(alike and (took != given).mean() > 1 - meant.AGREED)
