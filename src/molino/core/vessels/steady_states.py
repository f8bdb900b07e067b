"""All steady states of a stirred tank, and their stability."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any, overload

import numpy as np

from molino.core import units
from molino.core.annotations import PlainData
from molino.core.balances.balance_symbols import SENSIBLE
from molino.core.balances.compiled import compiled
from molino.core.balances.continuation import ArcLength, Curve
from molino.core.balances.engines import start
from molino.core.balances.functions import Functions
from molino.core.balances.settings import Report
from molino.core.balances.steady import growth_rates
from molino.core.balances.system import ZERO, Balances, Case
from molino.core.display import Display
from molino.core.errors import InputError, SolveError
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, entry, frame
from molino.core.runs.follow import settled
from molino.core.runs.run import Run
from molino.core.terms.heat import Jacket
from molino.core.units import Value
from molino.core.vessels.flow_vessel import FlowVessel
from molino.core.vessels.steady_curve import states_at_volume


@dataclass(frozen=True, eq=False)
class SteadyStates(Frozen, Result, Sequence[Run]):
    """The steady states of a tank within bounds of temperature, from the coldest to the hottest.

    A steady state is stable if the eigenvalues of its Jacobian all have a negative real part. The curves of heat
    generation and removal along the steady states of the amounts cross at the steady states.

    Attributes
    ----------
    vessel : StirredTank
    runs : tuple of Run
        From the coldest to the hottest.
    eigenvalues : tuple of arrays of 1/s
    temperatures : array of K, shape (points,)
    heat_generation, heat_removal : arrays of W, shape (points,)

    Examples
    --------
    >>> law = mo.Arrhenius(A="3e14 1/min", Ea="100 kJ/mol")
    >>> hot = mo.Chemistry(mo.Reaction("A -> B", k=law, enthalpy="-200 kJ/mol"))
    >>> cold = mo.Feed({"A": "2 mol/L"}, flow="100 L/min", T="300 K", heat_capacity="4.2 MJ/m3/K")
    >>> tank = mo.StirredTank(hot, cold, volume="1 m3", heat="adiabatic")
    >>> len(tank.steady_states(("280 K", "430 K")))
    3
    """

    vessel: FlowVessel
    runs: tuple[Run, ...]
    eigenvalues: tuple[np.ndarray, ...]
    temperatures: np.ndarray
    heat_generation: np.ndarray
    heat_removal: np.ndarray

    def __len__(self) -> int:
        return len(self.runs)

    @property
    def display(self) -> Display:
        """The units of results."""
        return self.vessel.spec.display

    @overload
    def __getitem__(self, n: int) -> Run: ...
    @overload
    def __getitem__(self, n: slice) -> Sequence[Run]: ...

    def __getitem__(self, n: int | slice) -> Run | Sequence[Run]:
        return self.runs[n]

    def __iter__(self) -> Iterator[Run]:
        return iter(self.runs)

    @property
    def stable(self) -> tuple[bool, ...]:
        """Whether the tank returns to it after a small disturbance."""
        return tuple(bool(np.max(values.real) < 0) for values in self.eigenvalues)

    def table(self) -> Table:
        """One row per steady state: temperature, conversions, stability, and the decisive eigenvalue."""
        display = self.display
        rows = []
        for run, stable, values in zip(self.runs, self.stable, self.eigenvalues, strict=True):
            row: PlainData = {}
            if run.has_temperature:
                row[display.heading("T", "temperature")] = display.number(run.temperatures[-1], "temperature")
            row |= {name: value for name, value in run.summary().items() if name.startswith("conversion")}
            row["stable"] = "yes" if stable else "no"
            slowest = values[int(np.argmax(values.real))]
            per = f" [1/{display.unit('time')}]" if display.unit("time") else ""
            row[f"largest eigenvalue{per}"] = slowest.real / float(display.number(1.0, "time"))
            row["oscillates"] = "yes" if abs(slowest.imag) > 1e-12 * abs(slowest) else "no"
            rows.append(row)
        return frame(rows)

    def to_dict(self) -> PlainData:
        """Plain data: each steady state with its stability and its run, and the range of temperature."""
        low, high = (entry(self.display, float(T), "temperature") for T in self.temperatures[[0, -1]])
        states = [
            {"stable": stable, "eigenvalues_1_per_s": [[v.real, v.imag] for v in values.tolist()], **run.to_dict()}
            for run, stable, values in zip(self.runs, self.stable, self.eigenvalues, strict=True)
        ]
        return {"lowest": low, "highest": high, "states": states}

    def __str__(self) -> str:
        low, high = (self.display.text(float(T), "temperature") for T in self.temperatures[[0, -1]])
        where = f"between {low} and {high}" if self.vessel.is_non_isothermal else "at the prescribed temperature"
        message = f"{len(self)} steady state{'s' if len(self) != 1 else ''} {where}"
        if not len(self):
            return message
        return f"{message}\n{self.table().to_string(index=False, float_format=lambda x: f'{x:.5g}')}"


def default_bounds(tank: FlowVessel) -> tuple[float, float]:
    """From the coldest feed, less the cooling by endothermic reactions, to 600 K above the hottest."""
    ends = [tank.feed.T.si] + ([tank.heat.coolant.after(0.0)] if isinstance(tank.heat, Jacket) else [])
    falls = 0.0
    for reaction in tank.chemistry.reactions:
        try:
            falls += min(0.0, tank.adiabatic_rise(str(reaction.name)))
        except SolveError:  # not enough heat for complete conversion
            falls = -np.inf
        except InputError:  # it is not fed
            continue
    return max(min(ends) + falls, min(ends) / 3), max(ends) + 600.0


def _at_rest(balances: Balances) -> Balances:
    """The balances at constant temperature, so that the outflow does not depend on its derivative."""
    return replace(balances, definitions=tuple((s, ZERO if s == SENSIBLE else e) for s, e in balances.definitions))


def read_bounds(tank: FlowVessel, T: tuple[object, object] | None = None) -> tuple[float, float]:
    """The bounds of temperature of a search for all steady states in K; InputError if they are invalid."""
    tank.spec.require_volume()
    if not tank.is_non_isothermal:
        if T is not None:
            raise InputError("its temperature is prescribed", f"{tank.label}, T", "leave the bounds out")
        own = float(tank.spec.first_T.si) if tank.spec.first_T is not None else math.nan
        return own, own
    if T is None:
        low, high = default_bounds(tank)
    else:
        low, high = (units.positive(t, "temperature", f"{tank.label}, T").si for t in T)
    if not low < high:
        raise InputError(f"the bounds of temperature {low:g} to {high:g} K are empty", tank.label, "give (low, high)")
    return low, high


def steady_states(tank: FlowVessel, T: tuple[object, object] | None = None) -> SteadyStates:
    """All steady states of a tank within bounds of temperature; see `FlowVessel.steady_states`."""
    tank.spec.require_known()
    low, high = read_bounds(tank, T)
    if not tank.is_non_isothermal:
        return _at_prescribed_temperature(tank, low)
    case = tank.spec.case
    functions = Functions(Case(_at_rest(case.balances), case.values))
    rhs, jacobian = functions.rhs, functions.state_jacobian
    _, scale = start(case)
    scale = scale.copy()
    scale[-1] = high - low
    weights = (tank.spec.volume_si / float(tank.spec.fed.volume) / scale)[:-1]
    cold = tank.with_(heat=None, T=Value(low), contents=None).steady().trajectory.end_state
    first = np.append(cold, low) / scale
    tracer = ArcLength(
        lambda z: np.array(rhs(z * scale, 0.0))[:-1] * weights,
        lambda z: jacobian(z * scale, 0.0)[:-1] * scale * weights[:, None],
    )
    curve = tracer.trace(first, low / scale[-1], high / scale[-1])
    balance = (tank.spec.model.heat_generation, tank.spec.model.heat_removal)
    evaluate = compiled(case.balances).outputs(balance)(case.values)
    made, removed = (
        np.broadcast_to(np.asarray(row, dtype=float), len(curve.points)).copy()
        for row in evaluate((curve.points * scale).T, np.zeros(len(curve.points)))
    )

    def surplus(z: np.ndarray, _: np.ndarray) -> float:
        here = evaluate((z * scale)[:, None], np.zeros(1))
        return float(np.asarray(here[0]).ravel()[0] - np.asarray(here[1]).ravel()[0])

    states = [curve.points[n] * scale for n in np.flatnonzero(made - removed == 0)]
    crossed = np.flatnonzero((made - removed)[:-1] * (made - removed)[1:] < 0)
    states += [tracer.between(curve, int(n), surplus) * scale for n in crossed]
    states += _touching(tracer, curve, made - removed, surplus, scale)
    states.sort(key=lambda y: float(y[-1]))
    report = Report("curve of steady amounts over temperature", len(curve.points), 0, len(curve.points))
    return SteadyStates(
        tank,
        tuple(settled(tank, y, report) for y in states),
        tuple(growth_rates(case, y) for y in states),
        curve.points[:, -1] * scale[-1],
        made,
        removed,
    )


def _at_prescribed_temperature(tank: FlowVessel, T: float) -> SteadyStates:
    """All steady states of the amounts that are found along the volume and by start-ups."""
    states = states_at_volume(tank, tank.spec.volume_si)
    report = Report("curve of steady states over the volume", len(states), 0, len(states))
    none, ends = np.full(2, np.nan), np.full(2, T)
    rates = tuple(growth_rates(tank.spec.case, y) for y in states)
    return SteadyStates(tank, tuple(settled(tank, y, report) for y in states), rates, ends, none, none)


def only_stable_state(tank: FlowVessel) -> tuple[np.ndarray, Report] | None:
    """The one stable steady state on the curve over the volume, where a start-up cannot be integrated; None if there is
    more than one, or no curve.

    Raises
    ------
    SolveError
        If all of them are unstable.
    """
    try:
        states = states_at_volume(tank, tank.spec.volume_si)
    except (SolveError, ArithmeticError):
        return None
    stable = [y for y in states if np.max(growth_rates(tank.spec.case, y).real) < 0]
    if states and not stable:
        message = "all its steady states are unstable: it may oscillate"
        raise SolveError(message, tank.label, "follow it with run('1 h'), or see steady_states()")
    if len(stable) != 1:
        return None
    return stable[0], Report("curve of steady states over the volume", len(states), 0, len(states))


def _touching(tracer: ArcLength, curve: Curve, gap: np.ndarray, surplus: Any, scale: np.ndarray) -> list[np.ndarray]:
    """Pairs of steady states that are so close that both are between two points of the curve."""
    found: list[np.ndarray] = []
    for n in range(1, len(gap) - 1):
        same = gap[n - 1] * gap[n] > 0 and gap[n] * gap[n + 1] > 0
        if not (same and abs(gap[n]) <= min(abs(gap[n - 1]), abs(gap[n + 1]))):
            continue
        for m in (n - 1, n):
            z, along = curve.points[m], curve.tangents[m]
            reach = float(along @ (curve.points[m + 1] - z))
            lengths = np.linspace(0.0, reach, 41)
            fine = [tracer.correct(z + length * along, along) for length in lengths]
            if any(point is None for point in fine):
                continue
            values = np.array([surplus(point[0], along) for point in fine if point is not None])
            for k in np.flatnonzero(values[:-1] * values[1:] < 0):
                left, right = fine[k], fine[k + 1]
                assert left is not None
                assert right is not None
                piece = Curve(np.array([left[0], right[0]]), np.array([along, along]))
                found.append(tracer.between(piece, 0, surplus) * scale)
    return found
