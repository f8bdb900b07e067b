"""The reader of SBML documents."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from typing import Any

import sympy as sp

from molino.core import units
from molino.core.annotations import ByName, PlainData
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.equation import parse_equation
from molino.core.chemistry.formula import names_in, parse_formula
from molino.core.chemistry.reaction import Reaction
from molino.core.errors import Faults, InputError
from molino.core.frozen import Frozen, FrozenMapping
from molino.core.printing import Printed
from molino.core.unit_tables import GAS_CONSTANT

_SI = {
    "metre": "m",
    "meter": "m",
    "kilogram": "kg",
    "second": "s",
    "kelvin": "K",
    "mole": "mol",
    "ampere": "A",
    "candela": "cd",
    "joule": "J",
    "pascal": "Pa",
    "watt": "W",
    "newton": "N",
    "hertz": "1/s",
}
_OF = {
    "litre": (1e-3, "m^3"),
    "liter": (1e-3, "m^3"),
    "gram": (1e-3, "kg"),
    "dimensionless": (1.0, ""),
    "avogadro": (6.02214076e23, ""),
    "item": (1 / 6.02214076e23, "mol"),
}
_OWN = ("T", "P", "R", "exp", "log", "sqrt")
"""Reserved names of rate laws."""
_OF_R = units.unit("J/mol/K").dimension


@dataclass(frozen=True, eq=False)
class SbmlModel(Frozen, Printed):
    """The content of an SBML file; made by `read_sbml`.

    Attributes
    ----------
    chemistry : Chemistry
    initial : mapping of species to str or float
        Initial concentrations, as charge of a batch; bare numbers if the model has no units.
    volume : str or float
        Of its compartment.
    T : str or None
        The value of its parameter T, if rates depend on it.
    notes : tuple of str
        Features that could not be converted.

    Examples
    --------
    >>> import molino as mo, tempfile
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> path = tempfile.mkdtemp() + "/model.xml"
    >>> notes = mo.files.write_sbml(chem, path, initial={"A": "1 mol/L"})
    >>> model = mo.files.read_sbml(path)
    >>> batch = mo.Batch(model.chemistry, model.initial, time="10 min")
    >>> round(batch.run().conversion("A"), 4)
    0.8647
    """

    chemistry: Chemistry
    initial: ByName
    volume: Any
    T: Any
    notes: tuple[str, ...]

    def __str__(self) -> str:
        return "\n".join([str(self.chemistry), *(f"note: {note}" for note in self.notes)])


def _is_name(text: str) -> bool:
    """Whether a name is a valid species in an equation."""
    try:
        return parse_equation(f"{text} -> x").left == ((text, Fraction(1)),)
    except InputError:
        return False


class Reader:
    """A document of SBML as a chemistry."""

    def __init__(self, sbml: Any, model: Any, notes: list[str]) -> None:
        self.sbml, self.model = sbml, model
        self.faults, self.notes, self.depth = Faults(), notes, 0
        self.rules = {r.getVariable(): r.getMath() for r in model.getListOfRules() if r.isAssignment()}
        self.species = {s.getId(): s for s in model.getListOfSpecies()}
        names = [s.getName() or s.getId() for s in self.species.values()]
        fit = len(set(names)) == len(names) and all(_is_name(name) for name in names)
        self.names = {own: (s.getName() or own) if fit else own for own, s in self.species.items()}
        self.constants: PlainData = {}
        self.has_units = bool(model.getNumUnitDefinitions()) or bool(model.getSubstanceUnits())
        self.in_model_units = False
        self.bare: dict[str, float] = {}  # constants in the units of the model

    def read(self) -> SbmlModel:
        """The whole model, or all faults."""
        self.refuse()
        compartment = self.model.getCompartment(0)
        volume = self._value(
            compartment.getSize(), compartment.getUnits() or self.model.getVolumeUnits(), "m^3", "volume"
        )
        self.constants[compartment.getId()], self.bare[compartment.getId()] = volume, compartment.getSize()
        for parameter in self.model.getListOfParameters():
            own = parameter.getId()
            if own not in self.rules:
                if not parameter.isSetValue():
                    self.faults.add(own, "it has no value", "give it one")
                self.constants[own] = self._value(parameter.getValue(), parameter.getUnits(), None, own)
                self.bare[own] = parameter.getValue()
        held = {own for own, s in self.species.items() if s.getConstant() or s.getBoundaryCondition()}
        concentrations = {own: self._concentration(s, compartment) for own, s in self.species.items()}
        reactions = []
        for one in self.model.getListOfReactions():
            with self.faults.at(one.getId()):
                reactions.append(self._reaction(one, held, concentrations, compartment.getId()))
        self.faults.raise_any()
        found = Chemistry(reactions)
        initial = {self.names[own]: value for own, value in concentrations.items() if self.names[own] in found.names}
        T = self.constants.get("T") if self._is_temperature() else None
        if "T" in self.constants and T is None:
            self.notes.append("its parameter 'T' has no unit of temperature, and is a constant 'T_of_model' here")
        return SbmlModel(found, FrozenMapping(initial), volume, T, tuple(self.notes))

    def _is_gas_constant(self) -> bool:
        value = units.read(self.constants.get("R", 0.0))
        has_unit = not self.has_units or (value.unit and units.unit(value.unit).dimension == _OF_R)
        return bool(has_unit and abs(value.si - GAS_CONSTANT) < 1e-6 * GAS_CONSTANT)

    def _is_temperature(self) -> bool:
        """Whether the parameter T is a temperature: in kelvin, or in a model without units."""
        if "T" not in self.constants:
            return False
        unit = units.read(self.constants["T"]).unit
        return not self.has_units or (bool(unit) and units.unit(unit).dimension == units.unit("K").dimension)

    def refuse(self) -> None:
        """Raise InputError with all features that would change a run and are not supported."""
        model = self.model
        if model.getNumCompartments() != 1:
            self.faults.add("", f"it has {model.getNumCompartments()} compartments, and a vessel has one", "keep one")
        for what, count in (("events", model.getNumEvents()), ("constraints", model.getNumConstraints())):
            if count:
                self.faults.add("", f"it has {count} {what}, which are not supported", "remove them")
        for rule in model.getListOfRules():
            if not rule.isAssignment():
                self.faults.add(
                    rule.getVariable() or "a rule", "a rate or algebraic rule is not supported", "take it out"
                )
            elif rule.getVariable() in self.species:
                self.faults.add(rule.getVariable(), "a rule sets a species", "take it out")
        if not model.getNumReactions():
            self.faults.add("", "it has no reactions", "add one")
        self._refuse_compartments()
        for what in (model, *self.species.values()):
            if what.isSetConversionFactor():
                self.faults.add(what.getId(), "a conversion factor is not supported", "put it into the rates")
        for one in model.getListOfInitialAssignments():
            self.faults.add(one.getSymbol(), "its initial assignment could not be computed", "give it a value")
        self._refuse_reactions()
        for own, species in self.species.items():
            if not (species.isSetInitialAmount() or species.isSetInitialConcentration()):
                self.notes.append(f"species '{own}' has no initial value, and begins at zero")
        self.faults.raise_any()

    def _refuse_compartments(self) -> None:
        for compartment in self.model.getListOfCompartments():
            own = compartment.getId()
            if own in self.rules:
                self.faults.add(own, "a rule sets its size", "give it a constant size")
            elif not compartment.isSetSize() or not compartment.getSize() > 0:
                self.faults.add(own, "it has no size", "give it one")
            elif compartment.getSpatialDimensions() != 3:
                self.faults.add(own, "it is not a volume", "give it three dimensions")

    def _refuse_reactions(self) -> None:
        for one in self.model.getListOfReactions():
            if one.isSetFast() and one.getFast():
                self.faults.add(one.getId(), "a fast reaction is not supported", "give it a rate, or an equilibrium")
            for reference in (*one.getListOfReactants(), *one.getListOfProducts()):
                varies = reference.isSetStoichiometryMath() or reference.getId() in self.rules
                if varies or (reference.isSetConstant() and not reference.getConstant()):
                    self.faults.add(one.getId(), "its stoichiometry is computed", "give numbers")

    def _value(self, number: float, unit: str, expected: str | None, place: str) -> object:
        """A number with its unit in SI; a bare one in a model without units."""
        if not self.has_units:
            return float(number)
        if not unit:
            if expected is None:
                self.faults.add(
                    place, "it has no unit, and other numbers have", "give units to all numbers, or to none"
                )
            return f"{number!r} {expected or ''}".strip()
        factor, text = self._unit(unit)
        return f"{number * factor!r} {text}" if text else f"{number * factor!r} m/m"

    def _unit(self, name: str) -> tuple[float, str]:
        """The size in SI of a unit of the model, and its SI unit."""
        definition = self.model.getUnitDefinition(name)
        if definition is None:
            return _OF.get(name) or (1.0, _SI.get(name, name))
        return self._defined(definition)

    def _defined(self, definition: Any) -> tuple[float, str]:
        factor, parts = 1.0, []
        for unit in definition.getListOfUnits():
            kind = self.sbml.UnitKind_toString(unit.getKind())
            size, text = _OF.get(kind) or (1.0, _SI.get(kind, kind))
            exponent = Fraction(unit.getExponentAsDouble()).limit_denominator(60)
            factor *= (unit.getMultiplier() * 10.0 ** unit.getScale() * size) ** float(exponent)
            if text:
                text = f"({text})" if "/" in text else text
                power = str(exponent) if exponent.denominator == 1 else f"({exponent})"
                parts.append(text if exponent == 1 else f"{text}^{power}")
        return factor, "*".join(parts)

    def _concentration(self, species: Any, compartment: Any) -> object:
        """The initial concentration of a species."""
        own = species.getSubstanceUnits() or self.model.getSubstanceUnits()
        if species.isSetInitialConcentration():
            number = species.getInitialConcentration()
        else:
            number = species.getInitialAmount() / compartment.getSize() if species.isSetInitialAmount() else 0.0
        if not self.has_units:
            return float(number)
        substance, _ = self._unit(own or "mole")
        volume, _ = self._unit(compartment.getUnits() or self.model.getVolumeUnits() or "litre")
        return f"{number * substance / volume!r} mol/m^3"

    def _reaction(self, one: Any, held: set[str], concentrations: ByName, vessel: str) -> Reaction:
        """An equation and its rate per volume."""
        if one.getKineticLaw() is None or one.getKineticLaw().getMath() is None:
            raise InputError("it has no kinetic law", "", "add one")
        sides = []
        for references in (one.getListOfReactants(), one.getListOfProducts()):
            terms = []
            for reference in references:
                own = reference.getSpecies()
                if own not in held:
                    moles = _exact(reference.getStoichiometry())
                    terms.append(f"{'' if moles == 1 else f'{moles} '}{self.names[own]}")
            sides.append(" + ".join(terms))
        used: PlainData = {}
        self.in_model_units = self.has_units and not self._is_consistent(one.getKineticLaw())
        text = self._formula(one.getKineticLaw().getMath(), held, concentrations, used, vessel)
        used[_safe(vessel)] = self._constant(vessel)
        rate = parse_formula(f"({text})/{_safe(vessel)}")
        if self.in_model_units:
            self.notes.append(
                f"reaction '{one.getId()}': its rate has numbers without units, read in those of the model"
            )
            used["model_rate"] = f"{self._extent() / self._time() / self._volume()!r} mol/m^3/s"
            rate = parse_formula(f"model_rate*({text})/{_safe(vessel)}")
        law, left = sp.sstr(rate, full_prec=True).replace("**", "^"), names_in(rate)  # cancelled species are not needed
        used = {name: value for name, value in used.items() if name in left}
        arrow = "<->" if one.getReversible() else "->"
        return Reaction(f"{sides[0]} {arrow} {sides[1]}", rate=law, name=one.getName() or one.getId(), **used)

    def _is_consistent(self, law: Any) -> bool:
        """Whether the units of a rate, with bare numbers dimensionless, are those of extent over time."""
        definition = law.getDerivedUnitDefinition()
        if definition is None:
            return False
        factor, text = self._defined(definition)
        dimension = units.unit(text).dimension if text else {}
        wanted = units.unit("mol/s").dimension
        return dimension == wanted and abs(factor * self._time() / self._extent() - 1) < 1e-9

    def _constant(self, name: str) -> object:
        """A constant with its unit, or as a number of the model."""
        return self.bare[name] if self.in_model_units else self.constants[name]

    def _time(self) -> float:
        return self._unit(self.model.getTimeUnits() or "second")[0]

    def _extent(self) -> float:
        return self._unit(self.model.getExtentUnits() or self.model.getSubstanceUnits() or "mole")[0]

    def _volume(self) -> float:
        compartment = self.model.getCompartment(0)
        return self._unit(compartment.getUnits() or self.model.getVolumeUnits() or "litre")[0]

    def _formula(self, node: Any, held: set[str], concentrations: ByName, used: PlainData, vessel: str) -> str:
        """A formula as rate law; its constants are added to `used`."""
        sbml = self.sbml
        kind = node.getType()
        inner = [
            self._formula(node.getChild(n), held, concentrations, used, vessel) for n in range(node.getNumChildren())
        ]
        if node.isNumber():
            return repr(float(node.getValue()))
        if kind in (sbml.AST_PLUS, sbml.AST_TIMES):
            sign = "+" if kind == sbml.AST_PLUS else "*"
            return f"({sign.join(inner)})" if inner else ("0" if sign == "+" else "1")
        if kind == sbml.AST_MINUS:
            return f"(-{inner[0]})" if len(inner) == 1 else f"({inner[0]} - {inner[1]})"
        if kind == sbml.AST_DIVIDE:
            return f"({inner[0]}/{inner[1]})"
        if kind in (sbml.AST_POWER, sbml.AST_FUNCTION_POWER):
            return f"({inner[0]}^{inner[1]})"
        name = node.getName()
        if kind == sbml.AST_FUNCTION_ROOT:
            return f"(({inner[-1]})^(1/{inner[0]}))" if len(inner) == 2 else f"sqrt({inner[0]})"
        if kind in (sbml.AST_FUNCTION_EXP, sbml.AST_FUNCTION_LN):
            return f"{'exp' if kind == sbml.AST_FUNCTION_EXP else 'log'}({inner[0]})"
        if kind != sbml.AST_NAME:
            raise InputError(
                f"'{name or sbml.formulaToL3String(node)}' is not supported in a rate law", "", "write it otherwise"
            )
        return self._named(name, held, concentrations, used, vessel)

    def _named(self, name: str, held: set[str], concentrations: ByName, used: PlainData, vessel: str) -> str:
        """The meaning of a name of the model in a rate law."""
        if name in self.rules:
            self.depth += 1
            if self.depth > len(self.rules):
                raise InputError(f"the rule of '{name}' depends on itself", "", "take it out")
            found = f"({self._formula(self.rules[name], held, concentrations, used, vessel)})"
            self.depth -= 1
            return found
        if name in self.species:
            if name in held:
                used[_safe(name)] = concentrations[name]
                text = _safe(name)
            else:
                text = f"[{self.names[name]}]"
            if self.in_model_units:
                substance = self.species[name].getSubstanceUnits() or self.model.getSubstanceUnits() or "mole"
                used[f"unit_of_{name}"] = f"{self._unit(substance)[0] / self._volume()!r} mol/m^3"
                text = f"({text}/unit_of_{name})"
            if self.species[name].getHasOnlySubstanceUnits():
                used[_safe(vessel)] = self._constant(vessel)
                return f"({text}*{_safe(vessel)})"
            return text
        if name == "T" and self._is_temperature():
            if self.in_model_units:
                used["kelvin"] = "1 K"
            return "(T/kelvin)" if self.in_model_units else "T"
        if name == "R" and self._is_gas_constant() and not self.in_model_units:
            return "R"
        if name not in self.constants:
            raise InputError(f"'{name}' is not defined", "", "define it")
        used[_safe(name)] = self._constant(name)
        return _safe(name)


def _safe(name: str) -> str:
    """The name of a constant, different from the reserved names of a rate law."""
    return f"{name}_of_model" if name in _OWN else name


def _exact(number: float) -> Fraction:
    """A stoichiometric number as a simple fraction, or with all its digits."""
    simple = Fraction(number).limit_denominator(1000)
    return simple if abs(float(simple) - number) <= 1e-9 * abs(number) else Fraction(repr(number))
