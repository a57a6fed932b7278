"""What a remedy says of itself, once: form, checks, words, documents and what it is warned of are made from this."""

from __future__ import annotations

import types
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal, Union, get_args, get_origin

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, TypeAdapter

from zerotilt.core.refusal import Refused

Where = Literal["columns", "values", "rows", "training"]
"""What it changes: which columns are taken, their values, which rows count how much, or what is trained for."""
Of = Literal["anything", "classes", "event"]
"""What can be predicted where it is used."""
PREDICTED: dict[Of, str] = {"anything": "anything", "classes": "classes of an outcome", "event": "an event"}
OTHERWISE: dict[Of, str] = {"anything": "", "classes": "a number", "event": "something else"}


@dataclass(frozen=True)
class Rows:
    """The rows that a fold is trained on, as remedies of rows change them."""

    places: NDArray[np.int64]
    """Which rows of the table, ascending; one that was drawn again stands there again. Shape (n,)."""
    outcome: NDArray
    """Of each of them, shape (n,)."""
    weights: NDArray[np.float64]
    group: NDArray
    """The group of each, by the column that the remedy asks for; all alike where it asks for none."""
    among: NDArray[np.bool_]
    """Which of them it is about: all, or those of the one part that it names. Shape (n,)."""


@dataclass(frozen=True)
class Control:
    """One field of a form."""

    label: str
    choices: Literal["groups", "levelled groups", "segments", "columns", "text", "number"] | Mapping[str, str] = "text"
    """What can be chosen: columns that make groups, those of levels alone, segments, features; or values with their words."""
    scale: float = 1.0
    """What a number in the form is divided by: 100 for percentages and points."""
    several: bool = False
    """Whether several numbers, parted by commas, train as many candidates."""
    usual: str = ""
    """What stands there at first."""
    none: str = "any"
    """What stands for no column or segment."""
    only_with: str = ""
    """Another field without which it says nothing."""
    not_with: str = ""
    """Another field beside which it says nothing."""


@dataclass(frozen=True)
class Remedy:
    """One step of a recipe that is meant to lessen a gap or a weakness."""

    name: str
    """Its field in a recipe."""
    title: str
    """What is done, in a few words; a heading."""
    where: Where
    settings: Any
    """The type of its field: a model, a text or texts."""
    nothing: Any
    """The field's value where there is no such remedy."""
    said: Callable[[Any], str]
    """What it does with these settings, in words."""
    does: str
    """What is done, in a sentence, with its source."""
    assumes: str
    """What it takes for granted, in a sentence."""
    hurts: str
    """Whom it can hurt, in sentences."""
    law: str
    """Where the law may forbid it, in a sentence."""
    written: str
    """How it stands in a file of recipes."""
    of: Of = "anything"
    by: Callable[[Any], str] = lambda asked: ""
    """The column whose groups it needs; none when empty."""
    levelled: bool = False
    """Whether groups must have names: levels, not ranges of a number."""
    segment: Callable[[Any], str] = lambda asked: ""
    """The audit's segment that it is about; none when empty."""
    part: Callable[[Any], str] = lambda asked: ""
    """The one group that it is about; all when empty."""
    weighs: bool = False
    """Whether the estimator has to take row weights."""
    estimators: frozenset[str] = frozenset()
    """Those that it can be used with, where not all, as they are called."""
    against: tuple[str, ...] = ()
    """Remedies that it cannot be combined with."""
    rows: Callable[[Any, Rows, np.random.Generator], tuple[NDArray[np.int64], NDArray[np.float64]]] | None = None
    """Of remedies of rows: places among those given, ascending, and the weight of each."""
    refuses: Callable[[Any, Rows], None] | None = None
    """Refuses rows that it cannot be used on."""
    form: Mapping[str, Control] = field(default_factory=dict)
    """Its fields in a form; the first switches it on. A remedy of one text has its own name as the field's."""

    @property
    def warned(self) -> str:
        """What stands beside it wherever it can be chosen."""
        return " ".join(one for one in (self.does, self.assumes, self.hurts, self.law) if one)

    @property
    def model(self) -> type[BaseModel] | None:
        """The model of its settings, where it is one."""
        kinds = get_args(self.settings) if get_origin(self.settings) in (Union, types.UnionType) else (self.settings,)
        return next((one for one in kinds if isinstance(one, type) and issubclass(one, BaseModel)), None)

    def checked(self, asked: Any) -> Any:
        """Settings as its own type."""
        return TypeAdapter(self.settings).validate_python(asked)

    def refuse(self, estimator: str, classed: bool, event: bool) -> None:
        """Refuse an estimator or an outcome that it is not for.

        Raises
        ------
        Refused : with the reason.
        """
        if not {"anything": True, "classes": classed, "event": event}[self.of]:
            raise Refused(
                f"{self.name}: it is for {PREDICTED[self.of]}, and {OTHERWISE[self.of]} is predicted.",
                todo="Leave it out.",
            )
        if self.estimators and estimator not in self.estimators:
            fit = " or ".join(f"a {one}" for one in sorted(self.estimators))
            raise Refused(f"{self.name}: it can be used with {fit}, not with {estimator}.", todo=f"Choose {fit}.")
