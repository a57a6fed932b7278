"""Audits from files to files of some rows only, and of decisions whose outcomes nobody knows."""

from __future__ import annotations

import json

import jsonschema
import pytest
from tests.cli.shell import typed
from tests.cli.test_audit import SCHEMA, files  # noqa: F401


def audited(folder, *more):
    run = typed(
        "audit", "--table", "claims.csv", "--event", "yes", "--group", "home_area", "--favourable", "event", "--out", "out",
        *more, folder=folder,
    )  # fmt: skip
    html = (folder / "out/report.html").read_text() if run.returncode in (0, 3, 4) else ""
    return run, json.loads((folder / "out/audit.json").read_text()) if html else None, html


def test_recorded_decisions_without_an_outcome_are_audited_to_the_report(files):  # noqa: F811
    run, numbers, html = audited(files, "--decision", "clerk_accepted", "--ignore", "claim_valid")
    assert run.returncode in (0, 3), run.stderr
    jsonschema.validate(numbers, SCHEMA)
    assert {one["metric"] for one in numbers["disparities"]} == {"selection_rate"}
    assert set(numbers["performance"]) == {"selection_rate"}
    assert "no column says what happened" in html and "No column says what really happened" in html
    _, with_outcome, _ = audited(files, "--decision", "clerk_accepted", "--outcome", "claim_valid")
    rate = {one["group"]: one["metrics"]["selection_rate"]["value"] for one in numbers["groups"]}
    assert rate == {one["group"]: one["metrics"]["selection_rate"]["value"] for one in with_outcome["groups"]}


def test_a_model_without_an_outcome_is_explained_and_what_needs_one_is_named(files):  # noqa: F811
    run, numbers, html = audited(files, "--model", "model.onnx", "--ignore", "claim_valid", "--rows", "20")
    assert run.returncode in (0, 3), run.stderr
    assert numbers["model"] is not None and "drivers" not in numbers
    assert "Drivers and pockets of error: This needs what really happened" in html
    assert '<h2 id="response">' in html


def test_some_rows_only_are_audited_and_said(files):  # noqa: F811
    more = ("--model", "model.onnx", "--outcome", "claim_valid", "--rows", "20", "--where", "channel=telephone")
    run, numbers, html = audited(files, *more)
    assert run.returncode in (0, 3, 4), run.stderr
    assert "of these “channel=telephone”: channel is telephone" in numbers["table"]["rows_described"]
    assert 0 < numbers["table"]["rows_read"] < numbers["table"]["rows"]
    assert "In channel=telephone: " in html


@pytest.mark.parametrize(
    ("more", "message"),
    [
        (("--decision", "clerk_accepted", "--event", "perhaps"), "expected “perhaps” for the event"),
        (("--decision", "clerk_accepted", "--where", "channel"), "was given as a condition"),
        (("--decision", "clerk_accepted", "--pick", "99999999"), "There are no rows in “picked rows”"),
    ],
)
def test_what_cannot_be_audited_is_said(files, more, message):  # noqa: F811
    run, _, _ = audited(files, *more)
    assert run.returncode == 2 and message in run.stderr
