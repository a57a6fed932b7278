"""Several measures of importance in one rank table, with how far they agree and why they may not."""

from __future__ import annotations

from itertools import combinations
from typing import Literal

import numpy as np
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.drivers import loss_shapley, own, ranking
from zerotilt.core.drivers.agreement import Agreement, agreement, rank_table
from zerotilt.core.drivers.losses import LOSS_LABELS, LossChoice
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

Measure = Literal["shuffled", "moved", "signed", "explained loss", "coefficients", "splits"]
LABELS: dict[Measure, str] = {
    "shuffled": "permutation importance",
    "moved": "mean absolute Shapley value",
    "signed": "signed mean Shapley value",
    "explained loss": "loss Shapley value",
    "coefficients": "standardised coefficient",
    "splits": "split reduction",
}
ASKS: dict[Measure, str] = {
    "shuffled": "how much worse the model does when this column alone is shuffled, everything else known",
    "moved": "how far the column moves the output, whether that is right or wrong",
    "signed": "which way the column moves the output on average; raises and lowers cancel",
    "explained loss": "which share of the model's use the column accounts for, averaged over what else is known",
    "coefficients": "how far the model's own term for the column spreads; it knows nothing of the outcome in these rows",
    "splits": "how much the model's own splits on the column part its output; columns with many values are split often, "
    "and it knows nothing of the outcome in these rows",
}
FAR = 3
"""Ranks apart from which two measures are said to part on a feature."""
MOST_PARTINGS = 6


class SideSettings(Frozen):
    loss: LossChoice = "auto"
    repeats: int = Field(default=10, ge=2, le=100)
    rows: int = Field(default=20_000, ge=10, le=10_000_000, description="Rows shuffled; a seeded sample beyond")
    explained: int = Field(default=200, ge=1, le=100_000, description="Rows whose contributions are averaged")
    walked: int = Field(default=256, ge=10, le=100_000, description="Rows walked for loss Shapley values")
    walks: int = Field(default=1_024, ge=2, le=10_000, description="Most pairs of walks a row, where they are sampled")


class Placed(Frozen):
    """One feature by one measure; sizes of different measures are not on one scale, ranks are."""

    feature: str
    measure: Measure
    rank: int
    value: float
    low: float | None
    high: float | None


class MeasureCard(Frozen):
    measure: Measure
    label: str
    asks: str = Field(description="The question it answers")


class Parting(Frozen):
    """Two measures that rank a feature far apart."""

    feature: str
    first: Measure
    first_rank: int
    second: Measure
    second_rank: int
    why: str


class SideResult(Frozen):
    placed: tuple[Placed, ...] = Field(description="Feature by feature in the order of permutation importance")
    measures: tuple[MeasureCard, ...]
    agreements: tuple[Agreement, ...] = Field(description="Of every two measures, named by their labels")
    partings: tuple[Parting, ...] = Field(description="Furthest apart first")
    own_missing: str | None = Field(description="Why there are no coefficients or splits")
    linked: tuple[ranking.LinkedDrivers, ...]
    rows: int
    rows_scored: int
    explained: int
    rows_walked: int
    output: Literal["probability", "log-odds", "value"]
    loss: str


def side_by_side(subject: Subject, settings: SideSettings, seed: int, work: Work) -> SideResult:
    """Every measure that the model allows, for the same rows; ranks, Kendall's τ-b and overlap of the first five."""
    ranked = ranking.rank(
        subject,
        ranking.DriversSettings(
            loss=settings.loss,
            repeats=settings.repeats,
            rows=settings.rows,
            explained=settings.explained,
            walks=settings.walks,
        ),
        seed,
        work,
    )
    shared = loss_shapley.share_out(
        subject,
        loss_shapley.LossShapleySettings(loss=settings.loss, rows=settings.walked),
        seed,
        work,
    )
    features = [driver.feature for driver in ranked.drivers]
    by_loss = {one.feature: one.value for one in shared.features}
    found: dict[Measure, list[tuple[float, float | None, float | None]]] = {
        "shuffled": [_spanned(driver.permutation) for driver in ranked.drivers],
        "moved": [_spanned(driver.mean_abs_shapley) for driver in ranked.drivers],
        "signed": [_spanned(driver.mean_shapley) for driver in ranked.drivers],
        "explained loss": [_spanned(by_loss[name]) for name in features],
    }
    structure, missing = subject.predictions.structure
    if structure is not None:
        parts = own.own_parts(subject, own.OwnSettings(), seed, work)
        named: Measure = "coefficients" if parts.kind == "standardised coefficients" else "splits"
        by_feature = {part.feature: part.value for part in parts.parts}
        found[named] = [(by_feature[name], None, None) for name in features]
    sizes = {measure: _sizes(measure, values) for measure, values in found.items()}
    ranks = {
        one.feature: dict(zip(found, one.ranks, strict=True)) for one in rank_table(features, list(sizes.values()))
    }
    for j, name in enumerate(features):  # what cannot be told from nothing has the last place, not the first of a tie
        ranks[name] |= {m: len(features) for m in found if sizes[m][j] == 0}
    return SideResult(
        placed=tuple(
            Placed(
                feature=name,
                measure=measure,
                rank=ranks[name][measure],
                value=values[j][0],
                low=values[j][1],
                high=values[j][2],
            )
            for j, name in enumerate(features)
            for measure, values in found.items()
        ),
        measures=tuple(MeasureCard(measure=one, label=LABELS[one], asks=ASKS[one]) for one in found),
        agreements=tuple(agreement(LABELS[a], sizes[a], LABELS[b], sizes[b]) for a, b in combinations(found, 2)),
        partings=_partings(features, found, sizes, ranks, ranked),
        own_missing=missing if structure is None else None,
        linked=ranked.linked,
        rows=subject.n,
        rows_scored=ranked.rows_scored,
        explained=ranked.explained,
        rows_walked=shared.rows_walked,
        output=subject.scale,
        loss=LOSS_LABELS[ranked.loss],
    )


def _spanned(estimate) -> tuple[float, float, float]:
    return estimate.value, estimate.low, estimate.high


def _sizes(measure: Measure, values: list[tuple[float, float | None, float | None]]) -> np.ndarray:
    """What features are ranked by: a size beyond its own error. What cannot be told from nothing shares the last rank."""
    size = np.array([value for value, _, _ in values])
    if measure not in ("shuffled", "explained loss"):  # a loss that grew is no importance: those two keep their sign
        size = np.abs(size)
    size[np.abs(size) <= 1e-9 * np.abs(size).max(initial=0)] = 0.0
    if measure == "signed":
        size[[low is not None and high is not None and low <= 0 <= high for _, low, high in values]] = 0.0
    return size


def _sure_ranks(measure: Measure, values, size: np.ndarray) -> list[tuple[int, int]]:
    """Of each feature the least and the greatest rank that its interval leaves open."""
    if values[0][1] is None:
        low = high = size
    else:
        low, high = np.array([v[1] for v in values]), np.array([v[2] for v in values])
        if measure == "signed":
            low, high = (
                np.where(size > 0, np.minimum(np.abs(low), np.abs(high)), 0.0),
                np.maximum(np.abs(low), np.abs(high)),
            )
    return [
        (1 + int((low > high[j]).sum()), len(size) - int((np.delete(high, j) < low[j]).sum())) for j in range(len(size))
    ]


def _partings(features, found_by, sizes, ranks, ranked: ranking.DriversResult) -> tuple[Parting, ...]:
    """For each feature the two measures furthest apart, where that is far and beyond their errors; only features that
    some measure ranks high."""
    unused = {driver.feature for driver in ranked.drivers if not driver.loss_depends}
    sure = {measure: _sure_ranks(measure, values, sizes[measure]) for measure, values in found_by.items()}
    found = []
    for j, name in enumerate(features):
        own_ranks = ranks[name]
        first, second = min(own_ranks, key=own_ranks.get), max(own_ranks, key=own_ranks.get)
        apart = min(own_ranks[second] - own_ranks[first], sure[second][j][0] - sure[first][j][1])
        if apart < FAR or own_ranks[first] > max(5, len(features) // 2):
            continue
        why = f"{words.opening(LABELS[first])} asks {ASKS[first]}; {LABELS[second]} asks {ASKS[second]}."
        links = next((one for one in ranked.linked if name in one.features), None)
        if links is not None:
            others = words.listing([words.title(one) for one in links.features if one != name])
            why += f" It is linked with {others}, which can stand in for it."
        if name in unused:
            why += " The loss is not seen to depend on it, so its rank by shuffling is a matter of chance."
        found.append(
            Parting(
                feature=name,
                first=first,
                first_rank=own_ranks[first],
                second=second,
                second_rank=own_ranks[second],
                why=why,
            )
        )
    found.sort(key=lambda one: one.first_rank - one.second_rank)
    return tuple(found[:MOST_PARTINGS])


def say(result: SideResult, wording: Wording, settings: SideSettings) -> Reading:
    count = len(result.measures)
    firsts = {p.measure: p.feature for p in reversed(result.placed) if p.rank == 1}
    none = [LABELS[card.measure] for card in result.measures if card.measure not in firsts]
    leaders = list(dict.fromkeys(firsts.values()))
    if len(leaders) == 1:
        which = (
            f"All {count} measures"
            if not none
            else f"All of {len(firsts)} measures"
            if len(firsts) > 1
            else "One measure"
        )
        headline = f"{which} put{'s' if len(firsts) == 1 else ''} {words.title(leaders[0])} first."
    elif not leaders:
        headline = "No measure tells any feature from the others."
    else:
        said = [
            f"{words.listing([LABELS[m] for m, name in firsts.items() if name == leader])} {'puts' if list(firsts.values()).count(leader) == 1 else 'put'} {words.title(leader)} first"
            for leader in leaders
        ]
        headline = f"The measures differ: {words.listing(said)}."
    taus = sorted((one for one in result.agreements if one.tau is not None), key=lambda one: one.tau or 0.0)
    if taus:
        least, most = taus[0], taus[-1]
        headline += (
            f" Closest in order are {most.first} and {most.second} (rank agreement τ {words.decimal(most.tau, 2)}), "
            f"furthest {least.first} and {least.second} ({words.decimal(least.tau, 2)})."
        )
    detail = (
        f"{words.count(result.rows_scored)} of {words.count(result.rows)} {wording.rows} shuffled, {words.count(result.explained)} explained, "
        f"{words.count(result.rows_walked)} walked. Each measure answers its own question: compare ranks, not lengths."
    )
    if none:
        detail += f" By {words.listing(none)} no feature is told from none."
    if result.own_missing:
        detail += f" The model's own coefficients or splits cannot be read: {result.own_missing}."
    return plain(headline, detail)


METHOD = Method(
    name="side_by_side",
    area="drivers",
    part="methods",
    title="Methods side by side",
    settings=SideSettings,
    result=SideResult,
    compute=side_by_side,
    say=say,
    note=(
        "Ranks by **permutation importance** (Breiman 2001), mean absolute and signed **Shapley values** (Shapley "
        "1953), **loss Shapley values** (Covert, Lundberg & Lee 2020), and what the model itself holds: "
        "**standardised coefficients** or **split reduction** (Breiman et al. 1984). Values of different measures are "
        "on different scales: only their ranks are compared. A rank needs a difference beyond error: what cannot be "
        "told from nothing has the last place, and measures part on a feature only where their intervals leave the "
        "ranks apart. **Agreement** is Kendall's τ-b (1945), from −1 to 1, and the overlap of the first five."
    ),
    main="placed",
    needs=frozenset({"model", "outcome"}),
    first_look={"rows": 300, "repeats": 2, "explained": 12, "walked": 16, "walks": 16},
    version=4,
)
