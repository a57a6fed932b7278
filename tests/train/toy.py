"""A remedy in one file, as docs/development.md walks through it: rows of one group count a share of what they did."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.refusal import Refused
from zerotilt.core.steps.remedy import Control, Remedy, Rows


class Fading(Frozen):
    by: str = Field(max_length=500)
    part: str = Field(max_length=500)
    share: float = Field(default=0.5, ge=0, le=1)


def _faded(asked: Fading, rows: Rows, rng: np.random.Generator) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    return np.arange(len(rows.places)), rows.weights * np.where(rows.among, asked.share, 1.0)


def _refuses(asked: Fading, rows: Rows) -> None:
    if not rows.among.any():
        raise Refused(f"fade: no training row is of “{asked.part}”.", todo="Choose another part.")


REMEDY = Remedy(
    name="fade",
    title="one group counts less",
    where="rows",
    settings=Fading | None,
    nothing=None,
    said=lambda asked: f"rows of {words.title(asked.by)} {asked.part} count {asked.share * 100:g}% of what they did",
    does="Rows of one group count less.",
    assumes="It takes for granted that they were recorded worse than the others.",
    hurts="That group is predicted less well.",
    law="Where the law forbids to treat people by a group, this is forbidden, too.",
    written="fade = { by, part, share }",
    by=lambda asked: asked.by,
    part=lambda asked: asked.part,
    weighs=True,
    rows=_faded,
    refuses=_refuses,
    form={
        "by": Control("counts less, by", "groups"),
        "part": Control("the group", "text"),
        "share": Control("% that is left", "number", scale=100, several=True, usual="50"),
    },
)
