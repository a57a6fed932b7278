"""The drawings of what Drivers and Response found, as they stand in a report and in a notebook."""

from __future__ import annotations

import re
from xml.etree import ElementTree

import pytest
from matplotlib.figure import Figure

from zerotilt.core.evidence import Digests
from zerotilt.core.findings import Finding, Judged, Standing
from zerotilt.core.meaning import Context, Spec
from zerotilt.core.methods import METHODS
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work
from zerotilt.report import figures
from zerotilt.report.compose import Decisions, Raised, gather
from zerotilt.report.explanations import DRAWINGS, drawing_of
from zerotilt.report.render import Cover, render

SMALL = {
    "drivers": {"rows": 300, "repeats": 2, "explained": 10, "walks": 8},
    "side_by_side": {"rows": 300, "repeats": 2, "explained": 10, "walked": 10, "walks": 8},
    "spread": {"feature": "account_age", "colour": "sender_kind", "sampled": 40, "walks": 8},
    "expectations": {"expected": {"missed_scans": "falls", "ferry_legs": "none"}},
    "response": {"feature": "channel", "colour": "sender_kind"},
}


@pytest.fixture(scope="module")
def beside(demo, demo_subject):
    _claims, spec, models = demo
    forest = OnnxPredictor(models["random forest v2"], demo_subject.table, spec)
    other = Subject(spec, demo_subject.table, forest)
    return Subject(spec, demo_subject.table, demo_subject.predictor, Context(), other)


@pytest.mark.parametrize("name", SMALL)
def test_each_is_a_whole_drawing(beside, name):
    method = METHODS[name]
    settings = method.settings(**SMALL[name])
    result = method.compute(beside, settings, 1, Work())
    svg = figures.svg(drawing_of(method, result, beside.spec))
    root = ElementTree.fromstring(svg.replace("xlink:href", "href"))
    texts = [one.text for one in root.iter() if one.tag.endswith("text") and one.text]
    assert len(list(root.iter())) > 40 and len(texts) >= 3, "marks, and what they are"
    reading = method.say(result, beside.spec.wording, settings)
    assert reading.text and not re.search(r"\bnan\b|None|\bTrue\b|_", reading.text + reading.detail)


def test_every_method_has_a_drawing():
    plain = {name for name, method in METHODS.items() if method.picture is not None}
    assert plain | set(DRAWINGS) == set(METHODS) and not plain & set(DRAWINGS)


def test_contradictions_stand_in_the_report_with_what_was_decided(demo_subject):
    digests = Digests(table="t" * 64, spec=demo_subject.spec.digest(), model="m" * 64)
    first = gather(demo_subject, digests, Work(), explained=20)
    found = first.evidence_of("expectations")
    assert found.key in first.by_key()
    contradicted = [one.feature for one in found.typed.checked if one.contradicted]
    assert "ferry_legs" in contradicted and len(first.findings("expectations")) == len(contradicted)
    assert {standing.decision for _, standing in first.facts("expectations")} == {"open"}
    key = f"expected none: ferry_legs [{'m' * 64}]"
    mine = Raised(Finding(name="raised 1", kind="concern", statement="Look at <b> this."), found, "A. Reader")
    decided = Decisions(
        {key: Judged(standing=Standing(decision="to mend", reason="Leave <it> out.", owner="B."))}, raised=(mine,)
    )
    known = {found.key: found for found in first.by_key().values()}
    again = gather(demo_subject, digests, Work(), known=known, explained=20, decisions=decided)
    assert again.fresh == []
    cover = Cover("Skerry Post claims", 1, "claims.parquet", "t" * 64, 12_000, "gradient trees v3", made="today")
    html = render(again, demo_subject, cover).html
    assert "Decision: to mend; reason: Leave &lt;it&gt; out; seen to by B. <a" in html
    assert html.count("Nobody has decided about it yet.") == len(contradicted) - 1
    assert "Look at &lt;b&gt; this. Raised by A. Reader." in html
    others = len(again.facts("tilt")) + len(again.facts("pockets"))
    assert len(again.all_facts()) == len(contradicted) + others + 1
    amount = next(one for one in found.typed.checked if one.feature == "ferry_legs").moves
    assert f"Ferry legs was expected to have no effect; it moves the mean by {amount * 100:.1f} points." in html


@pytest.mark.parametrize(("start", "crossed"), [(0.49, True), (0.3, False), (0.505, False)])
def test_the_threshold_of_a_ladder_stops_where_it_would_cross_a_number(start, crossed):
    steps = [("missed scans 3", -0.12), ("ferry legs 2", 0.2)]
    drawing = figures.climbed(
        steps, ("baseline", start), ("this claim", start + 0.08), "probability", 0.5, Spec(columns=[])
    )
    axes = Figure().subplots()
    drawing.paint(axes)
    through = [one.get_ydata() for one in axes.lines if list(one.get_xdata()) == [0.5, 0.5]]
    drawn = [low <= 0 <= high for low, high in through]
    assert any(drawn) != crossed
    assert min(low for low, _ in through) == -0.5 and max(high for _, high in through) == 3.5
