"""A model format in one file, as docs/development.md walks through it: a sum of columns, written as JSON."""

from __future__ import annotations

import hashlib
import json

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.meaning import Spec
from zerotilt.core.predictors import Frame, Predictor
from zerotilt.core.predictors.formats import Format
from zerotilt.core.predictors.modelfile import ModelCard, ModelInput
from zerotilt.core.predictors.protocol import checked_numbers
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table

HEAD = b'{"sum": 1'


def card(data: bytes) -> ModelCard:
    try:
        weights = json.loads(data)["weights"]
        inputs = tuple(ModelInput(name=name, holds="number", tensor="tensor(float)", width=1) for name in weights)
    except (ValueError, KeyError, TypeError):
        raise Refused("This is no sum.", where="model", todo="Write it again.") from None
    return ModelCard(
        inputs=inputs, outputs=("chance",), classes=(), gives="chances", operators={}, producer="a sum", bytes=len(data)
    )


class Sum(Predictor):
    """A logistic sum of numbers."""

    def __init__(self, data: bytes, table: Table, spec: Spec):
        self.card, self.digest, self.task = card(data), hashlib.sha256(data).hexdigest(), spec.task
        told = json.loads(data)
        self._weights, self._cut = told["weights"], told["cut"]
        self.inputs = tuple(self._weights)
        if missing := [name for name in self.inputs if name not in table.names]:
            raise Refused(
                f"The sum wants “{missing[0]}”, which the table has not.", where="model", todo="Choose another."
            )

    def frame(self, table: Table, rows: NDArray[np.int64]) -> Frame:
        return Frame({name: table.numbers(name)[rows] for name in self.inputs})

    def outputs(self, frame: Frame) -> NDArray[np.float64]:
        total = self._cut + sum(weight * np.nan_to_num(frame[name]) for name, weight in self._weights.items())
        return checked_numbers(1 / (1 + np.exp(-np.asarray(total)))[:, None], self.task, "the sum")


FORMAT = Format("sum", "a sum", (".sum",), lambda data: data.startswith(HEAD), card, Sum)
