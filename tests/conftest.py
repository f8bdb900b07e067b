"""What the tests share: the demo's job, its fit, and a command line to type at."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from importlib.resources import files
from pathlib import Path
from typing import Any

os.environ.setdefault(
    "OPENBLAS_NUM_THREADS", "1"
)  # the workers of the suite share the cores; read as NumPy is imported

import pytest
from hypothesis import settings
from matplotlib.figure import Figure
from typer.testing import CliRunner, Result

import molino as mo
from molino.core.balances.machine.choice import ACCOUNT
from molino.core.fitting.fit_result import Fit
from molino.desk.cli import app
from molino.desk.job.load import Job

DEMO = Path(str(files("molino.demo")))
settings.register_profile("suite", derandomize=True, deadline=None)
settings.load_profile("suite")  # the same examples in every run; others with pytest --hypothesis-profile=default
BEGIN, WHOLE = time.perf_counter(), 2000
"""The begin of the session, and the number of tests above which it is the whole suite."""
ACCOUNT.is_asked = os.environ.get("MOLINO_MACHINE_CODE") == "always"
ACCOUNT.is_installed = ACCOUNT.is_installed and ACCOUNT.is_asked  # one engine for every test, whatever ran before it
Typed = Callable[..., Result]
"""Types a command line; see the fixture `molino`."""


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    """The time of the whole suite in calibration loops: twenty million additions, whose time is that of this machine."""
    took = time.perf_counter() - BEGIN
    if sum(map(len, terminalreporter.stats.values())) < WHOLE:
        return
    begin = time.perf_counter()
    subprocess.run([sys.executable, "-c", "total = 0\nfor i in range(20_000_000):\n    total += i"], check=True)
    loops = took / (time.perf_counter() - begin)
    terminalreporter.write_line(f"{took:.0f} s, {loops:.0f} calibration loops (the budget is 90)")


@pytest.fixture(scope="session", autouse=True)
def small_pictures() -> Iterator[None]:
    """Pictures that a job writes at its own resolution are written small: most of the time of a picture is its pixels."""
    whole = Figure.savefig

    def small(self: Figure, *words: Any, dpi: Any = None, **named: Any) -> None:
        whole(self, *words, dpi=50 if dpi == 200 else dpi or "figure", **named)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(Figure, "savefig", small)
        yield


@pytest.fixture(scope="session")
def job() -> Job:
    return mo.load_job(DEMO / "valdeoro.toml")


@pytest.fixture(scope="session")
def fitted(job: Job) -> Fit:
    return mo.fit(job.chemistry, job.fits["kinetics"].data)


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """The demo's job and data in a folder that a test may spoil."""
    for name in ("valdeoro.toml", "cob-liquor.csv"):
        shutil.copy(DEMO / name, tmp_path / name)
    return tmp_path


@pytest.fixture(scope="session")
def molino() -> Typed:
    """Type `molino ...` and get exit code, stdout and stderr; an exception that is not reported in words fails the test."""

    def typed(*words: object) -> Result:
        result = CliRunner().invoke(app, [str(w) for w in words], terminal_width=100)
        if result.exception is not None and not isinstance(result.exception, SystemExit):
            raise result.exception
        assert "Traceback" not in result.output
        assert "not foreseen" not in result.output, result.output
        return result

    return typed


def spoil(path: Path, *changes: tuple[str, str]) -> None:
    """Replace texts in a file; each must be there."""
    text = path.read_text()
    for old, new in changes:
        assert old in text, old
        text = text.replace(old, new)
    path.write_text(text)
