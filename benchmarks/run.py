"""Print one table of ratios: each piece of work against the strongest script by hand, both timed in this run.

`python benchmarks/run.py` prints all rows, one by one; with words only the rows that contain one of them. A ratio above
1 means that Molino is faster; the one to reach is in brackets. "with" is with machine code (the extra `fast`);
compilation is not timed. Not a test: nothing fails here.
"""

from __future__ import annotations

import sys
from importlib import import_module
from importlib.util import find_spec
from pathlib import Path

FOLDER = Path(__file__).parent
sys.path[:0] = [str(FOLDER), str(FOLDER / "rows")]

import table  # noqa: E402

for module in sorted((FOLDER / "rows").glob("*.py")):
    import_module(module.stem)


def main(words: list[str], has_fast: bool = find_spec("numba") is not None) -> None:
    chosen = [title for title in table.ROWS if not words or any(word in title for word in words)]
    print(table.HEADER)
    for title in chosen:
        for line in table.measured(title, has_fast):
            print(line, flush=True)


if __name__ == "__main__":
    main(sys.argv[1:])
