"""Work on processes, threads and clusters: the same numbers, lost workers, and an interruption."""

from __future__ import annotations

import os
import signal
import sys
import time
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest

import molino as mo
from conftest import Typed
from molino.core.parallel import in_order

CHEMISTRY = mo.Chemistry(
    [
        mo.Reaction("A -> B", name="main", k=mo.Arrhenius(k="0.2 1/min", at="330 K", Ea="80 kJ/mol")),
        mo.Reaction("B -> C", rate="k*[B]^1.5", k="0.01 L^0.5/mol^0.5/min"),
    ]
)
TUBE = mo.PlugFlow(CHEMISTRY, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L", T="330 K")
CASES = {"T": mo.span("320 K", "350 K", 60), "flow": mo.span("0.5 L/min", "2 L/min", 50)}
JOB = """
[feeds.main]
contents = { A = "1 mol/L" }
flow = "1 L/min"

[reactions.main]
equation = "A -> B"
k = "0.2 1/min"

[vessels.tube]
kind = "plug flow"
feed = "main"
volume = "5 L"

[sweep.map]
vessel = "tube"
metrics = ["conversion of A"]
conditions = { volume = { from = "1 L", to = "9 L", points = 40 } }
"""
METRICS = ["conversion of A", "yield of B on A"]


def swept(workers: object) -> np.ndarray:
    found = mo.sweep(TUBE, CASES, METRICS, workers=workers)
    return np.stack([found.values[m] for m in METRICS])


def test_the_numbers_do_not_depend_on_the_workers() -> None:
    """To the last digit: one process, two, threads, an Executor; also where each case is run by itself."""
    one = swept(1)
    assert np.isfinite(one).all()
    with ThreadPoolExecutor(3) as threads, ProcessPoolExecutor(2) as processes:
        for workers in (2, threads, processes):
            assert (swept(workers) == one).all()
        train = mo.Train([TUBE, TUBE], recycle=0.3)
        alone = [mo.sweep(train, {"recycle": [0.1, 0.2, 0.5]}, METRICS, workers=w) for w in (None, 2, threads)]
    for metric in METRICS:
        assert (alone[1].values[metric] == alone[0].values[metric]).all()
        assert (alone[2].values[metric] == alone[0].values[metric]).all()


def test_a_cluster_that_loses_a_worker_gives_the_same_numbers() -> None:
    distributed = pytest.importorskip("distributed")
    one = swept(1)
    with (
        distributed.LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None) as cluster,
        distributed.Client(cluster) as client,
    ):
        assert (swept(client) == one).all()
        lost = next(iter(client.run(os.getpid).values()))

        def slow(item: int) -> int:
            time.sleep(0.05)
            return item * item

        found = in_order(slow, range(60), client)
        first = next(found)
        os.kill(lost, signal.SIGKILL)
        assert [first, *found] == [n * n for n in range(60)]


def test_a_process_that_is_killed_is_replaced_and_one_that_always_ends_is_reported(tmp_path: Path) -> None:
    mark = tmp_path / "killed"

    def once(item: int) -> int:
        if item == 7 and not mark.exists():
            mark.touch()
            os.kill(os.getpid(), signal.SIGKILL)
        return item + 1

    assert [*in_order(once, range(40), 2)] == [*range(1, 41)]

    def always(item: int) -> int:
        os.kill(os.getpid(), signal.SIGKILL)
        return item

    with pytest.raises(mo.SolveError, match="workers were lost"):
        [*in_order(always, range(4), 2)]


def test_items_may_be_without_end_and_an_interruption_ends_the_processes() -> None:
    def endless() -> object:
        n = 0
        while True:
            yield n
            n += 1

    def where(item: int) -> tuple[int, int]:
        time.sleep(0.02)
        return item, os.getpid()

    found = in_order(where, endless(), 2)
    seen = [next(found) for _ in range(30)]
    assert [n for n, _ in seen] == [*range(30)]
    begun = time.perf_counter()
    found.close()
    assert time.perf_counter() - begun < 2
    time.sleep(0.5)
    for process in {p for _, p in seen}:
        assert not Path(f"/proc/{process}").exists() or "Z" in Path(f"/proc/{process}/status").read_text()


@pytest.mark.parametrize("workers", [0, -1, True, 1.5, "both"])
def test_another_kind_of_workers_is_refused(workers: object) -> None:
    with pytest.raises(mo.InputError, match=r'workers.*\n.*a number from 1, "all"'):
        mo.sweep(TUBE, {"T": ["330 K"]}, METRICS, workers=workers)


def test_commands_take_workers_and_a_cluster(tmp_path: Path, molino: Typed, monkeypatch: pytest.MonkeyPatch) -> None:
    """The same files; an address without a scheduler, and both options, are refused in words."""
    job = tmp_path / "job.toml"
    job.write_text(JOB)
    tables = []
    for folder, options in (("one", []), ("two", ["--workers", "2"])):
        assert molino("sweep", job, "--output", tmp_path / folder, "--format", "csv", *options).exit_code == 0
        tables.append((tmp_path / folder / "sweep-map.csv").read_text())
    assert tables[1] == tables[0]
    job.write_text(JOB + "parts = true\n")
    done = molino("sweep", job, "--output", tmp_path / "three")
    assert "sweep map: 40 cases in 1 part in" in done.output
    assert "continued after 40 cases" in molino("sweep", job, "--output", tmp_path / "three").output
    assert mo.files.read_sweep(tmp_path / "three" / "sweep-map").table()["conversion of A"][0] == pytest.approx(
        0.1813, abs=1e-4
    )
    monkeypatch.setitem(sys.modules, "distributed", None)
    assert "pip install 'molino[dask]'" in molino("sweep", job, "--cluster", "tcp://127.0.0.1:9").output
    both = molino("sweep", job, "--workers", "2", "--cluster", "tcp://127.0.0.1:9")
    assert both.exit_code == 2
    assert "the workers of a cluster are its own" in both.output
    assert "'some' is not a number of workers" in molino("sweep", job, "--workers", "some").output
