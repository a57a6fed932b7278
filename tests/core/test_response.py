"""Response: curves equal rescoring, support is counted, missing has its place."""

import numpy as np
import pytest
from tests.core.systems import system

from zerotilt.core.meaning import Context, Wording
from zerotilt.core.refusal import Refused
from zerotilt.core.response import partial
from zerotilt.core.response.curves import direction, ice
from zerotilt.core.response.response_result import ResponseSettings
from zerotilt.core.work import Work


def chance(rows):
    number = np.nan_to_num(rows["x"], nan=-1.0)
    return 1 / (1 + np.exp(-(number + np.where(rows["grade"] == "A", 1.0, 0.0))))


def subject_of(n=500, missing=0.1, output="probability"):
    rng = np.random.default_rng(1)
    x = rng.normal(size=n)
    x[rng.random(n) < missing] = np.nan
    grade = rng.choice(["A", "B", "C"], n, p=[0.6, 0.39, 0.01])
    columns = {"x": x, "grade": grade, "y": rng.integers(0, 2, n)}
    return system(columns, chance, ["x", "grade"], context=Context(rows="all", output=output))


@pytest.mark.parametrize("output", ["probability", "log-odds"])
def test_the_mean_curve_equals_rescoring_row_by_row(output):
    subject = subject_of(output=output)
    result = partial.respond(subject, ResponseSettings(feature="x", rows=500, points=9), 3, Work())
    for point in result.points:
        value = np.nan if point.position is None else point.position
        rescored = subject.output(subject.frame.replace("x", np.full(500, value)))
        assert point.mean == pytest.approx(rescored.mean(), abs=1e-12)
        assert (point.p10, point.p90) == pytest.approx(tuple(np.quantile(rescored, [0.1, 0.9])), abs=1e-12)


def test_missing_has_a_place_of_its_own():
    result = partial.respond(subject_of(), ResponseSettings(feature="x"), 1, Work())
    assert result.points[-1].position is None
    assert result.points[-1].support == int(np.isnan(subject_of().frame["x"]).sum())
    assert (
        partial.respond(subject_of(missing=0), ResponseSettings(feature="x"), 1, Work()).points[-1].position is not None
    )


def test_no_value_is_told_as_such_and_as_no_end_of_a_stretch():
    result = partial.respond(subject_of(missing=0.01), ResponseSettings(feature="x"), 1, Work())
    assert result.points[-1].scarce and result.points[-2].scarce  # the thin end lies beside it in the list
    said = partial.say(result, Wording(), ResponseSettings()).detail
    assert " In few rows x is missing." in said and "to missing" not in said and "near missing" not in said
    only = result.model_copy(
        update={"points": tuple(p.model_copy(update={"scarce": p.position is None}) for p in result.points)}
    )
    assert "Few rows lie near" not in partial.say(only, Wording(), ResponseSettings()).detail


def test_levels_are_counted_and_rare_ones_marked():
    result = partial.respond(subject_of(), ResponseSettings(feature="grade"), 1, Work())
    assert not result.numeric
    assert {point.label: point.scarce for point in result.points} == {"A": False, "B": False, "C": True}
    assert sum(point.support for point in result.points) == 500
    reading = partial.say(result, Wording(), ResponseSettings())
    assert "highest at grade A" in reading.text
    assert "Few rows lie near C" in reading.detail


def test_density_counts_the_rows_of_the_range():
    subject = subject_of(missing=0)
    result = partial.respond(subject, ResponseSettings(feature="x", percentiles=(0, 100)), 1, Work())
    assert sum(bin.rows for bin in result.density) == 500


def test_few_distinct_values_are_all_drawn_with_their_rows_at_them():
    rng = np.random.default_rng(2)
    columns = {"k": rng.choice([0.0, 1.0, 2.0, 3.0], 400, p=[0.7, 0.27, 0.01, 0.02]), "y": rng.integers(0, 2, 400)}
    subject = system(columns, lambda frame: frame["k"] / 4, ["k"])
    result = partial.respond(subject, ResponseSettings(feature="k", percentiles=(0, 100)), 1, Work())
    assert [point.position for point in result.points] == [0, 1, 2, 3]
    assert [(bin.low + bin.high) / 2 for bin in result.density] == pytest.approx([0, 1, 2, 3])
    assert [bin.rows for bin in result.density] == [int((columns["k"] == k).sum()) for k in range(4)]


def test_ice_does_not_depend_on_its_chunks(monkeypatch):
    subject = subject_of()
    values = np.linspace(-2, 2, 7)
    whole = ice(subject.output, subject.frame, "x", values)
    monkeypatch.setattr("zerotilt.core.response.curves.EVALUATIONS_AT_ONCE", 50)
    assert (ice(subject.output, subject.frame, "x", values) == whole).all()


@pytest.mark.parametrize(
    ("curve", "ordered", "expected"),
    [
        ([0, 1, 2], True, "rises"),
        ([2, 1, 0], True, "falls"),
        ([0, 1, 0.95], True, "rises"),
        ([0, 1, 0], True, "bends"),
        ([0.5, 0.5001], True, "flat"),
        ([0, 1], False, "by level"),
    ],
)
def test_directions(curve, ordered, expected):
    assert direction(np.array(curve, float), ordered, 1.0) == expected


def test_the_reading_has_the_curves_own_numbers():
    result = partial.respond(subject_of(), ResponseSettings(feature="x"), 1, Work())
    reading = partial.say(result, Wording(row="claim", rows="claims"), ResponseSettings(feature="x"))
    on_scale = [point for point in result.points if point.position is not None and not point.scarce]
    assert f"from {on_scale[0].mean * 100:.1f}% to {on_scale[-1].mean * 100:.1f}%" in reading.text


@pytest.mark.parametrize("value", [3.0, np.nan])
def test_a_feature_with_one_value_or_none_is_said(value):
    columns = {"x": np.full(60, value), "y": np.arange(60) % 2}
    subject = system(columns, lambda frame: np.full(frame.rows, 0.25), ["x"])
    result = partial.respond(subject, ResponseSettings(feature="x"), 1, Work())
    shown = "3" if value == 3 else "missing"
    text = partial.say(result, Wording(), ResponseSettings()).text
    assert text == f"x is {shown} in all of these rows; the mean chance that y is 1 is 25.0%."


def test_an_unknown_feature_is_refused_by_name():
    with pytest.raises(Refused, match="“colour” is not a feature of the model"):
        partial.respond(subject_of(), ResponseSettings(feature="colour"), 1, Work())


def test_nothing_in_the_sentence_is_of_a_place_where_hardly_any_row_lies():
    """A curve that rises where the rows are and falls steeply where three of them lie: the sentence speaks of the rise."""
    x = np.concatenate([np.linspace(0, 1, 400), [9.0, 9.5, 10.0]])
    shape = lambda rows: np.where(rows["x"] < 2, 0.2 + 0.4 * rows["x"], 0.01)  # noqa: E731
    subject = system({"x": x, "y": np.arange(403) % 2}, shape, ["x"])
    result = partial.respond(subject, ResponseSettings(feature="x", percentiles=(0, 100)), 1, Work())
    held = [point for point in result.points if not point.scarce]
    assert result.points[-1].scarce and result.points[-1].mean < min(point.mean for point in held)
    assert result.direction == "rises"
    text = partial.say(result, Wording(), ResponseSettings(feature="x")).text
    first, last = held[0], held[-1]
    assert text == (
        f"As x goes from {first.label} to {last.label}, the mean chance that y is 1 rises from "
        f"{first.mean:.1%} to {last.mean:.1%}."
    )
