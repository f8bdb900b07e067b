"""Reading measurements."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
import pandas as pd

import molino as mo
from table import Pair, row

LINES = 100_000


@row("read 100,000 lines of runs", 0.1)
def read_lines() -> Pair:
    """Five runs of a CSV file with decimal commas; by hand pandas, with the separators, signs and types given."""
    folder = Path(tempfile.mkdtemp())
    times = np.arange(LINES // 5)
    rows = [
        f"K{n};{t};{np.exp(-t / 4e3 / (n + 1)):.6f};{1 - np.exp(-t / 4e3 / (n + 1)):.6f}".replace(".", ",")
        for n in range(5)
        for t in times
    ]
    path = folder / "runs.csv"
    path.write_text("\n".join(["run;time [s];A [mol/L];B [mol/L]", *rows]))

    def script(_: int) -> list[float]:
        frame = pd.read_csv(path, sep=";", decimal=",")
        runs = dict(list(frame.groupby("run", sort=False)))
        return [float(own["A [mol/L]"].to_numpy().sum()) * 1000 for own in runs.values()]

    def ours(_: int) -> list[float]:
        return [float(run.measured["A"].sum()) for run in mo.read_experiments(path)]

    return Pair(ours, script)
