"""One method from the command line: by its name, with its settings, to a file."""

from __future__ import annotations

import json

import pyarrow.csv as pacsv
import pyarrow.parquet as pq
import pytest
from tests.cli.shell import typed

from zerotilt.notebook import Study


@pytest.fixture(scope="module")
def files(demo, tmp_path_factory):
    folder = tmp_path_factory.mktemp("read")
    claims, _, models = demo
    pacsv.write_csv(claims.slice(0, 900), folder / "claims.csv")
    (folder / "model.onnx").write_bytes(models["gradient trees v3"])
    return folder


def read(folder, *more):
    asked = ("--table", "claims.csv", "--model", "model.onnx", "--outcome", "claim_valid", "--event", "yes")
    return typed("read", *more, *asked, folder=folder)


def test_a_method_is_read_with_its_settings_and_written_to_a_file(files, demo):
    run = read(files, "response", "--set", "feature=missed_scans", "points=5", "--out", "points.parquet")
    assert run.returncode == 0, run.stderr
    claims, _, models = demo
    study = Study(claims.slice(0, 900), models["gradient trees v3"], "claim_valid", event="yes")
    found = study.response(feature="missed_scans", points=5)
    assert run.stdout.strip() == found.reading
    assert pq.read_table(files / "points.parquet").to_pylist() == found.table().to_pylist()


def test_only_some_rows_are_read_and_named(files, demo):
    run = read(files, "performance", "--where", "channel=telephone|app", "--where", "parcel_weight>2")
    assert run.returncode == 0, run.stderr
    claims, _, models = demo
    study = Study(claims.slice(0, 900), models["gradient trees v3"], "claim_valid", event="yes")
    part = study.on("channel=telephone|app", "parcel_weight>2")
    channel, weight = (claims.slice(0, 900).column(name).to_pylist() for name in ("channel", "parcel_weight"))
    mine = [c in ("telephone", "app") and w > 2 for c, w in zip(channel, weight, strict=True)]
    assert part.subject.n == sum(mine) < study.subject.n
    assert run.stdout.strip() == part.performance().reading
    assert run.stdout.startswith("In channel=telephone|app, parcel_weight>2: ")
    picked = read(files, "cases", "--pick", "3", "--pick", "11")
    assert picked.stdout.startswith("In picked rows: 2 ") and "Only 2 rows picked one by one." in picked.stdout
    few = study.on(picked=("3", "11"), name="two of them")
    assert few.subject.rows.numbers.tolist() == [2, 10] and few.cases().reading.startswith("In two of them: ")
    assert study.subject.n == 900  # the study itself reads what it read


def test_a_segment_is_read_by_its_name_and_conditions(files, demo):
    asked = "light ones: not parcel_weight>2 or channel=counter"
    run = read(files, "performance", "--segment", asked)
    assert run.returncode == 0, run.stderr
    claims, _, models = demo
    part = Study(claims.slice(0, 900), models["gradient trees v3"], "claim_valid", event="yes").on(segment=asked)
    channel, weight = (claims.slice(0, 900).column(name).to_pylist() for name in ("channel", "parcel_weight"))
    assert part.subject.n == sum(c == "counter" or not w > 2 for c, w in zip(channel, weight, strict=True))
    assert run.stdout.strip() == part.performance().reading and run.stdout.startswith("In light ones: ")
    both = read(files, "performance", "--segment", asked, "--where", "channel=app")
    assert both.returncode == 2 and "besides conditions" in both.stderr
    unnamed = read(files, "performance", "--segment", "parcel_weight>2")
    assert unnamed.returncode == 2 and "NAME: conditions" in unnamed.stderr


def test_groups_are_compared_and_written_as_json(files):
    run = read(files, "tilt", "--group", "home_area", "age_band", "--out", "tilt.json")
    assert run.returncode == 0, run.stderr
    records = json.loads((files / "tilt.json").read_text())
    assert {one["attribute"] for one in records} == {"home_area", "age_band"}
    assert {"ratio_value", "p_adjusted", "status"} <= records[0].keys()


@pytest.mark.parametrize(
    ("more", "message"),
    [
        (("nothing",), "there are concerns, performance, columns"),
        (("tilt", "--where", "channel~app"), "it is written as column=level"),
        (("tilt", "--where", "nowhere=app"), "with a column of the table"),
        (("tilt", "--where", "parcel_weight>much"), "“much” is no number"),
        (("tilt", "--where", "channel=fax"), "There are no rows with a known outcome in “channel=fax”"),
        (("response", "--set", "feature"), "a setting is written as name=value"),
        (("response", "--set", "features=x"), "features"),
        (("response", "--set", "points=1"), "points"),
        (("response", "--out", "points.xlsx"), "the file ends in .csv, .parquet and .json"),
    ],
)
def test_what_cannot_be_read_is_refused_in_a_sentence(files, more, message):
    run = read(files, *more)
    assert run.returncode == 2 and run.stderr.startswith("refused: ") and message in run.stderr
    assert run.stdout == "" and not (files / "points.xlsx").exists()


def test_where_no_column_says_what_happened_the_model_is_read_all_the_same(files):
    asked = ("--table", "claims.csv", "--model", "model.onnx", "--event", "yes")
    run = typed("read", "response", *asked, "--set", "feature=missed_scans", folder=files)
    assert run.returncode == 0, run.stderr
    assert "missed scans" in run.stdout.lower()
    run = typed("read", "drivers", *asked, folder=files)
    assert run.returncode == 2
    assert "needs what really happened" in run.stderr
    run = typed("explain", *asked, "--log-odds", "--out", "c.parquet", folder=files)
    assert run.returncode == 0, run.stderr
    assert pq.read_table(files / "c.parquet").num_rows == 900
