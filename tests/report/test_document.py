"""A document that two people arrange at once: nothing that either wrote is lost."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as some
from pydantic import ValidationError

from zerotilt.report.document import MOST_PIECES, Document, Piece, merged, sections, unwritten

TEXTS = some.sampled_from(["", "a", "b", "a long text"])


@some.composite
def changed(draw, document: Document) -> Document:
    """A document after some changes of one person."""
    pieces = list(document.pieces)
    for _ in range(draw(some.integers(0, 4))):
        kind = draw(some.sampled_from(["text", "title", "move", "add", "drop", "readers"]))
        if kind == "add":
            name = f"text-{draw(some.integers(0, 10**9))}"
            if name not in {piece.id for piece in pieces}:
                pieces.insert(draw(some.integers(0, len(pieces))), Piece(id=name, text=draw(TEXTS)))
            continue
        place = draw(some.integers(0, len(pieces) - 1))
        if kind == "move":
            pieces.insert(draw(some.integers(0, len(pieces) - 1)), pieces.pop(place))
        elif kind == "drop":
            if pieces[place].section is None:
                del pieces[place]
        else:
            value = draw(some.sampled_from([None, ("full",), ()])) if kind == "readers" else draw(TEXTS)
            pieces[place] = pieces[place].model_copy(update={kind: value})
    return document.model_copy(update={"pieces": tuple(pieces), "title": draw(TEXTS)})


@settings(max_examples=300, deadline=None)
@given(some.data())
def test_every_text_that_either_wrote_is_there_and_unchanged_parts_are_taken_from_who_changed_them(data):
    base = data.draw(changed(Document().complete()))
    mine, theirs = data.draw(changed(base)), data.draw(changed(base))
    found = merged(base, mine, theirs, "Ada")
    Document.model_validate(found.model_dump())  # no two pieces of one name
    was = {piece.id: piece for piece in base.pieces}
    texts = [piece.text for piece in found.pieces]
    for one, other in ((mine, theirs), (theirs, mine)):
        kept = {piece.id: piece for piece in other.pieces}
        for piece in one.pieces:
            before = was.get(piece.id)
            if before is None or piece.text != before.text:
                assert piece.text in texts or not piece.text.strip()
            elif piece.id in kept and kept[piece.id].text != before.text:
                assert next(got.text for got in found.pieces if got.id == piece.id) == kept[piece.id].text
    gone = {name for name in was if all(name not in {piece.id for piece in one.pieces} for one in (mine, theirs))}
    assert not gone & {piece.id for piece in found.pieces}


@settings(max_examples=100, deadline=None)
@given(some.data())
def test_what_one_person_did_alone_is_what_comes_out(data):
    base = Document().complete()
    mine = data.draw(changed(base))
    assert merged(base, mine, base) == mine
    assert merged(base, base, mine) == mine


def test_a_text_that_both_changed_stands_twice_and_says_whose_it_is():
    base = Document().complete()

    def wrote(text):
        pieces = [piece.model_copy(update={"text": text}) if piece.id == "purpose" else piece for piece in base.pieces]
        return base.model_copy(update={"pieces": tuple(pieces)})

    found = merged(base, wrote("mine"), wrote("theirs"), "Ada").pieces
    at = next(place for place, piece in enumerate(found) if piece.id == "purpose")
    assert (found[at].text, found[at + 1].text) == ("theirs", "mine")
    assert found[at + 1].title == "Purpose and use, as Ada wrote it at the same time"


@pytest.mark.parametrize(("mine", "theirs", "kept"), [("", "a", ["a"]), ("a", "", ["a"]), ("a", "b", ["b", "a"])])
def test_texts_that_both_added_under_one_name_are_both_there(mine, theirs, kept):
    base = Document().complete()

    def added(text):
        return base.model_copy(update={"pieces": (Piece(id="text-0", text=text), *base.pieces)})

    found = merged(base, added(mine), added(theirs)).pieces
    assert [piece.text for piece in found if piece.text] == kept


def test_a_section_that_is_new_stands_where_it_stands_at_first():
    order = list(sections())
    without = Document(pieces=tuple(Piece(id=name) for name in reversed(order) if name not in ("drivers", "short")))
    names = [piece.id for piece in without.complete().pieces]
    assert set(names) == set(order)
    assert names[0] == "short" and names[names.index("drivers") - 1] == order[order.index("drivers") - 1]
    whole = Document().complete()
    assert whole.complete() is whole and [piece.id for piece in whole.pieces] == order


def test_readers_get_what_is_theirs_and_no_public_reader_gets_single_rows():
    everything = Document(
        pieces=tuple(Piece(id=name, readers=("full", "summary", "public")) for name in sections())
    ).complete()
    public = {piece.id for piece in everything.read_by("public")}
    assert public.isdisjoint({"ladder", "response", "kept", "raised", "appendix", "expectations"})
    assert {"tilt", "flagged", "short"} <= public
    assert {piece.id for piece in everything.read_by("summary")} == set(sections())
    assert {piece.id for piece in Document().read_by("summary")} < set(sections())


def test_what_only_a_person_can_write_is_missing_until_it_is_there():
    said = unwritten(Document())
    assert any(one.startswith("Purpose and use: nobody has written what is decided about whom") for one in said)
    piece = Piece(id="purpose", title="Why", text="For claims.")
    assert not any("Why" in one or "Purpose" in one for one in unwritten(Document(pieces=(piece,))))


def test_two_pieces_of_one_name_and_too_many_are_refused():
    with pytest.raises(ValidationError, match="two pieces are called “purpose”"):
        Document(pieces=(Piece(id="purpose"), Piece(id="purpose")))
    with pytest.raises(ValidationError):
        Document(pieces=tuple(Piece(id=f"t{i}") for i in range(MOST_PIECES + 1)))
