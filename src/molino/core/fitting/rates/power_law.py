"""Power laws through rates, by linear regression of logarithms."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from molino.core import units
from molino.core.annotations import PlainData
from molino.core.errors import Faults, InputError, nearest
from molino.core.fitting.rates.rate_data import RateData
from molino.core.fitting.residual_diagnostics import LEVEL, SignRuns, sign_runs
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, frame
from molino.core.statistics import f_tail_probability, half_width, p_text
from molino.core.unit_tables import GAS_CONSTANT


@dataclass(frozen=True, eq=False)
class PowerLaw(Frozen, Result):
    """r = k c_1^n_1 c_2^n_2 ... by linear regression of logarithms.

    Attributes
    ----------
    names : tuple of str
        "ln k", then "order in A" and so on, then "Ea" if there are several temperatures.
    values, errors : arrays, shape (names,)
        Estimates and standard errors; ln k for concentrations and time in the units of results, at `T_mean`.
    covariance : array, shape (names, names)
    fitted : array, shape (used,)
        Calculated rates, for the rates above zero.
    rates : Rates
    species : tuple of str
        The species whose orders were fitted.
    used : array of bool, shape (rates,)
        Whether each rate is above zero.
    degrees_of_freedom : int
    r_squared : float
    standard_deviation : float
        Residual standard deviation of ln r.
    T_mean : float
        The temperature of k in K.

    Examples
    --------
    >>> rates = mo.Rates([0.2, 0.45, 0.79, 1.62], {"A": [100.0, 200.0, 400.0, 800.0]})
    >>> law = rates.power_law("A")
    >>> law.names, round(float(law.values[1]), 2)
    (('ln k', 'order in A'), 0.99)
    """

    rates: RateData
    species: tuple[str, ...]
    names: tuple[str, ...]
    values: np.ndarray
    covariance: np.ndarray
    used: np.ndarray
    fitted: np.ndarray
    degrees_of_freedom: int
    r_squared: float
    standard_deviation: float
    """Residual standard deviation of ln r."""
    T_mean: float

    @property
    def errors(self) -> np.ndarray:
        return np.asarray(np.sqrt(np.diag(self.covariance)))

    @property
    def k(self) -> tuple[float, float, float]:
        """k with its 95 % interval, in `k_unit`."""
        half = half_width(float(self.errors[0]), self.degrees_of_freedom)
        return math.exp(self.values[0]), math.exp(self.values[0] - half), math.exp(self.values[0] + half)

    def interval(self, name: str) -> tuple[float, float]:
        """95 % interval of an order ("A") or of "Ea" (in J/mol)."""
        wanted = name if name in self.names else f"order in {name}"
        if wanted not in self.names:
            raise InputError(f"no '{name}' was found", "power law", nearest(name, [*self.species, "Ea"]))
        i = self.names.index(wanted)
        half = half_width(float(self.errors[i]), self.degrees_of_freedom)
        return float(self.values[i] - half), float(self.values[i] + half)

    @property
    def orders(self) -> dict[str, float]:
        return {s: float(v) for s, v in zip(self.species, self.values[1:], strict=False)}

    @property
    def k_unit(self) -> str:
        """The unit of k, with the orders as found."""
        display = self.rates.display
        if display.unitless:
            return ""
        total = sum(self.orders.values())
        return f"{display.unit(self.rates.kind)} / ({display.unit('concentration')})^{total:.3g}"

    def to_dict(self) -> PlainData:
        """Plain data: constants with intervals, R^2, residuals with their runs of signs, the origin of the rates."""
        return {
            "how": self.rates.how,
            "r_squared": self.r_squared,
            "constants": self.table().to_dict("records"),
            "residuals": self.residuals.tolist(),
            "sign_runs": {
                "runs": self.signs.runs,
                "expected": self.signs.expected,
                "probability": self.signs.probability,
            },
        }

    @property
    def residuals(self) -> np.ndarray:
        """ln r measured less ln r calculated, shape (used,), for the rates above zero."""
        return np.asarray(np.log(self.rates.rate[self.used] / self.fitted))

    @property
    def signs(self) -> SignRuns:
        """Runs of signs of the residuals, in order of the calculated rate."""
        return sign_runs(self.rates.response, self.residuals[np.argsort(self.fitted, kind="stable")])

    def points_table(self) -> Table:
        """One row per rate above zero: conditions, measured, calculated, and the residual of ln r."""
        rates, display = self.rates, self.rates.display
        columns: PlainData = {
            display.heading(s, "concentration"): display.number(rates.concentrations[s][self.used], "concentration")
            for s in self.species
        }
        if rates.T is not None:
            columns[display.heading("T", "temperature")] = display.number(rates.T[self.used], "temperature")
        for name, values in (("measured", rates.rate[self.used]), ("calculated", self.fitted)):
            columns[display.heading(name, rates.kind)] = display.number(values, rates.kind)
        return frame({**columns, "residual of ln r": self.residuals})

    @property
    def significance(self) -> float:
        """Probability of a fit this good by chance: the F-test of the whole regression."""
        more = len(self.values) - 1
        if not more or self.r_squared >= 1:
            return 0.0 if more else 1.0
        ratio = self.r_squared / (1 - self.r_squared) * self.degrees_of_freedom / more
        return f_tail_probability(ratio, more, self.degrees_of_freedom)

    def table(self) -> Table:
        """k, orders and activation energy, each with standard error and 95 % interval."""
        k, low, high = self.k
        rows: list[tuple[object, ...]] = [("k", self.k_unit, k, k * float(self.errors[0]), low, high)]
        for i, name in enumerate(self.names[1:], 1):
            scale = 1e-3 if name == "Ea" and not self.rates.display.unitless else 1.0
            ends = self.interval(name.removeprefix("order in "))
            unit = ("J/mol" if scale == 1.0 else "kJ/mol") if name == "Ea" else ""
            rows.append((name, unit, *(scale * x for x in (self.values[i], self.errors[i], *ends))))
        return frame(rows, columns=["constant", "unit", "value", "standard error", "95 % low", "95 % high"])

    @property
    def law(self) -> str:
        """The law in a line, with its R^2."""
        law = " ".join(f"[{s}]^{n:.3g}" for s, n in self.orders.items())
        at = self.rates.display.text(self.T_mean, "temperature") if math.isfinite(self.T_mean) else ""
        through = f"through {int(self.used.sum())} rates{f', k at {at}' if at else ''}"
        return f"{self.rates.response} = k {law} {through}, R² of ln r {self.r_squared:.4f}"

    def __str__(self) -> str:
        lines = [f"power law: {self.law}"]
        for name, unit, *numbers in self.table().itertuples(index=False):
            value, error, low, high = (f"{x:.4g}" for x in numbers)
            unit = units.pretty(unit)
            lines.append(f"  {name:<16} {value} (standard error {error}), 95 %: {low} to {high} {unit}".rstrip())
        chance = p_text(self.significance)
        lines.append(
            f"  residual standard deviation of ln r {self.standard_deviation:.3g}, F-test of the whole: p {chance}"
        )
        is_exact = self.standard_deviation < 1e-8  # the residuals are rounding
        lines.append("  the rates are met exactly" if is_exact else f"  {self.signs}")
        if self.signs.probability < LEVEL and not is_exact:
            lines.append("  note: so few runs of signs are unlikely by chance: the orders may not be constant")
        left = len(self.used) - int(self.used.sum())
        return "\n".join(lines + ([f"  left out: {left} rates or concentrations not above zero"] if left else []))


def power_law(rates: RateData, species: Sequence[str]) -> PowerLaw:
    known = rates.concentrations
    faults = Faults()
    for name in species:
        if name not in known:
            faults.add("power law", f"unknown concentration of '{name}'", nearest(name, known))
    faults.raise_any(rates.source)
    chosen = tuple(species) or tuple(s for s, c in known.items() if np.ptp(c) > 1e-9 * c.max())
    used = (rates.rate > 0) & np.all([known[s] > 0 for s in chosen] or [rates.rate > 0], axis=0)
    display = rates.display
    columns = [np.ones(int(used.sum()))]
    columns += [np.log(display.number(known[s][used], "concentration")) for s in chosen]
    names = ["ln k", *(f"order in {s}" for s in chosen)]
    mean = math.nan
    if rates.T is not None and used.any():
        mean = 1 / float(np.mean(1 / rates.T[used]))
        if np.ptp(rates.T[used]) > 1e-6 * mean:
            columns.append(-(1 / rates.T[used] - 1 / mean) / GAS_CONSTANT)
            names.append("Ea")
    matrix = np.array(columns).T
    count, unknown = matrix.shape
    if count <= unknown:
        message = f"{count} rates above zero for {unknown} unknowns"
        raise InputError(message, rates.source or "power law", "measure more, or name fewer species")
    y = np.log(display.number(rates.rate[used], rates.kind))
    size = np.sqrt(np.sum(matrix**2, axis=0))
    orthogonal, singular, right = np.linalg.svd(matrix / size, full_matrices=False)
    if singular[-1] < 1e-8 * singular[0]:
        together = [
            n.removeprefix("order in ") for n, w in zip(names, right[-1], strict=True) if abs(w) > 1e-3 and n != "ln k"
        ]
        message = f"{' and '.join(together)} vary together in these data"
        raise InputError(message, rates.source or "power law", "name fewer species, or vary them apart")
    inverse = right.T / singular
    values = inverse @ (orthogonal.T @ y) / size
    left = y - matrix @ values
    variance = float(left @ left) / (count - unknown)
    covariance = variance * (inverse @ inverse.T) / np.outer(size, size)
    about = float((y - y.mean()) @ (y - y.mean()))
    fitted = np.exp(matrix @ values) * (units.unit(display.unit(rates.kind)).factor if not display.unitless else 1.0)
    r_squared = 1 - float(left @ left) / about if about > 0 else math.nan
    return PowerLaw(
        rates,
        chosen,
        tuple(names),
        values,
        covariance,
        used,
        fitted,
        count - unknown,
        r_squared,
        math.sqrt(variance),
        mean,
    )
