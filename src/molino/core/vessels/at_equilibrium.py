"""A vessel at chemical equilibrium."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import ClassVar

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.annotations import ByName
from molino.core.balances.balance_symbols import APPROACH, FLOW, INLET, IS_COUNTED, IS_THERE
from molino.core.balances.compiled import compiled
from molino.core.balances.settings import Report
from molino.core.balances.system import ZERO, Case
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.equilibrium_constants import equilibrium_constants
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.chemistry.notation import Equations
from molino.core.chemistry.species import conserved
from molino.core.chemistry.symbolic_network import independent_rows, nonnegative_invariants
from molino.core.contents.feed import Feed
from molino.core.contents.mixture_equations import Mixture
from molino.core.contract.condition import Condition
from molino.core.contract.phase_limits import two_liquids
from molino.core.contract.validation import check_vessel, read_vessel_heat
from molino.core.contract.vessel_equations import vessel_equations
from molino.core.dual import Number
from molino.core.errors import Faults, InputError, SolveError, nearest
from molino.core.frozen import FrozenMapping, settle
from molino.core.schema import QuantityField, ReadField, option, quantity, read_fields, several_forms
from molino.core.terms.model import Model
from molino.core.thermo.energy import Energy, formation_enthalpies
from molino.core.thermo.gibbs import GibbsProblem
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import Value
from molino.core.vessels.equilibrium_outlet import EquilibriumForm, NotSettled, Solver, flagged, model, outlet, solver
from molino.core.vessels.outlet_vessel import OutletSpecification, OutletVessel

WAYS = ("reactions", "Gibbs energy")
_ASKER = "its Gibbs energy"
_CONSISTENT = 1e-7
"""Largest disagreement of dependent reactions in ln K."""


class AtEquilibriumSpecification(OutletSpecification):
    """The specification of an AtEquilibrium."""

    vessel: AtEquilibrium
    is_at_equilibrium: ClassVar[bool] = True
    method: ClassVar[str] = "Newton's method on the potentials"

    def validate_fed(self) -> None:
        vessel = self.vessel
        faults = Faults()
        read_fields(vessel, faults, self.label)
        settle(vessel, solids=tuple(vessel.solids))
        for field_name in ("reactions", "species"):
            if getattr(vessel, field_name) is not None:
                settle(vessel, **{field_name: tuple(getattr(vessel, field_name))})
        for what, names in (("species", vessel.species or ()), ("solids", vessel.solids)):
            for name in sorted({*names} - {*self.chemistry.names}):
                faults.add(self.label, f"{what}: unknown species '{name}'", nearest(name, self.chemistry.names))
        self.read_approach(faults)
        read_vessel_heat(faults, vessel)
        with faults.at(self.label):
            self.check_heat()
        own = vessel.feed.T if self.is_non_isothermal else vessel.T or vessel.feed.T
        if not faults.found:
            check_vessel(faults, self, vessel.feed.contents, own, "T of the feed")
        if not faults.found:
            with faults.at(self.label):
                depends = any(TEMPERATURE in e.free_symbols for e in self.potentials)
                if own is None and depends:
                    raise InputError("no temperature is given, and the equilibrium depends on it", "", "give T")
        faults.raise_any()

    def read_approach(self, faults: Faults) -> None:
        found, known = {}, [str(r.name) for r in self.chemistry.reactions]
        for name, given in self.vessel.approach.items():
            with faults.at(f"{self.label}, approach"):
                if name not in known:
                    raise InputError(f"unknown reaction '{name}'", "", nearest(str(name), known))
                if not self.vessel.by_reactions:
                    raise InputError("the least Gibbs energy has no reactions", "", "write by='reactions'")
                found[name] = units.read(given, "temperature difference", str(name))
        settle(self.vessel, approach=FrozenMapping(found))

    @cached_property
    def solid_places(self) -> tuple[int, ...]:
        return tuple(self.chemistry.names.index(s) for s in self.vessel.solids)

    @cached_property
    def form(self) -> EquilibriumForm:
        return self.form_and_holds[0]

    @cached_property
    def form_and_holds(self) -> tuple[EquilibriumForm, np.ndarray, GibbsProblem]:
        """The form, the conserved quantities with weights above zero, shape (species, conserved), and their problem;
        computed once for a chemistry."""
        vessel = self.vessel
        known = self.chemistry.memory
        key = "equilibrium", vessel.by_reactions, vessel.reactions, vessel.species, vessel.solids
        if key not in known:
            form, holds = self.of_reactions() if vessel.by_reactions else self.of_species()
            fluid = [i for i in range(len(holds)) if i not in form.solids]
            problem = GibbsProblem(holds, [*([fluid] if fluid else []), *([i] for i in form.solids)])
            known[key] = form, holds, problem
        return known[key]  # type: ignore[no-any-return]

    def of_reactions(self) -> tuple[EquilibriumForm, np.ndarray]:
        network, count = self.chemistry.network, len(self.chemistry.names)
        constants = equilibrium_constants(self.chemistry, self.vessel.reactions, self.vessel.solids)
        columns = [network.stoichiometry[network.reactions.index(c.reaction)] for c in constants]
        invariants = nonnegative_invariants(columns, count)
        if not (invariants.sum(axis=0) > 0).all():
            lost = [s for s, kept in zip(self.chemistry.names, invariants.sum(axis=0) > 0, strict=True) if not kept]
            message = f"the reactions make {', '.join(lost)} without limit: no element of them is conserved"
            raise InputError(message, "equilibrium", "check the equations")
        nu = np.zeros((count, len(columns)))
        for j, column in enumerate(columns):
            for i, moles in column:
                nu[i, j] = float(moles)
        weights = -np.linalg.pinv(nu.T)
        rows = independent_rows(invariants)
        form = EquilibriumForm(
            tuple(map(tuple, invariants[rows].tolist())),
            (ZERO,) * count,
            constants,
            tuple(map(tuple, weights.tolist())),
            self.solid_places,
        )
        return form, invariants.T

    def of_species(self) -> tuple[EquilibriumForm, np.ndarray]:
        names = self.chemistry.names
        chosen = self.vessel.species if self.vessel.species is not None else names
        faults, atoms, standard = Faults(), {}, []
        absolute: dict[str, bool] = {}
        for one in self.chemistry.species:
            if one.name not in chosen:
                standard.append(ZERO)
                continue
            with faults.at():
                atoms[one.name] = conserved(one.require("formula", _ASKER))
                if "charge" in atoms[one.name]:
                    raise InputError(f"{one.name} is an ion", "equilibrium", "leave it out of `species`")
                enthalpy, entropy = (of(TEMPERATURE, _ASKER) for of in (one.enthalpy, one.standard_entropy))
                standard.append((enthalpy / TEMPERATURE - entropy) / GAS_CONSTANT)
                absolute[one.name] = one.entropy_is_absolute
        if not faults.found and len({*absolute.values()}) > 1:
            message = "some species have an absolute entropy, others a Gibbs energy of formation"
            faults.add("equilibrium", message, "give all of them the one or the other")
        faults.raise_any()
        elements = list(dict.fromkeys(e for one in atoms.values() for e in one))
        rows = [[float(atoms.get(s, {}).get(e, 0)) for s in names] for e in elements]
        rows += [[float(s == name) for s in names] for name in names if name not in chosen]
        holds = np.array(rows)
        kept = holds[independent_rows(holds)]
        form = EquilibriumForm(tuple(map(tuple, kept.tolist())), tuple(standard), (), (), self.solid_places)
        return form, holds.T

    @property
    def potentials(self) -> tuple[sp.Expr, ...]:
        """The part of the potentials that depends on temperature alone."""
        return (*self.form.standard, *(c.log for c in self.form.constants))

    @cached_property
    def thermal(self) -> tuple[Energy, dict[sp.Symbol, float]] | InputError:
        """The heat balance by enthalpies of formation for the least Gibbs energy, which needs them anyway."""
        found = super().thermal
        if self.vessel.by_reactions or isinstance(found, InputError):
            return found
        references = formation_enthalpies(self.chemistry)
        return references if isinstance(references, InputError) else (found[0], found[1] | references)

    @property
    def affinities(self) -> tuple[sp.Expr, ...]:
        """ln(Q/K) of each reaction in the outlet."""
        return outlet(self.key, self.form).affinities

    def build_model(self) -> Model:
        return model(self.key, self.form)

    def own_numbers(self, given: Mapping[str, Number], fed: Mixture) -> dict[sp.Symbol, Number]:
        found = super().own_numbers(given, fed)
        for constant in self.form.constants:
            own = self.vessel.approach.get(constant.reaction)
            number = own.si if own is not None else 0.0
            found[APPROACH(constant.reaction)] = given.get(f"approach of {constant.reaction}", number)
        return found | {IS_THERE(s): 1.0 for s in self.chemistry.names}

    def more_conditions(self) -> Iterable[Condition]:
        yield from super().more_conditions()
        for name in (str(c.reaction) for c in self.form.constants):

            def put(v: object, name: str = name) -> AtEquilibrium:
                return self.vessel.with_(approach={**self.vessel.approach, name: v})

            own, kind = self.vessel.approach.get(name), "temperature difference"
            yield Condition(
                f"approach of {name}",
                kind,
                lambda v: (units.read(v, "temperature difference").si, "difference"),
                put,
                own.si if own is not None else 0.0,
                "difference",
                value=own,
            )

    def given_inputs(self) -> list[tuple[str, Value | None]]:
        return [*super().given_inputs(), *(("temperature difference", v) for v in self.vessel.approach.values())]

    @property
    def solver(self) -> Solver:
        """The solver of the composition; made once for all vessels of one form."""
        return solver(self.key, self.form, self.form_and_holds[2])

    def composition(self, case: Case, T: float, near: np.ndarray | None) -> tuple[Case, np.ndarray, int]:
        self.check_consistent(case, T)
        try:
            flags, state, steps = self.solver.solve(case, T, near, self.is_non_isothermal)
        except NotSettled as error:
            message = "the composition does not converge with its activity or fugacity coefficients"
            advice = "it may split into two liquids, or condense: look at its phases"
            raise SolveError(message, self.label, advice) from error
        return flagged(case, flags), state, steps

    @cached_property
    def dependent(self) -> np.ndarray | None:
        """The stoichiometry of the reactions, shape (reactions, species), where they depend on each other."""
        constants, network = self.form.constants, self.chemistry.network
        nu = np.array([network.matrix[:, network.reactions.index(c.reaction)] for c in constants])
        return None if not constants or np.linalg.matrix_rank(nu) == len(constants) else nu

    def check_consistent(self, case: Case, T: float) -> None:
        """Raise InputError where dependent reactions contradict each other."""
        nu = self.dependent
        if nu is None:
            return
        state = np.zeros(len(case.balances.states))
        state[: len(self.chemistry.names)] = [case.value(FLOW) * case.value(INLET(s)) for s in self.chemistry.names]
        if self.is_non_isothermal:
            state[-1] = T
        outputs = outlet(self.key, self.form).logs
        logs = np.array(compiled(case.balances).outputs(outputs)(case.values)(state, 0.0), dtype=float)
        if np.max(np.abs(nu @ (np.array(self.form.weights) @ logs) + logs)) > _CONSISTENT * (1 + np.max(np.abs(logs))):
            names = ", ".join(c.reaction for c in self.form.constants)
            message = f"the constants of {names} contradict each other: together they do not add up"
            raise InputError(message, self.label, "leave one of the reactions out (reactions=[...]), or correct it")

    def joined_at_jump(
        self, below: tuple[Case, np.ndarray], above: tuple[Case, np.ndarray], share: float
    ) -> tuple[Case, np.ndarray] | None:
        there = np.array([max(case.value(IS_THERE(s)) for case, _ in (below, above)) > 0 for s in self.chemistry.names])
        flows = below[1] + share * (above[1] - below[1])
        flows[: len(there)] = np.where(there, np.maximum(flows[: len(there)], 1e-300), 0.0)
        return flagged(below[0], self.solver.pattern(there)[0]), flows

    def solve_steady(self, case: Case, near: np.ndarray | None = None) -> tuple[Case, np.ndarray, Report]:
        own, state, report = super().solve_steady(case, near)
        T = float(state[-1]) if self.is_non_isothermal else case.value(TEMPERATURE)
        flows = dict(zip(self.chemistry.names, state[: len(self.chemistry.names)].tolist(), strict=True))
        if text := two_liquids(self, T, flows):
            raise SolveError(text, self.label, "take another temperature or composition: two liquids are not computed")
        return own, state, report

    def require_constants(self) -> None:
        """Raise InputError if an equilibrium constant is unknown."""
        asked = frozenset[sp.Symbol]().union(*(c.log.free_symbols for c in self.form.constants))
        if any(p.symbol in asked for p in self.chemistry.unknowns):
            super(OutletSpecification, self).require_constants()

    def conserved(self) -> dict[str, np.ndarray]:
        found = super().conserved()
        if self.vessel.by_reactions:
            return found
        chosen = self.vessel.species if self.vessel.species is not None else self.chemistry.names
        atoms = {s.name: conserved(str(s.formula)) for s in self.chemistry.species if s.name in chosen}
        for element in dict.fromkeys(e for one in atoms.values() for e in one):
            found[element] = np.array([float(atoms.get(s, {}).get(element, 0)) for s in self.chemistry.names])
        return found


@dataclass(frozen=True, eq=False)
class AtEquilibrium(OutletVessel):
    """A vessel whose outlet is at chemical equilibrium.

    By the equilibrium constants of its reactions, or as the state of least Gibbs energy of its species without
    reactions: any change of composition that conserves the elements is possible. Of a gas mu_i = h_i - T s_i + R T
    ln(x_i phi_i P/P0) with P0 = 1 bar, of a liquid R T ln(x_i gamma_i), of a pure solid without this term (J. M. Smith,
    H. C. Van Ness, M. M. Abbott, Introduction to Chemical Engineering Thermodynamics, 7th ed. 2005, chapter 13). No
    first guess is needed.

    Parameters
    ----------
    chemistry : Chemistry
        Rates are not needed: the equilibrium constant follows from the rate law, which is zero at equilibrium, or from
        the thermochemistry of the species.
    feed : Feed
        Its `model` is that of the fluid: an ideal gas, a cubic equation of state, a liquid, an activity model.
    T : temperature, optional
        Prescribed; by default that of the feed.
    P : pressure, optional
        Of a gas at the outlet; by default that of the feed.
    heat : "isothermal", "adiabatic", Adiabatic, Duty or Jacket
        Isothermal by default; the duty is then a result.
    by : "reactions" or "Gibbs energy", optional
        By default by reactions if there are reversible ones.
    reactions : sequence of str, optional
        The reactions at equilibrium; by default all reversible ones.
    species : sequence of str, optional
        The species that react; the others are inert. By default all.
    solids : sequence of str
        Species that are pure solids.
    approach : mapping of reaction to temperature difference
        The constant of a reaction is evaluated at a temperature that differs by this: {"shift": "-20 K"}.
    name : str
    show : mapping of kind to unit

    Raises
    ------
    InputError
        With everything that is wrong in it, and what the species lack.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A <-> B", k="0.2 1/min", K=3.0))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> round(mo.AtEquilibrium(chem, feed).run().conversion("A"), 6)
    0.75
    """

    noun: ClassVar[str] = "equilibrium"
    chemistry: Chemistry
    feed: Feed = several_forms()
    T: QuantityField = quantity("temperature", setting=True, independent=True)
    P: QuantityField = quantity("pressure", setting=True, independent=True)
    heat: ReadField = several_forms()
    by: str | None = option(None, WAYS)
    reactions: Sequence[str] | None = None
    species: Sequence[str] | None = None
    solids: Sequence[str] = ()
    approach: ByName = field(default_factory=dict)
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)

    @cached_property
    def spec(self) -> AtEquilibriumSpecification:
        return AtEquilibriumSpecification(self)

    @cached_property
    def by_reactions(self) -> bool:
        """Whether equilibrium is given by constants of reactions, and not by the least Gibbs energy."""
        if self.by is not None:
            return self.by == "reactions"
        if self.species is not None:
            return False
        return self.reactions is not None or any(r.equation.reversible for r in self.chemistry.reactions)

    def equations(self) -> Equations:
        """As for every vessel; every species and every solid is assumed to exist."""
        symbols = [s for s in self.spec.model.balances.parameters if getattr(s, "role", None) in (IS_THERE, IS_COUNTED)]
        ones, balances = dict.fromkeys(symbols, sp.Integer(1)), self.spec.model.balances
        rhs = tuple(e.xreplace(ones) for e in balances.rhs)
        return vessel_equations(self.chemistry, self.spec.key, replace(balances, rhs=rhs))

    def __str__(self) -> str:
        at = f" at {self.T}" if self.T is not None else ""
        under = f"{' and' if at else ' at'} {self.P}" if self.P is not None else ""
        ends = f", {self.heat}," if self.heat is not None else ""
        way = "" if self.by_reactions else ", least Gibbs energy,"
        return f"{self.title}{at}{under}{ends}{way} fed {self.feed}"
