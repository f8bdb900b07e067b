"""The fit: against known truths, closed forms of regression, and coverage."""

from __future__ import annotations

import csv
from pathlib import Path

import numpy as np
import pytest
from scipy.stats import linregress

import molino as mo
from molino.core.fitting.fit_result import Fit
from molino.demo import make_data
from molino.desk.job.load import Job

TRUTH = make_data.TRUTH


def test_the_demo_finds_its_true_constants(fitted: Fit) -> None:
    for name, true in TRUTH.items():
        _, _, low, high = fitted[name].shown()
        assert low < true < high, name


def test_the_wrong_point_is_reported_and_leaving_it_out_is_listed(job: Job, fitted: Fit) -> None:
    (odd,) = fitted.outliers
    assert (odd.run, odd.time, odd.response) == ("B4", 49 * 60, "furfural")
    assert "it is part of this fit" in str(fitted)
    without = mo.fit(job.chemistry, job.fits["kinetics"].data.without("B4", "49 min", "furfural"))
    assert "left out: run B4, 49 min, furfural" in str(without)
    assert not without.outliers
    assert len(without.points.measured) == len(fitted.points.measured) - 1
    for name, true in TRUTH.items():
        _, _, low, high = without[name].shown()
        assert low < true < high, name
    noise = {r.name: r.standard_deviation / 1000 for r in without.by_response}
    assert noise == pytest.approx(make_data.NOISE, rel=0.25)
    for wrong in (("B9", "49 min", "furfural"), ("B4", "50 min", "furfural"), ("B4", "49 min", "furfurall")):
        with pytest.raises(mo.InputError):
            job.fits["kinetics"].data.without(*wrong)


def exact_runs(noise: float = 0.0, seed: int = 1) -> list[mo.Experiment]:
    """Runs of the demo's scheme from its closed form, in SI, with or without noise."""
    random = np.random.default_rng(seed)
    runs = []
    for name, celsius, charged, last in make_data.RUNS:
        times = np.linspace(0.1, 1.0, 10) * last
        rates = (make_data.first_order(step, celsius) for step in ("dehydration", "resin"))
        curves = make_data.series(charged * 1000, *rates, times)
        measured = {s: c + random.normal(0, noise, 10) for s, c in zip(("xylose", "furfural"), curves, strict=True)}
        initial = {"xylose": charged * 1000, "acid": 100.0}
        runs.append(
            mo.Experiment(
                name, times * 60, {s: np.maximum(m, 0) for s, m in measured.items()}, initial, celsius + 273.15
            )
        )
    return runs


def scheme(first: mo.Arrhenius, second: mo.Arrhenius) -> mo.Chemistry:
    return mo.Chemistry(
        [
            mo.Reaction("xylose -> furfural + 3 water", rate="k*[xylose]*[acid]", name="dehydration", k=first),
            mo.Reaction("furfural -> resin", rate="k*[furfural]*[acid]", name="resin", k=second),
        ]
    )


def from_afar() -> mo.Chemistry:
    """Guesses a factor of five off in k, 40 % off in Ea."""
    return scheme(
        mo.Arrhenius(k=mo.Unknown("1.5 L/mol/min"), at="165 degC", Ea=mo.Unknown("80 kJ/mol")),
        mo.Arrhenius(k=mo.Unknown("0.011 L/mol/min"), at="165 degC", Ea=mo.Unknown("140 kJ/mol")),
    )


def test_exact_data_give_exact_constants() -> None:
    found = mo.fit(from_afar(), exact_runs())
    for name, true in TRUTH.items():
        assert found[name].shown()[0] == pytest.approx(true, rel=1e-7)


def test_both_forms_of_arrhenius_give_one_answer() -> None:
    runs = exact_runs(noise=4.0)
    by_reference = mo.fit(from_afar(), runs)
    by_factor = mo.fit(
        scheme(
            mo.Arrhenius(A=mo.Unknown("1e13 L/mol/min"), Ea=mo.Unknown("110 kJ/mol")),
            mo.Arrhenius(A=mo.Unknown("1e12 L/mol/min"), Ea=mo.Unknown("110 kJ/mol")),
        ),
        runs,
    )
    for step in ("dehydration", "resin"):
        energy, other = by_reference[f"{step}.k.Ea"], by_factor[f"{step}.k.Ea"]
        assert other.value == pytest.approx(energy.value, rel=1e-6)
        assert other.standard_error == pytest.approx(energy.standard_error, rel=1e-4)
        k = by_factor[f"{step}.k.A"].value * np.exp(-other.value / (8.31446261815324 * 438.15))
        assert k == pytest.approx(by_reference[f"{step}.k"].value, rel=1e-6)
        low, high = by_factor[f"{step}.k.A"].interval
        assert 0 < low < high


def test_errors_are_those_of_linear_regression_where_the_model_is_linear() -> None:
    """Zero order: the slope of A against time, its standard error and interval, as the textbook's straight line."""
    random = np.random.default_rng(3)
    times = np.linspace(1.0, 20.0, 15)
    values = 100.0 - 2.5 * times + random.normal(0, 0.8, 15)
    chemistry = mo.Chemistry(mo.Reaction("A -> B", rate="k", k=mo.Unknown(1.0)))
    found = mo.fit(chemistry, mo.Experiment("1", times, {"A": values}, {"A": 100.0}))["r1.k"]
    slope = np.sum(times * (100 - values)) / np.sum(times**2)  # through the known start
    standard_deviation = np.sqrt(np.sum((100 - slope * times - values) ** 2) / 14)
    assert found.value == pytest.approx(slope, rel=1e-7)
    assert found.standard_error == pytest.approx(standard_deviation / np.sqrt(np.sum(times**2)), rel=1e-6)
    assert found.interval[1] - found.value == pytest.approx(2.1447866879169273 * found.standard_error, rel=1e-9)
    free = linregress(times, values)
    assert abs(found.value + free.slope) < 3 * free.stderr


def test_covariance_against_finite_differences(fitted: Fit) -> None:
    """P = (J' W J)^-1 with J by differences of runs alone, widened for errors that were found along with the constants:
    P + 4 P sum_r (B_r - B_r P B_r)/n_r P (M. G. Kenward, J. H. Roger, 1997)."""
    names = list(fitted.values)
    columns = []
    for name in names:
        sides = []
        for sign in (1, -1):
            values = {**fitted.values, name: fitted.values[name] * (1 + sign * 1e-5)}
            chemistry = fitted.chemistry.with_values(values)
            calculated = []
            for run in fitted.data:
                batch = mo.Batch(chemistry, run.initial, T=run.T)
                result = batch.run(run.times[-1], points=np.concatenate([[0.0], run.times]), rtol=1e-12, atol=1e-15)
                calculated += [result.concentrations[s][1:] for s in fitted.responses]
            sides.append(np.concatenate(calculated))
        columns.append((sides[0] - sides[1]) / (2e-5 * fitted.values[name]))
    standard_deviation = {r.name: r.standard_deviation for r in fitted.by_response}
    weights = np.concatenate(
        [np.full(len(r.times), 1 / standard_deviation[s]) for r in fitted.data for s in fitted.responses]
    )
    weighted = np.array(columns).T * weights[:, None]
    size = np.array(list(fitted.values.values()))
    parts = [(weighted * size)[np.concatenate([np.full(len(r.times), s == t) for r in fitted.data
                                               for t in fitted.responses])] for s in fitted.responses]  # fmt: skip
    B = [part.T @ part for part in parts]
    P = np.linalg.inv(B[0] + B[1])
    degrees = [len(part) - np.trace(P @ b) for part, b in zip(parts, B, strict=True)]
    widened = P + 4 * P @ sum((b - b @ P @ b) / n for b, n in zip(B, degrees, strict=True)) @ P
    assert fitted.covariance == pytest.approx(widened * np.outer(size, size), rel=2e-4)
    assert 1.0 < np.min(np.diag(widened) / np.diag(P)) < np.max(np.diag(widened) / np.diag(P)) < 1.05
    assert fitted.chemistry.covariance is not None
    assert fitted.chemistry.covariance.matrix == pytest.approx(fitted.covariance)


def test_intervals_cover_the_truth() -> None:
    """A small turn of examples/interval_coverage.py: 40 sets, four intervals each.

    Of 160 intervals 152 should cover; under 142 has a chance below 1 in 1000 for independent intervals.
    """
    chemistry, covered = from_afar(), 0
    for seed in range(40):
        found = mo.fit(chemistry, exact_runs(noise=4.0, seed=100 + seed))
        bounds = [(found[name].shown()[2:], true) for name, true in TRUTH.items()]
        covered += sum(low < true < high for (low, high), true in bounds)
    assert 142 <= covered < 160


def test_what_the_data_do_not_determine_is_named() -> None:
    one_temperature = [run for run in exact_runs(noise=4.0) if run.T == 165 + 273.15]
    found = mo.fit(from_afar(), one_temperature)
    assert found["dehydration.k"].shown()[0] == pytest.approx(0.3, rel=0.05)
    assert not np.isfinite(found["dehydration.k.Ea"].standard_error)
    assert any("dehydration.k.Ea is not determined" in text for text in found.warnings)


def test_bounds_hold_and_are_reported() -> None:
    first = mo.Arrhenius(k=mo.Unknown("0.2 L/mol/min", upper="0.25 L/mol/min"), at="165 degC", Ea="128 kJ/mol")
    second = mo.Arrhenius(k="0.055 L/mol/min", at="165 degC", Ea="96 kJ/mol")
    found = mo.fit(scheme(first, second), exact_runs())
    assert found["dehydration.k"].shown()[0] == pytest.approx(0.25, rel=1e-6)
    assert any("ended at its bound" in text for text in found.warnings)


def test_an_unknown_order_is_found() -> None:
    true = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^n", k=0.02, n=1.6))
    times = np.linspace(1, 40, 20)
    runs = [
        mo.Experiment(f"{a0}", times, {"A": mo.Batch(true, {"A": a0}).run(40, points=np.r_[0, times]).concentrations["A"][1:]}, {"A": a0})
        for a0 in (2.0, 5.0)
    ]  # fmt: skip
    found = mo.fit(mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^n", k=mo.Unknown(0.1), n=mo.Unknown(1))), runs)
    assert found["r1.n"].value == pytest.approx(1.6, rel=1e-6)
    assert found["r1.k"].value == pytest.approx(0.02, rel=1e-6)


def test_a_first_sample_at_time_zero_is_a_measurement_of_the_charge() -> None:
    times = np.array([0.0, 1.0, 2.0, 4.0])
    run = mo.Experiment("1", times, {"A": 3 * np.exp(-0.4 * times), "B": 3 - 3 * np.exp(-0.4 * times)})
    found = mo.fit(mo.Chemistry(mo.Reaction("A -> B", k=mo.Unknown(1))), run)
    assert found["r1.k"].value == pytest.approx(0.4, rel=1e-7)
    assert len(found.points.measured) == 8
    assert list(found.values) == ["r1.k", "start A, 1"]  # of B nothing was found, and nothing was charged
    exact = mo.fit(mo.Chemistry(mo.Reaction("A -> B", k=mo.Unknown(1))), run, fit_initial=())
    assert (len(exact.points.measured), list(exact.values)) == (6, ["r1.k"])


def test_intervals_hold_the_constant_where_the_start_was_measured() -> None:
    """95 % intervals, whose start is a sample like the others: 96 of these 100 sets hold it, and 91 if it is taken as exact."""
    random, times = np.random.default_rng(0), np.array([0.0, 2, 4, 6, 8, 10, 14])
    chemistry, inside = mo.Chemistry(mo.Reaction("A -> B", k=mo.Unknown(0.1))), 0
    for _ in range(100):
        run = mo.Experiment("1", times, {"A": 1000 * np.exp(-0.2 * times) + random.normal(0, 20, 7)})
        _, _, low, high = mo.fit(chemistry, run)["r1.k"].shown()
        inside += low <= 0.2 <= high
    assert 91 <= inside <= 99


def test_uncertainty_reaches_the_size(fitted: Fit) -> None:
    """First-order propagation to a length and a volume, against sizes found at constants drawn from the covariance."""
    random = np.random.default_rng(8)
    feed = mo.Feed({"xylose": "0.35 mol/L", "acid": "0.1 mol/L"}, flow="12 m3/h", T="175 degC")
    draws = random.multivariate_normal(list(fitted.values.values()), fitted.covariance, 60, method="cholesky")
    for vessel in (
        mo.PlugFlow(fitted.chemistry, feed, diameter="80 mm", tubes=4),
        mo.StirredTank(fitted.chemistry, feed),
    ):
        sized = mo.size(vessel, "conversion of xylose", 0.9)
        drawn = []
        for draw in draws:
            chemistry = fitted.chemistry.with_values(dict(zip(fitted.values, draw.tolist(), strict=True)))
            drawn.append(mo.size(vessel.with_(chemistry=chemistry), "conversion of xylose", 0.9).value)
        assert sized.standard_error == pytest.approx(np.std(drawn), rel=0.3)
        assert sized.interval is not None
        assert sized.interval[0] < np.mean(drawn) < sized.interval[1]


def test_what_does_not_fit_together_is_reported_at_once() -> None:
    run = mo.Experiment("1", [1.0, 2.0], {"Q": [1.0, 0.5]}, {"A": 1.0, "R": 2})
    with pytest.raises(mo.InputError) as error:
        mo.fit(mo.Chemistry(mo.Reaction("A -> B", k=1.0)), run)
    text = str(error.value)
    for part in ("no unknown constant", "'Q' is not a species", "'R' is not a species", "no species of the chemistry"):
        assert part in text
    cold = mo.Chemistry(mo.Reaction("A -> B", k=mo.Arrhenius(k=mo.Unknown(1), at=300, Ea=5e4)))
    with pytest.raises(mo.InputError, match="no temperature is given"):
        mo.fit(cold, mo.Experiment("1", [1.0, 2.0], {"A": [1.0, 0.5]}, {"A": 1.0}))
    with pytest.raises(mo.InputError, match="1 observations for 1 unknown"):
        mo.fit(
            mo.Chemistry(mo.Reaction("A -> B", k=mo.Unknown(1))), mo.Experiment("1", [1.0], {"A": [0.5]}, {"A": 1.0})
        )


def test_runs_may_measure_different_species_at_different_times() -> None:
    """Cells missing here and there, furfural measured in one run alone: what is there is used, nothing else."""
    runs = exact_runs()
    holes = []
    for n, run in enumerate(runs):
        measured = {s: v.copy() for s, v in run.measured.items()}
        measured["xylose"][n] = np.nan
        if n not in (1, 4):
            del measured["furfural"]
        holes.append(mo.Experiment(run.name, run.times, measured, run.initial, run.T))
    found = mo.fit(from_afar(), holes)
    assert len(found.points.measured) == 6 * 9 + 2 * 10
    for name, true in TRUTH.items():
        assert found[name].shown()[0] == pytest.approx(true, rel=1e-6)
    assert {r.name: r.observations for r in found.by_response} == {"xylose": 54, "furfural": 20}


def test_tables_of_a_fit_carry_units(fitted: Fit) -> None:
    constants = fitted.table().set_index("constant")
    assert constants.loc["dehydration.k at 165 °C", "unit"] == "L/mol/min"
    assert constants.loc["dehydration.k.Ea", "value"] == pytest.approx(fitted["dehydration.k.Ea"].value / 1000)
    points = fitted.points_table()
    assert list(points.columns) == ["run", "time [min]", "response", "measured [mol/L]", "calculated [mol/L]",
                                    "residual [mol/L]", "leverage", "influence"]  # fmt: skip
    difference = points["measured [mol/L]"] - points["calculated [mol/L]"]
    assert points["residual [mol/L]"].to_numpy() == pytest.approx(difference.to_numpy(), abs=1e-12)
    assert points["leverage"].sum() == pytest.approx(len(fitted.estimates), rel=1e-9)  # trace of the hat matrix
    assert np.diag(fitted.correlation) == pytest.approx(1.0)
    with pytest.raises(mo.InputError, match=r"did you mean 'dehydration\.k'"):
        fitted["dehydratoin.k"]
    curves = fitted.curves(points=3)
    assert curves["B2"].times[-1] == pytest.approx(240 * 60)
    assert curves["B2"].values["xylose"][0] == pytest.approx(350)


def test_experiments_print_what_is_in_them(job: Job) -> None:
    content = str(job.fits["kinetics"].data)
    assert content.startswith("6 runs from cob-liquor.csv")
    assert "B3 at 165 °C: xylose 0.2 mol/L, acid 0.1 mol/L; 24 values of xylose, furfural to 84 min" in content
    assert job.fits["kinetics"].data[2].name == "B3"
    with pytest.raises(mo.InputError, match="appears twice"):
        mo.Experiments((job.fits["kinetics"].data[0], job.fits["kinetics"].data[0]))


WRONG_RUNS = [
    ({"times": [1, 3, 2]}, "goes back at sample 3"),
    ({"times": [-1, 2, 3]}, "not negative"),
    ({"measured": {"A": [1, 2]}}, "2 values for 3 times"),
    ({"measured": {"A": [1, -2, 1]}}, "negative concentration"),
    ({"initial": {"A": -1}}, "negative concentration"),
    ({"T": -3}, "temperature -3 must be above zero"),
]


@pytest.mark.parametrize(("change", "what"), WRONG_RUNS)
def test_wrong_runs(change: dict, what: str) -> None:
    sound = {"times": [1, 2, 3], "measured": {"A": [3, 2, 1]}}
    with pytest.raises(mo.InputError, match=what):
        mo.Experiment("1", **{**sound, **change})


def test_the_demo_data_are_what_the_script_makes() -> None:
    shipped = Path(make_data.__file__).with_name("cob-liquor.csv")
    with shipped.open(newline="") as lines:
        assert list(csv.reader(lines)) == make_data.rows()


def test_constants_are_shown_with_their_temperature_everywhere(fitted: Fit) -> None:
    """In print, tables, the answer of a report and JSON; activation energies and A have none."""
    named = ["dehydration.k at 165 °C", "dehydration.k.Ea", "resin.k at 165 °C", "resin.k.Ea"]
    assert [*fitted.table()["constant"]] == named
    lines = str(fitted).splitlines()
    assert [next(name for name in named if line.strip().startswith(f"{name}  ")) for line in lines[2:6]] == named
    assert all(name in fitted.answer()[1] for name in named)
    constants = fitted.to_dict()["constants"]
    assert [*constants] == ["dehydration.k", "dehydration.k.Ea", "resin.k", "resin.k.Ea"], "keys are stable names"
    assert constants["resin.k"]["at"] == {"value": pytest.approx(165.0), "unit": "degC"}
    assert "at" not in constants["resin.k.Ea"]
    law = mo.Arrhenius(A=mo.Unknown("1e6 1/min"), Ea="50 kJ/mol")
    chemistry = mo.Chemistry(mo.Reaction("A -> B", name="r", k=law))
    runs = [mo.Experiment("1", [60.0, 300.0], {"A": [800.0, 330.0]}, {"A": 1000.0}, T=300.0)]
    assert [*mo.fit(chemistry, runs).table()["constant"]] == ["r.k.A"]
