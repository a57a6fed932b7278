"""The errors that pockets are searched for: how wrong each row is, and how that is called."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import levels, words
from zerotilt.core.meaning import Wording
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]

ErrorName = Literal[
    "",
    "error_rate",
    "false_positive_rate",
    "false_negative_rate",
    "missed_favourable",
    "taken_for",
    "log_loss",
    "absolute_error",
    "too_high",
    "too_low",
    "newly_wrong",
]
Unit = Literal["share", "number", "probability", "outcome", "rank"]
RATES = ("error_rate", "false_positive_rate", "false_negative_rate", "missed_favourable", "taken_for", "newly_wrong")
SIGNED = ("too_high", "too_low")
"""Below nothing where it is the other way round: compared by their difference, not by a ratio."""


@dataclass(frozen=True)
class Errors:
    """One error of the rows that it can be read of; arrays of shape (m,), m of the context's rows that weigh something."""

    name: ErrorName
    called: str
    """As it stands in a sentence, "false positive rate"."""
    unit: Unit
    values: Floats
    mass: Floats
    places: NDArray[np.int64]
    """Which of the context's rows they are."""
    foretold: Floats | None = None
    """How wrong each row is on average where the model's own scores are right; None where they do not tell."""

    @property
    def rate(self) -> bool:
        """Whether each row is wrong or not."""
        return self.unit == "share"

    @property
    def signed(self) -> bool:
        return self.name in SIGNED or (self.name == "newly_wrong" and not self.rate)

    @property
    def m(self) -> int:
        return len(self.values)

    def among(self, which: Bools) -> Errors:
        """Only some of them."""
        foretold = None if self.foretold is None else self.foretold[which]
        return Errors(
            self.name, self.called, self.unit, self.values[which], self.mass[which], self.places[which], foretold
        )


def offered(subject: Subject) -> tuple[ErrorName, ...]:
    """What can be searched for in these rows, the usual error first."""
    found = [name for name in subject.kind.ways if _readable(subject, name)]
    if subject.beside is not None and compared(subject):
        found.append("newly_wrong")
    return tuple(found)  # type: ignore[return-value]  # names of ways are names of errors


def compared(subject: Subject) -> bool:
    """Whether a second version is read on the same rows, so that one row can be right with one and wrong with the other."""
    other = subject.beside
    return other is not None and np.array_equal(other.rows.numbers, subject.rows.numbers) and other.spec == subject.spec


def _readable(subject: Subject, name: str) -> bool:
    recorded = subject.predictor is None
    scores = subject.kind.recorded(subject.predictions) is not None if recorded else True
    return scores or name in RATES


def errors_of(subject: Subject, name: ErrorName, truth: str = "", taken: str = "") -> Errors:
    """One error of the rows of a context; the usual one where none is named.

    ``truth``, ``taken``: of classes, which one is taken for which; any where empty.

    Raises
    ------
    Refused : it cannot be read of these rows, or of no row that weighs anything.
    """
    offers = offered(subject)
    name = name or offers[0]
    if name not in offers:
        known = words.listing([CALLED[one] for one in offers])
        raise Refused(f"error: “{CALLED[name]}” cannot be read here; there are {known}.", todo="Choose one of these.")
    outcome = subject.rows.outcome
    if name == "newly_wrong":
        values, among = _newly_wrong(subject)
    elif name == "taken_for":
        values, among = _taken_for(subject, truth, taken)
    else:
        values, among = subject.kind.wrong(name, outcome, subject.predictions, subject.decisions)
    kept = np.flatnonzero(among & (subject.rows.mass > 0) & np.isfinite(values))
    called = _called(subject, name, truth, taken)
    if not len(kept):
        raise Refused(f"The {called} can be read of none of these rows.", todo="Choose other rows or another error.")
    foretold = subject.kind.foretold(name, subject.predictions, subject.decisions)
    return Errors(
        name,
        called,
        _unit(subject, name),
        values[kept],
        subject.rows.mass[kept],
        kept,
        None if foretold is None else foretold[kept],
    )


def _newly_wrong(subject: Subject) -> tuple[Floats, Bools]:
    """Wrong with the version alongside where this one is right; of numbers, how much further off that is."""
    first, second = (
        one.kind.wrong(one.kind.ways[0], subject.rows.outcome, one.predictions, one.decisions).values
        for one in (subject, subject.second)
    )
    every = np.ones(subject.n, bool)
    return (second * (1 - first) if subject.kind.decides else second - first), every


def _taken_for(subject: Subject, truth: str, taken: str) -> tuple[Floats, Bools]:
    classes = list(subject.classes)
    numbers = [_class(one, classes) if one else None for one in (truth, taken)]
    outcome, decided = subject.rows.outcome.astype(np.int64), subject.decisions.taken
    own, other = numbers
    among = outcome == own if own is not None else outcome != other if other is not None else np.ones(subject.n, bool)
    wrong = decided == other if other is not None else decided != outcome
    return (wrong & (decided != outcome)).astype(float), among


def _class(said: str, classes: list[str]) -> int:
    label = levels.match_level(said, classes)
    if label is None:
        raise Refused(f"“{said}” is none of the classes {words.listing(classes)}.", todo="Choose one of these classes.")
    return classes.index(label)


def _unit(subject: Subject, name: ErrorName) -> Unit:
    if name == "newly_wrong":
        return "share" if subject.kind.decides else "outcome"
    if name in RATES:
        return "share"
    if name == "log_loss":
        return "number"
    return "probability" if subject.kind.cut else "rank" if subject.kind.classed else "outcome"


CALLED: dict[str, str] = {
    "": "error",
    "error_rate": "error rate",
    "false_positive_rate": "false positive rate",
    "false_negative_rate": "false negative rate",
    "missed_favourable": "share of favourable decisions missed",
    "taken_for": "share taken for another class",
    "log_loss": "log loss",
    "absolute_error": "mean absolute error",
    "too_high": "mean amount predicted too high",
    "too_low": "mean amount predicted too low",
    "newly_wrong": "share newly wrong",
}


def _called(subject: Subject, name: ErrorName, truth: str, taken: str) -> str:
    if name == "taken_for" and (truth or taken):
        return f"share of {truth or 'other classes'} taken for {taken or 'another class'}"
    if name == "missed_favourable" and subject.kind.cut:
        return f"share not {subject.spec.wording.favourable} although deserved"
    if name in SIGNED and subject.kind.cut:
        return f"amount by which the score is {name.replace('_', ' ')}"
    if name == "newly_wrong" and not subject.kind.decides:
        return "growth of the absolute error"
    return CALLED[name]


def written(value: float, unit: Unit, wording: Wording) -> str:
    """A value of an error in a sentence: rates in percent, what is in the outcome's unit with it."""
    if unit == "share":
        return words.percent(value)
    if unit == "outcome":
        return words.quantity(value, wording.unit)
    return words.quantity(value, "ranks") if unit == "rank" else words.decimal(value)
