"""The benchmarks start: what they import and measure still exists, and both sides of a row give the same."""

from __future__ import annotations

import runpy
from pathlib import Path

import pytest

BENCHMARKS = sorted((Path(__file__).parent.parent / "benchmarks").glob("*.py"))


@pytest.mark.parametrize("path", BENCHMARKS, ids=lambda path: path.stem)
def test_a_benchmark_starts(path: Path) -> None:
    assert runpy.run_path(str(path), run_name="imported")


def test_the_bed_of_both_sides_is_the_same() -> None:
    ours, by_hand, *_ = runpy.run_path(str(next(p for p in BENCHMARKS if p.stem == "run")), run_name="imported")[
        "packed_bed"
    ]()
    assert ours()[-1] == pytest.approx(by_hand()[-1], rel=1e-5)
