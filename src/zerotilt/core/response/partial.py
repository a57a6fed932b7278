"""How the output moves along one feature: mean curve, ICE band, and where there are rows to say so."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Asked, Method, Place
from zerotilt.core.reading import Reading, plain
from zerotilt.core.response.curves import Direction, Grid, all_curves, centred, direction, feature_named, grid_of
from zerotilt.core.response.parts import parts_of
from zerotilt.core.rows import NAMES
from zerotilt.core.stats import weighing
from zerotilt.core.stats.estimates import Estimate
from zerotilt.core.stats.intervals import normal_quantile
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

SCARCE_SHARE = 0.005
SCARCE_ROWS = 10
NEAR = 0.05
DENSITY_BINS = 40
MOST_RUG = 400
PART_ROWS = 10
"""Rows of a part near a point, below which nothing is said of the part there."""


class ResponseSettings(Frozen):
    feature: str = Field(default="", description="A feature of the model; its first one when empty")
    points: int = Field(default=40, ge=2, le=200)
    percentiles: tuple[float, float] = Field(
        default=(1, 99), description="Range of a numeric axis; 0 and 100 are the least and the greatest value"
    )
    low: float | None = Field(default=None, description="Where a region of the axis begins, in place of percentiles")
    high: float | None = Field(default=None, description="Where it ends")
    rows: int = Field(default=1_000, ge=1, le=100_000, description="Rows whose curves are averaged")
    curves: int = Field(default=30, ge=0, le=2_000, description="Single curves returned")
    centred: bool = Field(default=False, description="Every curve less its own value at the first point")
    colour: str = Field(default="", description="A column of the table by which the curves are told apart")
    case: int | None = Field(default=None, ge=0, description="A row of the table whose own curve is given too, from 0")
    edits: dict[str, str] = Field(
        default_factory=dict, description="Values of that case to write over; empty is missing"
    )

    @model_validator(mode="after")
    def _a_range(self) -> ResponseSettings:
        low, high = self.percentiles
        if not 0 <= low < high <= 100:
            raise ValueError(f"percentiles: {low:g} and {high:g} were given; they rise and lie within 0 and 100")
        return self


class CurvePoint(Frozen):
    position: float | None = Field(description="Place on the axis; null for levels and for missing")
    label: str
    mean: float
    mean_low: float
    mean_high: float
    p10: float
    p25: float
    p50: float
    p75: float
    p90: float
    support: int = Field(description="Rows near this point, or at this level")
    scarce: bool


class Density(Frozen):
    low: float
    high: float
    rows: int


class CurvePart(Frozen):
    """The rows of one part by the colour's column."""

    label: str
    rows: int
    mean: tuple[float, ...]
    direction: Direction = Field(description="Where the part has rows")
    support: tuple[int, ...] = Field(description="Rows of the part near each point")


class ClassCurve(Frozen):
    label: str
    mean: tuple[float, ...]


class CaseCurve(Frozen):
    """The chosen row's own curve. The marker at (position, output) lies on the curve through ``path``."""

    row: int
    label: str
    position: float | None = Field(description="Where the row lies on a numeric axis")
    output: float
    values: tuple[float, ...] = Field(description="Over the same points")
    path: tuple[tuple[float, float], ...] = Field(description="On a numeric axis: its curve with its own place in it")
    outside: bool = Field(description="Whether the row lies beyond the drawn range")


class BesideCurve(Frozen):
    """The mean curve of the model or rows read alongside, at the same points."""

    mean: tuple[float, ...]
    mean_low: tuple[float, ...]
    mean_high: tuple[float, ...]
    difference: tuple[Estimate, ...] = Field(description="Alongside less here")
    rows_named: Literal["held-out", "training", "all"]
    other_model: bool
    rows_read: int


class ResponseResult(Frozen):
    feature: str
    numeric: bool
    date: bool = Field(description="Whether positions are days since 1970-01-01")
    ordered: bool
    points: tuple[CurvePoint, ...]
    curves: tuple[tuple[float, ...], ...] = Field(description="Single ICE curves over the same points")
    curve_rows: tuple[int, ...] = Field(description="The table's row of each single curve, from 0")
    curve_parts: tuple[int, ...] = Field(description="The part of each single curve, where there is a colour")
    colour: str | None
    parts: tuple[CurvePart, ...]
    classes: tuple[ClassCurve, ...] = Field(description="With several classes: the mean curve of each, in their order")
    density: tuple[Density, ...]
    rug: tuple[float, ...] = Field(description="Distinct values in the drawn range, up to 400 spread evenly over them")
    distinct: int = Field(description="How many distinct values there are in the drawn range")
    outside: int = Field(description="Rows with a value beyond the drawn range")
    least: float | None = Field(description="The least value of any row")
    greatest: float | None
    case: CaseCurve | None
    beside: BesideCurve | None
    output: Literal["probability", "log-odds", "value"]
    centred: bool
    threshold: float | None
    event: str
    direction: Direction
    rows: int
    rows_read: int
    left_out: int = Field(description="Levels beyond the thirty largest that are not drawn")
    features: tuple[str, ...]
    columns: tuple[str, ...] = Field(description="Columns the curves can be told apart by")
    confidence: float


def respond(subject: Subject, settings: ResponseSettings, seed: int, work: Work) -> ResponseResult:
    """Partial dependence and the 10–90% band of ICE curves along one feature (methods section 3).

    Raises
    ------
    Refused : the feature is none of the model's, the region holds no row, the colour is no column.
    """
    features = subject.model.inputs
    feature = feature_named(subject, settings.feature)
    grid = grid_of(subject, feature, settings.points, settings.percentiles, (settings.low, settings.high))
    chosen = subject.rows.drawn(np.random.default_rng(seed), settings.rows)
    sample, mass = subject.frame.take(chosen), subject.rows.mass[chosen]
    found = all_curves(subject, sample, {feature: grid.values}, work)[feature]
    classes = tuple(
        ClassCurve(
            label=name,
            mean=tuple(map(float, _mean_of_class(subject, name, sample, feature, grid, work, settings.centred, mass))),
        )
        for name in subject.classes
    )
    case = _case(subject, settings, feature, grid)
    if settings.centred:
        found = centred(found)
    mean = weighing.mean(found, mass)
    half = normal_quantile(subject.spec.policy.confidence) * weighing.error(found, mass)
    quantiles = weighing.quantiles(found, [0.1, 0.25, 0.5, 0.75, 0.9], mass)
    values = subject.frame[feature]
    support, scarce = _support(values, grid)
    scale = np.zeros(len(mean), bool) if grid.positions is None else np.isfinite(grid.positions)
    shown = scale if scale.any() else np.ones(len(mean), bool)
    parts, codes = _parts(subject, settings, feature, grid, chosen, found, shown)
    positions = np.full(len(mean), np.nan) if grid.positions is None else grid.positions
    drawn = positions[scale] if scale.any() else np.zeros(0)
    known = values[np.isfinite(values)] if grid.positions is not None else np.zeros(0)
    inside = (known >= drawn.min()) & (known <= drawn.max()) if len(drawn) else np.zeros(0, bool)
    distinct = np.unique(known[inside]) if len(drawn) else np.zeros(0)
    return ResponseResult(
        feature=feature,
        numeric=grid.positions is not None,
        date=subject.editor.is_date(feature),
        ordered=grid.ordered,
        points=tuple(
            CurvePoint(
                position=float(positions[i]) if scale[i] else None,
                label=grid.labels[i],
                mean=float(mean[i]),
                mean_low=float(mean[i] - half[i]),
                mean_high=float(mean[i] + half[i]),
                p10=float(quantiles[0, i]),
                p25=float(quantiles[1, i]),
                p50=float(quantiles[2, i]),
                p75=float(quantiles[3, i]),
                p90=float(quantiles[4, i]),
                support=int(support[i]),
                scarce=bool(scarce[i]),
            )
            for i in range(len(mean))
        ),
        curves=tuple(tuple(map(float, curve)) for curve in found[: settings.curves]),
        curve_rows=tuple(int(row) for row in subject.rows.numbers[chosen][: settings.curves]),
        curve_parts=tuple(int(code) for code in codes[: settings.curves]),
        colour=settings.colour or None,
        parts=parts,
        classes=classes,
        density=_density(values, grid),
        rug=tuple(map(float, distinct[np.unique(np.linspace(0, len(distinct) - 1, MOST_RUG).round().astype(int))]))
        if len(distinct)
        else (),
        distinct=len(distinct),
        outside=int((~inside).sum()),
        least=float(known.min()) if len(known) else None,
        greatest=float(known.max()) if len(known) else None,
        case=case,
        beside=None if subject.beside is None else _beside(subject, settings, feature, grid, seed, work, found, mass),
        output=subject.scale,
        centred=settings.centred,
        threshold=None if settings.centred else subject.threshold,
        event=subject.what,
        direction=direction(mean[shown], grid.ordered, float(found.std())),
        rows=subject.n,
        rows_read=len(chosen),
        left_out=grid.left_out,
        features=features,
        columns=subject.partable,
        confidence=subject.spec.policy.confidence,
    )


def _mean_of_class(subject: Subject, name: str, sample, feature: str, grid: Grid, work: Work, less_first: bool, mass):
    found = all_curves(subject.of_class(name), sample, {feature: grid.values}, work)[feature]
    return weighing.mean(centred(found) if less_first else found, mass)


def _parts(subject: Subject, settings: ResponseSettings, feature: str, grid: Grid, chosen, found, shown):
    """Mean curves of the parts that have rows, and the part of every curve."""
    if not settings.colour:
        return (), ()
    labels, codes = parts_of(subject, settings.colour)
    mine = codes[chosen]
    present = [i for i in range(len(labels)) if (mine == i).any()]
    spread = float(found.std())
    parts = []
    for i in present:
        mean = weighing.mean(found[mine == i], subject.rows.mass[chosen][mine == i])
        support = _support(subject.frame[feature][codes == i], grid)[0]
        read = mean[shown & (support >= PART_ROWS)]
        parts.append(
            CurvePart(
                label=labels[i],
                rows=int((codes == i).sum()),
                mean=tuple(map(float, mean)),
                direction=direction(read if len(read) > 1 else mean[shown], grid.ordered, spread),
                support=tuple(map(int, support)),
            )
        )
    return tuple(parts), np.searchsorted(present, mine)


def _beside(
    subject: Subject, settings: ResponseSettings, feature: str, grid: Grid, seed: int, work: Work, here, here_mass
):
    """The mean curve alongside; None where that model does not take the feature."""
    other = subject.second
    if feature not in other.model.inputs:
        return None
    chosen = other.rows.drawn(np.random.default_rng(seed), settings.rows)
    mass = other.rows.mass[chosen]
    found = all_curves(other, other.frame.take(chosen), {feature: grid.values}, work)[feature]
    if settings.centred:
        found = centred(found)
    same = other.context.rows == subject.context.rows
    here_mean, here_error = weighing.mean(here, here_mass), weighing.error(here, here_mass)
    # the same rows asked of two models: the rows' own differences are compared
    error = weighing.error(found - here, mass) if same else np.hypot(weighing.error(found, mass), here_error)
    reach = normal_quantile(subject.spec.policy.confidence)
    mean, half = weighing.mean(found, mass), reach * weighing.error(found, mass)
    gap = mean - here_mean
    return BesideCurve(
        mean=tuple(map(float, mean)),
        mean_low=tuple(map(float, mean - half)),
        mean_high=tuple(map(float, mean + half)),
        difference=tuple(
            Estimate(value=float(gap[i]), low=float(gap[i] - reach * error[i]), high=float(gap[i] + reach * error[i]))
            for i in range(len(gap))
        ),
        rows_named=NAMES[other.context.rows],
        other_model=other.predictor is not subject.predictor,
        rows_read=len(chosen),
    )


def _case(subject: Subject, settings: ResponseSettings, feature: str, grid: Grid) -> CaseCurve | None:
    """The chosen row's own curve, its place on the axis and its value."""
    if settings.case is None:
        return None
    row = subject.editor.case(settings.case, settings.edits)
    value = row[feature][0]
    asked = np.append(grid.values, value)
    curve = all_curves(subject, row, {feature: asked})[feature][0]
    if settings.centred:
        curve = curve - curve[0]
    placed = grid.positions is not None and bool(np.isfinite(value))
    path: list[tuple[float, float]] = []
    outside = False
    if grid.positions is not None:
        on_scale = np.flatnonzero(np.isfinite(asked.astype(float)))
        places = asked[on_scale].astype(float)
        drawn = places[:-1] if placed else places
        outside = bool(placed and len(drawn) and not drawn.min() <= value <= drawn.max())
        kept = on_scale[:-1] if outside else on_scale
        at, first = np.unique(asked[kept].astype(float), return_index=True)
        path = [(float(x), float(curve[kept[i]])) for x, i in zip(at, first, strict=True)]
    return CaseCurve(
        row=settings.case,
        label=subject.editor.label(feature, value if grid.positions is None else float(value)),
        position=float(value) if placed else None,
        output=float(curve[-1]),
        values=tuple(map(float, curve[:-1])),
        path=tuple(path),
        outside=outside,
    )


def _support(values: NDArray, grid: Grid) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """Rows within a twentieth of the drawn range of each point, or at each level; and whether they are too few."""
    least = max(SCARCE_ROWS, math.ceil(SCARCE_SHARE * len(values)))
    if grid.positions is None:
        counts = np.array([(values == level).sum() for level in grid.values])
        return counts, counts < least
    known = np.sort(values[np.isfinite(values)])
    finite = grid.positions[np.isfinite(grid.positions)]
    reach = NEAR * (finite.max() - finite.min()) if len(finite) else 0.0
    near = np.searchsorted(known, grid.positions + reach, "right") - np.searchsorted(
        known, grid.positions - reach, "left"
    )
    counts = np.where(np.isnan(grid.positions), len(values) - len(known), near)
    return counts, counts < least


def _density(values: NDArray, grid: Grid) -> tuple[Density, ...]:
    if grid.positions is None:
        return ()
    finite = grid.positions[np.isfinite(grid.positions)]
    if len(finite) < 2:
        return ()
    low, high = finite.min(), finite.max()
    known = values[np.isfinite(values) & (values >= low) & (values <= high)]
    distinct, sizes = np.unique(known, return_counts=True)
    if len(distinct) <= DENSITY_BINS:  # a bar at each value, not beside it
        half = (high - low) / (2 * DENSITY_BINS)
        return tuple(
            Density(low=float(at - half), high=float(at + half), rows=int(n))
            for at, n in zip(distinct, sizes, strict=True)
        )
    counts, edges = np.histogram(known, bins=DENSITY_BINS, range=(low, high))
    return tuple(
        Density(low=float(a), high=float(b), rows=int(n)) for a, b, n in zip(edges, edges[1:], counts, strict=False)
    )


def say(result: ResponseResult, wording: Wording, settings: ResponseSettings) -> Reading:
    name = words.title(result.feature)
    kind = {"probability": "mean chance that", "log-odds": "mean log-odds that", "value": "mean"}[result.output]
    what = f"{kind} {result.event}"
    if result.centred:
        what = f"change of the {what}, from {result.points[0].label},"

    def amount(value: float, scale: str) -> str:
        return words.on_scale(value, scale, wording.unit)

    points = [point for point in result.points if point.position is not None or not result.numeric]
    points = points or list(result.points)
    if len(points) == 1:
        only = points[0]
        value = amount(only.mean, result.output)
        headline = f"{words.opening(name)} is {only.label} in all of these {wording.rows}; the {what} is {value}."
        return plain(headline, _detail(result, wording, name))
    if result.numeric and len(points) > 1:
        first, last = points[0], points[-1]
        if result.direction == "flat":
            headline = f"The {what} hardly moves along {name}: {amount(first.mean, result.output)} throughout."
        else:
            verb = {"rises": "rises", "falls": "falls"}.get(result.direction, "goes")
            headline = (
                f"As {name} goes from {first.label} to {last.label}, the {what} {verb} from "
                f"{amount(first.mean, result.output)} to {amount(last.mean, result.output)}"
            )
            if result.direction == "bends":
                told = [p for p in points if not p.scarce] or points
                top, bottom = max(told, key=lambda p: p.mean), min(told, key=lambda p: p.mean)
                headline += (
                    f", highest {amount(top.mean, result.output)} at {top.label} and lowest "
                    f"{amount(bottom.mean, result.output)} at {bottom.label}"
                )
            headline += "."
    else:
        # nothing is made of a level that hardly any row holds
        told = [p for p in points if not p.scarce] or points
        top, bottom = max(told, key=lambda p: p.mean), min(told, key=lambda p: p.mean)
        headline = (
            f"The {what} is highest at {name} {top.label} ({amount(top.mean, result.output)}) and lowest at "
            f"{bottom.label} ({amount(bottom.mean, result.output)})."
        )
    headline += _by_part(result, amount) + _alongside(result, wording)
    return plain(headline, _detail(result, wording, name))


def _by_part(result: ResponseResult, amount) -> str:
    """Parts whose mean goes another way than the whole's, or what differs most between them."""
    if len(result.parts) < 2 or not result.points:
        return ""
    name, colour = words.title(result.feature), words.title(result.colour)
    scale = [i for i, point in enumerate(result.points) if point.position is not None or not result.numeric]
    there = {
        part.label: [i for i in scale or range(len(result.points)) if part.support[i] >= PART_ROWS]
        for part in result.parts
    }
    read = [part for part in result.parts if len(there[part.label]) > 1]
    ways = [_way(part.mean, there[part.label], part.direction) for part in read]
    if result.numeric and len(set(ways)) > 1:
        said = [
            f"{way} for {part.label} ({amount(part.mean[there[part.label][0]], result.output)} to "
            f"{amount(part.mean[there[part.label][-1]], result.output)})"
            for part, way in list(zip(read, ways, strict=True))[:4]
        ]
        return f" By {colour} it differs: the mean {words.listing(said)}."
    gaps = {}
    for i in scale or range(len(result.points)):
        means = [(part.mean[i], part.label) for part in result.parts if i in there[part.label]]
        if len(means) > 1:
            gaps[i] = (max(means), min(means))
    if not gaps:
        return f" By {colour} nothing can be compared: no place along {name} has {PART_ROWS} rows in two parts."
    widest = max(gaps, key=lambda i: gaps[i][0][0] - gaps[i][1][0])
    (high, top), (low, bottom) = gaps[widest]
    return (
        f" By {colour} the means are furthest apart at {result.points[widest].label}: {amount(high, result.output)} for {top}, "
        f"{amount(low, result.output)} for {bottom}."
    )


def _way(mean, scale: list[int], direction: Direction) -> str:
    """What one curve does, in words; one that bends may still rise or fall on the whole."""
    if direction in ("rises", "falls"):
        return direction
    if direction == "flat":
        return "hardly moves"
    net, reach = mean[scale[-1]] - mean[scale[0]], max(mean[i] for i in scale) - min(mean[i] for i in scale)
    if abs(net) >= reach / 2:
        return "rises on the whole" if net > 0 else "falls on the whole"
    return "bends"


def _alongside(result: ResponseResult, wording: Wording) -> str:
    if result.beside is None:
        return ""
    gaps = result.beside.difference
    widest = max(range(len(gaps)), key=lambda i: abs(gaps[i].value or 0.0))
    gap = gaps[widest]
    sure = gap.low > 0 or gap.high < 0
    where = "the version alongside" if result.beside.other_model else f"{result.beside.rows_named} {wording.rows}"
    amount = words.difference(gap.value, result.output, wording.unit)
    way = "higher" if gap.value > 0 else "lower"
    tail = "" if sure else ", which their spread may account for"
    return f" In {where} the mean is up to {amount} {way}, at {result.points[widest].label}{tail}."


def _detail(result: ResponseResult, wording: Wording, name: str) -> str:
    detail = f"Mean of {words.count(result.rows_read)} of {words.count(result.rows)} {wording.rows}, each with {name} moved and all else kept."
    scarce = [point.label for point in result.points if point.scarce]
    if scarce:
        place = words.runs([p.label for p in result.points], [p.scarce for p in result.points], result.numeric)
        detail += f" Few rows lie near {place}; the curve is thin and dashed there."
    if result.left_out:
        detail += (
            f" {words.plural(result.left_out, 'rarer level')} {'is' if result.left_out == 1 else 'are'} not drawn."
        )
    if result.outside:
        detail += (
            f" {words.plural(result.outside, 'row')} {'lies' if result.outside == 1 else 'lie'} beyond the drawn range."
        )
    if result.case is not None and result.case.outside:
        detail += f" The chosen {wording.row} lies beyond it, at {result.case.label}."
    return detail


def arrays(result: ResponseResult) -> dict[str, list[dict[str, Any]]]:
    """What a response holds along its points: single curves, classes, parts, the case, the curve alongside."""
    labels = [point.label for point in result.points]
    positions = [point.position for point in result.points]

    def along(values) -> list[dict[str, Any]]:
        return [
            {result.feature: label, "position": position, "value": value}
            for label, position, value in zip(labels, positions, values, strict=True)
        ]

    return {
        "curves": [
            {"row": row} | point
            for row, curve in zip(result.curve_rows, result.curves, strict=True)
            for point in along(curve)
        ],
        "parts": [
            {"part": part.label, "rows": part.rows} | point for part in result.parts for point in along(part.mean)
        ],
        "classes": [{"class": one.label} | point for one in result.classes for point in along(one.mean)],
        "case": [{"row": result.case.row} | point for point in along(result.case.values)] if result.case else [],
        "alongside": [
            point
            | {
                "low": low,
                "high": high,
                "difference": gap.value,
                "difference_low": gap.low,
                "difference_high": gap.high,
            }
            for point, low, high, gap in zip(
                along(result.beside.mean),
                result.beside.mean_low,
                result.beside.mean_high,
                result.beside.difference,
                strict=True,
            )
        ]
        if result.beside
        else [],
    }


REPORTED = 3
"""Features whose response stands in the report."""


def of_top_drivers(subject: Subject, so_far: Mapping[str, list[Any]], fewer: int | None) -> list[Asked]:
    """The features that the loss is seen to depend on most."""
    top = [one.feature for found in so_far.get("drivers", []) for one in found.drivers if one.loss_depends][:REPORTED]
    return [({"feature": name} | ({"rows": fewer} if fewer else {}), words.title(name)) for name in top]


METHOD = Method(
    name="response",
    area="response",
    title="Response",
    settings=ResponseSettings,
    result=ResponseResult,
    compute=respond,
    say=say,
    note=(
        "**Partial dependence** (Friedman 2001) is the mean, and **ICE curves** (Goldstein et al. 2015) are the "
        "single rows, of the output with this feature set to each value and everything else kept; the band holds the "
        "middle 80% of single curves. Grid points are distinct quantiles between two percentiles, 1 and 99 unless "
        "set, or of a region; missing has a place of its own. Rows near a point are those within a twentieth of the "
        "drawn range; below 10 rows, or below 0.5% of them, the curve is thin and dashed and the reading says so. "
        "Where features are associated, some combinations behind the curve do not occur in the table."
    ),
    main="points",
    place=Place(
        "Response",
        of_top_drivers,
        lambda result, spec: (
            f"Mean response along {words.title(result.feature)}; the band holds the middle 80% of single curves"
        ),
    ),
    arrays=arrays,
    address={"low": "from", "high": "to", "percentiles": "range", "points": "points", "curves": "curves"},
    reads_alongside=True,
    version=4,
)
