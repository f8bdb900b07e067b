"""The README's code, other job files than the demo's, and terminals of every width."""

from __future__ import annotations

import json
import re
import shutil
import sys
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pandas as pd
import pytest
from typer.main import get_command

import molino as mo
from conftest import DEMO, Typed, spoil
from molino._public import listed
from molino.demo import make_data
from molino.desk.cli import app

ROOT = Path(__file__).parent.parent

TEXTBOOK = """
title = "Textbook, without units"
[reactions.only]
equation = "A -> B"
k = 0.2
[vessels.pot]
kind = "batch"
charge = { A = 1.0 }
time = 40
[size.pot]
vessel = "pot"
metric = "conversion of A"
target = 0.5
"""

PILOT = """
[units]
time = "h"
temperature = "degC"
concentration = "kmol/m3"
volumetric_flow = "L/min"
volume = "L"
energy_per_amount = "kJ/mol"

[constants]
K = "0.4 L/mol"

[reactions.make]
equation = "A + B <-> C"
rate = "k*([A]*[B] - [C]/Kc)/(1 + K*[C])"
k = { A = "5e9 L/mol/h", Ea = 55 }
Kc = "80 L/mol"

[reactions.lose]
equation = "C -> D"
k = { k = "0.02 1/h", at = 60, Ea = "80 kJ/mol" }

[feeds.fresh]
flow = 2.5
T = 60
contents = { A = 1.2, B = "3.5 mol/min" }

[vessels.first]
kind = "stirred tank"
feed = "fresh"
volume = 400
contents = { A = 0, B = 0 }
start_up = 12

[vessels.second]
kind = "plug flow"
feed = "fresh"
space_time = "2 h"
T = "70 degC"

[vessels.flask]
kind = "batch"
charge = { A = "600 mmol", B = "1.4 kmol/m3" }
volume = 0.5
T = 70
time = 2

[compare.all]
vessels = ["first", "second", "flask"]
metrics = ["yield of C on A", "concentration of D"]
"""


def job_file(folder: Path, text: str) -> Path:
    path = folder / "job.toml"
    path.write_text(text)
    return path


def test_the_readme_runs(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]) -> None:
    shutil.copy(DEMO / "cob-liquor.csv", tmp_path)
    monkeypatch.chdir(tmp_path)
    (block,) = re.findall(r"```python\n(.*?)```", (ROOT / "README.md").read_text(), re.DOTALL)
    exec(compile(block, "README.md", "exec"), {})
    content = capsys.readouterr().out
    assert "95 % interval" in content
    assert "yield of furfural on xylose" in content
    assert (tmp_path / "coil.png").stat().st_size > 10_000


def test_the_fitting_page_runs(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """Block after block, as a reader would; and what its text says of the demo's data is so."""
    shutil.copy(DEMO / "cob-liquor.csv", tmp_path)
    monkeypatch.chdir(tmp_path)
    page = (ROOT / "docs" / "fitting.md").read_text()
    names: dict[str, Any] = {}
    for block in re.findall(r"```python\n(.*?)```", page, re.DOTALL):
        exec(compile(block, "fitting.md", "exec"), names)
    content = capsys.readouterr().out
    for part in (
        "verdict: first order",
        "through 72 rates",
        "(profile, 95 %)",
        "bootstrap of residuals: 100 refits",
    ):
        assert part in content
    assert {p.name for p in tmp_path.glob("*.png")} == set(re.findall(r'savefig\("(.*?)"\)', page))
    assert names["law"].interval("xylose")[1] < 1 < names["screening"].order_interval[1]
    assert names["found"].chosen == "first order"
    assert pytest.approx(463.15) == names["plan"].best.run.T


def test_the_tutorial_runs_and_prints_what_stands_in_it(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Word for word; numbers to four digits, and but for the counts of steps."""
    shutil.copy(DEMO / "cob-liquor.csv", tmp_path)
    monkeypatch.chdir(tmp_path)
    monkeypatch.syspath_prepend(ROOT / "docs")
    import make_outputs

    page = (ROOT / "docs" / "tutorial.md").read_text(encoding="utf-8")
    number = re.compile(r"(?<![\w.])-?\d+(?:\.\d+)?(?:e[-+]\d+)?")
    for (code, wanted), found in zip(make_outputs.blocks(page), make_outputs.printed(page), strict=True):
        lines = zip(wanted.splitlines(), found.splitlines(), strict=True)
        for line, own in lines:
            if "solved by" in line or "checked" in line:
                continue
            assert number.sub("#", line).split() == number.sub("#", own).split(), code
            assert [float(x) for x in number.findall(own)] == pytest.approx(
                [float(x) for x in number.findall(line)], rel=2e-3, abs=2e-3
            ), code
    assert {p.name for p in tmp_path.glob("*.png")} == set(re.findall(r'savefig\("(.*?)"\)', page))


def test_the_page_on_observed_vessels_runs(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    shutil.copy(DEMO / "laboratory" / "calorimeter.csv", tmp_path)
    monkeypatch.chdir(tmp_path)
    page = (ROOT / "docs" / "observing.md").read_text(encoding="utf-8")
    names: dict[str, Any] = {}
    for block in re.findall(r"```python\n(.*?)```", page, re.DOTALL):
        exec(compile(block, "observing.md", "exec"), names)
    content = capsys.readouterr().out
    assert "hydrogenation.enthalpy" in content
    assert "heat flow: residual standard deviation 0.3" in content
    assert page.count("\nK1,105,105,12,108.26,-4.35,") == 1


def test_the_reference_has_every_public_name_once_and_the_site_every_page(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.syspath_prepend(ROOT / "docs")
    import site_hooks

    shown = [name for page in site_hooks.TOPICS for name in site_hooks.names_on(page)]
    assert sorted(shown) == sorted(listed())
    site = (ROOT / "mkdocs.yml").read_text(encoding="utf-8")
    pages = {str(p.relative_to(ROOT / "docs")) for p in (ROOT / "docs").rglob("*.md")}
    generated = {f"reference/{page}.md" for page in site_hooks.TOPICS}
    assert {*re.findall(r"[\w/-]+\.md", site.partition("nav:")[2])} == pages | generated | {
        "files/CONTRIBUTING.md", "files/CHANGELOG.md"
    }  # fmt: skip
    assert "'steady_states', 'branch'" in site_hooks.reference_page("vessels")


def test_the_page_on_decisions_runs(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.chdir(tmp_path)
    names: dict[str, Any] = {}
    for block in re.findall(r"```python\n(.*?)```", (ROOT / "docs" / "deciding.md").read_text(), re.DOTALL):
        exec(compile(block, "deciding.md", "exec"), names)
    content = capsys.readouterr().out
    assert "T at its upper bound 185 °C: relaxing it by 1 °C gains" in content
    assert "with 0.95 confidence" in content
    assert {p.name for p in tmp_path.iterdir()} == {
        "optimum.png",
        "profile.png",
        "ranking.png",
        "region.png",
        "safety.png",
        "spread.png",
    }


@pytest.mark.parametrize(
    ("page", "printed"),
    [
        ("thermo", "Peng-Robinson, stable at 523.15 K and 20 bar: Z 0.9"),
        ("equilibrium", "conversion of methanol"),
        ("vessels", "balances of A + B + C closed to"),
        ("sizing", "length 122.2 m for conversion of A = 0.9"),
        ("checks", "which are not a proof"),
    ],
)
def test_the_pages_without_a_test_of_their_own_run(
    page: str, printed: str, capsys: pytest.CaptureFixture[str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    blocks = re.findall(r"```python\n(.*?)```", (ROOT / "docs" / f"{page}.md").read_text(), re.DOTALL)
    exec(compile("\n".join(blocks), f"{page}.md", "exec"), {})
    assert printed in capsys.readouterr().out


@pytest.mark.parametrize("page", sorted(p.stem for p in (ROOT / "docs" / "vessels").glob("*.md")))
def test_the_page_of_each_vessel_runs_and_shows_its_equations(page: str, capsys: pytest.CaptureFixture[str]) -> None:
    sys.path.insert(0, str(ROOT / "docs"))
    try:
        from make_equations import examples, filled
    finally:
        sys.path.pop(0)
    text = (ROOT / "docs" / "vessels" / f"{page}.md").read_text(encoding="utf-8")
    assert filled(text) == text
    assert page in examples() or page == "train"
    exec(compile("\n".join(re.findall(r"```python\n(.*?)```", text, re.DOTALL)), page, "exec"), {})
    content = capsys.readouterr().out
    expected = {"batch": "K", "semi-batch": "energy closed to", "gas-liquid": "transfer", "stirred-tank": "ignition at feed T",
                "plug-flow": "duty", "train": "after exchanger"}  # fmt: skip
    assert expected[page] in content


def test_links_in_the_documents_lead_somewhere() -> None:
    for document in [*ROOT.glob("*.md"), *(ROOT / "docs").rglob("*.md")]:
        for target in re.findall(r"\]\(([^)#:]+)\)", document.read_text()):
            if target.startswith("reference/"):  # made for the site, see below
                continue
            assert (document.parent / target).exists(), f"{document.name}: {target}"
    shots = {path.name for path in (ROOT / "docs" / "screenshots").glob("*.png")}
    assert shots == set(re.findall(r"screenshots/([\w.-]+)\)", (ROOT / "README.md").read_text()))


def test_every_command_and_make_target_is_in_the_readme_or_contributing() -> None:
    texts = "".join((ROOT / page).read_text() for page in ("README.md", "CONTRIBUTING.md", "docs/commands.md"))
    for target in re.findall(r"^([a-z-]+):", (ROOT / "Makefile").read_text(), re.MULTILINE):
        assert target == "clean" or re.search(rf"make {target}\b", texts), target
    commands = list(get_command(app).commands)  # type: ignore[attr-defined]
    assert len(commands) == 21
    for command in commands:
        assert f"molino {command}" in texts


def test_a_textbook_job_stays_in_bare_numbers(molino: Typed, tmp_path: Path) -> None:
    path = job_file(tmp_path, TEXTBOOK)
    run = molino("run", path)
    assert run.exit_code == 0
    assert "mol" not in run.output.replace("molino", "")
    assert list(pd.read_csv(tmp_path / "results" / "job" / "run-pot.csv").columns) == ["time", "A", "B", "rate of only"]
    size = json.loads(molino("size", path, "--json").stdout)["sizes"]["pot"]
    assert size["value"] == pytest.approx(np.log(2) / 0.2, rel=1e-8)
    assert size["unit"] == ""
    assert size["interval_95"] is None
    assert molino("fit", path).exit_code == 2
    assert molino("compare", path).exit_code == 2


def test_a_job_says_what_python_says(molino: Typed, tmp_path: Path) -> None:
    path = job_file(tmp_path, PILOT)
    content = json.loads(molino("compare", path, "--json").stdout)["comparisons"]["all"]
    chemistry = mo.Chemistry(
        [
            mo.Reaction("A + B <-> C", rate="k*([A]*[B] - [C]/Kc)/(1 + K*[C])", name="make",
                        k=mo.Arrhenius(A="5e9 L/mol/h", Ea="55 kJ/mol"), Kc="80 L/mol"),
            mo.Reaction("C -> D", name="lose", k=mo.Arrhenius(k="0.02 1/h", at="60 degC", Ea="80 kJ/mol")),
        ],
        constants={"K": "0.4 L/mol"},
    )  # fmt: skip
    feed = mo.Feed({"A": "1.2 mol/L", "B": "3.5 mol/min"}, flow="2.5 L/min", T="60 degC")
    vessels = {
        "first": mo.StirredTank(chemistry, feed, volume="400 L", contents={"A": 0, "B": 0}),
        "second": mo.PlugFlow(chemistry, feed, space_time="2 h", T="70 degC"),
        "flask": mo.Batch(chemistry, {"A": "0.6 mol", "B": "1.4 mol/L"}, volume="0.5 L", T="70 degC", time="2 h"),
    }
    for name, vessel in vessels.items():
        outcome = vessel.run()
        error = content[name]["metrics"]
        assert error["yield of C on A"]["value"] == pytest.approx(outcome.yield_of("C", on="A"), rel=1e-9)
        assert error["concentration of D"]["value"] == pytest.approx(outcome.concentrations["D"][-1] / 1000, rel=1e-9)
        assert error["concentration of D"]["unit"] == "kmol/m3"
    assert vessels["second"].run().yield_of("C", on="A") == pytest.approx(
        vessels["flask"].run().yield_of("C", on="A"), rel=1e-9
    )
    assert molino("run", path).exit_code == 0
    start_up = pd.read_csv(tmp_path / "results" / "job" / "run-first-over-time.csv")
    assert start_up["time [h]"].iloc[-1] == pytest.approx(12)
    assert start_up["A [kmol/m3]"].iloc[0] == 0
    book = pd.read_excel(tmp_path / "results" / "job" / "run.xlsx", sheet_name=None)
    assert list(book) == ["Contents", "first", "first over time", "second", "flask", "Inputs"]


def test_several_tables_go_into_one_fit(molino: Typed, folder: Path) -> None:
    """The demo's runs split over a CSV and a sheet of an XLSX give the demo's constants."""
    whole = pd.read_csv(folder / "cob-liquor.csv")
    cold = whole["run"].isin(["B1", "B2"])
    whole[~cold].to_csv(folder / "cob-liquor.csv", index=False)
    with pd.ExcelWriter(folder / "more.xlsx") as book:
        pd.DataFrame({"notes": ["nothing here"]}).to_excel(book, sheet_name="notes")
        whole[cold].to_excel(book, sheet_name="150 degC", index=False)
    spoil(
        folder / "valdeoro.toml",
        ('data = "liquor"', 'data = ["liquor", "cold"]'),
        ("[fit.kinetics]", '[data.cold]\nfile = "more.xlsx"\nsheet = "150 degC"\n\n[fit.kinetics]'),
    )
    content = json.loads(molino("fit", folder / "valdeoro.toml", "--json").stdout)["fits"]["kinetics"]
    alone = mo.load_job(DEMO / "valdeoro.toml")
    expected = mo.fit(alone.chemistry, alone.fits["kinetics"].data)
    for name in make_data.TRUTH:
        assert content["constants"][name]["value"] == pytest.approx(expected[name].shown()[0], rel=1e-6)


def test_two_fits_for_one_chemistry_are_refused_where_one_is_needed(molino: Typed, folder: Path) -> None:
    spoil(folder / "valdeoro.toml", ("[feeds.liquor] ", '[fit.again]\ndata = "liquor"\n\n[feeds.liquor] '))
    assert molino("fit", folder / "valdeoro.toml").exit_code == 0
    refused = molino("run", folder / "valdeoro.toml")
    assert refused.exit_code == 2
    assert "2 fits give the constants" in refused.stderr


@pytest.mark.parametrize("width", [60, 80, 120])
@pytest.mark.parametrize("command", ["check", "fit", "run", "size", "compare"])
def test_nothing_is_wider_than_the_terminal(
    molino: Typed, folder: Path, monkeypatch: pytest.MonkeyPatch, command: str, width: int
) -> None:
    monkeypatch.setenv("COLUMNS", str(width))
    result = molino(command, folder / "valdeoro.toml")
    assert result.exit_code == 0
    assert max(len(line) for line in result.stdout.splitlines()) <= width


def test_the_complete_job_of_the_page_on_job_files_is_sized(molino: Typed, tmp_path: Path) -> None:
    page = (ROOT / "docs" / "job-file.md").read_text(encoding="utf-8")
    job = job_file(tmp_path, re.findall(r"```toml\n(.*?)```", page, re.DOTALL)[0])
    shutil.copy(DEMO / "starts" / "fit" / "measurements.csv", tmp_path)
    (found,) = json.loads(molino("size", job, "--json").stdout)["sizes"].values()
    assert found["run"]["conversion_of_A"] == pytest.approx(0.9, rel=1e-9)
    assert found["interval_95"][0] < found["value"] < found["interval_95"][1]


def test_code_on_the_pages_fits_88_characters() -> None:
    """Python and jobs are not cut beside both columns of the site."""
    long = [
        f"{path.name}: {line}"
        for path in [ROOT / "README.md", *(ROOT / "docs").rglob("*.md")]
        for _, block in re.findall(r"```(python|toml)\n(.*?)```", path.read_text(encoding="utf-8"), re.DOTALL)
        for line in block.splitlines()
        if len(line) > 88
    ]
    assert not long


def test_formulas_of_the_pages_are_typeset_and_code_is_not(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.syspath_prepend(ROOT / "docs")
    import site_hooks

    page = SimpleNamespace(file=SimpleNamespace(src_uri="vessels/page.md"))
    text = "mass $\\frac{dn}{dt} = V r$, `cost = $5$`\n```text\na $b$ c\n```\n"
    made = site_hooks.on_page_markdown(text, page)
    assert made.startswith("mass <span><math")
    assert made.count("<math") == made.count("<mfrac>") == 1
    assert "`cost = $5$`" in made
    assert "a $b$ c" in made
    pages = {p.name: p.read_text(encoding="utf-8") for p in (ROOT / "docs").rglob("*.md")}
    assert {"batch.md", "stirred-tank.md", "plug-flow.md"} <= {
        name for name, page in pages.items() if "$\\frac" in page
    }


@pytest.mark.parametrize("command", ["run", "size", "compare", "sweep", "optimize"])
def test_only_the_named_tables_are_worked_on(command: str, molino: Typed, folder: Path) -> None:
    path = folder / "valdeoro.toml"
    names = {"run": "coil", "size": "coil", "compare": "plant", "sweep": "temperature", "optimize": "furfural"}
    keys = {"run": "vessels", "size": "sizes", "compare": "comparisons", "sweep": "sweeps", "optimize": "optima"}
    content = json.loads(molino(command, path, "--only", names[command], "--json").stdout)
    assert [*content[keys[command]]] == [names[command]]
    wrong = molino(command, path, "--only", names[command], "--only", f"{names[command]}x")
    assert wrong.exit_code == 2
    assert f"unknown name '{names[command]}x'" in wrong.stderr
    assert f"did you mean '{names[command]}'?" in wrong.stderr
