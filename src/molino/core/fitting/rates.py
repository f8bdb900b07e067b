"""Rates: measured, or derived from concentrations over time; power laws by linear regression, any rate law by `fit`."""

from __future__ import annotations

import math
from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from molino.core import units
from molino.core.chemistry.reaction import BASES
from molino.core.display import Display
from molino.core.errors import Faults, InputError, nearest
from molino.core.fitting.experiment import Experiment
from molino.core.fitting.experiments import Experiments
from molino.core.fitting.rate_slopes import differentiate, measured, series
from molino.core.fitting.residual_diagnostics import LEVEL, SignRuns, sign_runs
from molino.core.frozen import Frozen, settle
from molino.core.results import Result, Table, frame
from molino.core.statistics import f_tail_probability, half_width, p_text
from molino.core.unit_tables import GAS_CONSTANT

METHODS = ("spline", "differences")
_Row = tuple[Experiment, np.ndarray, np.ndarray, Mapping[str, np.ndarray]]
"""A run with times, slopes and concentrations."""
_KINDS = tuple(BASES.values())


@dataclass(frozen=True, eq=False)
class Slopes(Frozen):
    """The differentiation of one run: times in s, concentrations in mol/m^3, and the curve through them.

    `smoothing` is the weight of roughness of the spline; nan for differences and straight lines.
    """

    run: str
    times: np.ndarray
    values: np.ndarray
    at: np.ndarray
    curve: np.ndarray
    slope: np.ndarray
    smoothing: float = math.nan


@dataclass(frozen=True, eq=False)
class Rates(Frozen, Result):
    """Rates at known concentrations.

    Attributes
    ----------
    rate : array of mol/m^3/s (or per kg or m^2 of catalyst), shape (points,)
        Of `species`: rate of consumption of a reactant, of formation of a product.
    concentrations : mapping of species to array of mol/m^3, shape (points,)
    species : str
        The species of the rate; empty for a single reaction.
    T : array of K, shape (points,), optional
    run : tuple of str, shape (points,)
    time : array of s, shape (points,); nan without a time
    kind : str
        "rate", "rate per catalyst mass" or "rate per area".
    source : str
        The source of the data, for messages.
    show : mapping of kind to unit
        Units of results.
    how : str
        The origin of the rates, in words.
    slopes : tuple of Slopes
        The curves that they are derived from.

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> rates = mo.Rates([0.2, 0.4, 0.8], {"A": [100.0, 200.0, 400.0]})
    >>> len(rates.rate)
    3
    """

    rate: np.ndarray
    concentrations: Mapping[str, np.ndarray]
    species: str = ""
    T: np.ndarray | None = None
    run: tuple[str, ...] = ()
    time: np.ndarray = field(default_factory=lambda: np.array([]))
    kind: str = "rate"
    source: str = ""
    show: Mapping[str, str] = field(default_factory=dict)
    how: str = "measured"
    slopes: tuple[Slopes, ...] = ()

    def __post_init__(self) -> None:
        faults = Faults()
        rate = np.asarray(self.rate, dtype=float)
        count = len(rate)
        settle(self, rate=rate, time=np.asarray(self.time, dtype=float))
        if self.T is not None:
            settle(self, T=np.asarray(self.T, dtype=float))
        columns = {s: np.asarray(c, dtype=float) for s, c in self.concentrations.items()}
        settle(self, concentrations=columns)
        if not self.run:
            settle(self, run=tuple(str(n) for n in range(1, count + 1)))
        if not len(self.time):
            settle(self, time=np.full(count, np.nan))
        if not columns:
            faults.add("rates", "there is no concentration", "give that of each reactant")
        if self.kind not in _KINDS:
            faults.add("rates", f"'{self.kind}' is not a kind of rate", nearest(self.kind, _KINDS))
        others = {**columns, **({"T": self.T} if self.T is not None else {})}
        for name, values in {"rate": rate, **others}.items():
            if values.shape != (count,):
                faults.add(name, f"{values.size} values for {count} rates", "give one for each")
            elif not np.isfinite(values).all():
                faults.add(name, "a value is missing", "leave the line out")
            elif name in columns and (values < 0).any():
                faults.add(name, f"negative concentration {values.min():g} mol/m^3", "check the sign")
        faults.raise_any(self.source)

    @classmethod
    def from_curves(
        cls,
        runs: Experiments | Experiment | Sequence[Experiment],
        species: str,
        method: str = "spline",
        smoothing: Any = None,
    ) -> Rates:
        """Rates as slopes of concentration over time in batch runs.

        "spline": a cubic smoothing spline, its smoothing by robust generalised cross-validation or as given;
        at each sample. "differences": differences of three
        neighbours, exact for a parabola. Other species come from their own spline or measurement at that time.

        Parameters
        ----------
        runs : Experiments, or runs
        species : str
        method : "spline" or "differences"
        smoothing : float, optional
            Weight of roughness, for times relative to the length of the run.

        Raises
        ------
        InputError
            For an unknown species, or a run with fewer than five (spline) or three samples.
        """
        data, named = measured(runs, species)
        if method not in METHODS:
            raise InputError(f"'{method}' is not a way to find slopes", "method", nearest(method, METHODS))
        fewest = 5 if method == "spline" else 3
        faults = Faults()
        found, rows = [], []
        for run in named:
            times, values = series(run, species)
            if len(times) < fewest:
                faults.add(f"run {run.name}", f"{len(times)} samples of {species}", f"at least {fewest} are needed")
                continue
            curve, slope, weight = differentiate(times, values, method, smoothing)
            found.append(Slopes(run.name, times, values, times, curve, slope, weight))
            others = {s: _interpolated(run, s, times) for s in _followed(run)}
            rows.append((run, times, slope, {**others, species: np.maximum(curve, 0.0)}))
        faults.raise_any(data.source)
        word = "smoothing spline" if method == "spline" else "differences of three neighbours"
        return cls._of(data, species, rows, f"slopes of {word}", tuple(found))

    @classmethod
    def initial(cls, runs: Experiments | Experiment | Sequence[Experiment], species: str, within: float = 0.1) -> Rates:
        """Initial rates: the slope of a parabola through the start of each run, while conversion is small.

        The samples up to a conversion (for a product, up to that fraction of the largest reactant) of `within` are
        used, at least three; with fewer than four by a straight line.

        Raises
        ------
        InputError
            If a run has fewer than three samples, including the start.
        """
        data, named = measured(runs, species)
        faults = Faults()
        found, rows = [], []
        for run in named:
            times, values = series(run, species, start=True)
            if len(times) < 3:
                faults.add(f"run {run.name}", f"{len(times)} samples of {species}", "at least 3 are needed")
                continue
            top = max([abs(values[0]), *run.charge.values()])
            early = np.abs(values - values[0]) <= within * top
            used = max(3, int(np.argmin(early)) if not early.all() else len(early))
            t, c = times[:used], values[:used]
            fitted = np.polynomial.Polynomial.fit(t, c, 2 if used >= 4 else 1)
            slope = float(fitted.deriv()(t[0]))
            found.append(Slopes(run.name, times, values, t, fitted(t), np.array([slope])))
            rows.append((run, t[:1], np.array([slope]), {s: np.array([c]) for s, c in run.charge.items()}))
        faults.raise_any(data.source)
        return cls._of(data, species, rows, f"initial slopes, to a conversion of {within:g}", tuple(found))

    @classmethod
    def differential(cls, runs: Experiments | Experiment | Sequence[Experiment], species: str) -> Rates:
        """Rates from outlets of a differential reactor or a stirred tank: (in - out) / space time.

        In a stirred tank the rate is that at the outlet; in a short tube that at the mean of inlet and outlet, which
        holds for small conversion (O. Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, chapter 18).

        Raises
        ------
        InputError
            If a run is a batch.
        """
        data, named = measured(runs, species)
        rows = []
        for run in named:
            if run.vessel == "batch":
                raise InputError("a batch has no outlet", f"run {run.name}", "use Rates.from_curves, or Rates.initial")
            seen = np.isfinite(run.measured[species])
            times, out = run.times[seen], run.measured[species][seen]
            slope = (out - run.charge.get(species, 0.0)) / times
            here = {}
            for s in run.charge.keys() | run.measured.keys():
                fed = run.charge.get(s, 0.0)
                leaving = run.measured[s][seen] if s in run.measured else np.full(len(times), fed)
                leaving = np.where(np.isfinite(leaving), leaving, fed)
                here[s] = leaving if run.vessel == "stirred tank" else (fed + leaving) / 2
            rows.append((run, times, slope, here))
        return cls._of(data, species, rows, "(in - out) / space time", ())

    @classmethod
    def _of(
        cls,
        data: Experiments,
        species: str,
        rows: Sequence[_Row],
        how: str,
        slopes: tuple[Slopes, ...],
    ) -> Rates:
        slope = np.concatenate([s for _, _, s, _ in rows])
        names = [n for n in rows[0][3] if all(n in c for *_, c in rows)]
        known = all(run.T is not None for run, *_ in rows)
        return cls(
            slope if slope.sum() > 0 else -slope,
            {n: np.concatenate([np.broadcast_to(c[n], t.shape) for _, t, _, c in rows]) for n in names},
            species,
            np.concatenate([np.full(len(t), run.T) for run, t, *_ in rows]) if known else None,
            tuple(run.name for run, t, *_ in rows for _ in t),
            np.concatenate([t for _, t, *_ in rows]),
            source=data.source,
            show=data.show,
            how=how,
            slopes=slopes,
        )

    def kind_of(self, response: str) -> str:
        """The kind of quantity of the measured values: that of its rates."""
        return self.kind

    @property
    def response(self) -> str:
        """The response, in words."""
        return f"rate of {self.species}" if self.species else "rate"

    @property
    def left_out(self) -> tuple[Any, ...]:
        """Always empty: a rate is excluded by deleting its line."""
        return ()

    @property
    def temperatures(self) -> tuple[float, ...]:
        return tuple(self.T.tolist()) if self.T is not None else ()

    @property
    def highest_concentrations(self) -> dict[str, float]:
        """Of each species, in mol/m^3."""
        return {s: float(np.nanmax(c)) for s, c in self.concentrations.items() if np.isfinite(c).any()}

    @property
    def display(self) -> Display:
        """The units of the data."""
        return Display(self.show, unitless=not self.show)

    @property
    def conditions(self) -> tuple[Hashable, ...]:
        """The key of replicates: concentrations and temperature."""
        columns = [*self.concentrations.values(), *([self.T] if self.T is not None else [])]
        return tuple(tuple(float(c[i]) for c in columns) for i in range(len(self.rate)))

    @property
    def variables(self) -> dict[str, np.ndarray]:
        """The varied conditions, for residual plots."""
        columns = {f"[{s}]": c for s, c in self.concentrations.items()}
        columns |= {"temperature": self.T} if self.T is not None else {}
        return {name: values for name, values in columns.items() if np.ptp(values) > 1e-9 * np.max(np.abs(values))}

    def table(self) -> Table:
        """One row per rate, with units in the headings."""
        display = self.display
        columns: dict[str, Any] = {"run": self.run}
        if np.isfinite(self.time).all():
            columns[display.heading("time", "time")] = display.number(self.time, "time")
        if self.T is not None:
            columns[display.heading("T", "temperature")] = display.number(self.T, "temperature")
        for species, values in self.concentrations.items():
            columns[display.heading(species, "concentration")] = display.number(values, "concentration")
        columns[display.heading(self.response, self.kind)] = display.number(self.rate, self.kind)
        return frame(columns)

    def to_dict(self) -> dict[str, Any]:
        """Plain data, in SI; `Rates.from_dict` reads it."""
        return {
            "rate": self.rate.tolist(),
            "species": self.species,
            "kind": self.kind,
            "how": self.how,
            "source": self.source,
            "show": dict(self.show),
            "run": list(self.run),
            "concentrations": {s: c.tolist() for s, c in self.concentrations.items()},
            "T": None if self.T is None else self.T.tolist(),
            "time": self.time.tolist() if np.isfinite(self.time).all() else None,
        }

    @classmethod
    def from_dict(cls, given: Mapping[str, Any]) -> Rates:
        """The rates of `to_dict`, without the curves that they are derived from."""
        known = {name: value for name, value in given.items() if value is not None}
        return cls(**{**known, "run": tuple(known.get("run", ()))})

    def power_law(self, *species: str) -> PowerLaw:
        """ln r = ln k + sum of n_i ln c_i (- Ea/R (1/T - 1/T_mean)) by multiple linear regression.

        (H. S. Fogler, Elements of Chemical Reaction Engineering, 5th ed. 2016, section 7.) The activation energy is
        fitted if there are several temperatures.

        Parameters
        ----------
        species : str
            The species whose orders are fitted; by default all whose concentration varies.

        Raises
        ------
        InputError
            For an unknown concentration, too few rates above zero, or concentrations that vary together.
        """
        return _power_law(self, species)

    def __len__(self) -> int:
        return len(self.rate)

    def __str__(self) -> str:
        display = self.display
        low, high = (display.text(v, self.kind, 3) for v in (float(self.rate.min()), float(self.rate.max())))
        where = f" from {self.source}" if self.source else ""
        weights = [s.smoothing for s in self.slopes if math.isfinite(s.smoothing)]
        detail = f", smoothing {min(weights):.2g} to {max(weights):.2g}" if weights else ""
        return f"{len(self)} values of {self.response}{where}, {low} to {high}: {self.how}{detail}"


def _followed(run: Experiment) -> list[str]:
    return list(run.charge.keys() | run.measured.keys())


def _interpolated(run: Experiment, species: str, times: np.ndarray) -> np.ndarray:
    """A concentration at given times: measured (with linear interpolation), or the charge."""
    if species not in run.measured:
        return np.full(len(times), run.charge[species])
    t, c = series(run, species, start=True)
    return np.asarray(np.interp(times, t, c))


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

    rates: Rates
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

    def to_dict(self) -> dict[str, Any]:
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
        columns: dict[str, Any] = {
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
        rows: list[tuple[Any, ...]] = [("k", self.k_unit, k, k * float(self.errors[0]), low, high)]
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


def _power_law(rates: Rates, species: Sequence[str]) -> PowerLaw:
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
