"""A segment under another name: what was decided, said and found about it goes on under that name."""

from __future__ import annotations

import json

from zerotilt.core.membership import SEGMENTS
from zerotilt.store.decided import Seen
from zerotilt.store.records import Audit, FoundBefore, Judgement, Remark, TakenApart


def framed(segment: str) -> str:
    """A segment by its name, as the frame of what was found holds it."""
    return f"segment {segment}"


def finding_of(name: str, old: str, new: str) -> str:
    """The name of a finding, with a segment's new name where it has the old one: as the group, or as the rows read.

    >>> finding_of("(segments): late · accuracy [ab]", "late", "after ten")
    '(segments): after ten · accuracy [ab]'
    """
    group = f"{SEGMENTS}: {old}"
    if (name.startswith(group) and name[len(group) :].startswith((" · ", " [", " in "))) or name == group:
        name = f"{SEGMENTS}: {new}{name[len(group) :]}"
    rows = f" in {old} ("
    at = name.rfind(rows)
    return name if at < 0 else f"{name[:at]} in {new} ({name[at + len(rows) :]}"


def rename_segment(audit: Audit, old: str, new: str) -> None:
    """Let everything that names a finding by a segment name it by the new name; within the transaction that renames it."""

    def today(name: str) -> str:
        return finding_of(name, old, new)

    for kind in (Judgement, Remark, TakenApart):
        names = {one.finding for one in kind.select(kind.finding).where(kind.audit == audit)}
        for name in names:
            if (now := today(name)) != name:
                kind.update(finding=now).where((kind.audit == audit) & (kind.finding == name)).execute()
    for row in audit.judgements.where(Judgement.seen.is_null(False)):
        seen = Seen.model_validate(row.seen)
        if (now := _seen_today(seen, old, new)) != seen:
            Judgement.update(seen=now.model_dump(mode="json")).where(Judgement.id == row.id).execute()
    for row in audit.found:
        findings = [one | {"name": today(one["name"]), "about": today(one["about"])} for one in row.findings]
        frame = json.dumps([framed(new) if part == framed(old) else part for part in json.loads(row.frame)])
        mine = (FoundBefore.audit == audit) & (FoundBefore.method == row.method) & (FoundBefore.frame == row.frame)
        FoundBefore.update(findings=findings, frame=frame).where(mine).execute()


def _seen_today(seen: Seen, old: str, new: str) -> Seen:
    parts = tuple(
        one.model_copy(update={"name": finding_of(one.name, old, new), "about": finding_of(one.about, old, new)})
        for one in seen.fact.parts
    )
    fact = seen.fact.model_copy(update={"name": finding_of(seen.fact.name, old, new), "parts": parts})
    segment = seen.context.segment
    if segment is not None and segment.name == old:
        segment = segment.called(new)
    context = seen.context.model_copy(update={"segment": segment})
    return seen.model_copy(update={"fact": fact, "context": context, "ending": finding_of(seen.ending, old, new)})
