"""The base of all vessels."""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property
from typing import Any, Self

from molino.core import units
from molino.core.annotations import ByName
from molino.core.chemistry.notation import Equations
from molino.core.contents.stream_properties import adiabatic_rise
from molino.core.contents.streams import Stream
from molino.core.contract.review import VesselReview, review
from molino.core.contract.run_result import RunResult
from molino.core.contract.specification import Specification
from molino.core.contract.vessel_equations import vessel_equations
from molino.core.contract.vessel_fields import VesselFields
from molino.core.errors import Faults, InputError
from molino.core.frozen import field_names
from molino.core.terms.heat import Profile


class Vessel(VesselFields):
    """Base of the vessels: each is a frozen dataclass of fields with a specification; `with_` gives a changed one."""

    @cached_property
    def spec(self) -> Specification:
        """The specification that other modules read."""
        raise NotImplementedError

    def __post_init__(self) -> None:
        self.spec.validate()

    @property
    def vessels(self) -> list[Self]:
        """Itself, as the only vessel."""
        return [self]

    @property
    def is_gas(self) -> bool:
        """Whether its fluid is a gas."""
        return self.spec.is_gas

    @property
    def is_non_isothermal(self) -> bool:
        """Whether its temperature follows from an energy balance."""
        return self.spec.is_non_isothermal

    def run(self) -> RunResult:
        """The run by which the vessel is evaluated: to its end, or its steady state."""
        raise NotImplementedError

    def with_(self, conditions: ByName | None = None, /, **changed: Any) -> Self:
        """The same vessel with something changed: `coil.with_(length="80 m")`, `tank.with_({"feed T": "60 degC"})`.

        Parameters
        ----------
        conditions : mapping of name to value, optional
            Conditions, by the same names as in sweeps and changes: a size or field ("T", "volume", "length", "tubes"),
            "flow", "feed T", "feed P", "coolant T", "coolant flow", "U", "UA", the portion of a species in the feed or
            charge ("[xylose]"), a constant of the chemistry ("dehydration.k"; "constant NAME" where the vessel has a
            number of that name). With a heat balance "T" is that of the feed or charge.
        **changed
            Fields by their names.

        Raises
        ------
        InputError
            For an unknown field or condition, or with all faults of the changed vessel.
        """
        known = field_names(type(self))
        strange = sorted(changed.keys() - known)
        if strange:
            advice = f"it has {', '.join(sorted(known))}"
            raise InputError(f"{units.article(self.noun)} has no {', '.join(strange)}", self.label, advice)
        profiles = {name: value for name, value in changed.items() if isinstance(value, Profile) and name != "heat"}
        if profiles:  # a field that changes during a run, as a condition of that name
            rest = {name: value for name, value in changed.items() if name not in profiles}
            return self.with_({**(conditions or {}), **profiles}, **rest)
        found: Any = self
        if changed and all(self.spec.is_independent(name) and value is not None for name, value in changed.items()):
            found = self.spec.exchanged(changed)
        elif changed:
            found = replace(self, **changed)  # type: ignore[type-var]
        given = dict(conditions or {})
        sizes = [name for name in given if name in self.spec.sizes]
        if len(sizes) > 1:
            raise InputError(f"{' and '.join(sizes)} each specify its size", self.label, "give one of them")
        faults = Faults()
        portions = {name: given.pop(name) for name in [*given] if name in self.spec.portion_conditions}
        if portions:  # together, since one alone may exceed the whole
            with faults.at():
                contents = found.spec.contents()
                for name, value in portions.items():
                    contents = contents.with_portion(self.spec.portion_conditions[name], value)
                found = found.spec.with_contents(contents)
        for name, value in given.items():
            with faults.at():
                changes = isinstance(value, Profile)
                found = found.spec.with_profile(name, value) if changes else found.spec.condition(name).put(value)
        faults.raise_any()
        return found  # type: ignore[no-any-return]

    def check(self) -> VesselReview:
        """Findings before a run: those of its chemistry and its own, and the count of equations and unknowns."""
        return review(self.spec)

    def equations(self) -> Equations:
        """Its balances as text (`print`), LaTeX (`.latex`) and a figure (`figures.equations`)."""
        return vessel_equations(self.chemistry, self.spec.key, self.spec.model.balances)

    def adiabatic_rise(self, reaction: str | None = None) -> float:
        """Adiabatic temperature rise in K of the feed or charge by one reaction.

        At constant pressure, from its own temperature to that of equal enthalpy after the limiting reactant is
        exhausted; negative for an endothermic reaction.

        Parameters
        ----------
        reaction : str, optional
            Its name; optional if there is only one.

        Raises
        ------
        InputError
            For an unknown reaction, no temperature, no reactant, or missing properties.
        """
        names = [str(r.name) for r in self.chemistry.reactions]
        if reaction is None and len(names) > 1:
            raise InputError("which reaction?", self.label, f"name one of {', '.join(names)}")
        net = self.chemistry.reaction(reaction or names[0]).equation.net
        self.spec.require_energy()
        T = self.spec.feed_T
        if T is None:
            raise InputError("no temperature is given", self.label, "give T")
        amounts = {s: self.spec.fed.concentrations.get(s, 0.0) * self.spec.fed.volume for s in self.chemistry.names}
        start = Stream("start", amounts, float(self.spec.fed.volume), T.si, self.spec.feed_pressure())
        return adiabatic_rise(self.spec.fluid, start, net)
