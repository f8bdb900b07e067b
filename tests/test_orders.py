"""Order screening: lines, curves, verdicts, and the command that needs no job file."""

from __future__ import annotations

import json
import math
import re
import sys
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import molino as mo
from conftest import DEMO, Typed
from molino.core.fitting.orders.screening import power_law

sys.path.insert(0, str(Path(__file__).parent.parent / "examples"))
import order_verdicts

T = np.linspace(0, 5400, 12)
UNITS = {"time": "min", "concentration": "mol/L"}
TRUTH = {0: 0.06, 1: 3e-4, 2: 1.5e-6}


def run_of(order: float, k: float, name: str = "1", start: float = 500.0, noise: float = 0.0) -> mo.Experiment:
    values = power_law(T, start, k, order)
    scatter = noise * start * np.random.default_rng(4).normal(size=len(T))
    return mo.Experiment(name, T, {"A": np.maximum(values + scatter, 0.0)})


@pytest.mark.parametrize("order", TRUTH)
def test_exact_data_give_their_order_their_constant_and_half_life(order: int) -> None:
    k = TRUTH[order]
    runs = mo.Experiments((run_of(order, k), run_of(order, 2 * k, "2", 300.0)), "x", UNITS)
    found = mo.screen_orders(runs)
    assert found.chosen is not None
    assert found.chosen.order == order
    assert found.free.order == pytest.approx(order, abs=1e-4)
    for i, (factor, start) in enumerate(((1, 500.0), (2, 300.0))):
        assert found.chosen.k(i) == pytest.approx(factor * k, rel=1e-6)
        line = found.chosen.lines[i]
        assert line is not None
        if order != 0 or (found.series[i].values > 0).all():  # a zero order that has run out is no line
            assert line.k == pytest.approx(factor * k, rel=1e-9)
            assert line.r_squared == pytest.approx(1.0)
        half = found.chosen.half_life(i)
        assert power_law(np.array([half]), start, factor * k, order)[0] == pytest.approx(start / 2, rel=1e-5)
    unit = {0: "mol/L/min", 1: "1/min", 2: "L/mol/min"}[order]
    assert found.k_unit(found.chosen) == unit
    si = mo.Chemistry(mo.Reaction("A -> B", rate=f"k*[A]^{order}", k=f"{found.k_number(found.chosen, k)!r} {unit}"))
    assert si.parameters[0].value == pytest.approx(k, rel=1e-12)


def test_lines_are_those_of_linear_regression() -> None:
    noisy = run_of(1, 3e-4, noise=0.02)
    line = mo.screen_orders(noisy).law("first order").lines[0]
    assert line is not None
    (slope, intercept), covariance = np.polyfit(T, np.log(noisy.measured["A"]), 1, cov=True)
    assert (line.slope, line.intercept) == pytest.approx((slope, intercept), rel=1e-9)
    assert line.half_width == pytest.approx(2.228139 * math.sqrt(covariance[0, 0]), rel=1e-6)  # t(0.975, 10)


@pytest.mark.parametrize("order", TRUTH)
def test_verdicts_are_right_or_say_that_they_cannot_tell(order: int) -> None:
    far = order_verdicts.count(order, conversion=0.8, noise=0.02, sets=40)
    assert far["right"] >= 38
    assert far["n in interval"] >= 38
    assert far["k in interval"] >= 34
    near = order_verdicts.count(order, conversion=0.3, noise=0.02, sets=20)
    assert near["cannot tell"] >= 17


def test_other_laws_and_predictions() -> None:
    scatter = 5.0 * np.random.default_rng(0).normal(size=len(T))
    level = mo.Experiment("1", T, {"A": 150 + 350 * np.exp(-T / 1200) + scatter})
    found = mo.screen_orders(level, reversible=True)
    assert found.chosen is not None
    assert found.chosen.name == "reversible first order"
    assert math.exp(found.chosen.logarithms[0][2]) == pytest.approx(150, rel=0.05)
    assert mo.screen_orders(level).chosen is None
    chemistry = mo.Chemistry(mo.Reaction("A + B -> C", k="0.08 L/mol/min"))
    made = mo.Batch(chemistry, {"A": 500.0, "B": 600.0}).run("2 h", points=14)
    two = mo.Experiment("1", made.points[1:], {"A": made.concentrations["A"][1:]}, {"A": 500.0, "B": 600.0})
    found = mo.screen_orders(two, partner="B")
    assert found.chosen is not None
    assert found.chosen.name == "second order with B"
    assert found.chosen.k(0) == pytest.approx(0.08e-3 / 60, rel=1e-6)
    assert found.chosen.lines[0].k == pytest.approx(0.08e-3 / 60, rel=1e-9)  # type: ignore[union-attr]
    later = mo.Batch(chemistry, {"A": 500.0, "B": 600.0}).run("9 h").concentrations["A"][-1]
    assert found.predict("9 h").value == pytest.approx(later, rel=1e-5)
    noisy = mo.screen_orders(run_of(1, 3e-4, noise=0.02)).predict("1 h")
    assert 0 < noisy.confidence < noisy.prediction
    assert abs(noisy.value - 500 * math.exp(-1.08)) < noisy.confidence


WRONG = {
    "no species": (lambda: mo.screen_orders(run_of(1, 1e-4), "B"), "'B' was not measured"),
    "which species": (lambda: mo.screen_orders(mo.read_experiments(DEMO / "cob-liquor.csv")), "2 species were measured"),
    "three values": (lambda: mo.screen_orders(mo.Experiment("1", T[:3], {"A": T[:3] + 1})), "3 values of A.*at least 4"),
    "nothing found": (lambda: mo.screen_orders(mo.Experiment("1", T, {"A": 0 * T})), "no A was found"),
    "a product": (lambda: mo.screen_orders(mo.read_experiments(DEMO / "cob-liquor.csv"), "furfural"), "run B1: furfural does not fall"),
    "no start": (lambda: mo.screen_orders(run_of(1, 1e-4), partner="B"), "initial concentration of B is unknown"),
    "no law chosen": (lambda: mo.screen_orders(run_of(1, 6e-5, noise=0.02)).predict("1 h"), "no law was chosen"),
    "no such law": (lambda: mo.screen_orders(run_of(1, 1e-4)).predict("1 h", law="third order"), "unknown law 'third order'"),
    "no such run": (lambda: mo.screen_orders(run_of(1, 1e-4)).predict("1 h", run="2"), "unknown run '2'"),
}  # fmt: skip


@pytest.mark.parametrize("name", WRONG)
def test_what_cannot_be_screened_is_reported(name: str) -> None:
    make, what = WRONG[name]
    with pytest.raises(mo.InputError) as error:
        make()
    assert re.search(what, str(error.value).replace("\n", " ")), error.value


def test_a_spreadsheet_with_units_row_and_decimal_commas_goes_through(molino: Typed, tmp_path: Path) -> None:
    values = 0.5 * np.exp(-0.02 * T / 60)
    rows = [["min", "°C", "mol/L"], *([f"{t / 60:.6f}".replace(".", ","), "65,5", f"{c:.8f}".replace(".", ",")]
                                      for t, c in zip(T, values, strict=True))]  # fmt: skip
    with pd.ExcelWriter(tmp_path / "lab.xlsx") as book:
        pd.DataFrame({"notes": ["none"]}).to_excel(book, sheet_name="notes", index=False)
        pd.DataFrame(rows, columns=["time", "T", "xylose"]).to_excel(book, sheet_name="65 C", index=False)
    result = molino("orders", tmp_path / "lab.xlsx", "--sheet", "65 C", "--json")
    assert result.exit_code == 0, result.output
    content = json.loads(result.stdout)
    assert content["chosen"] == "first order"
    first = content["laws"]["first order"]["runs"]["1"]
    assert (first["k"], first["unit"]) == (pytest.approx(0.02, rel=1e-5), "1/min")
    assert first["half_life"] == pytest.approx(math.log(2) / 0.02, rel=1e-5)
    in_words = molino("orders", tmp_path / "lab.xlsx", "--sheet", "65 C", "--predict", "9 h")
    assert "verdict: first order" in in_words.stdout
    assert "xylose at 540 min" in in_words.stdout
    assert re.search(r"line: ln \[xylose\] = -?[\d.]+ - 0\.02 t \(t in min\)", in_words.stdout)
    assert {p.name for p in (tmp_path / "results" / "lab").iterdir()} == {
        f"orders.{kind}" for kind in ("json", "csv", "png")
    }
    assert pytest.approx(338.65) == mo.read_experiments(tmp_path / "lab.xlsx", "65 C")[0].T
    assert molino("orders", tmp_path / "lab.xlsx", "--sheet", "65 C", "--run", "7").exit_code == 2


def test_the_demo_is_first_order_in_xylose(molino: Typed, folder: Path) -> None:
    result = molino("orders", folder / "cob-liquor.csv", "--species", "xylose")
    assert "verdict: first order" in result.stdout
    assert "k over temperature: " in result.stdout
    assert "p < 0.0001" in result.stdout
    law = mo.screen_orders(mo.read_experiments(folder / "cob-liquor.csv"), "xylose").over_temperature()
    assert law.through_table is not None
    assert abs(law.Ea.si - 128e3) < law.through_table.energy_half_width  # make_data.py: 128 kJ/mol
    figure = mo.figures.orders(mo.screen_orders(mo.read_experiments(folder / "cob-liquor.csv"), "xylose"))
    titles = [axes.get_title("left") for axes in figure.axes]
    assert titles[1].startswith("first order (chosen)   R² 0.9")
    assert figure.axes[2].get_ylabel() == "1/c [L/mol]"
    low, high = figure.axes[1].get_ylim()
    assert low < math.log(0.02) < math.log(0.3) < high


HEADS = "time,A,T\n"
TABLES: dict[str, tuple[str, list[float], float | None]] = {
    "units in the headings": ("time [min],A [mol/L],T [degC]\n0,1,20\n1,0.5,20\n", [1000.0, 500.0], 293.15),
    "a row of units": (HEADS + "min,mol/L,°C\n0,1,20\n1,0.5,20\n", [1000.0, 500.0], 293.15),
    "a row of units in brackets": (HEADS + "[min],[mol/L],[degC]\n0,1,20\n1,0.5,20\n", [1000.0, 500.0], 293.15),
    "decimal commas and semicolons": ("time;A;T\nmin;mol/L;°C\n0;1,0;20,5\n1;0,5;20,5\n", [1000.0, 500.0], 293.65),
    "no units at all": (HEADS + "0,1,300\n1,0.5,300\n", [1.0, 0.5], 300.0),
}


@pytest.mark.parametrize("name", TABLES)
def test_tables_with_units_wherever_they_stand(tmp_path: Path, name: str) -> None:
    text, concentrations, temperature = TABLES[name]
    (tmp_path / "lab.csv").write_text(text, encoding="utf-8")
    run = mo.read_experiments(tmp_path / "lab.csv")[0]
    assert run.measured["A"] == pytest.approx(concentrations)
    assert pytest.approx(temperature) == run.T
    assert run.times[1] == pytest.approx(60.0 if "min" in text else 1.0)


def test_rows_that_only_look_like_units_are_data_or_faults(tmp_path: Path) -> None:
    (tmp_path / "lab.csv").write_text(HEADS + "min,mol/L,degX\n0,1,20\n1,0.5,20\n")
    with pytest.raises(mo.InputError, match="line 2, column 'T': 'degX' is not a unit"):
        mo.read_experiments(tmp_path / "lab.csv")
    (tmp_path / "lab.csv").write_text(HEADS + "min,kg,degC\n0,1,20\n1,0.5,20\n")
    with pytest.raises(mo.InputError, match=r"column 'A \[kg\]': 'kg' is not a concentration"):
        mo.read_experiments(tmp_path / "lab.csv")


def test_the_constants_of_runs_go_over_temperature() -> None:
    law = mo.Arrhenius(k="0.02 1/min", at="60 degC", Ea="75 kJ/mol")
    runs = []
    for celsius in (50, 60, 70):
        made = mo.Batch(mo.Chemistry(mo.Reaction("A -> B", k=law)), {"A": "1 mol/L"}, T=f"{celsius} degC").run(
            "2 h", points=9
        )
        values = {"A": made.concentrations["A"]}
        runs.append(mo.Experiment(f"{celsius}", made.points, values, {}, celsius + 273.15))
    found = mo.screen_orders(mo.Experiments(tuple(runs), "x", {**UNITS, "temperature": "degC"}))
    again = found.over_temperature()
    assert again.Ea.si == pytest.approx(75e3, rel=1e-6)
    assert again.unit == "1/min"
    assert again.through_table is not None
    value, low, high = again.through_table.at(363.15)
    assert low <= value <= high
    assert value == pytest.approx(0.02 / 60 * math.exp(-75e3 / 8.31446261815324 * (1 / 363.15 - 1 / 333.15)), rel=1e-5)
    with pytest.raises(mo.InputError, match="no temperature of 1"):
        mo.screen_orders(run_of(1, 3e-4)).over_temperature()
    with pytest.raises(mo.InputError, match="unknown run '80'"):
        found.experiments.only("50", "80")
    assert [r.name for r in found.experiments.only("70")] == ["70"]


def test_a_long_name_of_a_species_covers_no_axis_and_the_title_is_not_cut() -> None:
    name = "5-hydroxymethylfurfural-intermediate-of-the-second-cooker"
    t = np.linspace(0.0, 3600.0, 9)
    run = mo.Experiment("1", t, {name: 500.0 * np.exp(-4e-4 * t)}, {name: 500.0})
    figure = mo.figures.orders(mo.screen_orders(run, name))
    figure.draw_without_rendering()
    width, height = figure.get_size_inches() * figure.dpi
    texts = [figure._suptitle, *(axes.yaxis.label for axes in figure.axes)]  # type: ignore[attr-defined]
    for text in (text for text in texts if text.get_text()):
        box = text.get_window_extent()
        assert 0 <= box.x0 < box.x1 <= width
        assert 0 <= box.y0 < box.y1 <= height
    assert all(name not in axes.get_ylabel() for axes in figure.axes)
    assert name in figure.get_suptitle().replace("\n", "")
