"""Sentences of audits without outcomes, of recorded decisions and of numbers, as somebody would say them."""

import re

import numpy as np
import pytest

from zerotilt.core import links, words
from zerotilt.core.methods import METHODS
from zerotilt.core.predictors import Frame
from zerotilt.core.refusal import Refused
from zerotilt.core.segmenting import borders
from zerotilt.study import Study

N = 400


def columns(seed=5):
    rng = np.random.default_rng(seed)
    return {
        "depth": rng.normal(size=N),
        "income": np.round(rng.gamma(4, 3_000, N), 2),
        "area": rng.choice(["harbour town", "uplands", "outer isles"], N, p=[0.6, 0.25, 0.15]),
    }


def total(frame):
    return 10 + 3 * np.asarray(frame["depth"], float) + np.asarray(frame["income"], float) / 1_000


def chance(frame):
    return 1 / (1 + np.exp(-np.asarray(frame["depth"], float) - (np.asarray(frame["income"]) > 12_000)))


def of_number(outcome=True):
    found = columns()
    found |= {"wait": total(found) + np.random.default_rng(6).normal(size=N)} if outcome else {}
    return Study(
        found, total, "wait" if outcome else None, task="regression", features=["depth", "income"], groups=["area"],
        favourable="low", unit="days",
    )  # fmt: skip


def without_outcome():
    return Study(
        columns(),
        chance,
        task="binary",
        event="yes",
        features=["depth", "income"],
        groups=["area"],
        favourable="event",
    )


def decided():
    found = columns()
    found["decision"] = np.where(chance(found) > 0.5, "settled", "inspected")
    return Study(found, None, decision="decision", groups=["area"], favourable="settled")


SMALL = {"rows": 60} | {"draws": 2}
AUDITS = {
    "number": of_number,
    "number, no outcome": lambda: of_number(False),
    "no outcome": without_outcome,
    "decisions": decided,
}


def said_of(study):
    """Every sentence that can be read of an audit, by method; what is refused by what it says."""
    told = {}
    for name, method in METHODS.items():
        fields = method.settings.model_fields
        settings = {key: value for key, value in (("row", 3), ("column", "income")) if key in fields}
        if name in ("interactions", "surface"):
            settings |= {key: value for key, value in SMALL.items() if key in fields}
        if name == "one_group":
            settings = {}
        if name in ("given", "corrected", "band", "repaired", "flip"):
            settings.pop("column", None)
        try:
            found = study.read(name, **settings)
            told[name] = [found.reading, *found.points]
        except Refused as refused:
            told[name] = [str(refused)]
    return told


@pytest.fixture(scope="module", params=AUDITS)
def told(request):
    return said_of(AUDITS[request.param]())


def test_no_sentence_holds_dust_or_more_digits_than_anybody_says(told):
    for name, sentences in told.items():
        for one in sentences:
            assert not re.search(r"\de[+−-]?\d", one), (name, one)
            for number in re.findall(r"(?<![\w.])\d[\d,]*\.\d+", one):
                said, decimals = number.replace(",", "").replace(".", "").lstrip("0"), number.split(".")[1]
                assert len(said) <= 5 or len(decimals) <= 2, (name, one)  # cells stand as they were written
            assert not re.search(r"(?<![\w-])-\d", one), (name, one)  # a hyphen is no minus
            assert "  " not in one and not re.search(r"\b1 (groups|rows|columns|tests|features)\b", one), (name, one)


def test_what_has_no_meaning_says_so_in_a_sentence(told):
    for name, sentences in told.items():
        assert all(re.search(r"[.?]$", one.strip()) for one in sentences if one), (name, sentences)
        assert not any(re.search(r"\bNone\b(?! of)|\bnan\b|\binf\b", one) for one in sentences), (name, sentences)


def test_without_outcomes_nothing_is_said_of_errors():
    for make in (without_outcome, decided):
        told = said_of(make())
        assert "errors are larger" not in told["performance"][0]
        assert (
            told["pockets"]
            == told["thresholds"]
            == ["This needs what really happened, and no column of this audit says it."]
        )


def test_of_recorded_decisions_nobody_is_promised_an_explanation():
    told = said_of(decided())
    assert "there is no model to ask" in told["cases"][0]
    assert "which features carry it" in said_of(without_outcome())["cases"][0]


def test_decisions_alone_are_an_audit_in_a_notebook_as_elsewhere():
    assert decided().spec.event == "settled" and not decided().spec.knows_outcome
    found = columns()
    found["decision"] = np.where(chance(found) > 0.5, "settled", "inspected")
    with pytest.raises(Refused, match="favourable is needed: no outcome was named, and the decisions are “inspected”"):
        Study(found, None, decision="decision", groups=["area"])


def test_of_a_sum_no_two_features_work_together():
    study = of_number()
    found = study.read("interactions", **SMALL)
    assert found.result.pairs[0].size == 0 and "do not work together" in found.reading
    assert "Partial dependence says the same" in study.read("ale", feature="depth").reading
    assert "all steps add up" in " ".join(study.read("ladder", row=3).points)
    assert study.read("ladder", row=3).points[-1].endswith("need not bring another result.")
    assert re.search(r"What happened: \d+\.\d+ days\.", study.read("ladder", row=3).reading)
    letter = study.read("person", row=3).points
    assert letter[-1].endswith("will change the result.")
    assert without_outcome().read("person", row=3).points[-1].endswith("will change the decision.")


def test_a_real_interaction_is_still_told():
    found = columns()
    study = Study(
        found, lambda frame: np.asarray(frame["depth"], float) * np.asarray(frame["income"], float) / 1e4,
        task="regression", features=["depth", "income"], groups=["area"], favourable="low",
    )  # fmt: skip
    said = study.read("interactions", **SMALL).reading
    assert "Depth and income work together: " in said


def test_borders_are_as_short_as_they_can_be_and_part_the_same_rows():
    rng = np.random.default_rng(2)
    for scale in (1e-6, 1.0, 1e7):
        values = np.round(rng.normal(size=300), rng.integers(1, 15)) * scale
        for cuts in (borders.equal_counts(values, 5, np.ones(300)), borders.equal_width(values, 5)):
            exact = np.quantile(values, [0.2, 0.4, 0.6, 0.8])
            assert len(cuts) <= len(exact)
            for cut in cuts:
                below, above = values[values <= cut].max(), values[values > cut].min()
                assert below <= cut < above
                assert len(repr(cut)) <= max(len(repr(below)), len(repr(above)))
    assert borders.equal_counts(np.array([1.0, 2, 3, 4]), 2, np.ones(4)) == [2.0]


def test_what_names_a_row_goes_with_nothing():
    """Corrected for chance, a text of as many levels as rows tells of no number; by Kelley's ε² written anew."""
    rng = np.random.default_rng(3)
    x, level = rng.normal(size=300), rng.choice(list("abc"), 300)
    x += (level == "a") * 0.8
    frame = Frame({"x": x, "level": level.astype(object), "id": np.array([f"r{i}" for i in range(300)], object)})
    strength = links.association(frame)
    assert strength[0, 2] == 0
    ranks = np.argsort(np.argsort(x)).astype(float)
    within = sum(((ranks[level == one] - ranks[level == one].mean()) ** 2).sum() for one in "abc")
    eta = 1 - within / ((ranks - ranks.mean()) ** 2).sum()
    assert strength[0, 1] == pytest.approx(np.sqrt(1 - (1 - eta) * 299 / 297))
    chance_alone = [
        links.association(
            Frame({"x": rng.normal(size=60), "t": np.array([f"t{i % 20}" for i in range(60)], object)[rng.permutation(60)]})
        )[0, 1] ** 2
        for _ in range(200)
    ]  # fmt: skip
    assert np.mean(chance_alone) < 0.1  # uncorrected it would be 19/59


def test_a_cell_that_is_a_number_keeps_its_digits_and_gets_a_minus():
    assert words.with_minus("-1.5e-07") == "−1.5e-07" and words.with_minus("-") == "-"
    assert words.with_minus("−3") == "−3" and words.with_minus("a-3") == "a-3"
