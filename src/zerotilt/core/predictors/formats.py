"""The one door to models: bytes in, a predictor out. Each format of model file is declared once.

From a declaration come what Intake takes and where a dropped file goes, the card that a file gets when it arrives, and what every
reader, command and notebook opens; nobody else asks of which format a model is.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from zerotilt.core.meaning import Spec
from zerotilt.core.predictors.modelfile import ModelCard, inspect
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.predictors.protocol import Predictor
from zerotilt.core.table import Table


@dataclass(frozen=True)
class Format:
    """One format of model file. All three functions are given bytes that nobody trusts, in a reader."""

    name: str
    words: str
    """With its article, within a sentence."""
    files: tuple[str, ...]
    """Endings of its files, with the dot."""
    recognise: Callable[[bytes], bool]
    """Whether a file is of this format, by how it begins."""
    card: Callable[[bytes], ModelCard]
    """What the file says of itself, without asking it about rows. Refuses what cannot be used."""
    bind: Callable[[bytes, Table, Spec], Predictor]
    """The model bound to the columns of a table. Refuses what does not fit."""


ONNX = Format("onnx", "an ONNX file", (".onnx",), lambda data: True, inspect, OnnxPredictor)
FORMATS: dict[str, Format] = {ONNX.name: ONNX}
"""Every format there is, by its name; a file that no other recognises is taken for the first, which says what is wrong with it."""


def format_of(data: bytes) -> Format:
    """The format of a model file."""
    first, *others = FORMATS.values()
    return next((one for one in others if one.recognise(data)), first)


def card_of(data: bytes) -> ModelCard:
    """What a model file says of itself.

    Raises
    ------
    Refused : it cannot be used; the message says why.
    """
    return format_of(data).card(data)


def opened(data: bytes, table: Table, spec: Spec) -> Predictor:
    """A model bound to the columns of a table.

    Raises
    ------
    Refused : the file cannot be used, or does not fit the table or its meaning.
    """
    return format_of(data).bind(data, table, spec)
