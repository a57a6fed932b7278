"""The table itself: every column of a million rows beside one DuckDB pass over them; concerns and pairs of long and wide tables.

./zt bench data
"""

from __future__ import annotations

import resource
import tempfile
from pathlib import Path

import duckdb
import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from sheets import invented
from timing import line, quickest

from zerotilt.core.meaning import ColumnSpec, Context, Kind, Role, Spec
from zerotilt.core.methods import METHODS
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.work import Work
from zerotilt.demo import audit


def subject_of(path: Path) -> Subject:
    table = Table(path.open("rb"))
    roles = {"happened": Role.outcome, "t00": Role.group, "t01": Role.group}
    columns = tuple(
        ColumnSpec(
            name=name,
            kind=Kind.categorical if table.is_text(name) else Kind.numeric,
            role=roles.get(name, Role.feature),
        )
        for name in table.names
    )
    return Subject(Spec(columns=columns, event="yes"), table, None, Context(rows="all"))


def read(name: str, fresh, **settings) -> float:
    method = METHODS[name]
    return quickest(lambda: method.compute(fresh(), method.settings(**settings), 1, Work()), 2)


def main() -> None:
    claims, spec, _ = audit.build()
    for name in ("columns", "concerns", "pairs"):
        line(f"demo, {name}", read(name, lambda: Subject(spec, Table(claims), None)))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "table.parquet"
        table, _ = invented(1_000_000, 29, 10)
        pq.write_table(table, path)
        once = quickest(lambda: duckdb.sql(f"summarize select * from '{path}'").fetchall(), 2)
        took = read("columns", lambda: subject_of(path))
        line("1,000,000 rows × 40, every column", took, f"{took / once:.1f} times one DuckDB pass ({once:.2f} s) of 3")
        apart = read("columns", lambda: subject_of(path), by="t00")
        line("the same, told apart by a group", apart, f"{apart / once:.1f} times")
        print(f"most memory so far: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20:.1f} GiB", flush=True)
        line("1,000,000 rows × 40, concerns", read("concerns", lambda: subject_of(path)))
        line("1,000,000 rows × 40, pairs", read("pairs", lambda: subject_of(path)))
        wide = {f"n{i:03d}": np.random.default_rng(i).normal(size=5_000) for i in range(490)}
        rng = np.random.default_rng(0)
        wide |= {f"t{i:02d}": rng.choice(list("abcde"), 5_000) for i in range(10)}
        wide["happened"] = rng.choice(["yes", "no"], 5_000)
        pq.write_table(pa.table(wide), path)
        for name in ("columns", "concerns", "pairs"):
            line(f"5,000 rows × 501, {name}", read(name, lambda: subject_of(path)))
    print(f"most memory: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20:.1f} GiB")


if __name__ == "__main__":
    main()
