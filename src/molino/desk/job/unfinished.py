"""Results of long work, kept in the cache until it has ended, so that the same work continues after any end.

The results are pickled: they stay in the user's own cache, so that no job or folder from elsewhere can bring any.
"""

from __future__ import annotations

import hashlib
import os
import shutil
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

from molino.core import disk_cache
from molino.core.annotations import ByName
from molino.core.errors import WriteError
from molino.core.unfinished import keeping
from molino.desk.job.load import Job
from molino.desk.tables.held import held

if TYPE_CHECKING:
    from sqlite3 import Connection

_SECONDS = 1.0
"""Time after which results are written: no more is lost, and a command that takes less writes nothing."""
_MOST_FOLDERS = 20
"""Number of unfinished commands that are kept."""
_FILE = "done.sqlite"
_TABLES = """
create table if not exists question (name text primary key, text text);
create table if not exists engine (place text primary key, machine_code integer);
create table if not exists done (place text, number integer, result blob, primary key (place, number));
"""


class UnfinishedWork:
    """The results of the calls of a question in a folder: a `Keeper` (see `core.unfinished`).

    Attributes
    ----------
    remark : str
        That it continues, or begins anew and why.
    """

    def __init__(self, folder: Path, question: Callable[[], Mapping[str, str]]) -> None:
        self.folder, self.question, self.remark = folder, question, ""
        self._database: Connection | None = None
        self._held = ExitStack()
        self._engines: dict[str, bool] = {}
        self._waiting: list[tuple[str, int, object]] = []
        self._written, self._is_off = time.monotonic(), False
        if (folder / _FILE).exists():
            self._begin()

    def _begin(self) -> None:
        """Hold the folder, and open the results of the same question."""
        import sqlite3

        self._held.enter_context(held(self.folder))
        try:
            self._open()
        except sqlite3.DatabaseError:  # damaged
            (self.folder / _FILE).unlink()
            self._open()

    def _open(self) -> None:
        import sqlite3

        question = self.question()
        self._database = database = sqlite3.connect(self.folder / _FILE)
        database.executescript(_TABLES)
        before = dict(database.execute("select name, text from question"))
        changed = [name for name in {**before, **question} if before.get(name) != question.get(name)]
        if before and changed:
            self.remark = f"begun anew, since these changed: {', '.join(changed)}"
            database.executescript("delete from question; delete from engine; delete from done;")
        ((count,),) = database.execute("select count(*) from done")
        self.remark = f"continues with {count:,} result{'s' * (count != 1)} of the run before" if count else self.remark
        database.executemany("insert or replace into question values (?, ?)", question.items())
        database.commit()

    def engine(self, place: str, in_machine_code: bool) -> bool:
        """See `Keeper`."""
        if self._database is not None:
            for (found,) in self._database.execute("select machine_code from engine where place = ?", [place]):
                return bool(found)
        self._engines[place] = in_machine_code
        return in_machine_code

    def known(self, place: str) -> Iterator[Any]:
        """See `Keeper`."""
        import cloudpickle

        if self._database is None:
            return
        rows = self._database.execute("select number, result from done where place = ? order by number", [place])
        for expected, (number, result) in enumerate(rows.fetchall()):
            if number != expected:
                return
            try:
                found = cloudpickle.loads(result)
            except Exception:  # as of a package that is gone: it is computed again
                return
            yield found

    def keep(self, place: str, number: int, found: object) -> None:
        """See `Keeper`; what an interruption has ended is not kept."""
        if self._is_off or getattr(found, "is_stopped", False):
            return
        self._waiting.append((place, number, found))
        if time.monotonic() - self._written > _SECONDS:
            self._write()

    def _write(self) -> None:
        import sqlite3

        try:
            if self._database is None:
                self._begin()
        except (WriteError, sqlite3.Error):  # the cache cannot be written: the command goes on
            self._is_off = True
        if self._is_off or self._database is None:
            return
        rows = [(place, number, own) for place, number, found in self._waiting if (own := _pickled(found)) is not None]
        try:
            with self._database as database:  # one transaction
                database.executemany("insert or replace into engine values (?, ?)", self._engines.items())
                database.executemany("insert or replace into done values (?, ?, ?)", rows)
                inside = [(f"{place}/{number}/%",) for place, number, _ in rows]
                database.executemany("delete from done where place like ?", inside)  # they are in its result
        except sqlite3.Error:  # as on a full disk: the command goes on
            self._is_off = True
        self._engines, self._waiting = {}, []
        self._written = time.monotonic()

    def end(self, is_finished: bool) -> None:
        """Release the folder, after removing it if nothing is left to do."""
        if self._waiting and not is_finished:
            self._write()
        if self._database is not None:
            self._database.close()
        self._held.close()
        if is_finished:
            shutil.rmtree(self.folder, ignore_errors=True)


@contextmanager
def resumable(name: str, question: Mapping[str, str], tell: Callable[[str], None]) -> Iterator[None]:
    """Keep the results of calls of `in_order` until the block has ended, and begin with those that are kept.

    Parameters
    ----------
    name : str
        Of the work: the same for the work that may continue it.
    question : mapping of str to str
        All that the results depend on, besides Molino and its packages.
    tell : callable
        Is given the remark that it continues, or begins anew and why.

    Raises
    ------
    InputError
        If another process computes the same.
    """
    cache = disk_cache.folder()
    if cache is None:
        yield
        return
    place, source = cache / "unfinished", disk_cache.state_of_source()  # at the begin, as the question
    work = UnfinishedWork(place / _hash(name.encode()), lambda: {**question, **_surroundings(source)})
    if work.remark:
        tell(work.remark)
    is_finished = False
    try:
        with keeping(work):
            yield
        is_finished = True
    finally:
        work.end(is_finished)
        with suppress(OSError):  # another command may remove the same
            for old in sorted(place.glob("*"), key=os.path.getmtime)[:-_MOST_FOLDERS]:
                shutil.rmtree(old, ignore_errors=True)


def question_of(job: Job, options: ByName) -> dict[str, str]:
    """The job with its data, and the options of a command."""
    files = {name: _hash(path.read_bytes()) for name, path in {job.path.name: job.path, **job.files}.items()}
    return {**files, **{f"option {name}": repr(value) for name, value in options.items()}}


def _surroundings(source: str) -> dict[str, str]:
    """The versions, and the engines of integration."""
    from importlib.metadata import version
    from importlib.util import find_spec

    packages = {f"version of {name}": version(name) for name in ("numpy", "scipy", "sympy")}
    code = f"{find_spec('numba') is not None} {os.environ.get('MOLINO_MACHINE_CODE', '')}"
    return {"version of Molino": source, **packages, "machine code": code}


def _pickled(found: object) -> bytes | None:
    """A result as bytes; None if it cannot be pickled."""
    import cloudpickle

    with suppress(TypeError, AttributeError, ValueError):
        return bytes(cloudpickle.dumps(found))
    return None


def _hash(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()[:20]
