"""Original and repaired values side by side: how far apart groups are in every number, before and after, and any one row."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import membership, words
from zerotilt.core import rows as row_sets
from zerotilt.core.drawing import MOST_BARS, Picture
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Role, RowSet, Spec, Wording
from zerotilt.core.method import Method
from zerotilt.core.pockets.drawn import bars_of
from zerotilt.core.reading import Reading, Span
from zerotilt.core.refusal import Refused
from zerotilt.core.stats.estimates import Estimate
from zerotilt.core.steps.repair import LEAST, Groups, Repair, fitted
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

SHARES = (0.05, 0.25, 0.5, 0.75, 0.95)


SHARED = 0.05
"""Of a group's rows at one value: so many that they leave a distance when they move together."""


class RepairedSettings(Frozen):
    by: str = Field(
        default="", max_length=500, description="Column that makes the groups; the first of levels when empty"
    )
    level: float = Field(default=1.0, ge=0, le=1, description="0 leaves values as they are; at 1 groups are alike")
    row: int | None = Field(default=None, ge=0, description="A row whose values are told, by its place in the table")


class RepairedGroup(Frozen):
    """One number in one group: values at five shares of its ranks."""

    group: str
    rows: int
    before: tuple[float | None, ...]
    after: tuple[float | None, ...]


class RepairedFeature(Frozen):
    feature: str
    apart: float | None = Field(description="Largest distance between two groups' distributions (Kolmogorov–Smirnov)")
    apart_after: float | None
    moved: float | None = Field(description="Mean absolute change, in standard deviations")
    shared: float | None = Field(default=None, description="Of one group the largest share of rows that have one value")
    groups: tuple[RepairedGroup, ...]
    value: float | None = Field(description="Of the row that was asked about, as it is")
    value_after: float | None = Field(description="The same repaired")


class RepairedResult(Frozen):
    by: str
    level: float
    features: tuple[RepairedFeature, ...] = Field(description="The one in which groups are farthest apart first")
    row: int | None
    row_group: str
    shares: tuple[float, ...]
    rows: int
    rows_named: str
    learnt_from: int = Field(description="Training rows that the movement was learnt from")


def repaired(subject: Subject, settings: RepairedSettings, seed: int, work: Work) -> RepairedResult:
    """Learnt from the training rows, as a candidate learns it; told of the rows that are read.

    Raises
    ------
    Refused : no column of levels makes groups, none of the features is a number, or the row is not in the table.
    """
    spec, table = subject.spec, subject.table
    by = settings.by or next((one[0] for one in spec.groupings if len(one) == 1 and table.is_text(one[0])), "")
    if not by or by not in table.names or not table.is_text(by):
        raise Refused(
            f"by: “{by}” is no column of levels." if by else "by: no column of levels makes groups.",
            todo="Choose a column of levels, or mark one as a group in Intake.",
        )
    numbers = [one.name for one in spec.columns if one.role is Role.feature and not table.is_text(one.name)]
    if not numbers:
        raise Refused("None of the features is a number; there is nothing to move.")
    if settings.row is not None and settings.row >= table.rows:
        raise Refused(f"row: the table has {words.plural(table.rows, 'row')}.")
    training = row_sets.select(spec, table, RowSet(split="training"))
    names = np.array([value or membership.MISSING for value in table.texts(by)], dtype=object).astype(str)
    every = Groups.of(names)
    group, here = every.among(training), every.among(subject.rows.numbers)
    work.begin(len(numbers), "numbers moved")
    found = []
    for name in numbers:
        values = table.numbers(name)
        repair = fitted(values[training], group, settings.level)
        found.append(_feature(name, repair, values, subject.rows.numbers, here, names, settings.row))
        work.advance(1)
    return RepairedResult(
        by=by,
        level=settings.level,
        features=tuple(sorted(found, key=lambda one: -(one.apart or 0.0))),
        row=settings.row,
        row_group=str(names[settings.row]) if settings.row is not None else "",
        shares=SHARES,
        rows=subject.n,
        rows_named=subject.context.rows,
        learnt_from=len(training),
    )


def _feature(name: str, repair: Repair, values, rows, here: Groups, names, row: int | None) -> RepairedFeature:
    before = values[rows].astype(np.float32).astype(float)
    after = repair.moved(before, here).astype(float)
    spread = float(np.nanstd(before)) if np.isfinite(before).any() else 0.0
    groups = []
    for place in np.unique(here.codes):
        mine = (here.codes == place) & np.isfinite(before)
        told = [
            tuple(float(one) for one in np.quantile(side[mine], SHARES)) if mine.any() else (None,) * len(SHARES)
            for side in (before, after)
        ]
        groups.append(RepairedGroup(group=here.names[place], rows=int(mine.sum()), before=told[0], after=told[1]))
    off = np.abs(after - before)[np.isfinite(before)]
    value = after_value = None
    if row is not None and np.isfinite(values[row]):
        value = float(values[row])
        after_value = float(repair.moved(values[row : row + 1], names[row : row + 1])[0])
    return RepairedFeature(
        feature=name,
        apart=_apart(before, here.codes),
        apart_after=_apart(after, here.codes),
        moved=float(off.mean()) / spread if len(off) and spread else None,
        shared=_shared(before, here.codes),
        groups=tuple(groups),
        value=value,
        value_after=after_value,
    )


def _apart(values: NDArray[np.float64], group: NDArray) -> float | None:
    """The largest distance between two groups' distribution functions, of groups with ten values or more."""
    known = np.isfinite(values)
    names, sizes = np.unique(group[known], return_counts=True)
    held = [np.sort(values[known & (group == one)]) for one, size in zip(names, sizes, strict=True) if size >= LEAST]
    if len(held) < 2:
        return None
    at = np.unique(np.concatenate(held))
    shares = np.array([np.searchsorted(one, at, side="right") / len(one) for one in held])
    return float((shares.max(axis=0) - shares.min(axis=0)).max())


def _shared(values: NDArray[np.float64], group: NDArray) -> float | None:
    known = np.isfinite(values)
    held = [values[known & (group == one)] for one in np.unique(group[known])]
    found = [np.unique(one, return_counts=True)[1].max() / len(one) for one in held if len(one) >= LEAST]
    return float(max(found)) if found else None


def _why_left(one: RepairedFeature, wording: Wording) -> str:
    """Why a distance stays when all is moved that can be."""
    if not one.moved:
        return "it is not moved, since groups have too few values among the training rows"
    if (one.shared or 0.0) >= SHARED:
        return f"many {wording.rows} share a value, and move together"
    return "what was learnt from the training rows fits these less well"


def say(result: RepairedResult, wording: Wording, settings: RepairedSettings) -> Reading:
    of = row_sets.counted(result.rows, result.rows_named, wording.row if result.rows == 1 else wording.rows)
    known = [one for one in result.features if one.apart is not None and one.apart_after is not None]
    name = words.title(result.by)
    if not known:
        return Reading(
            headline=(
                Span(text=f"No number has values enough in two groups of {name} to tell how far apart they are."),
            ),
            detail="",
        )
    first = known[0]
    head = (
        f"Moved {f'{result.level * 100:g}%'} of the way, {words.title(first.feature)}, in which groups of {name} are farthest apart, "
        f"goes from a distance of {words.decimal(first.apart or 0.0, 2)} to {words.decimal(first.apart_after or 0.0, 2)} in {of}."
    )
    left = [one for one in known if (one.apart_after or 0.0) > 0.1 and result.level == 1]
    detail = (
        f"Repaired values are not what anybody told: they were learnt from {words.plural(result.learnt_from, 'training row')}, and stand "
        f"beside the real ones here and nowhere else."
    )
    for one in left[:3]:
        detail += f" {words.opening(words.title(one.feature))} keeps a distance: {_why_left(one, wording)}."
    return Reading(headline=(Span(text=head),), detail=detail)


def picture(result: RepairedResult, spec: Spec) -> Picture | None:
    shown = []
    for one in result.features:
        for what, value in (("as it is", one.apart), ("repaired", one.apart_after)):
            shown.append((f"{words.title(one.feature)}, {what}", Estimate(value=value, low=None, high=None)))
    return bars_of(shown[:MOST_BARS], "distance between groups")


METHOD = Method(
    name="repaired",
    weighs=False,
    area="remedies",
    title="Values moved towards being alike",
    settings=RepairedSettings,
    result=RepairedResult,
    compute=repaired,
    say=say,
    note=(
        "**Repair of features** (Feldman et al. 2015): a number stands at a share of the ranks of its group, and is moved by the "
        "level of the way to the median, over groups, of the values at the same share; ranks within each group are kept. Equal "
        "values move together, so that a number of few values keeps a distance; missing values stay missing, groups of fewer than "
        "ten values stay as they are, and columns of levels are not moved. The **distance** is Kolmogorov and Smirnov's, the "
        "largest of any two groups. The movement is learnt from the training rows, as a candidate with this step learns it.\n\n"
        "It takes for granted that groups would be alike in every number if all were right, and that what tells within a group tells "
        "rightly. It hurts people whose number truly differs and matters, and it needs the group of everybody who is decided about, "
        "which the law forbids in many places. Explanations of such a model are of the values as they are."
    ),
    version=2,
    main="features",
    part="repair",
    needs=frozenset(),
    depends=frozenset({"spec", "comparisons"}),
    picture=picture,
)
