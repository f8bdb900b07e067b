"""Vapor pressures of pure species over temperature."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from molino.core import units
from molino.core.dual import Number, log
from molino.core.errors import Faults, InputError
from molino.core.frozen import Frozen, settle
from molino.core.units import QuantityLike


@dataclass(frozen=True, eq=False)
class VaporPressure(Frozen):
    """The vapor pressure of a species over temperature.

        ln(P/Pa) = a + b/(T + shift) + c ln T + d T^e     with T in K

    The law of Antoine (C. Antoine, C. R. Acad. Sci. 107 (1888) 681) has a, b and the shift; `antoine` reads its
    constants from tables.

    Parameters
    ----------
    a, b, c, d, e, shift : float
    valid : pair of temperatures, optional
        The range of validity.

    Raises
    ------
    InputError
        For a value that is not a number, or an invalid pressure.

    Examples
    --------
    >>> water = mo.thermo.VaporPressure.antoine(8.07131, 1730.63, 233.426, pressure="mmHg", temperature="degC")
    >>> round(water.at("100 degC") / 1e5, 3)
    1.013
    """

    a: float
    b: float = 0.0
    c: float = 0.0
    d: float = 0.0
    e: float = 2.0
    shift: float = 0.0
    valid: Sequence[Any] | None = None

    def __post_init__(self) -> None:
        faults = Faults()
        for name in ("a", "b", "c", "d", "e", "shift"):
            with faults.at("vapor pressure"):
                settle(self, **{name: units.read(getattr(self, name), "number", name).si})
        with faults.at("vapor pressure"):
            if self.valid is not None:
                settle(self, valid=tuple(units.positive(t, "temperature", "valid") for t in self.valid))
                if len(self.valid) != 2 or not self.valid[0].si < self.valid[1].si:
                    raise InputError("valid is not a range of temperatures", "", "give two, the lower first")
        faults.raise_any()

    @classmethod
    def antoine(
        cls,
        A: float,
        B: float,
        C: float,
        *,
        pressure: str = "bar",
        temperature: str = "K",
        base: str = "10",
        valid: Sequence[object] | None = None,
    ) -> VaporPressure:
        """log P = A - B/(T + C) in some units.

        Parameters
        ----------
        A, B, C : float
        pressure, temperature : str
            The units of the law: "bar", "mmHg", "kPa"; "K" or "degC".
        base : "10" or "e"
            Of the logarithm.
        valid : pair of temperatures, optional

        Raises
        ------
        InputError
            For an invalid unit or base.
        """
        if str(base) not in ("10", "e"):
            raise InputError(f"base = {base!r}", "vapor pressure", "give '10' or 'e'")
        if temperature not in ("K", "degC"):
            raise InputError(f"temperature = {temperature!r}", "vapor pressure", "give 'K' or 'degC'")
        numbers = [units.read(x, "number", name).si for name, x in (("A", A), ("B", B), ("C", C))]
        factor = math.log(10.0) if str(base) == "10" else 1.0
        unit = units.expect(pressure, "pressure", "vapor pressure")
        zero = 273.15 if temperature == "degC" else 0.0
        return cls(
            factor * numbers[0] + math.log(unit.factor), -factor * numbers[1], shift=numbers[2] - zero, valid=valid
        )

    def log(self, T: Number) -> Number:
        """ln(P/Pa) at a temperature in K that is a number of any kind, or a symbol."""
        return self.a + self.b / (T + self.shift) + self.c * log(T) + (self.d * T**self.e if self.d else 0)

    def log_number(self, T: float) -> tuple[float, float]:
        """ln(P/Pa) at a temperature in K, and its derivative."""
        value = self.a + self.b / (T + self.shift) + self.c * math.log(T) + (self.d * T**self.e if self.d else 0.0)
        slope = -self.b / (T + self.shift) ** 2 + self.c / T + (self.d * self.e * T ** (self.e - 1) if self.d else 0.0)
        return value, slope

    def at(self, T: QuantityLike) -> float:
        """In Pa, at a temperature."""
        return math.exp(self.log_number(units.positive(T, "temperature", "T").si)[0])

    def __str__(self) -> str:
        terms = [f"{self.a:.6g}"]
        if self.b:
            terms.append(f"{self.b:.6g}/{f'(T + {self.shift:.6g})' if self.shift else 'T'}")
        terms += [f"{self.c:.6g} ln T"] if self.c else []
        terms += [f"{self.d:.6g} T^{self.e:g}"] if self.d else []
        return f"ln(P/Pa) = {' + '.join(terms)}"


def read_vapor_pressure(given: object) -> VaporPressure:
    """A vapor pressure from the argument of a Species: a `VaporPressure`, or a mapping of its numbers or of those of
    Antoine."""
    if isinstance(given, VaporPressure):
        return given
    if isinstance(given, Mapping):
        more = dict(given)
        if "antoine" in more:
            numbers = more.pop("antoine")
            if not isinstance(numbers, list | tuple) or len(numbers) != 3:
                raise InputError(f"antoine = {numbers!r}", "vapor_pressure", "give three numbers, [A, B, C]")
            strange = sorted(more.keys() - {"pressure", "temperature", "base", "valid"})
            if not strange:
                return VaporPressure.antoine(*numbers, **more)
        else:
            strange = sorted(more.keys() - {"a", "b", "c", "d", "e", "shift", "valid"})
            if not strange and "a" in more:
                return VaporPressure(**more)
        raise InputError(
            f"unknown: {', '.join(strange)}" if strange else "a is missing",
            "vapor_pressure",
            "give antoine = [A, B, C] with its units, or a, b, c, d, e, shift",
        )
    raise InputError(f"{given!r} is not a vapor pressure", "vapor_pressure", "give mo.thermo.VaporPressure(...)")
