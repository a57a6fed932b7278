"""Groups of one column and of every crossing of two and three, so that a gap that is only in a crossing shows."""

from __future__ import annotations

import itertools
import math

import numpy as np
from pydantic import Field

from zerotilt.core import membership, words
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups import measure, metrics, readout
from zerotilt.core.groups.disparity import Status, limits, status
from zerotilt.core.groups.metrics import Measure, metric_named
from zerotilt.core.groups.reference import OTHERS
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, Span
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import intervals
from zerotilt.core.stats.estimates import Estimate, estimate
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

MOST_COLUMNS = 8


class LatticeSettings(Frozen):
    columns: tuple[str, ...] = Field(
        default=(), max_length=MOST_COLUMNS, description="Columns crossed; every group column when empty"
    )
    deepest: int = Field(default=3, ge=1, le=3, description="Most columns crossed at once")
    metric: str = Field(default="", description="Selection rate when empty, mean prediction for a number")


class Node(Frozen):
    """One group of one crossing, against all other rows."""

    attribute: str
    group: str
    columns: tuple[str, ...]
    levels: tuple[str, ...]
    depth: int
    rows: int
    own: Measure
    against: Measure
    ratio: Estimate
    difference: Estimate
    p_adjusted: float | None
    status: Status
    only_here: bool = Field(description="Flagged, while none of the groups it is cut out of is")


class LatticeResult(Frozen):
    nodes: tuple[Node, ...] = Field(description="Fewest columns first, then largest tilt")
    metric: str
    columns: tuple[str, ...]
    skipped: tuple[str, ...] = Field(description="Crossings with too many groups to read")
    tested: int
    judged: str
    low: float
    high: float
    policy: int
    rows: int
    confidence: float


def crossings_of(subject: Subject, settings: LatticeSettings, seed: int, work: Work) -> LatticeResult:
    """Compare every group of every crossing with all rows outside it.

    Raises
    ------
    Refused : fewer than one column makes groups, or the metric is not defined.
    """
    spec, policy = subject.spec, subject.spec.policy
    names = settings.columns or tuple(one.name for one in spec.columns if one.makes_groups and not one.separator)
    names = names[:MOST_COLUMNS]
    if not names:
        raise Refused("No column is marked as a group.", todo="Choose the columns to cross.")
    for name in names:
        if spec.column(name).separator:
            raise Refused(
                f"The groups of “{name}” overlap, and a crossing needs columns in which a row has one group.",
                where=f"column “{name}”",
                todo="Leave it out.",
            )
    key = settings.metric or subject.kind.headline
    found = readout.read(subject, (metric_named(key).name,))
    if key not in found.keys:
        raise Refused(f"metric: {metrics.phrase(key)} is not defined here.", todo="Choose another metric.")
    counted = measure.Counted.of(found, subject.n)
    judged, low, high = limits(policy, key, found.spread)
    drafts, skipped = [], []
    crossings = [one for depth in range(1, settings.deepest + 1) for one in itertools.combinations(names, depth)]
    groupings = membership.Groupings.of(spec, subject.table, subject.rows.numbers, [(name,) for name in names])
    work.begin(len(crossings), "crossings compared")
    for columns in crossings:
        try:
            grouping = groupings.grouping(columns)
        except Refused:
            skipped.append(membership.attribute(columns))
            continue
        rows, own, outside = counted.groups(grouping, True, policy.confidence, seed)
        assert outside is not None  # asked for
        sides = (own[key], outside[key])
        compared = measure.compared(*sides, policy.confidence)
        levels = grouping.levels
        for i, label in enumerate(grouping.labels):
            mine, others = sides[0].at(i), sides[1].at(i)
            p = float(compared.p[i])
            enough = min(mine.of, others.of) >= policy.minimum_rows
            drafts.append(
                {
                    "attribute": grouping.attribute,
                    "group": label,
                    "columns": columns,
                    "levels": levels[i],
                    "depth": len(columns),
                    "rows": int(rows[i]),
                    "own": mine,
                    "against": others,
                    "ratio": estimate(*(one[i] for one in compared.ratio)),
                    "difference": estimate(*(one[i] for one in compared.difference)),
                    "p": p if enough and math.isfinite(p) else math.nan,
                    "enough": enough,
                }
            )
        work.advance(1)
    adjusted = intervals.adjust([one["p"] for one in drafts], policy.adjustment)
    states = {}
    for draft, p in zip(drafts, adjusted, strict=True):
        draft["p_adjusted"] = None if math.isnan(p) else float(p)
        draft["status"] = status(draft["enough"], draft[judged], draft["p_adjusted"], policy.alpha, (low, high))
        states[frozenset(zip(draft["columns"], draft["levels"], strict=True))] = draft["status"]
    nodes = [
        Node(
            **{name: value for name, value in draft.items() if name not in ("p", "enough")},
            only_here=draft["depth"] > 1 and draft["status"] == "flagged" and not _flagged_above(draft, states),
        )
        for draft in drafts
    ]

    def tilt(node: Node) -> float:
        value = node.ratio.value if judged == "ratio" else node.difference.value
        if value is None or node.status == "too_few":
            return 0.0
        return -abs(math.log(value)) if judged == "ratio" and value > 0 else -abs(value)

    return LatticeResult(
        nodes=tuple(sorted(nodes, key=lambda node: (node.depth, tilt(node)))),
        metric=key,
        columns=names,
        skipped=tuple(skipped),
        tested=int(np.isfinite(adjusted).sum()),
        judged=judged,
        low=low,
        high=high,
        policy=policy.number,
        rows=subject.n,
        confidence=policy.confidence,
    )


def _flagged_above(draft: dict, states: dict) -> bool:
    """Whether a group that this one is cut out of is flagged too."""
    pairs = list(zip(draft["columns"], draft["levels"], strict=True))
    return any(
        states.get(frozenset(above)) == "flagged"
        for depth in range(1, len(pairs))
        for above in itertools.combinations(pairs, depth)
    )


def say(result: LatticeResult, wording: Wording, settings: LatticeSettings) -> Reading:
    flagged = [node for node in result.nodes if node.status == "flagged"]
    only = sorted((node for node in flagged if node.only_here), key=lambda node: (node.depth, -node.rows))
    what = metrics.phrase(result.metric)
    if only:
        first = only[0]
        value = first.ratio if result.judged == "ratio" else first.difference
        show = words.ratio if result.judged == "ratio" else (lambda one: words.quantity(one, wording.unit))
        headline = (
            Span(text=f"A gap that is only in the crossing: {first.group} {wording.rows} have "),
            Span(
                text=f"{show(value.value)} times the {what}"
                if result.judged == "ratio"
                else f"a {what} {show(value.value)} apart",
                flagged=True,
            ),
            Span(
                text=f" of {OTHERS} ({words.level(result.confidence)} interval {show(value.low)} to {show(value.high)}; "
                f"{words.count(first.own.of)} and {words.count(first.against.of)} {wording.rows}), while none of the groups it is cut out of is flagged."
            ),
        )
    else:
        headline = (Span(text=f"No gap of the {what} is flagged in a crossing alone."),)
    by_depth = [sum(node.depth == depth for node in flagged) for depth in (1, 2, 3)]
    too_few = sum(node.status == "too_few" for node in result.nodes)
    detail = (
        f"Flagged: {words.plural(by_depth[0], 'group')} of one column, {by_depth[1]} of two, {by_depth[2]} of three, of "
        f"{words.count(len(result.nodes))}, each against all other {wording.rows}, after adjusting for "
        f"{words.plural(result.tested, 'test')} (flag policy {result.policy}); {words.count(too_few)} have too few rows."
    )
    if result.skipped:
        detail += f" Left out, with too many groups: {words.listing(list(result.skipped))}."
    return Reading(headline=headline, detail=detail)


METHOD = Method(
    name="lattice",
    area="tilt",
    part="crossings",
    title="Crossings",
    settings=LatticeSettings,
    result=LatticeResult,
    compute=crossings_of,
    say=say,
    note=(
        "Every group of one, two and three columns is compared with all rows outside it, under the same flag policy "
        "as under Groups; p-values are adjusted over every group shown here. *Only here* is said of a flagged group "
        "none of whose larger groups is flagged. A crossing with more than 120 groups is left out and named."
    ),
    main="nodes",
    needs=frozenset({"predictions"}),
    depends=frozenset({"spec", "comparisons", "policy"}),
    address={"columns": "cross"},
    version=2,
)
