"""A cache on disk for data that are derived from texts: JSON by content, without code and without results.

The folder is the user's cache folder, or the one that the environment variable MOLINO_CACHE names; "off" turns it off.
A folder that cannot be written, a damaged file, or one by other code costs only the time to derive again.
"""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import tempfile
from collections.abc import Callable
from functools import cache
from importlib.util import find_spec
from pathlib import Path
from typing import TypeVar

_MOST_FILES = 512
"""Number of files above which the oldest quarter is removed."""
_MOST_FOLDERS = 4
"""Number of folders of machine code that are kept."""
Plain = TypeVar("Plain")


@cache
def folder() -> Path | None:
    """The folder; None where it is turned off or cannot be made."""
    asked = os.environ.get("MOLINO_CACHE", "")
    if asked == "off":
        return None
    from platformdirs import user_cache_path

    try:
        found = Path(asked) if asked else user_cache_path("molino")
        found.mkdir(parents=True, exist_ok=True)
    except (OSError, RuntimeError, ValueError):  # no home, a file in its place, not a valid path
        return None
    return found


@cache
def state_of_source() -> str:
    """The state of Molino's source: other code may derive something else."""
    states = []
    for place, folders, files in os.walk(Path(__file__).parents[1]):
        folders[:] = sorted(name for name in folders if name != "__pycache__")
        states += [state_of(os.path.join(place, name)) for name in sorted(files)]
    return hashlib.sha256("\n".join(states).encode()).hexdigest()


def state_of(path: str) -> str:
    """The name of a file, its size, and when it was changed."""
    found = os.stat(path)
    return f"{path} {found.st_size} {found.st_mtime_ns}"


def folder_of_code(name: str, source: Path) -> Path | None:
    """The folder for machine code that a compiler makes of the files in a folder, empty after they have changed.

    The latest few are kept, since several installations may share the cache.
    """
    place = folder()
    if place is None:
        return None
    states = "\n".join(state_of(str(path)) for path in sorted(source.glob("*.py")))
    found = place / f"{name}-{hashlib.sha256(states.encode()).hexdigest()[:16]}"
    try:
        found.mkdir(exist_ok=True)
        os.utime(found)
        for old in sorted(place.glob(f"{name}-*"), key=os.path.getmtime)[:-_MOST_FOLDERS]:
            shutil.rmtree(old, ignore_errors=True)
    except OSError:
        return None
    return found


def state_of_package(name: str) -> str:
    """The installed version of a package, without importing it."""
    found = find_spec(name)
    return state_of(found.origin) if found is not None and found.origin is not None else ""


def _path(key: str) -> Path | None:
    place = folder()
    return (
        None if place is None else place / f"{hashlib.sha256((state_of_source() + key).encode()).hexdigest()[:40]}.json"
    )


def kept(key: str) -> object:
    """The data stored under a key; None if there are none, or the file is damaged."""
    path = _path(key)
    if path is None:
        return None
    try:
        content = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return None
    is_whole = isinstance(content, dict) and content.get("key") == key and content.get("sum") == _sum(content.get("of"))
    return content["of"] if is_whole else None


def keep(key: str, content: object) -> None:
    """Store plain data under a key, if that is possible."""
    path = _path(key)
    if path is None:
        return
    try:
        handle, name = tempfile.mkstemp(dir=path.parent, prefix=".new-")
    except OSError:
        return
    try:
        with os.fdopen(handle, "w", encoding="utf-8") as file:
            json.dump({"key": key, "sum": _sum(content), "of": content}, file)
        os.replace(name, path)
        _trim(path.parent)
    except OSError:  # such as a full disk
        Path(name).unlink(missing_ok=True)


def _sum(content: object) -> str:
    return hashlib.sha256(json.dumps(content, sort_keys=True).encode()).hexdigest()


def _trim(place: Path) -> None:
    """Remove the oldest files, if there are too many."""
    files = [*place.glob("*.json")]
    if len(files) > _MOST_FILES:
        for path in sorted(files, key=lambda p: p.stat().st_mtime)[: _MOST_FILES // 4]:
            path.unlink(missing_ok=True)


def derived(key: str, derive: Callable[[], Plain]) -> Plain:
    """Plain data from disk, or derived and stored there."""
    found = kept(key)
    if found is None:
        found = derive()
        keep(key, found)
    return found  # type: ignore[return-value]
