"""Expressions of metrics, as objectives and limits: '3 [1/kg]*mass flow of A - 40 [1/h/m3]*volume'."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.chemistry.dimensions import dimension_of
from molino.core.chemistry.formula import constant, parse_formula
from molino.core.contract.metric import Metric
from molino.core.contract.metrics import parse_metric
from molino.core.contract.vessel import Vessel
from molino.core.dimension_text import si_text
from molino.core.display import Display
from molino.core.errors import Faults, InputError, MolinoError, UnitError
from molino.core.frozen import Frozen
from molino.core.pint_units import product
from molino.core.trains.train import Train
from molino.core.unit_tables import SI_UNITS, Dimension

_OPERATORS = "+-*/^()"
_NUMBER = re.compile(r"(\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?\s*(?:\[([^\]]*)\])?")
_FUNCTION = re.compile(r"(exp|log|sqrt)\s*(?=\()")
_LIMIT = re.compile(r"(?P<left>.*?)(?P<way><=|>=|=)(?P<right>.*)", re.DOTALL)
_EVERYWHERE = re.compile(r"\s+everywhere\s*$")


@dataclass(frozen=True, eq=False)
class MetricExpression(Frozen):
    """An expression of metrics of a vessel, with its dimension.

    A number may have a unit in brackets. If the terms of a sum differ in dimension and no number has a unit, each
    metric is a bare number, in SI or in `counted`.

    Attributes
    ----------
    text : str
    metrics : tuple of Metric
        Its metrics.
    formula : sympy expression
        Of one constant for each metric, m0, m1, ...
    dimension : mapping
        Of the whole in SI; empty for a pure number.
    factors : tuple of float
        Divisors of each metric in SI; ones if dimensions agree.
    units : tuple of str
        Of its numbers that have one.
    """

    text: str
    metrics: tuple[Metric, ...]
    formula: sp.Expr
    dimension: Dimension
    factors: tuple[float, ...]
    units: tuple[str, ...] = ()

    @cached_property
    def _functions(self) -> tuple[Callable[..., float], Callable[..., Sequence[float]]]:
        symbols = sp.symbols(f"m0:{len(self.metrics)}")
        formula = self.formula.xreplace({constant(str(s)): s for s in symbols})
        slopes = [formula.diff(s) for s in symbols]
        return sp.lambdify(symbols, formula, "numpy"), sp.lambdify(symbols, slopes, "numpy")

    def value(self, numbers: Sequence[float] | np.ndarray) -> float:
        """The expression from its metrics in SI."""
        scaled = [n / f for n, f in zip(numbers, self.factors, strict=True)]
        with np.errstate(all="ignore"):
            return float(self._functions[0](*map(np.float64, scaled)))

    def slopes(self, numbers: Sequence[float] | np.ndarray) -> np.ndarray:
        """Its derivatives by its metrics in SI, shape (metrics,)."""
        scaled = [n / f for n, f in zip(numbers, self.factors, strict=True)]
        with np.errstate(all="ignore"):
            found = np.array(self._functions[1](*map(np.float64, scaled)), dtype=float)
        return np.asarray(found / np.array(self.factors))

    @property
    def kind(self) -> str:
        """The kind of quantity: that of its only metric, or of any with its dimension (of temperatures that of their
        difference); '' if there is none."""
        if self.formula == constant("m0"):
            return self.metrics[0].kind
        same = (
            k for k, unit in SI_UNITS.items() if k != "temperature" and units.unit(unit).dimension == self.dimension
        )
        return next(same, "")

    def shown(self, display: Display, value: float) -> float:
        """A value in the unit of results."""
        if self.kind:
            return float(display.number(value, self.kind))
        unit = self.unit(display)
        return float(units.unit(unit).from_si(value)) if unit else value

    def unit(self, display: Display) -> str:
        """The unit of results: that of its kind, or the product of the units of a number and of a metric (1/kg and
        kg/h: 1/h)."""
        if self.kind:
            return display.unit(self.kind)
        for own in self.units:
            for metric in self.metrics:
                text = product(own, display.unit(metric.kind) or SI_UNITS[metric.kind])
                if units.unit(text).dimension == self.dimension:
                    return text
        return si_text(self.dimension)

    def shown_text(self, display: Display, value: float, digits: int = 4) -> str:
        """A value with that unit."""
        if self.kind:
            return display.text(value, self.kind, digits)
        return f"{units.number_text(self.shown(display, value), digits)} {units.pretty(self.unit(display))}".rstrip()

    def counts(self, display: Display) -> str:
        """The units of metrics that are bare numbers, if any."""
        if len(self.metrics) == 1 or self.dimension or self.is_dimensionless:
            return ""
        is_si = all(f == 1.0 for f in self.factors)
        own = [
            f"{m} in {units.pretty(SI_UNITS[m.kind] if is_si else display.unit(m.kind)) or 'fractions'}"
            for m in self.metrics
        ]
        return f"numbers without units: the metrics are {', '.join(own)}"

    @property
    def is_dimensionless(self) -> bool:
        """Whether every metric in it is a pure number."""
        return all(not SI_UNITS[m.kind] for m in self.metrics) or bool(self.units)

    def __str__(self) -> str:
        return self.text


def read_expression(text: object, vessel: Vessel | Train, counted: Display | None = None) -> MetricExpression:
    """Read an expression of metrics.

    Parameters
    ----------
    text : str or Metric
    vessel : Vessel or Train
        The vessel or train of its metrics.
    counted : Display, optional
        The units of metrics as bare numbers, if the dimensions of a sum do not agree; by default SI.

    Raises
    ------
    InputError
        If a part of it is not a metric of the vessel, or its dimensions do not agree.
    """
    if isinstance(text, Metric):
        vessel.spec.check_metric(text)
        dimension = units.unit(SI_UNITS[text.kind]).dimension
        return MetricExpression(str(text), (text,), constant("m0"), dimension, (1.0,))
    if not isinstance(text, str) or not text.strip():
        raise InputError(f"{text!r} is not an expression of metrics", "", "write it like 'yield of B on A'")
    parts = _Parts(text, vessel)
    skeleton = parts.read()
    if not parts.metrics:
        raise InputError(f"there is no metric in '{text}'", "", "name one, like 'conversion of A'")
    try:
        formula = parse_formula(skeleton)
    except InputError as error:
        advice = "write sums and products of metrics: 'conversion of A - 0.1*selectivity of B over C'"
        raise InputError(f"'{text}' cannot be read", "", advice) from error
    numbers = {constant(name): sp.Float(value) for name, value in parts.numbers.items()}
    found = formula.xreplace(numbers)
    known = {f"m{i}": units.unit(SI_UNITS[m.kind]).dimension for i, m in enumerate(parts.metrics)}
    factors = tuple(1.0 for _ in parts.metrics)
    try:
        dimension = dimension_of(formula, {**known, **parts.dimensions})
    except UnitError as error:
        if parts.units:
            terms = ", ".join(f"{m}: {SI_UNITS[m.kind] or 'a number'}" for m in parts.metrics)
            advice = "give each number its unit in brackets, like 40 [1/h/m3]*volume, so that all terms agree"
            raise UnitError(f"the terms of '{text}' are of different dimensions ({terms})", "", advice) from error
        dimension = {}
        if counted is not None and not counted.unitless:
            factors = tuple(units.unit(counted.unit(m.kind)).factor for m in parts.metrics)
    return MetricExpression(text.strip(), tuple(parts.metrics), found, dimension, factors, tuple(parts.units))


class _Parts:
    """A text split into metrics, numbers with units, and the text between them."""

    def __init__(self, text: str, vessel: Vessel | Train) -> None:
        self.text, self.vessel = text, vessel
        self.metrics: list[Metric] = []
        self.numbers: dict[str, float] = {}
        self.dimensions: dict[str, Dimension] = {}
        self.units: list[str] = []

    def read(self) -> str:
        """The text as a formula of m0, m1, ... for metrics and q0, q1, ... for numbers with units."""
        found, at = "", 0
        while at < len(self.text):
            rest = self.text[at:]
            number, function = _NUMBER.match(rest), _FUNCTION.match(rest)
            if rest[0].isspace() or rest[0] in _OPERATORS:
                found, at = found + rest[0], at + 1
            elif number is not None:
                found, at = found + self._number(number), at + number.end()
            elif function is not None:
                found, at = found + function[1], at + function.end()
            else:
                metric, length = self._metric(rest)
                if metric not in self.metrics:
                    self.metrics.append(metric)
                found, at = f"{found}m{self.metrics.index(metric)}", at + length
        return found

    def _number(self, match: re.Match[str]) -> str:
        if match[2] is None:
            return match[0].strip()
        name = f"q{len(self.numbers)}"
        unit = units.unit(match[2].strip())
        self.numbers[name] = float(match[0].partition("[")[0]) * unit.factor
        self.dimensions[name] = unit.dimension
        self.units.append(match[2].strip())
        return name

    def _metric(self, rest: str) -> tuple[Metric, int]:
        """The longest beginning that is a metric of the vessel: names of species may contain signs."""
        cuts = [n for n, letter in enumerate(rest) if letter in _OPERATORS and n] + [len(rest)]
        first: MolinoError | None = None
        for cut in sorted(cuts, reverse=True):
            try:
                metric = parse_metric(rest[:cut].strip())
                self.vessel.spec.check_metric(metric)
            except InputError as error:
                first = error  # the error of the shortest remains
            else:
                return metric, cut
        assert first is not None
        raise first


@dataclass(frozen=True, eq=False)
class Limit(Frozen):
    """A limit on a metric or an expression: above, below or at a value.

    Attributes
    ----------
    expression : MetricExpression
    way : '<=', '>=' or '='
    value : float
        In SI.
    is_everywhere : bool
        Whether it applies at every point of the run, and not only at the outlet or end.
    """

    expression: MetricExpression
    way: str
    value: float
    is_everywhere: bool = False

    @property
    def sign(self) -> float:
        """1 if the expression must be above the value, -1 if below."""
        return -1.0 if self.way == "<=" else 1.0

    def text(self, display: Display) -> str:
        """In words, with the value in the units of results."""
        value = self.expression.shown_text(display, self.value, 6)
        return f"{self.expression}{' everywhere' if self.is_everywhere else ''} {self.way} {value}"


def read_limit(text: object, vessel: Vessel | Train, in_unit: Callable[[object, str], object] | None = None) -> Limit:
    """Read a limit like 'conversion of A >= 0.9' or 'temperature everywhere <= 240 degC'.

    `in_unit` gives a bare number the unit of its kind in a job.

    Raises
    ------
    InputError
        If it has no sign, a part that is not a metric, or a value of another dimension.
    """
    found = _LIMIT.fullmatch(text) if isinstance(text, str) else None
    if found is None:
        raise InputError(f"{text!r} is not a limit", "", "write it like 'conversion of A >= 0.9'")
    left, right = found["left"], found["right"]
    is_everywhere = bool(_EVERYWHERE.search(left) or _EVERYWHERE.search(right))
    expression = read_expression(_EVERYWHERE.sub("", left), vessel)
    if is_everywhere and expression.formula != constant("m0"):
        raise InputError(f"'{expression}' is not a single metric", "", "limit one metric everywhere, like temperature")
    given: Any = _EVERYWHERE.sub("", right).strip()
    faults = Faults()
    with faults.at(f"'{found[0].strip()}'"):
        if is_everywhere and found["way"] == "=":
            raise InputError("an expression cannot be limited everywhere", "", "give <= or >=")
        if in_unit is not None and expression.kind and re.fullmatch(r"[-+]?[\d.]+(?:[eE][-+]?\d+)?", given):
            given = in_unit(float(given), expression.kind)
        value = units.read(given, expression.kind or None, str(expression))
        if not expression.kind and value.unit and units.unit(value.unit).dimension != expression.dimension:
            wanted = si_text(expression.dimension)
            raise UnitError(f"'{given}' is of another dimension", "", f"give it in {wanted}" if wanted else "")
    faults.raise_any()
    return Limit(expression, found["way"], value.si, is_everywhere)
