"""What a model's own parts say about its features: standardised coefficients, split reduction."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numba import njit
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.contributions.game import background
from zerotilt.core.drawing import MOST_BARS, Bars
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Spec, Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.trees.ensemble import Trees
from zerotilt.core.work import Work

PIECE = 20_000
"""Rows counted together."""


class OwnSettings(Frozen):
    """Nothing to choose."""


class OwnPart(Frozen):
    feature: str
    value: float
    share: float | None
    sign: Literal["+", "−", "mixed", ""] = Field(
        description="Which way the output goes with the feature, where that is one way"
    )


class OwnResult(Frozen):
    kind: Literal["standardised coefficients", "split reduction"]
    parts: tuple[OwnPart, ...] = Field(description="Largest first")
    scale: Literal["probability", "log-odds", "value", "logarithm"]
    rows: int


def own_parts(subject: Subject, settings: OwnSettings, seed: int, work: Work) -> OwnResult:
    """Standardised coefficients of a linear model, or split reduction of trees, over the rows of the context.

    A standardised coefficient is the standard deviation of the feature's whole
    term Σ w·x over its encoded columns; for one column that is |w| times the
    column's standard deviation. Split reduction is the variance of the output
    taken away at the splits on a feature, weighted by rows (Breiman et al. 1984).

    Raises
    ------
    Refused : the model is neither.
    """
    structure, why = subject.predictions.structure
    if structure is None:
        raise Refused(
            f"The model has no coefficients or splits that can be read: {why}.",
            todo="Use permutation importance or Shapley values, which need none.",
        )
    names = subject.model.inputs
    weights = background(subject.frame, subject.rows.weights).weights
    work.begin(1, "parts of the model read")
    value, sign = np.zeros(len(names)), [""] * len(names)
    if structure.trees is None:
        kind = "standardised coefficients"
        coefficients = structure.coefficients
        assert coefficients is not None  # what has no trees has these
        terms = structure.encode(subject.frame).astype(np.float64) * coefficients[:, subject.column]
        for j in range(len(names)):
            mine = np.flatnonzero(structure.owner == j)
            term = terms[:, mine].sum(axis=1)
            value[j] = np.sqrt(weights @ (term - weights @ term) ** 2)
            signs = set(np.sign(coefficients[mine, subject.column])) - {0.0}
            sign[j] = "" if not signs else "mixed" if len(mine) > 1 else "+" if signs == {1.0} else "−"
    else:
        kind = "split reduction"
        pieces = [slice(start, start + PIECE) for start in range(0, subject.n, PIECE)]
        held = sum(work.spread(_held, (structure, subject.frame, weights), pieces, "rows"), 0.0)
        reduced = split_reduction(structure.trees, held, len(structure.owner), subject.column)
        for j in range(len(names)):
            value[j] = reduced[structure.owner == j].sum()
    total = value.sum()
    work.advance(1)
    return OwnResult(
        kind=kind,
        parts=tuple(
            OwnPart(
                feature=names[j], value=float(value[j]), share=float(value[j] / total) if total else None, sign=sign[j]
            )
            for j in np.argsort(-value, kind="stable")
        ),
        scale={"identity": "value" if subject.scale == "value" else "probability"}.get(structure.link, structure.link),
        rows=subject.n,
    )


def _held(shared, piece: slice) -> NDArray[np.float64]:
    structure, frame, weights = shared
    return structure.trees.held(structure.encode(frame.take(piece)), weights[piece])


def split_reduction(trees: Trees, held: NDArray[np.float64], columns: int, column: int) -> NDArray[np.float64]:
    """Variance taken away at splits on each encoded column, added over trees, shape (encoded columns,).

    Parameters
    ----------
    held : weight of the rows in each leaf, which sums to the number of trees. column : of the output.
    """
    out = np.zeros(columns)
    _reduce(trees.roots, trees.column, trees.yes, trees.no, held, trees.leaves[:, column].copy(), out)
    return out


@njit(cache=True, nogil=True)
def _reduce(roots, column, yes, no, held, values, out):
    n, total, squares = np.zeros(len(yes)), np.zeros(len(yes)), np.zeros(len(yes))
    stack, seen = np.empty(2 * len(yes) + 2, np.int32), np.zeros(len(yes), np.bool_)
    for root in roots:
        top = 0
        if root >= 0:
            stack[0], top = root, 1
        while top:
            node = stack[top - 1]
            if not seen[node]:
                seen[node] = True
                for child in (yes[node], no[node]):
                    if child >= 0:
                        stack[top] = child
                        top += 1
                continue
            top -= 1
            spread = 0.0
            for child in (yes[node], no[node]):
                if child >= 0:
                    cn, ct, cs = n[child], total[child], squares[child]
                else:
                    cn = held[-child - 1]
                    ct = cn * values[-child - 1]
                    cs = ct * values[-child - 1]
                n[node] += cn
                total[node] += ct
                squares[node] += cs
                if cn > 0:
                    spread += cs - ct * ct / cn
            if n[node] > 0:
                out[column[node]] += max(squares[node] - total[node] ** 2 / n[node] - spread, 0.0)


def say(result: OwnResult, wording: Wording, settings: OwnSettings) -> Reading:
    first = result.parts[0]
    what = (
        "the largest standardised coefficient"
        if result.kind == "standardised coefficients"
        else "most of the split reduction"
    )
    share = f" ({first.share:.0%} of the sum)" if first.share is not None else ""
    return plain(
        f"{words.opening(words.title(first.feature))} has {what}{share}.",
        f"Over {words.count(result.rows)} {wording.rows}, on the scale of the model's {result.scale}. This is what the model "
        "is built of; it says nothing about how much worse it would do without the feature.",
    )


def picture(result: OwnResult, spec: Spec) -> Bars:
    shown = result.parts[:MOST_BARS]
    return Bars(
        names=tuple(f"{words.title(one.feature)} {one.sign}".strip() for one in shown),
        values=tuple(one.value for one in shown),
        label=f"{result.kind}, on the scale of the model's {result.scale}",
    )


METHOD = Method(
    name="own_parts",
    area="drivers",
    part="methods",
    title="The model's own parts",
    settings=OwnSettings,
    result=OwnResult,
    compute=own_parts,
    say=say,
    note=(
        "**Standardised coefficients** (linear models): the standard deviation of the feature's whole term. **Split "
        "reduction** (trees; Breiman et al. 1984): variance taken away at splits, weighted by rows; it favours "
        "columns with many values. Both say what the model is built of, not how much worse it would do without."
    ),
    main="parts",
    picture=picture,
    version=2,
)
