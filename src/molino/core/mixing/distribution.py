"""The residence time distribution: E and F curves, moments with intervals, and the diagnosis of a vessel."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from molino.core.annotations import PlainData
from molino.core.checks import Check, checked_fact
from molino.core.display import Display
from molino.core.frozen import Frozen
from molino.core.mixing.noise import Noise, smoothed
from molino.core.results import Result, Table, entry, frame, in_columns, plain_dict
from molino.core.units import Value

_NORMAL = 1.959963984540054
"""Two-sided 95 % point of the normal distribution."""
_TINY = 1e-12
_NOTHING = 1e-8
"""A dead fraction that is rounding."""
_AREA = 1e-6
"""Largest deviation of the area below E from 1."""
RINGING = 0.05
"""The lowest negative value of a computed E, relative to its peak, that is set to zero."""
_VISIBLE = 5e-3
"""Relative deviation of a moment of the curve from the exact one above which it is stated."""
_CLEAR = 8.0
"""The height of a peak of E over its scatter."""


@dataclass(frozen=True, eq=False)
class ResidenceTimeDistribution(Frozen, Result):
    """A residence time distribution.

    E(t) dt is the fraction of the outlet with a residence time between t and t + dt, F its integral (P. V. Danckwerts,
    Chem. Eng. Sci. 2 (1953) 1; O. Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, chapter 11).

    Attributes
    ----------
    times : array, shape (points,)
        In s, from 0.
    E, F : array, shape (points,)
        E in 1/s, F a fraction.
    raw : array, shape (3,)
        The first three moments about zero in s, s^2, s^3, with the tail.
    tail_rate : float
        Beyond the last time 1 - F falls as exp(-rate t), in 1/s; nan without a tail.
    volume, flow : Value or None
        Of the vessel, if known.
    recovery : float
        Tracer found over tracer injected; nan if the injected amount is unknown.
    is_rough : bool
        Whether E has the noise of a signal.
    smoothing : float or None
        The weight of the curvature of `smoothed`; None: by generalised cross-validation.
    noise : Noise or None
        That of the measurements of a test.
    notes : mapping of str to str
        Notes on the computation.
    display : Display
    verified : tuple of Check
        The checks of a computed curve.

    Examples
    --------
    >>> tank = mo.mixing.TanksInSeries(1).distribution("10 min")
    >>> round(float(tank.mean.to("min")), 6), round(tank.relative_variance, 6)
    (10.0, 1.0)
    """

    times: np.ndarray
    E: np.ndarray
    F: np.ndarray
    raw: np.ndarray
    tail_rate: float = math.nan
    volume: Value | None = None
    flow: Value | None = None
    recovery: float = math.nan
    is_rough: bool = False
    smoothing: float | None = None
    noise: Noise | None = None
    notes: dict[str, str] = field(default_factory=dict)
    display: Display = field(default_factory=lambda: Display({}))
    verified: tuple[Check, ...] = ()

    @property
    def checks(self) -> tuple[Check, ...]:
        """The area below the curve; of a computed one also the sign of E before negative values are set to zero."""
        total = abs(float(self.shares[1].sum()) - 1)
        return (Check("area below E is 1", total, _AREA, "the sum over all intervals and the tail"), *self.verified)

    @cached_property
    def smoothed(self) -> np.ndarray:
        """E smoothed, for figures only."""
        return smoothed(self.times, self.E, self.smoothing) if self.is_rough else self.E

    # moments

    @property
    def mean_si(self) -> float:
        """Mean residence time in s."""
        return float(self.raw[0])

    @property
    def mean(self) -> Value:
        """Mean residence time, as a quantity."""
        return self.display.quantity(self.mean_si, "time")

    @property
    def variance_si(self) -> float:
        """Variance in s^2."""
        return float(self.raw[1] - self.raw[0] ** 2)

    @property
    def relative_variance(self) -> float:
        """Variance over the square of the mean: 1 for a mixed tank, 0 for plug flow."""
        return self.variance_si / self.mean_si**2

    @property
    def skewness(self) -> float:
        """Third moment about the mean over the cube of the standard deviation: 2 for a mixed tank; nan for an infinite
        variance."""
        one, two, three = self.raw
        if not math.isfinite(two):
            return math.nan
        return float((three - 3 * one * two + 2 * one**3) / max(self.variance_si, _TINY) ** 1.5)

    @cached_property
    def intervals(self) -> dict[str, tuple[float, float]]:
        """95 % intervals from the noise of the signal, in SI: "mean", "variance", "skewness", "recovery", "dead
        fraction"; empty for a distribution that was not measured."""
        if self.noise is None:
            return {}
        asked: dict[str, Callable[[np.ndarray], float]] = {
            "mean": lambda m: m[0],
            "variance": lambda m: m[1] - m[0] ** 2,
            "skewness": lambda m: (m[2] - 3 * m[0] * m[1] + 2 * m[0] ** 3) / max(m[1] - m[0] ** 2, _TINY) ** 1.5,
        }
        if self.space_time_si is not None:
            asked["dead fraction"] = lambda m: 1 - m[0] / (self.space_time_si or 1.0)
        found = {}
        for name, function in asked.items():
            at, slope = function(self.raw), np.empty(3)
            for k in range(3):
                step = 1e-6 * self.raw[k]
                slope[k] = (function(self.raw + step * (np.arange(3) == k)) - at) / step
            spread = _NORMAL * float(np.linalg.norm(slope @ self.noise.raw))
            found[name] = (at - spread, at + spread)
        if math.isfinite(self.recovery):
            spread = _NORMAL * float(np.linalg.norm(self.noise.recovery))
            found["recovery"] = (self.recovery - spread, self.recovery + spread)
        return found

    # compared with the vessel

    @property
    def space_time_si(self) -> float | None:
        """Volume over flow in s, if both are known."""
        return None if self.volume is None or self.flow is None else self.volume.si / self.flow.si

    @property
    def dead_fraction(self) -> float:
        """The dead fraction of the volume, 1 - mean/(V/Q); nan if V or Q is unknown."""
        if self.space_time_si is None:
            return math.nan
        found = 1 - self.mean_si / self.space_time_si
        return found if abs(found) > _NOTHING else 0.0

    def share_before(self, time: float) -> float:
        """F at a time in s."""
        if time > self.times[-1]:
            left = 1 - float(self.F[-1])
            return 1 - left * math.exp(-self.tail_rate * (time - float(self.times[-1]))) if left > 0 else 1.0
        return float(np.interp(time, self.times, self.F))

    def diagnosis(self) -> list[str]:
        """The diagnosis of the vessel, in words."""
        tau, found = self.mean_si, []
        if self.space_time_si is not None:
            found += self._against_space_time(self.space_time_si)
            tau = min(tau, self.space_time_si)
        early = self.share_before(0.1 * tau)
        if early > 0.15:
            found.append(f"{percent(early)} leaves within a tenth of the residence time (a mixed tank: 9.5 %): by-pass")
        late = 1 - self.share_before(3 * tau)
        if late > 0.075:
            found.append(
                f"{percent(late)} stays longer than three residence times (a mixed tank: 5 %): "
                "exchange with stagnant zones"
            )
        peaks = self._peaks()
        if len(peaks) > 1 and self.times[peaks[0]] < 0.15 * tau:
            valley = peaks[0] + int(np.argmin(self.E[peaks[0] : peaks[1]]))
            at, until = (self.display.text(float(self.times[i]), "time") for i in (peaks[0], valley))
            found.append(f"an early peak at {at}, {percent(float(self.F[valley]))} leaves by {until}: by-pass")
            peaks = peaks[1:]
        if len(peaks) > 1:
            times = " and ".join(self.display.text(float(self.times[i]), "time") for i in peaks[:4])
            found.append(f"peaks at {times}: the tracer returns, or takes several paths")
        spread = self.relative_variance
        if spread < 0.03:
            found.append("near plug flow")
        elif spread < 0.95:
            found.append(f"as wide as {1 / spread:.3g} tanks in series")
        elif early <= 0.15 and late <= 0.075:
            found.append("near a mixed tank")
        return found

    def _against_space_time(self, space_time: float) -> list[str]:
        low, high = self.intervals.get("dead fraction", (self.dead_fraction,) * 2)
        known = math.isfinite(self.recovery)
        if low > 0:
            lost = ""
            if known and self.recovery < 0.97:
                share = percent(1 - self.recovery)
                lost = (
                    f" (but {share} of the tracer was not measured: it left before the first point or after the last)"
                )
            return [f"{percent(self.dead_fraction)} of the volume is dead{lost}"]
        if high < -0.02:
            return [
                f"the mean is {percent(-self.dead_fraction)} above the space time: volume or flow is wrong, "
                "or the tracer is retained"
            ]
        return ["the whole volume is used"]

    def _peaks(self) -> list[int]:
        """The places of the peaks of E that are above its noise."""
        from scipy.signal import find_peaks

        scatter = 1.4826 * float(np.median(np.abs(self.E - self.smoothed)))
        clear = max(0.08 * float(np.max(self.E)), _CLEAR * scatter)
        found, _ = find_peaks(np.concatenate([[0.0], self.E]), prominence=clear)  # a rise at the end is not a peak
        return [int(i) - 1 for i in found]

    # over the distribution

    @cached_property
    def _tail(self) -> tuple[np.ndarray, np.ndarray]:
        """Times and fractions that represent the outlet beyond the last point; empty without a tail."""
        left = 1 - float(self.F[-1])
        if left <= _TINY or not math.isfinite(self.tail_rate):
            return np.empty(0), np.empty(0)
        edges = np.linspace(0.0, 12.0, 61)
        parts = np.exp(-edges[:-1]) - np.exp(-edges[1:])
        width = edges[1]
        centers = edges[:-1] + 1 - width / math.expm1(width)
        parts[-1] += math.exp(-edges[-1])
        return self.times[-1] + centers / self.tail_rate, left * parts

    @cached_property
    def shares(self) -> tuple[np.ndarray, np.ndarray]:
        """Times in s and fractions that represent the distribution in sums: each interval by its center of mass, the
        part that leaves at once, and the tail."""
        t, width = self.times, np.diff(self.times)
        with np.errstate(all="ignore"):
            lean = width * (self.E[1:] - self.E[:-1]) / (6 * (self.E[1:] + self.E[:-1]))
        at = 0.5 * (t[1:] + t[:-1]) + np.clip(np.nan_to_num(lean), -width / 6, width / 6)
        later, left = self._tail
        return np.concatenate([t[:1], at, later]), np.concatenate([self.F[:1], np.diff(self.F), left])

    def average(self, function: Callable[[np.ndarray], np.ndarray]) -> tuple[float, float]:
        """The mean of a function of the residence time over the distribution.

        Parameters
        ----------
        function : of times in s, shape (points,), to numbers of that shape

        Returns
        -------
        mean : float
        deviation : float
            Its standard deviation from the noise of the test; 0 without noise.
        """
        at, share = self.shares
        mean = float(share @ np.asarray(function(at), dtype=float))
        if self.noise is None:
            return mean, 0.0
        nodes = np.asarray(function(self.times), dtype=float)  # by parts: g F at the end, less the integral of F dg
        slopes = np.zeros(len(nodes))
        slopes[:-1] -= 0.5 * np.diff(nodes)
        slopes[1:] -= 0.5 * np.diff(nodes)
        later, left = self._tail
        slopes[-1] += nodes[-1] - (float(left @ function(later)) / left.sum() if len(left) else nodes[-1])
        return mean, float(np.linalg.norm(slopes @ self.noise.F))

    # tables and text

    def table(self) -> Table:
        """Times, E (also smoothed) and F, with units in the headings."""
        shown = self.display
        per = f"E [1/{shown.unit('time')}]" if shown.unit("time") else "E"
        one = float(shown.number(1.0, "time"))
        columns = {shown.heading("time", "time"): shown.number(self.times, "time"), per: self.E / one}
        if self.is_rough:
            columns[per.replace("E", "E smoothed", 1)] = self.smoothed / one
        return frame({**columns, "F": self.F})

    def answer(self) -> tuple[str, str]:
        """The question, and the diagnosis."""
        facts = self.facts()
        mean = f"mean residence time {facts['mean residence time']}"
        return "What is the flow pattern of the vessel?", "; ".join(
            [mean, *([facts["diagnosis"]] if "diagnosis" in facts else [])]
        )

    def facts(self) -> dict[str, str]:
        """Mean, variance, skewness with their 95 % intervals, recovery, dead volume."""
        shown, found = self.display, dict[str, str]()

        def between(name: str, kind: str, power: int = 1) -> str:
            if name not in self.intervals:
                return ""
            low, high = (_scaled(shown, x, kind, power) for x in self.intervals[name])
            return f"  (95 %: {low:.4g} to {high:.4g})"

        unit = shown.unit("time")
        found["mean residence time"] = f"{shown.text(self.mean_si, 'time')}{between('mean', 'time')}"
        square = f" {unit}²" if unit else ""
        if math.isfinite(self.variance_si):
            variance = f"{_scaled(shown, self.variance_si, 'time', 2):.4g}{square}"
            found["variance"] = variance + between("variance", "time", 2)
            found["relative variance"] = f"{self.relative_variance:.4g}"
            found["skewness"] = f"{self.skewness:.3g}{between('skewness', 'number')}"
        else:
            found["variance"] = "infinite"
        if self.space_time_si is not None:
            found["space time"] = shown.text(self.space_time_si, "time")
            found["dead fraction"] = f"{self.dead_fraction:.3g}{between('dead fraction', 'number')}"
            assert self.volume is not None
            found["dead volume"] = shown.text(self.dead_fraction * self.volume.si, "volume")
        if math.isfinite(self.recovery):
            found["recovery"] = f"{self.recovery:.4g}{between('recovery', 'number')}"
        left = 1 - float(self.F[-1])
        if left > _TINY:
            found["beyond the last point"] = f"{percent(left)}, an exponential tail"
        if self.is_rough:
            how = "by generalised cross-validation" if self.smoothing is None else f"with {self.smoothing:g}"
            found["smoothed curve"] = f"a cubic spline, {how}"
        found |= self._of_curve() | checked_fact(self.checks)
        return found | self.notes | {"diagnosis": "; ".join(self.diagnosis())}

    def _of_curve(self) -> dict[str, str]:
        """Mean and variance of the curve where they differ from the moments that were computed without it."""
        at, share = self.shares
        mean = float(share @ at)
        found, variance = {}, float(share @ (at - mean) ** 2)
        for name, own, exact in (("mean", mean, self.mean_si), ("variance", variance, self.variance_si)):
            if math.isfinite(exact) and abs(own - exact) > _VISIBLE * exact:
                found[f"{name} of the curve"] = f"{100 * (own / exact - 1):+.2g} % from the {name} above"
        return found

    def to_dict(self) -> PlainData:
        """Moments with their intervals, recovery, dead fraction, diagnosis."""
        shown = self.display
        found: PlainData = {
            "mean": entry(shown, self.mean_si, "time"),
            "variance": {"value": _scaled(shown, self.variance_si, "time", 2), "unit": f"{shown.unit('time')}^2"},
            "relative_variance": self.relative_variance,
            "skewness": self.skewness,
            "dead_fraction": self.dead_fraction,
            "recovery": self.recovery,
            "diagnosis": self.diagnosis(),
            "notes": self.notes,
        }
        powers = {"mean": 1, "variance": 2}
        found["intervals"] = {
            name: [_scaled(shown, x, "time", powers[name]) if name in powers else x for x in both]
            for name, both in self.intervals.items()
        }
        return plain_dict(found)

    def __str__(self) -> str:
        return "\n".join(["residence time distribution", *in_columns(self.facts())])


def _scaled(display: Display, value: float, kind: str, power: int) -> float:
    return float(value * float(display.number(1.0, kind)) ** power) if kind == "time" else value


def percent(share: float) -> str:
    """A share as a percentage."""
    return f"{100 * share:.3g} %"
