"""Models of flow, each stated by its transfer function.

What leaves a vessel through which a flow of one tracer passes is G(s) times what enters, in the Laplace transform; E(t)
is the inverse of G, F(t) that of G/s, the moments are the derivatives of ln G at zero, and the conversion of a reaction
of first order is 1 - G(k). Closed forms stand where there are any.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any, ClassVar, Self

import numpy as np
from scipy import special

from molino.core import units
from molino.core.errors import Faults, InputError
from molino.core.frozen import Frozen, FrozenMapping, settle
from molino.core.mixing.distribution import ResidenceTimeDistribution
from molino.core.mixing.inversion import FEW, MANY, inverted
from molino.core.printing import Printed
from molino.core.schema import option, quantity, read_fields
from molino.core.units import Display, Value

_CIRCLE = 32
"""Points of the circle on which the derivatives of ln G at zero are worked out (Cauchy's formula)."""
_CLOSE = 1e-9
_NARROW = 12.0
"""Tanks in series that are as narrow as a peak that takes many terms to invert."""


@dataclass(frozen=True)
class Range:
    """A parameter of a model: its bounds, where a fit begins, and what it is."""

    low: float
    high: float
    guesses: tuple[float, ...]
    text: str
    is_share: bool = False
    """Whether it is fitted between its bounds as they are; otherwise by its logarithm."""


class FlowModel(Frozen, Printed):
    """Base of the models: numbers that are given, or found by a fit where they are None."""

    noun: ClassVar[str]
    ranges: ClassVar[Mapping[str, Range]] = {}
    """What a fit can find."""

    def transfer(self, s: np.ndarray, mean: float) -> np.ndarray:
        """G(s) with a space time of the volume passed through, in s; InputError while a number is not known."""
        self._require_known()
        return self._transfer(np.asarray(s, dtype=complex), mean)

    def _transfer(self, s: np.ndarray, mean: float) -> np.ndarray:
        raise NotImplementedError

    def _check(self, faults: Faults) -> None:
        read_fields(self, faults, self.noun)
        for name, known in self.free_ranges().items():
            value = getattr(self, name, None)
            if isinstance(value, Value) and not known.low <= value.si <= known.high:
                faults.add(self.noun, f"{name} = {value}", f"give a number from {known.low:g} to {known.high:g}")
        faults.raise_any()

    def free_ranges(self) -> Mapping[str, Range]:
        return self.ranges

    @property
    def unknown(self) -> tuple[str, ...]:
        """The numbers that are not given."""
        return tuple(name for name in self.free_ranges() if getattr(self, name) is None)

    def with_numbers(self, numbers: Mapping[str, float]) -> Self:
        return replace(self, **{name: Value(value, "") for name, value in numbers.items()})  # type: ignore[type-var]

    def number(self, name: str) -> float:
        return float(getattr(self, name).si)

    def _require_known(self) -> None:
        if self.unknown:
            message = f"{' and '.join(self.unknown)} of the model are not known"
            raise InputError(message, self.noun, "give them, or fit them to a test: mo.fit_flow_models(test, [...])")

    @property
    def bypassed(self) -> float:
        """The share that leaves at once."""
        return 0.0

    @property
    def _terms(self) -> int:
        """How many terms its inversion takes: by how narrow its narrowest peak is."""
        return MANY if self._sharpness > _NARROW else FEW

    @property
    def _sharpness(self) -> float:
        """How many tanks in series its narrowest peak is like."""
        return self.number("n") if "n" in self.free_ranges() else 1.0

    def E(self, times: np.ndarray, mean: float) -> np.ndarray:
        """E(t) in 1/s at times above zero, without what leaves at once."""
        return np.asarray(
            np.maximum(inverted(lambda s: self._transfer(s, mean) - self.bypassed, times, self._terms), 0.0)
        )

    def F(self, times: np.ndarray, mean: float) -> np.ndarray:
        """F(t) at times above zero."""
        return inverted(lambda s: self._transfer(s, mean) / s, times, self._terms)

    def cumulants(self, mean: float) -> np.ndarray:
        """Mean, variance and third moment about the mean in s, s^2, s^3: derivatives of ln G at s = 0."""
        radius = 0.02 / mean
        angle = np.exp(2j * np.pi * np.arange(_CIRCLE) / _CIRCLE)
        logs = np.log(self._transfer(radius * angle, mean))
        found = [math.factorial(k) * np.mean(logs * angle**-k).real / radius**k for k in (1, 2, 3)]
        return np.array([-found[0], found[1], -found[2]])

    def conversion(self, rate_constant: Any, mean: Any) -> float:
        """Of a reaction of first order, 1 - G(k): exact.

        Parameters
        ----------
        rate_constant : quantity
            "0.2 1/min".
        mean : time
            Space time of the volume passed through.

        Raises
        ------
        InputError
            If a number of the model is not known, or an argument is none.
        """
        k = units.positive(rate_constant, "transfer coefficient", "rate_constant", zero=True).si
        tau = units.positive(mean, "time", "mean").si
        return float(1 - self.transfer(np.array([k]), tau)[0].real)

    def distribution(self, mean: Any, show: Mapping[str, str] | None = None) -> ResidenceTimeDistribution:
        """Its distribution of residence times.

        Parameters
        ----------
        mean : time
            Space time of the volume passed through.
        show : mapping of kind to unit, optional

        Raises
        ------
        InputError
            If a number of the model is not known, or the mean is no time.
        """
        self._require_known()
        tau = units.positive(mean, "time", "mean")
        one, two, three = self.cumulants(tau.si)
        raw = np.array([one, two + one**2, three + 3 * one * two + one**3])
        times = self._times(tau.si)
        E = np.concatenate([[0.0], np.maximum(self.E(times[1:], tau.si), 0.0)])
        F = np.maximum.accumulate(np.concatenate([[self.bypassed], np.clip(self.F(times[1:], tau.si), 0.0, 1.0)]))
        E[0] = max(2 * E[1] - E[2], 0.0) if E[1] > 0.5 * E.max() else 0.0
        rate = float(E[-1] / max(1 - F[-1], 1e-300)) if F[-1] < 1 else math.nan
        shown = Display.of([("time", tau)], show or {}, True)
        return ResidenceTimeDistribution(times, E, F, raw, rate, notes={"model": str(self)}, display=shown)

    def _times(self, mean: float) -> np.ndarray:
        """Where E and F are evaluated, in s: from 0 to where next to nothing is left."""
        one, two, _ = self.cumulants(mean)
        last = one + 8 * math.sqrt(two)
        probe = np.linspace(last / 400, last, 400)
        F = np.clip(self.F(probe, mean), 0.0, 1.0)
        return np.linspace(0.0, float(probe[min(int(np.searchsorted(F, 0.9995)), 399)]), 601)

    def _given_text(self) -> str:
        given = [f"{name} {value}" for name in self.free_ranges() if (value := getattr(self, name)) is not None]
        return ", ".join(given)

    def __str__(self) -> str:
        text = self._given_text()
        return f"{self.noun}, {text}" if text else self.noun


@dataclass(frozen=True, eq=False)
class TanksInSeries(FlowModel):
    """Equal mixed tanks in series, of which there may be a fraction.

    E = (n/tau)^n t^(n-1) exp(-n t/tau)/Gamma(n) (B. A. Buffham, L. G. Gibilaro, AIChE J. 14 (1968) 805).

    Parameters
    ----------
    n : number, optional
        How many; found by a fit, if left out.

    Raises
    ------
    InputError
        If there are too few or too many.

    Examples
    --------
    >>> round(mo.TanksInSeries(2).conversion("0.1 1/min", "10 min"), 6)
    0.555556
    """

    noun: ClassVar[str] = "tanks in series"
    ranges: ClassVar[Mapping[str, Range]] = {"n": Range(0.3, 500.0, (1.0, 3.0, 10.0, 40.0), "number of tanks")}
    n: Any = quantity("number")

    def __post_init__(self) -> None:
        self._check(Faults())

    def _transfer(self, s: np.ndarray, mean: float) -> np.ndarray:
        n = self.number("n")
        return np.asarray(np.exp(-n * np.log(1 + s * mean / n)))

    def E(self, times: np.ndarray, mean: float) -> np.ndarray:
        """E(t) in 1/s."""
        n = self.number("n")
        x = np.asarray(times) * n / mean
        return np.asarray(np.exp((n - 1) * np.log(x) - x - special.gammaln(n)) * n / mean)

    def F(self, times: np.ndarray, mean: float) -> np.ndarray:
        """F(t)."""
        n = self.number("n")
        return np.asarray(special.gammainc(n, np.asarray(times) * n / mean))


BOUNDARIES = ("closed", "closed-open", "open")


@dataclass(frozen=True, eq=False)
class AxialDispersion(FlowModel):
    """Plug flow with axial dispersion.

    With Pe = u L/D and q = sqrt(1 + 4 s tau/Pe), for a vessel that is closed (no dispersion across its ends), open
    beyond its outlet, or open at both ends (tracer put into and seen in the stream)

        G = 4 q exp(Pe (1 - q)/2)/((1 + q)^2 - (1 - q)^2 exp(-q Pe)),
        G = 2 exp(Pe (1 - q)/2)/(1 + q),   G = exp(Pe (1 - q)/2)/q

    (E. T. van der Laan, Chem. Eng. Sci. 7 (1958) 187; O. Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999,
    chapter 13).

    Parameters
    ----------
    peclet : number, optional
        u L/D; found by a fit, if left out.
    boundaries : "closed", "closed-open" or "open"

    Raises
    ------
    InputError
        If the number is out of bounds, or there are no such boundaries.

    Examples
    --------
    >>> round(mo.AxialDispersion(20).conversion("0.1 1/min", "10 min"), 4)
    0.6158
    """

    noun: ClassVar[str] = "axial dispersion"
    ranges: ClassVar[Mapping[str, Range]] = {"peclet": Range(1e-3, 1e4, (1.0, 5.0, 20.0, 100.0), "u L/D")}
    peclet: Any = quantity("number")
    boundaries: str = option("closed", BOUNDARIES)

    def __post_init__(self) -> None:
        self._check(Faults())

    def _transfer(self, s: np.ndarray, mean: float) -> np.ndarray:
        Pe = self.number("peclet")
        q = np.sqrt(1 + 4 * s * mean / Pe)
        passed = np.exp(-2 * s * mean / (1 + q))  # Pe (1 - q)/2, without the loss of digits
        if self.boundaries == "open":
            return np.asarray(passed / q)
        if self.boundaries == "closed-open":
            return np.asarray(2 * passed / (1 + q))
        return np.asarray(4 * q * passed / ((1 + q) ** 2 - (1 - q) ** 2 * np.exp(-q * Pe)))

    @property
    def _sharpness(self) -> float:
        return self.number("peclet") / 2

    def __str__(self) -> str:
        text = self._given_text()
        return f"{self.noun}, {self.boundaries}" + (f", {text}" if text else "")


@dataclass(frozen=True, eq=False)
class LaminarFlow(FlowModel):
    """Laminar flow in a pipe without diffusion: E = tau^2/(2 t^3) from tau/2 on (K. G. Denbigh, J. Appl. Chem. 1 (1951)
    227).

    Examples
    --------
    >>> round(mo.LaminarFlow().conversion("0.1 1/min", "10 min"), 4)
    0.5568
    """

    noun: ClassVar[str] = "laminar flow"

    def _transfer(self, s: np.ndarray, mean: float) -> np.ndarray:
        x = s * mean / 2
        small = np.abs(x) < _CLOSE
        z = np.where(small, 1.0, x)
        far = np.abs(z) > 60
        w = np.where(far, 1.0, z)
        third = 0.5 * (np.exp(-w) * (1 - w) + w**2 * special.exp1(w))  # E_3
        asymptotic = np.exp(-z) / z * (1 - 3 / z + 12 / z**2 - 60 / z**3 + 360 / z**4 - 2520 / z**5)
        return np.where(small, 1 - 2 * x, 2 * np.where(far, asymptotic, third))

    def E(self, times: np.ndarray, mean: float) -> np.ndarray:
        """E(t) in 1/s."""
        t = np.asarray(times)
        return np.where(t < mean / 2, 0.0, mean**2 / (2 * np.maximum(t, mean / 2) ** 3))

    def F(self, times: np.ndarray, mean: float) -> np.ndarray:
        """F(t)."""
        t = np.asarray(times)
        return np.where(t < mean / 2, 0.0, 1 - mean**2 / (4 * np.maximum(t, mean / 2) ** 2))

    def cumulants(self, mean: float) -> np.ndarray:
        """The mean; variance and third moment are infinite."""
        return np.array([mean, math.inf, math.inf])

    def _times(self, mean: float) -> np.ndarray:
        begin = mean / 2  # E jumps here
        return np.concatenate([[0.0, np.nextafter(begin, 0.0)], begin * np.geomspace(1.0, 200.0, 600)])


@dataclass(frozen=True, eq=False)
class TankWithDeadZone(FlowModel):
    """A mixed tank, of whose volume a share is dead and past which a share of the flow goes.

    G = b + (1 - b)/(1 + s a tau/(1 - b)), with the share a of the volume that is mixed and the by-pass b (A. Cholette,
    L. Cloutier, Can. J. Chem. Eng. 37 (1959) 105). `mean` is the space time of the whole vessel.

    Parameters
    ----------
    active : number, optional
        Share of the volume that is mixed; found by a fit, if left out.
    bypass : number, optional
        Share of the flow that leaves at once; found by a fit, if left out.

    Raises
    ------
    InputError
        If a share is none.

    Examples
    --------
    >>> round(mo.TankWithDeadZone(0.8, 0.1).conversion("0.1 1/min", "10 min"), 4)
    0.4235
    """

    noun: ClassVar[str] = "tank with dead zone and by-pass"
    ranges: ClassVar[Mapping[str, Range]] = {
        "active": Range(0.02, 1.0, (0.9, 0.6), "share of the volume that is mixed", True),
        "bypass": Range(0.0, 0.95, (0.05, 0.3), "share of the flow that leaves at once", True),
    }
    active: Any = quantity("number")
    bypass: Any = quantity("number", sign="nonnegative")

    def __post_init__(self) -> None:
        self._check(Faults())

    @property
    def bypassed(self) -> float:
        """The share that leaves at once."""
        return self.number("bypass")

    def _transfer(self, s: np.ndarray, mean: float) -> np.ndarray:
        b = self.number("bypass")
        return np.asarray(b + (1 - b) / (1 + s * mean * self.number("active") / (1 - b)))


@dataclass(frozen=True, eq=False)
class StagnantZones(FlowModel):
    """Tanks in series, each in exchange with a zone through which nothing flows.

    G = (1 + a x + K (1 - a) x/((1 - a) x + K))^-n with x = s tau/n, the share a of the volume that is passed through,
    and K the exchange of each tank over the flow (H. A. Deans, SPE J. 3 (1963) 49; R. J. Adler, R. B. Hovorka, JACC
    Preprints 1961, 3).

    Parameters
    ----------
    n : number, optional
        How many tanks.
    active : number, optional
        Share of the volume that is passed through.
    exchange : number, optional
        Flow of exchange of a tank over the flow.

    Raises
    ------
    InputError
        If a number is out of bounds.

    Examples
    --------
    >>> round(mo.StagnantZones(5, 0.8, 0.1).distribution("10 min").relative_variance, 4)
    0.36
    """

    noun: ClassVar[str] = "exchange with stagnant zones"
    ranges: ClassVar[Mapping[str, Range]] = {
        "n": Range(0.5, 200.0, (2.0, 10.0), "number of tanks"),
        "active": Range(0.05, 1.0, (0.8,), "share of the volume passed through", True),
        "exchange": Range(1e-4, 100.0, (0.1, 1.0), "flow of exchange over the flow"),
    }
    n: Any = quantity("number")
    active: Any = quantity("number")
    exchange: Any = quantity("number")

    def __post_init__(self) -> None:
        self._check(Faults())

    def _transfer(self, s: np.ndarray, mean: float) -> np.ndarray:
        n, a, K = (self.number(name) for name in ("n", "active", "exchange"))
        x = s * mean / n
        return np.asarray(np.exp(-n * np.log(1 + a * x + K * (1 - a) * x / ((1 - a) * x + K))))


@dataclass(frozen=True, eq=False)
class Recycle(FlowModel):
    """Tanks in series with a recycle around them: G = g/(1 + R - R g), g = (1 + s tau/(n (1 + R)))^-n (J. C.
    Mecklenburgh, S. Hartland, The Theory of Backmixing, 1975, chapter 6).

    Parameters
    ----------
    ratio : number, optional
        What is returned over what flows through.
    n : number, optional
        How many tanks.

    Raises
    ------
    InputError
        If a number is out of bounds.

    Examples
    --------
    >>> round(mo.Recycle(2, 20).conversion("0.1 1/min", "10 min"), 4)
    0.5403
    """

    noun: ClassVar[str] = "recycle"
    ranges: ClassVar[Mapping[str, Range]] = {
        "ratio": Range(1e-3, 100.0, (0.3, 2.0), "what is returned over what flows through"),
        "n": Range(0.5, 300.0, (3.0, 20.0), "number of tanks"),
    }
    ratio: Any = quantity("number", sign="nonnegative")
    n: Any = quantity("number")

    def __post_init__(self) -> None:
        self._check(Faults())

    def _transfer(self, s: np.ndarray, mean: float) -> np.ndarray:
        R, n = self.number("ratio"), self.number("n")
        g = np.exp(-n * np.log(1 + s * mean / (n * (1 + R))))
        return np.asarray(g / (1 + R - R * g))


@dataclass(frozen=True, eq=False)
class Compartments(FlowModel):
    """Mixed tanks and tubes joined by flows, as one draws them.

    Parameters
    ----------
    tanks, tubes : mapping of name to share
        Of the whole volume; a share that is None is found by a fit, and one may be "rest".
    flows : mapping of name to mapping of name to share
        Where what leaves "in" and each compartment goes: {"in": {"bulk": 0.9, "out": "rest"}, "bulk": {"out": 1}}.
        Shares of one compartment add up to 1, one of them may be "rest", those that are None are found by a fit.
    tube_tanks : int
        How many tanks in series a tube is for E and F (for moments and conversions it is plug flow).

    Raises
    ------
    InputError
        With everything that is wrong in it.

    Examples
    --------
    >>> flows = {"in": {"bulk": 1}, "bulk": {"riser": 1}, "riser": {"out": 1}}
    >>> two = mo.Compartments({"bulk": 0.7}, {"riser": "rest"}, flows)
    >>> round(two.conversion("0.1 1/min", "10 min"), 4)
    0.5642
    """

    noun: ClassVar[str] = "compartments"
    tanks: Mapping[str, Any] = field(default_factory=dict)
    tubes: Mapping[str, Any] = field(default_factory=dict)
    flows: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    tube_tanks: int = option(60)

    def __post_init__(self) -> None:
        faults = Faults()
        names = [*self.tanks, *self.tubes]
        if len(names) != len(set(names)) or {"in", "out"} & set(names):
            faults.add(
                self.noun, "two compartments of one name, or one named 'in' or 'out'", "give each a name of its own"
            )
        volumes = self._shares({**self.tanks, **self.tubes}, "volumes", faults)
        flows = {}
        for start, ends in dict(self.flows).items():
            if start not in ("in", *names):
                faults.add(
                    self.noun, f"a flow comes from '{start}', which is no compartment", f"{', '.join(names)} or in"
                )
            for end in ends:
                if end not in ("out", *names):
                    faults.add(
                        self.noun, f"a flow goes to '{end}', which is no compartment", f"{', '.join(names)} or out"
                    )
            flows[start] = FrozenMapping(self._shares(dict(ends), f"flows out of {start}", faults))
        for start in ("in", *names):
            if start not in flows:
                faults.add(
                    self.noun, f"nothing says where what leaves {start} goes", f"flows={{'{start}': {{...: 1}}}}"
                )
        settle(
            self,
            tanks=FrozenMapping({n: volumes[n] for n in self.tanks if n in volumes}),
            tubes=FrozenMapping({n: volumes[n] for n in self.tubes if n in volumes}),
            flows=FrozenMapping(flows),
        )
        faults.raise_any()
        if not self.unknown:
            self._throughputs()

    def _shares(self, given: dict[str, Any], what: str, faults: Faults) -> dict[str, Any]:
        found: dict[str, Any] = {}
        for name, share in given.items():
            if share is None or share == "rest":
                found[name] = share
                continue
            with faults.at(f"{self.noun}, {what}"):
                found[name] = units.positive(share, "number", name, zero=True)
        rests = [n for n, share in found.items() if isinstance(share, str)]
        known = [share.si for share in found.values() if isinstance(share, Value)]
        open_ones = [n for n, share in found.items() if share is None]
        if len(rests) > 1 or (open_ones and not rests):
            faults.add(self.noun, f"{what}: what makes them a whole is not clear", "give one share as 'rest'")
        elif not open_ones and not faults.found:
            left = 1 - sum(known)
            if left < -1e-9 or (not rests and abs(left) > 1e-9):
                faults.add(
                    self.noun, f"{what} add up to {sum(known):g}", "give shares that add up to 1, or one as 'rest'"
                )
            elif rests:
                found[rests[0]] = Value(max(left, 0.0), "")
        return found

    def free_ranges(self) -> Mapping[str, Range]:
        span = Range(0.0, 1.0, (0.2, 0.5), "", True)
        found = {n: span for n, share in (*self.tanks.items(), *self.tubes.items()) if share is None}
        return found | {f"{a} to {b}": span for a, ends in self.flows.items() for b, x in ends.items() if x is None}

    @property
    def unknown(self) -> tuple[str, ...]:
        """The shares that are not given."""
        return tuple(self.free_ranges())

    def with_numbers(self, numbers: Mapping[str, float]) -> Self:
        def volumes(shares: Mapping[str, Any]) -> dict[str, Any]:
            return {n: numbers.get(n, share.si if isinstance(share, Value) else share) for n, share in shares.items()}

        flows = {
            a: {b: numbers.get(f"{a} to {b}", x.si if isinstance(x, Value) else x) for b, x in ends.items()}
            for a, ends in self.flows.items()
        }
        return replace(self, tanks=volumes(self.tanks), tubes=volumes(self.tubes), flows=flows)

    def _throughputs(self) -> tuple[list[str], np.ndarray, np.ndarray, np.ndarray]:
        """The names, the shares of each that go to each other, those that come in, and the flow through each."""
        names = [*self.tanks, *self.tubes]
        place = {n: i for i, n in enumerate(names)}
        passed, came = np.zeros((len(names), len(names))), np.zeros(len(names))
        for start, ends in self.flows.items():
            for end, share in ends.items():
                if end == "out":
                    continue
                if start == "in":
                    came[place[end]] += share.si
                else:
                    passed[place[end], place[start]] += share.si
        try:
            through = np.linalg.solve(np.eye(len(names)) - passed, came)
        except np.linalg.LinAlgError as error:
            message = "what flows round never leaves"
            raise InputError(message, self.noun, "let some of it flow to 'out'") from error
        return names, passed, came, through

    @property
    def bypassed(self) -> float:
        """The share that leaves at once."""
        share = self.flows["in"].get("out")
        return float(share.si) if isinstance(share, Value) else 0.0

    @property
    def _sharpness(self) -> float:
        return float(self.tube_tanks) if self.tubes else 1.0

    def _transfer(self, s: np.ndarray, mean: float, in_time: bool = False) -> np.ndarray:
        names, passed, came, through = self._throughputs()
        shape, s = s.shape, s.ravel()
        pieces = np.empty((len(s), len(names)), dtype=complex)
        for i, name in enumerate(names):
            share = self.tanks[name].si if name in self.tanks else self.tubes[name].si
            own = s * mean * share / through[i] if through[i] > 0 else np.zeros_like(s)
            if name in self.tanks:
                pieces[:, i] = 1 / (1 + own)
            else:
                n = self.tube_tanks
                pieces[:, i] = np.exp(-n * np.log(1 + own / n)) if in_time else np.exp(-own)
        # the molar flow out of each, f_i = g_i (came_i + sum_j passed_ij f_j)
        matrix = np.eye(len(names)) - pieces[:, :, None] * passed[None]
        out = np.linalg.solve(matrix, (pieces * came)[..., None])[..., 0]
        leaving = np.array([self.flows[n].get("out", Value(0.0)).si for n in names])
        return np.asarray(self.bypassed + out @ leaving).reshape(shape)

    def E(self, times: np.ndarray, mean: float) -> np.ndarray:
        """E(t) in 1/s."""
        return np.asarray(
            np.maximum(inverted(lambda s: self._transfer(s, mean, True) - self.bypassed, times, self._terms), 0.0)
        )

    def F(self, times: np.ndarray, mean: float) -> np.ndarray:
        """F(t)."""
        return inverted(lambda s: self._transfer(s, mean, True) / s, times, self._terms)

    def _given_text(self) -> str:
        return ", ".join(
            f"{n} {share.si if isinstance(share, Value) else share:.4g}" if isinstance(share, Value) else n
            for n, share in (*self.tanks.items(), *self.tubes.items())
        )


def common_models() -> list[FlowModel]:
    """The models that a test is compared with where none are named."""
    return [
        TanksInSeries(),
        AxialDispersion(),
        AxialDispersion(boundaries="open"),
        LaminarFlow(),
        TankWithDeadZone(),
        StagnantZones(),
        Recycle(),
    ]
