"""The folder in which numba keeps the compiled integrators."""

from __future__ import annotations

from functools import cache
from pathlib import Path

from molino.core import disk_cache


@cache
def folder_of_integrators() -> Path | None:
    """The folder; None where none can be made."""
    return disk_cache.folder_of_code("machine", Path(__file__).parent)


def are_compiled() -> bool:
    """Whether the integrators need only be loaded."""
    folder = folder_of_integrators()
    return folder is not None and any(folder.rglob("*.nbi"))
