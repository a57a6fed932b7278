"""How the output moves along one feature: mean curve, ICE band, and where there are rows to say so."""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.groups.intervals import normal_quantile
from zerotilt.core.reading import Reading, plain
from zerotilt.core.response.curves import Direction, Grid, all_curves, centred, direction, feature_named, grid_of
from zerotilt.core.spec import Frozen, Wording
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

SCARCE_SHARE = 0.005
SCARCE_ROWS = 10
NEAR = 0.05
DENSITY_BINS = 40


class ResponseSettings(Frozen):
    feature: str = Field(default="", description="A feature of the model; its first one when empty")
    points: int = Field(default=40, ge=2, le=200)
    range: Literal["1 to 99%", "full"] = "1 to 99%"
    rows: int = Field(default=1_000, ge=1, le=100_000, description="Rows whose curves are averaged")
    curves: int = Field(default=30, ge=0, le=2_000, description="Single curves returned")
    centred: bool = Field(default=False, description="Every curve less its own value at the first point")
    case: int | None = Field(default=None, ge=0, description="A row of the table whose own curve is given too, from 0")
    edits: dict[str, str] = Field(
        default_factory=dict, description="Values of that case to write over; empty is missing"
    )


class CurvePoint(Frozen):
    position: float | None = Field(description="Place on the axis; null for levels and for missing")
    label: str
    mean: float
    mean_low: float
    mean_high: float
    p10: float
    p90: float
    support: int = Field(description="Rows near this point, or at this level")
    scarce: bool


class Density(Frozen):
    low: float
    high: float
    rows: int


class ResponseResult(Frozen):
    feature: str
    numeric: bool
    points: tuple[CurvePoint, ...]
    curves: tuple[tuple[float, ...], ...] = Field(description="Single ICE curves over the same points")
    density: tuple[Density, ...]
    case: tuple[float, ...] | None = Field(description="The chosen row's own curve over the same points")
    case_position: float | None = Field(description="Where that row lies on a numeric axis")
    case_label: str | None
    output: Literal["probability", "log-odds", "value"]
    threshold: float | None
    event: str
    direction: Direction
    rows: int
    rows_read: int
    left_out: int = Field(description="Levels beyond the thirty largest that are not drawn")
    features: tuple[str, ...]
    confidence: float


def respond(subject: Subject, settings: ResponseSettings, seed: int, work: Work) -> ResponseResult:
    """Partial dependence and the 10–90% band of ICE curves along one feature (methods section 3).

    Raises
    ------
    Refused : the feature is none of the model's.
    """
    features = subject.model.inputs
    feature = feature_named(subject, settings.feature)
    grid = grid_of(subject, feature, settings.points, (1, 99) if settings.range == "1 to 99%" else (0, 100))
    chosen = np.random.default_rng(seed).permutation(subject.n)[: settings.rows]
    sample = subject.frame.take(chosen)
    found = all_curves(subject, sample, {feature: grid.values}, work)[feature]
    own, own_position, own_label = _case(subject, settings, feature, grid)
    if settings.centred:
        found = centred(found)
        own = None if own is None else own - own[0]
    mean = found.mean(axis=0)
    half = normal_quantile(subject.spec.policy.confidence) * found.std(axis=0) / math.sqrt(max(len(chosen) - 1, 1))
    p10, p90 = np.quantile(found, [0.1, 0.9], axis=0)
    support, scarce = _support(subject.frame[feature], grid)
    scale = grid.positions is not None and np.isfinite(grid.positions)
    shown = mean[scale] if grid.positions is not None and scale.any() else mean
    return ResponseResult(
        feature=feature,
        numeric=grid.positions is not None,
        points=tuple(
            CurvePoint(
                position=None if grid.positions is None or not scale[i] else float(grid.positions[i]),
                label=grid.labels[i],
                mean=float(mean[i]),
                mean_low=float(mean[i] - half[i]),
                mean_high=float(mean[i] + half[i]),
                p10=float(p10[i]),
                p90=float(p90[i]),
                support=int(support[i]),
                scarce=bool(scarce[i]),
            )
            for i in range(len(mean))
        ),
        curves=tuple(tuple(map(float, curve)) for curve in found[: settings.curves]),
        density=_density(subject.frame[feature], grid),
        case=None if own is None else tuple(map(float, own)),
        case_position=own_position,
        case_label=own_label,
        output=subject.scale,
        threshold=None if settings.centred else subject.threshold,
        event=subject.what,
        direction=direction(shown, grid.ordered, float(found.std())),
        rows=subject.n,
        rows_read=len(chosen),
        left_out=grid.left_out,
        features=features,
        confidence=subject.spec.policy.confidence,
    )


def _case(subject: Subject, settings: ResponseSettings, feature: str, grid: Grid):
    """The chosen row's own curve, its place on the axis and its value."""
    if settings.case is None:
        return None, None, None
    row = subject.case(settings.case, settings.edits)
    curve = all_curves(subject, row, {feature: grid.values})[feature][0]
    value = row[feature][0]
    placed = grid.positions is not None and bool(np.isfinite(value))
    return (
        curve,
        float(value) if placed else None,
        subject.label(feature, value if grid.positions is None else float(value)),
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
                top, bottom = max(points, key=lambda p: p.mean), min(points, key=lambda p: p.mean)
                headline += (
                    f", highest {amount(top.mean, result.output)} at {top.label} and lowest "
                    f"{amount(bottom.mean, result.output)} at {bottom.label}"
                )
            headline += "."
    else:
        top, bottom = max(points, key=lambda p: p.mean), min(points, key=lambda p: p.mean)
        headline = (
            f"The {what} is highest at {name} {top.label} ({amount(top.mean, result.output)}) and lowest at "
            f"{bottom.label} ({amount(bottom.mean, result.output)})."
        )
    return plain(headline, _detail(result, wording, name))


def _detail(result: ResponseResult, wording: Wording, name: str) -> str:
    detail = f"Mean of {words.count(result.rows_read)} of {words.count(result.rows)} {wording.rows}, each with {name} moved and all else kept."
    scarce = [point.label for point in result.points if point.scarce]
    if scarce:
        place = (
            scarce[0]
            if len(scarce) == 1
            else f"{scarce[0]} to {scarce[-1]}"
            if result.numeric
            else words.listing(scarce[:5])
        )
        detail += f" Few rows lie near {place}; the curve is thin and dashed there."
    if result.left_out:
        detail += (
            f" {words.plural(result.left_out, 'rarer level')} {'is' if result.left_out == 1 else 'are'} not drawn."
        )
    return detail
