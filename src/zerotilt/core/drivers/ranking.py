"""Which features matter: permutation importance and mean absolute Shapley value, ranked."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.contributions.explain import explain
from zerotilt.core.contributions.sums_met import affordable
from zerotilt.core.drivers.agreement import agreement, effective_features, rank_table
from zerotilt.core.drivers.losses import Loss, chosen
from zerotilt.core.drivers.permutation import Permuted, permute
from zerotilt.core.drivers.ranking_result import (
    Beside,
    BesideRanking,
    Dominant,
    Driver,
    DriversResult,
    DriversSettings,
    LinkedDrivers,
)
from zerotilt.core.drivers.ranking_said import say
from zerotilt.core.links import association, sets_of
from zerotilt.core.meaning import Task
from zerotilt.core.method import Method, Place
from zerotilt.core.response.curves import all_curves, direction, grid_of, ice
from zerotilt.core.rows import NAMES
from zerotilt.core.stats import weighing
from zerotilt.core.stats.estimates import Estimate
from zerotilt.core.stats.intervals import normal_quantile
from zerotilt.core.subject import Subject
from zerotilt.core.tasks import kind_of
from zerotilt.core.work import Work

SMALL_CURVE_POINTS = 12
SMALL_CURVE_ROWS = 300
CHEAP_ROWS = 20_000
DOMINANT = 0.5
"""Share of the importance from which one feature is said to carry the model."""
DOMINANT_ROWS, DOMINANT_DRAWS = 1_000, 30


@dataclass(frozen=True)
class _Shuffled:
    """Permutation importance in one model and row set; ``singles`` and ``sets`` in the order of the columns and sets."""

    found: Permuted
    features: tuple[str, ...]
    sets: list[tuple[str, ...]]
    strength: NDArray[np.float64]
    rows: int


def _shuffled(subject: Subject, settings: DriversSettings, loss: Loss, seed: int, work: Work, links: bool) -> _Shuffled:
    features = subject.model.inputs
    subject.predictions.find_structure()
    kept = np.sort(subject.rows.drawn(np.random.default_rng(seed), settings.rows))
    frame = subject.frame.take(kept)
    strength = association(frame, seed) if links else np.zeros((0, 0))
    sets = sets_of(frame.names, strength, settings.linked_from) if links else []
    found = permute(
        subject.model,
        frame,
        subject.rows.outcome[kept],
        loss,
        subject.decisions.cuts[kept],
        settings.repeats,
        seed,
        work,
        None if subject.rows.weights is None else subject.rows.weights[kept],
        [(name,) for name in features] + sets,
        subject.column if settings.against_rest and subject.classes else None,
    )
    return _Shuffled(found, features, sets, strength, len(kept))


def rank(subject: Subject, settings: DriversSettings, seed: int, work: Work) -> DriversResult:
    """Rank the model's features over the rows of the context."""
    features = subject.model.inputs
    measured = kind_of(Task.binary) if settings.against_rest and subject.classes else subject.kind
    allowed = measured.losses
    loss = chosen(settings.loss, measured)
    shuffled = _shuffled(subject, settings, loss, seed, work, links=True)
    found, sets = shuffled.found, shuffled.sets
    rng = np.random.default_rng([seed, 1])
    told = np.sort(
        subject.rows.drawn(rng, affordable(subject, max(settings.explained, CHEAP_ROWS), settings.explained))
    )
    explained, mass = len(told), subject.rows.mass[told]
    contributions = explain(
        subject, subject.rows.numbers[told], seed, work, most_pairs=settings.walks, evaluations=4_000_000
    )
    reach = normal_quantile(subject.spec.policy.confidence)
    size = np.abs(contributions.values)
    mean, spread = weighing.mean(size, mass), weighing.error(size, mass)
    signed, signed_error = weighing.mean(contributions.values, mass), weighing.error(contributions.values, mass)
    if contributions.errors is not None:
        signed_error = np.hypot(
            signed_error, np.sqrt(((mass[:, None] * contributions.errors) ** 2).sum(axis=0)) / mass.sum()
        )
    single = found.value[: len(features)]
    positive = np.maximum(single, 0)
    shares = positive / positive.sum() if positive.sum() > 0 else None
    few = subject.rows.drawn(rng, SMALL_CURVE_ROWS)
    sample, few_mass = subject.frame.take(few), subject.rows.mass[few]
    grids = {name: grid_of(subject, name, SMALL_CURVE_POINTS) for name in features}
    curves = all_curves(subject, sample, {name: grid.values for name, grid in grids.items()}, work)
    beside = None if subject.beside is None else _shuffled(subject.beside, settings, loss, seed, work, links=False)
    ranks = np.zeros(0, np.int64) if beside is None else _ranks(beside.found.value)
    drivers = []
    for j, name in enumerate(features):
        grid, curve = grids[name], weighing.mean(curves[name], few_mass)
        there = None
        if beside is not None and name in beside.features:
            i = beside.features.index(name)
            gap = math.hypot(found.error[j], beside.found.error[i])
            there = Beside(
                permutation=_estimate(beside.found.value[i], reach * beside.found.error[i]),
                rank=int(ranks[i]),
                loss_depends=bool(beside.found.value[i] - reach * beside.found.error[i] > 0),
                difference=_estimate(beside.found.value[i] - found.value[j], reach * gap),
            )
        drivers.append(
            Driver(
                feature=name,
                permutation=_estimate(found.value[j], reach * found.error[j]),
                share=None if shares is None else float(shares[j]),
                loss_depends=bool(found.value[j] - reach * found.error[j] > 0),
                mean_abs_shapley=_estimate(mean[j], reach * spread[j], floor=0.0),
                mean_shapley=_estimate(signed[j], reach * signed_error[j]),
                direction=direction(curve, grid.ordered, float(weighing.deviation(contributions.output, mass))),
                curve=tuple(float(value) for value in curve),
                beside=there,
            )
        )
    drivers.sort(key=lambda driver: -driver.permutation.value)
    place = {name: j for j, name in enumerate(features)}
    return DriversResult(
        drivers=tuple(drivers),
        loss=loss,
        losses=allowed,
        of_class=subject.classes[subject.column] if settings.against_rest and subject.classes else None,
        loss_as_is=found.loss,
        rows_named=NAMES[subject.context.rows],
        segment_named=subject.context.row_set.name,
        rows=subject.n,
        rows_scored=shuffled.rows,
        repeats=settings.repeats,
        every_pair=int(found.every_pair[: len(features)].sum()),
        explained=explained,
        output=subject.scale,
        event=subject.what,
        linked=tuple(
            LinkedDrivers(
                features=own,
                least=float(shuffled.strength[np.ix_(*[[place[name] for name in own]] * 2)].min()),
                permutation=_estimate(found.value[j], reach * found.error[j]),
                singles=float(sum(single[place[name]] for name in own)),
            )
            for j, own in enumerate(sets, len(features))
        ),
        agreement=agreement("permutation importance", single, "mean absolute Shapley value", mean),
        ranks=rank_table(features, [single, mean]),
        first_share=None if shares is None else float(shares.max()),
        dominant=_dominant(subject, features, shares, seed),
        shapley_method=contributions.method,
        shapley_why=contributions.why,
        background=contributions.background,
        effective_features=None if shares is None else effective_features(shares),
        beside=None if beside is None else _beside(subject, shuffled, beside, drivers),
        confidence=subject.spec.policy.confidence,
    )


def _ranks(values: NDArray[np.float64]) -> NDArray[np.int64]:
    """Ranks from 1, largest first."""
    out = np.empty(len(values), np.int64)
    out[np.argsort(-values, kind="stable")] = np.arange(1, len(values) + 1)
    return out


def _dominant(subject: Subject, features, shares, seed: int) -> Dominant | None:
    """The feature that carries more than half, and what is left of the output's spread without it."""
    if shares is None or len(features) < 2 or shares.max() <= DOMINANT:
        return None
    name = features[int(shares.argmax())]
    rng = np.random.default_rng([seed, 2])
    few = np.sort(subject.rows.drawn(rng, DOMINANT_ROWS))
    sample, mass = subject.frame.take(few), subject.rows.mass[few]
    others = subject.frame[name][rng.choice(subject.n, DOMINANT_DRAWS, p=subject.rows.mass / subject.rows.mass.sum())]
    averaged = ice(subject.asked, sample, name, others).mean(axis=1)
    return Dominant(
        feature=name,
        share=float(shares.max()),
        spread=float(weighing.deviation(subject.output(sample), mass)),
        spread_without=float(weighing.deviation(averaged, mass)),
    )


def _beside(subject: Subject, here: _Shuffled, there: _Shuffled, drivers: list[Driver]) -> BesideRanking:
    both = [name for name in here.features if name in there.features]
    pairs = [(d, d.beside) for d in drivers if d.beside is not None]
    apart = [(d, other) for d, other in pairs if d.loss_depends != other.loss_depends]
    beyond = [(d, other) for d, other in apart if other.difference.low > 0 or other.difference.high < 0]
    order = [there.features[i] for i in np.argsort(-there.found.value[: len(there.features)], kind="stable")]
    named = NAMES[subject.second.context.rows]
    another = subject.second.predictor is not subject.predictor
    return BesideRanking(
        rows_named=named,
        segment_named=subject.second.context.row_set.name,
        other_model=another,
        loss_as_is=there.found.loss,
        rows=subject.second.n,
        only_there=tuple(name for name in order if name not in here.features),
        only_here_used=tuple(d.feature for d, _ in beyond if d.loss_depends),
        only_there_used=tuple(d.feature for d, other in beyond if other.loss_depends),
        agreement=agreement(
            "here",
            here.found.value[[here.features.index(name) for name in both]],
            "alongside",
            there.found.value[[there.features.index(name) for name in both]],
        ),
    )


def _estimate(value: float, half: float, floor: float | None = None) -> Estimate:
    low = value - half
    return Estimate(value=float(value), low=float(low if floor is None else max(low, floor)), high=float(value + half))


METHOD = Method(
    name="drivers",
    area="drivers",
    title="Drivers",
    settings=DriversSettings,
    result=DriversResult,
    compute=rank,
    say=say,
    note=(
        "**Permutation importance** (Breiman 2001; Fisher, Rudin & Dominici 2019): the mean loss with one column's "
        "values from other rows, less the loss as is; over all pairs of rows where they can be asked (a sum of trees "
        "or terms tells few values apart, and is not run again for them; or there are few rows), else over shuffles, "
        "which are a sample of them. In the interval a row counts by what "
        "another's value does to it and by what its own does to others (Hoeffding 1948). Where it reaches zero, the "
        "loss is not seen to depend on the column; the output may depend on it all the same, and its mean absolute "
        "Shapley value says how far. Shuffling makes combinations that may not occur.\n\n"
        "**Linked columns** share one effect, so each may look small; columns associated by 0.7 or more are also "
        "shuffled together, by one and the same order. Association of two numbers is the size of Spearman's ρ, of two "
        "texts Cramér's V corrected for chance (Bergsma 2013), of a number and a text the correlation ratio corrected for chance (Kelley 1935); sets by "
        "complete linkage on one less the association. Association is in the table; whether the model uses both is "
        "another matter, and whether two features work together is under Response, Interactions.\n\n"
        "**Mean absolute Shapley value**: how far a feature moves the output, right or wrong; of 200 seeded rows, "
        "of 1,000 where the exact values of a sum steady them, or of up to 20,000 where contributions are exact. **Concentration**: the share of the first feature, and exp of "
        "the entropy of the shares as the number of features that would be as spread. The small curve is the mean "
        "response over the 1–99% range of the feature. Intervals of a difference to what is alongside take both sides "
        "as independent; with the same rows they are a little too wide."
    ),
    main="drivers",
    needs=frozenset({"model", "outcome"}),
    place=Place(
        "Drivers",
        lambda subject, so_far, fewer: [({"explained": fewer} if fewer else {}, "")],
        lambda result, spec: "Permutation importance of each feature",
    ),
    address={"against_rest": "against", "linked_from": "from"},
    reads_alongside=True,
    first_look={"rows": 400, "repeats": 2, "explained": 15, "walks": 16},
    version=8,
)
