"""Flow models fitted to a tracer test, and compared."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence

import numpy as np
import scipy

from molino.core.arguments import checked
from molino.core.errors import InputError
from molino.core.mixing.deconvolution import convolution
from molino.core.mixing.flow_fit_result import FlowComparison, FlowFit, title
from molino.core.mixing.flow_model import FlowModel
from molino.core.mixing.flow_models import TankWithDeadZone, common_models
from molino.core.mixing.tracer_test import TracerTest
from molino.core.statistics import half_width

_STARTS, _TRIED = 12, 2
"""Number of starts that are evaluated, and of those from which a fit is made."""
_GRID = 240
_PEAK = 3
"""Smallest number of points above half the peak of a pulse."""
_MOST = 1.5
"""The longest space time that is tried, in units of V/Q."""


@checked
def fit_flow_models(test: TracerTest, models: Sequence[FlowModel] | None = None) -> FlowComparison:
    """Fit flow models to a tracer test by least squares, and compare them.

    The response of each model to the inlet of the tracer is compared with the signal: E for a pulse, F for a step, a
    convolution for a measured inlet. Fitted are the space time of the active volume, the unknown parameters of a model,
    and the size of a pulse of unknown amount.

    Parameters
    ----------
    test : TracerTest
    models : sequence of FlowModel, optional
        By default the common ones.

    Returns
    -------
    FlowComparison

    Raises
    ------
    InputError
        If no model can be fitted, or a peak has too few points.

    Examples
    --------
    >>> import numpy as np
    >>> t = np.linspace(1, 60, 60)
    >>> test = mo.mixing.TracerTest(t, mo.mixing.AxialDispersion(8).E(t, 12.0) + 1e-4 * np.sin(7 * t))
    >>> print(mo.mixing.fit_flow_models(test, [mo.mixing.TanksInSeries(), mo.mixing.AxialDispersion()]).best.model.noun)
    axial dispersion
    """
    clean = test.without_baseline(test.signal)
    if test.kind == "pulse" and (count := int(np.sum(clean > 0.5 * clean.max()))) < _PEAK:
        message = f"{count} of the points are above half the peak, too few for its shape"
        raise InputError(message, "fit_flow_models", f"measure more often, or remove an outlier; {_PEAK} are needed")
    fits, remarks = list[FlowFit](), dict[str, str]()
    for model in models if models is not None else common_models():
        try:
            fits.append(_Fitting(test, model).best())
        except InputError as error:
            remarks[title(model)] = error.faults[0].what
    if not fits:
        raise InputError("no model could be fitted", "fit_flow_models", "; ".join(remarks.values()) or "name some")
    fits.sort(key=lambda one: one.aicc)
    raw = [math.exp(-0.5 * (one.aicc - fits[0].aicc)) for one in fits]
    return FlowComparison(tuple(fits), tuple(x / sum(raw) for x in raw), remarks)


class _Fitting:
    """One model compared with one test; the unknowns are the space time, the parameters of the model, and the size."""

    def __init__(self, test: TracerTest, model: FlowModel) -> None:
        self.test, self.model = test, model
        t, _, inlet = test.kept_samples
        clean = test.without_baseline(test.signal)
        keep = t > 0
        self.t, self.seen = t[keep], clean[keep]
        self.whole = test.volume.si / test.flow.si if test.volume is not None and test.flow is not None else math.nan
        self.names, self.ranges = list(model.unknown), dict(model.free_ranges())
        self.is_whole = isinstance(model, TankWithDeadZone)
        self.size = self._known_size(clean)
        if self.is_whole and not math.isfinite(self.whole):
            raise InputError("dead zone and by-pass need volume and flow, which are unknown")
        if self.is_whole and self.size is None:
            raise InputError("a by-pass of a pulse is visible only if the injected amount is known")
        if inlet is not None:
            self.grid = np.linspace(0.0, float(t[-1]), _GRID)
            before = TracerTest(test.times, test.inlet, baseline=test.baseline, tail="none", end=test.end)
            self.came = before.without_baseline(test.inlet)
            self.matrix = convolution(t, self.came, self.grid)[keep]

    def _known_size(self, clean: np.ndarray) -> float | None:
        """The area of a pulse, or the height of a step; None if it is fitted."""
        test = self.test
        if test.kind == "pulse":
            if test.injected is None or test.flow is None:
                return None
            one = test.calibration.si if test.calibration is not None else 1.0
            return float(test.injected.si / test.flow.si / one)
        if test.kind == "measured inlet":
            return 1.0
        return float(test.plateau_of(clean, test.signal))

    def response(self, model: FlowModel, mean: float) -> np.ndarray:
        """The response of the model, for a size of one."""
        if self.test.kind == "pulse":
            return np.asarray(model.E(self.t, mean))
        if self.test.kind == "measured inlet":
            inner = model.E(np.maximum(self.grid, 1e-9 * self.grid[-1]), mean)
            inner[0] = inner[0] if np.isfinite(inner[0]) and inner[0] < 4 * inner[1] + 1e-300 else inner[1]
            return np.asarray(self.matrix @ inner + model.bypassed * self.came[-len(self.t) :])
        F = np.asarray(model.F(self.t, mean))
        return F if self.test.kind == "step up" else 1 - F

    def _unpacked(self, x: np.ndarray) -> tuple[float, dict[str, float], float]:
        mean = self.whole if self.is_whole else math.exp(x[0])
        first = 0 if self.is_whole else 1
        numbers = {}
        for name, value in zip(self.names, x[first:], strict=False):
            numbers[name] = float(value if self.ranges[name].is_share else math.exp(value))
        return mean, numbers, self.size if self.size is not None else float(x[-1])

    def residuals(self, x: np.ndarray) -> np.ndarray:
        mean, numbers, size = self._unpacked(x)
        with np.errstate(all="ignore"):
            found = size * self.response(self.model.with_numbers(numbers), mean) - self.seen
        return np.asarray(np.nan_to_num(found, nan=1e3 * float(np.max(np.abs(self.seen))), posinf=1e6, neginf=-1e6))

    def _bounds(self) -> tuple[np.ndarray, np.ndarray]:
        longest = _MOST * self.whole if math.isfinite(self.whole) else 30 * self.t[-1]
        low = [] if self.is_whole else [math.log(1e-3 * self.t[-1])]
        high = [] if self.is_whole else [math.log(longest)]
        for name in self.names:
            one = self.ranges[name]
            low.append(one.low if one.is_share else math.log(one.low))
            high.append(one.high if one.is_share else math.log(one.high))
        if self.size is None:
            low, high = [*low, 0.0], [*high, math.inf]
        return np.array(low), np.array(high)

    def _begins(self) -> list[np.ndarray]:
        mean, area = self._rough()
        open_ones = [self.ranges[name] for name in self.names]
        found = []
        for guess in itertools.islice(itertools.product(*(one.guesses for one in open_ones)), _STARTS):
            row = [] if self.is_whole else [math.log(mean)]
            row += [g if one.is_share else math.log(g) for g, one in zip(guess, open_ones, strict=True)]
            found.append(np.array([*row, area] if self.size is None else row))
        return found

    def _rough(self) -> tuple[float, float]:
        """First guesses of the mean and the area."""
        try:
            found = self.test.distribution()
        except InputError:
            return float(np.median(self.t)), float(np.trapezoid(np.maximum(self.seen, 0.0), self.t))
        return found.mean_si, float(np.trapezoid(self.seen, self.t))

    def best(self) -> FlowFit:
        """The least-squares fit from several starts; InputError if none converges."""
        low, high = self._bounds()
        found, inside = None, 1e-9 * (1 + np.abs(low))
        starts = [np.clip(begin, low + inside, high - inside) for begin in self._begins()]
        starts.sort(key=lambda start: float(np.sum(self.residuals(start) ** 2)))
        for start in starts[:_TRIED]:
            one = scipy.optimize.least_squares(
                self.residuals, start, bounds=(low, high), x_scale=np.maximum(np.abs(start), 0.1), max_nfev=200
            )
            if found is None or one.cost < found.cost:
                found = one
        if found is None or not np.isfinite(found.cost):
            raise InputError("no parameters of it fit")
        return self._result(found.x, found.jac, 2 * float(found.cost))

    def _result(self, x: np.ndarray, jacobian: np.ndarray, squares: float) -> FlowFit:
        mean, numbers, size = self._unpacked(x)
        n, k = len(self.t), len(x)
        free = n - k
        covariance = np.linalg.pinv(jacobian.T @ jacobian) * squares / free
        errors = np.sqrt(np.maximum(np.diag(covariance), 0.0))
        halves = {} if self.is_whole else {"mean": half_width(mean * errors[0], free)}
        first = 0 if self.is_whole else 1
        for name, error in zip(self.names, errors[first:], strict=False):
            halves[name] = half_width(error if self.ranges[name].is_share else numbers[name] * error, free)
        count = k + 1  # and the variance
        aicc = n * math.log(max(squares, 1e-300) / n) + 2 * count + 2 * count * (count + 1) / max(n - count - 1, 1)
        model = self.model.with_numbers(numbers) if numbers else self.model
        return FlowFit(
            model,
            mean,
            halves,
            squares,
            k,
            aicc,
            self.t,
            self.seen,
            size * self.response(model, mean),
            self.whole,
            self.test.noise,
            self.test.display,
        )
