"""Rows dealt to folds: as they come, kept together by a column, or in the order of time; and some put aside."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import words
from zerotilt.core.candidates.recipe import Dealing
from zerotilt.core.refusal import Refused

Bools = NDArray[np.bool_]
LEAST = 2
"""Rows of every class that every fold holds."""


class Dealt(NamedTuple):
    """Shapes (n,). ``fold``: which fold a row is validated in, −1 where in none; ``test``: what is put aside."""

    fold: NDArray[np.int64]
    test: Bools
    time: bool
    """Whether a fold is trained on earlier folds alone."""

    @property
    def folds(self) -> list[int]:
        """Those that are validated."""
        first = 1 if self.time else 0
        return list(range(first, int(self.fold.max()) + 1))

    def trained(self, fold: int) -> Bools:
        """Rows that the model of a fold is trained on."""
        before = self.fold < fold if self.time else self.fold != fold
        return before & ~self.test & (self.fold >= 0)

    def validated(self, fold: int) -> Bools:
        return self.fold == fold


def deal(outcome: NDArray, classed: bool, asked: Dealing, together: NDArray | None, time: NDArray | None) -> Dealt:
    """Deal n rows.

    Rows that must stay together are dealt as one, the largest sets first, each to the fold with fewest rows so far. In the
    order of time the latest rows are put aside, the rest falls into one stretch more than there are folds, and the earliest
    is only trained on. Else every class is dealt by itself, so that all folds hold as much of it.

    Parameters
    ----------
    outcome : shape (n,). classed : whether it is one of some classes. together, time : of each row, shape (n,), or None.

    Raises
    ------
    Refused : too few rows, or too few of a class or of values of the column, for so many folds.
    """
    n, k = len(outcome), asked.folds
    rng = np.random.default_rng(asked.seed)
    if time is not None:
        return _in_time(time, asked, n)
    if together is not None:
        _, owner, sizes = np.unique(together, return_inverse=True, return_counts=True)
        if len(sizes) < k + bool(asked.test_share):
            raise Refused(
                f"together: the column has {words.plural(len(sizes), 'value')} in these rows; {k} folds"
                f"{' and rows put aside' if asked.test_share else ''} need one each.",
                todo="Choose fewer folds, or another column.",
            )
        places = _spread(sizes, k, asked.test_share, rng)[owner]
        return _counted(outcome, classed, Dealt(places, places < 0, False), k)
    fold = np.full(n, -1)
    for value in np.unique(outcome) if classed else [None]:
        own = rng.permutation(np.flatnonzero(outcome == value) if classed else np.arange(n))
        kept = own[round(len(own) * asked.test_share) :]
        fold[kept] = (np.arange(len(kept)) + rng.integers(k)) % k
    return _counted(outcome, classed, Dealt(fold, fold < 0, False), k)


def _in_time(time: NDArray, asked: Dealing, n: int) -> Dealt:
    _, place, sizes = np.unique(time, return_inverse=True, return_counts=True)
    ends = np.cumsum(sizes)
    # rows of one moment are never on both sides
    share = (ends - sizes / 2) / n
    kept = 1 - asked.test_share
    stretch = np.minimum((share / kept * (asked.folds + 1)).astype(np.int64), asked.folds)
    stretch = np.where(share >= kept, -1, stretch)
    dealt = Dealt(stretch[place], stretch[place] < 0, True)
    if len(np.unique(dealt.fold[dealt.fold >= 0])) < asked.folds + 1:
        raise Refused(
            f"in time: the column has {words.plural(len(sizes), 'moment')} in these rows, too few for {asked.folds} folds and "
            f"rows before them.",
            todo="Choose fewer folds, or another column.",
        )
    return dealt


def _spread(sizes: NDArray[np.int64], k: int, test_share: float, rng: np.random.Generator) -> NDArray[np.int64]:
    """The fold of every set of rows, −1 where it is put aside."""
    out = np.full(len(sizes), -2)
    order = rng.permutation(len(sizes))
    aside = 0
    for one in order if test_share else []:
        if aside >= test_share * sizes.sum():
            break
        out[one] = -1
        aside += int(sizes[one])
    held = np.zeros(k)
    for one in order[np.argsort(-sizes[order], kind="stable")]:
        if out[one] == -2:
            out[one] = int(held.argmin())
            held[out[one]] += sizes[one]
    return out


def _counted(outcome: NDArray, classed: bool, dealt: Dealt, k: int) -> Dealt:
    for value in np.unique(outcome) if classed else [None]:
        mine = outcome == value if classed else np.ones(len(outcome), bool)
        few = np.bincount(dealt.fold[mine & (dealt.fold >= 0)], minlength=k).min()
        if few < LEAST:
            what = f"of the class “{value}”" if classed else "in all"
            raise Refused(
                f"{k} folds need {words.plural(LEAST * k, 'row')} {what} or more; there are {words.count(int(mine.sum()))}, and "
                f"one fold would hold {words.count(int(few))}.",
                todo="Choose fewer folds, or put fewer rows aside.",
            )
    return dealt
