"""Curves of solutions of n equations in n + 1 unknowns, through their folds."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
import scipy

from molino.core.balances.source import NotFinite
from molino.core.errors import SolveError
from molino.core.frozen import Frozen

Residual = Callable[[np.ndarray], np.ndarray]
CLOSE = 1e-7
"""Length of the last Newton step; the error is about its square."""
_FARTHEST = 0.25
"""Largest distance from the guess along the tangent, in scaled unknowns."""
_MOST_POINTS = 20_000
_LARGEST_LOGARITHM = 90.0
"""Logarithm of a scaled amount beyond which Newton's method has left the curve."""


@dataclass(frozen=True, eq=False)
class Curve(Frozen):
    """Points along a curve, shape (points, unknowns), with the unit tangent at each; all in scaled unknowns."""

    points: np.ndarray
    tangents: np.ndarray


class LogStates:
    """States as unknowns of a curve: y = scale e^z where they are positive amounts, otherwise y = scale z.

    In logarithms a curve cannot leave the physical region: the balances have further roots with negative amounts,
    arbitrarily near to the physical ones.

    Parameters
    ----------
    amounts : array of bool, shape (states,)
        The states that cannot be negative.
    y : array, shape (states,)
        A point of the curve; an amount that is zero there is zero along the whole curve, and not a logarithm.
    """

    def __init__(self, amounts: np.ndarray, y: np.ndarray) -> None:
        self.logarithmic = amounts & (y > 0)
        self.places = np.flatnonzero(self.logarithmic)

    def states(self, z: np.ndarray, scale: np.ndarray) -> np.ndarray:
        """The states of unknowns."""
        scaled, logarithms = z.copy(), z[self.places]
        if len(self.places) and logarithms.max() > _LARGEST_LOGARITHM:
            raise NotFinite(OverflowError("an amount grows without limit"), z, 0.0)
        scaled[self.places] = np.exp(logarithms)
        return np.asarray(scaled * scale)

    def unknowns(self, y: np.ndarray, scale: np.ndarray) -> np.ndarray:
        """The unknowns of states."""
        found = y / scale
        found[self.places] = np.log(found[self.places])
        return np.asarray(found)

    def slopes(self, y: np.ndarray, scale: np.ndarray) -> np.ndarray:
        """dy/dz, shape (states,)."""
        found = scale.copy()
        found[self.places] = y[self.places]
        return found


Point = tuple[np.ndarray, np.ndarray]
"""A point of a curve with the unit tangent there."""


@dataclass(frozen=True)
class ArcLength:
    """The curve F(z) = 0 by arc length.

    A step goes along the tangent, the null vector of the Jacobian, and returns to the curve by Newton's method in the
    normal plane, also through folds in the last unknown (H. B. Keller, in Applications of Bifurcation Theory, 1977,
    359; E. L. Allgower, K. Georg, Numerical Continuation Methods, 1990, chapter 2).

    Parameters
    ----------
    residual : z of shape (n + 1,) to F of shape (n,), both scaled to a size of about one
    jacobian : z to dF/dz, shape (n, n + 1)
    largest : the longest step
    bend : the cosine of the largest angle between the tangents of two neighbours
    close : the Newton step, in scaled unknowns, with which a point is found; its error is about the square of it
    most : the largest number of points
    """

    residual: Residual
    jacobian: Callable[[np.ndarray], np.ndarray]
    largest: float = 0.02
    bend: float = 0.95
    close: float = CLOSE
    most: int = _MOST_POINTS

    def tangent(self, z: np.ndarray, along: np.ndarray) -> np.ndarray:
        """The unit tangent in the direction of `along`."""
        found = np.linalg.solve(np.vstack([self.jacobian(z), along]), np.append(np.zeros(len(z) - 1), 1.0))
        return np.asarray(found / np.linalg.norm(found))

    def correct(self, guess: np.ndarray, across: np.ndarray) -> tuple[np.ndarray, int, np.ndarray] | None:
        """The point of the curve in the plane through a guess, and the number of steps; None if there is none near.

        Also the unit tangent in the direction of `across`, to the accuracy of the last step.
        """
        n = len(guess) - 1
        z, rows, right = guess.copy(), np.empty((n + 1, n + 1)), np.zeros((n + 1, 2))
        rows[-1], right[-1, 1] = across, 1.0
        for count in range(1, 9):
            try:
                right[:-1, 0], right[-1, 0] = -self.residual(z), across @ (guess - z)
                rows[:-1] = self.jacobian(z)
                size = np.abs(rows[:-1]).max(axis=1)  # equations of traces have the same weight as the others
                if not math.isfinite(size.sum()):
                    return None
                size[size == 0] = 1.0
                rows[:-1] /= size[:, None]
                right[:-1, 0] /= size
                step, along = np.linalg.solve(rows, right).T
            except (NotFinite, np.linalg.LinAlgError):
                return None
            z = z + step
            longest = float(np.abs(step).max())
            if not math.isfinite(longest):
                return None
            if longest < self.close:
                return z, count, along / math.sqrt(along @ along)
        return None

    def pinned(self, guess: np.ndarray, last: float) -> np.ndarray:
        """The point of the curve at a value of the last unknown, near a guess."""
        axis = np.zeros(len(guess))
        axis[-1] = 1.0
        found = self.correct(np.append(guess[:-1], last), axis)
        if found is None:
            raise SolveError(f"no solution found near the last unknown = {last:.6g}", "continuation")
        return found[0]

    def trace(self, start: np.ndarray, low: float, high: float) -> Curve:
        """Follow the curve from a near start, with the last unknown rising, until that leaves the range."""
        both = [*self.walk(start, low, high)]
        return Curve(np.array([z for z, _ in both]), np.array([along for _, along in both]))

    def walk(self, start: np.ndarray, low: float, high: float, direction: float = 1.0) -> Iterator[Point]:
        """The points of `trace` with their tangents, one by one; with the last unknown falling if `direction` is -1.

        Raises
        ------
        SolveError
            If the curve cannot be followed further, or does not leave the range within the largest number of points.
        """
        axis = np.zeros(len(start))
        axis[-1] = direction
        z = self.pinned(start, float(start[-1]))
        along = self.tangent(z, axis)
        yield z, along
        length = self.largest / 4
        for _ in range(self.most):
            found = self.correct(z + length * along, along)
            if found is None or found[2] @ along < self.bend or self._is_far(found[0], z + length * along):
                length /= 2
                if length < 1e-9:
                    message = f"the curve of solutions cannot be followed beyond {z[-1]:.6g}"
                    raise SolveError(message, "continuation", "narrow the range, or check the rate laws there")
                continue
            before, z, along = z, found[0], found[2]
            if not low <= z[-1] <= high:
                edge = high if z[-1] > high else low
                share = (edge - before[-1]) / (z[-1] - before[-1])
                z = self.pinned(before + share * (z - before), edge)
                yield z, self.tangent(z, along)
                return
            yield z, along
            if found[1] <= 3:
                length = min(length * 2.0, self.largest)
        message = f"the curve of solutions has not left the range after {self.most} points, at {z[-1]:.6g}"
        raise SolveError(message, "continuation", "narrow the range")

    def _is_far(self, found: np.ndarray, guess: np.ndarray) -> bool:
        """Whether Newton's method has gone so far that it may have reached another part of the curve."""
        return bool(np.abs(found - guess).max() > _FARTHEST)

    def between(self, curve: Curve, n: int, measure: Callable[[np.ndarray, np.ndarray], float]) -> np.ndarray:
        """The point between the n-th and the next at which a measure of point and tangent changes its sign."""
        z, along = curve.points[n], curve.tangents[n]
        reach = float(along @ (curve.points[n + 1] - z))

        def at(length: float) -> np.ndarray:
            found = self.correct(z + length * along, along)
            if found is None:
                raise SolveError("the curve of solutions is lost between two of its points", "continuation")
            return found[0]

        def value(length: float) -> float:
            here = at(length)
            return measure(here, self.tangent(here, along))

        first, last = value(0.0), value(reach)
        if first * last > 0:  # so near to one of them that the tangents there are not decisive
            return at(0.0 if abs(first) < abs(last) else reach)
        return at(float(scipy.optimize.brentq(value, 0.0, reach, xtol=1e-13, rtol=1e-13)))

    def crossings(self, begin: Point, end: Point, value: float) -> list[np.ndarray]:
        """The points after `begin`, up to the next point `end`, at which the last unknown has a value: two if a fold
        between both is beyond it."""
        (a, first), (b, last) = begin, end
        if first[-1] * last[-1] >= 0:
            if (a[-1] - value) * (b[-1] - value) >= 0 and b[-1] != value:
                return []
            return [self.pinned(a + (value - a[-1]) / (b[-1] - a[-1]) * (b - a), value)]
        piece = Curve(np.array([a, b]), np.array([first, last]))
        fold = self.between(piece, 0, lambda _, tangent: float(tangent[-1]))
        halves = ((a, fold), first), ((fold, b), self.tangent(fold, first))
        return [
            self.between(Curve(np.array(ends), np.array([along, along])), 0, lambda z, _: float(z[-1] - value))
            for ends, along in halves
            if (ends[0][-1] - value) * (ends[1][-1] - value) < 0
        ]
