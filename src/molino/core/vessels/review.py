"""What can be said of a vessel before it runs: findings, and the count of equations, unknowns and what is open."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import sympy as sp

from molino.core.chemistry.review import Finding, Review, reachable
from molino.core.vessels.catalyst import catalyst_symbols

if TYPE_CHECKING:
    from molino.core.vessels.base import Vessel


@dataclass(frozen=True)
class Count:
    """The count that is done by hand before a balance is solved.

    Attributes
    ----------
    unknowns : names of what the equations are for: states, and what is defined by them
    equations : one balance for each state, one definition for each other unknown
    given : numbers that are given
    open : what still has to be given, found by `size` or fitted: the degrees of freedom
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
        lines = [f"{len(names):4d} {word:<10}{', '.join(names)}" for word, names in rows]
        return "\n".join([*lines, f"{self.degrees_of_freedom:4d} degrees of freedom"])


@dataclass(frozen=True)
class VesselReview(Review):
    """What a check of a vessel found, with its count."""

    count: Count

    def __str__(self) -> str:
        return f"{super().__str__()}\n{self.count}"


def review_vessel(vessel: Vessel) -> VesselReview:
    """The chemistry's findings, those of the vessel itself, and the count."""
    T = getattr(vessel, "T", None) or getattr(getattr(vessel, "feed", None), "T", None)
    found = Review.of([*vessel.chemistry.check(T).findings, *_findings(vessel)])
    return VesselReview(found.findings, _count(vessel))


def _findings(vessel: Vessel) -> Iterator[Finding]:
    present = {s for s, c in vessel.inlet().items() if c > 0} | {*(getattr(vessel, "contents", None) or ())}
    there, never = reachable(vessel.chemistry, present)
    for reaction in never:
        missing = [name for name, _ in reaction.equation.left if name not in there]
        said = f"{reaction.name} never starts: nothing brings or forms {', '.join(missing)}"
        yield Finding("warning", vessel.label, said, f"feed {', '.join(missing)}, or leave the reaction out")
    for reaction in vessel.chemistry.reactions:
        for name in sorted(reaction.asks - there - {s for s, _ in reaction.equation.left}):
            said = f"the rate law of {reaction.name} asks for {name}, of which there is none"
            yield Finding("note", vessel.label, said, "")
    if vessel.catalyst is not None and not catalyst_symbols(vessel.chemistry.structure):
        yield Finding(
            "note", vessel.label, "a catalyst is given, and no rate is per catalyst", "give basis=... to a rate"
        )


def _words(parameter: sp.Symbol) -> str:
    """'in[A]' is the concentration of A in what comes in, 'start[A]' that at t = 0."""
    return (
        re.sub(r"^(in|start)(\[.*\])$", r"\2 \1", str(parameter))
        .replace("] in", "] fed")
        .replace("] start", "] at start")
    )


def _count(vessel: Vessel) -> Count:
    balances, case = vessel.written.balances, vessel.case
    used: set[sp.Symbol] = set()
    for expression in (*balances.rhs, *(e for _, e in balances.definitions), *(s.initial for s in balances.states)):
        used |= expression.free_symbols
    word = "molar flow" if str(balances.independent) == "V" else "amount"
    named = [f"{word} of {s.name}" if s.kind == word else s.name for s in balances.states]
    unknowns = named + [str(symbol) for symbol, _ in balances.definitions]
    equations = [f"balance of {s.name}" for s in balances.states] + [str(s) for s, _ in balances.definitions]
    waiting = {p.symbol for p in vessel.chemistry.unknowns}
    values = zip(balances.parameters, case.values, strict=True)
    numbers = [(_words(p), bool(np.isfinite(v)) and p not in waiting) for p, v in values if p in used]
    if not np.isinf(vessel.end):
        size = "volume" if "volume" in vessel.sizes and getattr(vessel, "diameter", None) is None else vessel.sizes[0]
        numbers.append((size, bool(np.isfinite(vessel.end))))
    return Count(
        tuple(unknowns),
        tuple(equations),
        tuple(name for name, known in numbers if known),
        tuple(name for name, known in numbers if not known),
    )
