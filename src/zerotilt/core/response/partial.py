"""How the output moves along one feature: mean curve, ICE band, and where there are rows to say so."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import words
from zerotilt.core.method import Asked, Method, Place
from zerotilt.core.response.curves import (
    Grid,
    all_curves,
    centred,
    direction,
    feature_named,
    grid_of,
    support_at,
    told_of,
)
from zerotilt.core.response.parts import parts_of
from zerotilt.core.response.response_result import (
    PART_ROWS,
    BesideCurve,
    CaseCurve,
    ClassCurve,
    CurvePart,
    CurvePoint,
    Density,
    ResponseResult,
    ResponseSettings,
    arrays,
)
from zerotilt.core.response.response_said import say
from zerotilt.core.rows import NAMES
from zerotilt.core.stats import weighing
from zerotilt.core.stats.estimates import Estimate
from zerotilt.core.stats.intervals import normal_quantile
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

DENSITY_BINS = 40
MOST_RUG = 400


def respond(subject: Subject, settings: ResponseSettings, seed: int, work: Work) -> ResponseResult:
    """Partial dependence and the 10–90% band of ICE curves along one feature.

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
    support, scarce = support_at(values, grid)
    scale = np.zeros(len(mean), bool) if grid.positions is None else np.isfinite(grid.positions)
    shown = scale if scale.any() else np.ones(len(mean), bool)
    held = told_of(shown, scarce)
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
        direction=direction(mean[held], grid.ordered, float(found.std())),
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
        support = support_at(subject.frame[feature][codes == i], grid)[0]
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
    same = other.context.row_set.digest() == subject.context.row_set.digest()
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
        segment_named=other.context.row_set.name,
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
    version=5,
)
