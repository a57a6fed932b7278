"""Systems of three numbers, and the words of the demo."""

from __future__ import annotations

import numpy as np
from tests.core.systems import system

from zerotilt.core.meaning import Task, Wording
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.predictors.function import FunctionPredictor
from zerotilt.core.subject import Subject

WORDING = Wording(row="claim", rows="claims")


def numbers(function, n=400, p=3, seed=0, **more):
    """A system of a number: y is the function itself."""
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(n, p))
    columns = {f"x{j}": x[:, j] for j in range(p)}
    value = function(Frame(columns))
    subject = system(columns | {"y": value}, function, list(columns), task=Task.regression, event="", **more)
    return Subject(
        subject.spec, subject.table, FunctionPredictor(list(columns), function, Task.regression), subject.context
    )
