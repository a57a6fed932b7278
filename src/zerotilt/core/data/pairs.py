"""Two columns together: how strongly every pair is associated, and one pair drawn."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import rows as row_sets
from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.links import association
from zerotilt.core.meaning import Role, Wording
from zerotilt.core.method import Method
from zerotilt.core.predictors import Frame
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import apart
from zerotilt.core.stats.distinct import distinct
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

MOST_COLUMNS, LISTED = 80, 60
CELLS, LEVELS = 24, 10
Measure = Literal["Spearman's ρ", "Cramér's V", "correlation ratio"]
AT = (0.05, 0.25, 0.5, 0.75, 0.95)


class PairsSettings(Frozen):
    first: str = Field(
        default="",
        max_length=500,
        description="One column of the pair that is drawn; with the other empty, the strongest",
    )
    second: str = Field(default="", max_length=500, description="The other")


class Together(Frozen):
    first: str
    second: str
    strength: float = Field(description="0 to 1")
    measure: Measure


class LevelBox(Frozen):
    """Numbers among the rows of one level."""

    level: str
    rows: int
    quantiles: tuple[float, ...] = Field(description="5%, 25%, median, 75%, 95%")


class ColumnPair(Frozen):
    """One pair. Of two numbers ``counts`` by cells between ``across`` and ``up``; of two texts by level; of one of each boxes."""

    first: str
    second: str
    kind: Literal["numbers", "levels", "boxes"]
    strength: float
    measure: Measure
    p: float | None = Field(description="Of independence, where both are levels and enough rows are there to test")
    across: tuple[float, ...] = Field(
        description="Ends of the first column's cells; what lies beyond is in the outer ones"
    )
    up: tuple[float, ...]
    rows_of: tuple[str, ...] = Field(description="Levels of the first column, most frequent first, the others together")
    columns_of: tuple[str, ...]
    counts: tuple[tuple[int, ...], ...] = Field(description="Rows by the first column's cells, then by the second's")
    residuals: tuple[tuple[float, ...], ...] = Field(
        description="Of two texts: (rows − expected) / √expected, beyond 2 more than chance alone makes of most cells"
    )
    boxes: tuple[LevelBox, ...]
    rows: int
    missing: int = Field(description="Rows that are left out because a number is missing")


class PairsResult(Frozen):
    names: tuple[str, ...] = Field(description="So ordered that what is alike stands together")
    strengths: tuple[tuple[float, ...], ...]
    strongest: tuple[Together, ...] = Field(description="Pairs, strongest first")
    pair: ColumnPair | None
    left_out: int = Field(description="Columns beyond the most that are held against each other")
    rows: int
    rows_read: int
    rows_named: str


def hold_together(subject: Subject, settings: PairsSettings, seed: int, work: Work) -> PairsResult:
    """Association of every pair of columns, with the measure that fits their kinds; from up to 20,000 rows.

    Raises
    ------
    Refused : fewer than two columns can be held against each other, or one that was asked for is none of them.
    """
    every = [name for name in _features_first(subject) if not subject.table.holds_bytes(name)]
    names = every[:MOST_COLUMNS]
    for name in (settings.first, settings.second):
        if name and name not in every:
            raise Refused(f"“{name}” cannot be held against another column; there are {words.listing(every[:8])} and more.", todo="Choose one of these.")  # fmt: skip
        if name and name not in names:
            names.append(name)
    if len(names) < 2:
        raise Refused(
            "There are no two columns to hold against each other.", todo="Give more columns a role in Intake."
        )
    work.begin(2, "columns held against each other")
    frame = Frame({name: _values(subject, name) for name in names})
    strength = association(frame, seed)
    work.advance(1)
    order = _ordered(strength)
    numeric = {name: frame[name].dtype.kind == "f" for name in names}
    above = [(i, j) for i in range(len(names)) for j in range(i)]
    above.sort(key=lambda one: -strength[one])
    strongest = tuple(
        Together(
            first=names[j],
            second=names[i],
            strength=float(strength[i, j]),
            measure=_measure(numeric[names[i]], numeric[names[j]]),
        )
        for i, j in above[:LISTED]
    )
    first, second = settings.first, settings.second
    if not (first and second):
        of = [one for one in strongest if not first or first in (one.first, one.second)]
        if of:
            first, second = of[0].first, of[0].second
        elif first:
            second = next(name for name in names if name != first)
    pair = None
    if first and second and first != second:
        i, j = names.index(first), names.index(second)
        pair = _pair(first, second, frame, float(strength[i, j]), subject.n)
    work.advance(1)
    return PairsResult(
        names=tuple(names[one] for one in order),
        strengths=tuple(tuple(float(strength[a, b]) for b in order) for a in order),
        strongest=strongest,
        pair=pair,
        left_out=len(every) - len(names),
        rows=subject.n,
        rows_read=min(subject.n, 20_000),
        rows_named=subject.context.rows,
    )


def _features_first(subject: Subject) -> list[str]:
    """Columns rows can be told apart by: features, then groups and the outcome, then the rest."""
    rank = {Role.feature: 0, Role.group: 1, Role.outcome: 1, Role.score: 2, Role.decision: 2}
    return sorted(subject.partable, key=lambda name: rank.get(subject.spec.column(name).role, 3))


def _values(subject: Subject, name: str) -> NDArray:
    table, numbers = subject.table, subject.rows.numbers
    if table.is_number(name) or table.is_date(name):
        return table.numbers(name)[numbers]
    levels, codes = table.coded(name)
    return np.append(levels.astype(str), "").astype(object)[codes[numbers]]


def _measure(one: bool, other: bool) -> Measure:
    return "Spearman's ρ" if one and other else "correlation ratio" if one or other else "Cramér's V"


def _ordered(strength: NDArray[np.float64]) -> list[int]:
    """Leaves of a tree of the columns (average linkage on 1 − association), from one end to the other."""
    if len(strength) < 3:
        return list(range(len(strength)))
    from scipy.cluster import hierarchy
    from scipy.spatial.distance import squareform

    distance = np.clip(1 - strength, 0, 1)
    np.fill_diagonal(distance, 0)
    tree = hierarchy.linkage(squareform((distance + distance.T) / 2, checks=False), "average", optimal_ordering=True)
    return [int(one) for one in hierarchy.leaves_list(tree)]


def _pair(first: str, second: str, frame: Frame, strength: float, n: int) -> ColumnPair:
    a, b = frame[first], frame[second]
    numeric = a.dtype.kind == "f", b.dtype.kind == "f"
    measure = _measure(*numeric)
    nothing: dict = {
        "p": None,
        "across": (),
        "up": (),
        "rows_of": (),
        "columns_of": (),
        "counts": (),
        "residuals": (),
        "boxes": (),
    }
    told = {"first": first, "second": second, "strength": strength, "measure": measure, "rows": n}
    if all(numeric):
        both = np.isfinite(a) & np.isfinite(b)
        (across, x), (up, y) = _cells(a[both]), _cells(b[both])
        counts = np.zeros((max(len(across) - 1, 1), max(len(up) - 1, 1)), np.int64)
        np.add.at(counts, (x, y), 1)
        more = {"across": across, "up": up, "counts": tuple(map(tuple, counts.tolist())) if both.any() else ()}
        return ColumnPair(**told, **(nothing | more), kind="numbers", missing=int((~both).sum()))
    if any(numeric):
        numbers, levels = (a, b) if numeric[0] else (b, a)
        known = np.isfinite(numbers)
        names, codes = _levels(levels[known])
        boxes = []
        for place, level in enumerate(names):
            mine = numbers[known][codes == place]
            at = np.quantile(mine, AT) if len(mine) else np.empty(0)
            boxes.append(LevelBox(level=level, rows=len(mine), quantiles=tuple(at.tolist())))
        # the number is always the first of a pair that is drawn as boxes
        told |= {"first": first if numeric[0] else second, "second": second if numeric[0] else first}
        return ColumnPair(
            **told,
            **(nothing | {"boxes": tuple(boxes), "columns_of": tuple(names)}),
            kind="boxes",
            missing=int((~known).sum()),
        )
    (rows_of, x), (columns_of, y) = _levels(a), _levels(b)
    counts = np.zeros((len(rows_of), len(columns_of)), np.int64)
    np.add.at(counts, (x, y), 1)
    expected = np.outer(counts.sum(axis=1), counts.sum(axis=0)) / max(n, 1)
    residuals = (counts - expected) / np.sqrt(np.where(expected > 0, expected, 1))
    p = apart.chi_squared(counts)
    more = {
        "rows_of": tuple(rows_of), "columns_of": tuple(columns_of), "counts": tuple(map(tuple, counts.tolist())),
        "residuals": tuple(map(tuple, residuals.tolist())), "p": None if p != p else p,
    }  # fmt: skip
    return ColumnPair(**told, **(nothing | more), kind="levels", missing=0)


def _cells(values: NDArray[np.float64]) -> tuple[tuple[float, ...], NDArray[np.int64]]:
    """Cells of equal width over the middle 98%, or one a value where there are few; the outer ones hold what lies beyond."""
    if not len(values):
        return (), np.empty(0, np.int64)
    places = np.unique(values)
    if len(places) <= CELLS:
        inner = (places[1:] + places[:-1]) / 2
        return (float(places[0]), *inner.tolist(), float(places[-1])), np.searchsorted(inner, values, "right")
    low, high = np.quantile(values, [0.01, 0.99])
    low, high = (low, high) if high > low else (places[0], places[-1])
    ends = np.linspace(low, high, CELLS + 1)
    return tuple(ends.tolist()), np.searchsorted(ends[1:-1], values, "right")


def _levels(values: NDArray) -> tuple[list[str], NDArray[np.int64]]:
    """The most frequent levels, the others together; missing is a level."""
    found, codes, sizes = distinct(values)
    order = np.argsort(-sizes, kind="stable")[:LEVELS]
    place = np.full(len(found), len(order))
    place[order] = np.arange(len(order))
    names = [str(found[one]) or "(missing)" for one in order]
    others = len(found) - len(order)
    return names + ([f"({words.count(others)} others)"] if others else []), place[codes]


def say(result: PairsResult, wording: Wording, settings: PairsSettings) -> Reading:
    rows = row_sets.counted(result.rows, result.rows_named, wording.row if result.rows == 1 else wording.rows)
    first = result.strongest[0]
    many = len(result.names) * (len(result.names) - 1) // 2
    headline = (
        f"Of {words.plural(many, 'pair')} of columns, {words.title(first.first)} and {words.title(first.second)} go together most "
        f"({first.measure} {words.decimal(first.strength, 2)}, {rows})."
    )
    if result.pair is not None and {result.pair.first, result.pair.second} != {first.first, first.second}:
        one = result.pair
        headline += f" {words.opening(words.title(one.first))} and {words.title(one.second)}: {one.measure} {words.decimal(one.strength, 2)}."
    detail = "Strength runs from 0 to 1 and says neither which way nor why."
    if result.rows_read < result.rows:
        detail += f" Associations are of {words.count(result.rows_read)} of the {wording.rows}."
    if result.left_out:
        detail += f" {words.opening(words.plural(result.left_out, 'column'))} beyond the first {len(result.names)} {'is' if result.left_out == 1 else 'are'} not held against them."
    return plain(headline, detail)


METHOD = Method(
    name="pairs",
    area="data",
    title="Two columns together",
    settings=PairsSettings,
    result=PairsResult,
    compute=hold_together,
    say=say,
    note=(
        "Two numbers: the size of **Spearman's ρ**. Two texts: **Cramér's V**, corrected for chance (Bergsma 2013). A number "
        "and a text: the **correlation ratio**, corrected for chance (Kelley 1935). A missing number takes the median's rank, a missing text is a level. "
        "Columns are ordered by average linkage on one less the strength. A pair is drawn as rows in cells, as boxes by "
        "level (5%, 25%, median, 75%, 95%), or as a table of counts with **Pearson's residuals** and the χ² test of "
        "independence, the rarest levels joined."
    ),
    main="strongest",
    part="pairs",
    needs=frozenset(),
)
