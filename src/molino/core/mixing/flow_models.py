"""Flow models, defined by their transfer functions.

The outlet of a tracer is G(s) times the inlet, in the Laplace transform; E(t) is the inverse of G, F(t) that of G/s,
the moments are the derivatives of ln G at zero, and the conversion of a first-order reaction is 1 - G(k). Closed forms
are used where they exist.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

import numpy as np
import scipy

from molino.core.errors import Faults
from molino.core.mixing.flow_model import FlowModel, Range
from molino.core.schema import QuantityField, option, quantity

_CLOSE = 1e-9


@dataclass(frozen=True, eq=False)
class TanksInSeries(FlowModel):
    """Equal mixed tanks in series; their number may be fractional.

    E = (n/tau)^n t^(n-1) exp(-n t/tau)/Gamma(n) (B. A. Buffham, L. G. Gibilaro, AIChE J. 14 (1968) 805).

    Parameters
    ----------
    n : number, optional
        Number of tanks; by default found by a fit.

    Raises
    ------
    InputError
        If there are too few or too many.

    Examples
    --------
    >>> round(mo.mixing.TanksInSeries(2).conversion("0.1 1/min", "10 min"), 6)
    0.555556
    """

    noun: ClassVar[str] = "tanks in series"
    ranges: ClassVar[Mapping[str, Range]] = {"n": Range(0.3, 500.0, (1.0, 3.0, 10.0, 40.0), "number of tanks")}
    n: QuantityField = quantity("number")

    def __post_init__(self) -> None:
        self._check(Faults())

    def _transfer(self, s: np.ndarray, mean: float) -> np.ndarray:
        n = self.number("n")
        return np.asarray(np.exp(-n * np.log(1 + s * mean / n)))

    def E(self, times: np.ndarray, mean: float) -> np.ndarray:
        """E(t) in 1/s."""
        n = self.number("n")
        x = np.asarray(times) * n / mean
        return np.asarray(np.exp((n - 1) * np.log(x) - x - scipy.special.gammaln(n)) * n / mean)

    def F(self, times: np.ndarray, mean: float) -> np.ndarray:
        """F(t)."""
        n = self.number("n")
        return np.asarray(scipy.special.gammainc(n, np.asarray(times) * n / mean))


BOUNDARIES = ("closed", "closed-open", "open")


@dataclass(frozen=True, eq=False)
class AxialDispersion(FlowModel):
    """Plug flow with axial dispersion.

    With Pe = u L/D and q = sqrt(1 + 4 s tau/Pe), for a vessel that is closed (no dispersion across its ends), open
    beyond its outlet, or open at both ends (tracer put into and seen in the stream)

        G = 4 q exp(Pe (1 - q)/2)/((1 + q)^2 - (1 - q)^2 exp(-q Pe)),
        G = 2 exp(Pe (1 - q)/2)/(1 + q),   G = exp(Pe (1 - q)/2)/q

    (E. T. van der Laan, Chem. Eng. Sci. 7 (1958) 187; O. Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999,
    chapter 13).

    Parameters
    ----------
    peclet : number, optional
        u L/D; by default found by a fit.
    boundaries : "closed", "closed-open" or "open"

    Raises
    ------
    InputError
        If the number is out of bounds, or the boundaries are unknown.

    Examples
    --------
    >>> round(mo.mixing.AxialDispersion(20).conversion("0.1 1/min", "10 min"), 4)
    0.6158
    """

    noun: ClassVar[str] = "axial dispersion"
    ranges: ClassVar[Mapping[str, Range]] = {"peclet": Range(1e-3, 1e4, (1.0, 5.0, 20.0, 100.0), "u L/D")}
    peclet: QuantityField = quantity("number")
    boundaries: str = option("closed", BOUNDARIES)

    def __post_init__(self) -> None:
        self._check(Faults())

    def _transfer(self, s: np.ndarray, mean: float) -> np.ndarray:
        Pe = self.number("peclet")
        q = np.sqrt(1 + 4 * s * mean / Pe)
        passed = np.exp(-2 * s * mean / (1 + q))  # Pe (1 - q)/2, without the loss of digits
        if self.boundaries == "open":
            return np.asarray(passed / q)
        if self.boundaries == "closed-open":
            return np.asarray(2 * passed / (1 + q))
        return np.asarray(4 * q * passed / ((1 + q) ** 2 - (1 - q) ** 2 * np.exp(-q * Pe)))

    @property
    def _sharpness(self) -> float:
        return self.number("peclet") / 2

    def __str__(self) -> str:
        text = self._given_text()
        return f"{self.noun}, {self.boundaries}" + (f", {text}" if text else "")


@dataclass(frozen=True, eq=False)
class LaminarFlow(FlowModel):
    """Laminar flow in a pipe without diffusion: E = tau^2/(2 t^3) for t >= tau/2 (K. G. Denbigh, J. Appl. Chem. 1
    (1951) 227).

    Examples
    --------
    >>> round(mo.mixing.LaminarFlow().conversion("0.1 1/min", "10 min"), 4)
    0.5568
    """

    noun: ClassVar[str] = "laminar flow"

    def _transfer(self, s: np.ndarray, mean: float) -> np.ndarray:
        x = s * mean / 2
        small = np.abs(x) < _CLOSE
        z = np.where(small, 1.0, x)
        far = np.abs(z) > 60
        w = np.where(far, 1.0, z)
        third = 0.5 * (np.exp(-w) * (1 - w) + w**2 * scipy.special.exp1(w))  # E_3
        asymptotic = np.exp(-z) / z * (1 - 3 / z + 12 / z**2 - 60 / z**3 + 360 / z**4 - 2520 / z**5)
        return np.where(small, 1 - 2 * x, 2 * np.where(far, asymptotic, third))

    def E(self, times: np.ndarray, mean: float) -> np.ndarray:
        """E(t) in 1/s."""
        t = np.asarray(times)
        return np.where(t < mean / 2, 0.0, mean**2 / (2 * np.maximum(t, mean / 2) ** 3))

    def F(self, times: np.ndarray, mean: float) -> np.ndarray:
        """F(t)."""
        t = np.asarray(times)
        return np.where(t < mean / 2, 0.0, 1 - mean**2 / (4 * np.maximum(t, mean / 2) ** 2))

    def cumulants(self, mean: float) -> np.ndarray:
        """The mean; variance and third moment are infinite."""
        return np.array([mean, math.inf, math.inf])

    def _times(self, mean: float) -> np.ndarray:
        begin = mean / 2  # E has a step here
        return np.concatenate([[0.0, np.nextafter(begin, 0.0)], begin * np.geomspace(1.0, 200.0, 600)])


@dataclass(frozen=True, eq=False)
class TankWithDeadZone(FlowModel):
    """A mixed tank with a dead zone and a by-pass.

    G = b + (1 - b)/(1 + s a tau/(1 - b)), with the mixed fraction a of the volume and the by-pass b (A. Cholette, L.
    Cloutier, Can. J. Chem. Eng. 37 (1959) 105). `mean` is the space time of the whole vessel.

    Parameters
    ----------
    active : number, optional
        Mixed fraction of the volume; by default found by a fit.
    bypass : number, optional
        By-passed fraction of the flow; by default found by a fit.

    Raises
    ------
    InputError
        If a fraction is invalid.

    Examples
    --------
    >>> round(mo.mixing.TankWithDeadZone(0.8, 0.1).conversion("0.1 1/min", "10 min"), 4)
    0.4235
    """

    noun: ClassVar[str] = "tank with dead zone and by-pass"
    ranges: ClassVar[Mapping[str, Range]] = {
        "active": Range(0.02, 1.0, (0.9, 0.6), "mixed fraction of the volume", True),
        "bypass": Range(0.0, 0.95, (0.05, 0.3), "by-passed fraction of the flow", True),
    }
    active: QuantityField = quantity("number")
    bypass: QuantityField = quantity("number", sign="nonnegative")

    def __post_init__(self) -> None:
        self._check(Faults())

    @property
    def bypassed(self) -> float:
        """The fraction that leaves at once."""
        return self.number("bypass")

    def _transfer(self, s: np.ndarray, mean: float) -> np.ndarray:
        b = self.number("bypass")
        return np.asarray(b + (1 - b) / (1 + s * mean * self.number("active") / (1 - b)))


@dataclass(frozen=True, eq=False)
class StagnantZones(FlowModel):
    """Tanks in series, each in exchange with a stagnant zone.

    G = (1 + a x + K (1 - a) x/((1 - a) x + K))^-n with x = s tau/n, the active fraction a of the volume, and K the
    exchange of each tank over the flow (H. A. Deans, SPE J. 3 (1963) 49; R. J. Adler, R. B. Hovorka, JACC Preprints
    1961, 3).

    Parameters
    ----------
    n : number, optional
        Number of tanks.
    active : number, optional
        Active fraction of the volume.
    exchange : number, optional
        Flow of exchange of a tank over the flow.

    Raises
    ------
    InputError
        If a number is out of bounds.

    Examples
    --------
    >>> round(mo.mixing.StagnantZones(5, 0.8, 0.1).distribution("10 min").relative_variance, 4)
    0.36
    """

    noun: ClassVar[str] = "exchange with stagnant zones"
    ranges: ClassVar[Mapping[str, Range]] = {
        "n": Range(0.5, 200.0, (2.0, 10.0), "number of tanks"),
        "active": Range(0.05, 1.0, (0.8,), "active fraction of the volume", True),
        "exchange": Range(1e-4, 100.0, (0.1, 1.0), "flow of exchange over the flow"),
    }
    n: QuantityField = quantity("number")
    active: QuantityField = quantity("number")
    exchange: QuantityField = quantity("number")

    def __post_init__(self) -> None:
        self._check(Faults())

    def _transfer(self, s: np.ndarray, mean: float) -> np.ndarray:
        n, a, K = (self.number(name) for name in ("n", "active", "exchange"))
        x = s * mean / n
        return np.asarray(np.exp(-n * np.log(1 + a * x + K * (1 - a) * x / ((1 - a) * x + K))))


@dataclass(frozen=True, eq=False)
class Recycle(FlowModel):
    """Tanks in series with a recycle around them: G = g/(1 + R - R g), g = (1 + s tau/(n (1 + R)))^-n (J. C.
    Mecklenburgh, S. Hartland, The Theory of Backmixing, 1975, chapter 6).

    Parameters
    ----------
    ratio : number, optional
        Returned flow over flow through the vessel.
    n : number, optional
        Number of tanks.

    Raises
    ------
    InputError
        If a number is out of bounds.

    Examples
    --------
    >>> round(mo.mixing.Recycle(2, 20).conversion("0.1 1/min", "10 min"), 4)
    0.5403
    """

    noun: ClassVar[str] = "recycle"
    ranges: ClassVar[Mapping[str, Range]] = {
        "ratio": Range(1e-3, 100.0, (0.3, 2.0), "returned flow over flow through the vessel"),
        "n": Range(0.5, 300.0, (3.0, 20.0), "number of tanks"),
    }
    ratio: QuantityField = quantity("number", sign="nonnegative")
    n: QuantityField = quantity("number")

    def __post_init__(self) -> None:
        self._check(Faults())

    def _transfer(self, s: np.ndarray, mean: float) -> np.ndarray:
        R, n = self.number("ratio"), self.number("n")
        g = np.exp(-n * np.log(1 + s * mean / (n * (1 + R))))
        return np.asarray(g / (1 + R - R * g))


def common_models() -> list[FlowModel]:
    """The models that a test is compared with by default."""
    return [
        TanksInSeries(),
        AxialDispersion(),
        AxialDispersion(boundaries="open"),
        LaminarFlow(),
        TankWithDeadZone(),
        StagnantZones(),
        Recycle(),
    ]
