"""What a finding says of a gap: both rates, how many people it comes to, in whose favour, and how severe by which metric."""

from __future__ import annotations

import re
from itertools import product

import numpy as np
import pytest
from tests.core.systems import system

from zerotilt.core.findings import gathered
from zerotilt.core.groups import metrics, tilt, tilt_said
from zerotilt.core.groups.disparity import TiltResult, TiltSettings
from zerotilt.core.groups.favour import favour
from zerotilt.core.meaning import Context, Role, Spec, Task
from zerotilt.core.methods import METHODS
from zerotilt.core.words import opening
from zerotilt.core.work import Work


def compared(columns, roles, task=Task.binary, event="1", **more) -> tuple[TiltResult, Spec]:
    subject = system(columns, None, None, roles, Context(rows="all"), task=task, event=event, **more)
    return tilt.compare_groups(subject, TiltSettings(), 1, Work()), subject.spec


def two(shares, **more):
    """Two groups whose decisions and outcomes are set: of (group, outcome, decision) so many rows."""
    rows = [key for key, many in shares.items() for _ in range(many)]
    columns = {"g": [one[0] for one in rows], "y": [one[1] for one in rows], "d": [one[2] for one in rows]}
    return compared(columns | more, {"g": Role.group, "d": Role.decision} | ({"w": Role.weight} if more else {}))


def halved(**decided):
    """Of every group so many decided favourably and not, and in half of either the event happened."""
    return {
        (g, y, d): many // 2 for g, both in decided.items() for d, many in zip("10", both, strict=True) for y in "10"
    }


# of whom the model predicts the event more often, the higher what; by definition, for an event that is favourable
MORE_PREDICTED = {
    "true_positive_rate": True,
    "false_positive_rate": True,
    "true_negative_rate": False,
    "false_negative_rate": False,
}


@pytest.mark.parametrize(("name", "good"), list(product(MORE_PREDICTED, ("event", "other"))))
def test_an_error_rate_favours_whoever_gets_the_favourable_decision_by_it(name, good):
    """By force: among rows of a fixed outcome, turn one decision to the favourable one, and see where the rate goes."""
    spec = Spec(columns=(), event="1", favourable=good)
    y = np.ones(10) if name in ("true_positive_rate", "false_negative_rate") else np.zeros(10)
    d = np.array([1, 0] * 5)
    turned = d.copy()
    turned[1 if good == "event" else 0] = 1 if good == "event" else 0  # one more favourable decision
    rate = {"true_positive_rate": np.mean, "false_positive_rate": np.mean}.get(name, lambda one: 1 - np.mean(one))
    higher = rate(turned) > rate(d)
    assert len(set(y)) == 1 and favour(name, higher, spec) == "advantage"
    assert favour(name, not higher, spec) == "disadvantage"


def test_where_a_metric_does_not_tell_nothing_is_said_and_being_right_is_no_favour():
    spec = Spec(columns=(), event="1")
    for name in ("positive_predictive_value", "negative_predictive_value", "base_rate"):
        assert favour(name, True, spec) == favour(name, False, spec) == ""
    assert favour("accuracy", True, spec) == "better" and favour("accuracy", False, spec) == "worse"
    assert favour("brier_score", True, spec) == "worse" and favour("mae", False, spec) == "better"


def test_of_numbers_and_classes_the_favourable_end_and_classes_decide():
    low = Spec(columns=(), task=Task.regression, favourable_end="low")
    assert favour("mean_prediction", True, low) == favour("mean_error", True, low) == "disadvantage"
    columns = [{"name": "desk", "kind": "ordered", "role": "outcome", "order": ["later", "soon", "now"]}]
    desk = Spec.model_validate({"columns": columns, "task": "ordered classes", "favourable_classes": ["now"]})
    assert favour("mean_rank", True, desk) == favour("class_share · now", True, desk) == "advantage"
    assert favour("false_negative_rate · now", True, desk) == "disadvantage"
    assert favour("class_share · later", True, desk) == ""
    turned = desk.model_copy(update={"favourable_classes": ("later", "soon")})
    assert favour("mean_rank", True, turned) == "disadvantage"
    assert favour("mean_rank", True, desk.model_copy(update={"favourable_classes": ("soon",)})) == ""


def test_every_finding_gives_both_rates_and_the_people_they_come_to():
    result, spec = two(halved(a=(150, 50), b=(60, 140)))
    told = {one.metric: one.statement for one in tilt_said.disparities(result, spec)}
    assert told["selection_rate"].endswith(
        "The rates are 30.0% and 75.0%: about 90 rows fewer than at the rate of rows whose g is a, to the group's disadvantage."
    )
    for found in result.disparities:
        own = next(one for one in result.groups if one.group == found.group).metrics[found.metric]
        said = tilt_said.rates(result, found, spec)
        if metrics.metric_named(found.metric).unit != "share" or own.value is None:
            continue
        people = re.search(r"about (\d+) rows? (more|fewer)", said)
        expected = round(abs(own.value - found.against.value) * own.of)
        assert (int(people[1]) if people else 0) == expected


def test_rows_of_unequal_weight_are_no_people_to_count():
    shares = halved(a=(150, 50), b=(60, 140))
    result, spec = two(shares, w=np.linspace(0.5, 2, 400))
    assert all("about" not in one.statement for one in tilt_said.disparities(result, spec))


def test_a_gap_in_what_happened_alone_is_no_finding_and_weighs_nothing_beside_others():
    alone, spec = two({("a", "1", "1"): 100, ("a", "0", "1"): 100, ("b", "1", "1"): 30, ("b", "0", "1"): 170})
    flagged = {one.metric for one in alone.disparities if one.status == "flagged"}
    assert "base_rate" in flagged
    alone = alone.model_copy(
        update={"disparities": tuple(d for d in alone.disparities if d.metric in ("base_rate", "selection_rate"))}
    )
    assert tilt_said.disparities(alone, spec) == []
    beside, spec = two(
        {("a", "1", "1"): 100, ("a", "0", "0"): 100, ("b", "1", "1"): 30, ("b", "0", "1"): 40, ("b", "0", "0"): 130}
    )
    kept = tuple(d for d in beside.disparities if d.metric in ("base_rate", "selection_rate"))
    (fact,) = gathered(tilt_said.disparities(beside.model_copy(update={"disparities": kept}), spec))
    base = next(d for d in kept if d.metric == "base_rate")
    assert base.ratio.value < 0.64 and base.ratio.high < 0.8  # it would be severe if it weighed
    assert fact.parts[0].metric == "selection_rate" and fact.severity != "high"


def test_the_metric_that_makes_a_finding_severe_is_told_first_and_its_reason_fits_its_numbers():
    rng = np.random.default_rng(2)
    for _ in range(12):
        n = 3_000
        g, y = rng.choice(["a", "b", "c"], n, p=[0.5, 0.3, 0.2]), rng.random(n) < 0.5
        rates = {one: rng.uniform(0.2, 0.9, 2) for one in "abc"}
        d = rng.random(n) < np.array([rates[one][int(z)] for one, z in zip(g, y, strict=True)])
        columns = {"g": g, "y": y.astype(int).astype(str), "d": d.astype(int).astype(str)}
        result, spec = compared(columns, {"g": Role.group, "d": Role.decision})
        for fact in gathered(tilt_said.disparities(result, spec)):
            first = fact.parts[0]
            assert first.gap is not None and fact.statement.startswith(first.statement)
            ratio = float(re.search(r"([\d.]+) times", first.statement)[1])
            far = ratio <= 0.645 or ratio >= 1.555
            if not 0.635 < ratio < 0.645 and not 1.555 < ratio < 1.565:  # where rounding decides
                assert fact.why.startswith("at least" if far else "less than")
            assert "(twice is 0.64 or 1.56)" in fact.why
            low, high = (float(end) for end in re.search(r"interval ([\d.]+) to ([\d.]+)", first.statement).groups())
            assert (
                ("wholly outside" in fact.why) == (high < 0.8 or low > 1.25)
                or 0.795 < high < 0.805
                or 1.245 < low < 1.255
            )


@pytest.mark.parametrize(
    ("gap", "says"),
    [
        (-3.0, r"less than that of .* \(95% interval \d[\d.]* to \d[\d.]* days;"),
        (3.0, r"more than that .* interval \d"),
    ],
)
def test_the_interval_of_less_is_told_as_less(gap, says):
    rng = np.random.default_rng(0)
    n = 600
    g = np.where(np.arange(n) % 2, "a", "b")
    y = rng.normal(20, 4, n)
    columns = {"g": g, "y": y, "s": y + np.where(g == "b", gap, 0) + rng.normal(0, 1, n)}
    wording = {"wording": {"unit": "days"}}
    result, spec = compared(columns, {"g": Role.group, "s": Role.score}, Task.regression, "", **wording)
    found = next(one for one in result.disparities if one.metric == "mean_error")
    text = tilt_said.sentence(result, found, spec.wording)
    assert re.search(says, text) and "−" not in text


@pytest.mark.parametrize("level", ["other", "Missing", "not so", "all others"])
def test_levels_that_are_words_of_ours_are_quoted_with_their_column(level):
    result, spec = two(halved(**{level: (60, 140), "b": (200, 50)}))
    text = tilt_said.say(result, spec.wording, TiltSettings()).text
    assert text.startswith(f"Rows whose g is “{level}”: decided favourably")


def test_a_column_of_one_letter_is_written_as_it_is():
    assert opening("x is over 3") == "x is over 3" and opening("a row of 3") == "A row of 3"
    assert opening("age is over 3") == "Age is over 3" and opening("iD") == "iD"


def test_metrics_come_in_their_own_order_whatever_keeps_them():
    result, _ = two({("a", "1", "1"): 60, ("a", "1", "0"): 140, ("b", "1", "1"): 200, ("b", "0", "0"): 50})
    group = result.groups[0].model_dump(mode="json")
    kept = group | {"metrics": dict(sorted(group["metrics"].items(), key=lambda one: (len(one[0]), one[0])))}
    assert list(kept["metrics"]) != list(group["metrics"])
    again = type(result.groups[0]).model_validate(kept)
    assert list(again.metrics) == [name for name in metrics.METRICS if name in again.metrics]
    assert METHODS["tilt"].result.model_validate(result.model_dump(mode="json")) == result
