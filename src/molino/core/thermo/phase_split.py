"""The split of a mixture into vapor and liquid, and its equations."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import scipy

from molino.core.annotations import PlainData
from molino.core.chemistry.heat_capacity import STANDARD_TEMPERATURE
from molino.core.chemistry.species import Species
from molino.core.display import Display
from molino.core.errors import InputError, SolveError
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, entry, frame, plain_dict

COLDEST, _HOTTEST = 100.0, 1500.0
_FIRST_STEP, _NEAR = 5.0, 1e-3
"""In K: the first step of a search, and the one that ends it where the function is undefined."""


@dataclass(frozen=True, eq=False)
class PhaseSplit(Frozen, Result):
    """A mixture as vapor and liquid.

    Attributes
    ----------
    names : tuple of str
    T, P : float
        In K and Pa.
    vapor_fraction : float
        Of the amount: 0 to 1.
    whole, x, y : arrays, shape (species,)
        Mole fractions overall, of the liquid and of the vapor; for an absent phase those in which it would first appear
        (with a cubic equation those of the whole).
    K : array, shape (species,)
        y/x of each species.
    show : Display
        The units of results.
    liquids : tuple of two arrays, or empty
        Mole fractions of the two liquids into which the liquid splits; `x` is that of both together.
    note : str
        A further point of the same kind, if any.

    Examples
    --------
    >>> light = mo.Species("A", vapor_pressure={"antoine": [4.0, 1200.0, -50.0]})
    >>> heavy = mo.Species("B", vapor_pressure={"antoine": [4.0, 1400.0, -50.0]})
    >>> split = mo.thermo.PhaseEquilibrium([light, heavy]).flash({"A": 0.5, "B": 0.5}, T="370 K", P="1 bar")
    >>> round(split.vapor_fraction, 3), round(split.fractions("gas")["A"], 3)
    (0.222, 0.758)
    """

    names: tuple[str, ...]
    T: float
    P: float
    vapor_fraction: float
    whole: np.ndarray
    x: np.ndarray
    y: np.ndarray
    K: np.ndarray
    show: Display
    liquids: tuple[np.ndarray, ...] = ()
    note: str = ""

    def fractions(self, phase: str) -> dict[str, float]:
        """Mole fractions by species in the "liquid" or the "gas"."""
        if phase not in ("liquid", "gas"):
            raise InputError(f"'{phase}' is not a phase here", "phase", "give 'liquid' or 'gas'")
        return dict(zip(self.names, (self.x if phase == "liquid" else self.y).tolist(), strict=True))

    def table(self) -> Table:
        """One row per species: mole fractions of the whole, the liquid and the gas, and K."""
        two = {f"liquid {n}": x for n, x in enumerate(self.liquids, 1)}
        return frame(
            {"species": self.names, "overall": self.whole, "liquid": self.x, **two, "gas": self.y, "K = y/x": self.K}
        )

    def to_dict(self) -> PlainData:
        """Plain data: T, P, the vapor fraction, mole fractions."""
        rows = zip(self.names, self.whole, self.x, self.y, strict=True)
        return plain_dict(
            {
                "temperature": entry(self.show, self.T, "temperature"),
                "pressure": entry(self.show, self.P, "pressure"),
                "vapor_fraction": self.vapor_fraction,
                "note": self.note,
                "liquids": [dict(zip(self.names, x.tolist(), strict=True)) for x in self.liquids],
                "fractions": {s: {"overall": z, "liquid": x, "gas": y} for s, z, x, y in rows},
            }
        )

    def __str__(self) -> str:
        at = f"{self.show.text(self.T, 'temperature', 5)} and {self.show.text(self.P, 'pressure')}"
        table = self.table().to_string(index=False, float_format="{:.5g}".format)
        two = ", the liquid splits in two" if self.liquids else ""
        note = f"\n{self.note}" if self.note else ""
        return f"vapor fraction {self.vapor_fraction:.4g} at {at}{two}\n{table}{note}"


def rise_of(one: Species) -> Callable[[float], float]:
    import sympy as sp

    from molino.core.chemistry.heat_capacity import Below

    T = sp.Symbol("T", positive=True)
    Cp = one.require("heat_capacity", "an adiabatic flash")
    rise = Cp.enthalpy(T)
    start = float(rise.xreplace({T: sp.Float(STANDARD_TEMPERATURE)})) if Cp.seven else 0.0
    function = sp.lambdify([T], rise, [{"Below": Below.columns}, "numpy"])
    return lambda kelvin: float(function(kelvin)) - start


def rachford_rice(z: np.ndarray, K: np.ndarray) -> tuple[float, np.ndarray, np.ndarray]:
    """The vapor fraction between 0 and 1, and both compositions; for an absent phase that in which it would appear."""
    there = z > 0

    def off(share: float) -> float:
        return float((z[there] * (K[there] - 1) / (1 + share * (K[there] - 1))).sum())

    if off(0.0) <= 0:
        y = z * K
        return 0.0, z, y / y.sum()
    if off(1.0) >= 0:
        x = np.where(there, z / np.where(there, K, 1.0), 0.0)
        return 1.0, x / x.sum(), z
    share = float(scipy.optimize.brentq(off, 0.0, 1.0, xtol=1e-15, rtol=1e-14))
    x = z / (1 + share * (K - 1))
    y = K * x
    return share, x / x.sum(), y / y.sum()


def ratios(y: np.ndarray, x: np.ndarray) -> np.ndarray:
    """y/x, one for an absent species."""
    return np.where(x > 0, y, 1.0) / np.where(x > 0, x, 1.0)


def bracketed(off: Callable[[float], float], start: float) -> float:
    """The root of a function that increases with temperature, searched outwards from a start."""

    def tried(T: float) -> float | None:
        try:
            return off(T)
        except SolveError:
            return None

    here, value, step = start, tried(start), _FIRST_STEP
    while value is None and step < _HOTTEST:  # below and above in turn, until a value exists
        nearby = [T for T in (start - step, start + step) if COLDEST <= T <= _HOTTEST]
        here, value = next(((T, v) for T in nearby if (v := tried(T)) is not None), (start, None))
        step *= 1.5
    step = _FIRST_STEP
    while value is not None and step > _NEAR:
        if value == 0:
            return here
        way = step if value < 0 else -step
        there = min(max(here + way, COLDEST), _HOTTEST)
        further = tried(there)
        if further is not None and further * value <= 0:
            return float(scipy.optimize.brentq(off, *sorted((here, there)), xtol=1e-12, rtol=1e-14))
        if further is None or there == here:  # undefined there
            step /= 2
        else:
            here, value, step = there, further, 1.5 * step
    message = f"no temperature between {COLDEST:g} and {_HOTTEST:g} K is found"
    raise SolveError(message, "phases", "it may lie beyond the critical point: try another pressure")
