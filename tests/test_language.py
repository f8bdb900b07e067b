"""Plain English: words of a private idiom that no name, docstring, message or page uses."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
IDIOM = (
    "told|telling|sways?|said|belief|beside|judged|mend|rigid|programmes?|out of line|hangs? on|"
    "made and removed|square modulus|said twice|odd points?|tries|way out|goes together"
)
WRITTEN = [
    p for kind in ("src/molino/**/*.py", "docs/**/*.md", "README.md", "CONTRIBUTING.md") for p in ROOT.glob(kind)
]


@pytest.mark.parametrize("path", WRITTEN, ids=lambda path: str(path.relative_to(ROOT)))
def test_no_page_uses_the_old_idiom(path: Path) -> None:
    words = re.compile(rf"(?<![A-Za-z])({IDIOM})(?![A-Za-z])", re.IGNORECASE)
    lines = path.read_text().splitlines()
    assert not [f"line {n}: {line.strip()}" for n, line in enumerate(lines, 1) if words.search(line)]
