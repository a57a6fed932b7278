"""Quantiles and tails of distributions, from SciPy's special functions.

They are loaded when the first is asked for: loading them takes a third of a
second, and SciPy's module of all distributions a whole one, which the server,
who computes nothing, would pay at every start.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import ArrayLike


def normal_quantile(chance: ArrayLike) -> Any:
    """Of the standard normal distribution."""
    from scipy.special import ndtri

    return ndtri(chance)


def normal_tail(z: ArrayLike) -> Any:
    """Chance of more than z under the standard normal distribution."""
    from scipy.special import ndtr

    return ndtr(-np.asarray(z))


def t_quantile(chance: ArrayLike, freedom: ArrayLike) -> Any:
    """Of Student's distribution with so many degrees of freedom."""
    from scipy.special import stdtrit

    return stdtrit(freedom, chance)


def t_tail(t: ArrayLike, freedom: ArrayLike) -> Any:
    """Chance of more than t under Student's distribution with so many degrees of freedom."""
    from scipy.special import stdtr

    return stdtr(freedom, -np.asarray(t))


def chi_squared_tail(value: ArrayLike, freedom: ArrayLike) -> Any:
    """Chance of more under the χ² distribution with so many degrees of freedom."""
    from scipy.special import chdtrc

    return chdtrc(freedom, value)


def kolmogorov_tail(value: float) -> float:
    """Chance of a larger distance of two distribution functions, scaled (Kolmogorov 1933; Smirnov 1948)."""
    from scipy.special import kolmogorov

    return float(kolmogorov(value))


def log_gamma(value: ArrayLike) -> Any:
    """ln |Γ(value)|."""
    from scipy.special import gammaln

    return gammaln(value)


def binomial_two_sided(count: int, n: int, share: float) -> float:
    """Twice the smaller exact tail of a binomial count, at most 1 (Clopper & Pearson 1934): right for the rarest group, where
    the normal distribution rejects for one row too many.

    >>> round(binomial_two_sided(0, 100, 0.005), 3), round(binomial_two_sided(4, 100, 0.005), 4)
    (1.0, 0.0033)
    """
    from scipy.special import bdtr, bdtrc

    below = float(bdtr(count, n, share))
    above = float(bdtrc(count - 1, n, share)) if count > 0 else 1.0
    return min(1.0, 2 * min(below, above))
