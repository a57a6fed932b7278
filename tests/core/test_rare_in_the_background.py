"""Sampled contributions where what matters is rare among the background rows: errors still say what they should."""

from __future__ import annotations

import numpy as np
import pytest

from zerotilt.core.contributions.enumeration import enumerate_coalitions
from zerotilt.core.contributions.game import background
from zerotilt.core.contributions.least_squares import fit_coalitions
from zerotilt.core.contributions.sampled import sample_permutations
from zerotilt.core.predictors import Frame

ROWS = 2_000


def _columns(rng: np.random.Generator, rows: int, share: float) -> dict[str, np.ndarray]:
    return {
        "a": rng.normal(size=rows),
        "b": rng.normal(size=rows),
        "flag": (rng.random(rows) < share).astype(float),
        "level": rng.choice(np.array(["usual", "other", "rare"], object), rows, p=[0.7, 0.3 - share, share]),
        "far": np.where(rng.random(rows) < share, 1e8, rng.normal(size=rows)),
    }


def additive(rows: Frame) -> np.ndarray:
    return rows["a"] + 30 * rows["flag"] + 20 * (rows["level"] == "rare") + 5 * (rows["far"] > 1e7)


def hidden(rows: Frame) -> np.ndarray:
    """The rare level matters only beside what the cases hold and the background does not."""
    return rows["a"] + 25 * (rows["level"] == "rare") * (rows["b"] > 2) + 10 * rows["flag"] * rows["b"]


def steep(rows: Frame) -> np.ndarray:
    return 1 / (1 + np.exp(-(rows["a"] * rows["b"] - 4 + 9 * rows["flag"] + 6 * (rows["level"] == "rare"))))


def trials(estimate, f, share: float, seeds: range, tolerance: float) -> np.ndarray:
    """|estimate − exact| in standard errors, for every feature of three cases a seed."""
    off = []
    for seed in seeds:
        rng = np.random.default_rng(seed)
        others = background(Frame(_columns(rng, ROWS, share)))
        cases = Frame(_columns(rng, 3, share)).replace("b", np.array([2.5, -1.0, 3.0]))
        exact = enumerate_coalitions(f, cases, others)
        found = estimate(f, cases, others, tolerance * float(f(others.frame).std()), 512, seed)
        assert found.values.sum(axis=1) == pytest.approx(found.output - found.baseline, abs=1e-6)
        off.append(np.abs(found.values - exact) / np.maximum(found.errors, 1e-9 * (1 + np.abs(exact))))
    return np.concatenate(off).ravel()


@pytest.mark.parametrize("estimate", [sample_permutations, fit_coalitions])
@pytest.mark.parametrize("share", [0.001, 0.005, 0.03])
@pytest.mark.parametrize("f", [additive, hidden, steep])
def test_values_lie_within_four_errors_in_99_of_100_trials(f, share, estimate):
    for tolerance in (0.0, 0.05):
        off = trials(estimate, f, share, range(12), tolerance)
        assert (off > 4).mean() <= 0.01 + 2 * np.sqrt(0.01 * 0.99 / len(off))
        assert off.max() < 10
