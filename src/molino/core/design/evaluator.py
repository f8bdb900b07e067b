"""A vessel as a function of plain numbers, to be called in a loop."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import sympy as sp

from molino.core.arguments import checked
from molino.core.balances.compiled import Maker, compiled
from molino.core.balances.integrate import RUN_OUT, end_state, integrate, observe
from molino.core.balances.settings import ATOL, RTOL
from molino.core.balances.steady import steady_slopes
from molino.core.balances.system import Balances, Case
from molino.core.contract.metric import Metric
from molino.core.contract.metrics import read_metric
from molino.core.contract.parameter_map import ParameterMap
from molino.core.contract.vessel import Vessel
from molino.core.errors import Faults, InputError, SolveError
from molino.core.frozen import Frozen
from molino.core.printing import Printed
from molino.core.runs.trajectory import numbers_at
from molino.core.vessels.flow_vessel import FlowVessel


@dataclass(frozen=True, eq=False)
class Evaluator(Frozen, Printed):
    """Metrics of a vessel as a function of some of its conditions, compiled; made by `mo.evaluator`.

    Calling it with numbers in SI, one for each condition, gives the metrics in SI, shape (metrics,), of
    `vessel.with_(...).run()`.

    Attributes
    ----------
    map : ParameterMap
        From the conditions to the numbers of the balances.
    metrics : tuple of Metric
    rtol, atol : float
        Tolerances of the integration.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L")
    >>> conversion = mo.evaluator(tube, ["volume"], ["conversion of A"])
    >>> print(conversion)
    plug flow: conversion of A over volume (SI)
    """

    map: ParameterMap
    metrics: tuple[Metric, ...]
    rtol: float = RTOL
    atol: float = ATOL

    @cached_property
    def _expressions(self) -> tuple[sp.Expr, ...]:
        return tuple(self.map.vessel.spec.expression(metric) for metric in self.metrics)

    @cached_property
    def _balances(self) -> Balances:
        return self.map.vessel.spec.model.balances_for(self._expressions)

    @cached_property
    def _outputs(self) -> Maker:
        return compiled(self._balances).outputs(self._expressions)

    @cached_property
    def _runs_whole(self) -> bool:
        """Whether more than one integration is needed: for stages, or for conditions at both ends."""
        return self.map.vessel.spec.has_segments or bool(self._balances.conditions)

    def __call__(self, *numbers: float) -> np.ndarray:
        """The metrics at some numbers, shape (metrics,).

        Raises
        ------
        InputError
            If there are more or fewer numbers than conditions.
        SolveError
            If the vessel cannot be run with them.
        """
        if len(numbers) != len(self.map.names):
            message = f"{len(numbers)} numbers for {', '.join(self.map.names)}"
            raise InputError(message, self.map.vessel.label, "give one for each, in SI")
        vessel = self.map.vessel
        if self._runs_whole:
            run = self._run(numbers)
            return np.array([run.metric(metric) for metric in self.metrics])
        values, end = self.map.values(numbers)
        case = Case(self._balances, values)
        if vessel.spec.has_steady_state:
            assert isinstance(vessel, FlowVessel)
            case, state, _ = vessel.spec.solve_steady(case)
            end = 0.0
        else:
            state = end_state(case, end, self.rtol, self.atol)
            self._check(state, numbers)
        return np.array(numbers_at(self._outputs(case.values), state, end))

    def slopes(self, *numbers: float) -> np.ndarray:
        """The exact derivatives of the metrics by the conditions at some numbers, shape (metrics, conditions), in SI.

        Raises
        ------
        SolveError
            If the vessel cannot be run with them.

        Examples
        --------
        >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
        >>> tube = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L")
        >>> mo.evaluator(tube, ["volume"], ["conversion of A"]).slopes(0.005).round(3).tolist()
        [[73.576]]
        """
        vessel = self.map.vessel
        if self._runs_whole:
            return np.asarray(self._run(numbers).slopes(self.metrics, self.map.names))
        values, by_condition, end, by_end = self.map.with_slopes(numbers)
        case, moved = Case(self._balances, values), np.flatnonzero(by_condition.any(axis=1))
        by = tuple(self._balances.parameters[i] for i in moved)
        if vessel.spec.has_steady_state:
            assert isinstance(vessel, FlowVessel)
            case, state, _ = vessel.spec.solve_steady(case)
            sensitivity, end, by_end = steady_slopes(case, state, by), 0.0, np.zeros(len(numbers))
        else:
            solution = integrate(case, [0.0, end], by=by, rtol=self.rtol, atol=self.atol)
            state, found = solution.states[-1], solution.sensitivities
            sensitivity = found[-1] if found is not None else np.zeros((len(state), 0))
        _, slopes = observe(case, self._expressions, np.array([end]), state[None], sensitivity[None], by)
        total = slopes[0] @ by_condition[moved]
        if by_end.any():
            whole, over = compiled(self._balances), (*self._balances.symbols, self._balances.independent)
            partial = whole.gradient(self._expressions, over)(values)(state, end)
            along = partial[:, :-1] @ np.asarray(whole.rhs(values)(state, end)) + partial[:, -1]
            total = total + np.outer(along, by_end)
        return np.asarray(total)

    def _run(self, numbers: tuple[float, ...]) -> Any:
        """The run of the vessel with some numbers."""
        condition = self.map.vessel.spec.condition
        given = {n: condition(n).give(x) for n, x in zip(self.map.names, numbers, strict=True)}
        return self.map.vessel.with_(given).run()

    def _check(self, state: np.ndarray, numbers: tuple[float, ...]) -> None:
        if min(state.tolist()) >= 0:
            return
        amounts = state[self._balances.amounts]
        if (amounts < -RUN_OUT * np.max(np.abs(amounts))).any():
            name = self._balances.names[self._balances.amounts[int(np.argmin(amounts))]]
            where = ", ".join(f"{n} = {v:.6g}" for n, v in zip(self.map.names, numbers, strict=True))
            message = f"{name} is exhausted at {where}, and a rate law still consumes it"
            raise SolveError(message, self.map.vessel.label, f"make that rate fall to zero with [{name}]")

    def __str__(self) -> str:
        asked = ", ".join(str(m) for m in self.metrics)
        return f"{self.map.vessel.title}: {asked} over {', '.join(self.map.names)} (SI)"


@checked
def evaluator(vessel: Vessel, conditions: Sequence[str], metrics: Sequence[Metric | str]) -> Evaluator:
    """A vessel as a function of some of its conditions, compiled, to be called in a loop.

    Parameters
    ----------
    vessel : Batch, SemiBatch, StirredTank or PlugFlow
    conditions : sequence of str
        Numbers by the names that `with_` takes: "T", "flow", "length", "[A]", "r.k"; in SI when it is called.
    metrics : sequence of Metric or str

    Returns
    -------
    Evaluator

    Raises
    ------
    InputError
        With every unknown condition and metric.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> tube = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L")
    >>> conversion = mo.evaluator(tube, ["volume"], ["conversion of A"])
    >>> [round(float(conversion(v)[0]), 4) for v in (0.001, 0.005)]
    [0.1813, 0.6321]
    """
    vessel.spec.require_known()
    faults, asked = Faults(), []
    for name in conditions:
        with faults.at("evaluator"):
            vessel.spec.condition(name)
    for text in metrics:
        with faults.at("evaluator"):
            asked.append(read_metric(text))
            vessel.spec.expression(asked[-1])
    faults.raise_any()
    return Evaluator(ParameterMap(vessel, tuple(conditions)), tuple(asked))
