"""The base of the flow models."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import ClassVar, Self

import numpy as np

from molino.core import units
from molino.core.display import Display
from molino.core.errors import Faults, InputError
from molino.core.frozen import Frozen
from molino.core.mixing.distribution import ResidenceTimeDistribution
from molino.core.mixing.inversion import FEW, MANY, inverted
from molino.core.printing import Printed
from molino.core.schema import read_fields
from molino.core.units import Value

_CIRCLE = 32
"""Points of the circle on which the derivatives of ln G at zero are computed (Cauchy's formula)."""
_NARROW = 12.0
"""Number of tanks in series above which the inversion takes many terms."""


@dataclass(frozen=True)
class Range:
    """A parameter of a model: its bounds, its first guess, and its name."""

    low: float
    high: float
    guesses: tuple[float, ...]
    text: str
    is_share: bool = False
    """Whether it is fitted linearly between its bounds; otherwise by its logarithm."""


class FlowModel(Frozen, Printed):
    """Base of the models: parameters are given, or None and found by a fit."""

    noun: ClassVar[str]
    ranges: ClassVar[Mapping[str, Range]] = {}
    """The parameters that a fit can find."""

    def transfer(self, s: np.ndarray, mean: float) -> np.ndarray:
        """G(s) with a space time of the active volume, in s; InputError if a parameter is unknown."""
        self._require_known()
        return self._transfer(np.asarray(s, dtype=complex), mean)

    def _transfer(self, s: np.ndarray, mean: float) -> np.ndarray:
        raise NotImplementedError

    def _check(self, faults: Faults) -> None:
        read_fields(self, faults, self.noun)
        for name, known in self.free_ranges().items():
            value = getattr(self, name, None)
            if isinstance(value, Value) and not known.low <= value.si <= known.high:
                faults.add(self.noun, f"{name} = {value}", f"give a number from {known.low:g} to {known.high:g}")
        faults.raise_any()

    def free_ranges(self) -> Mapping[str, Range]:
        return self.ranges

    @property
    def unknown(self) -> tuple[str, ...]:
        """The parameters that are not given."""
        return tuple(name for name in self.free_ranges() if getattr(self, name) is None)

    def with_numbers(self, numbers: Mapping[str, float]) -> Self:
        return replace(self, **{name: Value(value, "") for name, value in numbers.items()})  # type: ignore[type-var]

    def number(self, name: str) -> float:
        return float(getattr(self, name).si)

    def _require_known(self) -> None:
        if self.unknown:
            message = f"{' and '.join(self.unknown)} of the model are unknown"
            raise InputError(
                message, self.noun, "give them, or fit them to a test: mo.mixing.fit_flow_models(test, [...])"
            )

    @property
    def bypassed(self) -> float:
        """The fraction that leaves at once."""
        return 0.0

    @property
    def _terms(self) -> int:
        """The number of terms of its inversion, by the width of its narrowest peak."""
        return MANY if self._sharpness > _NARROW else FEW

    @property
    def _sharpness(self) -> float:
        """The number of tanks in series with the width of its narrowest peak."""
        return self.number("n") if "n" in self.free_ranges() else 1.0

    def E(self, times: np.ndarray, mean: float) -> np.ndarray:
        """E(t) in 1/s at times above zero, without the fraction that leaves at once."""
        return np.asarray(
            np.maximum(inverted(lambda s: self._transfer(s, mean) - self.bypassed, times, self._terms), 0.0)
        )

    def F(self, times: np.ndarray, mean: float) -> np.ndarray:
        """F(t) at times above zero."""
        return inverted(lambda s: self._transfer(s, mean) / s, times, self._terms)

    def cumulants(self, mean: float) -> np.ndarray:
        """Mean, variance and third moment about the mean in s, s^2, s^3: derivatives of ln G at s = 0."""
        radius = 0.02 / mean
        angle = np.exp(2j * np.pi * np.arange(_CIRCLE) / _CIRCLE)
        logs = np.log(self._transfer(radius * angle, mean))
        found = [math.factorial(k) * np.mean(logs * angle**-k).real / radius**k for k in (1, 2, 3)]
        return np.array([-found[0], found[1], -found[2]])

    def conversion(self, rate_constant: object, mean: object) -> float:
        """Conversion of a first-order reaction, 1 - G(k): exact.

        Parameters
        ----------
        rate_constant : quantity
            "0.2 1/min".
        mean : time
            Space time of the active volume.

        Raises
        ------
        InputError
            If a parameter of the model is unknown, or an argument is invalid.
        """
        k = units.positive(rate_constant, "transfer coefficient", "rate_constant", zero=True).si
        tau = units.positive(mean, "time", "mean").si
        return float(1 - self.transfer(np.array([k]), tau)[0].real)

    def distribution(self, mean: object, show: Mapping[str, str] | None = None) -> ResidenceTimeDistribution:
        """Its residence time distribution.

        Parameters
        ----------
        mean : time
            Space time of the active volume.
        show : mapping of kind to unit, optional

        Raises
        ------
        InputError
            If a parameter of the model is unknown, or the mean is invalid.
        """
        self._require_known()
        tau = units.positive(mean, "time", "mean")
        one, two, three = self.cumulants(tau.si)
        raw = np.array([one, two + one**2, three + 3 * one * two + one**3])
        times = self._times(tau.si)
        E = np.concatenate([[0.0], np.maximum(self.E(times[1:], tau.si), 0.0)])
        F = np.maximum.accumulate(np.concatenate([[self.bypassed], np.clip(self.F(times[1:], tau.si), 0.0, 1.0)]))
        E[0] = max(2 * E[1] - E[2], 0.0) if E[1] > 0.5 * E.max() else 0.0
        rate = float(E[-1] / max(1 - F[-1], 1e-300)) if F[-1] < 1 else math.nan
        shown = Display.of([("time", tau)], show or {}, True)
        return ResidenceTimeDistribution(times, E, F, raw, rate, notes={"model": str(self)}, display=shown)

    def _times(self, mean: float) -> np.ndarray:
        """The times of E and F in s: from 0 to where almost nothing is left."""
        one, two, _ = self.cumulants(mean)
        last = one + 8 * math.sqrt(two)
        probe = np.linspace(last / 400, last, 400)
        F = np.clip(self.F(probe, mean), 0.0, 1.0)
        return np.linspace(0.0, float(probe[min(int(np.searchsorted(F, 0.9995)), 399)]), 601)

    def _given_text(self) -> str:
        given = [f"{name} {value}" for name in self.free_ranges() if (value := getattr(self, name)) is not None]
        return ", ".join(given)

    def __str__(self) -> str:
        text = self._given_text()
        return f"{self.noun}, {text}" if text else self.noun
