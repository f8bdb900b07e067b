"""The fluid of a vessel: volume and enthalpy of any amounts (or flows) of the species, as symbols.

Volume and enthalpy are homogeneous of degree one in the amounts, so the same expressions serve the contents of a tank,
the flow along a tube (molar flows give volumetric flow and enthalpy flow) and the feed.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import sympy as sp

from molino.core.chemistry.formula import TEMPERATURE
from molino.core.chemistry.heat_capacity import STANDARD_TEMPERATURE
from molino.core.chemistry.numeric_function import NumericFunction
from molino.core.frozen import Frozen
from molino.core.symbols import Quantity, Role
from molino.core.thermo.cubic import FORMS, CubicEquation
from molino.core.thermo.energy import CAPACITY, Energy
from molino.core.thermo.excess_gibbs import ActivityNumbers, ExcessGibbs
from molino.core.unit_tables import GAS_CONSTANT

MODELS = ("constant density", "additive volumes", "ideal gas", *FORMS)
"""The volume rules."""


_MOLAR_VOLUME = Role("molar volume", "v[{}]", "v_{{{}}}", sign="positive")
_OF_STATE = Role("equation of state", "{}", sign="positive")
"""Definitions of a cubic equation of state."""
_SLOPE = Role("slope of the equation of state", "slope of {}")
STANDARD_PRESSURE = 1e5
"""Pressure of the standard state of gases in Pa."""


def molar_volume(species: str) -> Quantity:
    """The parameter of a species' molar volume in an additive liquid, at 298.15 K."""
    return _MOLAR_VOLUME(species)


class GasRoot(NumericFunction):
    """GasRoot(A, B, u, w): the largest compressibility factor of the cubic form with u = d1 + d2, w = d1 d2.

    Z^3 - (1 + B - u B) Z^2 + (A + (w - u) B^2 - u B) Z - (A B + w B^2 + w B^3) = 0; derivatives by the implicit
    function theorem.
    """

    nargs = 4

    @staticmethod
    def number(*args: float) -> float:
        """By Newton's method from above all roots, where the cubic is convex."""
        A, B, u, w = args
        two, one, zero = -(1 + B - u * B), A + (w - u) * B**2 - u * B, -(A * B + w * B**2 + w * B**3)
        Z = 1 + max(abs(two), abs(one), abs(zero))
        for _ in range(100):
            step = (((Z + two) * Z + one) * Z + zero) / ((3 * Z + 2 * two) * Z + one)
            Z -= step
            if abs(step) < 1e-15 * Z:
                break
        return Z

    def fdiff(self, argindex: int = 1) -> sp.Expr:
        A, B, u, w = self.args
        Z = self
        by_Z = 3 * Z**2 - 2 * (1 + B - u * B) * Z + A + (w - u) * B**2 - u * B
        if argindex == 1:
            return -(Z - B) / by_Z
        return -((u - 1) * Z**2 + (2 * (w - u) * B - u) * Z - A - 2 * w * B - 3 * w * B**2) / by_Z


@dataclass(frozen=True, eq=False)
class RealGas(Frozen):
    """The parameters of a cubic equation of state, by species, as a key."""

    form: str
    a: tuple[float, ...]
    b: tuple[float, ...]
    slope: tuple[float, ...]
    critical: tuple[float, ...]
    pairs: tuple[tuple[float, ...], ...]

    @classmethod
    def of(cls, equation: CubicEquation) -> RealGas:
        a, b, slope, critical, pairs = equation.numbers
        return cls(
            equation.form,
            tuple(a.tolist()),
            tuple(b.tolist()),
            tuple(slope.tolist()),
            tuple(critical.tolist()),
            tuple(tuple(row) for row in pairs.tolist()),
        )

    def roots(self, T: sp.Expr) -> list[sp.Expr]:
        """sqrt(a_i) over temperature."""
        return [
            math.sqrt(a) * (1 + m * (1 - sp.sqrt(T / critical)))
            for a, m, critical in zip(self.a, self.slope, self.critical, strict=True)
        ]


class Content:
    """Volume and enthalpy departure of some amounts (or flows) at T and P, with their derivatives.

    Intermediate quantities have their own symbols in `definitions`, so that expressions are short.
    """

    def __init__(self, phase: PhaseModel, n: Sequence[sp.Expr], T: sp.Expr, P: sp.Expr, place: str = "") -> None:
        self.phase, self.n, self.T, self.P, self.place = phase, n, T, P, place
        self.definitions: list[tuple[sp.Symbol, sp.Expr]] = []
        self.excess: ExcessGibbs | None = None
        if phase.real is not None:
            self._define(phase.real)
        if phase.activity is not None:
            self.excess = ExcessGibbs(phase.activity, n, T, place)
            self.definitions = self.excess.definitions

    def _define(self, real: RealGas) -> None:
        """N, N b, N^2 a with its derivatives in T, A = a P/(R T)^2, B = b P/(R T) and Z."""
        n, T, count = self.n, self.T, range(len(self.n))
        names = ("total amount", "N b", "N2 a", "slope of N2 a", "curvature of N2 a", "A", "B", "Z")
        self.N, self.D, self.S, self.S1, S2, A, B, self.Z = (self._own(name) for name in names)
        self.A, self.B, self.S2 = A, B, S2
        found: list[tuple[sp.Symbol, sp.Expr]] = []

        def defined(name: str, e: sp.Expr) -> sp.Expr:
            found.append((self._own(name), e))
            return found[-1][0]

        roots: list[list[sp.Expr]] = [[], [], []]
        for i, e in enumerate(real.roots(T)):
            for k, word in enumerate(("root", "root slope", "root curve")):
                roots[k].append(defined(f"{word} {i}", e.diff(T, k)))
        root, slope, curve = roots
        around = [
            [defined(f"attraction {k} {i}", sp.Add(*(n[j] * real.pairs[i][j] * row[j] for j in count))) for i in count]
            for k, row in enumerate(roots)
        ]  # sum_j n_j (1 - k_ij) sqrt(a_j), with its slopes in T
        self.s = [2 * root[i] * around[0][i] for i in count]
        self.s1 = [2 * (slope[i] * around[0][i] + root[i] * around[1][i]) for i in count]
        second = [2 * (curve[i] * around[0][i] + 2 * slope[i] * around[1][i] + root[i] * around[2][i]) for i in count]
        RT = GAS_CONSTANT * T
        one, two = FORMS[real.form].d
        found += [
            (self.N, sp.Add(*n)),
            (self.D, sp.Add(*(x * b for x, b in zip(n, real.b, strict=True)))),
            (self.S, sp.Add(*(x * s for x, s in zip(n, self.s, strict=True))) / 2),
            (self.S1, sp.Add(*(x * s for x, s in zip(n, self.s1, strict=True))) / 2),
            (S2, sp.Add(*(x * s for x, s in zip(n, second, strict=True))) / 2),
            (A, self.S * self.P / (self.N * RT) ** 2),
            (B, self.D * self.P / (self.N * RT)),
            (self.Z, GasRoot(A, B, sp.Float(one + two), sp.Float(one * two))),
        ]
        self.definitions = found
        self._inner = {A: found[-3][1], B: found[-2][1]}
        root_of = found[-1][1]
        self._root_slopes = {
            A: defined("Z by A", root_of.fdiff(1).xreplace({root_of: self.Z})),
            B: defined("Z by B", root_of.fdiff(2).xreplace({root_of: self.Z})),
        }
        log = sp.log((self.Z + one * B) / (self.Z + two * B)) / (one - two)
        self.attraction = defined("attraction", A / B * log)
        self.repulsion = defined("repulsion", sp.log(self.Z - B))
        self._departure = self.N * RT * (self.Z - 1) + (T * self.S1 - self.S) / self.D * log
        self._volume = self.Z * self.N * RT / self.P
        self._slopes: dict[str, sp.Symbol] = {}
        warmer = {self.S: self.S1, self.S1: S2}
        for word, e in (("volume", self._volume), ("departure", self._departure)):
            for i in count:
                self._keep(f"{word} by {i}", self._by_amount(e, i))
            self._keep(f"{word} by T", self._total(e, warmer, T))
        self._keep("departure by P", self._total(self._departure, {}, self.P))

    def _keep(self, name: str, slope: sp.Expr) -> None:
        """A derivative with its own symbol."""
        self._slopes[name] = _SLOPE(self.place + name)
        self.definitions.append((self._slopes[name], slope))

    def _own(self, name: str) -> sp.Symbol:
        """A new symbol."""
        return _OF_STATE(self.place + name)

    def _total(self, e: sp.Expr, slopes: dict[sp.Symbol, sp.Expr], along: sp.Expr | None = None) -> sp.Expr:
        """The total derivative of an expression, from those of N, N b, N^2 a and its derivative in T."""

        def plain(f: sp.Expr) -> sp.Expr:
            own = f.diff(along) if along is not None and along.is_Symbol else sp.Integer(0)
            return own + sp.Add(*(f.diff(symbol) * slope for symbol, slope in slopes.items()))

        reduced = {symbol: plain(f) for symbol, f in self._inner.items()}
        by_Z = sp.Add(*(self._root_slopes[symbol] * slope for symbol, slope in reduced.items()))
        return plain(e) + sp.Add(*(e.diff(symbol) * slope for symbol, slope in reduced.items())) + e.diff(self.Z) * by_Z

    def _by_amount(self, e: sp.Expr, i: int) -> sp.Expr:
        assert self.phase.real is not None
        slopes = {
            self.N: sp.Integer(1),
            self.D: sp.Float(self.phase.real.b[i]),
            self.S: self.s[i],
            self.S1: self.s1[i],
        }
        return self._total(e, slopes)

    @property
    def volume(self) -> sp.Expr:
        """In m^3 (of flows in m^3/s); not used if the volume is a state."""
        if self.phase.model == MODELS[1]:
            return sp.Add(*(x * self.phase.molar_volume(i, self.T) for i, x in enumerate(self.n)))
        return self._volume if self.phase.real is not None else self.T / self.P * GAS_CONSTANT * sp.Add(*self.n)

    def volume_by_amount(self, i: int) -> sp.Expr:
        """Partial molar volume."""
        if self.phase.model == MODELS[1]:
            return self.phase.molar_volume(i, self.T)
        return self._slopes[f"volume by {i}"] if self.phase.real is not None else self.T / self.P * GAS_CONSTANT

    @property
    def volume_by_T(self) -> sp.Expr:
        if self.phase.model == MODELS[1]:
            by_T = [self.phase.molar_volume(i, TEMPERATURE).diff(TEMPERATURE) for i in range(len(self.n))]
            return sp.Add(*(x * e.xreplace({TEMPERATURE: self.T}) for x, e in zip(self.n, by_T, strict=True)))
        if self.phase.real is None:
            return GAS_CONSTANT / self.P * sp.Add(*self.n)
        return self._slopes["volume by T"]

    @property
    def departure(self) -> sp.Expr:
        """Enthalpy less that of the ideal state in J (of flows in W)."""
        if self.excess is not None:
            return self.excess.enthalpy
        return self._departure if self.phase.real is not None else sp.Integer(0)

    def departure_by_amount(self, i: int) -> sp.Expr:
        if self.excess is not None:
            return self.excess.enthalpy_by_amount(i)
        return self._slopes[f"departure by {i}"] if self.phase.real is not None else sp.Integer(0)

    @property
    def departure_by_T(self) -> sp.Expr:
        if self.excess is not None:
            return self.excess.enthalpy_by_T
        if self.phase.real is None:
            return sp.Integer(0)
        return self._slopes["departure by T"]

    @property
    def departure_by_P(self) -> sp.Expr:
        return self._slopes["departure by P"] if self.phase.real is not None else sp.Integer(0)

    def log_coefficient(self, i: int) -> sp.Expr:
        """ln of the fugacity coefficient of a species in a gas, or of its activity coefficient in a liquid.

        ln phi_i = b_i/b (Z - 1) - ln(Z - B) - A/B (2 sum_j x_j a_ij/a - b_i/b) ln((Z + d_1 B)/(Z + d_2 B))/(d_1 - d_2)
        (G. Soave, Chem. Eng. Sci. 27 (1972) 1197).
        """
        if self.excess is not None:
            return self.excess.log_coefficient(i)
        real = self.phase.real
        if real is None:
            return sp.Integer(0)
        b = sp.Float(real.b[i]) * self.N / self.D
        return b * (self.Z - 1) - self.repulsion - (self.s[i] * self.N / self.S - b) * self.attraction

    def log_activity(self, i: int) -> sp.Expr:
        """ln of the activity of a species: f/P0 with P0 = 1 bar of a gas, x gamma of a liquid."""
        share = sp.log(self.n[i] / sp.Add(*self.n)) + self.log_coefficient(i)
        return share + sp.log(self.P / STANDARD_PRESSURE) if self.phase.is_gas else share

    def written_out(self, e: sp.Expr) -> sp.Expr:
        """An expression without the symbols of `definitions`: for constant streams."""
        for symbol, definition in reversed(self.definitions):
            e = e.xreplace({symbol: definition})
        return e


@dataclass(frozen=True, eq=False)
class PhaseModel(Frozen):
    """The rules for volume and enthalpy from amounts; `energy` is None if enthalpies are unknown."""

    species: tuple[str, ...]
    model: str
    energy: Energy | None = None
    real: RealGas | None = None
    activity: ActivityNumbers | None = None
    expansions: tuple[sp.Expr, ...] = ()
    """Of a liquid whose volumes change with temperature: the change for each species from 298.15 K."""

    def molar_volume(self, i: int, T: sp.Expr) -> sp.Expr:
        """Of a species in an additive liquid."""
        own = molar_volume(self.species[i])
        return own * self.expansions[i].xreplace({TEMPERATURE: T}) if self.expansions else own

    @property
    def is_gas(self) -> bool:
        return self.model not in MODELS[:2]

    @property
    def mixes_with_heat(self) -> bool:
        """Whether its enthalpy differs from the sum of those of its species."""
        return self.real is not None or self.activity is not None

    @property
    def carries_volume(self) -> bool:
        """Whether the volume is a state and does not follow from the amounts (a liquid of constant density)."""
        return self.model == MODELS[0]

    def enthalpy(self, content: Content, carried: sp.Expr, written_out: bool = False) -> sp.Expr:
        """Enthalpy of a content in J (of molar flows in W), with `carried` the volume (flow) of a liquid."""
        assert self.energy is not None
        held = sp.Add(*(x * self.energy.enthalpy(i, content.T) for i, x in enumerate(content.n)))
        if self.energy.carried:
            held += CAPACITY * carried * (content.T - sp.Float(STANDARD_TEMPERATURE))
        return held + (content.written_out(content.departure) if written_out else content.departure)

    def stream_enthalpy(self, n: Sequence[sp.Expr], T: sp.Expr, P: sp.Expr, carried: sp.Expr) -> sp.Expr:
        """Enthalpy of a constant stream, without definitions."""
        return self.enthalpy(Content(self, n, T, P), carried, written_out=True)

    def sensible_enthalpy(self, n: Sequence[sp.Expr], T: sp.Expr, start: sp.Expr, carried: sp.Expr) -> sp.Expr:
        """The heat that brings the amounts n from one temperature to another, without reaction, in the ideal state."""
        assert self.energy is not None
        held = sp.Add(*(x * (self.energy.rise(i, T) - self.energy.rise(i, start)) for i, x in enumerate(n)))
        return held + CAPACITY * carried * (T - start) if self.energy.carried else held

    def capacity(self, content: Content, carried: sp.Expr) -> sp.Expr:
        """Heat capacity of a content at constant pressure in J/K (of molar flows in W/K)."""
        assert self.energy is not None
        held = sp.Add(*(x * self.energy.capacity(i, content.T) for i, x in enumerate(content.n)))
        return (held + CAPACITY * carried if self.energy.carried else held) + content.departure_by_T
