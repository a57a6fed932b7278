"""What drives the gap between two groups' outputs: the difference of mean contributions, which adds up to it."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.contributions.explain import explain
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups.pair import PairSettings, pair
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, Span
from zerotilt.core.stats import intervals, weighing
from zerotilt.core.stats.estimates import Estimate
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


class ScoreGapSettings(PairSettings):
    explained: int = Field(
        default=300, ge=2, le=1_000_000, description="Rows explained of each side; a seeded sample beyond"
    )
    walks: int = Field(default=512, ge=2, le=10_000, description="Most pairs of walks a row, where values are sampled")


class GapShare(Frozen):
    feature: str
    gap: Estimate = Field(description="Mean contribution in the group less that in the reference")
    group: float
    reference: float
    share: float | None = Field(description="Of the whole gap; below 0 where it works against it")


class ScoreGapResult(Frozen):
    attribute: str
    group: str
    reference: str
    features: tuple[GapShare, ...] = Field(description="Largest first")
    gap: Estimate = Field(
        description="Mean output of the group's rows explained less the reference's; the features add up to it"
    )
    all_rows_gap: float = Field(description="The same over all rows of both")
    mean_group: float
    mean_reference: float
    rows: int
    rows_of_both: int
    rows_explained: int
    output: Literal["probability", "log-odds", "value"]
    what: str
    method: str
    why: str
    confidence: float


def gap_of_scores(subject: Subject, settings: ScoreGapSettings, seed: int, work: Work) -> ScoreGapResult:
    """Mean Shapley values of both groups against the same background, and their differences.

    Raises
    ------
    Refused : no model, or a group that is not there.
    """
    two = pair(subject, settings)
    rng = np.random.default_rng(seed)
    chosen = []
    for mask in (two.inside, two.against):
        places = np.flatnonzero(mask)
        chosen.append(np.sort(rng.permutation(places)[: settings.explained]))
    both = np.concatenate(chosen)
    found = explain(subject, subject.rows.numbers[both], seed, work, most_pairs=settings.walks)
    w = np.ones(subject.n) if subject.rows.weights is None else subject.rows.weights
    split = len(chosen[0])
    sides = [
        (found.values[:split], found.output[:split], w[chosen[0]]),
        (found.values[split:], found.output[split:], w[chosen[1]]),
    ]
    means = [np.average(values, axis=0, weights=mass) for values, _, mass in sides]
    outputs = [float(np.average(output, weights=mass)) for _, output, mass in sides]
    errors = np.sqrt(sum(_variance(values, mass) for values, _, mass in sides))
    whole_error = np.sqrt(sum(_variance(output[:, None], mass)[0] for _, output, mass in sides))
    half = intervals.normal_quantile(subject.spec.policy.confidence)
    step, gap = means[0] - means[1], outputs[0] - outputs[1]
    every = [float(np.average(subject.own_output[mask], weights=w[mask])) for mask in (two.inside, two.against)]
    return ScoreGapResult(
        attribute=two.attribute,
        group=two.group,
        reference=two.reference,
        features=tuple(
            GapShare(
                feature=found.features[j],
                gap=Estimate(
                    value=float(step[j]), low=float(step[j] - half * errors[j]), high=float(step[j] + half * errors[j])
                ),
                group=float(means[0][j]),
                reference=float(means[1][j]),
                share=float(step[j] / gap) if abs(gap) > 1e-12 else None,
            )
            for j in np.argsort(-np.abs(step), kind="stable")
        ),
        gap=Estimate(value=gap, low=gap - half * float(whole_error), high=gap + half * float(whole_error)),
        all_rows_gap=every[0] - every[1],
        mean_group=every[0],
        mean_reference=every[1],
        rows=subject.n,
        rows_of_both=int(two.both.sum()),
        rows_explained=len(both),
        output=subject.scale,
        what=subject.what,
        method=found.method,
        why=found.why,
        confidence=subject.spec.policy.confidence,
    )


def _variance(values: np.ndarray, weights: np.ndarray) -> np.ndarray:
    """Sampling variance of the weighted mean of each column."""
    return weighing.error(values, weights) ** 2


def say(result: ScoreGapResult, wording: Wording, settings: ScoreGapSettings) -> Reading:
    def show(value: float) -> str:
        return words.difference(value, result.output, wording.unit)

    way = "lower" if result.all_rows_gap < 0 else "higher"
    first = result.features[0]
    towards = (first.gap.value < 0) == (result.gap.value < 0)
    headline = (
        Span(
            text=f"The output of {result.group} {wording.rows} is on average {show(result.all_rows_gap)} {way} than that of "
        ),
        Span(text=f"{result.reference} {wording.rows}; {words.title(first.feature)} accounts for "),
        Span(text=f"{show(first.gap.value)}{'' if towards else ' the other way'}."),
    )
    against = [one for one in result.features if one.share is not None and one.share < -0.05]
    detail = f"The differences of mean contributions add up to the gap of the {words.count(result.rows_explained)} {wording.rows} explained."
    if against:
        named = words.opening(words.listing([words.title(one.feature) for one in against[:3]]))
        detail += f" {named} {'works' if len(against) == 1 else 'work'} the other way."
    return Reading(headline=headline, detail=f"{detail} {result.why}")


METHOD = Method(
    name="score_gap",
    area="tilt",
    part="one",
    title="What drives the gap",
    settings=ScoreGapSettings,
    result=ScoreGapResult,
    compute=gap_of_scores,
    say=say,
    note=(
        "Mean Shapley values of rows of both groups, against the same background. Their differences add up to the "
        "difference of mean outputs of the rows explained. It says which features the model uses to tell the groups' "
        "outputs apart, not why the groups differ in them."
    ),
    main="features",
    depends=frozenset({"spec", "comparisons", "policy"}),
    address={"reference": "against"},
    first_look={"explained": 30, "walks": 16},
    version=4,
)
