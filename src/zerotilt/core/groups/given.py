"""Two groups compared given other columns: within strata, pooled, and which column shrinks the gap most."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import membership, words
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups import measure, metrics, readout, tally
from zerotilt.core.groups.metrics import Measure, metric_named
from zerotilt.core.groups.pair import Pair, PairSettings, pair
from zerotilt.core.groups.readout import Readout
from zerotilt.core.meaning import Role, Wording
from zerotilt.core.membership import Grouping
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, Span
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import intervals, strata
from zerotilt.core.stats.estimates import Estimate, estimate
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

MOST_STRATA = 400
SETTLES = 0.5
"""Share of a gap that must be gone before a column is said to account for most of it."""
Verdict = Literal[
    "reversed", "turns round", "vanishes", "shrinks", "stays", "grows", "no gap", "appears", "cannot be told"
]


class GivenSettings(PairSettings):
    metric: str = Field(default="", description="Selection rate when empty, mean prediction for a number")
    columns: tuple[str, ...] = Field(
        default=(),
        max_length=3,
        description="Columns whose crossing makes the strata; the one that shrinks most when empty",
    )


class Stratum(Frozen):
    """``group`` and ``reference`` within the stratum; a rate's intervals are Wilson's."""

    stratum: str
    group: Measure
    reference: Measure
    ratio: Estimate
    difference: Estimate


class Pooled(Frozen):
    ratio: Estimate
    odds_ratio: Estimate
    difference: Estimate
    p_value: float | None = Field(description="That there is no gap within the strata")
    p_alike: float | None = Field(description="That the strata's odds ratios are alike")


class Candidate(Frozen):
    """A column given alone."""

    column: str
    strata: int
    rows: int = Field(description="Rows of both groups in strata that hold both")
    ratio: Estimate
    difference: Estimate
    shrinks: float | None = Field(description="Share of the plain gap that is gone; below 0 where it grew")


class GivenResult(Frozen):
    attribute: str
    group: str
    reference: str
    metric: str
    plain_group: Measure
    plain_reference: Measure
    minimum_rows: int = Field(description="The policy's; with fewer on a side nothing is said of the gap")
    plain: Pooled
    columns: tuple[str, ...]
    strata: tuple[Stratum, ...] = Field(description="Most rows first")
    pooled: Pooled
    shrinks: float | None
    verdict: Verdict
    compared: int = Field(description="Rows of both groups in strata that hold both")
    candidates: tuple[Candidate, ...] = Field(description="Most shrinking first")
    by: Literal["ratio", "difference"]
    weighted: bool = Field(
        description="Whether rows have weights; then the strata's odds ratios are not tested for being alike"
    )
    rows: int
    confidence: float


def compare_given(subject: Subject, settings: GivenSettings, seed: int, work: Work) -> GivenResult:
    """Compare two groups within strata of other columns, and try each column alone (methods section 6).

    Raises
    ------
    Refused : the metric has no strata, a column is one of the groups' own, or there are too many strata.
    """
    two = pair(subject, settings)
    key = settings.metric or subject.kind.headline
    if metric_named(key).kind not in ("rate", "mean"):
        raise Refused(
            f"metric: {metrics.phrase(key)} is not a share or a mean of rows, so strata cannot be pooled.",
            todo="Choose a rate.",
        )
    for column in settings.columns:
        subject.spec.column(column)
        if column in two.columns:
            raise Refused(f"columns: “{column}” makes the groups themselves.", todo="Choose other columns.")
    found = readout.read(subject, ())
    if key not in found.keys:
        raise Refused(f"metric: {metrics.phrase(key)} is not defined here.", todo="Choose another metric.")
    top, bottom = _parts(found, key)
    confidence = subject.spec.policy.confidence
    side = _Sides(two, top, bottom, metric_named(key).kind == "rate", confidence, subject.rows.weights)
    plain, sides = _plain(subject, found, key, two, side)
    least = subject.spec.policy.minimum_rows
    enough_rows = min(one.of for one in sides) >= least
    there_is = enough_rows and _is_gap(plain, side.by)
    names = _candidates(subject, two)
    work.begin(len(names) + 1, "columns given")
    tried = []
    for name in names:
        grouping = _grouped(subject, (name,))
        if len(grouping.labels) > 1:
            pooled = side.pooled(grouping.codes, len(grouping.labels))
            tried.append(
                Candidate(
                    column=name,
                    strata=len(grouping.labels),
                    rows=side.kept(grouping.codes, len(grouping.labels)),
                    ratio=pooled.ratio,
                    difference=pooled.difference,
                    shrinks=_shrinks(plain, pooled, side.by) if there_is else None,
                )
            )
        work.advance(1)
    # a column under which few of the rows still have a counterpart says little, however small its gap
    enough = 0.5 * int(two.both.sum())
    tried.sort(key=lambda one: (one.shrinks is None or one.rows < enough, -(one.shrinks or 0)))
    if not tried and not settings.columns:
        raise Refused("There is no other column to compare within.", todo="Mark other columns as features or groups.")
    columns = settings.columns or (tried[0].column,)
    grouping = _grouped(subject, columns)
    k = len(grouping.labels)
    if k > MOST_STRATA:
        raise Refused(
            f"{words.listing(list(columns))} make {k} strata; {MOST_STRATA} can be read.", todo="Choose fewer."
        )
    pooled = side.pooled(grouping.codes, k)
    shrinks = _shrinks(plain, pooled, side.by) if there_is else None
    return GivenResult(
        attribute=two.attribute,
        group=two.group,
        reference=two.reference,
        metric=key,
        plain_group=sides[0],
        plain_reference=sides[1],
        minimum_rows=least,
        plain=plain,
        columns=columns,
        strata=side.each(grouping),
        pooled=pooled,
        shrinks=shrinks,
        verdict=_verdict(plain, pooled, shrinks, side.by, there_is) if enough_rows else "cannot be told",
        compared=side.kept(grouping.codes, k),
        candidates=tuple(tried),
        by=side.by,
        weighted=subject.rows.weights is not None,
        rows=subject.n,
        confidence=subject.spec.policy.confidence,
    )


def _candidates(subject: Subject, two: Pair) -> list[str]:
    """Columns that may stand behind a gap: features and groups, and the model's inputs whatever they are marked as."""
    inputs = set(subject.predictor.inputs) if subject.predictor is not None else set()
    left_out = (Role.outcome, Role.decision, Role.score, Role.ignored)
    return [
        name
        for name in subject.partable
        if name not in two.columns and (subject.spec.column(name).role not in left_out or name in inputs)
    ]


def _grouped(subject: Subject, columns: tuple[str, ...]) -> Grouping:
    """Strata are told apart by whole cells, also where a cell holds several levels."""
    plain = tuple(one.model_copy(update={"separator": ""}) for one in subject.spec.columns)
    spec = subject.spec.model_copy(update={"columns": plain})
    return membership.grouping(spec, subject.table, subject.rows.numbers, columns)


def _parts(found: Readout, key: str) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Of each row what it adds to the top and to the bottom of the metric."""
    for lens in found.lenses:
        if key in lens.keys:
            sides, metric = (lens.y, lens.d, lens.favoured), lens.keys[key]
            among = metric.among(*sides)
            return (among & metric.counted(*sides)).astype(float), among.astype(float)
    return found.means[key], np.ones(len(found.means[key]))


def _plain(
    subject: Subject, found: Readout, key: str, two: Pair, side: _Sides
) -> tuple[Pooled, tuple[Measure, Measure]]:
    """The comparison without strata: the very one that groups are compared by elsewhere, and both sides."""
    codes = np.where(two.inside, 0, np.where(two.against, 1, 2))
    tallied = tally.count(tally.Packed.of(found, subject.n), codes, 3)
    measured = measure.measured(found, tallied, None, None, side.confidence)[key]
    group, reference = measured.take(np.array([0])), measured.take(np.array([1]))
    compared = measure.compared(group, reference, side.confidence)
    odds = strata.NOTHING
    if side.rate:
        odds = strata.mantel_haenszel(group.x, group.n, reference.x, reference.n, side.confidence).odds_ratio
    pooled = Pooled(
        ratio=estimate(*(one[0] for one in compared.ratio)),
        odds_ratio=estimate(*odds),
        difference=estimate(*(one[0] for one in compared.difference)),
        p_value=_known(float(compared.p[0])),
        p_alike=None,
    )
    if not side.rate:  # a mean may be of either sign: strata are pooled by its difference
        pooled = pooled.model_copy(update={"ratio": estimate(math.nan, 0, 0)})
    return pooled, (group.at(0), reference.at(0))


@dataclass(frozen=True)
class _Sums:
    """One side by strata, shapes (k,): rows that weigh something, Σw, Σw·value, and the mean's standard error; of a rate
    also Σw² of all and of those counted."""

    rows: NDArray[np.int64]
    mass: NDArray[np.float64]
    top: NDArray[np.float64]
    square: NDArray[np.float64]
    top_square: NDArray[np.float64]
    error: NDArray[np.float64]

    @property
    def mean(self) -> NDArray[np.float64]:
        with np.errstate(invalid="ignore", divide="ignore"):
            return self.top / self.mass

    @property
    def counts(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        return intervals.effective_counts(self.top, self.top_square, self.mass, self.square, self.rows)


class _Sides:
    """The two groups' rows, counted or summed by strata, each by its weight."""

    def __init__(
        self, two: Pair, top: NDArray, bottom: NDArray, rate: bool, confidence: float, weights: NDArray | None
    ):
        self.two, self.top, self.bottom, self.rate, self.confidence = two, top, bottom, rate, confidence
        self.weighted = weights is not None
        self.weights = np.ones(len(top)) if weights is None else weights

    @property
    def by(self) -> Literal["ratio", "difference"]:
        return "ratio" if self.rate else "difference"

    def sums(self, codes: NDArray[np.int64], k: int) -> tuple[_Sums, _Sums]:
        """The group's, then the reference's. Spreads are taken about each stratum's own mean, so that they keep their
        digits however far the values are from zero."""
        found = []
        for mask in (self.two.inside, self.two.against):
            kept = mask & (self.bottom > 0) & (self.weights > 0)
            code, w, values = codes[kept], self.weights[kept], self.top[kept]
            rows, mass = np.bincount(code, minlength=k), np.bincount(code, w, k)
            top = np.bincount(code, w * values, k)
            off = values - (top / np.where(mass > 0, mass, 1))[code]
            # once more, since the mean of large values is itself rounded
            off = off - (np.bincount(code, w * off, k) / np.where(mass > 0, mass, 1))[code]
            left = np.bincount(code, (w * off) ** 2, k) / np.where(mass > 0, mass, 1) ** 2
            error = np.sqrt(left * rows / np.maximum(rows - 1, 1))
            square, of_values = (np.bincount(code, w**2 * one, k) for one in (np.ones(len(w)), values))
            found.append(_Sums(rows, mass, top, square, of_values, error))
        return found[0], found[1]

    def kept(self, codes: NDArray[np.int64], k: int) -> int:
        first, second = self.sums(codes, k)
        told = (first.rows > 0) & (second.rows > 0)
        return int((first.rows + second.rows)[told].sum())

    def pooled(self, codes: NDArray[np.int64], k: int) -> Pooled:
        first, second = self.sums(codes, k)
        if self.rate:
            if self.weighted:
                kept = self.two.both & (self.bottom > 0) & (self.weights > 0)
                found = strata.weighted(
                    codes[kept], k, self.two.inside[kept], self.top[kept], self.weights[kept], self.confidence
                )
            else:
                found = strata.mantel_haenszel(first.top, first.mass, second.top, second.mass, self.confidence)
            return Pooled(
                ratio=estimate(*found.ratio),
                odds_ratio=estimate(*found.odds_ratio),
                difference=estimate(*found.difference),
                p_value=_known(found.p),
                p_alike=_known(found.p_alike),
            )
        gap, p = strata.pooled_means(
            first.mean, first.error, first.mass, second.mean, second.error, second.mass, self.confidence,
            (first.rows > 1) & (second.rows > 1),
        )  # fmt: skip
        nothing = estimate(math.nan, 0, 0)
        return Pooled(ratio=nothing, odds_ratio=nothing, difference=estimate(*gap), p_value=_known(p), p_alike=None)

    def each(self, grouping: Grouping) -> tuple[Stratum, ...]:
        k = len(grouping.labels)
        sides = self.sums(grouping.codes, k)
        if self.rate:
            counts = [one.counts for one in sides]
            *ratios, _ = intervals.koopman(*counts[0], *counts[1], self.confidence)
            gaps = intervals.mee(*counts[0], *counts[1], self.confidence)
            both = [intervals.wilson(*one, self.confidence) for one in counts]
        else:
            ratios = [np.full(k, np.nan)] * 3
            both = [intervals.mean(one.mean, one.error, 0.0, one.rows, self.confidence) for one in sides]
            gaps = intervals.between(*both)

        def measure_of(side: int, i: int) -> Measure:
            found = estimate(*(one[i] for one in both[side]))
            count = round(sides[side].top_square[i]) if self.rate and not self.weighted else None
            return Measure(**found.model_dump(), count=count, of=int(sides[side].rows[i]))

        rows = sides[0].rows + sides[1].rows
        return tuple(
            Stratum(
                stratum=grouping.labels[i],
                group=measure_of(0, i),
                reference=measure_of(1, i),
                ratio=estimate(*(one[i] for one in ratios)),
                difference=estimate(*(one[i] for one in gaps)),
            )
            for i in np.argsort(-rows, kind="stable")
            if rows[i] > 0
        )


def _known(p: float) -> float | None:
    return p if math.isfinite(p) else None


def _size(pooled: Pooled, by: str) -> float:
    found = pooled.ratio if by == "ratio" else pooled.difference
    if found.value is None:
        return math.nan
    return math.log(found.value) if by == "ratio" else found.value


def _shrinks(plain: Pooled, pooled: Pooled, by: str) -> float | None:
    before, after = _size(plain, by), _size(pooled, by)
    if not (math.isfinite(before) and math.isfinite(after)) or abs(before) < 1e-9:
        return None
    # a gap that has turned round is gone whole, and counts again as far as it goes the other way
    return 1 - (abs(after) if after * before >= 0 else -abs(after)) / abs(before)


def _beyond(pooled: Pooled, by: str) -> bool:
    """Whether the interval leaves parity out."""
    found, parity = (pooled.ratio, 1.0) if by == "ratio" else (pooled.difference, 0.0)
    return found.low is not None and found.high is not None and not found.low <= parity <= found.high


def _is_gap(plain: Pooled, by: str) -> bool:
    """Whether there is anything to explain: parity is left out, and the ratio shown is not 1.00."""
    if not _beyond(plain, by):
        return False
    return by == "difference" or words.ratio(plain.ratio.value) != "1.00"


def _verdict(plain: Pooled, pooled: Pooled, shrinks: float | None, by: str, there_is: bool) -> Verdict:
    if not there_is and math.isfinite(_size(plain, by)) and math.isfinite(_size(pooled, by)):
        return "appears" if _is_gap(pooled, by) else "no gap"
    if shrinks is None:
        return "cannot be told"
    if shrinks > 1 and _beyond(pooled, by):
        return "reversed"
    if shrinks >= SETTLES and _beyond(plain, by) and not _beyond(pooled, by):
        return "vanishes"
    if shrinks > 1:
        return "turns round"
    return "grows" if shrinks < -0.1 else "shrinks" if shrinks > 0.1 else "stays"


SAID: dict[Verdict, str] = {
    "reversed": "is reversed",
    "turns round": "turns round, within what chance explains",
    "vanishes": "can no longer be told from none",
    "shrinks": "shrinks",
    "stays": "stays about the same",
    "grows": "grows",
    "no gap": "is not told from none",
    "appears": "is not told from none plainly, and is there within strata",
    "cannot be told": "cannot be told",
}


def say(result: GivenResult, wording: Wording, settings: GivenSettings) -> Reading:
    given = words.listing([words.title(name) for name in result.columns])
    by_ratio = result.by == "ratio"

    def size(pooled: Pooled) -> str:
        found = pooled.ratio if by_ratio else pooled.difference
        if found.value is None:
            return "not defined"
        if by_ratio:
            value, low, high = (words.ratio(one) for one in (found.value, found.low, found.high))
        else:
            value, low, high = words.measured(found.value, found.low, found.high)
            value, high = f"{value} {wording.unit}".strip(), f"{high} {wording.unit}".strip()
        return f"{value} ({words.level(result.confidence)} interval {low} to {high})"

    what = f"{'ratio' if by_ratio else 'difference'} of the {metrics.phrase(result.metric)}"
    headline = (
        Span(text=f"Given {given}, the gap between {result.group} and {result.reference} "),
        Span(text=SAID[result.verdict], flagged=result.verdict in ("reversed", "appears")),
        Span(text=f": the {what} is {size(result.plain)} plainly and {size(result.pooled)} within strata."),
    )
    if result.verdict == "no gap":
        headline = (
            Span(
                text=f"There is no gap between {result.group} and {result.reference} to explain: the {what} is "
                f"{size(result.plain)} plainly and {size(result.pooled)} given {given}."
            ),
        )
    detail = f"{words.count(result.compared)} {wording.rows} in strata that hold both groups."
    least = min(result.plain_group.of, result.plain_reference.of)
    if least < result.minimum_rows:
        detail += f" One side has {words.count(least)} {wording.rows}; the flag policy asks for {result.minimum_rows}."
        return Reading(headline=headline, detail=detail)
    if result.pooled.p_alike is not None and result.pooled.p_alike <= 1 - result.confidence:
        detail += " The strata differ among themselves more than chance explains, so look at each."
    if result.candidates and result.candidates[0].shrinks is not None and result.candidates[0].shrinks > 0:
        first = result.candidates[0]
        detail += (
            f" Of all columns, {words.title(first.column)} alone takes away most of the gap: "
            f"{words.percent(min(first.shrinks, 1.0))}."
        )
    return Reading(headline=headline, detail=detail)


METHOD = Method(
    name="given",
    area="tilt",
    part="given",
    title="Given other columns",
    settings=GivenSettings,
    result=GivenResult,
    compute=compare_given,
    say=say,
    note=(
        "Rows are set against rows of the same stratum only, pooled by **Mantel & Haenszel** (1959): the rate ratio "
        "with the variance of Greenland & Robins (1985), the odds ratio with that of Robins, Breslow & Greenland "
        "(1986), the difference with Sato's (1989); whether strata are alike by Breslow & Day (1980) with Tarone's "
        "correction (1985). Means are pooled with weights n₁n₂/(n₁+n₂). Strata that hold one side only say nothing. "
        "Reversed: the pooled comparison is beyond chance on the other side. The plain comparison is the very one "
        "that Groups shows; where its interval holds parity, there is no gap to explain. What a column takes away is "
        "1 − log pooled / log plain. That a gap vanishes given a column does not make it harmless: the column may "
        "itself stand for the group. With row weights estimates are from weighted counts, their variances linearised "
        "(Binder 1983), and whether strata are alike is not tested."
    ),
    main="strata",
    needs=frozenset({"predictions"}),
    depends=frozenset({"spec", "comparisons", "policy"}),
    address={"reference": "against", "columns": "given"},
    version=2,
)
