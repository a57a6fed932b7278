"""A report of every kind of outcome, with a model, recorded scores or decisions; for each of its readers."""

import io
import re
from dataclasses import replace

import numpy as np
import pytest
from pypdf import PdfReader
from tests.core.systems import system
from tests.report.test_render import DIGESTS, subject_of

from zerotilt.core.findings import Judged, Standing
from zerotilt.core.groups.disparity import TiltSettings
from zerotilt.core.groups.metrics import class_of
from zerotilt.core.groups.tilt import compare_groups
from zerotilt.core.meaning import Condition, Role, Segment, Task
from zerotilt.core.work import Work
from zerotilt.report import figures, forms
from zerotilt.report.auditfile import audit_file
from zerotilt.report.compose import Decisions, gather
from zerotilt.report.document import Document, Piece
from zerotilt.report.lacking import unsaid
from zerotilt.report.render import Cover, render


def cover(subject, **more):
    return Cover("Skerry", 1, "claims.csv", "t" * 64, subject.table.rows, "model v1", "today", **more)


def text_of(html: str) -> str:
    return re.sub(r"\s+", " ", re.sub(r"<[^>]+>", "", re.sub(r"<(style|svg).*?</\1>", "", html, flags=re.S)))


def small(task: Task, n: int = 240, recorded: bool = False):
    """A table of one kind of outcome with groups of very different sizes."""
    rng = np.random.default_rng(3)
    x = rng.normal(size=n)
    columns = {"x0": x, "x1": rng.normal(size=n), "g": rng.choice(["isles", "town", "hills"], n, p=[0.06, 0.6, 0.34])}
    if task is Task.regression:
        columns["y"] = 3 * x + rng.normal(size=n)
        predict = lambda frame: 3 * frame["x0"] + 1  # noqa: E731
        columns["s"] = predict(columns)
    else:
        columns["y"] = np.array(["low", "middle", "high"])[
            np.clip(np.round(x + 1 + rng.normal(size=n)), 0, 2).astype(int)
        ]

        def predict(frame):
            e = np.exp(np.stack([-frame["x0"], np.zeros(len(frame["x0"])), frame["x0"]], 1))
            return e / e.sum(1, keepdims=True)

        columns["d"] = np.array(["low", "middle", "high"])[np.asarray(predict(columns)).argmax(1)]
    roles = {"g": Role.group} | ({"s": Role.score} if "s" in columns and recorded else {})
    roles |= {"d": Role.decision} if "d" in columns and recorded else {}
    return columns, roles, predict


@pytest.fixture(scope="module")
def kinds(demo_audits):
    """The demo's audits of a number and of ordered classes, on few rows."""
    from zerotilt.core.predictors.onnx import OnnxPredictor
    from zerotilt.core.subject import Subject
    from zerotilt.core.table import Table

    claims, audits = demo_audits
    table = Table(claims.slice(0, 3_000))
    found = {}
    for one in audits:
        data = next(iter(one.models.values()))
        found[one.spec.task] = Subject(one.spec, table, OnnxPredictor(data, table, one.spec))
    return found


@pytest.mark.parametrize("task", [Task.regression, Task.ordered])
def test_every_kind_is_examined_with_examples_and_said_in_its_own_words(kinds, task):
    subject = kinds[task]
    bundle = gather(subject, DIGESTS, Work(), explained=30)
    pages = {reader: render(bundle, subject, cover(subject), reader=reader) for reader in ("full", "summary", "public")}
    assert len(PdfReader(io.BytesIO(forms.pdf(pages["summary"].html))).pages) <= 2
    full = text_of(pages["full"].html)
    examined = full[: full.index("Method notes")]
    assert not re.search(r"\bNone\b(?! of)|\b(nan|inf)\b", examined)
    ladders = next(one.items for one in bundle.sections if one.method.name == "ladder")
    assert 2 <= len(ladders) <= 3 and all(heading in full for _, heading in ladders)
    if task is Task.regression:
        assert "the prediction farthest above what happened" in full and "in days" in full
        assert "Thresholds: nothing is decided by one, since the outcome is a number." in full
        assert "Favourable decision" not in full and re.search(
            "Favourable to those concerned ?a low number of days", full
        )
    else:
        assert "the prediction farthest in the order from what happened" in full
        assert "sent to a quick desk: front desk and claims desk" in full
    numbers = audit_file(bundle, subject, "t" * 64, subject.spec)
    assert numbers.task is task and numbers.event is None and numbers.model.threshold is None
    assert len(numbers.findings) == len(bundle.all_facts()) and len(numbers.disparities) > 30
    assert len(text_of(pages["summary"].html)) < 0.3 * len(full)
    assert "Single claims are not shown" in text_of(pages["public"].html)


def test_examples_are_the_worst_there_are(kinds):
    subject = kinds[Task.regression]
    off = subject.predictions.outputs[:, 0] - subject.rows.outcome
    found = dict(
        (reason, place) for place, reason in subject.kind.telling(subject.rows.outcome, subject.predictions.outputs)
    )
    assert off[found["the prediction farthest above what happened"]] == off.max()
    assert off[found["the prediction farthest below what happened"]] == off.min()
    subject = kinds[Task.ordered]
    outputs, outcome = subject.predictions.outputs, subject.rows.outcome
    found = dict((reason, place) for place, reason in subject.kind.telling(outcome, outputs))
    taken = outputs.argmax(1)
    assert (
        abs(taken - outcome)[found["the prediction farthest in the order from what happened"]]
        == abs(taken - outcome).max()
    )
    surest = found["the surest prediction of a class that was not so"]
    assert taken[surest] != outcome[surest] and outputs[surest].max() == outputs[taken != outcome].max()
    # nobody knows what happened, or everything is right
    assert [reason for _, reason in subject.kind.telling(None, outputs)] == [
        "the prediction that is least sure of its class"
    ]
    assert len(subject.kind.telling(taken, outputs)) == 1


@pytest.mark.parametrize("task", [Task.regression, Task.several])
def test_recorded_numbers_and_decisions_are_reported_without_a_model(task):
    columns, roles, _ = small(task, recorded=True)
    columns.pop("s" if task is Task.several else "d", None)
    subject = system(columns, roles=roles, task=task, event="" if task is Task.regression else "high")
    bundle = gather(subject, DIGESTS, Work())
    made = text_of(render(bundle, subject, replace(cover(subject), model_name=None)).html)
    kind = "scores" if task is Task.regression else "decisions"
    assert made.count(f"Recorded {kind} ") == 1
    assert f"none; {kind} recorded in “{'s' if task is Task.regression else 'd'}” were read" in made
    assert "This needs a model" in made


def test_the_public_report_names_no_small_group_in_any_format_and_its_texts_cannot_either():
    subject = subject_of(n=400)
    rng = np.random.default_rng(0)
    columns = {name: subject.table.numbers(name) for name in ("x0", "x1", "x2")}
    columns["y"] = (columns["x0"] + rng.normal(size=400) > 0).astype(int)
    columns["s"] = 1 / (1 + np.exp(-columns["x0"]))
    columns["g"] = rng.permutation(np.repeat(["town", "hills", "ferrymen", "keepers"], [220, 120, 48, 12]))
    subject = system(columns, roles={"g": Role.group, "s": Role.score})
    bundle = gather(subject, DIGESTS, Work())
    texts = Document(pieces=(Piece(id="own", text="Of them @{g / keepers / rows} and @{g / town / rows}."),))
    public = render(bundle, subject, cover(subject), texts, "public")
    said = text_of(public.html)
    assert "keepers" not in said.replace("“g / keepers / rows”", "") and "ferrymen" not in said and "town" in said
    assert "no number is called “g / keepers / rows” here and 220." in said
    assert "2 groups are left out for that" in said and public.left_out == 2
    none = render(bundle, subject, cover(subject), texts.model_copy(update={"smallest": 390}), "public")
    assert "None of the 0 comparisons printed here is flagged. Nothing is told of" in text_of(none.html)
    assert "No finding came of the 0 comparisons printed here; nothing is told of" in text_of(none.html)
    full = render(bundle, subject, cover(subject), texts)
    assert "Of them 12 [E" in text_of(full.html) and "ferrymen" in full.html
    missing = unsaid(texts, "public", public.numbers)
    assert any("no number is called “g / keepers / rows” in what this reader gets" in one for one in missing)


@pytest.mark.parametrize(("over", "hushed"), [(None, False), (1.2, True), (-1.9, True), (0.0, False)])
def test_nothing_is_published_of_few_rows_nor_of_rows_that_leave_few_out(over, hushed):
    subject = subject_of(model=False, n=300)
    if over is not None:
        segment = Segment(name="part", conditions=(Condition(column="x1", over=over),))
        subject = replace(subject, context=subject.context.model_copy(update={"segment": segment}))
    smallest = 60
    left = 300 - subject.n
    assert (subject.n < smallest or 0 < left < smallest) is hushed
    document = Document(smallest=smallest, pieces=(Piece(id="own", text="Rows: @{rows / all}."),))
    bundle = gather(subject, DIGESTS, Work())
    said = text_of(render(bundle, subject, cover(subject), document, "public").html)
    assert ("too few rows to publish" in said) is hushed
    assert (f"{subject.n} rows" in said) is not hushed
    assert ("no number is called" in said) is hushed


@pytest.mark.parametrize("findings", [0, 1, 400])
def test_no_finding_one_and_four_hundred_are_said_in_as_many_words(findings):
    rng = np.random.default_rng(1)
    n = 60 * max(findings, 20)
    group = np.arange(n) % max(findings + 1, 2)
    chance = np.where(group == 0, 0.5, 0.1) if findings else np.full(n, 0.5)
    columns = {
        "x0": rng.normal(size=n),
        "g": np.array([f"g{i}" for i in group]),
        "y": (rng.random(n) < 0.5).astype(int),
        "d": np.where(rng.random(n) < chance, "1", "0"),
    }
    subject = system(columns, roles={"g": Role.group, "d": Role.decision})
    bundle = gather(subject, DIGESTS, Work())
    said = text_of(render(bundle, subject, replace(cover(subject), model_name=None)).html)
    facts = bundle.all_facts()
    if not findings:
        assert not facts and "No finding came of" in said and "There was nothing to decide." in said
        return
    assert bool(re.search("1 finding came of it(, of high severity)?. It reads:", said)) == (len(facts) == 1)
    assert "Nobody has decided about any finding yet." in said
    name = facts[0][0].name
    decided = replace(
        bundle, decisions=Decisions({name: Judged(standing=Standing(decision="accepted", reason="Known."))})
    )
    told = text_of(render(decided, subject, cover(subject)).html)
    accepted = Judged(standing=Standing(decision="accepted", reason="Known."))
    all_of_them = {fact.name: accepted for fact, _ in facts}
    for decisions in (Decisions(), Decisions(all_of_them)):
        summary = render(replace(bundle, decisions=decisions), subject, cover(subject), reader="summary").html
        assert len(PdfReader(io.BytesIO(forms.pdf(summary))).pages) <= 2
    assert f"Of {len(facts)} finding{'s' if len(facts) > 1 else ''}, 1 is accepted with a reason." in told


def of_classes(classes: int, n: int = 900):
    rng = np.random.default_rng(7)
    named = np.array([f"desk {place}" for place in range(classes)])
    truth = rng.integers(0, classes, n)
    columns = {"g": rng.choice(["town", "hills"], n), "y": named[truth]}
    # in the hills the last desk is mostly missed
    missed = (columns["g"] == "hills") & (truth == classes - 1) & (rng.random(n) < 0.7)
    columns["d"] = named[np.where(missed, 0, truth)]
    return system(columns, roles={"g": Role.group, "d": Role.decision}, task=Task.several, event="")


def test_error_rates_of_classes_are_drawn_each_under_its_name():
    subject = of_classes(3)
    result = compare_groups(subject, TiltSettings(), 0, Work())
    whole, right, wrong = figures.levels_of(result, "g")
    assert not any(class_of(key) for key in whole) and "accuracy" in whole
    assert right == [f"true_positive_rate · desk {place}" for place in range(3)]
    assert wrong == [f"false_positive_rate · desk {place}" for place in range(3)]
    drawn = [text.get_text() for text in figures._painted(figures.levels(result, subject.spec, "g")).axes[0].texts]
    for head in ("True positive rate", "False positive rate"):
        assert [one for one in drawn if one.startswith(head)] == [f"{head},\ndesk {place}" for place in range(3)]
    assert drawn.count("reference") == len(whole) + 6 and drawn.count("town") == 3
    assert "classes" not in figures.levels_caption(result, "g")


def test_of_many_classes_those_with_most_to_tell_are_drawn_and_the_rest_is_said():
    result = compare_groups(of_classes(8), TiltSettings(), 0, Work())
    flagged = [one.metric for one in result.disparities if one.status == "flagged" and "true_positive" in one.metric]
    assert flagged == ["true_positive_rate · desk 7"]
    _, right, wrong = figures.levels_of(result, "g")
    assert len(right) == len(wrong) == 5 and flagged[0] in right
    drawn = {class_of(key) for key in (*right, *wrong)}
    assert f"Error rates are drawn of {len(drawn)} of 8 classes" in figures.levels_caption(result, "g")
