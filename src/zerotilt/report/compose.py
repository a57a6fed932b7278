"""Gather the evidence a report needs, computing only what is not there yet."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from zerotilt.core.evidence import Digests, Evidence, compute, footing_of, key
from zerotilt.core.findings import (
    Fact,
    Finding,
    Footing,
    Judged,
    Lapsed,
    Standing,
    gathered,
    lapsed_of,
    standing_of,
    told_twice,
)
from zerotilt.core.meaning import Spec
from zerotilt.core.method import Method
from zerotilt.core.methods import METHODS
from zerotilt.core.reading import Reading
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

SEED = 20


@dataclass(frozen=True)
class Kept:
    """An item of the dossier: evidence that a person kept, with the note on it."""

    evidence: Evidence
    note: str = ""
    changed: tuple[str, ...] = ()
    """What has changed since it was computed."""
    spec: Spec | None = None
    """The meaning when it was kept: numbers keep the words that they were told with. None of earlier versions."""


def as_kept(evidence: Evidence, then: Spec | None, now: Spec) -> Reading:
    """The sentence of a kept figure in the words of then; as it was computed where nobody wrote down which those were."""
    if then is not None:
        return evidence.read(then)
    return evidence.reading or evidence.read(now)


@dataclass(frozen=True)
class Raised:
    """A finding that a person raised on a figure."""

    finding: Finding
    evidence: Evidence
    author: str = ""
    changed: tuple[str, ...] = ()
    """What has changed since the figure that it was raised on was computed."""


@dataclass(frozen=True)
class Decisions:
    """What people decided about findings, took out of the facts they were gathered into, or raised by hand."""

    judged: Mapping[str, Judged] = field(default_factory=dict)
    apart: frozenset[str] = frozenset()
    raised: tuple[Raised, ...] = ()

    def of(self, findings: Sequence[Finding], footing: Footing | None) -> list[tuple[Fact, Standing]]:
        """Findings gathered into facts, with how each stands on what it is found on."""
        return [(fact, standing_of(fact, self.judged, footing)) for fact in gathered(findings, self.apart)]


@dataclass(frozen=True)
class Section:
    """One method's place in the report: what was read, each with its heading where there are several."""

    method: Method
    items: tuple[tuple[Evidence, str], ...]


@dataclass
class Bundle:
    """Everything a report says, as evidence."""

    spec: Spec
    sections: tuple[Section, ...]
    footing: Footing
    """What its findings are found on."""
    absent: tuple[tuple[Method, str], ...] = ()
    """What was not read, and why."""
    """Methods with a place in the report that could not be read: they need a model."""
    kept: list[Kept] = field(default_factory=list)
    decisions: Decisions = field(default_factory=Decisions)
    fresh: list[Evidence] = field(default_factory=list)
    """What was computed now and is worth storing."""

    def of(self, method: str) -> list[Evidence]:
        """What was read with a method, in the order of the report."""
        return [found for section in self.sections if section.method.name == method for found, _ in section.items]

    def evidence_of(self, method: str) -> Evidence | None:
        """What was read with a method that is read once; None where it was not."""
        return next(iter(self.of(method)), None)

    def needed(self, method: str) -> Evidence:
        """The same of a method that every audit reads."""
        if (found := self.evidence_of(method)) is None:
            raise ValueError(f"{method} was not read")
        return found

    def by_key(self) -> dict[str, Evidence]:
        """Every piece of evidence once, in the order of the report."""
        found = [one for section in self.sections for one, _ in section.items]
        found += [item.evidence for item in self.kept]
        found += [one.evidence for one in self.decisions.raised]
        return {evidence.key: evidence for evidence in found}

    def findings(self, method: str) -> list[Finding]:
        """What a method's results give rise to."""
        return [one for found in self.of(method) for one in found.findings(self.spec)]

    def facts(self, method: str) -> list[tuple[Fact, Standing]]:
        """The same gathered into facts, with how each stands."""
        return self.decisions.of(self.findings(method), self.footing)

    def all_facts(self) -> list[tuple[Fact, Standing]]:
        """Everything that somebody has to decide about, what was raised by hand last."""
        found = [one for section in self.sections for one in self.facts(section.method.name)]
        twice = told_twice(fact for fact, _ in found)
        found = [(fact, stands) for fact, stands in found if fact.name not in twice or stands.decision != "open"]
        return found + self.decisions.of([one.finding for one in self.decisions.raised], self.footing)

    def lapsed(self, fact: Fact) -> Lapsed | None:
        """What was decided about a fact on another footing, and does not hold any more."""
        return lapsed_of(fact, self.decisions.judged, self.footing)

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
    decisions: Decisions | None = None,
) -> Bundle:
    """All evidence of a report: every method that has a place there, in the order of the methods.

    Parameters
    ----------
    known : evidence already computed, by key; it is used and not computed again.
    explained : rows read by each explanation; the methods' own defaults when None.
    """
    known, fresh = known or {}, []
    sections: list[Section] = []
    absent: list[tuple[Method, str]] = []
    so_far: dict[str, list[Any]] = {}
    for method in METHODS.values():
        if method.place is None:
            continue
        if (lacking := method.lacking(subject)) is not None:
            absent.append((method, lacking.message))
            continue
        items = []
        for asked, heading in method.place.asked(subject, so_far, explained):
            settings = method.settings.model_validate(asked)
            found = known.get(key(method, digests, subject.context, settings, SEED))
            if found is None:
                found = compute(subject, digests, method.name, settings, SEED, work)
                fresh.append(found)
            items.append((found.in_words(subject.spec), heading))
        so_far[method.name] = [found.typed for found, _ in items]
        sections.append(Section(method, tuple(items)))
    footing = footing_of(digests, subject.context, subject.spec)
    return Bundle(
        subject.spec, tuple(sections), footing, tuple(absent), list(kept or []), decisions or Decisions(), fresh
    )
