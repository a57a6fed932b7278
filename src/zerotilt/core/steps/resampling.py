"""Rows drawn so that outcomes are balanced, with what was drawn from where."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.refusal import Refused
from zerotilt.core.steps.remedy import Control, Remedy, Rows


class Resampling(Frozen):
    """Rows drawn so that outcomes are balanced: in all rows, within every part of a column, or in one part alone."""

    how: Literal["over", "under"] = Field(
        description="Rarer outcomes drawn again, or more frequent ones drawn less often"
    )
    within: str = Field(default="", max_length=500, description="Column whose parts are balanced one by one")
    only: str = Field(default="", max_length=500, description="The one part of that column that is balanced")
    segment: str = Field(
        default="", max_length=120, description="The audit's segment that is balanced, and nothing else"
    )


def resampled(
    outcome: NDArray,
    part: NDArray,
    balanced: NDArray[np.bool_],
    how: Literal["over", "under"],
    rng: np.random.Generator,
) -> NDArray[np.int64]:
    """Places of rows so that every outcome has as many rows in each part that is balanced.

    Over: every row stays, and rows of a rarer outcome are drawn again, none twice more often than another by more than
    one. Under: rows of a more frequent outcome are drawn without putting back. An outcome that a part does not have at all
    is not made: where a part has one outcome alone, it stays as it is.

    Parameters
    ----------
    outcome, part : shape (n,). balanced : which rows stand in parts that are balanced, shape (n,).

    Returns
    -------
    Places, shape (rows drawn,), ascending; a row that was drawn again stands there again.
    """
    times = np.ones(len(outcome), np.int64)
    _, parts = np.unique(part, return_inverse=True)
    _, outcomes = np.unique(outcome, return_inverse=True)
    for one in np.unique(parts[balanced]):
        mine = np.flatnonzero((parts == one) & balanced)
        sizes = np.bincount(outcomes[mine])
        there = np.flatnonzero(sizes)
        if len(there) < 2:
            continue
        wanted = sizes.max() if how == "over" else sizes[there].min()
        for value in there:
            own = rng.permutation(mine[outcomes[mine] == value])
            times[own] = wanted // len(own) + (np.arange(len(own)) < wanted % len(own))
    return np.repeat(np.arange(len(outcome)), times)


def _said(asked: Resampling) -> str:
    where = (
        f"in the segment {asked.segment} alone"
        if asked.segment
        else f"in {words.title(asked.within)} {asked.only} alone"
        if asked.only
        else f"within every {words.title(asked.within)}"
        if asked.within
        else "in all rows"
    )
    done = "rarer outcomes drawn again" if asked.how == "over" else "frequent outcomes drawn less often"
    return f"{done} until they are balanced {where}"


def _refuses(asked: Resampling, rows: Rows) -> None:
    if asked.only and not rows.among.any():
        raise Refused(f"resample: no training row is of “{asked.only}”.", todo="Choose another part.")


def _drawn(asked: Resampling, rows: Rows, rng: np.random.Generator) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    drawn = resampled(rows.outcome, rows.group, rows.among, asked.how, rng)
    return drawn, rows.weights[drawn]


REMEDY = Remedy(
    name="resample",
    title="rows drawn again",
    where="rows",
    settings=Resampling | None,
    nothing=None,
    said=_said,
    does="Rows are drawn again, or left out, until outcomes are equally frequent where that is asked.",
    assumes="It takes for granted that rare outcomes are learnt too little, not that they are rare: chances are no longer "
    "calibrated, and the threshold has to be found again.",
    hurts="A balance in all rows draws its new rows from wherever they are, often from one group: counts before and after say "
    "from which.",
    law="Where a group is named, the law that forbids to treat people by it may forbid this, too.",
    written="resample = { how, within, only, segment }",
    of="classes",
    by=lambda asked: asked.within,
    segment=lambda asked: asked.segment,
    part=lambda asked: asked.only,
    rows=_drawn,
    refuses=_refuses,
    form={
        "how": Control(
            "outcome balanced by drawing", {"over": "rarer outcomes again", "under": "frequent outcomes less often"}
        ),
        "within": Control("within each part of", "groups", none="all rows together", not_with="segment"),
        "only": Control("in this part alone", "text", only_with="within"),
        "segment": Control("or in the segment", "segments", none="none", not_with="within"),
    },
)
