"""Can an explanation be believed? What it says against what the model does."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.contributions.enumeration import MOST_PLAYERS
from zerotilt.core.contributions.explain import Contributions, MethodChoice, ShapleyMethod, explain
from zerotilt.core.contributions.game import background
from zerotilt.core.frozen import Frozen, RowNumber
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method
from zerotilt.core.output import settled
from zerotilt.core.players import players_of
from zerotilt.core.reading import Reading, plain
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


class ChecksSettings(Frozen):
    row: RowNumber
    method: MethodChoice = "auto"
    top: int = Field(
        default=3, ge=1, le=100, description="Features taken away, or kept, for comprehensiveness and sufficiency"
    )
    seeds: int = Field(default=5, ge=2, le=20)
    background: int = Field(default=200, ge=1, le=5_000, description="Background rows for taking features away")
    orders: int = Field(default=20, ge=1, le=500, description="Random orders beside the explanation's own")


class Agreeing(Frozen):
    method: ShapleyMethod
    largest_difference: float
    correlation: float | None


class Step(Frozen):
    """The first so many features of the explanation's order, taken away or known alone."""

    features: int
    last: str = Field(description="The feature taken away, or added, at this step; empty at the start")
    without: float = Field(description="Mean output with the first features unknown")
    alone: float = Field(description="Mean output with the first features known and no other")


class ChecksResult(Frozen):
    row: int
    name: str
    method: ShapleyMethod
    why: str
    steps: tuple[Step, ...] = Field(description="Deletion and insertion, largest contribution first")
    additivity_gap: float
    deletion_area: float = Field(
        description="Mean distance from the prediction while features are taken away; more is better"
    )
    deletion_by_chance: float
    insertion_area: float = Field(
        description="Mean distance from the prediction while features are added; less is better"
    )
    insertion_by_chance: float
    comprehensiveness: float = Field(description="Prediction less the output without the top features")
    sufficiency: float = Field(description="Prediction less the output with the top features alone")
    top: int
    spread_over_seeds: float = Field(description="Largest standard deviation of a contribution between seeds")
    agreement: tuple[Agreeing, ...]
    output: Literal["probability", "log-odds", "value"]


def check_explanation(subject: Subject, settings: ChecksSettings, seed: int, work: Work) -> ChecksResult:
    """Additivity, deletion and insertion (Petsiuk et al. 2018), comprehensiveness and sufficiency (DeYoung et al. 2020),
    spread over seeds, and agreement with other methods for the same case."""
    case = subject.editor.case(settings.row)
    found = explain(subject, case, seed, work, settings.method, most_pairs=1_024)
    order = np.argsort(-np.abs(found.values[0]), kind="stable")
    p = len(order)
    rng = np.random.default_rng(seed)
    reference = background(subject.frame, subject.rows.weights, settings.background, seed)

    mixer = players_of(subject.asked, case, reference.frame)

    def path(one: NDArray[np.intp]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Mean output with the first features unknown, and with the first features alone known."""
        place = np.argsort(one)
        first = place[None, :] < np.arange(p + 1)[:, None]
        known = np.concatenate([~first, first])
        values = mixer(
            np.zeros(len(known) * reference.rows, int),
            np.tile(np.arange(reference.rows), len(known)),
            np.repeat(known, reference.rows, axis=0),
        ).reshape(len(known), reference.rows)
        mean = reference.mean(values.T)
        return mean[: p + 1], mean[p + 1 :]

    here = float(found.output[0])
    deletion, insertion = path(order)
    work.begin(settings.orders, "random orders walked")
    chance = []
    for _ in range(settings.orders):
        away, added = path(rng.permutation(p))
        chance.append((np.abs(here - away).mean(), np.abs(here - added).mean()))
        work.advance(1)
    top = min(settings.top, p)
    size = max(abs(here), float(np.abs(deletion).max()), float(np.abs(insertion).max()))
    seeds = [found.values[0]]
    if found.errors is not None:
        seeds += [
            explain(subject, case, seed + 1 + i, work, settings.method, most_pairs=1_024).values[0]
            for i in range(settings.seeds - 1)
        ]
    return ChecksResult(
        row=settings.row,
        name=subject.editor.name_of(settings.row),
        method=found.method,
        why=found.why,
        steps=tuple(
            Step(
                features=i,
                last=found.features[order[i - 1]] if i else "",
                without=float(deletion[i]),
                alone=float(insertion[i]),
            )
            for i in range(p + 1)
        ),
        additivity_gap=found.gap,
        deletion_area=float(np.abs(here - deletion).mean()),
        deletion_by_chance=float(np.mean([one for one, _ in chance])),
        insertion_area=float(np.abs(here - insertion).mean()),
        insertion_by_chance=float(np.mean([one for _, one in chance])),
        comprehensiveness=settled(here - float(deletion[top]), size),
        sufficiency=settled(here - float(insertion[top]), size),
        top=top,
        spread_over_seeds=float(np.std(seeds, axis=0, ddof=1).max()) if len(seeds) > 1 else 0.0,
        agreement=tuple(_others(subject, case, found, seed, work)),
        output=subject.scale,
    )


def _others(subject: Subject, case, found: Contributions, seed: int, work: Work):
    """The same case by every other method that applies."""
    p = len(found.features)
    wanted: list[MethodChoice] = ["sampled", "least squares"]
    if p <= MOST_PLAYERS:
        wanted.append("enumeration")
    for method in wanted:
        if method == found.method:
            continue
        other = explain(subject, case, seed, work, method, most_pairs=512)
        a, b = found.values[0], other.values[0]
        varied = p > 1 and np.ptp(a) > 0 and np.ptp(b) > 0
        yield Agreeing(
            method=other.method,
            largest_difference=float(np.abs(a - b).max()),
            correlation=float(np.corrcoef(a, b)[0, 1]) if varied else None,
        )


def say(result: ChecksResult, wording: Wording, settings: ChecksSettings) -> Reading:
    better = result.deletion_area > result.deletion_by_chance and result.insertion_area < result.insertion_by_chance
    headline = (
        f"Taking features away in the order of the explanation moves the output of {wording.case_named(result.name)} "
        f"{'faster' if better else 'no faster'} than in random orders ({words.difference(result.deletion_area, result.output, wording.unit)} against "
        f"{words.difference(result.deletion_by_chance, result.output, wording.unit)} on average)."
    )
    detail = (
        f"{words.opening(words.added_up(result.additivity_gap))}. Without the first {result.top}, the output falls short by "
        f"{words.difference(result.comprehensiveness, result.output, wording.unit)}; with them alone, by "
        f"{words.difference(result.sufficiency, result.output, wording.unit)}. {result.why}"
    )
    return plain(headline, detail)


METHOD = Method(
    name="checks",
    area="cases",
    part="believed",
    title="Checks of an explanation",
    settings=ChecksSettings,
    result=ChecksResult,
    compute=check_explanation,
    say=say,
    note=(
        "**Additivity gap**; the output while features are taken away or added in the order of the explanation, "
        "against random orders (Petsiuk et al. 2018); **comprehensiveness and sufficiency** (DeYoung et al. 2020); "
        "the spread over seeds; agreement with every other method that applies."
    ),
    main="steps",
    unasked=lambda spec: None,
    version=5,
)
