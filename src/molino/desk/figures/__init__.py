"""Figures: each takes a result and returns a Matplotlib Figure."""

from molino.desk.figures.comparison import comparison
from molino.desk.figures.equations import equations
from molino.desk.figures.fit import fit
from molino.desk.figures.profile import profile

__all__ = ["comparison", "equations", "fit", "profile"]
