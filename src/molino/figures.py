"""Figures: each takes a result and returns a Matplotlib figure."""

from molino.desk.figures import *  # noqa: F403
from molino.desk.figures import __all__ as __all__
