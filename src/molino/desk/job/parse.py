"""A job file as its tables."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from pathlib import Path

from pydantic import ValidationError

from molino.core.annotations import PlainData
from molino.core.errors import Fault, InputError
from molino.desk.job import models
from molino.desk.job.context import JobContext
from molino.desk.job.schema_faults import fault_of, name_faults


def read_tables(path: Path, stored: Mapping[str, Path] | None = None) -> JobContext:
    """A job file, validated for the construction of core objects; `stored` are other places of its files."""
    if not path.is_file():
        nearby = ", ".join(sorted(p.name for p in path.parent.glob("*.toml")))
        raise InputError(
            "the job file does not exist",
            str(path),
            f"job files next to it: {nearby}" if nearby else "check its name and folder",
        )
    try:
        raw = tomllib.loads(path.read_text(encoding="utf-8-sig"))
    except RecursionError as error:
        raise InputError("its tables or lists are nested too deeply", path.name, "write it flatter") from error
    except ValueError as error:  # not TOML, not UTF-8, or a number of thousands of digits
        raise InputError(f"not readable as TOML: {error}", path.name, "write texts in quotes, tables in [ ]") from error
    except OSError as error:
        raise InputError(f"cannot be read ({error.strerror})", path.name, "check its permissions") from error
    parsed, found = _parse(raw)
    return JobContext(parsed, path, raw, found, stored)


def _parse(raw: PlainData) -> tuple[models.JobFile, list[Fault]]:
    """The validated file: the valid parts, and the faults of the rest."""
    found: list[Fault] = name_faults(raw)
    sound: PlainData = {
        table: dict(content) if isinstance(content, dict) else content for table, content in raw.items()
    }
    while True:
        try:
            return models.JobFile.model_validate(sound), found
        except ValidationError as error:
            found += [fault_of(fault, raw) for fault in error.errors()]
            for fault in error.errors():
                table, *rest = (str(step) for step in fault["loc"])
                content = sound.get(table)
                if fault["type"] == "missing" and not rest:
                    sound[table] = {}
                elif rest and isinstance(content, dict) and rest[0] in content:
                    content.pop(rest[0])
                else:
                    sound.pop(table, None)
