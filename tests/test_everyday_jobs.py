"""What an everyday job may say: reactions of a library, a table of constants alone, how its figures are drawn."""

from __future__ import annotations

import json
import math
import shutil
from importlib.resources import files
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from PIL import Image

import molino as mo
from conftest import Typed
from molino.desk import figures

DEMO = Path(str(files("molino.demo")))

LIBRARY_JOB = """
library = "cob-reactions.toml"
[units]
concentration = "mol/L"
[species]
nitrogen = { formula = "N2" }
[reactions.hydrolysis]
[reactions.glucose]
[reactions.deacetylation]
k = "3e-4 L/mol/min"
[reactions.dehydration]
rate = "k*[xylose]"
k = "0.02 1/min"
[feeds.liquor]
contents = { xylan = 0.3, acid = 0.1, water = 50.0, glucose = 0.02, acetyl = 0.01, arabinose = 0.01, nitrogen = 0.001 }
flow = "1 m3/h"
T = "165 degC"
[vessels.tank]
kind = "stirred tank"
feed = "liquor"
volume = "2 m3"
"""


def test_a_job_takes_reactions_from_a_library_and_keeps_its_inerts(molino: Typed, tmp_path: Path) -> None:
    shutil.copy(DEMO / "cob-reactions.toml", tmp_path)
    job = tmp_path / "job.toml"
    job.write_text(LIBRARY_JOB, encoding="utf-8")
    chemistry = mo.load_job(job).chemistry
    library = mo.files.read_library(DEMO / "cob-reactions.toml")
    assert chemistry.reaction("hydrolysis") == library["hydrolysis"]
    assert str(chemistry.reaction("glucose").law) == "k_acid*[glucose]*[acid]"
    assert chemistry.constants == library.constants
    assert str(chemistry.reaction("dehydration").equation) == "xylose -> furfural + 3 water"
    changed = chemistry.reaction("deacetylation")
    assert changed.constants["K"] == library["deacetylation"].constants["K"]
    assert str(changed.constants["k"]) == "0.0003 L/mol/min"
    formulas = {s.name: s.formula for s in chemistry.species}
    assert formulas["arabinose"] == "C5H10O5"  # fed, and inert here
    assert formulas["nitrogen"] == "N2"
    assert "humins" not in formulas
    run = json.loads(molino("run", job, "--json").stdout)["vessels"]["tank"]
    assert max(run["closure"].values()) < 1e-9
    assert mo.files.read_chemistry(job) == chemistry
    kept = library.chemistry("hydrolysis", inerts=["arabinose"])
    assert set(kept.names) == {"arabinose", "xylan", "water", "xylose", "acid"}
    for text, what, message in (
        ("[reactions.glucose]", "[reactions.glucos]", "did you mean 'glucose'?"),
        ('library = "cob-reactions.toml"', "", "'equation' is missing"),
        ('library = "cob-reactions.toml"', 'library = "valdeoro.toml"', "the job file does not exist"),
    ):
        job.write_text(LIBRARY_JOB.replace(text, what), encoding="utf-8")
        refused = molino("check", job)
        assert refused.exit_code == 2
        assert message in refused.stderr


def test_a_line_over_temperature_needs_neither_data_nor_reactions(molino: Typed, tmp_path: Path) -> None:
    job = tmp_path / "line.toml"
    table = 'T = ["20 degC", "30 degC", "40 degC"], k = ["0.1 1/min", "0.22 1/min", "0.45 1/min"]'
    job.write_text(f"[fit.decay]\ntemperature = {{ {table}, predict = ['35 degC'] }}\n", encoding="utf-8")
    assert "tasks: fit decay" in molino("check", job).stdout
    told = json.loads(molino("fit", job, "--json").stdout)["fits"]["decay"]["temperature"]
    slope, level = np.polyfit(1 / np.array([293.15, 303.15, 313.15]), np.log([0.1, 0.22, 0.45]), 1)
    assert told["predicted"][0]["value"] == pytest.approx(math.exp(level + slope / 308.15), rel=1e-9)
    assert told["predicted"][0]["unit"] == "1/min"
    assert f"Ea = {-slope * 8.314462618e-3:.4g} ±" in told["law"]
    assert f"A = {math.exp(level):.4g}" in told["law"]
    assert (tmp_path / "results" / "line" / "fit-decay-temperature.png").is_file()
    assert "no [vessels.NAME]" in molino("run", job).stderr
    job.write_text("[fit.decay]\nn_starts = 3\n", encoding="utf-8")
    assert "'data' is missing" in molino("check", job).stderr


def test_a_vessel_in_which_nothing_reacts_only_mixes() -> None:
    salt = mo.Chemistry([], ["salt", "dye"])
    feed = mo.Feed({"salt": "2 mol/L"}, flow="1 L/min")
    tank = mo.StirredTank(salt, feed, volume="2 L", contents={"dye": "1 mol/L"})
    run = tank.run("6 min")
    assert run.metric("concentration of dye") == pytest.approx(1e3 * math.exp(-3), rel=1e-6)
    assert run.metric("concentration of salt") == pytest.approx(2e3 * (1 - math.exp(-3)), rel=1e-6)
    train = mo.Train([tank, mo.PlugFlow(salt, feed, volume="1 L")]).run()
    assert train.metric("concentration of salt") == pytest.approx(2e3, rel=1e-9)
    assert "no reaction" in str(salt)


def test_figures_of_a_job_have_the_size_species_and_ends_it_asks_for(molino: Typed, folder: Path) -> None:
    job = folder / "valdeoro.toml"
    text = job.read_text(encoding="utf-8") + (
        '\n[figures]\nwidth = "12 cm"\nheight = "8 cm"\ndpi = 100\nspecies = ["xylose"]\n'
        "\n[profile.start]\nvessels = ['cooker']\nshow = ['concentration']\n"
        "limits = { x = [0, '30 min'], concentration = [0.0, '0.4 mol/L'] }\n"
    )
    job.write_text(text, encoding="utf-8")
    molino("run", job, "--only", "cooker")
    with Image.open(folder / "results" / "valdeoro" / "run-cooker.png") as picture:
        assert picture.size == pytest.approx((472, 315), abs=1)
    loaded = mo.load_job(job)
    asked = loaded.profiles["start"]
    run = mo.Batch(loaded.chemistry.with_values({p.name: 1e-3 for p in loaded.chemistry.unknowns}),
                   {"xylose": "0.35 mol/L", "acid": "0.1 mol/L"}, T="175 degC", time="1 h").run()  # fmt: skip
    drawn = figures.profile(run, asked.show, species=loaded.figures.species, limits=asked.limits).axes[0]
    assert [line.get_label() for line in drawn.lines] == ["xylose"]
    assert drawn.get_ylim()[1] == pytest.approx(run.display.number(400.0, "concentration"))
    assert drawn.get_xlim()[1] == pytest.approx(run.display.number(1800.0, "time"))
    for old, new in (
        ('species = ["xylose"]', 'species = ["xylos"]'), ('width = "12 cm"', 'width = "12 m"'),
        ("concentration = [0.0", "concentraton = [0.0"), ("[0, '30 min']", "['40 min', '30 min']"),
        ("[0, '30 min']", "['40 min', '30 m']"), ("dpi = 100", "dpi = 9"),
    ):  # fmt: skip
        job.write_text(text.replace(old, new), encoding="utf-8")
        assert "->" in molino("check", job).stderr, new


@settings(max_examples=20, deadline=None)
@given(st.integers(0, 10_000), st.sampled_from([0.6, 1.0, 1.4, 2.0]), st.sampled_from(["same", "relative"]))
def test_the_verdict_of_a_screening_never_contradicts_its_interval(seed: int, order: float, errors: str) -> None:
    chance = np.random.default_rng(seed)
    t = np.linspace(60.0, 3000.0, 12)
    exact = (500 ** (1 - order) + (order - 1) * 8e-4 * 500 ** (1 - order) * t) ** (1 / (1 - order)) \
        if order != 1 else 500 * np.exp(-8e-4 * t)  # fmt: skip
    scatter = chance.normal(size=len(t)) * (0.03 * exact if errors == "relative" else 12.0)
    values = np.maximum(exact + scatter, 1.0)
    found = mo.screen_orders(mo.Experiment("1", t, {"A": values}), errors=errors)  # type: ignore[arg-type]
    low, high = found.order_interval
    assert low <= found.free.order <= high
    for law in found.laws:
        margin = 2e-3 * (high - low)
        if low + margin < law.order < high - margin:
            assert law.possible
        if law.possible:
            assert low - margin < law.order < high + margin


def test_relative_errors_weigh_each_value_by_itself() -> None:
    t = np.linspace(60.0, 6000.0, 14)
    values = 500 * np.exp(-1e-3 * t) * (1 + 0.05 * np.random.default_rng(0).normal(size=len(t)))
    found = mo.screen_orders(mo.Experiment("1", t, {"A": values}), errors="relative")
    law = found.law("first order")
    weighed, covariance = np.polyfit(t, np.log(values), 1, cov=True)
    assert law.k(0) == pytest.approx(-weighed[0], rel=0.02)  # ln c has equal errors where those of c are relative
    assert law.interval(0)[1] - law.k(0) == pytest.approx(2.18 * math.sqrt(covariance[0, 0]), rel=0.2)
    assert found.scatter == pytest.approx(0.05, rel=0.3)
    assert "s [%]" in found.table().columns
    with pytest.raises(mo.InputError, match="not above zero"):
        mo.screen_orders(mo.Experiment("1", t, {"A": np.maximum(values - 20, 0)}), errors="relative")


def test_a_power_law_has_residuals_and_runs_of_signs() -> None:
    c = np.linspace(50.0, 2000.0, 24)
    bent = mo.Rates(1e-3 * c / (1 + c / 400), {"A": c}).power_law("A")
    assert bent.signs.runs <= 4
    assert "runs of signs are unlikely by chance" in str(bent)
    assert bent.residuals @ bent.residuals == pytest.approx(bent.standard_deviation**2 * bent.degrees_of_freedom)
    assert len(bent.to_dict()["residuals"]) == len(bent.points_table()) == 24
    assert "met exactly" in str(mo.Rates(1e-3 * c**2, {"A": c}).power_law("A"))
