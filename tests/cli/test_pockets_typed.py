"""Pockets from the command line and in a notebook, with a model and with recorded decisions alone."""

from __future__ import annotations

import json

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv
import pytest
from tests.cli.shell import typed

from zerotilt.core.pockets.result import PocketsSettings
from zerotilt.core.refusal import Refused
from zerotilt.notebook import Study


@pytest.fixture(scope="module")
def recorded(tmp_path_factory):
    rng = np.random.default_rng(3)
    n = 4_000
    way, load = rng.choice(["cart", "boat"], n), rng.uniform(0, 20, n).round(1)
    valid = rng.random(n) < 0.5
    wrong = rng.random(n) < np.where((way == "boat") & (load > 15), 0.45, 0.1)
    claims = pa.table({
        "way": way, "load": load, "valid": np.where(valid, "yes", "no"), "settled": np.where(valid ^ wrong, "yes", "no"),
    })  # fmt: skip
    folder = tmp_path_factory.mktemp("pockets")
    pacsv.write_csv(claims, folder / "claims.csv")
    return folder, claims


ASKED = ("pockets", "--table", "claims.csv", "--outcome", "valid", "--event", "yes")


def test_recorded_decisions_are_searched_and_every_place_is_written(recorded):
    folder, claims = recorded
    run = typed(*ASKED, "--decision", "settled", "--out", "places.json", folder=folder)
    assert run.returncode == 0, run.stderr
    found = Study(claims, None, "valid", event="yes", decision="settled").pockets()
    assert run.stdout.strip() == "\n".join([found.reading, *found.points])
    first = found.result.pockets[0]
    assert first.status == "confirmed" and {one.column for one in first.segment.conditions} == {"way", "load"}
    written = json.loads((folder / "places.json").read_text())
    rows = written if isinstance(written, list) else next(iter(written.values()))
    assert [one["typed"] for one in rows] == [one.typed for one in found.result.pockets]


def test_columns_and_depth_are_chosen(recorded):
    folder, claims = recorded
    run = typed(*ASKED, "--decision", "settled", "--column", "way", "--deep", "1", folder=folder)
    found = Study(claims, None, "valid", event="yes", decision="settled").pockets(columns=["way"], deep=1)
    assert run.stdout.strip() == "\n".join([found.reading, *found.points])
    assert found.settings == PocketsSettings(columns=("way",), deep=1)


@pytest.mark.parametrize(
    ("more", "message"),
    [
        (("--decision", "settled", "--error", "log_loss"), "“log loss” cannot be read here"),
        (("--decision", "settled", "--error", "loudness"), "it must be error_rate, false_positive_rate"),
        (("--decision", "nowhere"), "nowhere"),
        ((), "give a model, or the column of recorded scores or decisions"),
        (("--decision", "settled", "--where", "way=mule"), "no row"),
    ],
)
def test_what_cannot_be_searched_is_refused_in_words(recorded, more, message):
    folder, _ = recorded
    run = typed(*ASKED, *more, folder=folder)
    assert run.returncode == 2
    assert message.lower() in run.stderr.lower() and "Traceback" not in run.stderr


def test_a_study_without_a_model_refuses_what_needs_one(recorded):
    _, claims = recorded
    study = Study(claims, None, "valid", event="yes", decision="settled")
    assert study.pocket(conditions="way=boat and load>15").result.rungs == ()
    with pytest.raises(Refused, match="model"):
        study.response()
