"""Do two rankings agree, and does one feature carry everything?"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.frozen import Frozen
from zerotilt.core.refusal import Refused
from zerotilt.core.stats.ranks import kendall, least_ranks


class Agreement(Frozen):
    """Two rankings of the same features. ``overlap``: share of the first k that are in both."""

    first: str
    second: str
    tau: float | None
    k: int
    overlap: float


class Ranked(Frozen):
    feature: str
    ranks: tuple[int, ...]


def agreement(first: str, a: NDArray[np.float64], second: str, b: NDArray[np.float64], k: int = 5) -> Agreement:
    """Kendall's τ-b (1945) of two lists of importances, and the overlap of their first k.

    τ is None where one list has no order.

    Raises
    ------
    Refused : the lists are not of the same features.
    """
    if len(a) != len(b):
        raise Refused(
            f"The rankings “{first}” and “{second}” have {len(a)} and {len(b)} features; they must be the same."
        )
    k = min(k, len(a))
    tau = kendall(a, b) if len(a) > 1 else float("nan")
    top = [set(np.argsort(-np.asarray(one), kind="stable")[:k].tolist()) for one in (a, b)]
    return Agreement(
        first=first,
        second=second,
        tau=None if np.isnan(tau) else tau,
        k=k,
        overlap=len(top[0] & top[1]) / k if k else 0.0,
    )


def rank_table(features: Sequence[str], lists: Sequence[NDArray[np.float64]]) -> tuple[Ranked, ...]:
    """Each feature's rank in every list, from 1; ties share the smaller rank. In the order of the first list."""
    ranks = [least_ranks(-np.asarray(one)) for one in lists]
    order = np.argsort(-np.asarray(lists[0]), kind="stable")
    return tuple(Ranked(feature=features[j], ranks=tuple(int(one[j]) for one in ranks)) for j in order)


def effective_features(shares: NDArray[np.float64]) -> float:
    """exp of the entropy of shares that sum to one: how many equal features would be as spread (Hill 1973)."""
    kept = shares[shares > 0]
    return float(np.exp(-(kept * np.log(kept)).sum()))
