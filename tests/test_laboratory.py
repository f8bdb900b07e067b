"""The laboratory's job of the demo, and jobs that ask for what belongs to a fit, through the command line."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import molino as mo
from conftest import DEMO, Typed
from molino.demo import make_data


@pytest.fixture(scope="module")
def laboratory(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("mill")
    shutil.copytree(DEMO / "laboratory", folder / "laboratory")
    shutil.copy(DEMO / "cob-liquor.csv", folder)
    return folder / "laboratory" / "cob-kinetics.toml"


def test_the_laboratory_job_asks_for_everything_and_gets_it(
    molino: Typed, laboratory: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("COLUMNS", "80")
    done = molino("fit", laboratory, "--bootstrap", "30")
    assert done.exit_code == 0, done.output
    assert max(len(line) for line in done.stdout.splitlines()) <= 80
    for part in ("which order", "verdict: first order", "through 72 rates", "left out: run B4",
                 "profile-likelihood intervals", "bootstrap of residuals: 30 refits", "at 175 °C", "candidate laws",
                 "verdict: as in the job", "narrow resin.k.Ea", "residuals normal"):  # fmt: skip
        assert part in done.stdout, part
    results = laboratory.parent / "results" / laboratory.stem
    content = json.loads((results / "fit.json").read_text())["fits"]["laboratory"]
    assert content.keys() >= {
        "constants",
        "screening",
        "rates",
        "profile_likelihood",
        "bootstrap",
        "temperature",
        "candidates",
        "next",
    }
    for name, true in make_data.TRUTH.items():
        assert content["profile_likelihood"][name]["low_95"] < true < content["profile_likelihood"][name]["high_95"]
        (drawn,) = [row for row in content["bootstrap"]["constants"] if row["constant"] == name]
        assert drawn["95 % low"] < content["constants"][name]["value"] < drawn["95 % high"]
    assert content["candidates"]["chosen"] == "as in the job"
    energy = content["rates"]["constants"][-1]
    assert energy["95 % low"] < make_data.TRUTH["dehydration.k.Ea"] < energy["95 % high"]
    for name in (
        "orders",
        "rates",
        "rates-power-law",
        "profile-likelihood",
        "region",
        "bootstrap",
        "temperature",
        "candidates",
        "residuals",
    ):
        assert (results / f"fit-laboratory-{name}.png").stat().st_size > 10_000, name


def test_the_probe_job_has_limits_an_unknown_blank_and_a_posterior(molino: Typed, laboratory: Path) -> None:
    job = laboratory.parent / "probe.toml"
    done = molino("fit", job, "--bootstrap", "30", "--posterior", "100")
    assert done.exit_code == 0, done.output
    for part in ("7 of them limits", "prior: absorbance slope 2.4 ± 0.05 L/mol", "posterior: ", "R-hat at most"):
        assert part in " ".join(done.stdout.split()), part
    results = job.parent / "results" / job.stem
    content = json.loads((results / "fit.json").read_text())["fits"]["probe"]
    truth = {**make_data.TRUTH, "absorbance blank": make_data.PROBE_TRUTH["blank"]}
    for row in content["posterior"]["constants"]:
        if row["constant"] in truth:
            assert row["95 % low"] < truth[row["constant"]] < row["95 % high"]
    for name in ("posterior", "predictions", "intervals"):
        assert (results / f"fit-probe-{name}.png").stat().st_size > 10_000, name


TANKS = """
[units]
time = "min"
temperature = "degC"
concentration = "mol/L"

[reactions.only]
equation = "A -> B"
k = { guess = "0.1 1/min" }

[data.tanks]
file = "tanks.csv"
vessel = "stirred tank"

[data.absorbed]
file = "absorbed.csv"
signals.absorbance = { of = "A", slope = "0.5 L/mol", blank = 0.1 }

[data.speeds]
file = "speeds.csv"
kind = "rates"

[fit.outlets]
data = ["tanks", "absorbed"]
errors = { A = 0.01 }
fit_initial = { late = ["A"] }
delay = "0.5 min"
region = ["only.k", "delay"]

[fit.runs]
data = "absorbed"
per_run = ["only.k"]
temperature = { constant = "only.k", predict = [80] }

[fit.speeds]
data = "speeds"
rates = {}
candidates."square".reactions.only = { equation = "A -> B", rate = "k*[A]^2", k = { guess = "0.1 L/mol/min" } }

[fit.table]
data = "absorbed"
rates = { species = "A", method = "differences" }
temperature = { T = [50, 60, 70], K = [3, 2, 1.4], predict = ["80 degC"] }
"""


@pytest.fixture
def tanks(tmp_path: Path) -> Path:
    tau, random = np.array([5.0, 10.0, 20.0]), np.random.default_rng(1)
    pd.DataFrame(
        {"space time [min]": tau, "feed A [mol/L]": 1.0, "T [degC]": 60, "A [mol/L]": 1 / (1 + 0.2 * tau)}
    ).to_csv(tmp_path / "tanks.csv", index=False)
    times, rows = np.linspace(1, 12, 6), []
    for name, celsius, k in (("early", 60, 0.2), ("late", 70, 0.4)):
        left = np.exp(-k * (times + 0.3)) + random.normal(0, 0.002, 6)
        rows.append(
            pd.DataFrame(
                {
                    "run": name,
                    "time [min]": times,
                    "T [degC]": celsius,
                    "initial A [mol/L]": 1.0,
                    "absorbance": 0.1 + 0.5 * left,
                }
            )
        )
    pd.concat(rows).to_csv(tmp_path / "absorbed.csv", index=False)
    level = np.linspace(0.2, 2, 8)
    pd.DataFrame({"rate [mol/L/min]": 0.2 * level, "A [mol/L]": level}).to_csv(tmp_path / "speeds.csv", index=False)
    (tmp_path / "job.toml").write_text(TANKS)
    return tmp_path / "job.toml"


def test_tanks_signals_rates_and_runs_of_their_own_in_a_job(molino: Typed, tanks: Path) -> None:
    done = molino("fit", tanks, "--profile-likelihood")
    assert done.exit_code == 0, done.output
    fits = json.loads((tanks.parent / "results" / tanks.stem / "fit.json").read_text())["fits"]
    assert list(fits["outlets"]["constants"]) == ["only.k", "start A, late", "delay"]
    own = {n: c["value"] for n, c in fits["runs"]["constants"].items()}
    assert list(own) == ["only.k, early", "only.k, late"]
    energy = 8.31446261815324e-3 * np.log(own["only.k, late"] / own["only.k, early"]) / (1 / 333.15 - 1 / 343.15)
    assert f"Ea = {energy:.4g}"[:7] in fits["runs"]["temperature"]["law"]
    assert fits["speeds"]["constants"]["only.k"]["value"] == pytest.approx(0.2, rel=1e-8)
    assert fits["speeds"]["candidates"]["chosen"] == "as in the job"
    assert fits["speeds"]["rates"]["constants"][1]["value"] == pytest.approx(1.0, rel=1e-8)
    predicted = fits["table"]["temperature"]["predicted"][0]
    assert predicted["low_95"] < predicted["value"] < predicted["high_95"] < 2
    python = mo.read_experiments(
        tanks.parent / "absorbed.csv", signals={"absorbance": mo.Signal("A", slope="0.5 L/mol", blank=0.1)}
    )
    again = mo.fit(
        mo.Chemistry(mo.Reaction("A -> B", name="only", k=mo.Unknown("0.1 1/min"))), python, per_run=["only.k"]
    )
    assert again["only.k, late"].shown()[0] == pytest.approx(own["only.k, late"], rel=1e-9)
    checked = molino("check", tanks)
    assert checked.exit_code == 0
    assert "column 'absorbance': A = (signal - 0.1) / (0.5 L/mol)" in checked.stdout


WRONG = {
    "a signal of no form": (", slope = \"0.5 L/mol\", blank = 0.1", "", ["[data.absorbed]", "nothing is given"]),
    "an unknown kind of slopes": ('method = "differences"', 'method = "tangents"', ["[fit.table]", "initial"]),
    "errors of another species": ("errors = { A = 0.01 }", "errors = { B = 0.01 }", ["'B' was not measured", "no error of A"]),
    "a word for errors": ("errors = { A = 0.01 }", 'errors = "sam"', ["did you mean 'same'"]),
    "starts in no run": ("fit_initial = { late", "fit_initial = { lat", ["unknown run 'lat'"]),
    "a region of one": ('region = ["only.k", "delay"]', 'region = ["only.k"]', ["a region is of two constants"]),
    "a region of nothing": ('region = ["only.k", "delay"]', 'region = ["only.k", "only.q"]', ["'only.q' is not an unknown"]),
    "a constant for all runs": ('per_run = ["only.k"]\n', "", ["[fit.runs]", "name it in per_run"]),
    "half a table of constants": ("K = [3, 2, 1.4], ", "", ["a table of constants has T and k"]),
    "a candidate of bare numbers": ('k = { guess = "0.1 L/mol/min" }', "k = { guess = 0.1 }", ["k is a bare number"]),
    "a candidate out of nothing": ('rate = "k*[A]^2"', 'rate = "k*[Q]^2"', ["candidates.square"]),
    "rates and runs together": ('data = "speeds"', 'data = ["speeds", "tanks"]', ["rates are fitted one table at a time"]),
    "a bare error of rates": ('data = "speeds"', 'data = "speeds"\nerrors = { rate = 0.1 }', ["a bare number for rate", "unit of a rate"]),
    "rates of what": ('species = "A", method', "method", ["no species is named"]),
    "a screening of rates": ('rates = {}', 'screening = { species = "A" }', ["a screening needs runs"]),
    "an unknown key": ("delay = ", "dealy = ", ["unknown key 'dealy'", "did you mean 'delay'"]),
    "an unknown key below": ('method = "differences"', 'way = "initial"', ["unknown key 'way'"]),
    "tanks that are not error": ('vessel = "stirred tank"\n', "", ["a space time is given without a vessel"]),
    "no tries": ("delay = ", "n_starts = 0\ndelay = ", ["n_starts", "0 is less than 1"]),
}  # fmt: skip


@pytest.mark.parametrize("name", WRONG)
def test_each_wrong_fit_table_gets_its_own_message(molino: Typed, tanks: Path, name: str) -> None:
    old, new, parts = WRONG[name]
    text = tanks.read_text()
    assert old in text
    tanks.write_text(text.replace(old, new, 1))
    content = molino("check", tanks)
    assert content.exit_code == 2, content.output
    for part in parts:
        assert part in " ".join(content.stderr.split()), content.stderr


def test_an_interruption_prints_the_best_and_says_so(
    molino: Typed, laboratory: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from molino.core.fitting.model import BalanceModel

    asked = BalanceModel.__call__
    calls: list[int] = []

    def interrupted(self: object, variables: np.ndarray) -> object:
        calls.append(1)
        if len(calls) == 40:
            raise KeyboardInterrupt
        return asked(self, variables)  # type: ignore[arg-type]

    monkeypatch.setattr(BalanceModel, "__call__", interrupted)
    content = molino("fit", laboratory)
    assert content.exit_code == 130
    assert "interrupted" in content.stdout
    assert "dehydration.k" in content.stdout
