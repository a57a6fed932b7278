"""Cases that are alike in features and were decided otherwise than most cases like them."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numba import njit
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.case.told import Told
from zerotilt.core.distance import space
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


class OddSettings(Frozen):
    neighbours: int = Field(default=10, ge=2, le=100)
    listed: int = Field(default=50, ge=1, le=500)
    rows: int = Field(
        default=6_000, ge=10, le=50_000, description="Rows compared with each other; a seeded sample beyond"
    )


class Odd(Frozen):
    """One row against those most like it."""

    row: int
    name: str
    decision: str = Field(description="A number's prediction in its unit")
    output: float | None
    outcome: str | None
    otherwise: float | None = Field(
        description="Share of its neighbours decided otherwise; null where nothing is decided"
    )
    apart: float | None = Field(description="Its output less the mean of its neighbours'; null where none is recorded")
    reach: float = Field(description="Gower distance within which all of them lie")


class OddResult(Frozen):
    cases: tuple[Odd, ...] = Field(description="Least consistent first; of equal ones the one with nearer neighbours")
    consistency: float | None = Field(
        description="Mean share of neighbours decided alike, over the rows; null where nothing is decided"
    )
    minority: int = Field(description="Rows of which most neighbours were decided otherwise")
    neighbours: int
    rows: int
    rows_compared: int
    scale: Literal["probability", "log-odds", "value"]


@njit(cache=True, nogil=True)
def _neighbours(placed, numeric, first, last, k, which, reach):
    """The k nearest other rows of rows ``first`` to ``last``, and the distance of the farthest of them."""
    n, p = placed.shape
    best = np.empty(k)
    for i in range(first, last):
        held = 0
        for r in range(n):
            if r == i:
                continue
            limit = best[held - 1] if held == k else np.inf
            total = 0.0
            for j in range(p):
                a, b = placed[i, j], placed[r, j]
                if a != a or b != b:
                    total += 0.0 if (a != a) and (b != b) else 1.0
                elif numeric[j]:
                    total += 0.0 if a == b else min(abs(a - b), 1.0)
                elif a != b:
                    total += 1.0
                if total >= limit:
                    break
            if total < limit:
                at = held if held < k else k - 1
                while at > 0 and best[at - 1] > total:
                    best[at] = best[at - 1]
                    which[i - first, at] = which[i - first, at - 1]
                    at -= 1
                best[at] = total
                which[i - first, at] = r
                held = min(held + 1, k)
        reach[i - first] = best[k - 1] / p


PIECE = 500


def nearest_of_all(
    placed: NDArray[np.float64], numeric: NDArray[np.bool_], k: int, work: Work
) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Of every row the k nearest others, shape (rows, k), in the order of the table where they tie; and how far they reach."""
    which, reach = np.empty((len(placed), k), np.int64), np.empty(len(placed))
    work.begin(len(placed), "rows compared")
    for first in range(0, len(placed), PIECE):
        last = min(first + PIECE, len(placed))
        _neighbours(placed, numeric, first, last, k, which[first:last], reach[first:last])
        work.advance(last - first)
    return which, reach


def least_consistent(subject: Subject, settings: OddSettings, seed: int, work: Work) -> OddResult:
    """Hold every row's decision against those of its nearest neighbours (consistency, Zemel et al. 2013).

    Of a number, its prediction against the mean of theirs.

    Raises
    ------
    Refused : there are not enough rows.
    """
    chosen = np.sort(subject.rows.drawn(np.random.default_rng(seed), settings.rows))
    if len(chosen) <= settings.neighbours:
        raise Refused(
            f"There are {words.plural(len(chosen), 'row')}, too few to hold each against {settings.neighbours} others.",
            todo="Choose more rows, or fewer neighbours.",
        )
    features = subject.predictions.features
    where = space(features)
    placed = where.place(features.take(chosen))
    which, reach = nearest_of_all(placed, where.numeric, settings.neighbours, work)
    read = subject.read_output
    apart = None if read is None else read[chosen] - read[chosen][which].mean(axis=1)
    otherwise = None
    if subject.kind.decides:
        taken = subject.decisions.taken[chosen]
        otherwise = (taken[which] != taken[:, None]).mean(axis=1)
        order = np.lexsort((reach, -otherwise))
    else:
        order = np.argsort(
            -np.abs(subject.predictions.values[chosen] - subject.predictions.values[chosen][which].mean(axis=1)),
            kind="stable",
        )
    told, listed = Told(subject), []
    for i in order[: settings.listed]:
        if otherwise is not None and otherwise[i] == 0:
            break
        one = told.of(int(subject.rows.numbers[chosen[i]]))
        listed.append(
            Odd(
                row=one.row,
                name=one.name,
                decision=one.decision,
                output=one.output,
                outcome=one.outcome,
                otherwise=None if otherwise is None else float(otherwise[i]),
                apart=None if apart is None else float(apart[i]),
                reach=float(reach[i]),
            )
        )
    return OddResult(
        cases=tuple(listed),
        consistency=None if otherwise is None else float(1 - otherwise.mean()),
        minority=0 if otherwise is None else int((otherwise > 0.5).sum()),
        neighbours=settings.neighbours,
        rows=subject.n,
        rows_compared=len(chosen),
        scale=subject.scale,
    )


def say(result: OddResult, wording: Wording, settings: OddSettings) -> Reading:
    near = f"its {result.neighbours} nearest"
    some = (
        ""
        if result.rows_compared == result.rows
        else f" {words.count(result.rows_compared)} of {words.count(result.rows)} {wording.rows} were compared."
    )
    if result.consistency is None:
        first = result.cases[0]
        headline = f"{words.opening(wording.case_named(first.name))} stands farthest from {near}: {first.decision}"
        if first.apart is not None:
            headline += f", {words.quantity(abs(first.apart), wording.unit)} {'over' if first.apart > 0 else 'under'} their mean"
        return plain(f"{headline}.", f"Each {wording.row} is held against {near} by Gower distance.{some}")
    headline = f"On average {words.percent(result.consistency)} of the {result.neighbours} {wording.rows} most like a {wording.row} were decided as it was."
    if result.minority:
        headline += f" {words.opening(words.plural(result.minority, wording.row, wording.rows))} {'was' if result.minority == 1 else 'were'} decided otherwise than most like {'it' if result.minority == 1 else 'them'}."
    else:
        headline += f" No {wording.row} was decided otherwise than most like it."
    return plain(
        headline,
        f"Near a threshold some must be; what matters is whether a reason is found.{some} Compared by Gower distance.",
    )


METHOD = Method(
    name="odd",
    weighs=False,
    area="cases",
    title="Least consistent cases",
    settings=OddSettings,
    result=OddResult,
    compute=least_consistent,
    say=say,
    note=(
        "Every row is held against its nearest neighbours by **Gower distance** over the model's inputs, or the columns "
        "marked as features: the share of them decided otherwise (one less the consistency of Zemel et al. 2013); of a "
        "number, its prediction less the mean of theirs. Of more than 6,000 rows a seeded sample is compared."
    ),
    main="cases",
    part="alike",
    needs=frozenset({"predictions"}),
)
