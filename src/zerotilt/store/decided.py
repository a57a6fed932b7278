"""What people decide about findings, and the history of it, to which lines are only added."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

from pydantic import Field

from zerotilt.core.evidence import Digests
from zerotilt.core.findings import OPEN, Fact, Footing, Judged, Standing
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Context
from zerotilt.core.refusal import Refused
from zerotilt.store import shelf
from zerotilt.store.files import FileStore
from zerotilt.store.records import Audit, Judgement, Raised, Remark
from zerotilt.store.state import ChangedMeanwhile


def standing(row: Judgement) -> Standing:
    return Standing(**{name: getattr(row, name) for name in Standing.model_fields})


class Seen(Frozen):
    """What somebody saw who decided about a finding."""

    fact: Fact
    method: str
    evidence: str
    digests: Digests
    context: Context
    ending: str = Field(description="What the finding's name ends in, of this segment and model version")
    problem: str = Field(default="", description="SHA-256 of what was predicted then, and what was favourable")

    @property
    def footing(self) -> Footing:
        """What it stood on."""
        return Footing(
            table=self.digests.table,
            model=self.digests.model,
            meaning=self.digests.spec,
            problem=self.problem,
            rule=self.context.rule.model_dump_json() if self.context.rule else "",
        )


def judged(row: Judgement) -> Judged:
    """What was decided, on what it stood and what it said then."""
    seen = Seen.model_validate(row.seen) if row.seen else None
    return Judged(
        standing=standing(row),
        footing=seen and seen.footing,
        fact=seen.fact if seen and seen.fact.name else None,
        author=row.author,
        decided=f"{row.changed:%d %B %Y}".lstrip("0"),
    )


def decide(
    audit: Audit, finding: str, wanted: Standing, author: str, read: int | None, seen: Seen | None = None
) -> int:
    """Write how a finding stands now, with a line in its history, within a transaction that holds the audit; the number of
    the decision.

    Parameters
    ----------
    read : the number of the decision that was read, 0 for none; another one now is a conflict. Not asked for when None.
    seen : what it was decided on.

    Raises
    ------
    Refused : what the decision needs is not said. ChangedMeanwhile : somebody has decided meanwhile.
    """
    if wanted.decision == "accepted" and not wanted.reason.strip():
        raise Refused("A finding is accepted with a reason.", where="reason", todo="Say why it is accepted.")
    if wanted.decision == "mended" and not wanted.version.strip():
        raise Refused(
            "It is not said in which model version the finding is mended.", where="version", todo="Name the version."
        )
    mine = (Judgement.audit == audit) & (Judgement.finding == finding)
    last = Judgement.select().where(mine).first()
    number, before = (last.number, standing(last)) if last else (0, OPEN)
    if read is not None and read != number:
        who = f" by {last.author}" if last and last.author else ""
        raise ChangedMeanwhile(f"This finding was decided in another window meanwhile{who}: {before.decision}.")
    was, now = before.model_dump(mode="json"), wanted.model_dump(mode="json")
    changes = {name: [was[name], now[name]] for name in now if was[name] != now[name]}
    told = None if seen is None else seen.model_dump(mode="json")
    looked_again = told is not None and (last is None or last.seen is None or _of(last.seen) != _of(told))
    if not changes and not looked_again:
        return number
    if changes:
        Remark.create(audit=audit, finding=finding, changes=changes, author=author)
    else:
        Remark.create(audit=audit, finding=finding, said=f"Looked at again: {before.decision} still.", author=author)
    own = {**dict(wanted), "author": author, "number": number + 1, "changed": datetime.now(UTC)}
    if told is not None:
        own["seen"] = told
    if last is None:
        Judgement.create(audit=audit, finding=finding, **own)
    else:
        Judgement.update(**own).where(mine).execute()
    return number + 1


def _of(seen: dict[str, Any]) -> Footing:
    """What something was seen on."""
    return Seen.model_validate(seen).footing


def raised_name(one: Raised) -> str:
    """The name of a finding that was raised by hand."""
    return f"raised {one.id}"


def decisions_of(audit: Audit, files: FileStore, changed: Callable[[Raised], list[str]]) -> dict[str, Any]:
    """Everything that was decided in an audit, as a report takes it: decisions by finding, what was taken apart, and what
    was raised by hand with its sentence; ``changed``: what has changed since the figure that one was raised on was read.
    """
    return {
        "judged": {one.finding: judged(one).model_dump(mode="json") for one in audit.judgements},
        "apart": [one.finding for one in audit.apart],
        "raised": [
            {
                "name": raised_name(one),
                "statement": one.statement,
                "author": one.author,
                "changed": changed(one),
                "evidence": shelf.whole(one.evidence, files),
            }
            for one in audit.raised.order_by(Raised.created)
        ],
    }
