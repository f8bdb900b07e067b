"""What a fit can be asked for, and how far it is to be trusted: against closed forms, brute force and known truths."""

from __future__ import annotations

import itertools
import math
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

import molino as mo
from molino.core.balances.machine.choice import ACCOUNT
from molino.core.fitting.error_sizes import ERRORS
from molino.core.fitting.fit_result import Fit
from molino.core.fitting.residual_diagnostics import sign_runs
from molino.core.statistics import student_t_quantile

FIRST = mo.Chemistry(mo.Reaction("A -> B", k=mo.Unknown(0.2)))
TIMES = np.linspace(1.0, 12.0, 12)


def deactivation(
    k: float = 0.15, start: float = 4.0, noise: float = 0.0, seed: int = 0, name: str = "1"
) -> mo.Experiment:
    """A -> B measured on A, with noise."""
    values = start * np.exp(-k * TIMES) + np.random.default_rng(seed).normal(0, noise, 12)
    return mo.Experiment(name, TIMES, {"A": np.maximum(values, 0)}, {"A": start})


@pytest.fixture(scope="module")
def noisy() -> Fit:
    return mo.fit(
        FIRST, [deactivation(noise=0.06, seed=4, name="1"), deactivation(noise=0.06, seed=5, start=2.0, name="2")]
    )


# what can be sought, and from where


def test_tanks_and_tubes_give_the_constants_of_their_closed_forms() -> None:
    """k = (c_in/c - 1)/tau in a tank, c = c_in exp(-k tau) in a tube, of each run's own feed; all in one fit."""
    tau = np.array([2.0, 5.0, 20.0])
    runs = [
        mo.Experiment("tank", tau, {"A": 4.0 / (1 + 0.15 * tau)}, {"A": 4.0}, vessel="stirred tank"),
        mo.Experiment("tube", tau, {"A": 3.0 * np.exp(-0.15 * tau)}, {"A": 3.0}, vessel="plug flow"),
        deactivation(),
    ]
    for data in (*([run] for run in runs), runs):
        assert mo.fit(FIRST, data)["r1.k"].value == pytest.approx(0.15, rel=1e-9)
    second = mo.Chemistry(mo.Reaction("A + B -> C", k=mo.Unknown(1.0)))
    tank = mo.StirredTank(
        second.with_values({"r1.k": 0.3}), mo.Feed({"A": 2.0, "B": 3.0}, flow=1.0), space_time=4.0
    ).steady()
    run = mo.Experiment(
        "1", [4.0, 4.0], {"A": tank.concentrations["A"][[0, 0]]}, {"A": 2.0, "B": 3.0}, vessel="stirred tank"
    )
    assert mo.fit(second, run)["r1.k"].value == pytest.approx(0.3, rel=1e-8)


def test_a_gas_tube_swells() -> None:
    """A -> 3 B, first order, constant pressure: k tau = (1 + e) ln(1/(1-X)) - e X with e = 2 (O. Levenspiel, 1999)."""
    X = np.array([0.2, 0.5, 0.8])
    tau = (3 * np.log(1 / (1 - X)) - 2 * X) / 0.15
    fed = 1e5 / (8.31446261815324 * 500)
    run = mo.Experiment("1", tau, {"A": fed * (1 - X) / (1 + 2 * X)}, {"A": fed}, 500.0, "plug flow", gas=True)
    found = mo.fit(mo.Chemistry(mo.Reaction("A -> 3 B", k=mo.Unknown(0.5))), run)
    assert found["r1.k"].value == pytest.approx(0.15, rel=1e-8)
    tank = mo.Experiment(
        "1", [10.0, 30.0], {"A": fed * np.array([0.3, 0.1])}, {"A": fed}, 500.0, "stirred tank", gas=True
    )
    assert math.isfinite(mo.fit(mo.Chemistry(mo.Reaction("A -> 3 B", k=mo.Unknown(0.1))), tank)["r1.k"].value)


def test_unknown_starts_and_a_delay_are_found_along() -> None:
    late = [
        mo.Experiment(r.name, r.times, {"A": s * np.exp(-0.15 * (r.times + 0.4))}, {"A": 3.0})
        for r, s in ((deactivation(name="1"), 4.0), (deactivation(name="2"), 2.0))
    ]
    given = [mo.Experiment(r.name, r.times, r.measured, {"A": s}) for r, s in zip(late, (4.0, 2.0), strict=True)]
    delayed = mo.fit(FIRST, given, delay=True)
    assert delayed["delay"].value == pytest.approx(0.4, rel=1e-7)
    assert delayed["r1.k"].value == pytest.approx(0.15, rel=1e-8)
    started = mo.fit(FIRST, late, fit_initial=["A"])
    for name, start in (("1", 4.0), ("2", 2.0)):
        assert started[f"start A, {name}"].value == pytest.approx(start * math.exp(-0.06), rel=1e-8)
    one = mo.fit(FIRST, [given[0], late[1]], fit_initial={"2": ["A"]}, delay="0.1 s")
    assert list(one.values) == ["r1.k", "start A, 2", "delay"]
    assert one["delay"].value == pytest.approx(0.4, rel=1e-6)


def test_a_measured_start_counts_where_the_start_is_sought() -> None:
    run = mo.Experiment("1", [0.0, 0.0, 2.0, 5.0], {"A": [4.0, 4.2, 3.0, 1.9]})
    assert mo.fit(FIRST, run, fit_initial=())["r1.k"].degrees_of_freedom == 1
    assert run.charge == {"A": pytest.approx(4.1)}
    found = mo.fit(FIRST, run, fit_initial=["A"])
    assert len(found.points.measured) == 4
    assert found["start A, 1"].value == pytest.approx(4.1, rel=0.02)


def test_constants_of_each_run_and_the_line_through_them() -> None:
    runs = []
    for celsius in (50, 60, 70):
        k = 2e-4 * math.exp(-75e3 / 8.31446261815324 * (1 / (celsius + 273.15) - 1 / 333.15))
        times = np.linspace(500, 6000, 8)
        runs.append(mo.Experiment(f"{celsius}", times, {"A": np.exp(-k * times)}, {"A": 1.0}, celsius + 273.15))
    chemistry = mo.Chemistry(mo.Reaction("A -> B", k=mo.Unknown("1e-4 1/s")))
    found = mo.fit(chemistry, runs, per_run=["r1.k"])
    assert list(found.values) == ["r1.k, 50", "r1.k, 60", "r1.k, 70"]
    assert mo.fit(chemistry, runs, per_run="r1.k").values == found.values  # one name is as good as a list of one
    assert found.over_temperature("r1.k").Ea.si == pytest.approx(75e3, rel=1e-6)
    assert found.chemistry_of("60").parameters[0].value == pytest.approx(2e-4, rel=1e-8)
    assert found.curves(5)["70"].values["A"][-1] == pytest.approx(runs[2].measured["A"][-1], rel=1e-6)
    with pytest.raises(mo.InputError, match="not fitted per run"):
        mo.fit(chemistry, runs).over_temperature("r1.k")


def test_errors_weigh_the_observations() -> None:
    """Zero order, c = c0 - k t, is linear: each way to weigh against the weighted straight line through the start."""
    chemistry = mo.Chemistry(mo.Reaction("A -> B", rate="k", k=mo.Unknown(1.0)))
    random = np.random.default_rng(2)
    times = np.repeat(np.linspace(1.0, 10.0, 6), 2)
    a, b = 100 - 5 * times + random.normal(0, 1.0, 12), 5 * times + random.normal(0, 0.2, 12)
    run = mo.Experiment("1", times, {"A": a, "B": b}, {"A": 100.0})

    def slope(wa: Any, wb: Any) -> float:
        wa, wb = np.broadcast_to(wa, 12), np.broadcast_to(wb, 12)
        return float(np.sum(wa * times * (100 - a) + wb * times * b) / np.sum((wa + wb) * times**2))

    def pooled(values: np.ndarray) -> float:
        pairs = values.reshape(-1, 2)
        return float(np.sum((pairs[:, 0] - pairs[:, 1]) ** 2 / 2) / 6)

    assert mo.fit(chemistry, run, errors="same")["r1.k"].value == pytest.approx(slope(1, 1), rel=1e-9)
    given = mo.fit(chemistry, run, errors={"A": "1 mol/m3", "B": "0.2 mol/m3"})
    assert given["r1.k"].value == pytest.approx(slope(1, 25), rel=1e-9)
    replicated = mo.fit(chemistry, run, errors="replicates")
    assert replicated["r1.k"].value == pytest.approx(slope(1 / pooled(a), 1 / pooled(b)), rel=1e-9)
    relative = mo.fit(chemistry, run, errors="relative")
    k = relative["r1.k"].value
    sa, sb = 1.0, 1.0  # each error from its residuals over its number less what the constant takes of it
    for _ in range(40):
        share = np.sum(times**2 / (sa * a**2)) / np.sum(times**2 / (sa * a**2) + times**2 / (sb * b**2))
        sa = np.sum(((a - 100 + k * times) / a) ** 2) / (12 - share)
        sb = np.sum(((b - k * times) / b) ** 2) / (11 + share)
    assert k == pytest.approx(slope(1 / (sa * a**2), 1 / (sb * b**2)), rel=1e-6)
    assert any(
        f.what.startswith("the standard deviation of replicates") for f in mo.Experiments((run,)).check().findings
    )


WRONG: list[tuple[dict[str, Any], str]] = [
    ({"errors": "eech"}, "did you mean 'each'"),
    ({"errors": {"A": "1 s"}}, "not a concentration"),
    ({"errors": {"B": 1.0}}, "'B' was not measured.*no error of A"),
    ({"errors": "replicates"}, "no replicates with scatter"),
    ({"fit_initial": ["Q"]}, "'Q' is not a species"),
    ({"fit_initial": {"7": ["A"]}}, "unknown run '7'"),
    ({"delay": "3 m"}, "not a time"),
    ({"per_run": ["r1.q"]}, "did you mean 'r1.k'"),
    ({"n_starts": 0}, "whole number from 1"),
]


@pytest.mark.parametrize(("options", "what"), WRONG)
def test_wrong_options(options: dict[str, Any], what: str) -> None:
    with pytest.raises(mo.InputError) as error:
        mo.fit(FIRST, deactivation(noise=0.05), **options)
    import re

    assert re.search(what, str(error.value), re.DOTALL)


def test_several_starts_leave_a_bad_one() -> None:
    """A -> B -> C measured on C alone: from a wrong start the constants come out swapped or not at all."""
    k1, k2 = 0.3, 0.05
    c = 1 - (k2 * np.exp(-k1 * TIMES) - k1 * np.exp(-k2 * TIMES)) / (k2 - k1)
    run = mo.Experiment("1", TIMES, {"C": c + np.random.default_rng(1).normal(0, 1e-4, 12)}, {"A": 1.0})
    chain = mo.Chemistry(
        [mo.Reaction("A -> B", name="1", k=mo.Unknown(3.0)), mo.Reaction("B -> C", name="2", k=mo.Unknown(8.0))]
    )
    found = mo.fit(chain, run, n_starts=8, seed=3)
    assert sorted(found.values.values()) == pytest.approx([k2, k1], rel=0.02)
    assert found.n_starts is not None
    assert found.n_starts[1] == 8
    again = mo.fit(chain, run, n_starts=8, seed=3)
    assert again.values == found.values


def test_an_interruption_keeps_the_best_so_far() -> None:
    run = deactivation(noise=0.02)
    squares: list[float] = []

    def stop(count: int, sum_of_squares: float) -> None:
        squares.append(sum_of_squares)
        if count == 3:
            raise KeyboardInterrupt

    found = mo.fit(mo.Chemistry(mo.Reaction("A -> B", k=mo.Unknown(5.0))), run, progress=stop)
    assert found.optimum.stopped
    assert "interrupted" in str(found)
    whole = mo.fit(FIRST, run)
    assert whole.sum_of_squares < found.sum_of_squares
    mean = np.mean(run.measured["A"] ** 2)
    assert found.sum_of_squares / mean == pytest.approx(min(squares), rel=1e-6)


# how far to trust it


def test_profile_and_region_of_a_linear_model_are_the_linear_ones() -> None:
    """c = c0 - k t with c0 sought: the interval of Student's t, and the ellipse of the F-distribution."""
    random = np.random.default_rng(3)
    values = 100.0 - 2.5 * TIMES + random.normal(0, 0.8, 12)
    chemistry = mo.Chemistry(mo.Reaction("A -> B", rate="k", k=mo.Unknown(2.0)))
    found = mo.fit(chemistry, mo.Experiment("1", TIMES, {"A": values}, {"A": 90.0}), fit_initial=["A"])
    for name, one in found.profile_likelihood().items():
        assert one.interval == pytest.approx(found[name].interval, rel=2e-4)
        inside = np.abs(one.tau) < 5
        linear = (one.values - one.estimate) / found[name].standard_error
        assert one.tau[inside] == pytest.approx(linear[inside], abs=2e-3)
    region = found.region("r1.k", "start A, 1", points=12)
    away = (region.outline - region.estimate) / np.sqrt(np.diag(found.covariance))
    r = found.correlation[0, 1]
    form = (away[:, 0] ** 2 - 2 * r * away[:, 0] * away[:, 1] + away[:, 1] ** 2) / (1 - r**2)
    assert form == pytest.approx(np.full(13, 2 * 4.102821), rel=2e-2)  # F(0.95; 2, 10)
    assert region.ellipse.shape == (121, 2)


def test_the_profile_solves_its_own_equation(noisy: Fit) -> None:
    """At each end the sum of squares exceeds the least by t^2 s^2, computed from the closed form alone."""
    one = noisy.profile_likelihood("r1.k")["r1.k"]

    def squares(k: float) -> float:
        return sum(float(np.sum((r.measured["A"] - r.initial["A"] * np.exp(-k * r.times)) ** 2)) for r in noisy.data)

    limit = student_t_quantile(0.975, 23) ** 2 * squares(one.estimate) / 23
    for end in one.interval:
        assert squares(end) - squares(one.estimate) == pytest.approx(limit, rel=1e-2)


def test_what_is_open_is_called_open_and_why() -> None:
    """A saturation that the data do not see: no lower end for K. And constants that only go together."""
    law = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]/(1 + K*[A])", k=mo.Unknown(0.1), K=mo.Unknown(0.1)))
    found = mo.fit(law, [deactivation(noise=0.02, seed=1), deactivation(noise=0.02, start=2.0, seed=2, name="2")])
    one = found.profile_likelihood("r1.K")["r1.K"]
    assert one.flat == (True, False)
    assert 0 == one.interval[0] < one.interval[1] < 0.2
    assert "no lower end" in str(one)
    together = mo.Chemistry(mo.Reaction("A -> B", rate="a*b*[A]", a=mo.Unknown(0.1), b=mo.Unknown(1)))
    lost = mo.fit(together, deactivation(noise=0.02))
    assert lost.reasons == {
        "r1.a": "a change of it is compensated by r1.b",
        "r1.b": "a change of it is compensated by r1.a",
    }
    unseen = mo.Chemistry(
        [mo.Reaction("A -> B", name="1", k=mo.Unknown(0.1)), mo.Reaction("B -> C", name="2", k=mo.Unknown(1))]
    )
    assert mo.fit(unseen, deactivation(noise=0.02)).reasons == {"2.k": "no measured value depends on it"}


def test_the_bootstrap_depends_on_its_seed_alone(noisy: Fit) -> None:
    here = noisy.bootstrap(40, seed=7, workers=1)
    both = noisy.bootstrap(40, seed=7, workers=2)
    same = 1e-7 if ACCOUNT.is_asked else 0.0  # a worker then integrates by another engine
    assert here.draws == pytest.approx(both.draws, rel=same, abs=0.0)
    assert not np.array_equal(here.draws, noisy.bootstrap(40, seed=8, workers=1).draws)
    for kind in ("residuals", "cases"):
        seen: list[int] = []
        many = noisy.bootstrap(300, kind, workers=1, progress=lambda done, asked, seen=seen: seen.append(done))
        assert many.standard_errors["r1.k"] == pytest.approx(noisy["r1.k"].standard_error, rel=0.3)
        low, high = many.intervals["r1.k"]
        assert low < noisy["r1.k"].value < high
        assert seen[-1] == 300
    with pytest.raises(mo.InputError, match="did you mean 'cases'"):
        noisy.bootstrap(10, "case")


def test_runs_of_signs_are_counted_exactly() -> None:
    """Against all orders of three and four signs, and the normal approximation against shuffling."""
    from itertools import permutations

    orders = set(permutations([1, 1, 1, -1, -1, -1, -1]))
    for runs in range(2, 8):
        few = sum(1 + sum(a != b for a, b in itertools.pairwise(o)) <= runs for o in orders) / len(orders)
        example = next(o for o in orders if 1 + sum(a != b for a, b in itertools.pairwise(o)) == runs)
        assert sign_runs("A", np.array(example)).probability == pytest.approx(few)
    random, signs = np.random.default_rng(1), np.repeat([1.0, -1.0], [35, 25])
    shuffled = np.array([random.permutation(signs) for _ in range(20000)])
    counts = 1 + np.sum(shuffled[:, 1:] != shuffled[:, :-1], axis=1)
    for one in shuffled[:10]:
        found = sign_runs("A", one)
        assert found.probability == pytest.approx(np.mean(counts <= found.runs), abs=0.015)


def test_a_wrong_law_is_noticed() -> None:
    """Second-order data fitted as first order: few runs of signs, and lack of fit against replicates."""
    times = np.repeat(TIMES, 2)
    values = 4 / (1 + 4 * 0.15 * times) + np.random.default_rng(5).normal(0, 0.01, 24)
    run = mo.Experiment("1", times, {"A": values}, {"A": 4.0})
    wrong = mo.fit(FIRST, run).diagnosis
    right = mo.fit(mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^2", k=mo.Unknown(0.1))), run).diagnosis
    assert wrong.signs[0].probability < 0.01
    assert wrong.lack_of_fit is not None
    assert wrong.lack_of_fit.probability < 1e-6
    assert len(wrong.warnings) >= 2
    assert right.lack_of_fit is not None
    assert right.lack_of_fit.probability > 0.05
    assert right.warnings == []
    pure = float(np.sum((values[::2] - values[1::2]) ** 2) / 2)  # by hand
    left = mo.fit(FIRST, run).sum_of_squares - pure
    assert wrong.lack_of_fit.ratio == pytest.approx(left / 11 / (pure / 12), rel=1e-6)


def test_influence_is_what_leaving_out_shows(noisy: Fit) -> None:
    """Cook's distance to first order: (b - b_(i))^2 / (p var b), by fitting without each of the points."""
    distances = []
    for i in (0, 5, 11):
        values = noisy.data[0].measured["A"].copy()
        values[i] = np.nan
        runs = [mo.Experiment("1", TIMES, {"A": values}, {"A": 4.0}), noisy.data[1]]
        moved = mo.fit(FIRST, runs)["r1.k"].value - noisy["r1.k"].value
        distances.append(moved**2 / noisy.covariance[0, 0])
    assert noisy.diagnosis.influence[[0, 5, 11]] == pytest.approx(distances, rel=0.1, abs=1e-4)


def test_bands_hold_what_they_promise(noisy: Fit) -> None:
    """Of the mean: t s_k |dc/dk| by the closed form; of one measurement, wider by the scatter; zero at the start."""
    band = noisy.band(noisy.data[0], np.array([0.0, 3.0, 9.0]))
    slope = 4.0 * band.times * np.exp(-noisy["r1.k"].value * band.times)
    t = student_t_quantile(0.975, 23)
    assert band.confidence["A"] == pytest.approx(t * noisy["r1.k"].standard_error * slope, rel=1e-6)
    scatter = noisy.by_response[0].standard_deviation
    assert band.prediction["A"] == pytest.approx(np.hypot(band.confidence["A"], t * scatter), rel=1e-6)


def test_the_next_experiment_does_what_was_said() -> None:
    """Made, and fitted together with the old runs, it leaves about the half width that was foretold; the order holds."""
    first = mo.Arrhenius(k=mo.Unknown(2e-4), at=333.15, Ea=mo.Unknown(8e4))
    chemistry = mo.Chemistry(mo.Reaction("A -> B", k=first))

    def made(T: float, times: np.ndarray, name: str, seed: int) -> mo.Experiment:
        k = 2e-4 * math.exp(-75e3 / 8.31446261815324 * (1 / T - 1 / 333.15))
        noise = np.random.default_rng(seed).normal(0, 0.01, len(times))
        return mo.Experiment(name, times, {"A": np.exp(-k * times) + noise}, {"A": 1.0}, T)

    old = [made(T, np.linspace(500, 8000, 8), f"{T:g}", n) for n, T in enumerate((328.15, 338.15))]
    found = mo.fit(chemistry, old)
    plans: dict[str, Any] = {"charges": [{"A": 1.0}], "times": [[500.0, 1000.0, 2000.0], [20.0, 40.0, 60.0]]}
    ranked = found.next_experiment("r1.k.Ea", T=[328.15, 333.15, 353.15], **plans)
    assert (ranked.best.run.T, ranked.best.run.times.tolist()) == (353.15, [500.0, 1000.0, 2000.0])
    halves = []
    for seed in range(12):
        both = mo.fit(chemistry, [*old, made(353.15, ranked.best.run.times, "new", 50 + seed)])["r1.k.Ea"]
        halves.append((both.interval[1] - both.interval[0]) / 2)
    assert np.mean(halves) == pytest.approx(ranked.best.half_width, rel=0.25)
    assert ranked.best.half_width < 0.7 * ranked.now
    assert ranked.table().shape == (6, 5)
    with pytest.raises(mo.InputError, match="charges and times are needed"):
        found.next_experiment("r1.k.Ea", T=[300.0])
    with pytest.raises(mo.InputError, match=r"did you mean 'r1\.k\.Ea'"):
        found.next_experiment("r1.k.Eb", **plans)


def test_the_next_experiment_for_a_size_and_for_an_optimum() -> None:
    """Decisions count by their exact slopes: those of answers with other constants; several together are worth more."""
    k = {"a": mo.Arrhenius(k=mo.Unknown("0.1 1/min"), at="330 K", Ea=mo.Unknown("60 kJ/mol")),
         "b": mo.Arrhenius(k=mo.Unknown("0.03 1/min"), at="330 K", Ea=mo.Unknown("90 kJ/mol"))}  # fmt: skip
    chemistry = mo.Chemistry([mo.Reaction("A -> B", name="a", k=k["a"]), mo.Reaction("B -> C", name="b", k=k["b"])])
    true = chemistry.with_values({"a.k": 0.12 / 60, "a.k.Ea": 65e3, "b.k": 0.04 / 60, "b.k.Ea": 95e3})
    random, runs = np.random.default_rng(3), []
    for T in (315.0, 330.0):
        times = np.linspace(300, 3600, 7)
        exact = mo.Batch(true, {"A": 1e3}, T=T, time=3600.0).run(points=times).concentrations
        data = {s: np.maximum(exact[s][1:] + random.normal(0, 10, 7), 0) for s in ("A", "B", "C")}
        runs.append(mo.Experiment(f"{T:g}", times, data, {"A": 1e3}, T))
    fit = mo.fit(chemistry, runs)
    tube = mo.PlugFlow(fit.chemistry, mo.Feed({"A": "1 mol/L"}, flow="1 m3/h"), diameter="0.2 m", length="5 m",
                       T="340 K", name="coil")  # fmt: skip
    names = ["a.k", "a.k.Ea", "b.k", "b.k.Ea"]

    def slopes(answer: Any) -> np.ndarray:
        found = []
        for name in names:
            own = fit.chemistry.values[name] if hasattr(fit.chemistry, "values") else fit[name].value
            high, low = (answer(tube.with_(chemistry=fit.chemistry.with_values({name: own * (1 + h)})))
                         for h in (1e-4, -1e-4))  # fmt: skip
            found.append((high - low) / (2e-4 * own))
        return np.array(found)

    def sized(vessel: Any) -> float:
        return float(mo.size(vessel, "conversion of A", 0.9, free="length").value)

    sizing = mo.size(tube, "conversion of A", 0.9, free="length")
    assert sizing.slopes_by_constants(names) == pytest.approx(slopes(sized), rel=1e-5, abs=1e-4)
    question: dict[str, Any] = {
        "maximize": "yield of B on A", "free": {"T": ("320 K", "360 K"), "length": ("1 m", "20 m")},
        "subject_to": ["conversion of A >= 0.9"], "n_starts": 1,
    }  # fmt: skip
    best = mo.optimize(tube, **question)
    assert best.multipliers[0] > 0
    assert best.slopes_by_constants(names) == pytest.approx(
        slopes(lambda vessel: mo.optimize(vessel, **question).value), rel=1e-3, abs=1e-9
    )
    plans: dict[str, Any] = {
        "T": [315.0, 345.0],
        "charges": [{"A": 1e3}, {"B": 1e3}],
        "times": [[300.0, 600.0, 1200.0]],
    }
    for_size, for_best = (fit.next_experiment(decision, **plans) for decision in (sizing, best))
    assert for_size.best.run.initial["A"] == 1e3  # a length for the conversion of A asks for A
    half = for_size.now
    low, high = sizing.interval or (0.0, 0.0)
    assert half == pytest.approx((high - low) / 2, rel=1e-6)
    assert for_best.best.half_width < for_best.now
    both = fit.next_experiment(best, **plans, several=3)
    assert len(both.together) == 3
    assert both.after < for_best.best.half_width
    assert "the best 3 together leave" in str(both)
    by_all = {c: fit.next_experiment(c, **plans) for c in ("D", "A")}
    assert all(0 < plan.best.half_width < 1 and plan.now == pytest.approx(1) for plan in by_all.values())
    with pytest.raises(mo.InputError, match="cannot be narrowed"):
        fit.next_experiment(3.0, **plans)  # type: ignore[arg-type]


# which law


def saturating(noise: float, levels: tuple[float, ...], seed: int) -> list[mo.Experiment]:
    chemistry = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]/(1 + K*[A])", k=0.3, K=1.0))
    random = np.random.default_rng(seed)
    times = np.linspace(1, 25, 12)
    runs = []
    for n, level in enumerate(levels):
        exact = mo.Batch(chemistry, {"A": level}).run(25.0, points=np.r_[0, times]).concentrations["A"][1:]
        runs.append(
            mo.Experiment(f"{n}", times, {"A": np.maximum(exact + random.normal(0, noise, 12), 0)}, {"A": level})
        )
    return runs


CANDIDATES = {
    "first": FIRST,
    "saturation": mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]/(1 + K*[A])", k=mo.Unknown(0.1), K=mo.Unknown(0.5))),
    "second": mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^2", k=mo.Unknown(0.1))),
}


def test_the_right_law_is_reported_or_that_it_cannot_be() -> None:
    clear = mo.discriminate(CANDIDATES, saturating(0.01, (0.5, 2.0), 1))
    assert clear.chosen == "saturation"
    assert clear.weights["saturation"] > 0.99
    assert {(n.inner, n.outer) for n in clear.nested} == {("first", "saturation")}
    assert clear.nested[0].probability < 1e-6
    blurred = mo.discriminate(CANDIDATES, saturating(0.03, (0.05,), 2))
    assert blurred.chosen is None
    assert "cannot tell" in blurred.verdict
    assert blurred.apart is not None
    assert blurred.apart.contents["A"] > 0.05  # more of it is where saturation shows
    levels = np.array([0.1, 0.2, 0.3, 0.4, 0.5, 0.6])
    rates = mo.Rates(0.3 * levels / (1 + 0.02 * levels), {"A": levels})
    of_rates = mo.discriminate(CANDIDATES, rates).apart
    assert of_rates is not None
    assert of_rates.contents["A"] > 2.0
    assert of_rates.time is None
    same = mo.discriminate({k: CANDIDATES[k] for k in ("first", "saturation")}, [deactivation(noise=0.02, seed=8)])
    assert same.chosen == "first"
    assert "not significantly better than 'first'" in str(same)
    assert "none of the conditions tried distinguishes" in str(same)


def test_weights_are_those_of_the_formula() -> None:
    found = mo.discriminate(CANDIDATES, saturating(0.02, (0.5, 2.0), 3))
    for name, one in found.fits.items():
        n, k = len(one.points.measured), len(one.estimates) + 1
        expected = n * math.log(one.sum_of_squares / n) + 2 * k + 2 * k * (k + 1) / (n - k - 1)
        assert found.aicc[name] == pytest.approx(expected, rel=1e-9)
    assert sum(found.weights.values()) == pytest.approx(1)
    with pytest.raises(mo.InputError, match="not two candidates"):
        mo.discriminate({"first": FIRST}, deactivation())
    with pytest.raises(mo.InputError, match="candidate none"):
        mo.discriminate({"none": mo.Chemistry(mo.Reaction("A -> B", k=1.0)), "first": FIRST}, deactivation())


def test_every_option_is_in_the_docstring() -> None:
    doc = mo.fit.__doc__ or ""
    for option in ("errors", "fit_initial", "delay", "per_run", "n_starts", "seed", "progress", *ERRORS):
        assert option in doc


# laws that hold for all numbers


@settings(max_examples=25, deadline=None)
@given(st.floats(1e-4, 1e3), st.floats(1e-3, 1e3), st.integers(0, 1000))
def test_a_fit_does_not_know_in_what_time_and_amount_are_counted(faster: float, more: float, seed: int) -> None:
    """Times divided and concentrations multiplied by anything: k and its error follow, the fit is the same."""
    plain = mo.fit(FIRST, deactivation(noise=0.05, seed=seed))
    run = deactivation(noise=0.05, seed=seed)
    scaled = mo.Experiment("1", run.times / faster, {"A": run.measured["A"] * more}, {"A": 4.0 * more})
    found = mo.fit(mo.Chemistry(mo.Reaction("A -> B", k=mo.Unknown(0.2 * faster))), scaled)
    assert found["r1.k"].value == pytest.approx(plain["r1.k"].value * faster, rel=1e-7)
    assert found["r1.k"].standard_error == pytest.approx(plain["r1.k"].standard_error * faster, rel=1e-5)
    assert found.diagnosis.signs == plain.diagnosis.signs


@settings(max_examples=20, deadline=None)
@given(st.floats(0.02, 0.5), st.floats(0.5, 3.0), st.sampled_from(["batch", "stirred tank", "plug flow"]))
def test_exact_data_give_exact_constants_in_every_vessel(k: float, n: float, vessel: str) -> None:
    """Order and constant of dc/dt = -k c^n, from the outlets that the vessels themselves calculate."""
    true = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^n", k=k, n=n))
    runs = []
    for level in (0.5, 2.0):
        times = np.array([1.0, 3.0, 8.0])
        feed = mo.Feed({"A": level}, flow=1.0)
        made = {
            "batch": lambda t, level=level: mo.Batch(true, {"A": level}).run(t),
            "stirred tank": lambda t, feed=feed: mo.StirredTank(true, feed, space_time=t).steady(),
            "plug flow": lambda t, feed=feed: mo.PlugFlow(true, feed, space_time=t).run(),
        }[vessel]
        left = np.array([made(float(t)).concentrations["A"][-1] for t in times])
        if left.min() < 1e-3 * level:
            return  # it ran out: nothing is left to tell the order from
        runs.append(mo.Experiment(f"{level}", times, {"A": left}, {"A": level}, vessel=vessel))
    sought = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^n", k=mo.Unknown(2 * k), n=mo.Unknown(1.0)))
    found = mo.fit(sought, runs)
    assert found["r1.k"].value == pytest.approx(k, rel=1e-6)
    assert found["r1.n"].value == pytest.approx(n, rel=1e-6)


def test_figures_of_belief_show_what_was_found(noisy: Fit) -> None:
    profiles = noisy.profile_likelihood()
    panel = mo.figures.profiles(noisy, profiles).axes[0]
    low, high = profiles["r1.k"].interval
    assert panel.get_title(loc="left") == f"{low:.4g} to {high:.4g}"
    draws = noisy.bootstrap(30, workers=1)
    bars = mo.figures.bootstrap(draws).axes[0].patches
    assert sum(bar.get_height() for bar in bars) == 30
    law = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^n", k=mo.Unknown(0.1), n=mo.Unknown(1)))
    both = mo.fit(law, list(noisy.data))
    figure = mo.figures.region(both.region("r1.k", "r1.n", points=8), both.bootstrap(30, workers=1))
    labels = [text.get_text() for text in figure.axes[0].get_legend().get_texts()]
    assert labels == ["bootstrap refits", "linear model", "profile", "estimate"]
    weighed = mo.discriminate({"first": FIRST, "order n": law}, list(noisy.data))
    top = mo.figures.candidates(weighed, run="2").axes[0]
    assert top.get_title(loc="left") == "run 2"
    assert len(top.get_legend().get_texts()) == 2
