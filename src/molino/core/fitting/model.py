"""What the balances say would be measured: concentrations in batches, and at the outlets of tubes and tanks."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import sympy as sp

from molino.core.balances.compiled import compiled
from molino.core.balances.integrate import integrate, observe
from molino.core.balances.steady import steady, steady_slopes
from molino.core.balances.system import Case
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.formula import concentration
from molino.core.errors import SolveError
from molino.core.fitting.experiments import Experiment
from molino.core.frozen import Frozen
from molino.core.units import GAS_CONSTANT, Value
from molino.core.vessels.base import Vessel
from molino.core.vessels.batch import Batch
from molino.core.vessels.feed import Feed
from molino.core.vessels.plug_flow import PlugFlow
from molino.core.vessels.roles import AMOUNT, MOLAR_FLOW
from molino.core.vessels.stirred_tank import StirredTank

TIGHT, ROUGH = (1e-12, 1e-14), (1e-8, 1e-11)
"""Tolerances of integration, relative and as a fraction of what went in: at an optimum, and on the way to it."""
DELAY = "delay"
"""The name of the sampling delay among the parameters of a fit."""


def vessel_of(run: Experiment, chemistry: Chemistry, time: float | None = None) -> Vessel:
    """The vessel that a run was made in, of one cubic metre (a batch) or fed with one cubic metre a second.

    `time` is the batch or space time; the last sample's if left out.
    """
    gas = run.gas or bool(chemistry.network.by_pressure)
    charge: dict[str, Value] = {}
    for species, c in run.charge.items():
        if species in chemistry.names:
            charge[species] = Value(c * GAS_CONSTANT * (run.T or np.nan), "Pa") if gas and run.T else Value(c)
    T = Value(run.T) if run.T is not None else None
    end = Value(float(run.times[-1]) if time is None else time)
    label = f"run {run.name}"
    if run.vessel == "batch":
        return Batch(chemistry, charge, T=T, time=end if end.si > 0 else None, name=label)
    feed = Feed(charge, Value(1.0, "m^3/s") if gas else Value(1.0), T=T)
    if run.vessel == "plug flow":
        return PlugFlow(chemistry, feed, space_time=end, name=label)
    return StirredTank(chemistry, feed, space_time=end, name=label)


@dataclass(frozen=True, eq=False)
class Sample(Frozen):
    """The observations of one run, and how the parameters of the fit stand in its balances.

    `symbols[i]` takes the value of parameter `places[i]`. Observation n is of species `species[columns[n]]` at
    `times[rows[n]]`; `times` are distinct and rise.
    """

    name: str
    species: tuple[str, ...]
    times: np.ndarray
    rows: np.ndarray
    columns: np.ndarray
    symbols: tuple[sp.Symbol, ...]
    places: np.ndarray
    delay: int | None

    def observed(self, parameters: np.ndarray, tolerances: tuple[float, float]) -> tuple[np.ndarray, np.ndarray]:
        """Calculated values, shape (observations,), and slopes by all parameters, shape (observations, parameters)."""
        values, slopes = self.calculate(parameters, tolerances)
        whole = np.zeros((len(self.rows), len(parameters)))
        whole[:, self.places] = slopes[self.rows, self.columns][:, : len(self.symbols)]
        if self.delay is not None:
            whole[:, self.delay] = slopes[self.rows, self.columns, -1]
        return values[self.rows, self.columns], whole

    def changed(self, parameters: np.ndarray) -> dict[sp.Symbol, float]:
        return dict(zip(self.symbols, parameters[self.places].tolist(), strict=True))

    def calculate(
        self, parameters: np.ndarray, tolerances: tuple[float, float]
    ) -> tuple[np.ndarray, np.ndarray]:  # fmt: skip
        """Concentrations, shape (times, species), and slopes by `symbols` (then by the delay), shape (..., symbols)."""
        raise NotImplementedError


@dataclass(frozen=True, eq=False)
class TransientSample(Sample):
    """A batch over time, or a tube over its space time."""

    case: Case
    expressions: tuple[sp.Expr, ...]
    """Concentrations of `species`; empty where the states are concentrations (a batch of 1 m^3)."""
    over_time: bool = True

    def calculate(
        self, parameters: np.ndarray, tolerances: tuple[float, float]
    ) -> tuple[np.ndarray, np.ndarray]:  # fmt: skip
        case = self.case.with_values(self.changed(parameters))
        times = self.times + (parameters[self.delay] if self.delay is not None else 0.0)
        shift = int(times[0] > 0)
        grid = np.concatenate([[0.0], times]) if shift else times
        solution = integrate(case, grid, by=self.symbols, rtol=tolerances[0], atol=tolerances[1])
        states = solution.states[shift:]
        slopes = np.zeros((*states.shape, 0))
        if solution.sensitivities is not None:
            slopes = solution.sensitivities[shift:]
        chosen = [case.balances.index(AMOUNT(s) if self.over_time else MOLAR_FLOW(s)) for s in self.species]
        if self.expressions:
            values, slopes = observe(case, self.expressions, times, states, slopes, self.symbols)
        else:
            values, slopes = states[:, chosen], slopes[:, chosen]
        if self.delay is not None:  # dc/d(delay) = dc/dt
            rhs = compiled(case.balances).rhs(case.values)
            rates = np.array([rhs(y, t) for y, t in zip(states, times, strict=True)])[:, chosen]
            slopes = np.concatenate([slopes, rates[:, :, None]], axis=2)
        return values, slopes


@dataclass(frozen=True, eq=False)
class SteadySample(Sample):
    """A stirred tank at steady state, at one or several space times."""

    cases: tuple[Case, ...]
    expressions: tuple[sp.Expr, ...]
    last: dict[int, np.ndarray] = field(default_factory=dict)
    """The state found last at each space time, where the next search begins."""

    def calculate(
        self, parameters: np.ndarray, tolerances: tuple[float, float]
    ) -> tuple[np.ndarray, np.ndarray]:  # fmt: skip
        changed = self.changed(parameters)
        values, slopes = [], []
        for n, (given, space_time) in enumerate(zip(self.cases, self.times, strict=True)):
            case = given.with_values(changed)
            state, _ = steady(case, float(space_time), self.last.get(n))
            self.last[n] = state
            sensitivity = steady_slopes(case, state, self.symbols)[None]
            v, s = observe(case, self.expressions, np.zeros(1), state[None], sensitivity, self.symbols)
            values.append(v[0])
            slopes.append(s[0])
        return np.array(values), np.array(slopes)


@dataclass(frozen=True, eq=False)
class BalanceModel(Frozen):
    """All runs of a fit."""

    samples: tuple[Sample, ...]
    tolerances: tuple[float, float] = TIGHT

    def rough(self) -> BalanceModel:
        return replace(self, tolerances=ROUGH)

    def __call__(self, parameters: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        values, slopes = [], []
        for sample in self.samples:
            try:
                calculated, by = sample.observed(parameters, self.tolerances)
            except SolveError as error:
                raise SolveError(fault.within(f"run {sample.name}") for fault in error.faults) from error
            values.append(calculated)
            slopes.append(by)
        return np.concatenate(values), np.concatenate(slopes)


def sample_of(
    run: Experiment, chemistry: Chemistry, species: Sequence[str], times: np.ndarray, rows: np.ndarray,
    columns: np.ndarray, places: Mapping[sp.Symbol, int], delay: int | None,
) -> Sample:  # fmt: skip
    """A run's observations on the balances of its vessel.

    `times` are those of all samples, in any order and with repeats; `rows` and `columns` say which sample and species
    each observation is.
    """
    distinct, place = np.unique(times, return_inverse=True)
    vessel = vessel_of(run, chemistry)
    balances = vessel._case.balances
    asked = tuple(species)
    over_time = run.vessel == "batch"
    if run.vessel != "stirred tank" and not (vessel.is_gas and run.vessel == "plug flow"):
        states = tuple(AMOUNT(s) if over_time else MOLAR_FLOW(s) for s in asked)
        case = Case(balances.reduced(states), vessel._case.values)
        expressions: tuple[sp.Expr, ...] = ()
    else:
        case, expressions = vessel._case, tuple(concentration(s) for s in asked)
    symbols = tuple(s for s in places if s in case.balances.parameters)
    common = (
        run.name,
        asked,
        distinct,
        place[rows],
        columns,
        symbols,
        np.array([places[s] for s in symbols], dtype=int),
    )
    if run.vessel == "stirred tank":
        cases = tuple(vessel_of(run, chemistry, float(t))._case for t in distinct)
        return SteadySample(*common, None, cases, expressions)
    return TransientSample(*common, delay if over_time else None, case, expressions, over_time)
