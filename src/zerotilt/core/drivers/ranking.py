"""Which features matter: permutation importance and mean absolute Shapley value, ranked."""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.contributions.explain import cheap, explain
from zerotilt.core.drivers.agreement import Agreement, Ranked, agreement, effective_features, rank_table
from zerotilt.core.drivers.links import linked
from zerotilt.core.drivers.losses import LOSS_LABELS, Loss, LossChoice, chosen
from zerotilt.core.drivers.permutation import permute
from zerotilt.core.groups.intervals import normal_quantile
from zerotilt.core.groups.metrics import Estimate
from zerotilt.core.reading import Reading, Span
from zerotilt.core.response.curves import Direction, all_curves, direction, grid_of
from zerotilt.core.spec import Frozen, Wording
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

SMALL_CURVE_POINTS = 12
SMALL_CURVE_ROWS = 300
CHEAP_ROWS = 20_000


class DriversSettings(Frozen):
    loss: LossChoice = "auto"
    repeats: int = Field(default=10, ge=2, le=100)
    rows: int = Field(default=20_000, ge=10, le=10_000_000, description="Rows shuffled; a seeded sample beyond")
    explained: int = Field(
        default=200,
        ge=1,
        le=100_000,
        description="Rows whose contributions are averaged; all rows where they are exact and cheap",
    )
    linked_from: float = Field(
        default=0.7, gt=0, le=1, description="Columns associated by at least this much are also shuffled together"
    )


class Driver(Frozen):
    """One feature. ``permutation`` is added loss; the Shapley values are on the context's output scale."""

    feature: str
    permutation: Estimate
    share: float | None = Field(description="Share of the summed importances above zero")
    evidence_of_use: bool = Field(description="Whether the interval of the importance stays above zero")
    mean_abs_shapley: Estimate
    mean_shapley: float
    direction: Direction
    curve: tuple[float, ...] = Field(description="Mean response along the feature, for a small drawing")


class LinkedDrivers(Frozen):
    """Columns that say much the same: shuffled one by one, each may look small."""

    features: tuple[str, ...]
    permutation: Estimate


class DriversResult(Frozen):
    drivers: tuple[Driver, ...] = Field(description="Largest permutation importance first")
    loss: Loss
    loss_as_is: float
    rows: int
    rows_scored: int
    repeats: int
    explained: int
    output: Literal["probability", "log-odds", "value"]
    linked: tuple[LinkedDrivers, ...]
    agreement: Agreement = Field(description="Of the two measures, which answer different questions")
    ranks: tuple[Ranked, ...] = Field(description="By permutation importance, by mean absolute Shapley value")
    first_share: float | None = Field(description="Share of the first feature in the summed importances")
    shapley_method: str
    shapley_why: str
    background: int
    effective_features: float | None = Field(description="exp of the entropy of the shares")
    confidence: float


def rank(subject: Subject, settings: DriversSettings, seed: int, work: Work) -> DriversResult:
    """Rank the model's features over the rows of the context (methods section 2)."""
    features = subject.model.inputs
    rng = np.random.default_rng(seed)
    kept = np.arange(subject.n)
    if subject.n > settings.rows:
        kept = np.sort(rng.choice(subject.n, settings.rows, replace=False))
    frame = subject.frame.take(kept)
    weights = None if subject.weights is None else subject.weights[kept]
    loss = chosen(settings.loss, subject.task)
    sets = [(name,) for name in features] + linked(frame, settings.linked_from, seed)
    found = permute(
        subject.model,
        frame,
        subject.outcome[kept],
        loss,
        subject.spec.threshold,
        settings.repeats,
        seed,
        work,
        weights,
        sets,
    )
    explained = min(max(settings.explained, CHEAP_ROWS) if cheap(subject) else settings.explained, subject.n)
    rows = np.sort(rng.choice(subject.rows, explained, replace=False))
    contributions = explain(subject, rows, seed, work, most_pairs=1_024, evaluations=4_000_000)
    reach = normal_quantile(subject.spec.policy.confidence)
    size = np.abs(contributions.values)
    mean, spread = size.mean(axis=0), size.std(axis=0, ddof=1) / math.sqrt(explained) if explained > 1 else 0 * size[0]
    single = found.value[: len(features)]
    positive = np.maximum(single, 0)
    shares = positive / positive.sum() if positive.sum() > 0 else None
    sample = subject.frame.take(rng.permutation(subject.n)[:SMALL_CURVE_ROWS])
    drivers = []
    grids = {name: grid_of(subject, name, SMALL_CURVE_POINTS) for name in features}
    curves = all_curves(subject, sample, {name: grid.values for name, grid in grids.items()}, work)
    for j, name in enumerate(features):
        grid, curve = grids[name], curves[name].mean(axis=0)
        drivers.append(
            Driver(
                feature=name,
                permutation=_estimate(found.value[j], reach * found.error[j]),
                share=None if shares is None else float(shares[j]),
                evidence_of_use=bool(found.value[j] - reach * found.error[j] > 0),
                mean_abs_shapley=_estimate(mean[j], reach * spread[j], floor=0.0),
                mean_shapley=float(contributions.values[:, j].mean()),
                direction=direction(curve, grid.ordered, float(contributions.output.std())),
                curve=tuple(float(value) for value in curve),
            )
        )
    return DriversResult(
        drivers=tuple(sorted(drivers, key=lambda driver: -driver.permutation.value)),
        loss=loss,
        loss_as_is=found.loss,
        rows=subject.n,
        rows_scored=len(kept),
        repeats=settings.repeats,
        explained=explained,
        output=subject.scale,
        linked=tuple(
            LinkedDrivers(features=sets[j], permutation=_estimate(found.value[j], reach * found.error[j]))
            for j in range(len(features), len(sets))
        ),
        agreement=agreement("permutation importance", single, "mean absolute Shapley value", mean),
        ranks=rank_table(features, [single, mean]),
        first_share=None if shares is None else float(shares.max()),
        shapley_method=contributions.method,
        shapley_why=contributions.why,
        background=contributions.background,
        effective_features=None if shares is None else effective_features(shares),
        confidence=subject.spec.policy.confidence,
    )


def _estimate(value: float, half: float, floor: float | None = None) -> Estimate:
    low = value - half
    return Estimate(value=float(value), low=float(low if floor is None else max(low, floor)), high=float(value + half))


def say(result: DriversResult, wording: Wording, settings: DriversSettings) -> Reading:
    used = [driver for driver in result.drivers if driver.evidence_of_use]
    if not used:
        return Reading(
            headline=(Span(text="No feature shows evidence of use: every interval includes zero."),),
            detail=_method(result),
        )
    top = used[:3]
    names = words.listing([words.title(driver.feature) for driver in top])
    share = sum(driver.share or 0 for driver in top)
    first = top[0]
    headline = (
        f"{words.opening(names)} {'carries' if len(top) == 1 else 'carry'} {share:.0%} of the importance. "
        f"Shuffling {words.title(first.feature)} adds {words.decimal(first.permutation.value)} to the "
        f"{LOSS_LABELS[result.loss]} ({words.level(result.confidence)} interval {words.decimal(first.permutation.low)} to "
        f"{words.decimal(first.permutation.high)})."
    )
    unused = len(result.drivers) - len(used)
    detail = _method(result)
    if unused:
        detail += f" {words.plural(unused, 'feature')} {'shows' if unused == 1 else 'show'} no evidence of use."
    return Reading(headline=(Span(text=headline),), detail=detail)


def _method(result: DriversResult) -> str:
    rows = f"{words.count(result.rows_scored)} rows"
    if result.rows_scored < result.rows:
        rows = f"{words.count(result.rows_scored)} of {words.count(result.rows)} rows"
    return f"{result.repeats} shuffles on {rows}; contributions of {words.count(result.explained)} rows."
