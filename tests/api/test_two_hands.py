"""Two hands change an audit at the same moment, while it is read, kept and reported: no sentence is one that was never true
together with its words."""

from __future__ import annotations

import json
import random
import re
import threading

import pytest
from tests.api import talk
from tests.api.test_findings import audit_of, tilted

from zerotilt.core.work import Work
from zerotilt.store.database import database
from zerotilt.store.files import FileStore
from zerotilt.stored import report_named, reproduce

HERE = {"model": None, "rows": "all"}
WORDS = re.compile(r"\b(?:claims|one|paid|kept)(\d+)q\b")
CHANGES = 10


def named(number: int) -> dict[str, str]:
    """Names that nobody else gives: what is told in them was told after they were given."""
    return {
        "row": f"one{number}q",
        "rows": f"claims{number}q",
        "favourable": f"paid{number}q",
        "unfavourable": f"kept{number}q",
    }


def numbers_in(text: str) -> set[int]:
    return {int(found) for found in WORDS.findall(text)}


class Audit:
    """One audit under two hands, and every state that it has been in."""

    def __init__(self, client, name: str):
        self.client, self.at, self.name = client, f"/api/audits/{name}", name
        self.states: set[tuple[int, str]] = set()
        self.said: list[tuple[str, set[int], str]] = []
        self.kept: dict[str, dict] = {}
        self.reports: dict[int, str] = {}
        self.held = threading.Lock()
        self.count = 0

    def was(self, view: dict) -> None:
        number = next(iter(numbers_in(view["spec"]["wording"]["rows"])), -1)
        with self.held:
            self.states.add((number, view["tags"]["spec"]))

    def put(self, part: str, body: dict) -> None:
        answer = talk.put_part(self.client, self.name, part, body)
        assert answer.status_code == 200, answer.text
        self.was(answer.json())

    def rename(self, rng: random.Random) -> None:
        with self.held:
            self.count += 1
            number = self.count
        self.put("wording", {"wording": named(number)})

    def _problem(self, **changes) -> None:
        spec = self.client.get(self.at).json()["spec"]
        self.put("problem", {name: spec[name] for name in talk.PARTS["problem"]} | changes)
        for _ in range(5):  # the other hand may change it while it is checked
            if talk.wait(self.client, self.client.post(f"{self.at}/finish", json={}).json())["state"] == "done":
                return

    def flip(self, rng: random.Random) -> None:
        self._problem(favourable=rng.choice(["event", "other"]))

    def threshold(self, rng: random.Random) -> None:
        self._problem(threshold=rng.choice([0.4, 0.45, 0.5]))

    def limits(self, rng: random.Random) -> None:
        policy = self.client.get(self.at).json()["spec"]["policy"]
        self.put("policy", {"policy": policy | {"ratio_low": rng.choice([0.7, 0.75, 0.8])}})

    def segment(self, rng: random.Random) -> None:
        name = rng.choice(["first", "second", "third"])
        self.put("comparisons", {"segments": [{"name": name, "conditions": [{"column": "g", "levels": ["a"]}]}]})

    def keep(self, rng: random.Random) -> None:
        answer = self.read("tilt")
        if answer is None:
            return
        asked = self.client.post(f"{self.at}/dossier", json={"key": answer["key"], "context": HERE})
        if asked.status_code == 201:
            with self.held:
                self.kept.setdefault(asked.json()["id"], asked.json()["reading"])
            self.heard("kept", asked.json()["reading"], answer["digests"]["spec"])

    def report(self, rng: random.Random) -> None:
        asked = self.client.post(f"{self.at}/reports", json=HERE)
        if asked.status_code != 202:
            return  # Intake is open
        done = talk.wait(self.client, asked.json())
        if done["state"] == "done":
            number = done["result"]["number"]
            with self.held:
                self.reports[number] = self.client.get(f"{self.at}/reports/{number}/report.html").text

    def heard(self, where: str, reading: dict, digest: str) -> None:
        text = "".join(span["text"] for span in reading["headline"]) + reading["detail"]
        with self.held:
            self.said.append((f"{where}: {text}", numbers_in(text), digest[:12]))

    def read(self, method: str) -> dict | None:
        answer = self.client.post(f"{self.at}/readings/{method}", json={"context": HERE})
        if answer.status_code != 200:
            assert answer.status_code == 422, answer.text
            return None
        found = answer.json()["evidence"]
        if found:
            self.heard(method, found["reading"], found["digests"]["spec"])
        return found

    def look(self) -> None:
        self.read("tilt")
        self.read("performance")
        for one in self.client.post(f"{self.at}/findings", json=HERE).json():
            assert len(numbers_in(one["statement"])) <= 1, one["statement"]


@pytest.mark.parametrize("seed", [1, 2])
def test_no_sentence_was_never_true_with_its_words(client, running, seed):
    audit = Audit(client, audit_of(client, tilted(seed)))
    audit.rename(random.Random(0))
    over, trouble = threading.Event(), []

    def guarded(work) -> None:
        try:
            work()
        except BaseException as problem:  # told where it is seen
            trouble.append(problem)

    def hand(number: int) -> None:
        rng = random.Random(f"{seed} {number}")
        for _ in range(CHANGES):
            acts = [audit.rename, audit.rename, audit.flip, audit.threshold, audit.limits, audit.segment, audit.keep]
            rng.choice([*acts, audit.report])(rng)

    def reader() -> None:
        while not over.is_set():
            audit.look()

    hands = [threading.Thread(target=guarded, args=(lambda n=n: hand(n),)) for n in (1, 2)]
    eyes = threading.Thread(target=guarded, args=(reader,))
    for thread in (*hands, eyes):
        thread.start()
    for thread in hands:
        thread.join(240)
    over.set()
    eyes.join(60)
    assert trouble == []
    audit._problem(threshold=0.5)
    audit.report(random.Random(0))
    # each sentence: words of one state, and numbers of a meaning that was in force with these words
    assert len(audit.said) > 10
    for said, words, digest in audit.said:
        assert len(words) == 1 and (next(iter(words)), digest) in audit.states, (said, digest)
    for one in client.get(f"{audit.at}/dossier").json():
        if one["id"] in audit.kept:
            assert one["reading"] == audit.kept[one["id"]]
    assert audit.reports
    for number, text in audit.reports.items():
        assert client.get(f"{audit.at}/reports/{number}/report.html").text == text
        told = json.loads(client.get(f"{audit.at}/reports/{number}/evidence.json").text)
        for piece in ("tilt", "performance", "flagged", "short"):
            section = re.search(f'<section data-piece="{piece}".*?</section>', text, re.S)
            words = numbers_in(re.sub(r"<[^>]+>", " ", section[0])) if section else set()
            digests = {one["digests"]["spec"][:12] for one in told["evidence"] if one["method"] == "tilt"}
            assert (
                len(words) <= 1 and any((word, one) in audit.states for word in words for one in digests)
            ) or not words
    files = FileStore(running.home.files)
    with database.connection_context():
        done = list(reproduce(report_named(f"{audit.name}/{max(audit.reports)}"), files, Work()))
    again = [one for one in done if one.compared is not None]
    assert len(again) > 3 and [one.sentence for one in again if one.compared.differences] == []
    # a figure kept under another meaning stays as it was kept, and that is said
    assert all("under another meaning" in one.why for one in done if one.compared is None)
    client.delete(f"{audit.at}?for_good=true")
