"""How much of what: any consistent mixture of concentrations, flows, fractions, ratios and partial pressures.

Everything that is specified of a mixture is linear in the amounts (or molar flows) of its species and in its volume (or
volumetric flow): a concentration says n_i - c V = 0, a mole fraction n_i - x sum(n) = 0, a partial pressure
n_i R T - p V = 0, a total sum(n) = N. The statements are solved together; what is missing is the null space of their
matrix, what contradicts is left over.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from molino.core import units
from molino.core.chemistry.species import Species
from molino.core.dual import Number, solve as solve_numbers, value_of
from molino.core.errors import Faults, InputError, UnitError, nearest
from molino.core.frozen import content
from molino.core.units import GAS_CONSTANT, Value

_RATIO = re.compile(
    r"\s*(?P<number>[-+.\deE]+)\s*(?P<top>\w+)?\s+per\s+(?:(?P<bottom>k?mol|k?g|t|lb)\s+)?(?P<of>\S+)\s*"
)
_PERCENT = re.compile(r"\s*(?P<number>[-+.\deE]+)\s*(?P<of>mol|wt|mass|vol)?\s*-?%\s*")
_REST = "rest"
_CLOSE = 1e-6
"""How far statements may disagree, relative to their size, and still say the same."""


@dataclass(frozen=True)
class Portion:
    """How much of one species, as it was written: its kind, its number, and the species it is counted by."""

    text: str
    kind: str
    value: Value | None = None
    of: str | None = None
    mass: tuple[bool, bool] = (False, False)
    """For a ratio: whether the species and the one it is counted by go by mass."""

    @property
    def extensive(self) -> bool:
        """Whether it says how much there is, and not only in what proportion."""
        return self.kind in ("amount", "molar flow", "mass", "mass flow")

    @property
    def by_mass(self) -> bool:
        """Whether a molar mass is needed to read it."""
        return "mass" in self.kind or any(self.mass)

    def with_number(self, number: float) -> Portion:
        """Another number in SI, in the same form: a fraction stays a fraction, "3 per A" a ratio to A."""
        value = Value(number, None if self.value is None else self.value.unit)
        top, bottom = ("kg" if by_mass else "mol" for by_mass in self.mass)
        text = {
            "mole fraction": f"{number:.6g} mol/mol",
            "mass fraction": f"{number:.6g} kg/kg",
            "ratio": f"{number:.6g} {top} per {bottom} {self.of}",
        }.get(self.kind, str(value))
        return replace(self, text=text, value=value)

    def __str__(self) -> str:
        return str(self.value) if self.kind in units.SI_UNITS and self.value is not None else self.text


def read_portion(given: Any, flowing: bool) -> Portion:
    """Read one entry of a feed or charge; a bare number is a concentration in mol/m^3.

    Raises
    ------
    InputError
        For what is no way of saying how much.
    """
    if isinstance(given, Portion):
        return given
    if isinstance(given, str) and (parts := units.split_deviation(given)) is not None:
        nominal, number, deviation = parts
        portion = read_portion(nominal, flowing)
        if portion.value is None or number <= 0:
            raise InputError(f"'{given}' has a standard deviation and no number above zero", "", "give its number")
        value = replace(portion.value, deviation=deviation * portion.value.si / number)
        return replace(portion, text=given.strip(), value=value)
    if isinstance(given, str):
        text = given.strip()
        if text == _REST:
            return Portion(text, _REST)
        if match := _RATIO.fullmatch(given):
            return _ratio(text, match)
        if match := _PERCENT.fullmatch(given):
            if match["of"] in (None, "vol"):
                advice = "write mol% or wt%" + (" (of a gas mol% is vol%)" if match["of"] else "")
                raise InputError(f"'{text}' does not say of what", "", advice)
            kind = "mole fraction" if match["of"] == "mol" else "mass fraction"
            return Portion(text, kind, Value(_fraction(float(match["number"]) / 100, text)))
    value = units.read(given)
    if value.unit is not None:
        plain = value.unit.replace(" ", "")
        if plain in ("mol/mol", "kmol/kmol", "kg/kg", "g/g"):
            kind = "mole fraction" if "mol" in plain else "mass fraction"
            return Portion(str(given), kind, Value(_fraction(value.si, str(given))))
    total, mass = ("molar flow", "mass flow") if flowing else ("amount", "mass")
    for kind in ("concentration", total, mass, "density", "pressure"):
        same = value.unit is None or units.unit(value.unit).dimension == units.unit(units.SI_UNITS[kind]).dimension
        if same:
            read = units.positive(value, kind, "", zero=True)
            return Portion(
                str(given), {"density": "mass concentration", "pressure": "partial pressure"}.get(kind, kind), read
            )
    advice = f"write it like '0.35 mol/L', '{units.EXAMPLES[total]}', '30 mol%', '6 per xylose', '1.2 bar' or 'rest'"
    raise UnitError(f"'{given}' is neither a concentration nor {units.article(total)}, nor another share", "", advice)


def _fraction(number: float, text: str) -> float:
    if not 0 <= number <= 1:
        raise InputError(f"'{text}' is no fraction", "", "a fraction lies between 0 and 1 (0 and 100 %)")
    return number


def _ratio(text: str, match: re.Match[str]) -> Portion:
    """'6 per xylose', '6 mol per mol xylose', '2 kg per kg water'."""
    factors, mass = [], []
    for unit in (match["top"] or "mol", match["bottom"] or match["top"] or "mol"):
        dimension = units.unit(unit).dimension
        if dimension not in (units.unit("mol").dimension, units.unit("kg").dimension):
            raise UnitError(f"'{text}': a ratio is of amounts or masses", "", "write it like '6 mol per mol xylose'")
        factors.append(units.unit(unit).factor)
        mass.append(dimension == units.unit("kg").dimension)
    number = units.positive(match["number"], "number", "", zero=True).si
    return Portion(text, "ratio", Value(number * factors[0] / factors[1]), match["of"], (mass[0], mass[1]))


@dataclass(frozen=True)
class Mixture:
    """Concentrations by species and volume (or volumetric flow), in SI: floats, or numbers of any kind."""

    concentrations: dict[str, Number]
    volume: Number


@dataclass(frozen=True)
class _Statement:
    """One specification: coefficients of amounts by species and of the volume (''), and what they add up to."""

    text: str
    row: dict[str, Number]
    total: Number = 0.0


class Statements:
    """All that is specified of a mixture."""

    def __init__(self, portions: Mapping[str, Portion], species: Mapping[str, Species] | None, flowing: bool) -> None:
        self.portions, self.species, self.flowing = portions, species, flowing
        self.statements: list[_Statement] = []
        self.faults = Faults()
        self.volume_word = "volumetric flow" if flowing else "volume"

    def molar_mass(self, name: str) -> float:
        """In kg/mol; 1 in a dry run without species, with which nothing is concluded."""
        if self.species is None or name not in self.species:
            return 1.0
        with self.faults.at():
            return float(self.species[name].require("molar_mass", "what is given by mass").si)
        return 1.0

    def masses(self) -> dict[str, float]:
        return {name: self.molar_mass(name) for name in self.portions}

    def add(self, text: str, row: Mapping[str, Number], total: Number = 0.0) -> None:
        self.statements.append(_Statement(text, dict(row), total))

    def add_portions(self, T: Number | None) -> None:
        """What the entries say one by one."""
        everything = dict.fromkeys(self.portions, 1.0)
        for name, portion in self.portions.items():
            if portion.kind == _REST:
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
            self.faults.add(name, f"'{portion.text}' counts by {of}, which is not in the mixture", nearest(of, known))
            return
        top, bottom = (self.molar_mass(s) if m else 1.0 for s, m in zip((name, of), portion.mass, strict=True))
        self.add(text, {name: top, of: -number * bottom})

    def add_total(self, value: Value) -> None:
        """A total volume, amount or mass (or flow of it)."""
        kinds = ("volumetric flow", "molar flow", "mass flow") if self.flowing else ("volume", "amount", "mass")
        dimension = units.unit(value.unit if value.unit is not None else units.SI_UNITS[kinds[0]]).dimension
        match next(k for k in kinds if units.unit(units.SI_UNITS[k]).dimension == dimension):
            case "volumetric flow" | "volume":
                self.add(f"{self.volume_word} {value}", {"": 1.0}, value.si)
            case "molar flow" | "amount":
                self.add(f"total {value}", dict.fromkeys(self.portions, 1.0), value.si)
            case _:
                self.add(f"total {value}", self.masses(), value.si)

    def solve(self) -> Mixture:
        """The mixture; InputError lists what is missing, or what contradicts what."""
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
                rest = self.portions[name].kind == _REST
                message = (
                    "the rest is negative: the others add up to more than the whole" if rest else "comes out negative"
                )
                self.faults.add(name, message, "correct the fractions, or the total")
            found[name] = max(found[name], 0.0)
        given = [s.total for s in self.statements if s.row == {"": 1.0}]
        volume = given[0] if given else found[""]
        if volume <= 0:
            self.faults.add("", f"the {self.volume_word} comes out as {volume:g}", "check the numbers")
        self.faults.raise_any()
        exact = {
            s: p.value.si
            for s, p in self.portions.items()
            if p.value is not None and (p.kind == "concentration" or p.value.si == 0)
        }
        return Mixture({s: exact.get(s, found[s] / volume) for s in self.portions}, volume)

    def _solve_numbers(self) -> Mixture:
        """The mixture from columns of numbers, or numbers with slopes: by as many statements as there are unknowns.

        Which of them are independent is reported from the first case; the rest follow.
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
            raise InputError("a species comes out negative", "", "correct the fractions, or the total")
        if not np.all(np.asarray(value_of(volume)) > 0):
            raise InputError(f"the {self.volume_word} does not come out above zero", "", "check the numbers")
        return Mixture({s: n / volume for s, n in amounts.items()}, volume)

    def free(self) -> list[str]:
        """Names of what cannot be worked out ('' for the volume), before anything is concluded from it."""
        matrix, totals = self._system(self.statements)
        return [n for n, f in zip([*self.portions, ""], _solve(matrix, totals)[1], strict=True) if f]

    def _system(self, statements: list[_Statement]) -> tuple[np.ndarray, np.ndarray]:
        """Rows of one size each; the volume counts in litres, which are as many as there are moles."""
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
            advice = f"say more of {next(n for n in free if n)}, or give another total"
        return f"{words} cannot be worked out from: {known}", "", advice


def _first(number: Number) -> float:
    """The value of a number in its first case."""
    return float(np.ravel(value_of(number))[0])


def _less(name: str, weights: Mapping[str, float], fraction: Number) -> dict[str, Number]:
    """w_i n_i - fraction * sum(w n) = 0."""
    row = {other: -fraction * weight for other, weight in weights.items()}
    row[name] += weights[name]
    return row


def _solve(matrix: np.ndarray, totals: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The least-squares solution, shape (unknowns,), and for each unknown whether it is left open."""
    u, sizes, vt = np.linalg.svd(matrix, full_matrices=True)
    rank = int(np.sum(sizes > 1e-11 * max(float(sizes[0]) if len(sizes) else 0.0, 1e-300)))
    solution = vt[:rank].T @ ((u[:, :rank].T @ totals) / sizes[:rank])
    return solution, np.any(np.abs(vt[rank:]) > 1e-9, axis=0) if rank < matrix.shape[1] else np.zeros(rank, dtype=bool)


def _left(matrix: np.ndarray, solution: np.ndarray, totals: np.ndarray) -> float:
    """How far the worst statement is from holding, relative to its parts."""
    # what is left open comes out as round-off: rows of nothing else count against the whole
    whole = float(np.max(np.abs(solution), initial=0.0))
    size = np.abs(matrix) @ np.abs(solution) + np.abs(totals) + 1e-6 * whole
    off = np.abs(matrix @ solution - totals)
    return float(np.max(np.divide(off, size, out=np.zeros_like(off), where=size > 0), initial=0.0))


def resolve(
    portions: Mapping[str, Portion],
    totals: Iterable[Value],
    species: Mapping[str, Species] | None,
    flowing: bool,
    T: Value | None = None,
    P: Value | None = None,
    density: Value | None = None,
    additive: bool = False,
) -> Mixture:
    """Work a mixture out from all that is specified of it.

    Parameters
    ----------
    portions : mapping of species to Portion
    totals : volume, amount and mass (or the flows of them) that are given
    species : mapping of name to Species, or None
        For molar masses, and for molar volumes of liquids where nothing else gives the volume. Without it what needs
        it is passed over.
    flowing : bool
        Whether flows or amounts are counted.
    T, P : Value, optional
        With P it is an ideal gas: P V = sum(n) R T.
    density : Value, optional
        Of the whole mixture.
    additive : bool
        Whether the volumes of the pure liquids must add up to that of the mixture.

    Raises
    ------
    InputError
        With what is known and missing, or what contradicts what.
    """
    totals = list(totals)
    outright = P is None and all(p.kind == "concentration" for p in portions.values())
    by_volume = len(totals) == 1 and "[length]" in units.unit(totals[0].unit or "m^3").dimension
    if outright and not additive and (by_volume or not (totals or flowing)):
        volume = totals[0].si if totals else 1.0  # 1 m^3 as a basis
        return Mixture({s: p.value.si for s, p in portions.items() if p.value is not None}, volume)
    statements = _gathered(portions, totals, species, flowing, T, P, density)
    statements.faults.raise_any()
    if species is not None and additive:
        for name in portions:
            with statements.faults.at():
                species[name].require("molar_volume", "an additive liquid")
        statements.faults.raise_any()
    if species is not None and (additive or "" in statements.free()):
        known = {s: one for s in portions if (one := species.get(s)) is not None and one.has_molar_volume}
        if len(known) == len(portions):
            volumes = {s: _molar_volume(one, T) for s, one in known.items()}
            statements.add("volumes of the pure liquids", {**{s: -v for s, v in volumes.items()}, "": 1.0})
    return statements.solve()


def _gathered(
    portions: Mapping[str, Portion],
    totals: Sequence[Value],
    species: Mapping[str, Species] | None,
    flowing: bool,
    T: Value | None,
    P: Value | None,
    density: Value | None,
) -> Statements:
    """Everything specified of the mixture itself."""
    statements = Statements(portions, species, flowing)
    for total in totals:
        statements.add_total(total)
    statements.add_portions(T.si if T is not None else None)
    if density is not None:
        molar = density.unit and units.unit(density.unit).dimension == units.unit("mol/m^3").dimension
        each = dict.fromkeys(portions, 1.0) if molar else statements.masses()
        statements.add(f"density {density}", {**each, "": -density.si})
    if P is not None:
        if T is None:
            statements.faults.add("", "a pressure is given, and no temperature", "give T of the gas")
        else:
            moles = dict.fromkeys(portions, GAS_CONSTANT * T.si)
            statements.add(f"pressure {P} at {T}", {**moles, "": -P.si})
    if not flowing and not totals and not any(p.extensive for p in portions.values()):
        statements.add("1 m³ as a basis", {"": 1.0}, 1.0)
    return statements


def _molar_volume(species: Species, T: Value | None) -> Number:
    asker = "the volume of the mixture"
    own = float(species.require("molar_volume", asker).si)
    if species.rackett_factor is None:
        return own
    if T is None:
        raise InputError(f"the volume of {species.name} changes with temperature, and none is given", "", "give T")
    return own * species.expansion(T.si)


class Contents(Mapping[str, Portion]):
    """What is in a charge or feed: each species with how much of it, as it was written.

    Parameters
    ----------
    given : mapping of species to quantity
        "0.35 mol/L", "20 g/L", "4 kmol/h" (or "2 kmol" in a charge), "300 kg/h", "30 mol%", "0.3 mol/mol", "12 wt%",
        "6 per xylose", "2 kg per kg water", "1.2 bar" or "rest"; a bare number is a concentration in mol/m^3.
    flowing : bool
        Whether flows or amounts are counted.
    place : str
        For messages.
    pressure : Value, optional
        Of the gas that was taken over as concentrations: says that it is one, and in which unit to show pressures.

    Raises
    ------
    InputError
        With everything that is wrong.
    """

    def __init__(self, given: Mapping[str, Any], flowing: bool, place: str, pressure: Value | None = None) -> None:
        faults = Faults()
        self._portions: dict[str, Portion] = {}
        self.flowing, self.place, self.pressure = flowing, place, pressure
        if not isinstance(given, Mapping):
            raise InputError(f"{given!r} does not say how much of what", place, "write {'A': '0.35 mol/L', ...}")
        for species, number in given.items():
            with faults.at(f"{place}, {species}"):
                self._portions[species] = read_portion(number, flowing)
        rests = [s for s, p in self._portions.items() if p.kind == _REST]
        if len(rests) > 1:
            faults.add(place, f"{' and '.join(rests)} are both the rest", "only one species can be")
        faults.raise_any()

    def __getitem__(self, species: str) -> Portion:
        return self._portions[species]

    def __iter__(self) -> Iterator[str]:
        return iter(self._portions)

    def __len__(self) -> int:
        return len(self._portions)

    @property
    def is_gas(self) -> bool:
        """Whether partial pressures are given, or it was taken over from a gas."""
        return self.pressure is not None or any(p.kind == "partial pressure" for p in self.values())

    def with_numbers(self, numbers: Mapping[str, Number]) -> Contents:
        """The same with the numbers of some portions replaced, by columns or by numbers with slopes."""
        if not numbers:
            return self
        found = Contents(self, self.flowing, self.place, self.pressure)
        for species, number in numbers.items():
            portion = self._portions[species]
            assert portion.value is not None
            found._portions[species] = replace(portion, value=Value(number, portion.value.unit))
        return found

    def __hash__(self) -> int:
        return hash((content(self._portions), self.flowing, self.pressure))

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Contents) and hash(self) == hash(other) and self._portions == other._portions

    def with_portion(self, species: str, given: Any) -> Contents:
        """The same with another quantity of one species."""
        return Contents({**self, species: given}, self.flowing, self.place, self.pressure)

    @property
    def extensive(self) -> list[str]:
        """Species given by amount, mass, or the flow of it."""
        return [s for s, p in self.items() if p.extensive]

    def mixture(
        self,
        totals: Iterable[Value | None],
        species: Mapping[str, Species] | None,
        T: Value | None = None,
        P: Value | None = None,
        density: Value | None = None,
        additive: bool = False,
    ) -> Mixture:
        """Work the mixture out; see `resolve`."""
        try:
            return resolve(self, [t for t in totals if t is not None], species, self.flowing, T, P, density, additive)
        except InputError as error:
            raise InputError(fault.within(self.place) for fault in error.faults) from error

    def waits_for_species(self, totals: Sequence[Value], T: Value | None, P: Value | None) -> bool:
        """Whether molar masses are needed, or the volumes of the pure liquids, since only the volume is left open."""
        if any(p.by_mass for p in self.values()):
            return True
        if any("[mass]" in units.unit(t.unit).dimension for t in totals if t.unit is not None):
            return True
        if all(p.kind == "concentration" for p in self.values()):
            return False
        statements = _gathered(self, totals, None, self.flowing, T, P, None)
        return P is None and not statements.faults.found and statements.free() == [""]

    def settled(self, mixture: Mixture) -> dict[str, Any]:
        """Each species as a concentration: as it was given where it was one, otherwise worked out."""
        return {
            s: p.value if p.kind == "concentration" else Value(mixture.concentrations[s], "mol/m^3")
            for s, p in self.items()
        }

    def given(self) -> list[tuple[str, Value | None]]:
        """Every value with its kind, for choosing the units of results."""
        kinds = {"partial pressure": "pressure", "mass concentration": "density"}
        named = [(kinds.get(p.kind, p.kind), p.value) for p in self.values()] + [("pressure", self.pressure)]
        return [(kind, value) for kind, value in named if kind in units.SI_UNITS and value and value.si]

    def __str__(self) -> str:
        return ", ".join(f"{species} {portion}" for species, portion in self.items())
