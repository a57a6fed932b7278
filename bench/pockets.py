"""Pockets: how long a search takes, and how often what is there, or is not there, is found.

./zt bench pockets [time|found|seen]
"""

from __future__ import annotations

import resource
import sys
import time
from multiprocessing import get_context

import numpy as np
from timing import line

from zerotilt.core import segments
from zerotilt.core.meaning import ColumnSpec, Context, Kind, Role, Spec
from zerotilt.core.pockets.found import search
from zerotilt.core.pockets.result import PocketsSettings
from zerotilt.core.subject import Subject
from zerotilt.core.table import from_arrays
from zerotilt.core.work import Work

TABLES = (("100,000 rows × 30 columns", 100_000, 24, 6, 10.0), ("1,000,000 rows × 50 columns", 1_000_000, 40, 10, None))
SEEDS, ROWS, BASE = 100, 20_000, 0.1


def invented(rows: int, numbers: int, texts: int, seed: int, planted: bool) -> tuple[Subject, np.ndarray]:
    """Recorded decisions, a tenth of them wrong; where ``planted``, a fifth in a place of three conditions, a twentieth of
    the rows. And the chance of an error in each row."""
    rng = np.random.default_rng(seed)
    columns = {f"n{j:02d}": rng.normal(size=rows).round(3) for j in range(numbers)}
    columns |= {f"t{j:02d}": np.array(list("abcde"))[rng.integers(0, 5, rows)] for j in range(texts)}
    chance = np.full(rows, BASE)
    if planted:
        halves = [columns[name] > np.median(columns[name]) for name in ("n00", "n01")]
        chance[halves[0] & ~halves[1] & (columns["t00"] == "a")] = 2 * BASE
    happened = rng.random(rows) < 0.4
    decided = happened ^ (rng.random(rows) < chance)
    columns |= {"happened": np.where(happened, "yes", "no"), "decided": np.where(decided, "yes", "no")}
    roles = {"happened": Role.outcome, "decided": Role.decision}
    table = from_arrays(columns)
    spec = Spec(
        columns=tuple(
            ColumnSpec(
                name=name,
                kind=Kind.numeric if table.is_number(name) else Kind.categorical,
                role=roles.get(name, Role.feature),
            )
            for name in table.names
        ),
        event="yes",
    )
    return Subject(spec, table, context=Context(rows="all")), chance


def timed(called: str, rows: int, numbers: int, texts: int, wanted: float | None) -> None:
    """In a process of its own, so that its memory is seen."""
    subject, _ = invented(rows, numbers, texts, 1, planted=True)
    small, _ = invented(200, 3, 1, 1, planted=False)
    search(small, PocketsSettings(), 20, Work())  # kernels are loaded
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    for what, settings in (
        ("first look", PocketsSettings(rows=5_000, deep=2, halvings=3)),
        ("whole", PocketsSettings()),
    ):
        began = time.perf_counter()
        found = search(subject, settings, 20, Work())
        took = time.perf_counter() - began
        most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        told = f"{found.tried:,} descriptions in {found.halvings} halvings, memory {most / 2**20:.2f} GiB, {(most - before) / 2**20:.2f} of it for this"
        limit = f", of {wanted:g} s{' ← beyond' if took > wanted else ''}" if wanted and what == "whole" else ""
        line(f"{called}, {what}{limit}", took, told)


def found_again(planted: bool) -> None:
    """How often a planted place is confirmed, how often anything is where nothing is, and what the intervals hold."""
    hit = any_found = held = told = 0
    for seed in range(SEEDS):
        subject, chance = invented(ROWS, 7, 3, seed, planted)
        result = search(subject, PocketsSettings(), 1_000 + seed, Work())
        there = chance > BASE
        sure = False
        for one in result.pockets:
            inside = segments.members(one.segment, subject.spec, subject.table, subject.rows.numbers)
            low, high = one.gap.inside.low or 0.0, one.gap.inside.high or 1.0
            held += low <= chance[inside].mean() <= high
            told += 1
            alike = (inside & there).sum() >= 0.5 * (inside | there).sum()
            sure |= one.status == "confirmed" and bool(alike)
        hit += sure
        any_found += any(one.status == "confirmed" for one in result.pockets)
    if planted:
        print(f"planted: found and confirmed in {hit} of {SEEDS} (95)")
    else:
        print(f"nothing planted: something confirmed in {any_found} of {SEEDS} (5)")
    print(f"  intervals hold the true error in {held / told:.1%} of {told} (93% to 97%)", flush=True)


def seen_from(rows: int) -> None:
    """Whether a place of two conditions, as large as a search of nothing says that it would have seen, is seen in four of five."""
    told = [
        search(invented(rows, 7, 3, seed, False)[0], PocketsSettings(), seed, Work()).seen_from for seed in range(10)
    ]
    known = [one for one in told if one is not None]
    if not known:
        print(f"{rows:,} rows: no size of pocket could have been seen", flush=True)
        return
    size, hit = int(np.median(known)), 0
    for seed in range(SEEDS):
        subject, there = with_place(rows, size, seed)
        for one in search(subject, PocketsSettings(), 1_000 + seed, Work()).pockets:
            inside = segments.members(one.segment, subject.spec, subject.table, subject.rows.numbers)
            if one.status == "confirmed" and (inside & there).sum() >= 0.5 * (inside | there).sum():
                hit += 1
                break
    print(
        f"{rows:,} rows: a pocket twice as wrong is said to be seen from {size:,} rows on; found and confirmed in {hit} of {SEEDS} (80)",
        flush=True,
    )


def with_place(rows: int, size: int, seed: int) -> tuple[Subject, np.ndarray]:
    """The same table with so many rows of two conditions decided wrongly twice as often."""
    subject, _ = invented(rows, 7, 3, seed, planted=False)
    number, way = subject.table.numbers("n00"), subject.table.texts("t00") == "a"
    there = way & (number >= np.sort(number[way])[::-1][min(size, way.sum()) - 1])
    rng = np.random.default_rng([seed, 1])
    # a row that is right goes wrong so often that a fifth is wrong there
    flip = there & (subject.decisions.taken == subject.rows.outcome) & (rng.random(rows) < BASE / (1 - BASE))
    decided = (subject.decisions.taken == 1) ^ flip
    table = subject.table
    columns = {name: table.numbers(name) if table.is_number(name) else table.texts(name) for name in table.names}
    again = from_arrays(columns | {"decided": np.where(decided, "yes", "no")})
    return Subject(subject.spec, again, context=Context(rows="all")), there


def main() -> None:
    chosen = sys.argv[2:] or ["time", "found", "seen"]
    fresh = get_context("spawn")
    if "time" in chosen:
        for table in TABLES:
            process = fresh.Process(target=timed, args=table)
            process.start()
            process.join()
    if "found" in chosen:
        for planted in (True, False):
            found_again(planted)
    if "seen" in chosen:
        for rows in (3_000, ROWS):
            seen_from(rows)


if __name__ == "__main__":
    main()
