"""`size`: how long, how large, for a conversion, a yield or an outlet concentration."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.optimize import brentq, minimize_scalar

from molino.core import units
from molino.core.balances.compiled import compiled
from molino.core.balances.solve import RUN_OUT, functions, integrate, start
from molino.core.errors import InputError, SolveError, UnreachableError, nearest
from molino.core.printing import Printed
from molino.core.statistics import half_width
from molino.core.units import Value
from molino.core.vessels.base import Vessel
from molino.core.vessels.batch import Batch
from molino.core.vessels.metrics import Metric, parse_metric
from molino.core.vessels.plug_flow import PlugFlow
from molino.core.vessels.run import Run, moved_expressions
from molino.core.vessels.stirred_tank import StirredTank
from molino.core.vessels.train import Train
from molino.core.vessels.uncertainty import slopes, standard_error
from molino.core.vessels.writing import VOLUME

KINDS = {"time": "time", "volume": "volume", "length": "length", "space_time": "time", "catalyst_mass": "mass"}
"""The kind of quantity of each size that can be varied."""


_ROUNDING = 1e-12
_ASYMPTOTE = 1e-7
"""A target is only approached where half as much again in size brings it no nearer than this."""


@dataclass(frozen=True)
class Window:
    """A stretch of sizes with the metric at each, and the means to ask in between."""

    sizes: np.ndarray
    values: np.ndarray
    at: Callable[[float], float]


@dataclass(frozen=True, eq=False)
class Sizing(Printed):
    """A vessel sized for a target.

    `vessel` is the sized vessel, `run` how it does, `value` the size in SI, `standard_error` that of the size from the
    covariance of the fitted constants (None without one).
    """

    vessel: Vessel
    run: Run
    vary: str
    value: float
    metric: Metric
    reach: float
    standard_error: float | None

    @property
    def interval(self) -> tuple[float, float] | None:
        """95 % interval of the size in SI (Student t), from the uncertainty of the fitted constants."""
        covariance = self.vessel.chemistry.covariance
        if self.standard_error is None or covariance is None:
            return None
        half = half_width(self.standard_error, covariance.degrees_of_freedom)
        return max(self.value - half, 0.0), self.value + half

    def __str__(self) -> str:
        display, kind = self.vessel.display, KINDS[self.vary]
        said = f"{self.vary.replace('_', ' ')} {display.text(self.value, kind)} for {self.metric} = "
        lines = [said + display.text(self.reach, self.metric.kind)]
        if self.interval is not None:
            low, high = (display.text(bound, kind) for bound in self.interval)
            lines.append(f"  95 % interval          {low} to {high} (from the fit of the constants)")
        return "\n".join([*lines, str(self.run)])


def size(vessel: Vessel | Train, metric: Metric | str, reach: Any, vary: str | None = None) -> Sizing:
    """Find the smallest size of a vessel that reaches a target.

    The time of a batch and the length or volume of a tube are found by following one integration to the crossing; the
    volume of a tank by its steady states at growing volume. The bracketed crossing is then refined by Brent's method
    (R. P. Brent, Algorithms for Minimization without Derivatives, 1973, ch. 4).

    Parameters
    ----------
    vessel : Batch, StirredTank or PlugFlow
        Its own size, if it has one, does not matter.
    metric : Metric or str
        mo.conversion("A"), or its text "conversion of A".
    reach : float, str or quantity
        The value to reach: a number, or a concentration.
    vary : str, optional
        'time' (batch); 'volume' or 'space_time' (tank); 'length', 'volume' or 'space_time' (tube).

    Raises
    ------
    InputError
        If the question cannot be read.
    UnreachableError
        If the target lies beyond what the vessel can do: says how far one gets, and why.
    """
    metric = parse_metric(metric) if isinstance(metric, str) else metric
    if not isinstance(vessel, Vessel):
        raise InputError("a train has no one size", vessel.label, "size its vessels one by one")
    vary = vary or _default(vessel)
    if vary not in vessel.sizes:
        raise InputError(f"'{vary}' of a {vessel.noun} cannot be varied", vessel.label, nearest(vary, vessel.sizes))
    if vary == "length" and not np.isfinite(getattr(vessel, "area", np.nan)):
        raise InputError("the length cannot be found without a diameter", vessel.label, "give the diameter")
    vessel.require_known()
    target = units.read(reach, metric.kind, f"{vessel.label}, reach").si
    if isinstance(vessel, StirredTank):
        windows = _repeated_windows(vessel, metric)
    elif vessel.is_staged:
        windows = _staged_windows(vessel, metric)
    else:
        followed = getattr(vessel, "is_followed", True)
        windows = _followed_windows(vessel, metric) if followed else _repeated_windows(vessel, metric)
    found = _search(vessel, windows, metric, target)
    sized = _resized(vessel, vary, found)
    run = sized.outcome()
    error = standard_error(run, metric)
    value = _from_basis(vessel, vary, found)
    if error is not None:
        exact = isinstance(vessel, StirredTank) or getattr(vessel, "is_followed", True)
        slope = _slope_by_size(run, metric) if exact else _slope_by_runs(vessel, metric, vary, found)
        error = _from_basis(vessel, vary, error / abs(slope)) if slope else np.inf
    return Sizing(sized, run, vary, value, metric, target, error)


def _default(vessel: Vessel) -> str:
    if isinstance(vessel, PlugFlow) and vessel.diameter is None:
        return "volume"
    return vessel.sizes[0]


def _from_basis(vessel: Vessel, vary: str, basis: float) -> float:
    """The size asked for (time, volume, length, space time) from what was searched over: time or volume."""
    if vary == "length":
        return float(basis / vessel.area)  # type: ignore[attr-defined]
    if vary == "catalyst_mass":
        return float(basis * vessel.catalyst.bulk_density.si)  # type: ignore[union-attr]
    return float(basis / vessel.fed.volume) if vary == "space_time" else basis


def _resized(vessel: Vessel, vary: str, basis: float) -> Vessel:
    display, kind = vessel.display, KINDS[vary]
    value = Value(_from_basis(vessel, vary, basis), None if display.bare else display.unit(kind))
    others: dict[str, Any] = {name: None for name in vessel.sizes if name != vary}
    return vessel.with_(**others, **{vary: value})


def _slope_by_size(run: Run, metric: Metric) -> float:
    """d(metric)/d(time or volume) at the end of a run."""
    case, state = run.last_case, run.solution.states[-1]
    if run.is_steady:
        return float(slopes(run, metric, (VOLUME,))[0])
    whole = compiled(case.balances)
    expression = moved_expressions(case, (run.vessel.expression(metric),))
    end = float(run.solution.points[-1])
    partial = whole.gradient(expression, case.balances.symbols)(case.values)(state, end)[0]
    return float(partial @ np.array(whole.rhs(case.values)(state, end)))


def _followed_windows(vessel: Vessel, metric: Metric) -> Iterator[Window]:
    """One integration, stretch by stretch, each three times as long as all before it, until nothing changes."""
    case = vessel.case
    expression = vessel.expression(metric)
    evaluate = compiled(case.balances).outputs((expression,))(case.values)
    state, scale = start(case)
    rhs, jacobian = functions(case)
    amounts = case.balances.positive
    fastest = max(float(np.max(np.abs(rhs(state, 0.0)) / scale)), _fastest(jacobian(state, 0.0), scale))
    if fastest == 0:
        return
    begin, width = 0.0, 1e-3 / fastest

    def values(states: np.ndarray, points: np.ndarray) -> np.ndarray:
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.broadcast_to(np.asarray(evaluate(states.T, points)[0], dtype=float), points.shape)

    for _ in range(60):
        points = np.linspace(begin, begin + width, 41)
        states = integrate(case, points, initial=state).states

        def at(size: float, begin: float = begin, state: np.ndarray = state) -> float:
            if size <= begin:
                return float(values(state[None, :], np.array([begin]))[0])
            short = np.array([begin, size])
            return float(values(integrate(case, short, initial=state).states, short)[-1])

        gone = np.flatnonzero(np.any((states < -RUN_OUT * scale)[:, amounts], axis=1))
        if len(gone):  # beyond its end a species cannot be converted

            def least(size: float, begin: float = begin, state: np.ndarray = state) -> float:
                if size <= begin:
                    return float(np.min((state / scale)[amounts])) + RUN_OUT
                ended = integrate(case, [begin, size], initial=state).states[-1] / scale
                return float(np.min(ended[amounts])) + RUN_OUT

            end = float(brentq(least, points[gone[0] - 1], points[gone[0]], rtol=1e-12))
            points = np.append(points[: gone[0]], end)
            states = integrate(case, points, initial=state).states
            yield Window(points, values(states, points), at)
            return
        yield Window(points, values(states, points), at)
        begin, state = float(points[-1]), states[-1]
        if np.max(np.abs(np.array(rhs(state, begin))) / scale) * begin < 1e-10:
            return
        width = 3 * begin


def _fastest(jacobian: np.ndarray, scale: np.ndarray) -> float:
    """The largest entry of a Jacobian with every state in units of its scale."""
    return float(np.max(np.abs(jacobian) * scale / scale[:, None]))


def _repeated_windows(vessel: Vessel, metric: Metric) -> Iterator[Window]:
    """Whole runs (steady states of a tank) at volumes that double each time, until nothing changes."""
    flow = vessel.fed.volume
    others: dict[str, Any] = {name: None for name in vessel.sizes if name != "volume"}

    def at(size: float) -> float:
        return vessel.with_(**others, volume=size).outcome().metric(metric)

    first = vessel.with_(**others, volume=flow)
    _, jacobian = functions(first.case)
    state, scale = start(first.case)
    fastest = _fastest(jacobian(state, 0.0), scale) * (1.0 if isinstance(vessel, StirredTank) else flow)
    volume = 1e-4 * flow / fastest

    previous = (volume, at(volume))
    for _ in range(60):
        sizes = previous[0] * np.array([1.0, 2**0.5, 2.0])
        try:
            window = Window(sizes, np.array([previous[1], *(at(float(v)) for v in sizes[1:])]), at)
        except SolveError:
            sizes = _last_sound(at, *sizes[[0, -1]])
            yield Window(sizes, np.array([at(float(v)) for v in sizes]), at)
            return
        yield window
        if sizes[-1] * fastest / flow > 1e3 and np.ptp(window.values) < 1e-10 * max(1.0, abs(previous[1])):
            return
        previous = (float(sizes[-1]), float(window.values[-1]))


def _staged_windows(vessel: Vessel, metric: Metric) -> Iterator[Window]:
    """Whole runs, the first to the last change on the way, each further one twice as long."""
    vary = "time" if "time" in vessel.sizes else "volume"

    def run(size: float, points: Any) -> Run:
        return _resized(vessel, vary, size).run(points=points)  # type: ignore[attr-defined,no-any-return]

    last = max((t for track in vessel.tracks().values() for t in track.times), default=0.0)
    begin, end = 0.0, last or (3600.0 if vary == "time" else vessel.fed.volume * 3600.0)
    for _ in range(20):
        points = np.linspace(0.0, end, 201)
        values = run(end, points).profile(metric)
        new = points >= begin
        yield Window(points[new], values[new], lambda size: run(size, 2).metric(metric))
        begin, end = end, 2 * end


def _slope_by_runs(vessel: Vessel, metric: Metric, vary: str, found: float) -> float:
    """d(metric)/d(time or volume) of a vessel whose end reaches back to its inlet, by central differences."""
    ends = [_resized(vessel, vary, found * (1 + h)).outcome().metric(metric) for h in (1e-4, -1e-4)]
    return float((ends[0] - ends[1]) / (2e-4 * found))


def _last_sound(at: Callable[[float], float], low: float, high: float) -> np.ndarray:
    """From a size with a steady state to the largest below one without (a species that would run out)."""
    sound = [low]
    while high - low > 1e-12 * high:
        middle = (low + high) / 2
        try:
            at(middle)
        except SolveError:
            high = middle
        else:
            low = middle
            sound.append(low)
    return np.array(sound)


def _search(vessel: Vessel, windows: Iterator[Window], metric: Metric, target: float) -> float:
    """The first size at which the metric crosses the target."""
    sign = 0.0
    best: tuple[float, float] | None = None
    seen: list[tuple[float, float]] = []
    for window in windows:
        known = np.isfinite(window.values)
        sizes, values = window.sizes[known], window.values[known]
        if not len(sizes):
            continue
        if sign == 0.0:
            sign = 1.0 if target > values[0] else -1.0
            if abs(target - values[0]) <= _ROUNDING * max(1.0, abs(target)):
                raise InputError(f"{metric} is {values[0]:.4g} at the inlet already", vessel.label, "ask for more")
        crossed = np.flatnonzero(sign * (values - target) >= -_ROUNDING * max(1.0, abs(target)))
        if len(crossed):
            i = int(crossed[0])
            found = float(sizes[0]) if i == 0 else _refine(window, target, float(sizes[i - 1]), float(sizes[i]))
            behind = np.array([*seen[-200:], *zip(sizes[:i].tolist(), values[:i].tolist(), strict=True)])
            before = float(np.interp(found / 1.5, behind[:, 0], behind[:, 1])) if len(behind) else -np.inf
            if abs(target - before) < _ASYMPTOTE * max(1.0, abs(target)):
                seen.append((found, target))  # rounding alone took it over the line
                break
            return found
        top = int(np.argmax(sign * values))
        if 0 < top < len(sizes) - 1:  # a peak between two points may still reach it
            left, right = float(sizes[top - 1]), float(sizes[top + 1])
            peak, height = _peak(window, sign, left, right)
            if sign * (height - target) >= 0:
                return _refine(window, target, left, peak)
            seen.append((peak, height))
        seen += zip(sizes.tolist(), values.tolist(), strict=True)
    seen = seen or [(np.nan, np.nan)]
    if np.isfinite(seen[0][0]):
        best = max(seen, key=lambda point: sign * point[1])
    raise _unreachable(vessel, metric, target, best, seen)


def _peak(window: Window, sign: float, low: float, high: float) -> tuple[float, float]:
    """Where between two sizes the metric is highest (lowest, for a negative sign), and its value there."""
    found = minimize_scalar(lambda x: -sign * window.at(x), bounds=(low, high), method="bounded")
    return float(found.x), window.at(float(found.x))


def _refine(window: Window, target: float, low: float, high: float) -> float:
    if (window.at(low) - target) * (window.at(high) - target) > 0:
        return high  # touched to within rounding, not crossed
    return float(brentq(lambda x: window.at(x) - target, low, high, xtol=1e-300, rtol=1e-13))


def _unreachable(
    vessel: Vessel, metric: Metric, target: float, best: tuple[float, float] | None, seen: list[tuple[float, float]]
) -> UnreachableError:
    display = vessel.display
    wanted = f"{metric} = {display.text(target, metric.kind, 6)}"
    if best is None or all(value == seen[0][1] for _, value in seen):
        advice = "check that the feed holds what reacts"
        return UnreachableError(f"{wanted} is out of reach: nothing happens in it", vessel.label, advice)
    kind = "time" if isinstance(vessel, Batch) else "volume"
    if abs(best[1] - target) < _ASYMPTOTE * max(1.0, abs(target)):
        said = f"{wanted} is only approached, never reached, however large"
        return UnreachableError(said, vessel.label, "ask for a little less", best[1])
    said = f"{wanted} is out of reach: the most is {display.text(best[1], metric.kind, 6)}"
    if target < seen[0][1]:
        said = said.replace("the most", "the least")
    peaked = abs(best[1] - seen[-1][1]) > 1e-6 * max(abs(best[1]), 1e-12)
    if peaked and best[1] == seen[0][1]:
        said += ", at the inlet, and from there it only goes the other way"
        advice = "change the feed, or turn the question round"
    elif peaked:
        said += f", at {kind} {display.text(best[0], kind)}; after that it turns back, as what is formed reacts on"
        advice = "ask for less, or change temperature or feed so that the further reaction is slower"
    else:
        reversible = [str(r.name) for r in vessel.chemistry.reactions if r.equation.reversible]
        if reversible:
            said += f", however large: {', '.join(reversible)} comes to equilibrium"
            advice = "change the temperature or the feed so that the equilibrium lies further, or ask for less"
        else:
            said += ", however large: by then something has run out"
            advice = "ask for less, or feed more of what runs out first"
    return UnreachableError(said, vessel.label, advice, best[1])
