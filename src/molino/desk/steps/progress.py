"""The progress of a command: a line on the terminal, and a record by which `molino show --follow` watches it."""

from __future__ import annotations

import hashlib
import json
import os
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from contextvars import ContextVar
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from rich.progress import Progress

_FIRST, _EVERY = 1.0, 0.5
"""Seconds to the first record, and between two of them."""


class Tell(Protocol):
    """Shows progress: a text, and how much is done of how much, if that is known."""

    def __call__(self, text: str, done: float = 0, of: float = 0) -> None: ...


@dataclass(frozen=True)
class Running:
    """The progress of a command: its name and process, when it began; the work, and how much of it is done."""

    command: str
    process: int
    since: float
    text: str = ""
    done: float = 0.0
    of: float = 0.0


_WATCHED: ContextVar[Callable[[str, float, float], None] | None] = ContextVar("record of progress", default=None)


def _path(results: Path) -> Path | None:
    """The record of the commands that write to a folder of results, in the user's cache."""
    from molino.core import disk_cache

    cache = disk_cache.folder()
    name = hashlib.sha256(str(results.resolve()).encode()).hexdigest()[:20]
    return None if cache is None else cache / "running" / f"{name}.json"


@contextmanager
def recorded(results: Path, command: str) -> Iterator[None]:
    """Record the progress of a command that takes longer than a second, until it ends; of the first one, if several
    write to a folder."""
    path = _path(results)
    own, written, ends = Running(command, os.getpid(), time.time()), time.monotonic() + _FIRST - _EVERY, ExitStack()
    is_held = False

    def record(text: str, done: float, of: float) -> None:
        nonlocal written, is_held
        if path is None or time.monotonic() - written < _EVERY:
            return
        written = time.monotonic()
        with suppress(OSError):  # it is only shown
            is_held = is_held or _is_held(path, ends)
            if is_held:
                temporary = path.with_suffix(f".{os.getpid()}")
                temporary.write_text(json.dumps(asdict(replace(own, text=text, done=done, of=of))))
                os.replace(temporary, path)

    token = _WATCHED.set(record)
    try:
        yield
    finally:
        _WATCHED.reset(token)
        ends.close()


def _is_held(path: Path, ends: ExitStack) -> bool:
    """Whether this process holds a record, until its end."""
    from filelock import FileLock, Timeout

    path.parent.mkdir(exist_ok=True)
    try:
        ends.enter_context(FileLock(path.with_suffix(".lock"), timeout=0))
    except Timeout:
        return False
    ends.callback(path.unlink, missing_ok=True)
    return True


def running(results: Path) -> Running | None:
    """The command that writes to a folder of results now, if any: it holds the lock of the record."""
    from filelock import FileLock, Timeout

    path = _path(results)
    if path is None or not path.exists():
        return None
    with suppress(OSError, ValueError, TypeError):
        found = Running(**json.loads(path.read_text()))
        try:
            with FileLock(path.with_suffix(".lock"), timeout=0):
                return None
        except Timeout:
            return found
    return None


def bar(stderr: bool = True) -> Progress:
    """A line of progress: the work, how much is done, and the time left."""
    from rich.progress import BarColumn, Progress, SpinnerColumn, Task, TextColumn, TimeRemainingColumn
    from rich.text import Text

    from molino.desk.steps.terminal import console

    class TimeLeft(TimeRemainingColumn):
        def render(self, task: Task) -> Text:
            return super().render(task).append(" left") if task.time_remaining else Text()

    columns = SpinnerColumn(), TextColumn("{task.description}", markup=False), BarColumn(20), TimeLeft(compact=True)
    return Progress(*columns, console=console(stderr=stderr), transient=True, speed_estimate_period=60)


@contextmanager
def show_progress(what: str, quiet: bool) -> Iterator[Tell]:
    """A line of progress on a terminal, and its record; yields the function that changes them."""
    from molino.desk.steps.terminal import console

    record = _WATCHED.get() or (lambda text, done, of: None)
    record(what, 0, 0)
    if quiet or not console(stderr=True).is_terminal:
        yield lambda text, done=0, of=0: record(f"{what}: {text}", done, of)
        return
    with bar() as progress:
        task = progress.add_task(f"{what} ...", total=None)

        def tell(text: str, done: float = 0, of: float = 0) -> None:
            progress.update(task, description=f"{what}: {text}", completed=done, total=of or None)
            record(f"{what}: {text}", done, of)

        yield tell
