"""The engine in a notebook: frames of every kind in, readings, tables and plots out; mistakes are named."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from tests.core import zoo

from zerotilt.core.candidates.recipe import Dealing, Recipe
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work
from zerotilt.notebook import Study
from zerotilt.train.fitting import train


@pytest.fixture(scope="module")
def frame() -> pd.DataFrame:
    task, _, columns = zoo.made("random forest")
    found = pd.DataFrame(columns | {"y": zoo.data()[2][task]})
    found["grade"] = found["grade"].astype("category")
    return found


@pytest.fixture(scope="module")
def model() -> bytes:
    return zoo.made("random forest")[1]


@pytest.fixture(scope="module")
def study(frame, model) -> Study:
    return Study(frame, model, "y", "1", groups=["channel"], favourable="event")


def test_every_method_is_named_in_the_notebook_s_document():
    text = (Path(__file__).parents[1] / "docs/notebook.md").read_text()
    named = set(re.findall(r"\.(\w+)\(", text))
    # set beside another version, which stands alongside in pages and reports alone
    assert set(METHODS) - named == {"changed"} and "`changed`" in text


@pytest.mark.parametrize("name", list(METHODS))
def test_every_method_has_a_reading_a_table_and_a_plot(study, frame, name):
    fields = METHODS[name].settings.model_fields
    needed = {
        "row": 3,
        "other": 4,
        "edits": {"weight": "9"},
        "expected": {"weight": "rises", "grade": "none"} if name == "expectations" else "rises",
        "conditions": "weight>0",
        "also": ("light: weight<=3", "heavy: weight>3 and not grade="),
        "sql": "select grade, count(*) as many from rows group by all",
    }
    if "recipe" in METHODS[name].needs:
        recipe = Recipe(estimator="linear", dealing=Dealing(folds=2, test_share=0))
        study = Study(frame, train(study.spec, study.table, recipe, Work()).data, "y", "1", favourable="1")
    found = getattr(study, name)(**{setting: value for setting, value in needed.items() if setting in fields})
    assert found.reading and found.reading == repr(found)
    assert found.table().num_rows > 0
    picture = found.plot()
    assert picture._repr_svg_().startswith("<svg") and len(picture.svg) > 500
    assert set(Study.methods()) == set(METHODS)


@pytest.mark.parametrize("name", ["gradient boosting, three classes", "random forest of a number", "neural network"])
def test_classes_and_numbers_are_drawn_too(name):
    task, data, columns = zoo.made(name)
    study = Study(
        columns | {"y": zoo.data()[2][task]},
        data,
        "y",
        "1" if task is zoo.BINARY else None,
        unit="days" if task is zoo.REGRESSION else "",
    )
    assert study.spec.task is task
    for method in (
        "performance",
        "drivers",
        "loss_shapley",
        "response",
        "ale",
        "surface",
        "interactions",
        "ladder",
        "surrogate",
        "checks",
    ):
        found = study.read(method, **({"row": 2} if "row" in METHODS[method].settings.model_fields else {}))
        assert found.plot().svg and found.table().num_rows and found.reading
    if task is zoo.REGRESSION:
        assert "days" in study.ladder(row=2).reading


def test_contributions_of_all_rows_add_up_to_the_output(study, frame):
    found = study.explain()
    table = found.table().to_pandas()
    assert found.method == "trees" and found.values.shape == (len(frame), 6)
    assert (table["baseline"] == found.baseline).all()
    assert table.drop(columns="output").to_numpy().sum(axis=1) == pytest.approx(table["output"].to_numpy())
    assert found.plot().svg
    assert study.explain(np.array([4, 9])).values == pytest.approx(found.values[[4, 9]])
    assert study.explain(slice(0, 3)).values == pytest.approx(found.values[:3])


def test_rows_of_another_frame_are_explained_against_the_studys(study, frame):
    other = frame.iloc[[9, 4]].drop(columns="y")
    assert study.explain(other).values == pytest.approx(study.explain(np.array([9, 4])).values, abs=1e-12)
    with pytest.raises(Refused, match="The frame has no columns “weight” and “grade”"):
        study.explain(other.drop(columns=["weight", "grade"]))
    with pytest.raises(Refused, match="frame: it has no rows"):
        study.explain(other.head(0))


def test_rows_are_counted_as_the_table_shows_them(study, frame):
    assert study.ladder(row=1).result.row == 0
    with pytest.raises(Refused, match="row: 0 was given; rows are counted from 1"):
        study.ladder(row=0)


def test_favourable_takes_what_the_page_and_the_command_line_take(frame, model):
    def rate(favourable) -> float:
        found = Study(frame, model, "y", "1", groups=["channel"], favourable=favourable).tilt().result
        return found.groups[0].metrics["selection_rate"].value

    assert rate("1") == rate("event") == pytest.approx(1 - rate("0"))
    assert rate("0") == rate("other")
    with pytest.raises(Refused, match="favourable: “2” is not in the outcome column; it holds 0, 1"):
        rate("2")
    with pytest.raises(Refused, match="0 and 1 were given; one of two decisions can be"):
        rate(["0", "1"])
    with pytest.raises(Refused, match="was not said, and the words of the outcome do not tell"):
        rate("")


@pytest.mark.parametrize(
    ("outcome", "event", "other", "favourable"),
    [
        ("deny", 1, 0, "other"),
        ("y", "approved", "denied", "event"),
        ("y", "late", "in time", "other"),
        ("y", 1, 0, None),
    ],
)
def test_words_tell_which_decision_is_favourable_or_it_is_asked(outcome, event, other, favourable):
    """Nobody is told that being denied is a favour because the event comes first."""
    n = 240
    given = {"a": np.arange(n) % 7.0, "g": np.where(np.arange(n) % 2, "u", "v")}
    given[outcome] = np.where(np.arange(n) % 3, event, other)
    study = Study(given, lambda rows: np.asarray(rows["a"]) / 7, outcome, str(event), features=["a"], groups=["g"])
    if favourable is None:
        with pytest.raises(Refused, match="do not tell"):
            study.tilt()
        assert study.response().reading  # what compares nobody asks for nothing
        return
    taken = study.tilt().result.groups[0].metrics["selection_rate"].value
    said = Study(
        given,
        lambda rows: np.asarray(rows["a"]) / 7,
        outcome,
        str(event),
        features=["a"],
        groups=["g"],
        favourable=favourable,
    )
    assert taken == said.tilt().result.groups[0].metrics["selection_rate"].value


@pytest.mark.parametrize("kind", ["pandas", "arrow", "mapping"])
def test_a_function_gets_the_kind_of_frame_that_the_study_was_opened_with(frame, kind):
    seen = []

    def chance(rows):
        seen.append(type(rows))
        weight = np.asarray(rows["weight"], float)
        app = np.array(
            [value == "app" for value in (rows["channel"].to_pylist() if kind == "arrow" else rows["channel"])]
        )
        return 1 / (1 + np.exp(-np.nan_to_num(weight) - app))

    given = {
        "pandas": frame,
        "arrow": pa.Table.from_pandas(frame, preserve_index=False),
        "mapping": {name: frame[name].to_numpy() for name in frame},
    }[kind]
    study = Study(given, chance, "y", "1", features=["weight", "channel"])
    found = study.ladder(row=3)
    assert {rung.feature for rung in found.result.rungs} == {"weight", "channel"}
    assert set(seen) == {{"pandas": pd.DataFrame, "arrow": pa.Table, "mapping": dict}[kind]}


def test_plots_are_saved_by_their_ending(study, tmp_path):
    plot = study.drivers().plot()
    plot.save(tmp_path / "drivers.svg")
    plot.save(tmp_path / "drivers.png")
    assert (tmp_path / "drivers.svg").read_text().startswith("<svg")
    assert (tmp_path / "drivers.png").read_bytes()[:4] == b"\x89PNG"
    with pytest.raises(Refused, match=r"neither in \.svg nor in \.png"):
        plot.save(tmp_path / "drivers.gif")


def test_a_file_is_explained_in_pieces_as_its_rows_are_at_once(study, frame, tmp_path, monkeypatch):
    monkeypatch.setattr("zerotilt.core.contributions.stream.PIECE_ROWS", 64)
    pq.write_table(pa.Table.from_pandas(frame.astype({"grade": str}), preserve_index=False), tmp_path / "rows.parquet")
    done = study.explain_file(tmp_path / "rows.parquet", tmp_path / "out.parquet")
    written = pq.read_table(tmp_path / "out.parquet").to_pandas()
    assert (done.rows, done.method) == (len(frame), "trees")
    assert written.to_numpy() == pytest.approx(study.explain().table().to_pandas().to_numpy(), abs=1e-9)
    with pytest.raises(Refused, match="The file has no columns “weight”, “value”, “days”"):
        pq.write_table(pa.table({"a": [1]}), tmp_path / "other.parquet")
        study.explain_file(tmp_path / "other.parquet", tmp_path / "out.parquet")


def test_weights_orders_and_progress_are_taken_up(frame, model):
    told = []
    weighed = Study(
        frame.assign(w=np.arange(len(frame)) % 3 + 1.0),
        model,
        "y",
        "1",
        weights="w",
        progress=lambda *state: told.append(state),
    )
    assert weighed.explain().baseline != pytest.approx(Study(frame, model, "y", "1").explain().baseline)
    assert told[-1][0] == told[-1][1]
    ordered = Study(
        frame, model, "y", "1", levels={"grade": list("DCBA")}, output="log-odds", favourable="other", threshold=0.4
    )
    assert [point.label for point in ordered.response(feature="grade").result.points] == list("DCBA")
    assert ordered.ladder(row=1).result.output == "log-odds"
    x = np.asarray(frame["weight"])
    desk = np.array(["later", "soon", "now"])[np.digitize(np.nan_to_num(x), [-0.5, 0.5])]

    def near(rows):
        found = np.exp(-((np.nan_to_num(np.asarray(rows["weight"], float))[:, None] - np.array([-1, 0, 1])) ** 2))
        return found / found.sum(axis=1, keepdims=True)

    routed = Study(
        frame.assign(y=desk), near, "y", order=["later", "soon", "now"], read_class="soon", features=["weight"]
    )
    assert routed.spec.task == "ordered classes"
    assert "y is soon" in routed.ladder(row=1).reading
    assert "rank_error" in routed.performance().result.sets[0].metrics


MISTAKES = {
    "a setting that is not there": (lambda s, f, m: s.drivers(foo=1), "foo: drivers has no such setting; it has loss, against_rest, repeats"),
    "a setting out of its range": (lambda s, f, m: s.drivers(repeats=1), "repeats: 1 was given; it must be at least 2"),
    "an unknown method": (lambda s, f, m: s.read("magic"), "“magic” is unknown; there are"),
    "no event": (lambda s, f, m: Study(f, m, "y"), "event: the outcome “y” has two values"),
    "a model of no kind": (lambda s, f, m: Study(f, 3, "y", "1"), "model: a int was given"),
    "a path to nothing": (lambda s, f, m: Study(f, "nowhere.onnx", "y", "1"), "“nowhere.onnx” cannot be read"),
    "an unknown scale": (lambda s, f, m: Study(f, m, "y", "1", output="odds"), "output: “odds” was given; there are"),
    "an unknown task": (lambda s, f, m: Study(f, m, "y", "1", task="guess"), "task: “guess” was given; there are binary"),
    "an unknown column": (lambda s, f, m: Study(f, m, "z", "1"), "no column “z”"),
    "one name twice": (lambda s, f, m: Study(pa.Table.from_arrays([pa.array([1, 2])] * 2, ["x", "x"]), m, "y", "1"), "frame: two columns are called “x”"),
    "no rows": (lambda s, f, m: Study(f.head(0), m, "y", "1"), "frame: it has no rows"),
    "no table": (lambda s, f, m: Study(7, m, "y", "1"), "frame: a int was given that is no table"),
    "a function of another shape": (lambda s, f, m: Study(f, lambda r: np.zeros(3), "y", "1").drivers(), r"shape \(3, 1\)"),
    "a function of no numbers": (lambda s, f, m: Study(f, lambda r: np.full(len(r), np.nan), "y", "1").drivers(), "no number in"),
    "a function of chance": (lambda s, f, m: Study(f, lambda r: np.random.default_rng().random(len(r)), "y", "1").response(), "other numbers when asked again"),
    "too many players": (lambda s, f, m: Study({f"x{j}": np.arange(20.0) for j in range(13)} | {"y": np.arange(20) % 2}, lambda r: np.full(20, 0.5) if len(r["x0"]) == 20 else np.full(len(r["x0"]), 0.5), "y", "1").ladder(row=1, method="enumeration"), "enumeration takes up to 12 features, the model has 13"),
}  # fmt: skip


@pytest.mark.parametrize("name", MISTAKES)
def test_a_mistake_is_named_with_what_was_given_and_what_is_allowed(study, frame, model, name):
    act, message = MISTAKES[name]
    with pytest.raises(Refused, match=message):
        act(study, frame, model)


def test_an_unknown_attribute_is_an_ordinary_error(study):
    with pytest.raises(AttributeError, match="no method “magic”"):
        _ = study.magic


def test_without_an_outcome_what_the_model_alone_says_is_read_and_the_rest_refused(frame, model):
    bare = Study(frame.drop(columns="y"), model, event="1", groups=["channel"], favourable="event")
    known = Study(frame, model, "y", "1", groups=["channel"])
    assert bare.response(feature="weight").table().equals(known.response(feature="weight").table())
    assert bare.tilt().table().num_rows > 0
    with pytest.raises(Refused, match="needs what really happened"):
        bare.drivers()
    with pytest.raises(Refused, match="no outcome was named; say what the model gives the probability of"):
        Study(frame.drop(columns="y"), model)
    number = zoo.made("random forest of a number")
    found = Study(number[2], number[1], task="regression").response(feature="weight")
    assert "weight" in found.reading
