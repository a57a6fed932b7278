"""Two groups compared given other columns: within strata, pooled, and which column shrinks the gap most."""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.groups import intervals, membership, metrics, readout, strata
from zerotilt.core.groups.membership import Grouping
from zerotilt.core.groups.metrics import Estimate, Measure, estimate, metric_named
from zerotilt.core.groups.pair import Pair, PairSettings, pair
from zerotilt.core.groups.readout import Readout
from zerotilt.core.reading import Reading, Span
from zerotilt.core.refusal import Refused
from zerotilt.core.spec import Frozen, Role, Task, Wording
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

MOST_STRATA = 400
SETTLES = 0.5
"""Share of a gap that must be gone before a column is said to account for most of it."""
Verdict = Literal["reversed", "turns round", "vanishes", "shrinks", "stays", "grows", "cannot be told"]


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
    rows: int
    confidence: float


def compare_given(subject: Subject, settings: GivenSettings, seed: int, work: Work) -> GivenResult:
    """Compare two groups within strata of other columns, and try each column alone (methods section 6).

    Raises
    ------
    Refused : the metric has no strata, a column is one of the groups' own, or there are too many strata.
    """
    two = pair(subject, settings)
    key = settings.metric or ("mean_prediction" if subject.task is Task.regression else "selection_rate")
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
    side = _Sides(two, top, bottom, metric_named(key).kind == "rate", subject.spec.policy.confidence)
    whole = np.zeros(subject.n, np.int64)
    plain = side.pooled(whole, 1)
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
                    shrinks=_shrinks(plain, pooled, side.by),
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
    shrinks = _shrinks(plain, pooled, side.by)
    sides = (side.measure(two.inside), side.measure(two.against))
    least = subject.spec.policy.minimum_rows
    enough_rows = min(one.of for one in sides) >= least
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
        verdict=_verdict(plain, pooled, shrinks, side.by) if enough_rows else "cannot be told",
        compared=side.kept(grouping.codes, k),
        candidates=tuple(tried),
        by=side.by,
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
    return membership.grouping(spec, subject.table, subject.rows, columns)


def _parts(found: Readout, key: str) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Of each row what it adds to the top and to the bottom of the metric."""
    for lens in found.lenses:
        if key in lens.keys:
            sides, metric = (lens.y, lens.d, lens.favoured), lens.keys[key]
            among = metric.among(*sides)
            return (among & metric.counted(*sides)).astype(float), among.astype(float)
    return found.means[key], np.ones(len(found.means[key]))


class _Sides:
    """The two groups' rows, counted or summed by strata. Rows count alike: strata are compared unweighted."""

    def __init__(self, two: Pair, top: NDArray, bottom: NDArray, rate: bool, confidence: float):
        self.two, self.top, self.bottom, self.rate, self.confidence = two, top, bottom, rate, confidence

    @property
    def by(self) -> Literal["ratio", "difference"]:
        return "ratio" if self.rate else "difference"

    def counts(self, codes: NDArray[np.int64], k: int) -> list[NDArray[np.float64]]:
        """Sums, rows and sums of squares of the group, then of the reference, each (k,)."""
        out = []
        for mask in (self.two.inside, self.two.against):
            kept = mask & (self.bottom > 0)
            values = self.top[kept]
            out += [np.bincount(codes[kept], one, k) for one in (values, np.ones(len(values)), values**2)]
        return out

    def kept(self, codes: NDArray[np.int64], k: int) -> int:
        _, n1, _, _, n2, _ = self.counts(codes, k)
        told = (n1 > 0) & (n2 > 0)
        return int((n1 + n2)[told].sum())

    def pooled(self, codes: NDArray[np.int64], k: int) -> Pooled:
        x1, n1, s1, x2, n2, s2 = self.counts(codes, k)
        if self.rate:
            found = strata.mantel_haenszel(x1, n1, x2, n2, self.confidence)
            return Pooled(
                ratio=estimate(*found.ratio),
                odds_ratio=estimate(*found.odds_ratio),
                difference=estimate(*found.difference),
                p_value=_known(found.p),
                p_alike=_known(found.p_alike),
            )
        (m1, e1), (m2, e2) = _means(x1, n1, s1), _means(x2, n2, s2)
        gap, p = strata.pooled_means(m1, e1, n1, m2, e2, n2, self.confidence)
        nothing = estimate(math.nan, 0, 0)
        return Pooled(ratio=nothing, odds_ratio=nothing, difference=estimate(*gap), p_value=_known(p), p_alike=None)

    def measure(self, mask: NDArray[np.bool_]) -> Measure:
        kept = mask & (self.bottom > 0)
        values = self.top[kept]
        return self._measured(values.sum(), float(len(values)), (values**2).sum())

    def _measured(self, x: float, n: float, square: float) -> Measure:
        if self.rate:
            found = estimate(*intervals.wilson(x, n, self.confidence))
            return Measure(**found.model_dump(), count=int(x), of=int(n))
        mean, error = _means(np.array([x]), np.array([n]), np.array([square]))
        found = intervals.mean(mean, error, 0.0, n, self.confidence)
        return Measure(**estimate(*(one[0] for one in found)).model_dump(), of=int(n))

    def each(self, grouping: Grouping) -> tuple[Stratum, ...]:
        k = len(grouping.labels)
        sides = self.counts(grouping.codes, k)
        x1, n1, _, x2, n2, _ = sides
        if self.rate:
            *ratios, _ = intervals.koopman(x1, n1, x2, n2, self.confidence)
            gaps = intervals.mee(x1, n1, x2, n2, self.confidence)
        else:
            ratios = [np.full(k, np.nan)] * 3
            both = [
                intervals.mean(*_means(*sides[at : at + 3][:2], sides[at + 2]), 0.0, sides[at + 1], self.confidence)
                for at in (0, 3)
            ]
            gaps = intervals.between(*both)
        order = np.argsort(-(n1 + n2), kind="stable")
        return tuple(
            Stratum(
                stratum=grouping.labels[i],
                group=self._measured(*(side[i] for side in sides[:3])),
                reference=self._measured(*(side[i] for side in sides[3:])),
                ratio=estimate(*(one[i] for one in ratios)),
                difference=estimate(*(one[i] for one in gaps)),
            )
            for i in order
            if n1[i] + n2[i] > 0
        )


def _means(x: NDArray, n: NDArray, square: NDArray) -> tuple[NDArray, NDArray]:
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = x / n
        error = np.sqrt(np.maximum(square / n - mean**2, 0) / np.maximum(n - 1, 1))
    return mean, error


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


def _verdict(plain: Pooled, pooled: Pooled, shrinks: float | None, by: str) -> Verdict:
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
    "cannot be told": "cannot be told",
}


def say(result: GivenResult, wording: Wording, settings: GivenSettings) -> Reading:
    given = words.listing([words.title(name) for name in result.columns])
    by_ratio = result.by == "ratio"

    def size(pooled: Pooled) -> str:
        found = pooled.ratio if by_ratio else pooled.difference
        if found.value is None:
            return "not defined"
        show = words.ratio if by_ratio else (lambda value: words.quantity(value, wording.unit))
        ends = f"{show(found.low)} to {show(found.high)}"
        return f"{show(found.value)} ({words.level(result.confidence)} interval {ends})"

    what = f"{'ratio' if by_ratio else 'difference'} of the {metrics.phrase(result.metric)}"
    headline = (
        Span(text=f"Given {given}, the gap between {result.group} and {result.reference} "),
        Span(text=SAID[result.verdict], flagged=result.verdict == "reversed"),
        Span(text=f": the {what} is {size(result.plain)} plainly and {size(result.pooled)} within strata."),
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
