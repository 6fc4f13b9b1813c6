"""Quantiles of Student's distribution: how far what was estimated from a few counts may be off.

Source: Abramowitz and Stegun 26.5.27 (the distribution by the incomplete beta function, which mpmath has) and 26.7.5
(its series for many degrees of freedom).
"""

from __future__ import annotations

import math
from functools import lru_cache
from statistics import NormalDist

__all__ = ["student_quantile"]

_NORMAL = 0.5  # a start below every quantile that is asked for: from there the steps grow towards it
_STEPS = 200
_MANY = 150.0  # degrees of freedom from which the series is exact to ten figures


@lru_cache(maxsize=4096)
def student_quantile(freedom: float, probability: float) -> float:
    """Return what a value stays below with a probability (0.7 to 1), for degrees of freedom (above 0).

    Raises `ValueError` for a probability beyond these bounds.
    """
    if not 0.7 <= probability < 1:
        raise ValueError(f"no quantile is asked for at {probability}")
    if freedom > _MANY:
        return _by_series(freedom, NormalDist().inv_cdf(probability))
    # The library takes longer to load than all the rest of a question, and few questions come here.
    from mpmath import fp

    height = math.exp(math.lgamma((freedom + 1) / 2) - math.lgamma(freedom / 2)) / math.sqrt(freedom * math.pi)
    value = _NORMAL
    for _ in range(_STEPS):
        below = 1 - fp.betainc(freedom / 2, 0.5, 0, freedom / (freedom + value * value), regularized=True) / 2
        # The distribution bends down above its middle, so no step goes beyond the quantile.
        step = (below - probability) / (height * (1 + value * value / freedom) ** (-(freedom + 1) / 2))
        value -= step
        if abs(step) <= 1e-14 * value:
            break
    return value


def _by_series(freedom: float, z: float) -> float:
    terms = (
        (z**3 + z) / 4,
        (5 * z**5 + 16 * z**3 + 3 * z) / 96,
        (3 * z**7 + 19 * z**5 + 17 * z**3 - 15 * z) / 384,
        (79 * z**9 + 776 * z**7 + 1482 * z**5 - 1920 * z**3 - 945 * z) / 92160,
    )
    return z + sum(term / freedom**power for power, term in enumerate(terms, start=1))
