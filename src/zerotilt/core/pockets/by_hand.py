"""The error over one or two columns cut by hand: every cell with its rows, and which differ beyond chance."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field

from zerotilt.core import rows as row_sets
from zerotilt.core import segments, words
from zerotilt.core.drawing import MOST_BARS, Picture
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Condition, Segment, Spec, Wording
from zerotilt.core.method import Method
from zerotilt.core.pockets import cells
from zerotilt.core.pockets.cells import Cells
from zerotilt.core.pockets.confirmed import ErrorGap, gap_of
from zerotilt.core.pockets.drawn import bars_of
from zerotilt.core.pockets.errors import ErrorName, Errors, Unit, errors_of, offered
from zerotilt.core.pockets.hunt import hunt
from zerotilt.core.pockets.said import gap_said, where
from zerotilt.core.pockets.standing import outcome_of, value_of
from zerotilt.core.reading import Reading, Span, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import intervals
from zerotilt.core.stats.estimates import Estimate
from zerotilt.core.subject import Subject
from zerotilt.core.typed_conditions import written
from zerotilt.core.work import Work

CellMark = Literal["denser", "less dense", "not told apart", "too few", "no rows"]


class ErrorGridSettings(Frozen):
    error: ErrorName = Field(default="", description="The usual error when empty")
    truth: str = Field(
        default="", max_length=500, description="Of a class taken for another: what it was; any when empty"
    )
    taken: str = Field(default="", max_length=500, description="And what it was taken for; any when empty")
    first: str = Field(
        default="", max_length=500, description="The column down; the two that say most together when empty"
    )
    second: str = Field(
        default="", max_length=500, description="The column across; none when empty and the first is given"
    )


class CutCell(Frozen):
    """The rows of one cell."""

    down: int
    across: int
    segment: Segment
    typed: str = Field(description="Its conditions as they are typed")
    gap: ErrorGap | None = Field(description="Against all other rows; null where the cell holds none, or all")
    rows: int
    p_adjusted: float | None = Field(description="Over all cells that have rows enough")
    mark: CellMark


class ErrorGridResult(Frozen):
    cells: tuple[CutCell, ...]
    first: str
    second: str
    down: tuple[str, ...] = Field(description="What each row of the grid holds")
    across: tuple[str, ...]
    columns: tuple[str, ...] = Field(description="Columns that can be chosen")
    error: ErrorName
    errors: tuple[ErrorName, ...]
    called: str
    unit: Unit
    value: Estimate = Field(description="Of all rows")
    balance_of: str
    balance_mean: bool
    tested: int
    left_out: int = Field(description="Rows of rare levels, which have no cell")
    rows: int
    rows_named: str
    confidence: float
    minimum_rows: int


def cut_by_hand(subject: Subject, settings: ErrorGridSettings, seed: int, work: Work) -> ErrorGridResult:
    """The error of every cell of one or two columns, over all rows of the context.

    Raises
    ------
    Refused : a column cannot be cut, or both are the same.
    """
    errors = errors_of(subject, settings.error, settings.truth, settings.taken)
    offers = cells.searchable(subject)
    names = [one for one in (settings.first, settings.second) if one] or _strongest(subject, errors, seed, work)
    if not names:
        raise Refused("No column tells these rows apart.", todo="Choose other rows.")
    for name in names:
        if name not in offers:
            raise Refused(f"“{name}” cannot be cut; there are {words.listing(list(offers[:8]))}.", todo="Choose one of these.")  # fmt: skip
    if len(set(names)) < len(names):
        raise Refused(f"“{names[0]}” was chosen twice.", todo="Choose another column, or none.")
    axes = [cells.cells_of(subject, name, errors.places, 1) for name in names]
    if any(one is None for one in axes):
        alone = names[[one is None for one in axes].index(True)]
        raise Refused(f"“{alone}” is the same in all of these rows.", todo="Choose another column.")
    sides = [_places(one) for one in axes if one is not None]
    policy = subject.spec.policy
    outcome, balance_of = outcome_of(subject, errors)
    work.begin(len(sides[0]) * (len(sides[1]) if len(sides) > 1 else 1), "cells read")
    found, seen = [], np.zeros(errors.m, bool)
    for i, (down, in_row) in enumerate(sides[0]):
        for j, (across, in_column) in enumerate(sides[1] if len(sides) > 1 else [(None, np.ones(errors.m, bool))]):
            inside = in_row & in_column
            block = tuple(one for one in (down, across) if one is not None)
            seen |= inside
            name = ", ".join(segments.said(one) for one in block)
            some = bool(inside.any()) and not inside.all()
            found.append(
                {
                    "down": i,
                    "across": j,
                    "segment": Segment(name=name if len(name) <= 120 else f"{name[:119]}…", conditions=block),
                    "typed": written((block,)),
                    "gap": gap_of(errors, inside, outcome, policy.confidence) if some else None,
                    "rows": int(inside.sum()),
                }
            )
            work.advance(1)
    p = [_p(one, policy.minimum_rows, errors.m) for one in found]
    adjusted = intervals.adjust(p, policy.adjustment)
    return ErrorGridResult(
        cells=tuple(
            CutCell(**one, p_adjusted=float(q) if np.isfinite(q) else None, mark=_mark(one, float(q), policy.alpha))
            for one, q in zip(found, adjusted, strict=True)
        ),
        first=names[0],
        second=names[1] if len(names) > 1 else "",
        down=tuple(_said(one) for one, _ in sides[0]),
        across=tuple(_said(one) for one, _ in sides[1]) if len(sides) > 1 else ("",),
        columns=offers,
        error=errors.name,
        errors=offered(subject),
        called=errors.called,
        unit=errors.unit,
        value=value_of(errors, policy.confidence),
        balance_of=balance_of,
        balance_mean=not balance_of,
        tested=int(np.isfinite(p).sum()),
        left_out=int((~seen).sum()),
        rows=errors.m,
        rows_named=subject.context.rows,
        confidence=policy.confidence,
        minimum_rows=policy.minimum_rows,
    )


def _p(cell: dict, minimum: int, rows: int) -> float:
    gap = cell["gap"]
    enough = min(cell["rows"], rows - cell["rows"]) >= minimum
    return gap.p if enough and gap is not None and gap.p is not None else np.nan


def _mark(cell: dict, p: float, alpha: float) -> CellMark:
    if not cell["rows"]:
        return "no rows"
    if not np.isfinite(p):
        return "too few"
    if p > alpha:
        return "not told apart"
    return "denser" if (cell["gap"].difference.value or 0.0) > 0 else "less dense"


def _places(axis: Cells) -> list[tuple[Condition, np.ndarray]]:
    """Every cell of a column that a condition can name, with its rows."""
    found = []
    for cell in range(axis.count):
        inside = axis.codes == cell
        if cell == axis.missing:
            condition = Condition(column=axis.column, missing=True)
        elif axis.sort in ("ordered", "levels"):
            if cell >= len(axis.levels):
                continue
            condition = Condition(column=axis.column, levels=axis.levels[cell])
        elif not axis.edges:
            condition = Condition(column=axis.column, missing=True, negated=True)
        else:
            low = axis.edges[cell - 1] if cell else None
            high = axis.edges[cell] if cell < len(axis.edges) else None
            condition = cells.between(axis.column, axis.sort, low, high)
        found.append((condition, inside))
    return found


def _said(condition: Condition) -> str:
    """A condition without its column: "over 10", "telephone", "missing"."""
    return segments.said(condition).removeprefix(f"{words.title(condition.column)} ").removeprefix("is ")


def _strongest(subject: Subject, errors: Errors, seed: int, work: Work) -> list[str]:
    """The two columns whose densest box scores best, or the one where there is no second."""
    made = hunt(subject, errors, cells.columns_of(subject, ()), 2, 1, 1, None, 1.0, seed)
    offers = cells.searchable(subject)
    if made is None or made.flat:
        return [name for name in offers if cells.cells_of(subject, name, errors.places, 1) is not None][:2]
    sets, boxes, _ = made.boxes(work)
    pairs = (sets < made.grid.columns).sum(axis=1) == min(2, made.grid.columns)
    score = np.where(pairs, boxes.score[0].max(axis=1), -np.inf)
    best = sets[int(score.argmax())]
    return [made.searched.cells[int(one)].column for one in best if one < made.grid.columns]


def say(result: ErrorGridResult, wording: Wording, settings: ErrorGridSettings) -> Reading:
    by = words.title(result.first) + (f" and {words.title(result.second)}" if result.second else "")
    rows = row_sets.counted(result.rows, result.rows_named, wording.row if result.rows == 1 else wording.rows)
    denser = [one for one in result.cells if one.mark == "denser"]
    some = [one for one in result.cells if one.rows]
    few = sum(one.mark == "too few" for one in some)
    detail = (
        f"{words.opening(words.plural(result.tested, 'cell'))} of {len(some)} with rows {'has' if result.tested == 1 else 'have'} "
        f"enough ({result.minimum_rows}) to be told apart; what is found by looking is not confirmed on other rows."
    )
    if few:
        detail += f" {words.opening(words.plural(few, 'cell'))} {'is' if few == 1 else 'are'} not shaded."
    if result.left_out:
        detail += f" {words.opening(words.plural(result.left_out, 'row'))} of rare levels {'has' if result.left_out == 1 else 'have'} no cell."
    if not denser:
        return plain(
            f"By {by}, the {result.called} of {rows} is in no cell higher than in all other rows beyond chance.", detail
        )
    worst = max(denser, key=lambda one: one.gap.inside.value or 0.0 if one.gap else 0.0)
    many = "one cell" if len(denser) == 1 else f"{len(denser)} cells"
    head = f"By {by}, the {result.called} of {rows} is higher than elsewhere in {many}."
    told = gap_said(where(worst.segment.conditions), worst.gap, result, wording) if worst.gap else ""
    return Reading(headline=(Span(text=head, flagged=True), Span(text=f" {told}")), detail=detail)


def picture(result: ErrorGridResult, spec: Spec) -> Picture | None:
    """The cells with rows enough, densest first."""
    shown = [one for one in result.cells if one.gap is not None and one.mark not in ("too few", "no rows")]
    shown.sort(key=lambda one: -((one.gap.inside.value if one.gap else 0.0) or 0.0))
    known = [(one.segment.name, one.gap.inside) for one in shown[:MOST_BARS] if one.gap]
    return bars_of(known, result.called)


METHOD = Method(
    name="error_grid",
    version=2,
    area="pockets",
    title="Error over columns cut by hand",
    settings=ErrorGridSettings,
    result=ErrorGridResult,
    compute=cut_by_hand,
    say=say,
    note=(
        "Numbers and days are cut into eight stretches of about as many rows, levels stand by themselves, the fifteen most "
        "frequent; what is missing has a cell of its own. Every cell stands against **all rows outside it** (Wilson 1927, Mee "
        "1984; Hall 1992), p-values adjusted over all cells as the flag policy says. Cells under the policy's least rows are "
        "not shaded: a tiny corner would have the deepest shade by chance. Nothing here is confirmed on other rows; what was "
        "found by looking is to be searched for, or read of rows that nobody looked at."
    ),
    main="cells",
    part="hand",
    needs=frozenset({"outcome", "predictions"}),
    depends=frozenset({"spec", "comparisons", "policy"}),
    picture=picture,
)
