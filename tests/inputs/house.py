"""An audit, read and written as server and worker do, in this process: those that run do not know what a test declares."""

from __future__ import annotations

import pytest
from starlette.testclient import TestClient
from tests.tasks.test_board import Recorded

from zerotilt.api.app import create
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work
from zerotilt.readers import jobs
from zerotilt.store import database, removal
from zerotilt.store.files import FileStore
from zerotilt.store.records import Audit, Task
from zerotilt.tasks import board
from zerotilt.tasks.board import Board
from zerotilt.tasks.ownership import claim
from zerotilt.tasks.ticker import Ticker
from zerotilt.tasks.worker import Worker


class House:
    def __init__(self, running, folder):
        self.files, self.queue, self.folder = FileStore(running.home.files), Recorded(), folder
        self.worker = Worker(self.queue, self.files)
        app = create(self.files)
        app.state.desk.__dict__["board"] = Board(self.queue)
        self.client = TestClient(app, base_url="http://127.0.0.1")
        demo = Audit.select().where(Audit.demo).order_by(Audit.created).get()
        self.at = f"/api/audits/{self.client.post(f'/api/audits/{demo.id}/duplicate').json()['id']}"
        self.context = {"model": self.view["models"][0]["id"]}

    @property
    def view(self) -> dict:
        return self.client.get(self.at).json()

    @property
    def audit(self) -> Audit:
        return Audit.get_by_id(self.at.rpartition("/")[2])

    def done(self, task_id: str) -> Task:
        """The work of one task, in this process."""
        task = claim(task_id)
        arguments = self.worker._arguments(task, Ticker(task))
        try:
            left = self.worker._finish(task, jobs.JOBS[task.kind](arguments, self.folder, Work()))
            removal.discard(self.files, left)
        except Refused as problem:
            self.worker._end(task, "failed", problem.as_dict())
        return Task.get_by_id(task_id)

    def give(self, content: bytes, name: str = "areas.km") -> Task:
        found = self.client.put(f"{self.at}/inputs/distances", params={"name": name}, content=content)
        assert found.status_code == 202, found.text
        return self.done(found.json()["id"])

    def read(self) -> dict:
        """The reading, computed where it is not there yet."""
        ask = {"context": self.context, "settings": {}}
        found = self.client.post(f"{self.at}/readings/far", json=ask).json()
        if found["task"]:
            task = self.done(found["task"]["id"])
            if task.state == "failed":
                return task.error
            found = self.client.post(f"{self.at}/readings/far", json=ask).json()
        return found["evidence"]


@pytest.fixture
def house(running, tmp_path, monkeypatch):
    monkeypatch.setattr(board, "ring", lambda channel, name: None)
    database.bind(running.postgres.address)
    with database.database.connection_context():
        made = House(running, tmp_path)
        yield made
        with database.database.atomic():
            left = removal.remove_audit(made.audit, made.files)
        removal.discard(made.files, left)
