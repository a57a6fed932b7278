"""Printed figures of single cases, and of cases held against each other."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from matplotlib.axes import Axes

from zerotilt.core import words
from zerotilt.core.case.alike import AlikeResult
from zerotilt.core.case.arrangement import ArrangementResult
from zerotilt.core.case.difference import DifferenceResult
from zerotilt.core.case.families import FamiliesResult
from zerotilt.core.case.mean_ladder import MeanLadderResult
from zerotilt.core.case.odd import OddResult
from zerotilt.core.case.person import PersonResult
from zerotilt.core.case.profiles import Profile, ProfilesResult
from zerotilt.core.case.tried import TriedResult
from zerotilt.core.case.values import ValuesResult
from zerotilt.core.cases import CasesPage
from zerotilt.core.contributions.checks import ChecksResult
from zerotilt.core.contributions.every import ExplainedResult
from zerotilt.core.counterfactuals.change_result import ChangeResult
from zerotilt.core.counterfactuals.nearest import Difference, NearestResult
from zerotilt.core.meaning import Spec
from zerotilt.report.bars import WIDE, bars
from zerotilt.report.figures import BRICK, INK, IRIS, OCHRE, SOFT, VERDIGRIS, Drawing, climbed, scaled, short

CURVES, ACROSS = 12, 3
LISTED = 20


def checks(result: ChecksResult, spec: Spec) -> Drawing:
    def paint(axes):
        places = [one.features for one in result.steps]
        axes.plot(places, [one.without for one in result.steps], color=IRIS, marker="v", ms=4, label="taken away")
        axes.plot(places, [one.alone for one in result.steps], color=OCHRE, marker="^", ms=4, label="known alone")
        axes.set_xlabel("features, largest contribution first")
        scaled(axes.yaxis, result.output, spec, "mean")
        axes.legend(frameon=False)

    return Drawing(WIDE, 3.0, paint)


def _paired(title: str, differences: Sequence[Difference], here: str, there: str) -> Drawing:
    """Two rows side by side; what differs stands out by weight and a mark."""

    def paint(axes):
        axes.set_axis_off()
        axes.set_xlim(0, 1)
        axes.set_ylim(len(differences) + 1, -1)
        for at, text in ((0.42, here), (0.72, there)):
            axes.text(at, -0.4, short(text, 26), color=SOFT)
        for place, one in enumerate(differences):
            weight, colour = ("normal", SOFT) if one.same else ("bold", INK)
            axes.text(0.03, place + 0.3, short(words.title(one.feature)), color=colour, weight=weight)
            axes.text(0.42, place + 0.3, short(one.here, 26), color=colour)
            axes.text(0.72, place + 0.3, short(one.there, 26), color=colour, weight=weight)
            if not one.same:
                axes.plot([0.01, 0.01], [place, place + 0.5], color=VERDIGRIS, lw=2)
        axes.set_title(title, loc="left", fontsize=9)

    return Drawing(WIDE, 0.6 + 0.24 * (len(differences) + 1), paint)


def nearest(result: NearestResult, spec: Spec) -> Drawing:
    first = result.neighbours[0]
    return _paired(
        f"{result.name} and the nearest case decided otherwise",
        first.differences,
        result.decision,
        f"{first.name}: {first.decision}",
    )


def change(result: ChangeResult, spec: Spec) -> Drawing:
    if not result.changes:
        return _paired("no plausible change was found", (), result.decision, "")
    first = result.changes[0]
    return _paired(f"{result.name} and its smallest change", first.changed, result.decision, first.decision)


def person(result: PersonResult, spec: Spec) -> Drawing:
    """What counted most, of what the person's page names."""
    return bars(
        [f"{words.title(one.feature)} {one.value}" for one in result.counted],
        [one.contribution for one in result.counted],
        "raised or lowered the " + ("chance" if result.scale == "probability" else "result"),
        colours=[OCHRE if one.contribution > 0 else IRIS for one in result.counted],
    )


def explained(result: ExplainedResult, spec: Spec) -> Drawing:
    shown = result.moved[:LISTED]
    what = {"probability": "chance", "log-odds": "log-odds", "value": result.event}[result.output]
    return bars(
        [words.title(one.feature) for one in shown],
        [one.mean_absolute for one in shown],
        f"mean absolute contribution to the {what}",
    )


def cases(result: CasesPage, spec: Spec) -> Drawing:
    """The page's outputs in its order, filled where the prediction was right."""

    def paint(axes):
        for place, one in enumerate(result.cases):
            if one.output is not None:
                wrong = one.right is False
                axes.plot(
                    one.output,
                    place,
                    "o",
                    color=BRICK if wrong else VERDIGRIS,
                    fillstyle="none" if wrong else "full",
                )
        if result.scale == "probability" and any(one.from_threshold is not None for one in result.cases):
            axes.axvline(spec.threshold, color=INK, lw=1.2, zorder=0)
        axes.set_yticks(range(len(result.cases)), [short(one.name) for one in result.cases])
        axes.invert_yaxis()
        axes.tick_params(length=0)
        what = {"probability": "chance", "log-odds": "log-odds", "value": words.title(spec.target_name)}[result.scale]
        judged = any(one.right is not None for one in result.cases)
        axes.set_xlabel(f"{what}; hollow where the prediction was wrong" if judged else what)

    return Drawing(WIDE, 0.7 + 0.22 * max(len(result.cases), 1), paint)


def values(result: ValuesResult, spec: Spec) -> Drawing:
    """What the case holds, beside what is usual."""
    usual = [
        f"{one.typical[0]} to {one.typical[-1]}"
        if one.typical
        else ", ".join(f"{level.level} ({words.count(level.rows)})" for level in one.levels[:3])
        for one in result.held
    ]
    lines = [
        (words.title(one.feature), one.value or "missing", text) for one, text in zip(result.held, usual, strict=True)
    ]
    return _lines(("feature", "value", "90% of rows, or the first levels"), lines[:40])


def _lines(head: tuple[str, str, str], lines: Sequence[tuple[str, str, str]]) -> Drawing:
    """Three columns of text."""

    def paint(axes):
        axes.set_axis_off()
        axes.set_xlim(0, 1)
        axes.set_ylim(len(lines) + 0.5, -1)
        for place, cells in enumerate([head, *lines]):
            for at, text in zip((0.0, 0.36, 0.62), cells, strict=True):
                axes.text(at, place - 0.5, short(text, 34), color=INK if place else SOFT)

    return Drawing(WIDE, 0.5 + 0.24 * (len(lines) + 1), paint)


def tried(result: TriedResult, spec: Spec) -> Drawing:
    parts = tuple(Difference(feature=one.feature, here=one.was, there=one.now, same=False) for one in result.edited)

    def named(said):
        output = words.on_scale(said.output, result.output, spec.wording.unit)
        return f"{output}, {said.decision}" if said.decision else output

    return _paired(f"{result.name} as it is, and tried", parts, named(result.before), named(result.after))


def profiles(result: ProfilesResult, spec: Spec) -> Drawing:
    """The curves that could move the case most, in one scale, the case marked on each."""
    shown = result.profiles[:CURVES]
    rows = -(-len(shown) // ACROSS)
    low, high = min(one.low for one in shown), max(one.high for one in shown)
    margin = (high - low) * 0.08 or 0.05

    def paint(axes):
        axes.set_axis_off()
        for place, one in enumerate(shown):
            down, across = divmod(place, ACROSS)
            small = axes.inset_axes((across / ACROSS + 0.03, 1 - (down + 1) / rows + 0.12 / rows, 0.27, 0.62 / rows))
            _curve(small, one, result, spec)
            small.set_ylim(low - margin, high + margin)

    return Drawing(WIDE, 1.6 * rows + 0.2, paint)


def _curve(axes: Axes, one: Profile, result: ProfilesResult, spec: Spec) -> None:
    placed = [point for point in one.points if point.position is not None] if one.numeric else list(one.points)
    at = [point.position for point in placed] if one.numeric else list(range(len(placed)))
    outputs = [point.output for point in placed]
    axes.plot(at, outputs, "-" if one.numeric else "o", color=VERDIGRIS, lw=1.4, ms=3)
    own = one.points[one.own]
    if own in placed:
        axes.plot(at[placed.index(own)], own.output, "o", color=INK, ms=5)
    if result.threshold is not None:
        axes.axhline(result.threshold, color=INK, lw=0.8)
    axes.set_title(f"{short(words.title(one.feature), 24)}: {short(own.label, 12)}", fontsize=7.5, loc="left")
    axes.tick_params(labelsize=6.5, length=2)
    if not one.numeric:
        axes.set_xticks([])
    scaled(axes.yaxis, result.output, spec)
    axes.set_ylabel("")


def alike(result: AlikeResult, spec: Spec) -> Drawing:
    """Cases by their distance, filled where decided alike."""
    shown = result.likes[:LISTED]

    def paint(axes):
        for place, one in enumerate(shown):
            otherwise = one.same_decision is False
            axes.plot(
                one.distance,
                place,
                "o",
                color=BRICK if otherwise else VERDIGRIS,
                fillstyle="none" if otherwise else "full",
            )
        axes.set_yticks(range(len(shown)), [short(f"{one.name}: {one.decision}", 34) for one in shown])
        axes.invert_yaxis()
        axes.set_xlim(left=0)
        axes.tick_params(length=0)
        judged = any(one.same_decision is not None for one in shown)
        axes.set_xlabel("Gower distance; hollow where decided otherwise" if judged else "Gower distance")

    return Drawing(WIDE, 0.7 + 0.22 * max(len(shown), 1), paint)


def odd(result: OddResult, spec: Spec) -> Drawing:
    shown = result.cases[:LISTED]
    if result.consistency is None:
        label = f"prediction less the mean of the {result.neighbours} nearest"
        found = [one.apart or 0.0 for one in shown]
    else:
        label = f"share of the {result.neighbours} nearest decided otherwise"
        found = [one.otherwise or 0.0 for one in shown]
    return bars([f"{one.name}: {one.decision}" for one in shown], found, label)


def difference(result: DifferenceResult, spec: Spec) -> Drawing:
    return climbed(
        [(f"{words.title(one.feature)} {one.here}, not {one.there}", one.contribution) for one in result.steps],
        (short(result.other_name, 30), result.output_there),
        (short(result.name, 30), result.output_here),
        result.output,
        result.threshold,
        spec,
    )


def mean_ladder(result: MeanLadderResult, spec: Spec) -> Drawing:
    spans = [(one.mean.low or 0.0, one.mean.high or 0.0) for one in result.rungs]
    return climbed(
        [(words.title(one.feature), one.mean.value or 0.0) for one in result.rungs],
        (f"baseline, mean of {words.count(result.background)}", result.baseline),
        (short(result.member or f"all {spec.wording.rows}", 30), result.prediction),
        result.output,
        result.threshold,
        spec,
        spans=spans,
    )


def families(result: FamiliesResult, spec: Spec) -> Drawing:
    """Mean contributions of the features that move most, one column a family."""
    names = list(dict.fromkeys(mover.feature for one in result.families for mover in one.movers[:4]))[:LISTED]
    width = 0.8 / len(names)

    def paint(axes):
        for place, one in enumerate(result.families):
            means = {mover.feature: mover.mean for mover in one.movers}
            for i, name in enumerate(names):
                value = means[name]
                at = place - 0.4 + (i + 0.5) * width
                axes.bar(at, value, width * 0.9, color=OCHRE if value > 0 else IRIS)
                if name in [mover.feature for mover in one.movers[:3]]:
                    side = "bottom" if value > 0 else "top"
                    axes.text(at, value, short(words.title(name), 16), rotation=90, fontsize=6, ha="center", va=side)
        axes.axhline(0, color=SOFT, lw=0.6)
        axes.set_xticks(
            np.arange(len(result.families)),
            [
                f"{words.count(one.rows)} {spec.wording.row if one.rows == 1 else spec.wording.rows}"
                for one in result.families
            ],
        )
        axes.margins(y=0.3)
        axes.tick_params(length=0)
        scaled(axes.yaxis, result.output, spec, "mean contribution to the")

    return Drawing(WIDE, 3.2, paint)


TINTS = (VERDIGRIS, OCHRE, IRIS, BRICK, SOFT, INK)


def arrangement(result: ArrangementResult, spec: Spec) -> Drawing:
    """Every row as a dot; levels are slots in which rows are spread, each in its own place."""
    rng = np.random.default_rng(0)

    def spread(along, values):
        return values + rng.uniform(-0.41, 0.41, len(values)) if along.levels else values

    def paint(axes):
        xs, ys = spread(result.x, np.array(result.xs)), spread(result.y, np.array(result.ys))
        codes = np.array(result.colours, int)
        levels = result.colour.levels if result.colour else ("",)
        for place, level in enumerate(levels):
            mine = codes == place
            axes.plot(
                xs[mine],
                ys[mine],
                ".",
                ms=2,
                color=TINTS[place % len(TINTS)],
                alpha=0.6,
                label=short(level, 24),
                rasterized=True,
            )
        for axis, along in ((axes.xaxis, result.x), (axes.yaxis, result.y)):
            if along.levels:
                axis.set_ticks(range(len(along.levels)), [short(level, 14) for level in along.levels])
            axis.set_label_text(along.label)
        if result.colour:
            axes.legend(frameon=False, title=result.colour.label, markerscale=4, fontsize=7)

    return Drawing(WIDE, 4.2, paint)
