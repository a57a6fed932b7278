"""What Intake guesses of outcomes and splits, and what it does not pretend to know."""

from __future__ import annotations

import numpy as np
import pytest

from zerotilt.core import guess, profiles
from zerotilt.core.meaning import Role, Spec, Task
from zerotilt.core.table import from_arrays

N = 120


def profile_of(**columns):
    rng = np.random.default_rng(2)
    values = {name: rng.choice(np.array(levels, object), N) for name, levels in columns.items()}
    return profiles.profile(from_arrays({"x": rng.normal(size=N), **values}))


def spec_of(profile) -> Spec:
    columns = guess.guess_columns(profile)
    return Spec.model_validate({"columns": columns, **guess.guess_problem(profile, columns)})


@pytest.mark.parametrize(
    ("levels", "name", "held", "training"),
    [
        (["Lernen", "Prüfung"], "menge", ("Prüfung",), ("Lernen",)),
        (["apprentissage", "test"], "jeu", ("test",), ("apprentissage",)),
        (["True", "False"], "is_train", ("False",), ("True",)),
        (["True", "False"], "holdout", ("True",), ("False",)),
        (["yes", "no"], "training_set", ("no",), ("yes",)),
        (["True", "False"], "part", (), ()),
        (["a", "b", "c"], "split", (), ()),
    ],
)
def test_values_of_a_split_are_told_by_their_words_or_its_name(levels, name, held, training):
    assert guess.split_values(levels, name) == (held, training)


def test_a_column_that_says_who_was_held_out_is_no_outcome():
    profile = profile_of(colour=["red", "blue"], holdout=["True", "False"])
    roles = {one.name: one.role for one in guess.guess_columns(profile)}
    assert roles["holdout"] is Role.split and Role.outcome not in roles.values()
    spec = spec_of(profile)
    assert (spec.holdout_values, spec.training_values) == (("True",), ("False",))


@pytest.mark.parametrize("name", ["test", "training", "took_training", "blood_test"])
def test_a_test_or_a_training_that_people_took_is_no_split(name):
    profile = profile_of(**{name: ["yes", "no"]}, sold=["yes", "no"])
    assert {one.name: one.role for one in guess.guess_columns(profile)}[name] is Role.feature


def test_the_outcome_is_the_column_that_holds_the_classes_of_the_model():
    profile = profile_of(verdict=["granted", "refused"], again=["yes", "no"])
    spec = spec_of(profile)
    assert spec.outcome.name == "again"
    moved = guess.outcome_by_model(profile, spec, ("refused", "granted"))
    assert moved.outcome.name == "verdict" and moved.column("again").role is Role.ignored
    assert moved.event in ("granted", "refused") and moved.favourable_said
    good = moved.event == "granted"
    assert moved.favourable == ("event" if good else "other")
    assert guess.outcome_by_model(profile, moved, ("refused", "granted")) is None


def test_classes_that_say_nothing_or_that_two_columns_hold_move_nothing():
    profile = profile_of(first=["low", "high"], second=["low", "high"], again=["yes", "no"], size=["1", "2"])
    spec = spec_of(profile)
    for classes in ((), ("low", "high"), ("0", "1"), ("1", "2"), ("True", "False"), ("yes", "no"), ("low", "middle")):
        assert guess.outcome_by_model(profile, spec, classes) is None, classes


def test_what_follows_from_being_the_outcome_is_known_of_every_column():
    profile = profile_of(verdict=["granted", "refused"], kind=["a", "b", "c"])
    by_name = {one.name: one for one in profile.columns}
    spec = spec_of(profile)
    told = {name: guess.as_outcome(one, spec.column(name).kind) for name, one in by_name.items()}
    assert told["verdict"]["task"] is Task.binary and told["verdict"]["favourable_said"]
    assert told["kind"]["task"] is Task.several and not told["kind"]["favourable_said"]
    assert told["x"]["task"] is Task.regression
