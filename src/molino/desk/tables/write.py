"""Write results as CSV, XLSX, JSON, Parquet and PNG: each file whole or not at all, no two under one name."""

from __future__ import annotations

import json
import os
import re
import tempfile
import zipfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import pandas as pd

from molino.core.annotations import PlainData
from molino.core.errors import InputError, WriteError
from molino.core.results import plain
from molino.desk.tables.sheet_limits import CELL, CONTENTS, ILLEGAL, INPUTS

if TYPE_CHECKING:
    from matplotlib.animation import FuncAnimation
    from matplotlib.figure import Figure

    from molino.core.results import Result

USUAL = ("csv", "xlsx", "json", "png")
"""The default formats of results."""
_DRAWN = ("png", "svg", "pdf")
JSON_VERSION = 1
"""Version of the JSON output; it changes when programs that read it must change."""
_INCH = 0.0254
_DIGITS = "%.10g"
_LONGEST = 60
"""Largest number of characters of a name in a file name."""
_SHEET = 31
"""Largest number of characters of a sheet name."""
_FORMULA = re.compile(r"^[=+\-@\t\r](?![\d.]*(?:[eE][-+]?\d+)?$)")
"""Texts that a spreadsheet would read as a formula."""


@contextmanager
def whole(path: Path) -> Iterator[Path]:
    """A temporary file in the same folder that replaces `path` after it is written without error.

    Raises
    ------
    WriteError
        If the folder or the file cannot be written; a previous file is unchanged.
    """
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, name = tempfile.mkstemp(dir=path.parent, prefix=".molino-", suffix=path.suffix)
    except ValueError as error:
        raise WriteError(f"cannot be written ({error})", repr(str(path)), "give the name of a file") from error
    except OSError as error:
        raise WriteError(f"cannot be written ({error.strerror})", str(path), _advice(error, path)) from error
    os.close(handle)
    try:
        yield Path(name)
        os.chmod(name, 0o644)
        os.replace(name, path)
    except OSError as error:
        raise WriteError(f"cannot be written ({error.strerror or error})", str(path), _advice(error, path)) from error
    finally:
        Path(name).unlink(missing_ok=True)


def _advice(error: OSError, path: Path) -> str:
    if isinstance(error, IsADirectoryError) or path.is_dir():
        return "a folder has this name: rename it"
    if error.errno == 28:
        return "the disk is full: free some space and run it again"
    return "choose a folder that can be written"


class ResultsFolder:
    """The folder of results of a command.

    Different names give different file names; the previous state of each file is recorded, so that a command can report
    changes.

    Attributes
    ----------
    path : Path
        `width`, `height` (in m) and `dpi` are those of its figures; without a height their proportions are kept.
    states : dict of file name to str
        'new', 'changed' or 'unchanged', in the order of writing.
    """

    def __init__(
        self,
        path: Path,
        *,
        width: float | None = None,
        height: float | None = None,
        dpi: int = 200,
        formats: Sequence[str] = USUAL,
        inputs: Mapping[str, Path] | None = None,
        title: str = "",
    ) -> None:
        self.path, self.formats, self.inputs, self.title = path, tuple(formats), dict(inputs or {}), title
        self._sides, self._dpi = (width, height), dpi
        self.states: dict[str, str] = {}
        self._slugs: dict[str, str] = {}
        self._owners: dict[str, tuple[str, ...]] = {}
        self.results: dict[str, Result] = {}

    def slug(self, name: str) -> str:
        """A name as part of a file name, different for different names."""
        if name not in self._slugs:
            taken = {other.casefold() for other in self._slugs.values()}
            self._slugs[name] = _unused(slug(name), taken)
        return self._slugs[name]

    def file(self, suffix: str, command: str, name: str | None = None, *more: str) -> Path:
        """The path of a file: 'command-name-more.suffix'."""
        parts = (command, *([] if name is None else [self.slug(name)]), *more)
        taken = {stem for stem, owner in self._owners.items() if owner != (*parts, suffix)}
        stem = _unused("-".join(parts), {s.removesuffix(suffix) for s in taken if s.endswith(suffix)})
        self._owners[f"{stem}{suffix}".casefold()] = (*parts, suffix)
        return self.path / f"{stem}{suffix}"

    @contextmanager
    def writing(self, path: Path) -> Iterator[Path]:
        """A temporary file for a file of this folder, with its state recorded."""
        before = _content(path)
        with whole(path) as temporary:
            yield temporary
        after = _content(path)
        self.states[path.name] = "new" if before is None else "unchanged" if before == after else "changed"

    def result(self, result: Result, *parts: str) -> None:
        """Keep the facts of a result, for the first sheet of the tables written after it."""
        self.results["-".join(parts)] = result

    def json(self, content: object, *parts: str) -> None:
        """Write plain data as JSON, with the version of its shape (docs/results.schema.json)."""
        if "json" in self.formats:
            whole = {"format": JSON_VERSION, **content} if isinstance(content, Mapping) else content
            self.text(to_json(whole) + "\n", ".json", *parts)

    def text(self, content: str, suffix: str, *parts: str) -> None:
        """Write a text."""
        with self.writing(self.file(suffix, *parts)) as temporary:
            temporary.write_text(content, encoding="utf-8")

    def csv(self, table: pd.DataFrame, *parts: str) -> None:
        """Write one table as CSV, and as Parquet if requested."""
        if "csv" in self.formats:
            with self.writing(self.file(".csv", *parts)) as temporary:
                _as_text(table).to_csv(temporary, index=False, float_format=_DIGITS, lineterminator="\n")
        if "parquet" in self.formats:
            self.parquet(table, *parts)

    def parquet(self, table: pd.DataFrame, *parts: str) -> None:
        """Write one table as Parquet: each column with its name and unit in the metadata of its field."""
        with self.writing(self.file(".parquet", *parts)) as temporary:
            write_parquet(table, temporary, self.title)

    def figure(self, figure: Figure, *parts: str) -> None:
        """Save a figure, in the size and resolution of this folder."""
        import matplotlib as mpl

        own = figure.get_size_inches()
        width, height = (None if side is None else side / _INCH for side in self._sides)
        scale = (width or own[0]) / own[0]
        figure.set_size_inches(own[0] * scale, own[1] * scale if height is None else height)
        for kind in (kind for kind in _DRAWN if kind in self.formats):
            made: PlainData = {"png": {}, "svg": {"Date": None}, "pdf": {"CreationDate": None}}[kind]
            with self.writing(self.file(f".{kind}", *parts)) as temporary, mpl.rc_context({"svg.hashsalt": "molino"}):
                figure.savefig(temporary, format=kind, dpi=self._dpi, metadata=made)

    def animation(self, draw: Callable[[], FuncAnimation], *parts: str) -> None:
        """Save an animation as GIF, if figures are written."""
        if not set(_DRAWN) & set(self.formats):
            return
        with self.writing(self.file(".gif", *parts)) as temporary:
            draw().save(temporary.with_suffix(".gif"), writer="pillow")
            temporary.with_suffix(".gif").replace(temporary)

    def tables(self, command: str, tables: Mapping[str, pd.DataFrame]) -> None:
        """Write each table as `command-name.csv`, and all of them as sheets of `command.xlsx`."""
        for name, table in tables.items():
            self.csv(table, command, name)
        self.sheets(tables, command)

    def sheets(self, tables: Mapping[str, pd.DataFrame], *parts: str) -> None:
        """Write tables as the sheets of one XLSX file, with facts and inputs on separate sheets."""
        if "xlsx" not in self.formats:
            return
        from molino.desk.tables.workbook import write_workbook  # openpyxl loads 170 modules

        named, taken = {}, {name.casefold() for name in (CONTENTS, INPUTS)}
        for name, table in tables.items():
            sheet = _unused(_sheet_name(name), taken, _SHEET)
            taken.add(sheet.casefold())
            named[sheet] = _as_text(table)
        stated = [(one.headline, one.facts()) for one in self.results.values()]
        with self.writing(self.file(".xlsx", *parts)) as temporary:
            write_workbook(temporary, self.title or " ".join(parts), named, stated, self.inputs)


def _content(path: Path) -> object:
    """The content of a file, without its time; None if it does not exist."""
    try:
        if path.suffix != ".xlsx":
            return path.read_bytes()
        with zipfile.ZipFile(path) as book:
            return {name: book.read(name) for name in book.namelist() if name != "docProps/core.xml"}
    except (OSError, zipfile.BadZipFile):
        return None


def _as_text(table: pd.DataFrame) -> pd.DataFrame:
    """A table whose texts are not read as formulas, and are valid in a spreadsheet."""
    found = table.rename(columns={c: _safe(c) for c in table.columns})
    for place, kind in enumerate(found.dtypes):
        if not pd.api.types.is_numeric_dtype(kind):
            found.isetitem(place, [_safe(cell) for cell in found.iloc[:, place]])
    return found


def _safe(cell: object) -> object:
    if not isinstance(cell, str):
        return cell
    text = ILLEGAL.sub(" ", cell)[:CELL]
    return f"'{text}" if _FORMULA.match(text) else text


def _sheet_name(name: str) -> str:
    plain_name = re.sub(r"[\[\]:*?/\\\x00-\x1f]", " ", name).strip(" '")[:_SHEET].strip()
    return "History of results" if plain_name.casefold() == "history" else plain_name or "table"


def _unused(name: str, taken: set[str], longest: int | None = None) -> str:
    """A name, numbered if it is used already; without regard to capitals."""
    found, count = name, 2
    while found.casefold() in taken:
        ending = f"-{count}"
        found = (name if longest is None else name[: longest - len(ending)]) + ending
        count += 1
    return found


def write_parquet(table: pd.DataFrame, path: Path, title: str = "") -> None:
    """Write a table as Parquet; the metadata of the field of a column 'flow [m3/h]' have the name and the unit."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    found = pa.Table.from_pandas(table, preserve_index=False)
    for n, field in enumerate(found.schema):
        name, bracket, unit = field.name.removesuffix("]").partition(" [")
        kept = {"name": name, "unit": unit if bracket else ""}
        found = found.set_column(n, field.with_metadata(kept), found.column(n))
    about = {"title": title, "written by": "Molino"}
    pq.write_table(found.replace_schema_metadata({**(found.schema.metadata or {}), **about}), path)


def slug(name: str) -> str:
    """A name as part of a file name."""
    return re.sub(r"[^\w.-]+", "-", name)[:_LONGEST].strip("-.") or "table"


def to_json(content: object) -> str:
    """Plain data as JSON text; numbers that are not finite become null."""
    return json.dumps(plain(content), indent=2, ensure_ascii=False)


def write_json(path: Path, content: object) -> Path:
    """Write plain data as JSON."""
    with whole(path) as temporary:
        temporary.write_text(to_json(content) + "\n", encoding="utf-8")
    return path


def check_parquet() -> None:
    """Raise InputError if pyarrow is not installed."""
    import importlib.util

    if importlib.util.find_spec("pyarrow") is None:
        message = "Parquet needs pyarrow, which is not installed"
        raise InputError(message, "", "pip install 'molino[parquet]', or leave it out")
