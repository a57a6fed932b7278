"""Choices that someone answers for: flag policy, metrics, what is compared, decision rules."""

from __future__ import annotations

from datetime import datetime

import peewee
from fastapi import APIRouter, HTTPException
from pydantic import BaseModel, Field

from zerotilt.api.desk import connected, held, identifier
from zerotilt.api.problems import Conflict
from zerotilt.core import membership
from zerotilt.core.groups import guide, metrics
from zerotilt.core.groups.guide import Answers, Proposal
from zerotilt.core.refusal import Refused
from zerotilt.core.spec import FlagPolicy, Rule, Segment, Spec
from zerotilt.store.records import Audit, DecisionRule, ModelVersion, PolicyVersion

router = APIRouter(prefix="/api/audits/{audit_id}", tags=["choices"])
AUTHOR = Field(min_length=1, max_length=200, description="Who answers for the choice")
REASON = Field(default="", max_length=20_000)


class NewPolicy(BaseModel):
    policy: FlagPolicy
    answers: Answers | None = Field(default=None, description="What the guide was told, where the metrics come from it")
    author: str = AUTHOR
    reason: str = REASON
    after: int | None = Field(default=None, description="The policy that was read; another one in force is a conflict")


class PolicyView(BaseModel):
    number: int
    policy: FlagPolicy
    answers: Answers | None
    author: str
    reason: str
    created: datetime | None


class Compared(BaseModel):
    """What is compared besides single columns."""

    intersections: list[tuple[str, ...]] = Field(max_length=40)
    segments: list[Segment] = Field(max_length=60)
    version: int | None = Field(default=None, description="Of the meaning that was read; another one now is a conflict")


class NewRule(BaseModel):
    rule: Rule | None = Field(description="The audit's own threshold when null")
    author: str = AUTHOR
    reason: str = REASON
    after: int | None = Field(
        default=None, description="The rule that was read, 0 for none; another one now is a conflict"
    )


class RuleView(BaseModel):
    number: int
    rule: Rule | None
    author: str
    reason: str
    created: datetime


def _spec(audit: Audit) -> Spec:
    if audit.spec is None:
        raise Refused("The columns have no meaning yet.", todo="Finish Intake first.")
    return Spec.model_validate(audit.spec)


def _next(last: int | None) -> int:
    return (last or 1) + 1


@router.post("/guide")
@connected
def propose(audit: Audit, answers: Answers) -> list[Proposal]:
    """Metrics that the answers call for, with reasons. Nothing is kept."""
    spec = _spec(audit)
    return list(guide.propose(answers, spec.task, spec.favourable, spec.wording))


@router.get("/policies")
@connected
def policies(audit: Audit) -> list[PolicyView]:
    """Every version of the flag policy, the one in force first."""
    rows = list(audit.policies.order_by(PolicyVersion.number.desc()))
    found = [
        PolicyView(
            number=row.number,
            policy=FlagPolicy.model_validate(row.policy),
            answers=Answers.model_validate(row.answers) if row.answers else None,
            author=row.author,
            reason=row.reason,
            created=row.created,
        )
        for row in rows
    ]
    if not found:
        start = _spec(audit).policy
        found = [PolicyView(number=start.number, policy=start, answers=None, author="", reason="", created=None)]
    return found


@router.put("/policy")
@connected
def change_policy(audit: Audit, wanted: NewPolicy) -> Spec:
    """Put a new version of the flag policy in force; the ones before are kept."""
    audit = held(audit)
    spec = _spec(audit)
    if wanted.after is not None and wanted.after != spec.policy.number:
        now = audit.policies.order_by(PolicyVersion.number.desc()).first()
        who = f", chosen by {now.author}" if now and now.author else ""
        raise Conflict(f"Flag policy {spec.policy.number} was put in force meanwhile{who}.")
    for name in [*wanted.policy.metrics, *(one.metric for one in wanted.policy.tolerances)]:
        if spec.task not in metrics.metric_named(name).tasks:
            raise Refused(f"metrics: “{name}” is not defined for {spec.task.value}.", where="flag policy")
    last = audit.policies.select(peewee.fn.max(PolicyVersion.number)).scalar()
    number = _next(last)
    if last is None:  # what every audit starts with is a version as well
        _keep(audit, spec.policy.model_copy(update={"number": 1}), None, "", "")
    policy = wanted.policy.model_copy(update={"number": number})
    _keep(audit, policy, wanted.answers, wanted.author.strip(), wanted.reason.strip())
    return _saved(audit, spec.model_copy(update={"policy": policy}))


def _keep(audit: Audit, policy: FlagPolicy, answers: Answers | None, author: str, reason: str) -> None:
    PolicyVersion.create(
        audit=audit,
        number=policy.number,
        policy=policy.model_dump(mode="json"),
        answers=answers.model_dump() if answers else None,
        author=author,
        reason=reason,
    )


def _saved(audit: Audit, spec: Spec) -> Spec:
    audit.spec = spec.model_dump(mode="json")
    audit.version += 1
    audit.save(only=[Audit.spec, Audit.version])
    return spec


@router.put("/compared")
@connected
def compare(audit: Audit, wanted: Compared) -> Spec:
    """Set the intersections and segments that are compared; nothing else is computed again."""
    audit = held(audit)
    spec = _spec(audit)
    if wanted.version is not None and wanted.version != audit.version:
        raise Conflict("What is compared, or the meaning of the columns, was changed in another window meanwhile.")
    for crossing in wanted.intersections:
        membership.columns_of(spec, membership.attribute(crossing))
    body = spec.model_dump() | {
        "intersections": wanted.intersections,
        "segments": [one.model_dump() for one in wanted.segments],
    }
    try:
        changed = Spec.model_validate(body)
    except ValueError as problem:
        raise Refused(str(problem.errors()[0]["msg"]).removeprefix("Value error, ").capitalize() + ".") from None  # type: ignore[attr-defined]
    return _saved(audit, changed)


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
def change_rule(audit: Audit, model_id: str, wanted: NewRule) -> RuleView:
    """Put a decision rule in force for a version; every reading of it follows."""
    audit = held(audit)
    spec, model = _spec(audit), _model(audit, model_id)
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
        author=wanted.author.strip(),
        reason=wanted.reason.strip(),
    )
    return _view(DecisionRule.get_by_id(made.id))
