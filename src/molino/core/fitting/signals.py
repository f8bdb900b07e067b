"""Signals that are linear in one concentration: absorbance, conversion, pressure, titrated volume, any property."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from molino.core import units
from molino.core.chemistry.equation import Equation, parse_equation
from molino.core.errors import Faults, InputError, UnitError
from molino.core.frozen import settle
from molino.core.units import GAS_CONSTANT, Value

_FORMS = {
    ("slope",): ("blank",),
    ("conversion",): (),
    ("reaction",): ("start",),
    ("start", "end"): (),
    ("titrant", "sample"): ("per", "blank"),
}
"""What makes each form, and what it may have besides."""
_ADVICE = (
    "give slope (and blank); or conversion = true; or reaction, of a gas in a closed vessel (and start); or start and "
    "end, the signal at the charge and when none is left; or titrant and sample (and per, blank)"
)


@dataclass(frozen=True)
class Signal:
    """What a column of measurements says of the concentration of one species, c.

    One of these forms (s is the signal, c_0 what was charged):

    - `slope`, `blank`: s = blank + slope c, as of an absorbance (A. Beer, Ann. Phys. 162 (1852) 78).
    - `conversion`: c = c_0 (1 - s).
    - `reaction`, `start`: s is the total pressure of an ideal gas in a closed vessel in which this reaction alone runs;
      with the coefficient nu of the species and the sum of all coefficients dn,
      c = c_0 + nu/dn (s - start)/(R T) (O. Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, section 3.1).
      `start`, left out, is the pressure of what was charged.
    - `start`, `end`: any property; c = c_0 (s - end)/(start - end), `end` where none of the species is left.
    - `titrant`, `sample`, `per`, `blank`: s is the volume of titrant of that concentration used up by a sample of that
      volume, `per` moles of titrant for each of the species: c = titrant (s - blank)/(sample per).

    Parameters
    ----------
    species : str
    slope, blank, start, end, titrant, sample : str, float or quantity, optional
    conversion : bool
    reaction : str, optional
    per : float

    Raises
    ------
    InputError
        If no form, or more than one, is given.

    Examples
    --------
    >>> import molino as mo
    >>> signal = mo.Signal("A", slope="120 L/mol", blank=0.02)
    >>> signal.species
    'A'
    """

    species: str
    slope: Any = None
    blank: Any = None
    conversion: bool = False
    reaction: Any = None
    start: Any = None
    end: Any = None
    titrant: Any = None
    sample: Any = None
    per: float | None = None

    def __post_init__(self) -> None:
        given = {n for n in ("slope", "blank", "reaction", "start", "end", "titrant", "sample", "per")
                 if getattr(self, n) is not None} | ({"conversion"} if self.conversion else set())  # fmt: skip
        if not any({*form} <= given <= {*form, *more} for form, more in _FORMS.items()):
            message = f"{', '.join(sorted(given)) or 'nothing'} is given"
            raise InputError(message, f"signal of {self.species}", _ADVICE)
        faults = Faults()
        for name, kind in (("slope", None), ("blank", None), ("start", None), ("end", None),
                           ("titrant", "concentration"), ("sample", "volume")):  # fmt: skip
            if getattr(self, name) is not None:
                with faults.at(f"signal of {self.species}"):
                    settle(self, **{name: units.read(getattr(self, name), kind, name)})
        if self.reaction is not None and not isinstance(self.reaction, Equation):
            with faults.at(f"signal of {self.species}"):
                settle(self, reaction=parse_equation(str(self.reaction)))
                self._per_moles()
        faults.raise_any()

    def _per_moles(self) -> float:
        net = self.reaction.net
        if self.species not in net:
            raise InputError(f"{self.species} does not take part in {self.reaction}", "", "name one of its species")
        change = sum(net.values())
        if not change:
            raise InputError(f"{self.reaction} does not change the moles", "", "its pressure does not determine it")
        return float(net[self.species] / change)

    def concentration(self, signal: np.ndarray, unit: str | None, charged: float | None, T: float | None) -> np.ndarray:
        """Concentrations in mol/m^3 from a signal in its own unit.

        Parameters
        ----------
        signal : array, shape (samples,)
        unit : str or None
            In which it stands.
        charged : float, optional
            Of the species at the start, in mol/m^3.
        T : float, optional
            In K.

        Raises
        ------
        InputError
            If what the form needs is not known, or units are incompatible.
        """
        si = np.asarray(units.unit(unit).to_si(signal) if unit else signal, dtype=float)
        if self.slope is not None:
            self._same(unit, self.blank, "blank")
            self._slope_fits(unit)
            return np.asarray((si - _si(self.blank)) / self.slope.si)
        if self.titrant is not None:
            self._same(unit or "m^3", Value(0.0, "m^3"), "titrated volume")
            return np.asarray(self.titrant.si * (si - _si(self.blank)) / (self.sample.si * (self.per or 1.0)))
        if charged is None or not charged > 0:
            raise InputError(f"what was charged of {self.species} is not known", "", f"add 'initial {self.species}'")
        if self.conversion:
            return np.asarray(charged * (1 - si))
        if self.reaction is not None:
            if T is None:
                raise InputError("a pressure needs a temperature", "", "add a column T [degC]")
            self._same(unit or "Pa", Value(0.0, "Pa"), "total pressure")
            start = self.start.si if self.start is not None else charged * GAS_CONSTANT * T
            return np.asarray(charged + self._per_moles() * (si - start) / (GAS_CONSTANT * T))
        self._same(unit, self.start, "start")
        self._same(unit, self.end, "end")
        if self.start.si == self.end.si:
            raise InputError("start and end are the same", "", "the signal must change")
        return np.asarray(charged * (si - self.end.si) / (self.start.si - self.end.si))

    def _same(self, unit: str | None, other: Value | None, name: str) -> None:
        if other is None:
            return
        here, there = units.unit(unit or "").dimension, units.unit(other.unit or "").dimension
        if here != there and not (other.unit is None and other.si == 0):
            message = f"{name} {other} and the column ({unit or 'no unit'}) differ in dimension"
            raise UnitError(message, "", "give both in units of the same kind")

    def _slope_fits(self, unit: str | None) -> None:
        if self.slope.unit is None and unit is None:
            return
        per = units.unit(f"({self.slope.unit or 1}) * mol/m^3").dimension
        if per != units.unit(unit or "").dimension:
            message = f"slope {self.slope} times a concentration is not in {unit or 'a bare number'}"
            raise UnitError(message, "slope", "it is signal per concentration, like '120 L/mol' of an absorbance")

    def __str__(self) -> str:
        if self.slope is not None:
            return f"{self.species} = (signal - {self.blank or 0}) / ({self.slope})"
        if self.conversion:
            return f"{self.species} = charged (1 - signal)"
        if self.reaction is not None:
            return f"{self.species} from the total pressure of {self.reaction}"
        if self.titrant is not None:
            return f"{self.species} titrated with {self.titrant}, samples of {self.sample}"
        return f"{self.species} = charged (signal - {self.end}) / ({self.start} - {self.end})"


def _si(value: Value | None) -> float:
    return value.si if value is not None else 0.0
