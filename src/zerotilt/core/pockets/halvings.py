"""Places over many halvings of the rows: what is found in one half is read of the other, and one halving's luck is no proof."""

from __future__ import annotations

from dataclasses import dataclass, field
from math import ceil

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.meaning import Block
from zerotilt.core.pockets.boxes import Boxes
from zerotilt.core.pockets.choosing import ALIKE, patterned
from zerotilt.core.pockets.confirmed import beyond, denser
from zerotilt.core.pockets.hunt import Hunt
from zerotilt.core.stats import intervals
from zerotilt.core.work import Work

Bools = NDArray[np.bool_]
OF_HALVINGS = 1 / 3
"""Share of the halvings in which a place must be confirmed, at a p-value smaller by as much."""


@dataclass
class PlaceFound:
    """One place: how each halving described it, and what became of it there."""

    told: list[tuple[int, Block, NDArray[np.uint8]]]
    """Halving, description and rows, packed, the one it goes by first."""
    p: dict[int, float] = field(default_factory=dict)
    """Adjusted p-value by halving, where it was found and had rows enough to be read of the other half."""

    @property
    def halving(self) -> int:
        return self.told[0][0]

    @property
    def block(self) -> Block:
        return self.told[0][1]

    def settle(self) -> None:
        """Go by the description that shares most rows with all others of it: it is the least of one halving's making."""
        rows = [bits for _, _, bits in self.told]
        shared = [sum(_shared(one, other) for other in rows) for one in rows]
        self.told.insert(0, self.told.pop(int(np.argmax(shared))))

    def adjusted(self, halvings: int) -> float:
        """The p-value over all halvings: their third-smallest third, times three; 1 where it was not found (Meinshausen,
        Meier & Bühlmann 2009). Whatever the halvings have in common, it is at or under α in at most α of the cases in
        which there is nothing."""
        every = sorted([*self.p.values(), *[1.0] * (halvings - len(self.p))])
        return min(1.0, every[ceil(OF_HALVINGS * halvings) - 1] / OF_HALVINGS)

    def again(self, halvings: int, alpha: float) -> float:
        """Share of the halvings in which it was found, and confirmed by itself."""
        return sum(one <= alpha for one in self.p.values()) / halvings


def places(hunt: Hunt, sets: NDArray[np.int64], boxes: Boxes, minimum: int, work: Work) -> list[PlaceFound]:
    """Every place of every halving once: those that share half of their rows are one.

    Parameters
    ----------
    minimum : rows that a place must have in the other half to be read of it.
    """
    found: list[PlaceFound] = []
    every = list(range(len(hunt.halves)))
    for halving, told in zip(
        every, work.spread(_one, (hunt, sets, boxes, minimum), every, "halvings confirmed"), strict=True
    ):
        for block, p, bits in told:
            place = next((one for one in found if _shared(one.told[0][2], bits) >= ALIKE), None)
            if place is None:
                place = PlaceFound([])
                found.append(place)
            place.told.append((halving, block, bits))
            if np.isfinite(p):
                place.p[halving] = min(p, place.p.get(halving, 1.0))
    for one in found:
        one.settle()
    return found


def _shared(one: NDArray[np.uint8], other: NDArray[np.uint8]) -> float:
    """Rows in both, of the rows in either."""
    both, either = (int(np.bitwise_count(way(one, other)).sum()) for way in (np.bitwise_and, np.bitwise_or))
    return both / max(either, 1)


def _one(shared, halving: int) -> list[tuple[Block, float, NDArray[np.uint8]]]:
    hunt, sets, boxes, minimum = shared
    blocks = hunt.descriptions(sets, boxes, halving)
    other = ~hunt.half(halving)
    errors = hunt.errors.among(other)
    masks = [hunt.searched.inside(block) for block in blocks]
    inside = [mask[other] for mask in masks]
    p = [_tested(errors, inside, i, minimum) for i in range(len(blocks))]
    adjusted = intervals.adjust(p, "Holm")
    return [
        (block, float(adjusted[i]), np.packbits(mask))
        for i, (block, mask) in enumerate(zip(blocks, masks, strict=True))
    ]


def _tested(errors, inside: list[Bools], place: int, minimum: int) -> float:
    """The larger p-value of two tests, against all other rows and within those before it; 1 where it is no denser, NaN where
    too few rows are there to tell."""
    mine = inside[place]
    if min(mine.sum(), (~mine).sum()) < minimum:
        return float("nan")
    p = denser(errors, mine)
    if not p < 1:
        return 1.0
    own = beyond(errors, mine, patterned(inside[:place], errors.m))
    return max(p, min(2 * own, 1.0) if np.isfinite(own) else 1.0)
