"""Leaning on one column, and trained again without one: by force, and what is claimed where nothing is lost."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from tests.core.systems import system
from tests.core.test_candidates import fold
from tests.core.test_versions import versions

from zerotilt.core.drivers.agreement import effective_features
from zerotilt.core.meaning import Task, Wording
from zerotilt.core.method import Method
from zerotilt.core.refusal import Refused
from zerotilt.core.remedies import without as without_file
from zerotilt.core.remedies.leaning import LeaningSettings, disturbed, leaning, moved_by_shuffling
from zerotilt.core.remedies.leaning import say as say_leaning
from zerotilt.core.remedies.without import WithoutSettings, without
from zerotilt.core.remedies.without import say as say_without
from zerotilt.core.work import Work


def desk(weights=(3.0, 1.0, 0.0), n: int = 800):
    rng = np.random.default_rng(3)
    x = rng.normal(size=(n, 3))
    y = (x @ [1.0, 0.5, 0.0] + rng.normal(0, 0.7, n) > 0).astype(int)

    def score(rows):
        return 1 / (1 + np.exp(-sum(w * rows[f"x{j}"] for j, w in enumerate(weights))))[:, None]

    return system({f"x{j}": x[:, j] for j in range(3)} | {"y": y.astype(str)}, score, ["x0", "x1", "x2"])


def test_shares_are_of_how_far_the_output_moves():
    subject = desk()
    moved = moved_by_shuffling(subject, 5)
    rng = np.random.default_rng([5, 11])
    chosen = np.sort(subject.rows.drawn(rng, 2_000))
    turn = rng.permutation(len(chosen))
    by_hand = []
    for name in ("x0", "x1", "x2"):
        other = subject.frame.replace(name, subject.frame[name][turn])
        by_hand.append(np.abs(subject.model.outputs(other) - subject.model.outputs(subject.frame)).mean())
    assert moved == pytest.approx(by_hand) and moved[0] > moved[1] > moved[2] == 0
    result = leaning(subject, LeaningSettings(), 5, Work())
    (one,) = result.versions
    assert one.leading == one.disturbed == "x0" and one.share == pytest.approx(moved[0] / moved.sum())
    assert one.effective == pytest.approx(effective_features(moved / moved.sum()))
    assert one.change.low > 0 and 0 < one.turned.value < 1  # noise on what it leans on costs it
    said = say_leaning(result, Wording(), LeaningSettings())
    assert "leans on x0 for" in said.headline[0].text and "With x0 disturbed by 0.5" in said.headline[1].text


def test_a_column_that_is_not_used_can_be_disturbed_without_loss():
    result = leaning(desk(), LeaningSettings(feature="x2", amount=2), 1, Work())
    assert result.versions[0].change.value == 0 and result.versions[0].turned.value == 0
    with pytest.raises(Refused, match="no version takes “nowhere”"):
        leaning(desk(), LeaningSettings(feature="nowhere"), 1, Work())


def test_versions_are_disturbed_each_in_its_own_column_and_those_that_cannot_be_read_are_named():
    subject = replace(versions(), others=versions().others | {"other": Refused("no")})
    result = leaning(subject, LeaningSettings(), 1, Work())
    assert result.versions[0].version == "base" and result.unread == ("other",)
    assert "Not read: other." in say_leaning(result, Wording(), LeaningSettings()).detail
    numbers = leaning(versions(task=Task.regression), LeaningSettings(), 1, Work())
    assert numbers.metric == "mae" and numbers.versions[0].turned.value is None


def test_noise_is_of_the_amount_that_is_said():
    rng = np.random.default_rng(1)
    x = np.where(rng.random(20_000) < 0.1, np.nan, rng.normal(0, 7, 20_000))
    off = disturbed(x, 0.5, rng) - x
    assert np.isnan(off).sum() == np.isnan(x).sum() and np.nanstd(off) == pytest.approx(3.5, rel=0.03)
    levels = rng.choice(["a", "b"], 20_000).astype(object)
    assert (disturbed(levels, 0.4, rng) != levels).mean() == pytest.approx(0.2, abs=0.02)
    assert np.array_equal(disturbed(np.full(5, 3.0), 0.5, rng), np.full(5, 3.0))


def retrained(losses: dict[str, tuple[float, ...]]):
    """A subject whose recipe, trained without a column, has stated losses by fold."""
    asked: list[tuple[str, ...]] = []

    def again(left_out, work):
        asked.append(left_out)
        return tuple(fold(one, 0.4, -0.1) for one in losses["".join(left_out)])

    return replace(desk(), again=again), asked


BASE = (0.50, 0.52, 0.51, 0.53, 0.52)


def test_what_is_lost_without_a_column_is_read_on_the_same_folds():
    subject, asked = retrained(
        {"": BASE, "x0": (0.60, 0.621, 0.609, 0.63, 0.62), "x1": (0.49, 0.53, 0.50, 0.54, 0.52), "x2": BASE}
    )
    result = without(subject, WithoutSettings(), 1, Work())
    assert asked[0] == () and {one for one in asked[1:]} == {("x0",), ("x1",), ("x2",)}
    first, *rest = result.features
    assert (first.feature, first.verdict) == ("x0", "worse without") and first.change.value == pytest.approx(0.1)
    assert {one.verdict for one in rest} == {"no evidence of use"}
    said = say_without(result, Wording(), WithoutSettings())
    assert (
        "Trained again without x0, the log loss is worse by 0.100 (0.099 to 0.101) over 5 folds"
        in said.headline[0].text
    )
    assert "there is no evidence that the model needs it." in said.headline[1].text
    only = without(subject, WithoutSettings(features=("x2",)), 1, Work())
    assert "is not worse beyond chance" in say_without(only, Wording(), WithoutSettings()).headline[0].text


def test_a_version_that_was_not_trained_here_says_so():
    method: Method = without_file.METHOD
    with pytest.raises(Refused, match="only a version that was trained here can be trained again"):
        method.refuse(desk())
    with pytest.raises(Refused, match="Only a version that was trained here"):
        without(desk(), WithoutSettings(), 1, Work())
    with pytest.raises(Refused, match="the model does not take “nowhere”"):
        without(retrained({"": BASE})[0], WithoutSettings(features=("nowhere",)), 1, Work())
