"""Profiles across a pipe or slit: polynomials in the square of the distance from the axis.

With x = (r/R)^2 (in a slit (y/h)^2 of the half gap h) every even profile is a polynomial in x. The nodes are those of
the Gauss quadrature of the cross-section (of Jacobi: dx in a pipe, dx/(2 sqrt(x)) in a slit) and the wall; sums over
them are exact for polynomials of twice the degree (C. Canuto et al., Spectral Methods: Fundamentals in Single Domains,
2006, chapter 2). The weak form of the diffusion term is conservative to rounding.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np
import scipy

GEOMETRIES = ("pipe", "slit")
MOST_VELOCITY = {"pipe": 2.0, "slit": 1.5}
"""The velocity at the axis over the mean, developed."""


@dataclass(frozen=True)
class Radial:
    """Nodes across half of a pipe or slit; lengths are in radii (half gaps), areas in cross-sections.

    Attributes
    ----------
    geometry : 'pipe' or 'slit'
    count : int
        Nodes inside; one more is on the wall.
    """

    geometry: str
    count: int

    @cached_property
    def _quadrature(self) -> tuple[np.ndarray, np.ndarray]:
        x, w = scipy.special.roots_jacobi(self.count, 0.0, 0.0 if self.geometry == "pipe" else -0.5)
        return (x + 1) / 2, w / w.sum()

    @property
    def x(self) -> np.ndarray:
        """(r/R)^2 of the nodes inside, shape (count,)."""
        return self._quadrature[0]

    @property
    def weights(self) -> np.ndarray:
        """Fractions of the cross-section, shape (count,)."""
        return self._quadrature[1]

    @property
    def radii(self) -> np.ndarray:
        """r/R of the nodes inside, and of the wall, shape (count + 1,)."""
        return np.append(np.sqrt(self.x), 1.0)

    @property
    def developed(self) -> np.ndarray:
        """Developed velocity over its mean at the nodes inside."""
        return MOST_VELOCITY[self.geometry] * (1 - self.x)

    @property
    def wall_per_area(self) -> float:
        """Wall per cross-section, times the radius: 2 for a pipe, 1 for a slit."""
        return 2.0 if self.geometry == "pipe" else 1.0

    @cached_property
    def slopes(self) -> np.ndarray:
        """d/dx at the nodes inside of the polynomials through all nodes, shape (count, count + 1)."""
        x = np.append(self.x, 1.0)
        away = x[:, None] - x[None]
        np.fill_diagonal(away, 1.0)
        logs = np.log(np.abs(away)).sum(axis=1)
        signs = np.prod(np.sign(away), axis=1)
        ratio = (signs[:, None] * signs[None]) * np.exp(logs[:, None] - logs[None])
        found = ratio / away
        np.fill_diagonal(found, 0.0)
        np.fill_diagonal(found, -found.sum(axis=1))
        return np.asarray(found[:-1])

    @cached_property
    def stiffness(self) -> np.ndarray:
        """Weak form of the diffusion term, shape (count + 1, count + 1): K c is the diffusive flow away from each
        node."""
        return np.asarray(4 * self.slopes.T @ ((self.weights * self.x)[:, None] * self.slopes))

    @cached_property
    def sealed(self) -> np.ndarray:
        """The same inside for an impermeable wall, shape (count, count)."""
        K = self.stiffness
        return np.asarray(K[:-1, :-1] - np.outer(K[:-1, -1], K[-1, :-1]) / K[-1, -1])

    @cached_property
    def density(self) -> np.ndarray:
        """Fraction of the cross-section per x at the nodes inside."""
        return np.ones(self.count) if self.geometry == "pipe" else 0.5 / np.sqrt(self.x)

    @cached_property
    def up_to(self) -> np.ndarray:
        """Integrals over the cross-section from the axis to each node inside, shape (count, count + 1)."""
        t, w = scipy.special.roots_legendre(self.count + 2)
        t, w = (t + 1) / 2, w / 2
        nodes = np.append(self.x, 1.0)
        found = np.empty((self.count, self.count + 1))
        for i, end in enumerate(self.x):
            at, share = (end * t, end * w) if self.geometry == "pipe" else (end * t**2, np.sqrt(end) * w)
            found[i] = share @ scipy.interpolate.BarycentricInterpolator(nodes, np.eye(self.count + 1))(at)
        return found

    def at(self, values: np.ndarray, radii: np.ndarray) -> np.ndarray:
        """Profiles of shape (..., count + 1) at other distances from the axis, shape (..., radii)."""
        nodes = np.append(self.x, 1.0)
        matrix = scipy.interpolate.BarycentricInterpolator(nodes, np.eye(self.count + 1))(radii**2)
        return np.asarray(values @ matrix.T)


@lru_cache(maxsize=64)
def radial(geometry: str, count: int) -> Radial:
    """Nodes across a pipe or slit, made once."""
    return Radial(geometry, count)
