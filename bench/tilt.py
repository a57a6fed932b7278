"""Groups compared on a million rows beside a plain counting of them; calibration errors; thresholds moved in a browser."""

from __future__ import annotations

import itertools
import os
import shutil
import subprocess
import sys
import tempfile
import time

import duckdb
import httpx
import numpy as np
import pyarrow as pa
from playwright.sync_api import sync_playwright
from timing import line, quickest

from zerotilt.core.groups import tilt
from zerotilt.core.groups.disparity import TiltSettings
from zerotilt.core.meaning import ColumnSpec, Context, FlagPolicy, Kind, Role, Spec
from zerotilt.core.stats import calibration
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.work import Work

ROWS = 1_000_000
LEVELS = (2, 3, 4, 5, 6)
ANALYTIC = (
    "base_rate", "selection_rate", "accuracy", "true_positive_rate", "false_positive_rate", "true_negative_rate",
    "false_negative_rate", "positive_predictive_value", "negative_predictive_value", "auc", "brier_score", "mean_score",
)  # fmt: skip
BROWSER = ["--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking"]


def invented() -> pa.Table:
    rng = np.random.default_rng(0)
    columns = {
        f"g{i}": np.array([f"level {j}" for j in range(k)], object)[rng.integers(0, k, ROWS)]
        for i, k in enumerate(LEVELS)
    }
    score = rng.beta(2, 1.5, ROWS)
    happened = np.where(rng.random(ROWS) < score, "yes", "no").astype(object)
    return pa.table(columns | {"score": score, "happened": happened})


def subject_of(table: pa.Table, metrics: tuple[str, ...]) -> Subject:
    roles = {"score": Role.score, "happened": Role.outcome}
    names = [f"g{i}" for i in range(len(LEVELS))]
    spec = Spec(
        columns=tuple(
            ColumnSpec(
                name=name, kind=Kind.numeric if name == "score" else Kind.categorical, role=roles.get(name, Role.group)
            )
            for name in table.column_names
        ),
        event="yes",
        intersections=tuple(itertools.combinations(names, 2)),
        policy=FlagPolicy(metrics=metrics),
    )
    return Subject(spec, Table(table), None, Context(rows="all"))


def counting(table: pa.Table) -> float:
    """The counts behind the rates, by grouping sets."""
    connection = duckdb.connect()
    names = [f"g{i}" for i in range(len(LEVELS))]
    sets = [f"({name})" for name in names] + [f"({a}, {b})" for a, b in itertools.combinations(names, 2)]
    connection.register("arrow", table)
    connection.execute("create table claims as select * from arrow")
    query = (
        f"select {', '.join(names)}, count(*), "
        "count(*) filter (happened = 'yes' and score >= 0.5), count(*) filter (happened = 'yes' and score < 0.5), "
        "count(*) filter (happened = 'no' and score >= 0.5), count(*) filter (happened = 'no' and score < 0.5) "
        f"from claims group by grouping sets ({', '.join(sets)})"
    )
    return quickest(lambda: connection.execute(query).fetchall(), 5)


def groups() -> None:
    table = invented()
    plain = counting(table)
    line("1,000,000 rows, 5 columns and 10 crossings, counts by grouping sets", plain)
    subject = subject_of(table, ANALYTIC)
    tilt.compare_groups(subject, TiltSettings(), 1, Work())  # the table is read once, as a database's is
    took = quickest(lambda: tilt.compare_groups(subject, TiltSettings(), 1, Work()))
    line(
        "the same, 12 metrics compared, with intervals, tests and statuses",
        took,
        f"{took / plain:.1f} times the counts alone",
    )

    def fresh() -> None:
        tilt.compare_groups(subject_of(table, ANALYTIC), TiltSettings(), 1, Work())

    line("the same, from the strings of the table on", quickest(fresh))
    every = subject_of(table, ())
    line(
        "the same, all 14 metrics, log loss and calibration error too",
        quickest(lambda: tilt.compare_groups(every, TiltSettings(), 1, Work()), 1),
    )


def calibrated() -> None:
    rng = np.random.default_rng(1)
    score = rng.beta(2, 1.5, 100_000)
    happened = rng.random(100_000) < score
    line(
        "calibration error of 100,000 rows, 2,000 draws",
        quickest(lambda: calibration.with_interval(happened, score, None, 1)),
    )


MOVE = """async () => {
  const slider = document.querySelector("[data-threshold='outer isles']");
  slider.focus();
  const took = [];
  for (let i = 0; i < 60; i++) {
    const key = i % 20 < 10 ? "ArrowRight" : "ArrowLeft";
    const began = performance.now();
    slider.dispatchEvent(new KeyboardEvent("keydown", { key, bubbles: true }));
    await new Promise((done) => requestAnimationFrame(() => setTimeout(done)));
    took.push(performance.now() - began);
  }
  return took.sort((a, b) => a - b);
}"""


def moved() -> None:
    """From a key on a threshold to the next frame drawn, in a running application."""
    home = tempfile.mkdtemp(prefix="zt-bench-")
    os.chmod(home, 0o755)  # the database's own user must get in
    command = [sys.executable, "-m", "zerotilt.cli", "demo"]
    environment = os.environ | {"ZT_HOME": home}
    started = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, text=True)
    try:
        address = next(text for text in started.stdout if "running:" in text).split()[4]
        entrance, address = address, address.partition("/?")[0]
        bearer = {"Authorization": f"Bearer {entrance.partition('?key=')[2]}"}
        audit = httpx.get(f"{address}/api/audits", headers=bearer).json()[0]["id"]
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path=shutil.which("chromium-headless-shell"), args=BROWSER)
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            asked: list[str] = []
            page.goto(entrance)
            page.goto(f"{address}/audits/{audit}/tilt?part=thresholds")
            page.wait_for_selector("[data-threshold='outer isles']")
            time.sleep(8)  # what the demo still computes ahead is not the browser's
            page.on("request", lambda request: asked.append(request.url) if "/readings/" in request.url else None)
            took = page.evaluate(MOVE)
            browser.close()
        line(
            "a threshold moved, to the next frame, median of 60",
            took[30] / 1_000,
            f"slowest {took[-1]:.0f} ms, {len(asked)} calls",
        )
    finally:
        started.terminate()
        started.wait(30)
        shutil.rmtree(home, ignore_errors=True)


if __name__ == "__main__":
    groups()
    calibrated()
    moved()
