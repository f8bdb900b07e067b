"""The review of a vessel before it runs: findings, and the count of equations, unknowns and the degrees of freedom."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np
import sympy as sp

from molino.core.balances.balance_symbols import IS_COUNTED, IS_THERE
from molino.core.balances.engines import start
from molino.core.balances.functions import functions_of
from molino.core.balances.steady import growth_rates
from molino.core.balances.system import AMOUNTS, Balances, Case
from molino.core.chemistry.checks import reachable
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.findings import Finding, Review
from molino.core.contract.data_range import length_finding, range_finding
from molino.core.contract.phase_limits import feed_finding
from molino.core.contract.specification import Specification
from molino.core.errors import SolveError
from molino.core.symbols import symbol_words
from molino.core.terms.catalyst import Catalyst, catalyst_symbols
from molino.core.thermo.energy import reference
from molino.core.units import Value

_LISTED = 40
"""The largest number of names in a list."""


@dataclass(frozen=True)
class Count:
    """The count of unknowns, equations and degrees of freedom.

    Attributes
    ----------
    unknowns : names of states, and of the quantities defined by them
    equations : one balance for each state, one definition for each other unknown
    given : numbers that are given
    open : quantities to be given, sized or fitted: the degrees of freedom
    """

    unknowns: tuple[str, ...]
    equations: tuple[str, ...]
    given: tuple[str, ...]
    open: tuple[str, ...]

    @property
    def degrees_of_freedom(self) -> int:
        """Unknowns and open numbers, less equations."""
        return len(self.unknowns) + len(self.open) - len(self.equations)

    def __str__(self) -> str:
        rows = [("unknowns", self.unknowns), ("equations", self.equations), ("given", self.given), ("open", self.open)]
        lines = [f"{len(names):4d} {word:<10}{_listed(names)}" for word, names in rows]
        return "\n".join([*lines, f"{self.degrees_of_freedom:4d} degrees of freedom"])


def _listed(names: tuple[str, ...]) -> str:
    """A list of names, shortened if it is long."""
    if len(names) <= _LISTED:
        return ", ".join(names)
    return f"{', '.join(names[: _LISTED - 4])} and {len(names) - _LISTED + 4} more"


@dataclass(frozen=True, eq=False)
class VesselReview(Review):
    """The findings of the check of a vessel, with its count."""

    count: Count

    def __str__(self) -> str:
        return f"{super().__str__()}\n{self.count}"


def review(spec: Specification) -> VesselReview:
    """The findings of the chemistry and of the vessel itself, and the count."""
    chemistry, vessel, end = spec.chemistry, spec.vessel, spec.end_si
    size = None if math.isinf(end) else (spec.default_size(), math.isfinite(end))
    present = {s for s in chemistry.names if spec.is_fed(s)} | spec.present_at_start()
    ends = dict.fromkeys((spec.feed_T, spec.first_T))
    found = [
        *temperature_findings(spec.label, ends),
        doubtful_size(spec),
        range_finding(spec.label, chemistry, ends, spec.fed.concentrations, spec.display),
    ]
    if text := feed_finding(spec):
        found.append(Finding("warning", spec.label, text, "check temperature, pressure and model of the feed"))
    found += [*chemistry.check(spec.feed_T).findings, *_findings(spec.label, chemistry, present, vessel.catalyst)]
    found += spec.more_findings()
    kept = Review.of([f for f in found if f is not None])
    return VesselReview(kept.findings, _count(chemistry, spec.model.balances, spec.case, size))


def doubtful_size(spec: Specification, conversions: Iterable[float] = ()) -> Finding | None:
    """Findings for a size in which almost nothing reacts, or a tube that is shorter than it is wide.

    The conversions of a run, if there are any, must confirm that almost nothing reacts.
    """
    area = spec.cross_section()
    width = math.sqrt(4 * area / math.pi / float(getattr(spec.vessel, "tubes", 1)))
    if spec.vessel.catalyst is None:
        short = length_finding(spec.label, spec.end_si / area, width, spec.display)
        if short is not None:
            return short
    end = spec.progress_end()
    if spec.chemistry.unknowns or not math.isfinite(end) or any(abs(c) > _NOTHING for c in conversions):
        return None
    return None if spec.moving_numbers() else size_finding(spec.label, spec.case, end)


_COLD = 150.0
"""K: below this a temperature is more likely a number in degrees Celsius."""
_ROUNDING = 1e-14
"""A relative change that is rounding."""
_NOTHING = 1e-6
"""Fraction of the time of the fastest reaction below which almost nothing reacts in a vessel."""
_STEADY = 1e-3
"""Relative change of the temperature, or growth of a disturbance, below which the rates do not change."""


def temperature_findings(label: str, temperatures: Iterable[Value | None]) -> Iterator[Finding]:
    """Findings for temperatures so low that degrees Celsius may have been meant."""
    for T in temperatures:
        if T is not None and 0 < T.si < _COLD:
            bare = " (a bare number is kelvin)" if T.unit is None else ""
            yield Finding("warning", label, f"T = {T.si:.4g} K{bare}", "for degrees Celsius write '49 degC'")


def size_finding(label: str, case: Case, end: float) -> Finding | None:
    """Findings for a vessel in which no reaction starts, or so small that almost nothing reacts.

    The rates at the start decide only if they do not change: the balances are autonomous, the temperature is steady,
    and no disturbance grows (an autocatalytic reaction begins slowly). Otherwise nothing is stated.
    """
    state, scale = start(case)
    try:
        slopes = end * np.abs(functions_of(case).slopes(state, 0.0)) / scale
        growth = end * growth_rates(case, state).real.max(initial=0.0)
    except (SolveError, np.linalg.LinAlgError):
        return None
    amounts = case.balances.amounts
    share, other = float(np.max(slopes[amounts], initial=0.0)), np.delete(slopes, amounts)
    grows = growth > _STEADY and share > 0
    if not amounts or grows or not case.balances.is_autonomous or np.max(other, initial=0.0) > _STEADY:
        return None
    if share <= _ROUNDING:
        message = "no reaction starts: at the beginning every rate is zero"
        return Finding("warning", label, message, "feed the reactant, catalyst or seed that is missing")
    if share > _NOTHING:
        return None
    message = f"almost nothing reacts: it has {share:.1g} of the time that its fastest reaction needs"
    return Finding("warning", label, message, "check the units of size, flow and rate constants")


def _findings(label: str, chemistry: Chemistry, present: set[str], catalyst: Catalyst | None) -> Iterator[Finding]:
    there, never = reachable(chemistry, present)
    for reaction in never:
        missing = [name for name, _ in reaction.equation.left if name not in there]
        message = f"{reaction.name} never starts: there is no source of {', '.join(missing)}"
        yield Finding("warning", label, message, f"feed {', '.join(missing)}, or leave the reaction out")
    for reaction in chemistry.reactions:
        for name in sorted(reaction.asks - there - {s for s, _ in reaction.equation.left}):
            message = f"the rate law of {reaction.name} needs {name}, which is absent"
            yield Finding("note", label, message, "")
    per_fluid = [str(r.name) for r in chemistry.reactions if r.basis == "volume"]
    if catalyst is not None and catalyst.form.has_voids and per_fluid:
        rates = f"the rate of {', '.join(per_fluid)}"
        message = f"{rates} is per volume of fluid, and is multiplied by the voidage {catalyst.voidage}"
        yield Finding("note", label, message, 'give basis="catalyst volume" to a rate per volume of bed')
    elif catalyst is not None and not catalyst_symbols(chemistry.network):
        yield Finding("note", label, "a catalyst is given, and no rate is per catalyst", "give basis=... to a rate")


def _count(chemistry: Chemistry, balances: Balances, case: Case, size: tuple[str, bool] | None) -> Count:
    used: set[sp.Symbol] = set()
    for expression in (*balances.rhs, *(e for _, e in balances.definitions), *(s.initial for s in balances.states)):
        used |= expression.free_symbols
    named = [symbol_words(s.symbol) if s.kind in AMOUNTS else s.name for s in balances.states]
    unknowns = named + [symbol_words(symbol) for symbol, _ in balances.definitions]
    equations = [f"balance of {s.name}" for s in balances.states]
    equations += [symbol_words(s) for s, _ in balances.definitions]
    waiting = {p.symbol for p in chemistry.unknowns}
    values = zip(balances.parameters, case.values, strict=True)
    shown = [(p, v) for p, v in values if p in used and getattr(p, "role", None) not in (IS_THERE, IS_COUNTED)]
    numbers = [(symbol_words(p), bool(np.isfinite(v)) and p not in waiting) for p, v in shown]
    if any(reference(s) in used for s in chemistry.names):
        numbers += [(p.name, False) for p in chemistry.enthalpies if p.unknown]
    numbers += [size] if size is not None else []
    return Count(
        tuple(unknowns),
        tuple(equations),
        tuple(name for name, known in numbers if known),
        tuple(name for name, known in numbers if not known),
    )
