"""The result of screening orders: laws, lines and predictions."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from molino.core import units
from molino.core.annotations import PlainData
from molino.core.chemistry.temperature_dependence import Arrhenius
from molino.core.errors import InputError, nearest
from molino.core.fitting.experiments import Experiments
from molino.core.fitting.orders.correlated_series import Correlation
from molino.core.fitting.orders.integrated_laws import LEVEL, Law, Series
from molino.core.fitting.serial_correlation import SerialCorrelation
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, frame
from molino.core.statistics import half_width, p_text
from molino.core.units import QuantityLike, Value

REVERSIBLE = "reversible first order"


@dataclass(frozen=True, eq=False)
class Screening(Frozen, Result):
    """The result of `screen_orders`.

    Attributes
    ----------
    species : str
    experiments : Experiments
    series : tuple of Series
    laws : tuple of Law
        Zero, first and second order, and others that were requested.
    free : Law
        The free order n.
    order_interval : pair of floats
        99 % interval of n by its profile.
    errors : str
        "same", "relative" or "given".
    correlation : Correlation or None
        The correlation of errors over time, if it was estimated.
    serial : SerialCorrelation or None
        Of the residuals around the free order.

    Examples
    --------
    >>> from importlib.resources import files
    >>> runs = mo.read_experiments(files("molino.demo") / "cob-liquor.csv")
    >>> mo.screen_orders(runs, "xylose").chosen.name
    'first order'
    """

    species: str
    experiments: Experiments
    series: tuple[Series, ...]
    laws: tuple[Law, ...]
    free: Law
    order_interval: tuple[float, float]
    errors: str = "same"
    correlation: Correlation | None = None
    serial: SerialCorrelation | None = None

    @property
    def chosen(self) -> Law | None:
        """The law that alone is not rejected; None if all are rejected, or several are not."""
        return self.standing[0] if len(self.standing) == 1 else None

    @property
    def standing(self) -> list[Law]:
        """The laws that are not rejected; the reversible one, which has one parameter more, only if needed."""
        left = [law for law in self.laws if law.possible]
        simpler = any(law.order == 1 for law in left)
        return [law for law in left if not (simpler and law.name == REVERSIBLE)]

    @property
    def conversion(self) -> float:
        """The largest conversion of a run: (first - last) / first of the measured values."""
        return max(1 - float(s.values[-1]) / float(s.values.max()) for s in self.series)

    @cached_property
    def verdict(self) -> str:
        """The law, or the reason why none is chosen."""
        low, high = self.order_interval
        n = f"n = {self.free.order:.2f} ({low:.2f} to {high:.2f}, 99 %)"
        left = self.standing
        ruled_out = ", ".join(law.name for law in self.laws if not law.possible)
        if len(left) == 1:
            message = f"{left[0].name}: the free order is {n}"
            within = [law.name for law in self.laws if not law.possible and low <= law.order <= high]
            if within:
                message = f"{left[0].name}, which fits better than {' or '.join(within)}; a free order would be {n}"
            return f"{message}; rejected: {ruled_out}" if ruled_out else message
        if left:
            names = " from ".join([left[0].name, " or ".join(law.name for law in left[1:])])
            far = f"the scatter of {self.scatter:.1%} hides the difference"
            far = f"conversion reaches only {self.conversion:.0%}" if self.conversion < 0.8 else far
            return f"these data cannot tell {names}: {far}; the free order is {n}"
        return f"none of these ({ruled_out}): the free order is {n}; a reversible or a mixed law?"

    @property
    def scatter(self) -> float:
        """Residual standard deviation around the free order, as a fraction (of the largest value for equal errors)."""
        if self.errors == "relative":
            return self.free.standard_deviation
        return self.free.standard_deviation / max(float(s.values.max()) for s in self.series)

    def error_heading(self, name: str) -> str:
        """The heading of residuals: with the unit of the concentration, or in per cent for relative errors."""
        return f"{name} [%]" if self.errors == "relative" else self.experiments.display.heading(name, "concentration")

    def error_number(self, residual: np.ndarray | float) -> object:
        """Residuals in that unit."""
        if self.errors == "relative":
            return 100.0 * residual
        return self.experiments.display.number(residual, "concentration")

    def law(self, name: str) -> Law:
        """A law by name; InputError offers the nearest."""
        for law in (*self.laws, self.free):
            if law.name == name:
                return law
        known = [law.name for law in (*self.laws, self.free)]
        raise InputError(f"unknown law '{name}'", "orders", nearest(name, known))

    def k_unit(self, law: Law) -> str:
        """The unit of k of a law, in the units of the data; '' for bare numbers."""
        n = 1.0 if law.name == REVERSIBLE else law.order if math.isfinite(law.order) else 2.0
        return self.experiments.display.rate_constant_unit(n)

    def k_number(self, law: Law, si: float) -> float:
        """k from SI to that unit."""
        display = self.experiments.display
        if display.unitless:
            return si
        n = 1.0 if law.name == REVERSIBLE else law.order if math.isfinite(law.order) else 2.0
        c, t = (units.unit(display.unit(kind)).factor for kind in ("concentration", "time"))
        return float(si / (c ** (1 - n) / t))

    def table(self) -> Table:
        """One row per law and run: R^2 and k of the line, k of the curve with its 95 % interval, half-life, scatter."""
        display = self.experiments.display
        rows: list[PlainData] = []
        for law in (*self.laws, self.free):
            name = f"order n = {law.order:.3g}" if law is self.free else law.name
            for i, (s, line) in enumerate(zip(self.series, law.lines, strict=True)):
                low, high = (self.k_number(law, bound) for bound in law.interval(i))
                rows.append(
                    {
                        "law": name,
                        **({"run": s.run} if len(self.series) > 1 else {}),
                        "R² of line": line.r_squared if line else math.nan,
                        "intercept": self.line_of(law, i)[0],
                        "slope": self.line_of(law, i)[1],
                        "k of line": self.k_number(law, line.k) if line else math.nan,
                        "k": self.k_number(law, law.k(i)),
                        "95 % low": low,
                        "95 % high": high,
                        "unit": self.k_unit(law),
                        display.heading("half-life", "time"): display.number(law.half_life(i), "time"),
                        self.error_heading("s"): self.error_number(law.standard_deviation),
                        "p": law.probability,
                    }
                )
        return frame(rows)

    def transform(self, law: Law) -> tuple[str, str, float, float]:
        """The transform of the line of a law: its name and unit, and shift and factor from SI."""
        unit = self.experiments.display.unit("concentration")
        factor = units.unit(unit).factor if unit else 1.0
        name, (above, _, below) = f"[{self.species}]", unit.partition("/")
        inverse = f"{below or 1}/{above}" if unit else ""
        if law.order == 0:
            return name, unit, 0.0, 1.0 / factor
        if law.order == 1:
            return f"ln {name}", "", -math.log(factor), 1.0
        if law.order == 2:
            return f"1/{name}", inverse, 0.0, factor
        if law.name.startswith("second order with"):
            return f"ln([{law.name.rpartition(' ')[2]}]/{name}) / excess", inverse, 0.0, factor
        if not math.isfinite(law.order):
            return f"ln({name} - {name} at equilibrium)", "", -math.log(factor), 1.0
        return f"{name}^{1 - law.order:.3g}", "", 0.0, factor ** -(1 - law.order)

    def line_of(self, law: Law, i: int) -> tuple[float, float]:
        """Intercept and slope of the line of a law through a run, in the units of the data; nan without a line."""
        line, display = law.lines[i], self.experiments.display
        if line is None:
            return math.nan, math.nan
        _, _, shift, factor = self.transform(law)
        time = units.unit(display.unit("time")).factor if display.unit("time") else 1.0
        return line.intercept * factor + shift, line.slope * factor * time

    def line_text(self, law: Law, i: int) -> str:
        """The equation of a line: 'ln [A] = -0.69 - 0.0203 t (t in min)'."""
        intercept, slope = self.line_of(law, i)
        if math.isnan(slope):
            return "no line"
        unit = self.experiments.display.unit("time")
        sign = "-" if slope < 0 else "+"
        text = f"{self.transform(law)[0]} = {intercept:.4g} {sign} {abs(slope):.4g} t"
        return f"{text} (t in {unit})" if unit else text

    def predict(self, time: QuantityLike, run: str | None = None, law: str | None = None) -> Prediction:
        """The concentration at a time, with its intervals, by the chosen law (or another by name).

        Parameters
        ----------
        time : str, float or quantity
        run : str, optional
            The run whose constant and initial value are used; optional if there is one run.
        law : str, optional

        Raises
        ------
        InputError
            For an unknown run or law, or if none was chosen.
        """
        chosen = self.law(law) if law is not None else self.chosen
        if chosen is None:
            raise InputError("no law was chosen", "orders", f"name one, law='first order'; {self.verdict}")
        names = [s.run for s in self.series]
        if (run is None and len(names) > 1) or (run is not None and run not in names):
            raise InputError(
                f"unknown run '{run}'" if run else "there are several runs", "orders", nearest(run or "", names)
            )
        i = names.index(run) if run is not None else 0
        t = units.positive(time, "time", "time", zero=True).si
        p, s = chosen.logarithms[i], self.series[i]

        def at(q: np.ndarray) -> float:
            return float(chosen.model(q, np.array([t]), s)[0])

        slopes = np.array([(at(p + step) - at(p - step)) / 2e-6 for step in 1e-6 * np.eye(len(p))])
        mean = float(slopes @ chosen.covariances[i] @ slopes)
        one = chosen.standard_deviation * (at(p) if s.is_relative else 1.0)
        halves = [half_width(math.sqrt(v), chosen.degrees_of_freedom) for v in (mean, mean + one**2)]
        return Prediction(t, at(p), halves[0], halves[1], self, s.run)

    def over_temperature(self, law: str | None = None) -> Arrhenius:
        """The Arrhenius law through the rate constants of the runs, by the chosen law (or another by name).

        Raises
        ------
        InputError
            If no law was chosen, a run has no temperature, or all have the same one.
        """
        chosen = self.law(law) if law is not None else self.chosen
        if chosen is None:
            raise InputError("no law was chosen", "orders", f"name one, law='first order'; {self.verdict}")
        given = {run.name: run.T for run in self.experiments}
        without = [s.run for s in self.series if given[s.run] is None]
        if without:
            raise InputError(f"no temperature of {', '.join(without)}", "orders", "add a column T [degC]")
        display = self.experiments.display
        T = [Value(float(given[s.run] or 0.0), display.unit("temperature") or None) for s in self.series]
        unit = self.k_unit(chosen) or None
        return Arrhenius.through(T, [Value(chosen.k(i), unit) for i in range(len(self.series))])

    def to_dict(self) -> PlainData:
        """Plain data: the verdict, and each law with its constants by run, in the units of results."""
        display = self.experiments.display
        laws = {}
        for law in (*self.laws, self.free):
            runs = {}
            for i, (s, line) in enumerate(zip(self.series, law.lines, strict=True)):
                low, high = (self.k_number(law, bound) for bound in law.interval(i))
                runs[s.run] = {
                    "k": self.k_number(law, law.k(i)),
                    "low_95": low,
                    "high_95": high,
                    "unit": self.k_unit(law),
                    "half_life": float(display.number(law.half_life(i), "time")),
                    "line": None
                    if line is None
                    else {
                        "k": self.k_number(law, line.k),
                        "half_width_95": self.k_number(law, line.half_width),
                        "slope_si": line.slope,
                        "intercept_si": line.intercept,
                        "r_squared": line.r_squared,
                    },
                }
            laws[law.name] = {
                "order": law.order,
                "probability": law.probability,
                "possible": law.possible,
                "runs": runs,
            }
        return {
            "species": self.species,
            "errors": self.errors,
            "correlation_time_s": self.correlation.tau if self.correlation is not None else None,
            "notes": self.error_lines,
            "verdict": self.verdict,
            "chosen": self.chosen.name if self.chosen is not None else None,
            "order": self.free.order,
            "order_interval_99": list(self.order_interval),
            "laws": laws,
        }

    def __str__(self) -> str:
        display = self.experiments.display
        count = sum(len(s.values) for s in self.series)
        lines = [
            f"order of {self.species}: {count} values in {len(self.series)} run{'s' if len(self.series) > 1 else ''}"
        ]
        for law in (*self.laws, self.free):
            name = f"order n = {law.order:.3g}" if law is self.free else law.name
            mark = "*" if law is self.chosen else " "
            squares = [line.r_squared for line in law.lines if line is not None]
            fitted = f"R² of line {min(squares):.4f}" if squares else "no line"
            standard_deviation = (
                f"{100 * law.standard_deviation:.3g} %"
                if self.errors == "relative"
                else display.text(law.standard_deviation, "concentration", 3)
            )
            lines.append(
                f"{mark} {name:<26} {fitted}, s {standard_deviation}"
                + ("" if law is self.free else f", p {p_text(law.probability)}")
            )
            if law is self.chosen or (self.chosen is None and law is self.free):
                for i, s in enumerate(self.series):
                    low, high = (self.k_number(law, bound) for bound in law.interval(i))
                    unit = units.pretty(self.k_unit(law))
                    half = display.text(law.half_life(i), "time", 3) if math.isfinite(law.order) else ""
                    half = f", half-life {half}" if half else ""
                    k = self.k_number(law, law.k(i))
                    lines.append(f"      {s.run}: k = {k:.4g} ({low:.4g} to {high:.4g}) {unit}{half}".rstrip())
                    if law is not self.free:
                        lines.append(f"          line: {self.line_text(law, i)}")
        lines.append(
            "  (s: scatter around the curve; p: probability of data at least so far from the law, if it were true)"
        )
        return "\n".join([*lines, *self.error_lines, f"verdict: {self.verdict}"])

    @property
    def error_lines(self) -> list[str]:
        """The errors that were assumed, and their serial correlation, in words."""
        found = ["errors as given, up to a factor"] if self.errors == "given" else []
        if self.correlation is not None:
            text = self.experiments.display.text(self.correlation.tau, "time", 3)
            found.append(f"errors correlated over {text} (tau)" if self.correlation.tau else "errors not correlated")
        elif self.serial is not None and self.serial.probability < LEVEL:
            found.append(
                f"note: the residuals of order n are correlated with the next ({self.serial.correlation:.2f}, p "
                f"{p_text(self.serial.probability)}), and these tests assume independent errors: use the option "
                f"autocorrelated"
            )
        return found


@dataclass(frozen=True, eq=False)
class Prediction(Frozen, Result):
    """A predicted concentration in mol/m^3, with the half widths of 95 % intervals of the mean and of one sample.

    Attributes
    ----------
    time : float
        In s.
    value : float
        In mol/m^3.
    confidence, prediction : float
        Half widths of the 95 % intervals of the mean and of one sample, in mol/m^3.
    screening : Screening
    run : str

    Examples
    --------
    >>> from importlib.resources import files
    >>> data = files("molino.demo") / "cob-liquor.csv"
    >>> found = mo.screen_orders(mo.read_experiments(data), "xylose")
    >>> print(found.predict("240 min", "B1"))
    xylose in B1 at 240 min: 0.02474 mol/L, 95 %: ± 0.0025 mol/L, of one sample ± 0.0088 mol/L
    """

    time: float
    value: float
    confidence: float
    prediction: float
    screening: Screening
    run: str

    def table(self) -> Table:
        """One row: run, time, value and the half widths."""
        display = self.screening.experiments.display
        numbers = {"value": self.value, "± of the mean": self.confidence, "± of one sample": self.prediction}
        row: PlainData = {"run": self.run, display.heading("time", "time"): display.number(self.time, "time")}
        return frame(
            [
                row
                | {display.heading(n, "concentration"): display.number(x, "concentration") for n, x in numbers.items()}
            ]
        )

    def to_dict(self) -> PlainData:
        """Plain data, in SI."""
        return {
            "run": self.run,
            "time_s": self.time,
            "value_si": self.value,
            "half_width_95_mean_si": self.confidence,
            "half_width_95_sample_si": self.prediction,
        }

    def __str__(self) -> str:
        display = self.screening.experiments.display
        mean, one = (display.text(c, "concentration", 2) for c in (self.confidence, self.prediction))
        value, of = display.text(self.value, "concentration"), f" in {self.run}" * (len(self.screening.series) > 1)
        place = f"{self.screening.species}{of} at {display.text(self.time, 'time')}"
        return f"{place}: {value}, 95 %: ± {mean}, of one sample ± {one}"
