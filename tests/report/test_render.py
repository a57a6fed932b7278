"""The report: figures that hold together, and text that stays text."""

import re
from dataclasses import replace
from xml.etree import ElementTree

import numpy as np
import pytest
from tests.core.systems import matrix, system

from zerotilt.core import words
from zerotilt.core.evidence import Digests, compute
from zerotilt.core.groups.disparity import TiltSettings
from zerotilt.core.groups.tilt import compare_groups
from zerotilt.core.meaning import Condition, FlagPolicy, GroupThreshold, Role, Rule, Segment, Tolerance, Wording
from zerotilt.core.work import Work
from zerotilt.report import figures
from zerotilt.report.auditfile import audit_file
from zerotilt.report.compose import Kept, gather
from zerotilt.report.render import Cover, render

DIGESTS = Digests(table="t" * 64, spec="s" * 64, model="m" * 64)
HOSTILE = '<b onmouseover="x">$a_1^2$</b>'


def subject_of(name="x0", group="g", model=True, n=300):
    rng = np.random.default_rng(0)
    x = rng.normal(size=(n, 3))
    columns = {name: x[:, 0], "x1": x[:, 1], "x2": x[:, 2], group: rng.choice(["a & b", "<i>c</i>", "=1+1"], n)}
    columns["y"] = (x[:, 0] + rng.normal(size=n) > 0).astype(int)
    roles = {group: Role.group}
    if model:
        return system(columns, lambda frame: 1 / (1 + np.exp(-matrix(frame)[:, 0])), [name, "x1", "x2"], roles=roles)
    columns["s"] = 1 / (1 + np.exp(-x[:, 0]))
    return system(columns, roles=roles | {"s": Role.score})


def rendered(subject, kept=(), policy_record=None, rule_record=None, **more):
    bundle = gather(subject, DIGESTS, Work(), list(kept), explained=30, **more)
    model = "model.onnx" if subject.predictor else None
    cover = Cover(HOSTILE, 3, "table.csv", "t" * 64, subject.table.rows, model, "today", policy_record, rule_record)
    return bundle, render(bundle, subject, cover).html


def test_hostile_names_stay_text_everywhere():
    _, html = rendered(subject_of(HOSTILE, '<script>alert("g")</script>'))
    assert "<script" not in html
    assert 'onmouseover="x">' not in html
    assert "&lt;script&gt;alert(" in html
    assert "<i>c</i>" not in html


def test_figures_are_whole_drawings_without_outside_references():
    _, html = rendered(subject_of())
    drawings = re.findall(r"<svg.*?</svg>", html, re.S)
    assert len(drawings) >= 6
    for drawing in drawings:
        ElementTree.fromstring(drawing.replace("xlink:href", "href"))
    assert not re.findall(r'(?:href|src)="(?!#)', html)
    assert "http" not in re.sub(r"http-equiv", "", html)


def test_the_same_evidence_makes_the_same_report():
    subject = subject_of()
    bundle, first = rendered(subject)
    again, second = rendered(subject, known=bundle.by_key())
    assert again.fresh == []
    assert first == second


def test_without_a_model_the_missing_parts_are_named():
    subject = subject_of(model=False)
    bundle, html = rendered(subject)
    assert not any(bundle.of(name) for name in ("drivers", "response", "ladder"))
    assert "Drivers, expected directions, response and example cases: This needs a model" in html
    assert "drivers" not in audit_file(bundle, subject, "t" * 64, subject.spec).to_json().split('"evidence"')[0]


def test_notes_of_the_dossier_are_in_the_report_as_text():
    subject = subject_of()
    evidence = compute(subject, DIGESTS, "tilt", TiltSettings(), 20, Work())
    _, html = rendered(subject, [Kept(evidence, "Half of it is <ferry> legs.\nSee strata.")])
    assert "Half of it is &lt;ferry&gt; legs.\nSee strata." in html


def test_a_report_under_a_rule_says_one_threshold_and_who_decided_it():
    subject = subject_of()
    rule = Rule(threshold=0.304)
    ruled = replace(subject, context=subject.context.model_copy(update={"rule": rule}))
    record = {"number": 3, "author": "V. Tarn", "reason": "Fewer missed claims.", "made": "2026-11-02"}
    _, html = rendered(ruled, rule_record=record)
    text = re.sub(r"<[^>]+>", "", html)
    assert "0.304" in text and "0.5 or more" not in text
    assert "V. Tarn" in text and "Fewer missed claims." in text


def test_a_kept_figure_that_belongs_to_what_is_past_is_marked_with_what_changed():
    subject = subject_of()
    evidence = compute(subject, DIGESTS, "tilt", TiltSettings(), 20, Work())
    _, current = rendered(subject, [Kept(evidence, "n")])
    assert "Older than this report" not in current
    _, html = rendered(subject, [Kept(evidence, "n", changed=("the model version", "the table"))])
    text = re.sub(r"<[^>]+>", "", html)
    assert "Older than this report" in text and "the model version" in text and "the table" in text


def test_the_appendix_says_what_was_read_and_names_no_empty_setting():
    _, html = rendered(subject_of())
    appendix = html[html.index('data-piece="appendix"') :]
    assert "()" not in re.sub(r"<[^>]+>", "", appendix)


@pytest.mark.parametrize("n", [14, 27])
def test_a_report_where_nothing_can_be_tested_gives_no_all_clear(n):
    _, html = rendered(subject_of(n=n))
    text = re.sub(r"<[^>]+>", "", html)
    assert "Nothing could be tested" in text and "No comparison is flagged" not in text


def test_every_evidence_has_one_short_name():
    bundle, html = rendered(subject_of())
    names = list(bundle.numbered.values())
    assert names == [f"E{i}" for i in range(1, len(names) + 1)]
    for key, name in bundle.numbered.items():
        assert f'id="{name}"' in html
        assert key in html


@pytest.mark.parametrize("most", [1, 2, 8])
def test_folded_rungs_add_up_to_all_of_them(most):
    subject = subject_of()
    bundle, _ = rendered(subject)
    steps = [(rung.feature, rung.contribution) for rung in bundle.evidence_of("ladder").typed.rungs]
    folded = figures.fold(steps, most)
    assert sum(step for _, step in folded) == pytest.approx(sum(step for _, step in steps))
    assert len(folded) <= most + 1


def test_examples_are_the_surest_errors_and_the_closest_decision():
    subject = subject_of()
    bundle, _ = rendered(subject)
    items = next(section.items for section in bundle.sections if section.method.name == "ladder")
    reasons = {heading.split(": ", 1)[1]: ladder.typed for ladder, heading in items}
    missed = reasons["the surest wrong prediction that the event would not happen"]
    assert missed.outcome and not missed.predicted
    wrong = subject.rows.outcome & ~subject.decisions.predicted
    assert missed.probability == pytest.approx(subject.predictions.scores[wrong].min())
    closest = reasons["the prediction closest to the threshold"]
    assert abs(closest.probability - 0.5) == pytest.approx(np.abs(subject.predictions.scores - 0.5).min())


def test_the_audits_own_words_are_used():
    subject = subject_of()
    spec = subject.spec.model_copy(
        update={"wording": Wording(row="loan", rows="loans", favourable="granted", unfavourable="declined")}
    )
    object.__setattr__(subject, "spec", spec)
    _, html = rendered(subject)
    assert "of 300 loans are decided rightly" in html
    assert "Loan row" in html
    assert "granted: predicting the event" in html


def test_policy_rule_and_who_chose_them_stand_in_the_report():
    subject = subject_of(model=False)
    policy = FlagPolicy(
        number=4, metrics=("selection_rate", "accuracy"), tolerances=(Tolerance(metric="accuracy", difference=0.02),)
    )
    rule = Rule(threshold=0.4, columns=("g",), thresholds=(GroupThreshold(group="a & b", threshold=0.25),))
    ruled = replace(
        subject,
        spec=subject.spec.model_copy(update={"policy": policy}),
        context=subject.context.model_copy(update={"rule": rule}),
    )
    answers = {"effect": "gives something", "harmed": "both", "labels": "tilted"}
    record = {
        "number": 4,
        "author": HOSTILE,
        "reason": "Labels were shaped by refusals.",
        "made": "today",
        "answers": answers,
    }
    bundle, html = rendered(ruled, policy_record=record)
    text = re.sub(r"<[^>]+>", "", html)
    assert "Flag policy, version 4: adjusted by false discovery rate; compared are selection rate and accuracy" in text
    assert "accuracy may differ by 0.02" in text and "Labels were shaped by refusals." in text
    assert "labels: tilted" in text and 'onmouseover="x">' not in html
    assert "a &amp; b 0.25 or more by g, 0.4 for all others" in text
    written = audit_file(bundle, ruled, "u" * 64, ruled.spec)
    assert written.policy.number == 4
    _, unchosen = rendered(subject)
    assert "nobody has chosen it" in unchosen


def test_a_report_of_a_segment_says_so_in_every_reading_and_finding():
    segment = Segment(name="the <b> ones", conditions=(Condition(column="x1", over=0.25),))
    plain = subject_of(model=False)
    part = replace(plain, context=plain.context.model_copy(update={"segment": segment}))
    part = replace(
        part, spec=part.spec.model_copy(update={"policy": FlagPolicy(minimum_rows=1, adjustment="none", alpha=0.9)})
    )
    bundle, html = rendered(part)
    text = re.sub(r"<[^>]+>", "", html)
    readings = [found.read(part.spec).text for found in bundle.by_key().values()]
    assert readings and all(one.startswith("In the <b> ones: ") for one in readings)
    assert "In the &lt;b&gt; ones: " in text and "Only rows whose x1 over 0.25." in text
    assert "of these “the &lt;b&gt; ones”: x1 over 0.25" in text
    whole, _ = rendered(replace(part, context=plain.context))
    names = [{one.name for one in found.findings("tilt")} for found in (bundle, whole)]
    assert not names[0] & names[1] and names[0] and names[1]
    assert all(one.statement.startswith("In the <b> ones: ") for one in bundle.findings("tilt"))
    facts = bundle.facts("tilt")
    html = re.search('<section data-piece="flagged".*?</section>', html, re.S)[0]
    assert html.count("⚑</span> In the &lt;b&gt; ones: ") == len(facts)
    assert sum(len(fact.parts) for fact, _ in facts) == len(names[0]) == html.count(" Adjusted p ")


@pytest.mark.parametrize(
    "ending", ["", " and so on", " · parcel weight over 10 and more", " of the outermost isles of all, in winter"]
)
def test_no_name_of_a_group_reaches_into_the_numbers_beside_it(ending):
    subject = subject_of(group="g", n=200)
    result = compare_groups(subject, TiltSettings(), 0, Work())
    named = {group.group: f"{'M' if ending else ''}{group.group}{ending}" for group in result.groups}
    result = result.model_copy(
        update={
            "groups": tuple(one.model_copy(update={"group": named[one.group]}) for one in result.groups),
            "disparities": tuple(one.model_copy(update={"group": named[one.group]}) for one in result.disparities),
        }
    )
    figure = figures._painted(figures.levels(result, subject.spec, "g"))
    figure.draw_without_rendering()
    boxes = {text.get_text(): text.get_window_extent() for text in figure.axes[0].texts}
    for group in result.groups:
        label, number = boxes[figures.short(group.group, figures.LONGEST)], boxes[words.count(group.rows)]
        assert label.x1 < number.x0, group.group
    assert min(box.x0 for box in boxes.values()) >= -1


def test_what_was_not_examined_is_worked_out_from_what_was_left_out():
    subject = subject_of()
    _, html = rendered(subject)
    said = re.sub(r"\s+", " ", html[html.index("Not examined</h2>") :])
    assert (
        "Of the table: training against hold-out (no column says which rows were held out) and shares in the population (no"
        in said
    )
    assert "Groups crossed with one another, groups within strata of other columns" in said
    assert "Places where errors" not in said  # they were read, in a section of their own
    along = {one.result["feature"] for one in rendered(subject)[0].by_key().values() if one.method == "response"}
    rest = [name for name in ("x0", "x1", "x2") if name not in along]
    assert rest and f"along {len(rest)} of the 3 features ({words.listing(rest)})." in said
    bare, html = rendered(subject_of(model=False))
    assert "how much the model leans on what it finds (there is no model)" in html
    assert bare.of("concerns")


def test_concerns_stand_in_the_full_report_with_what_one_can_do_and_in_no_public_one():
    subject = subject_of()
    codes = np.array([f"c{i}" for i in range(subject.table.rows)])
    columns = {name: subject.table.column(name).to_numpy(zero_copy_only=False) for name in subject.table.names}
    odd = system(
        columns | {"code": codes},
        lambda frame: 1 / (1 + np.exp(-frame["x0"])),
        ["x0", "x1", "code"],
        roles={"g": Role.group},
    )
    bundle = gather(odd, DIGESTS, Work(), explained=20)
    cover = Cover("audit", 1, "table.csv", "t" * 64, odd.table.rows, "model.onnx", "today")
    full, public = (render(bundle, odd, cover, reader=reader).html for reader in ("full", "public"))
    assert "Identifier among features." in full and "Set its role to identifier in Intake" in full
    assert "Identifier among features." not in public
