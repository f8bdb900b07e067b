"""The outlets of tubes and tanks of all sizes that begin at a state: the curves of an attainable region."""

from __future__ import annotations

from typing import Any, TypeAlias

import numpy as np

from molino.core.balances.compiled import compiled
from molino.core.balances.continuation import ArcLength
from molino.core.balances.engines import lsoda, start
from molino.core.balances.functions import functions_of
from molino.core.balances.source import NotFinite
from molino.core.balances.system import Case
from molino.core.contract.metric import Metric
from molino.core.errors import InputError, SolveError
from molino.core.symbols import in_order
from molino.core.vessels.plug_flow import PlugFlow

_POINTS = 240
"""Points along a tube."""
_DECADES = (-4.0, 5.0)
"""Times of a tube, in units of the time in which the feed would be consumed at its initial rate, as powers of ten."""
_FULLEST = 0.9995
"""Largest tank: V / (V + volume in which the feed would be consumed at its initial rate)."""
_STEP = 0.02
_STILL = 1e-9

Curve: TypeAlias = tuple[str, np.ndarray, np.ndarray]
"""The kind of vessel; states, shape (points, states), the first one that of the begin; volumes, shape (points,)."""


class Curves:
    """The states of tubes and tanks that begin at a state."""

    def __init__(self, template: PlugFlow, metrics: tuple[Metric, ...]) -> None:
        self.template, self.metrics = template, metrics
        expressions = tuple(template.spec.expression(m) for m in metrics)
        balances = template.spec.model.balances
        if not balances.is_autonomous:
            raise InputError(
                "its rates depend on the place", "attainable", "leave out conditions that change along a tube"
            )
        asked = frozenset[Any]().union(*(e.free_symbols for e in expressions))
        self.balances = balances.reduced(tuple(in_order(asked)))
        case = Case(self.balances, template.spec.case.values)
        self.functions = functions_of(case)
        self.output = compiled(self.balances).outputs(expressions)(case.values)
        self.jacobian_at = compiled(self.balances).jacobian(case.values)
        self.first, self.scale = start(case)
        rate = self.rate(self.first)
        if not np.abs(rate / self.scale).max() > 1e-14:
            message = "no reaction starts in the feed"
            raise SolveError(message, "attainable", "feed the species that the reaction needs to begin")
        self.whole = float(1 / np.abs(rate / self.scale).max())
        """Volume in which the feed would be consumed at its initial rate."""

    def __reduce__(self) -> tuple[Any, ...]:
        return Curves, (self.template, self.metrics)

    def rate(self, state: np.ndarray) -> np.ndarray:
        """The rate vector: formation per volume."""
        return np.array(self.functions.slopes(state, 0.0), dtype=float)

    def both(self, begin: tuple[bool, np.ndarray]) -> list[Curve]:
        """The curves of tanks, and of tubes if asked for."""
        has_tube, state = begin
        return [*([self.tube(state)] if has_tube else []), self.tank(state)]

    def tube(self, begin: np.ndarray) -> Curve:
        """The states of a tube, evenly spaced along its course, and the volumes."""
        rate = np.abs(self.rate(begin) / self.scale).max()
        if not rate * self.whole > _STILL:
            return "tube", begin[None], np.zeros(1)
        volumes = np.concatenate([[0.0], self.whole * np.geomspace(10 ** _DECADES[0], 10 ** _DECADES[1], 90)])
        states = self._along(begin, volumes)
        if len(states) < 3:
            return "tube", begin[None], np.zeros(1)
        steps = np.linalg.norm(np.diff(states / self.scale, axis=0), axis=1)
        length = np.concatenate([[0.0], np.cumsum(steps)])
        if not length[-1] > 1e-9:
            return "tube", begin[None], np.zeros(1)
        even = np.interp(np.linspace(0, length[-1], _POINTS), length, volumes[: len(states)])
        fine = np.unique(np.concatenate([even, volumes[: len(states)][::3]]))
        states = self._along(begin, fine)
        return "tube", states, fine[: len(states)]

    def _along(self, begin: np.ndarray, volumes: np.ndarray) -> np.ndarray:
        """States along a tube up to the end of the integration."""
        rhs, jacobian = self.functions.callbacks()
        try:
            rows, info = lsoda(rhs, jacobian, begin, volumes, 1e-9, 1e-12 * self.scale)
        except NotFinite:
            return begin[None]
        good = np.isfinite(rows).all(axis=1)
        if info["message"] != "Integration successful.":
            good &= np.append(True, info["tcur"] >= volumes[1:])
        count = len(rows) if good.all() else int(np.argmin(good))
        return np.asarray(np.where((rows[:count] < 0) & (rows[:count] > -1e-9 * self.scale), 0.0, rows[:count]))

    def tank(self, begin: np.ndarray) -> Curve:
        """The states of tanks of all sizes, on the curve that begins with the feed, and the volumes."""
        n, fed = len(begin), begin / self.scale

        def residual(z: np.ndarray) -> np.ndarray:
            return np.asarray(
                (z[:n] - fed) * (1 - z[n]) - z[n] * self.whole * self.rate(z[:n] * self.scale) / self.scale
            )

        def jacobian(z: np.ndarray) -> np.ndarray:
            own = np.array(self.jacobian_at(z[:n] * self.scale, 0.0), dtype=float)
            rows = (1 - z[n]) * np.eye(n) - z[n] * self.whole * own * self.scale[None, :] / self.scale[:, None]
            last = -(z[:n] - fed) - self.whole * self.rate(z[:n] * self.scale) / self.scale
            return np.column_stack([rows, last])

        states, volumes = [begin], [0.0]
        try:
            for z, _ in ArcLength(residual, jacobian, _STEP).walk(np.append(fed, 0.0), -1e-9, _FULLEST):
                if (z[:n] < -1e-9).any() or len(states) > 400:
                    break
                volumes.append(self.whole * float(z[n]) / (1 - float(z[n])))
                states.append(np.maximum(z[:n], 0.0) * self.scale)
        except (SolveError, NotFinite):
            pass
        return "tank", np.array(states), np.array(volumes)
