"""Functions without a formula, which the generated code calls by name."""

from __future__ import annotations

import numpy as np
import sympy as sp


class NumericFunction(sp.Function):  # type: ignore[misc]
    """Base of such functions: `fdiff` gives derivatives as expressions, `number` and `columns` the values.

    Attributes
    ----------
    is_choice : bool
        Whether it is f(value, limit, low, high): `low` where value < limit, otherwise `high`.
    """

    is_choice = False

    @staticmethod
    def number(*args: float) -> float:
        """The value at plain numbers."""
        raise NotImplementedError

    @classmethod
    def columns(cls, *args: np.ndarray | float) -> np.ndarray:
        """The values at whole columns of numbers."""
        return np.asarray(np.vectorize(cls.number, otypes=[float])(*args))

    @classmethod
    def code_name(cls) -> str:
        """Its name in the generated code."""
        return f"call_{cls.__name__.lower()}"
