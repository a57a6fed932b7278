"""An audit from a file of settings, as Intake writes it."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path
from xml.etree import ElementTree

import pyarrow.csv as pacsv
import pytest
from tests.cli.shell import PROJECT, Done, typed

from zerotilt import settings_file
from zerotilt.settings_file import HowRead, SettingsFile


@pytest.fixture(scope="module")
def folder(demo, tmp_path_factory) -> Path:
    """Claims, a model, and a file that says what they are."""
    made = tmp_path_factory.mktemp("settings")
    claims, spec, models = demo
    pacsv.write_csv(claims.slice(0, 1_000), made / "claims.csv")
    (made / "trees.onnx").write_bytes(models["gradient trees v3"])
    found = SettingsFile(spec=spec, table="claims.csv", model="trees.onnx", reading=HowRead(rows="all"))
    (made / "audit.toml").write_text(settings_file.written(found))
    return made


def numbers(folder: Path, report: str = "report") -> dict:
    return json.loads((folder / report / "audit.json").read_text())


def test_one_word_does_what_many_options_do(folder):
    run = typed("audit", "audit.toml", "--rows", 10, folder=folder)
    assert run.returncode == 3, run.stderr
    assert "not taken" not in run.stderr
    asked = [
        "--table", "claims.csv", "--model", "trees.onnx", "--outcome", "claim_valid", "--event", "yes", "--rows", 10,
        "--group", "home_area:harbour town", "--group", "age_band:30–49", "--out", "asked",
    ]  # fmt: skip
    other = typed("audit", *asked, folder=folder)
    assert other.returncode == 3, other.stderr
    ours, theirs = numbers(folder), numbers(folder, "asked")

    def rates(found: dict) -> dict:
        return {
            (one["attribute"], one["group"]): one["metrics"]["selection_rate"]
            for one in found["groups"]
            if one["attribute"] in ("home_area", "age_band")
        }

    assert rates(ours) == rates(theirs) and rates(ours)
    assert ours["table"]["sha256"] == theirs["table"]["sha256"] and ours["table"]["rows_read"] == 1_000


def test_another_table_is_audited_by_the_same_settings(folder, demo, tmp_path):
    pacsv.write_csv(demo[0].slice(3_000, 1_500).drop_columns(["clerk_accepted"]), tmp_path / "later.csv")
    run = typed(
        "audit", folder / "audit.toml", "--table", tmp_path / "later.csv", "--out", tmp_path / "out", "--rows", 20
    )
    assert run.returncode in (0, 3), run.stderr
    assert "not taken from the settings: The table has no column “clerk_accepted”." in run.stderr
    assert (tmp_path / "out/report.html").exists()


def refused(*arguments: object, folder: Path) -> Done:
    run = typed("audit", *arguments, folder=folder)
    assert run.returncode == 2
    return run


def test_another_event_is_not_guessed_where_nobody_can_be_asked(folder, demo, tmp_path):
    claims = demo[0].slice(0, 300)
    other = [{"yes": "ja", "no": "nein"}[one] for one in claims["claim_valid"].to_pylist()]
    at = claims.column_names.index("claim_valid")
    pacsv.write_csv(claims.set_column(at, "claim_valid", [other]), tmp_path / "later.csv")
    run = typed("audit", folder / "audit.toml", "--table", tmp_path / "later.csv", "--out", tmp_path / "out")
    assert run.returncode == 2 and not (tmp_path / "out/report.html").exists()
    assert "name “yes” as the event, which this column does not hold; it holds “ja” and “nein”." in run.stderr


def test_what_cannot_be_is_refused(folder, tmp_path):
    assert (
        "--event and --outcome were given besides"
        in refused("audit.toml", "--event", "yes", "--outcome", "claim_valid", folder=folder).stderr
    )
    assert "cannot be read" in refused("nowhere.toml", folder=folder).stderr
    assert "not written as TOML" in refused("claims.csv", folder=folder).stderr
    assert "is no text" in refused("trees.onnx", folder=folder).stderr
    assert "--table, --out and --group are needed" in refused(folder=folder).stderr
    assert (
        "--out is needed"
        in refused("--table", "claims.csv", "--event", "yes", "--group", "age_band", folder=folder).stderr
    )
    alone = tmp_path / "alone.toml"
    alone.write_text((folder / "audit.toml").read_text().replace('table = "claims.csv"', 'table = ""'))
    assert "The settings name no table" in refused(alone, folder=folder).stderr
    gone = tmp_path / "gone.toml"
    gone.write_text((folder / "audit.toml").read_text())
    assert "claims.csv: The file cannot be read" in refused(gone, folder=folder).stderr


def test_recorded_decisions_and_scores_in_words_and_numbers_of_their_own(tmp_path):
    rows = ["north,accepted,yes,80", "north,turned down,no,20", "south,accepted,yes,90", "south,turned down,yes,30"]
    (tmp_path / "t.csv").write_text("area,said,paid,points\n" + "\n".join(rows * 25) + "\n")
    usual = ("--table", "t.csv", "--outcome", "paid", "--event", "yes", "--group", "area")
    means = ("--means", "accepted=yes", "turned down=no")
    run = typed("audit", *usual, "--decision", "said", *means, "--ignore", "points", "--out", "a", folder=tmp_path)
    assert run.returncode in (0, 3), run.stderr
    by_score = ("--score", "points", "--score-top", "100", "--ignore", "said", "--out", "b")
    other = typed("audit", *usual, *by_score, folder=tmp_path)
    assert other.returncode in (0, 3), other.stderr
    for group in numbers(tmp_path, "a")["groups"]:
        same = next(one for one in numbers(tmp_path, "b")["groups"] if one["group"] == group["group"])
        assert group["metrics"]["selection_rate"] == same["metrics"]["selection_rate"]
        assert group["metrics"]["true_positive_rate"] == same["metrics"]["true_positive_rate"]
    unsaid = refused(*usual, "--decision", "said", "--out", "c", folder=tmp_path)
    assert "“accepted” and “turned down”" in unsaid.stderr
    assert (
        "written as DECISION=VALUE"
        in refused(*usual, "--decision", "said", "--means", "accepted", "--out", "c", folder=tmp_path).stderr
    )


@pytest.mark.parametrize("which", [1, 2])
def test_numbers_and_classes_are_audited_too(demo_audits, tmp_path, which):
    claims, audits = demo_audits
    one = audits[which]
    pacsv.write_csv(claims.slice(0, 1_500), tmp_path / "claims.csv")
    (tmp_path / "model.onnx").write_bytes(next(iter(one.models.values())))
    found = SettingsFile(spec=one.spec, table="claims.csv", model="model.onnx", reading=HowRead(rows="all"))
    (tmp_path / "audit.toml").write_text(settings_file.written(found))
    run = typed("audit", "audit.toml", "--rows", 10, folder=tmp_path)
    assert run.returncode in (0, 3), run.stderr
    told = numbers(tmp_path)
    assert told["task"] == one.spec.task.value and told["event"] is None
    assert (run.returncode == 3) == bool([one for one in told["disparities"] if one["status"] == "flagged"])
    assert "Example cases" in (tmp_path / "report/report.html").read_text()


def test_the_parts_of_the_report_are_as_the_settings_say(folder):
    text = (folder / "audit.toml").read_text()
    arranged = """
[document]
title = "Claims, arranged"
smallest = 40

[[document.pieces]]
id = "mine"
title = "Why <b>now</b>"
text = "Accuracy is @{performance / all / accuracy} of @{nothing}."

[[document.pieces]]
id = "drivers"
readers = []
"""
    (folder / "arranged.toml").write_text(text + arranged)
    run = typed("audit", "arranged.toml", "--rows", 10, "--out", "arranged", folder=folder)
    assert run.returncode == 3, run.stderr
    assert "missing in the report: Why <b>now</b>: no number is called “nothing”." in run.stderr
    assert "missing in the report: Purpose and use: nobody has written what is decided about whom" in run.stderr
    html = (folder / "arranged/report.html").read_text()
    assert (
        "<h1>Claims, arranged</h1>" in html
        and "Why &lt;b&gt;now&lt;/b&gt;" in html
        and 'data-piece="drivers"' not in html
    )
    accuracy = numbers(folder, "arranged")["performance"]["accuracy"]["value"]
    assert f"{accuracy:.1%}" in html.split('data-piece="mine"')[1].split("</section>")[0]
    assert 'data-piece="drivers"' not in (folder / "arranged/public.html").read_text()
    assert (folder / "arranged/summary.html").exists()
    (folder / "twice.toml").write_text(text + arranged.replace('id = "drivers"', 'id = "mine"'))
    assert "two pieces are called “mine”" in refused("twice.toml", folder=folder).stderr


def test_only_what_has_grown_since_a_baseline_fails_a_build(folder, demo, tmp_path):
    run = typed("audit", "audit.toml", "--rows", 10, "--out", "base", "--junit", "base.xml", folder=folder)
    assert run.returncode == 3
    suites = ElementTree.parse(folder / "base.xml").getroot()
    flagged = sum(one["status"] == "flagged" for one in numbers(folder, "base")["disparities"])
    told = "\n".join(one.text for one in suites.iter("failure"))
    assert len(told.splitlines()) == flagged > 0
    base = folder / "base/audit.json"
    run = typed("audit", "audit.toml", "--rows", 10, "--out", "same", "--against", base, folder=folder)
    assert run.returncode == 0 and "0 grown or new; 0 of the baseline not made now" in run.stdout
    assert run.stdout.count("flagged: ") == flagged  # they are said all the same
    worse = json.loads(base.read_text())
    for one in worse["disparities"]:  # as if nothing had been off
        if one["group"] == "outer isles" and one["metric"] == "selection_rate":
            one["ratio"] = {"value": 1.0, "low": 0.97, "high": 1.03}
            one["status"] = "within"
    (folder / "even.json").write_text(json.dumps(worse))
    run = typed(
        "audit",
        "audit.toml",
        "--rows",
        10,
        "--out",
        "grown",
        "--against",
        "even.json",
        "--junit",
        "grown.xml",
        folder=folder,
    )
    assert run.returncode == 3
    assert (
        "grown: home area: outer isles against harbour town, selection rate: the ratio was 1.00 and is 0." in run.stdout
    )
    suite = ElementTree.parse(folder / "grown.xml").getroot().find("./testsuite[@name='against the baseline']")
    assert suite is not None and suite.get("failures") == "1"
    assert "no audit.json" in refused("audit.toml", "--against", "audit.toml", folder=folder).stderr
    assert "--grown-by" in refused("audit.toml", "--grown-by", 0.5, folder=folder).stderr


def test_the_step_of_a_build_that_is_documented_runs_as_it_stands(folder):
    """The lines of docs/build.md, in a folder with a table, a model and settings."""
    page = (PROJECT / "docs/build.md").read_text()
    (script,) = re.findall(r"```sh\n(#!.*?)```", page, re.S)
    (folder / "audit-step.sh").write_text(script)
    environment = os.environ | {"ZT": f"{sys.executable} -m zerotilt.cli", "PYTHONPATH": str(PROJECT / "src")}
    shutil.rmtree(folder / "baseline", ignore_errors=True)

    def step() -> subprocess.CompletedProcess[str]:
        return subprocess.run(["sh", "audit-step.sh"], cwd=folder, env=environment, capture_output=True, text=True)

    first = step()
    assert first.returncode == 0 and (folder / "baseline/audit.json").exists(), first.stderr
    second = step()
    assert second.returncode == 0 and "grown or new" in second.stdout, second.stderr
    assert (folder / "audit-results.xml").exists()
