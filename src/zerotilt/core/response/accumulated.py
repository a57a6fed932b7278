"""Accumulated local effects: how the output moves along a feature among rows that are really there (Apley & Zhu 2020)."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.links import association_with
from zerotilt.core.meaning import Kind, Wording
from zerotilt.core.method import Method
from zerotilt.core.output import settled
from zerotilt.core.predictors import Frame
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.response.curves import MOST_LEVELS, all_curves, feature_named
from zerotilt.core.stats import weighing
from zerotilt.core.stats.distinct import distinct
from zerotilt.core.stats.intervals import normal_quantile
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

PARTIAL_ROWS = 1_000
FEW = 10
"""Rows of a level, under which it is drawn and not quoted."""
APART = 0.1
"""Share of the curves' range from which accumulated effects and partial dependence are said to part."""
ASSOCIATED, MOST_ASSOCIATED, ASSOCIATION_ROWS = 0.2, 8, 5_000


class AleSettings(Frozen):
    feature: str = Field(default="", description="A feature of the model; its first one when empty")
    points: int = Field(default=40, ge=2, le=200, description="Bins of equal counts")
    rows: int = Field(default=20_000, ge=10, le=10_000_000, description="Rows asked about; a seeded sample beyond")


class AlePoint(Frozen):
    position: float | None = Field(description="Place on the axis; null for levels")
    label: str
    value: float
    low: float
    high: float
    rows: int = Field(description="Rows in the bin that ends here, or at this level")
    partial: float = Field(description="Partial dependence at the same place, centred in the same way")


class Associated(Frozen):
    feature: str
    strength: float = Field(description="|Spearman's ρ|, Cramér's V or correlation ratio, 0 to 1")


class AleResult(Frozen):
    feature: str
    numeric: bool
    points: tuple[AlePoint, ...] = Field(description="Centred: their mean over the rows is zero")
    order: Literal["scale", "declared", "by likeness of the other columns"]
    output: Literal["probability", "log-odds", "value"]
    event: str
    rows: int
    rows_read: int
    missing: int = Field(description="Rows left out because the feature is missing")
    date: bool = Field(description="Whether positions are days since 1970-01-01")
    gap: float = Field(description="Largest difference between the two curves")
    gap_at: str
    apart: bool = Field(description="Whether that is more than a tenth of their range and beyond the intervals")
    associated: tuple[Associated, ...] = Field(
        description="Other features that go with this one in the table, strongest first"
    )
    confidence: float


def accumulate(subject: Subject, settings: AleSettings, seed: int, work: Work) -> AleResult:
    """First-order accumulated local effects of one feature.

    In each bin, rows are moved from one border to the other; the mean changes
    are added up along the axis. Levels without an order are put in one by how
    alike their rows are in the other columns. Intervals join the standard errors
    of the bins' means as if independent.

    Raises
    ------
    Refused : the feature is none of the model's, or holds no number in these rows.
    """
    feature = feature_named(subject, settings.feature)
    chosen = np.sort(subject.rows.drawn(np.random.default_rng(seed), settings.rows))
    frame, mass_of = subject.frame.take(chosen), subject.rows.mass[chosen]
    numeric = frame[feature].dtype.kind == "f"
    known = np.isfinite(frame[feature]) if numeric else np.ones(frame.rows, bool)
    missing = int((~known).sum())
    if not known.any():
        raise Refused(
            f"feature: “{feature}” holds no number in any of these rows; nothing can be accumulated along it.",
            where=f"column “{feature}”",
            todo="Choose another feature, or other rows.",
        )
    if missing:
        frame, mass_of = frame.take(np.flatnonzero(known)), mass_of[known]
    work.begin(1, "rows moved across their bins")
    reach = normal_quantile(subject.spec.policy.confidence)
    if numeric:
        edges = edges_of(frame[feature], settings.points)
        bins = bin_of(frame[feature], edges)
        change = subject.output(frame.replace(feature, edges[bins + 1])) - subject.output(
            frame.replace(feature, edges[bins])
        )
        value, spread, sizes = _path(change, bins, len(edges) - 1, mass_of)
        mass = np.concatenate([[0.0], sizes])
        centre = _centre(value, sizes)
        places, labels, order = edges, [subject.editor.label(feature, float(edge)) for edge in edges], "scale"
    else:
        levels, order = _ordered_levels(subject, frame, feature)
        place = {level: i for i, level in enumerate(levels)}
        at = np.array([place.get(one, -1) for one in frame[feature]])
        kept = np.flatnonzero(at >= 0)
        frame, at, mass_of = frame.take(kept), at[kept], mass_of[kept]
        steps = len(levels) - 1
        moves: list[tuple[NDArray, NDArray, NDArray]] = []
        here = subject.output(frame)
        for shift in (1, -1):  # each step is seen from both of its levels
            moving = np.flatnonzero((at + shift >= 0) & (at + shift < len(levels)))
            if not len(moving):
                continue
            there = np.array(levels, dtype=object)[at[moving] + shift]
            change = (subject.output(frame.take(moving).replace(feature, there)) - here[moving]) * shift
            moves.append((change, np.minimum(at[moving], at[moving] + shift), mass_of[moving]))
        together = [np.concatenate(part) for part in zip(*moves, strict=True)] if moves else [np.zeros(0)] * 3
        value, spread, _ = _path(together[0], together[1].astype(int), max(steps, 0), together[2])
        mass = np.bincount(at, mass_of, len(levels))
        centre = float(np.average(value, weights=mass)) if mass.sum() else 0.0
        places, labels = None, [level or "missing" for level in levels]
    work.advance(1)
    value = value - centre
    rows_at = np.bincount(bins + 1, minlength=len(edges)) if numeric else np.bincount(at, minlength=len(levels))
    points = edges if numeric else np.array(levels, dtype=object)
    few = np.sort(np.random.default_rng([seed, 1]).permutation(frame.rows)[:PARTIAL_ROWS])
    partial = weighing.mean(all_curves(subject, frame.take(few), {feature: points}, work)[feature], mass_of[few])
    partial = partial - (_centre(partial, mass[1:]) if numeric else float(np.average(partial, weights=mass)))
    off = np.abs(partial - value)
    widest = int(off.argmax())
    reaching = max(float(np.ptp(partial)), float(np.ptp(value)))
    return AleResult(
        feature=feature,
        numeric=numeric,
        points=tuple(
            AlePoint(
                position=None if places is None else float(places[i]),
                label=labels[i],
                value=float(value[i]),
                low=float(value[i] - reach * spread[i]),
                high=float(value[i] + reach * spread[i]),
                rows=int(rows_at[i]),
                partial=float(partial[i]),
            )
            for i in range(len(value))
        ),
        order=order,
        output=subject.scale,
        event=subject.what,
        rows=subject.n,
        rows_read=frame.rows,
        missing=missing,
        date=subject.editor.is_date(feature),
        gap=settled(float(off[widest]), reaching),
        gap_at=labels[widest],
        apart=bool(off[widest] > max(APART * reaching, reach * float(spread[widest]))),
        associated=_associated(subject, feature, seed),
        confidence=subject.spec.policy.confidence,
    )


def _associated(subject: Subject, feature: str, seed: int) -> tuple[Associated, ...]:
    names = subject.frame.names
    few = subject.frame
    if few.rows > ASSOCIATION_ROWS:
        few = few.take(np.sort(np.random.default_rng(seed).choice(few.rows, ASSOCIATION_ROWS, replace=False)))
    strength = association_with(few, feature)
    order = [i for i in np.argsort(-strength, kind="stable") if names[i] != feature and strength[i] >= ASSOCIATED]
    return tuple(Associated(feature=names[i], strength=float(strength[i])) for i in order[:MOST_ASSOCIATED])


def edges_of(values: NDArray[np.float64], bins: int) -> NDArray[np.float64]:
    """Borders of bins of about equal counts, at values that occur; at least two."""
    found = np.unique(np.quantile(values, np.linspace(0, 1, bins + 1), method="inverted_cdf"))
    return found if len(found) > 1 else np.repeat(found, 2)


def bin_of(values: NDArray[np.float64], edges: NDArray[np.float64]) -> NDArray[np.int64]:
    """The bin (edge, next edge] of each value; the lowest value belongs to the first."""
    return np.clip(np.searchsorted(edges, values, "left") - 1, 0, len(edges) - 2)


def _path(change, bins, count: int, mass: NDArray[np.float64]):
    """Mean changes of the bins added up, their standard errors likewise, and the bins' weights."""
    sizes, rows = np.bincount(bins, mass, count), np.bincount(bins, minlength=count)
    whole = np.where(sizes > 0, sizes, 1)
    mean = np.bincount(bins, mass * change, count) / whole
    off = change - mean[bins]
    variance = np.bincount(bins, (mass * off) ** 2, count) / whole**2 * rows / np.maximum(rows - 1, 1)
    return (
        np.concatenate([[0.0], np.cumsum(mean)]),
        np.sqrt(np.concatenate([[0.0], np.cumsum(variance)])),
        sizes,
    )


def _centre(value: NDArray[np.float64], sizes: NDArray[np.float64]) -> float:
    """Mean over the rows, each at the middle of its bin."""
    return float(np.average((value[:-1] + value[1:]) / 2, weights=sizes)) if sizes.sum() else 0.0


def _ordered_levels(subject: Subject, frame: Frame, feature: str):
    found = frame.distinct(feature)
    levels = [str(name) for name in found.names[np.argsort(-found.sizes, kind="stable")][:MOST_LEVELS]]
    column = subject.spec.column(feature)
    if column.kind is Kind.ordered and column.order:
        first = [level for level in column.order if level in levels]
        return first + [level for level in levels if level not in first], "declared"
    if len(levels) < 3:
        return sorted(levels), "by likeness of the other columns"
    far = np.zeros((len(levels), len(levels)))
    members = [np.flatnonzero(frame[feature] == level) for level in levels]
    for name in frame.names:
        if name != feature:
            far += _unlike(frame[name], members)
    # first axis of classical scaling (Torgerson 1952)
    centring = np.eye(len(levels)) - 1 / len(levels)
    _, axes = np.linalg.eigh(-0.5 * centring @ far**2 @ centring)
    axis = axes[:, -1] * (1 if axes[0, -1] <= 0 else -1)
    return [levels[i] for i in np.argsort(axis, kind="stable")], "by likeness of the other columns"


def _unlike(values: NDArray, members: list[NDArray]) -> NDArray[np.float64]:
    """Greatest difference of cumulative shares (numbers) or half the summed difference of shares (levels), pairwise."""
    codes = np.unique(values, return_inverse=True)[1] if values.dtype.kind == "f" else distinct(values).codes
    shares = np.stack([np.bincount(codes[own], minlength=codes.max() + 1) / max(len(own), 1) for own in members])
    if values.dtype.kind == "f":
        shares = np.cumsum(shares, axis=1)
        return np.stack([np.abs(shares - one).max(axis=1) for one in shares])
    return np.stack([np.abs(shares - one).sum(axis=1) / 2 for one in shares])


def second_order(subject: Subject, frame: Frame, first: str, second: str, bins: int, mass: NDArray | None = None):
    """Second-order effects of two numeric features: what is left of both when their own effects are taken away.

    Returns edges of both (a + 1,) and (b + 1,), the effect at every corner
    (a + 1, b + 1), and rows in every cell (a, b). Cells without rows take the
    nearest cell's change.
    """
    edges = [edges_of(frame[name], bins) for name in (first, second)]
    at = [bin_of(frame[name], edge) for name, edge in zip((first, second), edges, strict=True)]
    corner = {}
    for i in (0, 1):
        for j in (0, 1):
            moved = frame.replace(first, edges[0][at[0] + i]).replace(second, edges[1][at[1] + j])
            corner[i, j] = subject.output(moved)
    change = corner[1, 1] - corner[0, 1] - corner[1, 0] + corner[0, 0]
    shape = (len(edges[0]) - 1, len(edges[1]) - 1)
    cell = at[0] * shape[1] + at[1]
    mass = np.ones(frame.rows) if mass is None else mass
    counts = np.bincount(cell, mass, shape[0] * shape[1])
    mean = np.bincount(cell, mass * change, shape[0] * shape[1]) / np.where(counts > 0, counts, 1)
    filled = counts > 0
    if not filled.all():
        middles = [(edge[1:] + edge[:-1]) / 2 / (np.ptp(edge) or 1) for edge in edges]
        places = np.column_stack([np.repeat(middles[0], shape[1]), np.tile(middles[1], shape[0])])
        from scipy.spatial import KDTree

        mean[~filled] = mean[filled][KDTree(places[filled]).query(places[~filled])[1]]
    mean, counts = mean.reshape(shape), counts.reshape(shape)
    effect = np.zeros((shape[0] + 1, shape[1] + 1))
    effect[1:, 1:] = mean.cumsum(axis=0).cumsum(axis=1)
    return *edges, uncrossed(effect, counts), counts


def uncrossed(effect: NDArray[np.float64], counts: NDArray[np.float64]) -> NDArray[np.float64]:
    """An effect at cell corners less its own first-order effects and its mean, weighted by rows."""
    for axis in (0, 1):
        turned = effect if axis == 0 else effect.T
        rows = counts if axis == 0 else counts.T
        step = np.diff(turned, axis=0)
        step = (step[:, :-1] + step[:, 1:]) / 2
        sizes = rows.sum(axis=1)
        own = np.concatenate([[0.0], np.cumsum((rows * step).sum(axis=1) / np.where(sizes > 0, sizes, 1))])
        if axis == 0:
            first = own
        else:
            second = own
    out = effect - first[:, None] - second[None, :]
    middle = (out[:-1, :-1] + out[1:, :-1] + out[:-1, 1:] + out[1:, 1:]) / 4
    return out - (counts * middle).sum() / (counts.sum() or 1)


def say(result: AleResult, wording: Wording, settings: AleSettings) -> Reading:
    name = words.title(result.feature)
    told = [p for p in result.points if p.rows >= FEW or result.numeric] or list(result.points)
    top, bottom = max(told, key=lambda p: p.value), min(told, key=lambda p: p.value)
    gap = words.difference(top.value - bottom.value, result.output, wording.unit)
    what = {"probability": "chance that", "log-odds": "log-odds that", "value": ""}[result.output]
    headline = (
        f"Among rows alike in the other columns, the {what} {result.event} differs by {gap} along {name}: highest at "
        f"{top.label}, lowest at {bottom.label}."
    )
    detail = f"{words.count(result.rows_read)} of {words.count(result.rows)} {wording.rows}, each moved across its own bin alone."
    if result.apart:
        gap_text = words.difference(result.gap, result.output, wording.unit)
        headline += f" Partial dependence says otherwise by up to {gap_text}, at {result.gap_at}"
        if result.associated:
            listed = [f"{words.title(one.feature)} ({words.decimal(one.strength, 2)})" for one in result.associated[:3]]
            headline += f": {name} is associated with {words.listing(listed)}, so the two ask about different rows."
        else:
            headline += "; no single feature is associated with it, several together may be."
    else:
        off = words.difference(result.gap, result.output, wording.unit)
        detail += f" Partial dependence {f'agrees within {off}' if result.gap else 'says the same'}."
    if result.missing:
        detail += f" {words.plural(result.missing, 'row')} without a value are left out."
    return plain(headline.replace("the  ", "the "), detail)


METHOD = Method(
    name="ale",
    area="response",
    title="Accumulated local effects",
    settings=AleSettings,
    result=AleResult,
    compute=accumulate,
    say=say,
    note=(
        "**Accumulated local effects** (Apley & Zhu 2020): rows are moved only across their own bin, so combinations "
        "that do not occur are not asked about. Levels without an order are put in one by how alike their rows are in "
        "the other columns. Intervals join the bins' standard errors as if independent. Partial dependence is drawn "
        "beside them, centred alike; where the two are apart by more than a tenth of their range and the interval, "
        "the features that this one is associated with are named."
    ),
    main="points",
    version=4,
)
