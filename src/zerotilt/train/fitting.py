"""One candidate trained: by fold, then on all rows that are not put aside, and written as ONNX that is proven."""

from __future__ import annotations

import time
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime
from importlib.metadata import version

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray
from sklearn.pipeline import Pipeline

from zerotilt.convert.estimators import converted
from zerotilt.core import rows as row_sets
from zerotilt.core import words
from zerotilt.core.candidates.dealing import Dealt, deal
from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.candidates.validated import FoldMeasured, UsedRows, Validated, groupings_of
from zerotilt.core.meaning import Role, RowSet, Spec
from zerotilt.core.predictors import made
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.refusal import Refused
from zerotilt.core.remedies.reweighing import never_together, reweighed
from zerotilt.core.table import Table
from zerotilt.core.tasks import kind_of
from zerotilt.core.work import Work
from zerotilt.train.estimators import BY_WEIGHT, UNWEIGHED, steps
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
class _Rows:
    """The rows that are trained on or validated, in the arithmetic of the file: numbers in single precision."""

    recipe: Recipe
    spec: Spec
    table: Table
    numbers: tuple[str, ...]
    levels: dict[str, list[str]]
    x: pa.Table
    y: NDArray
    classes: tuple[str, ...]
    """Of the outcome as they are written, in the order in which outputs are read; of an event its own last."""
    weights: Floats
    dealt: Dealt
    group: NDArray | None
    """What the outcome is made independent of, shape (n,)."""
    read: UsedRows

    def _places(self, names: Iterable[str]) -> list[int]:
        return [self.x.column_names.index(name) for name in names]

    def fitted(self, rows: NDArray[np.bool_]) -> Pipeline:
        classed = bool(self.classes)
        made_of = steps(
            self.recipe, self._places(self.numbers), self._places(self.levels), list(self.levels.values()), classed
        )
        places = np.flatnonzero(rows)
        x, y, w = _frame(self.x.take(pa.array(places))), self.y[places], self.weights[places]
        if classed and len(np.unique(y)) < 2:
            raise Refused("All rows that a fold is trained on are of one class.", todo="Choose fewer folds.")
        if self.group is not None:
            w = reweighed(self.group[places], y, w)
        if self.recipe.balanced and self.recipe.estimator in BY_WEIGHT and classed:
            found, place, sizes = np.unique(y, return_inverse=True, return_counts=True)
            w = w * (len(y) / (len(found) * sizes))[place]
        plain = self.recipe.estimator in UNWEIGHED or (w == w[0]).all()
        return made_of.fit(x, y, **({} if plain else {f"{made_of.steps[-1][0]}__sample_weight": w}))

    def outputs(self, model: Pipeline) -> Floats:
        """Of all rows, shape (n, k): the event's chance, every class's, or the number."""
        x = _frame(self.x)
        if not self.classes:
            return np.asarray(model.predict(x), float)[:, None]
        known = [str(one) for one in model.classes_]
        found = np.zeros((len(self.y), len(self.classes)))
        chances = np.asarray(model.predict_proba(x), float)
        for j, name in enumerate(self.classes):
            if name in known:
                found[:, j] = chances[:, known.index(name)]
        return found[:, [-1]] if kind_of(self.spec.task).cut else found


def _frame(table: pa.Table) -> NDArray:
    """Columns side by side, shape (rows, columns): numbers in single precision, and texts."""
    return np.column_stack(
        [table.column(name).to_numpy(zero_copy_only=False).astype(object) for name in table.column_names]
    )


@dataclass(frozen=True)
class Fitted:
    """The model of all rows that are not put aside, and the file that predicts as it does."""

    data: bytes
    model: Pipeline
    outputs: Floats
    largest_difference: float
    held: _Rows


def train(spec: Spec, table: Table, recipe: Recipe, work: Work, table_digest: str = "") -> Trained:
    """Train one candidate from the training rows of an audit.

    Raises
    ------
    Refused : no outcome, too few rows for the folds, a setting that does not fit; the file predicts otherwise.
    """
    began = time.monotonic()
    held = _prepared(spec, table, recipe)
    found: list[FoldMeasured] = list(work.spread(_fold, held, held.dealt.folds, "folds trained"))
    fitted = _fit(held, work)
    model, off = fitted.model, fitted.largest_difference
    test = held.read.put_aside(fitted.outputs, held.dealt.test)
    told = made.Made(
        estimator=f"scikit-learn {type(model.steps[-1][1]).__name__}",
        parameters={name: repr(value)[:1_000] for name, value in model.steps[-1][1].get_params().items()},
        libraries={name: version(name) for name in LIBRARIES},
        made=datetime.now(UTC).isoformat(timespec="seconds"),
        script=script_of(recipe, spec, table_digest),
        rows=held.table.rows,
        largest_difference=off,
    )
    return Trained(
        data=made.written(fitted.data, told),
        validated=Validated(folds=tuple(found), test=test, rows=int((~held.dealt.test).sum())),
        seconds=time.monotonic() - began,
        largest_difference=off,
    )


def fit(spec: Spec, table: Table, recipe: Recipe, work: Work) -> Fitted:
    """The model alone, as :func:`train` makes it."""
    return _fit(_prepared(spec, table, recipe), work)


def _fit(held: _Rows, work: Work) -> Fitted:
    work.begin(1, "all rows trained on")
    model = held.fitted(~held.dealt.test)
    outputs = held.outputs(model)
    data = converted(model, held.x)
    off = _differences(held, data, outputs)
    work.advance(1)
    return Fitted(data, model, outputs, off, held)


def _fold(held: _Rows, fold: int) -> FoldMeasured:
    trained = held.dealt.trained(fold)
    outputs = held.outputs(held.fitted(trained))
    return held.read.fold(outputs, held.dealt.validated(fold), trained)


def _prepared(spec: Spec, table: Table, recipe: Recipe) -> _Rows:
    kind = kind_of(spec.task)
    if not spec.knows_outcome:
        raise Refused("No column holds what happened; nothing can be learnt.", todo="Set the outcome in Intake.")
    numbers_of = row_sets.select(spec, table, RowSet(split="training"))
    used = table.among(numbers_of)
    outcome, _ = kind.outcome(spec, used)
    classed = kind.decides
    names = recipe.columns or tuple(one.name for one in spec.columns if one.role is Role.feature)
    columns = {one.name: one for one in spec.columns}
    for name in names:
        if name not in columns:
            raise Refused(f"columns: the table has no column “{name}”.")
        if columns[name].role is Role.outcome:
            raise Refused(f"columns: “{name}” is what is to be predicted.", todo="Leave it out.")
    if not names:
        raise Refused("No column is a feature; nothing can be learnt from.", todo="Choose columns.")
    given: dict[str, pa.Array] = {}
    levels: dict[str, list[str]] = {}
    numbers = []
    for name in names:
        if used.is_text(name):
            texts = np.array([value or "" for value in used.texts(name)], dtype=object)
            found, sizes = np.unique(texts.astype(str), return_counts=True)
            kept = [str(level) for level in found[sizes >= recipe.rare]]
            if not kept:
                continue  # every level is rare: it says nothing
            levels[name], given[name] = kept, pa.array(texts, pa.string())
        else:
            values = used.numbers(name).astype(np.float32)
            if not np.isfinite(values).any():
                continue
            numbers.append(name)
            given[name] = pa.array(values, pa.float32(), from_pandas=False)
    if not given:
        raise Refused(
            "No column that was chosen tells rows apart.", todo="Choose other columns, or take fewer levels as rare."
        )
    classes, y = _classes(spec, used, outcome)
    weight = spec.only(Role.weight)
    mass = np.ones(used.rows) if weight is None else np.nan_to_num(used.numbers(weight.name))
    asked = recipe.dealing
    dealt = deal(
        outcome,
        classed,
        asked,
        *(_column(used, name, what) for name, what in ((asked.together, "together"), (asked.in_time, "in time"))),
    )
    return _Rows(
        recipe, spec, used, tuple(numbers), levels, pa.table(given), y, classes,
        mass, dealt, _weighed_by(recipe, used, classed, y, mass),
        UsedRows(spec, used, () if kind.cut else classes, groupings_of(spec, table, numbers_of)),
    )  # fmt: skip


def _weighed_by(recipe: Recipe, used: Table, classed: bool, y: NDArray, mass: Floats) -> NDArray | None:
    """What the outcome is to be made independent of."""
    if not recipe.reweigh:
        return None
    group = _column(used, recipe.reweigh, "reweigh")
    if not classed:
        raise Refused(
            "reweigh: rows are weighed by classes of the outcome, and a number is predicted.", todo="Leave it out."
        )
    if recipe.estimator in UNWEIGHED:
        raise Refused(f"reweigh: {recipe.called} take no weights of rows.", todo="Choose another estimator.")
    if (never := never_together(group, y, mass)) is not None:
        raise Refused(
            f"reweigh: no training row of “{never[0]}” has the outcome “{never[1]}”; no weight makes them independent.",
            todo="Join groups that are too small, or choose another column.",
        )
    return group


def _classes(spec: Spec, used: Table, outcome: NDArray) -> tuple[tuple[str, ...], NDArray]:
    """The outcome's values as they are written, and of each row its own; none where it is a number."""
    kind = kind_of(spec.task)
    if not kind.decides:
        return (), outcome.astype(float)
    if not kind.cut:
        names = kind.classes(spec, used)
        return tuple(names), np.array(names, dtype=object)[outcome.astype(int)].astype(str)
    target = next(one.name for one in spec.columns if one.role is Role.outcome)
    texts = np.array([value or "" for value in used.texts(target)], dtype=object).astype(str)
    own = sorted(set(texts[outcome.astype(bool)]))
    others = sorted(set(texts[~outcome.astype(bool)]))
    names = (others[0] if len(others) == 1 else f"not {own[0]}", own[0])
    return names, np.where(outcome.astype(bool), names[1], names[0])


def _column(used: Table, name: str, what: str) -> NDArray | None:
    if not name:
        return None
    if name not in used.names:
        raise Refused(f"{what}: the table has no column “{name}”.")
    if what == "in time" and not used.is_text(name):
        found = used.numbers(name)
    else:
        found = np.array([value or "" for value in used.texts(name)], dtype=object).astype(str)
    return found


def _differences(held: _Rows, data: bytes, outputs: Floats) -> float:
    """The largest difference of the file's predictions, read as every method reads them, to the estimator's, on all rows.

    Raises
    ------
    Refused : it is larger than what rounding makes.
    """
    predictor = OnnxPredictor(data, held.table, held.spec)
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
