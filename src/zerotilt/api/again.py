"""Findings measured again: what was decided on another model version or table, and what has become of it."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import NamedTuple

from fastapi import APIRouter
from pydantic import BaseModel, Field

from zerotilt.api.desk import Desk, TheDesk, connected
from zerotilt.core.again import Again, Verdict, compare
from zerotilt.core.evidence import Evidence, footing_of
from zerotilt.core.findings import Fact, Finding, Standing, gathered, lapsed_because
from zerotilt.core.meaning import Alongside, Context, Spec
from zerotilt.core.methods import METHODS
from zerotilt.core.stats.estimates import Estimate
from zerotilt.store import shelf
from zerotilt.store.decided import Seen, judged, standing
from zerotilt.store.records import Audit, EvidenceRow, Judgement, ModelVersion
from zerotilt.tasks.board import current_table, now_of

router = APIRouter(prefix="/api/audits/{audit_id}", tags=["findings"])
WORST: tuple[Verdict, ...] = ("larger", "cannot be told", "same", "smaller", "gone")


class PartAgain(BaseModel):
    """One comparison of a finding before and now."""

    called: str
    verdict: Verdict
    sentence: str
    again: Again | None = Field(description="Null where the finding has no size")


class DecidedBefore(BaseModel):
    """A decision that was made on another model version or table, or under another meaning or decision rule."""

    finding: str = Field(description="Its name in this context")
    statement: str = Field(description="As it was when it was decided")
    standing: Standing
    author: str
    decided: datetime
    model: str = Field(
        description="Name of the version that it was decided on; empty where the version is there no more"
    )
    other_model: bool
    other_table: bool
    why: str = Field(description="What is another now: the model version, the table, the meaning, the decision rule")
    verdict: Verdict = Field(description="Of its parts the worst: larger, cannot be told, same, smaller, gone")
    parts: list[PartAgain]
    there: bool = Field(description="Whether it is still found")
    looked: bool = Field(description="Whether somebody has decided about it since, on this version and table")
    evidence: str = Field(description="Key of the evidence it is measured in now; empty where it was not read")
    number: int = Field(description="Of the decision about it in this context, 0 while there is none")


class AgainView(BaseModel):
    waiting: bool = Field(description="Whether something is still being measured")
    findings: list[DecidedBefore]


@router.post("/findings/again")
@connected
def again(audit: Audit, desk: TheDesk, context: Context) -> AgainView:
    """What was decided on other model versions or tables, measured again in this context. What has to be read is asked for."""
    if audit.spec is None or not audit.ready:
        return AgainView(waiting=False, findings=[])
    return _Measuring(audit, desk, context.model_copy(update={"alongside": None})).all()


def to_look_at(audit: Audit, desk: Desk, context: Context) -> int:
    """Findings that were decided on another model version or table, and that nobody has looked at since."""
    return sum(
        not one.looked for one in _Measuring(audit, desk, context.model_copy(update={"alongside": None})).all().findings
    )


OF_ANOTHER = PartAgain(
    called="",
    verdict="cannot be told",
    sentence="What is predicted, or which decision is favourable, is another now, so the numbers of then and now are not of the same thing.",
    again=None,
)


class _Read(NamedTuple):
    """Evidence, or why there is none yet."""

    found: Evidence | None
    waiting: bool


class _Measuring:
    """Of one audit in one context."""

    def __init__(self, audit: Audit, desk: Desk, context: Context):
        self.audit, self.desk, self.context = audit, desk, context
        self.spec = Spec.model_validate(audit.spec)
        self.table = current_table(audit).digest
        self.models = {str(one.id): one for one in audit.models.order_by(ModelVersion.created)}
        own = self.models.get(context.model or "")
        self.model = own.digest if own else None
        self.known: dict[tuple[str, str | None], _Read] = {}
        digests, now = now_of(audit, context)
        self.footing = footing_of(digests, now, self.spec)

    def all(self) -> AgainView:
        rows = list(self.audit.judgements.order_by(Judgement.changed.desc()))
        by_name = {row.finding: row for row in rows}
        told: dict[str, DecidedBefore] = {}
        for row in rows:
            seen = Seen.model_validate(row.seen) if row.seen else None
            if (
                seen is None
                or not seen.fact.name
                or not (lapsed := self._lapsed(row, seen))
                or seen.context.row_set != self.context.row_set
            ):
                continue
            by_hand = not any(part.gap for part in seen.fact.parts) and seen.fact.name.startswith("raised ")
            read = _Read(None, False) if by_hand else self._read(seen.method)
            name = self._today(row.finding, seen, read.found)
            if name not in told:
                told[name] = self._measured(row, seen, read, name, by_name.get(name), lapsed)
        waiting = any(read.waiting for read in self.known.values())
        return AgainView(waiting=waiting, findings=list(told.values()))

    def _is_of_today(self, seen: Seen) -> bool:
        return (seen.digests.table, seen.digests.model) == (self.table, self.model)

    def _lapsed(self, row: Judgement, seen: Seen) -> str:
        """What is another now than when it was decided; empty where the decision holds."""
        if seen.digests.model != self.model:
            return "the model version"
        return lapsed_because(judged(row), self._fact(seen), self.footing)

    def _fact(self, seen: Seen) -> Fact:
        """The same finding as it is found now; as it was where it is not."""
        found = None if seen.fact.name.startswith("raised ") else self._read(seen.method).found
        facts = gathered(found.findings(self.spec), {one.finding for one in self.audit.apart}) if found else ()
        return next((one for one in facts if one.name == seen.fact.name), seen.fact)

    @staticmethod
    def _today(name: str, seen: Seen, now: Evidence | None) -> str:
        """What a finding is called in the evidence of today."""
        return name.removesuffix(seen.ending) + now.ending if now and name.endswith(seen.ending) else name

    def _read(self, method: str, alongside: str | None = None) -> _Read:
        """A method as the findings of every audit are read, with another model version beside."""
        if (method, alongside) not in self.known:
            self.known[method, alongside] = self._asked(method, alongside)
        return self.known[method, alongside]

    def _asked(self, method: str, alongside: str | None) -> _Read:
        settings = METHODS[method].unasked(self.spec) if method in METHODS else None
        if settings is None:
            return _Read(None, False)
        besides = METHODS[method].besides
        if besides is not None:
            settings = {**settings, **besides(self._decided(method))}
        beside = Alongside(model=alongside) if alongside else None
        context = self.context.model_copy(update={"alongside": beside})
        board = self.desk.board
        row = board.known(self.audit, context, method, dict(settings))
        asks = METHODS[method].quick or besides is not None
        if row is None and asks and not board.failed(self.audit, context, method, dict(settings)):
            row = board.reading(self.audit, context, method, dict(settings))
        if isinstance(row, EvidenceRow):
            return _Read(Evidence.model_validate(shelf.whole(row, self.desk.files)), False)
        return _Read(None, row is not None)

    def _decided(self, method: str) -> list[Finding]:
        """Parts of what was decided about findings of a method, on other versions or tables."""
        told = [Seen.model_validate(row.seen) for row in self.audit.judgements.order_by(Judgement.id) if row.seen]
        return [
            part.model_copy(update={"name": part.name.removesuffix(seen.ending)})
            for seen in told
            if seen.method == method and not self._is_of_today(seen)
            for part in seen.fact.parts
        ]

    def _measured(
        self, row: Judgement, seen: Seen, read: _Read, name: str, today: Judgement | None, lapsed: str
    ) -> DecidedBefore:
        now = read.found
        there, parts = False, list[PartAgain]()
        if now is not None:
            apart = {one.finding for one in self.audit.apart}
            flagged = [one for one in now.findings(self.spec)]
            there = any(fact.name == name for fact in gathered(flagged, apart))
            other = seen.problem and seen.problem != self.footing.problem
            parts = [OF_ANOTHER] if other else list(self._parts(seen, now, {one.name for one in flagged}))
        elif not read.waiting:
            why = (
                "it was raised by hand on a figure of then"
                if seen.fact.name.startswith("raised ")
                else "it has not been read here"
            )
            said = f"It cannot be told what became of it, since {why}."
            parts = [PartAgain(called="", verdict="cannot be told", sentence=said, again=None)]
        since = Seen.model_validate(today.seen) if today is not None and today.seen else None
        then = next((one for one in self.models.values() if one.digest == seen.digests.model), None)
        return DecidedBefore(
            finding=name,
            statement=seen.fact.statement,
            standing=standing(row),
            author=row.author,
            decided=row.changed,
            model=then.name if then else "",
            other_model=seen.digests.model != self.model,
            other_table=seen.digests.table != self.table,
            why=lapsed,
            verdict=min((part.verdict for part in parts), key=WORST.index, default="cannot be told"),
            parts=parts,
            there=there,
            looked=since is not None and today is not None and not self._lapsed(today, since),
            evidence=now.key if now else "",
            number=today.number if today else 0,
        )

    def _parts(self, seen: Seen, now: Evidence, flagged: set[str]) -> Iterator[PartAgain]:
        measured = now.measured()
        for part in seen.fact.parts:
            name = self._today(part.name, seen, now)
            if part.gap is None:
                verdict: Verdict = "same" if name in flagged else "gone"
                said = "It is still found." if name in flagged else "It is not found any more."
                yield PartAgain(called=part.called, verdict=verdict, sentence=said, again=None)
                continue
            found = compare(part.gap, measured.get(name), self._paired(seen, name), part.reference)
            yield PartAgain(called=_called(part), verdict=found.verdict, sentence=found.sentence, again=found)

    def _paired(self, seen: Seen, name: str) -> Estimate | None:
        """The change where both versions read the same rows; None where the rows are others."""
        if seen.digests.table != self.table or not METHODS[seen.method].reads_alongside:
            return None
        then = next((key for key, one in self.models.items() if one.digest == seen.digests.model), None)
        read = self._read(seen.method, then) if then else _Read(None, False)
        one = read.found.measured().get(name) if read.found else None
        return one.change if one is not None else None


def _called(part: Finding) -> str:
    return f"{part.called} of {part.group}" if part.called else ""
