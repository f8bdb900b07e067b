"""A field is declared once: from there it is in jobs, schema, settings, sweeps, help and the page of keys."""

from __future__ import annotations

import re
import sys
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

import molino as mo
from molino.core.errors import Fault
from molino.core.schema import help_of, quantity, schema_of
from molino.core.units import of
from molino.desk.cli import COMMANDS
from molino.desk.cli.reference import commands_page
from molino.desk.job import models
from molino.desk.job.context import JobContext
from molino.desk.job.reference import keys_of, keys_page
from molino.desk.job.shapes import extended

sys.path.append(str(Path(__file__).parents[1] / "docs"))
CHEMISTRY = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
FEED = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")


@dataclass(frozen=True, eq=False)
class LinedTube(mo.PlugFlow):
    """A tube with a lining.

    Parameters
    ----------
    lining : optional
        Thickness of the lining.
    """

    lining: Any = quantity("length", setting=True, most=0.1)


def test_a_field_of_a_vessel_takes_one_line() -> None:
    tube = LinedTube(CHEMISTRY, FEED, volume="5 L", lining="2 mm")
    assert tube.lining.si == pytest.approx(0.002)
    assert tube.with_({"lining": "3 mm"}).lining.si == pytest.approx(0.003)
    with pytest.raises(mo.InputError, match=r"lining: 200 mm is more than 0\.1"):
        tube.with_(lining="200 mm")
    with pytest.raises(mo.InputError, match="length -1 mm must be above zero"):
        LinedTube(CHEMISTRY, FEED, volume="5 L", lining="-1 mm")
    swept = mo.sweep(tube, {"lining": ["1 mm", "2 mm"]}, ["conversion of A"])
    assert swept.values["conversion of A"].shape == (2,)
    shape = extended(LinedTube, models.PlugFlowTable)
    assert shape.model_json_schema()["properties"]["lining"]["description"] == "Thickness of the lining."
    file = models.JobFile.model_validate({"units": {"length": "mm"}, "reactions": {}})
    job = JobContext(file, Path("job.toml"), {}, list[Fault]())
    given = job.read(LinedTube, shape.model_validate({"kind": "plug flow", "feed": "f", "lining": 2, "tubes": 3}))
    assert given == {"lining": of(2, "mm"), "tubes": 3}
    assert "| `lining` | length, above 0, at most 0.1 |  | Thickness of the lining. |" in keys_of(LinedTube)


def test_a_bare_number_of_an_open_kind_is_no_guess() -> None:
    feed = {"contents": {"A": "1 mol/L"}}

    def read(units: dict[str, str], flow: Any) -> Any:
        file = models.JobFile.model_validate({"units": units, "reactions": {}})
        job = JobContext(file, Path("job.toml"), {}, list[Fault]())
        return job.read(mo.Feed, models.FeedTable.model_validate({**feed, "flow": flow}))["flow"]

    with pytest.raises(mo.InputError, match="may be a volumetric flow"):
        read({"molar_flow": "kmol/h", "mass_flow": "t/h"}, 400)
    assert read({"molar_flow": "kmol/h"}, 400) == of(400, "kmol/h")  # what [units] names is what flows are in
    assert read({"molar_flow": "kmol/h", "volumetric_flow": "m3/h"}, 400) == of(400, "m3/h")
    assert read({"molar_flow": "kmol/h"}, "4 m3/h") == "4 m3/h"


def test_the_page_of_keys_is_what_the_schema_says() -> None:
    import make_keys

    assert make_keys.PAGE.read_text(encoding="utf-8") == keys_page()
    assert make_keys.COMMANDS_PAGE.read_text(encoding="utf-8") == commands_page(COMMANDS)


@pytest.mark.parametrize("cls", [mo.Batch, mo.SemiBatch, mo.StirredTank, mo.PlugFlow, mo.Feed, mo.Jacket, mo.Adiabatic,
                                 mo.Profile, mo.Catalyst, mo.InternalDiffusion, mo.Deactivation, mo.PressureDrop,
                                 mo.Membrane, mo.Change, mo.Exchanger, mo.Species])  # fmt: skip
def test_every_declared_field_is_explained(cls: type) -> None:
    assert not [name for name in schema_of(cls) if not help_of(cls).get(name)]


def test_every_key_on_the_page_of_job_files_is_a_key_of_its_table() -> None:
    page = (Path(__file__).parents[1] / "docs" / "job-file.md").read_text(encoding="utf-8")
    schema = models.JobFile.model_json_schema()

    def keys(table: dict[str, Any]) -> dict[str, Any]:
        if "$ref" in table:
            table = schema["$defs"][table["$ref"].rpartition("/")[2]]
        found = dict(table.get("properties", {}))
        for one in [*table.get("anyOf", []), *table.get("oneOf", [])]:
            found |= keys(one)
        return found

    known = {kind: set(table.model_fields) for kind, table in models.VESSELS.items()}
    for row in (line for line in page.splitlines() if re.match(r"\| (`\[|\")", line)):
        first, *_, last = (cell.strip() for cell in row.strip("|").split(" |"))
        first = first.strip("`")
        if first in known or first.strip('"') in known:
            allowed = known[first.strip('"')]
        else:
            top, *inner = [part for part in first.strip("[]").split(".") if part not in ("NAME", "LAW")]
            table = schema["properties"][top]
            allowed = keys(table.get("additionalProperties", table))
            for part in inner:
                allowed = keys(allowed[part].get("additionalProperties", allowed[part]))
        named = re.findall(r"`([A-Za-z_]+)`", last)
        assert {*named} <= {*allowed}, f"{first}: {sorted({*named} - {*allowed})}"
