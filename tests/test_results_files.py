"""Files that results go into, and what the command line says of itself."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import zipfile
from importlib.resources import files
from pathlib import Path

import jsonschema
import numpy as np
import openpyxl
import pandas as pd
import pyarrow.parquet as pq
import pytest

import molino as mo
from conftest import Typed

JOB = """
title = "Two in a row"
[reactions.main]
equation = "A -> B"
k = "0.2 1/min"
[feeds.f]
contents = { A = "1 mol/L" }
flow = "3 m3/h"
[vessels.tube]
kind = "plug flow"
feed = "f"
volume = "500 L"
[vessels.tank]
kind = "stirred tank"
feed = "f"
volume = "500 L"
[size.tube]
vessel = "tube"
metric = "conversion of A"
target = 0.95
[compare.both]
vessels = ["tube", "tank"]
metrics = ["conversion of A"]
[sweep.flows]
vessel = "tube"
conditions = { flow = ["1 m3/h", "2 m3/h", "3 m3/h"] }
metrics = ["conversion of A", "concentration of B"]
"""
SCHEMA = json.loads((files("molino.desk.tables") / "results.schema.json").read_text(encoding="utf-8"))


@pytest.fixture
def job(tmp_path: Path) -> Path:
    path = tmp_path / "row.toml"
    path.write_text(JOB, encoding="utf-8")
    return path


def test_files_of_every_kind_where_they_are_asked_for(job: Path, tmp_path: Path, molino: Typed) -> None:
    there, kinds = tmp_path / "there", ("csv", "parquet", "svg", "pdf", "json", "xlsx")
    asked = [word for kind in kinds for word in ("--format", kind)]
    quiet = molino("run", job, "--output", there, "--quiet", *asked)
    assert (quiet.exit_code, quiet.output) == (0, "")
    assert not (tmp_path / "results").exists()
    assert {path.suffix[1:] for path in there.iterdir()} == set(kinds)
    assert (there / "run-tube.pdf").read_bytes().startswith(b"%PDF")
    assert "<svg" in (there / "run-tube.svg").read_text(encoding="utf-8")
    again = molino("run", job, "--output", there, *asked)
    assert "changed in" not in again.output.replace("unchanged in", ""), "the same results are the same files"
    only = molino("sweep", job, "--format", "json", "--output", tmp_path / "json")
    assert only.exit_code == 0
    assert [path.name for path in (tmp_path / "json").iterdir()] == ["sweep.json"]
    assert molino("run", job, "--format", "docx").exit_code == 2


def test_parquet_holds_names_and_units(job: Path, tmp_path: Path, molino: Typed) -> None:
    molino("run", job, "--output", tmp_path / "out", "--format", "parquet", "--format", "csv")
    table = pq.read_table(tmp_path / "out" / "run-tube.parquet")
    kept = [{k.decode(): v.decode() for k, v in field.metadata.items()} for field in table.schema]
    assert {"name": "A", "unit": "mol/L"} in kept
    assert kept[0] == {"name": "volume", "unit": "L"}
    assert table.schema.metadata[b"title"] == b"Two in a row"
    csv = pd.read_csv(tmp_path / "out" / "run-tube.csv")
    parquet = pd.read_parquet(tmp_path / "out" / "run-tube.parquet")
    assert list(parquet.columns) == list(csv.columns)
    assert np.allclose(parquet, csv, rtol=1e-9)


def test_a_workbook_says_what_is_in_it(job: Path, tmp_path: Path, molino: Typed) -> None:
    molino("run", job)
    path = tmp_path / "results" / "row" / "run.xlsx"
    with zipfile.ZipFile(path) as parts:  # the time of writing would make each file another one
        assert {one.date_time[0] for one in parts.infolist()} == {1980}
        assert parts.read("docProps/core.xml").count(b">1980-01-01T00:00:00Z<") == 2
    book = openpyxl.load_workbook(path)
    assert book.sheetnames == ["Contents", "tube", "tank", "Inputs"]
    first = [[cell.value for cell in row] for row in book["Contents"]]
    assert first[0][0] == "Two in a row"
    assert book["Contents"]["A3"].hyperlink.location == "'tube'!A1"
    tube = mo.load_job(job).vessels["tube"]
    conversion = tube.run().facts()["conversion of A"]  # type: ignore[union-attr]
    assert ["conversion of A", conversion] in first
    sheet = book["tube"]
    assert sheet.freeze_panes == "A2"
    (chart,) = sheet._charts
    assert len(chart.series) == 2, "A and B, in one unit"
    numbers = [cell for cell in sheet[2] if isinstance(cell.value, float)]
    assert numbers
    assert all(cell.number_format not in ("General", "") for cell in numbers)
    heads = {cell.value: sheet.column_dimensions[cell.column_letter].width for cell in sheet[1]}
    assert all(width >= max(len(part) for part in head.split(" [")) for head, width in heads.items())
    inputs = [row[0].value for row in book["Inputs"]]
    assert 'equation = "A -> B"' in inputs
    odd = job.with_name("odd.toml")
    odd.write_text(JOB.replace("Two in a row", "=1+1 \\u0007"), encoding="utf-8")
    assert molino("compare", odd).exit_code == 0
    book = openpyxl.load_workbook(tmp_path / "results" / "odd" / "compare.xlsx")
    assert book["Contents"]["A1"].value == "'=1+1  "
    assert "2 vessels compared: conversion of A" in [row[0].value for row in book["Contents"]]
    streams = openpyxl.load_workbook(tmp_path / "results" / "row" / "streams.xlsx")
    assert not streams["tube"]._charts, "streams run along nothing"


@pytest.mark.parametrize("command", ["check", "run", "size", "compare", "sweep", "fit"])
def test_json_keeps_to_its_published_schema(job: Path, command: str, molino: Typed) -> None:
    done = molino(command, job, "--json")
    content = json.loads(done.stdout)
    jsonschema.validate(content, SCHEMA)
    assert content["format"] == 1
    assert ("errors" in content) == (command in ("fit", "check"))  # there is nothing to fit; check reports none
    stored = job.parent / "results" / "row" / f"{command}.json"
    if stored.exists():
        assert json.loads(stored.read_text(encoding="utf-8")) == content
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate({**content, "format": 2}, SCHEMA)


def test_stored_results_are_shown_again(job: Path, tmp_path: Path, molino: Typed) -> None:
    for command in ("size", "run", "sweep"):
        molino(command, job, "--format", "json", "--format", "csv", "--format", "parquet")
    results = tmp_path / "results" / "row"
    size = json.loads((results / "size.json").read_text(encoding="utf-8"))["sizes"]["tube"]
    shown = " ".join(molino("show", results / "size.json").output.split())
    assert f"{size['value']:.5g}" in shown
    assert "Two in a row" in shown
    assert "residence time" in molino("show", results / "run.json").output
    for kind in ("csv", "parquet"):
        assert "conversion of A" in molino("show", results / f"sweep-flows.{kind}").output
    assert json.loads(molino("show", results / "size.json", "--json").stdout)["sizes"]["tube"] == size
    for wrong in (job, tmp_path / "none.json"):
        assert molino("show", wrong).exit_code == 2
    (tmp_path / "bad.json").write_text("[1, 2", encoding="utf-8")
    assert molino("show", tmp_path / "bad.json").exit_code == 2


def test_help_explains_what_a_job_is_written_in(molino: Typed) -> None:
    overview = molino("help").output
    for topic, words in {
        "formulas": "partial pressure", "units": "12 m3/h", "metrics": "conversion of A", "results": "exit code",
        "completion": "--install-completion",
    }.items():  # fmt: skip
        assert topic in overview
        assert words in molino("help", topic).output
    assert json.loads(molino("help", "schema").stdout) == SCHEMA
    assert "formulas" in molino("help", "formulae").output


def test_a_shell_completes_commands(tmp_path: Path) -> None:
    """As bash asks for it by tab, in a process of its own."""
    asked = {**os.environ, "_MOLINO_COMPLETE": "complete_bash", "COMP_WORDS": "molino opt", "COMP_CWORD": "1"}
    code = "import sys; sys.argv = ['molino']; from molino.desk.cli import main; main()"
    done = subprocess.run(
        [sys.executable, "-c", code], env=asked, cwd=tmp_path, capture_output=True, text=True, check=False
    )
    assert done.stdout.split() == ["optimize"]


def test_the_page_on_results_runs(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    text = (Path(__file__).parents[1] / "docs" / "results.md").read_text(encoding="utf-8")
    names: dict[str, object] = {}
    for block in re.findall(r"```python\n(.*?)```", text, re.DOTALL):
        exec(block, names)
    assert (tmp_path / "tank.html").exists()
    assert names["notes"] == ()
