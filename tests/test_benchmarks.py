"""The benchmarks start, and both sides of a row give the same."""

from __future__ import annotations

import runpy
import subprocess
import sys
from pathlib import Path

import pytest

BENCHMARKS = Path(__file__).parent.parent / "benchmarks"


@pytest.mark.parametrize("name", ["attainable", "checks", "fuzz_formulas", "growth"])
def test_a_benchmark_starts(name: str) -> None:
    assert runpy.run_path(str(BENCHMARKS / f"{name}.py"), run_name="imported")


def test_both_sides_of_the_quick_rows_give_the_same() -> None:
    """Each in a short run; a row that differs says so."""
    script = (
        "import runpy, sys\n"
        f"rows = runpy.run_path({str(BENCHMARKS / 'run.py')!r}, run_name='imported')\n"
        "rows['table'].SECONDS = 0.01\n"
        "rows['main'](has_fast=False, words=['3 states', 'with_ and run', 'evaluator', '10 tubes', 'bed', 'dispersed', 'one temperature'])"
    )
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    lines = done.stdout.splitlines()
    assert len(lines) > 12
    assert "DIFFERENT" not in done.stdout, done.stdout
