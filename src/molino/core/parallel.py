"""Independent pieces of work in this process, in several, or on a cluster; the results in order.

Numbers depend neither on the workers nor on the chunks: each item is computed by itself, and all of them by the engine
that the calling process would use.
"""

from __future__ import annotations

import os
import signal
import sys
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import FIRST_COMPLETED, BrokenExecutor, CancelledError, Executor, Future, wait
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from functools import cache, lru_cache, partial
from itertools import islice
from time import perf_counter, sleep
from typing import Any, Generic, Protocol, TypeAlias, TypeVar, runtime_checkable

from molino.core.balances.machine.choice import pinned, prefers_machine_code
from molino.core.balances.machine.compiled_code import are_compiled
from molino.core.errors import InputError, SolveError
from molino.core.unfinished import resumed

Item = TypeVar("Item")
Found = TypeVar("Found")


@runtime_checkable
class Client(Protocol):
    """A client of a cluster, as that of `distributed`."""

    def get_executor(self) -> Executor: ...
    def nthreads(self) -> Mapping[str, int]: ...
    def scheduler_info(self) -> Mapping[str, Any]: ...


Workers: TypeAlias = int | str | Executor | Client | None
"""A number of processes, "all", an Executor of `concurrent.futures`, or a Client of `distributed`; None is this process
and, for work that takes long, all cores."""

_CHUNK_SECONDS = 0.3
"""Time that a chunk should take: long compared with its way to a worker, short compared with a cancellation."""
_LONGEST_SECONDS = 1.2
"""Time after which the rest of a chunk is left to others: its items may take longer than those before it."""
_ALONE_SECONDS, _LONG_SECONDS = 2.0, 20.0
"""Time after which work may go over to all cores, and time that the rest must take for it, as processes begin in
seconds."""
_GROWTH = 4
"""Largest ratio of the sizes of successive chunks."""
_AHEAD, _MOST_SENT = 3, 40
"""Number of chunks for each worker that are not yet computed, and of those that have been sent, since results wait for
the ones before them."""
_MOST_LOSSES = 3
"""Number of times in succession that workers may be lost."""
_LOOK_SECONDS = 10.0
"""Time without a result after which it is examined whether the cluster still knows the work."""
_RETURN_SECONDS = 60.0
"""Time in which a cluster that is lost must answer again."""
_IDLE_SECONDS = 20
"""Time after which processes without work end."""


_INSIDE: ContextVar[bool] = ContextVar("inside other work", default=False)
"""Whether an item is being computed: work in it stays where it is."""
_USED: ContextVar[Workers] = ContextVar("workers", default=None)
"""Those of calls that name none."""


@contextmanager
def using(workers: Workers) -> Iterator[None]:
    """Let all calls of `in_order` use these workers, unless they name some; None changes nothing."""
    check_workers(workers)
    token = _USED.set(_USED.get() if workers is None else workers)
    try:
        yield
    finally:
        _USED.reset(token)


@dataclass(frozen=True)
class Here(Generic[Found]):
    """A part of a piece of work that stays in this process, as a function that reports progress; None elsewhere."""

    own: Found | None

    def __reduce__(self) -> tuple[Any, ...]:
        return Here, (None,)


def check_workers(workers: Workers) -> None:
    """Raise InputError unless workers are one of the kinds of `Workers`."""
    if workers is None or isinstance(workers, Executor | Client):
        return
    if workers != "all" and (isinstance(workers, bool) or not isinstance(workers, int) or workers < 1):
        advice = 'give a number from 1, "all", an Executor of concurrent.futures, or a Client of distributed'
        raise InputError(f"{workers!r} is not a number of workers", "workers", advice)


def in_order(
    work: Callable[[Item], Found], items: Iterable[Item], workers: Workers = None, *, evaluations: int = 0
) -> Iterator[Found]:
    """The result of each item, in order, as soon as it is known.

    Parameters
    ----------
    work : callable
        Of one item. A fault of a single case is a result; an exception ends everything.
    items : iterable
        Taken one by one, so that there may be any number of them.
    workers : int, "all", Executor or Client, optional
        By default those of `using`.
    evaluations : int
        Of right-hand sides that the work takes, about; they decide on machine code.

    Raises
    ------
    InputError
        For workers of another kind.
    SolveError
        If the workers are lost.
    """
    check_workers(workers)
    if workers is None and not _INSIDE.get():
        workers = _USED.get()
    return resumed(partial(_computed_by, workers), prefers_machine_code(evaluations), work, items)


def in_turn(work: Callable[[Item], Found], items: Iterable[Item]) -> Iterator[Found]:
    """The result of each item, in this process, one after the other; their own calls may use workers."""
    return resumed(lambda engine, placed, source, count: map(placed, source), False, work, items)


def _computed_by(
    workers: Workers, in_machine_code: bool, work: Callable[[Item], Found], source: Iterator[Item], count: int
) -> Iterator[Found]:
    """The results of so many items (zero if that is not known)."""
    if workers is None and not _INSIDE.get():
        return _as_needed(work, source, count, in_machine_code)
    if workers is None or workers == 1:
        return map(partial(_alone, work, in_machine_code), source)
    return _Crew(workers, work, in_machine_code).results(source, count)


def _as_needed(
    work: Callable[[Item], Found], source: Iterator[Item], count: int, in_machine_code: bool
) -> Iterator[Found]:
    """In this process, and on all cores once it is known that the rest takes long."""
    begin = perf_counter()
    for done, item in enumerate(source, start=1):
        yield _one(work, in_machine_code, item)
        taken = perf_counter() - begin
        if taken > _ALONE_SECONDS and taken / done * (count - done) > _LONG_SECONDS and (cores_here := cores()) > 1:
            yield from _Crew(cores_here, work, in_machine_code).results(source, count - done)


def _one(work: Callable[[Item], Found], in_machine_code: bool, item: Item) -> Found:
    with pinned(in_machine_code):
        return work(item)


def _alone(work: Callable[[Item], Found], in_machine_code: bool, item: Item) -> Found:
    """An item whose own calls stay where it is."""
    token = _INSIDE.set(True)
    try:
        return _one(work, in_machine_code, item)
    finally:
        _INSIDE.reset(token)


class _Crew(Generic[Item, Found]):
    """Workers that know a piece of work."""

    def __init__(self, workers: Workers, work: Callable[[Item], Found], in_machine_code: bool) -> None:
        import cloudpickle

        self.workers, self.count, self._own = workers, count_of(workers), partial(_alone, work, in_machine_code)
        self.owned = not isinstance(workers, Executor | Client)
        self.executor, self.scheduler = self._found(), _scheduler_of(workers)
        self.work, self.in_machine_code = cloudpickle.dumps(work), in_machine_code

    def results(self, source: Iterator[Item], left: int) -> Iterator[Found]:
        """The results in order; chunks grow until one takes `_CHUNK_SECONDS`, and shrink with the known rest."""
        sent: deque[tuple[list[Item], Future[tuple[list[Found], float]]]] = deque()
        size, losses = 1, 0
        if self.owned and self.in_machine_code and not are_compiled():  # once, and not in each process
            yield from (self._own(item) for item in islice(source, 1))
        try:
            while True:
                running = sum(not future.done() for _, future in sent)
                while running < _AHEAD * self.count and len(sent) < _MOST_SENT * self.count:
                    if not (chunk := list(islice(source, size))):
                        break
                    running += 1
                    sent.append((chunk, self._send(chunk)))
                    left = max(left - len(chunk), 0)
                    size = min(size, left // (_AHEAD * self.count) or 1) if left else size
                if not sent:
                    return
                chunk, future = sent[0]
                try:
                    if not self._is_done(future, [other for _, other in sent if not other.done()]):
                        continue  # a later one is known: the workers need more
                    found, seconds = future.result()
                except _losses() as error:
                    losses += 1
                    if losses == _MOST_LOSSES or not self._is_renewed():
                        raise _lost(error) from error
                    sent = deque((own, future if _is_known(future) else self._send(own)) for own, future in sent)
                    continue
                sent.popleft()
                losses = 0
                if rest := chunk[len(found) :]:
                    sent.appendleft((rest, self._send(rest)))
                per_item = max(seconds / len(found), 1e-9)
                size = max(1, min(_GROWTH * size, int(_CHUNK_SECONDS / per_item)))
                yield from found
        finally:
            if [1 for _, future in sent if not (future.cancel() or future.done())] and self.owned:
                self.executor.shutdown(wait=False, kill_workers=True)  # type: ignore[call-arg]

    def _found(self) -> Executor:
        if isinstance(self.workers, Client):
            return self.workers.get_executor()
        return self.workers if isinstance(self.workers, Executor) else _processes(self.count)

    def _is_done(self, future: Future[Any], unknown: list[Future[Any]]) -> bool:
        """Whether a result is known, after waiting for any; CancelledError if the cluster has forgotten them."""
        if unknown and not future.done():
            is_late = not wait(unknown, _LOOK_SECONDS, return_when=FIRST_COMPLETED).done
            if is_late and isinstance(self.workers, Client) and _scheduler_of(self.workers) != self.scheduler:
                raise CancelledError("the scheduler was lost")
        return future.done()

    def _is_renewed(self) -> bool:
        """Whether lost workers are replaced: by new processes, or by a cluster that answers again."""
        if isinstance(self.workers, Executor):
            return False
        end = perf_counter() + _RETURN_SECONDS
        while isinstance(self.workers, Client) and _scheduler_of(self.workers) is None:
            if perf_counter() > end:
                return False
            sleep(0.5)
        self.executor, self.scheduler = self._found(), _scheduler_of(self.workers)
        return True

    def _send(self, chunk: list[Item]) -> Future[tuple[list[Found], float]]:
        try:
            return self.executor.submit(_chunk, self.work, chunk, self.in_machine_code, os.getpid())
        except _losses() as error:  # the workers are known to be lost before the result of the first one is awaited
            failed: Future[tuple[list[Found], float]] = Future()
            failed.set_exception(error)
            return failed


def _scheduler_of(workers: Workers) -> object:
    """The identity of the scheduler of a cluster; None if it cannot be reached."""
    if not isinstance(workers, Client):
        return None
    try:
        return workers.scheduler_info().get("id")
    except (OSError, RuntimeError, ValueError, CancelledError):  # as those of a connection that is closed
        return None


def count_of(workers: Workers) -> int:
    """The number of workers; without any, of those in use."""
    workers = _USED.get() if workers is None else workers
    if isinstance(workers, Executor):
        return getattr(workers, "_max_workers", None) or os.cpu_count() or 1
    if isinstance(workers, Client):
        return max(sum(workers.nthreads().values()), 1)
    return workers if isinstance(workers, int) else cores()


@cache
def cores() -> int:
    """The cores that this process may use."""
    import loky

    return int(loky.cpu_count())


def _processes(count: int) -> Executor:
    """The processes of this one; they end when they are idle, or with it."""
    from loky import get_reusable_executor

    return get_reusable_executor(  # type: ignore[no-any-return]
        count, timeout=_IDLE_SECONDS, initializer=_begin, initargs=(os.getpid(),)
    )


def _begin(parent: int) -> None:
    """Begin a process: an interruption concerns its parent, and it ends with it."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)

    def end_with_parent() -> None:
        while os.getppid() == parent:
            sleep(1.0)
        os.kill(os.getpid(), signal.SIGTERM)

    threading.Thread(target=end_with_parent, daemon=True).start()


@lru_cache(maxsize=4)
def _read(work: bytes) -> Callable[[Any], Any]:
    import cloudpickle

    return cloudpickle.loads(work)  # type: ignore[no-any-return]


@cache
def _limit_threads() -> None:
    """One thread of linear algebra in each worker (once in a process)."""
    from threadpoolctl import threadpool_limits

    threadpool_limits(1)


def _chunk(work: bytes, chunk: list[Any], in_machine_code: bool, caller: int) -> tuple[list[Any], float]:
    """The results of a chunk in a worker, of its first items only if they take long, and the time that they took."""
    if os.getpid() != caller:
        _limit_threads()
    function, found, begin, taken = _read(work), list[Any](), perf_counter(), 0.0
    for item in chunk:
        found.append(_alone(function, in_machine_code, item))
        if (taken := perf_counter() - begin) > _LONGEST_SECONDS:
            break
    return found, taken


def _losses() -> tuple[type[BaseException], ...]:
    """The errors that workers leave behind when they end."""
    cluster = sys.modules.get("distributed")
    own: tuple[type[BaseException], ...] = (BrokenExecutor, CancelledError)
    return own if cluster is None else (*own, cluster.KilledWorker)


def _is_known(future: Future[Any]) -> bool:
    return future.done() and not future.cancelled() and future.exception() is None


def _lost(error: BaseException) -> SolveError:
    advice = "look at their memory; with fewer workers each has more of it"
    return SolveError(f"the workers were lost ({type(error).__name__}: {error})", "workers", advice)
