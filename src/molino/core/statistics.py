"""Small statistical functions."""

from __future__ import annotations

import scipy


def student_t_quantile(probability: float, degrees_of_freedom: float) -> float:
    """Quantile of Student's t distribution."""
    return float(scipy.special.stdtrit(degrees_of_freedom, probability))


def half_width(standard_error: float, degrees_of_freedom: float) -> float:
    """Half of a 95 % confidence interval: t(0.975) standard errors."""
    return student_t_quantile(0.975, degrees_of_freedom) * standard_error


def f_tail_probability(value: float, numerator: float, denominator: float) -> float:
    """Probability that an F ratio lies beyond a value."""
    return float(scipy.special.fdtrc(numerator, denominator, max(value, 0.0)))


def f_quantile(probability: float, numerator: float, denominator: float) -> float:
    """Quantile of the F distribution."""
    return float(scipy.special.fdtri(numerator, denominator, probability))


def chi_squared_probability(value: float, degrees_of_freedom: float) -> float:
    """Probability that a chi-squared sum lies below a value."""
    return float(scipy.special.gammainc(degrees_of_freedom / 2, max(value, 0.0) / 2))


def p_text(probability: float) -> str:
    """A probability as text; below 0.0001 only as a bound."""
    return f"{probability:.2g}" if probability >= 1e-4 else "< 0.0001"
