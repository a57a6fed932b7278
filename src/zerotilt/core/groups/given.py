"""Two groups compared given other columns: within strata, pooled, and which column shrinks the gap most."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import membership, words
from zerotilt.core.groups import measure, metrics, readout, tally
from zerotilt.core.groups.given_result import Candidate, GivenResult, GivenSettings, Pooled, Verdict, if_known
from zerotilt.core.groups.given_said import say
from zerotilt.core.groups.metrics import Measure, metric_named
from zerotilt.core.groups.pair import Pair, pair
from zerotilt.core.groups.readout import Readout
from zerotilt.core.groups.strata_sides import Sides
from zerotilt.core.meaning import Role
from zerotilt.core.membership import Grouping
from zerotilt.core.method import Method
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import strata
from zerotilt.core.stats.estimates import estimate
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

MOST_STRATA = 400
SETTLES = 0.5
"""Share of a gap that must be gone before a column is said to account for most of it."""


def compare_given(subject: Subject, settings: GivenSettings, seed: int, work: Work) -> GivenResult:
    """Compare two groups within strata of other columns, and try each column alone.

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
    side = Sides(two, top, bottom, metric_named(key).kind == "rate", confidence, subject.rows.weights)
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
    subject: Subject, found: Readout, key: str, two: Pair, side: Sides
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
        p_value=if_known(float(compared.p[0])),
        p_alike=None,
    )
    if not side.rate:  # a mean may be of either sign: strata are pooled by its difference
        pooled = pooled.model_copy(update={"ratio": estimate(math.nan, 0, 0)})
    return pooled, (group.at(0), reference.at(0))


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
