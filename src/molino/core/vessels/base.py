"""What all vessels share: settings by name, one model, and the numbers that go into it."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, ClassVar, Self

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.balances.system import Case
from molino.core.chemistry.checks import Finding, Review
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.constants import Parameter
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.chemistry.notation import Equations
from molino.core.chemistry.species import Species
from molino.core.dual import Number, value_of
from molino.core.errors import Faults, InputError, UnitError, nearest
from molino.core.frozen import Frozen, FrozenMapping, copied, field_names, settle
from molino.core.printing import Printed
from molino.core.schema import given_values, read_fields, schema_of, settings_of, sizes_of
from molino.core.thermo.activity import ActivityModel
from molino.core.thermo.energy import CAPACITY, Energy, enthalpies, moved_references
from molino.core.thermo.phase_model import MODELS, PhaseModel, RealGas, molar_volume
from molino.core.units import Display, Value
from molino.core.vessels.catalyst import NO_CATALYST, Catalyst, check_catalyst
from molino.core.vessels.checks import VesselReview, review_vessel, size_finding, temperature_findings
from molino.core.vessels.data_range import length_finding, range_finding
from molino.core.vessels.equations import vessel_equations
from molino.core.vessels.feed import check_contents, check_species, equation_of, is_molar, is_real, volume_model
from molino.core.vessels.heat import Adiabatic, Duty, HeatShape, Jacket, Profile, read_heat
from molino.core.vessels.metrics import Weights
from molino.core.vessels.mixture import Contents, Mixture, Portion, read_portion
from molino.core.vessels.model import Model, ModelKey
from molino.core.vessels.phase_limits import feed_finding
from molino.core.vessels.piecewise_linear import PiecewiseLinear
from molino.core.vessels.roles import COOLANT, INLET
from molino.core.vessels.streams import Fluid, Stream, adiabatic_rise

if TYPE_CHECKING:
    from molino.core.vessels.metrics import Metric
    from molino.core.vessels.run import Run


@dataclass(frozen=True)
class Setting:
    """A number of a vessel that can be changed by its name.

    Attributes
    ----------
    name : str
    kind : str
        The kind of quantity, for units.
    read : value to (number in SI, form)
        Two values of one form (a volumetric flow and another) can be exchanged in the numbers of a vessel.
    put : value to vessel (or train)
        The same with another value.
    own : float
        As it stands, in SI; nan where it is not given.
    form : str
        The form of that.
    give : number in SI to value
        Another number in the form of its own, as `put` takes it: a fraction stays one, and no concentration.
    value : Value or None
        As it was given, perhaps with a standard deviation; None where it was not given itself.
    """

    name: str
    kind: str
    read: Callable[[Any], tuple[float, str]]
    put: Callable[[Any], Any]
    own: float = math.nan
    form: str = ""
    give: Callable[[float], Any] = float
    value: Value | None = None


_MOVABLE = ("T", "P", "coolant T")
"""Settings besides constants that can change while a vessel runs."""
_UNTOUCHED = frozenset({"_fed", "_by_name", "_thermal", "_phase", "_key", "_model", "_standing_numbers"})
"""What a vessel works out for itself and no independent number touches."""


class Vessel(Frozen, Printed):
    """Base of the vessels; each is a frozen dataclass with `chemistry`, and `with_` makes a changed one.

    What a vessel must say begins with an underscore and stands in the first part below; see CONTRIBUTING.
    """

    noun: ClassVar[str]
    """What it is called in messages."""
    _has_steady_state: ClassVar[bool] = False
    """Whether what flows in flows out, so that it comes to rest."""
    _is_kinetic: ClassVar[bool] = True
    """Whether its rate laws say what comes out."""
    _is_closed: ClassVar[bool] = True
    """Whether nothing enters it but its own contents."""
    _keeps_history: ClassVar[bool] = False
    """Whether it is followed from its beginning on, so that what has passed is known."""
    _counts_packing: ClassVar[bool] = False
    """Whether what a packing takes up, and its heat capacity, count in it."""
    _run_metrics: ClassVar[tuple[str, ...]] = ()
    """The metrics of a whole run that it has, which no expression of what comes out gives."""
    _sized_along: ClassVar[str] = "run"
    """How it is sized: 'run' (one run passes every smaller size), 'steady' (along the curve of its steady states)."""
    name: str
    chemistry: Chemistry
    catalyst: Catalyst | None
    heat: Any
    show: Mapping[str, str]
    profiles: Mapping[str, Any] = FrozenMapping()

    def _build(self) -> Model:
        """Its model: balances as symbols."""
        raise NotImplementedError

    def _own_numbers(self, given: Mapping[str, Number], fed: Mixture) -> dict[sp.Symbol, Number]:
        """The vessel's own parameters (temperature, volume, flow), some of its settings replaced by those given."""
        raise NotImplementedError

    def _mixture(self, given: Mapping[str, Number]) -> Mixture:
        """What is fed or charged, worked out; InputError with what is missing or contradicts."""
        raise NotImplementedError

    def _end(self, given: Mapping[str, Number], fed: Mixture) -> Number:
        """Where the independent variable ends: the time of a batch, the volume of a tube; nan while not known."""
        raise NotImplementedError

    def _given_below(self) -> list[tuple[str, Value | None]]:
        """Every value that was given in what it is charged or fed with, with its kind."""
        raise NotImplementedError

    def _more_settings(self) -> Iterable[Setting]:
        """Settings besides its fields, its heat, what it is charged or fed with, and the constants."""
        return ()

    def _contents(self) -> Contents:
        """What is fed or charged, as it was written."""
        raise NotImplementedError

    def _with_contents(self, contents: Contents) -> Self:
        raise NotImplementedError

    def _stream_in(self, run: Run) -> Stream:
        """What goes into it."""
        raise NotImplementedError

    def _side_streams(self, run: Run) -> list[Stream]:
        """What goes into it elsewhere than at its inlet."""
        return []

    def _more_facts(self, run: Run) -> dict[str, str]:
        """What else there is to report of a run, by name."""
        return {}

    def outcome(self) -> Run:
        """The run by which the vessel is evaluated: at its end, or at steady state."""
        raise NotImplementedError

    @property
    def _fluid_model(self) -> Any:
        """How its volume follows from what there is, as it was given; None is a liquid, or an ideal gas."""
        raise NotImplementedError

    @property
    def _mixture_capacity(self) -> Value | None:
        """The heat capacity of the whole mixture, where one was given."""
        raise NotImplementedError

    @property
    def _density(self) -> Value | None:
        """The density of the whole mixture, where one was given."""
        raise NotImplementedError

    @property
    def is_gas(self) -> bool:
        """Whether it holds a gas rather than a liquid."""
        raise NotImplementedError

    @property
    def _first_T(self) -> Value | None:
        """Temperature at the start or inlet, None where it is not given."""
        raise NotImplementedError

    @property
    def _feed_T(self) -> Value | None:
        """The temperature of what is fed or charged."""
        return self._first_T

    def _given_pressure(self) -> float:
        """The pressure of what is fed or charged in Pa; nan of a liquid without one."""
        return math.nan

    def _size_of(self, name: str, passed: float) -> float:
        """A size by its name from where the independent variable ends (of a tank from its volume)."""
        return passed

    def _default_size(self) -> str:
        """The size that `size` finds if none is named."""
        return next(iter(self._sizes))

    def _limit(self) -> sp.Expr | None:
        """What must stay above zero along it, besides temperature, pressure and volume."""
        return None

    def _cross_section(self) -> float:
        """Cross-section in m^2 of what it runs along; nan where it runs along nothing."""
        return math.nan

    @property
    def _heat_shape(self) -> HeatShape:
        """What of the heat changes the form of its balances."""
        return self.heat.shape if self.heat is not None else HeatShape()

    def _moving_numbers(self) -> dict[sp.Symbol, PiecewiseLinear]:
        """The numbers that change while it runs."""
        found: dict[sp.Symbol, PiecewiseLinear] = {}
        if isinstance(self.heat, Jacket) and isinstance(self.heat.T, PiecewiseLinear):
            found[COOLANT] = self.heat.T
        for name in self.profiles:
            course = self._profile_of(name)
            for symbol, (a, b) in self._moved_symbols(name).items():
                found[symbol] = PiecewiseLinear(course.times, tuple(a + b * v for v in course.values))
        return found

    def _goes_in(self, species: str) -> bool:
        """Whether some of a species is fed or charged."""
        return float(self._fed.concentrations.get(species, 0.0)) > 0

    # what follows from it

    @property
    def _sizes(self) -> Mapping[str, str]:
        """What of it `size` can vary, each with its kind of quantity."""
        return sizes_of(type(self))

    def with_(self, conditions: Mapping[str, Any] | None = None, /, **changed: Any) -> Self:
        """The same vessel with something changed: `coil.with_(length="80 m")`, `tank.with_({"feed T": "60 degC"})`.

        Parameters
        ----------
        conditions : mapping of name to value, optional
            Numbers by the names that sweeps and changes use, too: a size or field ("T", "volume", "length", "tubes"),
            "flow", "feed T", "feed P", "coolant T", "coolant flow", "U", "UA", what is fed or charged of a species
            ("[xylose]"), a constant of the chemistry ("dehydration.k"; "constant NAME" where the vessel has a number of
            that name). Where the temperature is not prescribed, "T" is that of the feed or charge.
        **changed
            Fields by their names.

        Raises
        ------
        InputError
            If there is no such field or condition, or with all that is wrong with the changed vessel.
        """
        known = field_names(type(self))
        strange = sorted(changed.keys() - known)
        if strange:
            advice = f"it has {', '.join(sorted(known))}"
            raise InputError(f"{units.article(self.noun)} has no {', '.join(strange)}", self.label, advice)
        profiles = {name: value for name, value in changed.items() if isinstance(value, Profile) and name != "heat"}
        if profiles:  # a field that changes while it runs, as a condition of that name
            rest = {name: value for name, value in changed.items() if name not in profiles}
            return self.with_({**(conditions or {}), **profiles}, **rest)
        found: Any = self
        if changed and all(self._is_lone(name) and value is not None for name, value in changed.items()):
            found = self._exchanged(changed)
        elif changed:
            found = replace(self, **changed)  # type: ignore[type-var]
        given = dict(conditions or {})
        sizes = [name for name in given if name in self._sizes]
        if len(sizes) > 1:
            raise InputError(f"{' and '.join(sizes)} each specify its size", self.label, "give one of them")
        faults = Faults()
        portions = {name: given.pop(name) for name in [*given] if name in self._portion_settings}
        if portions:  # together, since some alone may be more than the whole
            with faults.at():
                contents = found._contents()
                for name, value in portions.items():
                    contents = contents.with_portion(self._portion_settings[name], value)
                found = found._with_contents(contents)
        for name, value in given.items():
            with faults.at():
                changes = isinstance(value, Profile)
                found = found._with_profile(name, value) if changes else found._setting(name).put(value)
        faults.raise_any()
        return found  # type: ignore[no-any-return]

    def _with_profile(self, name: str, profile: Profile) -> Self:
        """The same with a number that changes while it runs."""
        if name == "T" and not self.is_non_isothermal:
            return self.with_(T=None, heat=profile)
        if name == "coolant T" and isinstance(self.heat, Jacket) and "time" in self._moves_along:
            return self.with_(heat=replace(self.heat, T=[*profile.points]))
        return self.with_(profiles={**self.profiles, name: profile})

    def _moved_symbols(self, name: str) -> dict[sp.Symbol, tuple[float, float]]:
        """The parameters of the balances that move with a setting while it runs: each is a + b times it.

        Raises
        ------
        InputError
            If there is no such setting, or it cannot change while the vessel runs.
        """
        if name == "T" and not self.is_non_isothermal:
            return {TEMPERATURE: (0.0, 1.0)}
        setting = self._setting(name)
        if name == "T":
            advice = "move 'coolant T' of a jacket, or let the temperature be prescribed"
            raise InputError("its temperature follows from a balance of energy", self.label, advice)
        if name == "coolant T" and "time" in self._moves_along:
            return {COOLANT: (0.0, 1.0)}
        if name == "coolant T" and isinstance(self.heat, Jacket) and self.heat.flow is not None:
            message = "its coolant flows, so that its temperature along the vessel follows from a balance"
            raise InputError(message, self.label, "leave the flow of the coolant out")
        constants = [self._constant_setting(p.name) for p in self.chemistry.numbers]
        if name not in (*constants, *_MOVABLE):
            can = [*(n for n in _MOVABLE if n in self._settings), *self._more_movable(), *constants]
            advice = f"what can: {', '.join(can[:12])}"
            raise InputError(f"{name} cannot change while it runs", self.label, advice)
        own = setting.own if math.isfinite(setting.own) and setting.own > 0 else 1.0
        rows = []
        for share in (1.0, 1.1, 1.3):
            numbers, _ = self._parameters({name: share * own})
            rows.append({s: float(value_of(n)) for s, n in numbers.items() if s in self._in_balances})
        found = {}
        for symbol, number in rows[0].items():
            b = (rows[1][symbol] - number) / (0.1 * own)
            if rows[1][symbol] != number or rows[2][symbol] != number:
                if abs(number + 0.3 * own * b - rows[2][symbol]) > 1e-9 * abs(rows[2][symbol]):
                    message = f"{name} stands in the balances in a way that no straight lines follow"
                    raise InputError(message, self.label, "move another number")
                found[symbol] = (number - b * own, b)
        return found

    def _profile_setting(self, name: str) -> Setting:
        """What reads the values of a profile of a setting."""
        return self._setting(name)

    def _more_movable(self) -> tuple[str, ...]:
        """Further numbers that can change while it runs."""
        return ()

    @cached_property
    def _in_balances(self) -> frozenset[sp.Symbol]:
        """The symbols that stand in its right-hand sides, and not in the initial state alone."""
        balances = self._model.followed
        both = (*balances.rhs, *(e for _, e in balances.definitions))
        return frozenset[sp.Symbol]().union(*(e.free_symbols for e in both))

    @property
    def _moves_along(self) -> tuple[str, float]:
        """What a profile is over, and by how much that is multiplied to be what the balances run along."""
        return "time", 1.0

    def _profile_of(self, name: str) -> PiecewiseLinear:
        """A profile that was given for a setting, over what the balances run along."""
        kind, factor = self._moves_along
        setting = self._profile_setting(name)

        def read(value: Any) -> float:
            given = units.read(value, name=name)
            return 0.0 if given.si == 0.0 else setting.read(value)[0]

        found = self.profiles[name].of_setting(kind, f"{self.label}, profile of {name}", read)
        return PiecewiseLinear(tuple(t * factor for t in found.times), found.values)

    def _check_profiles(self) -> None:
        """Raise InputError for a profile of what cannot move, or that is none."""
        faults = Faults()
        for name, profile in self.profiles.items():
            with faults.at(f"{self.label}, profile of {name}"):
                if not isinstance(profile, Profile):
                    raise InputError(f"{profile!r} is no profile", "", "give mo.Profile([(time, value), ...])")
                if name == "T":
                    raise InputError("a profile of the temperature is given as heat", "", "give heat=mo.Profile(...)")
                self._moved_symbols(name)
                self._profile_of(name)
        faults.raise_any()

    @cached_property
    def _portion_settings(self) -> dict[str, str]:
        """The names by which what is fed or charged of a species can be changed, with that species."""
        return {f"[{species}]": species for species in self._contents()}

    @cached_property
    def _feed_settings(self) -> frozenset[str]:
        """The settings that belong to what is fed or charged."""
        return frozenset({*self._portion_settings, "flow", "feed T", "feed P"})

    @cached_property
    def _own_settings(self) -> frozenset[str]:
        """The settings that belong to the vessel itself, and not to its feed or its chemistry."""
        constants = {self._constant_setting(p.name) for p in self.chemistry.numbers}
        return frozenset(self._settings) - self._feed_settings - constants

    def _is_lone(self, name: str) -> bool:
        """Whether a field is a number that can be exchanged by itself."""
        schema = schema_of(type(self)).get(name)
        return schema is not None and schema.is_independent and getattr(self, name) is not None

    def _exchanged(self, numbers: Mapping[str, Any]) -> Self:
        """The same with other numbers that no check looks at together with others, so that all else stays as it is."""
        faults, found = Faults(), copied(self, _UNTOUCHED)
        for name, value in numbers.items():
            settle(found, **{name: value})
        read_fields(found, faults, found.label, numbers)
        faults.raise_any()
        return found

    @property
    def label(self) -> str:
        """Its name, or what it is."""
        return self.name or self.noun

    @property
    def title(self) -> str:
        """Name and noun: 'coil: plug flow'."""
        return f"{self.name}: {self.noun}" if self.name else self.noun

    @cached_property
    def _settings(self) -> dict[str, Setting]:
        """Everything of it that can be changed by name."""
        found = {}
        for name, kind in self._sizes.items():
            others = {other: None for other in self._sizes if other != name and getattr(self, other) is not None}
            found[name] = self._number(name, kind, getattr(self, name), self._put(name, others))
        for name, kind in settings_of(type(self)).items():
            own = self._first_T if name == "T" else getattr(self, name)
            found[name] = self._number(name, kind, own, self._put(name, {}))
            if schema_of(type(self))[name].holds == "count":
                put = found[name].put
                found[name] = Setting(
                    name, kind,
                    lambda v, name=name: (_count(v, name), "number"),  # type: ignore[misc]
                    lambda v, name=name, put=put: put(int(_count(v, name))),  # type: ignore[misc]
                    _si(own), "number",
                )  # fmt: skip
        found |= {setting.name: setting for setting in self._more_settings()}
        if isinstance(self.heat, Jacket):
            conductance = "U" if self.heat.U is not None else "UA"
            for name, field, kind in (
                ("coolant T", "T", "temperature"), ("coolant flow", "flow", "heat capacity flow"),
                (conductance, conductance, "heat transfer coefficient" if conductance == "U" else "heat capacity flow"),
            ):  # fmt: skip
                found[name] = self._number(name, kind, getattr(self.heat, field), self._put_heat(field))
        if isinstance(self.heat, Duty):
            found["duty"] = self._number("duty", "power", self.heat.duty, self._put_heat("duty"), any_sign=True)
        flowing = self._contents().flowing
        for species in self._contents():
            found[f"[{species}]"] = Setting(
                f"[{species}]", "concentration",
                lambda v, s=species: _portion(v, flowing, s),  # type: ignore[misc]
                lambda v, s=species: self._with_contents(self._contents().with_portion(s, v)),  # type: ignore[misc]
                _si(self._contents()[species].value), _form(self._contents()[species]),
                self._contents()[species].with_number, self._contents()[species].value,
            )  # fmt: skip
        for p in self.chemistry.numbers:
            name = self._constant_setting(p.name, found)
            found[name] = Setting(
                name, "number",
                lambda v, p=p: (_constant(v, p), "constant"),  # type: ignore[misc]
                lambda v, p=p: self.with_(
                    chemistry=self.chemistry.with_values({p.name: _constant(v, p)})
                ),  # type: ignore[misc]
                p.value, "constant",
            )  # fmt: skip
        return found

    def _put(self, name: str, others: Mapping[str, Any]) -> Callable[[Any], Self]:
        return lambda value: self.with_(**others, **{name: value})

    def _put_heat(self, name: str) -> Callable[[Any], Self]:
        return lambda value: self.with_(heat=replace(self.heat, **{name: value}))

    def _constant_setting(self, name: str, taken: Mapping[str, Any] | None = None) -> str:
        """The name by which a constant can be changed."""
        own = {*self._sizes, *settings_of(type(self))} if taken is None else taken
        return f"constant {name}" if name in own else name

    def _number(
        self, name: str, kind: str, own: Any, put: Callable[[Any], Vessel], any_sign: bool = False
    ) -> Setting:  # fmt: skip
        read = units.read if any_sign else units.positive
        form = kind if own is not None else ""
        value = own if isinstance(own, Value) else None
        return Setting(name, kind, lambda v: (read(v, kind, name).si, kind), put, _si(own), form, value=value)

    def _setting(self, name: str) -> Setting:
        if name not in self._settings:
            raise InputError(f"'{name}' cannot be varied", self.label, nearest(name, self._settings))
        return self._settings[name]

    @cached_property
    def _by_name(self) -> dict[str, Species]:
        """The species of its chemistry."""
        return {s.name: s for s in self.chemistry.species}

    @cached_property
    def _thermal(self) -> tuple[Energy, dict[sp.Symbol, float]] | InputError:
        """The enthalpies of its species, or what they lack."""
        given, per = self._mixture_capacity, None
        if given is not None:
            molar = units.unit(units.SI_UNITS["heat capacity"]).dimension
            bare_gas = given.unit is None and self.is_gas
            per = "mole" if bare_gas or (given.unit and units.unit(given.unit).dimension == molar) else "volume"
        if per == "volume" and (self.is_gas or volume_model(self._fluid_model) == "additive volumes"):
            message = "a heat capacity per volume belongs to a liquid of constant density"
            return InputError(message, "heat_capacity", "give it per mole, or one to each species")
        found = enthalpies(self.chemistry, per, given.si if given is not None else 0.0)
        if isinstance(found, InputError):
            return found
        return found[0], found[1] | ({CAPACITY: given.si} if given is not None else {})

    def _require_energy(self) -> None:
        """Raise InputError with what the species and reactions lack for an energy balance."""
        if isinstance(self._thermal, InputError):
            raise self._thermal
        if self._first_T is None:
            raise InputError("no temperature is given, and heat depends on it", self.label, "give T")

    @cached_property
    def _phase(self) -> PhaseModel:
        """What it is filled with."""
        thermal = self._thermal
        energy = None if isinstance(thermal, InputError) or self._first_T is None else thermal[0]
        if is_real(self._fluid_model):
            equation = equation_of(self._fluid_model, self._by_name)
            return PhaseModel(self.chemistry.names, equation.form, energy, RealGas.of(equation))
        model = volume_model(self._fluid_model) or MODELS[2 if self.is_gas else 0]
        activity = self._activity_model.numbers if self._activity_model is not None else None
        expansions = self._expansions if model == MODELS[1] else ()
        return PhaseModel(self.chemistry.names, model, energy, None, activity, expansions)

    @property
    def _expansions(self) -> tuple[sp.Expr, ...]:
        """By how much the molar volume of each species changes with temperature; none where none does."""
        if all(s.rackett_factor is None for s in self.chemistry.species):
            return ()
        return tuple(sp.sympify(s.expansion(TEMPERATURE)) for s in self.chemistry.species)

    @cached_property
    def _activity_model(self) -> ActivityModel | None:
        """That of its liquid over all its species, where one was given."""
        given = self._fluid_model
        return given.over(self.chemistry.species) if isinstance(given, ActivityModel) else None

    @cached_property
    def _key(self) -> ModelKey:
        """All that changes the form of its balances."""
        form = self.catalyst.form if self.catalyst is not None else NO_CATALYST
        return ModelKey(self.chemistry.network, self._phase, self._heat_shape, form)

    @cached_property
    def _model(self) -> Model:
        return self._build()

    @cached_property
    def _fed(self) -> Mixture:
        """What is fed or charged: concentrations in mol/m^3, and volumetric flow in m^3/s or volume in m^3."""
        return self._mixture({})

    def _property_numbers(self, given: Mapping[str, Number]) -> dict[sp.Symbol, Number]:
        """The parameters that come with catalyst, heat and the properties of the species."""
        found: dict[sp.Symbol, Number] = {}
        if self._phase.model == "additive volumes":
            found = {
                molar_volume(s.name): s.require("molar_volume", "an additive liquid").si for s in self.chemistry.species
            }
        if not isinstance(self._thermal, InputError):
            found |= moved_references(self.chemistry, self._thermal[1], given)
        found |= self.heat.numbers(given) if self.heat is not None else {}
        return found | (self.catalyst.numbers() if self.catalyst is not None else {})

    def _parameters(self, given: Mapping[str, Number]) -> tuple[dict[sp.Symbol, Number], Number]:
        """Every number of its balances, and where they end, with some settings replaced by those given.

        With plain numbers those of one vessel, with columns those of many, with `Dual` numbers their exact derivatives
        by the settings.
        """
        if not given:
            return self._standing_numbers | self._own_numbers({}, self._fed), self._end({}, self._fed)
        fed = self._mixture(given)
        return self._general_numbers(given, fed) | self._own_numbers(given, fed), self._end(given, fed)

    def _general_numbers(self, given: Mapping[str, Number], fed: Mixture) -> dict[sp.Symbol, Number]:
        """The parameters that every vessel has: constants, what is fed, catalyst, heat and properties."""
        numbers: dict[sp.Symbol, Number] = {
            p.symbol: given.get(self._constant_setting(p.name), p.value) for p in self.chemistry.parameters
        }
        numbers |= {INLET(s): fed.concentrations.get(s, 0.0) for s in self.chemistry.names}
        return numbers | self._property_numbers(given)

    @cached_property
    def _standing_numbers(self) -> dict[sp.Symbol, Number]:
        """Those of `_general_numbers` as the vessel stands."""
        return self._general_numbers({}, self._fed)

    @cached_property
    def _own_parameters(self) -> tuple[dict[sp.Symbol, Number], Number]:
        """The numbers of this vessel, and where they end."""
        return self._parameters({})

    @cached_property
    def _case(self) -> Case:
        """The balances with the numbers of this vessel (unknown constants at their guess)."""
        numbers, _ = self._own_parameters
        balances = self._model.balances
        return Case(balances, tuple(float(numbers.get(p, 0.0)) for p in balances.parameters))

    @cached_property
    def _end_si(self) -> float:
        return float(self._own_parameters[1])

    @cached_property
    def _display(self) -> Display:
        """The units in which its results are shown."""
        with_units = any(p.unit is not None for p in self.chemistry.parameters)
        return Display.of([*given_values(self), *self._given_below()], self.show, with_units)

    @property
    def _needs_size(self) -> bool:
        """Whether its size is not known yet."""
        return not math.isfinite(self._end_si)

    @property
    def _has_segments(self) -> bool:
        """Whether numbers change while it runs, so that a run goes by stages."""
        return bool(self._moving_numbers())

    @property
    def is_non_isothermal(self) -> bool:
        """Whether its temperature follows from a balance of energy."""
        return self._heat_shape.is_non_isothermal

    @cached_property
    def _fluid(self) -> Fluid:
        """What its streams are made of."""
        numbers = {} if isinstance(self._thermal, InputError) else self._thermal[1]
        if self._phase.model == "additive volumes":
            numbers = numbers | {s: float(v) for s, v in self._property_numbers({}).items()}
        density = self._density.si if self._density is not None and not is_molar(self._density) else None
        lacks = self._thermal if isinstance(self._thermal, InputError) else None
        return Fluid(self.label, self._phase, numbers, self.chemistry.species, density, lacks)

    def _conserved(self) -> dict[str, np.ndarray]:
        """What no reaction changes: the invariants of the chemistry, and mass where every species has one."""
        return dict(self.chemistry.conserved)

    def adiabatic_rise(self, reaction: str | None = None) -> float:
        """Adiabatic temperature rise in K of what is fed or charged: by how much one reaction would warm it.

        At constant pressure, from its own temperature to that at which the enthalpy is the same with the reactant that
        runs out first gone; negative where heat is taken up.

        Parameters
        ----------
        reaction : str, optional
            Its name; may be left out where there is only one.

        Raises
        ------
        InputError
            If there is no such reaction, no temperature, nothing that reacts, or with what the species lack.
        """
        names = [str(r.name) for r in self.chemistry.reactions]
        if reaction is None and len(names) > 1:
            raise InputError("which reaction?", self.label, f"name one of {', '.join(names)}")
        net = self.chemistry.reaction(reaction or names[0]).equation.net
        self._require_energy()
        T = self._feed_T
        if T is None:
            raise InputError("no temperature is given", self.label, "give T")
        amounts = {s: self._fed.concentrations.get(s, 0.0) * self._fed.volume for s in self.chemistry.names}
        start = Stream("start", amounts, float(self._fed.volume), T.si, self._given_pressure())
        return adiabatic_rise(self._fluid, start, net)

    def _expression(self, metric: Metric) -> sp.Expr:
        """A metric over the states and parameters of this vessel; InputError if it has no such quantity."""
        known = self._model.metrics
        if metric.takes_weights:  # which another vessel of the same form may not share
            found = metric.expression(self.chemistry.network, self._model, self._weights)
        else:
            if metric not in known:
                known[metric] = metric.expression(self.chemistry.network, self._model, self._weights)
            found = known[metric]
        for symbol in found.free_symbols & {TEMPERATURE, PRESSURE} & {*self._model.balances.parameters}:
            if math.isnan(self._case.value(symbol)):
                raise InputError(f"no {metric.what} is given", self.label, f"give {symbol}")
        metric.require_fed(self._goes_in, self.label)
        return found

    def _check_metric(self, metric: Metric) -> None:
        """Raise InputError if a run of this vessel has no such metric."""
        if not metric.is_of_a_whole_run:
            self._expression(metric)
            return
        if metric.what not in self._run_metrics:
            has = " or ".join(self._run_metrics)
            advice = f"ask for its {has}" if has else "ask it of a batch or tube"
            raise InputError(f"{units.article(self.noun)} has no {metric}", self.label, advice)
        self._require_energy()

    @cached_property
    def _weights(self) -> Weights:
        """The masses that metrics by mass are counted with."""
        masses = {
            s.name: float(s.require("molar_mass", "masses").si)
            if s.formula is not None or s.molar_mass is not None
            else None
            for s in self.chemistry.species
        }
        bulk = self.catalyst.bulk_density if self.catalyst is not None else None
        return Weights(masses, bulk.si if bulk is not None else None)

    def check(self) -> VesselReview:
        """What there is to report before it runs: the chemistry's findings, its own, and the count of equations."""
        numbers = self._case
        size = None if math.isinf(self._end_si) else (self._default_size(), math.isfinite(self._end_si))
        started = {s for s in self.chemistry.names if self._goes_in(s)} | self._started_with()
        review = review_vessel(
            self.label, self.chemistry, self._feed_T, started, self.catalyst, self._model.balances, numbers, size
        )  # fmt: skip
        ends = dict.fromkeys((self._feed_T, self._first_T))
        more = [
            *temperature_findings(self.label, ends),
            self._doubtful_size,
            range_finding(self.label, self.chemistry, ends, self._fed.concentrations, self._display),
        ]
        if text := feed_finding(self):
            more.append(Finding("warning", self.label, text, "check temperature, pressure and model of what is fed"))
        kept = [f for f in (*more, *review.findings) if f is not None]
        return replace(review, findings=Review.of(kept).findings)

    @cached_property
    def _doubtful_size(self) -> Finding | None:
        """A size in which next to nothing happens, or a tube that is shorter than it is wide."""
        area = self._cross_section()
        width = math.sqrt(4 * area / math.pi / float(getattr(self, "tubes", 1)))
        short = length_finding(self.label, self._end_si / area, width, self._display) if self.catalyst is None else None
        if short is not None:
            return short
        end = self._progress_end()
        if self.chemistry.unknowns or not math.isfinite(end):
            return None
        return size_finding(self.label, self._case, end)

    def _near_profiles(self, shares: np.ndarray) -> Iterator[dict[sp.Symbol, np.ndarray]]:
        """Guesses of its states at shares of the way along it, where all of them are solved for at once."""
        yield from ()

    def _progress_end(self) -> float:
        """How far it goes, in what its slopes are by: the time of a batch, the volume of a tube."""
        return self._end_si

    @property
    def _consumed(self) -> tuple[str, ...]:
        """The species fed or charged that some reaction consumes."""
        network = self.chemistry.network
        consumed = {i for column in network.stoichiometry for i, moles in column if moles < 0}
        return tuple(s for i, s in enumerate(network.species) if i in consumed and self._goes_in(s))

    def _started_with(self) -> set[str]:
        """Species that are in it at the start besides what is fed."""
        return set()

    def equations(self) -> Equations:
        """Its balances as it states them: plain text (`print`), LaTeX (`.latex`), and `figures.equations`."""
        return vessel_equations(self.chemistry, self._key, self._model.balances)

    @property
    def _poison(self) -> str:
        """The species that poisons its catalyst, so that what it does depends on what has passed; empty for none."""
        ages = self.catalyst.deactivation if self.catalyst is not None else None
        return str(ages.poison) if ages is not None else ""

    def _require_known(self) -> None:
        """Raise InputError if it cannot be run: constants still wait for a fit, or it has no steady state."""
        self._require_constants()
        self._require_no_history()

    def _require_no_history(self) -> None:
        """Raise InputError where what it does depends on what has passed, and it is not followed from its beginning."""
        if self._poison and not self._keeps_history:
            message = f"what {self._poison} leaves of the catalyst depends on what has passed"
            raise InputError(message, self.label, "follow a tube over time, tube.follow('12 h'), or run a batch")

    def _require_constants(self) -> None:
        """Raise InputError if constants still wait for a fit."""
        waiting = [p.name for p in self.chemistry.unknowns]
        if waiting:
            advice = "fit them first (mo.fit), give numbers, or take the guesses (chemistry.at_guess())"
            raise InputError(f"unknown: {', '.join(waiting)}", self.label, advice)


def _si(value: Any) -> float:
    """A value in SI, or a plain number; nan where none is given."""
    if isinstance(value, int):
        return float(value)
    return float(value.si) if isinstance(value, Value) else math.nan


def _count(value: Any, name: str) -> float:
    """A whole number, one or more."""
    number = units.positive(value, "number", name).si
    if number != round(number):
        raise InputError(f"{value} is no whole number", name, "give 1, 2, 3, ...")
    return number


def _portion(value: Any, flowing: bool, species: str) -> tuple[float, str]:
    portion = read_portion(value, flowing)
    if portion.value is None:
        raise InputError(f"'{value}' of {species} is no number", "", "give a quantity")
    return float(portion.value.si), _form(portion)


def _form(portion: Portion) -> str:
    """Portions of one form differ in their number alone."""
    return f"{portion.kind} {portion.of} {portion.mass}"


def _constant(value: Any, parameter: Parameter) -> float:
    """A constant in SI; UnitError for a unit of another dimension than that of the constant."""
    read = units.read(value, name=parameter.name)
    if read.unit is not None and parameter.unit is not None:
        wanted = units.unit(parameter.unit).dimension
        if units.unit(read.unit).dimension != wanted:
            message = f"{parameter.name} = '{value}' is not in a unit like {parameter.unit}"
            raise UnitError(message, "", f"give it in {units.everyday_text(wanted)}")
    return read.si


def read_vessel_heat(faults: Faults, vessel: Vessel) -> None:
    """Read what is given for heat."""
    with faults.at():
        settle(vessel, heat=read_heat(vessel.heat, vessel.label))


def check_profile(T: Any, piecewise: PiecewiseLinear) -> None:
    """Raise InputError where a temperature is given together with a profile of it, which has been read."""
    if T is not None:
        raise InputError(
            f"both T and a temperature profile from {piecewise.after(0.0):g} K are given", "", "give one of them"
        )


def check_vessel(
    faults: Faults, vessel: Vessel, species: Iterable[str] | None, temperature: Value | None, asks: str = "T"
) -> None:
    """What holds for every vessel: known species, something that reacts, a temperature and heats where needed.

    `asks` says which temperature it is.
    """
    if species is not None:
        with faults.at():
            if vessel._is_kinetic:
                check_contents(species, vessel.chemistry, vessel.label, vessel._is_closed)
            else:
                check_species(species, vessel.chemistry, vessel.label)
        if not faults.found:
            with faults.at(vessel.label):
                settle(vessel, _fed=vessel._mixture({}))
    network = vessel.chemistry.network
    if vessel._is_kinetic:
        with faults.at(vessel.label):
            check_catalyst(network, vessel.catalyst)
    packing = vessel.catalyst if isinstance(vessel.catalyst, Catalyst) else None
    for name in ("adsorption", "heat_capacity") if packing is not None and not vessel._counts_packing else ():
        if getattr(packing, name) is not None:
            message = f"the {name.replace('_', ' ')} of a packing counts in tubes that are followed over time alone"
            faults.add(vessel.label, message, "leave it out")
    if vessel._is_kinetic and network.by_temperature and temperature is None and not isinstance(vessel.heat, Profile):
        message = f"no temperature is given, and {', '.join(network.by_temperature)} depends on it"
        faults.add(vessel.label, message, f"give {asks}, like '175 degC'")
    elif temperature is None and isinstance(vessel.heat, Adiabatic | Duty | Jacket):
        faults.add(vessel.label, "no temperature is given for the energy balance", f"give {asks}, like '175 degC'")
    if vessel._is_kinetic and network.by_pressure and species is not None and not vessel.is_gas:
        message = f"a rate law asks for the pressure {', '.join(network.by_pressure)}, but this vessel holds a liquid"
        faults.add(vessel.label, message, "give P of a gas (in the feed or charge), or write it with concentrations")
    if not faults.found and not isinstance(vessel.heat, Profile | None):
        with faults.at(vessel.label):
            vessel._require_energy()
    if not faults.found and vessel.profiles:
        with faults.at():
            vessel._check_profiles()
    for kind, text in vessel.show.items():
        with faults.at(f"{vessel.label}, show"):
            if kind not in units.SI_UNITS:
                raise InputError(f"'{kind}' is not a kind of quantity", "", "kinds: " + ", ".join(units.SI_UNITS))
            units.expect(text, kind)


def check_catalyst_mass(vessel: Vessel, mass: Value | None) -> None:
    """Raise InputError where a mass of catalyst is given that says nothing of the volume."""
    if mass is not None and (vessel.catalyst is None or vessel.catalyst.bulk_density is None):
        message = "a catalyst mass is given, and the catalyst has no bulk density"
        raise InputError(message, "", "give catalyst=mo.Catalyst(bulk_density='850 kg/m3')")
