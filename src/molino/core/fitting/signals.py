"""Signals of instruments: absorbance, pressure, titrated volume, any property."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.annotations import ByName
from molino.core.chemistry.constants import Entry, Unknown, entry as read_entry, si
from molino.core.chemistry.equation import Equation, parse_equation
from molino.core.chemistry.formula import KNOWN, concentration, constant, names_in, parse_formula, species_in
from molino.core.contract.metric import Metric
from molino.core.contract.metrics import conversion, pressure
from molino.core.errors import Faults, InputError, UnitError, nearest
from molino.core.fitting.responses import is_concentration, metric_of, response_of
from molino.core.fitting.signal_model import SignalModel
from molino.core.frozen import checked_fields, settle
from molino.core.schema import QuantityField, ReadField, entries, entry, option, quantity, read_fields
from molino.core.symbols import in_order
from molino.core.unit_tables import GAS_CONSTANT, SI_UNITS
from molino.core.units import Value

_FORMS = {
    ("slope",): ("blank", "delay"),
    ("gas_T", "gas_P"): ("liquid", "blank", "delay"),
    ("blank",): ("delay",),
    ("delay",): (),
    ("slopes",): ("blank", "delay"),
    ("formula",): ("constants", "unit", "delay"),
    ("conversion",): (),
    ("reaction",): ("start",),
    ("start", "end"): (),
    ("titrant", "sample"): ("per", "blank"),
}
"""The fields of each form, required and optional."""
_METRICS = {"": "{}", "x": "fraction of {}"}
"""The responses of [A] and x[A] in the formula of a signal."""
_ADVICE = (
    "give slope (and blank, delay), or blank alone; or gas_T and gas_P (and liquid); or slopes, by species; or formula "
    "(and constants, unit); or conversion = true; or reaction, of a gas in a closed vessel (and start); or start and "
    "end, the signal at the charge and at complete conversion; or titrant and sample (and per, blank)"
)


@dataclass(frozen=True)
class Signal:
    """The signal of an instrument as a function of the composition, or of another metric.

    One of these forms (s is the signal, m the metric, c the concentration of a species, c_0 the charge):

    - `slope`, `blank`: s = blank + slope m, as of an absorbance, m = c (A. Beer, Ann. Phys. 162 (1852) 78), or of a
      thermocouple, m = T.
    - `gas_T`, `gas_P`: s is the volume of an ideal gas at these conditions: of an amount, m R T/P; of a concentration
      in a volume `liquid`, c liquid R T/P, as of a gas that evolves.
    - `slopes`, `blank`: s = blank + sum of slope c, as of the absorbance of several species at one wavelength.
    - `formula`, `constants`: any function of [A], x[A], T and P, as of a conductivity or a refractive index.
    - `conversion`: s = m, the conversion (c_0 - c)/c_0.
    - `reaction`, `start`: s is the total pressure of an ideal gas in a closed vessel with this reaction alone;
      with the coefficient nu of the species and the sum of all coefficients dn, c = c_0 + nu/dn (s - start)/(R T) (O.
      Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, section 3.1). `start` is by default the pressure of the
      charge.
    - `start`, `end`: any property that is linear in the conversion; s = start + (end - start) (c_0 - c)/c_0,
      with `end` at complete conversion.
    - `titrant`, `sample`, `per`, `blank`: s is the volume of titrant of concentration `titrant` for a sample of volume
      `sample`, with `per` moles of titrant per mole of the species: s = blank + c sample per/titrant.

    A calibration may have unknown numbers, `mo.Unknown(guess)`, or `mo.Unknown("120 +- 3 L/mol")` with a standard
    deviation. The signal is then a response of the fit, as it is with `slopes`, a formula or a delay; otherwise a table
    with it is read as concentrations.

    Parameters
    ----------
    of : str
        A species (its concentration); with `slope` any metric. Empty with `slopes` and `formula`.
    slope, blank : str, float, quantity or Unknown, optional
        Signal per metric, and the signal at a metric of zero. `blank` alone is an offset of a metric in its own unit.
    slopes : mapping of species to quantity or Unknown, optional
        Signal per concentration of each species.
    formula : str, optional
        "k0 + k1*[A] + k2*[B]", in SI: [A] in mol/m^3.
    constants : mapping of name to quantity or Unknown, optional
        The constants of the formula.
    unit : str, optional
        Of a signal by a formula, if it has one.
    gas_T, gas_P, liquid : temperature, pressure and volume, optional
        Conditions of a measured volume of gas, and the volume of the liquid.
    delay : time, or Unknown, optional
        The signal at a time shows the state earlier by this delay.
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

    of: str = option("")
    slope: ReadField = entry()
    blank: ReadField = entry()
    conversion: bool = option(False)
    reaction: ReadField = option(None)
    start: QuantityField = quantity("", sign="any")
    end: QuantityField = quantity("", sign="any")
    titrant: QuantityField = quantity("concentration")
    sample: QuantityField = quantity("volume")
    per: QuantityField = quantity("number")
    slopes: ByName = entries()
    formula: str = option("")
    constants: ByName = entries()
    unit: str = option("")
    delay: ReadField = entry("time")
    gas_T: QuantityField = quantity("temperature")
    gas_P: QuantityField = quantity("pressure")
    liquid: QuantityField = quantity("volume")

    @checked_fields
    def __post_init__(self) -> None:
        names = {name for forms in _FORMS.items() for form in forms for name in form}
        given = {name for name in names if getattr(self, name) not in (None, "", {}, False)}
        place = self._name
        if not any({*form} <= given <= {*form, *more} for form, more in _FORMS.items()):
            raise InputError(f"{', '.join(sorted(given)) or 'nothing'} is given", place, _ADVICE)
        faults = Faults()
        read_fields(self, faults, place)
        for name in ("slope", "blank", "delay"):
            with faults.at(place):
                if getattr(self, name) is not None:
                    settle(self, **{name: read_entry(getattr(self, name), "time" if name == "delay" else None, name)})
        for name in ("slopes", "constants"):
            with faults.at(place):
                settle(self, **{name: {key: read_entry(one, None, key) for key, one in getattr(self, name).items()}})
        faults.raise_any()
        if bool(self.of) == bool(self.slopes or self.formula):
            faults.add(place, "`of` names the metric of the other forms", "leave it out, or give slope instead")
        elif self.of and not is_concentration(self.of) and not self._is_line:
            faults.add(place, "this form is of a species", "name the species, or give slope (and blank)")
        if self.gas_T is not None and metric_of(self.of).kind != ("amount" if self.liquid is None else "concentration"):
            advice = "name an amount, like 'uptake of H2'; or a species, and give the volume of the liquid"
            faults.add(place, "a volume of gas is of an amount, or of a concentration in `liquid`", advice)
        if self.start is not None and self.end is not None and self.start.si == self.end.si:
            faults.add(place, "start and end are the same", "the signal must change")
        if any(si(slope) == 0 for slope in (*self.slopes.values(), *([self.slope] if self.slope is not None else []))):
            faults.add(place, "a slope is zero", "the signal must change; the guess of an unknown one is not zero")
        if self.formula:
            with faults.at(place):
                self._check_formula()
        if self.reaction is not None and not isinstance(self.reaction, Equation):
            with faults.at(place):
                settle(self, reaction=parse_equation(str(self.reaction)))
                self._per_moles()
        faults.raise_any()

    @property
    def _name(self) -> str:
        return f"signal of {self.of}" if self.of else "signal"

    @property
    def _is_line(self) -> bool:
        """Whether it is a straight line over a metric, with a slope of 1 if none is given."""
        others = (self.conversion, self.end, self.titrant, self.reaction, self.formula, self.slopes)
        return not any(others)

    @property
    def _slope(self) -> Entry:
        if self.gas_T is not None:
            volume = self.liquid.si if self.liquid is not None else 1.0
            return Value(volume * GAS_CONSTANT * self.gas_T.si / self.gas_P.si)
        return self.slope if self.slope is not None else Value(1.0)

    def _check_formula(self) -> None:
        """Raise InputError if the formula and its constants do not agree."""
        expression, faults = parse_formula(self.formula), Faults()
        for name in sorted({*names_in(expression)} - {*self.constants}):
            faults.add("", f"'{name}' of the formula has no value", f"constants={{'{name}': ...}}")
        for name in sorted({*self.constants} - {*names_in(expression)}):
            faults.add("", f"'{name}' is not in the formula", nearest(name, names_in(expression)))
        for kind, species in filter(None, map(species_in, expression.free_symbols)):
            if kind not in _METRICS:
                faults.add("", f"{kind}[{species}] in a signal", f"use [{species}], x[{species}], T and P")
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
    def entries(self) -> dict[str, Entry]:
        """The numbers of a calibration by name, known and unknown, without the delay."""
        if self.formula:
            return dict(self.constants)
        slopes = {f"slope of {species}": one for species, one in self.slopes.items()} or {"slope": self._slope}
        return {**slopes, "blank": self.blank if self.blank is not None else Value(0.0)}

    @property
    def is_response(self) -> bool:
        """Whether it is a response of the fit, and not read as its metric."""
        unknown = any(isinstance(one, Unknown) for one in (self.slope, self.blank))
        return bool(self.slopes or self.formula or self.delay is not None or unknown)

    @property
    def species(self) -> tuple[str, ...]:
        """The species whose concentrations or fractions it depends on."""
        if self.formula:
            return tuple(
                sorted({found[1] for s in parse_formula(self.formula).free_symbols if (found := species_in(s))})
            )
        return tuple(self.slopes) or ((self.of,) if is_concentration(self.of) else ())

    @cached_property
    def model(self) -> SignalModel:
        """The signal as a function of responses and of `entries`."""
        constants = {name: constant(name) for name in self.entries}
        if self.formula:
            whole = parse_formula(self.formula).xreplace({KNOWN["R"]: sp.Float(GAS_CONSTANT)})
            responses = {}
            for symbol in in_order(whole.free_symbols - {*constants.values()}):
                kind = species_in(symbol)
                found = (
                    _METRICS[kind[0]].format(kind[1]) if kind else {"T": "temperature", "P": "pressure"}[str(symbol)]
                )
                responses[found] = symbol
            return SignalModel(tuple(responses), tuple(constants), whole, (*responses.values(), *constants.values()))
        names = tuple(self.slopes) or (response_of(self.of),)
        symbols = tuple(concentration(name) for name in names)
        *slopes, blank = constants.values()
        whole = sp.Add(blank, *(slope * symbol for slope, symbol in zip(slopes, symbols, strict=True)))
        return SignalModel(names, tuple(constants), whole, (*symbols, *constants.values()))

    @cached_property
    def kind(self) -> str:
        """The kind of quantity of the signal; UnitError if it is none that is known."""
        if self.gas_T is not None:
            return "volume"
        if self.of and self.slope is None:
            return self.metric.kind
        slope = next((one.unit for one in (self.slope, *self.slopes.values()) if one is not None and one.unit), None)
        text = self.unit
        if self.blank is not None and self.blank.unit is not None:
            text = self.blank.unit
        elif slope is not None:
            text = f"({slope}) * ({SI_UNITS[metric_of(self.of).kind if self.of else 'concentration'] or 1})"
        dimension = units.unit(text or "").dimension
        kinds = [kind for kind, unit in SI_UNITS.items() if units.unit(unit).dimension == dimension]
        if not kinds:
            raise UnitError(f"a signal in {text}", self._name, "give the signal, and its calibration, without a unit")
        return "number" if "number" in kinds else kinds[0]

    @property
    def metric(self) -> Metric:
        """Its metric."""
        if self.conversion or self.end is not None:
            return conversion(self.of)
        return pressure() if self.reaction is not None else metric_of(self.of)

    @property
    def _line(self) -> tuple[float, float]:
        """Intercept and slope, in SI: signal = intercept + slope x metric."""
        if self._is_line:
            return _si(self.blank), si(self._slope)
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
        elif self._is_line:
            units.expect(unit or SI_UNITS[self.kind], self.kind)
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
        if not is_concentration(self.of):
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
        lag = f", {self.delay} later" if self.delay is not None else ""
        if self.is_response:
            numbers = ", ".join(
                f"{name} {number}" for name, number in self.entries.items() if si(number) or name != "blank"
            )
            form = self.formula or " + ".join(["blank", *(f"slope {name}" for name in self.slopes or [self.of])])
            return f"signal = {form}{lag}; {numbers}"
        name = response_of(self.metric)
        if self.gas_T is not None:
            return f"{name} from the volume of gas at {self.gas_T}, {self.gas_P}"
        if self._is_line:
            return f"{name} = (signal - {self.blank or 0}) / ({self._slope})"
        if self.conversion:
            return f"{self.of} = charged (1 - signal)"
        if self.reaction is not None:
            return f"{self.of} from the total pressure of {self.reaction}"
        if self.titrant is not None:
            return f"{self.of} titrated with {self.titrant}, samples of {self.sample}"
        return f"{self.of} = charged (signal - {self.end}) / ({self.start} - {self.end})"


def _si(value: Value | None, otherwise: float = 0.0) -> float:
    return value.si if value is not None else otherwise
