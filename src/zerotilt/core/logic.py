"""Conditions joined by and, or, not: as a tree, and as lists of conditions of which a row meets one whole list."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import product

from zerotilt.core.meaning import MOST_ALTERNATIVES, MOST_CONDITIONS, Block, Condition, Segment
from zerotilt.core.refusal import Refused


@dataclass(frozen=True)
class All:
    """Rows that every part is met by."""

    parts: tuple[Node, ...]


@dataclass(frozen=True)
class Any:
    """Rows that some part is met by."""

    parts: tuple[Node, ...]


@dataclass(frozen=True)
class Not:
    part: Node


Node = Condition | Segment | All | Any | Not
"""What was typed: conditions and saved segments, joined."""


def picks(node: Node) -> bool:
    """Whether rows that were picked one by one have a part in it, so that no conditions say it all."""
    if isinstance(node, Segment):
        return bool(node.picked)
    if isinstance(node, Not):
        return picks(node.part)
    return not isinstance(node, Condition) and any(picks(one) for one in node.parts)


def blocks_of(node: Node) -> tuple[Block, ...]:
    """The same as lists of conditions: a row belongs to it that meets every condition of some list.

    Raises
    ------
    Refused : no row can meet it, or it takes too many lists.
    """
    found = _lists(node, False)
    if not found:
        raise Refused("No row can meet these conditions: they contradict each other.", todo="Take one of them away.")
    return found


def _lists(node: Node, negated: bool) -> tuple[Block, ...]:
    if isinstance(node, Not):
        return _lists(node.part, not negated)
    if isinstance(node, Condition):
        return ((node.opposite() if negated else node,),)
    if isinstance(node, Segment):
        node = Any(tuple(All(block) for block in node.blocks))
    together = isinstance(node, All) != negated
    parts = [_lists(one, negated) for one in node.parts]
    if not together:
        return _least([block for part in parts for block in part])
    found: tuple[Block, ...] = ((),)
    for part in parts:
        found = _least([_once((*one, *other)) for one, other in product(found, part)])
    return found


def _once(block: Block) -> Block:
    return _ranges(tuple(dict.fromkeys(block)))


def _ranges(block: Block) -> Block:
    """Both ends of one range of a column as one condition."""
    found: list[Condition] = []
    for one in block:
        ends = one.model_dump(exclude_defaults=True, exclude={"column"})
        for place, other in enumerate(found):
            theirs = other.model_dump(exclude_defaults=True, exclude={"column"})
            plain = {*ends, *theirs} <= {"over", "at_least", "under", "up_to"} or {*ends, *theirs} <= {"since", "until"}
            low = {"over", "at_least", "since"}
            if (
                other.column == one.column
                and plain
                and len(ends) == len(theirs) == 1
                and (set(ends) <= low) != (set(theirs) <= low)
            ):
                found[place] = Condition(column=one.column, **theirs, **ends)
                break
        else:
            found.append(one)
    return tuple(found)


def _least(blocks: Sequence[Block]) -> tuple[Block, ...]:
    """Without lists that contradict themselves, and without those that another one holds."""
    fitting = [block for block in dict.fromkeys(blocks) if not any(one.opposite() in block for one in block)]
    sets = [set(block) for block in fitting]
    kept = tuple(
        block
        for i, block in enumerate(fitting)
        if not any(other < sets[i] or (other == sets[i] and j < i) for j, other in enumerate(sets))
    )
    longest = max(map(len, kept), default=0)
    if longest > MOST_CONDITIONS:
        raise Refused(
            f"Too many conditions are to be met together; {MOST_CONDITIONS} can be kept.", todo="Make them simpler."
        )
    if len(kept) > MOST_ALTERNATIVES:
        raise Refused(
            f"Written out, these conditions take {len(kept)} lists; {MOST_ALTERNATIVES} can be kept.",
            todo="Make them simpler, or two segments of them.",
        )
    return kept
