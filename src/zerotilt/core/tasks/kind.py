"""What every kind of outcome answers; there is one object of each, and nobody else asks which kind it is."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray
from scipy.special import entr

from zerotilt.core import words
from zerotilt.core.meaning import Spec, Task
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]


class Predicted(Protocol):
    """What is said about the rows of a context; all arrays of shape (n,)."""

    @property
    def classes(self) -> tuple[str, ...]: ...
    @property
    def scores(self) -> Floats | None: ...
    @property
    def values(self) -> Floats: ...
    @property
    def outputs(self) -> Floats: ...
    @property
    def recorded(self) -> bool: ...


class Decided(Protocol):
    """What follows from it; shapes (n,)."""

    @property
    def taken(self) -> NDArray[np.int64]: ...
    @property
    def favoured(self) -> Bools: ...
    @property
    def deserved(self) -> Bools: ...


def entropy(chances: Floats) -> Floats:
    """−Σ p ln p of each row, shape (n,), of chances of shape (n, k): the mean log loss where they are right."""
    return entr(chances).sum(axis=1)


class Wrong(NamedTuple):
    """How wrong each row is, in one way: the larger, the worse; and which rows that can be read of. Shapes (n,)."""

    values: Floats
    among: Bools


@dataclass(frozen=True)
class View:
    """One way of telling rows in two. ``y``: it happened, ``d``: it was decided; shapes (n,).

    ``of_class``: the class that is told from the rest, empty for all rows;
    ``whole``: whether it tells right from wrong, and no event.
    """

    y: Bools
    d: Bools
    favoured: Bools
    of_class: str = ""
    whole: bool = False
    scores: Floats | None = None
    """Of the event, or of the class; None where none were recorded."""


class Quantity(NamedTuple):
    """Something that has a distribution: its name, its values (n,), and where the drawing begins and ends."""

    name: str
    values: Floats
    reach: tuple[float, float]
    bins: int | None = None
    """Where its values are few and each is a bin of its own."""


class TaskKind(ABC):
    """One kind of outcome. Arrays are of the rows of a context, shape (n,), unless said."""

    task: ClassVar[Task]
    classed: ClassVar[bool] = False
    """Whether the outcome is one of several classes."""
    decides: ClassVar[bool] = True
    """Whether something is decided by the output."""
    cut: ClassVar[bool] = False
    """Whether it is decided by a threshold."""
    scaled: ClassVar[bool] = True
    """Whether the output is a probability, which can be read as log-odds."""
    losses: ClassVar[tuple[str, ...]]
    """Losses that are defined, the usual one first."""
    headline: ClassVar[str] = "selection_rate"
    """The metric in which groups are compared first."""
    told: ClassVar[tuple[str, ...]] = ()
    """Metrics that a whole set of rows is told in; every one that is defined when empty."""
    fit_loss: ClassVar[str] = "log loss"
    """In which one way of reading a model is compared with another."""
    ways: ClassVar[tuple[str, ...]] = ("error_rate", "missed_favourable")
    """In which a prediction or a decision can be wrong, the usual one first."""
    raises: ClassVar[str] = "chance that "
    """What a contribution moves, before the words for the outcome."""

    named: ClassVar[str]
    """What it is, with its article: "an event", "a number"."""

    @property
    def name(self) -> str:
        return self.task.value

    # ── outcome ──

    @abstractmethod
    def outcome(self, spec: Spec, table: Table) -> tuple[NDArray, Bools]:
        """What really happened and whether it is known; shapes (table.rows,)."""

    def classes(self, spec: Spec, table: Table) -> tuple[str, ...]:
        """The outcome's classes where there are more than two."""
        return ()

    def phrase(self, spec: Spec, read: str) -> str:
        """What the output is the probability of, or the value; ``read``: the class that is read."""
        return spec.event_phrase

    # ── output ──

    @abstractmethod
    def widths(self, classes: int) -> tuple[int, ...]:
        """How many columns a model may give."""

    def likelihood(self, outcome: NDArray, outputs: Floats) -> Floats:
        """The probability given to what happened."""
        raise Refused(f"A prediction of {self.name} gives no probabilities.")

    @abstractmethod
    def misfit(self, outcome: NDArray, outputs: Floats) -> Floats:
        """:attr:`fit_loss` of each row."""

    def recorded(self, predicted: Predicted) -> Floats | None:
        """The output as it was recorded; None where only decisions were."""
        return None

    # ── error ──

    def missed(self, outcome: NDArray, predicted: Predicted) -> Floats | None:
        """How far each row's prediction lies from what happened: the probability withheld from it, or the prediction less
        the number; None where no probabilities were recorded."""
        return None if predicted.recorded else 1 - self.likelihood(outcome, predicted.outputs)

    @abstractmethod
    def lost(self, loss: str, outcome: NDArray, outputs: Floats, threshold: Floats | float, weights: Floats) -> Floats:
        """A value for each row whose weighted mean is the loss.

        Parameters
        ----------
        loss : one of :attr:`losses`. outputs : shape (n, k).
        """

    def wrong(self, way: str, outcome: NDArray, predicted: Predicted, decided: Decided) -> Wrong:
        """How wrong every row is in one way of :attr:`ways`; how far too high counts below nothing where it is too low.

        Raises
        ------
        Refused : it cannot be wrong in this way, or what it takes was not recorded.
        """
        every = np.ones(len(outcome), bool)
        if way == "error_rate":
            return Wrong((decided.taken != outcome.astype(np.int64)).astype(float), every)
        if way == "missed_favourable":
            return Wrong((~decided.favoured).astype(float), decided.deserved)
        off = self.off(outcome, predicted, decided)
        if way in ("too_high", "too_low"):
            return Wrong(off if way == "too_high" else -off, every)
        return Wrong(np.abs(off), every)

    def foretold(self, way: str, predicted: Predicted, decided: Decided) -> Floats | None:
        """How wrong every row is on average where what the model says of its chances is so, shape (n,): of an error rate
        the chance withheld from what was decided, of the log loss the entropy. None where no chances are told.
        """
        return None

    def off(self, outcome: NDArray, predicted: Predicted, decided: Decided) -> Floats:
        """What is predicted less what happened, shape (n,).

        Raises
        ------
        Refused : neither is a number.
        """
        raise Refused(f"A prediction of {self.named} is not too high or too low.", todo="Choose another error.")

    # ── examples ──

    def telling(self, outcome: NDArray | None, outputs: Floats) -> list[tuple[int, str]]:
        """Rows worth showing, by their places, each with the reason; of what is decided by no threshold.

        Parameters
        ----------
        outcome : shape (n,); None where nobody knows it. outputs : shape (n, k).
        """
        return []

    # ── decision ──

    def decide(self, outputs: Floats, cuts: Floats | float) -> NDArray[np.int64]:
        """The decision of each row of outputs (n, k); ``cuts``: thresholds in the outputs' own precision.

        Raises
        ------
        Refused : nothing is decided about it.
        """
        return outputs.argmax(axis=1)

    def decision_named(self, spec: Spec, classes: Sequence[str], decision: int) -> str:
        """What a decision is called."""
        return classes[decision]

    def needs_event(self) -> None:
        """Refuse what is defined for an event and its absence alone."""
        raise Refused(
            f"This compares an event with its absence; the audit is of {self.named}.",
            todo="Open an audit whose outcome is an event.",
        )

    @abstractmethod
    def favourable(self, said: Sequence[str], spec: Spec, table: Table) -> dict[str, Any]:
        """What a person says is favourable, as the fields of the problem that hold it.

        Raises
        ------
        Refused : it is nothing that can be favourable here.
        """

    def unfavoured(self, spec: Spec) -> Refused | None:
        """That nobody said which decision is the favourable one, where one has to be; None where it is known."""
        if not self.decides or spec.favourable_said:
            return None
        return Refused(
            "Which decision is the favourable one for those concerned was not said, and the words of the outcome do not tell.",
            where="favourable",
            todo=self.favour_asked(spec),
        )

    def favour_told(self, spec: Spec) -> str:
        """What is taken to be the favourable decision, as a sentence; to be corrected by whoever knows better."""
        named = spec.favourable_classes or ((spec.event,) if spec.event else ())
        told = words.listing([f"“{one}”" for one in named]) if named else "the last class"
        return f"To be given {told} is taken as favourable to those concerned."

    def favour_asked(self, spec: Spec) -> str:
        """What to say for that."""
        return "Name the favourable classes, in Intake or by “favourable”."

    # ── measures ──

    @abstractmethod
    def views(self, outcome: NDArray | None, predicted: Predicted, decided: Decided) -> list[View]:
        """The ways in which rows are told in two for rates; without an outcome only what was decided can be read."""

    @abstractmethod
    def numbers(self, outcome: NDArray | None, predicted: Predicted, decided: Decided) -> Mapping[str, Floats]:
        """What has a mean, by metric; of a root the square. Without an outcome only what needs none."""

    def better(self, spec: Spec, predicted: Predicted, decided: Decided) -> Floats:
        """Of each row how well it was treated: the larger, the better."""
        return decided.favoured.astype(float)

    def best_end(self, spec: Spec) -> int:
        """1 where more of :attr:`headline` is better for those concerned, −1 where less is."""
        return 1

    def outcomes_named(self, classes: Sequence[str]) -> tuple[Sequence[str], Sequence[str]]:
        """How what happened and what was decided are called in a table of both; nothing where nothing is decided."""
        return classes, classes

    def quantities(self, outcome: NDArray | None, predicted: Predicted, decided: Decided) -> list[Quantity]:
        """What of the predictions is distributed."""
        return []

    def decided_by(self, predicted: Predicted) -> str:
        """Where decisions come from, in a word."""
        return "recorded decisions" if predicted.recorded else "scores"
