"""Figures: each takes a result and returns a Matplotlib Figure."""

from molino.desk.figures.comparison import comparison
from molino.desk.figures.equations import equations
from molino.desk.figures.fit import fit
from molino.desk.figures.orders import orders
from molino.desk.figures.over_temperature import over_temperature
from molino.desk.figures.profile import profile

__all__ = ["comparison", "equations", "fit", "orders", "over_temperature", "profile"]
