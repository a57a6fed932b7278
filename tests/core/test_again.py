"""A gap measured again: what is said of it follows the stated rule, and its interval holds what it should."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as some

from zerotilt.core.again import AGAIN, NEGLIGIBLE, Measured, change_between, change_of, compare, p_of
from zerotilt.core.findings import Gap
from zerotilt.core.stats.estimates import Estimate

RATIO, DIFFERENCE = (0.8, 1.25), (-0.1, 0.1)


def gap(value, low, high, scale="ratio"):
    return Gap(scale=scale, value=value, low=low, high=high, within=RATIO if scale == "ratio" else DIFFERENCE)


def now(*numbers, scale="ratio", told=True):
    return Measured(gap=gap(*numbers, scale=scale), told=told)


@pytest.mark.parametrize(
    ("before", "after", "verdict"),
    [
        (gap(0.6, 0.55, 0.65), now(0.98, 0.95, 1.02), "gone"),
        (gap(0.6, 0.55, 0.65), now(0.75, 0.72, 0.78), "smaller"),
        (gap(0.75, 0.72, 0.78), now(0.6, 0.55, 0.65), "larger"),
        (gap(1.5, 1.45, 1.55), now(1.8, 1.7, 1.9), "larger"),  # above parity, larger is up
        (gap(0.7, 0.69, 0.71), now(0.7, 0.69, 0.71), "same"),
        (gap(0.7, 0.6, 0.82), now(0.72, 0.6, 0.86), "cannot be told"),  # nothing shows either way
        (gap(0.6, 0.55, 0.65), now(1.7, 1.6, 1.8), "cannot be told"),  # off to the other side
        (gap(0.6, 0.55, 0.65), now(0.9, 0.5, 1.6, told=False), "cannot be told"),
        (gap(0.6, 0.55, 0.65), None, "cannot be told"),
        (gap(0.6, 0.55, 0.65), now(0.2, 0.1, 0.3, scale="difference"), "cannot be told"),
        (gap(-0.3, -0.32, -0.28, "difference"), now(-0.2, -0.22, -0.18, scale="difference"), "smaller"),
        (gap(-0.2, -0.22, -0.18, "difference"), now(-0.3, -0.32, -0.28, scale="difference"), "larger"),
        (gap(0.0, None, None), now(0.7, 0.6, 0.75), "cannot be told"),  # a rate of zero has no ratio
    ],
)
def test_the_rule(before, after, verdict):
    found = compare(before, after)
    assert found.verdict == verdict
    assert found.sentence.startswith("It ") and found.sentence.endswith(".") and "nan" not in found.sentence


def test_sentences_are_read_aloud():
    assert compare(gap(0.6, 0.55, 0.65), now(0.75, 0.72, 0.78)).sentence == (
        "It is smaller: the ratio is 0.75 now and was 0.60, 1.25 times as large (interval 1.14 to 1.38)."
    )
    assert compare(gap(-0.3, -0.32, -0.28, "difference"), now(-0.2, -0.22, -0.18, scale="difference")).sentence == (
        "It is smaller: the difference is −0.2 now and was −0.3, 0.100 more (interval of the change 0.072 to 0.128)."
    )
    assert compare(gap(0.6, 0.55, 0.65), None).sentence == (
        "It cannot be told what became of it, since there is no such comparison now."
    )
    assert "half the tolerance" in AGAIN and NEGLIGIBLE == 0.5


def test_of_the_same_rows_the_change_that_is_given_counts():
    before, after = gap(0.6, 0.5, 0.72), now(0.66, 0.55, 0.78)
    assert compare(before, after).verdict == "cannot be told"  # of other rows
    paired = compare(before, after, Estimate(value=1.1, low=1.05, high=1.15))
    assert (paired.verdict, paired.same_rows) == ("smaller", True)


def test_the_interval_of_a_change_holds_the_true_one_about_as_often_as_it_says():
    """Gaps of two independent tables; ratios and differences of two shares, intervals of theirs by the score test."""
    from zerotilt.core.stats import intervals

    rng, held, runs = np.random.default_rng(5), {"ratio": 0, "difference": 0}, 600
    p = {"before": (0.45, 0.6), "now": (0.55, 0.6)}
    for _ in range(runs):
        gaps = {}
        for when, (own, reference) in p.items():
            x1, x2 = rng.binomial(300, own), rng.binomial(500, reference)
            for scale, found in (
                ("ratio", intervals.koopman(x1, 300, x2, 500)),
                ("difference", intervals.mee(x1, 300, x2, 500)),
            ):
                gaps[when, scale] = gap(*(float(one) for one in found[:3]), scale=scale)
        for scale, truth in (("ratio", 0.55 / 0.45), ("difference", 0.10)):
            change = change_of(gaps["before", scale], gaps["now", scale])
            held[scale] += change.low <= truth <= change.high
    for count in held.values():
        assert abs(count / runs - 0.95) < 4 * math.sqrt(0.95 * 0.05 / runs)


@given(*(some.floats(0.05, 5) for _ in range(2)), *(some.floats(1.001, 3) for _ in range(4)))
def test_a_change_and_its_reverse_are_each_others_inverse(before, after, a, b, c, d):
    one, other = gap(before, before / a, before * b), gap(after, after / c, after * d)
    there, back = change_of(one, other), change_of(other, one)
    assert there.value == pytest.approx(1 / back.value) and there.low == pytest.approx(1 / back.high)
    assert there.low <= there.value <= there.high
    p = p_of(there, "ratio", 0.95)
    assert (0 <= p <= 1 and (p < 0.05) == (not there.low <= 1 <= there.high)) or abs(p - 0.05) < 1e-6


def test_numbers_without_intervals_have_no_change():
    none = Estimate(value=1.0, low=None, high=None)
    assert change_between(none, Estimate(value=1, low=0.5, high=2)).value is None
    assert math.isnan(p_of(none, "difference", 0.95))
