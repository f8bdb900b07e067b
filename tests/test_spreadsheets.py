"""Spreadsheets and text files as laboratories keep them: each goes through `molino orders` as it is."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import openpyxl
import pandas as pd
import pytest

import molino as mo
from conftest import Typed

TIMES = [0, 5, 10, 20, 40, 60]
LEFT = [round(0.5 * float(np.exp(-0.02 * t)), 5) for t in TIMES]
K = 0.02
Rows = list[list[Any]]


def table(heads: tuple[str, ...] = ("time [min]", "xylose [mol/L]"), k: float = K) -> Rows:
    return [[*heads], *([t, round(0.5 * float(np.exp(-k * t)), 5)] for t in TIMES)]


def shifted(rows: Rows, down: int, right: int) -> Rows:
    return [*([None] for _ in range(down)), *([None] * right + row for row in rows)]


def beside(first: Rows, second: Rows, gap: int) -> Rows:
    return [a + [None] * gap + b for a, b in zip(first, second, strict=True)]


def book(path: Path, rows: Rows, **more: Rows) -> Path:
    made = openpyxl.Workbook()
    for name, content in {"Data": rows, **more}.items():
        sheet = made.active if name == "Data" else made.create_sheet(name)
        assert sheet is not None
        sheet.title = name
        for row in content:
            sheet.append(row)
    made.save(path)
    return path


def merged(path: Path, cells: str, *rows: list[Any]) -> Path:
    made = openpyxl.Workbook()
    sheet = made.active
    assert sheet is not None
    for row in rows:
        sheet.append(row)
    for area in cells.split():
        sheet.merge_cells(area)
    made.save(path)
    return path


TITLE = [["Kinetics of liquor, May"], [], *table()]
UNITS = [["time", "xylose"], ["min", "mol/L"], *table()[1:]]
PARENTHESES = table(("time (min)", "xylose (mol/L)"))
COMMAS = [[str(c).replace(".", ",") for c in row] for row in table()]
COMMENT = [*table(), [], ["measured by the night shift"]]
WITH_TEXT = [*table()[:4], [15, "n.d."], [18, "lost"], *table()[4:]]
TWO = [["Run A", None, None, "Run B"], *beside(table(), table(k=0.04), 1)]
BELOW = [["Run A"], *table(), [], ["Run B"], *table(k=0.04)]
FILES: dict[str, tuple[Callable[[Path], Path], str]] = {
    "a title above": (lambda p: book(p / "d.xlsx", TITLE), "headings in line 3"),
    "blank rows and columns": (lambda p: book(p / "d.xlsx", shifted(table(), 3, 2)), "headings in line 4"),
    "a row of units": (lambda p: book(p / "d.xlsx", UNITS), "6 lines of 2 columns"),
    "units in parentheses": (lambda p: book(p / "d.xlsx", PARENTHESES), "6 lines of 2 columns"),
    "decimal commas": (lambda p: book(p / "d.xlsx", COMMAS), "0 cells could not be read"),
    "a comment below": (lambda p: book(p / "d.xlsx", COMMENT), "1 line left out"),
    "texts among numbers": (lambda p: book(p / "d.xlsx", WITH_TEXT), "1 cell could not be read: B6 'lost'"),
    "an error value": (lambda p: book(p / "d.xlsx", [*table(), [80, "#DIV/0!"]]), "B8 '#DIV/0!'"),
    "a formula never computed": (lambda p: book(p / "d.xlsx", [*table(), [80, "=B7/2"]]), "B8 '=B7/2'"),
    "a number too large": (lambda p: book(p / "d.xlsx", [*table(), [80, 1e308]]), "B8 '1e+308'"),
    "not a number": (lambda p: text(p / "d.csv", [*table(), [80, "inf"]], ","), "B8 'inf'"),
    "two blocks side by side": (lambda p: book(p / "d.xlsx", TWO), "2 blocks read as runs: Run A, Run B"),
    "two blocks below each other": (lambda p: book(p / "d.xlsx", BELOW), "2 blocks read as runs: Run A, Run B"),
    "a sheet among others": (lambda p: book(p / "d.xlsx", [["About this file"]], raw=table()), "sheet 'raw'"),
    "merged headings": (lambda p: merged(p / "d.xlsx", "A1:A2 B1:C1", ["time [min]", "concentration [mol/L]"],
                                         [None, "xylose", "acid"], *([t, c, 0.1] for t, c in table()[1:])), "in line 2"),
    "a stray cell at the far corner": (lambda p: cornered(p / "d.xlsx"), "stray cell"),
    "semicolons and commas": (lambda p: text(p / "d.csv", [["Title", ""], *COMMAS], ";"), "headings in line 2"),
    "tabs in Windows-1252": (lambda p: text(p / "d.csv", [["time [min]", "xylose [mol/L]", "T [°C]"],
                             *([*row, 165] for row in table()[1:])], "\t", "cp1252"), "Windows-1252"),
    "noise below zero": (lambda p: book(p / "d.xlsx", [*table(), [900, -0.004]]), "1 value below zero used as noise"),
}  # fmt: skip


def text(path: Path, rows: Rows, separator: str, encoding: str = "utf-8") -> Path:
    path.write_text("\n".join(separator.join(str(c) for c in row) for row in rows), encoding=encoding)
    return path


def cornered(path: Path) -> Path:
    made = openpyxl.load_workbook(book(path, table()))
    made.active["XFD1048576"] = "x"  # type: ignore[index]
    made.save(path)
    return path


@pytest.mark.parametrize("name", FILES)
def test_a_spreadsheet_as_it_is_goes_through_orders(molino: Typed, tmp_path: Path, name: str) -> None:
    make, remark = FILES[name]
    path = make(tmp_path)
    done = molino("orders", path, "--species", "xylose")
    assert done.exit_code == 0, done.output
    assert "first order" in done.stdout
    assert remark in " ".join(done.stdout.split()), done.stdout
    runs = mo.read_experiments(path)
    laws = mo.screen_orders(runs, "xylose").to_dict()["laws"]["first order"]["runs"]
    for run, k in zip(laws.values(), (K, 0.04), strict=False):
        assert run["k"] == pytest.approx(k, rel=0.02)


def test_what_is_not_plain_is_named(molino: Typed, tmp_path: Path) -> None:
    both = book(tmp_path / "d.xlsx", [*table(), [], ["pressure [bar]", "flow [L/min]"], [1, 2], [3, 4]])
    with pytest.raises(mo.InputError, match=r"2 tables were found: line 1, columns A:B .* line 9"):
        mo.read_experiments(both)
    assert len(mo.read_experiments(both, header_row=1)[0].times) == 6
    two = book(tmp_path / "e.xlsx", beside(table(), table(("time [min]", "acid [mol/L]")), 1))
    with pytest.raises(mo.InputError, match="columns = 'A:C'"):
        mo.read_experiments(two)
    assert mo.read_experiments(two, columns="D:E").species == ("acid",)
    one = book(tmp_path / "f.xlsx", table())
    assert mo.read_experiments(one, columns=["time [min]", "xylose"]).species == ("xylose",)
    typed = molino("orders", two, "--columns", "A:B")
    assert typed.exit_code == 0
    assert "columns = 'A:C'" in " ".join(molino("orders", two).stderr.split())
    for options, message in (({"columns": "nonsense"}, "are no columns"), ({"columns": ["tine"]}, "did you mean 'time'"),
                             ({"header_row": 77}, "line 77 has no headings"), ({"sheet": "Date"}, "did you mean 'Data'")):  # fmt: skip
        with pytest.raises(mo.InputError, match=message):
            mo.read_experiments(one, **options)  # type: ignore[arg-type]
    half = book(tmp_path / "g.xlsx", [["time [min]", "xylose [mol/L]"], [0, 1], [5, "soon"], [6, "late"]])
    with pytest.raises(mo.InputError, match="line 3, column 'xylose \\[mol/L\\]': 'soon' is not a number"):
        mo.read_experiments(half)
    lost = book(tmp_path / "h.xlsx", [*table(), [None, 0.3]])
    with pytest.raises(mo.InputError, match="line 8, column 'time \\[min\\]': it is missing"):
        mo.read_experiments(lost)


def test_broken_files_are_reported_in_words(molino: Typed, tmp_path: Path) -> None:
    whole = book(tmp_path / "whole.xlsx", table()).read_bytes()
    broken = {"truncated.xlsx": whole[: len(whole) // 2], "empty.xlsx": b"", "text.xlsx": b"time,A\n0,1\n",
              "binary.csv": bytes(range(256)) * 40, "empty.csv": b"", "headings.csv": b"time [min],A [mol/L]\n"}  # fmt: skip
    for name, content in broken.items():
        (tmp_path / name).write_bytes(content)
        done = molino("orders", tmp_path / name)
        assert done.exit_code == 2, name
        assert "->" in done.stderr, done.stderr
    charts = openpyxl.Workbook()
    charts.create_chartsheet("only")
    del charts["Sheet"]
    charts.save(tmp_path / "charts.xlsx")
    assert molino("orders", tmp_path / "charts.xlsx").exit_code == 2
    long = "y" * 400_000
    (tmp_path / "long.csv").write_text(f"time [min],A [mol/L],note\n0,1,{long}\n5,0.5,\n9,0.3,\n20,0.1,\n")
    assert "unknown" not in molino("orders", tmp_path / "long.csv", "--species", "A").output


def test_ten_thousand_lines_are_read_in_about_a_second(tmp_path: Path) -> None:
    times = np.arange(10_000)
    frame = pd.DataFrame(
        {"time [min]": times, "A [mol/L]": np.exp(-times / 4e3), "B [mol/L]": 1 - np.exp(-times / 4e3)}
    )
    frame.to_excel(tmp_path / "long.xlsx", index=False)
    pd.concat([frame.assign(run=n) for n in range(5)]).to_csv(tmp_path / "long.csv", index=False)
    for name, lines in (("long.xlsx", 10_000), ("long.csv", 50_000)):
        begun = time.perf_counter()
        runs = mo.read_experiments(tmp_path / name)
        assert sum(len(run.times) for run in runs) == lines
        assert time.perf_counter() - begun < 8, name  # some 1 s; 8 for a busy machine, where it had been minutes
