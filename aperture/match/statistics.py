"""Probabilities as the report uses them: tails of χ² and their equivalent in σ."""

import math

from scipy.special import chdtrc, ndtri, ndtri_exp

CONFLICT_SIGMAS = 3.0
# Among many pieces of evidence one is 3 σ off by chance soon enough. The threshold rises so that a
# document without any mistake raises an alarm in one case of a hundred (Bonferroni).
FALSE_ALARMS = 0.01
# Below this a probability is taken from its logarithm: double precision ends at 1e-308.
LEAST_PROBABILITY = 1e-250


def threshold(count: int) -> float:
    """The σ above which one of `count` pieces of evidence is a conflict."""
    return max(CONFLICT_SIGMAS, -float(ndtri(FALSE_ALARMS / 2 / max(count, 1))))


def chi2_tail(x: float, freedom: int) -> float:
    """Probability that a χ² variable with `freedom` degrees of freedom exceeds x."""
    return float(chdtrc(freedom, x))


def as_sigmas(square: float, freedom: int) -> float:
    """The σ of a normal distribution that is exceeded as rarely as a χ² of `square`."""
    if freedom == 0 or square <= 0:
        return 0.0
    if freedom == 1:
        return math.sqrt(square)
    tail = chi2_tail(square, freedom)
    if tail > LEAST_PROBABILITY:
        return max(0.0, -float(ndtri(tail / 2)))
    return -float(ndtri_exp(_log_tail(square, freedom) - math.log(2)))


def _log_tail(x: float, freedom: int) -> float:
    """Logarithm of `chi2_tail` where x is far above `freedom`.

    Legendre's continued fraction of the upper incomplete gamma function, evaluated from its end
    (DLMF 8.9.2; the equation's number is cited from memory).
    """
    a, half = freedom / 2, x / 2
    fraction = 0.0
    for n in range(60, 0, -1):
        fraction = n * (n - a) / (half + 2 * n + 1 - a - fraction)
    return -half + a * math.log(half) - math.lgamma(a) - math.log(half + 1 - a - fraction)
