"""What one file with an input's declaration brings: uploaded, kept, checked, read, named in keys, copied, archived, deleted."""

from __future__ import annotations

import hashlib
import io
import json
from dataclasses import replace

import numpy as np
import pyarrow.csv as pacsv
import pytest
from tests.cli.shell import typed
from tests.inputs import toy
from tests.inputs.house import house

from zerotilt import settings_file, stored
from zerotilt.api import contract
from zerotilt.core.evidence import Digests, Evidence, changed_since, key
from zerotilt.core.inputs import INPUTS, Input
from zerotilt.core.meaning import Context, Spec
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work
from zerotilt.notebook import Study
from zerotilt.readers import jobs
from zerotilt.readers.held import Held
from zerotilt.readers.room import Room
from zerotilt.store import archive, check, database, holdings, removal
from zerotilt.store.records import EvidenceRow, InputFile
from zerotilt.tasks.board import changes_of
from zerotilt.tasks.ownership import claim
from zerotilt.tasks.ticker import Ticker

__all__ = ["house"]
AREAS = ("harbour town", "outer isles", "uplands", "mainland")


def distances(**more: float) -> bytes:
    return json.dumps({area: float(place) for place, area in enumerate(AREAS)} | more).encode()


@pytest.fixture(autouse=True)
def registered(monkeypatch):
    """The line in the list of inputs, and that in the list of methods."""
    monkeypatch.setitem(INPUTS, "distances", toy.INPUT)
    monkeypatch.setitem(METHODS, "far", toy.method())


@pytest.fixture(scope="module")
def claims(demo):
    table, _, models = demo
    return table.slice(0, 600), models["gradient trees v3"]


def test_it_is_uploaded_looked_into_read_replaced_and_deleted(house):
    assert house.view["inputs"] == []
    assert house.read()["message"] == "Distances: this reads a list of distances, and the audit was given none."

    failed = house.give(b"[1, 2]")
    assert (failed.state, failed.error["message"]) == ("failed", "This is no list of distances.")
    assert house.view["inputs"] == [] and hashlib.sha256(b"[1, 2]").hexdigest() not in set(house.files.digests())

    before, data = house.view["tags"], distances()
    assert house.give(data).state == "done"
    (given,) = house.view["inputs"]
    assert (given["name"], given["said"], given["bytes"]) == ("areas.km", ["Distances of 4 areas."], len(data))
    assert {part for part, tag in house.view["tags"].items() if before[part] != tag} == {"table"}

    found = house.read()
    assert found["digests"]["inputs"] == {"distances": hashlib.sha256(data).hexdigest()}
    assert found["reading"]["headline"][0]["text"].endswith("km away.")

    # the same file under another name is the same evidence; another file is another
    house.give(data, "once more.km")
    assert house.read()["key"] == found["key"] and house.view["inputs"][0]["name"] == "once more.km"
    other = distances(uplands=700.0)
    house.give(other)
    again = house.read()
    assert again["key"] != found["key"] and again["result"]["km"] > found["result"]["km"]
    assert len(house.view["inputs"]) == 1 and house.view["inputs"][0]["bytes"] == len(other)
    assert hashlib.sha256(data).hexdigest() in set(house.files.digests()), (
        "so that a report of then can be computed again"
    )
    assert EvidenceRow.get_or_none(EvidenceRow.key == found["key"]) is not None

    assert house.client.delete(f"{house.at}/inputs/distances").status_code == 204
    assert house.client.delete(f"{house.at}/inputs/distances").status_code == 404
    assert house.view["inputs"] == [] and "was given none" in house.read()["message"]
    assert not {hashlib.sha256(one).hexdigest() for one in (data, other)} & set(house.files.digests())


def test_what_was_kept_of_it_says_that_it_was_replaced(house):
    house.give(distances())
    found = house.read()
    kept = house.client.post(f"{house.at}/dossier", json={"key": found["key"], "context": house.context}).json()
    assert kept["changed"] == []
    house.give(distances(uplands=5.0))
    (line,) = house.client.get(f"{house.at}/dossier").json()
    assert line["changed"] == ["a list of distances"]


def test_a_file_that_does_not_fit_is_refused_where_it_is_read_and_nowhere_else(house):
    house.give(json.dumps({"uplands": 3}).encode())
    said = house.read()
    assert said["message"].startswith("It has no distance for ") and said["where"] == "input “distances”"
    answer = house.client.post(f"{house.at}/readings/performance", json={"context": house.context, "settings": {}})
    assert answer.status_code == 200 and "evidence" in answer.json()


def test_what_is_too_large_or_of_no_input_is_refused(house):
    answer = house.client.put(f"{house.at}/inputs/distances", params={"name": "a.km"}, content=b" " * 20_000)
    assert answer.status_code == 422 and "larger than 10,000 bytes" in answer.json()["detail"]
    answer = house.client.put(f"{house.at}/inputs/nothing", params={"name": "a.km"}, content=b"1")
    assert answer.status_code == 422 and "There is no input “nothing”" in answer.json()["detail"]


def test_it_is_checked_copied_and_goes_with_the_archive(house):
    data = distances()
    house.give(data)
    digest = hashlib.sha256(data).hexdigest()
    assert holdings.files_named()[digest] == "“areas.km”: a list of distances"
    assert digest in set(holdings.files_of(house.audit))
    whole = house.files.path(digest)
    held = whole.read_bytes()
    whole.chmod(0o600)
    whole.write_bytes(held[:-1])
    assert any("a list of distances" in one for one in check.check(house.files)[0])
    whole.write_bytes(held)

    copied = house.client.post(f"{house.at}/duplicate").json()["id"]
    assert [one["name"] for one in house.client.get(f"/api/audits/{copied}").json()["inputs"]] == ["areas.km"]
    assert house.client.delete(f"/api/audits/{copied}?for_good=true").status_code == 204
    assert whole.exists(), "the first audit still has it"

    sink = io.BytesIO()
    archive.export(house.audit, house.files, sink)
    with database.database.atomic():
        left = removal.remove_audit(house.audit, house.files)
    removal.discard(house.files, left)
    assert not whole.exists() and not InputFile.select().where(InputFile.digest == digest).exists()
    archive.restore(sink, house.files)
    assert whole.read_bytes() == data and house.view["inputs"][0]["digest"] == digest


def test_an_archive_of_an_input_that_is_not_known_here_is_refused(house, monkeypatch):
    house.give(distances())
    sink = io.BytesIO()
    archive.export(house.audit, house.files, sink)
    gone = house.audit.title
    monkeypatch.delitem(METHODS, "far")
    monkeypatch.delitem(INPUTS, "distances")
    with pytest.raises(Refused, match="this release has no such input"):
        archive.restore(sink, house.files)
    assert house.audit.title == gone


def test_readers_open_it_resident_and_alone(house, running, tmp_path):
    """A process of its own, which may read nothing but what was opened for it."""
    data = distances()
    house.give(data)
    ask = {"context": house.context, "settings": {}}
    task = claim(house.client.post(f"{house.at}/readings/far", json=ask).json()["task"]["id"])
    arguments = house.worker._arguments(task, Ticker(task))
    assert arguments["input_distances_path"] == str(house.files.path(hashlib.sha256(data).hexdigest()))
    held = jobs.opened(arguments)[0]
    assert list(held.inputs) == ["distances"] and held.inputs["distances"]["outer isles"] == 1.0
    other = arguments | {"method": "performance"}
    room = Room(tmp_path)
    try:
        place = tmp_path / "own"
        place.mkdir()
        (told,) = room.run("evidence", other, place, lambda *_: True)["evidence"]
    finally:
        room.close()
    assert told["digests"]["inputs"] == {}, "what does not read it does not depend on it"


def test_what_was_read_of_an_earlier_file_is_computed_again_from_that_file(house):
    house.give(distances())
    was = Evidence.model_validate(house.read())
    house.give(distances(uplands=700.0))
    spec = Spec.model_validate(house.audit.spec)
    again = stored._again(was, "D-1", spec, Held(), house.files, Work())
    assert again.sentence == "D-1 Distances: the same in all of 2 values"
    assert house.client.delete(f"{house.at}/inputs/distances").status_code == 204
    again = stored._again(was, "D-1", spec, Held(), house.files, Work())
    assert again.compared is None and "not computed again" in again.sentence


def test_keys_hold_it_where_it_is_read_and_nowhere_else(demo_subject):
    one, two = (
        Digests.of(demo_subject.spec, "t", "m", inputs=inputs) for inputs in ({"distances": "1"}, {"distances": "2"})
    )
    none = Digests.of(demo_subject.spec, "t", "m")
    far, tilt = METHODS["far"], METHODS["tilt"]
    keys = [key(far, found, demo_subject.context, far.settings(), 1) for found in (one, two, none)]
    assert len(set(keys)) == 3
    assert len({key(tilt, found, demo_subject.context, tilt.settings(), 1) for found in (one, two, none)}) == 1


def test_a_notebook_and_the_command_line_read_it(claims, tmp_path):
    table, model = claims
    pacsv.write_csv(table, tmp_path / "claims.csv")
    (tmp_path / "model.onnx").write_bytes(model)
    (tmp_path / "areas.km").write_bytes(distances())
    asked = {"outcome": "claim_valid", "event": "yes"}
    found = Study(table, model, **asked, inputs={"distances": tmp_path / "areas.km"}).far()
    homes = [one for one in table["home_area"].to_pylist() if one]
    assert found.result.km == pytest.approx(np.mean([AREAS.index(one) for one in homes]))
    same = Study(table, model, **asked, inputs={"distances": distances()}).on("channel=telephone").far()
    assert same.result.rows == table["channel"].to_pylist().count("telephone")
    with pytest.raises(Refused, match="was given none"):
        Study(table, model, **asked).far()
    for given, said in (({"distances": b"{"}, "no list of distances"), ({"homes": b"{}"}, "no input “homes”")):
        with pytest.raises(Refused, match=said):
            Study(table, model, **asked, inputs=given)
    with pytest.raises(Refused, match="cannot be read"):
        Study(table, model, **asked, inputs={"distances": tmp_path / "nowhere"})

    line = ("--table", "claims.csv", "--model", "model.onnx", "--outcome", "claim_valid", "--event", "yes")
    run = typed("read", "far", *line, "--input", "distances=areas.km", folder=tmp_path)
    assert (run.returncode, run.stdout.strip()) == (0, found.reading)
    for given, said in (("areas.km", "written as NAME=FILE"), ("homes=areas.km", "no input “homes”"), ("distances=no", "cannot be read")):  # fmt: skip
        run = typed("read", "far", *line, "--input", given, folder=tmp_path)
        assert run.returncode == 2 and said in run.stderr


def test_a_file_of_settings_names_it(claims, tmp_path, house):
    house.give(distances())
    text = house.client.get(f"{house.at}/settings", params={"model": house.context["model"]}).text
    assert settings_file.read(text).inputs == {"distances": "areas.km"}


def test_the_pages_know_it():
    documents = {path.name: text for path, text in contract.documents().items()}
    assert json.loads(documents["inputs.json"]) == {
        "distances": {
            "title": "List of distances",
            "words": "a list of distances",
            "files": [".km"],
            "use": toy.INPUT.use,
        }
    }


@pytest.mark.parametrize(
    ("wrong", "said"),
    [
        ({"name": "table"}, "a word of its own"),
        ({"name": "A b"}, "a word of its own"),
        ({"files": ()}, "end in a dot"),
        ({"files": ("km",)}, "end in a dot"),
        ({"files": (".KM",)}, "end in a dot"),
    ],
)
def test_a_declaration_that_cannot_be_is_refused(wrong, said):
    with pytest.raises(ValueError, match=said):
        replace(toy.INPUT, **wrong)


def test_two_inputs_do_not_share_an_ending():
    every = [ending for one in INPUTS.values() for ending in one.files]
    assert len(every) == len(set(every)) and not {
        ".csv",
        ".tsv",
        ".txt",
        ".parquet",
        ".arrow",
        ".feather",
        ".onnx",
    } & set(every)
    assert all(isinstance(one, Input) and name == one.name for name, one in INPUTS.items())


def test_a_method_that_needs_what_is_no_input_is_refused():
    with pytest.raises(ValueError, match="needs “homes”, which is no input"):
        replace(METHODS["far"], needs=frozenset({"homes"}))


def test_what_is_read_since_names_what_changed(house):
    house.give(distances())
    row = Evidence.model_validate(house.read())
    house.give(distances(mainland=9.0))
    assert changes_of(house.audit, row, Context.model_validate(house.context)) == ("a list of distances",)
    assert changed_since(row, row.digests, row.context) == ()
