"""Work on Dask clusters on the loopback address: workers that come, go and run out of memory, a scheduler that ends."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from pathlib import Path

import pytest

import molino as mo
from conftest import Typed
from molino.core.parallel import in_order
from molino.desk.cli import common
from test_parallel import JOB, swept

distributed = pytest.importorskip("distributed")
Start = Callable[..., subprocess.Popen[bytes]]


@pytest.fixture
def start() -> Iterator[Start]:
    """Start `dask WORDS...`, and end it after the test."""
    with ExitStack() as ends:

        def started(*words: str) -> subprocess.Popen[bytes]:
            command = [sys.executable, "-m", "distributed.cli.dask_" + words[0], *words[1:], "--no-dashboard"]
            process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            ends.callback(process.wait)
            ends.callback(process.terminate)
            return process

        yield started


@pytest.fixture
def address() -> str:
    """One on the loopback address that is free."""
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return f"tcp://127.0.0.1:{found.getsockname()[1]}"


def slowly() -> Callable[[int], int]:
    """A function of a function, since the workers of the command line cannot import this file."""

    def slow(item: int) -> int:
        time.sleep(0.05)
        return item * item

    return slow


def test_workers_of_the_command_line_come_and_go(
    tmp_path: Path, molino: Typed, start: Start, address: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """`molino sweep --cluster` writes the same file, and work goes on while a worker is killed and another one begins."""
    job, tables = tmp_path / "job.toml", []
    job.write_text(JOB)
    with monkeypatch.context() as patch:
        patch.setattr(common, "_CONNECT_SECONDS", 1)
        refused = molino("sweep", job, "--cluster", address)
    assert refused.exit_code == 1
    assert "does not answer" in refused.output
    start("scheduler", "--host", address)
    worker = ("worker", address, "--nthreads", "1", "--no-nanny", "--local-directory", str(tmp_path))
    lost = start(*worker)
    for folder, options in (("here", []), ("there", ["--cluster", address])):
        assert molino("sweep", job, "--output", tmp_path / folder, "--format", "csv", *options).exit_code == 0
        tables.append((tmp_path / folder / "sweep-map.csv").read_text())
    assert tables[0] == tables[1]
    with distributed.Client(address) as client:
        found = in_order(slowly(), range(80), client)
        first = next(found)
        start(*worker)
        client.wait_for_workers(2)
        lost.kill()
        assert [first, *found] == [n * n for n in range(80)]


def test_work_continues_when_the_scheduler_is_restarted(tmp_path: Path, start: Start, address: str) -> None:
    worker = ("worker", address, "--nthreads", "1", "--no-nanny", "--local-directory", str(tmp_path))
    ended = start("scheduler", "--host", address)
    start(*worker)
    with distributed.Client(address) as client:
        found = in_order(slowly(), range(60), client)
        seen = [next(found) for _ in range(5)]
        ended.kill()
        ended.wait()
        start("scheduler", "--host", address)
        start(*worker)
        assert [*seen, *found] == [n * n for n in range(60)]


def test_workers_that_are_added_as_needed_and_one_out_of_memory(tmp_path: Path) -> None:
    mark = tmp_path / "once"

    def large(item: int) -> int:
        if item == 7 and not mark.exists():
            mark.touch()
            held = bytearray(10**9)  # beyond the limit: the worker is ended
            time.sleep(30)
            return len(held)
        return item + 1

    with (
        distributed.LocalCluster(
            n_workers=0, threads_per_worker=1, memory_limit="600MB", dashboard_address=None
        ) as cluster,
        distributed.Client(cluster) as client,
    ):
        cluster.adapt(minimum=0, maximum=2, interval="100ms")
        assert (swept(client) == swept(1)).all()
        assert [*in_order(large, range(20), client)] == [*range(1, 21)]

        def always(item: int) -> int:
            os.kill(os.getpid(), signal.SIGKILL)
            return item

        with pytest.raises(mo.SolveError, match="workers were lost"):
            [*in_order(always, range(2), client)]
