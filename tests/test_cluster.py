"""The same work on a real Dask scheduler with two workers on loopback, one of which dies on the way."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys

import numpy as np
import pytest
from distributed import Client
from tests.core import zoo
from tests.core.systems import slow_square
from tests.core.test_group_sheets import scored
from tests.train.test_fitting import tilted

from zerotilt.cluster import DaskExecutor, executor_at
from zerotilt.core.candidates.recipe import Dealing, Recipe
from zerotilt.core.contributions.explain import explain
from zerotilt.core.executor import LocalExecutor
from zerotilt.core.groups import tilt
from zerotilt.core.groups.disparity import TiltSettings
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Cancelled, Refused
from zerotilt.core.work import Work
from zerotilt.train.fitting import train


def _free_port() -> int:
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return found.getsockname()[1]


@pytest.fixture(scope="module")
def cluster():
    """Address of a scheduler, and its two workers' processes by address."""
    port = _free_port()
    address = f"tcp://127.0.0.1:{port}"
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    dask = [
        sys.executable,
        "-m",
        "distributed.cli.dask_scheduler",
        "--host",
        "127.0.0.1",
        "--port",
        str(port),
        "--no-dashboard",
    ]
    environment = os.environ | {"PYTHONPATH": os.pathsep.join(["src", "."])}
    running = [subprocess.Popen(dask, env=environment, **quiet)]
    worker = [sys.executable, "-m", "distributed.cli.dask_worker", address, "--nthreads", "1", "--no-dashboard", "--host", "127.0.0.1", "--no-nanny"]  # fmt: skip
    running += [subprocess.Popen(worker, env=environment, **quiet) for _ in range(2)]
    client = Client(address, timeout=60, set_as_default=False)
    client.wait_for_workers(2, timeout=60)
    yield address, running[1:], client
    client.close()
    for process in reversed(running):
        process.terminate()
        process.wait(10)


def test_results_come_in_order_although_a_worker_dies_midway(cluster):
    address, workers, client = cluster
    work = Work(executor=DaskExecutor(address))
    found = []
    for result in work.spread(slow_square, 2.0, list(range(60)), "squares"):
        found.append(result)
        if len(found) == 10:
            workers[0].send_signal(signal.SIGKILL)
    assert found == [2.0 * n**2 for n in range(60)]
    assert len(client.scheduler_info()["workers"]) == 1


def test_folds_train_on_the_cluster_to_the_same_numbers(cluster):
    address, *_ = cluster
    spec, table = tilted(1_200)
    recipe = Recipe(estimator="boosted trees", trees=8, dealing=Dealing(folds=3), reweigh="home")
    here = train(spec, table, recipe, Work())
    there = train(spec, table, recipe, Work(executor=DaskExecutor(address)))
    assert there.validated == here.validated


@pytest.mark.parametrize("method", ["auto", "sampled", "least squares"])
def test_contributions_equal_the_local_ones(cluster, method):
    task, model, columns = zoo.made("random forest")
    there = explain(
        zoo.subject_of(model, columns, task),
        np.arange(40),
        3,
        Work(executor=DaskExecutor(cluster[0])),
        method,
        most_pairs=64,
    )
    here = explain(
        zoo.subject_of(model, columns, task), np.arange(40), 3, Work(executor=LocalExecutor(1)), method, most_pairs=64
    )
    assert there.method == here.method
    np.testing.assert_allclose(there.values, here.values, rtol=0, atol=1e-12)


@pytest.mark.parametrize("name", ["drivers", "response", "loss_shapley", "interactions"])
def test_methods_give_the_same_result_wherever_they_run(cluster, name):
    task, model, columns = zoo.made("gradient boosting")
    method = METHODS[name]
    results = [
        method.compute(zoo.subject_of(model, columns, task), method.settings(), 3, Work(executor=executor))
        for executor in (DaskExecutor(cluster[0]), LocalExecutor(1), LocalExecutor(2))
    ]
    first, *others = [result.model_dump_json() for result in results]
    assert others == [first, first]


def test_groups_compared_elsewhere_are_the_same(cluster):
    subject = scored(400)
    results = [
        tilt.compare_groups(subject, TiltSettings(), 3, Work(executor=executor)).model_dump_json()
        for executor in (DaskExecutor(cluster[0]), LocalExecutor(1), LocalExecutor(2))
    ]
    assert results[1:] == [results[0]] * 2


def test_stopping_stops_the_pieces_that_wait(cluster):
    def stop(done, total, what):
        if done >= 3:
            raise Cancelled

    work = Work(stop, executor=DaskExecutor(cluster[0]))
    with pytest.raises(Cancelled):
        list(work.spread(slow_square, 1.0, list(range(1_000)), "squares"))


def test_an_address_where_nobody_answers_is_refused(monkeypatch):
    monkeypatch.setattr("zerotilt.cluster.CONNECT_SECONDS", 0.3)
    with pytest.raises(Refused, match="No Dask scheduler answers"):
        executor_at(f"tcp://127.0.0.1:{_free_port()}")


def test_without_an_address_this_machine_computes(monkeypatch):
    monkeypatch.delenv("ZEROTILT_CLUSTER", raising=False)
    assert isinstance(executor_at(), LocalExecutor)
