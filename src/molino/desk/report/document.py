"""The document of a report: sections of parts with paragraphs, facts, tables, figures and controls."""

from __future__ import annotations

import hashlib
import json
import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from importlib.resources import files
from typing import TYPE_CHECKING, ClassVar

from molino.core.annotations import ByName
from molino.core.chemistry.notation import Equations
from molino.core.results import plain
from molino.core.units import number_text, pretty, pretty_heading
from molino.desk.report.drawing import Drawing

if TYPE_CHECKING:
    import pandas as pd

_RECORD = '<script type="application/json" id="record">'
"""The beginning of the record of a page."""
_FOLDED = 24
"""Number of rows above which a table is folded."""
_MOST_ROWS = 1000
"""Largest number of rows of a table in a page."""


@dataclass(frozen=True)
class Paragraph:
    """A paragraph; `tone` is 'plain', 'note' or 'warning'."""

    kind: ClassVar[str] = "paragraph"
    text: str
    tone: str = "plain"


@dataclass(frozen=True)
class Listing:
    """Preformatted lines, with a label for screen readers."""

    kind: ClassVar[str] = "listing"
    text: str
    label: str


@dataclass(frozen=True)
class Formulas:
    """Typeset equations, in MathML, and the same as text."""

    kind: ClassVar[str] = "formulas"
    rows: Sequence[tuple[str, str]]
    text: str
    label: str

    @classmethod
    def of(cls, equations: Equations, label: str) -> Formulas:
        """From the LaTeX of equations."""
        from latex2mathml.converter import convert

        rows = [
            (convert(left, display="block"), convert(right, display="block"))
            for left, right in (e.latex for e in equations.lines)
        ]
        return cls(rows, str(equations), label)


@dataclass(frozen=True)
class Facts:
    """Names with their values."""

    kind: ClassVar[str] = "facts"
    rows: Sequence[tuple[str, str]]
    title: str = ""


@dataclass(frozen=True)
class Cell:
    """A cell of a table: its text, and the number for sorting and copying."""

    text: str
    value: float | None = None


@dataclass(frozen=True)
class Table:
    """A table with a title; `Table.of` makes one of a DataFrame."""

    kind: ClassVar[str] = "table"
    title: str
    headings: Sequence[str]
    rows: Sequence[Sequence[Cell]]

    @property
    def is_long(self) -> bool:
        """Whether it is folded."""
        return len(self.rows) > _FOLDED

    @classmethod
    def of(cls, frame: pd.DataFrame, title: str, digits: int = 4) -> Table:
        """From a DataFrame with units in its headings."""
        more = f" (the first {_MOST_ROWS} of {len(frame)} rows)" if len(frame) > _MOST_ROWS else ""
        units = [str(c) == "unit" for c in frame.columns]
        rows = [
            [
                _cell(pretty(v) if is_unit and isinstance(v, str) else v, digits)
                for v, is_unit in zip(row, units, strict=True)
            ]
            for row in frame.head(_MOST_ROWS).itertuples(index=False)
        ]
        return cls(title + more, [pretty_heading(str(c)) or "value" for c in frame.columns], rows)


@dataclass(frozen=True)
class Picture:
    """A figure, its caption, and its content in words."""

    kind: ClassVar[str] = "picture"
    title: str
    drawing: Drawing

    @property
    def alternative(self) -> str:
        """Its description in words: each panel by its axes and curves."""
        parts = []
        for panel in self.drawing.panels:
            x, y = panel["x"]["label"], panel["y"]["label"]
            axes = f"{y or 'values'} over {x or 'cases'}" if x or y else ""
            words = ": ".join(text.replace("\n", ", ") for text in (panel["title"], axes) if text)
            if not words:
                continue
            names = list(dict.fromkeys(curve["name"] for curve in panel["curves"] if curve["name"]))
            of = f", with {', '.join(names)}" if names else ""
            parts.append(f"{words}{of}")
        return f"{self.title}: {'; '.join(parts)}." if parts else f"{self.title}."


@dataclass(frozen=True)
class Explorer:
    """A control that moves the operating point along swept conditions, from stored cases."""

    kind: ClassVar[str] = "explorer"
    name: str
    title: str
    content: ByName


Block = Paragraph | Listing | Formulas | Facts | Table | Picture | Explorer


@dataclass
class Part:
    """Blocks under one heading."""

    title: str = ""
    blocks: list[Block] = field(default_factory=list)


@dataclass
class Section:
    """Parts under one heading that the page links to."""

    name: str
    title: str
    parts: list[Part] = field(default_factory=list)

    def __bool__(self) -> bool:
        return any(part.blocks for part in self.parts)


def numbered(sections: Sequence[Section]) -> None:
    """Number the figures in the order of the page."""
    blocks = [(part, n) for section in sections for part in section.parts for n in range(len(part.blocks))]
    pictures = [(part, n, block) for part, n in blocks if isinstance(block := part.blocks[n], Picture)]
    for number, (part, n, block) in enumerate(pictures, 1):
        part.blocks[n] = replace(block, title=f"Figure {number}. {block.title}")


@dataclass(frozen=True)
class Page:
    """A whole report: the question and the answer, sections, and the record for running it again."""

    title: str
    subtitle: str
    introduction: Sequence[str]
    answers: Sequence[tuple[str, str]]
    sections: Sequence[Section]
    record: ByName
    assumptions: str = ""

    def html(self) -> str:
        """The page as one self-contained HTML file."""
        import jinja2

        folder = files("molino.desk.report")
        environment = jinja2.Environment(
            autoescape=True,
            trim_blocks=True,
            undefined=jinja2.StrictUndefined,
            loader=jinja2.FunctionLoader(lambda name: (folder / name).read_text(encoding="utf-8")),
        )
        environment.filters["in_script"] = _in_script
        text = environment.get_template("page.html.j2").render(
            title=self.title,
            subtitle=self.subtitle,
            introduction=self.introduction,
            answers=self.answers,
            assumptions=self.assumptions,
            sections=[section for section in self.sections if section],
            record=self.record,
            versions=self.record["versions"],
            style=(folder / "page.css").read_text(encoding="utf-8"),
            script=(folder / "page.js").read_text(encoding="utf-8"),
        )
        return with_digest(text)


def record_of(page: str) -> tuple[int, int] | None:
    """The range of the record in a page; None if there is not exactly one."""
    begin = page.find(_RECORD)
    end = page.find("</script>", begin)
    if begin < 0 or end < 0 or page.find(_RECORD, begin + 1) >= 0:
        return None
    return begin + len(_RECORD), end


def digest_of(page: str) -> str:
    """SHA-256 of a page without its record."""
    begin, end = record_of(page) or (0, 0)
    return hashlib.sha256((page[:begin] + page[end:]).encode("utf-8")).hexdigest()


def with_digest(page: str) -> str:
    """A page whose record has the hash of the rest of the page."""
    begin, _ = record_of(page) or (0, 0)
    assert page[begin] == "{"
    return f'{page[:begin]}{{"page":"{digest_of(page)}",{page[begin + 1 :]}'


def _in_script(content: object) -> object:
    """Plain data as JSON for a script element."""
    import markupsafe

    text = json.dumps(plain(content), ensure_ascii=False, separators=(",", ":"))
    return markupsafe.Markup(text.replace("<", "\\u003c").replace("\u2028", "\\u2028").replace("\u2029", "\\u2029"))


def _cell(value: object, digits: int) -> Cell:
    if isinstance(value, bool | str) or value is None:
        return Cell("" if value is None else str(value))
    try:
        number = float(value)  # type: ignore[arg-type]
    except (TypeError, ValueError):
        return Cell(str(value))
    if not math.isfinite(number):
        return Cell("" if math.isnan(number) else str(number))
    return Cell(number_text(number, digits), float(f"{number:.10g}"))
