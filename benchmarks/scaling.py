"""What a long sweep costs: measured with one and two processes, and with a hundred workers that only wait.

    python benchmarks/scaling.py [CASES]

docs/scaling.md has the table. A worker that only waits takes the time that was measured for its block and returns a
real table, so that the calling process does all that it does for a hundred real workers: it sends, reads, checks and
writes.
"""

from __future__ import annotations

import pickle
import resource
import statistics
import sys
import tempfile
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from functools import partial
from pathlib import Path

import cloudpickle
from distributed import Client, LocalCluster

import molino as mo
from molino.core.design.sweep_question import TOGETHER
from molino.core.parallel import Workers
from molino.core.results import Table
from molino.desk.tables import sweep_folder

CASES = int(sys.argv[1]) if len(sys.argv) > 1 else 400_000
METRICS = ["conversion of A", "yield of B on A"]
WAITING, SECONDS = 100, 15
TASKS, TURNS = 2_000, 3


def tube() -> mo.PlugFlow:
    law = mo.Arrhenius(k="0.2 1/min", at="330 K", Ea="80 kJ/mol")
    chemistry = mo.Chemistry(
        [mo.Reaction("A -> B", k=law), mo.Reaction("B -> C", rate="k*[B]^1.5", k="0.01 L^0.5/mol^0.5/min")]
    )
    return mo.PlugFlow(chemistry, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L", T="330 K")


def conditions(count: int) -> dict[str, object]:
    return {"T": mo.span("320 K", "350 K", count // 1000), "flow": mo.span("0.5 L/min", "2 L/min", 1000)}


def seconds(count: int, workers: Workers) -> tuple[float, float, int]:
    """The time of a sweep, the processor time of this process in it, and the bytes in the folder."""
    with tempfile.TemporaryDirectory() as folder:
        begin, own = time.perf_counter(), time.process_time()
        mo.files.write_sweep(folder, tube(), conditions(count), METRICS, workers=workers)
        took = time.perf_counter() - begin, time.process_time() - own
        return *took, sum(path.stat().st_size for path in Path(folder).iterdir())


def waited(table: bytes, each: float, block: range) -> tuple[Table, float]:
    """A block of a worker that waits."""
    time.sleep(each * len(block))
    found: Table = pickle.loads(table)
    return found.iloc[: len(block)], 0.0


def seconds_of_waiting(count: int, each: float) -> float:
    """The time of a sweep with a hundred workers that wait."""
    source = sweep_folder.source_of(tube(), conditions(count), METRICS)
    table = pickle.dumps(source.compute(range(TOGETHER))[0])

    def blocks(start: int) -> Iterator[range]:
        return (range(n, min(n + TOGETHER, count)) for n in range(start, count, TOGETHER))

    source = replace(source, compute=partial(waited, table, each), blocks=blocks, count=count)
    with tempfile.TemporaryDirectory() as folder, ThreadPoolExecutor(WAITING) as workers:
        begin = time.perf_counter()
        sweep_folder.Writer(Path(folder), source, None).write(workers)
        return time.perf_counter() - begin


def main() -> None:
    seconds(CASES // 10, 1)  # compiles
    alone, pairs = [], []
    for _ in range(TURNS):
        alone.append(seconds(CASES, 1))
        seconds(CASES // 10, 2)  # begins the processes
        pairs.append(seconds(CASES, 2))
    each, each_of_two = (statistics.median(run[0] for run in runs) / CASES for runs in (alone, pairs))
    own = statistics.median(run[1] for run in pairs) / CASES
    work = each - own
    question = len(cloudpickle.dumps(sweep_folder.source_of(tube(), conditions(CASES), METRICS).compute))
    found = len(pickle.dumps(sweep_folder.source_of(tube(), conditions(CASES), METRICS).compute(range(TOGETHER))))
    print(
        f"one process: {1e6 * each:.1f} us a case, of which {1e6 * work:.1f} are the workers' and {1e6 * own:.2f} not"
    )
    print(f"two processes: {1e6 * each_of_two:.1f} us a case ({each / each_of_two:.2f} times as fast)")
    print(f"the question: {question / 1e3:.0f} kB, sent once a chunk; a case: {found / TOGETHER:.0f} bytes back,")
    print(f"  {alone[0][2] / CASES:.1f} bytes on disk; memory of this process {memory():.0f} MB")
    for cost in (work, 1e-3):
        rate = min(WAITING / cost, 1 / own)
        count = max(int(SECONDS * rate) // TOGETHER, 2 * WAITING) * TOGETHER
        took = seconds_of_waiting(count, cost)
        print(f"{WAITING} workers that wait {1e6 * cost:,.0f} us a case: {count / took:,.0f} cases a second", end="")
        print(f"; by the model {rate:,.0f}")
    with LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None) as cluster, Client(cluster) as client:
        begin = time.perf_counter()
        client.gather(client.map(abs, range(TASKS)))
        print(f"a scheduler of a cluster: {TASKS / (time.perf_counter() - begin):.0f} chunks a second")


def memory() -> float:
    """The largest memory of this process in MB."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


if __name__ == "__main__":
    main()
