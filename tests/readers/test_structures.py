"""Structures of models are found once and found again: complete, of the same model only, and never relied on blindly."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
import pyarrow.parquet as pq
import pytest

from zerotilt.core.meaning import Context
from zerotilt.core.predictors import dissection
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.predictors.packed import Unfit, name_of, unpacked
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.readers import structures
from zerotilt.readers.held import Held


def fresh(demo, name: str) -> tuple[OnnxPredictor, Subject]:
    claims, spec, models = demo
    table = Table(claims)
    made = OnnxPredictor(models[name], table, spec)
    return made, Subject(spec, table, made, Context(rows="hold-out"))


@pytest.mark.parametrize("number", [0, 1])
def test_what_is_found_again_is_what_was_found(demo, number, monkeypatch):
    name = list(demo[2])[number]
    first, subject = fresh(demo, name)
    assert first.remembered() is None  # not looked for yet
    subject.predictions.find_structure()
    data = first.remembered()
    again, other = fresh(demo, name)
    again.recall(data)
    monkeypatch.setattr(dissection, "read", None)  # it is not read again
    found, known = other.predictions.structure[0], first.known_structure
    assert found is not None and known is not None
    np.testing.assert_array_equal(found.sums(other.frame), known.sums(subject.frame))
    np.testing.assert_array_equal(again.outputs(other.frame), first.outputs(subject.frame))
    assert (found.link, found.reach, found.finite) == (known.link, known.reach, known.finite)
    np.testing.assert_array_equal(found.owner, known.owner)


def test_why_there_is_none_is_found_again_too(demo):
    first, _ = fresh(demo, next(iter(demo[2])))
    first._structure = (None, "its output is no sum")
    again, subject = fresh(demo, next(iter(demo[2])))
    again.recall(first.remembered())
    assert subject.predictions.structure == (None, "its output is no sum")


@pytest.mark.parametrize("harm", ["empty", "cut", "words", "pickle"])
def test_damaged_bytes_are_not_taken_up(demo, harm, tmp_path):
    made, subject = fresh(demo, next(iter(demo[2])))
    subject.predictions.find_structure()
    data = made.remembered()
    if harm == "pickle":
        np.savez(tmp_path / "x.npz", said=np.array([{"version": 1}], dtype=object))
        data = (tmp_path / "x.npz").read_bytes()
    bad = {"empty": b"", "cut": data[: len(data) // 2], "words": b"not one", "pickle": data}[harm]
    with pytest.raises(Unfit):
        unpacked(bad, lambda frame: {})
    (tmp_path / "n").write_bytes(bad)
    again, _ = fresh(demo, next(iter(demo[2])))
    assert not structures.recall(str(tmp_path), again, "n")
    assert again.known_structure is None


def test_another_table_model_or_meaning_has_another_name():
    assert len({name_of(*three) for three in [("m", "t", "s"), ("n", "t", "s"), ("m", "u", "s"), ("m", "t", "r")]}) == 4


def test_a_reader_leaves_what_it_found_and_the_next_takes_it_up(demo, tmp_path, monkeypatch):
    claims, spec, models = demo
    name = next(iter(models))
    pq.write_table(claims, tmp_path / "table.parquet")
    (tmp_path / "model").write_bytes(models[name])
    arguments = {
        "spec": spec.model_dump(mode="json"),
        "context": {"rows": "hold-out", "output": "probability"},
        "table_path": str(tmp_path / "table.parquet"),
        "table_digest": "t",
        "model_path": str(tmp_path / "model"),
        "model_digest": "m",
        "model_folder_path": str(tmp_path / "kept" / "m"),
    }
    first = Held()
    subject, _ = first.subject(arguments)
    subject.predictions.find_structure()
    (left,) = first.leave_new(tmp_path)
    assert left[0] == "m"
    assert first.leave_new(tmp_path) == []  # once
    structures.keep(tmp_path, left[1], tmp_path / "kept" / "m")
    monkeypatch.setattr(dissection, "read", None)
    second = Held()
    again, _ = second.subject(arguments)
    assert again.predictions.structure[0] is not None
    assert second.leave_new(tmp_path) == []
    structures.clear(tmp_path / "kept", {"m"})
    assert (tmp_path / "kept" / "m" / left[1]).exists()
    structures.clear(tmp_path / "kept", set())
    assert not list((tmp_path / "kept").iterdir())


def test_a_name_that_leads_elsewhere_is_not_followed():
    with tempfile.TemporaryDirectory() as place:
        scratch, folder = Path(place) / "scratch", Path(place) / "kept"
        scratch.mkdir()
        (Path(place) / "secret").write_text("x")
        structures.keep(scratch, "../secret", folder)
        name = "a" * 64
        (scratch / f"{name}{structures.SUFFIX}").symlink_to(Path(place) / "secret")
        structures.keep(scratch, name, folder)
        assert not folder.exists() or not list(folder.iterdir())
