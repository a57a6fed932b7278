"""What a later report says otherwise than an earlier one: sentence by sentence, and number by number."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from difflib import SequenceMatcher
from typing import Any, Literal

from lxml import html as tree

from zerotilt.core import words
from zerotilt.core.again import change_between, change_said
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups.metrics import METRICS, label
from zerotilt.core.stats.estimates import Estimate

MOST_SENTENCES = 2_000
"""Sentences of a section that are set side by side."""
MOST_PAIRED = 40
"""Sentences in a row that were exchanged, of which each is set beside the one that it is most like."""
ALIKE = 0.5
"""From which likeness on two sentences are one that was changed."""


class SentenceChange(Frozen):
    """A sentence that one of two reports has and the other has not, or has otherwise."""

    section: str
    before: str
    now: str


class NumberChange(Frozen):
    """A number of both reports that is not the same in both."""

    name: str
    before: Estimate
    now: Estimate
    scale: Literal["ratio", "difference"]
    change: Estimate
    """This less the one before, or this ratio over that, with its interval."""
    beyond: bool
    """Whether the whole interval of the change is on one side of none."""
    sentence: str


class Changes(Frozen):
    """What changed between two reports."""

    sentences: tuple[SentenceChange, ...]
    numbers: tuple[NumberChange, ...]
    same: int
    """Numbers that are the same in both."""
    only_before: tuple[str, ...]
    only_now: tuple[str, ...]
    same_table: bool


def changes(before: tuple[str, Mapping[str, Any]], now: tuple[str, Mapping[str, Any]]) -> Changes:
    """Between two reports, each as its HTML and its ``audit.json``.

    Intervals of changes are from the two numbers' own (Zou & Donner 2008), as of different rows: where both reports read the
    same rows, which move both numbers alike, they are wider than need be.
    """
    then, today = (dict(_numbers(one[1])) for one in (before, now))
    both = [name for name in today if name in then]
    changed = [_number(name, then[name][0], *today[name]) for name in both if then[name][0] != today[name][0]]
    return Changes(
        sentences=tuple(_sentences(before[0], now[0])),
        numbers=tuple(sorted(changed, key=lambda one: not one.beyond)),
        same=len(both) - len(changed),
        only_before=tuple(name for name in then if name not in today),
        only_now=tuple(name for name in today if name not in then),
        same_table=before[1].get("table", {}).get("sha256") == now[1].get("table", {}).get("sha256"),
    )


Scale = Literal["ratio", "difference"]


def _numbers(told: Mapping[str, Any]) -> Iterator[tuple[str, tuple[Estimate, Scale, bool]]]:
    """Every number of an ``audit.json`` that has an interval, by its name, and whether it is a share; of releases before, too."""
    for metric, found in (told.get("performance") or {}).items():
        yield f"performance / {_label(metric)}", (_estimate(found), "difference", _share(metric))
    for one in told.get("drivers") or []:
        for name, said in (("permutation", "loss added"), ("mean_abs_shapley", "mean absolute Shapley value")):
            if name in one:
                yield f"drivers / {words.title(one['feature'])} / {said}", (_estimate(one[name]), "difference", False)
    for group in told.get("groups") or []:
        for metric, found in group["metrics"].items():
            name = f"{words.title(group['attribute'])} / {group['group']} / {_label(metric)}"
            yield name, (_estimate(found), "difference", _share(metric))
    for one in told.get("disparities") or []:
        scale: Scale = one.get("judged", "ratio")
        name = f"{words.title(one['attribute'])} / {one['group']} against {one['reference']} / {_label(one['metric'])} / {scale}"
        yield name, (_estimate(one[scale]), scale, _share(one["metric"]))


def _label(metric: str) -> str:
    """A metric in words; one that is not known any more by its name."""
    known = metric.split(" · ")[0] in METRICS
    return label(metric).lower() if known else metric.replace("_", " ")


def _share(metric: str) -> bool:
    name = metric.split(" · ")[0]
    return name in METRICS and METRICS[name].unit == "share"


def _estimate(found: Mapping[str, Any]) -> Estimate:
    return Estimate(**{name: found.get(name) for name in ("value", "low", "high")})


def _number(name: str, before: Estimate, now: Estimate, scale: Scale, share: bool) -> NumberChange:
    change = change_between(before, now, scale)
    none = 1.0 if scale == "ratio" else 0.0
    beyond = change.low is not None and change.high is not None and not change.low <= none <= change.high
    return NumberChange(
        name=name, before=before, now=now, scale=scale, change=change, beyond=beyond,
        sentence=_said(name, before, now, change, scale, beyond, share),
    )  # fmt: skip


def _said(name: str, before: Estimate, now: Estimate, change: Estimate, scale: Scale, beyond: bool, share: bool) -> str:
    show = words.ratio if scale == "ratio" else words.percent if share else words.quantity
    was, is_ = ("not defined" if one.value is None else show(one.value) for one in (before, now))
    how = change_said(change, scale, share)
    return (
        f"{name}: {was} before, {is_} now{f', {how}' if how else ''}{'; not told apart' if how and not beyond else ''}."
    )


def _sentences(before: str, now: str) -> Iterator[SentenceChange]:
    then, today = (_by_section(one) for one in (before, now))
    for section in dict.fromkeys([*today, *then]):
        old, new = (one.get(section, ("", []))[1][:MOST_SENTENCES] for one in (then, today))
        title = (today.get(section) or then[section])[0]
        for kind, i, j, k, m in SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
            if kind != "equal":
                yield from _paired(title, old[i:j], new[k:m])


def _paired(section: str, old: list[str], new: list[str]) -> Iterator[SentenceChange]:
    """Sentences that were exchanged, each beside the one that it is most like; the rest alone."""
    left = list(old)
    for sentence in new:
        near = left if len(old) <= MOST_PAIRED else left[:1]
        like = max(near, key=lambda one: SequenceMatcher(None, one, sentence).quick_ratio(), default=None)
        if like is not None and SequenceMatcher(None, like, sentence).ratio() >= ALIKE:
            left.remove(like)
            yield SentenceChange(section=section, before=like, now=sentence)
        else:
            yield SentenceChange(section=section, before="", now=sentence)
    for sentence in left:
        yield SentenceChange(section=section, before=sentence, now="")


SPOKEN = ("p", "li", "blockquote", "figcaption", "h3", "caption")


def _by_section(html: str) -> dict[str, tuple[str, list[str]]]:
    """Sentences of each section by its name, with its heading; marks of evidence are left out, since they are only numbered."""
    page = tree.document_fromstring(html)
    for mark in page.xpath("//a[contains(@class, 'trace')] | //nav | //style | //svg"):
        mark.drop_tree()
    found: dict[str, tuple[str, list[str]]] = {}
    for section in page.xpath("//section"):
        if section.get("hidden") is not None or section.xpath("ancestor::section"):
            continue
        title = "".join(section.xpath("string(.//h2[1])")).strip()
        said = [
            sentence
            for part in section.iter(*SPOKEN)
            if not any(parent.tag in SPOKEN for parent in part.iterancestors())
            for sentence in _split(part.text_content())
        ]
        name = section.get("data-piece") or title
        found[name] = (title or "Text", [*found.get(name, ("", []))[1], *said])
    return found


NO_END = r"(?<!\b[A-Z]\.)(?<!\b(?:Dr|Mr|Ms|St|No|vs|cf)\.)(?<!\b(?:Mrs)\.)(?<!\b(?:Prof)\.)(?<!\be\.g\.)(?<!\bi\.e\.)"
"""A full stop after an initial or one of these ends a name or an abbreviation, no sentence."""


def _split(text: str) -> list[str]:
    plain = re.sub(r"\s+", " ", text).strip()
    return [one for one in re.split(rf"{NO_END}(?<=[.!?])\s+(?=[A-Z0-9“(])", plain) if one]
