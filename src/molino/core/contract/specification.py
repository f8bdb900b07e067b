"""The specification of a vessel, through which other modules read it."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from functools import cached_property

import sympy as sp

from molino.core import units
from molino.core.annotations import ByName
from molino.core.balances.balance_symbols import COOLANT
from molino.core.balances.piecewise_linear import PiecewiseLinear
from molino.core.chemistry.constants import Parameter
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.contract.condition import (
    Condition,
    form_of,
    number_condition,
    read_constant_number,
    read_count,
    read_share,
    si_or_nan,
)
from molino.core.contract.formulation import Formulation
from molino.core.contract.vessel_fields import VesselFields
from molino.core.dual import value_of
from molino.core.errors import Faults, InputError, nearest
from molino.core.frozen import copied, settle
from molino.core.schema import read_fields, schema_of, settings_of
from molino.core.terms.heat import Duty, Jacket, Profile

_MOVABLE = ("T", "P", "coolant T")
"""Conditions besides constants that can change during a run."""
_UNCHANGED = ("fed", "species_by_name", "thermal", "phase", "key", "model", "base_numbers")
"""Cached values that do not depend on independent numbers."""


class Specification(Formulation):
    """The specification of a vessel: its definition, its balances with their numbers, and its conditions.

    Other modules read a vessel only through it. A new kind of vessel subclasses it (or `FlowSpecification`,
    `ChargedSpecification`) and overrides members of `Definition`.
    """

    @cached_property
    def conditions(self) -> dict[str, Condition]:
        """The conditions of the vessel, by name."""
        vessel, found = self.vessel, dict[str, Condition]()
        for name, kind in self.sizes.items():
            others = {other: None for other in self.sizes if other != name and getattr(vessel, other) is not None}
            found[name] = number_condition(name, kind, getattr(vessel, name), self._put(name, others))
        for name, kind in settings_of(type(vessel)).items():
            own = self.first_T if name == "T" else getattr(vessel, name)
            found[name] = number_condition(name, kind, own, self._put(name, {}))
            if schema_of(type(vessel))[name].holds == "count":
                found[name] = self._count_condition(name, si_or_nan(own))
        found |= {condition.name: condition for condition in self.more_conditions()}
        if isinstance(vessel.heat, Jacket):
            by, kind = ("U", "heat transfer coefficient") if vessel.heat.U is not None else ("UA", "heat capacity flow")
            for name, field, of in (
                ("coolant T", "T", "temperature"),
                ("coolant flow", "flow", "heat capacity flow"),
                (by, by, kind),
            ):
                found[name] = number_condition(name, of, getattr(vessel.heat, field), self._put_heat(field))
        if isinstance(vessel.heat, Duty):
            found["duty"] = number_condition("duty", "power", vessel.heat.duty, self._put_heat("duty"), any_sign=True)
        found |= {f"[{species}]": self._portion_condition(species) for species in self.contents()}
        for parameter in self.chemistry.numbers:
            name = self.constant_name(parameter.name, found)
            found[name] = self._constant_condition(name, parameter)
        return found

    def _put(self, name: str, others: ByName) -> Callable[[object], VesselFields]:
        return lambda value: self.vessel.with_(**others, **{name: value})

    def _put_heat(self, name: str) -> Callable[[object], VesselFields]:
        return lambda value: self.vessel.with_(heat=replace(self.vessel.heat, **{name: value}))

    def _count_condition(self, name: str, own: float) -> Condition:
        def put(value: object) -> VesselFields:
            return self.vessel.with_(**{name: int(read_count(value, name))})

        return Condition(name, "number", lambda value: (read_count(value, name), "number"), put, own, "number")

    def _portion_condition(self, species: str) -> Condition:
        contents = self.contents()
        portion, flowing = contents[species], contents.flowing
        return Condition(
            f"[{species}]",
            "concentration",
            lambda value: read_share(value, flowing, species),
            lambda value: self.with_contents(contents.with_portion(species, value)),
            si_or_nan(portion.value),
            form_of(portion),
            portion.with_number,
            portion.value,
        )

    def _constant_condition(self, name: str, parameter: Parameter) -> Condition:
        def put(value: object) -> VesselFields:
            number = {parameter.name: read_constant_number(value, parameter)}
            return self.vessel.with_(chemistry=self.chemistry.with_values(number))

        return Condition(
            name,
            "number",
            lambda value: (read_constant_number(value, parameter), "constant"),
            put,
            parameter.value,
            "constant",
        )

    def own_number(self, name: str) -> float:
        """The number of a condition in SI; nan if the vessel has none."""
        if name in self.sizes or name in settings_of(type(self.vessel)):  # without making all conditions
            return si_or_nan(self.first_T if name == "T" else getattr(self.vessel, name))
        return self.condition(name).own

    def condition(self, name: str) -> Condition:
        if name not in self.conditions:
            raise InputError(f"'{name}' cannot be varied", self.label, nearest(name, self.conditions))
        return self.conditions[name]

    @cached_property
    def portion_conditions(self) -> dict[str, str]:
        """The names of conditions of the portions of species in the feed or charge, with the species."""
        return {f"[{species}]": species for species in self.contents()}

    @cached_property
    def feed_conditions(self) -> frozenset[str]:
        """The conditions of the feed or charge."""
        return frozenset({*self.portion_conditions, "flow", "feed T", "feed P"})

    @cached_property
    def own_conditions(self) -> frozenset[str]:
        """The conditions of the vessel itself, without those of its feed and its chemistry."""
        constants = {self.constant_name(p.name) for p in self.chemistry.numbers}
        return frozenset(self.conditions) - self.feed_conditions - constants

    def is_independent(self, name: str) -> bool:
        """Whether a field is an independent number."""
        schema = schema_of(type(self.vessel)).get(name)
        return schema is not None and schema.is_independent and getattr(self.vessel, name) is not None

    def exchanged(self, numbers: ByName) -> VesselFields:
        """The same vessel with other independent numbers; cached values that do not depend on them are kept."""
        faults, found = Faults(), copied(self.vessel)
        settle(found, **numbers)
        read_fields(found, faults, found.label, numbers)
        faults.raise_any()
        spec = type(self)(found)
        spec.__dict__.update({name: getattr(self, name) for name in _UNCHANGED})
        settle(found, spec=spec)
        return found

    def profile_condition(self, name: str) -> Condition:
        """The reader of the values of a profile of a condition."""
        return self.condition(name)

    def with_profile(self, name: str, profile: Profile) -> VesselFields:
        """The same with a condition that changes during a run."""
        vessel = self.vessel
        if name == "T" and not self.is_non_isothermal:
            return vessel.with_(T=None, heat=profile)
        if name == "coolant T" and isinstance(vessel.heat, Jacket) and "time" in self.profile_axis:
            return vessel.with_(heat=replace(vessel.heat, T=[*profile.points]))
        return vessel.with_(profiles={**vessel.profiles, name: profile})

    def profile_of(self, name: str) -> PiecewiseLinear:
        """The profile of a condition over the independent variable of the balances."""
        kind, factor = self.profile_axis
        setting = self.profile_condition(name)

        def read(value: object) -> float:
            given = units.read(value, name=name)
            return 0.0 if given.si == 0.0 else setting.read(value)[0]

        found = self.vessel.profiles[name].of_setting(kind, f"{self.label}, profile of {name}", read)
        return PiecewiseLinear(tuple(t * factor for t in found.times), found.values)

    def moving_numbers(self) -> dict[sp.Symbol, PiecewiseLinear]:
        """The conditions that change during a run."""
        found = super().moving_numbers()
        for name in self.vessel.profiles:
            course = self.profile_of(name)
            for symbol, (a, b) in self.moved_symbols(name).items():
                found[symbol] = PiecewiseLinear(course.times, tuple(a + b * v for v in course.values))
        return found

    def moved_symbols(self, name: str) -> dict[sp.Symbol, tuple[float, float]]:
        """The parameters of the balances that change with a condition during a run: each is a + b times the condition.

        Raises
        ------
        InputError
            For an unknown condition, or one that cannot change during a run.
        """
        if name == "T" and not self.is_non_isothermal:
            return {TEMPERATURE: (0.0, 1.0)}
        setting = self.condition(name)
        if name == "T":
            advice = "move 'coolant T' of a jacket, or let the temperature be prescribed"
            raise InputError("its temperature follows from an energy balance", self.label, advice)
        if name == "coolant T" and "time" in self.profile_axis:
            return {COOLANT: (0.0, 1.0)}
        if name == "coolant T" and isinstance(self.vessel.heat, Jacket) and self.vessel.heat.flow is not None:
            message = "its coolant flows, so that its temperature along the vessel follows from a balance"
            raise InputError(message, self.label, "leave the flow of the coolant out")
        constants = [self.constant_name(p.name) for p in self.chemistry.numbers]
        if name not in (*constants, *_MOVABLE):
            can = [*(n for n in _MOVABLE if n in self.conditions), *self.more_movable(), *constants]
            advice = f"conditions that can: {', '.join(can[:12])}"
            raise InputError(f"{name} cannot change during a run", self.label, advice)
        own = setting.own if math.isfinite(setting.own) and setting.own > 0 else 1.0
        rows = []
        for share in (1.0, 1.1, 1.3):
            numbers, _ = self.parameters({name: share * own})
            rows.append({s: float(value_of(n)) for s, n in numbers.items() if s in self.symbols_in_balances})
        found = {}
        for symbol, number in rows[0].items():
            b = (rows[1][symbol] - number) / (0.1 * own)
            if rows[1][symbol] != number or rows[2][symbol] != number:
                if abs(number + 0.3 * own * b - rows[2][symbol]) > 1e-9 * abs(rows[2][symbol]):
                    message = f"{name} does not enter the balances linearly"
                    raise InputError(message, self.label, "move another number")
                found[symbol] = (number - b * own, b)
        return found

    def check_profiles(self) -> None:
        """Raise InputError for an invalid profile, or one of a condition that cannot change."""
        faults = Faults()
        for name, profile in self.vessel.profiles.items():
            with faults.at(f"{self.label}, profile of {name}"):
                if not isinstance(profile, Profile):
                    raise InputError(f"{profile!r} is not a profile", "", "give mo.Profile([(time, value), ...])")
                if name == "T":
                    raise InputError("a profile of the temperature is given as heat", "", "give heat=mo.Profile(...)")
                self.moved_symbols(name)
                self.profile_of(name)
        faults.raise_any()
