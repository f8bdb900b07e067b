"""Sweeps in a folder: the numbers of a sweep in memory, continued after a sudden end, and one writer at a time."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import molino as mo
from molino.desk.tables import sweep_folder
from molino.desk.tables.held import held

pytest.importorskip("pyarrow")
SCRIPT = """
import sys, molino as mo
chemistry = mo.Chemistry(mo.Reaction("A -> B", k=mo.Arrhenius(k="0.2 1/min", at="330 K", Ea="80 kJ/mol")))
tube = mo.PlugFlow(chemistry, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L", T="330 K")
conditions = {"T": mo.span("320 K", "350 K", 60), "flow": mo.span("0.5 L/min", "2 L/min", 500)}
"""
METRIC = "conversion of A"
space: dict = {}
exec(SCRIPT, space)
TUBE, CONDITIONS = space["tube"], space["conditions"]


@pytest.fixture
def small(monkeypatch: pytest.MonkeyPatch) -> None:
    """Parts of a few blocks."""
    monkeypatch.setattr(sweep_folder, "MOST_CASES", 4096)


def test_the_parts_hold_the_numbers_of_a_sweep_in_memory(tmp_path: Path, small: None) -> None:
    whole = mo.sweep(TUBE, CONDITIONS, [METRIC])
    parts = mo.files.write_sweep(tmp_path, TUBE, CONDITIONS, [METRIC], workers=2)
    table, column = whole.table(), whole.table()[METRIC]
    assert len(parts.abouts) > 5
    assert (parts.table()[METRIC] == column).all()
    assert (parts.table(5000, 5010)[METRIC].to_numpy() == column[5000:5010].to_numpy()).all()
    assert sum(len(part) for part in parts.parts()) == parts.count == len(table)
    found = parts.statistics[METRIC]
    assert found["mean"] == pytest.approx(column.mean(), rel=1e-12)
    assert found["standard deviation"] == pytest.approx(column.std(), rel=1e-10)
    assert (found["low"], found["high"]) == (column.min(), column.max())
    assert found["high at"]["T [K]"] == table["T [K]"][column.idxmax()]
    assert parts.checks[0].value < 1e-8
    assert str(mo.files.read_sweep(tmp_path)) == str(parts)


def test_killed_again_and_again_it_continues_and_computes_nothing_twice(tmp_path: Path) -> None:
    folder = tmp_path / "parts"
    script = SCRIPT + (
        "from molino.desk.tables import sweep_folder\n"
        "sweep_folder.MOST_CASES = 2048\n"
        f"mo.files.write_sweep({str(folder)!r}, tube, conditions, [{METRIC!r}], workers=1)\n"
    )
    written: dict[str, float] = {}
    for _ in range(3):
        process = subprocess.Popen([sys.executable, "-c", script])
        known = len([*folder.glob("part-*.parquet")])
        while process.poll() is None and len([*folder.glob("part-*.parquet")]) < known + 3:
            time.sleep(0.002)
        process.send_signal(signal.SIGKILL)
        process.wait()
        for path in folder.glob("part-*.parquet"):
            assert written.setdefault(path.name, path.stat().st_mtime) == path.stat().st_mtime
    parts = mo.files.write_sweep(folder, TUBE, CONDITIONS, [METRIC])
    assert "continued after" in parts.remark
    assert all(path.stat().st_mtime == written.get(path.name, path.stat().st_mtime) for path, _ in parts.abouts)
    assert (parts.table()[METRIC] == mo.sweep(TUBE, CONDITIONS, [METRIC]).table()[METRIC]).all()


def test_a_changed_question_begins_anew_and_says_what_changed(tmp_path: Path) -> None:
    few = {"T": mo.span("320 K", "350 K", 3)}
    mo.files.write_sweep(tmp_path, TUBE, few, [METRIC])
    again = mo.files.write_sweep(tmp_path, TUBE.with_(volume="5.000001 L"), few, [METRIC])
    assert again.remark.startswith("begun anew, since these changed: volume")
    assert mo.files.read_sweep(tmp_path / "old-1").count == 3


def test_a_difference_that_no_text_shows_is_another_question(tmp_path: Path) -> None:
    """Conditions that differ in the ninth digit, and a vessel of a train among others of its name."""
    for high in ("350.0000001 K", "350.0000002 K"):
        found = mo.files.write_sweep(tmp_path / "T", TUBE, {"T": mo.span("320 K", high, 3)}, [METRIC])
    assert found.remark.startswith("begun anew, since these changed: condition T;")
    for volume in ("5 L", "5.0000001 L"):
        train = mo.Train([TUBE.with_(volume=volume), TUBE], recycle=0.2)
        found = mo.files.write_sweep(tmp_path / "train", train, {"recycle": [0.1, 0.2]}, [METRIC])
    assert "since these changed: vessel 1 (" in found.remark


def test_a_damaged_part_and_those_behind_it_are_computed_again(
    tmp_path: Path, small: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Also in parts of another length, as after other times."""
    first = mo.files.write_sweep(tmp_path, TUBE, CONDITIONS, [METRIC])
    first.abouts[2][0].write_bytes(b"damaged")
    assert mo.files.read_sweep(tmp_path).count == 2 * 4096
    monkeypatch.setattr(sweep_folder, "MOST_CASES", 6144)
    again = mo.files.write_sweep(tmp_path, TUBE, CONDITIONS, [METRIC])
    assert (again.remark, again.count) == ("continued after 8,192 cases", first.count)


def test_cases_from_an_iterator_and_from_a_file(tmp_path: Path, small: None) -> None:
    """The same numbers; an iterator that gives other cases when it is repeated is refused."""
    T = np.linspace(320.0, 350.0, 6000)

    def cases(offset: float = 0.0) -> Iterator[dict[str, float]]:
        return ({"T": t + offset} for t in T.tolist())

    one = mo.files.write_sweep(tmp_path / "one", TUBE, cases(), [METRIC])
    pd.DataFrame({"T [degC]": T - 273.15}).to_parquet(tmp_path / "cases.parquet")
    two = mo.files.write_sweep(tmp_path / "two", TUBE, tmp_path / "cases.parquet", [METRIC])
    expected = mo.sweep(TUBE, {"T": T.tolist()}, [METRIC]).values[METRIC]
    assert (one.table()[METRIC].to_numpy() == expected).all()
    assert two.table()[METRIC].to_numpy() == pytest.approx(expected, rel=1e-9)
    assert mo.files.write_sweep(tmp_path / "one", TUBE, cases(), [METRIC]).count == 6000
    with pytest.raises(mo.InputError, match="the cases 0 to 4,096 differ"):
        mo.files.write_sweep(tmp_path / "one", TUBE, cases(1e-3), [METRIC])


def test_a_failed_case_has_its_reason_and_a_second_writer_is_told_of_the_first(tmp_path: Path) -> None:
    found = mo.files.write_sweep(tmp_path, TUBE, {"T": ["330 K", "1e5 K"], "volume": ["1 L", "1e9 L"]}, [METRIC])
    assert found.count == 4
    with held(tmp_path):
        holder = json.loads((tmp_path / ".holder.json").read_text())
        assert holder["process"] == os.getpid()
        script = SCRIPT + f"mo.files.write_sweep({str(tmp_path)!r}, tube, conditions, [{METRIC!r}])"
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True)
        assert f"process {os.getpid()} on" in done.stderr
    with pytest.raises(mo.InputError, match="this folder has no sweep"):
        mo.files.read_sweep(tmp_path / "none")
