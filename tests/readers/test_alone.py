"""Jobs in a process of their own: results, refusals, limits, crashes."""

import contextlib
import time

import pytest

from zerotilt.core.refusal import Cancelled, Refused
from zerotilt.readers import alone, jobs
from zerotilt.readers.watch import Limits


def go_on(done, total, what):
    return True


def run(job, arguments=None, tmp_path=None, tick=go_on, **limits):
    return alone.run(job, arguments or {}, tmp_path, tick, Limits(**limits))


@pytest.fixture
def bad_table(tmp_path):
    path = tmp_path / "bad.csv"
    path.write_text("a,b\n1,2\n3\n")
    return {"path": str(path)}


@pytest.fixture
def long_table(tmp_path):
    path = tmp_path / "long.csv"
    path.write_text("a,b\n" + "1,x\n" * 6_000_000)
    return {"path": str(path)}


def test_a_result_and_its_files_come_back(tmp_path):
    (tmp_path / "t.csv").write_text("a,b\n1,x\n2,y\n")
    told = []
    found = run("read_table", {"path": str(tmp_path / "t.csv")}, tmp_path, lambda *a: told.append(a) or True)
    assert found["profile"]["rows"] == 2
    assert (tmp_path / "table.parquet").exists()
    assert found["spec"]["columns"][0]["name"] == "a"


def test_a_refusal_keeps_its_place(tmp_path, bad_table):
    with pytest.raises(Refused, match="1 values") as caught:
        run("read_table", bad_table, tmp_path)
    assert caught.value.where == "line 3"


def test_something_unexpected_is_passed_on(tmp_path):
    with pytest.raises(RuntimeError, match="KeyError"):
        run("read_table", {}, tmp_path)


def test_work_is_cancelled_at_once(tmp_path, long_table):
    began = time.monotonic()
    with pytest.raises(Cancelled):
        run("read_table", long_table, tmp_path, lambda done, total, what: done == 0)
    assert time.monotonic() - began < 10


def test_work_over_its_time_is_stopped(tmp_path, long_table):
    with pytest.raises(Refused, match="took longer than 1 s"):
        run("read_table", long_table, tmp_path, seconds=0.6)


def test_work_over_its_memory_is_stopped(tmp_path, long_table):
    with pytest.raises(Refused, match=r"more than (its )?0.25 GiB of memory"):
        run("read_table", long_table, tmp_path, memory=2**28)


def test_a_process_that_dies_is_said(tmp_path, long_table):
    import psutil

    def kill_it(done, total, what):
        for process in psutil.Process().children(recursive=True):
            with contextlib.suppress(psutil.NoSuchProcess):  # another job's may end while it is looked at
                own = "forkserver" in " ".join(process.cmdline()) and process.ppid() != psutil.Process().pid
                if done and own and process.status() != "zombie":
                    process.kill()
        return True

    with pytest.raises(Refused, match=r"ended by SIGKILL|ended without a result"):
        run("read_table", long_table, tmp_path, kill_it)


def test_every_kind_of_task_has_a_job():
    from zerotilt.tasks.worker import FINISHERS

    assert set(FINISHERS) <= set(jobs.JOBS)
