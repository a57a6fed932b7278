"""A fitted model becomes an audit: its file predicts as it does, or is not sent; what the audit knows comes back as tables."""

from __future__ import annotations

import json
import sys
from pathlib import Path

import numpy as np
import onnx
import pandas as pd
import pytest
from lightgbm import LGBMClassifier
from sklearn.compose import ColumnTransformer
from sklearn.ensemble import GradientBoostingRegressor, HistGradientBoostingClassifier, RandomForestClassifier
from sklearn.linear_model import LogisticRegression
from sklearn.neural_network import MLPClassifier
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import OneHotEncoder, StandardScaler
from tests.api import talk
from xgboost import XGBClassifier, XGBRegressor

from zerotilt.convert.estimators import converted
from zerotilt.core.predictors import made
from zerotilt.core.predictors.modelfile import inspect
from zerotilt.core.refusal import Refused
from zerotilt.notebook import open_audit, publish
from zerotilt.publish import differences
from zerotilt.study import Study
from zerotilt.study_inputs import arrow_of

PROJECT = Path(__file__).parents[1]
rng = np.random.default_rng(4)
N = 400
X = pd.DataFrame(
    {
        "weight": rng.normal(size=N).astype("float32"),
        "legs": rng.integers(0, 6, N),
        "channel": rng.choice(["app", "counter", "=1+1"], N),
    }
)
NUMBERS = X[["weight", "legs"]]
WORTH = X.weight + (X.legs > 3) + rng.normal(size=N) / 2
YES = pd.Series(np.where(WORTH > 0.5, "yes", "no"), name="valid")


def prepared(sparse: bool = False, scaled: bool = True):
    texts, numbers = OneHotEncoder(sparse_output=sparse), StandardScaler() if scaled else "passthrough"
    return ColumnTransformer([("n", numbers, ["weight", "legs"]), ("t", texts, ["channel"])])


ESTIMATORS = {
    "columns by name": (make_pipeline(prepared(), LogisticRegression()), X, YES),
    "a forest": (RandomForestClassifier(15, random_state=0), NUMBERS, YES),
    "a scaled network": (make_pipeline(StandardScaler(), MLPClassifier((5,), max_iter=60)), NUMBERS, YES),
    "trees on a histogram": (HistGradientBoostingClassifier(max_iter=15), NUMBERS, YES),
    "xgboost on names": (XGBClassifier(n_estimators=15), NUMBERS, (YES == "yes").astype(int)),
    "xgboost in a pipeline": (
        make_pipeline(prepared(scaled=False), XGBClassifier(n_estimators=15)),
        X,
        (YES == "yes").astype(int),
    ),
    "lightgbm": (LGBMClassifier(n_estimators=15, verbose=-1), NUMBERS, YES),
    "three classes": (LogisticRegression(), NUMBERS, np.digitize(WORTH, [0, 1])),
    "numbers": (GradientBoostingRegressor(n_estimators=15), NUMBERS, WORTH * 100),
    "xgboost of numbers": (XGBRegressor(n_estimators=15), NUMBERS, WORTH * 100),
}


@pytest.mark.parametrize("name", list(ESTIMATORS))
def test_what_is_written_predicts_what_the_estimator_does(name):
    model, frame, outcome = ESTIMATORS[name]
    model.fit(frame, outcome)
    table = arrow_of(frame)
    values = sorted({str(one) for one in outcome}) if "numbers" not in name else []
    event = values[-1] if len(values) == 2 else None
    whole = table.append_column("o", arrow_of({"o": list(outcome)}).column("o"))
    data = converted(model, table)
    study = Study(whole, data, "o", event, features=table.column_names)
    assert differences(study, model, frame, None, N).max() < 1e-5
    if not hasattr(model, "steps") or name == "a scaled network":
        assert inspect(data).columns == ("weight", "legs")
    if name == "xgboost on names":
        assert model.get_booster().feature_names == ["weight", "legs"]  # as it was


def test_a_file_that_predicts_otherwise_is_not_sent_and_nothing_is_made():
    """Sparse rows: what is zero there is missing to these trees, and is not in the file."""
    model = make_pipeline(prepared(sparse=True), XGBClassifier(n_estimators=15)).fit(X, (YES == "yes").astype(int))
    with pytest.raises(
        Refused, match=r"does not predict what the model does: the largest difference is 0\.\d+, on \d+ of 400 rows"
    ):
        publish(model, X, (YES == "yes").astype(int), event=1, favourable="event", server="http://127.0.0.1:9")
    forest = ESTIMATORS["a forest"][0].fit(NUMBERS, YES)
    with pytest.raises(Refused, match=r"is 9, on 1 of 400 rows it is more than the 0\.5 that is allowed"):
        publish(
            converted(forest, arrow_of(NUMBERS)), NUMBERS, YES, event="yes", tolerance=0.5, server="http://127.0.0.1:9",
            predicts=lambda rows: forest.predict_proba(rows)[:, 1] + 9 * (np.arange(N) == 7),
        )  # fmt: skip


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"model": object()}, "which is no fitted estimator"),
        ({"model": LogisticRegression()}, "could not be written as ONNX"),
        ({"y": [1, 2]}, "2 values for 400 rows"),
        ({"outcome": "legs"}, "a column “legs” already"),
        ({"groups": ["area"]}, "neither X nor beside has a column “area”"),
        ({"beside": {"area": [1]}}, "it has 1 row, and X has 400"),
        ({"beside": {"legs": np.arange(N)}}, "“legs” is a column of X"),
        ({"server": "nowhere"}, "is no address"),
        ({"server": None}, "none was given, and ZT_SERVER names none"),
        ({"event": "perhaps"}, "perhaps"),
        ({"predicts": lambda rows: np.zeros(3)}, "it gives shape"),
        ({"favourable": ""}, "the words of the outcome do not tell"),
        ({}, "does not answer"),
    ],
)
def test_what_cannot_be_is_refused_by_the_name_of_the_argument(change, said, monkeypatch):
    monkeypatch.delenv("ZT_SERVER", raising=False)
    given = {
        "model": RandomForestClassifier(3).fit(NUMBERS, YES),
        "X": NUMBERS,
        "y": YES,
        "event": "yes",
        "favourable": "event",
    }
    given |= {"server": "http://127.0.0.1:9"} | change
    with pytest.raises(Refused, match=said):
        publish(given.pop("model"), given.pop("X"), given.pop("y"), **given)


@pytest.fixture(autouse=True)
def here(request, monkeypatch):
    """A program finds the key of the house that it works with by itself."""
    if "running" in request.fixturenames:
        monkeypatch.setenv("ZT_HOME", str(request.getfixturevalue("running").home.folder))


def test_a_pipeline_becomes_an_audit_whose_numbers_are_its_own(client, running, monkeypatch):
    monkeypatch.setattr(sys.modules["__main__"], "In", ["", "sent = publish(model, X, y)"], raising=False)  # a cell
    model, _, _ = ESTIMATORS["columns by name"]
    model.fit(X, YES)
    beside = pd.DataFrame({"area": rng.choice(["isles", "town"], N), "split": np.repeat(["training", "test"], N // 2)})
    sent = publish(
        model, X, YES, event="yes", outcome="valid", title="From a notebook", beside=beside, groups=["area"],
        name="pipeline v1", server=running.url,
    )  # fmt: skip
    view = client.get(f"/api/audits/{sent.audit}").json()
    roles = {column["name"]: column["role"] for column in view["spec"]["columns"]}
    assert roles == {
        "weight": "feature",
        "legs": "feature",
        "channel": "feature",
        "valid": "outcome",
        "area": "group",
        "split": "split",
    }
    assert (view["ready"], view["title"], view["models"][0]["name"]) == (True, "From a notebook", "pipeline v1")
    assert view["spec"]["event"] == "yes" and view["counts"]["hold-out"] == N // 2
    card = view["models"][0]["card"]["made"]
    assert card["estimator"] == "sklearn ColumnTransformer, then sklearn LogisticRegression" and card["rows"] == N
    assert (
        card["largest_difference"] < 1e-5
        and "scikit-learn" in card["libraries"]
        and card["script"] == "sent = publish(model, X, y)"
    )
    # a second version, beside the first; what cannot be is said in the server's words
    assert repr(sent).endswith("\nTo be predicted “yes” is taken as favourable to those concerned.")
    again = publish(model, X, YES, event="yes", outcome="valid", name="pipeline v2", audit=sent.link)
    assert again.favourable == "" and repr(again).count("\n") == 1
    assert again.audit == sent.audit and again.model != sent.model
    audit = open_audit(sent.link)
    assert sorted(audit.models().values()) == ["pipeline v1", "pipeline v2"]
    client.post(f"/api/audits/{sent.audit}/readings/tilt", json={"context": {"model": sent.model, "rows": "hold-out"}})
    frame = audit.table("performance").to_pandas()
    accuracy = float(np.mean(model.predict(X)[N // 2 :] == YES[N // 2 :]))
    key = next(one["key"] for one in audit.evidence().to_pylist() if one["method"] == "performance")
    assert len(frame) and audit.arrays(key)
    read = client.post(
        f"/api/audits/{sent.audit}/readings/performance", json={"context": {"model": sent.model, "rows": "hold-out"}}
    )
    assert read.json()["evidence"]["result"]["sets"][0]["metrics"]["accuracy"]["value"] == pytest.approx(accuracy)
    assert set(audit.findings().column_names) > {"severity", "statement", "decision", "due"}
    with pytest.raises(Refused, match="nothing called “nothing” was computed; there are"):
        audit.table("nothing")
    for link, said in (
        ("http://127.0.0.1:9/audits/1", "does not answer"),
        (running.url, "no page of an audit"),
        (f"{running.url}/audits/00000000-0000-4000-8000-000000000000", "no such audit"),
    ):
        with pytest.raises(Refused, match=said):
            open_audit(link)
    client.delete(f"/api/audits/{sent.audit}?for_good=true")


def test_what_is_read_back_in_a_notebook_is_of_today_or_says_that_it_is_not(client, audit, context, restored):
    opened = open_audit(f"{client.base_url}/audits/{audit['id']}/tilt")
    talk.read(client, audit["id"], "tilt", context)
    before = {one["key"] for one in opened.evidence().to_pylist() if one["method"] == "tilt" and not one["changed"]}
    stood = opened.findings().to_pylist()
    assert before and stood and not any(one["again"] for one in stood)
    policy = audit["spec"]["policy"] | {"ratio_low": 0.5, "ratio_high": 2.0}
    assert talk.put_part(client, audit["id"], "policy", {"policy": policy, "author": ""}).status_code == 200
    client.patch(restored, json={"title": "Another name"})
    assert opened.title == "Another name"
    told = {one["key"]: one["changed"] for one in opened.evidence().to_pylist()}
    assert all("the flag policy" in told[key] for key in before)
    with pytest.raises(Refused, match="was computed before these changed: the flag policy"):
        opened.table("tilt", "disparities")
    assert opened.table(next(iter(before)), "disparities").num_rows  # by its key it can be had
    now = opened.findings().to_pylist()  # what was found is measured again, and waited for
    assert not any(one["again"] for one in now)
    flagged = [sum(one["kind"] == "disparity" for one in found) for found in (now, stood)]
    assert flagged[0] < flagged[1], "wider limits flag less"
    assert opened.table("tilt", "disparities").num_rows
    client.patch(restored, json={"title": audit["title"]})


def test_how_a_model_was_made_is_text_and_what_cannot_be_read_is_nothing():
    data = converted(RandomForestClassifier(3).fit(NUMBERS, YES), arrow_of(NUMBERS))
    told = made.Made(
        estimator="<script>x</script>", script="=1+1", commit="abc", changed=True, rows=3, largest_difference=2e-9
    )
    card = inspect(made.written(data, told))
    assert card.made == told and inspect(made.written(made.written(data, told), told)).made == told
    assert card.columns == ("weight", "legs")  # what stood in the file stays
    assert told.sentence == (
        "Its file says how it was made: <script>x</script>; git commit abc, with changes that were not committed; held against "
        "its file on 3 rows: their predictions differ by 2e-09 at most."
    )
    for nonsense in ("", "[]", "{", json.dumps({"estimator": 1}), json.dumps({"estimator": "x" * 999}), "[" * 90_000):
        model = onnx.load_from_string(data)
        entry = model.metadata_props.add()
        entry.key, entry.value = made.KEY, nonsense
        assert inspect(model.SerializeToString()).made is None


@pytest.mark.parametrize("name", ["explain-a-model", "publish-and-read-back"])
def test_example_notebooks_run_from_top_to_bottom(name, running, client, monkeypatch, capsys):
    monkeypatch.setenv("ZT_SERVER", running.url)
    notebook = json.loads((PROJECT / f"docs/notebooks/{name}.ipynb").read_text())
    cells = ["".join(cell["source"]) for cell in notebook["cells"] if cell["cell_type"] == "code"]
    assert len(cells) > 3 and all(cell["outputs"] == [] for cell in notebook["cells"] if cell["cell_type"] == "code")
    space: dict = {"__name__": "__main__"}
    for cell in cells:
        exec(compile(cell, name, "exec"), space)
    if sent := space.get("sent"):
        assert len(space["audit"].models()) == 2 and "differ" in repr(sent)
        client.delete(f"/api/audits/{sent.audit}?for_good=true")
    else:
        assert "times as often" in capsys.readouterr().out
