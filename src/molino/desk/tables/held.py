"""A folder that one process at a time may write to."""

from __future__ import annotations

import json
import os
import socket
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from molino.core.errors import InputError, WriteError
from molino.desk.tables.write import write_json

_LOCK, _HOLDER = ".lock", ".holder.json"


@contextmanager
def held(folder: Path) -> Iterator[None]:
    """Hold a folder; InputError with its holder, if another process holds it."""
    from filelock import FileLock, Timeout

    holder = folder / _HOLDER
    try:
        folder.mkdir(parents=True, exist_ok=True)
        lock = FileLock(folder / _LOCK, timeout=0)
        lock.acquire()
    except Timeout:
        found = json.loads(holder.read_text(encoding="utf-8")) if holder.exists() else {}
        who = f"process {found.get('process', '?')} on {found.get('computer', '?')} since {found.get('since', '?')}"
        raise InputError(f"{who} writes to it", str(folder), "wait for its end, or give another folder") from None
    except OSError as error:
        raise WriteError(f"cannot be written ({error.strerror})", str(folder), "give another folder") from error
    try:
        since = time.strftime("%Y-%m-%d %H:%M:%S")
        write_json(holder, {"process": os.getpid(), "computer": socket.gethostname(), "since": since})
        yield
    finally:
        holder.unlink(missing_ok=True)
        lock.release()
