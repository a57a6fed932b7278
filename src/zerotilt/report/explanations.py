"""Drawings of the explanation methods that the report's own three do not cover."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from pydantic import BaseModel

from zerotilt.core import words
from zerotilt.core.drawing import Bars
from zerotilt.core.drivers.expectations import ExpectationsResult
from zerotilt.core.drivers.side_by_side import SideResult
from zerotilt.core.drivers.spread import SpreadResult
from zerotilt.core.meaning import Spec
from zerotilt.core.method import Method
from zerotilt.core.response.accumulated import AleResult
from zerotilt.core.response.expected import ExpectedResult
from zerotilt.core.response.surface import SurfaceResult
from zerotilt.report import case_drawings as case
from zerotilt.report import data_drawings as data
from zerotilt.report import figures
from zerotilt.report.bars import SHOWN, WIDE, bars
from zerotilt.report.figures import BRICK, INK, IRIS, OCHRE, RULE, SOFT, VERDIGRIS, Drawing, scaled, short
from zerotilt.report.group_drawings import given, lattice, one_group, performance, score_gap, sides, thresholds, tilt


def ale(result: AleResult, spec: Spec) -> Drawing:
    def paint(axes):
        values, low, high = ([getattr(one, name) for one in result.points] for name in ("value", "low", "high"))
        places = [one.position for one in result.points] if result.numeric else list(range(len(result.points)))
        if result.numeric:
            axes.fill_between(places, low, high, color=figures.BAND, lw=0)
            axes.plot(places, values, color=VERDIGRIS, lw=2)
        else:
            axes.vlines(places, low, high, color=INK, lw=1)
            axes.plot(places, values, "o", color=VERDIGRIS)
            axes.set_xticks(
                places, [short(one.label, 12) for one in result.points], rotation=40 if len(places) > 8 else 0
            )
        axes.axhline(0, color=SOFT, lw=0.6)
        axes.set_xlabel(words.title(result.feature))
        scaled(axes.yaxis, result.output, spec, "change of the")

    return Drawing(WIDE, 2.9, paint)


def surface(result: SurfaceResult, spec: Spec) -> Drawing:
    def paint(axes):
        values = np.array(result.values).T
        rows, columns = values.shape
        shade = axes.pcolormesh(np.arange(columns + 1), np.arange(rows + 1), values, cmap=_amounts(), lw=0)
        for j in range(columns):
            for i in range(rows):
                if result.scarce[j][i]:
                    axes.plot([j, j + 1], [i, i + 1], color=SOFT, lw=0.5)
        if result.threshold is not None and values.min() < result.threshold < values.max():
            axes.contour(
                np.arange(columns) + 0.5,
                np.arange(rows) + 0.5,
                values,
                levels=[result.threshold],
                colors=INK,
                linewidths=1.4,
            )
        for axis, side in ((axes.xaxis, result.first), (axes.yaxis, result.second)):
            step = max(1, -(-len(side.labels) // 6))
            axis.set_ticks(np.arange(0, len(side.labels), step) + 0.5, [short(one, 10) for one in side.labels[::step]])
            axis.set_label_text(words.title(side.feature))
        bar = axes.figure.colorbar(shade, ax=axes)
        bar.outline.set_visible(False)
        scaled(
            bar.ax.yaxis, result.output, spec, "interaction, change of the" if result.kind == "interaction" else "mean"
        )

    return Drawing(WIDE, 4.2, paint)


def _amounts():
    from matplotlib.colors import LinearSegmentedColormap

    return LinearSegmentedColormap.from_list("amounts", [figures.SHEET, VERDIGRIS])


def expected(result: ExpectedResult, spec: Spec) -> Drawing:
    names = ["curves", "rows, where they lie"]
    return bars(
        names,
        [result.curves_against, result.rows_against],
        f"share against the expectation that the output {result.expected} with {words.title(result.feature)}",
        colours=[BRICK, BRICK],
    )


def side_by_side(result: SideResult, spec: Spec) -> Drawing:
    """Ranks of the first features, one column a measure."""
    names = list(dict.fromkeys(one.feature for one in result.placed))[:SHOWN]
    order = [card.measure for card in result.measures]

    def paint(axes):
        for one in result.placed:
            if one.feature in names:
                at = (order.index(one.measure), names.index(one.feature))
                axes.text(
                    *at, str(one.rank), ha="center", va="center", fontweight="bold" if one.rank <= 3 else "normal"
                )
        axes.set_xlim(-0.5, len(order) - 0.5)
        axes.set_ylim(len(names) - 0.5, -0.5)
        axes.set_yticks(range(len(names)), [short(words.title(name)) for name in names])
        axes.set_xticks(range(len(order)), [short(card.label, 18) for card in result.measures], rotation=20, ha="right")
        axes.tick_params(length=0)

    return Drawing(WIDE, 1.4 + 0.27 * len(names), paint)


def spread(result: SpreadResult, spec: Spec) -> Drawing:
    """The chosen feature: middle contribution and the middle half, along its values."""

    def paint(axes):
        colours = [VERDIGRIS, OCHRE, IRIS, "#A23B72", "#3D6FA3", "#6B7A1E", "#8C5A3C"]
        places = list(dict.fromkeys(one.label for one in result.stretches))
        for number, part in enumerate(result.parts or ("",)):
            mine = [
                one for one in result.stretches if one.part == part and (one.position is not None or not result.numeric)
            ]
            at = [one.position if result.numeric else places.index(one.label) for one in mine]
            colour = colours[number % len(colours)]
            if result.numeric:
                axes.fill_between(
                    at, [one.p25 for one in mine], [one.p75 for one in mine], color=colour, alpha=0.15, lw=0
                )
                axes.plot(at, [one.p50 for one in mine], color=colour, lw=1.6, label=part)
            else:
                axes.vlines(at, [one.p25 for one in mine], [one.p75 for one in mine], color=colour, lw=1)
                axes.plot(at, [one.p50 for one in mine], "o", color=colour, label=part)
        if not result.numeric:
            axes.set_xticks(
                range(len(places)), [short(one, 12) for one in places], rotation=40 if len(places) > 8 else 0
            )
        if result.parts:
            axes.legend(frameon=False, title=words.title(result.colour or ""))
        axes.axhline(0, color=SOFT, lw=0.6)
        axes.set_xlabel(words.title(result.feature))
        scaled(axes.yaxis, result.output, spec, "contribution to the")

    return Drawing(WIDE, 3.0, paint)


def expectations(result: ExpectationsResult, spec: Spec) -> Drawing:
    shown = result.checked[:SHOWN]
    unit = {"probability": "chance", "log-odds": "log-odds", "value": spec.wording.unit or "the outcome's unit"}
    return bars(
        [f"{words.title(one.feature)}, expected: {one.expected}" for one in shown],
        [one.mean_against for one in shown],
        f"how far the mean goes against the expectation, in {unit[result.output]}; dark: contradicted",
        colours=[BRICK if one.contradicted else RULE for one in shown],
    )


DRAWINGS: dict[str, Callable[[Any, Spec], Drawing]] = {
    "drivers": figures.drivers,
    "response": figures.response,
    "ladder": figures.ladder,
    "side_by_side": side_by_side,
    "spread": spread,
    "expectations": expectations,
    "ale": ale,
    "surface": surface,
    "expected": expected,
    "checks": case.checks,
    "nearest": case.nearest,
    "change": case.change,
    "person": case.person,
    "explained": case.explained,
    "performance": performance,
    "concerns": data.concerns,
    "columns": data.columns,
    "pairs": data.pairs,
    "cases": case.cases,
    "values": case.values,
    "tried": case.tried,
    "profiles": case.profiles,
    "alike": case.alike,
    "odd": case.odd,
    "difference": case.difference,
    "mean_ladder": case.mean_ladder,
    "families": case.families,
    "arrangement": case.arrangement,
    "tilt": tilt,
    "lattice": lattice,
    "one_group": one_group,
    "score_gap": score_gap,
    "given": given,
    "sides": sides,
    "thresholds": thresholds,
}
"""The painters of methods whose figure is of no plain kind."""


def drawing_of(method: Method, result: BaseModel, spec: Spec) -> Drawing | None:
    """The printed figure of a result: of a plain kind, as its method says, or by a painter of its own here."""
    if method.picture is not None:
        picture = method.picture(result, spec)
        return None if picture is None else _plain(picture)
    return DRAWINGS[method.name](result, spec) if method.name in DRAWINGS else None


TONES = {"plain": VERDIGRIS, "raises": OCHRE, "lowers": IRIS}


def _plain(picture: Bars) -> Drawing:
    return bars(
        picture.names,
        picture.values,
        picture.label,
        picture.spans,
        [TONES[tone] for tone in picture.tones] if picture.tones else None,
    )
