"""A segment as the rows of every method: the same numbers as of a table that holds nothing but these rows."""

from __future__ import annotations

import json
from dataclasses import replace

import numpy as np
import pytest
from pydantic import ValidationError
from tests.core.systems import matrix, system

from zerotilt.core import rows, segments
from zerotilt.core.evidence import Digests, compute, key
from zerotilt.core.meaning import Alongside, Condition, Context, Role, RowSet, Segment
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work

SEGMENT = Segment(
    name="much by cart",
    conditions=(Condition(column="way", levels=("cart",)), Condition(column="x", over=-0.5, up_to=1.5)),
)
SETTINGS = {
    "drivers": {"rows": 200, "repeats": 2, "explained": 20, "walks": 32},
    "response": {"feature": "x", "rows": 200},
    "ale": {"feature": "x"},
    "spread": {"feature": "x", "sampled": 30, "walks": 32},
    "interactions": {"rows": 10, "draws": 2},
    "ladder": {"row": 0},
    "given": {"columns": ["z"]},
}
READ = ("performance", "tilt", "lattice", "one_group", "sides", "thresholds", *SETTINGS)
PLACES = {"row", "curve_rows", "described", "name", "candidates", "segment_named"}
"""Where a row stands in its table is another place in the other one; bins of numbers are the whole table's."""


def columns(seed: int) -> dict[str, np.ndarray]:
    rng = np.random.default_rng(seed)
    n = 700
    x, z = rng.normal(size=n).round(2), rng.integers(0, 4, n).astype(float)
    return {
        "x": x,
        "z": z,
        "way": rng.choice(["cart", "boat", None], n, p=[0.6, 0.3, 0.1]),
        "home": rng.choice(["north", "south", "west"], n),
        "split": rng.choice(["seen", "kept"], n),
        "y": (rng.random(n) < 1 / (1 + np.exp(-x - 0.3 * z))).astype(int),
    }


def subject_of(made: dict[str, np.ndarray], context: Context):
    def model(frame):
        found = matrix(frame)
        return 1 / (1 + np.exp(-found[:, 0] - 0.2 * found[:, 1] * found[:, 0]))

    roles = {"home": Role.group, "split": Role.split, "way": Role.ignored}
    more = {"holdout_values": ("kept",), "training_values": ("seen",)}
    return system(made, model, ["x", "z"], roles=roles, context=context, **more)


def plain(body):
    """A result without where its rows stand."""
    if isinstance(body, dict):
        return {name: plain(one) for name, one in body.items() if name not in PLACES}
    if isinstance(body, list | tuple):
        return [plain(one) for one in body]
    return round(body, 9) if isinstance(body, float) else body


@pytest.mark.parametrize("name", READ)
@pytest.mark.parametrize(("seed", "which"), [(1, "all"), (2, "hold-out")])
def test_every_method_reads_a_segment_as_a_table_of_its_own(name, which, seed):
    made = columns(seed)
    inside = (made["way"] == "cart") & (made["x"] > -0.5) & (made["x"] <= 1.5)
    alone = subject_of({key: value[inside] for key, value in made.items()}, Context(rows=which))
    within = subject_of(made, Context(rows=which, segment=SEGMENT))
    assert within.n == alone.n == int((inside & ((made["split"] == "kept") | (which == "all"))).sum())
    method = METHODS[name]
    given = SETTINGS.get(name, {})
    if name == "ladder":
        here, there = int(within.rows.numbers[5]), int(alone.rows.numbers[5])
    for subject in (within, alone):
        settings = given | ({"row": here if subject is within else there} if name == "ladder" else {})
        checked = method.settings.model_validate(settings)
        result = method.compute(subject, checked, 7, Work())
        found = plain(result.model_dump(mode="json"))
        if subject is within:
            mine = found
    assert mine == found


def test_its_evidence_says_which_rows_in_reading_and_key():
    made = columns(3)
    digests = Digests(table="t", spec="s", model="m")
    settings = METHODS["performance"].settings()
    whole, within = (subject_of(made, Context(rows="all", segment=one)) for one in (None, SEGMENT))
    first, second = (compute(one, digests, "performance", settings, 1, Work()) for one in (whole, within))
    assert first.key != second.key
    said = second.read(within.spec)
    assert said.text.startswith("In much by cart: ") and said == second.reading
    assert said.detail.endswith("Only rows whose way is cart, x over −0.5 and up to 1.5.")
    assert second.rows_described.endswith("; of these “much by cart”: way is cart, x over −0.5 and up to 1.5")
    assert not first.read(whole.spec).text.startswith("In ")
    wider = SEGMENT.model_copy(update={"conditions": SEGMENT.conditions[:1]})
    method = METHODS["performance"]
    others = {key(method, digests, Context(rows="all", segment=one), settings, 1) for one in (None, SEGMENT, wider)}
    assert len(others) == 3  # the same name with other conditions is another segment


def test_keys_of_whole_row_sets_are_as_they_were():
    """Evidence that was stored before segments could be read is found again."""
    context = Context(rows="all").model_dump()
    assert "segment" in context
    body = json.loads(json.dumps({name: value for name, value in context.items() if name not in ("model", "segment")}))
    assert (body.pop("others"), body.pop("model_named")) == (
        [],
        "",
    )  # learnt since, and left out where they say nothing
    assert set(body) == {"rows", "output", "read_class", "rule", "alongside"}
    ladder = replace(METHODS["ladder"], version=4)  # as it was then; a later one has other numbers
    found = key(ladder, Digests(table="t", spec="s", model="m"), Context(), ladder.settings(row=3), 20)
    assert found == "1d06de081732dd18c5db9fb2d5f630351e2548b6b97dbc3add8dc76047091d89"


@pytest.mark.parametrize(
    ("condition", "message"),
    [
        (Condition(column="x", over=90), "There are no rows with a known outcome in “none” \\(x over 90\\)"),
        (Condition(column="way", over=1), "holds no numbers"),
        (Condition(column="nowhere", missing=True), "nowhere"),
    ],
)
def test_a_segment_that_cannot_be_read_says_why(condition, message):
    subject = subject_of(columns(1), Context(rows="all", segment=Segment(name="none", conditions=(condition,))))
    with pytest.raises(Refused, match=message):
        _ = subject.rows.numbers


def test_missing_cells_are_a_segment_and_alongside_reads_the_same_part():
    made = columns(4)
    nothing = Segment(name="unsaid", conditions=(Condition(column="way", missing=True),))
    subject = subject_of(made, Context(rows="hold-out", segment=nothing))
    own = [i for i, value in enumerate(made["way"]) if value is None and made["split"][i] == "kept"]
    assert subject.rows.numbers.tolist() == own
    beside = replace(subject, context=subject.context.model_copy(update={"rows": "training"}))
    assert beside.n == sum(value is None for value in made["way"]) - len(own)
    assert rows.describe(subject.spec, RowSet(split="all", segment=nothing)).endswith("of these “unsaid”: way missing")


def test_rows_picked_one_by_one_are_those_rows_and_have_a_key_of_their_own():
    made = columns(5)
    names = [f"c{i}" for i in range(len(made["x"]))]
    named = made | {"id": names}
    one = Segment(name="three", picked=("c3", "c8", "c11"))
    subject = system(named, roles={"id": Role.identifier}, context=Context(rows="all", segment=one))
    assert subject.rows.numbers.tolist() == [3, 8, 11]
    unnamed = system(made, context=Context(rows="all", segment=Segment(name="two", picked=("5", "row 1,000"))))
    assert unnamed.rows.numbers.tolist() == [4]  # by their number from 1, where the table has no identifier
    assert rows.describe(subject.spec, subject.context.row_set).endswith("“three”: 3 rows picked one by one")
    both = Segment(name="b", picked=("c3", "c8", "c11"), conditions=(Condition(column="x", over=-1e9),))
    assert segments.only(one) == "3 rows picked one by one" and segments.only(both).startswith("rows whose x over")
    method, digests = METHODS["performance"], Digests(table="t", spec="s", model="m")
    keys = {
        key(method, digests, Context(rows="all", segment=it), method.settings(), 1)
        for it in (one, both, one.model_copy(update={"picked": ("c3", "c8")}), None)
    }
    assert len(keys) == 4
    with pytest.raises(ValidationError, match="neither conditions nor picked rows"):
        Segment(name="nothing")


def test_a_row_sets_digest_is_of_what_decides_its_rows():
    renamed = SEGMENT.model_copy(update={"name": "called otherwise"})
    digests = {RowSet(split="all", segment=one).digest() for one in (SEGMENT, renamed)}
    assert len(digests) == 1
    assert RowSet(split="training", segment=SEGMENT).digest() not in digests
    assert RowSet(split="all").digest() not in digests


@pytest.mark.parametrize(
    ("alongside", "rows_", "segment"),
    [
        (Alongside(model="m2"), "hold-out", SEGMENT),
        (Alongside(rows="training"), "training", SEGMENT),
        (Alongside(whole=True), "hold-out", None),
        (Alongside(rows="all", whole=True), "all", None),
        (Alongside(segment=Segment(name="o", picked=("1",))), "hold-out", Segment(name="o", picked=("1",))),
    ],
)
def test_what_is_alongside_reads_the_same_part_unless_it_names_another(alongside, rows_, segment):
    context = Context(model="m1", segment=SEGMENT, alongside=alongside)
    other = context.beside()
    assert (other.rows, other.segment, other.alongside) == (rows_, segment, None)
    assert other.model == (alongside.model or "m1")
    assert Context().beside() is None


@pytest.mark.parametrize("name", ["response", "drivers", "tilt"])
def test_a_part_beside_the_whole_is_not_taken_for_the_same_rows(name):
    """As many rows are read of both, and they are others: nothing is paired, and the difference has both sides' errors."""
    made = columns(9)
    part = Segment(name="by cart", conditions=(Condition(column="way", levels=("cart",)),))
    inside = Context(rows="all", segment=part, alongside=Alongside(whole=True))
    subject = subject_of(made, inside)
    other = replace(subject, context=inside.beside())
    subject = replace(subject, beside=other)
    method = METHODS[name]
    settings = method.settings.model_validate(SETTINGS.get(name, {}) | ({"rows": 100} if name == "response" else {}))
    found = method.compute(subject, settings, 1, Work())
    said = method.read(found, subject.spec.wording, settings).text
    if name == "tilt":
        assert not found.beside.shared and found.beside.rows == other.n > subject.n
        return
    assert found.beside.segment_named == "" and "by cart" not in found.beside.rows_named
    if name == "response":
        own, there = found.points[3], found.beside
        halves = [(own.mean_high - own.mean_low) / 2, (there.mean_high[3] - there.mean_low[3]) / 2]
        gap = there.difference[3]
        assert (gap.high - gap.low) / 2 == pytest.approx(np.hypot(*halves))
        assert "In all rows the mean is" in said
