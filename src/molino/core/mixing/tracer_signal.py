"""A measured tracer signal: its samples, base line and plateau."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import scipy

from molino.core import units
from molino.core.display import Display
from molino.core.errors import Faults, InputError
from molino.core.frozen import Frozen, settle
from molino.core.printing import Printed
from molino.core.schema import QuantityField, option, quantity, read_fields
from molino.core.unit_tables import SI_UNITS
from molino.core.units import Value

KINDS = ("pulse", "step up", "step down", "measured inlet")
TAILS = ("exponential", "none")
RULES = ("trapezoid", "Simpson")
_FEWEST = 8
SHARE = 0.1
"""Fraction of the points, at the end, for the plateau of a step and for the return of a signal to its baseline."""
_WINDOWS = 30
"""Half of the width of the smoothing of a signal, as a fraction of the record."""
_SURE, _CLEAR = 1.9, 0.7
"""Standard deviations of the noise above which a smoothed signal is significant (four of its own), and down to which it
is used.
"""
_HIGH, LEAST = 0.25, 3
"""Fraction of the peak below which the tail is fitted, and the smallest number of intervals in each of its sections."""
LEVEL, SURELY = 0.02, 5.0
"""Fraction of the peak, and number of standard errors, above which the end of a signal is not at its baseline."""
FALLEN = 0.1
"""Relative decrease over the last fifth of the record of a signal that returns."""
EXTRAPOLATED = 0.05
"""Fraction of the tracer beyond the last point above which it is reported."""


@dataclass(frozen=True, eq=False)
class TracerSignal(Frozen, Printed):
    """The signal of a tracer test, with its base line, plateau and moments."""

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
    end: QuantityField = quantity("time")
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
                faults.add(self.label, f"{name} are not numbers", "give an array")
        for name, row in rows.items():
            if row.ndim != 1 or not np.isfinite(row).all():
                faults.add(
                    self.label, f"{name} are not all finite numbers in one dimension", "leave out missing values"
                )
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
                "no tracer is found: the signal remains below its baseline", "", "check signal and baseline"
            )

    @property
    def label(self) -> str:
        """Its name, or its kind."""
        return self.name or "tracer test"

    @cached_property
    def display(self) -> Display:
        """The units in which its results are shown."""
        given = [("volume", self.volume), ("volumetric flow", self.flow), ("time", self.end)]
        return Display.of(given, self.show, True)

    @cached_property
    def kept_samples(self) -> tuple[np.ndarray, np.ndarray, np.ndarray | None]:
        """Times, signal and inlet from 0 on, to the end."""
        last = self.end.si if self.end is not None else math.inf
        keep = (self.times >= 0) & (self.times <= last)
        return self.times[keep], self.signal[keep], None if self.inlet is None else self.inlet[keep]

    @cached_property
    def _line(self) -> np.ndarray:
        """The matrix from the whole signal to its baseline at the times kept, shape (kept, points)."""
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
        """The times up to the last point used."""
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
        """Standard deviation of the signal, from the deviation of each point from the cubic through the two points
        before and the two after it (the pseudo-residuals of T. Gasser, L. Sroka, C. Jennen-Steinmetz, Biometrika 73
        (1986) 625, which curvature does not affect)."""
        t, y, _ = self.kept_samples
        return _noise(t, y)

    def plateau_of(self, clean: np.ndarray, signal: np.ndarray) -> np.ndarray:
        """The level of a step."""
        if self.plateau is not None:
            return np.full(clean.shape[:-1], self.plateau)
        count = max(3, int(SHARE * clean.shape[-1]))
        if self.kind == "step up":
            return np.asarray(clean[..., -count:].mean(axis=-1))
        before = self.times < 0
        if before.any():
            level = signal[..., before].mean(axis=-1)
            return np.asarray(level - (signal @ self._line.T)[..., 0])
        return np.asarray(clean[..., :1].mean(axis=-1))

    @cached_property
    def _stretches(self) -> tuple[int, int, int]:
        """The beginnings of the last two sections, to which the tail is fitted, and the last point used.

        The signal is used as long as it is above its noise. Without a tail all three are that point.
        """
        t, _, _ = self.kept_samples
        left = self._falling(self.without_baseline(self.signal), self.signal)
        smooth = scipy.signal.savgol_filter(left, max(5, 2 * (len(t) // _WINDOWS) + 1), 2)
        peak = int(np.argmax(smooth)) if self.kind != "step up" else 0
        surely = np.flatnonzero(smooth > _SURE * self.noise)
        ends = max(int(surely[-1]) if len(surely) else peak, peak)
        under = np.flatnonzero(smooth[ends:] < _CLEAR * self.noise)
        last = ends + int(under[0]) if len(under) else len(t) - 1
        if self.tail == "none":
            return len(t) - 1, len(t) - 1, len(t) - 1
        above = np.flatnonzero(smooth[: last + 1] >= _HIGH * smooth[peak])
        begin = int(above[-1]) + 1 if len(above) else peak
        begin = min(begin, max(last - 2 * LEAST, peak))
        middle = int(np.searchsorted(t, 0.5 * (t[begin] + t[last])))
        if middle - begin < LEAST or last - middle < LEAST:
            return last, last, last
        return begin, middle, last

    def _falling(self, clean: np.ndarray, signal: np.ndarray) -> np.ndarray:
        """The decreasing curve: the signal of a pulse, the remainder of a step."""
        if self.kind == "step up":
            return np.asarray(self.plateau_of(clean, signal)[..., None] - clean)
        return clean

    def evaluated(self, signal: np.ndarray, tail: float = 1.0) -> dict[str, np.ndarray]:
        """F at the times, the raw moments, the area and the rate of the tail, of signals (..., points); `tail` is a
        factor on the part beyond the last point."""
        t, last = self._counted, self._stretches[2]
        clean = self.without_baseline(signal)
        falling = self._falling(clean, signal)[..., : last + 1]
        rate, beyond = self._tail_of(t, falling)
        beyond, weights = beyond * tail, _weights(t, self.rule)
        if self.kind == "pulse":
            inside = [(weights * t**k * falling).sum(axis=-1) for k in range(4)]
            moments = [m + b for m, b in zip(inside, _beyond(t[-1], beyond, rate), strict=True)]
            area = moments[0]
            pieces = np.cumsum(area_pieces(t, falling), axis=-1)
            F = np.concatenate([np.zeros((*clean.shape[:-1], 1)), pieces], axis=-1)
            F *= (inside[0] / pieces[..., -1] / area)[..., None]  # other rules have other sums
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
        pieces = area_pieces(t, left)
        one, two = pieces[..., begin:middle].sum(axis=-1), pieces[..., middle:].sum(axis=-1)
        long, short = t[middle] - t[begin], t[-1] - t[middle]
        with np.errstate(all="ignore"):
            rate = np.log(one / long / (two / short)) / (0.5 * (long + short))
            sure = np.isfinite(rate) & (rate > 0)
            rate = np.where(sure, rate, math.nan)
            height = np.where(sure, two * rate / np.expm1(rate * short), 0.0)
        return rate, height


def area_pieces(t: np.ndarray, y: np.ndarray) -> np.ndarray:
    """The integral over each interval of a piecewise linear curve."""
    return np.asarray(0.5 * np.diff(t) * (y[..., 1:] + y[..., :-1]))


def _weights(t: np.ndarray, rule: str) -> np.ndarray:
    """Weights of the samples of a curve in its integral."""
    if rule == "Simpson":
        return np.asarray(scipy.integrate.simpson(np.eye(len(t)), x=t, axis=0))
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


def _window(given: object) -> tuple[float, float]:
    if not isinstance(given, list | tuple) or len(given) != 2:
        raise InputError(f"{given!r} is not a window of times", "", "write [('0 s', '20 s')]")
    low, high = (units.read(one, "time").si for one in given)
    if not low < high:
        raise InputError(f"{given!r} is not a window of times", "", "give two, the earlier first")
    return low, high


def _of_kinds(given: object, kinds: tuple[str, str]) -> Value:
    """A quantity of one of two kinds."""
    value = units.read(given)
    dimension = units.unit(value.unit or SI_UNITS[kinds[0]]).dimension
    kind = kinds[1] if dimension == units.unit(SI_UNITS[kinds[1]]).dimension else kinds[0]
    return units.positive(given, kind, "")
