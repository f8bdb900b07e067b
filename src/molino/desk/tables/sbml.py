"""Chemistry as SBML, level 3 version 2 core (M. Hucka et al., J. Integr. Bioinform. 16 (2019) 20190021), in and out."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any
from xml.parsers import expat

import sympy as sp

from molino.core import units
from molino.core.arguments import checked
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.equation import parse_equation
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE, names_in, parse_formula, species_in
from molino.core.chemistry.reaction import Reaction
from molino.core.errors import Faults, InputError
from molino.core.frozen import Frozen, FrozenMapping
from molino.core.printing import Printed
from molino.desk.tables.write import whole

_BASE = {
    "[length]": "metre",
    "[mass]": "kilogram",
    "[time]": "second",
    "[temperature]": "kelvin",
    "[substance]": "mole",
    "[current]": "ampere",
    "[luminosity]": "candela",
}
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
"""Names that mean something in a rate law here."""
_OF_R = units.unit("J/mol/K").dimension
_DEEPEST = 200
"""How deep the elements of a file may be nested."""


@dataclass(frozen=True, eq=False)
class SbmlModel(Frozen, Printed):
    """What stands in a file of SBML; made by `read_sbml`.

    Attributes
    ----------
    chemistry : Chemistry
    initial : mapping of species to str or float
        Their concentrations at first, as a batch takes them; bare numbers where the model has no units.
    volume : str or float
        Of its compartment.
    T : str or None
        The value of its parameter T, where rates depend on it.
    notes : tuple of str
        What could not be carried over.

    Examples
    --------
    >>> import molino as mo, tempfile
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> path = tempfile.mkdtemp() + "/model.xml"
    >>> notes = mo.write_sbml(chem, path, initial={"A": "1 mol/L"})
    >>> model = mo.read_sbml(path)
    >>> batch = mo.Batch(model.chemistry, model.initial, time="10 min")
    >>> round(batch.run().conversion("A"), 4)
    0.8647
    """

    chemistry: Chemistry
    initial: Mapping[str, Any]
    volume: Any
    T: Any
    notes: tuple[str, ...]

    def __str__(self) -> str:
        return "\n".join([str(self.chemistry), *(f"note: {note}" for note in self.notes)])


def _library() -> Any:
    """The library of the standard; InputError where it is not installed."""
    try:
        import libsbml
    except ImportError as error:
        message = "SBML is asked for, and python-libsbml is not installed"
        raise InputError(message, "", "pip install 'molino[sbml]'") from error
    return libsbml


# out


@checked
def write_sbml(
    chemistry: Chemistry,
    path: str | Path,
    *,
    initial: Mapping[str, Any] | None = None,
    volume: Any = "1 m3",
    T: Any = None,
    P: Any = None,
) -> tuple[str, ...]:
    """Write a chemistry as SBML, in SI units.

    Parameters
    ----------
    chemistry : Chemistry
        With every constant known, and rates per volume that depend on concentrations, T and P.
    path : str or Path
    initial : mapping of species to concentration, optional
        Concentrations at first; zero if left out.
    volume : volume
        Of the one compartment.
    T, P : optional
        Temperature and pressure, where rates depend on them.

    Returns
    -------
    tuple of str
        What could not be carried over.

    Raises
    ------
    InputError
        For all that stands in a rate law and has no place in SBML, and where python-libsbml is missing.
    WriteError
        If the file cannot be written.

    Examples
    --------
    >>> import molino as mo, tempfile
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k=mo.Arrhenius(k="0.2 1/min", at="350 K", Ea="60 kJ/mol")))
    >>> mo.write_sbml(chem, tempfile.mkdtemp() + "/model.xml", T="360 K")
    ()
    """
    sbml = _library()
    faults = Faults()
    for one in chemistry.unknowns:
        faults.add(one.name, "it is not known", "fit it, or give a number")
    for reaction in chemistry.reactions:
        if reaction.basis != "volume":
            faults.add(str(reaction.name), f"its rate is per {reaction.basis}, and SBML has none", "give it per volume")
    given = {"T": (T, "temperature", TEMPERATURE), "P": (P, "pressure", PRESSURE)}
    network, conditions = chemistry.network, {}
    for name, (value, kind, symbol) in given.items():
        if symbol in network.symbols:
            with faults.at(name):
                if value is None:
                    raise InputError(f"rates depend on {name}, and it is not given", "", f"give {name}=")
                conditions[name] = units.positive(value, kind, name).si
    volume = units.positive(volume, "volume", "volume").si
    starts = {}
    for species, amount in (initial or {}).items():
        with faults.at(f"initial, {species}"):
            if species not in network.species:
                raise InputError("there is no such species", "", "name a species of the chemistry")
            starts[species] = units.read(amount, "concentration", species).si
    faults.raise_any()
    model = _Writer(sbml, chemistry, volume, starts, conditions)
    with whole(Path(path)) as temporary:
        temporary.write_text(sbml.writeSBMLToString(model.document), encoding="utf-8")
    return _not_carried(chemistry)


def _not_carried(chemistry: Chemistry) -> tuple[str, ...]:
    """What SBML has no place for."""
    notes = []
    if any(one.formula for one in chemistry.species):
        notes.append("formulas of species: elements are not balanced in SBML")
    properties = sorted({name for one in chemistry.species for name in one.known()})
    if properties:
        notes.append(f"properties of species: {', '.join(properties)}")
    if any(reaction.enthalpy is not None for reaction in chemistry.reactions):
        notes.append("enthalpies of reaction")
    if chemistry.covariance is not None:
        notes.append("the covariance of the constants")
    return tuple(notes)


class _Writer:
    """A chemistry in a document of SBML."""

    def __init__(
        self,
        sbml: Any,
        chemistry: Chemistry,
        volume: float,
        starts: Mapping[str, float],
        conditions: Mapping[str, float],
    ) -> None:
        self.sbml, self.document = sbml, sbml.SBMLDocument(3, 2)
        self.model = self.document.createModel()
        self.model.setId("chemistry")
        self._taken: set[str] = set()
        self._units: dict[str, str] = {}
        self.gas: str | None = None
        for attribute, kinds in (
            ("Substance", {"mole": 1}),
            ("Extent", {"mole": 1}),
            ("Time", {"second": 1}),
            ("Volume", {"metre": 3}),
        ):
            getattr(self.model, f"set{attribute}Units")(self._unit({k: Fraction(n) for k, n in kinds.items()}))
        compartment = self.model.createCompartment()
        self.vessel = self._id("compartment")
        compartment.setId(self.vessel)
        compartment.setConstant(True)
        compartment.setSpatialDimensions(3)
        compartment.setSize(volume)
        compartment.setUnits(self.model.getVolumeUnits())
        network = chemistry.network
        self.ids = {f"[{name}]": self._species(name, starts.get(name, 0.0)) for name in network.species}
        dimensions = {"T": "kelvin", "P": "pascal"}
        swap: dict[sp.Symbol, sp.Symbol] = {}
        for name, value in conditions.items():
            swap[TEMPERATURE if name == "T" else PRESSURE] = sp.Symbol(self._parameter(name, value, dimensions[name]))
        for one in chemistry.parameters:
            dimension = units.unit(one.unit).dimension if one.unit is not None else None
            unit = None if dimension is None else self._unit({_BASE[d]: n for d, n in dimension.items()})
            swap[one.symbol] = sp.Symbol(self._parameter(one.name, one.value, unit))
        faults = Faults()
        for reaction, rate in zip(chemistry.reactions, network.rates, strict=True):
            with faults.at(str(reaction.name)):
                self._reaction(reaction, rate, swap)
        faults.raise_any()

    def _id(self, name: str) -> str:
        """A name that SBML allows, unlike all others."""
        stem = re.sub(r"\W", "_", name, flags=re.ASCII)
        stem = stem if re.match(r"[A-Za-z_]", stem) else f"_{stem}"
        found, count = stem, 2
        while found in self._taken:
            found, count = f"{stem}_{count}", count + 1
        self._taken.add(found)
        return found

    def _unit(self, kinds: Mapping[str, Fraction]) -> str:
        """The definition of a product of SI units."""
        text = "_".join(
            f"{kind}{'' if n == 1 else str(n).replace('-', 'm').replace('/', 'd')}" for kind, n in sorted(kinds.items())
        )
        if not kinds:
            return "dimensionless"
        if text not in self._units:
            definition = self.model.createUnitDefinition()
            self._units[text] = self._id(f"unit_{text}")
            definition.setId(self._units[text])
            for kind, exponent in kinds.items():
                unit = definition.createUnit()
                unit.setKind(self.sbml.UnitKind_forName(kind))
                unit.setExponent(float(exponent))
                unit.setScale(0)
                unit.setMultiplier(1.0)
        return self._units[text]

    def _species(self, name: str, start: float) -> str:
        species, own = self.model.createSpecies(), self._id(name)
        species.setId(own)
        species.setName(name)
        species.setCompartment(self.vessel)
        species.setInitialConcentration(start)
        species.setSubstanceUnits(self.model.getSubstanceUnits())
        species.setHasOnlySubstanceUnits(False)
        species.setBoundaryCondition(False)
        species.setConstant(False)
        return own

    def _parameter(self, name: str, value: float, unit: str | None) -> str:
        parameter, own = self.model.createParameter(), self._id(name)
        parameter.setId(own)
        parameter.setName(name)
        parameter.setConstant(True)
        parameter.setValue(value)
        if unit is not None:
            parameter.setUnits(unit)
        return own

    def _reaction(self, reaction: Reaction, rate: sp.Expr, swap: Mapping[sp.Symbol, sp.Symbol]) -> None:
        """An equation with its kinetic law, in mol/s of the whole compartment."""
        asked = {}
        for symbol in rate.free_symbols:
            of = species_in(symbol)
            if of is not None and of[0]:
                raise InputError(f"its rate depends on {symbol}, and SBML knows concentrations", "", "write it by [A]")
            if of is not None:
                asked[symbol] = sp.Symbol(self.ids[f"[{of[1]}]"])
        made = self.model.createReaction()
        made.setId(self._id(str(reaction.name)))
        made.setName(str(reaction.name))
        made.setReversible(bool(reaction.equation.reversible))
        sides = {}
        for side, create in (
            (reaction.equation.left, made.createReactant),
            (reaction.equation.right, made.createProduct),
        ):
            for name, moles in side:
                sides[name] = True
                reference = create()
                reference.setSpecies(self.ids[f"[{name}]"])
                reference.setStoichiometry(float(moles))
                reference.setConstant(True)
        for symbol, own in asked.items():
            of = species_in(symbol)
            assert of is not None
            if of[1] not in sides:
                made.createModifier().setSpecies(str(own))
        whole_rate = sp.Symbol(self.vessel) * rate.xreplace({**asked, **swap})
        known = (sp.exp, sp.log)
        if foreign := [str(f.func) for f in whole_rate.atoms(sp.Function) if not isinstance(f, known)]:
            raise InputError(f"its rate has {', '.join(sorted(set(foreign)))}", "", "write it with + - * / ^ exp log")
        whole_rate, has_gas = _with_gas_constant(whole_rate)
        if has_gas and self.gas is None:
            kinds = {"joule": Fraction(1), "mole": Fraction(-1), "kelvin": Fraction(-1)}
            self.gas = self._parameter("R", units.GAS_CONSTANT, self._unit(kinds))
        whole_rate = whole_rate.xreplace({_GAS: sp.Symbol(self.gas or "R")})
        text = sp.sstr(whole_rate.replace(sp.log, sp.Function("ln")), full_prec=True).replace("**", "^")
        math = self.sbml.parseL3Formula(text)
        if math is None:
            raise InputError(
                f"its rate could not be written: {self.sbml.getLastParseL3Error()}", "", "write it simpler"
            )
        made.createKineticLaw().setMath(math)


_GAS = sp.Dummy("R")


def _with_gas_constant(expression: sp.Expr) -> tuple[sp.Expr, bool]:
    """An expression with the gas constant as a symbol, where numbers in it are multiples of it or of its inverse."""
    swap: dict[sp.Expr, sp.Expr] = {}
    for number in expression.atoms(sp.Float):
        for times, symbol in (
            (float(number) * units.GAS_CONSTANT, 1 / _GAS),
            (float(number) / units.GAS_CONSTANT, _GAS),
        ):
            if round(times) and abs(times - round(times)) < 1e-13 * abs(times):
                swap[number] = round(times) * symbol
    return expression.xreplace(swap), bool(swap)


# in


@checked
def read_sbml(path: str | Path) -> SbmlModel:
    """Read a chemistry from SBML (of any level that the library of the standard converts).

    Parameters
    ----------
    path : str or Path

    Returns
    -------
    SbmlModel

    Raises
    ------
    InputError
        For a file that is no sound SBML, for all in it that would change a run and has no place here (several
        compartments, events, rate rules, delays), for units that only some of its numbers have, and where
        python-libsbml is missing.

    Examples
    --------
    >>> try:
    ...     mo.read_sbml("nowhere.xml")
    ... except mo.InputError as error:
    ...     print(error.faults[0].what)
    there is no such file
    """
    sbml, path = _library(), Path(path)
    if not path.is_file():
        raise InputError("there is no such file", str(path), "check its name and folder")
    text = path.read_text(encoding="utf-8")
    _check_depth(text, path.name)
    document = sbml.readSBMLFromString(text)
    _raise_errors(sbml, document, path.name)
    faults = Faults()
    _check_calls(sbml, document.getModel(), path.name)
    for category in (sbml.LIBSBML_CAT_UNITS_CONSISTENCY, sbml.LIBSBML_CAT_MODELING_PRACTICE):
        document.setConsistencyChecks(category, False)  # units are compared as rates are read
    document.checkConsistency()
    notes: list[str] = []
    with faults.at(path.name):
        notes = _packages(document)
    with faults.at():
        _raise_errors(sbml, document, path.name)
    if faults.found:  # all at once
        with faults.at(path.name):
            _Reader(sbml, document.getModel(), notes).refuse()
    faults.raise_any()
    for what in ("expandFunctionDefinitions", "expandInitialAssignments", "promoteLocalParameters"):
        properties = sbml.ConversionProperties()
        properties.addOption(what, True)
        document.convert(properties)
    with faults.at(path.name):
        found = _Reader(sbml, document.getModel(), notes).read()
    faults.raise_any()
    return found


def _raise_errors(sbml: Any, document: Any, name: str) -> None:
    """InputError with every error that the library of the standard has found."""
    faults = Faults()
    for n in range(document.getNumErrors()):
        error = document.getError(n)
        if error.getSeverity() >= sbml.LIBSBML_SEV_ERROR:
            faults.add(f"{name}, line {error.getLine()}", error.getShortMessage(), "correct the file")
    if not faults.found and document.getModel() is None:
        faults.add(name, "there is no model in it", "correct the file")
    faults.raise_any()


def _check_depth(text: str, name: str) -> None:
    """InputError for elements nested deeper than the library of the standard can follow, and for what is not XML."""
    depth = deepest = 0

    def begin(*_: Any) -> None:
        nonlocal depth, deepest
        depth += 1
        deepest = max(deepest, depth)

    def end(_: str) -> None:
        nonlocal depth
        depth -= 1

    parser = expat.ParserCreate()
    parser.StartElementHandler, parser.EndElementHandler = begin, end
    try:
        parser.Parse(text.encode("utf-8"), True)
    except expat.ExpatError as error:
        raise InputError(f"it is not XML ({error})", name, "name a file of SBML") from error
    if deepest > _DEEPEST:
        raise InputError(
            f"its elements are nested {deepest} deep", name, f"write its formulas flatter, {_DEEPEST} at most"
        )


def _check_calls(sbml: Any, model: Any, name: str) -> None:
    """InputError for functions that call themselves, by whatever way."""
    calls = {f.getId(): _called(sbml, f.getMath()) for f in model.getListOfFunctionDefinitions()}
    for first in calls:
        reached, new = set(), calls[first]
        while new:
            reached |= new
            new = {n for one in new for n in calls.get(one, set())} - reached
        if first in reached:
            raise InputError(f"its function '{first}' calls itself", name, "take it out")


def _called(sbml: Any, node: Any) -> set[str]:
    """The names of the functions that a formula calls."""
    if node is None:
        return set()
    own = {node.getName()} if node.getType() == sbml.AST_FUNCTION else set()
    return own.union(*(_called(sbml, node.getChild(n)) for n in range(node.getNumChildren())))


def _packages(document: Any) -> list[str]:
    """Notes on extensions that are not used; InputError for one that the meaning of the model depends on."""
    found = []
    for n in range(document.getNumPlugins()):
        package = document.getPlugin(n).getPackageName()
        if package == "l3v2extendedmath":  # of the core since version 2
            continue
        if document.getPackageRequired(package):
            raise InputError(f"it needs the extension '{package}'", "", "write the model without it")
        found.append(f"the extension '{package}' is not used")
    return found


def _is_name(text: str) -> bool:
    """Whether a species can be called so in an equation."""
    try:
        return parse_equation(f"{text} -> x").left == ((text, Fraction(1)),)
    except InputError:
        return False


class _Reader:
    """A document of SBML as a chemistry."""

    def __init__(self, sbml: Any, model: Any, notes: list[str]) -> None:
        self.sbml, self.model = sbml, model
        self.faults, self.notes, self.depth = Faults(), notes, 0
        self.rules = {r.getVariable(): r.getMath() for r in model.getListOfRules() if r.isAssignment()}
        self.species = {s.getId(): s for s in model.getListOfSpecies()}
        names = [s.getName() or s.getId() for s in self.species.values()]
        fit = len(set(names)) == len(names) and all(_is_name(name) for name in names)
        self.names = {own: (s.getName() or own) if fit else own for own, s in self.species.items()}
        self.constants: dict[str, Any] = {}
        self.has_units = bool(model.getNumUnitDefinitions()) or bool(model.getSubstanceUnits())
        self.in_model_units = False
        self.bare: dict[str, float] = {}  # constants in the units of the model

    def read(self) -> SbmlModel:
        """All of it, or every fault."""
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
        return bool(has_unit and abs(value.si - units.GAS_CONSTANT) < 1e-6 * units.GAS_CONSTANT)

    def _is_temperature(self) -> bool:
        """Whether the parameter T is one: in kelvin, or in a model without units."""
        if "T" not in self.constants:
            return False
        unit = units.read(self.constants["T"]).unit
        return not self.has_units or (bool(unit) and units.unit(unit).dimension == units.unit("K").dimension)

    def refuse(self) -> None:
        """InputError with all that would change a run and has no place here."""
        model = self.model
        if model.getNumCompartments() != 1:
            self.faults.add("", f"it has {model.getNumCompartments()} compartments, and a vessel is one", "keep one")
        for what, count in (("events", model.getNumEvents()), ("constraints", model.getNumConstraints())):
            if count:
                self.faults.add("", f"it has {count} {what}, which have no place here", "take them out")
        for rule in model.getListOfRules():
            if not rule.isAssignment():
                self.faults.add(
                    rule.getVariable() or "a rule", "a rate or algebraic rule has no place here", "take it out"
                )
            elif rule.getVariable() in self.species:
                self.faults.add(rule.getVariable(), "a rule sets a species", "take it out")
        if not model.getNumReactions():
            self.faults.add("", "it has no reactions", "add one")
        self._refuse_compartments()
        for what in (model, *self.species.values()):
            if what.isSetConversionFactor():
                self.faults.add(what.getId(), "a conversion factor has no place here", "put it into the rates")
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
                self.faults.add(one.getId(), "a fast reaction has no place here", "give it a rate, or an equilibrium")
            for reference in (*one.getListOfReactants(), *one.getListOfProducts()):
                varies = reference.isSetStoichiometryMath() or reference.getId() in self.rules
                if varies or (reference.isSetConstant() and not reference.getConstant()):
                    self.faults.add(one.getId(), "its stoichiometry is computed", "give numbers")

    def _value(self, number: float, unit: str, expected: str | None, place: str) -> Any:
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
        """Of a unit of the model its size in SI, and that SI unit."""
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

    def _concentration(self, species: Any, compartment: Any) -> Any:
        """The concentration of a species at first."""
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

    def _reaction(self, one: Any, held: set[str], concentrations: Mapping[str, Any], vessel: str) -> Reaction:
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
        used: dict[str, Any] = {}
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
        law, left = sp.sstr(rate, full_prec=True).replace("**", "^"), names_in(rate)  # what cancels is not asked for
        used = {name: value for name, value in used.items() if name in left}
        arrow = "<->" if one.getReversible() else "->"
        return Reaction(f"{sides[0]} {arrow} {sides[1]}", rate=law, name=one.getName() or one.getId(), **used)

    def _is_consistent(self, law: Any) -> bool:
        """Whether the units of a rate, its bare numbers without one, are those of extent over time."""
        definition = law.getDerivedUnitDefinition()
        if definition is None:
            return False
        factor, text = self._defined(definition)
        dimension = units.unit(text).dimension if text else {}
        wanted = units.unit("mol/s").dimension
        return dimension == wanted and abs(factor * self._time() / self._extent() - 1) < 1e-9

    def _constant(self, name: str) -> Any:
        """A constant with its unit, or as a number of the model."""
        return self.bare[name] if self.in_model_units else self.constants[name]

    def _time(self) -> float:
        return self._unit(self.model.getTimeUnits() or "second")[0]

    def _extent(self) -> float:
        return self._unit(self.model.getExtentUnits() or self.model.getSubstanceUnits() or "mole")[0]

    def _volume(self) -> float:
        compartment = self.model.getCompartment(0)
        return self._unit(compartment.getUnits() or self.model.getVolumeUnits() or "litre")[0]

    def _formula(
        self, node: Any, held: set[str], concentrations: Mapping[str, Any], used: dict[str, Any], vessel: str
    ) -> str:
        """A formula as a rate law has it; the constants in it go into `used`."""
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
                f"'{name or sbml.formulaToL3String(node)}' has no place in a rate law here", "", "write it otherwise"
            )
        return self._named(name, held, concentrations, used, vessel)

    def _named(
        self, name: str, held: set[str], concentrations: Mapping[str, Any], used: dict[str, Any], vessel: str
    ) -> str:
        """What a name of the model is in a rate law."""
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
    """The name of a constant, apart from those that a rate law has for its own."""
    return f"{name}_of_model" if name in _OWN else name


def _exact(number: float) -> Fraction:
    """A stoichiometric number as a simple fraction, or with all its digits."""
    simple = Fraction(number).limit_denominator(1000)
    return simple if abs(float(simple) - number) <= 1e-9 * abs(number) else Fraction(repr(number))
