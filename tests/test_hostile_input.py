"""Hostile input: mutated jobs, nonsensical arguments, files and terminals that are not what they should be."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
import warnings
from pathlib import Path

import openpyxl
import pytest

import mutated_jobs
import wrong_arguments
from conftest import Typed, spoil


@pytest.mark.parametrize("seed", [1])
def test_what_check_refuses_has_a_remedy_and_nothing_fails_in_another_way(seed: int) -> None:
    ended, faults = mutated_jobs.campaign(seed, 130, does_run=False)
    assert not faults
    assert ended["refused"] > 50
    assert ended["accepted"] > 8


@pytest.mark.parametrize("seed", [11])
def test_what_check_accepts_the_commands_run(seed: int) -> None:
    ended, faults = mutated_jobs.campaign(seed, 14)
    assert not faults
    assert ended["ran"] > 2


@pytest.mark.parametrize("name", wrong_arguments.CALLS)
def test_nonsense_in_any_argument_is_an_input_error(name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)  # where nonsense is a name of a file
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        assert not [*wrong_arguments.raw_errors(name)]


def test_every_public_function_is_called_with_nonsense() -> None:
    words = {"concentration", "fraction", "temperature", "pressure", "duty", "heat_flow", "log_span", "look_up"}
    assert wrong_arguments.missing() <= words  # made like those that are


def test_covariances_that_no_fit_comes_to_are_refused(molino: Typed, folder: Path) -> None:
    good = '[covariance]\nnames = ["dehydration.k"]\nmatrix = [[1e-9]]\ndegrees_of_freedom = 9\n'
    job = folder / "valdeoro.toml"
    text = job.read_text()
    for old, new, message in (
        ("1e-9", "nan", "finite"), ("1e-9", "-1e-9", "variance is negative"), ("freedom = 9", "freedom = 0", "0 degrees"),
        ("matrix = [[1e-9]]\n", "", "'matrix' is missing"), ("[[1e-9]]", "[[1e-9, 1]]", "is not 1 by 1"),
    ):  # fmt: skip
        job.write_text(text + good.replace(old, new))
        refused = molino("check", job)
        assert refused.exit_code == 2
        assert message in " ".join(refused.stderr.split()), refused.stderr


def test_three_thousand_faults_print_the_first_twenty(molino: Typed, folder: Path) -> None:
    job = folder / "valdeoro.toml"
    job.write_text(job.read_text() + "".join(f"\n[feeds.f{n}]\nflaw{n} = 1\n" for n in range(1500)))
    refused = molino("check", job)
    assert "faults, the first 20" in refused.stderr
    assert len(refused.stderr.splitlines()) < 80


def test_names_that_nobody_can_read_and_deep_tables_are_refused(molino: Typed, folder: Path) -> None:
    job = folder / "valdeoro.toml"
    text = job.read_text()
    for more, message in (
        ('\n[feeds.""]\nflow = 1\n', "is not a name"), ('\n[feeds."a\\u0007b"]\nflow = 1\n', "is not a name"),
        ("\nx = " + "[" * 5000 + "]" * 5000, "nested too deeply"), (f"\n[size.x]\ntarget = {'9' * 5000}\n", "TOML"),
    ):  # fmt: skip
        job.write_text(text + more)
        refused = molino("check", job)
        assert refused.exit_code == 2
        assert message in " ".join(refused.stderr.split()), refused.stderr[:300]


def test_names_that_look_alike_keep_files_of_their_own(molino: Typed, folder: Path) -> None:
    job = folder / "valdeoro.toml"
    job.write_text(
        '[reactions.r]\nequation = "A -> B"\nk = 0.2\n[feeds.liquor]\ncontents = { A = 1 }\nflow = 1\n'
        '[vessels.coil]\nkind = "plug flow"\nfeed = "liquor"\nvolume = 8\n'
    )
    text = job.read_text()
    tubes = "".join(
        f'\n[vessels."{name}"]\nkind = "plug flow"\nfeed = "liquor"\nvolume = {n}\n'
        for n, name in enumerate(("a b", "a-b", "A B", "$\\\\frac{$", "=1+1", "x" * 75 + "1", "x" * 75 + "2"), 1)
    )
    job.write_text(text + tubes)
    done = molino("run", job)
    assert done.exit_code == 0, done.output
    results = folder / "results" / "valdeoro"
    ends = [float(path.read_text().splitlines()[-1].split(",")[0]) for path in results.glob("run-*.csv")]
    assert {1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0} <= {*ends}
    assert len({path.name.casefold() for path in results.iterdir()}) == len([*results.iterdir()])
    assert len({name.casefold() for name in openpyxl.load_workbook(results / "run.xlsx").sheetnames}) == 10
    cells = [cell for sheet in openpyxl.load_workbook(results / "streams.xlsx") for row in sheet for cell in row]
    assert not [cell for cell in cells if cell.data_type == "f"]


def test_data_outside_the_folder_of_a_job_need_a_word(molino: Typed, folder: Path) -> None:
    inner = folder / "inner"
    inner.mkdir()
    (folder / "valdeoro.toml").rename(inner / "valdeoro.toml")
    spoil(inner / "valdeoro.toml", ("cob-liquor.csv", "../cob-liquor.csv"))
    refused = molino("check", inner / "valdeoro.toml")
    assert "outside the folder of the job" in " ".join(refused.stderr.split())
    assert "B1" not in refused.output
    text = (inner / "valdeoro.toml").read_text()
    (inner / "valdeoro.toml").write_text(f"allow_outside = true\n{text}")
    assert molino("check", inner / "valdeoro.toml").exit_code == 0


def typed(folder: Path, *words: str, **environment: str) -> subprocess.CompletedProcess[str]:
    """A command in a process of its own."""
    command = [sys.executable, "-m", "molino", *words]
    return subprocess.run(
        command, cwd=folder, env={**os.environ, **environment}, capture_output=True, text=True, check=False
    )


def test_terminals_folders_and_settings_of_others(folder: Path, molino: Typed) -> None:
    (folder / "matplotlibrc").write_text("this: is no setting\nlines.linewidth: many\n")
    (folder / "series.csv").write_text("time [min],A [mol/L]\n0,1\n5,0.61\n10,0.37\n20,0.13\n30,0.05\n")
    strange = typed(folder, "orders", "series.csv", MPLBACKEND="nonsense", PYTHONIOENCODING="ascii", PYTHONUTF8="0")
    assert (strange.returncode, strange.stderr) == (0, "")
    assert "R2" in strange.stdout
    blocked = folder / "results" / "series" / "orders.csv"
    blocked.unlink()
    blocked.mkdir()
    refused = molino("orders", folder / "series.csv")
    assert refused.exit_code == 1
    assert "a folder has this name" in " ".join(refused.output.split())
    with Path("/dev/full").open("w") as out:
        command = [sys.executable, "-m", "molino", "new", "another"]
        full = subprocess.run(command, cwd=folder, check=False, stdout=out, stderr=subprocess.PIPE, text=True)
    assert "Traceback" not in full.stderr
    assert full.returncode != 0
    line = f"{sys.executable} -m molino check another/job.toml | true"
    piped = subprocess.run(line, cwd=folder, shell=True, check=False, stderr=subprocess.PIPE, text=True)
    assert "Traceback" not in piped.stderr


def test_ctrl_c_at_any_moment_is_reported_in_words(folder: Path) -> None:
    for wait in (0.2, 1.2):  # seconds, after the interpreter's own start
        running = subprocess.Popen([sys.executable, "-m", "molino", "fit", "valdeoro.toml"], cwd=folder,
                                   stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)  # fmt: skip
        time.sleep(wait)
        running.send_signal(signal.SIGINT)
        _, told = running.communicate(timeout=60)
        assert running.returncode in (130, -2, 0)
        assert "Traceback" not in told or wait < 0.1  # before Python has come to us
