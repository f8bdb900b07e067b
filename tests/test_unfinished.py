"""Commands that end early: what they have computed is used by the next ones."""

from __future__ import annotations

import json
import os
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import Typed
from molino.core import disk_cache
from molino.desk.steps.progress import recorded, show_progress
from molino.desk.tables.held import held
from test_parallel import JOB

pytestmark = pytest.mark.skipif(disk_cache.folder() is None, reason="it needs the cache")
SCRIPT = """
import sys
from molino.desk.cli import app
from molino.desk.job import unfinished
unfinished._SECONDS = 0.05
app(sys.argv[1:])
"""


def unfinished() -> set[Path]:
    return {*(disk_cache.folder() / "unfinished").glob("*")}


def kill_after(count: int, *words: object) -> Path:
    """Type a command in another process, and kill it once it has kept so many results; their folder."""
    known = unfinished()
    process = subprocess.Popen([sys.executable, "-c", SCRIPT, *map(str, words)], stdout=subprocess.DEVNULL)
    while process.poll() is None:
        for folder in unfinished() - known:
            try:
                with sqlite3.connect(f"file:{folder / 'done.sqlite'}?mode=ro", uri=True) as database:
                    ((done,),) = database.execute("select count(*) from done")
            except sqlite3.Error:
                continue
            if done >= count:
                process.send_signal(signal.SIGKILL)
                process.wait()
                return folder
        time.sleep(0.01)
    raise AssertionError("it ended before it could be killed")


@pytest.fixture(autouse=True)
def alone(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> Iterator[None]:
    """As in this process, and with a cache that other tests do not use."""
    monkeypatch.setenv("MOLINO_MACHINE_CODE", "off")
    monkeypatch.setenv("MOLINO_CACHE", str(tmp_path / "cache"))
    disk_cache.folder.cache_clear()
    yield
    disk_cache.folder.cache_clear()


def test_a_killed_bootstrap_continues_and_a_changed_job_begins_anew(folder: Path, molino: Typed) -> None:
    """The same numbers as without an end; the fit and the known refits are not computed again."""
    job = folder / "valdeoro.toml"
    asked = ("fit", job, "--bootstrap", "16", "--format", "csv", "--workers", "1")
    kept = kill_after(5, *asked)
    again = molino(*asked)
    known = int(again.stderr.split("fit continues with ")[1].split(" results of the run before")[0])
    assert 5 <= known <= 17
    assert not kept.exists()
    found = (folder / "results" / "valdeoro" / "fit-kinetics-bootstrap.csv").read_text()
    whole = molino(*asked)
    assert "continues" not in whole.stderr
    assert (folder / "results" / "valdeoro" / "fit-kinetics-bootstrap.csv").read_text() == found

    kept = kill_after(2, *asked)
    job.write_text(job.read_text() + "\n# a remark\n")
    assert "fit begun anew, since these changed: valdeoro.toml" in molino(*asked, "--only", "kinetics").stderr
    assert not kept.exists()


def test_a_killed_report_continues_and_a_second_command_is_told_of_the_first(tmp_path: Path, molino: Typed) -> None:
    """The page is the same as one of two processes."""
    job, page = tmp_path / "job.toml", tmp_path / "page.html"
    job.write_text(JOB)
    asked = ("report", job, "--output", page)
    kept = kill_after(2, *asked, "--workers", "1")
    with held(kept):
        process = subprocess.run([sys.executable, "-c", SCRIPT, *map(str, asked)], capture_output=True, text=True)
        assert process.returncode == 2
        assert f"process {os.getpid()} on" in " ".join(process.stderr.split())
    assert "report continues with" in molino(*asked).stderr
    whole = page.read_text()
    assert molino(*asked, "--workers", "2").exit_code == 0
    assert page.read_text() == whole


def test_a_folder_shows_its_files_and_the_command_that_writes_to_it(tmp_path: Path, molino: Typed) -> None:
    (tmp_path / "job.toml").write_text(JOB)
    assert molino("sweep", tmp_path / "job.toml", "--format", "csv").exit_code == 0
    results = tmp_path / "results" / "job"
    with recorded(results, "sweep"), show_progress("sweep map", True) as tell:
        time.sleep(1.1)
        tell("30 of 40 cases", 30, 40)
        shown = molino("show", results).output
        assert json.loads(molino("show", results, "--json").output)["running"]["done"] == 30
    assert "sweep-map.csv" in shown
    assert f"(process {os.getpid()}): sweep map: 30 of 40 cases" in " ".join(shown.split())
    assert "molino sweep since" not in molino("show", results, "--follow").output
