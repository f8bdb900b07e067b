"""Printing on the terminal: text without control characters, one screen of a command, tables.

Imports of the core are inside functions, so that `molino --help` is fast.
"""

from __future__ import annotations

import unicodedata
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import pandas as pd
    from rich.console import Console


def console(stderr: bool = False) -> Console:
    """A Rich console without highlighting of numbers and without markup in names like [acid], which replaces control
    characters of names and texts."""
    from rich.console import Console
    from rich.segment import Segment

    class Plain(Console):
        def render(self, renderable: Any, options: Any = None) -> Iterator[Segment]:
            for segment in super().render(renderable, options):
                text, style, control = segment
                yield segment if control or text.isprintable() else Segment(without_controls(text), style)

        def print(self, *objects: Any, **options: Any) -> None:
            lines = _PRINTED.get()
            if lines is None or self.stderr:
                return super().print(*objects, **options)
            with self.capture() as caught:
                super().print(*objects, **options)
            lines += caught.get().splitlines(keepends=True)

    return Plain(stderr=stderr, highlight=False, markup=False, soft_wrap=False)


_PRINTED: ContextVar[list[str] | None] = ContextVar("printed", default=None)
"""The lines that are collected, if so."""


_LINES, _TAIL = 36, 14
"""Lines of a screen that is not a terminal, and those at the end that are always shown."""


@contextmanager
def one_screen(command: str) -> Iterator[None]:
    """Limit the printed lines to one screen: the first and the last, and the command that prints all of them."""
    lines: list[str] = []
    token = _PRINTED.set(lines)
    try:
        yield
    finally:
        _PRINTED.reset(token)
        out = console()
        most = max(out.height - 4, _TAIL + 6) if out.is_terminal else _LINES
        left_out = len(lines) - most + 1 if len(lines) > most else 0
        end = len(lines) - _TAIL
        out.file.write("".join(lines[: end - left_out] if left_out else lines))
        if left_out:
            out.print(f"... {left_out} more lines with: {command}", style="dim")
            out.file.write("".join(lines[end:]))


def without_controls(text: str) -> str:
    """A text with control characters, except line breaks and tabs, as their pictures (from U+2400) or U+FFFD."""
    return "".join(
        c if c in "\n\t" or not _is_control(c) else chr(0x2400 + ord(c)) if c < " " else "\ufffd" for c in text
    )


def _is_control(character: str) -> bool:
    return unicodedata.category(character) == "Cc"


def show_table(frame: pd.DataFrame, title: str = "", digits: int = 4) -> None:
    """A data frame as a table; numbers to some digits; transposed if it is wider than the terminal."""
    import pandas as pd
    from rich import box
    from rich.table import Table

    from molino.core.units import number_text, pretty, pretty_heading

    def text(value: object) -> str:
        if isinstance(value, float):
            return "" if pd.isna(value) else number_text(value, digits)
        return str(value)

    out = console()
    cells = [[text(v) for v in row] for row in frame.itertuples(index=False)]
    if "unit" in frame.columns:
        place = list(frame.columns).index("unit")
        cells = [[pretty(c) if i == place else c for i, c in enumerate(row)] for row in cells]
    headings = [pretty_heading(str(c)) for c in frame.columns]
    widest = sum(max([_word(h), *(len(r[i]) for r in cells)]) + 3 for i, h in enumerate(headings))
    transposed = widest > out.width and len(cells) < len(headings)
    if transposed:
        cells = [[headings[i], *(row[i] for row in cells)] for i in range(len(headings))]
        headings, cells = cells[0], cells[1:]
    for n, columns in enumerate(_parts(headings, cells, out.width)):
        table = Table(
            title=(title or None) if n == 0 else None,
            box=box.SIMPLE_HEAD,
            title_justify="left",
            title_style="bold",
            pad_edge=False,
        )
        for i in columns:
            numeric = bool(cells) and all(_is_number(row[i]) for row in cells)
            label = i == 0 and max((len(row[0]) for row in cells), default=0) <= out.width // 3
            least = min(_word(headings[i], *(row[i] for row in cells)), out.width - 4)
            table.add_column(
                headings[i], justify="right" if numeric else "left", overflow="fold", no_wrap=label, min_width=least
            )
        for row in cells:
            if not transposed or any(row[i] for i in columns[1:]):
                table.add_row(*(row[i] for i in columns))
        out.print(table)


def _parts(headings: list[str], cells: list[list[str]], width: int) -> list[list[int]]:
    """The columns of a table in parts that fit a terminal without splitting words; each begins with the first
    column."""
    needed = [_word(h, *(row[i] for row in cells)) + 3 for i, h in enumerate(headings)]
    label = max((len(row[0]) for row in cells), default=0)
    needed[0] = max(needed[0], label + 3 if label <= width // 3 else 0)  # labels are kept in one line
    parts: list[list[int]] = [[0]]
    for i in range(1, len(headings)):
        if sum(needed[k] for k in parts[-1]) + needed[i] > width and len(parts[-1]) > 1:
            parts.append([0])
        parts[-1].append(i)
    return parts


def _word(*texts: str) -> int:
    """The length of the longest word."""
    return max((len(word) for text in texts for word in text.split()), default=1)


def _is_number(text: str) -> bool:
    try:
        float(text or "0")
    except ValueError:
        return False
    return True
