"""What another case, or a change of this one, is to have: another decision, a class, or a number within a range."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.predictors import Frame
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import weighing
from zerotilt.core.subject import Subject

Floats = NDArray[np.float64]


class Target(Frozen):
    """What is looked for; settings of a method have these fields."""

    wanted: str = Field(default="", description="The class wanted, where there are several; any other when empty")
    at_least: float | None = Field(default=None, description="Of a number: the least that is wanted")
    at_most: float | None = Field(default=None, description="Of a number: the most that is wanted")


class Wanted(Protocol):
    """It can be told of any outputs (rows, k) whether they are what is wanted."""

    @property
    def own(self) -> str:
        """What is decided about the case itself; a number in its unit."""
        ...

    @property
    def said(self) -> str:
        """What is wanted, after "decided" or "that come to": "otherwise", "4 days or more"."""
        ...

    def met(self, outputs: Floats, cuts: Floats | None = None) -> NDArray[np.bool_]:
        """Which rows have it, shape (rows,); ``cuts``: their own thresholds, the case's without."""
        ...

    def towards(self, outputs: Floats) -> Floats:
        """How far each row has got, shape (rows,); larger is nearer."""
        ...

    def named(self, outputs: Floats) -> str:
        """What is decided about the first row."""
        ...


@dataclass(frozen=True)
class OtherDecision:
    """Another decision than the case's, or the one that is wanted."""

    subject: Subject
    cut: float
    case: int
    wanted: int | None

    @property
    def own(self) -> str:
        return self.subject.decisions.named(self.case)

    @property
    def said(self) -> str:
        return "otherwise" if self.wanted is None else f"as {self.subject.decisions.named(self.wanted)}"

    def met(self, outputs: Floats, cuts: Floats | None = None) -> NDArray[np.bool_]:
        decided = self.subject.decisions.of(outputs, self.cut if cuts is None else cuts)
        return decided != self.case if self.wanted is None else decided == self.wanted

    def towards(self, outputs: Floats) -> Floats:
        if outputs.shape[1] == 1:
            return outputs[:, 0] * (-1 if self.case else 1)
        return -outputs[:, self.case] if self.wanted is None else outputs[:, self.wanted]

    def named(self, outputs: Floats) -> str:
        return self.subject.decisions.named(int(self.subject.decisions.of(outputs, self.cut)[0]))


@dataclass(frozen=True)
class Within:
    """A number between two ends, of which one can be open."""

    subject: Subject
    case: float
    low: float
    high: float
    under: bool = False
    """Whether the upper end itself is too much."""

    @property
    def own(self) -> str:
        return words.quantity(self.case, self.subject.spec.wording.unit)

    @property
    def said(self) -> str:
        unit = self.subject.spec.wording.unit
        if not np.isfinite(self.low):
            return (
                f"{'under ' if self.under else ''}{words.quantity(self.high, unit)}{'' if self.under else ' or less'}"
            )
        if not np.isfinite(self.high):
            return f"{words.quantity(self.low, unit)} or more"
        return f"{words.quantity(self.low)} to {words.quantity(self.high, unit)}"

    def met(self, outputs: Floats, cuts: Floats | None = None) -> NDArray[np.bool_]:
        below = outputs[:, 0] < self.high if self.under else outputs[:, 0] <= self.high
        return (outputs[:, 0] >= self.low) & below

    def towards(self, outputs: Floats) -> Floats:
        return -np.maximum(self.low - outputs[:, 0], outputs[:, 0] - self.high)

    def named(self, outputs: Floats) -> str:
        return words.quantity(float(outputs[0, 0]), self.subject.spec.wording.unit)


def wanted_of(subject: Subject, row: int, case: Frame, target: Target) -> Wanted:
    """What is looked for about a case; of a number without a range, the other side of the median.

    Raises
    ------
    Refused : the class is none, or decided already; a range is given for what is no number, ends before it begins, or
    holds the case already.
    """
    outputs = subject.model.outputs(case)
    ranged = target.at_least is not None or target.at_most is not None
    if subject.kind.decides:
        if ranged:
            raise Refused(
                f"A range was asked for; the model predicts {subject.kind.named}.", todo="Leave the range empty."
            )
        cut = subject.decisions.cut_at(row)
        own = int(subject.decisions.of(outputs, cut)[0])
        return OtherDecision(subject, cut, own, _class(subject, target.wanted, own))
    if target.wanted:
        raise Refused(
            f"wanted: “{target.wanted}” was given; the model predicts a number.", todo="Give a range instead."
        )
    own = float(outputs[0, 0])
    if not ranged:
        middle = float(weighing.quantiles(subject.predictions.outputs[:, :1], [0.5], subject.rows.mass)[0, 0])
        if own >= middle:
            return Within(subject, own, -np.inf, middle, under=True)
        return Within(subject, own, middle, np.inf)
    low = -np.inf if target.at_least is None else target.at_least
    high = np.inf if target.at_most is None else target.at_most
    if low > high:
        raise Refused(
            f"at least {low:g} and at most {high:g} were given: no number is both.", todo="Give the smaller one first."
        )
    found = Within(subject, own, low, high)
    if found.met(outputs)[0]:
        raise Refused(f"The case has {found.own} already, which is {found.said}.", todo="Ask for another range.")
    return found


def _class(subject: Subject, wanted: str, own: int) -> int | None:
    if not wanted:
        return None
    if wanted not in subject.classes:
        raise Refused(
            f"wanted: “{wanted}” is none of the classes {words.listing(list(subject.classes)) or '(an event has none)'}."
        )
    place = subject.classes.index(wanted)
    if place == own:
        raise Refused(f"wanted: the decision is “{wanted}” already.", todo="Choose another class.")
    return place
