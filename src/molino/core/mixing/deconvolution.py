"""The distribution between a measured inlet and a measured outlet."""

from __future__ import annotations

import numpy as np
import scipy

_MOST = 160
"""Largest number of points of the distribution."""
_STRENGTHS = np.geomspace(1e-2, 1e5, 29)


def deconvolved(
    times: np.ndarray, inlet: np.ndarray, outlet: np.ndarray, noise: float, smoothing: float | None
) -> tuple[np.ndarray, np.ndarray, np.ndarray, str]:
    """E(t), not negative, with outlet = inlet * E, by least squares with a penalty on its curvature.

    The weight of the penalty is found by generalised cross-validation of the same problem without the bound (G. H.
    Golub, M. Heath, G. Wahba, Technometrics 21 (1979) 215).

    Parameters
    ----------
    times, inlet, outlet : arrays, shape (points,)
    noise : float
        Standard deviation of the outlet.
    smoothing : float, optional
        The relative weight; found by default.

    Returns
    -------
    grid : array, shape (nodes,)
        Even times in s.
    E : array, shape (nodes,)
    spread : array, shape (nodes, points)
        Changes of E by one standard deviation of each point of the outlet.
    word : str
        The method in words.
    """
    grid = np.linspace(0.0, float(times[-1]), min(_MOST, len(times)))
    matrix = convolution(times, inlet, grid)
    curvature = np.diff(np.eye(len(grid)), 2, axis=0)
    size = float(np.linalg.norm(matrix, 2) ** 2) / float(np.linalg.norm(curvature, 2) ** 2)

    def at(weight: float) -> tuple[np.ndarray, float]:
        root = np.sqrt(weight * size)
        found, _ = scipy.optimize.nnls(
            np.vstack([matrix, root * curvature]),
            np.concatenate([outlet, np.zeros(len(curvature))]),
            maxiter=50 * len(grid),
        )
        return found, float(np.sqrt(np.mean((matrix @ found - outlet) ** 2)))

    how = "as given"
    if smoothing is None:
        smoothing, how = _by_cross_validation(matrix, curvature, size, outlet), "by generalised cross-validation"
    E, left = at(smoothing)
    free = E > 0
    own = matrix[:, free]
    bent = curvature[:, free]
    gain = np.linalg.pinv(own.T @ own + smoothing * size * bent.T @ bent, hermitian=True) @ own.T
    spread = np.zeros((len(grid), len(times)))
    spread[free] = gain * noise
    share = left / float(np.max(outlet))
    word = f"not negative, curvature weighted {smoothing:.1e} {how}; residuals {100 * share:.2g} % of the peak"
    return grid, E, spread, word


def _by_cross_validation(matrix: np.ndarray, curvature: np.ndarray, size: float, outlet: np.ndarray) -> float:
    points, nodes = matrix.shape
    squared, bent = matrix.T @ matrix, size * curvature.T @ curvature
    scores = []
    for weight in _STRENGTHS:
        hat = matrix @ np.linalg.solve(squared + weight * bent + 1e-14 * size * np.eye(nodes), matrix.T)
        scores.append(np.sum((outlet - hat @ outlet) ** 2) / (points - np.trace(hat)) ** 2)
    return float(_STRENGTHS[int(np.argmin(scores))])


def convolution(times: np.ndarray, inlet: np.ndarray, grid: np.ndarray) -> np.ndarray:
    """The matrix from E at even nodes (linear between them) to the outlet at the times."""
    step = float(grid[1] - grid[0])
    fine = 6  # points of quadrature to each interval, by Simpson's rule
    inside = np.linspace(0.0, 1.0, fine + 1)
    weights = np.ones(fine + 1)
    weights[1:-1:2], weights[2:-1:2] = 4.0, 2.0
    weights *= step / (3 * fine)
    found, curve = np.zeros((len(times), len(grid))), scipy.interpolate.CubicSpline(times, inlet)
    for u, w in zip(inside, weights, strict=True):
        late = times[:, None] - (grid[:-1] + u * step)[None, :]
        came = np.where(late >= 0, curve(np.maximum(late, 0.0)), 0.0)
        found[:, :-1] += w * (1 - u) * came
        found[:, 1:] += w * u * came
    return found
