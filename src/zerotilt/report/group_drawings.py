"""Printed figures of compared groups, and of how good predictions are."""

from __future__ import annotations

from collections.abc import Sequence

from zerotilt.core import words
from zerotilt.core.groups.disparity import TiltResult, by_tilt
from zerotilt.core.groups.given_result import GivenResult
from zerotilt.core.groups.lattice import LatticeResult
from zerotilt.core.groups.metrics import label, metric_named
from zerotilt.core.groups.opened import OpenedResult
from zerotilt.core.groups.performance import PerformanceResult
from zerotilt.core.groups.score_gap import ScoreGapResult
from zerotilt.core.groups.sides import SidesResult
from zerotilt.core.groups.threshold_result import ThresholdResult
from zerotilt.core.meaning import Spec
from zerotilt.report import figures
from zerotilt.report.bars import SHOWN, WIDE, bars
from zerotilt.report.figures import BRICK, INK, IRIS, OCHRE, RULE, SOFT, VERDIGRIS, Drawing, short


def performance(result: PerformanceResult, spec: Spec) -> Drawing:
    """Shares of the first row set; measures in other units stand in the table."""
    first = result.sets[0]
    known = {key: one for key, one in first.metrics.items() if one.value is not None}
    shares = [key for key in known if metric_named(key).unit == "share"][:SHOWN]
    keys = shares or list(known)[:1]
    shown = [known[key] for key in keys]
    return bars(
        [label(key) for key in keys],
        [one.value for one in shown],
        f"{first.name} rows, with {words.level(result.confidence)} interval",
        [[one.low, one.high] for one in shown],
        [VERDIGRIS] * len(shown) or [RULE],
    )


def tilt(result: TiltResult, spec: Spec) -> Drawing:
    """The grouping of the largest flagged tilt, or the first one."""
    ranked = sorted(result.disparities, key=lambda one: (one.status != "flagged", by_tilt(one)))
    return figures.levels(result, spec, (ranked[0] if ranked else result.groups[0]).attribute)


def _ratios(names: Sequence[str], found: Sequence, label: str, flagged: Sequence[bool], parity: float = 1.0) -> Drawing:
    """Estimates with their intervals about parity, filled where flagged."""

    def paint(axes):
        for place, (one, marked) in enumerate(zip(found, flagged, strict=True)):
            if one.value is None:
                axes.text(parity, place, "not defined", va="center", color=SOFT)
                continue
            colour = BRICK if marked else INK
            axes.plot([one.low, one.high], [place, place], color=colour, lw=1)
            axes.plot(one.value, place, "o", mec=colour, mfc=colour if marked else figures.SHEET, ms=5)
        axes.axvline(parity, color=VERDIGRIS, lw=0.9)
        axes.set_yticks(range(len(names)), [short(name, 44) for name in names])
        axes.invert_yaxis()
        axes.set_xlabel(label)
        axes.tick_params(length=0)

    return Drawing(WIDE, 0.8 + 0.27 * max(len(names), 1), paint)


def lattice(result: LatticeResult, spec: Spec) -> Drawing:
    """What is flagged in a crossing alone first, then the other crossings flagged."""
    shown = sorted(result.nodes, key=lambda node: (not node.only_here, node.status != "flagged", node.depth))[:SHOWN]
    by_ratio = result.judged == "ratio"
    return _ratios(
        [f"{node.group}{' (only here)' if node.only_here else ''}, {words.count(node.rows)}" for node in shown],
        [node.ratio if by_ratio else node.difference for node in shown],
        f"{'ratio' if by_ratio else 'difference'} of the {label(result.metric).lower()} against all other rows",
        [node.status == "flagged" for node in shown],
        1.0 if by_ratio else 0.0,
    )


def one_group(result: OpenedResult, spec: Spec) -> Drawing:
    """Both sides' distributions of the score, or of the prediction."""

    def paint(axes):
        for side, colour in zip(result.sides, (VERDIGRIS, OCHRE), strict=True):
            mine = [one for one in result.bars if one.side == side and one.quantity == result.bars[0].quantity]
            total = max(sum(one.rows for one in mine), 1)
            edges = [one.low for one in mine] + [mine[-1].high]
            axes.stairs([one.rows / total for one in mine], edges, color=colour, lw=1.6, label=side)
        axes.set_xlabel(result.bars[0].quantity)
        axes.set_ylabel("share of the rows")
        axes.legend(frameon=False)

    if not result.bars:
        keys = [key for key in result.metrics_group if result.metrics_group[key].value is not None][:SHOWN]
        return bars([label(key) for key in keys], [result.metrics_group[key].value for key in keys], result.group)
    return Drawing(WIDE, 2.8, paint)


def score_gap(result: ScoreGapResult, spec: Spec) -> Drawing:
    shown = result.features[:SHOWN]
    return bars(
        [words.title(one.feature) for one in shown],
        [one.gap.value for one in shown],
        f"mean contribution in {result.group} less that in {result.reference}, on the scale {result.output}",
        [[one.gap.low, one.gap.high] for one in shown],
        [OCHRE if one.gap.value > 0 else IRIS for one in shown],
    )


def given(result: GivenResult, spec: Spec) -> Drawing:
    by_ratio = result.by == "ratio"
    shown = result.strata[:SHOWN]
    pick = "ratio" if by_ratio else "difference"
    return _ratios(
        ["plainly", "pooled over strata", *(one.stratum for one in shown)],
        [getattr(one, pick) for one in (result.plain, result.pooled, *shown)],
        f"{pick} of the {label(result.metric).lower()}, {result.group} against {result.reference}",
        [False, result.verdict == "reversed", *(False for _ in shown)],
        1.0 if by_ratio else 0.0,
    )


def sides(result: SidesResult, spec: Spec) -> Drawing:
    shown = [one for one in result.gaps if one.pairing == result.pairings[0]][:SHOWN]
    return _ratios(
        [one.group for one in shown],
        [one.change for one in shown],
        "ratio in the decisions over the ratio in the labels",
        [one.verdict == "wider" for one in shown],
    )


def thresholds(result: ThresholdResult, spec: Spec) -> Drawing:
    """The frontier of cost against the gap, and the settings solved."""

    def paint(axes):
        axes.plot([one.gap for one in result.frontier], [one.cost for one in result.frontier], color=VERDIGRIS, lw=1.6)
        for place, one in enumerate((result.current, *result.settings)):
            gap = one.gaps[result.gap]
            if gap is not None:
                axes.plot(gap, one.cost, "o", mec=INK, mfc=figures.SHEET, ms=6)
                axes.annotate(
                    one.name,
                    (gap, one.cost),
                    xytext=(6, 3 if place % 2 else -9),
                    textcoords="offset points",
                    fontsize=7,
                )
        axes.set_xlabel(f"gap of the {result.gap} between groups of {words.title(result.attribute)}")
        axes.set_ylabel("mean cost of a row")

    return Drawing(WIDE, 3.4, paint)
