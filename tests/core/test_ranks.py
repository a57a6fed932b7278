"""Ranks, agreement of orders and adjusted p-values against SciPy's."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from zerotilt.core.stats import intervals
from zerotilt.core.stats.ranks import ROWS_AT_ONCE, kendall, least_ranks, mean_ranks

TIED = st.integers(-3, 3).map(float)
VALUES = st.one_of(TIED, st.floats(-1e8, 1e8), st.sampled_from([np.inf, -np.inf, 1e-300]))
LISTS = st.lists(st.tuples(VALUES, VALUES), min_size=1, max_size=40)


@given(LISTS)
def test_ranks_and_agreement_are_scipy_s(pairs):
    a, b = np.array(pairs).T
    assert mean_ranks(a).tolist() == stats.rankdata(a).tolist()
    assert least_ranks(a).tolist() == stats.rankdata(a, method="min").tolist()
    if len(a) > 1:
        assert kendall(a, b) == pytest.approx(stats.kendalltau(a, b)[0], nan_ok=True)


def test_agreement_of_more_values_than_are_compared_at_once():
    rng = np.random.default_rng(0)
    a = rng.integers(0, 50, 2 * ROWS_AT_ONCE + 3)
    b = a + rng.integers(0, 40, len(a))
    assert kendall(a, b) == pytest.approx(stats.kendalltau(a, b)[0])
    assert np.isnan(kendall([1.0, np.nan], [1.0, 2.0]))


@given(st.lists(st.one_of(st.floats(0, 1), st.just(float("nan")), st.sampled_from([0.01, 0.02])), max_size=30))
def test_the_share_of_false_alarms_is_controlled_as_scipy_does(chances):
    p = np.array(chances, float)
    known = np.isfinite(p)
    found = intervals.adjust(p, "false discovery rate")
    assert (np.isnan(found) == ~known).all()
    if known.any():
        assert found[known] == pytest.approx(stats.false_discovery_control(p[known], method="bh"))
