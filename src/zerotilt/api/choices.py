"""Choices that someone answers for: metrics, by a guide, and decision rules of model versions."""

from __future__ import annotations

from datetime import datetime

import peewee
from fastapi import APIRouter, HTTPException
from pydantic import BaseModel, Field

from zerotilt.api.desk import Seeing, connected, held
from zerotilt.api.identity import Who, identifier
from zerotilt.api.meaning import Signed, spec_of
from zerotilt.api.problems import Conflict
from zerotilt.core import membership
from zerotilt.core.groups import guide
from zerotilt.core.groups.guide import Answers, Proposal
from zerotilt.core.meaning import Rule
from zerotilt.core.refusal import Refused
from zerotilt.store.records import Audit, DecisionRule, ModelVersion

router = APIRouter(prefix="/api/audits/{audit_id}", tags=["choices"])


class NewRule(Signed):
    rule: Rule | None = Field(description="The audit's own threshold when null")
    after: int | None = Field(
        default=None, description="The rule that was read, 0 for none; another one now is a conflict"
    )


class RuleView(BaseModel):
    number: int
    rule: Rule | None
    author: str
    reason: str
    created: datetime


def _next(last: int | None) -> int:
    return (last or 1) + 1


@router.post("/guide")
@connected
def propose(audit: Audit, answers: Answers) -> list[Proposal]:
    """Metrics that the answers call for, with reasons. Nothing is kept."""
    spec = spec_of(audit)
    return list(guide.propose(answers, spec.task, spec.favourable, spec.wording))


def _model(audit: Audit, model_id: str) -> ModelVersion:
    found = ModelVersion.get_or_none((ModelVersion.id == identifier(model_id)) & (ModelVersion.audit == audit))
    if found is None:
        raise HTTPException(404, "There is no such model version.")
    return found


@router.get("/models/{model_id}/rules")
@connected
def rules(audit: Audit, model_id: str) -> list[RuleView]:
    """Every decision rule a version was under, the one in force first."""
    rows = _model(audit, model_id).rules.order_by(DecisionRule.number.desc())
    return [_view(row) for row in rows]


def _view(row: DecisionRule) -> RuleView:
    return RuleView(
        number=row.number,
        rule=Rule.model_validate(row.rule) if row.rule else None,
        author=row.author,
        reason=row.reason,
        created=row.created,
    )


@router.put("/models/{model_id}/rule")
@connected
def change_rule(audit: Audit, model_id: str, who: Who, seen: Seeing, wanted: NewRule) -> RuleView:
    """Put a decision rule in force for a version; every reading of it follows."""
    audit = held(audit)
    seen.still(audit, "meaning", "table")
    spec, model = spec_of(audit), _model(audit, model_id)
    if wanted.rule is not None and (wanted.rule.columns or wanted.rule.thresholds):
        if not wanted.rule.columns or not wanted.rule.thresholds:
            raise Refused("rule: thresholds by group need both the columns and the thresholds.")
        membership.columns_of(spec, membership.attribute(wanted.rule.columns))
        for name in wanted.rule.columns:
            if spec.column(name).separator:
                raise Refused(f"rule: groups of “{name}” overlap, so a row would have several thresholds.")
    last = model.rules.select(peewee.fn.max(DecisionRule.number)).scalar()
    if wanted.after is not None and wanted.after != (last or 0):
        now = model.rules.order_by(DecisionRule.number.desc()).first()
        raise Conflict(f"Decision rule {last or 0} was put in force meanwhile{f', by {now.author}' if now else ''}.")
    made = DecisionRule.create(
        model=model,
        number=_next(last),
        rule=wanted.rule.model_dump(mode="json") if wanted.rule else None,
        author=who.identity.signed(wanted.author),
        reason=wanted.reason.strip(),
    )
    return _view(DecisionRule.get_by_id(made.id))
