"""One candidate trained: by fold, then on all rows that are not put aside, and written as ONNX that is proven."""

from __future__ import annotations

import time
from dataclasses import dataclass
from datetime import UTC, datetime
from importlib.metadata import version

import numpy as np
from numpy.typing import NDArray

from zerotilt.convert.estimators import converted
from zerotilt.convert.moving import moving
from zerotilt.core import words
from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.candidates.validated import FoldMeasured, Validated
from zerotilt.core.meaning import Spec
from zerotilt.core.predictors import made
from zerotilt.core.predictors.formats import opened
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table
from zerotilt.core.tasks import kind_of
from zerotilt.core.work import Work
from zerotilt.train.learning import Learnt, learn
from zerotilt.train.prepared import Prepared, prepared
from zerotilt.train.script import script_of

Floats = NDArray[np.float64]
TOLERANCE = 1e-4
"""Between what the file predicts and the estimator; of numbers in standard deviations."""
LIBRARIES = ("scikit-learn", "skl2onnx", "onnx", "numpy")


@dataclass(frozen=True)
class Trained:
    """A model file that says how it was made, and what it was worth."""

    data: bytes
    validated: Validated
    seconds: float
    largest_difference: float


@dataclass(frozen=True)
class Fitted:
    """The model of all rows that are not put aside, and the file that predicts as it does."""

    data: bytes
    model: Learnt
    outputs: Floats
    largest_difference: float
    held: Prepared


def train(spec: Spec, table: Table, recipe: Recipe, work: Work, table_digest: str = "") -> Trained:
    """Train one candidate from the training rows of an audit.

    Raises
    ------
    Refused : no outcome, too few rows for the folds, a setting that does not fit; the file predicts otherwise.
    """
    began = time.monotonic()
    held = prepared(spec, table, recipe)
    found: list[FoldMeasured] = list(work.spread(_fold, held, held.dealt.folds, "folds trained"))
    fitted = _fit(held, work)
    model, off = fitted.model, fitted.largest_difference
    test = held.read.put_aside(fitted.outputs, held.dealt.test)
    told = made.Made(
        estimator=f"scikit-learn {type(model.last).__name__}",
        parameters={name: repr(value)[:1_000] for name, value in model.last.get_params().items()},
        libraries={name: version(name) for name in LIBRARIES},
        made=datetime.now(UTC).isoformat(timespec="seconds"),
        script=script_of(recipe, spec, table_digest),
        recipe=recipe.model_dump_json(exclude_defaults=True),
        rows=held.table.rows,
        largest_difference=off,
    )
    return Trained(
        data=made.written(fitted.data, told),
        validated=Validated(
            folds=tuple(found),
            test=test,
            rows=int((~held.dealt.test).sum()),
            learnt=held.read.learnt(model.rows, model.weights, ~held.dealt.test, held.weights),
            limited=model.reduced,
        ),
        seconds=time.monotonic() - began,
        largest_difference=off,
    )


def fit(spec: Spec, table: Table, recipe: Recipe, work: Work) -> Fitted:
    """The model alone, as :func:`train` makes it."""
    return _fit(prepared(spec, table, recipe), work)


def folds_of(spec: Spec, table: Table, recipe: Recipe, work: Work) -> tuple[FoldMeasured, ...]:
    """What each fold of a recipe measures; no model of all rows is made."""
    held = prepared(spec, table, recipe)
    return tuple(work.spread(_fold, held, held.dealt.folds, "folds trained"))


def _fit(held: Prepared, work: Work) -> Fitted:
    work.begin(1, "all rows trained on")
    model = learn(held, ~held.dealt.test)
    outputs = model.outputs(held)
    data = converted(model.pipeline, held.x)
    if model.repairs and held.recipe.repair is not None:
        data = moving(data, model.repairs, held.recipe.repair.by)
    off = _differences(held, data, outputs)
    work.advance(1)
    return Fitted(data, model, outputs, off, held)


def _fold(held: Prepared, fold: int) -> FoldMeasured:
    trained = held.dealt.trained(fold)
    outputs = learn(held, trained).outputs(held)
    return held.read.fold(outputs, held.dealt.validated(fold), trained)


def _differences(held: Prepared, data: bytes, outputs: Floats) -> float:
    """The largest difference of the file's predictions, read as every method reads them, to the estimator's, on all rows.

    Raises
    ------
    Refused : it is larger than what rounding makes.
    """
    predictor = opened(data, held.table, held.spec)
    found = predictor.outputs(predictor.frame(held.table, np.arange(held.table.rows)))
    off = np.abs(found - outputs)
    if not kind_of(held.spec.task).decides:
        off = off / (float(np.std(outputs)) or 1.0)
    largest = float(off.max(initial=0.0))
    if not largest <= TOLERANCE:
        beyond = int((off > TOLERANCE).any(axis=1).sum())
        raise Refused(
            f"The file that was written does not predict what the {held.recipe.called} does: the largest difference is "
            f"{largest:.3g}, on {words.count(beyond)} of {words.plural(held.table.rows, 'row')} it is more than {TOLERANCE:g}.",
            todo="Choose other settings, or leave out columns of very large values.",
        )
    return largest
