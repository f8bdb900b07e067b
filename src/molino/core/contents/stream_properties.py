"""Properties of streams, and mixing: of numbers, or of numbers with derivatives."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from fractions import Fraction
from functools import lru_cache

import numpy as np
import scipy
import sympy as sp

from molino.core.balances.balance_symbols import FLOW, MOLAR_FLOW
from molino.core.balances.source import Generated, build
from molino.core.balances.system import TIME
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.contents.streams import Fluid, Stream
from molino.core.dual import Dual, Number, implicit, log, root, value_of
from molino.core.errors import InputError, SolveError
from molino.core.thermo.energy import CAPACITY, reference
from molino.core.thermo.phase_model import Content, PhaseModel, molar_volume
from molino.core.unit_tables import GAS_CONSTANT

_GAUSS, _WEIGHTS = np.polynomial.legendre.leggauss(12)
_PATH = [(float(x + 1) / 2, float(w) / 2) for x, w in zip(_GAUSS, _WEIGHTS, strict=True)]
"""The nodes and weights of Gauss's quadrature between 0 and 1."""
_NEAR = 1.0
"""Temperature difference in K below which a mean heat capacity is integrated."""
_COLDEST, _HOTTEST = 150.0, 3000.0
"""Range in K in which the temperature of a stream is searched."""


def _expression(phase: PhaseModel, content: Content, what: str) -> sp.Expr:
    if what == "enthalpy":
        return phase.enthalpy(content, FLOW)
    if what == "whole capacity":
        return phase.capacity(content, FLOW)
    if what == "capacity":
        return phase.capacity(content, FLOW) - content.departure_by_T
    if what == "volume":
        return content.volume
    if what.startswith("log coefficient"):
        return content.log_coefficient(phase.species.index(what.removeprefix("log coefficient of ")))
    logs = sp.Add(*(n * content.log_coefficient(i) for i, n in enumerate(content.n)))
    return content.departure / TEMPERATURE - GAS_CONSTANT * logs


@lru_cache(maxsize=256)
def _generated(phase: PhaseModel, what: str, by: bool) -> Generated:
    """A property of flows, T, P and volume; with `by` its slopes by them."""
    flows = tuple(MOLAR_FLOW(s) for s in phase.species)
    content = Content(phase, flows, TEMPERATURE, PRESSURE)
    whole, definitions = _expression(phase, content, what), dict(content.definitions)
    states = (*flows, TEMPERATURE, PRESSURE, FLOW)
    if not by:
        return build(definitions, [whole], states, TIME, _parameters(phase))
    for symbol in reversed(definitions):
        whole = whole.xreplace({symbol: definitions[symbol]})
    return build({}, [whole.diff(s) for s in states], states, TIME, _parameters(phase))


@lru_cache(maxsize=64)
def _parameters(phase: PhaseModel) -> tuple[sp.Symbol, ...]:
    return (*(reference(s) for s in phase.species), CAPACITY, *(molar_volume(s) for s in phase.species))


def _function(fluid: Fluid, what: str, by: bool) -> Callable[[np.ndarray, float], list[float]]:
    """A property of flows, T, P and volume, with the numbers of a fluid."""
    if (what, by) not in fluid.functions:
        values = [fluid.numbers.get(symbol, np.nan) for symbol in _parameters(fluid.phase)]
        fluid.functions[what, by] = _generated(fluid.phase, what, by)(values)
    return fluid.functions[what, by]


def _property(fluid: Fluid, stream: Stream, what: str) -> Number:
    """A property of a stream, with its derivatives by the numbers of the stream."""
    numbers = [*(stream.amounts.get(s, 0.0) for s in fluid.phase.species), stream.T, stream.P, stream.volume]
    state = np.array([float(value_of(n)) for n in numbers])
    value = float(_function(fluid, what, False)(state, 0.0)[0])
    if not any(isinstance(n, Dual) for n in numbers):
        return value
    by = _function(fluid, what, True)(state, 0.0)
    return implicit(value, [(b, n) for b, n in zip(by, numbers, strict=True) if np.isfinite(b) and b])


def require_enthalpies(fluid: Fluid) -> None:
    """Raise InputError if the enthalpies of a fluid are unknown."""
    if fluid.phase.energy is None:
        message = "the enthalpies of this stream are unknown"
        raise fluid.lacks or InputError(message, fluid.label, "give heat capacities, and a temperature")


def enthalpy(fluid: Fluid, stream: Stream, T: Number | None = None) -> Number:
    """Enthalpy flow of a stream in W, at its own temperature or another.

    Raises
    ------
    InputError
        If the fluid has no enthalpies.
    """
    require_enthalpies(fluid)
    return _property(fluid, stream if T is None else replace(stream, T=T), "enthalpy")


def mean_capacity(fluid: Fluid, stream: Stream, T: Number) -> Number:
    """The mean heat capacity flow of a stream between its temperature and another, in W/K."""
    rise = T - stream.T
    if abs(float(value_of(rise))) > _NEAR:
        return (enthalpy(fluid, stream, T) - enthalpy(fluid, stream)) / rise
    require_enthalpies(fluid)
    return sum(w * _property(fluid, replace(stream, T=stream.T + rise * x), "whole capacity") for x, w in _PATH)


def entropy_change(fluid: Fluid, stream: Stream, T: Number, P: Number) -> Number:
    """Change of the entropy flow of a stream to another temperature and pressure in W/K, at constant composition.

    The integral of Cp/T, less R ln P of a gas, with the departures of a real gas.
    """
    require_enthalpies(fluid)
    ratio = T / stream.T
    along = (w * _property(fluid, replace(stream, T=stream.T * ratio**x), "capacity") for x, w in _PATH)
    change = sum(along) * log(ratio)
    if fluid.phase.is_gas:
        change = change - GAS_CONSTANT * stream.total * log(P / stream.P)
    if fluid.phase.mixes_with_heat:
        there = replace(stream, T=T, P=P)
        change = change + _property(fluid, there, "departure") - _property(fluid, stream, "departure")
    return change


def log_coefficients(fluid: Fluid, stream: Stream) -> dict[str, Number]:
    """ln of the activity coefficient of each species in a liquid; zero in an ideal one."""
    if fluid.phase.activity is None:
        return dict.fromkeys(fluid.phase.species, 0.0)
    return {s: _property(fluid, stream, f"log coefficient of {s}") for s in fluid.phase.species}


def with_volume(fluid: Fluid, stream: Stream) -> Stream:
    """The stream with the volume that follows from its amounts, temperature and pressure; unchanged where the volume is
    a number of its own."""
    known = stream.T if not fluid.phase.is_gas else stream.T * stream.P
    needs_T = fluid.phase.is_gas or fluid.phase.expansions
    if fluid.phase.carries_volume or (needs_T and not np.isfinite(value_of(known))):
        return stream
    if not value_of(stream.total) > 0:
        return replace(stream, volume=0.0 * stream.total)
    return replace(stream, volume=_property(fluid, stream, "volume"))


def at_temperature(fluid: Fluid, stream: Stream, T: Number) -> Stream:
    """The same stream at another temperature."""
    return with_volume(fluid, replace(stream, T=T))


def at_enthalpy(fluid: Fluid, stream: Stream, wanted: Number) -> Stream:
    """The same stream at the temperature that gives it an enthalpy flow."""
    require_enthalpies(fluid)
    start, goal = stream.plain(), float(value_of(wanted))

    def off(T: float) -> float:
        return float(enthalpy(fluid, start, T)) - goal

    if off(_COLDEST) * off(_HOTTEST) > 0:
        message = f"no temperature between {_COLDEST:g} and {_HOTTEST:g} K gives the stream its enthalpy"
        raise SolveError(message, fluid.label, "check the heat capacities and the heat removed")
    T = float(scipy.optimize.brentq(off, _COLDEST, _HOTTEST, xtol=1e-11, rtol=1e-15))
    exact = root(lambda T, stream, wanted: enthalpy(fluid, stream, T) - wanted, T, (stream, wanted), (start, goal))
    return at_temperature(fluid, stream, exact)


def adiabatic_rise(fluid: Fluid, start: Stream, net: Mapping[str, Fraction]) -> float:
    """Adiabatic temperature rise in K of a stream by one reaction, to the exhaustion of the limiting reactant."""
    extent = min(start.amounts[s] / -float(moles) for s, moles in net.items() if moles < 0)
    if extent <= 0:
        raise InputError("a reactant of it is missing", fluid.label, "feed it")
    spent = {s: n + extent * float(net.get(s, 0)) for s, n in start.amounts.items()}
    return float(at_enthalpy(fluid, replace(start, amounts=spent), enthalpy(fluid, start)).T - start.T)


def mixed(fluid: Fluid, streams: Sequence[Stream], name: str) -> Stream:
    """Mix streams: amounts, volumes (of liquids) and enthalpies are added; the pressure is the lowest.

    The temperature is the common one if all are equal and mix without heat, otherwise that of the sum of the
    enthalpies; InputError if properties are missing for it. Streams without a flow do not count.
    """
    flowing = [x for x in streams if value_of(x.total) != 0] or [*streams]
    amounts = {s: sum((x.amounts.get(s, 0.0) for x in streams), 0.0) for s in fluid.phase.species}
    pressures = [x.P for x in flowing if np.isfinite(value_of(x.P))]
    P = min(pressures, key=lambda p: float(value_of(p)), default=np.nan)
    volume = sum((x.volume for x in streams), 0.0)
    whole = replace(flowing[0], name=name, amounts=amounts, volume=volume, P=P)
    warm = [float(value_of(x.T)) for x in flowing if np.isfinite(value_of(x.T))]
    are_alike = not warm or max(warm) - min(warm) <= 1e-12 * max(warm)
    moves = fluid.phase.energy is not None and any(isinstance(x.T, Dual) and x.T.slope.any() for x in flowing)
    if are_alike and not moves and (not warm or fluid.phase.energy is None or not fluid.phase.mixes_with_heat):
        return with_volume(fluid, whole)
    return at_enthalpy(fluid, whole, sum((enthalpy(fluid, x) for x in streams if value_of(x.total) != 0), 0.0))
