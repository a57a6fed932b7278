"""What the Response sheet draws beside the mean curve."""

import io
import json
import re

import numpy as np
import pyarrow.csv as pacsv
import pyarrow.parquet as pq
import pytest
from tests.core.systems import system

from zerotilt.core import arrayfile, tabulate
from zerotilt.core.meaning import Context, Task, Wording
from zerotilt.core.predictors.function import FunctionPredictor
from zerotilt.core.refusal import Refused
from zerotilt.core.response import accumulated, interactions, partial, surface
from zerotilt.core.response.accumulated import AleSettings
from zerotilt.core.response.interactions import InteractionsSettings
from zerotilt.core.response.response_result import ResponseSettings
from zerotilt.core.response.surface import SurfaceSettings
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


def chance(f):
    return 1 / (1 + np.exp(-(np.where(f["kind"] == "a", 1.5, -1.5) * f["x"] + 0.4 * f["z"])))


def subject_of(function=chance, n=600, together=0.0, **more):
    rng = np.random.default_rng(3)
    x = rng.uniform(-2, 2, n)
    columns = {
        "x": x,
        "z": together * x + np.sqrt(1 - together**2) * rng.normal(size=n),
        "kind": np.array(["a", "b"], dtype=object)[(rng.random(n) < 0.3).astype(int)],
        "y": rng.integers(0, 2, n),
    }
    return system(columns, function, ["x", "z", "kind"], **more)


def test_parts_have_the_means_of_their_own_rows_and_are_said_where_they_differ():
    subject = subject_of()
    settings = ResponseSettings(feature="x", colour="kind", rows=600, points=9, curves=600)
    result = partial.respond(subject, settings, 1, Work())
    kinds = subject.frame["kind"]
    for part in result.parts:
        rows = subject.frame.take(np.flatnonzero(kinds == part.label))
        for point, mean in zip(result.points, part.mean, strict=True):
            asked = subject.output(rows.replace("x", np.full(rows.rows, point.position)))
            assert mean == pytest.approx(asked.mean(), abs=1e-12)
        assert part.rows == rows.rows
    assert {part.label: part.direction for part in result.parts} == {"a": "rises", "b": "falls"}
    for row, code, curve in zip(result.curve_rows, result.curve_parts, result.curves, strict=True):
        assert result.parts[code].label == kinds[row]
        assert curve == pytest.approx(
            subject.output(
                subject.frame.take(np.repeat(row, 9)).replace("x", np.array([p.position for p in result.points]))
            )
        )
    text = partial.say(result, Wording(), settings).text
    assert "By kind it differs: the mean rises for a (" in text and "falls for b (" in text
    first = next(part for part in result.parts if part.label == "b")
    assert f"({first.mean[0] * 100:.1f}% to {first.mean[-1] * 100:.1f}%)" in text


def test_the_marker_of_a_case_lies_on_its_curve():
    subject = subject_of()
    row = int(np.argsort(subject.frame["x"])[300])
    result = partial.respond(subject, ResponseSettings(feature="x", case=row, points=7), 1, Work())
    case = result.case
    assert (case.position, case.output) in [tuple(step) for step in case.path]
    assert case.output == pytest.approx(subject.output(subject.frame.take(np.array([row])))[0])
    assert [at for at, _ in case.path] == sorted(at for at, _ in case.path) and not case.outside
    far = int(np.argmax(subject.frame["x"]))
    beyond = partial.respond(subject, ResponseSettings(feature="x", case=far, percentiles=(10, 90)), 1, Work())
    assert beyond.case.outside and beyond.case.position not in [at for at, _ in beyond.case.path]
    said = partial.say(beyond, Wording(row="claim"), ResponseSettings()).detail
    assert f"The chosen claim lies beyond it, at {beyond.case.label}." in said


def test_a_region_is_cut_to_the_rows_and_counts_those_beyond():
    subject = subject_of()
    result = partial.respond(subject, ResponseSettings(feature="x", low=-0.5, high=9.0, points=200), 1, Work())
    places = [point.position for point in result.points]
    x = subject.frame["x"]
    assert min(places) == x[x >= -0.5].min() and max(places) == x.max()
    assert result.outside == (x < min(places)).sum()
    assert result.distinct == len(np.unique(x[x >= -0.5])) and set(result.rug) <= set(x)
    with pytest.raises(Refused, match="no row has x between 5 and 6; the rows reach from"):
        partial.respond(subject, ResponseSettings(feature="x", low=5, high=6), 1, Work())
    with pytest.raises(Refused, match="begins at 1 and ends at 0"):
        partial.respond(subject, ResponseSettings(feature="x", low=1, high=0), 1, Work())
    with pytest.raises(ValueError, match="percentiles: 90 and 10 were given"):
        ResponseSettings(percentiles=(90, 10))


def test_every_class_has_a_curve_and_they_add_up_to_one():
    rng = np.random.default_rng(3)
    x = rng.normal(size=300)

    def shares(f):
        raw = np.exp(np.outer(f["x"], [0, 1, 2]))
        return raw / raw.sum(axis=1, keepdims=True)

    names = ["low", "middle", "high"]
    base = system({"x": x, "y": np.array(names, dtype=object)[rng.integers(0, 3, 300)]}, task=Task.several, event="")
    predictor = FunctionPredictor(["x"], shares, Task.several, names)
    subject = Subject(base.spec, base.table, predictor, Context(rows="all", read_class="middle"))
    result = partial.respond(subject, ResponseSettings(points=8), 1, Work())
    assert [one.label for one in result.classes] == names
    assert np.sum([one.mean for one in result.classes], axis=0) == pytest.approx(np.ones(8))
    assert result.classes[1].mean == pytest.approx([point.mean for point in result.points])


def test_the_curve_alongside_is_that_models_own_at_the_same_points():
    subject = subject_of()
    other = Subject(
        subject.spec, subject.table, FunctionPredictor(["x", "z", "kind"], lambda f: chance(f) / 2), subject.context
    )
    both = Subject(subject.spec, subject.table, subject.predictor, subject.context, other)
    result = partial.respond(both, ResponseSettings(feature="x", rows=600, points=7), 1, Work())
    for i, point in enumerate(result.points):
        assert result.beside.mean[i] == pytest.approx(point.mean / 2)
        assert result.beside.difference[i].value == pytest.approx(-point.mean / 2)
        assert result.beside.difference[i].low < -point.mean / 2 < result.beside.difference[i].high
    said = partial.say(result, Wording(), ResponseSettings()).text
    assert "In the version alongside the mean is up to" in said and "lower" in said
    none = Subject(
        subject.spec, subject.table, FunctionPredictor(["z"], lambda f: np.full(f.rows, 0.5)), subject.context
    )
    lone = Subject(subject.spec, subject.table, subject.predictor, subject.context, none)
    assert partial.respond(lone, ResponseSettings(feature="x"), 1, Work()).beside is None


def test_accumulated_effects_part_from_the_mean_curve_where_features_go_together_and_work_together():
    def product(f):
        return 1 / (1 + np.exp(-2 * f["x"] * f["z"]))

    parted = accumulated.accumulate(subject_of(product, 3_000, together=0.9), AleSettings(feature="x"), 1, Work())
    assert parted.apart and parted.associated[0].feature == "z" and parted.associated[0].strength > 0.8
    gaps = [abs(point.partial - point.value) for point in parted.points]
    assert parted.gap == pytest.approx(max(gaps)) and parted.gap_at == parted.points[int(np.argmax(gaps))].label
    text = accumulated.say(parted, Wording(), AleSettings()).text
    assert f"up to {parted.gap * 100:.1f} points, at {parted.gap_at}: x is associated with z" in text

    def added(f):
        return 0.5 + 0.1 * f["x"] + 0.05 * np.tanh(f["z"])

    same = accumulated.accumulate(subject_of(added, 3_000, together=0.0), AleSettings(feature="x"), 1, Work())
    assert not same.apart and same.gap < 0.01 and same.associated == ()
    assert "Partial dependence says the same" in accumulated.say(same, Wording(), AleSettings()).detail
    # an additive model: both curves agree although the features go together
    linked = accumulated.accumulate(subject_of(added, 3_000, together=0.9), AleSettings(feature="x"), 1, Work())
    assert not linked.apart and linked.associated[0].feature == "z"


def test_a_surface_held_at_a_case_follows_its_changed_values():
    subject = subject_of()
    settings = SurfaceSettings(first="x", second="z", points=6, case=4, edits={"kind": "b", "z": "0.5"})
    result = surface.survey(subject, settings, 1, Work())
    row = subject.editor.case(4, {"kind": "b"})
    for i, x in enumerate(result.first.positions):
        for j, z in enumerate(result.second.positions):
            asked = subject.output(row.replace("x", np.array([x])).replace("z", np.array([z])))[0]
            assert result.values[i][j] == pytest.approx(asked, abs=1e-12)
    held = {one.feature: one for one in result.held_values}
    assert (held["kind"].text, held["z"].text) == ("b", "0.5")
    assert held["z"].edited and not held["x"].edited
    assert result.marker == (subject.frame["x"][4], 0.5)
    assert "as changed" in result.held


def test_decision_and_strength_are_read_apart():
    subject = subject_of()
    result = surface.survey(subject, SurfaceSettings(first="x", second="kind", points=7), 1, Work())
    values = np.array(result.values)
    assert np.array_equal(np.array(result.decision), (values >= 0.5).astype(int))
    assert np.array(result.strength) == pytest.approx(np.abs(values - 0.5))
    assert result.decisions == ("decided unfavourably", "decided favourably")
    assert result.first.mean == pytest.approx(values.mean(axis=1))


def test_a_pair_that_works_only_together_is_not_left_out():
    rng = np.random.default_rng(0)
    names = [f"c{i}" for i in range(20)]
    columns = {name: rng.choice([-1.0, 1.0], 400) for name in names}

    def together(f):  # the two have no mean effect of their own
        return 0.5 + 0.3 * f["c18"] * f["c19"] + 0.02 * sum(f[name] for name in names[:5])

    subject = system(columns | {"y": rng.integers(0, 2, 400)}, together, names)
    result = interactions.pair_up(subject, InteractionsSettings(rows=30, draws=2), 1, Work())
    assert {result.pairs[0].first, result.pairs[0].second} == {"c18", "c19"}
    assert result.pairs[0].strength.value > 0.8 and result.left_out == 6


def test_every_array_is_written_in_three_open_formats():
    subject = subject_of()
    settings = ResponseSettings(feature="kind", colour="kind", case=3, curves=5)
    result = partial.respond(subject, settings, 1, Work())
    tables = tabulate.tables(result)
    assert set(tables) >= {"points", "curves", "parts", "case"}
    assert tables["curves"].num_rows == 5 * len(result.points)
    for table in tables.values():
        data, _ = arrayfile.written(table, "parquet")
        assert pq.read_table(io.BytesIO(data)).equals(table)
        data, _ = arrayfile.written(table, "json")
        assert json.loads(data) == table.to_pylist()
        data, _ = arrayfile.written(table, "csv")
        assert pacsv.read_csv(io.BytesIO(data)).num_rows == table.num_rows
    values = [point.mean for point in result.points]
    assert tables["points"].column("mean").to_pylist() == values


def test_a_text_that_looks_like_a_formula_stays_a_text():
    import pyarrow as pa

    table = pa.table({"=name": ["=1+1", "@x", "plain", None], "list": [[1.0], None, [], [2.0]]})
    text = arrayfile.written(table, "csv")[0].decode()
    assert "'=1+1" in text and "'@x" in text and "'=name" in text and "[1.0]" in text
    assert json.loads(arrayfile.written(table, "json")[0])[0]["=name"] == "=1+1"


def test_nothing_is_said_of_a_part_where_it_has_no_rows():
    rng = np.random.default_rng(2)
    district = rng.choice([f"d{i}" for i in range(6)], 600).astype(object)
    area = np.array(["north" if name in ("d0", "d1", "d2") else "south" for name in district], dtype=object)
    subject = system(
        {"district": district, "area": area, "y": rng.integers(0, 2, 600)},
        lambda f: np.where(f["area"] == "north", 0.8, 0.2),
        ["district", "area"],
    )
    settings = ResponseSettings(feature="district", colour="area")
    result = partial.respond(subject, settings, 1, Work())
    said = partial.say(result, Wording(), settings).text
    assert "By area nothing can be compared: no place along district has 10 rows in two parts." in said
    x = np.where(area == "north", rng.uniform(0, 1, 600), rng.uniform(2, 3, 600))
    apart = system(
        {"x": x, "area": area, "y": rng.integers(0, 2, 600)},
        lambda f: 0.5 + np.where(f["area"] == "north", 0.1, -0.1) * np.minimum(f["x"], 3) / 3,
        ["x", "area"],
    )
    settings = ResponseSettings(feature="x", colour="area", points=60)
    result = partial.respond(apart, settings, 1, Work())
    north = next(part for part in result.parts if part.label == "north")
    last = max(i for i, rows in enumerate(north.support) if rows >= 10)
    assert result.points[last].position < 1.3
    assert f"to {north.mean[last] * 100:.1f}%)" in partial.say(result, Wording(), settings).text


def three_classes(n=400):
    rng = np.random.default_rng(9)
    columns = {"x": rng.normal(size=n), "z": rng.normal(size=n)}

    def shares(f):
        raw = np.exp(np.column_stack([-f["x"], 0.5 * f["z"], f["x"]]))
        return raw / raw.sum(axis=1, keepdims=True)

    names = ["low", "middle", "high"]
    drawn = np.array(names, dtype=object)[rng.integers(0, 3, n)]
    base = system(columns | {"y": drawn}, task=Task.ordered, event="high")
    predictor = FunctionPredictor(["x", "z"], shares, Task.ordered, names)
    return Subject(base.spec, base.table, predictor, Context(rows="all"))


def test_of_several_classes_the_likeliest_is_decided_and_its_chance_is_its_strength():
    subject = three_classes()
    result = surface.survey(subject, SurfaceSettings(first="x", second="z", points=6, rows=400), 1, Work())
    assert result.decisions == ("low", "middle", "high") and result.threshold is None
    for i, x in enumerate(result.first.positions):
        for j, z in enumerate(result.second.positions):
            moved = subject.frame.replace("x", np.full(400, x)).replace("z", np.full(400, z))
            mean = subject.model.outputs(moved).mean(axis=0)
            assert result.decision[i][j] == int(mean.argmax())
            assert result.strength[i][j] == pytest.approx(mean.max())
            assert result.values[i][j] == pytest.approx(mean[2])
    table = tabulate.tables(result)["points"]
    assert set(table.column("decision").to_pylist()) <= {"low", "middle", "high"}


def test_classes_in_log_odds_are_curves_of_log_odds():
    subject = three_classes()
    read = Subject(subject.spec, subject.table, subject.predictor, Context(rows="all", output="log-odds"))
    result = partial.respond(read, ResponseSettings(feature="x", points=5), 1, Work())
    # ln p less the mean of the others' ln p: the three add up to nothing
    assert np.sum([one.mean for one in result.classes], axis=0) == pytest.approx(np.zeros(5), abs=1e-9)
    assert (
        result.threshold is None
        and "log-odds that y is high" in partial.say(result, Wording(), ResponseSettings()).text
    )


def test_pure_interaction_has_no_decision_and_no_means_of_its_own():
    settings = SurfaceSettings(first="x", second="z", kind="interaction", points=6, case=3)
    result = surface.survey(three_classes(), settings, 1, Work())
    assert result.decision == () and result.held is None and result.marker is None
    assert set(result.first.mean) == {0.0}
    assert surface.say(result, Wording(), settings).text.startswith("Beyond their own effects, x and z together")


@pytest.mark.parametrize("seed", range(5))
def test_ends_highest_and_lowest_of_a_sentence_are_of_the_same_points(seed):
    # nearly all rows lie at three of 21 values; the others are far higher, and held by two rows each
    rng = np.random.default_rng(seed)
    x = np.concatenate([rng.integers(4, 7, 2_000), np.repeat(np.arange(21), 2)]).astype(float)
    subject = system(
        {"x": x, "y": rng.integers(0, 2, len(x))},
        lambda f: 0.1 + 0.4 * np.abs(np.sin(2 * f["x"])) * (f["x"] > 6) + f["x"] / 99,
        ["x"],
    )
    asked = ResponseSettings(feature="x", rows=len(x), percentiles=(0, 100))
    result = partial.respond(subject, asked, 1, Work())
    said = partial.say(result, Wording(), asked).text.split("Mean of")[0]
    told = [float(one) for one in re.findall(r"(\d+\.\d)%", said)]
    means = [round(100 * point.mean, 1) for point in result.points]
    assert sum(not point.scarce for point in result.points) < len(result.points) / 2
    assert told[:2] == [means[0], means[-1]] and max(told) == max(means) and min(told) == min(means)
    assert partial.say(result, Wording(), asked).detail.count("Few rows lie near") == 1
