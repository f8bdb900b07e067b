"""The example notebooks run, and show tables, figures, progress and faults as a notebook should."""

from __future__ import annotations

import base64
import re
from pathlib import Path

import nbformat
import pytest
from nbclient import NotebookClient

import molino as mo
from molino.desk import notebook as in_notebook

EXAMPLES = Path(__file__).parents[1] / "examples"


@pytest.mark.parametrize("name", ["laboratory", "plant", "decision"])
def test_a_notebook_runs_as_it_is_stored(name: str, tmp_path: Path) -> None:
    book = nbformat.read(EXAMPLES / f"{name}.ipynb", 4)  # type: ignore[no-untyped-call]
    cells = [cell for cell in book.cells if cell.cell_type == "code"]
    stored = [[one.output_type for one in cell.outputs] for cell in cells]
    NotebookClient(book, timeout=300, resources={"metadata": {"path": tmp_path}}).execute()
    assert stored == [[one.output_type for one in cell.outputs] for cell in cells], "docs/make_outputs.py stores them"
    shown = [one for cell in cells for one in cell.outputs]
    data = [one.data for one in shown if "data" in one]
    tables = [one["text/html"] for one in data if "<table" in one.get("text/html", "")]
    assert len(tables) >= 3
    assert any(re.search(r"<th>[^<]* \[[^<]+\]</th>", text) for text in tables), "headings have units"
    assert all(not one["text/plain"].startswith(("Run(", "Fit(", "Sizing(")) for one in data)
    assert any("<progress" in one.get("text/html", "") and 'value="1.0000"' in one["text/html"] for one in data)
    pictures = [one for one in shown if "image/png" in one.get("data", {})]
    assert pictures
    for one in pictures:
        assert base64.b64decode(one.data["image/png"]).startswith(b"\x89PNG")
        assert 600 <= one.metadata["image/png"]["width"] <= 1000
    faults = [one for one in shown if one.output_type == "error"]
    assert len(faults) == (name == "plant")
    for one in faults:
        assert len(one.traceback) == 1
        (box,) = [d["text/html"] for d in data if "<details>" in d.get("text/html", "")]
        assert box.count("<li>") == 2
        assert "260 bar" in box
        assert "6 kg" in box


def test_outside_a_notebook_nothing_is_displayed() -> None:
    in_notebook.install()
    try:
        with pytest.raises(mo.InputError) as caught:
            mo.Feed({"A": "1 mol/L"}, flow="-1 L/min")
        assert caught.value._render_traceback_() == [f"InputError: {caught.value}"]  # type: ignore[attr-defined]
    finally:
        del mo.MolinoError._render_traceback_  # type: ignore[attr-defined]
    with mo.progress_bar("some <work>") as bar:
        bar(0.5)
        assert "some &lt;work&gt;" in bar._repr_html_()
        assert 'value="0.5000"' in bar._repr_html_()
        bar("a step")
        assert bar.words == "a step"
        bar(3, 0.25)
        assert bar.words == "3, 0.25"


def test_tab_shows_the_trade_and_not_the_machinery() -> None:
    names = [name for name in dir(mo) if not name.startswith("_")]
    assert set(names) == set(mo.__all__)
    tank = mo.StirredTank(mo.Chemistry(mo.Reaction("A -> B", k=1.0)), mo.Feed({"A": 1.0}, flow=1.0), volume=1.0)
    assert {"run", "spec", "steady_states", "branch", "with_", "equations", "check"} <= {*dir(tank)}
    assert {"conversion", "selectivity", "table", "facts", "stream_table"} <= {*dir(tank.run())}
