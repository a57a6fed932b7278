"""The meaning of an audit, part by part: what is in force, who wrote it, and what was before."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from pydantic import ValidationError

from zerotilt.core import words
from zerotilt.core.frozen import in_words
from zerotilt.core.meaning import PARTS, Comparisons, Limits, Part, Spec, sha256
from zerotilt.core.refusal import Refused
from zerotilt.store.records import Audit, MeaningVersion
from zerotilt.store.renamed import rename_segment
from zerotilt.store.state import CALLED, ChangedMeanwhile

NOBODY_YET = ""
"""The author of what was guessed, or what every audit starts with."""
TOGETHER = timedelta(minutes=10)
"""Saves of one person within this time, with no reason given, are one version."""


@dataclass(frozen=True)
class By:
    """Who writes, and why."""

    author: str
    reason: str = ""
    answers: dict[str, Any] | None = None
    """What a guide was told, where it proposed what is written."""


def versions(audit: Audit, part: str) -> list[MeaningVersion]:
    """Every version of a part, the one in force first."""
    mine = MeaningVersion.part == part
    return list(audit.meanings.where(mine).order_by(MeaningVersion.number.desc()))


def in_force(audit: Audit) -> dict[str, MeaningVersion]:
    """The last version of each part."""
    return {one.part: one for one in audit.meanings.order_by(MeaningVersion.number)}


def tag(version: MeaningVersion) -> str:
    """What names a version and what it holds: another text means that somebody has written it since."""
    return f"{version.part}-{version.number}-{sha256(version.body)[:12]}"


def begin(audit: Audit, spec: Spec) -> None:
    """Give an audit its meaning, as it was guessed from a table; parts that are so already stay as they are."""
    before = in_force(audit)
    for part in PARTS:
        body = spec.part(part)
        last = before.get(part)
        if last is None or last.body != body:
            _append(audit, part, body, last, By(NOBODY_YET))
    audit.spec, audit.ready = spec.model_dump(mode="json"), False
    audit.save(only=[Audit.spec, Audit.ready])


def write(audit: Audit, part: Part, by: By, read: str | None = None) -> Spec:
    """Put a part in force, as the audit is held; all of the meaning then.

    Parameters
    ----------
    read : the tag of the version that the writer had read; not asked for when None.

    Raises
    ------
    ChangedMeanwhile : the part is another one now; said with who changed what.
    Refused : the parts contradict each other.
    """
    name = next(name for name, kind in PARTS.items() if isinstance(part, kind))
    last = in_force(audit)[name]
    if read is not None and read != tag(last):
        raise ChangedMeanwhile(_said(name, last, part.model_dump(mode="json")))
    before = Spec.model_validate(audit.spec)
    renamed: dict[str, str] = {}
    if isinstance(part, Comparisons):
        was = Comparisons.model_validate(before.part(name))
        part, renamed = part.following(was), part.renamed(was)
    if isinstance(part, Limits):  # its number stands in every reading
        part = Limits(policy=part.policy.model_copy(update={"number": last.number + 1}))
    try:
        after = before.with_part(part)
    except ValidationError as problem:
        said = in_words(problem.errors()[0])
        raise Refused(f"{said[0].upper()}{said[1:]}.") from None
    body = after.part(name)
    if body != last.body:
        _append(audit, name, body, last, by)
    audit.spec = after.model_dump(mode="json")
    # what is checked when Intake is finished; limits and names change none of it
    audit.ready = audit.ready and (name not in ("schema", "problem") or before.digest() == after.digest())
    audit.save(only=[Audit.spec, Audit.ready])
    for old, new in renamed.items():
        rename_segment(audit, old, new)
    return after


def _append(audit: Audit, part: str, body: dict[str, Any], last: MeaningVersion | None, by: By) -> None:
    now = datetime.now(UTC)
    same_hand = last is not None and (last.author, last.reason, by.reason) == (by.author, "", "")
    if last is not None and same_hand and now - last.created < TOGETHER and part != "policy":
        MeaningVersion.update(body=body).where(MeaningVersion.id == last.id).execute()
        return
    MeaningVersion.create(
        audit=audit,
        part=part,
        number=1 if last is None else last.number + 1,
        body=body,
        answers=by.answers,
        author=by.author,
        reason=by.reason,
        created=now,
    )


NAMES = {part: words.opening(called) for part, called in CALLED.items()}


def _said(part: str, now: MeaningVersion, wanted: Mapping[str, Any]) -> str:
    """Who changed a part meanwhile, and in what it differs from what was to be written."""
    who = f" by {now.author}" if now.author else ""
    why = f" ({now.reason})" if now.reason else ""
    names = [name for name in _flat(now.body) if _flat(now.body)[name] != _flat(dict(wanted)).get(name)]
    shown = ", ".join(f"“{name.replace('_', ' ')}”" for name in names[:4])
    differs = f" It differs in {shown}{' and more' if len(names) > 4 else ''}." if shown else ""
    return f"{NAMES[part]} was changed in another window meanwhile{who}: version {now.number}{why}.{differs}"


def _flat(body: dict[str, Any]) -> dict[str, Any]:
    """The fields of a part; columns by their names."""
    found: dict[str, Any] = {}
    for name, value in body.items():
        if isinstance(value, dict):
            found |= value
        elif name == "columns":
            found |= {one["name"]: one for one in value}
        elif name == "allowed":
            found |= {one["feature"]: one for one in value}
        else:
            found[name] = value
    return found
