"""An input in one file, as docs/development.md walks through it: how far each home area lies, and a method that reads it."""

from __future__ import annotations

import json

import numpy as np
import pyarrow as pa

from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.inputs import Input, InputCard
from zerotilt.core.meaning import Spec, Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.work import Work


def read(source: pa.BufferReader) -> dict[str, float]:
    try:
        found = json.loads(source.read())
        return {str(area): float(km) for area, km in found.items()}
    except (ValueError, AttributeError, TypeError):
        raise Refused("This is no list of distances.", todo="Write areas and kilometres as one JSON object.") from None


def look(source: pa.BufferReader, work: Work) -> InputCard:
    found = read(source)
    return InputCard(said=(f"Distances of {words.plural(len(found), 'area')}.",), facts={"areas": sorted(found)})


def fitted(source: pa.BufferReader, table: Table, spec: Spec) -> dict[str, float]:
    found = read(source)
    there = {one for one in table.texts("home_area") if one}
    if missing := sorted(there - set(found)):
        raise Refused(f"It has no distance for {words.listing(missing)}.", where="input “distances”")
    return found


INPUT = Input(
    name="distances",
    words="a list of distances",
    files=(".km",),
    use="How far each home area lies, for the mean distance of those who are decided about.",
    look=look,
    open=fitted,
    most=10_000,
)


class FarSettings(Frozen):
    pass


class FarResult(Frozen):
    km: float
    rows: int


def far(subject: Subject, settings: FarSettings, seed: int, work: Work) -> FarResult:
    """The mean distance over the rows of the context."""
    distances, areas = subject.inputs["distances"], subject.table.texts("home_area")
    km = [distances[areas[row]] for row in subject.rows.numbers if areas[row]]
    return FarResult(km=float(np.mean(km)), rows=subject.n)


def say(result: FarResult, wording: Wording, settings: FarSettings) -> Reading:
    return plain(f"{words.count(result.rows)} {wording.rows} come from {words.decimal(result.km, 2)} km away.", "")


def method() -> Method:
    """Once the input is there."""
    return Method(
        name="far",
        area="intake",
        title="Distances",
        settings=FarSettings,
        result=FarResult,
        compute=far,
        say=say,
        note="The **mean distance** over the rows of the context.",
        main="",
        needs=frozenset({"distances"}),
        weighs=False,
    )
