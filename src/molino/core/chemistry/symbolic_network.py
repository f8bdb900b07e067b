"""The symbolic part of a chemistry, and the linear algebra of its stoichiometry."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property

import numpy as np
import sympy as sp

from molino.core.chemistry.equation import coefficient_text
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE, species_in
from molino.core.errors import InputError


@dataclass(frozen=True)
class SymbolicNetwork:
    """The symbolic part of a chemistry, a key of compiled balances."""

    species: tuple[str, ...]
    reactions: tuple[str, ...]
    stoichiometry: tuple[tuple[tuple[int, Fraction], ...], ...]
    """For each reaction, (index of species, moles formed per mole of reaction; consumed ones negative)."""
    rates: tuple[sp.Expr, ...]
    """Rate laws in SI over [species], T, P and parameters."""
    parameters: tuple[str, ...]
    bases: tuple[str, ...]
    """The basis of each rate: 'volume' of fluid, or another of `reaction.BASES`."""

    @cached_property
    def symbols(self) -> frozenset[sp.Symbol]:
        """The symbols of the rate laws."""
        return frozenset().union(*(rate.free_symbols for rate in self.rates))

    @cached_property
    def by_pressure(self) -> tuple[str, ...]:
        """The partial pressures, fugacities, and the pressure, in rate laws."""
        partial = sorted(str(s) for s in self.symbols if (asked := species_in(s)) and asked[0] in ("p", "f"))
        return (*partial, "P") if PRESSURE in self.symbols else tuple(partial)

    @cached_property
    def by_temperature(self) -> tuple[str, ...]:
        """The reactions whose rate depends on temperature."""
        return tuple(n for n, rate in zip(self.reactions, self.rates, strict=True) if TEMPERATURE in rate.free_symbols)

    @cached_property
    def matrix(self) -> np.ndarray:
        """Stoichiometric coefficients, shape (species, reactions)."""
        full = np.zeros((len(self.species), len(self.reactions)))
        for j, column in enumerate(self.stoichiometry):
            for i, moles in column:
                full[i, j] = float(moles)
        return full

    def __hash__(self) -> int:
        return hash((self.species, self.reactions, self.rates, self.bases))


def null_space(vectors: Iterable[Iterable[tuple[int, Fraction]]], among: Iterable[int]) -> list[dict[int, Fraction]]:
    """A basis of the w with w . v = 0 for every vector v, by exact elimination, in sparse whole numbers.

    Vectors are (index, value) pairs; `among` are the allowed indices.
    """
    rows: list[tuple[int, dict[int, Fraction]]] = []
    for column in vectors:
        left = dict(column)
        for pivot, row in rows:
            if pivot in left:
                times = left[pivot]
                for i, value in row.items():
                    left[i] = left.get(i, Fraction(0)) - times * value
        left = {i: value for i, value in left.items() if value}
        if not left:
            continue
        pivot = max(left)
        row = {i: value / left[pivot] for i, value in left.items()}
        for n, (other, values) in enumerate(rows):
            if pivot in values:
                times = values[pivot]
                merged = {i: values.get(i, Fraction(0)) - times * row.get(i, Fraction(0)) for i in values.keys() | row}
                rows[n] = (other, {i: value for i, value in merged.items() if value})
        rows.append((pivot, row))
    pivots = {pivot for pivot, _ in rows}
    found = []
    for free in (i for i in among if i not in pivots):
        weights = {free: Fraction(1), **{pivot: -row[free] for pivot, row in rows if free in row}}
        scale = math.lcm(*(w.denominator for w in weights.values()))
        found.append({i: w * scale for i, w in sorted(weights.items())})
    return found


_MOST_INVARIANTS = 5000


def nonnegative_invariants(columns: Sequence[Iterable[tuple[int, Fraction]]], species: int) -> np.ndarray:
    """Every extreme w >= 0 with w . v = 0 for each column v, shape (invariants, species).

    If the total of such a w is zero, none of its species can be formed, and every species that cannot be formed is in
    one of them. By elimination of one column after another, keeping the simplest (J. Farkas, J. reine angew. Math. 124
    (1902) 1; J. Martinez, M. Silva, Informatik-Fachberichte 52 (1982) 301).

    Raises
    ------
    InputError
        If there are too many.
    """
    dense = [dict(column) for column in columns]
    rows = [({j: column[i] for j, column in enumerate(dense) if i in column}, {i: Fraction(1)}) for i in range(species)]
    for j in range(len(dense)):
        kept = [row for row in rows if j not in row[0]]
        signs = {sign: [row for row in rows if row[0].get(j, 0) * sign > 0] for sign in (1, -1)}
        for up in signs[1]:
            for down in signs[-1]:
                kept.append(_combined(up, down, -down[0][j], up[0][j]))
        supports = [frozenset(weights) for _, weights in kept]
        rows = [
            row
            for n, (row, own) in enumerate(zip(kept, supports, strict=True))
            if not any(s < own or (s == own and m < n) for m, s in enumerate(supports))
        ]
        if len(rows) > _MOST_INVARIANTS:
            raise InputError("too many combinations of species are conserved", "equilibrium", "name fewer reactions")
    found = np.zeros((len(rows), species))
    for n, (_, weights) in enumerate(rows):
        scale = math.lcm(*(w.denominator for w in weights.values())) / Fraction(
            math.gcd(*(int(w * math.lcm(*(v.denominator for v in weights.values()))) for w in weights.values()))
        )
        found[n, list(weights)] = [float(w * scale) for w in weights.values()]
    return found


Row = tuple[dict[int, Fraction], dict[int, Fraction]]


def _combined(one: Row, two: Row, times_one: Fraction, times_two: Fraction) -> Row:
    """A sum of two rows, each of the remaining columns and its weights."""
    left, weights = (
        {k: v for k in a.keys() | b.keys() if (v := times_one * a.get(k, 0) + times_two * b.get(k, 0))}
        for a, b in zip(one, two, strict=True)
    )
    return left, weights


def independent_rows(matrix: np.ndarray) -> list[int]:
    """The first rows of a matrix that are linearly independent."""
    found: list[int] = []
    for i in range(len(matrix)):
        if np.linalg.matrix_rank(matrix[[*found, i]]) > len(found):
            found.append(i)
    return found


def combination_text(weights: Mapping[int, Fraction], names: Sequence[str], most: int = 8) -> str:
    """A sum like 'xylose + 2 furfural - resin'; for a long one the first terms, and their number."""
    terms = [f"{'-' if w < 0 else '+'} {coefficient_text(abs(w))}{names[i]}" for i, w in weights.items()]
    left_out = f" ... ({len(terms)} terms)" if len(terms) > most else ""
    return " ".join(terms[: most - 2 if left_out else most]).removeprefix("+ ") + left_out
