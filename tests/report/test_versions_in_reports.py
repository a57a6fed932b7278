"""Candidates and the choice of a version in a report: who reads them, what is said, and that text stays text."""

from __future__ import annotations

from dataclasses import replace

import pytest
from markupsafe import escape
from tests.core.test_remedies import GAP, PLAIN, REWEIGHED, worth
from tests.report.test_render import DIGESTS, HOSTILE, subject_of

from zerotilt.core.candidates.standing import stand
from zerotilt.core.meaning import Spec
from zerotilt.core.work import Work
from zerotilt.report.compose import gather
from zerotilt.report.render import Cover, render


@pytest.fixture(scope="module")
def made():
    subject = subject_of()
    return subject, gather(subject, DIGESTS, Work(), [], explained=30)


def cover(**record) -> Cover:
    return Cover("Claims", 1, "table.csv", "t" * 64, 300, "linear 1", "today", versions=record or None)


def record(spec: Spec, choice: dict | None = None) -> dict:
    losses = (0.50, 0.52, 0.51, 0.53, 0.52)
    told = [
        ("linear 1", PLAIN, worth(losses, (-0.40, -0.41, -0.39, -0.40, -0.41))),
        (HOSTILE, REWEIGHED, worth(losses, (-0.60, -0.61, -0.59, -0.60, -0.60))),
    ]
    found = stand(spec, told, gap=GAP[0], column=GAP[1], group=GAP[2], reference=GAP[3])
    return {
        "choice": choice,
        "reading": list(found.reading),
        "remedies": list(found.remedies_said),
        "table": found.table.model_dump(mode="json"),
        "gap": found.gap,
        "looks": 2,
    }


CHOICE = {
    "name": "linear 1", "digest": "d" * 64, "reason": f"It is plain {HOSTILE}", "traded": "some accuracy", "said": ["It led."],
    "author": "Ana", "made": "27 November 2026",
}  # fmt: skip


def test_the_choice_its_reason_and_the_candidates_stand_in_the_full_report(made):
    subject, bundle = made
    html = render(bundle, subject, cover(**record(subject.spec, CHOICE))).html
    assert "<b>Chosen: linear 1.</b> It is plain &lt;b onmouseover" in html and '<b onmouseover="x">' not in html
    assert "Given up for it: some accuracy. Decided by Ana on 27 November 2026." in html
    assert "What was known then:" in html and "<li>It led.</li>" in html
    assert "−60.0 points (" in html and "It is larger: its size changes by +19.8 points" in html
    assert "Somebody has looked at rows put aside 2 times." in html and "and other models than this one" not in html


def test_what_was_known_at_the_choice_is_not_told_twice(made):
    subject, bundle = made
    kept = record(subject.spec)
    now = kept["reading"][0]
    same = render(bundle, subject, cover(**record(subject.spec, CHOICE | {"said": [now]}))).html
    assert same.count(str(escape(now))) == 1 and "What was known then is what is said below." in same
    more = render(bundle, subject, cover(**record(subject.spec, CHOICE | {"said": [now, "It led."]}))).html
    assert more.count(str(escape(now))) == 1 and "What was known then, besides what is said below:" in more


def test_deciders_read_the_choice_without_the_table_and_nobody_else_reads_it(made):
    subject, bundle = made
    told = cover(**record(subject.spec, CHOICE))
    summary, public = (render(bundle, subject, told, reader=reader).html for reader in ("summary", "public"))
    assert "Chosen: linear 1." in summary and "On its training rows" not in summary
    assert "Chosen: linear 1." not in public and "Versions and their choice" not in public


def test_where_nothing_was_trained_or_chosen_nothing_stands(made):
    subject, bundle = made
    html = render(bundle, subject, cover()).html
    assert "Versions and their choice" not in html and "and other models than this one" in html
    alone = render(
        bundle, subject, replace(cover(), versions=record(subject.spec) | {"table": None}), preview=False
    ).html
    assert "Versions and their choice" in alone and "Chosen:" not in alone
