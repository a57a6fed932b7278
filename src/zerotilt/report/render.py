"""One self-contained HTML document from a bundle of evidence."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import partial
from typing import Any, cast

from jinja2 import Environment, PackageLoader, StrictUndefined

from zerotilt.core import levels, membership, words
from zerotilt.core.findings import GATHERED, OPEN, SEVERE, Fact, Standing
from zerotilt.core.groups.disparity import Group, TiltResult
from zerotilt.core.groups.metrics import METRICS, label, usual, written_gap
from zerotilt.core.groups.tilt_said import called, rule, wanting
from zerotilt.core.meaning import Role, Spec
from zerotilt.core.membership import Grouping
from zerotilt.core.methods import METHODS
from zerotilt.core.pockets.errors import written as in_unit
from zerotilt.core.subject import Subject
from zerotilt.core.tasks import kind_of
from zerotilt.report import figures, prose
from zerotilt.report.compose import Bundle, Kept, as_kept
from zerotilt.report.compose import Section as Read
from zerotilt.report.document import Document, Piece, Reader
from zerotilt.report.letters import letters
from zerotilt.report.numbers import Number, numbers
from zerotilt.report.published import published, too_few
from zerotilt.report.short import sentences
from zerotilt.report.shown import (
    captions,
    cell,
    drawn_figure,
    drawn_levels,
    figure,
    interval,
    main_table,
    paragraphs,
    settings_of,
    spanned,
)

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
    versions: dict[str, Any] | None = None
    """Which version was chosen, and how candidates stand; None where nothing was trained or chosen."""
    alongside: str = ""
    """What was read alongside, which the report leaves out."""
    how_made: str = ""
    """What the model's file says of how it was made."""
    gaps: Sequence[tuple[str, int]] | None = None
    """Columns in which cells are missing, and how many; None where nobody counted."""


@dataclass(frozen=True)
class Rendered:
    """A document as one reader gets it, and what was found while it was made."""

    html: str
    numbers: dict[str, Number]
    """What a text can name in it."""
    left_out: int = 0
    """Groups that are not printed, for the few people in them."""


def render(
    bundle: Bundle,
    subject: Subject,
    cover: Cover,
    document: Document | None = None,
    reader: Reader = "full",
    preview: bool = False,
    drawn: dict[str, str] | None = None,
) -> Rendered:
    """The report as HTML. Figures are inline SVG; nothing outside the file is referred to.

    Parameters
    ----------
    preview : also pieces that the reader does not get are there, hidden, so that they can be shown without being made anew.
    drawn : figures by the key of their evidence, for other readers of the same bundle; added to.
    """
    spec, document = subject.spec, (document or Document()).complete()
    left_out, hushed = 0, False
    whole = bundle
    if reader == "public":
        hushed = too_few(subject, document.smallest)
        bundle, left_out = published(bundle, subject, document.smallest)
    compared = bundle.evidence_of("tilt")
    tilt = cast(TiltResult, compared.typed) if compared else None
    flagged = [one for one in tilt.disparities if one.status == "flagged"] if tilt else []
    names, found = bundle.numbered, {} if hushed else numbers(bundle)
    drawn = {} if drawn is None else drawn
    everything, flat = bundle.all_facts(), bundle.facts("tilt")

    def trace(key: str) -> str:
        return names.get(key, "") if reader == "full" else ""

    html = ENVIRONMENT.get_template(
        "report.html"
    ).render(
        cover=cover,
        fonts=letters(),
        title=document.title.strip() or cover.title,
        made=cover.made or datetime.now(UTC).strftime("%d %B %Y, %H:%M UTC"),
        spec=spec,
        subject=subject,
        reader=reader,
        smallest=document.smallest,
        left_out=left_out,
        hushed=hushed,
        pieces=[
            one
            for one in _pieces(document, bundle, cover, reader, preview)
            if not hushed or one[0].id in WORDS or not one[0].section
        ],
        anchors={
            piece.id: piece.id if piece.section else f"own-{place}" for place, piece in enumerate(document.pieces)
        },
        written=lambda text: prose.html(text, found, trace) if text.strip() else "",
        sentences=sentences(bundle, subject, cover.model_name, cover.table_name, left_out, whole),
        bundle=bundle,
        words_only=WORDS,
        protected=_protected(spec),
        unused=_unused(subject),
        tilt=tilt,
        compared=compared,
        absent=_absent(bundle),
        unexamined=_unexamined(subject, bundle, cover),
        favourable=_favourable(subject),
        gives=_gives(subject),
        recorded=_recorded(subject.spec),
        methods=[METHODS[name] for name in METHODS if name in {found.method for found in bundle.by_key().values()}],
        prose=paragraphs,
        ended=lambda text: text.strip().removesuffix("."),  # the sentence around it ends with its own
        caption=captions(spec),
        main_table=main_table,
        facts=flat,
        adjusted={called(one) + compared.ending: one.p_adjusted for one in flagged} if compared else {},
        flag_rule=rule(tilt, spec.wording) if tilt else "",
        raised=list(
            zip(
                bundle.decisions.raised,
                bundle.decisions.of([one.finding for one in bundle.decisions.raised], bundle.footing),
                strict=True,
            )
        ),
        still_open=[one for one in everything if one[1].decision == "open"],
        elsewhere_open=[
            one
            for one in everything
            if one[1].decision == "open" and one[0].name not in {fact.name for fact, _ in flat}
        ],
        most_in_summary=MOST_IN_SUMMARY,
        gravest=sorted(flat, key=lambda one: SEVERITIES.index(one[0].severity))[:MOST_IN_SUMMARY],
        settled=[one for one in everything if one[1].decision != "open"],
        stands=partial(_stands, bundle),
        gathered=GATHERED,
        severe=SEVERE,
        attributes=list(dict.fromkeys(group.attribute for group in tilt.groups)) if tilt else [],
        metrics=METRICS,
        compared_in=usual(list(tilt.groups[0].metrics), MOST_COMPARED_IN) if tilt and tilt.groups else [],
        label=label,
        words=words,
        reading=lambda evidence: evidence.read(spec),
        mark=lambda evidence: trace(evidence.key),
        figure=partial(drawn_figure, spec, drawn),
        as_kept=lambda item: as_kept(item.evidence, item.spec, spec),
        figure_kept=lambda item: _figure_kept(item, spec, drawn),
        levels_caption=partial(figures.levels_caption, tilt),
        levels=partial(drawn_levels, spec, drawn, tilt),
        evidence=bundle.by_key(),
        settings_of=settings_of,
        threshold_text=_threshold(subject) if subject.kind.cut else "",
        wanting=wanting(tilt, spec.wording) if tilt else "",
        in_error=lambda value, unit: "not defined" if value is None else in_unit(value, unit, spec.wording),
        cell=lambda metric, value: cell(metric, value, spec.wording.unit),
        gap=lambda metric, value: written_gap(metric, value, spec.wording.unit),
        share=_shares(subject),
        spanned=lambda found, metric, change=False: spanned(metric, found, change),
        interval=interval,
    )
    return Rendered(html, found, left_out)


SEVERITIES = ("high", "medium", "low")
NAMED_UNREAD = 12
"""Features that are named where nobody read along them."""
MOST_IN_SUMMARY = 8
"""Disparities that a summary lists, the most severe first; and of what is open, and decided, as many."""
WORDS = frozenset({"purpose", "protected", "limits", "next"})
"""Sections in which nothing stands but what people wrote."""
PLAIN = frozenset({"choice", "raised", "kept"})
"""Sections that a document leaves out while there is nothing in them."""


def _pieces(
    document: Document, bundle: Bundle, cover: Cover, reader: Reader, preview: bool
) -> list[tuple[Piece, Read | None, bool]]:
    """The pieces of a document with what was read for each, and whether the reader gets it."""
    read = {one.method.name: one for one in bundle.sections}
    empty = {"choice": cover.versions is None, "raised": not bundle.decisions.raised, "kept": not bundle.kept}
    out = []
    for piece in document.pieces:
        section = piece.section
        if section is not None and reader == "public" and not section.publishable:
            continue
        of_method = section is not None and section.name in METHODS
        if of_method and not read.get(piece.id):
            continue  # it was not read, which is said under what was not examined
        nothing = section is not None and section.name in PLAIN and empty[section.name]
        if of_method and not read[piece.id].items and piece.id != "response":
            nothing = True
        included = piece.read_by(reader) and (not nothing or bool(piece.text.strip()))
        if included or (preview and not nothing):
            out.append((piece, read.get(piece.id), included))
    return out


def _unexamined(subject: Subject, bundle: Bundle, cover: Cover) -> list[str]:
    """What nobody looked at here, besides the sections that were not read: from what was left out of those that were."""
    spec, out = subject.spec, []
    if not spec.knows_outcome:
        out.append("How good the predictions are, and errors by group: no column says what really happened.")
    if not spec.groupings:
        out.append("Groups of people: no column of the table makes groups in this audit.")
    if not kind_of(spec.task).cut:
        out.append(f"Thresholds: nothing is decided by one, since the outcome is {subject.kind.named}.")
    concerns = bundle.evidence_of("concerns")
    left = concerns.result.get("left_out", []) if concerns else []
    if left:
        out.append(f"Of the table: {words.listing(left)}.")
    along = {one.result["feature"] for one in bundle.by_key().values() if one.method == "response"}
    features = subject.predictor.inputs if subject.predictor else ()
    rest = [name for name in features if name not in along]
    if along and rest:
        named = f" ({words.listing([words.title(name) for name in rest])})" if len(rest) <= NAMED_UNREAD else ""
        out.append(
            f"How the output moves along {words.count(len(rest))} of the {words.count(len(features))} features{named}."
        )
    read = {one.method for one in bundle.by_key().values()}
    left = [what for method, what, applies in (
        ("tilt", "groups crossed with one another", spec.groupings and all(len(one) == 1 for one in spec.groupings)),
        ("given", "groups within strata of other columns", bool(spec.groupings)),
        ("sides", "labels beside decisions by group", spec.groupings and spec.knows_outcome and subject.kind.decides),
        ("thresholds", "other thresholds and what they cost", kind_of(spec.task).cut and subject.predictions.scores is not None),
        ("versions", "other models than this one", not cover.versions),
    ) if applies and (method == "tilt" or method not in read)]  # fmt: skip
    if "lattice" in read:
        left = [one for one in left if "crossed" not in one]
    if left:
        out.append(f"{words.opening(words.listing(left))}.")
    return out


def _favourable(subject: Subject) -> str:
    """Which decision is favourable, in a sentence."""
    spec = subject.spec
    if not subject.kind.cut:
        found = spec.favourable_classes
        return f"{spec.wording.favourable}: {words.listing([str(one) for one in found])}" if found else "none was named"
    said = "the event" if spec.favourable == "event" else "that the event does not happen"
    found = f"{spec.wording.favourable}: predicting {said}"
    if subject.predictions.scores is not None:
        under = ", as the decision rule of this version says" if subject.context.rule else ""
        found += f"; the event is predicted at a score of {_threshold(subject)}{under}"
    return f"{found}; otherwise {spec.wording.unfavourable}"


def _protected(spec: Spec) -> str:
    """Which attributes the audit holds to be protected, and which groups are compared besides."""
    makers = [column for column in spec.columns if column.makes_groups]
    marked = [words.title(column.name) for column in makers if column.protected]
    others = [words.title(column.name) for column in makers if not column.protected]
    besides = f" Groups of {words.listing(others)} are compared too, and told after them." if others else ""
    if marked:
        return f"Marked as protected in this audit: {words.listing(marked)}.{besides}"
    return "No column is marked as a protected attribute in this audit."


def _unused(subject: Subject) -> str:
    """Columns of the table that nothing here reads, in a phrase."""
    takes = set(subject.predictor.inputs) if subject.predictor else set()
    left = [
        one.name
        for one in subject.spec.columns
        if one.name not in takes and not one.makes_groups and one.role in (Role.ignored, Role.feature)
    ]
    named = [words.title(name) for name in left[:NAMED_UNREAD]]
    if len(left) > NAMED_UNREAD:
        named.append(f"{words.count(len(left) - NAMED_UNREAD)} more")
    return words.listing(named)


def _recorded(spec: Spec) -> str:
    """Which column predictions were recorded in, and how it is read; where there is no model."""
    score, decision = spec.only(Role.score), spec.only(Role.decision)
    if score is not None:
        top = (
            ""
            if spec.score_top == 1 or not kind_of(spec.task).cut
            else f", of which {spec.score_top:g} is a chance of 100%"
        )
        return f"scores recorded in “{score.name}”{top}"
    return f"decisions recorded in “{decision.name}”" if decision is not None else "nothing"


def _gives(subject: Subject) -> str:
    """What the output is, in words."""
    spec = subject.spec
    if subject.predictor is None and spec.only(Role.score) is None:
        return (
            f"decisions: {words.listing(list(subject.classes or levels.predicted_levels(spec, subject.table)), 'or')}"
        )
    if subject.kind.classed:
        return f"a chance for each class of {words.title(spec.target_name)}: {words.listing(list(subject.classes))}"
    if subject.kind.cut:
        return f"the chance that {spec.event_phrase}"
    return f"{spec.event_phrase}{f', in {spec.wording.unit}' if spec.wording.unit else ''}"


MOST_COMPARED_IN = 6
"""Metrics that a table of groups has columns for."""


def _shares(subject: Subject) -> Callable[[Group], float]:
    """Of a group the weighted share of the rows read."""
    found: dict[str, Grouping] = {}

    def share(group: Group) -> float:
        if group.attribute not in found:
            columns = membership.columns_of(subject.spec, group.attribute)
            found[group.attribute] = membership.grouping(subject.spec, subject.table, subject.rows.numbers, columns)
        of = found[group.attribute]
        return float(subject.rows.mass[of.mask(of.place(group.group))].sum() / subject.rows.mass.sum())

    return share


def _stands(bundle: Bundle, fact: Fact, found: Standing) -> str:
    """What was decided about a finding, in a sentence; empty while nobody has. What was decided on another footing is
    told as such."""
    if found == OPEN:
        lapsed = bundle.lapsed(fact)
        return lapsed.sentence if lapsed else ""
    said = [f"Decision: {found.decision}{f' in version {found.version}' if found.version else ''}"]
    if found.reason.strip():
        said.append(f"reason: {found.reason.strip().removesuffix('.')}")
    if found.owner:
        said.append(f"seen to by {found.owner.strip()}")
    if found.due:
        said.append(f"due {found.due.day} {found.due:%B %Y}")
    return f"{'; '.join(said).removesuffix('.')}."


def _figure_kept(item: Kept, spec: Spec, drawn: dict[str, str]) -> str:
    """The figure of a kept item with the names of then; none where nobody wrote them down and they may be others now."""
    if item.spec is not None and item.spec != spec:
        return figure(item.spec, item.evidence)
    return "" if item.spec is None and item.changed else drawn_figure(spec, drawn, item.evidence)


def _absent(bundle: Bundle) -> dict[str, list[str]]:
    """The sections that were not read, by the reason."""
    found: dict[str, list[str]] = {}
    for method, reason in bundle.absent:
        sections = found.setdefault(reason.replace(method.title, "This"), [])
        if method.place is not None and (name := method.place.section.lower()) not in sections:
            sections.append(name)
    return found


def _threshold(subject: Subject) -> str:
    """From which score on the event is predicted."""
    rule = subject.context.rule
    if rule is None or not rule.thresholds:
        return f"{subject.decisions.cut:g} or more" if subject.decisions.cut <= 1 else "more than 1, which none has"
    own = ", ".join(f"{one.group} {one.threshold:g}" for one in rule.thresholds)
    return f"{own} or more by {words.title(' · '.join(rule.columns))}, {rule.threshold:g} for all others"
