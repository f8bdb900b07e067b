"""`equilibrium_curves`: equilibrium of a feed over temperature and pressure, with adiabatic beds.

The operating line of an adiabatic bed goes from its inlet to equilibrium along the energy balance; between beds the
mixture is cooled. On the locus of the maximum rate, the rate is highest over temperature at each composition (O.
Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, chapter 9; K. G. Denbigh, Chem. Eng. Sci. 8 (1958) 125).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import scipy
import sympy as sp

from molino.core import units
from molino.core.arguments import checked
from molino.core.balances.balance_symbols import ACTIVITY, FLOW, LOCAL_FLOW, MOLAR_FLOW
from molino.core.balances.compiled import compiled
from molino.core.balances.source import NotFinite, build
from molino.core.balances.system import TIME
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.chemistry.notation import RATE
from molino.core.contents.stream_properties import at_enthalpy, enthalpy
from molino.core.contents.streams import Stream
from molino.core.contract.metric import Metric
from molino.core.contract.metrics import read_metric
from molino.core.contract.parameter_map import ParameterMap
from molino.core.design.equilibrium_curve_result import EquilibriumCurves
from molino.core.design.evaluator import Evaluator
from molino.core.errors import Faults, InputError, MolinoError
from molino.core.runs.run import Run
from molino.core.terms.model import kinetics
from molino.core.thermo.phase_model import Content
from molino.core.trains.heat_steps import Exchanger
from molino.core.trains.train import Train
from molino.core.units import QuantityLike, Value
from molino.core.vessels.at_equilibrium import AtEquilibrium
from molino.core.vessels.flow_vessel import FlowVessel

_POINTS = 61
_ALONG = 25
_MOST_BEDS = 12
_ROUNDING = 1e-13


@checked
def equilibrium_curves(
    vessel: FlowVessel,
    metric: Metric | str,
    *,
    T: tuple[Any, Any],
    P: Sequence[Any] | None = None,
    inlet: object = None,
    target: QuantityLike | None = None,
    approach: QuantityLike | None = None,
    beds: int = 8,
) -> EquilibriumCurves:
    """A metric at equilibrium over temperature and pressure, with adiabatic beds and the locus of the best rate.

    Parameters
    ----------
    vessel : FlowVessel
        A vessel at equilibrium, or a tank or tube; its chemistry and feed are used, and its catalyst and rate law for
        the locus of the maximum rate (of one reaction).
    metric : Metric or str
        Like "conversion of methanol".
    T : pair of temperatures
        The range of the curves.
    P : sequence of pressures, optional
        One curve each; by default the pressure of the feed. The beds are at the first.
    inlet : temperature, optional
        Inlet temperature of every bed; by default that of the feed.
    target : optional
        Beds are added until the metric reaches it; one bed without.
    approach : temperature difference, optional
        Equilibrium constants are evaluated at a temperature higher by this (endothermic: lower). By reactions only.
    beds : int
        The largest number of beds.

    Returns
    -------
    EquilibriumCurves

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A <-> B", k="2 1/h", K=mo.VantHoff(K=9.0, at="350 K", enthalpy="-60 kJ/mol")))
    >>> at = mo.AtEquilibrium(chem, mo.Feed({"A": "2 mol/L"}, flow="1 m3/h", T="330 K"))
    >>> found = mo.thermo.equilibrium_curves(at, "conversion of A", T=("320 K", "380 K"))
    >>> [round(float(x), 3) for x in found.values[0][[0, -1]]]
    [0.984, 0.639]
    """
    asked = read_metric(metric)
    held, (low, high), pressures, inlet, wanted = check_curves(
        vessel, asked, T=T, P=P, inlet=inlet, target=target, approach=approach, beds=beds
    )
    grid = np.linspace(low, high, _POINTS)
    values = np.array([_curve(held, asked, grid, p) for p in pressures])
    if not np.isfinite(values).any():
        held.run()  # raises the reason
    lines, duties = _lines(held, asked, inlet, wanted, approach, beds)
    reached = wanted is not None and bool(lines) and _passes(lines, wanted)
    locus = _locus(vessel, held, asked, (low, high))
    return EquilibriumCurves(
        held, asked, grid, tuple(pressures), values, tuple(lines), locus, tuple(duties), wanted, reached
    )


def check_curves(
    vessel: FlowVessel,
    metric: Metric,
    *,
    T: tuple[Any, Any],
    P: Sequence[Any] | None,
    inlet: object = None,
    target: QuantityLike | None = None,
    approach: QuantityLike | None = None,
    beds: int = 8,
) -> tuple[AtEquilibrium, tuple[float, float], list[float], Value | None, float | None]:
    """The inputs of the curves: the feed at equilibrium, bounds and pressures in SI, the inlet, the target.

    Raises
    ------
    InputError
        With all faults of the fields.
    """
    if not isinstance(vessel, FlowVessel):
        raise InputError(f"{vessel!r} is not a flow vessel", "equilibrium", "give a tube")
    faults, at = Faults(), at_equilibrium(vessel)
    low = high = 0.0
    with faults.at("equilibrium, T"):
        low, high = (units.positive(t, "temperature", "T").si for t in T)
        if not low < high:
            raise InputError("the bounds of T are not rising", "", "give the lower one first")
    pressures: list[float] = []
    with faults.at("equilibrium, P"):
        if P is not None and not at.is_gas:
            raise InputError("a liquid has no pressure here", "", "leave P out")
        pressures = [units.positive(p, "pressure", "P").si for p in P or ()] or [at.spec.feed_pressure()]
    start: Value | None = at.feed.T
    with faults.at("equilibrium, inlet"):
        start = units.positive(inlet, "temperature", "inlet") if inlet is not None else start
    wanted = None
    with faults.at("equilibrium, target"):
        wanted = units.read(target, metric.kind, "target").si if target is not None else None
    with faults.at("equilibrium, approach"):
        if approach is not None:
            units.read(approach, "temperature difference", "approach")
            if not at.by_reactions:
                raise InputError("an approach needs reactions, not the least Gibbs energy", "", "leave it out")
    if not isinstance(beds, int) or isinstance(beds, bool) or not 1 <= beds <= _MOST_BEDS:
        faults.add("equilibrium, beds", f"{beds!r} is not a number of beds", f"give 1 to {_MOST_BEDS}")
    faults.raise_any()
    held = at.with_(heat=None, T=Value(low, "K"), **({"P": Value(pressures[0], "Pa")} if at.is_gas else {}))
    held.spec.check_metric(metric)
    return held, (low, high), pressures, start, wanted


def at_equilibrium(vessel: FlowVessel) -> AtEquilibrium:
    """The feed of a vessel at equilibrium."""
    if vessel.spec.is_at_equilibrium:
        return vessel  # type: ignore[return-value]
    return AtEquilibrium(vessel.chemistry, vessel.feed, name=vessel.name, show=vessel.show)


def _curve(held: AtEquilibrium, metric: Metric, grid: np.ndarray, P: float) -> np.ndarray:
    """The metric over temperature; nan if no equilibrium was found."""
    names = ("T", "P") if held.is_gas else ("T",)
    at = Evaluator(ParameterMap(held, names), (metric,))
    found = []
    for T in grid:
        try:
            found.append(float(at(*((T, P) if held.is_gas else (T,)))[0]))
        except MolinoError:
            found.append(np.nan)
    return np.array(found)


def _passes(lines: Sequence[np.ndarray], target: float) -> bool:
    begin, end = lines[0][0, 1], lines[-1][-1, 1]
    return bool((end - target) * (1.0 if end >= begin else -1.0) >= 0)


def _lines(
    held: AtEquilibrium,
    metric: Metric,
    inlet: Value | None,
    target: float | None,
    approach: QuantityLike | None,
    most: int,
) -> tuple[list[np.ndarray], list[float]]:
    """The operating line of each adiabatic bed, and the duties between them; none if enthalpies are unknown."""
    if isinstance(held.spec.thermal, InputError) or inlet is None:
        return [], []
    more = {c.reaction: approach for c in held.spec.form.constants} if approach is not None else {}
    first = replace(held, T=None, heat="adiabatic", feed=replace(held.feed, T=inlet), approach=more, name="bed 1")
    lines: list[np.ndarray] = []
    for n in range(most if target is not None else 1):
        steps: list[Any] = [first]
        for k in range(n):
            steps += [Exchanger(T=inlet, name=f"cooler {k + 1}"), first.with_(name=f"bed {k + 2}")]
        run = Train(steps).run()
        duties = [*run.exchanged.values()]
        bed = run.runs[-1]
        lines.append(_along(held, metric, bed))
        gained = abs(lines[-1][-1, 1] - lines[-1][0, 1])
        if (target is not None and _passes(lines, target)) or gained < 1e-4 * abs(lines[0][-1, 1] - lines[0][0, 1]):
            break
    return lines, duties


def _along(held: AtEquilibrium, metric: Metric, bed: Run) -> np.ndarray:
    """Temperature and metric, relative to the first feed, along an adiabatic bed."""
    begin, end = bed.stream_in(), bed.stream_out()
    carried, found = enthalpy(bed.fluid, begin), []
    for share in np.linspace(0.0, 1.0, _ALONG):
        amounts = {s: (1 - share) * begin.amounts[s] + share * end.amounts[s] for s in begin.amounts}
        here = at_enthalpy(bed.fluid, replace(begin, amounts=amounts, P=end.P), carried)
        found.append((here.T, _metric_at(held, metric, here)))
    return np.array(found)


def _metric_at(held: AtEquilibrium, metric: Metric, stream: Stream) -> float:
    """A metric of the stream at a place, as if it were the outlet."""
    case = held.spec.case
    state = np.zeros(len(case.balances.states))
    state[: len(stream.amounts)] = [stream.amounts[s] for s in held.chemistry.names]
    own = case.with_values({TEMPERATURE: stream.T})
    value = float(compiled(case.balances).outputs((held.spec.expression(metric),))(own.values)(state, 0.0)[0])
    return value if abs(value) > _ROUNDING else 0.0


def _locus(vessel: FlowVessel, held: AtEquilibrium, metric: Metric, between: tuple[float, float]) -> np.ndarray:
    """The points from feed to equilibrium at which the rate is highest over temperature, shape (points, 2)."""
    reactions, nothing = vessel.chemistry.reactions, np.zeros((0, 2))
    if len(reactions) != 1 or vessel.spec.is_at_equilibrium or vessel.chemistry.unknowns:
        return nothing
    rate = _rate(vessel)
    begin = held.spec.stream_in(held.run())
    end = held.with_(T=Value(between[0], "K")).run().stream_out()
    found = []
    for share in np.linspace(0.02, 0.995, 60):
        flows = [(1 - share) * begin.amounts[s] + share * end.amounts[s] for s in held.chemistry.names]

        def slow(T: float, flows: Sequence[float] = flows) -> float:
            try:
                return -rate([*flows, T, end.P])
            except NotFinite:
                return 0.0

        wide = (between[0] - 20.0, between[1] + 20.0)
        best = scipy.optimize.minimize_scalar(slow, bounds=wide, method="bounded", options={"xatol": 1e-3})
        if between[0] < best.x < between[1] and best.fun < 0:
            here = replace(begin, amounts=dict(zip(held.chemistry.names, flows, strict=True)), T=float(best.x))
            found.append((here.T, _metric_at(held, metric, here)))
    return np.array(found) if len(found) > 1 else nothing


def _rate(vessel: FlowVessel) -> Callable[[Sequence[float]], float]:
    """The rate of the one reaction over molar flows, temperature and pressure."""
    key, names = vessel.spec.key, vessel.chemistry.names
    flows = tuple(MOLAR_FLOW(s) for s in names)
    content = Content(key.phase, flows, TEMPERATURE, PRESSURE)
    definitions: list[tuple[sp.Symbol, sp.Expr]] = [*content.definitions]
    definitions.append((LOCAL_FLOW, FLOW if key.phase.carries_volume else content.volume))
    if key.catalyst.law is not None:
        definitions.append((ACTIVITY, key.catalyst.law))
    definitions += kinetics(key, flows, LOCAL_FLOW).definitions
    numbers, _ = vessel.spec.parameters({})
    parameters = tuple(s for s in (*key.symbols, FLOW) if s != TEMPERATURE)
    make = build(dict(definitions), [RATE(key.network.reactions[0])], (*flows, TEMPERATURE, PRESSURE), TIME, parameters)
    function = make([float(numbers.get(s, 0.0)) for s in parameters])
    return lambda state: float(function(np.array(state), 0.0)[0])
