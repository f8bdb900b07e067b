"""A common offset of every value of a response, like a blank that was not subtracted."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from molino.core.chemistry.constants import Parameter
from molino.core.display import Display
from molino.core.errors import SolveError
from molino.core.fitting.fit_data import FitData
from molino.core.fitting.least_squares import minimise
from molino.core.fitting.least_squares_problem import Model
from molino.core.frozen import Frozen
from molino.core.statistics import chi_squared_probability, f_tail_probability, p_text

_LEVEL = 0.01
"""Probability by chance below which an offset is named."""
_FEWEST = 3
"""Degrees of freedom from which on an offset is looked for."""


@dataclass(frozen=True, eq=False)
class _WithOffset(Frozen):
    """A model with an offset of some observations as its last parameter."""

    model: Model
    column: np.ndarray

    def __call__(self, parameters: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        values, slopes = self.model(parameters[:-1])
        return values + parameters[-1] * self.column, np.column_stack([slopes, self.column])

    def rough(self) -> _WithOffset:
        return replace(self, model=self.model.rough())

    def plain(self) -> _WithOffset:
        return replace(self, model=self.model.plain())


def offset_notes(fit: FitData) -> Iterator[str]:
    """The responses with a common offset, in words."""
    runs = fit.parameter_map.runs
    if not runs or fit.degrees_of_freedom < _FEWEST or fit.optimum.stopped:
        return
    plain = [r for r in fit.responses if all(run.metric_of(r) and r not in run.signals for run in runs)]
    for response in plain:
        text = _of_residuals(fit, response, _LEVEL / len(plain)) or _of_starts(fit, response)
        if text is not None:
            yield f"{text}: fit it with the option offset='{response}', or measure a blank"


def _of_residuals(fit: FitData, response: str, level: float) -> str | None:
    """An offset that the residuals show, by an F-test (N. R. Draper, H. Smith, Applied Regression Analysis, 3rd ed.
    1998, section 6.1), first of the linear model."""
    problem, points = fit.problem, fit.points
    own = np.append(np.array(points.response) == response, np.zeros(problem.priors, dtype=bool)).astype(float)
    weights, left = problem.deviations(fit.optimum.values, fit.optimum.standard_deviation).steps
    links = problem.links(fit.optimum.tau)
    rows, left = fit.optimum.information_rows(problem), links.whiten(left)
    size = np.maximum(np.linalg.norm(rows, axis=0), 1e-300)
    column = links.whiten(own * weights)
    column = column - rows / size @ np.linalg.lstsq(rows / size, column, rcond=1e-10)[0]
    length = float(column @ column)
    if length < 1e-6 * float((own * weights) @ (own * weights)):  # the constants, or starts, have the same effect
        return None
    degrees = fit.degrees_of_freedom - 1
    gain, squares = float(column @ left) ** 2 / length, float(left @ left)
    probability = f_tail_probability(gain / max((squares - gain) / degrees, 1e-300), 1, degrees)
    if not probability < level:
        return None
    guess = float(column @ left) / length
    free = (*problem.free, Parameter("offset", guess, None, True, size=abs(guess)))
    wider = replace(problem, free=free, model=_WithOffset(problem.model, own))
    try:
        found = minimise(wider, np.append(fit.optimum.parameters, guess), tolerance=1e-7)
    except SolveError:
        return None
    moved = (found.parameters[:-1] - fit.optimum.parameters) / np.array([e.standard_error for e in fit.estimates])
    shared = [i for i in fit.correlated if np.isfinite(moved[i])]
    most = max(shared, key=lambda i: abs(moved[i]), default=None)
    text = f"{response}: a common offset of {_number(fit, response, found.parameters[-1])} would explain the residuals "
    text += f"(p {p_text(probability)})"
    if most is not None:
        text += f" and change {fit.estimates[most].name} by {abs(moved[most]):.1f} standard errors"
    return text


def _of_starts(fit: FitData, response: str) -> str | None:
    """Fitted initial concentrations of an uncharged species that agree in all runs."""
    names = [f"start {response}, {run.name}" for run in fit.parameter_map.runs]
    index = [i for i, e in enumerate(fit.estimates) if e.name in names]
    if len(index) < 2 or len(index) < len(names):
        return None
    starts, covariance = np.array([fit.estimates[i].value for i in index]), fit.covariance[np.ix_(index, index)]
    if not np.isfinite(covariance).all() or np.linalg.matrix_rank(covariance) != len(index):
        return None
    inverse = np.linalg.inv(covariance)
    mean = float(np.sum(inverse @ starts) / np.sum(inverse))
    apart = float((starts - mean) @ inverse @ (starts - mean))
    is_zero = 1 - chi_squared_probability(float(starts @ inverse @ starts), len(index))
    is_common = 1 - chi_squared_probability(apart, len(index) - 1)
    typical = float(np.nanmax(np.abs(fit.points.measured[np.array(fit.points.response) == response])))
    if is_zero > _LEVEL or is_common < _LEVEL or abs(mean) > 0.5 * typical:
        return None
    text = _number(fit, response, mean)
    return f"{response}: the fitted starts agree, {text} in every run; an offset of all values has the same effect"


def _number(fit: FitData, response: str, value: float) -> str:
    display: Display = fit.data.display
    return display.difference_text(value, fit.data.kind_of(response))
