"""The grid of a rectangle: lines that meet every end of an opening and every inner wall."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np


def lines_through(marks: Sequence[float], count: int, grading: float) -> np.ndarray:
    """Lines from the first mark to the last, through each, with an even number of cells between two.

    Parameters
    ----------
    marks : rising numbers
    count : int
        Approximate number of cells: each section has at least two.
    grading : float
        Ratio of the widths of cells in the middle and at the ends of a section.
    """
    ends = np.unique(np.round(np.asarray(marks, dtype=float), 12))
    shares = np.diff(ends) / (ends[-1] - ends[0])
    found = [ends[:1]]
    bend = (grading - 1) / (grading + 1)
    for a, b, share in zip(ends[:-1], ends[1:], shares, strict=True):
        n = max(2 * round(share * count / 2), 2)
        s = np.arange(1, n + 1) / n
        found.append(a + (b - a) * (s - bend * np.sin(2 * np.pi * s) / (2 * np.pi)))
        found[-1][-1] = b
    return np.concatenate(found)


@dataclass(frozen=True, eq=False)
class Grid:
    """A grid of rectangles: nodes at the crossings of lines, faces between nodes, cells between lines.

    Arrays over nodes have shape (nx + 1, ny + 1), over cells (nx, ny), over the faces normal to x (nx + 1, ny), normal
    to y (nx, ny + 1).

    Attributes
    ----------
    x, y : array
        The lines, in m.
    """

    x: np.ndarray
    y: np.ndarray

    @property
    def nx(self) -> int:
        return len(self.x) - 1

    @property
    def ny(self) -> int:
        return len(self.y) - 1

    @property
    def cells(self) -> int:
        return self.nx * self.ny

    @cached_property
    def dx(self) -> np.ndarray:
        return np.diff(self.x)

    @cached_property
    def dy(self) -> np.ndarray:
        return np.diff(self.y)

    @cached_property
    def middle(self) -> tuple[np.ndarray, np.ndarray]:
        """Middles of the cells along x and along y."""
        return (self.x[1:] + self.x[:-1]) / 2, (self.y[1:] + self.y[:-1]) / 2

    @cached_property
    def areas(self) -> np.ndarray:
        """Of the cells, shape (nx, ny)."""
        return np.outer(self.dx, self.dy)

    @cached_property
    def wide(self) -> tuple[np.ndarray, np.ndarray]:
        """The width of each line: half of the cells on either side, along x and along y."""
        return _wide(self.dx), _wide(self.dy)

    @cached_property
    def coarse(self) -> Grid:
        """Every second line."""
        return Grid(self.x[::2], self.y[::2])


def _wide(d: np.ndarray) -> np.ndarray:
    return np.concatenate([[d[0]], d[:-1] + d[1:], [d[-1]]]) / 2
