"""The linear equations by which portions and totals give a mixture."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from molino.core import units
from molino.core.chemistry.species import Species
from molino.core.contents.portion import REST, Portion
from molino.core.dual import Number, solve as solve_numbers, value_of
from molino.core.errors import Faults, InputError, nearest
from molino.core.unit_tables import GAS_CONSTANT, SI_UNITS
from molino.core.units import Value

_CLOSE = 1e-6
"""Relative difference within which specifications agree."""


@dataclass(frozen=True)
class Mixture:
    """Concentrations by species and volume (or volumetric flow), in SI: floats, or numbers of any kind."""

    concentrations: dict[str, Number]
    volume: Number


@dataclass(frozen=True)
class _Statement:
    """One specification: coefficients of the amounts by species and of the volume (''), and the right-hand side."""

    text: str
    row: dict[str, Number]
    total: Number = 0.0


class Statements:
    """All specifications of a mixture."""

    def __init__(self, portions: Mapping[str, Portion], species: Mapping[str, Species] | None, flowing: bool) -> None:
        self.portions, self.species, self.flowing = portions, species, flowing
        self.statements: list[_Statement] = []
        self.faults = Faults()
        self.volume_word = "volumetric flow" if flowing else "volume"

    def molar_mass(self, name: str) -> float:
        """In kg/mol; 1 in a dry run without species, whose result is not used."""
        if self.species is None or name not in self.species:
            return 1.0
        with self.faults.at():
            return float(self.species[name].require("molar_mass", "quantities by mass").si)
        return 1.0

    def masses(self) -> dict[str, float]:
        return {name: self.molar_mass(name) for name in self.portions}

    def add(self, text: str, row: Mapping[str, Number], total: Number = 0.0) -> None:
        self.statements.append(_Statement(text, dict(row), total))

    def add_portions(self, T: Number | None) -> None:
        """The specifications of the entries."""
        everything = dict.fromkeys(self.portions, 1.0)
        for name, portion in self.portions.items():
            if portion.kind == REST:
                continue
            assert portion.value is not None
            number, text = portion.value.si, f"{name} {portion}"
            match portion.kind:
                case "concentration":
                    self.add(text, {name: 1.0, "": -number})
                case "mass concentration":
                    self.add(text, {name: self.molar_mass(name), "": -number})
                case "amount" | "molar flow":
                    self.add(text, {name: 1.0}, number)
                case "mass" | "mass flow":
                    self.add(text, {name: self.molar_mass(name)}, number)
                case "mole fraction":
                    self.add(text, _less(name, everything, number))
                case "mass fraction":
                    self.add(text, _less(name, self.masses(), number))
                case "partial pressure":
                    if T is None:
                        self.faults.add(name, "a partial pressure is given, and no temperature", "give T of the gas")
                    else:
                        self.add(text, {name: GAS_CONSTANT * T, "": -number})
                case "ratio":
                    self.add_ratio(name, portion, number, text)

    def add_ratio(self, name: str, portion: Portion, number: Number, text: str) -> None:
        of = str(portion.of)
        if of not in self.portions or of == name:
            known = [s for s in self.portions if s != name]
            self.faults.add(
                name, f"'{portion.text}' is relative to {of}, which is not in the mixture", nearest(of, known)
            )
            return
        top, bottom = (self.molar_mass(s) if m else 1.0 for s, m in zip((name, of), portion.mass, strict=True))
        self.add(text, {name: top, of: -number * bottom})

    def add_total(self, value: Value) -> None:
        """A total volume, amount or mass (or flow of it)."""
        kinds = ("volumetric flow", "molar flow", "mass flow") if self.flowing else ("volume", "amount", "mass")
        dimension = units.unit(value.unit if value.unit is not None else SI_UNITS[kinds[0]]).dimension
        match next(k for k in kinds if units.unit(SI_UNITS[k]).dimension == dimension):
            case "volumetric flow" | "volume":
                self.add(f"{self.volume_word} {value}", {"": 1.0}, value.si)
            case "molar flow" | "amount":
                self.add(f"total {value}", dict.fromkeys(self.portions, 1.0), value.si)
            case _:
                self.add(f"total {value}", self.masses(), value.si)

    def solve(self) -> Mixture:
        """The mixture; InputError lists missing or contradictory inputs."""
        self.faults.raise_any()
        if any(not isinstance(number, float) for s in self.statements for number in (*s.row.values(), s.total)):
            return self._solve_numbers()
        matrix, totals = self._system(self.statements)
        solution, free = _solve(matrix, totals)
        names = [*self.portions, ""]
        scale = np.array([1.0] * len(self.portions) + [1e-3])
        if _left(matrix, solution, totals) > _CLOSE:
            raise InputError(*self._contradiction())
        if free.any():
            raise InputError(*self._missing([n for n, f in zip(names, free, strict=True) if f]))
        found = dict(zip(names, (solution * scale).tolist(), strict=True))
        largest = max((abs(found[s]) for s in self.portions), default=0.0)
        for name in self.portions:
            if found[name] < -1e-9 * largest:
                rest = self.portions[name].kind == REST
                message = "the rest is negative: the others add up to more than the whole" if rest else "is negative"
                self.faults.add(name, message, "correct the fractions, or the total")
            found[name] = max(found[name], 0.0)
        given = [s.total for s in self.statements if s.row == {"": 1.0}]
        volume = given[0] if given else found[""]
        if volume <= 0:
            self.faults.add("", f"the {self.volume_word} is {volume:g}", "check the numbers")
        self.faults.raise_any()
        exact = {
            s: p.value.si
            for s, p in self.portions.items()
            if p.value is not None and (p.kind == "concentration" or p.value.si == 0)
        }
        return Mixture({s: exact.get(s, found[s] / volume) for s in self.portions}, volume)

    def _solve_numbers(self) -> Mixture:
        """The mixture from columns of numbers, or numbers with slopes: by as many statements as there are unknowns.

        The independent ones are chosen by the first case, for all.
        """
        matrix, _ = self._system(
            [_Statement(s.text, {n: _first(v) for n, v in s.row.items()}) for s in self.statements]
        )
        chosen: list[int] = []
        for i in range(len(self.statements)):
            if np.linalg.matrix_rank(matrix[[*chosen, i]], tol=1e-9) > len(chosen):
                chosen.append(i)
        names = [*self.portions, ""]
        if len(chosen) < len(names):
            raise InputError(*self._missing(self.free()))
        sizes = [max(abs(_first(v)) for v in self.statements[i].row.values()) for i in chosen]
        rows = [
            [self.statements[i].row.get(n, 0.0) * (1.0 / z) for n in names] for i, z in zip(chosen, sizes, strict=True)
        ]
        found = solve_numbers(rows, [self.statements[i].total * (1.0 / z) for i, z in zip(chosen, sizes, strict=True)])
        amounts, volume = dict(zip(self.portions, found[:-1], strict=True)), found[-1]
        least = min(float(np.min(value_of(n))) for n in amounts.values())
        if least < -1e-9 * max(float(np.max(np.abs(value_of(n)))) for n in amounts.values()):
            raise InputError("a species is negative", "", "correct the fractions, or the total")
        if not np.all(np.asarray(value_of(volume)) > 0):
            raise InputError(f"the {self.volume_word} is not above zero", "", "check the numbers")
        return Mixture({s: n / volume for s, n in amounts.items()}, volume)

    def free(self) -> list[str]:
        """Names of the unknowns that are not determined ('' for the volume)."""
        matrix, totals = self._system(self.statements)
        return [n for n, f in zip([*self.portions, ""], _solve(matrix, totals)[1], strict=True) if f]

    def _system(self, statements: list[_Statement]) -> tuple[np.ndarray, np.ndarray]:
        """Rows scaled to equal size; the volume in litres, so that numbers are similar to those of moles."""
        place = {name: i for i, name in enumerate([*self.portions, ""])}
        matrix, totals = np.zeros((len(statements), len(place))), np.zeros(len(statements))
        for i, statement in enumerate(statements):
            for name, value in statement.row.items():
                matrix[i, place[name]] = _first(value) * (1e-3 if name == "" else 1.0)
            size = np.max(np.abs(matrix[i])) or 1.0
            matrix[i] /= size
            totals[i] = _first(statement.total) / size
        return matrix, totals

    def _contradiction(self) -> tuple[str, str, str]:
        suspects = []
        for i, statement in enumerate(self.statements):
            others = [s for j, s in enumerate(self.statements) if j != i]
            matrix, totals = self._system(others)
            if _left(matrix, _solve(matrix, totals)[0], totals) <= _CLOSE:
                suspects.append(statement.text)
        message = "; ".join(suspects or [s.text for s in self.statements])
        for kind in ("mole fraction", "mass fraction"):
            parts = [p.value.si for p in self.portions.values() if p.kind == kind and p.value is not None]
            if len(parts) == len(self.portions) and abs(sum(parts) - 1) > _CLOSE:
                message = (
                    f"the {kind}s add up to {sum(parts):.6g}: {', '.join(f'{s} {p}' for s, p in self.portions.items())}"
                )
                return message, "", "correct them, or write 'rest' for one of them"
        return f"the specifications contradict each other: {message}", "", "leave one of these out, or correct it"

    def _missing(self, free: list[str]) -> tuple[str, str, str]:
        words = ", ".join(name or f"the {self.volume_word}" for name in free)
        known = "; ".join(s.text for s in self.statements)
        if free == [""]:
            advice = f"give the {self.volume_word}, a density, P and T of a gas, or the density of each species"
        elif len(free) == len(self.portions) + 1:
            advice = "give " + ("flow='12 m3/h' (or in kmol/h or t/h)" if self.flowing else "the volume, or a total")
        else:
            advice = f"specify {next(n for n in free if n)}, or give another total"
        return f"{words} is not determined by: {known}", "", advice


def _first(number: Number) -> float:
    """The value of a number in its first case."""
    return float(np.ravel(value_of(number))[0])


def _less(name: str, weights: Mapping[str, float], fraction: Number) -> dict[str, Number]:
    """w_i n_i - fraction * sum(w n) = 0."""
    row = {other: -fraction * weight for other, weight in weights.items()}
    row[name] += weights[name]
    return row


def _solve(matrix: np.ndarray, totals: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The least-squares solution, shape (unknowns,), and for each unknown whether it is undetermined."""
    u, sizes, vt = np.linalg.svd(matrix, full_matrices=True)
    rank = int(np.sum(sizes > 1e-11 * max(float(sizes[0]) if len(sizes) else 0.0, 1e-300)))
    solution = vt[:rank].T @ ((u[:, :rank].T @ totals) / sizes[:rank])
    return solution, np.any(np.abs(vt[rank:]) > 1e-9, axis=0) if rank < matrix.shape[1] else np.zeros(rank, dtype=bool)


def _left(matrix: np.ndarray, solution: np.ndarray, totals: np.ndarray) -> float:
    """The largest residual of a specification, relative to its parts."""
    # the undetermined part is round-off: rows of nothing else count against the whole
    whole = float(np.max(np.abs(solution), initial=0.0))
    size = np.abs(matrix) @ np.abs(solution) + np.abs(totals) + 1e-6 * whole
    off = np.abs(matrix @ solution - totals)
    return float(np.max(np.divide(off, size, out=np.zeros_like(off), where=size > 0), initial=0.0))
