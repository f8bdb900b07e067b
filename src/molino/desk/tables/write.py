"""Write results as CSV, XLSX and JSON, each file whole or not at all."""

from __future__ import annotations

import json
import os
import re
import tempfile
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pandas as pd

from molino.core.errors import InputError
from molino.core.results import plain

_DIGITS = "%.10g"


@contextmanager
def whole(path: Path) -> Iterator[Path]:
    """A temporary name in the same folder that takes the place of `path` once it is written without error."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.stem}-", suffix=path.suffix)
    except OSError as error:
        raise InputError(
            f"cannot be written ({error.strerror})", str(path), "choose a folder that can be written"
        ) from error
    os.close(handle)
    try:
        yield Path(name)
        os.chmod(name, 0o644)
        os.replace(name, path)
    finally:
        Path(name).unlink(missing_ok=True)


def write_tables(folder: Path, stem: str, tables: Mapping[str, pd.DataFrame]) -> list[Path]:
    """Write each table as `stem-name.csv`, and all of them as sheets of `stem.xlsx`; gives the files."""
    files = []
    for name, table in tables.items():
        files.append(write_csv(folder / f"{stem}-{slug(name)}.csv", table))
    path = folder / f"{stem}.xlsx"
    with whole(path) as temporary:
        with pd.ExcelWriter(temporary, engine="openpyxl") as book:
            for name, table in tables.items():
                sheet = re.sub(r"[\[\]:*?/\\]", " ", name)[:31]
                table.to_excel(book, sheet_name=sheet, index=False, freeze_panes=(1, 0))
                for cells in book.sheets[sheet].columns:
                    heading = str(cells[0].value or "")
                    book.sheets[sheet].column_dimensions[cells[0].column_letter].width = max(10, len(heading) + 2)
    return [*files, path]


def write_csv(path: Path, table: pd.DataFrame) -> Path:
    """Write one table as CSV."""
    with whole(path) as temporary:
        table.to_csv(temporary, index=False, float_format=_DIGITS, lineterminator="\n")
    return path


def slug(name: str) -> str:
    """A name as part of a file name."""
    return re.sub(r"[^\w.-]+", "-", name).strip("-") or "table"


def write_json(path: Path, content: Any) -> Path:
    """Write plain data as JSON."""
    with whole(path) as temporary:
        temporary.write_text(to_json(content) + "\n", encoding="utf-8")
    return path


def to_json(content: Any) -> str:
    """Plain data as JSON text; numbers that are not finite become null."""
    return json.dumps(plain(content), indent=2, ensure_ascii=False)
