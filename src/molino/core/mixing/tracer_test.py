"""Tracer tests: from the signal of a detector to the distribution of residence times."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from scipy.integrate import simpson
from scipy.signal import savgol_filter

from molino.core import units
from molino.core.display import Display
from molino.core.errors import Faults, InputError
from molino.core.frozen import Frozen, settle
from molino.core.mixing.deconvolution import deconvolved
from molino.core.mixing.distribution import Noise, ResidenceTimeDistribution, percent, smoothed
from molino.core.printing import Printed
from molino.core.schema import option, quantity, read_fields
from molino.core.unit_tables import SI_UNITS
from molino.core.units import Value

KINDS = ("pulse", "step up", "step down", "measured inlet")
TAILS = ("exponential", "none")
RULES = ("trapezoid", "Simpson")
_FEWEST = 8
_SHARE = 0.1
"""Of the points, at the end: the plateau of a step, or what says whether a signal has come back to its base line."""
_WINDOWS = 30
"""Of the record, half of the width in which a signal is smoothed to see where it stands clear of its noise."""
_SURE, _CLEAR = 1.9, 0.7
"""Standard deviations of the noise above which a smoothed signal is one (four of its own), and down to which it counts.
"""
_HIGH, _LEAST = 0.25, 3
"""Share of the peak from which on the tail is laid, and the fewest intervals in each of its stretches."""
_LEVEL, _SURELY = 0.02, 5.0
"""Share of the peak, and standard errors, above which the end of a signal is not at its base line."""
_FALLEN = 0.1
"""Share of its level by which a signal that returns falls over the last fifth of the record."""
_EXTRAPOLATED = 0.05
"""Share of the tracer beyond the last point that is mentioned."""
_DOUBT = 0.5
"""Standard deviation of what is beyond the last point, as a share of it: that the tail is exponential is a guess."""


@dataclass(frozen=True, eq=False)
class TracerTest(Frozen, Printed):
    """A tracer test: what a detector at the outlet showed after a tracer was put in at the inlet.

    Parameters
    ----------
    times : array, shape (points,)
        In s, rising; 0 is when the tracer went in.
    signal : array, shape (points,)
        Of the detector at the outlet, in any unit that is linear in the concentration.
    kind : "pulse", "step up", "step down" or "measured inlet"
        How the tracer was put in: at once, from 0 on, until 0, or as `inlet` says.
    inlet : array, shape (points,), optional
        The signal of a detector at the inlet, at the same times.
    volume, flow : quantity, optional
        Of the vessel; for dead volume and recovery.
    injected : quantity, optional
        What was put in, an amount "0.2 mol" or a mass "5 g"; for the recovery of a pulse.
    calibration : quantity, optional
        The concentration for one unit of the signal, "2 mmol/L" or "0.1 g/L"; left out where the signal is one, in SI.
    baseline : pairs of times, optional
        Windows in which there is no tracer, [("0 s", "20 s")]: the signal there is zero, a straight line through two or
        more of them where it drifts. Left out, what stands before 0 is, and otherwise the signal counts from zero.
    plateau : float, optional
        The signal of the tracer itself, after a step up or before a step down; otherwise the mean of the last tenth of
        the points (of a step down of those before 0, or the first).
    tail : "exponential" or "none"
        How it goes on beyond the last point, where the signal has not come back by then. The rate is from the areas of
        the last two stretches of equal length.
    rule : "trapezoid" or "Simpson"
        By which the moments are summed up: Simpson's for a smooth curve of few points.
    end : time, optional
        What comes later is left out.
    name : str
    show : mapping of kind to unit
    notes : tuple of str
        How it was read.

    Raises
    ------
    InputError
        With everything that is wrong in it.

    Examples
    --------
    >>> import numpy as np
    >>> t = np.linspace(0, 3600, 181)
    >>> test = mo.TracerTest(t, np.exp(-t / 600), volume="1 m3", flow="0.1 m3/min")
    >>> found = test.distribution()
    >>> round(found.mean_si, 0), round(found.relative_variance, 2)
    (600.0, 1.0)
    """

    times: Any
    signal: Any
    kind: str = option("pulse", KINDS)
    inlet: Any = None
    volume: Any = quantity("volume")
    flow: Any = quantity("volumetric flow")
    injected: Any = quantity("amount", alternatives=("mass",))
    calibration: Any = quantity("concentration", alternatives=("density",))
    baseline: Sequence[Any] = ()
    plateau: Any = None
    tail: str = option("exponential", TAILS)
    rule: str = option("trapezoid", RULES)
    end: Any = quantity("time")
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)
    notes: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        faults = Faults()
        read_fields(self, faults, self.label)
        rows = {}
        for name in ("times", "signal", "inlet"):
            given = getattr(self, name)
            if given is None:
                continue
            try:
                rows[name] = np.array(given, dtype=float)
            except (TypeError, ValueError):
                faults.add(self.label, f"{name} are no numbers", "give an array")
        for name, row in rows.items():
            if row.ndim != 1 or not np.isfinite(row).all():
                faults.add(self.label, f"{name} are not all finite numbers in a row", "leave out what is missing")
            elif len(row) != len(rows.get("times", row)):
                faults.add(
                    self.label, f"{len(row)} of {name}, and {len(rows['times'])} times", "give one for each time"
                )
        settle(self, **rows)
        if not faults.found and (len(self.times) < _FEWEST or not (np.diff(self.times) > 0).all()):
            message = f"{len(self.times)} points" if len(self.times) < _FEWEST else "the times do not rise"
            faults.add(self.label, message, f"give at least {_FEWEST} at rising times")
        if (self.kind == "measured inlet") != (self.inlet is not None):
            message = "an inlet is given" if self.inlet is not None else "no inlet is given"
            faults.add(
                self.label, f"{message}, and the kind is '{self.kind}'", "kind='measured inlet' with inlet=[...]"
            )
        for name, kinds in (("injected", ("amount", "mass")), ("calibration", ("concentration", "density"))):
            if getattr(self, name) is not None:
                with faults.at(f"{self.label}, {name}"):
                    settle(self, **{name: _of_kinds(getattr(self, name), kinds)})
        if self.plateau is not None:
            with faults.at(f"{self.label}, plateau"):
                settle(self, plateau=units.positive(self.plateau, "number", "").si)
        with faults.at(f"{self.label}, baseline"):
            settle(self, baseline=tuple(_window(one) for one in self.baseline))
        if not faults.found:
            with faults.at(self.label):
                self._check_evaluation()
        faults.raise_any()

    def _check_evaluation(self) -> None:
        t, _, _ = self.kept_samples
        if len(t) < _FEWEST:
            raise InputError(f"{len(t)} points are left", "end", f"at least {_FEWEST} are needed")
        for low, high in self.baseline:
            if not ((self.times >= low) & (self.times <= high)).any():
                text = self.display.text
                message = f"there is no point from {text(low, 'time')} to {text(high, 'time')}"
                raise InputError(message, "baseline", "give a window with points")
        if self._size <= 0:
            raise InputError(
                "no tracer is seen: the signal stays below its base line", "", "check signal and base line"
            )

    @property
    def label(self) -> str:
        """Its name, or what it is."""
        return self.name or "tracer test"

    @cached_property
    def display(self) -> Display:
        """The units in which its results are shown."""
        given = [("volume", self.volume), ("volumetric flow", self.flow), ("time", self.end)]
        return Display.of(given, self.show, True)

    # the signal without its base line

    @cached_property
    def kept_samples(self) -> tuple[np.ndarray, np.ndarray, np.ndarray | None]:
        """Times, signal and inlet from 0 on, to the end."""
        last = self.end.si if self.end is not None else math.inf
        keep = (self.times >= 0) & (self.times <= last)
        return self.times[keep], self.signal[keep], None if self.inlet is None else self.inlet[keep]

    @cached_property
    def _line(self) -> np.ndarray:
        """What takes the signal (all of it) to its base line at the times kept, shape (kept, points)."""
        t, all_times = self.kept_samples[0], self.times
        quiet = np.zeros(len(all_times), dtype=bool)
        for low, high in self.baseline:
            quiet |= (all_times >= low) & (all_times <= high)
        if not self.baseline:
            quiet = (all_times < 0) & (self.kind != "step down")
        if not quiet.any():
            return np.zeros((len(t), len(all_times)))
        columns = [np.ones(quiet.sum()), all_times[quiet]][: 2 if len(self.baseline) > 1 else 1]
        solution = np.linalg.pinv(np.array(columns).T)
        found = np.zeros((len(t), len(all_times)))
        found[:, quiet] = np.array([np.ones(len(t)), t][: len(columns)]).T @ solution
        return found

    @property
    def _counted(self) -> np.ndarray:
        """The times up to the last point that counts."""
        return np.asarray(self.kept_samples[0][: self._stretches[2] + 1])

    def without_baseline(self, signal: np.ndarray) -> np.ndarray:
        """A signal (or several, shape (..., points)) without its base line, at the times kept."""
        last = self.end.si if self.end is not None else math.inf
        keep = (self.times >= 0) & (self.times <= last)
        return np.asarray(signal[..., keep] - signal @ self._line.T)

    @cached_property
    def _size(self) -> float:
        return float(np.max(self.without_baseline(self.signal)))

    @cached_property
    def noise(self) -> float:
        """Standard deviation of the signal, from how each point lies off the cubic through the two before and the two
        after it (the pseudo-residuals of T. Gasser, L. Sroka, C. Jennen-Steinmetz, Biometrika 73 (1986) 625, which no
        curvature enters)."""
        t, y, _ = self.kept_samples
        return _noise(t, y)

    def plateau_of(self, clean: np.ndarray, signal: np.ndarray) -> np.ndarray:
        """The signal of the tracer itself in a step."""
        if self.plateau is not None:
            return np.full(clean.shape[:-1], self.plateau)
        count = max(3, int(_SHARE * clean.shape[-1]))
        if self.kind == "step up":
            return np.asarray(clean[..., -count:].mean(axis=-1))
        before = self.times < 0
        if before.any():
            level = signal[..., before].mean(axis=-1)
            return np.asarray(level - (signal @ self._line.T)[..., 0])
        return np.asarray(clean[..., :1].mean(axis=-1))

    # from the signal to the distribution

    @cached_property
    def _stretches(self) -> tuple[int, int, int]:
        """Where the last two stretches begin, through which the tail is laid, and the last point that counts.

        The signal counts for as long as it stands clear of its noise. Without a tail all three are that point.
        """
        t, _, _ = self.kept_samples
        left = self._falling(self.without_baseline(self.signal), self.signal)
        smooth = savgol_filter(left, max(5, 2 * (len(t) // _WINDOWS) + 1), 2)
        peak = int(np.argmax(smooth)) if self.kind != "step up" else 0
        surely = np.flatnonzero(smooth > _SURE * self.noise)
        ends = max(int(surely[-1]) if len(surely) else peak, peak)
        under = np.flatnonzero(smooth[ends:] < _CLEAR * self.noise)
        last = ends + int(under[0]) if len(under) else len(t) - 1
        if self.tail == "none":
            return len(t) - 1, len(t) - 1, len(t) - 1
        above = np.flatnonzero(smooth[: last + 1] >= _HIGH * smooth[peak])
        begin = int(above[-1]) + 1 if len(above) else peak
        begin = min(begin, max(last - 2 * _LEAST, peak))
        middle = int(np.searchsorted(t, 0.5 * (t[begin] + t[last])))
        if middle - begin < _LEAST or last - middle < _LEAST:
            return last, last, last
        return begin, middle, last

    def _falling(self, clean: np.ndarray, signal: np.ndarray) -> np.ndarray:
        """What falls to zero: the signal of a pulse, what is left of a step."""
        if self.kind == "step up":
            return np.asarray(self.plateau_of(clean, signal)[..., None] - clean)
        return clean

    def _evaluated(self, signal: np.ndarray, tail: float = 1.0) -> dict[str, np.ndarray]:
        """F at the times, the raw moments, the area and the rate of the tail, of signals (..., points); `tail` is by
        what that beyond the last point is multiplied."""
        t, last = self._counted, self._stretches[2]
        clean = self.without_baseline(signal)
        falling = self._falling(clean, signal)[..., : last + 1]
        rate, beyond = self._tail_of(t, falling)
        beyond, weights = beyond * tail, _weights(t, self.rule)
        if self.kind == "pulse":
            inside = [(weights * t**k * falling).sum(axis=-1) for k in range(4)]
            moments = [m + b for m, b in zip(inside, _beyond(t[-1], beyond, rate), strict=True)]
            area = moments[0]
            pieces = np.cumsum(_pieces(t, falling), axis=-1)
            F = np.concatenate([np.zeros((*clean.shape[:-1], 1)), pieces], axis=-1)
            F *= (inside[0] / pieces[..., -1] / area)[..., None]  # another rule than straight lines adds up otherwise
            raw = np.array([m / area for m in moments[1:]])
        else:
            level = self.plateau_of(clean, signal)
            left = falling / level[..., None]
            F, area = 1 - left, level
            tails = _beyond(t[-1], beyond / level, rate)  # int t^(k-1) (1 - F) dt, k times
            raw = np.array([k * ((weights * t ** (k - 1) * left).sum(axis=-1) + tails[k - 1]) for k in (1, 2, 3)])
        return {"F": F, "raw": np.moveaxis(raw, 0, -1), "area": area, "rate": rate}

    def _tail_of(self, t: np.ndarray, left: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The rate in 1/s and the height at the last point of the exponential through the last two stretches."""
        nothing = np.full(left.shape[:-1], math.nan), np.zeros(left.shape[:-1])
        begin, middle, last = self._stretches
        if begin == last:
            return nothing
        pieces = _pieces(t, left)
        one, two = pieces[..., begin:middle].sum(axis=-1), pieces[..., middle:].sum(axis=-1)
        long, short = t[middle] - t[begin], t[-1] - t[middle]
        with np.errstate(all="ignore"):
            rate = np.log(one / long / (two / short)) / (0.5 * (long + short))
            sure = np.isfinite(rate) & (rate > 0)
            rate = np.where(sure, rate, math.nan)
            height = np.where(sure, two * rate / np.expm1(rate * short), 0.0)
        return rate, height

    def distribution(self, smoothing: float | None = None) -> ResidenceTimeDistribution:
        """E and F, moments with intervals, recovery, dead volume.

        Parameters
        ----------
        smoothing : float, optional
            Of the smoothed E curve (which nothing else is worked out from), the weight of its curvature; by
            generalised cross-validation, if left out.

        Returns
        -------
        ResidenceTimeDistribution

        Raises
        ------
        InputError
            If the smoothing is none, or the signal holds no distribution.
        """
        if smoothing is not None:
            smoothing = units.positive(smoothing, "number", "smoothing", zero=True).si
        if self.kind == "measured inlet":
            return self._from_inlet(smoothing)
        t = self._counted
        found = self._evaluated(self.signal)
        F, raw, recovery = found["F"], found["raw"], self._recovery(found["area"])
        by = self._changes()
        noise = Noise(
            by["F"].T, by["raw"].T, self._recovery(by["area"]) if math.isfinite(recovery) else by["area"] * 0.0
        )
        E = (
            self.without_baseline(self.signal)[: len(t)] / float(found["area"])
            if self.kind == "pulse"
            else np.gradient(F, t)
        )
        is_pulse = self.kind == "pulse"
        notes = {}
        if not is_pulse:
            E = smoothed(t, F, smoothing, slope=True)
            notes = {"E": "the slope of a cubic smoothing spline through F"}
        notes |= self._cautions(float(1 - F[-1]) if math.isfinite(found["rate"]) else 0.0)
        return self._result(t, E, F, raw, float(found["rate"]), recovery, noise, notes, is_pulse, smoothing)

    def _cautions(self, beyond: float) -> dict[str, str]:
        """Why the moments may not be those of the vessel, from the end of the record; nothing where all is well."""
        text = self._of_plateau() if self.kind == "step up" else self._of_base_line(beyond)
        return {"caution": text} if text else {}

    def _of_end(self, clean: np.ndarray) -> tuple[float, float, float]:
        """Of the last fifth of the record: the mean, the rise in a straight line and the standard error of both."""
        t = self.kept_samples[0]
        count = max(_LEAST + 1, int(2 * _SHARE * len(t)))
        at, end = t[-count:] - t[-count:].mean(), clean[-count:]
        rise = float(at @ end / (at @ at) * (at[-1] - at[0]))
        return float(end.mean()), rise, self.noise * math.sqrt(12 / count)

    def _of_plateau(self) -> str:
        """Of a step up that has not reached its plateau."""
        level, rise, error = self._of_end(self.without_baseline(self.signal))
        share = abs(rise) / max(level, 1e-300)
        if self.plateau is not None or share < _LEVEL or abs(rise) < _SURELY * error:
            return ""
        return (
            f"the signal has not reached its plateau: it changes by {percent(share)} over the last fifth of it; "
            "give plateau=..., or record longer"
        )

    def _of_base_line(self, beyond: float) -> str:
        """Of a base line that drifts, a signal that does not return, or a record that ends early."""
        clean = self.without_baseline(self.signal)
        mean, rise, error = self._of_end(clean)
        size = float(self.plateau_of(clean, self.signal)) if self.kind == "step down" else self._size
        least, is_rising = max(_LEVEL * size, _SURELY * error), rise > _SURELY * error
        level = mean + 0.5 * rise if is_rising else mean
        advice = "give a second window of it after the tracer, baseline=[...]"
        if level < -least:
            return f"the signal ends {percent(-level / size)} of its peak below the base line, which drifts: {advice}"
        if level > least and (is_rising or rise > -_FALLEN * level):
            return (
                f"the signal does not return to its base line: it ends at {percent(level / size)} of its peak and "
                f"{'rises' if is_rising else 'does not fall'}, so the moments are those of the record only; where the "
                f"base line drifts, {advice}"
            )
        if beyond > _EXTRAPOLATED:
            return (
                f"the record ends before the tracer has left: {percent(beyond)} of it is extrapolated by an "
                "exponential tail, and the moments with it"
            )
        return ""

    def _changes(self) -> dict[str, np.ndarray]:
        """What is worked out, changed by one standard deviation of each measurement and of the tail; the changes come
        first in each shape."""
        found, doubted = self._evaluated(self.signal), self._evaluated(self.signal, 1 + _DOUBT)
        step = 1e-4 * self.noise if self.noise > 0 else 1e-9 * self._size
        moved = self._evaluated(self.signal + step * np.eye(len(self.signal)))
        return {
            name: np.concatenate(
                [(moved[name] - found[name]) * (self.noise / step), (doubted[name] - found[name])[None]]
            )
            for name in ("F", "raw", "area")
        }

    def _result(
        self,
        t: np.ndarray,
        E: np.ndarray,
        F: np.ndarray,
        raw: np.ndarray,
        rate: float,
        recovery: float,
        noise: Noise,
        notes: dict[str, str],
        is_rough: bool = False,
        smoothing: float | None = None,
    ) -> ResidenceTimeDistribution:
        if not np.isfinite(raw).all() or raw[0] <= 0 or raw[1] <= raw[0] ** 2:
            message = "the signal holds no distribution: its mean or variance comes out below zero"
            raise InputError(message, self.label, "check the base line, and the time at which the tracer went in")
        return ResidenceTimeDistribution(
            t, E, F, raw, rate, self.volume, self.flow, recovery, is_rough, smoothing, noise, notes, self.display
        )

    def _recovery(self, area: np.ndarray) -> Any:
        """Tracer found over tracer injected."""
        if self.kind != "pulse" or self.injected is None or self.flow is None:
            return math.nan
        one = self.calibration.si if self.calibration is not None else 1.0
        return area * one * self.flow.si / self.injected.si

    def _from_inlet(self, smoothing: float | None) -> ResidenceTimeDistribution:
        """By deconvolution; its moments from the differences of those of outlet and inlet."""
        t, _, inlet = self.kept_samples
        assert inlet is not None
        pulse = TracerTest(self.times, self.signal, baseline=self.baseline, tail=self.tail, end=self.end)
        before = TracerTest(self.times, self.inlet, baseline=self.baseline, tail="none", end=self.end)
        raw, noise_rows = _difference(pulse, before)
        areas = [np.append(x._changes()["area"], 0.0) / x._evaluated(x.signal)["area"] for x in (pulse, before)]
        clean, came = pulse.without_baseline(self.signal), before.without_baseline(self.inlet)
        grid, E, spread, word = deconvolved(t, came, clean, pulse.noise, smoothing)
        F = np.concatenate([[0.0], np.cumsum(_pieces(grid, E))])
        ratio = float(F[-1])
        F, E = F / ratio, E / ratio
        rows = np.concatenate([np.zeros((1, spread.shape[1])), np.cumsum(_pieces(grid, spread.T).T, axis=0)]) / ratio
        notes = {"E by deconvolution": word} | pulse._cautions(0.0)
        noise = Noise(rows, noise_rows, ratio * np.concatenate([areas[0], -areas[1]]))
        return self._result(grid, E, F, raw, math.nan, ratio, noise, notes)

    def __str__(self) -> str:
        t = self.display.text(float(self.times[-1]), "time")
        return f"{self.label}: {self.kind}, {len(self.times)} points to {t}"


def _difference(outlet: TracerTest, inlet: TracerTest) -> tuple[np.ndarray, np.ndarray]:
    """Raw moments of what lies between two signals, from their central moments, and the noise in them."""

    def rows(test: TracerTest) -> tuple[np.ndarray, np.ndarray]:
        return test._evaluated(test.signal)["raw"], test._changes()["raw"].T

    def cumulants(raw: np.ndarray) -> np.ndarray:
        one, two, three = raw
        return np.array([one, two - one**2, three - 3 * one * two + 2 * one**3])

    def back(c: np.ndarray) -> np.ndarray:
        one, two, three = c
        return np.array([one, two + one**2, three + 3 * one * two + one**3])

    (out, by_out), (came, by_in) = rows(outlet), rows(inlet)
    raw = back(cumulants(out) - cumulants(came))
    moved: list[np.ndarray] = []
    for row, by in ((out, by_out), (came, by_in)):
        both = [cumulants(row + column) for column in by.T]
        for one in both:
            kept = (one, cumulants(came)) if row is out else (cumulants(out), one)
            moved.append(back(kept[0] - kept[1]) - raw)
    return raw, np.array(moved).T


def _pieces(t: np.ndarray, y: np.ndarray) -> np.ndarray:
    """The integral over each interval of a curve of straight lines."""
    return np.asarray(0.5 * np.diff(t) * (y[..., 1:] + y[..., :-1]))


def _weights(t: np.ndarray, rule: str) -> np.ndarray:
    """By which samples of a curve add up to its integral."""
    if rule == "Simpson":
        return np.asarray(simpson(np.eye(len(t)), x=t, axis=0))
    width = np.diff(t)
    return np.asarray(0.5 * (np.append(width, 0.0) + np.append(0.0, width)))


def _beyond(last: float, height: np.ndarray, rate: np.ndarray) -> list[np.ndarray]:
    """The integrals of t^k h exp(-rate (t - last)) beyond the last point, k = 0 to 3."""
    with np.errstate(all="ignore"):
        found = [height / rate]
        for k in (1, 2, 3):
            found.append((last**k * height + k * found[-1]) / rate)
    return [np.where(height > 0, one, 0.0) for one in found]


def _noise(t: np.ndarray, y: np.ndarray) -> float:
    """See `TracerTest.noise`."""
    n = len(t) - 4
    near = [t[k : k + n] for k in (0, 1, 3, 4)]
    middle, off, size = t[2:-2], y[2:-2].astype(float), np.ones(n)
    for j, k in enumerate((0, 1, 3, 4)):
        others = [near[m] for m in range(4) if m != j]
        weight = np.prod([(middle - x) / (near[j] - x) for x in others], axis=0)
        off = off - weight * y[k : k + n]
        size += weight**2
    return float(np.sqrt(np.mean(off**2 / size)))


def _window(given: Any) -> tuple[float, float]:
    if not isinstance(given, list | tuple) or len(given) != 2:
        raise InputError(f"{given!r} is no window of times", "", "write [('0 s', '20 s')]")
    low, high = (units.read(one, "time").si for one in given)
    if not low < high:
        raise InputError(f"{given!r} is no window of times", "", "give two, the earlier first")
    return low, high


def _of_kinds(given: Any, kinds: tuple[str, str]) -> Value:
    """A quantity of one of two kinds."""
    value = units.read(given)
    dimension = units.unit(value.unit or SI_UNITS[kinds[0]]).dimension
    kind = kinds[1] if dimension == units.unit(SI_UNITS[kinds[1]]).dimension else kinds[0]
    return units.positive(given, kind, "")
