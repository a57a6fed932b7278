"""Processes killed while everything is under way. Run with ``./zt bench kills [HOW MANY] [SEED]``; 200 when not said.

Readings of ever new settings, training, searches, reports, signatures and new audits are asked for without a pause. Meanwhile
one process after the other is killed: server, worker, the database's first process, one of its sessions, what starts readers,
readers at work. After each kill the house must answer again, and ``./zt check`` must find nothing. In the end nothing that was
acknowledged is lost, every task has ended, and what was done twice has one record.
"""

from __future__ import annotations

import collections
import contextlib
import os
import random
import signal
import statistics
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

import httpx
import psutil
from tests.api import talk

from zerotilt.services.home import Home
from zerotilt.services.supervisor import Supervisor
from zerotilt.store import check
from zerotilt.store.database import database, patiently
from zerotilt.store.files import FileStore
from zerotilt.store.records import Audit, EvidenceRow, Task
from zerotilt.tasks.worker import FILES_SECONDS, FORGOTTEN

KILLS = 200
ANSWERS = 60.0
"""Seconds within which the house answers again."""
ENDS = 600.0
"""Seconds within which all work has ended, once nobody is killed any more."""
WAITING = 20
"""Tasks beyond which nothing that takes long is asked for."""
LATER = FORGOTTEN + FILES_SECONDS + 30.0
"""Files that an attempt left are swept within so long."""
QUICK = {"estimator": "naive Bayes"}
VICTIMS = ("server", "worker", "database", "a session of the database", "what starts readers", "a reader")


class Load:
    """What is asked for, and what of it was acknowledged."""

    def __init__(self, url: str, audit: dict):
        self.url, self.audit, self.at = url, audit, f"/api/audits/{audit['id']}"
        self.context = {"model": audit["models"][0]["id"], "rows": "hold-out"}
        self.made: dict[str, str] = {}
        self.tasks: dict[str, str] = {}
        self.signed: set[tuple[int, str]] = set()
        self.asked: collections.Counter[str] = collections.Counter()
        self.wrong: set[str] = set()
        self.stop = threading.Event()

    def run(self, what: Callable[[httpx.Client, int], None], pause: float) -> None:
        number = 0
        with talk.to(self.url, 30) as client:
            while not self.stop.wait(pause):
                number += 1
                try:
                    what(client, number)
                    self.asked[what.__name__] += 1
                except (httpx.TransportError, ValueError):
                    time.sleep(0.2)  # it was killed under our hands; nothing was acknowledged

    def begun(self, answer: httpx.Response) -> None:
        if answer.status_code >= 500 or answer.status_code == 409:
            return  # the database was away, or something changed meanwhile
        if answer.status_code not in (200, 202):
            self.wrong.add(f"asked and refused: {answer.text[:200]}")
            return
        body = answer.json()
        for one in body if isinstance(body, list) else [body]:
            task = one.get("task") or (one if "state" in one else None)
            if isinstance(task, dict):
                self.tasks[task["id"]] = task["title"]

    def audits(self, client: httpx.Client, number: int) -> None:
        answer = client.post("/api/audits", json={"title": f"Killed under {number}"})
        if answer.status_code == 201:
            self.made[answer.json()["id"]] = f"Killed under {number}"

    def busy(self, client: httpx.Client) -> bool:
        """Whether so much waits that more of it would only wait longer."""
        tasks = client.get(f"{self.at}/tasks").json()
        mine = [one for one in tasks if one["id"] in self.tasks] if isinstance(tasks, list) else []
        return sum(one["state"] in ("queued", "running") for one in mine) >= WAITING

    def readings(self, client: httpx.Client, number: int) -> None:
        if self.busy(client):
            return
        method, settings = (("response", {"points": 10 + number % 150}), ("drivers", {"rows": 100 + number}),
                            ("pockets", {"times": 1.2 + number / 1_000}), ("tilt", {"attributes": ["home_area"]}))[number % 4]  # fmt: skip
        body = {"context": self.context, "settings": settings}
        self.begun(client.post(f"{self.at}/readings/{method}", json=body))

    def training(self, client: httpx.Client, number: int) -> None:
        if self.busy(client):
            return
        self.begun(client.post(f"{self.at}/candidates", json={"recipes": [QUICK | {"seed": number}]}))
        if number % 5 == 0:
            search = {
                "search": {"estimators": ["linear"], "most": 3, "seconds": 20},
                "base": {"estimator": "linear", "seed": number},
            }
            self.begun(client.post(f"{self.at}/candidates/search", json=search))

    def reports(self, client: httpx.Client, number: int) -> None:
        if not self.busy(client):
            self.begun(client.post(f"{self.at}/reports", json=self.context))

    def signatures(self, client: httpx.Client, number: int) -> None:
        name = f"Signer {number}"
        written = client.get(f"{self.at}/reports")
        for one in written.json()[-1:] if written.status_code == 200 else ():  # the database may be away
            told = client.post(f"{self.at}/reports/{one['number']}/signatures", json={"name": name, "role": "reviewer"})
            if told.status_code == 201:
                self.signed.add((one["number"], name))
            elif told.status_code < 500:
                self.wrong.add(f"a signature was refused: {told.text[:200]}")


def victims(supervisor: Supervisor, which: str) -> list[psutil.Process]:
    """Processes of one sort that are there now."""
    try:
        worker = psutil.Process(supervisor.children["worker"].pid)
        if which in supervisor.children:
            return [psutil.Process(supervisor.children[which].pid)]
        if which == "database":
            return [psutil.Process(supervisor.postgres.process.pid)]
        if which == "a session of the database":
            first = psutil.Process(supervisor.postgres.process.pid)
            return [one for one in first.children() if "127.0.0.1" in " ".join(one.cmdline())]
        below = worker.children()
        return (
            below
            if which == "what starts readers"
            else [one for child in below for one in child.children(recursive=True)]
        )
    except (psutil.Error, AttributeError):
        return []


def answering(url: str) -> float:
    """Seconds until a list, which takes server and database, is given again."""
    began = time.monotonic()
    while time.monotonic() - began < ANSWERS:
        try:
            if httpx.get(f"{url}/api/audits", timeout=10, headers=talk.bearer(url)).status_code == 200:
                return time.monotonic() - began
        except httpx.TransportError:
            pass
        time.sleep(0.05)
    raise SystemExit(f"The house did not answer within {ANSWERS:.0f} s.")


def found_wrong(files: FileStore, unowned: bool = False) -> list[str]:
    problems = patiently(lambda: check.check(files)[0], ANSWERS)
    return [one for one in problems if unowned or "belongs to no record" not in one]


def kills(supervisor: Supervisor, many: int, seed: int) -> bool:
    files, chosen = FileStore(supervisor.home.files), random.Random(seed)
    with talk.to(supervisor.url, 120) as client:
        assert talk.wait(client, client.post("/api/demo").json(), 600)["state"] == "done"
        load = Load(supervisor.url, talk.demo_audit(client))
        made = client.post(f"{load.at}/reports", json=load.context).json()
        assert talk.wait(client, made, 300)["state"] == "done"  # there is one to be signed from the first kill on
    sorts = (
        (load.audits, 0.3),
        (load.readings, 0.2),
        (load.training, 4.0),
        (load.reports, 8.0),
        (load.signatures, 0.5),
    )
    threads = [threading.Thread(target=load.run, args=one, daemon=True) for one in sorts]
    for thread in threads:
        thread.start()
    took: dict[str, list[float]] = collections.defaultdict(list)
    wrong: dict[str, list[str]] = collections.defaultdict(list)
    for number in range(many):
        time.sleep(chosen.uniform(0.3, 2.0))
        which = VICTIMS[number % len(VICTIMS)]
        until = time.monotonic() + 20
        while not (there := victims(supervisor, which)) and time.monotonic() < until:
            time.sleep(0.1)
        if not there:
            wrong[which].append("none of them was there in 20 s")
            continue
        with contextlib.suppress(ProcessLookupError):  # it may have ended by itself meanwhile
            os.kill(chosen.choice(there).pid, signal.SIGKILL)
        took[which].append(answering(supervisor.url))
        wrong[which] += found_wrong(files)
    load.stop.set()
    for thread in threads:
        thread.join(60)
    lost, late = afterwards(supervisor, load)
    lost += sorted(load.wrong)
    time.sleep(LATER)
    left = found_wrong(files, unowned=True)
    print(f"{'killed':<28}{'kills':>6}{'median':>9}{'slowest':>9}  wrong after it")
    for which in VICTIMS:
        if took[which]:
            median, most = statistics.median(took[which]), max(took[which])
            print(f"{which:<28}{len(took[which]):>6}{median:>7.2f} s{most:>7.2f} s  {len(wrong[which])}")
    kinds = ", ".join(f"{count} × {what}" for what, count in collections.Counter(load.tasks.values()).most_common(8))
    print(f"tasks: {kinds}")
    asked = ", ".join(f"{count} × {what}" for what, count in sorted(load.asked.items()))
    print(
        f"asked meanwhile: {asked}; {len(load.tasks)} tasks, {len(load.made)} audits, {len(load.signed)} signatures acknowledged"
    )
    print(
        f"acknowledged and lost: {len(lost)}; tasks that did not end: {len(late)}; wrong {LATER:.0f} s later: {len(left)}"
    )
    for one in [*(said for told in wrong.values() for said in told), *lost, *late, *left]:
        print(f"  {one}")
    return not (any(wrong.values()) or lost or late or left)


def afterwards(supervisor: Supervisor, load: Load) -> tuple[list[str], list[str]]:
    """What was acknowledged and is not there, or is there twice; tasks that have not ended."""
    answering(supervisor.url)
    until, late = time.monotonic() + ENDS, ["?"]
    while late and time.monotonic() < until:
        time.sleep(1)
        late = patiently(
            lambda: [f"{one.title}: {one.state}" for one in Task.select().where(Task.state.in_(("queued", "running")))],
            ANSWERS,
        )
    lost = []
    with database.connection_context(), talk.to(supervisor.url, 60) as client:
        there = {str(one.id): one.title for one in Audit.select(Audit.id, Audit.title)}
        lost += [f"the audit “{title}”" for name, title in load.made.items() if there.get(name) != title]
        known = {str(one.id) for one in Task.select(Task.id)}
        lost += [f"the task “{title}”" for name, title in load.tasks.items() if name not in known]
        reports = client.get(f"{load.at}/reports").json()
        signed = [(one["number"], name["name"]) for one in reports for name in one["signatures"]]
        lost += [f"the signature of {name} on report {number}" for number, name in load.signed - set(signed)]
        lost += [
            f"{name} has signed report {number} twice"
            for (number, name), times in collections.Counter(signed).items()
            if times > 1
        ]
        numbers = [one["number"] for one in reports]
        lost += [
            f"report {number} is there twice" for number, times in collections.Counter(numbers).items() if times > 1
        ]
        keys = [one.key for one in EvidenceRow.select(EvidenceRow.key)]
        lost += [f"evidence {key} is there twice" for key, times in collections.Counter(keys).items() if times > 1]
    return lost, late


def main() -> None:
    many = int(sys.argv[2]) if len(sys.argv) > 2 else KILLS
    seed = int(sys.argv[3]) if len(sys.argv) > 3 else 0
    with tempfile.TemporaryDirectory(prefix="zt-kills-") as folder:
        Path(folder).chmod(0o755)
        supervisor = Supervisor(Home(Path(folder)))
        supervisor.start()
        talk.KEYS[supervisor.url] = supervisor.home.key
        ended = threading.Event()

        def revive() -> None:
            while not ended.wait(0.2):
                supervisor.revive()

        reviver = threading.Thread(target=revive, daemon=True)
        reviver.start()
        try:
            fine = kills(supervisor, many, seed)
        finally:
            ended.set()
            reviver.join(10)
            supervisor.stop()
    sys.exit(0 if fine else 1)


if __name__ == "__main__":
    main()
