"""Cases with alike explanations: rows gathered by what moved their outputs."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.contributions.explain import ShapleyMethod, explain
from zerotilt.core.contributions.sums_met import affordable
from zerotilt.core.counterfactuals.flip import share_of
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import weighing
from zerotilt.core.stats.estimates import Estimate
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

FEWEST, MOST = 2, 8
JUDGED = 1_000
"""Rows by which the number of families is judged."""
STARTS = 4
LISTED = 500


class FamiliesSettings(Frozen):
    families: int = Field(default=0, ge=0, le=30, description="How many; 0: the number that fits best, from 2 to 8")
    rows: int = Field(default=50_000, ge=10, le=1_000_000, description="Rows explained where that is exact and cheap")
    sampled: int = Field(default=300, ge=10, le=1_000_000, description="Rows explained where contributions are sampled")


class Mover(Frozen):
    feature: str
    mean: float = Field(description="Mean contribution among the family")


class Family(Frozen):
    label: str = Field(description="Its two or three largest mean contributions")
    movers: tuple[Mover, ...] = Field(description="Every feature, largest mean first")
    rows: int
    mean_output: float
    favoured: Estimate | None = Field(description="Share with the favourable decision; null where nothing is decided")
    happened: Estimate | None = Field(description="Share in which the event happened; null where that is not known")
    wrong: Estimate | None = Field(description="Share decided wrongly; null where that is not known")
    typical: int = Field(description="Row nearest its middle")
    typical_name: str
    members: tuple[int, ...] = Field(description="Rows of the table, nearest its middle first, the first 500")
    member_names: tuple[str, ...] = Field(description="The same by their identifiers")


class Fit(Frozen):
    families: int
    silhouette: float = Field(description="Mean silhouette (Rousseeuw 1987) of the judged rows")


class FamiliesResult(Frozen):
    families: tuple[Family, ...] = Field(description="Largest first")
    fits: tuple[Fit, ...] = Field(description="Numbers that were tried")
    explained_share: float = Field(description="Share of the spread of contributions that lies between families")
    rows: int
    rows_explained: int
    method: ShapleyMethod
    why: str
    output: Literal["probability", "log-odds", "value"]
    event: str


def gather(subject: Subject, settings: FamiliesSettings, seed: int, work: Work) -> FamiliesResult:
    """Cluster rows by their contributions: k-means (Lloyd 1982; Arthur & Vassilvitskii 2007), the number by silhouette.

    Raises
    ------
    Refused : there are fewer rows than families, or all rows are explained alike.
    """
    most = min(affordable(subject, settings.rows, settings.sampled), settings.rows)
    chosen = np.sort(subject.rows.drawn(np.random.default_rng(seed), most))
    found = explain(subject, subject.rows.numbers[chosen], seed, work, most_pairs=512)
    points = found.values
    distinct = len(np.unique(points, axis=0))
    wanted = settings.families
    if distinct < max(wanted, FEWEST) or len(chosen) <= FEWEST:
        raise Refused(
            f"{words.opening(words.plural(distinct, 'different explanation'))} among {words.plural(len(chosen), 'row')}; "
            f"{'they cannot' if distinct != 1 else 'it cannot'} be gathered into {max(wanted, FEWEST)} families.",
            todo="Read more rows, or ask for fewer families.",
        )
    judged = np.sort(np.random.default_rng([seed, 1]).permutation(len(points))[:JUDGED])
    tries = [wanted] if wanted else range(FEWEST, min(MOST, distinct, len(points) - 1) + 1)
    work.begin(len(tries), "numbers of families tried")
    fits, best = [], None
    for k in tries:
        codes, centres = k_means(points, k, [seed, k])
        fit = silhouette(points[judged], codes[judged])
        fits.append(Fit(families=k, silhouette=fit))
        if best is None or fit > best[0] + 1e-12:
            best = (fit, codes, centres)
        work.advance(1)
    assert best is not None
    _, codes, centres = best
    total = float(((points - points.mean(axis=0)) ** 2).sum())
    within = float(((points - centres[codes]) ** 2).sum())
    order = sorted(range(len(centres)), key=lambda c: -int((codes == c).sum()))
    return FamiliesResult(
        families=tuple(_family(subject, found.features, chosen, points, codes, centres, c) for c in order),
        fits=tuple(fits),
        explained_share=1 - within / total if total > 0 else 0.0,
        rows=subject.n,
        rows_explained=len(chosen),
        method=found.method,
        why=found.why,
        output=subject.scale,
        event=subject.what,
    )


def k_means(
    points: NDArray[np.float64], k: int, seed: list[int], steps: int = 100
) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """The best of a few runs: codes (n,), and centres (k, p); no family is empty."""
    best, least = None, np.inf
    for start in range(STARTS):
        rng = np.random.default_rng([*seed, start])
        centres = _spread_out(points, k, rng)
        codes = np.full(len(points), -1)
        for _ in range(steps):
            away = _squares(points, centres)
            fresh = away.argmin(axis=1)
            for c in np.setdiff1d(np.arange(k), fresh):  # an empty one takes the point farthest from its own centre
                far = int(
                    np.where(
                        np.bincount(fresh, minlength=k)[fresh] > 1, away[np.arange(len(points)), fresh], -1
                    ).argmax()
                )
                fresh[far] = c
            if (fresh == codes).all():
                break
            codes = fresh
            sizes = np.bincount(codes, minlength=k)
            centres = np.stack([np.bincount(codes, points[:, j], k) / sizes for j in range(points.shape[1])], axis=1)
        loss = float(((points - centres[codes]) ** 2).sum())
        if loss < least:
            best, least = (codes, centres), loss
    assert best is not None
    return best


def _spread_out(points: NDArray[np.float64], k: int, rng: np.random.Generator) -> NDArray[np.float64]:
    """First centres, each drawn in proportion to its squared distance from those before (k-means++)."""
    chosen = [int(rng.integers(len(points)))]
    near = ((points - points[chosen[0]]) ** 2).sum(axis=1)
    while len(chosen) < k:
        chance = near / near.sum() if near.sum() > 0 else np.full(len(points), 1 / len(points))
        chosen.append(int(rng.choice(len(points), p=chance)))
        near = np.minimum(near, ((points - points[chosen[-1]]) ** 2).sum(axis=1))
    return points[chosen]


def _squares(points: NDArray[np.float64], centres: NDArray[np.float64]) -> NDArray[np.float64]:
    """Squared distances, shape (n, k)."""
    found = (points**2).sum(axis=1)[:, None] - 2 * points @ centres.T + (centres**2).sum(axis=1)[None, :]
    return np.maximum(found, 0)


def silhouette(points: NDArray[np.float64], codes: NDArray[np.int64]) -> float:
    """Mean silhouette width (Rousseeuw 1987): (b − a) / max(a, b), zero for a row alone in its family; −1 for one family."""
    kinds = np.unique(codes)
    if len(kinds) < 2:
        return -1.0
    away = np.sqrt(_squares(points, points))
    means = np.stack([away[:, codes == c].mean(axis=1) for c in kinds], axis=1)
    sizes = np.array([(codes == c).sum() for c in kinds])
    place = np.searchsorted(kinds, codes)
    rows = np.arange(len(points))
    own = means[rows, place] * sizes[place] / np.maximum(sizes[place] - 1, 1)
    means[rows, place] = np.inf
    other = means.min(axis=1)
    top = np.maximum(own, other)
    width = np.where((sizes[place] > 1) & (top > 0), (other - own) / np.where(top > 0, top, 1), 0.0)
    return float(width.mean())


def _family(subject: Subject, features, chosen, points, codes, centres, c: int) -> Family:
    mine = np.flatnonzero(codes == c)
    mass = subject.rows.mass[chosen[mine]]
    means = weighing.mean(points[mine], mass)
    order = np.argsort(-np.abs(means), kind="stable")
    nearest = mine[np.argsort(((points[mine] - centres[c]) ** 2).sum(axis=1), kind="stable")]
    numbers = subject.rows.numbers[chosen[nearest]]
    confidence, places = subject.spec.policy.confidence, chosen[mine]
    outcome = subject.rows.outcome_if_known
    favoured = wrong = happened = None
    if subject.kind.decides:
        favoured = share_of(subject.decisions.favoured[places], mass, confidence)
    if outcome is not None and subject.kind.decides:
        wrong = share_of(outcome[places].astype(np.int64) != subject.decisions.taken[places], mass, confidence)
        hit = outcome if not subject.classes else outcome == subject.column
        happened = share_of(np.asarray(hit, bool)[places], mass, confidence)
    return Family(
        label=_label(features, means, order),
        movers=tuple(Mover(feature=features[j], mean=float(means[j])) for j in order),
        rows=len(mine),
        mean_output=float(weighing.mean(subject.own_output[places], mass)),
        favoured=favoured,
        happened=happened,
        wrong=wrong,
        typical=int(numbers[0]),
        typical_name=subject.editor.name_of(int(numbers[0])),
        members=tuple(int(one) for one in numbers[:LISTED]),
        member_names=tuple(subject.editor.name_of(int(one)) for one in numbers[:LISTED]),
    )


def _label(features, means: NDArray[np.float64], order: NDArray[np.intp]) -> str:
    """The largest contributions of a family: two, or three where the third is not much smaller than the second."""
    shown = [j for j in order[:3] if means[j] != 0]
    if len(shown) == 3 and abs(means[shown[2]]) < abs(means[shown[1]]) / 2:
        shown = shown[:2]
    parts = [
        f"{verb} by {words.listing([words.title(features[j]) for j in shown if sign * means[j] > 0])}"
        for sign, verb in ((1, "raised"), (-1, "lowered"))
        if any(sign * means[j] > 0 for j in shown)
    ]
    if len(parts) == 2 and means[shown[0]] < 0:
        parts.reverse()
    return ", ".join(parts) or "moved by nothing"


def say(result: FamiliesResult, wording: Wording, settings: FamiliesSettings) -> Reading:
    first = result.families[0]
    headline = (
        f"{words.count(result.rows_explained)} {wording.rows} fall into {words.plural(len(result.families), 'family', 'families')} by what moves "
        f"their outputs; the largest ({words.count(first.rows)} {wording.row if first.rows == 1 else wording.rows}) is {first.label}."
    )
    judged = [one for one in result.families if one.wrong is not None and one.wrong.value is not None]
    if len(judged) > 1:
        worst = max(judged, key=lambda one: one.wrong.value if one.wrong and one.wrong.value is not None else 0)
        wrong = worst.wrong
        if wrong is not None and wrong.value and wrong.low is not None and wrong.high is not None:
            headline += (
                f" Most often wrong are the {words.count(worst.rows)} {worst.label}: {words.percent(wrong.value)} "
                f"({words.percent(wrong.low)} to {words.percent(wrong.high)})."
            )
    chosen = "as asked" if settings.families else "the number with the widest silhouette"
    some = "" if result.rows_explained == result.rows else f" of {words.count(result.rows)} {wording.rows}"
    return plain(
        headline,
        f"{len(result.families)} {'family' if len(result.families) == 1 else 'families'}, {chosen}; {words.percent(result.explained_share)} of the spread of contributions lies between them. "
        f"Contributions of {words.count(result.rows_explained)}{some}. {result.why}",
    )


METHOD = Method(
    name="families",
    area="cases",
    title="Cases with alike explanations",
    settings=FamiliesSettings,
    result=FamiliesResult,
    compute=gather,
    say=say,
    note=(
        "The contributions of every row (all where they are exact, else a seeded sample) are gathered by **k-means** (Lloyd "
        "1982), begun with centres far apart (Arthur & Vassilvitskii 2007), four times, the best kept. The number of families, "
        "from two to eight, is the one with the largest mean **silhouette** (Rousseeuw 1987) over up to 1,000 rows. A family is "
        "named by its two or three largest mean contributions; its rates have Wilson intervals. Families describe how the "
        "model worked on these rows; they are no groups of people."
    ),
    main="families",
    part="families",
    first_look={"sampled": 60, "rows": 2_000},
)
