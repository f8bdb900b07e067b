"""A chemistry written as SBML."""

from __future__ import annotations

import re
from collections.abc import Mapping
from fractions import Fraction
from pathlib import Path
from typing import Any

import sympy as sp

from molino.core import units
from molino.core.annotations import ByName
from molino.core.arguments import checked
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE, species_in
from molino.core.chemistry.reaction import Reaction
from molino.core.errors import Faults, InputError
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import QuantityLike
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
_GAS = sp.Dummy("R")


def library() -> Any:
    """The library of the standard; InputError where it is not installed."""
    try:
        import libsbml
    except ImportError as error:
        message = "SBML needs python-libsbml, which is not installed"
        raise InputError(message, "", "pip install 'molino[sbml]'") from error
    return libsbml


@checked
def write_sbml(
    chemistry: Chemistry,
    path: str | Path,
    *,
    initial: ByName | None = None,
    volume: QuantityLike = "1 m3",
    T: QuantityLike | None = None,
    P: QuantityLike | None = None,
) -> tuple[str, ...]:
    """Write a chemistry as SBML, in SI units.

    Parameters
    ----------
    chemistry : Chemistry
        With every constant known, and rates per volume that depend on concentrations, T and P.
    path : str or Path
    initial : mapping of species to concentration, optional
        Initial concentrations; by default zero.
    volume : volume
        Of the compartment.
    T, P : optional
        Temperature and pressure, if rates depend on them.

    Returns
    -------
    tuple of str
        Features that could not be converted.

    Raises
    ------
    InputError
        For rate laws that SBML cannot express, and if python-libsbml is missing.
    WriteError
        If the file cannot be written.

    Examples
    --------
    >>> import molino as mo, tempfile
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k=mo.Arrhenius(k="0.2 1/min", at="350 K", Ea="60 kJ/mol")))
    >>> mo.files.write_sbml(chem, tempfile.mkdtemp() + "/model.xml", T="360 K")
    ()
    """
    sbml = library()
    volume, starts, conditions = _read_conditions(chemistry, initial or {}, volume, T, P)
    model = _Writer(sbml, chemistry, volume, starts, conditions)
    with whole(Path(path)) as temporary:
        temporary.write_text(sbml.writeSBMLToString(model.document), encoding="utf-8")
    return _not_carried(chemistry)


def _read_conditions(
    chemistry: Chemistry, initial: ByName, volume: QuantityLike, T: QuantityLike | None, P: QuantityLike | None
) -> tuple[float, dict[str, float], dict[str, float]]:
    """Volume, concentrations, and temperature and pressure where rates depend on them, in SI."""
    faults = Faults()
    for one in chemistry.unknowns:
        faults.add(one.name, "it is unknown", "fit it, or give a number")
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
    for species, amount in initial.items():
        with faults.at(f"initial, {species}"):
            if species not in network.species:
                raise InputError("unknown species", "", "name a species of the chemistry")
            starts[species] = units.read(amount, "concentration", species).si
    faults.raise_any()
    return volume, starts, conditions


def _not_carried(chemistry: Chemistry) -> tuple[str, ...]:
    """The features that SBML cannot express."""
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
                raise InputError(f"its rate depends on {symbol}, and SBML has concentrations", "", "write it by [A]")
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
            self.gas = self._parameter("R", GAS_CONSTANT, self._unit(kinds))
        whole_rate = whole_rate.xreplace({_GAS: sp.Symbol(self.gas or "R")})
        text = sp.sstr(whole_rate.replace(sp.log, sp.Function("ln")), full_prec=True).replace("**", "^")
        math = self.sbml.parseL3Formula(text)
        if math is None:
            raise InputError(
                f"its rate could not be written: {self.sbml.getLastParseL3Error()}", "", "write it simpler"
            )
        made.createKineticLaw().setMath(math)


def _with_gas_constant(expression: sp.Expr) -> tuple[sp.Expr, bool]:
    """An expression with the gas constant as a symbol, if numbers in it are multiples of it or of its inverse."""
    swap: dict[sp.Expr, sp.Expr] = {}
    for number in expression.atoms(sp.Float):
        for times, symbol in (
            (float(number) * GAS_CONSTANT, 1 / _GAS),
            (float(number) / GAS_CONSTANT, _GAS),
        ):
            if round(times) and abs(times - round(times)) < 1e-13 * abs(times):
                swap[number] = round(times) * symbol
    return expression.xreplace(swap), bool(swap)
