"""Vessels whose outlet follows from the feed, without a volume or a time: their equations and their solution.

The unknowns are the molar flows of the outlet, and the temperature where it is not prescribed, in

    0 = an equation for the flow of each species 0 = H_in + Q - H_out

(J. M. Smith, H. C. Van Ness, M. M. Abbott, Introduction to Chemical Engineering Thermodynamics, 7th ed. 2005, sections
2.12 and 13.4).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import cached_property
from typing import ClassVar

import numpy as np
import scipy
import sympy as sp

from molino.core.balances.balance_symbols import FEED_P, FEED_T, FLOW, INLET, LOCAL_FLOW, MOLAR_FLOW
from molino.core.balances.compiled import compiled
from molino.core.balances.functions import Functions
from molino.core.balances.settings import Report
from molino.core.balances.source import NotFinite
from molino.core.balances.system import TIME, ZERO, Balances, Case, State
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE, concentration
from molino.core.contents.mixture_equations import Mixture
from molino.core.contents.streams import Stream
from molino.core.contract.run_result import RunResult
from molino.core.dual import Number
from molino.core.errors import InputError, SolveError
from molino.core.runs.run import Run
from molino.core.runs.trajectory import at_rest
from molino.core.schema import ReadField
from molino.core.terms.heat import Jacket, Profile
from molino.core.terms.model import (
    Account,
    Model,
    ModelKey,
    Reading,
    StreamForm,
    by_species,
    reacting_enthalpy,
    total,
)
from molino.core.thermo.phase_model import Content
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.vessels.flow_vessel import FlowSpecification, FlowVessel

_COLDEST, _HOTTEST = 120.0, 6000.0
"""The range in K of temperatures that follow from the enthalpy."""
_STEP = 30.0
_POLISHED = 1e-13
Unknowns = list[tuple[State, sp.Expr]]


class Outlet:
    """The outlet of a vessel as symbols: the balances that determine its flows and its temperature.

    Parameters
    ----------
    key : ModelKey
    solids : places of the species that are pure solids
    """

    def __init__(self, key: ModelKey, solids: Sequence[int] = ()) -> None:
        self.key, self.phase, self.species, self.solids = key, key.phase, key.network.species, tuple(solids)
        self.flows = tuple(MOLAR_FLOW(s) for s in self.species)
        self.fed = [FLOW * INLET(s) for s in self.species]
        self.scale = FLOW * total(key.network, INLET)
        self.T, self.P = TEMPERATURE, PRESSURE
        self.content = Content(key.phase, self._fluid(self.flows), TEMPERATURE, PRESSURE)
        self.entering = Content(key.phase, self._fluid(self.fed), FEED_T, FEED_P, "feed ")
        self.volume = FLOW if key.phase.carries_volume else LOCAL_FLOW

    def unknowns(self) -> Unknowns:
        """The flow of each species and further unknowns, each with its residual."""
        raise NotImplementedError

    def definitions(self) -> list[tuple[sp.Symbol, sp.Expr]]:
        """The symbols of these equations."""
        return []

    def parameters(self) -> list[sp.Symbol]:
        """The further numbers, which are the last parameters."""
        return []

    def readings(self) -> dict[str, Reading]:
        """Further quantities to report, besides concentrations and temperature."""
        return {}

    def flow(self, i: int, balance: sp.Expr) -> tuple[State, sp.Expr]:
        """The flow of a species as an unknown, with its residual."""
        return State(self.species[i], self.flows[i], "molar flow", self.fed[i], self.scale, True), balance

    def _fluid(self, flows: Sequence[sp.Expr]) -> list[sp.Expr]:
        return [ZERO if i in self.solids else F for i, F in enumerate(flows)]

    def _enthalpy(self, content: Content, flows: Sequence[sp.Expr]) -> sp.Expr:
        """Enthalpy flow of a fluid with the solids among some flows."""
        energy = self.phase.energy
        assert energy is not None
        solid = sp.Add(*(flows[i] * energy.enthalpy(i, content.T) for i in self.solids))
        return self.phase.enthalpy(content, FLOW) + solid

    def model(self) -> Model:
        key, phase = self.key, self.phase
        states = self.unknowns()
        definitions = [*self.content.definitions]
        definitions += [] if phase.carries_volume else [(LOCAL_FLOW, self.content.volume)]
        definitions += [
            (concentration(s), F / self.volume if i not in self.solids else ZERO)
            for i, (s, F) in enumerate(zip(self.species, self.flows, strict=True))
        ]
        definitions += self.definitions()
        parameters = [*key.symbols, *(INLET(s) for s in self.species), FLOW]
        parameters += [PRESSURE, FEED_P] if phase.is_gas else []
        readings = {f"concentration of {s}": Reading(concentration(s), "concentration", s) for s in self.species}
        readings = {n: r for i, (n, r) in enumerate(readings.items()) if i not in self.solids}
        steady = duty = None
        if key.has_energy:
            parameters += [FEED_T, *(key.heat.symbols if key.heat.mode in ("duty", "jacket") else ())]
            definitions += self.entering.definitions
            brought, taken = self._enthalpy(self.entering, self.fed), self._enthalpy(self.content, self.flows)
            duty = key.heat.through_wall(TEMPERATURE) if key.heat.is_non_isothermal else taken - brought
            warmed = phase.sensible_enthalpy(self.fed, TEMPERATURE, FEED_T, FLOW)
            reacted = reacting_enthalpy(key, self.flows, FEED_T) - reacting_enthalpy(key, self.fed, FEED_T)
            steady = Account(brought + duty, taken, (duty, warmed, reacted))
            if key.heat.is_non_isothermal:
                T = State("T", TEMPERATURE, "temperature", FEED_T, FEED_T, True)
                states.append((T, brought + duty - taken))
        if key.has_energy:
            readings["temperature"] = Reading(TEMPERATURE, "temperature", "T")
        balances = Balances(
            TIME,
            tuple(s for s, _ in states),
            tuple(definitions),
            tuple(f for _, f in states),
            (*dict.fromkeys([*parameters, *([] if key.heat.is_non_isothermal else [TEMPERATURE])]), *self.parameters()),
        )
        return Model(
            balances,
            by_species(key, self.fed),
            by_species(key, self.flows),
            readings | self.readings(),
            self._streams(),
            None,
            steady=steady,
            duty=duty,
        )

    def _streams(self) -> tuple[StreamForm, ...]:
        P = PRESSURE if self.phase.is_gas else None
        found = [StreamForm("outlet", by_species(self.key, self._fluid(self.flows)), self.volume, TEMPERATURE, P, True)]
        if self.solids:
            solid = [F if i in self.solids else ZERO for i, F in enumerate(self.flows)]
            found.append(StreamForm("solids", by_species(self.key, solid), None, TEMPERATURE, P, True))
        return tuple(found)


class OutletSpecification(FlowSpecification):
    """The specification of a OutletVessel."""

    vessel: OutletVessel

    has_steady_state: ClassVar[bool] = True
    is_kinetic: ClassVar[bool] = False
    method: ClassVar[str] = ""

    def composition(self, case: Case, T: float, near: np.ndarray | None) -> tuple[Case, np.ndarray, int]:
        """The unknowns without the temperature at a temperature, their case, and the number of steps."""
        raise NotImplementedError

    def joined_at_jump(
        self, below: tuple[Case, np.ndarray], above: tuple[Case, np.ndarray], share: float
    ) -> tuple[Case, np.ndarray] | None:
        """The solution between two solutions at almost the same temperature; None if there is none."""
        return None

    def check_heat(self) -> None:
        vessel = self.vessel
        if isinstance(vessel.heat, Profile):
            raise InputError("a vessel without time and length has no profile", "heat", "give T")
        if isinstance(vessel.heat, Jacket) and (vessel.heat.counter_current or not vessel.heat.has_conductance):
            raise InputError("the coolant is well mixed, or goes through a coil", "heat", "give UA")
        if self.is_non_isothermal and vessel.T is not None:
            message = "T is given, and the temperature follows from the enthalpy"
            raise InputError(message, "heat", "leave T out: the feed has its own temperature")

    def require_constants(self) -> None:
        """Rate constants are not needed."""

    @property
    def needs_size(self) -> bool:
        return False

    def end(self, given: Mapping[str, Number], fed: Mixture) -> Number:
        return np.inf

    def own_numbers(self, given: Mapping[str, Number], fed: Mixture) -> dict[sp.Symbol, Number]:
        T, feed_T = self.temperatures(given)
        brought = self.vessel.feed.pressure(fed, given)
        own = given.get("P", self.vessel.P.si) if self.vessel.P is not None else given.get("P", brought)
        return {TEMPERATURE: T, FEED_T: feed_T, FLOW: fed.volume, PRESSURE: own, FEED_P: brought}

    def feed_pressure(self) -> float:
        return float(self.vessel.P.si) if self.vessel.P is not None else super().feed_pressure()

    def stream_in(self, run: RunResult) -> Stream:
        T = self.feed_T.si if self.feed_T is not None else np.nan
        return self.stream_of("feed", self.fed, float(T), float(self.vessel.feed.pressure(self.fed, {})))

    def solve_steady(self, case: Case, near: np.ndarray | None = None) -> tuple[Case, np.ndarray, Report]:
        if not self.is_non_isothermal:
            own, state, steps = self.composition(case, case.value(TEMPERATURE), near)
            return own, state, Report(self.method, steps, 0, 0)
        return self.at_enthalpy(case, near)

    def at_enthalpy(self, case: Case, near: np.ndarray | None) -> tuple[Case, np.ndarray, Report]:
        """The temperature at which the energy balance closes; its residual falls with temperature, since every stable
        mixture has a positive heat capacity."""
        held: dict[float, tuple[Case, np.ndarray]] = {}
        steps = 0
        energy = compiled(case.balances).outputs((case.balances.rhs[-1],))

        def off(T: float) -> float:
            nonlocal steps
            last = near[:-1] if near is not None else next(reversed(held.values()))[1] if held else None
            own, found, more = self.composition(case, T, last)
            steps += more
            held[T] = own, found
            return float(energy(own.values)(np.append(found, T), 0.0)[0])

        low, high = self.bracket(off, float(near[-1]) if near is not None else case.value(FEED_T))
        T = low if low == high else float(scipy.optimize.brentq(off, low, high, xtol=1e-11, rtol=1e-14))
        off(T)
        own, found = held[T]
        state = np.append(found, T)
        left = abs(float(energy(own.values)(state, 0.0)[0]))
        size = (
            float(case.value(FLOW)) * sum(case.value(INLET(s)) for s in self.chemistry.names) * GAS_CONSTANT * state[-1]
        )
        if left > 1e-7 * size:
            own, state = self.between(case, off, held, T, size)
        return own, state, Report(self.method, steps, 0, 0)

    def between(
        self,
        case: Case,
        off: Callable[[float], float],
        held: Mapping[float, tuple[Case, np.ndarray]],
        T: float,
        size: float,
    ) -> tuple[Case, np.ndarray]:
        """The outlet at a temperature at which pure solids appear or vanish, between the solutions on its two sides."""
        sides = [T - 1e-5, T + 1e-5]
        ends = [off(t) for t in sides]
        share = ends[0] / (ends[0] - ends[1]) if ends[0] > 0 > ends[1] else 0.5
        joined = self.joined_at_jump(held[sides[0]], held[sides[1]], share)
        if joined is not None:
            own, found = joined
            state = _polished(own, np.append(found, T))
            left = abs(float(compiled(case.balances).outputs((case.balances.rhs[-1],))(own.values)(state, 0.0)[0]))
            if left < 1e-7 * size and abs(state[-1] - T) < 1.0:
                return own, state
        message = f"the energy balance does not close near {T:.5g} K"
        raise SolveError(message, self.label, "check the heat capacities and the enthalpies of formation")

    def bracket(self, off: Callable[[float], float], start: float) -> tuple[float, float]:
        """Two temperatures between which the residual of the energy balance changes its sign, beginning at that of the
        feed."""
        here = off(start)
        if here == 0.0:
            return start, start
        T, step = start, _STEP if here > 0 else -_STEP
        while _COLDEST < T < _HOTTEST:
            last, T = T, min(max(T + step, _COLDEST), _HOTTEST)
            there = off(T)
            if here * there <= 0:
                return min(last, T), max(last, T)
            step *= 1.6
        message = f"no temperature between {_COLDEST:g} and {_HOTTEST:g} K closes the energy balance"
        raise SolveError(message, self.label, "check heat capacities, enthalpies of formation, and the duty")


class OutletVessel(FlowVessel):
    """A vessel without volume or time, defined by its outlet: at a given conversion, or at equilibrium."""

    wall = None
    catalyst = None
    P: ReadField

    @cached_property
    def spec(self) -> OutletSpecification:
        raise NotImplementedError

    def steady(self, near: np.ndarray | None = None) -> Run:
        """The outlet, and its temperature if it is not prescribed.

        Parameters
        ----------
        near : array, shape (unknowns,), optional
            Those of a similar vessel, as a first guess.

        Raises
        ------
        SolveError
            If no outlet is found.
        """
        self.spec.require_known()
        case, state, report = self.spec.solve_steady(self.spec.case, near)
        return Run(self, at_rest(case, state, report))

    def run(self) -> Run:
        """As `steady`: the outlet."""
        return self.steady()


def _polished(case: Case, state: np.ndarray) -> np.ndarray:
    """Newton's method on all equations with their exact Jacobian, from a point near the solution."""
    functions = Functions(case)
    best, size = state, np.inf
    for _ in range(12):
        try:
            residual = np.array(functions.rhs(state, 0.0))
            jacobian = np.asarray(functions.state_jacobian(state, 0.0))
            rows = np.maximum(np.abs(jacobian * np.maximum(np.abs(state), 1e-300)).max(axis=1), 1e-300)
            off = float(np.max(np.abs(residual) / rows))
            if not off < size:
                return best
            best, size = state, off
            if off < _POLISHED:
                return best
            scale = np.abs(jacobian).max(axis=1)
            state = state - np.linalg.solve(jacobian / scale[:, None], residual / scale)
        except (NotFinite, np.linalg.LinAlgError, FloatingPointError):
            return best
    return best
