"""Exact Shapley values of models that are sums: linear terms and trees, against the whole background."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.contributions.game import Background
from zerotilt.core.predictors import Frame
from zerotilt.core.predictors.structure import Structure
from zerotilt.core.trees import pairs, table_plan, tables
from zerotilt.core.trees.table_plan import Plan
from zerotilt.core.trees.tables import Tables
from zerotilt.core.work import Work

ROWS_AT_ONCE = 4_096
DEEP_ROWS_AT_ONCE = 8
MET_AT_ONCE = 5_000


@dataclass(frozen=True)
class Explainer:
    """A model's structure met with a background; explains any number of rows at a cost that the background does not change.

    Deep trees are the exception: they keep the encoded background, and cost grows with it.
    """

    structure: Structure
    column: int
    players: int
    tables: Tables | None
    deep: NDArray[np.intp]
    encoded: NDArray[np.floating] | None
    weights: NDArray[np.float64]
    linear_mean: NDArray[np.float64]
    baseline: float
    rows: int
    """Background rows."""

    @property
    def kind(self) -> Literal["linear", "trees"]:
        return "linear" if self.structure.trees is None else "trees"

    @property
    def rows_at_once(self) -> int:
        return DEEP_ROWS_AT_ONCE if len(self.deep) else ROWS_AT_ONCE

    def explain(self, frame: Frame) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Contributions, shape (rows, players + 1), and the outputs they add up to, shape (rows,).

        The last column is what no raw column accounts for; it is zero unless a
        row holds a value that the structure was never shown.
        """
        encoded = self.structure.encode(frame)
        out = np.zeros((frame.rows, self.players + 1))
        if self.tables is not None:
            out += self.tables.look_up(encoded)
        if len(self.deep):
            out += pairs.explain(
                self.structure.trees, self.structure.owner, self.deep, encoded, self.encoded, self.weights,
                self.column, self.players,
            )  # fmt: skip
        if self.structure.coefficients is not None:
            terms = encoded.astype(np.float64) * self.structure.coefficients[:, self.column] - self.linear_mean
            owner = np.where(self.structure.owner < 0, self.players, self.structure.owner)
            for player in np.unique(owner):
                out[:, player] += terms[:, owner == player].sum(axis=1)
        return out, self.structure.sums_of(encoded)[:, self.column]


@dataclass(frozen=True)
class Outlook:
    """How a model would be explained, and what that costs."""

    by_table: NDArray[np.bool_]
    """Of each tree; the others are walked down for every row."""
    seconds: float
    """On one core, about."""

    @property
    def deep(self) -> NDArray[np.intp]:
        return np.flatnonzero(~self.by_table)


def outlook(structure: Structure, cases: float, background: int) -> Outlook:
    """Weigh the ways for so many rows explained (infinity: as many as come) against so many background rows."""
    if structure.trees is None:
        return Outlook(np.zeros(0, bool), 0.0)
    chosen, seconds = table_plan.by_table(structure.trees, structure.owner, min(cases, 1e9), background)
    return Outlook(chosen, float(seconds.sum()))


def prepare(
    structure: Structure,
    column: int,
    reference: Background,
    work: Work | None = None,
    by_table: NDArray[np.bool_] | None = None,
) -> Explainer:
    """Meet a structure with a background: count its rows by pattern, and fill the tables.

    Parameters
    ----------
    by_table : which trees get tables; as is best for very many rows when None.
    """
    work = work or Work()
    players = len(reference.frame.names)
    if by_table is None:
        by_table = outlook(structure, np.inf, reference.rows).by_table
    deep, plan = np.flatnonzero(~by_table), None
    if by_table.any():
        plan = table_plan.plan(structure.trees, structure.owner, np.flatnonzero(by_table), players)
    shared = (structure, plan, reference, bool(len(deep)))
    starts = range(0, reference.rows, MET_AT_ONCE)
    pieces = [(start, min(start + MET_AT_ONCE, reference.rows)) for start in starts]
    counts, kept = None, []
    linear_mean, baseline = np.zeros((1, 1)), np.zeros(1)
    for part in work.spread(_meet, shared, pieces, "background rows read", [last - first for first, last in pieces]):
        counts = part[0] if counts is None else counts + part[0]
        kept.append(part[1])
        linear_mean = linear_mean + part[2]
        baseline = baseline + part[3]
    filled = None if plan is None else tables.filled(structure.trees, plan, counts, column, players)
    return Explainer(
        structure=structure,
        column=column,
        players=players,
        tables=filled,
        deep=deep,
        encoded=np.concatenate(kept) if len(deep) else None,
        weights=reference.weights,
        linear_mean=linear_mean[:, column],
        baseline=float(baseline[column]) + (filled.mean if filled is not None and not len(deep) else 0.0),
        rows=reference.rows,
    )


def _meet(shared: tuple[Structure, Plan | None, Background, bool], piece: tuple[int, int]):
    structure, plan, reference, keep = shared
    part = slice(*piece)
    encoded = structure.encode(reference.frame.take(part))
    weights = reference.weights[part]
    counts = np.zeros(0) if plan is None else tables.counted(structure.trees, plan, encoded, weights)
    coefficients = structure.coefficients
    linear = np.zeros((encoded.shape[1], len(structure.base)))
    if coefficients is not None:
        linear = (weights @ encoded.astype(np.float64))[:, None] * coefficients
    if keep or plan is None:
        mean = weights @ structure.sums_of(encoded)
    else:  # the trees' part comes from the counts, at no further cost
        mean = weights.sum() * structure.base + linear.sum(axis=0)
    return counts, encoded if keep else None, linear, mean


def explain_rows(explainer: Explainer, cases: Frame, work: Work | None = None):
    """Contributions of many rows in pieces: (rows, players + 1), and outputs (rows,)."""
    work = work or Work()
    step = explainer.rows_at_once
    pieces = [(start, min(start + step, cases.rows)) for start in range(0, cases.rows, step)]
    # each piece takes its own rows along: whoever computes it needs no others
    parts = [cases.take(slice(first, last)) for first, last in pieces]
    values = np.empty((cases.rows, explainer.players + 1))
    output = np.empty(cases.rows)
    done = work.spread(_explain, explainer, parts, "rows explained", [last - first for first, last in pieces])
    for (first, last), (found, sums) in zip(pieces, done, strict=True):
        values[first:last], output[first:last] = found, sums
    return values, output


def _explain(explainer: Explainer, cases: Frame):
    return explainer.explain(cases)
