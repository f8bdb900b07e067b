"""A vessel at chemical equilibrium."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property, lru_cache
from typing import Any, ClassVar

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.balances.balance_symbols import APPROACH, FLOW, INLET, IS_COUNTED, IS_THERE, POTENTIAL
from molino.core.balances.compiled import compiled
from molino.core.balances.engines import Report
from molino.core.balances.system import ZERO, Case, State
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.equilibrium_constants import EquilibriumConstant, equilibrium_constants
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.chemistry.notation import Equations
from molino.core.chemistry.species import conserved
from molino.core.chemistry.symbolic_network import independent_rows, nonnegative_invariants
from molino.core.contents.feed import Feed, require_feed
from molino.core.contents.mixture import Mixture
from molino.core.contract.condition import Condition
from molino.core.contract.phase_limits import two_liquids
from molino.core.contract.validation import check_vessel, read_vessel_heat
from molino.core.contract.vessel_equations import vessel_equations
from molino.core.dual import Number
from molino.core.errors import Faults, InputError, SolveError, nearest
from molino.core.frozen import FrozenMapping, settle
from molino.core.schema import option, quantity, read_fields
from molino.core.terms.model import Model, ModelKey
from molino.core.thermo.energy import Energy, formation_enthalpies
from molino.core.thermo.gibbs import GibbsProblem
from molino.core.thermo.phase_model import STANDARD_PRESSURE
from molino.core.units import GAS_CONSTANT, Value
from molino.core.vessels.outlet_vessel import Outlet, OutletSpecification, OutletVessel, Unknowns

WAYS = ("reactions", "Gibbs energy")
_ASKER = "its Gibbs energy"
_CONSISTENT = 1e-7
"""How far dependent reactions may disagree in ln K."""
_ROUNDS = 400
_CLOSE = 1e-12
_MEMORY = 6
"""Rounds that the next correction of non-ideal coefficients is made from."""


@dataclass(frozen=True)
class EquilibriumForm:
    """What of an equilibrium changes the form of its equations.

    Attributes
    ----------
    conserved : tuple of tuple of float
        What is conserved: what each species holds of it, independent of each other.
    standard : tuple of expressions
        Chemical potential over R T of each species alone, over temperature; zero where reactions say it.
    constants : tuple of EquilibriumConstant
    weights : tuple of tuple of float
        How the potential of each species follows from ln K of each reaction.
    solids : tuple of int
    """

    conserved: tuple[tuple[float, ...], ...]
    standard: tuple[sp.Expr, ...]
    constants: tuple[EquilibriumConstant, ...]
    weights: tuple[tuple[float, ...], ...]
    solids: tuple[int, ...]

    @property
    def counts_concentrations(self) -> bool:
        """Whether every constant is a product of concentrations."""
        return bool(self.constants) and all(c.measure == "" for c in self.constants)


class AtEquilibriumSpecification(OutletSpecification):
    """The specification of a AtEquilibrium."""

    vessel: AtEquilibrium
    is_at_equilibrium: ClassVar[bool] = True
    method: ClassVar[str] = "Newton's method on the potentials"

    def validate(self) -> None:
        vessel = self.vessel
        require_feed(vessel.feed, self.label)
        faults = Faults()
        read_fields(vessel, faults, self.label)
        settle(vessel, solids=tuple(vessel.solids))
        for field_name in ("reactions", "species"):
            if getattr(vessel, field_name) is not None:
                settle(vessel, **{field_name: tuple(getattr(vessel, field_name))})
        for what, names in (("species", vessel.species or ()), ("solids", vessel.solids)):
            for name in sorted({*names} - {*self.chemistry.names}):
                faults.add(self.label, f"{what}: there is no species '{name}'", nearest(name, self.chemistry.names))
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
                    raise InputError(f"there is no reaction '{name}'", "", nearest(str(name), known))
                if not self.vessel.by_reactions:
                    raise InputError("the least Gibbs energy knows no reactions", "", "write by='reactions'")
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
        """The form, everything that is conserved with weights above zero, shape (species, conserved), and the problem
        that they pose; worked out once for a chemistry."""
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
            message = f"the reactions make {', '.join(lost)} without end: nothing of them is conserved"
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
        """The potentials as far as temperature decides them."""
        return (*self.form.standard, *(c.log for c in self.form.constants))

    @cached_property
    def thermal(self) -> tuple[Energy, dict[sp.Symbol, float]] | InputError:
        """Of the least Gibbs energy by the enthalpies of formation, which it is found by itself."""
        found = super().thermal
        if self.vessel.by_reactions or isinstance(found, InputError):
            return found
        references = formation_enthalpies(self.chemistry)
        return references if isinstance(references, InputError) else (found[0], found[1] | references)

    @property
    def affinities(self) -> tuple[sp.Expr, ...]:
        """ln(Q/K) of each reaction in what leaves."""
        return _outlet(self.key, self.form).affinities

    def build_model(self) -> Model:
        return _model(self.key, self.form)

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

            def put(v: Any, name: str = name) -> AtEquilibrium:
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
    def solver(self) -> _Solver:
        """What finds the composition; made once for all vessels of one form."""
        return _solver(self.key, self.form, self.form_and_holds[2])

    def composition(self, case: Case, T: float, near: np.ndarray | None) -> tuple[Case, np.ndarray, int]:
        self.check_consistent(case, T)
        try:
            flags, state, steps = self.solver.solve(case, T, near, self.is_non_isothermal)
        except _NotSettled as error:
            message = "the composition does not settle with its activity or fugacity coefficients"
            advice = "it may split into two liquids, or condense: look at its phases"
            raise SolveError(message, self.label, advice) from error
        return _flagged(case, flags), state, steps

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
        outputs = _outlet(self.key, self.form).logs
        logs = np.array(compiled(case.balances).outputs(outputs)(case.values)(state, 0.0), dtype=float)
        if np.max(np.abs(nu @ (np.array(self.form.weights) @ logs) + logs)) > _CONSISTENT * (1 + np.max(np.abs(logs))):
            names = ", ".join(c.reaction for c in self.form.constants)
            message = f"the constants of {names} contradict each other: together they do not add up"
            raise InputError(message, self.label, "leave one of the reactions out (reactions=[...]), or correct it")

    def joined_at_jump(self, below: tuple[Case, np.ndarray], above: tuple[Case, np.ndarray], share: float) -> Any:
        there = np.array([max(case.value(IS_THERE(s)) for case, _ in (below, above)) > 0 for s in self.chemistry.names])
        flows = below[1] + share * (above[1] - below[1])
        flows[: len(there)] = np.where(there, np.maximum(flows[: len(there)], 1e-300), 0.0)
        return _flagged(below[0], self.solver.pattern(there)[0]), flows

    def solve_steady(self, case: Case, near: np.ndarray | None = None) -> tuple[Case, np.ndarray, Report]:
        own, state, report = super().solve_steady(case, near)
        T = float(state[-1]) if self.is_non_isothermal else case.value(TEMPERATURE)
        flows = dict(zip(self.chemistry.names, state[: len(self.chemistry.names)].tolist(), strict=True))
        if text := two_liquids(self, T, flows):
            raise SolveError(text, self.label, "take another temperature or composition: two liquids are not computed")
        return own, state, report

    def require_constants(self) -> None:
        """Raise InputError if a constant of equilibrium still waits for a fit."""
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

    By the constants of equilibrium of its reactions, or as the state of least Gibbs energy over its species, for which
    no reaction is named: every one that keeps the elements is possible. Of a gas mu_i = h_i - T s_i + R T ln(x_i phi_i
    P/P0) with P0 = 1 bar, of a liquid R T ln(x_i gamma_i), of a pure solid nothing more (J. M. Smith, H. C. Van Ness,
    M. M. Abbott, Introduction to Chemical Engineering Thermodynamics, 7th ed. 2005, chapter 13). No starting point is
    asked for.

    Parameters
    ----------
    chemistry : Chemistry
        Rates are not needed: the constant of a reaction is that at which its rate law is zero, or that of its species'
        thermochemistry.
    feed : Feed
        Its `model` says how the fluid behaves: an ideal gas, a cubic equation of state, a liquid, an activity model.
    T : temperature, optional
        Prescribed; that of the feed if left out.
    P : pressure, optional
        Of what leaves, of a gas; that of the feed if left out.
    heat : "isothermal", "adiabatic", Adiabatic, Duty or Jacket
        Isothermal if left out, with the duty that this takes.
    by : "reactions" or "Gibbs energy", optional
        By reactions where there are reversible ones, if left out.
    reactions : sequence of str, optional
        Those that come to equilibrium; all reversible ones if left out.
    species : sequence of str, optional
        Those over which the Gibbs energy is least, the others being inert; all if left out.
    solids : sequence of str
        Species that are pure solids, which appear and vanish.
    approach : mapping of reaction to temperature difference
        The constant of a reaction is that at the temperature and so much more: {"shift": "-20 K"}.
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
    feed: Feed
    T: Any = quantity("temperature", setting=True, independent=True)
    P: Any = quantity("pressure", setting=True, independent=True)
    heat: Any = None
    by: str | None = option(None, WAYS)
    reactions: Sequence[str] | None = None
    species: Sequence[str] | None = None
    solids: Sequence[str] = ()
    approach: Mapping[str, Any] = field(default_factory=dict)
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)

    @cached_property
    def spec(self) -> AtEquilibriumSpecification:
        return AtEquilibriumSpecification(self)

    @cached_property
    def by_reactions(self) -> bool:
        """Whether the constants of reactions say where it lies, and not the least Gibbs energy."""
        if self.by is not None:
            return self.by == "reactions"
        if self.species is not None:
            return False
        return self.reactions is not None or any(r.equation.reversible for r in self.chemistry.reactions)

    def equations(self) -> Equations:
        """As of every vessel; every species and every solid is taken to exist."""
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


class _NotSettled(Exception):
    """The coefficients of a mixture that is not ideal do not settle."""


def _flagged(case: Case, flags: tuple[float, ...]) -> Case:
    """A case whose last parameters say what exists."""
    return replace(case, values=(*case.values[: -len(flags)], *flags))


class _Solver:
    """Finds compositions at equilibrium, for one form of the balances; holds what does not change from one to the next.

    `pattern` says which species and balances count where only some species exist.
    """

    def __init__(self, outlet: _AtEquilibrium, model: Model, problem: GibbsProblem) -> None:
        parameters = model.balances.parameters
        self.outlet, self.problem, self.count = outlet, problem, len(outlet.species)
        self.kept = np.array(outlet.form.conserved)
        self.size = len(model.balances.states)
        self.flow = parameters.index(FLOW)
        self.inlets = [parameters.index(INLET(s)) for s in outlet.species]
        self.make = compiled(model.balances).outputs(outlet.potentials)
        self.patterns: dict[bytes, tuple[tuple[float, ...], np.ndarray, list[int]]] = {}

    def pattern(self, there: np.ndarray) -> tuple[tuple[float, ...], np.ndarray, list[int]]:
        """For species that exist: the flags, what takes potentials of species to those of what is conserved, which."""
        key = there.tobytes()
        if key not in self.patterns:
            counted = independent_rows(self.kept * there)
            inverse = np.linalg.pinv(self.kept[counted][:, there].T)
            flags = (*there.astype(float).tolist(), *(float(k in counted) for k in range(len(self.kept))))
            self.patterns[key] = flags, inverse, counted
        return self.patterns[key]

    def solve(
        self, case: Case, T: float, near: np.ndarray | None, has_T: bool
    ) -> tuple[tuple[float, ...], np.ndarray, int]:
        """The flags, the unknowns but the temperature, and how many steps it took."""
        values, count = case.values, self.count
        flow = values[self.flow]
        fed = flow * np.array([values[i] for i in self.inlets])
        potentials, state = self.make(values), np.zeros(self.size)
        if has_T:
            state[-1] = T

        def at(flows: np.ndarray) -> np.ndarray:
            state[:count] = flows
            return np.array(potentials(state, 0.0), dtype=float)

        totals, steps = fed @ self.problem.holds, 0
        volume = flow if self.outlet.counts_concentrations else None
        g, search = at(fed if near is None else np.maximum(near[:count], 0.0)), _Substitution()
        for _ in range(_ROUNDS):
            found = self.problem.solve(g, totals, volume, near[:count] if near is not None else None)
            steps += found.iterations
            if not self.outlet.is_real:
                break
            moved = at(found.amounts) - g
            if float(np.max(np.abs(moved[found.amounts > 0]), initial=0.0)) < _CLOSE:
                break
            g = search.next(g, moved)
        else:
            raise _NotSettled
        there = found.amounts > 0
        flags, inverse, counted = self.pattern(there)
        y = np.zeros(len(self.kept))
        y[counted] = inverse @ (self.problem.holds @ np.nan_to_num(found.potentials))[there]
        return flags, np.concatenate([found.amounts, y]), steps


class _Substitution:
    """The fixed point of a map from corrections: successive substitution, accelerated from its last rounds.

    D. G. Anderson, J. ACM 12 (1965) 547.
    """

    def __init__(self) -> None:
        self.points: list[np.ndarray] = []
        self.moves: list[np.ndarray] = []

    def next(self, point: np.ndarray, move: np.ndarray) -> np.ndarray:
        """The next point from one and what the map moves it by."""
        self.points, self.moves = [*self.points, point][-_MEMORY:], [*self.moves, move][-_MEMORY:]
        if len(self.moves) < 3:
            return np.asarray(point + move)
        F = np.diff(np.array(self.moves), axis=0).T
        X = np.diff(np.array(self.points), axis=0).T
        share = np.linalg.lstsq(F, move, rcond=1e-10)[0]
        step: np.ndarray = move - (X + F) @ share
        most = 4 * float(np.max(np.abs(move))) + 0.5
        share = min(1.0, most / max(float(np.max(np.abs(step))), 1e-300))
        return np.asarray(point + share * step)


@lru_cache(maxsize=256)
def _outlet(key: ModelKey, form: EquilibriumForm) -> _AtEquilibrium:
    return _AtEquilibrium(key, form)


@lru_cache(maxsize=64)
def _solver(key: ModelKey, form: EquilibriumForm, problem: GibbsProblem) -> _Solver:
    return _Solver(_outlet(key, form), _model(key, form), problem)


@lru_cache(maxsize=256)
def _model(key: ModelKey, form: EquilibriumForm) -> Model:
    return _outlet(key, form).model()


class _AtEquilibrium(Outlet):
    """Flows by the potentials of what is conserved: F_i = N exp(sum_k a_ik y_k - g_i) in the fluid, N its flow, and
    sum_k a_ik y_k = g_i of a pure solid that exists."""

    def __init__(self, key: ModelKey, form: EquilibriumForm) -> None:
        super().__init__(key, form.solids)
        self.form = form
        self.kept = [POTENTIAL(str(k + 1)) for k in range(len(form.conserved))]
        self.rows = [[sp.Integer(a) if a == int(a) else sp.Float(a) for a in row] for row in form.conserved]
        self.counts_concentrations = form.counts_concentrations and key.phase.carries_volume
        """Whether the amount of a species is its concentration times a volume that stays."""
        self.whole = FLOW if self.counts_concentrations else sp.Add(*self._fluid(self.flows))

    def _correction(self, measure: str, i: int) -> sp.Expr:
        """ln of what a constant measures of a fluid species, less that of F_i/N."""
        if self.counts_concentrations:
            return ZERO
        coefficient = self.content.log_coefficient(i) if measure in ("a", "f") else ZERO
        if measure == "":
            ideal = self.phase.is_gas and self.phase.real is None
            dense = PRESSURE / (GAS_CONSTANT * TEMPERATURE) if ideal else self.whole / self.volume
            return sp.log(dense)
        if measure == "p" or measure == "f":
            return sp.log(PRESSURE) + coefficient
        return coefficient + (sp.log(PRESSURE / STANDARD_PRESSURE) if measure == "a" and self.phase.is_gas else ZERO)

    @cached_property
    def logs(self) -> tuple[sp.Expr, ...]:
        """ln K of each reaction, in what F_i/N measures."""
        found = []
        network = self.key.network
        for constant in self.form.constants:
            column = network.stoichiometry[network.reactions.index(constant.reaction)]
            off = (
                sp.Rational(moles) * self._correction(constant.measure, i)
                for i, moles in column
                if i not in self.solids
            )
            warmer = TEMPERATURE + APPROACH(constant.reaction)
            found.append(constant.log.xreplace({TEMPERATURE: warmer}) - sp.Add(*off))
        return tuple(found)

    @cached_property
    def affinities(self) -> tuple[sp.Expr, ...]:
        """ln(Q/K) of each reaction."""
        network, found = self.key.network, []
        for constant, log in zip(self.form.constants, self.logs, strict=True):
            column = network.stoichiometry[network.reactions.index(constant.reaction)]
            terms = (
                sp.Rational(moles) * sp.log(self.flows[i] / self.whole) for i, moles in column if i not in self.solids
            )
            found.append(sp.Add(*terms) - log)
        return tuple(found)

    @cached_property
    def potentials(self) -> tuple[sp.Expr, ...]:
        """g_i: the chemical potential over R T of each species, without its fraction."""
        form = self.form
        if form.constants:
            return tuple(
                sp.Add(*(w * e for w, e in zip(row, self.logs, strict=True) if abs(w) > 1e-14)) for row in form.weights
            )
        return tuple(
            g if i in self.solids or g == 0 else g + self._correction("a", i) for i, g in enumerate(form.standard)
        )

    @cached_property
    def is_real(self) -> bool:
        """Whether the potentials depend on the composition."""
        moving = {*self.flows, *(s for s, _ in self.content.definitions)} | {self.volume} - {FLOW}
        return any(g.free_symbols & moving for g in self.potentials)

    def unknowns(self) -> Unknowns:
        found = []
        for i, (species, F) in enumerate(zip(self.species, self.flows, strict=True)):
            there = IS_THERE(species)
            weighted = sp.Add(*(row[i] * y for row, y in zip(self.rows, self.kept, strict=True) if row[i]))
            affinity = weighted - self.potentials[i]
            if i in self.solids:
                found.append(self.flow(i, there * affinity * self.scale - (1 - there) * F))
            else:
                found.append(self.flow(i, there * self.whole * sp.exp(affinity) - F))
        for k, (row, y) in enumerate(zip(self.rows, self.kept, strict=True)):
            counted = IS_COUNTED(str(k))
            missing = sp.Add(*(a * (F - fed) for a, F, fed in zip(row, self.flows, self.fed, strict=True) if a))
            state = State(f"potential {k + 1}", y, "number", ZERO, sp.Integer(1), True)
            found.append((state, counted * missing - (1 - counted) * y * self.scale))
        return found

    def parameters(self) -> list[sp.Symbol]:
        found = [APPROACH(c.reaction) for c in self.form.constants]
        found += [IS_THERE(s) for s in self.species]
        return found + [IS_COUNTED(str(k)) for k in range(len(self.kept))]
