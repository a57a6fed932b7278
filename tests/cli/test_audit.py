"""The command line: files in, files out, exit codes; numbers recomputed by hand."""

from __future__ import annotations

import csv
import json
import re
from pathlib import Path

import jsonschema
import numpy as np
import pyarrow.csv as pacsv
import pyarrow.parquet as pq
import pytest
from tests.cli.shell import Done, started, typed

PROJECT = Path(__file__).parents[2]
SCHEMA = json.loads((PROJECT / "docs/formats/audit.schema.json").read_text())


def audit(*arguments: object, folder: Path | None = None) -> Done:
    return typed("audit", *arguments, folder=folder)


@pytest.fixture(scope="module")
def files(demo, tmp_path_factory) -> Path:
    folder = tmp_path_factory.mktemp("files")
    claims, _, models = demo
    some = claims.slice(0, 3_000)
    pacsv.write_csv(some, folder / "claims.csv")
    pq.write_table(some, folder / "claims.parquet")
    (folder / "model.onnx").write_bytes(models["gradient trees v3"])
    return folder


@pytest.fixture(scope="module")
def done(files):
    run = started(
        "audit", "--table", files / "claims.csv", "--model", files / "model.onnx", "--outcome", "claim_valid",
        "--event", "yes", "--group", "home_area:harbour town", "--group", "age_band", "--rows", 40, "--out", files / "out",
    )  # fmt: skip
    return run, json.loads((files / "out/audit.json").read_text()), (files / "out/report.html").read_text()


def rows_of(path: Path) -> list[dict[str, str]]:
    with path.open(newline="") as file:
        return list(csv.DictReader(file))


def test_flagged_comparisons_are_printed_and_exit_is_three(done):
    run, numbers, _ = done
    assert run.returncode == 3, run.stderr
    flagged = [found for found in numbers["disparities"] if found["status"] == "flagged"]
    printed = [line for line in run.stdout.splitlines() if line.startswith("flagged: ")]
    assert len(printed) == len(flagged) > 0
    groups = {(found["attribute"], found["group"]) for found in flagged}
    gathered = int(re.search(r"gathered into (\d+) findings?\. ", run.stdout)[1])
    assert 0 < gathered <= len(groups)  # a crossing may be part of one of its larger groups
    assert any("Outer isles rows (home area)" in line for line in printed)


def test_the_file_follows_its_published_schema(done):
    jsonschema.validate(done[1], SCHEMA)
    assert done[1]["format"] == "zerotilt-audit/2"


def test_rates_equal_a_count_by_hand(done, files, demo_subject):
    _, numbers, _ = done
    rows = rows_of(files / "claims.csv")
    scores = demo_subject.model.score(demo_subject.model.frame(demo_subject.table, np.arange(3_000)))
    isles = [i for i, row in enumerate(rows) if row["home_area"] == "outer isles"]
    group = next(g for g in numbers["groups"] if g["group"] == "outer isles")
    assert group["rows"] == len(isles)
    predicted = {i: scores[i] >= 0.5 for i in isles}
    valid = {i: rows[i]["claim_valid"] == "yes" for i in isles}
    by_hand = {
        "base_rate": (sum(valid.values()), len(isles)),
        "selection_rate": (sum(predicted.values()), len(isles)),
        "true_positive_rate": (sum(predicted[i] and valid[i] for i in isles), sum(valid.values())),
        "positive_predictive_value": (sum(predicted[i] and valid[i] for i in isles), sum(predicted.values())),
    }
    for metric, (count, of) in by_hand.items():
        found = group["metrics"][metric]
        assert (found["count"], found["of"]) == (count, of)
        assert found["value"] == pytest.approx(count / of)
    assert numbers["table"]["rows"] == 3_000
    assert next(g["group"] for g in numbers["groups"] if g["reference"]) == "harbour town"


def test_the_report_holds_every_flagged_number_and_refers_to_nothing_outside(done):
    _, numbers, report = done
    for found in numbers["disparities"]:
        if found["status"] == "flagged":
            assert f"{found['ratio']['value']:.2f} times" in report
    assert not re.search(r'(?:src|href)="(?!#|data:)', report)
    assert "<script" not in report
    assert "@import" not in report and "url(" not in re.sub(r"url\((#|data:font/woff2;)", "", report)


def test_every_sentence_of_the_report_is_traced(done):
    _, numbers, report = done
    named = {entry["name"] for entry in numbers["evidence"]}
    assert set(re.findall(r">\[(E\d+)\]<", report)) == named
    for name in named:
        assert f'id="{name}"' in report
    for sentence in re.findall(r'<p class="reading">(.*?)</p>', report, re.S):
        assert 'class="trace"' in sentence
    assert numbers["table"]["sha256"] in report


def test_parquet_gives_the_same_numbers(done, files):
    audit(
        "--table", files / "claims.parquet", "--model", files / "model.onnx", "--outcome", "claim_valid", "--event",
        "yes", "--group", "home_area:harbour town", "--group", "age_band", "--rows", 40, "--out", files / "parquet",
    )  # fmt: skip
    other = json.loads((files / "parquet/audit.json").read_text())
    for part in ("performance", "groups", "disparities", "drivers"):
        assert other[part] == done[1][part]


def test_parts_that_need_a_model_are_absent_without_one(files):
    run = audit(
        "--table", files / "claims.csv", "--score", "reference_photo_score", "--outcome", "claim_valid", "--event",
        "yes", "--group", "helped_by_another", "--out", files / "scored",
    )  # fmt: skip
    assert run.returncode in (0, 3), run.stderr
    numbers = json.loads((files / "scored/audit.json").read_text())
    jsonschema.validate(numbers, SCHEMA)
    assert numbers["model"] is None
    assert "drivers" not in numbers
    assert numbers["performance"]["auc"]["value"] > 0.9


def decisions(folder: Path, name: str, rows: list[tuple[str, str, str]]) -> Path:
    path = folder / name
    with path.open("w", newline="") as file:
        csv.writer(file).writerows([("area", "granted", "repaid"), *rows])
    return path


def test_recorded_decisions_and_a_favourable_absence(tmp_path):
    rows = [("x", "default", "default")] * 20 + [("x", "repaid", "repaid")] * 80
    rows += [("z", "default", "default")] * 25 + [("z", "repaid", "repaid")] * 75
    table = decisions(tmp_path, "t.csv", rows)
    run = audit(
        "--table", table, "--decision", "granted", "--outcome", "repaid", "--event", "default", "--favourable", "repaid",
        "--group", "area", "--out", tmp_path / "out",
    )  # fmt: skip
    assert run.returncode == 0, run.stderr
    numbers = json.loads((tmp_path / "out/audit.json").read_text())
    x = next(g for g in numbers["groups"] if g["group"] == "x")
    assert x["metrics"]["selection_rate"]["value"] == pytest.approx(0.8)
    assert x["metrics"]["base_rate"]["value"] == pytest.approx(0.2)
    assert "auc" not in x["metrics"]


def test_where_nothing_could_be_tested_no_all_clear_is_given(tmp_path):
    rows = [(area, decided, real) for area in "xyz" for decided in "01" for real in "01"] * 2
    table = decisions(tmp_path, "t.csv", rows)
    run = audit(
        "--table", table, "--decision", "granted", "--outcome", "repaid", "--event", "1", "--group", "area",
        "--out", tmp_path / "out",
    )  # fmt: skip
    assert run.returncode == 4, run.stdout + run.stderr
    said = "othing could be tested"
    assert said in run.stdout and "the largest smaller side has 8" in run.stdout
    numbers = json.loads((tmp_path / "out/audit.json").read_text())
    assert all(found["p_adjusted"] is None for found in numbers["disparities"])
    report = (tmp_path / "out/report.html").read_text()
    assert said in report and "No comparison is flagged" not in report


def test_names_and_values_are_text_never_markup(tmp_path):
    rows = (
        [("<script>alert(1)</script>", "1", "1")] * 60
        + [('=HYPERLINK("x")', "0", "1")] * 60
        + [("$x^2$", "1", "0")] * 60
    )
    table = decisions(tmp_path, "t.csv", rows)
    text = table.read_text().replace("area", '"<img src=x onerror=alert(2)> ""a"""', 1)
    table.write_text(text)
    run = audit(
        "--table", table, "--decision", "granted", "--outcome", "repaid", "--event", "1",
        "--group", '<img src=x onerror=alert(2)> "a"', "--out", tmp_path / "out",
    )  # fmt: skip
    assert run.returncode == 3, run.stderr
    report = (tmp_path / "out/report.html").read_text()
    assert "<script" not in report.lower()
    assert "<img" not in report
    assert "&lt;script&gt;alert(1)" in report


REFUSED = {
    "empty file": ("", {}, "empty"),
    "header only": ("a,d,y\n", {}, "no rows"),
    "ragged": ("a,d,y\n1,1,1\n2,2\n", {}, "line 3"),
    "duplicate names": ("a,a,y\n1,1,1\n", {}, "columns are called"),
    "one class": ("a,d,y\nx,1,1\nz,0,1\n", {}, "one class only"),
    "three classes": ("a,d,y\nx,1,1\nz,0,2\nw,0,3\n", {}, "3 classes"),
    "event not there": ("a,d,y\nx,1,1\nz,0,0\n", {"--event": "yes"}, "“yes” is not in the outcome column"),
    "outcome not there": ("a,d,y\nx,1,1\nz,0,0\n", {"--outcome": "why"}, "no column “why”"),
    "group not there": ("a,d,y\nx,1,1\nz,0,0\n", {"--group": "b"}, "no column “b”"),
    "reference not there": ("a,d,y\nx,1,1\nz,0,0\n", {"--group": "a:nobody"}, "“nobody” has no rows"),
    "favourable not said": (
        "a,d,y\nx,1,1\nz,0,0\n",
        {"--favourable": None},
        "the words of the outcome do not tell. Say “event” where it is better for them to be predicted “1”, “other” where",
    ),
    "favourable not there": ("a,d,y\nx,1,1\nz,0,0\n", {"--favourable": "7"}, "“7” is not in the outcome"),
    "decision missing": ("a,d,y\nx,1,1\nz,,0\n", {}, "missing in 1 row"),
    "all-missing outcome": ("a,d,y\nx,1,\nz,0,\n", {}, "missing in every row"),
}


@pytest.mark.parametrize("name", REFUSED)
def test_input_that_cannot_be_used_is_refused_with_two(tmp_path, name):
    text, changes, said = REFUSED[name]
    table = tmp_path / "t.csv"
    table.write_text(text)
    options = {"--decision": "d", "--outcome": "y", "--event": "1", "--group": "a", "--favourable": "event"} | changes
    flat = [part for pair in options.items() if pair[1] is not None for part in pair]
    run = audit("--table", table, *flat, "--out", tmp_path / "out")
    assert run.returncode == 2, run.stdout + run.stderr
    assert said in run.stderr
    assert "Traceback" not in run.stderr
    assert not (tmp_path / "out/audit.json").exists()


def test_options_take_several_values(tmp_path):
    rows = [(area, "1", "1") for area in ("x", "z")] * 40 + [("z", "0", "0")] * 40
    table = decisions(tmp_path, "t.csv", rows)
    lines = [f"{line},{'site' if i == 0 else i % 3}" for i, line in enumerate(table.read_text().splitlines())]
    table.write_text("\n".join(lines))
    run = audit(
        "--table", table, "--decision", "granted", "--outcome", "repaid", "--event", "1", "--group", "area", "site",
        "--out", tmp_path / "out",
    )  # fmt: skip
    assert run.returncode in (0, 3), run.stderr
    numbers = json.loads((tmp_path / "out/audit.json").read_text())
    assert {group["attribute"] for group in numbers["groups"]} == {"area", "site"}


def test_predictions_must_come_from_one_place(tmp_path, files):
    common = (
        "--table",
        files / "claims.csv",
        "--outcome",
        "claim_valid",
        "--event",
        "yes",
        "--group",
        "age_band",
        "--out",
        tmp_path,
    )
    assert audit(*common).returncode == 2
    both = audit(*common, "--score", "reference_photo_score", "--decision", "photo_attached")
    assert both.returncode == 2
    assert "exactly one is needed" in both.stderr
    twice = audit(*common, "--decision", "claim_valid")
    assert twice.returncode == 2 and "“claim_valid” was given as outcome and as decision" in twice.stderr


@pytest.mark.parametrize("data", [b"no model", b""])
def test_a_model_that_is_none_is_refused(tmp_path, files, data):
    (tmp_path / "m.onnx").write_bytes(data)
    run = audit(
        "--table", files / "claims.csv", "--model", tmp_path / "m.onnx", "--outcome", "claim_valid", "--event", "yes",
        "--group", "age_band", "--out", tmp_path / "out",
    )  # fmt: skip
    assert run.returncode == 2
    assert "ONNX" in run.stderr


ASKED = {
    "decisions alone": (["--decision", "decided", "--favourable", "grant"], "decided favourably 1.59 times as often"),
    "a number": (["--outcome", "days", "--score", "foretold", "--ignore", "decided"], "A high number is taken as favourable"),
    "ordered classes": (
        ["--outcome", "desk", "--decision", "sent", "--order", "later,soon,now", "--favourable", "now"],
        "comparisons flagged",
    ),
}  # fmt: skip


def odd_table(folder):
    rng = np.random.default_rng(3)
    n = 400
    area = rng.choice(["north", "south"], n)
    desk = rng.choice(["later", "soon", "now"], n)
    sent = np.where(rng.random(n) < 0.7, desk, rng.choice(["later", "soon", "now"], n))
    days = rng.normal(20, 4, n).round(2)
    decided = np.where(rng.random(n) < np.where(area == "north", 0.7, 0.4), "grant", "deny")
    heavy = rng.uniform(0.5, 3, n).round(2)
    columns = {"area": area, "decided": decided, "days": days, "foretold": (days + rng.normal(0, 1, n)).round(3),
               "desk": desk, "sent": sent, "heavy": heavy}  # fmt: skip
    path = folder / "odd.csv"
    path.write_text(
        "\n".join([",".join(columns), *(",".join(map(str, row)) for row in zip(*columns.values(), strict=True))])
    )
    return path


@pytest.mark.parametrize("name", ASKED)
def test_no_event_is_asked_for_where_there_is_none(tmp_path, name):
    options, said = ASKED[name]
    run = audit("--table", odd_table(tmp_path), *options, "--group", "area", "--out", tmp_path / "out")
    assert run.returncode in (0, 3), run.stderr
    assert said in run.stdout


def test_decisions_without_outcomes_are_asked_for_the_favourable_one_by_name(tmp_path):
    table = odd_table(tmp_path)
    run = audit("--table", table, "--decision", "decided", "--group", "area", "--out", tmp_path / "out")
    assert run.returncode == 2
    assert "--favourable is needed: no outcome was named, and the decisions are “deny” and “grant”." in run.stderr
    run = audit(
        "--table", table, "--outcome", "decided", "--score", "heavy", "--group", "area", "--out", tmp_path / "out"
    )
    assert run.returncode == 2
    assert "event: the outcome “decided” has two values (deny, grant); say which" in run.stderr


def test_row_weights_are_an_option(tmp_path):
    table = odd_table(tmp_path)
    found = []
    for weights in ([], ["--weights", "heavy"]):
        out = tmp_path / f"out{len(weights)}"
        run = audit(
            "--table",
            table,
            "--decision",
            "decided",
            "--favourable",
            "grant",
            "--group",
            "area",
            *weights,
            "--out",
            out,
        )
        assert run.returncode in (0, 3), run.stderr
        groups = json.loads((out / "audit.json").read_text())["groups"]
        found.append({one["group"]: one["metrics"]["selection_rate"]["value"] for one in groups})
    cells = [line.split(",") for line in table.read_text().splitlines()[1:]]
    for area in ("north", "south"):
        mine = [(float(row[6]), row[1] == "grant") for row in cells if row[0] == area]
        assert found[0][area] == pytest.approx(np.mean([grant for _, grant in mine]))
        assert found[1][area] == pytest.approx(np.average([grant for _, grant in mine], weights=[w for w, _ in mine]))
