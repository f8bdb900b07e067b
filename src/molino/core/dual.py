"""Numbers with derivatives: forward differentiation of plain arithmetic, for whole columns of cases.

f(a + b e) = f(a) + f'(a) b e (L. B. Rall, Automatic Differentiation, 1981, ch. 2; A. Griewank, A. Walther, Evaluating
Derivatives, 2nd ed. 2008, section 3.1). The map from conditions to the parameters of the balances is written once, in
plain arithmetic; `Dual` numbers give its exact Jacobian, arrays a column for each case.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import sympy as sp

Number = Any
"""A float, an array of shape (cases,), a `Dual`, or a symbol."""


class Dual:
    """A value (float, or array of shape (cases,)) with its derivatives by some inputs, shape (..., inputs)."""

    __array_ufunc__ = None
    __slots__ = ("slope", "value")

    def __init__(self, value: Any, slope: np.ndarray) -> None:
        self.value, self.slope = value, slope

    @classmethod
    def seeds(cls, values: Sequence[Any]) -> list[Dual]:
        """One for each input, whose derivative by itself is one."""
        return [
            cls(value, np.broadcast_to(row, (*np.shape(value), len(values))))
            for value, row in zip(values, np.eye(len(values)), strict=True)
        ]

    def _chain(self, value: Any, by: Any) -> Dual:
        return Dual(value, np.asarray(by)[..., None] * self.slope)

    def __add__(self, other: Number) -> Dual:
        if isinstance(other, Dual):
            return Dual(self.value + other.value, self.slope + other.slope)
        return Dual(self.value + other, self.slope)

    __radd__ = __add__

    def __neg__(self) -> Dual:
        return Dual(-self.value, -self.slope)

    def __sub__(self, other: Number) -> Dual:
        return self.__add__(-other)

    def __rsub__(self, other: Number) -> Dual:
        return self.__neg__().__add__(other)

    def __mul__(self, other: Number) -> Dual:
        if isinstance(other, Dual):
            slope = np.asarray(other.value)[..., None] * self.slope + np.asarray(self.value)[..., None] * other.slope
            return Dual(self.value * other.value, slope)
        return self._chain(self.value * other, other)

    __rmul__ = __mul__

    def __truediv__(self, other: Number) -> Dual:
        return self.__mul__(other**-1.0)

    def __rtruediv__(self, other: Number) -> Dual:
        return self.__pow__(-1.0).__mul__(other)

    def __pow__(self, power: float) -> Dual:
        value = np.asarray(self.value, dtype=float)
        return self._chain(value**power, power * value ** (power - 1))

    def __repr__(self) -> str:
        return f"Dual({self.value}, {self.slope})"


def value_of(number: Number) -> Any:
    """A number without its derivatives."""
    return number.value if isinstance(number, Dual) else number


def exp(number: Number) -> Number:
    """e^x of a number of any kind."""
    if isinstance(number, sp.Basic):
        return sp.exp(number)
    if isinstance(number, Dual):
        value = np.exp(number.value)
        return number._chain(value, value)
    return math.exp(number) if isinstance(number, float | int) else np.exp(number)


def log(number: Number) -> Number:
    """Natural logarithm of a number of any kind."""
    if isinstance(number, sp.Basic):
        return sp.log(number)
    if isinstance(number, Dual):
        return number._chain(np.log(number.value), 1 / np.asarray(number.value))
    return math.log(number) if isinstance(number, float | int) else np.log(number)


def implicit(value: object, slopes: Sequence[tuple[object, Number]]) -> Number:
    """A value that is computed from others by other means, with its derivative by each."""
    duals = [(by, of) for by, of in slopes if isinstance(of, Dual)]
    if not duals:
        return value
    return Dual(value, sum(np.asarray(by)[..., None] * of.slope for by, of in duals))


def roots(
    residuals: Callable[..., Sequence[Number]], values: Sequence[float], inputs: Sequence[Any], plain: Sequence[Any]
) -> list[Number]:
    """The roots of residuals(*roots, *inputs) found for the values of the inputs (`plain`), with their derivatives by
    the implicit function theorem."""
    off = residuals(*values, *inputs)
    if not any(isinstance(r, Dual) for r in off):
        return [*values]
    by = residuals(*Dual.seeds(values), *plain)
    matrix = [[float(row.slope[j]) if isinstance(row, Dual) else 0.0 for j in range(len(values))] for row in by]
    change = solve(matrix, [Dual(0.0, -r.slope) if isinstance(r, Dual) else 0.0 for r in off])
    return [value + (c if isinstance(c, Dual) else 0.0) for value, c in zip(values, change, strict=True)]


def root(residual: Callable[..., Number], value: float, inputs: Sequence[Any], plain: Sequence[Any]) -> Number:
    """The root of one residual; see `roots`."""
    return roots(lambda *given: [residual(*given)], (value,), inputs, plain)[0]


def solve(matrix: Sequence[Sequence[Number]], right: Sequence[Number]) -> list[Number]:
    """The solution of a square system of numbers of any kind: A dx = db - dA x."""
    entries = [value for row in matrix for value in row] + [*right]
    shape = np.broadcast_shapes(*(np.shape(value_of(e)) for e in entries))
    n = len(right)
    A, b = np.empty((*shape, n, n)), np.empty((*shape, n))
    for i, row in enumerate(matrix):
        b[..., i] = value_of(right[i])
        for j, entry in enumerate(row):
            A[..., i, j] = value_of(entry)
    x = np.linalg.solve(A, b[..., None])[..., 0]
    inputs = next((e.slope.shape[-1] for e in entries if isinstance(e, Dual)), None)
    if inputs is None:
        return [x[..., i] if shape else float(x[i]) for i in range(n)]
    off = np.zeros((*shape, n, inputs))
    for i, row in enumerate(matrix):
        if isinstance(right[i], Dual):
            off[..., i, :] += right[i].slope
        for j, entry in enumerate(row):
            if isinstance(entry, Dual):
                off[..., i, :] -= x[..., j, None] * entry.slope
    slopes = np.linalg.solve(A, off)
    return [Dual(x[..., i], slopes[..., i, :]) for i in range(n)]
