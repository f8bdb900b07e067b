"""Results for a report, instead of a folder."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from molino.core.annotations import PlainData
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
"""The largest number of cases of a sweep that a page stores."""


class CollectedResults(ResultsFolder):
    """The output of the steps of a job as blocks of a report; no files are written.

    Parameters
    ----------
    draws : bool
        Whether figures are drawn.
    prefix : str
        Of the names of figures and controls, which a page must not repeat.

    Attributes
    ----------
    parts : dict of str to dict of str to Part
        By step and subject ('' for the step itself).
    contents : dict of str to plain data
        By the step.
    """

    def __init__(self, draws: bool = True, prefix: str = "") -> None:
        super().__init__(Path())
        self.draws, self.prefix = draws, prefix
        self.parts: dict[str, dict[str, Part]] = {}
        self.contents: PlainData = {}
        self._figures = 0

    def add(self, block: Block, *parts: str) -> None:
        """Keep a block; in the order facts, figures and controls, tables."""
        name = parts[1] if len(parts) > 1 else ""
        self.parts.setdefault(parts[0], {}).setdefault(name, Part(name)).blocks.append(block)

    def add_step(self, other: CollectedResults) -> None:
        """Add what a step has collected."""
        for step, parts in other.parts.items():
            if step == "species" and step in self.parts:
                continue
            for name, part in parts.items():
                self.parts.setdefault(step, {}).setdefault(name, Part(name)).blocks += part.blocks
        self.contents |= other.contents
        self.results |= other.results

    def json(self, content: object, *parts: str) -> None:
        """Keep plain data."""
        self.contents["-".join(parts)] = plain(content)

    def text(self, content: str, suffix: str, *parts: str) -> None:
        """A text for another run: not kept, since the embedded job reproduces it."""

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
            self.add(Picture(_title(parts), draw(figure, f"{self.prefix}figure{self._figures}")), *parts)

    def animation(self, draw: Callable[[], FuncAnimation], *parts: str) -> None:
        """An animation: not kept, since its moments are in the figure of the sequence."""

    def tables(self, command: str, tables: Mapping[str, pd.DataFrame]) -> None:
        """Keep each table."""
        for name, table in tables.items():
            self.csv(table, command, name)

    def sheets(self, tables: Mapping[str, pd.DataFrame], *parts: str) -> None:
        """Tables that are kept already."""

    def result(self, result: Result, *parts: str) -> None:
        """Keep the facts of a result, and the control of a sweep."""
        super().result(result, *parts)
        title = result.headline
        facts = result.facts()
        if facts:
            self.add(Facts([(name.strip(), text) for name, text in facts.items()], title), *parts)
        elif title:
            self.add(Paragraph(title), *parts)
        if isinstance(result, Sweep) and result.varied:
            self.add(_explorer(result, f"{self.prefix}explorer-{len(self.results)}"), *parts)


def _explorer(sweep: Sweep, name: str) -> Explorer | Paragraph:
    """The control of a sweep; a paragraph if it has too many cases."""
    table = sweep.table().drop(columns="reason", errors="ignore")
    if len(table) > _MOST_CASES:
        return Paragraph(
            f"{len(table):,} cases are too many for a control in a page; the table of the job has them all."
        )
    headings = [str(c).removesuffix("]").partition(" [") for c in table.columns]
    items = [{"name": title, "unit": pretty(unit)} for title, _, unit in headings]
    count, rows = len(sweep.varied), table.to_numpy(dtype=object).tolist()
    if not sweep.is_grid:  # a list of cases has no conditions for a control
        items, rows, count = [{"name": "case", "unit": ""}, *items], [[n + 1, *row] for n, row in enumerate(rows)], 1
    return Explorer(name, "Move the operating point", {"varied": items[:count], "metrics": items[count:], "rows": rows})


def _title(parts: tuple[str, ...]) -> str:
    """The subject of a table or figure, in words: ('fit', 'kinetics', 'constants') gives 'kinetics: constants'."""
    kind, name, *more = (*parts, "")[:2] + parts[2:]
    kind = {"run": "course", "fit": "fit", "compare": "side by side", "sweep": "cases"}.get(kind, kind)
    return ": ".join(part for part in (name, ", ".join([kind, *more]).replace("-", " ")) if part)
