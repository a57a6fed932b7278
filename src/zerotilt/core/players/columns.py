"""Columns as players: a mixed row takes each of its values from the case or from another row."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from zerotilt.core.output import from_sums
from zerotilt.core.players.protocol import EVALUATIONS_AT_ONCE, Output
from zerotilt.core.predictors import Asked, Frame
from zerotilt.core.predictors.structure import Structure


@njit(cache=True, nogil=True)
def along(place: NDArray, x: NDArray, z: NDArray, steps: int) -> NDArray:
    """One column of walks: z until its place has come, then x; shape (len(place) · (steps + 1),)."""
    out = np.empty(len(place) * (steps + 1))
    for m in range(len(place)):
        start = m * (steps + 1)
        for k in range(steps + 1):
            out[start + k] = x[m] if place[m] < k else z[m]
    return out


class Columns:
    """Every column of a row is a player.

    A model that is a sum is asked in its own encoding, which is made once for
    both sides; any other model gets whole raw rows, and so does a model that is
    no sum in one of these rows.
    """

    def __init__(self, output: Output, cases: Frame, others: Frame):
        self._structure = None
        if isinstance(output, Asked):
            output = output.believed(cases, others)
            self._structure = None if output.as_it_is else output.predictor.known_structure
        self._output, self._cases, self._others = output, cases, others
        if self._structure is not None:
            self._encoded = self._structure.of_frame(cases)[0], self._structure.of_frame(others)[0]
            self._walkable = self._structure.walkable

    @property
    def names(self) -> tuple[str, ...]:
        return self._cases.names

    def __call__(
        self, case: NDArray[np.integer], other: NDArray[np.integer], known: NDArray[np.bool_]
    ) -> NDArray[np.float64]:
        out = np.empty(len(case))
        for start in range(0, len(case), EVALUATIONS_AT_ONCE):
            part = slice(start, start + EVALUATIONS_AT_ONCE)
            out[part] = (self._raw if self._structure is None else self._in_code)(case[part], other[part], known[part])
        return out

    def walks(
        self, case: NDArray[np.integer], other: NDArray[np.integer], orders: NDArray[np.integer]
    ) -> NDArray[np.float64]:
        m, p = orders.shape
        if self._structure is None or not self._walkable:
            place = np.argsort(orders, axis=1)
            out = np.empty((m, p + 1))
            step = max(1, EVALUATIONS_AT_ONCE // (p + 1))
            for start in range(0, m, step):
                part = slice(start, start + step)
                out[part] = self._walked(case[part], other[part], place[part])
            return out
        return self._from(self._walked_sums(case, other, orders)).reshape(m, p + 1)

    def walks_with_sums(
        self, case: NDArray[np.integer], other: NDArray[np.integer], orders: NDArray[np.integer]
    ) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Walks as :meth:`walks` gives them, and in the sums, shape (m, p + 1, sums)."""
        m, p = orders.shape
        if self._walkable:
            sums = self._walked_sums(case, other, orders)
        else:
            place = np.argsort(orders, axis=1)
            sums = np.empty((m, p + 1, len(self._sum_of.base)))
            step = max(1, EVALUATIONS_AT_ONCE // (p + 1))
            for start in range(0, m, step):
                part = slice(start, start + step)
                known = (place[part, None, :] < np.arange(p + 1)[:, None]).reshape(-1, p)
                given = np.repeat(case[part], p + 1), np.repeat(other[part], p + 1)
                sums[part] = self._sum_of.mixed_sums(*self._encoded, *given, known).reshape(-1, p + 1, sums.shape[2])
        return self._from(sums).reshape(m, p + 1), sums

    @property
    def _sum_of(self) -> Structure:
        assert self._structure is not None  # only what has one is asked in its code
        return self._structure

    def _walked_sums(self, case, other, orders) -> NDArray[np.float64]:
        return self._sum_of.walked_sums(*self._encoded, case, other, orders)

    def _from(self, sums: NDArray[np.float64]) -> NDArray[np.float64]:
        """The output from sums (…, k), flat."""
        flat = sums.reshape(-1, sums.shape[-1])
        return from_sums(flat, self._sum_of.link, self._output.scale, self._output.column)

    def of_cases(self) -> NDArray[np.float64]:
        if self._structure is not None:
            return self._from(self._structure.of_frame(self._cases)[1])
        rows = np.arange(self._cases.rows)
        return self(rows, np.zeros_like(rows), np.ones((len(rows), len(self._cases.names)), bool))

    def of_others(self) -> NDArray[np.float64]:
        if self._structure is not None:
            return self._from(self._structure.of_frame(self._others)[1])
        rows = np.arange(self._others.rows)
        return self(np.zeros_like(rows), rows, np.zeros((len(rows), len(self._cases.names)), bool))

    def _raw(self, case, other, known) -> NDArray[np.float64]:
        columns = {
            name: np.where(known[:, j], self._cases[name][case], self._others[name][other])
            for j, name in enumerate(self._cases.names)
        }
        return self._output(Frame(columns))

    def _walked(self, case, other, place) -> NDArray[np.float64]:
        """Walks of whole raw rows; ``place``: when each feature is exchanged, shape (m, p)."""
        m, p = place.shape
        if self._structure is not None:
            known = (place[:, None, :] < np.arange(p + 1)[:, None]).reshape(-1, p)
            return self._in_code(np.repeat(case, p + 1), np.repeat(other, p + 1), known).reshape(m, p + 1)
        columns = {}
        for j, name in enumerate(self._cases.names):
            x, z = self._cases[name], self._others[name]
            if x.dtype.kind == "f":
                columns[name] = along(place[:, j].copy(), x[case], z[other], p)
            else:  # texts are exchanged by their number
                number = along(place[:, j].copy(), case.astype(float), (other + len(x)).astype(float), p)
                columns[name] = np.concatenate([x, z])[number.astype(np.int64)]
        return self._output(Frame(columns)).reshape(m, p + 1)

    def _in_code(self, case, other, known) -> NDArray[np.float64]:
        return self._from(self._sum_of.mixed_sums(*self._encoded, case, other, known))
