"""Figures for print: drawn from the same results as the screen's, as inline SVG."""

from __future__ import annotations

import io
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import matplotlib
from matplotlib.axes import Axes
from matplotlib.axis import Axis
from matplotlib.backends.backend_svg import FigureCanvasSVG
from matplotlib.figure import Figure
from matplotlib.font_manager import fontManager
from matplotlib.patches import FancyBboxPatch, Rectangle

from zerotilt.core import words
from zerotilt.core.contributions.ladder import DRAWN, LadderResult
from zerotilt.core.drivers.losses import LOSS_LABELS
from zerotilt.core.drivers.ranking_result import DriversResult
from zerotilt.core.groups import metrics
from zerotilt.core.groups.disparity import UNTOLD, TiltResult
from zerotilt.core.groups.favour import HAPPENED
from zerotilt.core.meaning import Spec
from zerotilt.core.response.response_result import ResponseResult
from zerotilt.report.letters import FAMILY, LETTERS

INK, SOFT, RULE, SHEET = "#22302F", "#5B6765", "#DDD8CB", "#FFFDF8"
VERDIGRIS, OCHRE, IRIS, BRICK, BAND = "#0E6B5C", "#B86B00", "#5A4A9C", "#A3262A", "#E4EEE8"
for file in LETTERS:
    fontManager.addfont(file)
STYLE = {
    "font.size": 9,
    "font.family": [FAMILY, "DejaVu Sans"],
    "text.parse_math": False,  # a column called "$x$" is text
    "text.hinting": "none",  # letters are as wide where they are measured as where they are drawn
    "svg.fonttype": "none",  # text stays text, in the letters of the page that it stands in
    "svg.hashsalt": "zerotilt",
    "axes.edgecolor": RULE,
    "axes.labelcolor": SOFT,
    "xtick.color": SOFT,
    "ytick.color": INK,
    "text.color": INK,
    "figure.facecolor": "none",
    "axes.facecolor": "none",
    "axes.spines.top": False,
    "axes.spines.right": False,
    "axes.spines.left": False,
}
LONGEST = 44
"""Signs of a group's name that levels show: crossings differ at their ends."""
MOST_LEVELS = 5
BY_CLASS = ("true_positive_rate", "false_positive_rate")
"""Error rates that are drawn of each class apart."""
"""Tubes that stand side by side."""


@dataclass(frozen=True)
class Drawing:
    """What is to be painted and how large, in inches; where it goes is another's business."""

    width: float
    height: float
    paint: Callable[[Axes], None]


def svg(drawing: Drawing) -> str:
    """A drawing as inline SVG that scales with the page."""
    out = io.StringIO()
    with matplotlib.rc_context(STYLE):
        # not through "savefig", which draws everything once more beforehand to find out how large it is
        FigureCanvasSVG(_painted(drawing)).print_svg(out, metadata={"Date": None, "Creator": None})
    text = out.getvalue()
    text = text[text.index("<svg") :]
    text = re.sub(r"<metadata>.*?</metadata>", "", text, flags=re.S)
    # a label keeps its distance from what it stands beside: spaces at the start of a text would be dropped
    text = re.sub(r"(<text[^>]*>)( +)", lambda found: found[1] + "\u00a0" * len(found[2]), text)
    return re.sub(r'^<svg[^>]*viewBox="([^"]*)"[^>]*>', r'<svg viewBox="\1" aria-hidden="true">', text)


def png(drawing: Drawing, dots: int = 160) -> bytes:
    """A drawing as a picture on the sheet's own colour."""
    out = io.BytesIO()
    with matplotlib.rc_context(STYLE):
        _painted(drawing).savefig(out, format="png", dpi=dots, facecolor=SHEET)
    return out.getvalue()


def _painted(drawing: Drawing) -> Figure:
    figure = Figure(figsize=(drawing.width, drawing.height), layout="constrained")
    drawing.paint(figure.subplots())
    return figure


def short(text: str, most: int = 34) -> str:
    return text if len(text) <= most else text[: most - 1] + "…"


def scaled(axis: Axis, output: str, spec: Spec, what: str = "") -> None:
    """An axis named by its quantity and unit, with ticks written on its scale."""
    names = {"probability": "chance", "log-odds": "log-odds", "value": spec.event_phrase}
    unit = f" ({spec.wording.unit})" if output == "value" and spec.wording.unit else ""
    axis.set_label_text(f"{what} {names[output]}{unit}".strip())
    if output == "probability":
        axis.set_major_formatter(lambda value, _: f"{value:.0%}".replace("-", "−"))


def drivers(result: DriversResult, spec: Spec) -> Drawing:
    shown = result.drivers[:20]

    def paint(axes):
        for place, driver in enumerate(shown):
            estimate = driver.permutation
            axes.barh(place, max(estimate.value, 0), height=0.5, color=VERDIGRIS if driver.loss_depends else RULE)
            axes.plot([estimate.low, estimate.high], [place, place], color=INK, lw=1)
            if driver.beside is not None:
                other = driver.beside.permutation
                axes.plot([other.low, other.high], [place + 0.32] * 2, color=OCHRE, lw=1)
                axes.plot(other.value, place + 0.32, "d", color=OCHRE, ms=4)
        if result.beside is not None:
            axes.plot([], [], "d", color=OCHRE, ms=4, label="alongside")
            axes.legend(frameon=False, loc="lower right")
        axes.set_yticks(range(len(shown)), [short(words.title(driver.feature)) for driver in shown])
        axes.invert_yaxis()
        axes.axvline(0, color=SOFT, lw=0.6)
        axes.set_xlabel(
            f"{LOSS_LABELS[result.loss]} added when the column is shuffled, with {words.level(result.confidence)} interval"
        )
        axes.tick_params(length=0)

    return Drawing(7.2, 0.7 + 0.27 * len(shown), paint)


def response(result: ResponseResult, spec: Spec) -> Drawing:
    def paint(axes):
        points = [point for point in result.points if point.position is not None] if result.numeric else result.points
        places = [point.position for point in points] if result.numeric else list(range(len(points)))
        if result.numeric:
            axes.fill_between(places, [p.p10 for p in points], [p.p90 for p in points], color=BAND, lw=0)
            for a, b, x0, x1 in zip(points, points[1:], places, places[1:], strict=False):
                thin = a.scarce or b.scarce
                axes.plot([x0, x1], [a.mean, b.mean], color=VERDIGRIS, lw=0.8 if thin else 2, ls="--" if thin else "-")
            missing = next((point for point in result.points if point.position is None), None)
            if missing:
                axes.text(
                    0.995,
                    0.02,
                    f"missing: {words.on_scale(missing.mean, result.output, spec.wording.unit)}",
                    transform=axes.transAxes,
                    ha="right",
                    color=SOFT,
                )
        else:
            for place, point in zip(places, points, strict=True):
                axes.plot([place, place], [point.p10, point.p90], color=BAND, lw=9, solid_capstyle="butt")
                axes.plot([place, place], [point.mean_low, point.mean_high], color=INK, lw=1)
                axes.plot(place, point.mean, "o", color=VERDIGRIS, fillstyle="none" if point.scarce else "full")
            axes.set_xticks(places, [short(point.label, 12) for point in points], rotation=40 if len(points) > 8 else 0)
        if result.threshold is not None:
            axes.axhline(result.threshold, color=SOFT, lw=0.7, ls=":")
        _more_curves(axes, result, places)
        axes.set_xlabel(words.title(result.feature))
        scaled(axes.yaxis, result.output, spec)

    return Drawing(7.2, 2.9, paint)


def _more_curves(axes: Axes, result: ResponseResult, places: list) -> None:
    """Means of the parts and of what is read alongside, named in a legend."""
    lines = [(part.label, part.mean, OCHRE if number % 2 else IRIS, "-") for number, part in enumerate(result.parts)]
    if result.beside is not None:
        lines.append(("alongside", result.beside.mean, OCHRE, "--"))
    kept = [i for i, point in enumerate(result.points) if point.position is not None or not result.numeric]
    for number, (label, mean, colour, dashes) in enumerate(lines):
        marker = "osd^v<>"[number % 7]
        axes.plot(places, [mean[i] for i in kept], dashes, color=colour, lw=1, marker=marker, ms=3, label=label)
    if lines:
        axes.legend(frameon=False, title=words.title(result.colour) if result.colour else None)


def fold(steps: Sequence[tuple[str, float]], most: int = DRAWN) -> list[tuple[str, float]]:
    """Steps to draw: the largest, and the rest as one."""
    shown, rest = list(steps[:most]), steps[most:]
    if rest:
        shown.append((f"{len(rest)} smaller ones", sum(step for _, step in rest)))
    return shown


def ladder(result: LadderResult, spec: Spec) -> Drawing:
    return climbed(
        [(f"{words.title(rung.feature)} {rung.value}", rung.contribution) for rung in result.rungs],
        (f"baseline, mean of {words.count(result.background)}", result.baseline),
        (f"this {spec.wording.row}", result.prediction),
        result.output,
        result.threshold,
        spec,
    )


def climbed(
    steps: Sequence[tuple[str, float]],
    start: tuple[str, float],
    end: tuple[str, float],
    output: str,
    threshold: float | None,
    spec: Spec,
    spans: Sequence[tuple[float, float]] = (),
) -> Drawing:
    """A ladder: where it starts, a bar for each step, where it ends, and the threshold through all of them.

    ``spans``: intervals of the first steps, as steps.
    """
    shown = fold(steps)

    def paint(axes):
        at = start[1]
        written: list[tuple[float, float]] = []  # for each line where its number begins, and its letters to the right
        axes.plot(at, 0, "o", color=INK, ms=5)
        said = f"   {words.on_scale(at, output, spec.wording.unit)}"
        axes.text(at, 0, said, va="center", ha="left")
        written.append((at, len(said)))
        for place, (_, step) in enumerate(shown, 1):
            axes.plot([at, at], [place - 1, place], color=SOFT, lw=0.6)
            axes.add_patch(
                Rectangle((min(at, at + step), place - 0.25), abs(step), 0.5, color=OCHRE if step > 0 else IRIS)
            )
            if place <= min(len(spans), len(steps), DRAWN):
                axes.plot([at + one for one in spans[place - 1]], [place, place], color=INK, lw=1)
            text = f"{step * 100:+.1f}" if output == "probability" else f"{step:+.3g}"
            side = at + step
            axes.text(
                side, place, f" {text} ".replace("-", "−"), va="center", ha="left" if step > 0 else "right", fontsize=8
            )
            written.append((side, (1 if step > 0 else -1) * (len(text) + 2)))
            at += step
        last = len(shown) + 1
        axes.plot([at, at], [last - 1, last], color=SOFT, lw=0.6)
        axes.plot(at, last, "o", color=INK, ms=7)
        said = f"   {words.on_scale(end[1], output, spec.wording.unit)}"
        axes.text(at, last, said, va="center", ha="left", weight="bold")
        written.append((at, 1.2 * len(said)))
        if threshold is not None:
            _through(axes, threshold, written)
        axes.set_yticks(range(last + 1), [start[0], *(short(name, 40) for name, _ in shown), end[0]])
        axes.invert_yaxis()
        axes.margins(x=0.12)
        axes.tick_params(length=0)
        scaled(axes.xaxis, output, spec)

    return Drawing(7.2, 0.9 + 0.28 * (len(shown) + 2), paint)


LETTER, ACROSS = 0.062, 3.8
"""About how wide a letter of a number is, and the space between a ladder's names and its end, in inches."""


def _through(axes: Axes, threshold: float, written: Sequence[tuple[float, float]]) -> None:
    """The threshold as a line through all rungs, which stops where it would cross a number."""
    ends = [one for one, _ in written] + [threshold]
    letter = LETTER / ACROSS * 1.24 * (max(ends) - min(ends))
    begin = -0.5
    for place, (side, letters) in enumerate(written):
        low, high = sorted((side, side + letters * letter))
        if low < threshold < high:
            axes.plot([threshold] * 2, [begin, place - 0.3], color=INK, lw=1.2, zorder=0)
            begin = place + 0.3
    axes.plot([threshold] * 2, [begin, len(written) - 0.5], color=INK, lw=1.2, zorder=0)


def levels_of(result: TiltResult, attribute: str) -> list[list[str]]:
    """The metrics that a grouping's levels are drawn of, in rows of panels; with several classes a row of each error rate, of
    the classes with most that is flagged or undecided.
    """
    there = list(next(group.metrics for group in result.groups if group.attribute == attribute))
    first = [name for name in metrics.usual(there, len(metrics.USUAL)) if name not in HAPPENED]
    rows = [[name for name in first if not metrics.class_of(name)][:MOST_LEVELS]]
    told = [
        one.metric
        for one in result.disparities
        if one.attribute == attribute and one.status in ("flagged", "uncertain")
    ]
    for name in BY_CLASS:
        classes = [key for key in there if metrics.class_of(key) and metrics.metric_named(key).name == name]
        most = sorted(classes, key=lambda key: -told.count(key))[:MOST_LEVELS]
        rows.append([key for key in classes if key in most])
    return [row for row in rows if row]


def levels_caption(result: TiltResult, attribute: str) -> str:
    """What a grouping's levels show."""
    shown = [key for row in levels_of(result, attribute) for key in row]
    judged = {one.judged for one in result.disparities if one.attribute == attribute and one.metric in shown}
    ratio = "ratio to the reference group, from half to twice"
    gap = "difference from the reference group, up to four times its limit"
    said = {"ratio": ratio, "difference": gap}
    what = said[judged.pop()] if len(judged) == 1 else f"{ratio}; of a metric without a ratio the {gap}"
    there = next(group.metrics for group in result.groups if group.attribute == attribute)
    classes = {metrics.class_of(key) for key in there} - {""}
    drawn = {metrics.class_of(key) for key in shown} - {""}
    left = (
        f" Error rates are drawn of {len(drawn)} of {len(classes)} classes; the table has all."
        if len(drawn) < len(classes)
        else ""
    )
    return (
        f"{words.opening(what)}; a pointed mark lies beyond. The band is what is within the limits. Filled: flagged. Hollow "
        f"ochre: undecided. Hollow: within.{left}"
    )


def levels(result: TiltResult, spec: Spec, attribute: str) -> Drawing:
    """Group comparisons of one grouping: a tube for each metric, parity in the middle."""
    groups = [group for group in result.groups if group.attribute == attribute]
    shown = levels_of(result, attribute)
    found = {(d.group, d.metric): d for d in result.disparities if d.attribute == attribute}
    reach = 1.0  # a tube spans half to twice
    width, gap = 1.0, 0.16
    longest = max(len(short(group.group, LONGEST)) for group in groups)
    left = max(1.75, 0.6 + 0.078 * longest)  # no name reaches into the numbers of rows
    across = left + max(map(len, shown)) * (width + gap)
    tall = len(groups) + 1.7  # one row of panels with its heads

    def paint(axes):
        axes.set_axis_off()
        for place, keys in enumerate(shown):
            top = place * tall
            for column, metric in enumerate(keys):
                middle = left + column * (width + gap) + width / 2
                which = metrics.class_of(metric)
                head = f"{metrics.metric_named(metric).short},\n{short(which, 20)}" if which else metrics.short(metric)
                # five long names stand side by side
                axes.text(
                    middle, top - 0.62, head, ha="center", va="bottom", fontsize=7.2, weight="bold", linespacing=1.15
                )
                for row, group in enumerate(groups):
                    if group.reference:
                        axes.text(middle, top + row, "reference", ha="center", va="center", fontsize=7.5, color=SOFT)
                        continue
                    _tube(axes, middle, top + row, width, reach, found.get((group.group, metric)))
            for row, group in enumerate(groups):
                axes.text(0, top + row, short(group.group, LONGEST), va="center")
                axes.text(left - 0.12, top + row, words.count(group.rows), va="center", ha="right", color=SOFT)
        axes.set_xlim(0, across)
        axes.set_ylim((len(shown) - 1) * tall + len(groups) - 0.3, -1.2)

    return Drawing(max(7.6, 1.006 * across), 0.5 + 0.3 * (tall * (len(shown) - 1) + len(groups) + 1), paint)


def _tube(axes, middle, row, width, reach, disparity) -> None:
    """A ratio from half to twice; a difference up to four times its limits."""
    import math

    by_ratio = disparity is None or disparity.judged == "ratio"
    limit = 1.0 if disparity is None else disparity.high

    def far(value: float) -> float:
        return math.log2(max(value, 1e-9)) / reach if by_ratio else value / (4 * limit)

    def at(value: float) -> float:
        return middle + max(-1.0, min(1.0, far(value))) * width / 2

    half = 0.24
    axes.add_patch(
        FancyBboxPatch(
            (middle - width / 2, row - half),
            width,
            2 * half,
            boxstyle="round,pad=0,rounding_size=0.08",
            fc=SHEET,
            ec=RULE,
            lw=0.8,
        )
    )
    if disparity is not None:
        low, high = at(disparity.low), at(disparity.high)
        axes.add_patch(Rectangle((low, row - half), high - low, 2 * half, color=BAND, lw=0))
    axes.plot([middle, middle], [row - half, row + half], color=VERDIGRIS, lw=0.9)
    if disparity is None or disparity.status in UNTOLD:
        untold = "not tested" if disparity is not None and disparity.status == "not_tested" else "too few rows"
        axes.text(middle, row, f"— {untold} —", ha="center", va="center", fontsize=6.5, color=SOFT)
        return
    ratio = disparity.ratio if by_ratio else disparity.difference
    color = BRICK if disparity.status == "flagged" else OCHRE if disparity.status == "uncertain" else INK
    axes.plot([at(ratio.low), at(ratio.high)], [row, row], color=color, lw=1)
    face = color if disparity.status == "flagged" else SHEET
    # what lies beyond the tube points out of it, and is not taken for a value at its end
    for end in (ratio.low, ratio.high):
        if abs(far(end)) > 1:
            axes.plot(at(end), row, "<" if far(end) < 0 else ">", mfc=color, mec=color, ms=3)
    beyond = far(ratio.value)
    mark = "<" if beyond < -1 else ">" if beyond > 1 else "o"
    axes.plot(at(ratio.value), row, mark, mfc=face, mec=color, ms=6)
