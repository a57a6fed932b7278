"""The training rows of an audit, as a recipe takes them."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from zerotilt.core import membership, segments, words
from zerotilt.core import rows as row_sets
from zerotilt.core.candidates.dealing import Dealt, deal
from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.candidates.validated import UsedRows, groupings_of
from zerotilt.core.meaning import Role, RowSet, Spec
from zerotilt.core.refusal import Refused
from zerotilt.core.steps.every import REMEDIES
from zerotilt.core.steps.remedy import Rows
from zerotilt.core.table import Table
from zerotilt.core.tasks import kind_of
from zerotilt.train.estimators import UNWEIGHED

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Prepared:
    """The rows that are trained on or validated, n, in the arithmetic of the file: numbers in single precision."""

    recipe: Recipe
    spec: Spec
    table: Table
    numbers: tuple[str, ...]
    levels: dict[str, list[str]]
    x: pa.Table
    """The columns that the file takes; besides those that are learnt from, the one whose groups are repaired."""
    y: NDArray
    classes: tuple[str, ...]
    """Of the outcome as they are written, in the order in which outputs are read; of an event its own last."""
    weights: Floats
    dealt: Dealt
    groups: dict[str, NDArray]
    """Of every remedy that asks for groups, the group of each row, shape (n,)."""
    among: dict[str, NDArray[np.bool_]]
    """Of every remedy the rows that it is about, shape (n,)."""
    read: UsedRows

    @property
    def event(self) -> NDArray[np.bool_]:
        """Whether each row's outcome is the event."""
        return self.y == self.classes[-1]

    def rows_of(self, remedy: str, places: NDArray[np.int64], weights: Floats) -> Rows:
        """Rows as a remedy is given them; ``weights``: of each of these places."""
        group = self.groups.get(remedy)
        alike = np.zeros(len(places)) if group is None else group[places]
        return Rows(places, self.y[places], weights, alike, self.among[remedy][places])

    def places(self, names: Iterable[str]) -> list[int]:
        return [self.x.column_names.index(name) for name in names]


def frame(table: pa.Table) -> NDArray:
    """Columns side by side, shape (rows, columns): numbers in single precision, and texts."""
    return np.column_stack(
        [table.column(name).to_numpy(zero_copy_only=False).astype(object) for name in table.column_names]
    )


def prepared(spec: Spec, table: Table, recipe: Recipe) -> Prepared:
    """Take the training rows of a table.

    Raises
    ------
    Refused : no outcome, too few rows for the folds, a setting that does not fit.
    """
    kind = kind_of(spec.task)
    if not spec.knows_outcome:
        raise Refused("No column holds what happened; nothing can be learnt.", todo="Set the outcome in Intake.")
    numbers_of = row_sets.select(spec, table, RowSet(split="training"))
    used = table.among(numbers_of)
    outcome, _ = kind.outcome(spec, used)
    asked = recipe.dealing
    dealt = deal(
        outcome,
        kind.decides,
        asked,
        *(column(used, name, what) for name, what in ((asked.together, "together"), (asked.in_time, "in time"))),
    )
    given, levels = _columns(spec, used, recipe, ~dealt.test)
    numbers = tuple(name for name in given if name not in levels)
    classes, y = _classes(spec, used, outcome)
    weight = spec.only(Role.weight)
    mass = np.ones(used.rows) if weight is None else np.nan_to_num(used.numbers(weight.name))
    groups = _groups(recipe, spec, table, numbers_of, used)
    if recipe.repair is not None and recipe.repair.by not in given:
        given[recipe.repair.by] = pa.array(_texts(used, recipe.repair.by), pa.string())
    made = Prepared(
        recipe, spec, used, numbers, levels, pa.table(given), y, classes, mass, dealt, groups,
        _among(recipe, groups, used.rows),
        UsedRows(spec, used, () if kind.cut else classes, groupings_of(spec, table, numbers_of)),
    )  # fmt: skip
    _fits(made)
    return made


def _columns(
    spec: Spec, used: Table, recipe: Recipe, learnt: NDArray[np.bool_]
) -> tuple[dict[str, pa.Array], dict[str, list[str]]]:
    """The columns that tell rows apart, and of those of texts the levels that have a column of their own: what stands in
    rows that are put aside alone is not known to a model.

    Parameters
    ----------
    learnt : which rows are not put aside, shape (rows,).
    """
    names = recipe.columns or tuple(one.name for one in spec.columns if one.role is Role.feature)
    known = {one.name: one for one in spec.columns}
    for name in (*names, *recipe.left_out):
        if name not in known:
            raise Refused(f"columns: the table has no column “{name}”.")
    names = tuple(name for name in names if name not in recipe.left_out)
    for name in names:
        if known[name].role is Role.outcome:
            raise Refused(f"columns: “{name}” is what is to be predicted.", todo="Leave it out.")
    if not names:
        raise Refused(
            "No column is left to learn from."
            if recipe.left_out
            else "No column is a feature; nothing can be learnt from.",
            todo="Choose columns.",
        )
    given: dict[str, pa.Array] = {}
    levels: dict[str, list[str]] = {}
    for name in names:
        if used.is_text(name):
            texts = _texts(used, name)
            found, sizes = np.unique(texts[learnt].astype(str), return_counts=True)
            kept = [str(level) for level in found[sizes >= recipe.rare]]
            if kept:  # else every level is rare: it says nothing
                levels[name], given[name] = kept, pa.array(texts, pa.string())
        else:
            values = _in_single_precision(used.numbers(name), name)
            if np.isfinite(values[learnt]).any():
                given[name] = pa.array(values, pa.float32(), from_pandas=False)
    if not given:
        raise Refused(
            "No column that was chosen tells rows apart.", todo="Choose other columns, or take fewer levels as rare."
        )
    return given, levels


def _in_single_precision(values: NDArray[np.float64], name: str) -> NDArray[np.float32]:
    """Numbers as models take them.

    Raises
    ------
    Refused : some have no end there.
    """
    with np.errstate(over="ignore"):
        found = values.astype(np.float32)
    if many := int(np.isinf(found).sum()):
        raise Refused(
            f"columns: “{name}” holds numbers that no model here can learn from in {words.plural(many, 'row')}: without end, or beyond "
            f"{np.finfo(np.float32).max:.1e}.",
            todo="Leave the column out, or correct the table.",
        )
    return found


def _texts(used: Table, name: str) -> NDArray:
    return np.array([value or "" for value in used.texts(name)], dtype=object)


def _groups(recipe: Recipe, spec: Spec, table: Table, numbers: NDArray[np.int64], used: Table) -> dict[str, NDArray]:
    """Of every remedy that asks for groups the group of each row: cut as every sheet cuts them, where they are numbers."""
    found: dict[str, NDArray] = {}
    for what, asked in recipe.asked.items():
        remedy = REMEDIES[what]
        if name := remedy.by(asked):
            if name not in used.names:
                raise Refused(f"{what}: the table has no column “{name}”.")
            if used.is_text(name):
                found[what] = _texts(used, name).astype(str)
            elif remedy.levelled:
                raise Refused(
                    f"{what}: “{name}” is a number, and values are moved between groups that have names.",
                    todo="Choose a column of levels.",
                )
            else:
                grouping = membership.grouping(spec, table, numbers, (name,))
                if grouping.overlapping:
                    raise Refused(f"{what}: groups of “{name}” overlap.", todo="Choose another column.")
                found[what] = np.array(grouping.labels)[grouping.exclusive]
        if called := remedy.segment(asked):
            segment = next((one for one in spec.segments if one.name == called), None)
            if segment is None:
                raise Refused(f"{what}: the audit has no segment “{called}”.")
            inside = segments.members(segment, spec, table, numbers)
            found[what] = np.where(inside, segment.name, "")
    return found


def _among(recipe: Recipe, groups: dict[str, NDArray], rows: int) -> dict[str, NDArray[np.bool_]]:
    """Of every remedy which rows it is about: all, or those of the one part or segment that it names."""
    found: dict[str, NDArray[np.bool_]] = {}
    for what, asked in recipe.asked.items():
        only = REMEDIES[what].segment(asked) or REMEDIES[what].part(asked)
        found[what] = groups[what] == only if only and what in groups else np.ones(rows, bool)
    return found


def _fits(held: Prepared) -> None:
    """Refuse remedies that are not for this estimator, this outcome, these rows or one another."""
    recipe, kind = held.recipe, kind_of(held.spec.task)
    every = np.arange(len(held.y))
    for what, asked in recipe.asked.items():
        remedy = REMEDIES[what]
        remedy.refuse(recipe.called, kind.decides, kind.cut)
        if remedy.weighs and recipe.estimator in UNWEIGHED:
            raise Refused(f"{what}: rows have no weights in {recipe.called}.", todo="Choose another estimator.")
        if other := next((one for one in remedy.against if one in recipe.asked), None):
            raise Refused(
                f"{words.opening(remedy.title)} and {REMEDIES[other].title} cannot both be trained with.",
                todo="Choose one.",
            )
        if remedy.refuses is not None:
            remedy.refuses(asked, held.rows_of(what, every, held.weights))
    if recipe.repair:
        unknown = [one for one in recipe.repair.columns if one not in held.numbers]
        if unknown or not held.numbers:
            raise Refused(
                f"repair: “{unknown[0]}” is no number that the candidate takes."
                if unknown
                else "repair: no number is taken.",
                todo="Choose numbers among its columns.",
            )


def _classes(spec: Spec, used: Table, outcome: NDArray) -> tuple[tuple[str, ...], NDArray]:
    """The outcome's values as they are written, and of each row its own; none where it is a number."""
    kind = kind_of(spec.task)
    if not kind.decides:
        return (), outcome.astype(float)
    if not kind.cut:
        names = kind.classes(spec, used)
        return tuple(names), np.array(names, dtype=object)[outcome.astype(int)].astype(str)
    target = next(one.name for one in spec.columns if one.role is Role.outcome)
    texts = _texts(used, target).astype(str)
    own = sorted(set(texts[outcome.astype(bool)]))
    others = sorted(set(texts[~outcome.astype(bool)]))
    names = (others[0] if len(others) == 1 else f"not {own[0]}", own[0])
    return names, np.where(outcome.astype(bool), names[1], names[0])


def column(used: Table, name: str, what: str) -> NDArray | None:
    """A column's values of each row: numbers in time, else texts; None where none is named."""
    if not name:
        return None
    if name not in used.names:
        raise Refused(f"{what}: the table has no column “{name}”.")
    if what == "in time" and not used.is_text(name):
        return used.numbers(name)
    return _texts(used, name).astype(str)
