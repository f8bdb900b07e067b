"""Feeds, and the reading of mixtures from their specifications."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import MISSING, dataclass
from typing import Any

from molino.core import units
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.species import Species
from molino.core.contents.mixture import Contents
from molino.core.contents.mixture_equations import Mixture
from molino.core.dual import Number, implicit, value_of
from molino.core.errors import Faults, InputError, UnitError, nearest
from molino.core.frozen import Frozen, field_names, settle
from molino.core.printing import Printed
from molino.core.schema import QuantityField, ReadField, contents, option, quantities, quantity, read_fields
from molino.core.thermo.activity import ActivityModel
from molino.core.thermo.cubic import FORMS, CubicEquation
from molino.core.thermo.phase_model import MODELS, GasRoot
from molino.core.unit_tables import GAS_CONSTANT, SI_UNITS
from molino.core.units import QuantityLike, Value


def check_species(given: Iterable[str], chemistry: Chemistry, place: str) -> None:
    """Raise InputError for species that are not in the chemistry."""
    faults = Faults()
    for name in sorted(set(given) - set(chemistry.names)):
        faults.add(place, f"'{name}' is not a species of the chemistry", nearest(name, chemistry.names))
    faults.raise_any()


def check_contents(given: Iterable[str], chemistry: Chemistry, place: str, is_closed: bool) -> None:
    """Raise InputError for unknown species, for missing species that rate laws need, and if no reaction can start in a
    vessel without another inlet (`is_closed`)."""
    faults = Faults()
    names = set(given)
    with faults.at():
        check_species(names, chemistry, place)
    formed = {name for r in chemistry.reactions for name in r.equation.species}
    asking: dict[str, list[str]] = {}
    for reaction in chemistry.reactions:
        for name in sorted(reaction.asks - names - formed):
            asking.setdefault(name, []).append(str(reaction.name))
    for name, reactions in asking.items():
        message = f"'{name}' is not given, and the rate law of {' and '.join(reactions)} needs it"
        faults.add(place, message, f"give it; write {name} = 0 if there is none")
    if is_closed and chemistry.reactions and not faults.found and not _can_start(chemistry, names):
        missing = {name for r in chemistry.reactions for name, _ in r.equation.left} - names
        faults.add(place, "no reaction can start from the input", f"add {', '.join(sorted(missing))}")
    faults.raise_any()


MIXTURE_CAPACITIES = ("heat capacity per volume", "heat capacity per mass", "heat capacity")
"""The bases of the heat capacity of a whole mixture: volume, mass or mole."""


def _can_start(chemistry: Chemistry, names: set[str]) -> bool:
    for reaction in chemistry.reactions:
        sides = [reaction.equation.left] + ([reaction.equation.right] if reaction.equation.reversible else [])
        if any(all(name in names for name, _ in side) for side in sides):
            return True
    return False


@dataclass(frozen=True, eq=False)
class Feed(Frozen, Printed):
    """A feed stream: a liquid of constant density, with a pressure an ideal gas, or a fluid given by `model`.

    It may be specified in any sufficient combination; missing or contradictory inputs are reported.

    Parameters
    ----------
    contents : mapping of species to quantity
        Concentrations, molar or mass flows, fractions, ratios, partial pressures, the rest:
        {"xylose": "0.35 mol/L", "acid": "300 mol/h"}, {"methanol": "80 mol%", "water": "rest"},
        {"A": "12 kmol/h", "B": "6 per A"}; a bare number is mol/m^3. Species left out are absent.
    flow : str, float or quantity, or several of them
        Volumetric flow "12 m3/h" (a bare number is m^3/s), or total molar flow "400 kmol/h", or mass flow "5 t/h".
    T : temperature, optional
        Needed where a rate constant depends on temperature, and for a gas.
    P : pressure, optional
        The feed is then an ideal gas: P Q = sum(F) R T; also with partial pressures.
    density : optional
        Of the whole liquid, where volumes and masses are both given: "1050 kg/m3", or its moles per volume, "55 mol/L".
    heat_capacity : optional
        Of the whole mixture, where the species have none: per volume "4 MJ/m3/K" or, with the density, per mass
        "4.2 kJ/kg/K" of a liquid; per mole "35 J/mol/K" of a gas.
    model : str or CubicEquation, optional
        How the volume follows from the amounts: "constant density" (of a liquid; also one under a pressure), "additive
        volumes" (of a liquid, from the molar volume or density of each species), "ideal gas", a cubic equation of state
        ("Soave", "Peng-Robinson", or a `CubicEquation` with binary parameters), or an `ActivityModel` of a non-ideal
        liquid, with additive volumes if all species have one.

    Raises
    ------
    InputError
        With all faults, and missing or contradictory inputs; those that need species properties are reported by the
        vessel.

    Examples
    --------
    >>> feed = mo.Feed({"A": "80 mol%", "B": "rest"}, flow="100 mol/s", T="500 K", P="3 bar")
    >>> feed.is_gas
    True
    >>> print(feed)
    100 mol/s of A 80 mol%, B rest at 500 K and 3 bar
    """

    contents: ReadField = contents(MISSING)
    flow: ReadField = quantities("volumetric flow", alternatives=("molar flow", "mass flow"))
    T: QuantityField = quantity("temperature", setting=True)
    P: QuantityField = quantity("pressure", setting=True)
    density: ReadField = quantity("density", alternatives=("concentration",))
    heat_capacity: ReadField = quantity(MIXTURE_CAPACITIES[0], alternatives=MIXTURE_CAPACITIES[1:])
    model: ReadField = option(None)

    def __post_init__(self) -> None:
        faults = Faults()
        flows = []
        given = self.flow if isinstance(self.flow, list | tuple) else [self.flow] if self.flow is not None else []
        for one in given:
            with faults.at():
                flows.append(units.with_deviation(one, read_flow))
        settle(self, flow=flows[0] if len(flows) == 1 else tuple(flows))
        if not isinstance(self.contents, Contents):
            with faults.at():
                settle(self, contents=Contents(self.contents, True, "feed"))
        read_fields(self, faults, "feed")
        with faults.at("feed"):
            settle(self, density=read_density(self.density))
        with faults.at("feed"):
            check_model(self.model)
        with faults.at("feed"):
            settle(self, heat_capacity=read_mixture_capacity(self.heat_capacity, self.density))
        faults.raise_any()
        if self.is_real or volume_model(self.model) == "additive volumes":
            return
        if self.density is None and not self.contents.waits_for_species(self.flows, self.T, self.P):
            self.mixture(None)

    @property
    def flows(self) -> tuple[Value, ...]:
        """The total flows that were given."""
        return self.flow if isinstance(self.flow, tuple) else (self.flow,)

    @property
    def is_gas(self) -> bool:
        """Whether it is a gas."""
        return is_gas(self.model, self.P, self.contents)

    @property
    def is_real(self) -> bool:
        """Whether it is a gas by a cubic equation of state."""
        return is_real(self.model)

    def mixture(self, species: Mapping[str, Species] | None, given: Mapping[str, Number] | None = None) -> Mixture:
        """Concentrations in mol/m^3 and volumetric flow in m^3/s, with the properties of the species where needed.

        A real gas is computed as an ideal gas at its pressure, and its volume then corrected by the compressibility; a
        given volumetric flow is not changed. `given` replaces some of its numbers: "flow", "feed T", "feed P", "[A]".
        """
        given = given or {}
        contents = self.contents.with_numbers(portions_in(given))
        flows = [replaced(flow, given, "flow") if n == 0 else flow for n, flow in enumerate(self.flows)]
        T, P = replaced(self.T, given, "feed T"), replaced(self.P, given, "feed P")
        return mixture_of(contents, flows, species, T, P, self.density, self.model)

    def pressure(self, mixture: Mixture, given: Mapping[str, Number]) -> Number:
        """In Pa: the given pressure, or sum(c) R T of an ideal gas; nan for a liquid without a pressure."""
        if self.P is not None:
            return given.get("feed P", self.P.si)
        if not self.is_gas:
            return float("nan")
        return sum(mixture.concentrations.values()) * GAS_CONSTANT * given.get("feed T", self.T.si)

    def given(self) -> list[tuple[str, Value | None]]:
        """Every value with its kind; the units of results are chosen from them."""
        flows = [(kind, flow) for flow in self.flows if (kind := flow_kind(flow))]
        return [*self.contents.given(), *flows, ("temperature", self.T), ("pressure", self.P)]

    def __str__(self) -> str:
        flows = " and ".join(str(flow) for flow in self.flows)
        at = f" at {self.T}" if self.T is not None else ""
        under = f"{' and' if at else ' at'} {self.P}" if self.P is not None else ""
        return f"{flows}{' of ' if flows else ''}{self.contents}{at}{under}"


@dataclass(frozen=True)
class NoFeed:
    """The feed of a vessel that has none before it is in a train."""

    def __getattr__(self, name: str) -> Any:
        if name in field_names(Feed) or name in ("is_gas", "is_real", "mixture", "given", "flows"):
            raise InputError("no feed is given", "feed", "give feed=mo.Feed(...), or run it in a train with a feed")
        raise AttributeError(name)

    def __str__(self) -> str:
        return "by its train"


NO_FEED = NoFeed()


def equation_of(model: Any, species: Mapping[str, Species]) -> CubicEquation:
    """The equation of state that a model names, over all species of a chemistry."""
    if isinstance(model, CubicEquation):
        return CubicEquation(tuple(species.values()), model.form, model.pairs)
    return CubicEquation(tuple(species.values()), model)


def portions_in(given: Mapping[str, Number]) -> dict[str, Number]:
    """The species among some conditions: "[A]" is the content of A."""
    return {name[1:-1]: number for name, number in given.items() if name.startswith("[")}


def replaced(own: Value | None, given: Mapping[str, Number], name: str) -> Value | None:
    """A value, with the number given under its name, if any."""
    if name not in given:
        return own
    return Value(given[name], own.unit if own is not None else None)


def mixture_of(
    contents: Contents,
    totals: Iterable[Value | None],
    species: Mapping[str, Species] | None,
    T: Value | None,
    P: Value | None,
    density: Value | None,
    model: object,
) -> Mixture:
    """Compute a feed or charge by its model; see `Feed.mixture`."""
    given = [t for t in totals if t is not None]
    pressure = P if is_gas(model, P, contents) else None
    if not is_real(model):
        return contents.mixture(given, species, T, pressure, density, volume_model(model) == "additive volumes")
    if T is None or P is None or species is None:
        raise InputError("a real gas needs T and P", "feed", "give both")
    ideal = contents.mixture(given, species, T, P, None)
    Z = compressibility(equation_of(model, species), T.si, P.si, ideal.concentrations)
    by_volume = any(flow_kind(t) == "volumetric flow" or _is_volume(t) for t in given)
    return Mixture({s: c / Z for s, c in ideal.concentrations.items()}, ideal.volume * (1.0 if by_volume else Z))


def compressibility(equation: CubicEquation, T: Number, P: Number, amounts: Mapping[str, Number]) -> Number:
    """Compressibility of a gas from numbers of any kind: the root of the cubic, with derivatives by the implicit
    function theorem."""
    a, b, slope, critical, pairs = equation.numbers
    n = [amounts.get(name, 0.0) for name in equation.names]
    whole = sum(n)
    roots = [float(a[i]) ** 0.5 * (1 + float(slope[i]) * (1 - (T / float(critical[i])) ** 0.5)) for i in range(len(n))]
    mixed = sum(
        x * y * r * s * float(pairs[i, j])
        for i, (x, r) in enumerate(zip(n, roots, strict=True))
        for j, (y, s) in enumerate(zip(n, roots, strict=True))
    )
    RT = T * GAS_CONSTANT
    A = mixed / (whole * whole) * P / (RT * RT)
    B = sum(x * float(v) for x, v in zip(n, b, strict=True)) / whole * P / RT
    u, w = sum(FORMS[equation.form].d), FORMS[equation.form].d[0] * FORMS[equation.form].d[1]
    at, bt = value_of(A), value_of(B)
    Z = (
        GasRoot.columns(at, bt, u, w)
        if hasattr(at, "shape") and at.shape
        else GasRoot.number(float(at), float(bt), u, w)
    )
    by_Z = 3 * Z**2 - 2 * (1 + bt - u * bt) * Z + at + (w - u) * bt**2 - u * bt
    by_B = (u - 1) * Z**2 + (2 * (w - u) * bt - u) * Z - at - 2 * w * bt - 3 * w * bt**2
    return implicit(Z, [(-(Z - bt) / by_Z, A), (-by_B / by_Z, B)])


def _is_volume(value: Value) -> bool:
    return value.unit is not None and units.unit(value.unit).dimension == units.unit("m^3").dimension


def volume_model(model: Any) -> str | None:
    """The volume rule of a model, a key of `MODELS`; None where no model is given."""
    if isinstance(model, ActivityModel):
        known = all(s.has_molar_volume for s in model.species)
        return MODELS[1] if known else MODELS[0]
    return model.form if isinstance(model, CubicEquation) else model


def is_real(model: object) -> bool:
    """Whether a model is a cubic equation of state."""
    return isinstance(model, CubicEquation) or model in FORMS


def check_model(model: object) -> None:
    """Raise InputError for an unknown model."""
    if model is not None and not isinstance(model, CubicEquation | ActivityModel) and model not in MODELS:
        raise InputError(f"unknown model '{model}'", "model", nearest(str(model), MODELS))


def is_gas(model: object, P: QuantityLike | None, contents: Contents) -> bool:
    """Whether a mixture is a gas: by its model, or because it has a pressure."""
    if model is not None:
        return volume_model(model) not in MODELS[:2]
    return P is not None or contents.is_gas


def read_mixture_capacity(given: object, density: Value | None) -> Value | None:
    """A heat capacity of a whole mixture, per volume (from one per mass, with the density) or per mole.

    Raises
    ------
    InputError
        If its unit is another, or it is per mass and no density is given.
    """
    if given is None:
        return None
    read = units.read(given, name="heat_capacity")
    for kind in MIXTURE_CAPACITIES:
        if read.unit is None or units.unit(read.unit).dimension == units.unit(SI_UNITS[kind]).dimension:
            value = units.positive(read, kind, "heat_capacity")
            if kind != MIXTURE_CAPACITIES[1]:
                return value
            if density is None or is_molar(density):
                advice = "give the density, or the heat capacity per volume, like '4.2 MJ/m3/K'"
                raise InputError("a heat capacity per mass needs the density", "heat_capacity", advice)
            return Value(value.si * density.si, SI_UNITS[MIXTURE_CAPACITIES[0]])
    message = f"'{given}' is not a heat capacity per volume, mass or mole"
    raise UnitError(message, "heat_capacity", "give it like '4.2 kJ/kg/K', '4 MJ/m3/K' or '35 J/mol/K'")


def flow_kind(flow: Value) -> str | None:
    """Which kind of flow it is."""
    kinds = ("volumetric flow", "molar flow", "mass flow")
    if flow.unit is None:
        return kinds[0]
    dimension = units.unit(flow.unit).dimension
    return next((k for k in kinds if units.unit(SI_UNITS[k]).dimension == dimension), None)


def read_density(given: object) -> Value | None:
    """The density of a liquid: its mass per volume, or ("55 mol/L") all its moles per volume."""
    if given is None:
        return None
    value = units.read(given, name="density")
    if value.unit is not None and not is_molar(value):
        units.expect(value.unit, "density", "density", str(given))
    return units.positive(value, "concentration" if is_molar(value) else "density", "density")


def is_molar(density: Value | None) -> bool:
    """Whether a density is molar."""
    molar = units.unit(SI_UNITS["concentration"]).dimension
    return density is not None and density.unit is not None and units.unit(density.unit).dimension == molar


def read_flow(given: object) -> Value:
    value = units.read(given, name="feed, flow")
    if flow_kind(value) is None:
        came = units.describe(units.unit(str(value.unit)).dimension)
        message = f"'{given}' is not a flow: {value.unit} is a unit of {came}"
        raise UnitError(message, "feed, flow", "give a volumetric flow, like '12 m3/h', a molar one or a mass flow")
    return units.positive(value, str(flow_kind(value)), "feed, flow")


def require_feed(given: object, label: str) -> None:
    """Raise InputError for anything but a Feed."""
    if not isinstance(given, Feed):
        raise InputError(f"{given!r} is not a feed", label, "write mo.Feed({'A': '0.35 mol/L'}, flow='12 m3/h')")
