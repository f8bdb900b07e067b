"""Sweeps of any number of cases, written to a folder in parts, and continued after an end."""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from molino.core.annotations import PlainData
from molino.core.arguments import checked
from molino.core.balances.machine.choice import pinned
from molino.core.checks import Check
from molino.core.contract.metric import Metric
from molino.core.contract.vessel import Vessel
from molino.core.design.sweep_result import AGREES
from molino.core.errors import InputError
from molino.core.frozen import Frozen
from molino.core.parallel import Workers
from molino.core.results import Result, Table, frame
from molino.core.trains.train import Train
from molino.core.unfinished import keeping
from molino.desk.tables.held import held
from molino.desk.tables.sweep_folder import MANIFEST, Abouts, Cases, Writer, abouts_of, begin, source_of
from molino.desk.tables.write import check_parquet

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True, eq=False)
class SweepParts(Frozen, Result):
    """A sweep in a folder: Parquet files of its parts, of which only the ones that are asked for are read.

    Attributes
    ----------
    path : Path
    remark : str
        Whether it was continued, or begun anew and why.
    is_stopped : bool
        Whether it was interrupted.
    abouts : tuple of (Path, dict)
        The file of each part, with its first case, the case behind its last one, and its statistics.

    Examples
    --------
    >>> import tempfile
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> tube = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L")
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     found = mo.files.write_sweep(folder, tube, {"volume": mo.span("1 L", "9 L", 5)}, ["conversion of A"])
    ...     found.count, round(found.statistics["conversion of A"]["high"], 4)
    (5, 0.8347)
    """

    path: Path
    remark: str = ""
    is_stopped: bool = False
    abouts: Abouts = field(default=(), repr=False)

    @property
    def count(self) -> int:
        """The number of cases."""
        return self.abouts[-1][1]["stop"] if self.abouts else 0

    @property
    def failed(self) -> int:
        """The number of cases without all metrics; the reasons are in the column `reason`."""
        return sum(about["failed"] for _, about in self.abouts)

    @cached_property
    def statistics(self) -> dict[str, PlainData]:
        """For each metric, by its heading: number of values, mean, standard deviation, the lowest and highest value and
        their cases."""
        found: dict[str, PlainData] = {}
        for _, about in self.abouts:
            for heading, own in about["statistics"].items():
                found[heading] = _merged(found[heading], own) if heading in found else own
        spread = {name: math.sqrt(own["squares"] / max(own["values"] - 1, 1)) for name, own in found.items()}
        return {name: {**own, "standard deviation": spread[name]} for name, own in found.items()}

    def parts(self) -> Iterator[pd.DataFrame]:
        """The table of each part, one after the other."""
        import pandas as pd

        return (pd.read_parquet(path) for path, _ in self.abouts)

    def table(self, start: int = 0, stop: int | None = None) -> Table:
        """The cases from `start` to before `stop`, all by default, as a DataFrame."""
        import pandas as pd

        stop = self.count if stop is None else min(stop, self.count)
        found = []
        for path, about in self.abouts:
            if about["start"] < stop and about["stop"] > start:
                own = pd.read_parquet(path)
                found.append(own.iloc[max(start - about["start"], 0) : stop - about["start"]])
        return pd.concat(found, ignore_index=True) if found else frame()

    def facts(self) -> dict[str, str]:
        """The range and the mean of each metric, with the cases of its ends."""
        found = {}
        for heading, own in self.statistics.items():
            for word, end in (("highest", "high"), ("lowest", "low")):
                at = ", ".join(
                    f"{n} = {v:.6g}" if isinstance(v, float) else f"{n} = {v}" for n, v in own[f"{end} at"].items()
                )
                found[f"{word} {heading}"] = f"{own[end]:.4g} at {at}"
            found[f"mean {heading}"] = f"{own['mean']:.4g}, standard deviation {own['standard deviation']:.4g}"
        if self.failed:
            found["not computed"] = f"{self.failed:,} of {self.count:,} cases: see the column reason"
        return found

    @property
    def checks(self) -> tuple[Check, ...]:
        """The check of some cases of each block by single runs."""
        apart = [about["apart"] for _, about in self.abouts if about["apart"] is not None]
        return (Check("single runs agree", max(apart), AGREES, "cases of each part, by single runs"),) if apart else ()

    def to_dict(self) -> PlainData:
        """Plain data: the number of cases and the statistics."""
        return {"folder": self.path.name, "cases": self.count, "failed": self.failed, "statistics": self.statistics}

    def __str__(self) -> str:
        several = "1 part" if len(self.abouts) == 1 else f"{len(self.abouts)} parts"
        lines = [f"{self.count:,} cases in {several} in {self.path}"]
        lines += [f"  {name}: {text}" for name, text in self.facts().items()]
        lines += [f"  {self.remark}"] if self.remark else []
        return "\n".join([*lines, *(["  interrupted: the same call continues"] if self.is_stopped else [])])


@checked
def write_sweep(
    path: Path | str,
    vessel: Vessel | Train,
    conditions: Cases,
    metrics: Sequence[Metric | str],
    *,
    workers: Workers = None,
    progress: Callable[[int, int], None] | None = None,
) -> SweepParts:
    """Run a vessel under any number of conditions, and write each to a folder once it is computed.

    The folder has Parquet files of at most 65,536 cases, each written whole, about every 30 s. After an end at any
    place the same call continues; with another question the files are moved to a folder in it, and it begins anew.

    Parameters
    ----------
    path : Path or str
        The folder; it is made.
    vessel : Batch, SemiBatch, StirredTank, PlugFlow or Train
    conditions : mapping, list, iterator of mappings, or path
        As for `sweep`. An iterator gives a mapping of condition to value for each case, the same ones when the call is
        repeated; a path is that of a Parquet file with a column for each condition, "T" in SI or "T [degC]".
    metrics : sequence of Metric or str
    workers : int, "all", Executor or Client of `distributed`, optional
        A number of processes; by default all cores, if it takes long. The numbers do not depend on the workers.
    progress : callable (done, of all), optional
        Called as cases are done; of all is zero if it is not known.

    Returns
    -------
    SweepParts

    Raises
    ------
    InputError
        With all faults of the question, or if another process writes to the folder.
    WriteError
        If a part cannot be written; the parts written before are kept.

    See Also
    --------
    read_sweep, molino.sweep

    Examples
    --------
    >>> import tempfile
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> tube = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L")
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     cases = ({"volume": f"{n} L"} for n in range(1, 4))
    ...     mo.files.write_sweep(folder, tube, cases, ["conversion of A"]).table()["conversion of A"].round(3).tolist()
    [0.181, 0.33, 0.451]
    """
    check_parquet()
    folder, source = Path(path), source_of(vessel, conditions, metrics)
    with held(folder):
        remark = begin(folder, source)
        with pinned(json.loads((folder / MANIFEST).read_text(encoding="utf-8"))["machine code"]), keeping(None):
            is_stopped = Writer(folder, source, progress).write(workers)
    return SweepParts(folder, remark, is_stopped, abouts_of(folder))


@checked
def read_sweep(path: Path | str) -> SweepParts:
    """The parts of a sweep in a folder, also of one that has not ended.

    Parameters
    ----------
    path : Path or str
        A folder that `write_sweep` made.

    Returns
    -------
    SweepParts

    Raises
    ------
    InputError
        For a folder without a sweep.

    Examples
    --------
    >>> import tempfile
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> tube = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L")
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     done = mo.files.write_sweep(folder, tube, {"volume": mo.span("1 L", "9 L", 5)}, ["conversion of A"])
    ...     mo.files.read_sweep(folder).table(3, 5)["volume [L]"].tolist()
    [7.0, 9.0]
    """
    check_parquet()
    folder = Path(path)
    if not (folder / MANIFEST).is_file():
        raise InputError("this folder has no sweep", str(path), "give a folder that write_sweep has made")
    return SweepParts(folder, abouts=abouts_of(folder))


def _merged(one: PlainData, other: PlainData) -> PlainData:
    """The statistics of both (T. F. Chan, G. H. Golub, R. J. LeVeque, Am. Stat. 37 (1983) 242)."""
    n, m = one["values"], other["values"]
    apart = other["mean"] - one["mean"]
    low, high = min(one, other, key=lambda x: x["low"]), max(one, other, key=lambda x: x["high"])
    return {
        "values": n + m,
        "mean": one["mean"] + apart * m / (n + m),
        "squares": one["squares"] + other["squares"] + apart**2 * n * m / (n + m),
        **{"low": low["low"], "low at": low["low at"], "high": high["high"], "high at": high["high at"]},
    }
