"""Tracer tests: from the signal of a detector to the residence time distribution."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from molino.core import units
from molino.core.errors import InputError
from molino.core.mixing.deconvolution import deconvolved
from molino.core.mixing.distribution import ResidenceTimeDistribution, percent
from molino.core.mixing.noise import Noise, smoothed
from molino.core.mixing.tracer_signal import (
    EXTRAPOLATED,
    FALLEN,
    LEAST,
    LEVEL,
    SHARE,
    SURELY,
    TracerSignal,
    area_pieces,
)

_DOUBT = 0.5
"""Relative standard deviation of the part beyond the last point, since its exponential form is an assumption."""


@dataclass(frozen=True, eq=False)
class TracerTest(TracerSignal):
    """A tracer test: the signal of a detector at the outlet after the injection of a tracer at the inlet.

    Parameters
    ----------
    times : array, shape (points,)
        In s, increasing; 0 is the injection.
    signal : array, shape (points,)
        Of the detector at the outlet, in any unit that is linear in the concentration.
    kind : "pulse", "step up", "step down" or "measured inlet"
        The injection: at once, from 0 on, until 0, or given by `inlet`.
    inlet : array, shape (points,), optional
        The signal of a detector at the inlet, at the same times.
    volume, flow : quantity, optional
        Of the vessel; for dead volume and recovery.
    injected : quantity, optional
        The injected amount "0.2 mol" or mass "5 g"; for the recovery of a pulse.
    calibration : quantity, optional
        The concentration per unit of the signal, "2 mmol/L" or "0.1 g/L"; not given if the signal is a concentration in
        SI.
    baseline : pairs of times, optional
        Windows without tracer, [("0 s", "20 s")]: the signal there is the baseline, a straight line through two or more
        of them if it drifts. By default the points before 0, otherwise zero.
    plateau : float, optional
        The signal of the tracer itself, after a step up or before a step down; otherwise the mean of the last tenth of
        the points (of a step down of those before 0, or the first).
    tail : "exponential" or "none"
        Extrapolation beyond the last point, if the signal has not returned by then. The rate is that of the areas of
        the last two sections of equal length.
    rule : "trapezoid" or "Simpson"
        Rule of the integrals: Simpson's for a smooth curve of few points.
    end : time, optional
        Later points are ignored.
    name : str
    show : mapping of kind to unit
    notes : tuple of str
        Notes on the reading.

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> import numpy as np
    >>> t = np.linspace(0, 3600, 181)
    >>> test = mo.mixing.TracerTest(t, np.exp(-t / 600), volume="1 m3", flow="0.1 m3/min")
    >>> found = test.distribution()
    >>> round(found.mean_si, 0), round(found.relative_variance, 2)
    (600.0, 1.0)
    """

    def distribution(self, smoothing: float | None = None) -> ResidenceTimeDistribution:
        """E and F, moments with intervals, recovery, dead volume.

        Parameters
        ----------
        smoothing : float, optional
            The weight of the curvature of the smoothed E curve (for figures); by default by generalised
            cross-validation.

        Returns
        -------
        ResidenceTimeDistribution

        Raises
        ------
        InputError
            If the smoothing is invalid, or the signal is not a distribution.
        """
        if smoothing is not None:
            smoothing = units.positive(smoothing, "number", "smoothing", zero=True).si
        if self.kind == "measured inlet":
            return self._from_inlet(smoothing)
        t = self._counted
        found = self.evaluated(self.signal)
        F, raw, recovery = found["F"], found["raw"], float(found["area"] * self._recovery_of_area)
        by = self._changes()
        noise = Noise(by["F"].T, by["raw"].T, by["area"] * (self._recovery_of_area if math.isfinite(recovery) else 0.0))
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
        """Warnings that the moments may not be those of the vessel, from the end of the record."""
        text = self._of_plateau() if self.kind == "step up" else self._of_base_line(beyond)
        return {"caution": text} if text else {}

    def _of_end(self, clean: np.ndarray) -> tuple[float, float, float]:
        """The mean and the linear rise of the last fifth of the record, with their standard errors."""
        t = self.kept_samples[0]
        count = max(LEAST + 1, int(2 * SHARE * len(t)))
        at, end = t[-count:] - t[-count:].mean(), clean[-count:]
        rise = float(at @ end / (at @ at) * (at[-1] - at[0]))
        return float(end.mean()), rise, self.noise * math.sqrt(12 / count)

    def _of_plateau(self) -> str:
        """The warning for a step up that has not reached its plateau."""
        level, rise, error = self._of_end(self.without_baseline(self.signal))
        share = abs(rise) / max(level, 1e-300)
        if self.plateau is not None or share < LEVEL or abs(rise) < SURELY * error:
            return ""
        return (
            f"the signal has not reached its plateau: it changes by {percent(share)} over the last fifth of it; "
            "give plateau=..., or record longer"
        )

    def _of_base_line(self, beyond: float) -> str:
        """The warning for a drifting baseline, a signal that does not return, or a record that ends early."""
        clean = self.without_baseline(self.signal)
        mean, rise, error = self._of_end(clean)
        size = float(self.plateau_of(clean, self.signal)) if self.kind == "step down" else self._size
        least, is_rising = max(LEVEL * size, SURELY * error), rise > SURELY * error
        level = mean + 0.5 * rise if is_rising else mean
        advice = "give a second window of it after the tracer, baseline=[...]"
        if level < -least:
            return f"the signal ends {percent(-level / size)} of its peak below the baseline, which drifts: {advice}"
        if level > least and (is_rising or rise > -FALLEN * level):
            return (
                f"the signal does not return to its baseline: it ends at {percent(level / size)} of its peak and "
                f"{'rises' if is_rising else 'does not fall'}, so the moments are those of the record only; where the "
                f"base line drifts, {advice}"
            )
        if beyond > EXTRAPOLATED:
            return (
                f"the record ends before the tracer has left: {percent(beyond)} of it is extrapolated by an "
                "exponential tail, and the moments with it"
            )
        return ""

    def _changes(self) -> dict[str, np.ndarray]:
        """The changes of results by one standard deviation of each measurement and of the tail; the first axis of each
        shape."""
        found, doubted = self.evaluated(self.signal), self.evaluated(self.signal, 1 + _DOUBT)
        step = 1e-4 * self.noise if self.noise > 0 else 1e-9 * self._size
        moved = self.evaluated(self.signal + step * np.eye(len(self.signal)))
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
            message = "the signal is not a distribution: its mean or variance is negative"
            raise InputError(message, self.label, "check the baseline, and the time of the injection")
        return ResidenceTimeDistribution(
            t, E, F, raw, rate, self.volume, self.flow, recovery, is_rough, smoothing, noise, notes, self.display
        )

    @property
    def _recovery_of_area(self) -> float:
        """Tracer found over tracer injected, per area under the signal."""
        if self.kind != "pulse" or self.injected is None or self.flow is None:
            return math.nan
        one = self.calibration.si if self.calibration is not None else 1.0
        return float(one * self.flow.si / self.injected.si)

    def _from_inlet(self, smoothing: float | None) -> ResidenceTimeDistribution:
        """By deconvolution; its moments from the differences of those of outlet and inlet."""
        t, _, inlet = self.kept_samples
        assert inlet is not None
        pulse = TracerTest(self.times, self.signal, baseline=self.baseline, tail=self.tail, end=self.end)
        before = TracerTest(self.times, self.inlet, baseline=self.baseline, tail="none", end=self.end)
        raw, noise_rows = _difference(pulse, before)
        areas = [np.append(x._changes()["area"], 0.0) / x.evaluated(x.signal)["area"] for x in (pulse, before)]
        clean, came = pulse.without_baseline(self.signal), before.without_baseline(self.inlet)
        grid, E, spread, word = deconvolved(t, came, clean, pulse.noise, smoothing)
        F = np.concatenate([[0.0], np.cumsum(area_pieces(grid, E))])
        ratio = float(F[-1])
        F, E = F / ratio, E / ratio
        rows = (
            np.concatenate([np.zeros((1, spread.shape[1])), np.cumsum(area_pieces(grid, spread.T).T, axis=0)]) / ratio
        )
        notes = {"E by deconvolution": word} | pulse._cautions(0.0)
        noise = Noise(rows, noise_rows, ratio * np.concatenate([areas[0], -areas[1]]))
        return self._result(grid, E, F, raw, math.nan, ratio, noise, notes)

    def __str__(self) -> str:
        t = self.display.text(float(self.times[-1]), "time")
        return f"{self.label}: {self.kind}, {len(self.times)} points to {t}"


def _difference(outlet: TracerTest, inlet: TracerTest) -> tuple[np.ndarray, np.ndarray]:
    """Raw moments of the vessel between two signals, from their central moments, and their noise."""

    def rows(test: TracerTest) -> tuple[np.ndarray, np.ndarray]:
        return test.evaluated(test.signal)["raw"], test._changes()["raw"].T

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
