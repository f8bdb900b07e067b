"""Fields, tubes over time and tracer tests on the command line and in figures, as a user asks for them."""

from __future__ import annotations

import copy
import json
import pickle
import re
from dataclasses import replace
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from PIL import Image

import molino as mo
from conftest import DEMO, Typed

ADSORBER = """
[reactions.r]
equation = "A -> B"
k = "1e-9 1/s"
[feeds.f]
contents = { A = "0.1 mol/L" }
flow = "1 L/min"
[vessels.bed]
kind = "plug flow"
feed = "f"
volume = "1 L"
catalyst = { bulk_density = "600 kg/m3", voidage = 0.4 }
adsorption = { isotherm = { A = "K*[A]" }, rate = "0.5 1/s", constants = { K = "2 L/kg" } }
[vessels.bed.follow]
time = "4 min"
cells = 60
contents = { B = "0.1 mol/L" }
changes = [{ what = "[A]", to = "0.2 mol/L", at = "3 min" }]
[fields.slit]
kind = "laminar tube"
feed = "f"
gap = "2 mm"
width = "10 cm"
length = "1 m"
diffusivity = { A = "1e-9 m2/s" }
follow = { time = "10 min", cells = 12, nodes = 6 }
"""


@pytest.fixture(scope="module")
def basin_job(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("basin")
    text = (DEMO / "basin.toml").read_text(encoding="utf-8")
    text = (
        text.replace("tracer = true\n\n[fields.walled]", "\n[fields.walled]")
        .replace("cells = [72, 30]", "cells = [24, 10]")
        .replace("steps = 120, points = 25", "steps = 30, points = 4")
    )
    (folder / "basin.toml").write_text(text, encoding="utf-8")
    (folder / "cooker-tracer.csv").write_bytes((DEMO / "cooker-tracer.csv").read_bytes())
    return folder / "basin.toml"


def test_the_basin_of_the_mill_says_what_python_says(basin_job: Path, molino: Typed) -> None:
    done = molino("field", basin_job, "--json")
    assert done.exit_code == 0, done.output
    found = json.loads(done.stdout)["fields"]
    job = mo.load_job(basin_job)
    for name in ("basin", "walled"):
        run = job.fields[name].field.run()
        shown = found[name]["steady"]["conversion_of_furfural"]
        assert shown["value"] == pytest.approx(run.conversion("furfural"), rel=1e-12)
        assert abs(shown["extrapolated"] - shown["value"]) == pytest.approx(shown["grid_error"])
    assert (
        found["basin"]["steady"]["conversion_of_furfural"]["value"]
        < (found["walled"]["steady"]["conversion_of_furfural"]["value"])
    )
    assert found["walled"]["residence times"]["mean"]["value"] == pytest.approx(240, rel=1e-4)
    results = basin_job.parent / "results" / "basin"
    names = {p.name for p in results.iterdir()}
    for wanted in ("field-basin.png", "field-basin-across.png", "field-walled-tracer.png", "field-walled-sequence.png",
                   "field-walled-over-time.csv", "field-drain.png", "field-walled.gif", "field.json"):  # fmt: skip
        assert wanted in names, wanted
    with Image.open(results / "field-walled.gif") as moving:
        assert moving.n_frames == 4
    table = pd.read_csv(results / "field-walled.csv")
    assert {"x [m]", "y [m]", "velocity along x [m/s]", "furfural [mol/L]"} <= {*table.columns}
    text = molino("field", basin_job, "--only", "drain").output
    assert "conversion of furfural in plug flow" in text
    assert molino("field", basin_job, "--only", "pond").exit_code == 2
    checked = molino("check", basin_job).output
    assert "tracer cooker" in checked
    assert "field walled" in checked


def test_the_tracer_test_of_a_job_is_that_of_its_table(basin_job: Path, molino: Typed) -> None:
    done = molino("tracer", basin_job, "--json")
    assert done.exit_code == 0, done.output
    found = json.loads(done.stdout)["tracers"]["cooker"]
    table = mo.mixing.read_tracer(basin_job.parent / "cooker-tracer.csv", volume="6 m3", flow="12 m3/h", injected="1.5 kg",
                           calibration="0.55 g/L", baseline=[("-5 min", "-0.5 min"), ("320 min", "360 min")])  # fmt: skip
    assert found["dead_fraction"] == pytest.approx(table.distribution().dead_fraction, rel=1e-9)
    assert "models" in found
    mixed = molino("tracer", basin_job, "--volume", "6 m3")
    assert mixed.exit_code == 2
    assert "options are given with a job file" in mixed.output


def test_a_tube_over_time_in_a_job(tmp_path: Path, molino: Typed) -> None:
    path = tmp_path / "bed.toml"
    path.write_text(ADSORBER, encoding="utf-8")
    done = molino("run", path, "--json")
    assert done.exit_code == 0, done.output
    found = json.loads(done.stdout)["over_time"]["bed"]
    outlet = np.array(found["outlet"]["concentration of A"]["values"])
    times = np.array(found["time"]["values"]) / (1 if found["time"]["unit"] == "min" else 60)
    assert np.interp(0.05, outlet, times) == pytest.approx(0.4 + 1.2, rel=0.03)  # e + rho_b K, per volume over flow
    results = tmp_path / "results" / "bed"
    assert (results / "run-bed-over-time.png").exists()
    assert outlet[-1] == pytest.approx(0.1, rel=0.02)  # little of the step at 3 min has come through
    assert "at the outlet" in molino("run", path).output
    field = molino("field", path)
    assert field.exit_code == 0, field.output
    assert "cells along, nodes across" in field.output


@pytest.mark.parametrize(("was", "now", "words"), [
    ('gap = "2 mm"', 'gap = "2 mm"\ndiameter = "1 mm"', "both diameter and gap"),
    ("nodes = 6", "nodes = 6, animation = true", "only a basin can be animated"),
    ('feed = "f"\ngap', 'feed = "g"\ngap', "unknown feed 'g'"),
    ('rate = "0.5 1/s"', 'rate = "0.5 m"', "adsorption"),
    ('K = "2 L/kg"', 'K = "2 1/kg"', "kg"),
    ('what = "[A]"', 'what = "length"', "follow"),
    ("cells = 60", "cells = 2", "cells"),
])  # fmt: skip
def test_what_is_wrong_in_a_field_is_said_with_its_place(
    tmp_path: Path, molino: Typed, was: str, now: str, words: str
) -> None:
    assert was in ADSORBER
    (tmp_path / "job.toml").write_text(ADSORBER.replace(was, now), encoding="utf-8")
    done = molino("check", tmp_path / "job.toml")
    assert done.exit_code == 2
    assert words in " ".join(done.output.split())


def test_figures_refuse_what_is_not_there(basin_job: Path) -> None:
    run = mo.load_job(basin_job).fields["basin"].field.run()
    with pytest.raises(mo.InputError, match="it has concentration of furfural"):
        mo.figures.field(run, ["pressure"])
    with pytest.raises(mo.InputError, match="unknown species 'X'"):
        mo.figures.across(run, "X")
    one = mo.figures.field(run, ["age"])
    assert one.axes[0].get_title(loc="left").startswith("mean age [")


def test_the_page_on_fields_runs(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.chdir(tmp_path)
    page = (Path(__file__).parent.parent / "docs" / "fields.md").read_text(encoding="utf-8")
    exec(compile("\n".join(re.findall(r"```python\n(.*?)```", page, re.DOTALL)), "fields", "exec"), {})
    printed = capsys.readouterr().out
    assert "on a finer grid" in printed
    assert "Péclet number" in printed
    assert {p.name for p in tmp_path.iterdir()} >= {"basin.png", "basin.gif", "start.png"}


BASIN = """
[units]
length = "m"
[reactions.r]
equation = "A -> B"
k = "0.2 1/min"
[feeds.f]
contents = { A = "1 mol/L" }
flow = "20 L/s"
[feeds.gas]
contents = { A = "1 mol/s" }
T = "400 K"
P = "2 bar"
[fields.pond]
kind = "basin"
length = 4
width = 2
depth = 1
inlets = [{ side = "left", between = [0, 0.5], feed = "f" }]
outlets = [{ side = "right", between = [1.5, 2] }]
baffles = [{ start = [2, 0], end = [2, 1] }]
cells = [12, 8]
"""


def test_bare_numbers_of_a_basin_are_in_the_units_of_the_job(tmp_path: Path, molino: Typed) -> None:
    for name, text in (("m", BASIN), ("cm", BASIN.replace('length = "m"', 'length = "cm"').replace(
            "length = 4\nwidth = 2\ndepth = 1", "length = 400\nwidth = 200\ndepth = 100").replace(
            "[0, 0.5]", "[0, 50]").replace("[1.5, 2]", "[150, 200]").replace(
            "start = [2, 0], end = [2, 1]", "start = [200, 0], end = [200, 100]"))):  # fmt: skip
        (tmp_path / f"{name}.toml").write_text(text, encoding="utf-8")
    found = [mo.load_job(tmp_path / f"{name}.toml").fields["pond"].field for name in ("m", "cm")]
    python = mo.fields.Basin(
        mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min")), length="4 m", width="2 m", depth="1 m",
        inlets=mo.fields.Inlet("left", ("0 m", "0.5 m"), mo.Feed({"A": "1 mol/L"}, flow="20 L/s")),
        outlets=mo.fields.Outlet("right", ("1.5 m", "2 m")), baffles=[mo.fields.Baffle(("2 m", "0 m"), ("2 m", "1 m"))], cells=(12, 8),
    )  # fmt: skip
    wanted = python.run().conversion("A")
    assert [one.run().conversion("A") for one in found] == pytest.approx([wanted, wanted], rel=1e-9)
    table = found[1].run().table()
    assert "x [cm]" in table.columns
    shown = molino("field", tmp_path / "m.toml").output
    assert "conversion of A in a stirred tank" in shown


@pytest.mark.parametrize(("was", "now", "words"), [
    ("between = [1.5, 2]", "between = [1.5, 3]", "is not on its side"),
    ('feed = "f" }', 'feed = "g" }', "unknown feed 'g'"),
    ('feed = "f" }', 'feed = "gas" }', "constant density"),
    ("end = [2, 1]", "end = [2, 2]", "separates an inlet"),
    ("end = [2, 1]", "end = [3, 1]", "not a straight line"),
    ("cells = [12, 8]", "cells = [12]", "cells"),
    ("cells = [12, 8]", "cells = [12, 2]", "whole numbers"),
    ("depth = 1", "deep = 1", "deep"),
    ("depth = 1", 'depth = "1 kg"', "depth"),
    ("depth = 1", "depth = 1\nflow = 'fast'", "flow"),
    ("depth = 1", "depth = 1\nmoving = { lid = 1 }", "unknown side 'lid'"),
    ("depth = 1", "depth = 1\ndiffusivity = { X = '1e-9 m2/s' }", "unknown species X"),
    ("depth = 1", "depth = 1\nfollow = { time = '-1 h' }", "time"),
])  # fmt: skip
def test_what_is_wrong_in_a_basin_is_said_with_its_place(
    tmp_path: Path, molino: Typed, was: str, now: str, words: str
) -> None:
    assert was in BASIN
    (tmp_path / "job.toml").write_text(BASIN.replace(was, now, 1), encoding="utf-8")
    done = molino("check", tmp_path / "job.toml")
    text = " ".join(done.output.split())
    assert done.exit_code == 2, text
    assert words in text
    assert "pond" in text


def test_fields_are_copied_pickled_and_compared_by_what_they_hold(basin_job: Path) -> None:
    tasks = mo.load_job(basin_job).fields
    for name in ("basin", "walled", "drain"):
        one = tasks[name].field
        for twin in (pickle.loads(pickle.dumps(one)), copy.deepcopy(one)):
            assert twin == one
            assert hash(twin) == hash(one)
            assert str(twin) == str(one)
        assert replace(one, name="other") != one
        run = one.run()
        again = pickle.loads(pickle.dumps(one)).run()
        assert again.conversion("furfural") == run.conversion("furfural")
        assert pickle.loads(pickle.dumps(run)).to_dict() == run.to_dict()
    dispersion = mo.Dispersion(correlation="turbulent", viscosity="1 mPa*s")
    assert pickle.loads(pickle.dumps(dispersion)) == dispersion
    assert "turbulent" in str(dispersion)
