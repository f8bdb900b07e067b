"""A tracer in a laminar tube: its transform, its moments and its curve."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
import scipy

from molino.core.checks import Check, require_passed
from molino.core.errors import InputError
from molino.core.fields.laminar_specification import LaminarTubeFields
from molino.core.fields.radial import radial
from molino.core.mixing.distribution import RINGING, ResidenceTimeDistribution
from molino.core.mixing.flow_models import LaminarFlow
from molino.core.mixing.inversion import FEW, inverted
from molino.core.units import QuantityLike

_TRACER_NODES, _TRACER_TIMES = (16, 24, 36, 54), 101
"""Numbers of nodes across for a tracer, tried in turn until its curve no longer changes, and the points of the
curve."""
_AT_ONCE = 2_000_000
"""Elements of the matrices whose exponentials are computed in one call."""
_AGREE, _EVERY = 0.02, 5
"""Largest difference of two such curves, relative to the peak, at every fifth point, for which the finer one is
accepted."""
_NARROW = 2.0
"""Variance over the square of the mean above which the tail of a tracer is not computed."""
_FAR, _UNIT_NODES = 20.0, 40
"""Exponents up to which integrals of exponentials are by quadrature, where closed forms would lose digits."""


class LaminarTracer:
    """A pulse of tracer in a laminar tube.

    Parameters
    ----------
    tube : LaminarTubeFields
    diffusivity : diffusivity, optional
        Of the tracer; the largest of the species if omitted.
    """

    def __init__(self, tube: LaminarTubeFields, diffusivity: QuantityLike | None) -> None:
        self.tube, self.diffusivity = tube, diffusivity

    def transform(self, s: np.ndarray, nodes: int) -> np.ndarray:
        """The Laplace transform of the outlet after a pulse, of the shape of s (in 1/s)."""
        grid, matrix = radial(self.tube.geometry, nodes), self.tube.spec.spread_of(nodes, self.diffusivity)
        flat, cup = np.asarray(s, dtype=complex).ravel(), grid.weights * grid.developed
        slowness, found = np.diag(1 / (self.tube.spec.velocity * grid.developed)), []
        for part in np.array_split(flat, 1 + len(flat) * nodes**2 // _AT_ONCE):
            steps = matrix[None] + part[:, None, None] * slowness[None]
            found.append(scipy.linalg.expm(-steps * float(self.tube.length.si)).sum(axis=2) @ cup)
        return np.concatenate(found).reshape(np.shape(s))

    def moments(self, nodes: int) -> np.ndarray:
        """Mean, second and third moment about the mean, in s, s^2 and s^3; see `LaminarTube.tracer_moments`."""
        grid, length = radial(self.tube.geometry, nodes), float(self.tube.length.si)
        root = np.sqrt(grid.weights * grid.developed)
        decay, vectors = np.linalg.eigh(root[:, None] * self.tube.spec.spread_of(nodes, self.diffusivity) / root)
        x = np.maximum(decay[1:], 0.0) * length  # the first is the uniform profile, which does not decay
        slowness = length / (self.tube.spec.velocity * grid.developed)
        mean = length / self.tube.spec.velocity
        if not x[0] > 0:
            return np.array([mean, math.inf, math.inf])
        coupled = vectors[:, 1:].T @ ((slowness - mean)[:, None] * vectors[:, 1:])
        a = vectors[:, 1:].T @ (slowness * root)
        variance = 2 * a**2 @ _twice_integrated(x)
        return np.array([mean, variance, 6 * float(a @ (coupled * _convolved(x)) @ a)])

    def pulse(self, times: np.ndarray, nodes: int) -> tuple[np.ndarray, np.ndarray]:
        """E and F at times from zero, from the inversion."""
        held: list[np.ndarray] = []

        def transform(s: np.ndarray) -> np.ndarray:
            held.append(self.transform(s, nodes))
            return held[0]

        E = inverted(transform, times[1:], FEW)
        F = inverted(lambda s: held[0] / s, times[1:], FEW)
        return np.append(0.0, E), np.append(0.0, F)

    def nodes_for(self, times: np.ndarray) -> tuple[int, float]:
        """The number of nodes across with which E no longer changes, and its largest difference from that of the number
        before, relative to its peak."""
        some = times[::_EVERY]
        before = self.pulse(some, _TRACER_NODES[0])[0]
        for nodes in _TRACER_NODES[1:]:
            E = self.pulse(some, nodes)[0]
            apart = float(np.max(np.abs(E - before)) / np.max(E))
            if apart <= _AGREE:
                break
            before = E
        return nodes, apart

    def distribution(self, progress: Callable[[float], None] | None) -> ResidenceTimeDistribution:
        """The residence time distribution; see `LaminarTube.distribution`."""
        tau = self.tube.spec.volume / float(self.tube.spec.plug.spec.fed.volume)
        mean, variance, third = self.moments(_TRACER_NODES[-1])
        if not variance < _NARROW * tau**2:
            if self.tube.geometry == "pipe":
                return LaminarFlow().distribution(tau, self.tube.show)
            message = "the diffusion is so small that almost no tracer leaves the wall, and the tail has no end"
            raise InputError(message, self.tube.label, "give the tracer a diffusivity, or take a longer tube")
        times = np.linspace(0.0, mean + 8 * math.sqrt(variance), _TRACER_TIMES)
        nodes, apart = self.nodes_for(times)
        where = f"{self.tube.label}, residence times"
        advice = "give more diffusion, or use the closed form mo.mixing.LaminarFlow() for a pipe"
        settled = Check(
            "E on fewer nodes", apart, _AGREE, f"the largest difference, of the peak, from those before {nodes}"
        )
        require_passed([settled], where, advice)
        E, F = self.pulse(times, nodes)
        lowest = max(-float(E.min() / E.max()), 0.0)
        if progress is not None:
            progress(1.0)
        verified = (settled, Check("E not negative", lowest, RINGING, "the curve as it was computed"))
        require_passed(verified, where, advice)
        F = np.maximum.accumulate(np.clip(F, 0.0, 1.0))
        E = np.where((F > 1e-6) & (F < 1 - 1e-9), np.maximum(E, 0.0), 0.0)
        raw = np.array([mean, variance + mean**2, third + 3 * mean * variance + mean**3])
        notes = {"from": f"the transform of a pulse through the {self.tube.geometry}, {nodes} nodes across"}
        rate = float(E[-1] / (1 - F[-1])) if F[-1] < 1 - 1e-9 else math.nan
        return ResidenceTimeDistribution(
            times,
            E,
            F,
            raw,
            rate,
            self.tube.spec.plug.volume,
            self.tube.feed.flow,
            notes=notes,
            display=self.tube.spec.display,
            verified=verified,
        )


def _twice_integrated(x: np.ndarray) -> np.ndarray:
    """The integral of (1 - exp(-x y))/x over y from 0 to 1."""
    y, w = _unit_quadrature()
    far = np.maximum(x, _FAR)
    return np.asarray(np.where(x > _FAR, (far + np.expm1(-far)) / far**2, _risen(np.minimum(x, _FAR), y) @ w))


def _convolved(x: np.ndarray) -> np.ndarray:
    """The integral over y from 0 to 1 of g_i(1 - y) g_j(y) with g_i(y) = (1 - exp(-x_i y))/x_i, shape (x, x)."""
    y, w = _unit_quadrature()
    near = np.minimum(x, _FAR)
    small = (_risen(near, 1 - y) * w) @ _risen(near, y).T
    far = np.maximum(x, 1e-300)
    i, j = far[:, None], far[None]
    high, low = np.maximum(i, j), np.minimum(i, j)
    gap = high - low
    apart = np.exp(-low) * np.where(gap > 1e-8, -np.expm1(-gap) / np.maximum(gap, 1e-300), 1.0)
    closed = (1 + np.expm1(-i) / i + np.expm1(-j) / j + apart) / (i * j)
    return np.asarray(np.where(high > _FAR, closed, small))


def _risen(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """(1 - exp(-x y))/x, shape (x, y)."""
    some = np.maximum(x, 1e-300)[:, None]
    return np.asarray(-np.expm1(-some * y) / some)


def _unit_quadrature() -> tuple[np.ndarray, np.ndarray]:
    y, w = scipy.special.roots_legendre(_UNIT_NODES)
    return (y + 1) / 2, w / 2
