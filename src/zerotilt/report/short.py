"""The first page in a few sentences: what was examined, how good it is, what was found, how sure, decided, and open."""

from __future__ import annotations

from collections import Counter
from typing import NamedTuple, cast

from zerotilt.core import membership, words
from zerotilt.core.evidence import Evidence
from zerotilt.core.findings import OPEN, Fact, Standing
from zerotilt.core.groups.disparity import TiltResult
from zerotilt.core.groups.tilt_said import rule, wanting
from zerotilt.core.meaning import Role
from zerotilt.core.subject import Subject
from zerotilt.report.compose import Bundle

DECIDED = {
    "accepted": "accepted with a reason",
    "to mend": "to be mended",
    "mended": "mended",
    "watched": "watched",
}


class Sentence(NamedTuple):
    """One of them, what it is about, and the evidence that it rests on."""

    about: str
    text: str
    evidence: Evidence | None = None


def sentences(
    bundle: Bundle, subject: Subject, model: str | None, table: str, left_out: int = 0, whole: Bundle | None = None
) -> list[Sentence]:
    """All of them, in their order.

    Parameters
    ----------
    model : name of the version; None where predictions were recorded. table : its name.
    whole : what the full report says, where this one leaves things out.
    """
    compared = bundle.evidence_of("tilt")
    tilt = cast(TiltResult, compared.typed) if compared else None
    facts = bundle.all_facts()
    return [
        Sentence("Examined", _examined(bundle, subject, model, table, tilt), bundle.needed("performance")),
        Sentence(
            "How good" if subject.spec.knows_outcome else "How decided",
            bundle.needed("performance").read(subject.spec).text,
            bundle.needed("performance"),
        ),
        Sentence("Found", _found(facts, tilt, subject, left_out), compared),
        Sentence("How sure", _sure(tilt, subject), compared),
        Sentence("Decided", _decided((whole or bundle).all_facts())),
        Sentence("Open", _open((whole or bundle).all_facts(), bundle, facts)),
    ]


def _examined(bundle: Bundle, subject: Subject, model: str | None, table: str, tilt: TiltResult | None) -> str:
    spec, read = subject.spec, bundle.needed("performance")
    what = f"{subject.kind.raises.removesuffix(' of ')} {'' if subject.kind.raises.endswith('that ') else 'of '}"
    about = f" for the {what.strip()} {spec.event_phrase}"
    if subject.kind.classed:
        about = f" for {words.title(spec.target_name)}"
    who = f"The model “{model}”" if model else "Recorded scores"
    if not model and spec.only(Role.score) is None:
        who, about = "Recorded decisions", f" about {words.title(spec.target_name)}" if spec.knows_outcome else ""
    groups = (
        [words.title(one.attribute) for one in tilt.attributes if one.attribute != membership.SEGMENTS] if tilt else []
    )
    compared = f", and groups of {words.listing(groups)} were compared" if groups else ""
    verb = "was" if model else "were"
    return (
        f"{who}{about} {verb} examined on {words.plural(read.rows, 'row')} of “{table}” "
        f"({read.rows_described.rstrip('.')}){compared}."
    )


def _found(facts: list[tuple[Fact, Standing]], tilt: TiltResult | None, subject: Subject, left_out: int) -> str:
    if tilt is None and not facts:
        return "No column makes groups, so nothing is said about groups of people."
    if not facts and left_out and tilt is not None:
        return (
            f"No finding came of the {words.plural(len(tilt.disparities), 'comparison')} printed here; nothing is told of "
            "comparisons of groups that are left out."
        )
    if not facts:
        if tilt is not None and not tilt.tested:
            return (
                f"Nothing could be tested, since {wanting(tilt, subject.spec.wording)}; that nothing is flagged says "
                "nothing about the groups."
            )
        return (
            f"No finding came of {words.plural(len(tilt.disparities) if tilt else 0, 'comparison')}; gaps smaller than the "
            "limits, or that so many rows could not show, may be there all the same."
        )
    severe = sum(fact.severity == "high" for fact, _ in facts)
    of_groups = [fact for fact, _ in facts if fact.kind == "disparity"]
    # people first: where a place of errors is as severe as a gap, the gap is told
    first = min((fact for fact, _ in facts), key=lambda fact: (RANK.index(fact.severity), fact.kind != "disparity"))
    of_them = f", {_of_high(severe, len(facts))}" if severe else ""
    lead = "It reads" if len(facts) == 1 else "The most severe reads"
    return (
        f"{words.opening(words.plural(len(facts), 'finding'))} came of it{of_them}.{_of_groups(of_groups, len(facts), tilt)} {lead}: "
        f"{first.parts[0].statement}"
    )


RANK = ("high", "medium", "low")


def _of_high(severe: int, many: int) -> str:
    if severe == many:
        return "of high severity" if many == 1 else "all of high severity"
    return f"{words.count(severe)} of them of high severity"


def _of_groups(facts: list[Fact], many: int, tilt: TiltResult | None) -> str:
    """What came of comparing groups, where there is more to tell than that."""
    if tilt is None or not tilt.disparities or len(facts) == many:
        return ""
    compared = words.plural(len(tilt.disparities), "comparison")
    if facts:
        return f" {words.count(len(facts))} of them {_are(len(facts))} about groups of people."
    if not tilt.tested:
        return " No comparison of groups could be tested."
    return f" None is about groups: none of {compared} of groups is flagged."


def _sure(tilt: TiltResult | None, subject: Subject) -> str:
    level = words.level(subject.spec.policy.confidence)
    if tilt is None:
        return f"Intervals are given at {level}."
    told = Counter(one.status for one in tilt.disparities)
    compared = len(tilt.disparities)
    if not compared:
        return f"There is one group only, so nothing was compared. Intervals are given at {level}."
    parts = [
        f"{words.count(told['flagged'])} of {words.plural(compared, 'comparison')} {_are(told['flagged'])} flagged"
    ]
    if told["uncertain"]:
        parts.append(f"{words.count(told['uncertain'])} {_are(told['uncertain'])} undecided")
    if told["too_few"]:
        parts.append(
            f"{words.count(told['too_few'])} {'has' if told['too_few'] == 1 else 'have'} too few rows to be tested"
        )
    if told["not_tested"]:
        parts.append(
            f"{words.count(told['not_tested'])} {_are(told['not_tested'])} of segments found by their errors and not tested"
        )
    return f"A comparison is flagged where it shows {rule(tilt, subject.spec.wording)}: {words.listing(parts)}. Intervals are given at {level}."


def _are(number: int) -> str:
    return "is" if number == 1 else "are"


def _decided(facts: list[tuple[Fact, Standing]]) -> str:
    if not facts:
        return "There was nothing to decide."
    told = Counter(standing.decision for _, standing in facts if standing.decision != "open")
    if not told:
        return "Nobody has decided about any finding yet."
    parts = [f"{words.count(n)} {'is' if n == 1 else 'are'} {DECIDED[decision]}" for decision, n in told.items()]
    return f"Of {words.plural(len(facts), 'finding')}, {words.listing(parts)}."


def _open(facts: list[tuple[Fact, Standing]], bundle: Bundle, here: list[tuple[Fact, Standing]]) -> str:
    """``here``: those of them that are told of in this report."""
    still = [fact for fact, standing in facts if standing.decision == OPEN.decision]
    told = {fact.name for fact, _ in here}
    elsewhere = sum(fact.name not in told for fact in still)
    severe = sum(fact.severity == "high" for fact in still)
    said = (
        f"{words.opening(words.plural(len(still), 'finding'))} {'is' if len(still) == 1 else 'are'} open"
        + (f", {words.count(severe)} of high severity" if severe else "")
        + (f"; {words.count(elsewhere)} of them {_are(elsewhere)} told of in the full report only" if elsewhere else "")
        if still
        else "No finding is open"
    )
    absent = [method.place.section.lower() for method, _ in bundle.absent if method.place is not None]
    return f"{said}; not examined: {words.listing(list(dict.fromkeys(absent)))}." if absent else f"{said}."
