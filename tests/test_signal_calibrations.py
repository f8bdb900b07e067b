"""Signals of instruments with unknown calibrations, priors, and common offsets."""

from dataclasses import replace

import numpy as np
import pandas as pd
import pytest
import scipy

import molino as mo
from molino.core.statistics import student_t_quantile

K = 0.2 / 60
TIMES = np.array([0, 1, 2, 4, 6, 8, 12, 16, 20.0]) * 60
CHARGES = (1000.0, 500.0)
LAW = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))


def runs_of(signals, measure):
    """Two runs; `measure` gives the responses from exact concentrations of A and B in mol/m3."""
    exact = [(c * np.exp(-K * TIMES), c * (1 - np.exp(-K * TIMES))) for c in CHARGES]
    return [mo.Experiment(f"{n}", TIMES, measure(*c), {"A": CHARGES[n]}, signals=signals) for n, c in enumerate(exact)]


def by_hand(residuals, start, priors=0):
    """Constants and standard errors by SciPy, of residuals with unit weights; `priors` last ones are known."""
    found = scipy.optimize.least_squares(residuals, start, xtol=1e-15, ftol=1e-15, gtol=1e-15, x_scale=np.abs(start))
    variance = float(found.fun @ found.fun) / (len(found.fun) - len(start)) if not priors else 1.0
    return found.x, np.sqrt(np.diag(np.linalg.inv(found.jac.T @ found.jac)) * variance)


def measured(runs, name):
    return np.concatenate([run.measured[name] for run in runs])


def test_slope_and_blank_agree_with_least_squares_by_hand():
    noise = np.random.default_rng(1)
    signals = {"absorbance": mo.Signal("A", slope=mo.Unknown("1 L/mol"), blank=mo.Unknown(0))}
    runs = runs_of(signals, lambda A, B: {"absorbance": 0.02 + 1.2e-3 * A + 0.004 * noise.standard_normal(len(A))})
    fit = mo.fit(LAW, runs)
    y = measured(runs, "absorbance")

    def residuals(p):
        return np.concatenate([p[2] + p[1] * c * np.exp(-p[0] * TIMES) for c in CHARGES]) - y

    constants, errors = by_hand(residuals, np.array([0.003, 1e-3, 0.01]))
    assert list(fit.values) == ["r.k", "absorbance slope", "absorbance blank"]
    assert list(fit.values.values()) == pytest.approx(constants, rel=1e-6)
    assert [e.standard_error for e in fit.estimates] == pytest.approx(errors, rel=1e-4)


def test_a_prior_counts_as_an_observation_with_a_known_error():
    noise = np.random.default_rng(2)
    signals = {"absorbance": mo.Signal("A", slope=mo.Unknown("1.25 +- 0.02 L/mol"), blank=0.0)}
    runs = runs_of(signals, lambda A, B: {"absorbance": 1.2e-3 * A + 0.02 * noise.standard_normal(len(A))})
    fit = mo.fit(LAW, runs)
    y, s = measured(runs, "absorbance"), fit.points.standard_deviation[0]

    def residuals(p):
        calculated = np.concatenate([p[1] * c * np.exp(-p[0] * TIMES) for c in CHARGES])
        return np.append((calculated - y) / s, (p[1] - 1.25e-3) / 0.02e-3)

    constants, errors = by_hand(residuals, np.array([0.003, 1e-3]), priors=1)
    assert list(fit.values.values()) == pytest.approx(constants, rel=1e-6)
    assert [e.standard_error for e in fit.estimates] == pytest.approx(errors, rel=0.04)  # wider: s is estimated
    assert "prior: absorbance slope 1.25 ± 0.02 L/mol" in str(fit)
    low, high = fit.profile_likelihood("absorbance slope")["absorbance slope"].interval
    assert (low, high) == pytest.approx(fit["absorbance slope"].interval, rel=2e-3)


def test_a_prior_alone_determines_what_the_data_do_not():
    law = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.2 +- 0.01 1/min")))
    early = [mo.Experiment("1", [30.0, 60.0, 90.0], {"A": [700.0, 900.0, 800.0]}, {"A": 1000.0})]
    fit = mo.fit(law, early, errors={"A": "200 mol/L"})
    low, high = fit["r.k"].shown()[2:]
    assert 0.17 < low < 0.2 < high < 0.23


def test_a_delay_of_the_signal_is_fitted():
    noise = np.random.default_rng(3)
    signal = mo.Signal("A", slope=mo.Unknown("1 L/mol"), delay=mo.Unknown("40 s"))
    runs = []
    for name, c in zip("ab", CHARGES, strict=True):
        late = c * np.exp(-K * np.maximum(TIMES - 90, 0))
        values = 1.2e-3 * late + 0.002 * noise.standard_normal(len(TIMES))
        runs.append(mo.Experiment(name, TIMES, {"absorbance": values}, {"A": c}, signals={"absorbance": signal}))
    fit = mo.fit(LAW, runs)
    low, high = fit["absorbance delay"].interval
    assert low < 90 < high
    assert high - low < 6
    known = [replace(run, signals={"absorbance": replace(signal, delay="90 s")}) for run in runs]
    assert mo.fit(LAW, known).values["r.k"] == pytest.approx(K, rel=0.01)


def test_overlapping_spectra_and_a_formula():
    noise = np.random.default_rng(4)
    signals = {
        "at 420 nm": mo.Signal(slopes={"A": "1 L/mol", "B": mo.Unknown("0.5 L/mol")}),
        "at 510 nm": mo.Signal(slopes={"A": mo.Unknown("0.2 L/mol"), "B": "1.5 L/mol"}, blank=mo.Unknown(0)),
        "conductivity": mo.Signal(
            formula="c0 + c1*[A] + c2*[B]^0.5", constants={"c0": 0.1, "c1": mo.Unknown(0.001), "c2": mo.Unknown(0.01)}
        ),
    }

    def measure(A, B):
        exact = (1e-3 * A + 0.3e-3 * B, 0.3e-3 * A + 1.5e-3 * B + 0.02, 0.1 + 0.002 * A + 0.03 * B**0.5)
        return {n: y + 0.003 * noise.standard_normal(len(A)) for n, y in zip(signals, exact, strict=True)}

    fit = mo.fit(LAW, runs_of(signals, measure))
    truth = {
        "r.k": K, "at 420 nm slope of B": 0.3e-3, "at 510 nm slope of A": 0.3e-3, "at 510 nm blank": 0.02,
        "conductivity c1": 0.002, "conductivity c2": 0.03,
    }  # fmt: skip
    assert fit.values.keys() == truth.keys()
    for estimate in fit.estimates:
        assert abs(estimate.value - truth[estimate.name]) < 3.5 * estimate.standard_error
        assert estimate.standard_error < 0.1 * abs(truth[estimate.name])


def test_an_offset_is_found_named_and_fitted():
    noise = np.random.default_rng(5)
    runs = runs_of({}, lambda A, B: {"A": A + 30 + 4 * noise.standard_normal(len(A))})
    (note,) = mo.fit(LAW, runs).offset_notes
    assert "A: a common offset of 28.4" in note
    assert "offset='A'" in note
    fit = mo.fit(LAW, runs, offset="A")
    assert fit["r.k"].interval[0] < K < fit["r.k"].interval[1]
    assert not fit.offset_notes
    sound = [mo.fit(LAW, runs_of({}, lambda A, B: {"A": A + 4 * noise.standard_normal(len(A))})) for _ in range(40)]
    assert sum(bool(one.offset_notes) for one in sound) <= 2


def test_equal_fitted_starts_of_a_product_are_named_as_an_offset():
    noise = np.random.default_rng(6)
    runs = runs_of({}, lambda A, B: {"B": B + 30 + 4 * noise.standard_normal(len(A))})
    (note,) = mo.fit(LAW, runs).offset_notes
    assert "B: the fitted starts agree" in note


def test_a_table_with_a_signal_of_unknown_slope_and_limits(tmp_path):
    lines = [f"{t / 60:g},1,{0.4 * np.exp(-K * t):.4f}" for t in TIMES[:-1]]
    path = tmp_path / "runs.csv"
    path.write_text("\n".join(["time [min],initial A [mol/L],signal [mV]", *lines, "40,1,<0.02"]))
    runs = mo.read_experiments(path, signals={"signal": mo.Signal("A", slope=mo.Unknown("0.3 mV L/mol"))})
    assert runs[0].limits("signal")[-1] == -1
    fit = mo.fit(LAW, runs)
    assert fit["signal slope"].shown()[0] == pytest.approx(0.4, rel=1e-3)
    assert "slope" in str(runs)
    falling = mo.read_experiments(path, signals={"signal": mo.Signal("A", slope="-0.4 mV L/mol", blank="0.8 mV")})
    assert falling[0].limits("A")[-1] == 1  # the signal falls with the concentration


@pytest.mark.parametrize(
    ("form", "fragment"),
    [
        ({"of": "A", "slopes": {"A": 1.0}}, "`of` names the metric"),
        ({"formula": "a*[A]"}, "'a' of the formula has no value"),
        ({"formula": "p[A]"}, "p[A] in a signal"),
        ({"of": "A", "slope": mo.Unknown(0.0)}, "a slope is zero"),
        ({"of": "A", "slope": "2 kat"}, "a signal in"),
    ],
)
def test_wrong_calibrations_are_named(form, fragment):
    with pytest.raises(mo.InputError, match=fragment.replace("[", r"\[")):
        mo.Experiment("1", [60.0], {"s": [0.5]}, {"A": 1.0}, signals={"s": mo.Signal(**form)})


def hydrogenation(k):
    law = mo.Chemistry(mo.Reaction("A + H2 -> B", name="r", k=k))
    gas = mo.GasPhase({"H2": "1 mol/mol"}, kLa="0.2 1/s", henry={"H2": "1300 bar*L/mol"}, P="10 bar")
    return mo.Batch(law, {"A": "1 mol/L"}, volume="2 L", time="100 min", gas=gas, T="350 K")


def test_the_uptake_of_a_gas_is_consumed_or_dissolved() -> None:
    batch = hydrogenation("0.05 L/mol/s")
    run = batch.run()
    c = {s: v[-1] for s, v in run.concentrations.items()}
    assert run.metric("uptake of H2") == pytest.approx(2e-3 * (1000 - c["A"] + c["H2"]), rel=1e-6)
    assert run.metric("absorption of H2") > 0
    with pytest.raises(mo.InputError, match="no A is supplied"):
        run.metric("uptake of A")
    with pytest.raises(mo.InputError, match="no gas dissolves A"):
        run.metric("absorption of A")


@pytest.mark.parametrize("by_volume", [False, True])
def test_a_gas_uptake_determines_the_constant(by_volume) -> None:
    batch = hydrogenation("0.05 L/mol/s")
    times = np.linspace(5, 90, 8)
    uptake = np.array([batch.with_(time=f"{t} min").run().metric("uptake of H2") for t in times])
    open_batch = hydrogenation(mo.Unknown("0.02 L/mol/s"))
    if by_volume:
        litres = uptake * 8.31446261815324 * 298.15 / 1e5 * 1000
        table = pd.DataFrame({"time [min]": times, "burette [L]": litres})
        signals = {"burette": mo.Signal("uptake of H2", gas_T="25 degC", gas_P="1 bar")}
        runs = mo.read_experiments(table, vessel=open_batch, signals=signals)
    else:
        runs = mo.read_experiments(
            pd.DataFrame({"time [min]": times, "uptake of H2 [mmol]": 1000 * uptake}), vessel=open_batch
        )
    assert mo.fit(open_batch.chemistry, runs)["r.k"].shown()[0] == pytest.approx(0.05, rel=1e-6)


def test_amounts_heat_and_total_moles_are_observed(tmp_path) -> None:
    def batch(k):
        law = mo.Chemistry(mo.Reaction("A -> B + G", name="r", k=k, enthalpy="-50 kJ/mol"))
        return mo.Batch(
            law, {"A": "1 mol/L"}, volume="1 L", T="300 K", heat_capacity="4 MJ/m3/K", time="1 h",
            heat=mo.Jacket(T="300 K", UA="20 W/K"),
        )  # fmt: skip

    times, truth = np.linspace(2, 30, 8), batch("0.1 1/min")
    names = {"amount of A": "mol", "amount": "mol", "heat": "kJ"}
    values = {n: [truth.with_(time=f"{t} min").run().metric(n) for t in times] for n in names}
    for name, unit in names.items():
        scale = 1000.0 if unit == "kJ" else 1.0
        table = pd.DataFrame({"time [min]": times, f"{name} [{unit}]": np.array(values[name]) / scale})
        open_batch = batch(mo.Unknown("0.05 1/min"))
        runs = mo.read_experiments(table, vessel=open_batch)
        assert mo.fit(open_batch.chemistry, runs)["r.k"].shown()[0] == pytest.approx(0.1, rel=1e-5), name


def test_evolved_gas_of_a_simple_run_and_its_blank() -> None:
    law = mo.Chemistry(mo.Reaction("A -> B + G", name="r", k=mo.Unknown("0.1 1/min")))
    minutes = np.linspace(1, 15, 10)
    moles = 0.5 * (1 - np.exp(-0.2 * minutes))
    table = pd.DataFrame(
        {
            "time [min]": minutes,
            "initial A [mol/L]": 1.0,
            "gas [mL]": 12 + moles * 8.31446261815324 * 298.15 / 1e5 * 1e6,
        }
    )
    gas = {"gas_T": "25 degC", "gas_P": "1 bar", "liquid": "0.5 L"}
    for blank in ("12 mL", mo.Unknown("0 mL")):
        runs = mo.read_experiments(table, signals={"gas": mo.Signal("G", **gas, blank=blank)})
        fit = mo.fit(law, runs)
        assert fit["r.k"].shown()[0] == pytest.approx(0.2, rel=1e-6)
    assert fit["gas blank"].shown()[0] == pytest.approx(12, rel=1e-6)
    with pytest.raises(mo.InputError, match="of an amount, or of a concentration"):
        mo.Signal("G", gas_T="25 degC", gas_P="1 bar")


@pytest.mark.parametrize("is_offset", [False, True])
def test_the_next_experiment_is_observed_by_the_same_signal(is_offset) -> None:
    """The half width after it is that of a fit to data with the planned samples too."""
    signals = {} if is_offset else {"absorbance": mo.Signal("A", slope=mo.Unknown("1 L/mol"), blank=mo.Unknown(0))}
    options = {"offset": "A"} if is_offset else {}

    def measure(A, B):
        error = 4 * np.cos(np.arange(len(A)) * 2.1)
        return {"A": A + 30 + error} if is_offset else {"absorbance": 0.02 + 1.2e-3 * (A + error)}

    runs = runs_of(signals, measure)
    fit = mo.fit(LAW, runs, **options)
    times = [60.0, 300.0, 700.0]
    plan = fit.next_experiment("r.k", charges=[{"A": 800.0}], times=[times])
    scaled = fit.optimum.information_rows(fit.problem)
    k, one = fit.values["r.k"], fit.estimates[1].value
    c = 800.0 * np.exp(-k * np.array(times))
    by_k, size = -np.array(times) * c, 1.0 if is_offset else one
    rows = [size * by_k, np.ones(3)] if is_offset else [size * by_k, c, np.ones(3)]
    more = np.array(rows).T / fit.points.standard_deviation[0]
    both = np.linalg.inv(scaled.T @ scaled + more.T @ more)
    now = np.linalg.inv(scaled.T @ scaled)
    t = student_t_quantile(0.975, fit.degrees_of_freedom + 3) / student_t_quantile(0.975, fit.degrees_of_freedom)
    assert plan.after / plan.now == pytest.approx(t * np.sqrt(both[0, 0] / now[0, 0]), rel=1e-6)


def test_area_per_cent_by_a_formula() -> None:
    signals = {
        "area": mo.Signal(formula="100*[B]/([B] + f*[A])", constants={"f": mo.Unknown(1.0)}),
    }
    runs = runs_of(signals, lambda A, B: {"area": 100 * B / (B + 1.4 * A)})
    fit = mo.fit(LAW, runs, errors={"area": "0.1"})
    assert fit.values["area f"] == pytest.approx(1.4, rel=1e-5)
    assert fit.values["r.k"] == pytest.approx(K, rel=1e-5)


def test_experiments_from_text_keep_their_units() -> None:
    values = ["0.82 mol/L", "0.675 mol/L", "0.448 mol/L", "0.204 mol/L"]
    run = mo.Experiment("1", ["1 min", "2 min", "4 min", "8 min"], {"A": values}, {"A": "1 mol/L"}, T="50 degC")
    assert "A 1 mol/L; 4 values of A to 8 min" in str(mo.Experiments((run,)))
    assert "at 50 °C" in str(mo.Experiments((run,)))
    fit = mo.fit(LAW, run)
    assert "A: residual standard deviation 0.0" in str(fit)
    assert "mol/L" in str(fit)
    bare = mo.Experiment("1", run.times, {"A": run.measured["A"]}, {"A": 1000.0})
    assert "mol" not in str(mo.Experiments((bare,)))


def test_a_fit_to_partial_pressures_shows_bar() -> None:
    minutes = np.array([1, 2, 4, 8, 12.0])
    blocks = [
        pd.DataFrame({"run": n, "T [degC]": 200, "time [min]": minutes, "initial A [bar]": p,
                      "A [bar]": p * np.exp(-0.1 * minutes) + 0.01 * np.array([1, -1, 0.5, 0.3, -1])})
        for n, p in (("a", 1.0), ("b", 2.0))
    ]  # fmt: skip
    fit = mo.fit(LAW, mo.read_experiments(pd.concat(blocks)))
    assert fit.points.variables["initial p[A]"] == pytest.approx(np.repeat([1e5, 2e5], 5))
    labels = [axes.get_xlabel() for axes in mo.figures.residuals(fit).axes]
    assert labels[:2] == ["measured [bar]", "calculated [bar]"]
    assert "initial p[A] [bar]" in labels
    charges = [{"A": "1 bar"}, {"A": "3 bar"}]
    plan = fit.next_experiment("r.k", T=["200 degC"], charges=charges, times=[["1 min", "5 min"]])
    assert "A 3 bar" in str(plan)
    assert sorted(plan.table()["A [bar]"]) == pytest.approx([1, 3])
    with pytest.raises(mo.InputError, match="without a temperature"):
        fit.next_experiment("r.k", charges=charges, times=[["1 min"]])
