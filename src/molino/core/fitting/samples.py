"""The observations of one run as functions of the parameters of a fit."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
import sympy as sp

from molino.core.annotations import PlainData
from molino.core.balances.boundary import solve_boundary
from molino.core.balances.compiled import compiled
from molino.core.balances.integrate import RUN_OUT, Switch, integrate, observe
from molino.core.balances.piecewise_linear import PiecewiseLinear, segments
from molino.core.balances.steady import steady_slopes
from molino.core.balances.system import TIME, Case
from molino.core.contract.metric import Metric
from molino.core.contract.parameter_map import ParameterMap
from molino.core.contract.vessel import Vessel
from molino.core.dual import Dual, value_of
from molino.core.errors import SolveError
from molino.core.fitting.signal_model import CalibratedSignal
from molino.core.frozen import Frozen
from molino.core.runs.sensitivity import slopes_at
from molino.core.runs.trajectory import Trajectory, integrate_segments, moved_expressions
from molino.core.trains.train import Train
from molino.core.vessels.flow_vessel import FlowVessel


@dataclass(frozen=True)
class RunPlaces:
    """The places of the parameters of a fit, by their index, in one run.

    `symbols` are parameters of its balances, `settings` conditions of its vessel by name (also enthalpies of reaction).
    """

    symbols: Mapping[sp.Symbol, int] = field(default_factory=dict)
    settings: Mapping[str, int] = field(default_factory=dict)
    delay: int | None = None
    signals: Mapping[str, int] = field(default_factory=dict)
    """The constants of signals by name, "absorbance slope"."""


@dataclass(frozen=True, eq=False)
class VesselNumbers(Frozen):
    """The parameters of the balances of one vessel as functions of the parameters of a fit, with derivatives."""

    vessel: Vessel
    case: Case
    places: RunPlaces

    @cached_property
    def _direct(self) -> tuple[tuple[sp.Symbol, ...], list[int]]:
        """Parameters of the balances that are parameters of the fit, and the indices of those."""
        found = {s: i for s, i in self.places.symbols.items() if s in self.case.balances.parameters}
        return tuple(found), list(found.values())

    @cached_property
    def _map(self) -> ParameterMap | None:
        """The map of conditions to the balances; None if no fitted condition affects them."""
        found = ParameterMap(self.vessel, tuple(self.places.settings))
        own = [self.vessel.spec.condition(name).own for name in found.names]
        if not own:
            return None
        _, by_setting, _, by_end = found.with_slopes(own)
        return found if by_setting.any() or by_end.any() else None

    def at(self, parameters: np.ndarray) -> tuple[Case, tuple[sp.Symbol, ...], np.ndarray]:
        """The case, its parameters that change, and their derivatives, shape (these, parameters of the fit)."""
        by, places = self._direct
        changed = dict(zip(by, parameters[places].tolist(), strict=True))
        if self._map is None:
            return self.case.with_values(changed), by, np.eye(len(parameters))[places]
        columns = list(self.places.settings.values())
        values, by_setting = self._map.values_and_slopes(parameters[columns].tolist())
        symbols = self.vessel.spec.model.balances.parameters
        touched = [i for i, s in enumerate(symbols) if by_setting[i].any() and s in self.case.balances.parameters]
        moved = {symbols[i]: values[i] for i in touched} | changed
        slopes = np.zeros((len(touched), len(parameters)))
        slopes[:, columns] = by_setting[touched]
        case = self.case.with_values(moved)
        return case, (*by, *(symbols[i] for i in touched)), np.concatenate([np.eye(len(parameters))[places], slopes])

    def end(self, parameters: np.ndarray, size: tuple[str, float] | None = None) -> tuple[float, np.ndarray]:
        """The end of the vessel (with a size, if given), and its derivatives, shape (parameters of the fit,)."""
        slopes = np.zeros(len(parameters))
        columns = list(self.places.settings.values())
        given: PlainData = {}
        if self._map is not None:
            seeds = Dual.seeds(parameters[columns].tolist())
            given = dict(zip(self._map.names, seeds, strict=True))
        if size is not None:
            given[size[0]] = size[1]
        _, end = self.vessel.spec.parameters(given)
        if isinstance(end, Dual):
            slopes[columns] = end.slope
        return float(value_of(end)), slopes


@dataclass(frozen=True, eq=False)
class Observed(Frozen):
    """The observations of one run: observation n is of `responses[columns[n]]` at the calculated place `rows[n]`.

    Responses are species (their concentrations) and metrics, by name; or signals, each a function of the calculated
    columns.
    """

    run: str
    responses: tuple[str | CalibratedSignal, ...]
    rows: np.ndarray
    columns: np.ndarray

    @cached_property
    def metrics(self) -> tuple[str, ...]:
        """The responses to be calculated, by name."""
        names = (r.model.responses if isinstance(r, CalibratedSignal) else (r,) for r in self.responses)
        return tuple(dict.fromkeys(name for own in names for name in own))

    def read(self, values: np.ndarray, slopes: np.ndarray, parameters: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Each observation, shape (observations,), and its derivatives, from those of `metrics` at each place."""
        found, by = np.empty(len(self.rows)), np.empty((len(self.rows), len(parameters)))
        for n, response in enumerate(self.responses):
            own = self.columns == n
            rows = self.rows[own]
            if isinstance(response, CalibratedSignal):
                columns = [self.metrics.index(name) for name in response.model.responses]
                found[own], by[own] = response.read(values[rows][:, columns], slopes[rows][:, columns], parameters)
            else:
                column = self.metrics.index(response)
                found[own], by[own] = values[rows, column], slopes[rows, column]
        return found, by


@dataclass(frozen=True, eq=False)
class Sample(Frozen):
    """The observations of one run on the balances of its vessel."""

    seen: Observed

    def observed(self, parameters: np.ndarray, tolerances: tuple[float, float]) -> tuple[np.ndarray, np.ndarray]:
        """Calculated values, shape (observations,), and derivatives by all parameters, shape (observations,
        parameters)."""
        values, slopes = self.calculate(parameters, tolerances)
        if self.seen.metrics != self.seen.responses:
            return self.seen.read(values, slopes, parameters)
        rows, columns = self.seen.rows, self.seen.columns
        return values[rows, columns], slopes[rows, columns]

    def plain(self) -> Sample:
        """The same for values alone: where it is faster, its derivatives are zero."""
        return self

    def calculate(self, parameters: np.ndarray, tolerances: tuple[float, float]) -> tuple[np.ndarray, np.ndarray]:
        """`seen.metrics`, shape (places, metrics), and derivatives, shape (places, metrics, parameters of the fit)."""
        raise NotImplementedError


@dataclass(frozen=True, eq=False)
class TransientSample(Sample):
    """A vessel over time or along its length.

    `sizes` are the times, or the sizes of places along it (None: its end); `lags` the delays of their signals;
    `moving_numbers` and `switch` are changes and events during the run.
    """

    numbers: VesselNumbers
    expressions: tuple[sp.Expr, ...]
    along: str
    sizes: np.ndarray | None
    moving_numbers: Mapping[sp.Symbol, PiecewiseLinear]
    switch: Switch | None = None
    lags: tuple[np.ndarray, np.ndarray] | None = None
    """The delay of each place in s, and the index of the parameter of a fitted one, -1 of others; shapes (places,)."""
    is_plain: bool = False
    """Whether derivatives are left out, and zero."""
    is_checked: bool = True
    """Whether amounts below zero are an error, as in a run."""
    memory: dict[str, np.ndarray] = field(default_factory=dict)
    """The places, if no parameter of the fit changes them."""

    def plain(self) -> TransientSample:
        return replace(self, is_plain=True)

    def calculate(self, parameters: np.ndarray, tolerances: tuple[float, float]) -> tuple[np.ndarray, np.ndarray]:
        case, by, chain = self.numbers.at(parameters)
        if self.is_plain:
            by, chain = (), np.zeros((0, len(parameters)))
        places, by_place = self._points(parameters)
        points, back = (places, None) if self.lags is None else np.unique(places, return_inverse=True)
        if self.moving_numbers or self.switch is not None or case.balances.conditions:
            trajectory = self._trajectory(case, parameters, float(points[-1]), tolerances)
            states, sensitivities = slopes_at(trajectory, points, by)
            parts = [part.case for part in trajectory.parts]
            owners = trajectory.owners(points)
        else:
            shift = int(points[0] > 0)
            grid = np.concatenate([[0.0], points]) if shift else points
            solution = integrate(case, grid, by=by, rtol=tolerances[0], atol=tolerances[1])
            states = solution.states[shift:]
            found = solution.sensitivities
            sensitivities = found[shift:] if found is not None else np.zeros((*states.shape, 0))
            parts, owners = [case], np.zeros(len(points), dtype=int)
        if self.is_checked:
            self._check(case, points, states)
        if back is not None:
            points, states, sensitivities, owners = places, states[back], sensitivities[back], owners[back]
        values = np.empty((len(points), len(self.expressions)))
        slopes = np.empty((*values.shape, len(parameters)))
        for n, one in enumerate(parts):
            own = owners == n
            if own.any():
                here = points[own], states[own], sensitivities[own]
                values[own], slopes[own] = self._read(one, by, chain, *here)
                if by_place is not None:
                    slopes[own] += self._along(one, *here[:2])[:, :, None] * by_place[own][:, None, :]
        return values, slopes

    def _check(self, case: Case, points: np.ndarray, states: np.ndarray) -> None:
        """Raise SolveError if an amount is negative beyond rounding."""
        balances = case.balances
        amounts = states[:, balances.amounts]
        below = amounts < -RUN_OUT * np.max(np.abs(amounts))
        if below.any():
            row, column = (int(n) for n in np.argwhere(below)[0])
            name, kind = balances.names[balances.amounts[column]], "time" if balances.independent == TIME else "volume"
            at = self.numbers.vessel.spec.display.text(float(points[row]), kind)
            message = f"{name} is below zero at {kind} {at}: a rate law, or the outlet, consumes it"
            raise SolveError(message, self.numbers.vessel.label, "start from other guesses, or set bounds")

    def _points(self, parameters: np.ndarray) -> tuple[np.ndarray, np.ndarray | None]:
        """The places of the samples, and their derivatives by the parameters, shape (points, parameters), if any depend
        on them."""
        numbers, delay = self.numbers, self.numbers.places.delay
        if self.along == "time" and self.sizes is not None:
            if delay is None and self.lags is None:
                return self.sizes, None
            places, by_place = self.sizes, np.zeros((len(self.sizes), len(parameters)))
            if delay is not None:
                by_place[:, delay] = 1.0
                places = places + parameters[delay]
            if self.lags is not None:  # before a signal has changed it shows the start
                known, index = self.lags
                fitted = np.flatnonzero(index >= 0)
                lags = known.copy()
                lags[fitted] = parameters[index[fitted]]
                by_place[fitted, index[fitted]] -= 1.0
                places = places - lags
                by_place[places < 0] = 0.0
                places = np.maximum(places, 0.0)
            return places, by_place
        if "still" in self.memory:
            return self.memory["still"], None
        sizes = [None] if self.sizes is None else [(self.along, float(size)) for size in self.sizes]
        found = [numbers.end(parameters, size) for size in sizes]
        points, slopes = np.array([end for end, _ in found]), np.array([slope for _, slope in found])
        if slopes.any():
            return points, slopes
        self.memory["still"] = points
        return points, None

    def _trajectory(
        self, case: Case, parameters: np.ndarray, last: float, tolerances: tuple[float, float]
    ) -> Trajectory:
        if case.balances.conditions:
            last, _ = self.numbers.end(parameters)
            case = solve_boundary(case, last)
        return integrate_segments(segments(case, self.moving_numbers, last), *tolerances, switch=self.switch)

    def _read(
        self,
        case: Case,
        by: tuple[sp.Symbol, ...],
        chain: np.ndarray,
        points: np.ndarray,
        states: np.ndarray,
        sensitivities: np.ndarray,
    ) -> tuple[np.ndarray, np.ndarray]:
        """The responses, and their derivatives by the parameters of the fit."""
        chosen = self._states_shown
        if chosen is not None:
            return states[:, chosen], sensitivities[:, chosen] @ chain
        moved = moved_expressions(case, self.expressions)
        values, slopes = observe(case, moved, points, states, sensitivities, by)
        return values, slopes @ chain

    @cached_property
    def _states_shown(self) -> list[int] | None:
        """The states of the responses, if each is a state."""
        symbols = self.numbers.case.balances.symbols
        return [symbols.index(e) for e in self.expressions] if {*self.expressions} <= {*symbols} else None

    def _along(self, case: Case, points: np.ndarray, states: np.ndarray) -> np.ndarray:
        """d(response)/d(place), shape (points, responses): (de/dy) dy/dt + de/dt."""
        whole, symbols = compiled(case.balances), (*case.balances.symbols, case.balances.independent)
        rhs = whole.rhs(case.values)
        partial = whole.gradient(moved_expressions(case, self.expressions), symbols)(case.values)
        rows = [partial(y, t) @ np.append(rhs(y, t), 1.0) for y, t in zip(states, points, strict=True)]
        return np.array(rows)


@dataclass(frozen=True, eq=False)
class SteadySample(Sample):
    """Stirred tanks at steady state, one per place."""

    tanks: tuple[VesselNumbers, ...]
    expressions: tuple[sp.Expr, ...]
    last: dict[int, np.ndarray] = field(default_factory=dict)
    """The last state of each tank, the next first guess."""

    def calculate(self, parameters: np.ndarray, tolerances: tuple[float, float]) -> tuple[np.ndarray, np.ndarray]:
        values, slopes = [], []
        for n, tank in enumerate(self.tanks):
            case, by, chain = tank.at(parameters)
            assert isinstance(tank.vessel, FlowVessel)
            case, state, _ = tank.vessel.spec.solve_steady(case, self.last.get(n))
            self.last[n] = state
            sensitivity = steady_slopes(case, state, by)[None]
            v, s = observe(case, self.expressions, np.zeros(1), state[None], sensitivity, by)
            values.append(v[0])
            slopes.append(s[0] @ chain)
        return np.array(values), np.array(slopes)


@dataclass(frozen=True, eq=False)
class TrainSample(Sample):
    """The outlet of a train."""

    train: Train
    places: RunPlaces
    metrics: tuple[Metric, ...]

    @cached_property
    def _constants(self) -> dict[str, int]:
        """Fitted constants of the chemistry by name, with the indices of the parameters."""
        own = {p.name for p in self.train.chemistry.numbers}
        by_symbol = {p.symbol: p.name for p in self.train.chemistry.parameters}
        found = {by_symbol[s]: i for s, i in self.places.symbols.items() if s in by_symbol}
        return found | {name: i for name, i in self.places.settings.items() if name in own}

    def calculate(self, parameters: np.ndarray, tolerances: tuple[float, float]) -> tuple[np.ndarray, np.ndarray]:
        constants = {name: float(parameters[i]) for name, i in self._constants.items()}
        settings = {n: i for n, i in self.places.settings.items() if n not in self._constants}
        train = self.train.with_(
            {name: self.train.spec.condition(name).give(float(parameters[i])) for name, i in settings.items()},
            chemistry=self.train.chemistry.with_values(constants).at_guess(),
        )
        run = train.run()
        slopes = np.zeros((1, len(self.metrics), len(parameters)))
        columns = [*settings.values(), *self._constants.values()]
        slopes[0][:, columns] = run.slopes_by_inputs(
            self.metrics, (*settings, *(f"constant {name}" for name in self._constants))
        )
        return np.array([[run.metric(metric) for metric in self.metrics]]), slopes
