"""One self-contained HTML document from a bundle of evidence."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import partial
from typing import Any, cast

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup, escape

from zerotilt.core import tabulate, words
from zerotilt.core.evidence import Evidence
from zerotilt.core.groups.disparity import TiltResult, by_tilt
from zerotilt.core.groups.metrics import METRICS, label, metric_named
from zerotilt.core.groups.tilt_said import wanting
from zerotilt.core.meaning import Spec
from zerotilt.core.methods import METHODS
from zerotilt.core.subject import Subject
from zerotilt.report import figures
from zerotilt.report.compose import Bundle
from zerotilt.report.explanations import drawing_of

ENVIRONMENT = Environment(
    loader=PackageLoader("zerotilt.report"),
    autoescape=True,
    undefined=StrictUndefined,
    trim_blocks=True,
    lstrip_blocks=True,
)


@dataclass(frozen=True)
class Cover:
    """What stands on the first page besides the evidence."""

    title: str
    number: int | None
    table_name: str
    table_digest: str
    table_rows: int
    model_name: str | None
    made: str = ""
    policy_record: dict[str, Any] | None = None
    """Who chose the flag policy in force, when and why; None while it is the one that every audit starts with."""
    rule_record: dict[str, Any] | None = None
    """Who decided the decision rule in force, when and why."""
    alongside: str = ""
    """What was read alongside, which the report leaves out."""


def render(bundle: Bundle, subject: Subject, cover: Cover) -> str:
    """The report as HTML. Figures are inline SVG; nothing outside the file is referred to."""
    spec = subject.spec
    compared = bundle.evidence_of("tilt")
    tilt = cast(TiltResult, compared.typed) if compared else None
    flagged = sorted((d for d in tilt.disparities if d.status == "flagged"), key=by_tilt) if tilt else []
    names = bundle.numbered
    return ENVIRONMENT.get_template("report.html").render(
        cover=cover,
        made=cover.made or datetime.now(UTC).strftime("%d %B %Y, %H:%M UTC"),
        spec=spec,
        subject=subject,
        bundle=bundle,
        tilt=tilt,
        compared=compared,
        absent=_absent(bundle),
        methods=[METHODS[name] for name in METHODS if name in {found.method for found in bundle.by_key().values()}],
        prose=_prose,
        ended=lambda text: text.strip().removesuffix("."),  # the sentence around it ends with its own
        caption=_caption(spec),
        main_table=_main_table,
        # both in the same order: the furthest off first
        flagged=[
            (found, one.statement, judged)
            for found, (one, judged) in zip(flagged, bundle.findings("tilt"), strict=True)
        ],
        attributes=list(dict.fromkeys(group.attribute for group in tilt.groups)) if tilt else [],
        metrics=METRICS,
        label=label,
        words=words,
        reading=lambda evidence: evidence.read(spec),
        mark=lambda evidence: names[evidence.key],
        figure=partial(figure, spec),
        levels=lambda attribute: figures.svg(figures.levels(tilt, spec, attribute)),
        evidence=bundle.by_key(),
        settings_of=_settings_of,
        threshold_text=_threshold(subject),
        wanting=wanting(tilt, spec.wording) if tilt else "",
        cell=_cell,
        interval=_interval,
    )


def _absent(bundle: Bundle) -> dict[str, list[str]]:
    """The sections that were not read, by the reason."""
    found: dict[str, list[str]] = {}
    for method, reason in bundle.absent:
        sections = found.setdefault(reason.replace(method.title, "This"), [])
        if method.place is not None and (name := method.place.section.lower()) not in sections:
            sections.append(name)
    return found


def _settings_of(evidence: Evidence) -> list[tuple[str, Any]]:
    """Settings that say something; and what was read where it was left open."""
    said = {name: value for name, value in evidence.settings.items() if value not in ("", None, [], {}, ())}
    for name in ("feature", "attribute", "group", "reference", "column", "first", "second", "metric"):
        read = evidence.result.get(name)
        if name in evidence.settings and name not in said and isinstance(read, str) and read:
            said[name] = f"{read} (as it was left open)"
    return list(said.items())


def _threshold(subject: Subject) -> str:
    """From which score on the event is predicted."""
    rule = subject.context.rule
    if rule is None or not rule.thresholds:
        return f"{subject.decisions.cut:g} or more" if subject.decisions.cut <= 1 else "more than 1, which none has"
    own = ", ".join(f"{one.group} {one.threshold:g}" for one in rule.thresholds)
    return f"{own} or more by {words.title(' · '.join(rule.columns))}, {rule.threshold:g} for all others"


OF_TABLES = ("performance", "cases", "tilt")
"""Methods that the report shows as tables, or as levels of every grouping."""
MOST_ROWS = 30


def figure(spec: Spec, evidence: Evidence) -> str:
    """The figure of one piece of evidence; empty where its table says it all."""
    if evidence.method in OF_TABLES or not evidence.readable:
        return ""
    drawing = drawing_of(METHODS[evidence.method], evidence.typed, spec)
    return figures.svg(drawing) if drawing is not None else ""


def _caption(spec: Spec) -> Callable[[Evidence], str]:
    def caption(evidence: Evidence) -> str:
        place = METHODS[evidence.method].place
        return place.caption(evidence.typed, spec) if place and place.caption else evidence.title

    return caption


def _main_table(evidence: Evidence) -> list[dict[str, Any]]:
    """The first of the records behind a figure, as they are written."""
    records = tabulate.as_table(evidence.typed).slice(0, MOST_ROWS).to_pylist()
    return [
        {name: words.decimal(value) if isinstance(value, float) else value for name, value in record.items()}
        for record in records
    ]


def _prose(text: str) -> Markup:
    """Paragraphs of a note; ``**`` and ``*`` make terms stand out, all else is text."""
    out = ""
    for paragraph in text.split("\n\n"):
        told = str(escape(paragraph))
        told = re.sub(r"\*\*(.+?)\*\*", r"<b>\1</b>", told)
        told = re.sub(r"[*](.+?)[*]", r"<i>\1</i>", told)
        out += f"<p>{told}</p>\n"
    return Markup(out)


def _is_rate(metric: str) -> bool:
    return metric_named(metric).unit == "share"


def _cell(metric: str, value: float | None) -> str:
    if value is None:
        return "not defined"
    return words.percent(value) if _is_rate(metric) else words.decimal(value)


def _interval(metric: str, measure) -> str:
    if measure is None or measure.value is None:
        return ""
    if _is_rate(metric):
        return f"{words.percent(measure.low)} to {words.percent(measure.high)}"
    return f"{words.decimal(measure.low)} to {words.decimal(measure.high)}"
