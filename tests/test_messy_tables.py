"""Tables as laboratories keep them: each decision is listed, or asked for by an error and made by an argument."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import openpyxl
import pandas as pd
import pytest

import molino as mo
from conftest import Typed

READ: dict[str, tuple[str, dict[str, Any], list[float], list[float], str]] = {
    "grouped beside decimal commas": ("time (min);A (mmol/L)\n0,5;8.400\n10,5;8.061\n", {}, [0.5, 10.5], [8400, 8061],
                                      "'8.400' is 8400, with a decimal comma as in '0,5'"),
    "grouped, as asked": ("time (min);A (mmol/L)\n1;8.400\n2;8.061\n", {"decimal": ","}, [1, 2], [8400, 8061], ""),
    "points, as asked": ("time (min);A (mmol/L)\n1;8.400\n2;8.061\n", {"decimal": "."}, [1, 2], [8.4, 8.061], ""),
    "quoted thousands": ('time [min],A [mmol/L]\n1,"1,200.0"\n2,999.5\n', {}, [1, 2], [1200, 999.5], ""),
    "blanks in thousands": ("time [min];A [mmol/L]\n1;1 200,5\n2;12 000\n", {}, [1, 2], [1200.5, 12000], ""),
    "powers of ten": ("time [min],A [mmol/L]\n1,1.2e-3\n2,2.5 × 10^-3\n", {}, [1, 2], [1.2e-3, 2.5e-3], ""),
    "mixed signs": ("time [min];A [mmol/L]\n1;1.5\n2;0,8\n", {}, [1, 2], [1.5, 0.8], "decimal points and commas, as in"),
    "slashes": ("Experiment,t / min,c(A) / mmol L-1\nK1,1,10\n,2,8\n", {}, [1, 2], [10, 8], "1 line without a run belong"),
    "commas and words": ('"Zeit, h","c_A, mmol/L"\n1,10\n2,8\n', {}, [60, 120], [10, 8], "'Zeit, h' as time [h]"),
    "underscores": ("time_min,A_mM,sample\n1,10,1\n2,8,2\n", {}, [1, 2], [10, 8], "column 'sample' not used"),
    "other columns": ("time [min],A mean [mM],ln A,by\n1,10,2.3,me\n2,8,2.1,me\n", {}, [1, 2], [10, 8], "computed from others"),
    "named by an argument": ("x,y [mM],pH\n1,10,7\n2,8,7\n", {"columns": {"A": "time [min]", "y": "A [mM]", "pH": ""}},
                             [1, 2], [10, 8], ""),
    "units by an argument": ("time,A,T\n1,10,50\n2,8,50\n", {"units": {"time": "min", "concentration": "mmol/L",
                             "temperature": "degC"}}, [1, 2], [10, 8], ""),
    "times of day": ("time,A [mM]\n23:59,10\n00:10,8\n", {}, [0, 11], [10, 8], "zero at the first of each run ('23:59')"),
    "dates": ("date,time,A [mM]\n1.3.2026,8:30:00,10\n2.3.2026,8:31:00,8\n", {}, [0, 1441], [10, 8], "'date' read with"),
    "durations": ("time [h:min],A [mM]\n0:05,10\n1:05,8\n", {}, [5, 65], [10, 8], "hours and minutes since the start"),
    "blocks in other units": ("time [min],A [mM]\n1,10\n2,8\n\ntime [h],A [mM]\n1,5\n2,3\n", {}, [1, 2], [10, 8], "2 blocks"),
    "UTF-16 without a mark": ("time [min],A [mM]\n1,10\n2,8\n", {}, [1, 2], [10, 8], ""),
    "a separator by an argument": ("min,time;A [mM]\n1;10\n2;8\n", {"separator": ";", "columns": {"min,time": "time [min]"}},
                                   [1, 2], [10, 8], "(semicolons)"),
}  # fmt: skip


@pytest.mark.parametrize("name", READ)
def test_a_table_is_read_and_each_decision_listed(tmp_path: Path, name: str) -> None:
    text, options, minutes, values, remark = READ[name]
    (tmp_path / "lab.csv").write_text(text, encoding="utf-16-le" if "UTF-16" in name else "utf-8")
    runs = mo.read_experiments(tmp_path / "lab.csv", **options)
    assert runs[0].times / 60 == pytest.approx(minutes)
    assert runs[0].measured["A"] == pytest.approx(values)
    assert remark in " ".join(runs.notes)


ASKED: dict[str, tuple[str, str, str]] = {
    "thousands or decimals": ("time (min);A (mM)\n1;8.400\n2;8.061\n", "'8.400' may be 8.4 or 8400", "decimal = '.'"),
    "quoted thousands or decimals": ('time [min],A [mM]\n1,"1,200"\n2,"1,100"\n', "'1,200' may be 1200 or 1.2", "decimal"),
    "a temperature": ("time,A,T\n1,1,50\n2,1,50\n", "50 may be degC or K", "units = {'temperature': 'degC'}"),
    "a time without unit": ("time,A [mM]\n1,1\n2,1\n", "its unit is not known \\(time\\)", "units = {'time': 'h'}"),
    "a number that is not of a species": ("time [min],A [mM],pH\n1,1,7\n2,1,7\n", "not known", "columns = {'pH': ''}"),
    "conditions as headings": ("time [min],50 °C,60 °C\n1,1,1\n2,1,1\n", "a condition, and not the name", "response = "),
    "minutes or hours": ("time,A [mM]\n00:00,1\n05:00,1\n", "hours and minutes, or minutes and seconds", "time [min:s]"),
    "day or month": ("time,A [mM]\n3/4/2026 8:00,1\n5/4/2026 8:00,1\n", "may be of two months", "2026-03-01"),
    "a mass concentration": ("time [min],A [g/L]\n1,1\n2,1\n", "the molar mass is not known", "chemistry="),
    "a limit as a time": ("time [min],A [mM]\n<1,1\n2,1\n", "'<1' is a limit, not a time", "write a number"),
}  # fmt: skip


@pytest.mark.parametrize("name", ASKED)
def test_what_is_unclear_is_an_error_with_the_argument_that_decides(tmp_path: Path, name: str) -> None:
    text, what, advice = ASKED[name]
    (tmp_path / "lab.csv").write_text(text)
    with pytest.raises(mo.InputError, match=what) as error:
        mo.read_experiments(tmp_path / "lab.csv")
    assert advice in str(error.value)


def test_numbers_in_any_notation_are_read_back_or_asked_about(tmp_path: Path) -> None:
    """A law: a random number in a random notation is never read as another number."""
    random, asked = np.random.default_rng(7), 0
    for _ in range(300):
        decimals, size = int(random.integers(0, 5)), 10.0 ** random.integers(-1, 6)
        numbers = np.round(random.uniform(0, size, 4), decimals)
        point, group = (str(one) for one in random.choice([(".", ""), (".", ","), (",", ""), (",", "."), (",", " ")]))
        texts = [f"{n:,.{decimals}f}".replace(",", "g").replace(".", point).replace("g", group) for n in numbers]
        between = str(random.choice([";", "\t"]))
        lines = [f"{t}{between}{text}" for t, text in enumerate(texts)]
        (tmp_path / "x.csv").write_text("\n".join([f"time [s]{between}A [mol/m3]", *lines]))
        try:
            (run,) = mo.read_experiments(tmp_path / "x.csv")
        except mo.InputError as error:
            asked += 1
            assert "may be" in str(error)
            (run,) = mo.read_experiments(tmp_path / "x.csv", decimal=point)
        assert run.measured["A"] == pytest.approx(numbers, rel=1e-12)
    assert 5 < asked < 150


def test_temperatures_in_titles_sheets_and_headings(tmp_path: Path) -> None:
    rows = "\n0,1.0\n10,0.8\n20,0.6\n"
    (tmp_path / "t.csv").write_text(f"Run 1 at 50 °C\ntime [min],A [mM]{rows}\nRun 2 at 60 °C\ntime [min],A [mM]{rows}")
    with pd.ExcelWriter(tmp_path / "s.xlsx") as book:
        pd.DataFrame({"about": ["kinetics"]}).to_excel(book, sheet_name="Notes", index=False)
        for name in ("50 °C", "60 °C"):
            pd.DataFrame({"time [min]": [0, 10], "A [mM]": [1, 0.8]}).to_excel(book, sheet_name=name, index=False)
    (tmp_path / "w.csv").write_text("time [min],50 °C,60 °C\n0,1,1\n10,0.8,0.6\n")
    for name, options in (("t.csv", {}), ("s.xlsx", {"sheet": "*"}), ("w.csv", {"response": "A [mM]"})):
        runs = mo.read_experiments(tmp_path / name, **options)  # type: ignore[arg-type]
        assert [run.T for run in runs] == [323.15, 333.15], name
        assert "temperatures read from the names of runs: 50 °C, 60 °C" in runs.notes
    assert "sheets without a table not read: Notes" in mo.read_experiments(tmp_path / "s.xlsx", "*").notes


def test_limits_errors_and_replicates_are_kept_with_their_values(tmp_path: Path) -> None:
    (tmp_path / "l.csv").write_text("time [min],A [mM],B [mM],SD\n0,10 ± 0.1,0,\n5,5 ± 0.2,>5,0.1\n9,n.d.,9.9,0.3\n")
    (run,) = mo.read_experiments(tmp_path / "l.csv", detection_limits={"A": "250 umol/L"})
    np.testing.assert_allclose(run.measured["A"], [10, 5, np.nan])
    np.testing.assert_allclose(run.below["A"], [np.nan, np.nan, 0.25])
    np.testing.assert_allclose(run.above["B"], [np.nan, 5, np.nan])
    np.testing.assert_allclose(run.deviations["A"], [0.1, 0.2, np.nan])
    np.testing.assert_allclose(run.deviations["B"], [np.nan, 0.1, 0.3])
    unused = " ".join(mo.read_experiments(tmp_path / "l.csv").notes)
    assert "column 'A [mM]': 1 cell without a detected value not used: give detection_limits = {'A': ...}" in unused
    (tmp_path / "r.csv").write_text("time [min],A [mM],A [mM]\n0,10,10.2\n5,5,\n9,2,2.2\n")
    (run,) = mo.read_experiments(tmp_path / "r.csv")
    assert (run.times / 60).tolist() == [0, 0, 5, 9, 9]
    assert run.measured["A"] == pytest.approx([10, 10.2, 5, 2, 2.2])


def test_mass_concentrations_and_conversions_with_the_chemistry(tmp_path: Path) -> None:
    species = [mo.Species("xylose", "C5H10O5"), "furfural", "water"]
    law = mo.Reaction("xylose -> furfural + 3 water", name="r", k=mo.Unknown("0.1 1/min"))
    chemistry = mo.Chemistry(law, species=species)
    t, k = np.array([0.0, 5.0, 10.0, 20.0]), 0.05
    left = np.exp(-k * t)
    frame = pd.DataFrame(
        {"t / min": t, "cxylose / g L-1": 150.13 * left, "yield of furfural on xylose [%]": 100 - 100 * left}
    )
    runs = mo.read_experiments(frame, chemistry=chemistry)
    assert runs[0].measured["xylose"] == pytest.approx(1000 * left, rel=1e-4)
    assert mo.fit(chemistry, runs)["r.k"].shown()[0] == pytest.approx(k, rel=1e-4)
    conversions = pd.DataFrame({"t / min": t, "conversion of xylose": 1 - left, "xylose0 [mol/L]": 1.0})
    found = mo.fit(chemistry, mo.read_experiments(conversions))
    assert found["r.k"].shown()[0] == pytest.approx(k, rel=1e-9)
    assert found.responses == ("conversion of xylose",)


def test_times_of_a_spreadsheet(tmp_path: Path) -> None:
    import datetime

    book = openpyxl.Workbook()
    for row in (
        ["time", "A [mM]"],
        [datetime.time(8, 30), 10],
        [datetime.time(8, 45), "8,5"],
        [datetime.time(9, 30), 5],
    ):
        book.active.append(row)  # type: ignore[union-attr]
    book.save(tmp_path / "t.xlsx")
    (run,) = mo.read_experiments(tmp_path / "t.xlsx")
    assert (run.times / 60).tolist() == [0, 15, 60]
    assert run.measured["A"] == pytest.approx([10, 8.5, 5])


def test_the_decisions_of_a_table_on_the_command_line_and_in_a_job(molino: Typed, tmp_path: Path) -> None:
    (tmp_path / "x.csv").write_text("Zeit;c1;pH\n0;8.400;7\n1;8.000;7\n2;7.610;7\n3;7.240;7\n4;6.890;7\n")
    meant = ["--columns", "c1=A [mM]", "--columns", "pH=", "--units", "time=min", "--decimal", "."]
    done = molino("orders", tmp_path / "x.csv", *meant)
    assert done.exit_code == 0, done.output
    assert "'Zeit' as time" in " ".join(done.stdout.split())
    assert "'--columns', 'c1=A" not in done.stdout
    (tmp_path / "job.toml").write_text(
        '[units]\ntime = "min"\nconcentration = "mmol/L"\n[reactions.r]\nequation = "A -> B"\nk = { guess = "0.1 1/min" }\n'
        '[data.lab]\nfile = "x.csv"\ndecimal = "."\ncolumns = { c1 = "A", pH = "" }\n[fit.k]\ndata = "lab"\n'
    )
    fitted = molino("fit", tmp_path / "job.toml", "--json")
    assert fitted.exit_code == 0, fitted.output
    assert '"value": 0.0494' in fitted.stdout.replace("0.0495", "0.0494")


def test_rates_tracers_and_vessels_are_read_by_the_same_rules(tmp_path: Path) -> None:
    (tmp_path / "r.csv").write_text("r / mol L-1 min-1;c(A) / mM;T / °C\n0,01;8.400;50\n0,02;8.061;50\n")
    rates = mo.read_rates(tmp_path / "r.csv", columns={"r": "rate [mol/L/min]"})
    assert rates.concentrations["A"] == pytest.approx([8400, 8061])
    assert "'8.400' is 8400" in str(rates)
    assert rates.rate == pytest.approx([1 / 6, 1 / 3])
    (tmp_path / "l.csv").write_text("rate [mol/L/min],A [mM]\n0.01,<1\n0.02,2\n")
    with pytest.raises(mo.InputError, match="has limits"):
        mo.read_rates(tmp_path / "l.csv")
    (tmp_path / "t.csv").write_text(
        "Zeit;signal\n08:00;0\n08:05;3,5\n08:10;5\n08:20;4,5\n08:30;2\n08:40;1\n08:50;0\n09:00;0\n"
    )
    test = mo.mixing.read_tracer(tmp_path / "t.csv", columns={"Zeit": "clock time"}, flow="1 L/min")
    assert (test.times / 60).tolist() == [0, 5, 10, 20, 30, 40, 50, 60]
    assert "times of day, zero at the first of each run ('08:00')" in " ".join(test.notes)
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    law = mo.Chemistry(mo.Reaction("A -> B", name="r", k=mo.Unknown("0.1 1/min")))
    tube = mo.PlugFlow(law, feed, diameter="20 mm", length="20 m")
    (tmp_path / "v.csv").write_text(
        "length [m];conversion of A [%];A [mM];SD\n5;10,5;<950;2\n10;20;>700;2\n20;35;650;2\n"
    )
    (run,) = mo.read_experiments(tmp_path / "v.csv", vessel=tube)
    assert run.measured["conversion of A"] == pytest.approx([0.105, 0.2, 0.35])
    np.testing.assert_allclose(run.below["A"], [950, np.nan, np.nan])
    np.testing.assert_allclose(run.above["A"], [np.nan, 700, np.nan])
    assert mo.fit(law, run)["r.k"].value > 0
    with pytest.raises(mo.InputError, match="a given vessel has columns of its own"):
        mo.read_experiments(tmp_path / "v.csv", vessel=tube, response="A [mM]")


WRONG_OPTIONS: list[tuple[dict[str, Any], str]] = [
    ({"decimal": ";"}, "decimal = ';'"),
    ({"separator": "|"}, r"separator = '\|'"),
    ({"columns": {"Zeitt": "time [min]"}}, "unknown column 'Zeitt'"),
    ({"detection_limits": {"B": "1 mM"}}, "there is no column of 'B'"),
    ({"detection_limits": {"A": "1 bar"}}, "is not a concentration"),
    ({"columns": {"A": None}}, "no column of measured concentrations"),
    ({"response": "A [mM]", "columns": {"A": None}}, "no column beside|only the column of times"),
]


@pytest.mark.parametrize(("options", "what"), WRONG_OPTIONS)
def test_wrong_options_of_a_table(tmp_path: Path, options: dict[str, Any], what: str) -> None:
    (tmp_path / "x.csv").write_text("time [min],A [mM]\n0,1\n5,0.5\n")
    with pytest.raises(mo.InputError, match=what):
        mo.read_experiments(tmp_path / "x.csv", **options)
