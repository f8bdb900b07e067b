"""The engines behind free profiles: collocation with exact derivatives, and the interior-point method."""

from __future__ import annotations

import itertools
import math
from typing import Any

import numpy as np
import pytest

import molino as mo
from molino.core.design.optimize.free_profile import read_moving
from molino.core.design.optimize.interior_point import InteriorPoint, Place
from molino.core.design.optimize.objective import read_expression, read_limit
from molino.core.design.optimize.problem import FreeNumber
from molino.core.design.profiles.profile_program import FREE, HIGH, LOW, DynamicQuestion, Phase, ProfileProgram, even


def kettle(**more: Any) -> mo.Batch:
    first = mo.Reaction("A -> B", k=mo.Arrhenius(A="0.535e11 1/min", Ea="75.3 kJ/mol"))
    second = mo.Reaction("2 B -> C", rate="k*[B]^2", k=mo.Arrhenius(A="0.461e18 L/mol/min", Ea="125.5 kJ/mol"))
    return mo.Batch(mo.Chemistry([first, second]), {"A": "1 mol/L"}, T="340 K", time="8 min", **more)


def program(elements: int = 2, everywhere: bool = True) -> ProfileProgram:
    """Two free phases around one at a bound, free ends, a free charge and time, limits at the end and along."""
    batch = kettle()
    vessel = batch.with_({"T": mo.Profile([(0.0, "340 K")])})
    moving = read_moving(batch, "T", mo.FreeProfile("330 K", "380 K"))
    free = [FreeNumber("time", "time", "min", 120.0, 900.0, 480.0), FreeNumber("[A]", "concentration", "mol/L", 500.0,
                                                                             1500.0, 1000.0)]  # fmt: skip
    limits = [read_limit("conversion of A >= 0.5", vessel)]
    limits += [read_limit("concentration of B everywhere <= 0.9 mol/L", vessel)] if everywhere else []
    question = DynamicQuestion(vessel, [moving], free, read_expression("yield of B on A", vessel), True, limits)
    phases = [Phase(0.0, 0.3, (FREE,), even(2), elements), Phase(0.3, 0.5, (HIGH,), even(1), 2 * elements),
              Phase(0.5, 1.0, (FREE,), even(3), elements)]  # fmt: skip
    found = ProfileProgram(question, phases, True)
    run = batch.run()
    end = run.trajectory.end
    found.begin_with(lambda at: run.trajectory.at(np.unique(at) * end))
    return found


def somewhere(found: ProfileProgram, seed: int = 0) -> np.ndarray:
    z = np.random.default_rng(seed).uniform(0.3, 0.6, found.count)
    z[found.ends_at] = [0.28, 0.52]
    return z


def test_slopes_and_second_derivatives_of_a_profile_program_are_exact() -> None:
    """By phases' ends, nodes, end time and charge; of the Lagrange function, limits along the run among them."""
    found = program()
    z = somewhere(found)
    place = found.at(z)
    assert place is not None
    gradient, rows, _ = found.slopes(place)
    step, random = 1e-5, np.random.default_rng(5)
    weights = np.abs(random.normal(0, 1, len(place.left)))

    def lagrange(at: np.ndarray) -> np.ndarray:
        here = found.at(at)
        assert here is not None
        own, of_left, _ = found.slopes(here)
        return np.asarray(own - weights @ of_left)

    numeric, of_rows, second = [], [], []
    for j in range(found.count):
        away = step * np.eye(found.count)[j]
        high, low = found.at(z + away), found.at(z - away)
        assert high is not None
        assert low is not None
        numeric.append((high.value - low.value) / (2 * step))
        of_rows.append((high.left - low.left) / (2 * step))
        second.append((lagrange(z + away) - lagrange(z - away)) / (2 * step))
    assert gradient == pytest.approx(np.array(numeric), rel=1e-6, abs=2e-6)
    assert rows == pytest.approx(np.array(of_rows).T, rel=1e-5, abs=5e-6)
    place = found.at(z)
    assert place is not None
    found.slopes(place)
    curvature = found.curvature(place, weights, np.zeros(0))
    assert curvature == pytest.approx(np.array(second), rel=1e-4, abs=1e-5 * np.abs(curvature).max())
    assert curvature == pytest.approx(curvature.T)


def test_collocation_is_of_order_five_and_agrees_with_the_run() -> None:
    values = {}
    for elements in (1, 2, 4, 16):
        found = program(elements, everywhere=False)
        place = found.at(somewhere(found))
        assert place is not None
        values[elements] = place.value
    errors = [abs(values[n] - values[16]) for n in (1, 2, 4)]
    assert errors[0] / errors[1] > 2**4
    assert errors[1] / errors[2] > 2**4
    found = program(16, everywhere=False)
    z = somewhere(found)
    (at, course), = found.nodes(z)  # fmt: skip
    numbers = found.question.ranges.numbers(z[found.numbers_at])
    points = [(float(t) * numbers[0], float(v)) for t, v in zip(at, course, strict=True)]
    vessel = kettle().with_({"time": numbers[0], "[A]": numbers[1]}).with_({"T": mo.Profile(points)})
    assert vessel.run().yield_of("B", on="A") == pytest.approx(-values[16], rel=1e-8)


def test_the_switching_function_is_the_slope_by_a_short_pulse() -> None:
    found = program(6, everywhere=False)
    z = somewhere(found)
    place = found.at(z)
    assert place is not None
    switching = found.switching(place, np.zeros(len(place.left)), np.zeros(0))
    (at, course), = found.nodes(z)  # fmt: skip
    numbers = found.question.ranges.numbers(z[found.numbers_at])
    end = numbers[0]
    times = place.trajectories.layout.inputs[:, :, -1]
    element = 17
    middle, width = float(times[element].mean()), 0.01 * end

    def objective(height: float) -> float:
        given = [(float(t) * end, float(v)) for t, v in zip(at, course, strict=True)]
        before, after = ([p for p in given if (p[0] < middle) == side] for side in (True, False))
        assert before[-1][1] == after[0][1] == 380.0  # in the phase at its upper bound
        pulse = [(middle - width / 2, 380.0), (middle - width / 2, 380.0 + height), (middle + width / 2, 380.0 + height),
                 (middle + width / 2, 380.0)]  # fmt: skip
        points = [*before, *pulse, *after]
        vessel = kettle().with_({"time": end, "[A]": numbers[1]}).with_({"T": mo.Profile(points)})
        return -vessel.run().yield_of("B", on="A")

    slope = (objective(0.5) - objective(-0.5)) / width
    assert slope == pytest.approx(float(switching[element].mean()), rel=3e-2)


class Scaled:
    """A program of plain functions over boxes, scaled to the unit cube."""

    def __init__(self, functions: Any, low: Any, high: Any) -> None:
        self.functions, self.low, self.width = functions, np.array(low), np.array(high) - np.array(low)

    def at(self, z: np.ndarray) -> Place | None:
        value, left, equal = self.functions(self.low + self.width * z)
        return Place(z, float(value), np.array(left, dtype=float), np.array(equal, dtype=float))

    def _all(self, z: np.ndarray) -> np.ndarray:
        here = self.at(z)
        assert here is not None
        return np.concatenate([[here.value], here.left, here.equal])

    def slopes(self, place: Place) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        rows = np.array(
            [(self._all(place.z + h) - self._all(place.z - h)) / 2e-6 for h in 1e-6 * np.eye(len(place.z))]
        ).T
        count = 1 + len(place.left)
        return rows[0], rows[1:count], rows[count:]

    def curvature(self, place: Place, of_left: np.ndarray, of_equal: np.ndarray) -> np.ndarray:
        weights = np.concatenate([[1.0], -of_left, -of_equal])

        def lagrange(z: np.ndarray) -> float:
            return float(weights @ self._all(z))

        n, h = len(place.z), 1e-4
        found, steps = np.empty((n, n)), h * np.eye(n)
        for i, j in itertools.product(range(n), repeat=2):
            signs = itertools.product((1, -1), repeat=2)
            found[i, j] = sum(a * b * lagrange(place.z + a * steps[i] + b * steps[j]) for a, b in signs) / (4 * h * h)
        return (found + found.T) / 2


def test_the_interior_point_method_on_published_programs() -> None:
    """W. Hock, K. Schittkowski, Test Examples for Nonlinear Programming Codes, 1981: problems 71, 35, 26 and 1."""

    def hs71(x: np.ndarray) -> tuple[float, list[float], list[float]]:
        return x[0] * x[3] * x[:3].sum() + x[2], [x.prod() - 25], [x @ x - 40]

    def hs35(x: np.ndarray) -> tuple[float, list[float], list[float]]:
        value = 9 - 8 * x[0] - 6 * x[1] - 4 * x[2] + 2 * x[0] ** 2 + 2 * x[1] ** 2 + x[2] ** 2
        return value + 2 * x[0] * x[1] + 2 * x[0] * x[2], [3 - x[0] - x[1] - 2 * x[2]], []

    def rosenbrock(x: np.ndarray) -> tuple[float, list[float], list[float]]:
        return 100 * (x[1] - x[0] ** 2) ** 2 + (1 - x[0]) ** 2, [], []

    cases = [(hs71, [1] * 4, [5] * 4, [1.01, 4.9, 4.9, 1.01], 17.0140173), (hs35, [0] * 3, [3] * 3, [0.5] * 3, 1 / 9),
             (rosenbrock, [-2, -1.5], [2, 3], [-1.9, 1], 0.0)]  # fmt: skip
    for functions, low, high, start, optimum in cases:
        scaled = Scaled(functions, low, high)
        z = (np.array(start) - low) / scaled.width
        found = InteriorPoint(scaled, tolerance=1e-7).solve(z)
        assert found is not None
        assert found.place.value == pytest.approx(optimum, abs=2e-6), functions.__name__
        assert np.abs(found.place.equal).max(initial=0.0) < 1e-6
        assert (found.place.left > -1e-6).all()
    hs = InteriorPoint(Scaled(hs71, [1] * 4, [5] * 4), tolerance=1e-7).solve((np.array([1.01, 4.9, 4.9, 1.01]) - 1) / 4)
    assert hs is not None
    assert 1 + 4 * hs.place.z == pytest.approx([1.0, 4.7429994, 3.8211503, 1.3794082], abs=1e-4)
    assert hs.of_left[0] == pytest.approx(0.55229366, rel=1e-3)
    assert hs.low[0] / 4 == pytest.approx(1.0878712, rel=1e-3)


def test_phases_lie_where_they_are_laid() -> None:
    found = program()
    z = somewhere(found)
    marks = found.marks(z)
    assert marks == pytest.approx([0.0, 0.28, 0.52, 1.0])
    (at, values), = found.nodes(z)  # fmt: skip
    in_the_middle = (at > 0.281) & (at < 0.519)
    assert not in_the_middle.any() or (values[in_the_middle] == 380.0).all()
    assert values.max() == 380.0
    layout, passed = found.layout(z)
    assert layout.lengths.sum() == pytest.approx(found.question.ranges.numbers(z[found.numbers_at])[0])
    assert (np.diff(passed.ravel()) > 0).all()
    low = ProfileProgram(found.question, [Phase(0.0, 1.0, (LOW,), even(1), 8)], False)
    assert low.count == 2
    assert math.isclose(low.base[0, 0, 0], 330.0)
