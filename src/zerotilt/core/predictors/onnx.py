"""Models as ONNX files, bound to the columns of a table and asked."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import output, words
from zerotilt.core.executor import side_by_side
from zerotilt.core.meaning import Spec
from zerotilt.core.predictors import dissection, meant, packed
from zerotilt.core.predictors.fed import Fed
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.predictors.matching import match
from zerotilt.core.predictors.modelfile import ModelCard, inspect, parsed
from zerotilt.core.predictors.protocol import Predictor, checked_numbers
from zerotilt.core.predictors.session import CHUNK_ROWS, MODEL
from zerotilt.core.predictors.standing import shaped, standing_of
from zerotilt.core.predictors.structure import Structure
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table
from zerotilt.core.tasks import kind_of
from zerotilt.core.trees.graph import Unread


class OnnxPredictor(Predictor):
    """An ONNX model bound to the columns of a table.

    Parameters
    ----------
    data : the model file. table, spec : what its inputs and classes are matched to.

    Raises
    ------
    Refused : the file, the match, or the classes cannot be used.
    """

    card: ModelCard

    def __init__(self, data: bytes, table: Table, spec: Spec):
        self.card = inspect(data)
        self.digest = hashlib.sha256(data).hexdigest()
        self.task, self._kind = spec.task, kind_of(spec.task)
        reading = spec.reading_of(self.digest)
        matches, notes = match(self.card, table, spec, reading)
        self._fed = Fed(data, self.card, matches, "probabilities" if self._kind.scaled else "number")
        self.inputs = self._fed.columns
        self._structure: tuple[Structure | None, str] | None = None
        standing = standing_of(self._fed, self.digest, table, spec, reading)
        self.classes, self._places = standing.classes, list(standing.places)
        self.notes = notes + standing.notes

    def __getstate__(self) -> dict:
        """What was looked up for frames of this process stays behind."""
        return {name: value for name, value in self.__dict__.items() if name != "_held"}

    def frame(self, table: Table, rows: NDArray[np.int64]) -> Frame:
        return self._fed.frame(table, rows)

    def outputs(self, frame: Frame) -> NDArray[np.float64]:
        """Probabilities or values, shape (rows, k).

        Raises
        ------
        Refused : the model fails, or gives other than one number a row and class.
        """
        out = np.empty((frame.rows, self.width))
        parts = [slice(start, min(start + CHUNK_ROWS, frame.rows)) for start in range(0, frame.rows, CHUNK_ROWS)]

        def run(part: slice) -> None:
            taken = frame.take(part)
            out[part] = checked_numbers(self._meant(self._fed.answer(taken), taken.rows), self.task, MODEL)

        side_by_side(run, parts)
        return out

    def structure(self, frame: Frame) -> tuple[Structure | None, str]:
        if self._structure is None:
            try:
                self._structure = (self._read(frame), "")
            except Unread as problem:
                self._structure = (None, str(problem))
        return self._structure

    def remembered(self) -> bytes | None:
        """The structure, or why there is none, to be found again by :meth:`recall`; None where it was not looked for."""
        return packed.packed(*self._structure, self._fed.output) if self._structure else None

    def recall(self, data: bytes) -> None:
        """Take up what :meth:`remembered` gave for the same model, table and meaning.

        Raises
        ------
        Unfit : the bytes are damaged, or of another version.
        """
        found, why, output = packed.unpacked(data, self._fed.feed)
        self._structure, self._fed.output = (found, why), output

    @property
    def known_structure(self) -> Structure | None:
        return self._structure[0] if self._structure else None

    def _read(self, frame: Frame) -> Structure:
        self.outputs(frame.take(slice(0, 1)))  # finds out which of the graph's outputs is meant
        links: tuple[output.Link, ...] = ("identity", "log-odds") if self._kind.scaled else ("identity", "logarithm")
        return dissection.read(
            parsed(self._fed.data),
            str(self._fed.output),
            self._fed.feed,
            lambda result: self._meant(result, len(result)),
            self.outputs,
            links,
            frame,
            self._fed.places(),
        )

    def _meant(self, result: NDArray, rows: int) -> NDArray[np.float64]:
        """The columns of the graph's result that are meant, in the order of the audit's classes, shape (rows, k)."""
        values = shaped(result, rows, self._kind, self._kind.widths(len(self._places)))
        if not self._kind.scaled:
            return values
        if self._kind.cut and values.shape[1] == 1:
            # in the result's own precision, in which one half and one less one half are the same
            return np.asarray(1 - np.asarray(result).reshape(-1, 1), np.float64) if self._places[0] == 0 else values
        return values[:, self._places]

    def order_in_doubt(self, table: Table, spec: Spec, rows: NDArray[np.int64]) -> Refused | None:
        """The question whether columns of one tensor are meant in another order, where that would do far better."""
        settled = spec.reading_of(self.digest).inputs or spec.model_inputs or self.card.columns
        if not self._fed.wide or settled or len(self.inputs) < 2 or not spec.knows_outcome:
            return None
        outcome = self._kind.outcome(spec, table)[0]
        if len(rows) > meant.ASKED_ROWS // 2:
            rows = rows[np.linspace(0, len(rows) - 1, meant.ASKED_ROWS // 2).astype(int)]
        frame, happened = self.frame(table, rows), outcome[rows]
        if self._kind.classed:
            happened = np.array([self.classes.index(level) for level in self._kind.classes(spec, table)])[happened]
        named = (sorted(self.inputs), sorted(self.inputs, key=str.lower), self.inputs[::-1])

        def lost(order: Sequence[str]) -> NDArray[np.float64]:
            # the tensor's first place gets what the order names first
            got = self.outputs(Frame({place: frame[name] for place, name in zip(self.inputs, order, strict=True)}))
            return self._kind.misfit(happened, got)

        found = meant.better_order(self.inputs, named, lost)
        return None if found is None else meant.ask_order(self.digest, self.inputs, *found, self._kind.fit_loss)

    def strange_levels(self, table: Table, rows: NDArray[np.int64]) -> tuple[str, ...]:
        """Of each text column, in words, the levels that the model's own encoder does not know; and those that it knows
        and the whole table does not hold."""
        found = []
        for name, (known, seen, levels, codes) in self._fed.encoders(table).items():
            counts = np.bincount(codes[rows][codes[rows] >= 0], minlength=len(levels))
            strange = [one for one in meant.unknown_levels(known, seen, counts) if one[1]]
            if strange:
                listed = [
                    f"“{level}” ({words.plural(count, 'row')}{f'; it knows “{near}”' if near else ''})"
                    for level, count, near in strange[:3]
                ]
                more = f" and {len(strange) - 3} more" if len(strange) > 3 else ""
                total = sum(count for _, count, _ in strange)
                found.append(
                    f"{words.opening(words.title(name))}: the model does not know {words.plural(len(strange), 'level')} in "
                    f"{words.plural(total, 'row')}: {words.listing(listed)}{more}."
                )
            held = set(seen.tolist())
            if unheld := [one for one in dict.fromkeys(known) if one and one not in held]:
                listed = [f"“{one}”" for one in unheld[:3]]
                listed += [f"{len(unheld) - 3} more"] if len(unheld) > 3 else []
                found.append(
                    f"{words.opening(words.title(name))}: no row of the table holds {words.listing(listed)}, which the model "
                    "knows."
                )
        return tuple(found)
