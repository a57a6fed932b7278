"""A model file's graph, fed with the columns of a table and answering as the file has it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.predictors import dissection
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.predictors.lineage import ROWS
from zerotilt.core.predictors.matching import Match
from zerotilt.core.predictors.modelfile import ModelCard, parsed, without_maps
from zerotilt.core.predictors.session import MODEL, session_of
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table

MOST_ENCODED = 5_000
_DTYPES = {
    "tensor(float)": np.float32,
    "tensor(double)": np.float64,
    "tensor(float16)": np.float16,
    "tensor(int64)": np.int64,
    "tensor(int32)": np.int32,
    "tensor(bool)": np.bool_,
    "tensor(string)": object,
}


class Fed:
    """What goes in and what comes out, before anybody says what it means.

    Parameters
    ----------
    data : the model file. matches : which column feeds which input.
    missing : what is refused where the graph gives no number at all, in words.
    """

    def __init__(self, data: bytes, card: ModelCard, matches: Sequence[Match], missing: str):
        self.card = card
        self.data = without_maps(data)
        self.columns = tuple(pair.column for pair in matches)
        self._matches, self._missing = tuple(matches), missing
        self._tensors = {pair.column: pair.tensor for pair in matches}
        self.output: str | None = None
        """Which of the graph's outputs is meant; found out when it is first asked."""
        self._start()

    def _start(self) -> None:
        self._session = session_of(self.data)
        self._ranks = {entry.name: len(entry.shape or [0, 0]) for entry in self._session.get_inputs()}

    def __getstate__(self) -> dict:
        """Sessions stay behind; the copy opens its own from the same bytes."""
        return {name: value for name, value in self.__dict__.items() if name not in ("_session", "_ranks")}

    def __setstate__(self, state: dict) -> None:
        self.__dict__.update(state)
        self._start()

    @property
    def wide(self) -> bool:
        """Whether all columns go in as one tensor."""
        return len(self.card.inputs) == 1 and self.card.inputs[0].width != 1

    def frame(self, table: Table, rows: NDArray[np.int64]) -> Frame:
        """The columns as the model takes them."""
        return Frame(
            {
                name: np.array(["" if value is None else value for value in table.texts(name)[rows]], dtype=object)
                if tensor == "tensor(string)"
                else table.numbers(name)[rows]
                for name, tensor in self._tensors.items()
            }
        )

    def feed(self, frame: Frame) -> dict[str, NDArray]:
        """A frame as the session takes it."""
        entries = self.card.inputs
        if self.wide:
            wide = np.empty((frame.rows, len(self.columns)), _DTYPES[entries[0].tensor])
            for j, name in enumerate(self.columns):
                wide[:, j] = frame[name]
            return {entries[0].name: wide}
        found = {}
        for pair in self._matches:
            values = frame[pair.column].astype(_DTYPES[pair.tensor], copy=False)
            found[pair.input] = values if self._ranks[pair.input] == 1 else values.reshape(-1, 1)
        return found

    def places(self) -> dict[str, NDArray[np.intp]]:
        """Which columns each input of the graph holds, by their number, for the rows a lineage follows."""
        if self.wide:
            return {self.card.inputs[0].name: np.tile(np.arange(len(self.columns)), (ROWS, 1))}
        return {
            pair.input: np.full((ROWS,) if self._ranks[pair.input] == 1 else (ROWS, 1), self.columns.index(pair.column))
            for pair in self._matches
        }

    def answers(self, frame: Frame) -> tuple[list, int]:
        """Everything the graph gives, and the place of the probabilities or values among it.

        Raises
        ------
        Refused : the model fails, or gives no number.
        """
        results = self._run(frame, None)
        place = self._choose(results)
        self.output = self._session.get_outputs()[place].name
        return results, place

    def answer(self, frame: Frame) -> NDArray:
        """The probabilities or values as the graph gives them."""
        known = self.output  # another thread may find it out meanwhile
        if known is None:
            results, place = self.answers(frame)
            return results[place]
        return self._run(frame, [known])[0]

    def _run(self, frame: Frame, outputs: list[str] | None) -> list:
        try:
            return list(self._session.run(outputs, self.feed(frame)))
        except Exception as problem:
            raise Refused(
                f"The model failed while scoring: {str(problem).splitlines()[0]}",
                where=MODEL,
                todo="Check that it was exported for these columns.",
            ) from None

    def _choose(self, results: list) -> int:
        """The first output that holds floats."""
        for place, result in enumerate(results):
            if isinstance(result, np.ndarray) and result.dtype.kind == "f":
                return place
        shapes = ", ".join(f"“{output.name}” {output.type}" for output in self._session.get_outputs())
        raise Refused(
            f"The model gives no {self._missing}; its outputs are {shapes}.",
            where=MODEL,
            todo="Export the model with its probabilities, or its value, as an output.",
        )

    def encoders(self, table: Table) -> dict[str, tuple[list[str], NDArray, NDArray, NDArray]]:
        """Of each text column that an encoder reads: what it knows, and each level of the table as it reaches it."""
        found: dict[str, tuple[list[str], NDArray, NDArray, NDArray]] = {}
        texts = [name for name, tensor in self._tensors.items() if tensor == "tensor(string)" and table.is_text(name)]
        for node, known, name in dissection.encoders(parsed(self.data), self.places(), self.columns):
            if name not in texts or name in found:
                continue
            levels, codes = table.coded(name)
            if not len(levels) or len(levels) > MOST_ENCODED:
                continue
            first = np.array([int(np.argmax(codes == i)) for i in range(len(levels))])
            seen = dissection.reaching(parsed(self.data), node, self.feed(self.frame(table, first)))
            if seen is not None and seen.size == len(levels):
                found[name] = (known, seen.ravel(), levels, codes)
        return found
