"""Weights under which a group says nothing of the outcome that is learnt from."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import words
from zerotilt.core.refusal import Refused
from zerotilt.core.steps.remedy import Control, Remedy, Rows


def reweighed(group: NDArray, outcome: NDArray, mass: NDArray[np.float64]) -> NDArray[np.float64]:
    """Each row's weight times what its group and its outcome would weigh together if they were independent, over what they
    weigh (Kamiran & Calders 2012).

    What every group and every outcome weighs stays as it is. A group in which an outcome never happens cannot be made
    independent of it: no row can be weighed up.

    Parameters
    ----------
    group, outcome, mass : shape (n,).
    """
    _, g, _ = np.unique(group, return_inverse=True, return_counts=True)
    _, y, _ = np.unique(outcome, return_inverse=True, return_counts=True)
    both = np.zeros((g.max() + 1, y.max() + 1)) if len(g) else np.zeros((0, 0))
    np.add.at(both, (g, y), mass)
    alone = both.sum(axis=1, keepdims=True) * both.sum(axis=0, keepdims=True) / max(both.sum(), 1e-300)
    factor = np.where(both > 0, alone / np.where(both > 0, both, 1.0), 1.0)
    return mass * factor[g, y]


def never_together(group: NDArray, outcome: NDArray, mass: NDArray[np.float64]) -> tuple[str, str] | None:
    """A group and an outcome that no row has together; None where all are there."""
    groups, outcomes = np.unique(group), np.unique(outcome)
    for one in groups:
        for other in outcomes:
            if not mass[(group == one) & (outcome == other)].any():
                return str(one), str(other)
    return None


def _refuses(asked: str, rows: Rows) -> None:
    if (never := never_together(rows.group, rows.outcome, rows.weights)) is not None:
        raise Refused(
            f"reweigh: no training row of “{never[0]}” has the outcome “{never[1]}”; no weight makes them independent.",
            todo="Join groups that are too small, or choose another column.",
        )


REMEDY = Remedy(
    name="reweigh",
    title="rows weighed",
    where="rows",
    settings=str,
    nothing="",
    said=lambda column: f"rows weighed so that {words.title(column)} and the outcome are independent",
    does="Rows of a group that have an outcome more rarely than others weigh more (Kamiran & Calders 2012).",
    assumes="It takes for granted that the groups would have it equally often if all were right.",
    hurts="Where they truly differ, everybody is predicted less well, and rows that weigh most, of small groups, decide most.",
    law="Where the law forbids to treat people by a group, to weigh them by it may be forbidden, too. What was recorded is not "
    "altered.",
    written='reweigh = "column"',
    of="classes",
    by=lambda column: column,
    weighs=True,
    rows=lambda column, rows, rng: (np.arange(len(rows.places)), reweighed(rows.group, rows.outcome, rows.weights)),
    refuses=_refuses,
    form={"reweigh": Control("outcome independent of, by weights", "groups")},
)
