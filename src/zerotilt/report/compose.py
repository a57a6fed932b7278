"""Gather the evidence a report needs, computing only what is not there yet."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from pydantic import BaseModel

from zerotilt.core import cases, findings
from zerotilt.core.contributions.ladder import LadderSettings
from zerotilt.core.drivers.expectations import ExpectationsSettings
from zerotilt.core.drivers.ranking import DriversSettings
from zerotilt.core.evidence import Digests, Evidence, compute, key, method_named
from zerotilt.core.groups.performance import PerformanceSettings
from zerotilt.core.groups.tilt import TiltSettings
from zerotilt.core.response.partial import ResponseSettings
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

SEED = 20
RESPONSES = 3


@dataclass(frozen=True)
class Kept:
    """An item of the dossier: evidence that a person kept, with the note on it."""

    evidence: Evidence
    note: str = ""
    changed: tuple[str, ...] = ()
    """What has changed since it was computed."""


@dataclass(frozen=True)
class Judged:
    decision: str
    reason: str


@dataclass
class Bundle:
    """Everything a report says, as evidence."""

    performance: Evidence
    tilt: Evidence | None
    drivers: Evidence | None
    expectations: Evidence | None
    responses: list[Evidence]
    ladders: list[tuple[Evidence, str]]
    kept: list[Kept] = field(default_factory=list)
    judgements: dict[str, Judged] = field(default_factory=dict)
    """What people decided about findings, by the finding's key."""
    fresh: list[Evidence] = field(default_factory=list)
    """What was computed now and is worth storing."""
    unit: str = ""

    def by_key(self) -> dict[str, Evidence]:
        """Every piece of evidence once, in the order of the report."""
        found = [
            self.performance,
            self.drivers,
            self.expectations,
            *self.responses,
            *(ladder for ladder, _ in self.ladders),
            self.tilt,
        ]
        found += [item.evidence for item in self.kept]
        return {evidence.key: evidence for evidence in found if evidence is not None}

    @property
    def contradictions(self) -> list[tuple[str, Judged]]:
        """Contradicted expectations as sentences, with what was decided about each."""
        found = self.expectations
        if found is None:
            return []
        unjudged = Judged("open", "")
        return [
            (text, self.judgements.get(name, unjudged)) for name, text in findings.of_expectations(found, self.unit)
        ]

    @property
    def numbered(self) -> dict[str, str]:
        """A short name, E1, E2 …, for every piece of evidence, by key."""
        return {key: f"E{number}" for number, key in enumerate(self.by_key(), 1)}


def gather(
    subject: Subject,
    digests: Digests,
    work: Work,
    kept: list[Kept] | None = None,
    known: Mapping[str, Evidence] | None = None,
    explained: int | None = None,
    judgements: Mapping[str, Judged] | None = None,
) -> Bundle:
    """All evidence of a report.

    Parameters
    ----------
    known : evidence already computed, by key; it is used and not computed again.
    explained : rows read by each explanation; the methods' own defaults when None.
    """
    known, kept = known or {}, kept or []
    fresh: list[Evidence] = []

    def evidence(name: str, settings: BaseModel) -> Evidence:
        wanted = key(method_named(name), digests, subject.context, settings, SEED)
        if wanted in known:
            return known[wanted]
        found = compute(subject, digests, name, settings, SEED, work)
        fresh.append(found)
        return found

    performance = evidence("performance", PerformanceSettings())
    tilt = evidence("tilt", TiltSettings()) if subject.spec.groupings else None
    drivers, expectations, responses, ladders = None, None, [], []
    if subject.predictor is not None:
        drivers = evidence("drivers", DriversSettings(explained=explained) if explained else DriversSettings())
        if subject.spec.expectations:
            expectations = evidence("expectations", ExpectationsSettings(expected=subject.spec.expectations))
        read = {"rows": explained} if explained else {}
        top = [driver["feature"] for driver in drivers.result["drivers"] if driver["loss_depends"]][:RESPONSES]
        responses = [evidence("response", ResponseSettings(feature=feature, **read)) for feature in top]
        ladders = [(evidence("ladder", LadderSettings(row=row)), reason) for row, reason in cases.examples(subject)]
    return Bundle(
        performance,
        tilt,
        drivers,
        expectations,
        responses,
        ladders,
        kept,
        dict(judgements or {}),
        fresh,
        subject.spec.wording.unit,
    )
