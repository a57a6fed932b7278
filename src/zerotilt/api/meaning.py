"""The meaning of an audit, part by part: read with its versions, written under an entity tag."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any

from fastapi import APIRouter, Header, HTTPException, Response
from pydantic import BaseModel, Field, create_model

from zerotilt.api.desk import connected, held
from zerotilt.api.identity import Who
from zerotilt.api.views import AuditView, PartView
from zerotilt.core import membership
from zerotilt.core.groups import metrics
from zerotilt.core.groups.guide import Answers
from zerotilt.core.meaning import PARTS, Comparisons, Limits, Part, Schema, Spec
from zerotilt.core.refusal import Refused
from zerotilt.store import meaning
from zerotilt.store.records import Audit
from zerotilt.tasks.board import current_table

router = APIRouter(prefix="/api/audits/{audit_id}/meaning", tags=["meaning"])
IfMatch = Annotated[
    str | None,
    Header(alias="If-Match", max_length=200, description="Tag of the version that was read; another one now: 409"),
]


class Signed(BaseModel):
    """Who answers for what is written, and why."""

    author: str = Field(default="", max_length=200, description="Who answers for it; whoever asks when empty")
    reason: str = Field(default="", max_length=20_000)


class VersionView(BaseModel):
    """One version of a part."""

    number: int
    body: dict[str, Any]
    answers: Answers | None = Field(description="What the guide was told, where metrics come from it")
    author: str = Field(description="Empty for what was guessed, or what every audit starts with")
    reason: str
    created: datetime


def spec_of(audit: Audit) -> Spec:
    """What the columns mean.

    Raises
    ------
    Refused : no table has been read yet.
    """
    if audit.spec is None:
        raise Refused("The columns have no meaning yet.", todo="Upload a table in Intake first.")
    return Spec.model_validate(audit.spec)


@router.get("")
@connected
def parts(audit: Audit) -> list[PartView]:
    """The version of each part that is in force."""
    return [PartView.of(one) for one in meaning.in_force(audit).values()]


@router.get("/{part}")
@connected
def versions(audit: Audit, part: str, response: Response) -> list[VersionView]:
    """Every version of a part, the one in force first; its tag is in the header ETag."""
    if part not in PARTS:
        raise HTTPException(404, f"The meaning has no part “{part}”; it has {', '.join(PARTS)}.")
    found = meaning.versions(audit, part)
    if found:
        response.headers["ETag"] = f'"{meaning.tag(found[0])}"'
    return [
        VersionView(
            number=one.number,
            body=one.body,
            answers=one.answers,
            author=one.author,
            reason=one.reason,
            created=one.created,
        )
        for one in found
    ]


def _add(name: str, kind: type[Part]) -> None:
    more: dict[str, Any] = {"answers": (Answers | None, None)} if name == "policy" else {}
    wanted_type: type[BaseModel] = create_model(f"New{kind.__name__}", __base__=(kind, Signed), **more)

    def put(audit, who, wanted, response, read=None):
        audit = held(audit)
        before = spec_of(audit)
        part = kind.model_validate({name: getattr(wanted, name) for name in kind.model_fields})
        _check(audit, before, part)
        answers = getattr(wanted, "answers", None)
        by = meaning.By(
            who.identity.signed(wanted.author), wanted.reason.strip(), answers.model_dump() if answers else None
        )
        meaning.write(audit, part, by, read.strip('"') if read else None)
        response.headers["ETag"] = f'"{meaning.tag(meaning.in_force(audit)[name])}"'
        return AuditView.whole(Audit.get_by_id(audit.id))

    put.__annotations__ = {
        "audit": Audit,
        "who": Who,
        "wanted": wanted_type,
        "response": Response,
        "read": IfMatch,
        "return": AuditView,
    }
    router.put(f"/{name}", operation_id=f"write_{name}", summary=f"{meaning.NAMES[name]}: a version of it in force")(
        connected(put)
    )


def _check(audit: Audit, before: Spec, part: Part) -> None:
    """Refuse what names something that is not there."""
    if isinstance(part, Schema):
        known = {column["name"] for column in current_table(audit).profile["columns"]}
        for column in part.columns:
            if column.name not in known:
                raise Refused(f"The table has no column “{column.name}”.", where=f"column “{column.name}”")
    elif isinstance(part, Comparisons):
        for crossing in part.intersections:
            membership.columns_of(before, membership.attribute(crossing))
        there = {column.name for column in before.columns}
        kept = {one.blocks for one in before.segments}  # one of an earlier table stays, whatever else is written
        for segment in part.segments:
            if segment.blocks not in kept and (unknown := sorted(set(segment.columns) - there)):
                raise Refused(
                    f"segments: “{segment.name}” names a column that is not there: {unknown[0]}.",
                    where=f"column “{unknown[0]}”",
                )
    elif isinstance(part, Limits):
        for name in [*part.policy.metrics, *(one.metric for one in part.policy.tolerances)]:
            if before.task not in metrics.metric_named(name).tasks:
                raise Refused(f"metrics: “{name}” is not defined for {before.task.value}.", where="flag policy")


for _name, _kind in PARTS.items():
    _add(_name, _kind)
