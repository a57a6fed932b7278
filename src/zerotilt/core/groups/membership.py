"""Which rows belong to which group: levels, bins, missing, and intersections."""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import words
from zerotilt.core.refusal import Refused
from zerotilt.core.spec import Kind, Spec
from zerotilt.core.table import Table

MISSING = "(missing)"
JOIN = " · "
MOST_LEVELS = 30
DISTINCT_NUMBERS = 12
BINS = 4


def attribute(columns: tuple[str, ...]) -> str:
    return JOIN.join(columns)


def groups(
    spec: Spec, table: Table, rows: NDArray[np.int64], columns: tuple[str, ...]
) -> tuple[list[str], NDArray[np.int64]]:
    """Group labels in their order, and the group number of every row, shape (n,).

    Levels keep a declared order, else go by size; beyond 30 they are joined as
    "(other)". Missing cells are a group of their own, last.
    """
    parts = [_single(spec, table, rows, name) for name in columns]
    if len(parts) == 1:
        return parts[0]
    labels = [""]
    codes = np.zeros(len(rows), dtype=np.int64)
    for name, (levels, code) in zip(columns, parts, strict=True):
        naming = [
            f"{words.title(name)} {level}" if spec.column(name).kind is Kind.numeric else level for level in levels
        ]
        labels = [f"{left}{JOIN}{right}" if left else right for left in labels for right in naming]
        codes = codes * len(levels) + code
    present = np.unique(codes)
    if len(present) > 4 * MOST_LEVELS:
        raise Refused(
            f"The intersection of {words.listing(list(columns))} has {len(present)} groups; "
            f"{4 * MOST_LEVELS} can be read.",
            todo="Cross columns with fewer levels.",
        )
    return [labels[code] for code in present], np.searchsorted(present, codes)


def _single(spec: Spec, table: Table, rows: NDArray[np.int64], name: str) -> tuple[list[str], NDArray[np.int64]]:
    column = spec.column(name)
    if column.kind is Kind.numeric and table.is_number(name):
        values = table.numbers(name)[rows]
        known = values[np.isfinite(values)]
        distinct = np.unique(known)
        if column.cuts or len(distinct) > DISTINCT_NUMBERS:
            return _bins(values, column.cuts or tuple(np.unique(np.quantile(known, np.arange(1, BINS) / BINS))))
    values = table.texts(name)[rows]
    absent = np.array([value is None for value in values])
    levels, sizes = np.unique(values[~absent].astype(str), return_counts=True)
    ordered = [str(level) for level in levels[np.argsort(-sizes, kind="stable")]]
    kept = [level for level in column.order if level in set(ordered)] if column.order else []
    ordered = kept + [level for level in ordered if level not in set(kept)]
    if column.kind is Kind.numeric:
        ordered.sort(key=float)
    if len(ordered) > MOST_LEVELS:
        ordered = [*ordered[: MOST_LEVELS - 1], "(other)"]
    place = {level: i for i, level in enumerate(ordered)}
    other = place.get("(other)", 0)
    codes = np.array([place.get(value, other) if value is not None else -1 for value in values], dtype=np.int64)
    return _with_missing(ordered, codes)


def _bins(values: NDArray[np.float64], cuts: tuple[float, ...]) -> tuple[list[str], NDArray[np.int64]]:
    edges = sorted(cuts)
    codes = np.where(np.isfinite(values), np.searchsorted(edges, values, side="left"), -1)
    texts = [words.value_text(float(f"{edge:.4g}")) for edge in edges]
    labels = [f"up to {texts[0]}"]
    labels += [f"over {low} to {high}" for low, high in itertools.pairwise(texts)]
    return _with_missing([*labels, f"over {texts[-1]}"], codes)


def _with_missing(labels: list[str], codes: NDArray[np.int64]) -> tuple[list[str], NDArray[np.int64]]:
    if not (codes < 0).any():
        return labels, codes
    return [*labels, MISSING], np.where(codes < 0, len(labels), codes)
