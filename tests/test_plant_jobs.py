"""Heat, pressure, catalyst, dosing, trains and steady states through the job file and the command line."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from typer.testing import CliRunner

import molino as mo
from molino.desk.cli import app

RUNNER = CliRunner()

JOB = """
title = "A plant in small"

[units]
time = "min"
temperature = "K"
concentration = "mol/L"
volume = "m3"
volumetric_flow = "L/min"
power = "kW"

[reactions.main]
equation = "A -> B"
k = { A = "3e14 1/min", Ea = "100 kJ/mol" }
enthalpy = "-200 kJ/mol"

[feeds.cold]
contents = { A = 2.0 }
flow = 100
T = 300
heat_capacity = "4.2 kJ/kg/K"
density = "1000 kg/m3"

[feeds.fresh]
contents = { A = 3.0 }
flow = 20
T = 300
heat_capacity = "4.2 MJ/m3/K"

[vessels.tank]
kind = "stirred tank"
feed = "cold"
volume = 1.0
heat = "adiabatic"
T = 330
start_up = 120
changes = [{ what = "feed T", to = 310, at = 30, over = 10 }, { what = "flow", to = 90, at = 60 }]
steady_states = { T = [280, 430] }
branch = { "feed T" = [270, 320] }

[vessels.pot]
kind = "batch"
charge = { A = 1.0 }
volume = 2.0
time = 30
heat = { T = [[0, 300], [30, 320]], UA = "3 kW/K", wall = "100 kJ/K", stirrer = 2 }
T = 310
heat_capacity = "4.2 MJ/m3/K"

[vessels.kettle]
kind = "semi-batch"
charge = { B = 1.0 }
volume = 1.0
capacity = 1.4
time = 60
heat = { points = [[0, 320], [60, 340]] }
heat_capacity = "4.2 MJ/m3/K"
withdrawal = [[0, 0], [50, 0], [50, 5]]
doses.fresh = { feed = "fresh", windows = [[5, 30]] }

[vessels.coil]
kind = "plug flow"
feed = "cold"
diameter = "80 mm"
length = "20 m"
tubes = 4
heat = { T = 330, U = "300 W/m2/K", flow = "8 kW/K", counter_current = true }

[vessels.line]
kind = "train"
recycle = 0.5
steps = [
  { vessel = "coil" }, { exchanger = { T = 320 } }, { side_feed = "fresh" },
  { parallel = ["coil", "tank"], shares = [0.6, 0.4] },
]

[profile.both]
vessels = ["coil"]
show = ["conversion", "temperature"]
log = "x"

[compare.all]
vessels = ["coil", "tank", "line"]
metrics = ["conversion of A", "temperature", "duty"]
"""


def built() -> dict[str, mo.Batch | mo.Train]:
    """The same in Python."""
    chem = mo.Chemistry(
        mo.Reaction("A -> B", k=mo.Arrhenius(A="3e14 1/min", Ea="100 kJ/mol"), enthalpy="-200 kJ/mol", name="main")
    )
    cold = mo.Feed({"A": "2 mol/L"}, flow="100 L/min", T="300 K", heat_capacity="4.2 kJ/kg/K", density="1000 kg/m3")
    fresh = mo.Feed({"A": "3 mol/L"}, flow="20 L/min", T="300 K", heat_capacity="4.2 MJ/m3/K")
    tank = mo.StirredTank(chem, cold, volume=1.0, heat="adiabatic", T=330, name="tank")
    jacket = mo.Jacket([("0 min", 300), ("30 min", 320)], UA="3 kW/K", wall="100 kJ/K", stirrer="2 kW")
    pot = mo.Batch(chem, {"A": "1 mol/L"}, volume=2, time="30 min", heat=jacket, T=310, heat_capacity="4.2 MJ/m3/K")
    kettle = mo.SemiBatch(
        chem, {"B": "1 mol/L"}, {"fresh": mo.Dosing(fresh, windows=[("5 min", "30 min")])}, volume=1, capacity=1.4,
        time="60 min", heat=mo.Profile([(0, 320), ("60 min", 340)]), heat_capacity="4.2 MJ/m3/K",
        withdrawal=[(0, 0), ("50 min", 0), ("50 min", "5 L/min")],
    )  # fmt: skip
    coil = mo.PlugFlow(chem, cold, diameter="80 mm", length="20 m", tubes=4, name="coil",
                       heat=mo.Jacket(330, U=300, flow=8e3, counter_current=True))  # fmt: skip
    line = mo.Train([coil, mo.Exchanger(320), mo.SideFeed(fresh), mo.Parallel([coil, tank], [0.6, 0.4])], recycle=0.5)
    return {"tank": tank, "pot": pot, "kettle": kettle, "coil": coil, "line": line}


def test_a_plant_job_says_what_python_says(tmp_path: Path) -> None:
    path = tmp_path / "plant.toml"
    path.write_text(JOB, encoding="utf-8")
    ran = RUNNER.invoke(app, ["run", str(path), "--json"])
    assert ran.exit_code == 0, ran.output
    found = json.loads(ran.output)["vessels"]
    vessels = built()
    assert [*found] == ["tank", "tank over time", "pot", "kettle", "coil", "line"]
    for name, vessel in vessels.items():
        run = vessel.run()
        error = found[name]
        assert error["conversion_of_A"] == pytest.approx(run.conversion("A"), rel=1e-9), name
        assert error["temperature"]["value"] == pytest.approx(run.stream_out().T, rel=1e-9)
        assert max(error["closure"].values()) < 1e-8
        kind = 1e3 if error["duty"]["unit"] == "kW" else 1e6
        assert error["duty"]["value"] * kind == pytest.approx(run.duty_si, rel=1e-7, abs=1e-3)
    changes = [mo.Change("feed T", 310, at="30 min", over="10 min"), mo.Change("flow", "90 L/min", at="60 min")]
    moved = vessels["tank"].run("120 min", changes=changes)  # type: ignore[union-attr,call-arg]
    assert found["tank over time"]["temperature"]["value"] == pytest.approx(float(moved.temperatures[-1]), rel=1e-9)
    results = json.loads((tmp_path / "results" / "plant" / "run.json").read_text(encoding="utf-8"))
    assert [row["stable"] for row in results["steady_states"]["tank"]] == [True, False, True]
    assert [fold["kind"] for fold in results["branches"]["tank"]["folds"]] == ["ignition", "extinction"]
    files = {p.name for p in (tmp_path / "results" / "plant").iterdir()}
    assert {
        "steady-tank.png",
        "branch-tank.png",
        "run-kettle.png",
        "run-tank-over-time.png",
        "streams-line.csv",
        "branch-tank.csv",
        "profile-both.png",
    } <= files
    streams = pd.read_csv(tmp_path / "results" / "plant" / "streams-line.csv")
    assert {"feed", "after mixed feed", "after coil", "after exchanger", "fresh", "after parallel"} <= {
        *streams.columns
    }


def test_the_plant_job_is_reported_in_words(tmp_path: Path) -> None:
    path = tmp_path / "plant.toml"
    path.write_text(JOB, encoding="utf-8")
    for command, parts in {
        "check": ["no faults", "line: train, recycle ratio 0.5", "coolant at 330 K"],
        "run": [
            "3 steady states between",
            "ignition at feed T",
            "streams: feed and outlets",
            "contents of pot",
            "A [kmol/h]",
        ],
        "compare": ["line", "temperature [K]", "duty [kW]"],
    }.items():
        ran = RUNNER.invoke(app, [command, str(path)], env={"COLUMNS": "120"})
        assert ran.exit_code == 0, ran.output
        for part in parts:
            assert part in ran.output, (command, part)
    printed = RUNNER.invoke(app, ["check", str(path), "--equations"], env={"COLUMNS": "200"}).output
    assert "d(T)/dt" in printed
    assert "d(T_c)/dV" in printed


WRONG = {
    "a mode of heat": ('heat = "adiabatic"', 'heat = "cosy"', ["[vessels.tank] heat", "write 'isothermal'"]),
    "a key of a jacket": (
        "counter_current = true",
        "countercurrent = true",
        ["unknown key 'countercurrent'", "counter_current"],
    ),
    "a profile": ("[[0, 320], [60, 340]]", "[0, 320]", ["[vessels.kettle] heat.points", "a list of pairs"]),
    "a feed to dose": (
        'feed = "fresh", windows',
        'feed = "frsh", windows',
        ["[vessels.kettle]", "unknown feed 'frsh'", "fresh"],
    ),
    "a vessel of a train": (
        '{ vessel = "coil" }',
        '{ vessel = "coyl" }',
        ["[vessels.line]", "unknown vessel 'coyl'", "coil"],
    ),
    "two in one step": ('{ vessel = "coil" }', '{ vessel = "coil", side_feed = "fresh" }', ["are in one step"]),
    "changes without time": ("start_up = 120\n", "", ["changes are given without a start-up time", "start_up"]),
    "a change of nothing": ('what = "feed T", to = 310', 'what = "colour", to = 310', ["'colour' cannot be varied"]),
    "bounds of one": ("T = [280, 430]", "T = [280]", ["[vessels.tank] steady_states"]),
    "a heat without enthalpy": ('enthalpy = "-200 kJ/mol"', "", ["no enthalpy of formation", "[vessels.tank]"]),
    "a panel": (
        'show = ["conversion"',
        'show = ["colour"',
        ["[profile.both]", "'colour' is not one of the possible values"],
    ),
    "a vessel to draw": (
        'vessels = ["coil"]\nshow',
        'vessels = ["coyl"]\nshow',
        ["[profile.both]", "unknown vessel 'coyl'"],
    ),
    "an enthalpy in kW": ('"-200 kJ/mol"', '"-200 kW"', ["[reactions.main]", "not an energy per amount"]),
    "a split that does not add up": ("shares = [0.6, 0.4]", "shares = [0.6, 0.6]", ["are not shares"]),
}


@pytest.mark.parametrize("name", WRONG)
def test_each_fault_of_a_plant_job_is_reported(name: str, tmp_path: Path) -> None:
    old, new, parts = WRONG[name]
    text = JOB
    assert old in text
    path = tmp_path / "plant.toml"
    path.write_text(text.replace(old, new, 1), encoding="utf-8")
    command = "run" if "colour" in new else "check"
    ran = RUNNER.invoke(app, [command, str(path)], env={"COLUMNS": "200"})
    assert ran.exit_code == 2, ran.output
    for part in parts:
        assert part in ran.output, ran.output
    assert not (tmp_path / "results").exists()


def test_the_ether_example_walks_and_agrees_with_python(tmp_path: Path) -> None:
    ran = RUNNER.invoke(app, ["demo", str(tmp_path / "plant"), "--example", "ether"], env={"COLUMNS": "100"})
    assert ran.exit_code == 0, ran.output
    for part in (
        "molino run",
        "molino size",
        "molino compare",
        "more lines with: molino run",
        "molino demo",
    ):
        assert part in ran.output
    whole = RUNNER.invoke(app, ["run", str(tmp_path / "plant" / "ether.toml")], env={"COLUMNS": "100"})
    assert "streams: feed and outlets" in whole.output
    job = mo.load_job(tmp_path / "plant" / "ether.toml")
    bed = job.vessels["bed"]
    run = bed.run()
    assert max(run.closure.values()) < 1e-8
    assert 0.5 < run.conversion("methanol") < 0.95
    out = run.stream_out()
    # equilibrium is not passed: p_E p_W/p_M^2 stays below K at the outlet's temperature
    K = 11.0 * np.exp(23800 / 8.31446261815324 * (1 / out.T - 1 / 573.15))
    assert out.amounts["ether"] * out.amounts["water"] / out.amounts["methanol"] ** 2 < K
    table = run.table()
    assert table["P [bar]"].is_monotonic_decreasing
    assert table["T [degC]"].is_monotonic_increasing
    assert table["effectiveness of dehydration"].between(0, 1).all()
    printed = str(job.vessels["aged"].equations()).replace(" ", "")
    assert "r_dehydration=a*eta_dehydration*r0_dehydration" in printed
    assert "phi2_dehydration=pore_dehydration*r0_dehydration*rho_p/[methanol]" in printed
    assert "r_dehydration=dehydration.k" not in printed
    aged = job.vessels["aged"].run()
    assert aged.conversion("methanol") < run.conversion("methanol")
    cascade = job.vessels["cascade"].run()
    assert cascade.exchanged["exchanger"] < 0
    figure = mo.figures.profile([run, aged], show=["molar flow", "conversion", "temperature", "pressure"], log="")
    assert [axes.get_ylabel() for axes in figure.axes] == [
        "molar flow [kmol/h]",
        "conversion",
        "temperature [°C]",
        "pressure [bar]",
    ]
    logged = mo.figures.profile(run, show=["concentration"], log="xy")
    assert (logged.axes[0].get_xscale(), logged.axes[0].get_yscale()) == ("log", "log")
    for wrong, content in (({"show": ["colour"]}, "unknown panel 'colour'"),):
        with pytest.raises(mo.InputError, match=content):
            mo.figures.profile(run, **wrong)
    again = RUNNER.invoke(app, ["demo", str(tmp_path / "plant"), "--example", "liqor"])
    assert again.exit_code == 2


def test_a_chemistry_with_heats_goes_through_a_file(tmp_path: Path) -> None:
    chem = mo.Chemistry(mo.Reaction("A -> B", k="1 1/s", enthalpy="-80 kJ/mol", enthalpy_at="350 K", name="r"))
    back = mo.files.read_chemistry(mo.files.write_chemistry(chem, tmp_path / "heats.toml"))
    assert str(back.reactions[0].enthalpy) == "-80 kJ/mol"
    assert back.reactions[0].enthalpy_at.si == 350
