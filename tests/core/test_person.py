"""The page for the person: its numbers are the ladder's and the changes', and no group is named that was not chosen."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from tests.core.test_one_case import classed, decided, numbered

from zerotilt.core.case.person import PersonResult, PersonSettings, for_person, sentences
from zerotilt.core.contributions.ladder import LadderSettings, ladder_of
from zerotilt.core.counterfactuals.change import find_changes
from zerotilt.core.counterfactuals.change_result import ChangeSettings
from zerotilt.core.meaning import Allowed
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work

METHOD = METHODS["person"]


def told(subject, row=0, **settings) -> tuple[PersonResult, list[str]]:
    found = for_person(subject, PersonSettings(row=row, **settings), 0, Work())
    return found, list(sentences(found, subject.spec.wording))


def refused(subject) -> np.ndarray:
    """Rows of the table that the model does not favour."""
    return subject.rows.numbers[~np.isin(subject.decisions.taken, list(subject.decisions.favourable))]


def limited(subject, *allowed: Allowed):
    return replace(subject, spec=subject.spec.model_copy(update={"allowed": allowed}))


@pytest.mark.parametrize("make", [decided, numbered, classed])
@pytest.mark.parametrize("row", [0, 7, 41])
def test_what_is_told_adds_up_to_the_prediction(make, row):
    found, _ = told(make(), row, most=1)
    listed = sum(one.contribution for one in found.counted)
    assert listed + found.smaller_sum + found.unnamed_sum == pytest.approx(found.prediction - found.baseline, abs=1e-9)


def test_the_steps_are_those_of_the_ladder_and_the_changes_those_of_otherwise():
    subject = decided()
    row = refused(subject)[2]
    found, _ = told(subject, row, shown=("group",))
    ladder = ladder_of(subject, LadderSettings(row=row), 0, Work())
    assert [(one.feature, one.contribution) for one in found.counted] == [
        (one.feature, one.contribution) for one in ladder.rungs if one.contribution
    ]
    ways = find_changes(subject, ChangeSettings(row=row, found=3), 0, Work()).changes
    assert ways and [one.changed for one in found.ways] == [one.changed for one in ways]


def test_nobody_is_told_how_to_be_refused():
    subject = decided()
    row = int(np.flatnonzero(subject.decisions.taken)[0])
    found, said = told(subject, row)
    assert found.favoured and found.ways == () and found.none == "" and not any(one.startswith("If ") for one in said)
    read = METHOD.read(found, subject.spec.wording, PersonSettings(row=row))
    assert "proposes no change, as the decision is the favourable one." in read.detail


def test_a_group_is_neither_named_nor_proposed_unless_it_is_chosen_and_never_hidden_silently():
    subject = limited(decided(), Allowed(feature="group", change="any"))
    for row in range(30):
        found, said = told(subject, row)
        assert "group" not in {one.feature for one in found.counted}
        assert all(part.feature != "group" for way in found.ways for part in way.changed)
        assert found.unnamed == 1
        assert not any("Group," in one or "group were" in one for one in said)
        assert any("One fact that tells of a group of people is not named" in one for one in said)
    shown, said = told(subject, 0, shown=("group",))
    assert shown.unnamed == 0 and "group" in {one.feature for one in shown.counted}
    assert any(one.startswith("Group, ") for one in said)


def test_a_column_that_makes_no_group_cannot_be_asked_for():
    with pytest.raises(Refused, match="“x0” makes no groups"):
        told(decided(), shown=("x0",))


def test_the_page_speaks_in_chances_also_where_log_odds_are_read():
    subject = decided()
    in_log_odds = replace(subject, context=subject.context.model_copy(update={"output": "log-odds"}))
    assert told(in_log_odds, 3)[0] == told(subject, 3)[0]


def test_which_side_of_the_threshold_is_favourable_is_said_as_it_is():
    subject = decided()
    assert any("at or above it, decided favourably; below it, decided unfavourably" in one for one in told(subject)[1])
    absent = replace(subject, spec=subject.spec.model_copy(update={"favourable": "no event"}))
    found, said = told(absent)
    assert found.favoured_above is False
    assert any("at or above it, decided unfavourably; below it, decided favourably" in one for one in said)


def test_of_several_classes_the_one_that_was_decided_is_told():
    subject = classed()
    for row in range(0, 60, 7):
        found, said = told(subject, row)
        outputs = subject.model.outputs(subject.editor.case(row))[0]
        assert found.decision == subject.classes[int(outputs.argmax())]
        assert found.prediction == pytest.approx(outputs.max())
        assert f"was decided as {found.decision}" in said[0]


def test_a_number_is_told_without_changes_until_somebody_says_which_number_is_wanted():
    subject = numbered()
    found, said = told(subject, 2)
    assert found.ways == () and found.none == "" and not any(one.startswith("If ") for one in said)
    wanted, said = told(subject, 2, at_least=found.prediction + 3)
    assert wanted.ways and all(one.output >= found.prediction + 3 for one in wanted.ways)
    assert any("the model would give" in one for one in said)


def test_what_stays_is_said_and_never_proposed():
    subject = limited(decided(), Allowed(feature="x0", change="none"), Allowed(feature="x1", change="up"))
    row = refused(subject)[1]
    found, said = told(subject, row)
    assert found.held == ("x0",) and found.limited == ("x1",)
    assert "Not counted among what can be changed: x0." in said and "Changed only within limits: x1." in said
    assert all(part.feature == "x1" for way in found.ways for part in way.changed)
    every = limited(decided(), *(Allowed(feature=name, change="none") for name in ("x0", "x1")))
    assert "so no change is proposed" in told(every, row)[0].none


def test_a_limit_of_the_audit_that_no_value_of_this_case_fits_holds_its_column_only():
    """A case far off the limits keeps its value; what else may change is still looked for."""
    subject = decided()
    lost = refused(subject)
    top = int(lost[np.argmax(subject.table.numbers("x0")[lost])])
    held = Allowed(feature="x0", change="down", high=-99.0)
    found, _ = told(limited(subject, held), top)
    assert found.ways
    assert all(part.feature != "x0" for way in found.ways for part in way.changed)
    with pytest.raises(Refused, match="no value of “x0” fits"):
        find_changes(subject, ChangeSettings(row=top, allowed=(held,)), 0, Work())


def test_its_reading_is_two_sentences_at_most_and_names_no_group():
    found, _ = told(decided(), 1)
    read = METHOD.read(found, decided().spec.wording, PersonSettings(row=1))
    assert read.text.count(". ") <= 1 and "group (" not in read.text
    assert "not named on it" in read.detail
