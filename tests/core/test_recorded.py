"""Recorded decisions in words of their own, and scores that run to something else than 1."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest

from zerotilt.core import guess
from zerotilt.core.groups import tilt
from zerotilt.core.groups.disparity import TiltSettings
from zerotilt.core.meaning import ColumnSpec, Context, Kind, Role, Spec, Task
from zerotilt.core.profiles import profile
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table, from_arrays
from zerotilt.core.work import Work


def audited(columns: dict, roles: dict[str, Role], **more) -> Subject:
    specs = [
        ColumnSpec(
            name=name, kind=Kind.categorical if roles[name] is not Role.score else Kind.numeric, role=roles[name]
        )
        for name in columns
    ]
    spec = Spec(columns=tuple(specs), **{"event": "yes", **more})
    return Subject(spec, from_arrays(columns), None, Context(rows="all"))


ROLES = {"granted": Role.decision, "paid": Role.outcome, "area": Role.group}


def rows(seed: int, words: dict[str, str]) -> dict[str, list[str]]:
    rng = np.random.default_rng(seed)
    paid, said = rng.choice(["yes", "no"], 300), rng.choice(list(words), 300)
    return {"granted": said.tolist(), "paid": paid.tolist(), "area": rng.choice(["north", "south"], 300).tolist()}


@pytest.mark.parametrize("seed", range(5))
def test_decisions_in_other_words_give_the_numbers_of_the_outcomes_own(seed):
    means = {"accepted": "yes", "accepted later": "yes", "turned down": "no"}
    own = rows(seed, means)
    plain = own | {"granted": [means[one] for one in own["granted"]]}
    theirs = tilt.compare_groups(audited(own, ROLES, decision_means=means), TiltSettings(), 0, Work())
    ours = tilt.compare_groups(audited(plain, ROLES), TiltSettings(), 0, Work())
    assert theirs == ours
    accepted = np.isin(own["granted"], ["accepted", "accepted later"])
    north = np.array(own["area"]) == "north"
    group = next(one for one in theirs.groups if one.group == "north")
    assert group.metrics["selection_rate"].value == pytest.approx(accepted[north].mean())


def test_what_was_not_said_is_asked():
    own = rows(0, {"accepted": "yes", "turned down": "no"})
    with pytest.raises(Refused, match="accepted") as caught:
        _ = audited(own, ROLES).decisions.taken
    assert "stands for" in str(caught.value.todo)
    three = own | {"granted": ["accepted", "turned down", "put off"] * 100}
    with pytest.raises(Refused, match="turned down"):
        _ = audited(three, ROLES, decision_means={"accepted": "yes"}).decisions.taken


def test_without_an_outcome_decisions_stand_for_themselves():
    """What was said while another column was the outcome is of no account."""
    own = rows(0, {"accepted": "yes", "turned down": "no"})
    roles = ROLES | {"paid": Role.ignored}
    subject = audited(own, roles, event="accepted", decision_means={"accepted": "1", "turned down": "0"})
    assert subject.decisions.taken.tolist() == [int(one == "accepted") for one in own["granted"]]


def test_classes_are_mapped_too():
    columns = {
        "desk": ["quick"] * 4 + ["slow"] * 4 + ["other way"] * 4,
        "paid": ["A", "B", "C"] * 4,
        "area": ["x", "y"] * 6,
    }
    roles = {"desk": Role.decision, "paid": Role.outcome, "area": Role.group}
    means = {"quick": "A", "slow": "B", "other way": "C"}
    subject = audited(columns, roles, task=Task.several, event="A", decision_means=means)
    assert subject.decisions.taken.tolist() == [0] * 4 + [1] * 4 + [2] * 4
    with pytest.raises(Refused, match="none of the classes"):
        _ = audited(columns, roles, task=Task.several, event="A").decisions.taken


def test_scores_are_read_as_shares_of_what_they_run_to():
    points = np.array([0, 7, 29, 50, 70, 100])
    columns = {"points": points, "paid": ["yes", "no"] * 3, "area": ["x", "y"] * 3}
    roles = {"points": Role.score, "paid": Role.outcome, "area": Role.group}
    subject = audited(columns, roles, score_top=100, threshold=0.7)
    assert subject.predictions.required_scores.tolist() == [0, 0.07, 0.29, 0.5, 0.7, 1]
    assert subject.decisions.taken.tolist() == [0, 0, 0, 0, 1, 1]
    with pytest.raises(Refused, match=r"outside 0 to 1 in 5 rows") as caught:
        _ = audited(columns, roles).predictions.required_scores
    assert "run to" in str(caught.value.todo)
    with pytest.raises(Refused, match=r"outside 0 to 50 in 2 rows"):
        _ = audited(columns, roles, score_top=50).predictions.required_scores


def test_evidence_from_before_it_could_be_said_is_found_again():
    """What nobody said changes no key; what somebody says changes it."""
    spec = Spec(columns=(ColumnSpec(name="paid", kind=Kind.categorical, role=Role.outcome),), event="yes")
    before = {
        name: value
        for name, value in spec.model_dump(mode="json").items()
        if name not in ("decision_means", "score_top")
    }
    assert Spec.model_validate(before).digest() == spec.digest()
    assert spec.digest() != spec.model_copy(update={"score_top": 100}).digest()
    assert spec.digest() != spec.model_copy(update={"decision_means": {"a": "yes"}}).digest()
    # as it was computed before these fields were there
    assert spec.digest() == "dc6d994a4ee791ca48a78a17473a9a0b68347d42bc89c1d9f7f3267e1f0f10da"


def guessed(columns: dict) -> dict:
    found = profile(Table(pa.table(columns)))
    specs = guess.guess_columns(found)
    return guess.guess_problem(found, specs) | {"roles": {one.name: one.role for one in specs}}


def test_what_decisions_stand_for_is_guessed_where_words_tell():
    outcome = {"paid_back": ["yes", "no"] * 15, "amount": np.arange(30.0)}
    told = guessed({"decision": ["accepted", "rejected"] * 15, **outcome, "outcome": outcome["paid_back"]})
    assert told["decision_means"] == {"accepted": "yes", "rejected": "no"}
    for words in (["blue", "green"], ["accepted", "blue"], ["yes", "no"]):
        assert "decision_means" not in guessed({"decision": words * 15, "outcome": outcome["paid_back"]})
    bad = guessed({"decision": ["approved", "denied"] * 15, "outcome": ["default", "repaid"] * 15})
    assert bad["decision_means"] == {"approved": "repaid", "denied": "default"}


def test_scores_to_a_hundred_are_guessed_as_scores_and_asked_about():
    found = guessed({"score": np.linspace(3, 97, 30), "outcome": ["yes", "no"] * 15})
    assert found["roles"]["score"] is Role.score
    assert guessed({"score": np.linspace(3, 970, 30), "outcome": ["yes", "no"] * 15})["roles"]["score"] is Role.feature


def spec_for(outcome: np.ndarray) -> tuple:
    found = profile(Table(pa.table({"x": np.arange(float(len(outcome))), "outcome": outcome})))
    columns = guess.guess_columns(found)
    return found, Spec.model_validate({"columns": columns, **guess.guess_problem(found, columns)})


def by_model(outcome: np.ndarray, gives: str | None, classes: tuple[str, ...] = ()) -> Task | None:
    told = guess.guess_by_model(*spec_for(outcome), gives, classes)
    return told and told.task


def test_whether_numbers_are_classes_is_told_by_the_model():
    few, many, truth = np.tile([1, 2, 3, 4], 10), np.arange(40) % 12, np.tile([0, 1], 20)
    assert spec_for(few)[1].task is Task.several and by_model(few, "number") is Task.regression
    assert by_model(few, "chances", ("1", "2", "3", "4")) is None and by_model(few, None) is None
    twelve = tuple(str(float(one)) for one in range(12))
    assert spec_for(many)[1].task is Task.regression and by_model(many, "chances", twelve) is Task.several
    # chances of other classes than the outcome's values say nothing of them
    assert by_model(many, "chances", twelve[:11]) is None and by_model(many, "chances") is None
    assert by_model(many, "number") is None
    # a regression is made for what happened or not, too; and words are no numbers
    assert by_model(truth, "number") is None
    assert by_model(np.array(["a", "b", "c"] * 10), "number") is None


def test_which_classes_are_favourable_is_guessed_only_where_every_class_says_so():
    told = spec_for(np.array(["approved", "rejected", "granted in part"] * 10))[1]
    assert told.favourable_said and set(told.favourable_classes) == {"approved", "granted in part"}
    for classes in (["approved", "rejected", "north"], ["quick", "full", "site"], ["approved", "granted", "paid"]):
        asked = spec_for(np.array(classes * 10))[1]
        assert asked.task is Task.several and not asked.favourable_said and asked.favourable_classes == ()
    few, many = np.tile([1, 2, 3], 10), np.arange(40) % 12
    assert not spec_for(few)[1].favourable_said
    told = guess.guess_by_model(*spec_for(few), "number", ())
    assert told is not None and told.favourable_said  # nothing is decided about a number
    told = guess.guess_by_model(*spec_for(many), "chances", tuple(str(float(one)) for one in range(12)))
    assert told is not None and not told.favourable_said
