"""The one state of an audit: a tag for each part of what its readings, lists and counts depend on, and one for all.

A tag is made of the records themselves: of which there are, and of the transaction that wrote each last (PostgreSQL's
``xmin``). Whoever writes, by whatever way, changes it; nobody has to remember to.
"""

from __future__ import annotations

import hashlib
from typing import Any
from uuid import UUID

from zerotilt.core import words
from zerotilt.store.database import database
from zerotilt.store.records import Audit, DecisionRule, MeaningVersion, ModelVersion


class ChangedMeanwhile(Exception):
    """What is written over is not what the writer had read; said in words."""


PARTS = (
    "meaning", "table", "versions", "rules", "decisions", "dossier", "draft", "reports", "audit", "checked", "found",
)  # fmt: skip
"""Parts of an audit's state, as ``audit_state`` of the database tells them."""
LISTED = ("audit", "table", "versions", "reports", "decisions", "found", "rules", "meaning", "checked")
"""What the list of all audits shows something of."""
CALLED = {
    "schema": "what the columns are",
    "problem": "what is predicted and decided",
    "comparisons": "what is compared",
    "policy": "the flag policy",
    "wording": "the wording",
    "expectations": "what is expected of the features",
    "changeable": "what could be another value in a case",
}
"""Parts of the meaning, within a sentence."""
LENGTH = 12


class Tags(dict[str, str]):
    """The tag of each part of a state; ``clock``: of two that were read, the later one's is greater, whoever hears of it
    first. Where they are equal, nothing was written between them."""

    clock: int = 0


def tags(audit: Audit | str | UUID) -> Tags:
    """The tag of each part of an audit's state, as it is in this moment."""
    name = audit.id if isinstance(audit, Audit) else audit
    return _read("audit_state(%s)", str(name))


_CALLED = {
    "table": "the table, or a file that is read with it, was replaced",
    "versions": "model versions were added, deleted, noted on or chosen",
    "decisions": "findings were decided or raised",
    "dossier": "kept figures or notes on them were changed",
    "draft": "the document was written",
    "audit": "the audit was renamed, or Intake begun again",
    "checked": "Intake was finished",
    "reports": "a report was written or signed",
    "found": "findings were measured",
}


def said(audit: Audit, changed: list[str]) -> str:
    """What was changed meanwhile, and by whom, in a sentence."""
    return f"Meanwhile {words.listing([_said(audit, part) for part in changed])}."


def _said(audit: Audit, part: str) -> str:
    last: Any = None
    if part == "meaning":
        last = audit.meanings.order_by(MeaningVersion.created.desc()).first()
        what = f"{CALLED[last.part]} was changed" if last else "the meaning was changed"
    elif part == "rules":
        last = (
            DecisionRule.select()
            .join(ModelVersion)
            .where(ModelVersion.audit == audit)
            .order_by(DecisionRule.created.desc())
            .first()
        )
        what = "a decision rule was put in force"
    else:
        what = _CALLED[part]
    return f"{what} by {last.author}" if last is not None and last.author else what


def of_all() -> str:
    """One tag for all that the list of audits shows."""
    found = _read("audits_state()")
    return together({name: found[name] for name in LISTED})


def together(parts: dict[str, str]) -> str:
    """One tag of several."""
    return hashlib.sha256(repr(sorted(parts.items())).encode()).hexdigest()[:LENGTH]


def basis(parts: dict[str, str]) -> str:
    """One tag of what readings are read on: all but what was found by them, which they add to themselves."""
    return together({name: tag for name, tag in parts.items() if name != "found"})


def written(parts: dict[str, str]) -> str:
    """Tags in one line: "meaning=ab12;table=cd34"."""
    return ";".join(f"{part}={tag}" for part, tag in parts.items())


def told(parts: Tags) -> str:
    """A state in one line: what readings are read on, the whole, part by part, and when that was."""
    return f"{basis(parts)} {together(parts)} {written(parts)} {parts.clock}"


def parted(line: str) -> dict[str, str]:
    """Tags of such a line."""
    pairs = (one.partition("=") for one in line.split(";") if "=" in one)
    return {name.strip(): tag.strip() for name, _, tag in pairs}


CLOCK = """with at as (select pg_current_snapshot() as it)
select pg_snapshot_xmax(it)::text::bigint * 2000 - 2 * least(999, (select count(*) from pg_snapshot_xip(it)))
    + (pg_current_xact_id_if_assigned() is not null)::int, {asked} from at"""
"""How far the database is: whose transactions have ended. Of two looks the later one has the higher first transaction that
had not begun, or the same and fewer under way; what a writer sees of its own before others do is half a step further."""


def _read(asked: str, *given: str) -> Tags:
    clock, found = database.execute_sql(CLOCK.format(asked=asked), given).fetchone()
    told = Tags({part: (found[part] or "0")[:LENGTH] for part in PARTS})
    told.clock = clock
    return told
