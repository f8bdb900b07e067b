"""The outlet at equilibrium: its equations, and how they are solved."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

import numpy as np
import sympy as sp

from molino.core.balances.balance_symbols import APPROACH, FLOW, INLET, IS_COUNTED, IS_THERE, POTENTIAL
from molino.core.balances.compiled import compiled
from molino.core.balances.system import ZERO, Case, State
from molino.core.chemistry.equilibrium_constants import EquilibriumConstant
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.chemistry.symbolic_network import independent_rows
from molino.core.terms.model import Model, ModelKey
from molino.core.thermo.gibbs import GibbsProblem
from molino.core.thermo.phase_model import STANDARD_PRESSURE
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.vessels.outlet_vessel import Outlet, Unknowns

_ROUNDS = 400
_CLOSE = 1e-12
_MEMORY = 6
"""Number of previous rounds from which the next correction of non-ideal coefficients is extrapolated."""


@dataclass(frozen=True)
class EquilibriumForm:
    """The properties of an equilibrium that determine the form of its equations.

    Attributes
    ----------
    conserved : tuple of tuple of float
        Independent conserved quantities: their amount in each species.
    standard : tuple of expressions
        Chemical potential over R T of each pure species, as a function of temperature; zero where constants of
        reactions are used.
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
        """Whether every constant is in concentrations."""
        return bool(self.constants) and all(c.measure == "" for c in self.constants)


class NotSettled(Exception):
    """The coefficients of a non-ideal mixture do not converge."""


def flagged(case: Case, flags: tuple[float, ...]) -> Case:
    """A case whose last parameters are flags of the species that exist."""
    return replace(case, values=(*case.values[: -len(flags)], *flags))


class Solver:
    """The solver of compositions at equilibrium, for one form of the balances.

    `pattern` selects species and balances where only some species exist.
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
        """For the species that exist: the flags, the matrix from their potentials to those of the conserved amounts,
        and their places."""
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
        """The flags, the unknowns without the temperature, and the number of steps."""
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
            raise NotSettled
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
        """The next point from a point and its change by the map."""
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
def outlet(key: ModelKey, form: EquilibriumForm) -> _AtEquilibrium:
    return _AtEquilibrium(key, form)


@lru_cache(maxsize=64)
def solver(key: ModelKey, form: EquilibriumForm, problem: GibbsProblem) -> Solver:
    return Solver(outlet(key, form), model(key, form), problem)


@lru_cache(maxsize=256)
def model(key: ModelKey, form: EquilibriumForm) -> Model:
    return outlet(key, form).model()


class _AtEquilibrium(Outlet):
    """Flows by the potentials of the conserved amounts: F_i = N exp(sum_k a_ik y_k - g_i) in the fluid, N its flow, and
    sum_k a_ik y_k = g_i of a pure solid that exists."""

    def __init__(self, key: ModelKey, form: EquilibriumForm) -> None:
        super().__init__(key, form.solids)
        self.form = form
        self.kept = [POTENTIAL(str(k + 1)) for k in range(len(form.conserved))]
        self.rows = [[sp.Integer(a) if a == int(a) else sp.Float(a) for a in row] for row in form.conserved]
        self.counts_concentrations = form.counts_concentrations and key.phase.carries_volume
        """Whether the amount of a species is its concentration times a constant volume."""
        self.whole = FLOW if self.counts_concentrations else sp.Add(*self._fluid(self.flows))

    def _correction(self, measure: str, i: int) -> sp.Expr:
        """ln of the quantity that a constant is written in (of a fluid species), less ln(F_i/N)."""
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
        """ln K of each reaction in terms of F_i/N."""
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
