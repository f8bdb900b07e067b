"""Plain English: phrases that no name, docstring, message or page uses, because a newcomer does not understand them."""

from __future__ import annotations

import re
from pathlib import Path

ROOT = Path(__file__).parents[1]
PHRASES = [
    r"told|telling|sways?|said|saying|belief|beside|judged|mend|rigid|programmes?|out of line|hangs? on|square modulus",
    r"odd points?|way out|goes together|by tonight|nobody knows|reaches back|beyond reach|comes? to no|at rest|made and removed",
    r"stands? (in|at|for itself|ready|first|alone|apart|on)|held (against|back)|carried along|how far (one|it|that|what|a)",
    r"parts? a run|works? out for itself|that is none|of which there is none|keeps? (T|no)|asks? for the|what is plenty",
    r"thereof|whereby|wherein|hitherto|whilst|lest|betwixt|heed|forthwith",
]


def test_no_page_and_no_text_uses_a_private_phrase() -> None:
    words = re.compile(rf"(?<![A-Za-z])({'|'.join(PHRASES)})(?![A-Za-z])", re.IGNORECASE)
    pages = [
        p
        for kind in ("src/**/*.py", "src/**/*.toml", "docs/**/*.md", "README.md", "CONTRIBUTING.md", "examples/*.py")
        for p in ROOT.glob(kind)
    ]
    found = [
        f"{page.relative_to(ROOT)}:{number}: {hit.group()}: {line.strip()[:90]}"
        for page in pages
        for number, line in enumerate(page.read_text(encoding="utf-8").splitlines(), 1)
        if (hit := words.search(line))
    ]
    assert not found, "\n".join(found)
