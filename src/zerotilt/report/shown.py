"""How a piece of evidence is shown on a page: its figure, caption, main table and cells."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Any

from markupsafe import Markup, escape

from zerotilt.core import tabulate, words
from zerotilt.core.evidence import Evidence
from zerotilt.core.groups.disparity import TiltResult
from zerotilt.core.groups.metrics import metric_named, written
from zerotilt.core.meaning import Spec
from zerotilt.core.methods import METHODS
from zerotilt.report import figures
from zerotilt.report.explanations import drawing_of


def settings_of(evidence: Evidence) -> list[tuple[str, Any]]:
    """Settings that say something; and what was read where it was left open."""
    said = {name: value for name, value in evidence.settings.items() if value not in ("", None, [], {}, ())}
    for name in ("feature", "attribute", "group", "reference", "column", "first", "second", "metric"):
        read = evidence.result.get(name)
        if name in evidence.settings and name not in said and isinstance(read, str) and read:
            said[name] = f"{read} (as it was left open)"
    return list(said.items())


OF_TABLES = ("performance", "cases", "tilt")
"""Methods that the report shows as tables, or as levels of every grouping."""
MOST_ROWS = 30


def figure(spec: Spec, evidence: Evidence) -> str:
    """The figure of one piece of evidence; empty where its table says it all."""
    if evidence.method in OF_TABLES or not evidence.readable:
        return ""
    drawing = drawing_of(METHODS[evidence.method], evidence.typed, spec)
    return figures.svg(drawing) if drawing is not None else ""


def drawn_figure(spec: Spec, drawn: dict[str, str], evidence: Evidence) -> str:
    if evidence.key not in drawn:
        drawn[evidence.key] = figure(spec, evidence)
    return drawn[evidence.key]


def drawn_levels(spec: Spec, drawn: dict[str, str], tilt: TiltResult, attribute: str) -> str:
    """The levels of one grouping; another reader's are drawn anew only where groups are left out."""
    of = [one.model_dump_json() for one in (*tilt.groups, *tilt.disparities) if one.attribute == attribute]
    name = f"levels {attribute} {of}"
    if name not in drawn:
        drawn[name] = figures.svg(figures.levels(tilt, spec, attribute))
    return drawn[name]


def captions(spec: Spec) -> Callable[[Evidence], str]:
    def caption(evidence: Evidence) -> str:
        place = METHODS[evidence.method].place
        return place.caption(evidence.typed, spec) if place and place.caption else evidence.title

    return caption


def main_table(evidence: Evidence) -> list[dict[str, Any]]:
    """The first of the records behind a figure, as they are written."""
    records = tabulate.as_table(evidence.typed).slice(0, MOST_ROWS).to_pylist()
    return [
        {name: words.brief_number(value) if isinstance(value, float) else value for name, value in record.items()}
        for record in records
    ]


def paragraphs(text: str) -> Markup:
    """Paragraphs of a note; ``**`` and ``*`` make terms stand out, all else is text."""
    out = ""
    for paragraph in text.split("\n\n"):
        told = str(escape(paragraph))
        told = re.sub(r"\*\*(.+?)\*\*", r"<b>\1</b>", told)
        told = re.sub(r"[*](.+?)[*]", r"<i>\1</i>", told)
        out += f"<p>{told}</p>\n"
    return Markup(out)


def cell(metric: str, value: float | None, unit: str = "") -> str:
    return "not defined" if value is None else written(metric, value, unit)


def spanned(metric: str, found: Mapping[str, float | None], change: bool = False) -> str:
    """A metric with its interval; ``change``: a difference of two, with its sign."""
    value, low, high = (found[name] for name in ("value", "low", "high"))
    if value is None:
        return "not defined"
    if change and metric_named(metric).kind == "rate":
        return words.points_span(value, low, high)
    sign = "+" if change and value > 0 else ""
    ends = "" if low is None or high is None else f" ({cell(metric, low)} to {cell(metric, high)})"
    return f"{sign}{cell(metric, value)}{ends}"


def interval(metric: str, measure) -> str:
    if measure is None or measure.value is None:
        return ""
    return f"{written(metric, measure.low)} to {written(metric, measure.high)}"
