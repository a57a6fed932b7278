"""What one file with a format's declaration brings: uploaded, scored, explained, compared, reported, archived, read by commands."""

from __future__ import annotations

import io
import json

import numpy as np
import pyarrow.csv as pacsv
import pytest
from tests.cli.shell import typed
from tests.formats import toy
from tests.inputs.house import House, house

from zerotilt.api import contract
from zerotilt.core.predictors import formats
from zerotilt.core.predictors.protocol import Unfit
from zerotilt.core.refusal import Refused
from zerotilt.notebook import Study
from zerotilt.store import archive, database, removal
from zerotilt.store.records import ModelVersion

__all__ = ["house"]
SUM = json.dumps({"sum": 1, "weights": {"missed_scans": -0.8, "parcel_weight": 0.05}, "cut": 0.5}).encode()


@pytest.fixture(autouse=True)
def registered(monkeypatch):
    """The line in the list of formats."""
    monkeypatch.setitem(formats.FORMATS, "sum", toy.FORMAT)


def read(house: House, method: str, context: dict, **settings) -> dict:
    ask = {"context": context, "settings": settings}
    found = house.client.post(f"{house.at}/readings/{method}", json=ask).json()
    if found["task"]:
        task = house.done(found["task"]["id"])
        assert task.state == "done", task.error
        found = house.client.post(f"{house.at}/readings/{method}", json=ask).json()
    return found["evidence"]["result"]


def test_it_is_uploaded_scored_explained_and_goes_with_the_archive(house):
    found = house.client.put(f"{house.at}/models", params={"name": "mine.sum"}, content=SUM)
    assert house.done(found.json()["id"]).state == "done"
    model = next(one for one in house.view["models"] if one["name"] == "mine.sum")
    assert model["card"]["producer"] == "a sum" and {one["column"] for one in model["pairs"]} == {
        "missed_scans",
        "parcel_weight",
    }

    context = {"model": model["id"], "rows": "hold-out"}
    assert read(house, "performance", context)["sets"]
    assert {one["feature"] for one in read(house, "drivers", context)["drivers"]} == {"missed_scans", "parcel_weight"}
    ladder = read(house, "ladder", context, row=7)
    total = ladder["baseline"] + sum(one["contribution"] for one in ladder["rungs"])
    assert total == pytest.approx(ladder["prediction"], abs=1e-9)

    bad = house.client.put(f"{house.at}/models", params={"name": "bad.sum"}, content=b'{"sum": 1, "weights": 3}')
    failed = house.done(bad.json()["id"])
    assert (failed.state, failed.error["message"]) == ("failed", "This is no sum.")

    sink = io.BytesIO()
    archive.export(house.audit, house.files, sink)
    with database.database.atomic():
        left = removal.remove_audit(house.audit, house.files)
    removal.discard(house.files, left)
    archive.restore(sink, house.files)
    assert ModelVersion.select().where((ModelVersion.audit == house.audit) & (ModelVersion.name == "mine.sum")).exists()


def test_intake_tries_it_on_the_real_rows(house):
    found = house.client.put(f"{house.at}/models", params={"name": "mine.sum"}, content=SUM)
    house.done(found.json()["id"])
    model = next(one for one in house.view["models"] if one["name"] == "mine.sum")
    task = house.client.post(f"{house.at}/finish", json={"model": model["id"]}).json()
    done = house.done(task["id"])
    assert done.state == "done" and done.result["counts"]["hold-out"] > 0


def test_a_notebook_and_the_command_line_open_it_and_set_it_beside_another(demo, tmp_path):
    claims, _, models = demo
    table = claims.slice(0, 500)
    study = Study(table, SUM, "claim_valid", event="yes", groups=["home_area"], favourable="event")
    assert study.subject.model.card.producer == "a sum"
    scans, weight = (np.array(table[name].to_pylist(), float) for name in ("missed_scans", "parcel_weight"))
    wanted = 1 / (1 + np.exp(-(0.5 - 0.8 * np.nan_to_num(scans) + 0.05 * np.nan_to_num(weight))))
    np.testing.assert_allclose(study.subject.predictions.outputs[:, 0], wanted)
    beside = study.against(trees=models["gradient trees v3"]).versions()
    assert "trees" in {one.version for one in beside.result.values}
    pacsv.write_csv(table, tmp_path / "claims.csv")
    (tmp_path / "mine.sum").write_bytes(SUM)
    line = ("--table", "claims.csv", "--model", "mine.sum", "--outcome", "claim_valid", "--event", "yes")
    run = typed("read", "performance", *line, folder=tmp_path)
    assert run.returncode == 0, run.stderr
    run = typed(
        "audit", *line, "--group", "home_area", "--favourable", "yes", "--rows", "50", "--out", "out", folder=tmp_path
    )
    assert run.returncode in (0, 3), run.stderr
    assert (tmp_path / "out/report.html").stat().st_size > 10_000


def test_what_does_not_fit_the_table_is_refused(demo):
    claims, _, _ = demo
    odd = json.dumps({"sum": 1, "weights": {"nowhere": 1}, "cut": 0}).encode()
    with pytest.raises(Refused, match="wants “nowhere”"):
        Study(claims.slice(0, 50), odd, "claim_valid", event="yes")


def test_a_file_of_no_known_format_is_refused_as_the_first_one_says_it():
    for data in (b"", b"\x00\x01", b"{}"):
        with pytest.raises(Refused, match=r"not an ONNX model|no model graph"):
            formats.card_of(data)


def test_a_predictor_says_what_it_does_not_know(demo_subject):
    made = toy.Sum(SUM, demo_subject.table, demo_subject.spec)
    assert made.remembered() is None
    assert made.order_in_doubt(demo_subject.table, demo_subject.spec, np.arange(5)) is None
    with pytest.raises(Unfit):
        made.recall(b"")


def test_the_pages_take_its_files():
    documents = {path.name: text for path, text in contract.documents().items()}
    assert json.loads(documents["formats.json"]) == {
        "onnx": {"words": "an ONNX file", "files": [".onnx"]},
        "sum": {"words": "a sum", "files": [".sum"]},
    }
