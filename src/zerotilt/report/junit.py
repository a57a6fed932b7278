"""What came of an audit as JUnit XML, one case for each rule of the flag policy, as builds show it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from xml.etree import ElementTree as xml

from zerotilt.core import words
from zerotilt.core.groups.disparity import UNTOLD, Disparity, TiltResult
from zerotilt.core.groups.metrics import label
from zerotilt.core.groups.tilt_said import sentence
from zerotilt.core.meaning import Wording
from zerotilt.report.baseline import Held

NOT_TEXT = re.compile(r"[^\t\n\r\x20-\uD7FF\uE000-\uFFFD\U00010000-\U0010FFFF]")
"""Signs that XML cannot hold."""


def written(tilt: TiltResult | None, wording: Wording, title: str, held: Held | None = None) -> bytes:
    """One suite of the policy's limits, and one of the baseline where there is one.

    A case is one metric of one grouping under its limits. It fails with the sentences of what is flagged; where no comparison
    of it has rows enough it is skipped, with the reason, and does not count as passed.
    """
    root = xml.Element("testsuites", name=_text(title))
    rules: dict[tuple[str, str], list[Disparity]] = {}
    for one in tilt.disparities if tilt else ():
        rules.setdefault((one.attribute, one.metric), []).append(one)
    suite = _suite(root, "limits of the flag policy")
    for (attribute, metric), found in rules.items():
        first = found[0]
        limits = f"{first.judged} within {words.quantity(first.low)} to {words.quantity(first.high)}"
        case = _case(suite, attribute, f"{label(metric).lower()}: {limits}")
        flagged = [one for one in found if one.status == "flagged"]
        if flagged and tilt is not None:
            _fails(
                suite,
                case,
                f"{words.plural(len(flagged), 'comparison')} flagged",
                [sentence(tilt, one, wording) for one in flagged],
            )
        elif all(one.status in UNTOLD for one in found):
            by_errors = all(one.status == "not_tested" for one in found)
            _skipped(suite, case, "found by its errors, and not tested" if by_errors else "too few rows to be tested")
    if held is not None:
        suite = _suite(root, "against the baseline")
        for attribute, metric in rules:
            case = _case(suite, attribute, f"{label(metric).lower()}: no gap has grown")
            if grown := [one.sentence for one in held.grown if (one.attribute, one.metric) == (attribute, metric)]:
                _fails(suite, case, f"{words.plural(len(grown), 'gap')} grown", grown)
    for total in ("tests", "failures", "skipped"):
        root.set(total, str(sum(int(one.get(total, "0")) for one in root)))
    return xml.tostring(root, encoding="utf-8", xml_declaration=True)


def _suite(root: xml.Element, name: str) -> xml.Element:
    return xml.SubElement(root, "testsuite", name=name, tests="0", failures="0", errors="0", skipped="0")


def _case(suite: xml.Element, attribute: str, name: str) -> xml.Element:
    _count(suite, "tests")
    return xml.SubElement(suite, "testcase", classname=_text(words.title(attribute)), name=_text(name))


def _fails(suite: xml.Element, case: xml.Element, message: str, sentences: Sequence[str]) -> None:
    _count(suite, "failures")
    xml.SubElement(case, "failure", message=message, type="flagged").text = _text("\n".join(sentences))


def _skipped(suite: xml.Element, case: xml.Element, why: str) -> None:
    _count(suite, "skipped")
    xml.SubElement(case, "skipped", message=why)


def _count(suite: xml.Element, what: str) -> None:
    suite.set(what, str(int(suite.get(what, "0")) + 1))


def _text(text: str) -> str:
    return NOT_TEXT.sub("�", text)
