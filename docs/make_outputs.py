"""Write the output of the blocks of the tutorial and of the cells of the notebooks: python docs/make_outputs.py

A test runs the page again and compares the output with that on the page.
"""

from __future__ import annotations

import contextlib
import io
import os
import re
import shutil
import tempfile
from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path

PAGE = Path(__file__).parent / "tutorial.md"
_BLOCK = re.compile(
    r"```python\n(.*?)```\n(?:\n<!-- printed -->\n```text\n(.*?)```\n)?", re.DOTALL
)


def blocks(text: str) -> list[tuple[str, str]]:
    """The blocks of Python of a page, each with its output."""
    return [(m[1], m[2] or "") for m in _BLOCK.finditer(text)]


def printed(text: str) -> Iterator[str]:
    """What each block prints, run one after the other in the present folder."""
    names: dict[str, object] = {}
    for code, _ in blocks(text):
        out = io.StringIO()
        with contextlib.redirect_stdout(out):
            exec(compile(code, PAGE.name, "exec"), names)
        yield "\n".join(line.rstrip() for line in out.getvalue().splitlines())


def filled(text: str) -> str:
    """The page with what its blocks print now."""
    outputs = printed(text)

    def renew(match: re.Match[str]) -> str:
        content = next(outputs)
        block = f"```python\n{match[1]}```\n"
        return block + (
            f"\n<!-- printed -->\n```text\n{content}\n```\n" if content else ""
        )

    return _BLOCK.sub(renew, text)


def run_notebook(path: Path) -> None:
    """Store a notebook with its outputs."""
    import nbformat
    from nbclient import NotebookClient

    book = nbformat.read(path, 4)  # type: ignore[no-untyped-call]
    NotebookClient(book, timeout=300, record_timing=False).execute()
    book.metadata.pop("language_info", None)
    text = nbformat.writes(book).replace(f"{Path(__file__).parents[1]}/", "")  # type: ignore[no-untyped-call]
    path.write_text(f"{text}\n", encoding="utf-8")


if __name__ == "__main__":
    here = Path.cwd()
    with tempfile.TemporaryDirectory() as folder:
        shutil.copy(str(files("molino.demo") / "cob-liquor.csv"), folder)
        os.chdir(folder)
        content = filled(PAGE.read_text(encoding="utf-8"))
        os.chdir(here)
    PAGE.write_text(content, encoding="utf-8")
    for path in sorted((PAGE.parents[1] / "examples").glob("*.ipynb")):
        run_notebook(path)
