"""Results that go into a report where they would go into a folder."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from molino.core.design.sweep_result import Sweep
from molino.core.results import plain
from molino.core.units import pretty
from molino.desk.report.document import Block, Explorer, Facts, Paragraph, Part, Picture, Table
from molino.desk.report.drawing import draw
from molino.desk.tables.write import ResultsFolder

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.animation import FuncAnimation
    from matplotlib.figure import Figure

    from molino.core.results import Result

_MOST_CASES = 5000
"""Up to how many cases of a sweep a page stores."""


class CollectedResults(ResultsFolder):
    """What the steps of a job write, kept as the blocks of a report; nothing goes to a file.

    Parameters
    ----------
    draws : bool
        Whether figures are kept; tables and plain data always are.

    Attributes
    ----------
    parts : dict of str to dict of str to Part
        By the step and by what they are of ('' for the step itself).
    contents : dict of str to plain data
        By the step.
    """

    def __init__(self, draws: bool = True) -> None:
        super().__init__(Path())
        self.draws = draws
        self.parts: dict[str, dict[str, Part]] = {}
        self.contents: dict[str, Any] = {}
        self._figures = 0

    def add(self, block: Block, *parts: str) -> None:
        """Keep a block; facts come first, then figures and controls, then tables."""
        name = parts[1] if len(parts) > 1 else ""
        self.parts.setdefault(parts[0], {}).setdefault(name, Part(name)).blocks.append(block)

    def json(self, content: Any, *parts: str) -> None:
        """Keep plain data."""
        self.contents["-".join(parts)] = plain(content)

    def text(self, content: str, suffix: str, *parts: str) -> None:
        """A text for another run: the job that is embedded gives it again."""

    def csv(self, table: pd.DataFrame, *parts: str) -> None:
        """Keep a table."""
        is_again = parts == ("species",) and "species" in self.parts
        if not is_again and len(table):
            self.add(Table.of(table, _title(parts)), *parts)

    def parquet(self, table: pd.DataFrame, *parts: str) -> None:
        """A table that is kept already."""

    def figure(self, figure: Figure, *parts: str) -> None:
        """Keep a figure as SVG."""
        if self.draws:
            self._figures += 1
            title = f"Figure {self._figures}. {_title(parts)}"
            self.add(Picture(title, draw(figure, f"figure{self._figures}")), *parts)

    def animation(self, draw: Callable[[], FuncAnimation], *parts: str) -> None:
        """Moving pictures: their moments stand in the figures of the sequence."""

    def tables(self, command: str, tables: Mapping[str, pd.DataFrame]) -> None:
        """Keep each table."""
        for name, table in tables.items():
            self.csv(table, command, name)

    def sheets(self, tables: Mapping[str, pd.DataFrame], *parts: str) -> None:
        """Tables that are kept already."""

    def result(self, result: Result, *parts: str) -> None:
        """Keep what a result says in words, and the control of a sweep."""
        super().result(result, *parts)
        title = result.headline
        facts = result.facts()
        if facts:
            self.add(Facts([(name.strip(), text) for name, text in facts.items()], title), *parts)
        elif title:
            self.add(Paragraph(title), *parts)
        if isinstance(result, Sweep) and result.varied:
            self.add(_explorer(result, f"explorer-{len(self.results)}"), *parts)


def _explorer(sweep: Sweep, name: str) -> Explorer | Paragraph:
    """The control that moves along a sweep; a paragraph where it has too many cases."""
    table = sweep.table().drop(columns="reason", errors="ignore")
    if len(table) > _MOST_CASES:
        return Paragraph(
            f"{len(table):,} cases are too many for a control in a page; the table of the job has them all."
        )
    headings = [str(c).removesuffix("]").partition(" [") for c in table.columns]
    items = [{"name": title, "unit": pretty(unit)} for title, _, unit in headings]
    count, rows = len(sweep.varied), table.to_numpy(dtype=object).tolist()
    if not sweep.is_grid:  # a list of cases has no conditions that can be moved one by one
        items, rows, count = [{"name": "case", "unit": ""}, *items], [[n + 1, *row] for n, row in enumerate(rows)], 1
    return Explorer(name, "Move the operating point", {"varied": items[:count], "metrics": items[count:], "rows": rows})


def _title(parts: tuple[str, ...]) -> str:
    """What a table or figure is of, in words: ('fit', 'kinetics', 'constants') gives 'kinetics: constants'."""
    kind, name, *more = (*parts, "")[:2] + parts[2:]
    kind = {"run": "course", "fit": "fit", "compare": "side by side", "sweep": "cases"}.get(kind, kind)
    return ": ".join(part for part in (name, ", ".join([kind, *more]).replace("-", " ")) if part)
