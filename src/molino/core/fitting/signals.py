"""Signals of instruments: absorbance, pressure, titrated volume, any property."""

from __future__ import annotations

from dataclasses import MISSING, dataclass

import numpy as np

from molino.core import units
from molino.core.chemistry.equation import Equation, parse_equation
from molino.core.contract.metric import Metric
from molino.core.contract.metrics import conversion, pressure
from molino.core.errors import Faults, InputError, UnitError
from molino.core.fitting.experiment import metric_of, response_of
from molino.core.frozen import checked_fields, settle
from molino.core.schema import QuantityField, ReadField, option, quantity, read_fields
from molino.core.unit_tables import GAS_CONSTANT, SI_UNITS
from molino.core.units import Value

_FORMS = {
    ("slope",): ("blank",),
    ("conversion",): (),
    ("reaction",): ("start",),
    ("start", "end"): (),
    ("titrant", "sample"): ("per", "blank"),
}
"""The fields of each form, required and optional."""
_ADVICE = (
    "give slope (and blank); or conversion = true; or reaction, of a gas in a closed vessel (and start); or start and "
    "end, the signal at the charge and at complete conversion; or titrant and sample (and per, blank)"
)


@dataclass(frozen=True)
class Signal:
    """The signal of an instrument for a metric: a straight line, signal = intercept + slope x metric.

    One of these forms (s is the signal, m the metric, c the concentration of a species, c_0 the charge):

    - `slope`, `blank`: s = blank + slope m, as of an absorbance, m = c (A. Beer, Ann. Phys. 162 (1852) 78), or of a
      thermocouple, m = T.
    - `conversion`: s = m, the conversion (c_0 - c)/c_0.
    - `reaction`, `start`: s is the total pressure of an ideal gas in a closed vessel with this reaction alone;
      with the coefficient nu of the species and the sum of all coefficients dn, c = c_0 + nu/dn (s - start)/(R T) (O.
      Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, section 3.1). `start` is by default the pressure of the
      charge.
    - `start`, `end`: any property that is linear in the conversion; s = start + (end - start) (c_0 - c)/c_0,
      with `end` at complete conversion.
    - `titrant`, `sample`, `per`, `blank`: s is the volume of titrant of concentration `titrant` for a sample of volume
      `sample`, with `per` moles of titrant per mole of the species: s = blank + c sample per/titrant.

    Parameters
    ----------
    of : str
        A species (its concentration); with `slope` any metric.
    slope, blank : str, float or quantity, optional
        Signal per metric, and the signal at a metric of zero.
    conversion : bool
        Whether the signal is the conversion.
    reaction : str, optional
        The only reaction, "A -> 2 B"; the signal is the total pressure.
    start, end : str, float or quantity, optional
        The signal at the charge, and at complete conversion.
    titrant : concentration, optional
    sample : volume, optional
    per : float, optional
        Moles of titrant per mole of the species; by default 1.

    Raises
    ------
    InputError
        If no form, or more than one, is given.

    Examples
    --------
    >>> signal = mo.Signal("A", slope="120 L/mol", blank=0.02)
    >>> round(signal.shown(10.0), 4)
    1.22
    """

    of: str = option(MISSING)
    slope: QuantityField = quantity("", sign="any")
    blank: QuantityField = quantity("", sign="any")
    conversion: bool = option(False)
    reaction: ReadField = option(None)
    start: QuantityField = quantity("", sign="any")
    end: QuantityField = quantity("", sign="any")
    titrant: QuantityField = quantity("concentration")
    sample: QuantityField = quantity("volume")
    per: QuantityField = quantity("number")

    @checked_fields
    def __post_init__(self) -> None:
        given = {
            n
            for n in ("slope", "blank", "reaction", "start", "end", "titrant", "sample", "per")
            if getattr(self, n) is not None
        } | ({"conversion"} if self.conversion else set())
        place = f"signal of {self.of}"
        if not any({*form} <= given <= {*form, *more} for form, more in _FORMS.items()):
            raise InputError(f"{', '.join(sorted(given)) or 'nothing'} is given", place, _ADVICE)
        faults = Faults()
        read_fields(self, faults, place)
        faults.raise_any()
        if metric_of(self.of).what != "concentration" and self.slope is None:
            faults.add(place, "this form is of a species", "name the species, or give slope (and blank)")
        if self.start is not None and self.end is not None and self.start.si == self.end.si:
            faults.add(place, "start and end are the same", "the signal must change")
        if self.slope is not None and self.slope.si == 0:
            faults.add(place, "the slope is zero", "the signal must change")
        if self.reaction is not None and not isinstance(self.reaction, Equation):
            with faults.at(place):
                settle(self, reaction=parse_equation(str(self.reaction)))
                self._per_moles()
        faults.raise_any()

    def _per_moles(self) -> float:
        net = self.reaction.net
        if self.of not in net:
            raise InputError(f"{self.of} does not take part in {self.reaction}", "", "name one of its species")
        change = sum(net.values())
        if not change:
            raise InputError(f"{self.reaction} does not change the moles", "", "its pressure does not determine it")
        return float(net[self.of] / change)

    @property
    def metric(self) -> Metric:
        """Its metric."""
        if self.conversion or self.end is not None:
            return conversion(self.of)
        return pressure() if self.reaction is not None else metric_of(self.of)

    @property
    def _line(self) -> tuple[float, float]:
        """Intercept and slope, in SI: signal = intercept + slope x metric."""
        if self.slope is not None:
            return _si(self.blank), self.slope.si
        if self.titrant is not None:
            return _si(self.blank), self.sample.si * _si(self.per, 1.0) / self.titrant.si
        return (self.start.si, self.end.si - self.start.si) if self.end is not None else (0.0, 1.0)

    def shown(self, metric: np.ndarray) -> np.ndarray:
        """The signal in SI for a value of the metric in SI."""
        intercept, slope = self._line
        return intercept + slope * metric

    def read(self, signal: np.ndarray, unit: str | None) -> np.ndarray:
        """The metric in SI from a signal in its own unit.

        Parameters
        ----------
        signal : array, shape (samples,)
        unit : str or None
            The unit of the signal.

        Raises
        ------
        UnitError
            If units are incompatible.
        """
        intercept, slope = self._line
        if self.slope is not None:
            self._same(unit, self.blank, "blank")
            self._slope_fits(unit)
        elif self.titrant is not None:
            self._same(unit or "m^3", Value(0.0, "m^3"), "titrated volume")
        elif self.reaction is not None:
            self._same(unit or "Pa", Value(0.0, "Pa"), "total pressure")
        else:
            self._same(unit, self.start, "start")
            self._same(unit, self.end, "end")
        si = np.asarray(units.unit(unit).to_si(signal) if unit else signal, dtype=float)
        return np.asarray((si - intercept) / slope)

    @property
    def needs_charge(self) -> bool:
        """Whether the charge is needed for a concentration."""
        return self.metric.what != "concentration"

    def concentration(self, signal: np.ndarray, unit: str | None, charged: float | None, T: float | None) -> np.ndarray:
        """Concentrations of its species in mol/m^3 from a signal in its own unit, in a batch.

        Parameters
        ----------
        signal : array, shape (samples,)
        unit : str or None
            The unit of the signal.
        charged : float, optional
            Of the species at the start, in mol/m^3.
        T : float, optional
            In K.

        Raises
        ------
        InputError
            If an input of the form is unknown, or units are incompatible.
        """
        if metric_of(self.of).what != "concentration":
            raise InputError(f"{self.of} is not a concentration", "", "give the vessel: vessel=mo.Batch(...)")
        if not self.needs_charge:
            return self.read(signal, unit)
        if charged is None or not charged > 0:
            raise InputError(f"the charge of {self.of} is unknown", "", f"add 'initial {self.of}'")
        if self.reaction is None:
            return np.asarray(charged * (1 - self.read(signal, unit)))
        if T is None:
            raise InputError("a pressure needs a temperature", "", "add a column T [degC]")
        start = self.start.si if self.start is not None else charged * GAS_CONSTANT * T
        return np.asarray(charged + self._per_moles() * (self.read(signal, unit) - start) / (GAS_CONSTANT * T))

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
        kind = self.metric.kind
        per = units.unit(f"({self.slope.unit or 1}) * ({SI_UNITS[kind] or 1})").dimension
        if per != units.unit(unit or "").dimension:
            message = f"slope {self.slope} times a {kind} is not in {unit or 'a bare number'}"
            raise UnitError(message, "slope", f"it is signal per {kind}, like '120 L/mol' of an absorbance")

    def __str__(self) -> str:
        name = response_of(self.metric)
        if self.slope is not None:
            return f"{name} = (signal - {self.blank or 0}) / ({self.slope})"
        if self.conversion:
            return f"{self.of} = charged (1 - signal)"
        if self.reaction is not None:
            return f"{self.of} from the total pressure of {self.reaction}"
        if self.titrant is not None:
            return f"{self.of} titrated with {self.titrant}, samples of {self.sample}"
        return f"{self.of} = charged (signal - {self.end}) / ({self.start} - {self.end})"


def _si(value: Value | None, otherwise: float = 0.0) -> float:
    return value.si if value is not None else otherwise
