"""What every predictor offers to the methods."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import TYPE_CHECKING, Any
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import output, words
from zerotilt.core.meaning import Spec, Task
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table
from zerotilt.core.tasks import kind_of

if TYPE_CHECKING:
    from zerotilt.core.predictors.modelfile import ModelCard
    from zerotilt.core.predictors.structure import Structure


class Unfit(ValueError):
    """Bytes that hold no structure of this model, in this version."""


class Predictor(ABC):
    """A model that can be asked about any rows.

    ``classes`` are named where there are more than two. The outputs have k
    columns: one for an event (its probability) and for a number, else one a class.
    """

    inputs: tuple[str, ...]
    digest: str | None = None
    """SHA-256 of its file; None where there is none."""
    card: ModelCard | None = None
    """What its file says of itself; None where there is none."""
    notes: tuple[str, ...] = ()
    task: Task = Task.binary
    classes: tuple[str, ...] = ()
    divide: Any = None
    """How a raw row is divided into what is explained (:data:`zerotilt.core.players.Divide`); into columns when None."""

    @property
    def width(self) -> int:
        """k, how many columns the outputs have."""
        return max(len(self.classes), 1)

    @abstractmethod
    def frame(self, table: Table, rows: NDArray[np.int64]) -> Frame:
        """The model's inputs for some rows of a table."""

    @abstractmethod
    def outputs(self, frame: Frame) -> NDArray[np.float64]:
        """Probabilities, each within 0 and 1, or values; shape (frame.rows, k)."""

    def structure(self, frame: Frame) -> tuple[Structure | None, str]:
        """Trees and linear terms the model is a sum of, read once and checked on ``frame``; or why there are none."""
        return None, "it is a function, not a model file"

    @property
    def known_structure(self) -> Structure | None:
        """The structure where it has been read and found."""
        return None

    def structure_for(self, *frames: Frame) -> Structure | None:
        """The structure, where it has been read and gives the model's own outputs in every row of these frames."""
        found = self.known_structure
        if found is None:
            return None
        held: WeakKeyDictionary[Frame, bool] = vars(self).setdefault("_held", WeakKeyDictionary())
        for frame in frames:
            if frame not in held:
                held[frame] = bool(found.holds_for(frame, self.outputs(frame)).all())
        return found if all(held[frame] for frame in frames) else None

    def remembered(self) -> bytes | None:
        """What was found out about its structure, to be taken up again by :meth:`recall`; None where there is nothing."""
        return None

    def recall(self, data: bytes) -> None:
        """Take up what :meth:`remembered` gave for the same model, table and meaning.

        Raises
        ------
        Unfit : the bytes are damaged, or of another version.
        """
        raise Unfit("nothing is remembered of it")

    def order_in_doubt(self, table: Table, spec: Spec, rows: NDArray[np.int64]) -> Refused | None:
        """The question whether its columns are meant in another order, where that would do far better; else None."""
        return None

    def strange_levels(self, table: Table, rows: NDArray[np.int64]) -> tuple[str, ...]:
        """In words, levels of these rows that the model does not know; none where that cannot be told."""
        return ()

    def score(self, frame: Frame) -> NDArray[np.float64]:
        """Probability of the event, shape (frame.rows,), each within 0 and 1."""
        return self.outputs(frame)[:, 0]

    def on_scale(self, frame: Frame, scale: output.Scale, column: int = 0) -> NDArray[np.float64]:
        """One output on a scale, shape (frame.rows,).

        Log-odds of a model made of sums are the sums themselves: a probability in
        single precision has lost them near 0 and 1.
        """
        if scale != "log-odds":
            return self.outputs(frame)[:, column]
        found = self.structure(frame)[0]
        if found is not None and found.link == "log-odds":
            return found.sums(frame)[:, column]
        return output.log_odds(self.outputs(frame))[:, column]


def checked_numbers(values: NDArray[np.float64], task: Task, where: str) -> NDArray[np.float64]:
    """Outputs as they may be used.

    Raises
    ------
    Refused : a row without a number, or a probability outside 0 to 1.
    """
    bad = ~np.isfinite(values).all(axis=1)
    if bad.any():
        raise Refused(
            f"The model gives no number in {words.plural(int(bad.sum()), 'row')}, first in row "
            f"{words.count(int(bad.argmax()) + 1)} of those asked.",
            where=where,
            todo="Check how it treats missing values.",
        )
    if not kind_of(task).scaled or not len(values):
        return values
    if values.min() < -1e-5 or values.max() > 1 + 1e-5:
        raise Refused(
            f"The model's output reaches from {values.min():.4g} to {values.max():.4g}; a probability lies within 0 and 1.",
            where=where,
            todo="Export the model with probabilities, not raw scores.",
        )
    return np.clip(values, 0.0, 1.0)
