"""Contributions from file to file."""

from __future__ import annotations

from pathlib import Path

import pyarrow.csv as pacsv
import pyarrow.parquet as pq
import pytest
from tests.cli.shell import Done, started, typed

PROJECT = Path(__file__).parents[2]


@pytest.fixture(scope="module")
def files(demo, tmp_path_factory) -> Path:
    folder = tmp_path_factory.mktemp("explained")
    claims, _, models = demo
    pacsv.write_csv(claims.slice(0, 2_500), folder / "claims.csv")
    for name, model in models.items():
        (folder / f"{name.split()[0]}.onnx").write_bytes(model)
    return folder


ASKED = ("explain", "--table", "claims.csv", "--outcome", "claim_valid", "--event", "yes")


def explain(folder: Path, *more: str) -> Done:
    return typed(*ASKED, *more, folder=folder)


def test_every_row_is_explained_and_adds_up(files):
    more = ("--model", "gradient.onnx", "--log-odds", "--background", "800", "--out", "new/out.parquet")
    run = started(*ASKED, *more, folder=files)
    assert run.returncode == 0, run.stderr
    assert "2,500 rows explained against 800" in run.stdout
    baseline = float(run.stdout.split("Baseline ")[1].split()[0].rstrip("."))
    found = pq.read_table(files / "new/out.parquet").to_pandas()
    assert len(found) == 2_500
    assert list(found.columns[:1]) == ["claim_number"] and list(found.columns)[-2:] == ["baseline", "output"]
    given = pacsv.read_csv(files / "claims.csv").column("claim_number").to_pylist()
    assert found["claim_number"].tolist() == given
    assert found["baseline"].to_numpy() == pytest.approx(baseline, rel=1e-5)
    parts = found.drop(columns=["claim_number", "output"]).to_numpy(float)
    assert parts.sum(axis=1) == pytest.approx(found["output"].to_numpy(), abs=1e-4)


def test_rows_are_named_by_the_columns_that_are_asked_for(files):
    more = (
        "--model",
        "gradient.onnx",
        "--log-odds",
        "--background",
        "100",
        "--identifier",
        "split",
        "home_area",
        "--out",
        "named.parquet",
    )
    run = explain(files, *more)
    assert run.returncode == 0, run.stderr
    assert pq.read_schema(files / "named.parquet").names[0] == "split"
    lacking = explain(files, "--model", "gradient.onnx", "--identifier", "nobody", "--out", "no.parquet")
    assert (lacking.returncode, "no column “nobody”" in lacking.stderr) == (2, True)


def test_what_cannot_be_used_is_refused_and_nothing_is_written(files):
    for more, message in (
        (["--model", "claims.csv", "--out", "no.parquet"], "not an ONNX model"),
        (["--model", "gradient.onnx", "--task", "magic", "--out", "no.parquet"], "task: “magic” was given"),
        (
            ["--model", "gradient.onnx", "--cluster", "tcp://127.0.0.1:9", "--out", "no.parquet"],
            "No Dask scheduler answers",
        ),
    ):
        run = explain(files, *more)
        assert (run.returncode, message in run.stderr) == (2, True), run.stderr
    assert not (files / "no.parquet").exists()
