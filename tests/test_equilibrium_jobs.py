"""Given conversion, equilibrium and phases as users ask for them: jobs, commands, fits, and what is wrong in a job."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import pytest
from typer.testing import CliRunner

import molino as mo
from molino.desk.cli import app

R = 8.31446261815324
DEMO = Path(mo.__file__).parent / "demo"


def molino(*words: str) -> tuple[int, str]:
    done = CliRunner().invoke(app, list(words))
    return done.exit_code, done.output


@pytest.fixture(scope="module")
def ester(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("ester") / "ester.toml"
    path.write_text((DEMO / "ester.toml").read_text(encoding="utf-8"), encoding="utf-8")
    return path


def test_the_job_says_what_python_says(ester: Path) -> None:
    """The limit of the ester by the command, by the library, and by its definition with the activity model's gammas."""
    code, text = molino("run", str(ester), "--json")
    assert code == 0
    read = json.loads(text)["vessels"]["limit"]
    job = mo.load_job(ester)
    limit = job.vessels["limit"].run()
    assert read["conversion_of_alcohol"] == pytest.approx(limit.conversion("alcohol"), rel=1e-12)
    assert read["kind"] == "equilibrium"
    assert "residence_time" not in read
    out = limit.stream_out().amounts
    x = {s: n / sum(out.values()) for s, n in out.items()}
    gamma = job.feeds["mix"].model.coefficients("85 degC", x)
    K = 7.5 * math.exp(8e3 / R * (1 / 358.15 - 1 / 353.15))
    a = {s: x[s] * gamma[s] for s in x}
    assert a["ester"] * a["water"] / (a["alcohol"] * a["acid"]) == pytest.approx(K, rel=1e-9)
    asked = json.loads(text)["vessels"]["asked"]
    assert asked["conversion_of_alcohol"] == pytest.approx(0.65)
    code, text = molino("compare", str(ester), "--json")
    compared = json.loads(text)["comparisons"]["vessels"]
    assert compared["limit"]["metrics"]["conversion of alcohol"]["value"] == pytest.approx(limit.conversion("alcohol"))


def test_survey_by_the_command(ester: Path) -> None:
    code, text = molino("survey", str(ester), "--json")
    assert code == 0
    vessels = json.loads(text)["surveys"]["mix"]["vessels"]
    assert list(vessels) == ["given conversion", "equilibrium", "stirred tank", "tube", "batch"]
    assert vessels["equilibrium"]["Q_over_K"]["esterification"] == pytest.approx(1.0, rel=1e-9)
    tank, tube = (vessels[n]["fraction_of_equilibrium_conversion"] for n in ("stirred tank", "tube"))
    assert tank < tube < 1
    results = ester.parent / "results" / "ester"
    assert (results / "survey-mix.png").stat().st_size > 10_000
    assert (
        "fraction of equilibrium conversion" in (results / "survey-mix.csv").read_text(encoding="utf-8").splitlines()[0]
    )
    code, text = molino("survey", str(ester))
    assert code == 0
    assert "Q/K of" in text
    assert max(map(len, text.splitlines())) <= 80


def test_equilibrium_by_the_command(tmp_path: Path) -> None:
    path = tmp_path / "ether.toml"
    path.write_text((DEMO / "ether.toml").read_text(encoding="utf-8"), encoding="utf-8")
    code, text = molino("equilibrium", str(path), "--json")
    assert code == 0
    found = json.loads(text)["equilibria"]["beds"]
    assert found["is_reached"]
    assert len(found["beds"]) == 2
    curve = found["curves"][0]["points"]
    values = [p["value"]["value"] for p in curve]
    assert values == sorted(values, reverse=True)  # exothermic
    K = [11.0 * math.exp(23.8e3 / R * (1 / T - 1 / 573.15)) for T in (493.15, 713.15)]
    for k, X in zip(K, (values[0], values[-1]), strict=True):  # 97 mol methanol, 3 mol water: X/2 of each formed
        left, ether, water = 97 * (1 - X), 97 * X / 2, 3 + 97 * X / 2
        assert ether * water / left**2 == pytest.approx(k, rel=1e-8)
    code, text = molino("equilibrium", str(path))
    assert "takes 2 beds" in text
    assert (tmp_path / "results" / "ether" / "equilibrium-beds.png").stat().st_size > 10_000


@pytest.mark.parametrize(("old", "new", "words"), [
    ('vessel = "limit"\nconditions', 'vessel = "limt"\nconditions', "unknown vessel 'limt'"),
    ('model = "NRTL"', 'model = "Wilsn"', "unknown model 'Wilsn'"),
    ('forward = "2.6 kJ/mol", backward = "9.8 kJ/mol"', 'forward = "2.6 kJ/mol"', "water with ester is not"),
    ('forward = "2.6 kJ/mol"', 'forward = 2.6', "neither an energy"),
    ("conversions = { esterification = 0.65 }\n\n[vessels.tank]", "conversions = { esterification = 1.5 }\n\n[vessels.tank]", "more than one"),
    ("conversions = { esterification = 0.65 }\n\n[vessels.tank]", "conversions = { estr = 0.65 }\n\n[vessels.tank]", "unknown reaction 'estr'"),
    ('[survey.mix]\nfeed = "mix"', '[survey.mix]\nfeed = "mix"\nvessel = "tank"', "both feed and vessel"),
    ('[survey.mix]\nfeed = "mix"', "[survey.mix]", "neither feed and vessel"),
    ("[size.coil]", '[equilibrium.x]\nvessel = "tank"\nmetric = "conversion of alcohol"\nT = [90, 80]\n[size.coil]', "not rising"),
    ("[size.coil]", '[equilibrium.x]\nvessel = "tank"\nmetric = "conversion of alcohol"\nT = [60, 80]\nP = ["1 bar"]\n[size.coil]', "no pressure"),
    ("[size.coil]", '[size.limit]\nvessel = "limit"\nmetric = "conversion of alcohol"\ntarget = 0.5\n[size.coil]', "has no size"),
    ('kind = "equilibrium"\nfeed = "mix"', 'kind = "equilibrium"\nfeed = "mix"\nby = "Gibbs energy"', "alcohol has no entropy"),
    ('kind = "equilibrium"\nfeed = "mix"', 'kind = "equilibrium"\nfeed = "mix"\nsolids = ["soot"]', "unknown species 'soot'"),
    ('kind = "equilibrium"\nfeed = "mix"', 'kind = "equilibrium"\nfeed = "mix"\napproach = { x = 5 }', "unknown reaction 'x'"),
    ("[species.water]", '[species.water]\nvapor_pressure = { antoine = [8.0, 1700.0] }', "antoine"),
])  # fmt: skip
def test_what_is_wrong_in_a_job_is_said(tmp_path: Path, old: str, new: str, words: str) -> None:
    content = (DEMO / "ester.toml").read_text(encoding="utf-8")
    assert old in content
    path = tmp_path / "wrong.toml"
    path.write_text(content.replace(old, new, 1), encoding="utf-8")
    code, text = molino("check", str(path))
    assert code == 2
    assert words in " ".join(text.split())


def test_constants_of_equilibrium_are_fitted_to_compositions_at_equilibrium() -> None:
    unknown = mo.VantHoff(K=mo.Unknown(2.0), at="350 K", enthalpy=mo.Unknown("-20 kJ/mol"))
    chemistry = mo.Chemistry(mo.Reaction("A <-> B", k=1.0, K=unknown, name="r"))
    runs = []
    for T in (320.0, 340.0, 360.0, 380.0):
        K = 5.0 * math.exp(40e3 / R * (1 / T - 1 / 350.0))
        vessel = mo.AtEquilibrium(chemistry, mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T=T))
        runs.append(mo.Experiment(f"{T:g}", None, {"A": [1000.0 / (1 + K)]}, vessel=vessel))
    with pytest.raises(mo.InputError, match="unknown: r"):
        vessel.run()
    found = mo.fit(chemistry, mo.Experiments(runs))
    assert found.values["r.K"] == pytest.approx(5.0, rel=1e-8)
    assert found.values["r.K.enthalpy"] == pytest.approx(-40e3, rel=1e-8)


@pytest.mark.parametrize("heat", [mo.Duty("25 kW"), mo.Duty("-10 kW")])
def test_a_given_duty_warms_what_is_mixed(heat: Any) -> None:
    still = mo.Chemistry([], species=["A"])
    rise = heat.duty.si
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/s", T="350 K", heat_capacity="4 MJ/m3/K")
    tank = mo.StirredTank(still, feed, volume="1 m3", heat=heat)
    assert float(tank.steady().temperatures[0]) == pytest.approx(350.0 + rise / 4e3, rel=1e-10)
    half = tank.run("1000 s").temperatures[-1]
    assert half == pytest.approx(350.0 + rise / 4e3 * (1 - math.exp(-1.0)), rel=1e-7)
    moved = tank.with_({"duty": "40 kW"}).steady()
    assert float(moved.temperatures[0]) == pytest.approx(360.0, rel=1e-10)
    assert moved.sensitivity("temperature", ["duty"])["duty"] == pytest.approx(1 / 4e3, rel=1e-9)
    with pytest.raises(mo.InputError, match="does not define its distribution"):
        mo.PlugFlow(still, feed, volume="1 m3", heat=heat)
    assert tank.steady().duty_si == pytest.approx(rise)
