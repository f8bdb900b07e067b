"""Calculated observations: metrics of vessels over time, along them, at the outlet, with derivatives."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from molino.core.annotations import ByName
from molino.core.balances.balance_symbols import AMOUNT, MOLAR_FLOW
from molino.core.balances.system import Case
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.constants import si
from molino.core.contents.feed import Feed
from molino.core.contract.metric import Metric
from molino.core.contract.vessel import Vessel
from molino.core.dual import value_of
from molino.core.errors import InputError, SolveError
from molino.core.fitting.experiment import OUTLET, Experiment
from molino.core.fitting.responses import metric_of
from molino.core.fitting.samples import (
    Observed,
    RunPlaces,
    Sample,
    SteadySample,
    TrainSample,
    TransientSample,
    VesselNumbers,
)
from molino.core.fitting.signal_model import CalibratedSignal
from molino.core.frozen import Frozen
from molino.core.runs.scheduled_changes import changed_numbers
from molino.core.trains.train import Train
from molino.core.unit_tables import GAS_CONSTANT
from molino.core.units import Value
from molino.core.vessels.batch import Batch
from molino.core.vessels.flow_vessel import FlowVessel
from molino.core.vessels.plug_flow import PlugFlow
from molino.core.vessels.stirred_tank import StirredTank

TIGHT, ROUGH = (1e-12, 1e-14), (1e-8, 1e-11)
"""Tolerances of integration, relative and as a fraction of the scale: at an optimum, and during the search."""
DELAY = "delay"
"""The name of the sampling delay among the parameters of a fit."""
LAG = "delay"
"""The name of the delay of a signal, after that of the signal."""


def vessel_of(run: Experiment, chemistry: Chemistry, time: float | None = None) -> Vessel | Train:
    """The vessel of a run; by default one of one cubic metre, or with a feed of one cubic metre per second.

    `time` is the batch or space time of a simple run; by default that of the last sample.
    """
    if not isinstance(run.vessel, str):
        vessel: Vessel | Train = run.vessel
        return vessel if vessel.chemistry is chemistry else vessel.with_(chemistry=chemistry)
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
class BalanceModel(Frozen):
    """All runs of a fit."""

    samples: tuple[Sample, ...]
    tolerances: tuple[float, float] = TIGHT

    def rough(self) -> BalanceModel:
        return replace(self, tolerances=ROUGH)

    def plain(self) -> BalanceModel:
        return replace(self, samples=tuple(sample.plain() for sample in self.samples))

    def __call__(self, parameters: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        values, slopes = [], []
        for sample in self.samples:
            try:
                calculated, by = sample.observed(parameters, self.tolerances)
            except SolveError as error:
                raise SolveError(fault.within(f"run {sample.seen.run}") for fault in error.faults) from error
            values.append(calculated)
            slopes.append(by)
        return np.concatenate(values), np.concatenate(slopes)


def sample_of(
    run: Experiment,
    chemistry: Chemistry,
    responses: Sequence[str],
    times: np.ndarray,
    rows: np.ndarray,
    columns: np.ndarray,
    places: RunPlaces,
    guesses: ByName,
) -> Sample:
    """A run's observations on the balances of its vessel.

    Parameters
    ----------
    times : array, shape (samples,)
        Of all samples, in any order and with repeats.
    rows, columns : arrays of int, shape (observations,)
        The sample and the response of each observation.
    places : the places of the parameters of the fit
    guesses : the fitted conditions of its vessel, with their guesses

    Raises
    ------
    InputError
        If the vessel does not have the observed metrics, or the condition.
    """
    lags = _lags(run, responses, columns, places)
    distinct, place, lags = _places(times, rows, lags)
    vessel = vessel_of(run, chemistry)
    own = {name: value for name, value in guesses.items() if name in places.settings}
    vessel = vessel.with_(own) if own else vessel
    seen = Observed(run.name, tuple(_response(run, response, places) for response in responses), place, columns)
    metrics = tuple(metric_of(name) for name in seen.metrics)
    if not isinstance(vessel, Vessel):
        for metric in metrics:
            vessel.spec.expression(metric)
        return TrainSample(seen, vessel, places, metrics)
    if vessel.spec.has_steady_state and run.along != "time":
        if run.along == OUTLET:
            tanks = [vessel]
        elif run.is_simple:
            tanks = [vessel_of(run, chemistry, float(t)) for t in distinct]  # type: ignore[misc]
        else:
            tanks = [vessel.with_(**{**dict.fromkeys(vessel.spec.sizes), run.along: float(t)}) for t in distinct]
        for tank in tanks:
            assert isinstance(tank, FlowVessel)
            tank.spec.require_volume()
        expressions = tuple(vessel.spec.expression(metric) for metric in metrics)
        return SteadySample(seen, tuple(VesselNumbers(v, v.spec.case, places) for v in tanks), expressions)
    return _transient(run, vessel, metrics, distinct, places, seen, lags)


def _response(run: Experiment, response: str, places: RunPlaces) -> str | CalibratedSignal:
    """A response, or the signal that it is in this run."""
    signal = run.signals.get(response)
    if signal is None:
        return response
    entries = signal.entries
    fitted = {
        n: places.signals[f"{response} {name}"]
        for n, name in enumerate(entries)
        if f"{response} {name}" in places.signals
    }
    return CalibratedSignal(signal.model, np.array([si(one) for one in entries.values()]), fitted)


def _lags(
    run: Experiment, responses: Sequence[str], columns: np.ndarray, places: RunPlaces
) -> tuple[np.ndarray, np.ndarray] | None:
    """The delay of the signal of each observation, and the index of the parameter of a fitted one, or -1."""
    delays = {name: signal.delay for name, signal in run.signals.items() if signal.delay is not None}
    if not delays.keys() & {*responses}:
        return None
    if run.along != "time":
        raise InputError("a signal has a delay, and the samples are not over time", "", "leave the delay out")
    known = np.array([si(delays[name]) if name in delays else 0.0 for name in responses])
    index = np.array([places.signals.get(f"{name} {LAG}", -1) for name in responses])
    return known[columns], index[columns]


def _places(
    times: np.ndarray, rows: np.ndarray, lags: tuple[np.ndarray, np.ndarray] | None
) -> tuple[np.ndarray, np.ndarray, tuple[np.ndarray, np.ndarray] | None]:
    """The distinct places to be calculated, the place of each observation, and the delays of the places."""
    if lags is None:
        distinct, place = np.unique(times, return_inverse=True)
        return distinct, place[rows], None
    keys, place = np.unique(np.column_stack([times[rows], *lags]), axis=0, return_inverse=True)
    return keys[:, 0], place.reshape(-1), (keys[:, 1], keys[:, 2].astype(int))


def _transient(
    run: Experiment,
    vessel: Vessel,
    metrics: tuple[Metric, ...],
    distinct: np.ndarray,
    places: RunPlaces,
    seen: Observed,
    lags: tuple[np.ndarray, np.ndarray] | None,
) -> TransientSample:
    """The sample of a vessel over time or along its length."""
    over_time = run.along == "time"
    direct = run.is_simple and not (vessel.is_gas and not over_time)
    direct = direct and all(metric.what == "concentration" for metric in metrics)
    if direct:  # a batch of 1 m^3, a tube fed with 1 m^3/s: amounts are concentrations
        expressions = tuple((AMOUNT if over_time else MOLAR_FLOW)(metric.species) for metric in metrics)
        case = Case(vessel.spec.case.balances.reduced(expressions), vessel.spec.case.values)
        return TransientSample(
            seen, VesselNumbers(vessel, case, places), expressions, "time", distinct, {}, None, lags, is_checked=False
        )
    if over_time:
        vessel.spec.require_volume()
    else:
        vessel = _long_enough(run, vessel, distinct)
        places = replace(places, delay=None)
    expressions = tuple(vessel.spec.expression(metric) for metric in metrics)
    balances = vessel.spec.model.balances_for(expressions)
    moving = dict(vessel.spec.moving_numbers())
    if run.changes:
        moving |= changed_numbers(vessel, run.changes)
    switch = vessel.spec.switch()
    numbers = VesselNumbers(vessel, Case(balances, vessel.spec.case.values), places)
    sizes = None if run.along == OUTLET else distinct
    return TransientSample(seen, numbers, expressions, run.along, sizes, moving, switch, lags)


def _long_enough(run: Experiment, vessel: Vessel, sizes: np.ndarray) -> Vessel:
    """The vessel, at least up to the last sample; InputError if it ends before, or its own size must be known."""
    last = float(sizes[-1])
    if not vessel.spec.needs_size:
        if run.along != OUTLET:
            where = float(value_of(vessel.spec.parameters({run.along: last})[1]))
            if where > vessel.spec.end_si * (1 + 1e-9):
                message = (
                    f"a sample is taken at {run.axis} {vessel.spec.display.text(last, run.axis_kind)}, beyond its end"
                )
                raise InputError(message, vessel.label, "correct it, or give the vessel its whole size")
        return vessel
    if run.along == OUTLET or vessel.spec.sizing_route == "whole runs":
        raise InputError("its size is not given", vessel.label, "give it: the profile depends on it")
    return vessel.with_({run.along: last})
