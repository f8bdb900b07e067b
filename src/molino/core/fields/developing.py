"""The developing velocity of a laminar flow, from flat to parabolic.

The momentum balance of a boundary layer with the mean velocity and the radius as units and x = z nu/(u R^2),

    u du/dx + v du/dr = -dp/dx + (1/r) d(r du/dr)/dr,    sum of w u = 1

is integrated along x at the nodes across, from a thin boundary layer; the pressure follows from the constant mean
velocity (R. K. Shah, A. L. London, Laminar Flow Forced Convection in Ducts, 1978, chapters V and VI: entrance length
0.056 and 0.011 in z/(D_h Re), excess of the pressure drop 1.25 and 0.674 of a velocity head in pipe and slit).
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import scipy

from molino.core.errors import SolveError
from molino.core.fields.radial import MOST_VELOCITY, Radial

_FIRST = 2e-5
_LAST = 2.0
"""The range of x of the integration of the development."""
_ROWS = 400
DEVELOPED_LOSS = {"pipe": 8.0, "slit": 3.0}
"""-dp/dx of the developed flow, in rho u^2 per unit of x."""


@dataclass(frozen=True, eq=False)
class Developing:
    """A velocity that develops: over the mean velocity, at x = z nu/(u R^2).

    Attributes
    ----------
    radial : Radial
    velocity : CubicSpline
        Of log(x), at the nodes inside.
    pressure : CubicSpline
        Pressure loss up to log(x), in rho u^2.
    """

    radial: Radial
    velocity: scipy.interpolate.CubicSpline
    pressure: scipy.interpolate.CubicSpline

    def at(self, x: float) -> tuple[np.ndarray, np.ndarray]:
        """Velocities at the nodes inside, and the flow away from the axis across them per length x."""
        inside = min(max(x, _FIRST), _LAST)
        u = self.velocity(np.log(inside))
        if x >= _LAST or x <= _FIRST:
            return u, np.zeros_like(u)
        slope = self.velocity(np.log(inside), 1) / inside
        return u, -self.radial.up_to[:, :-1] @ slope

    def lost(self, x: float) -> float:
        """Pressure loss up to x in rho u^2."""
        last = DEVELOPED_LOSS[self.radial.geometry] * max(x - _LAST, 0.0)
        return float(self.pressure(np.log(min(max(x, _FIRST), _LAST)))) + last

    @property
    def excess(self) -> float:
        """Pressure loss by the development alone, in velocity heads rho u^2/2."""
        return 2 * (self.lost(_LAST) - DEVELOPED_LOSS[self.radial.geometry] * _LAST)

    @property
    def entrance_length(self) -> float:
        """x at which the velocity on the axis reaches 99 % of its highest value."""
        x = np.geomspace(_FIRST, _LAST, 4001)
        inside = self.velocity(np.log(x))
        values = np.hstack([inside, np.zeros((len(x), 1))])
        axis = self.radial.at(values, np.zeros(1))[:, 0]
        return float(np.interp(0.99 * MOST_VELOCITY[self.radial.geometry], axis, x))


@lru_cache(maxsize=16)
def developing(radial: Radial) -> Developing:
    """The development of a laminar flow at the nodes across, from a flat profile."""
    n, w, K = radial.count, radial.weights, radial.stiffness
    D, B, across = radial.slopes[:, :-1], radial.up_to[:, :-1], radial.weights / radial.density

    def slopes(x: float, state: np.ndarray) -> np.ndarray:
        u = state[:n]
        matrix = np.zeros((n + 1, n + 1))
        # the flow away from the axis across a node is -B du/dx
        matrix[:n, :n] = np.diag(w * u) - (across * (D @ u))[:, None] * B
        matrix[:n, n], matrix[n, :n] = w, w
        right = np.append(-K[:-1, :-1] @ u, 0.0)
        found = np.linalg.solve(matrix, right)
        return np.append(found[:n], -found[n])

    x = np.geomspace(_FIRST, _LAST, _ROWS)
    # the boundary layer of a flat plate, f''(0) = 0.332; outside of it Bernoulli's equation holds
    first = np.tanh(0.332 * (1 - radial.radii[:-1]) / np.sqrt(_FIRST))
    first = first / (w @ first)
    begins = np.append(first, (first.max() ** 2 - 1) / 2)
    with np.errstate(all="ignore"):
        found = scipy.integrate.solve_ivp(
            lambda s, y: slopes(np.exp(s), y) * np.exp(s),
            (np.log(x[0]), np.log(x[-1])),
            begins,
            method="BDF",
            t_eval=np.log(x),
            rtol=1e-7,
            atol=1e-9,
        )
    if found.status != 0 or not np.isfinite(found.y).all():
        raise SolveError("the entrance of a laminar flow could not be followed", "velocity", "take it as developed")
    return Developing(
        radial,
        scipy.interpolate.CubicSpline(np.log(x), found.y[:n].T),
        scipy.interpolate.CubicSpline(np.log(x), found.y[n]),
    )
