"""What each option of the audit does to the numbers."""

from __future__ import annotations

import json

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv
import pytest
from tests.cli.test_audit import audit

from zerotilt.cli import spread


@pytest.fixture(scope="module")
def table(tmp_path_factory):
    rng = np.random.default_rng(4)
    n = 600
    score = rng.random(n).round(3)
    path = tmp_path_factory.mktemp("options") / "t.csv"
    pacsv.write_csv(
        pa.table(
            {
                "score": score,
                "area": rng.choice(["x", "z", "w"], n, p=[0.5, 0.3, 0.2]),
                "split": rng.choice(["train", "test"], n),
                "weight": rng.integers(1, 5, n),
                "y": (rng.random(n) < score).astype(int),
            }
        ),
        path,
    )
    return path


def numbers(table, tmp_path, *options) -> dict:
    said = () if "--favourable" in options else ("--favourable", "event")
    run = audit(
        "--table", table, "--score", "score", "--outcome", "y", "--event", "1", "--group", "area", *options, *said,
        "--out", tmp_path,
    )  # fmt: skip
    assert run.returncode in (0, 3), run.stderr
    return json.loads((tmp_path / "audit.json").read_text())


def test_the_largest_group_is_the_reference_unless_one_is_chosen(table, tmp_path):
    def reference(found):
        return next(group["group"] for group in found["groups"] if group["reference"])

    assert reference(numbers(table, tmp_path)) == "x"
    assert reference(numbers(table, tmp_path, "--group", "area:w")) == "w"


def test_the_threshold_moves_the_decisions(table, tmp_path):
    low, high = (
        numbers(table, tmp_path, "--threshold", t)["performance"]["selection_rate"]["value"] for t in (0.2, 0.8)
    )
    assert low > 0.7 > 0.3 > high


def test_the_favourable_decision_turns_the_selection_rate_round(table, tmp_path):
    event = numbers(table, tmp_path)["performance"]
    other = numbers(table, tmp_path, "--favourable", "0")["performance"]
    assert other["selection_rate"]["value"] == pytest.approx(1 - event["selection_rate"]["value"])
    assert other["accuracy"] == event["accuracy"]


def test_a_split_reads_the_held_out_rows_alone(table, tmp_path):
    whole, held = numbers(table, tmp_path), numbers(table, tmp_path, "--split", "split:test")
    assert whole["table"]["rows"] == held["table"]["rows"] == 600
    assert whole["table"]["rows_read"] == 600
    assert 200 < held["table"]["rows_read"] < 400
    assert "split is “test”" in held["table"]["rows_described"]
    assert numbers(table, tmp_path, "--split", "split")["table"]["rows_read"] == held["table"]["rows_read"]


def test_a_column_called_weight_weighs_nothing_unasked(table, tmp_path):
    found = numbers(table, tmp_path)["performance"]["base_rate"]
    assert found["value"] == pytest.approx(found["count"] / found["of"])


def test_the_same_command_writes_the_same_numbers(table, tmp_path):
    first, second = numbers(table, tmp_path / "a"), numbers(table, tmp_path / "b")
    for found in (first, second):
        for entry in found["evidence"]:
            entry.pop("computed")
    assert first == second


@pytest.mark.parametrize(
    ("given", "expected"),
    [
        ("audit --group a b --out o", "audit --group a --group b --out o"),
        ("audit --group a --group b", "audit --group a --group b"),
        ("audit --ignore a b c --rows 5", "audit --ignore a --ignore b --ignore c --rows 5"),
        ("audit --table t --group a", "audit --table t --group a"),
        ("check --tidy", "check --tidy"),
    ],
)
def test_repeated_options_may_be_listed(given, expected):
    assert spread(given.split()) == expected.split()
