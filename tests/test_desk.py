"""The desk as a user meets it: commands, job files, tables, figures, examples."""

from __future__ import annotations

import itertools
import json
import os
import shlex
import subprocess
import sys
from operator import attrgetter
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import molino as mo
from conftest import Typed, spoil
from molino._public import SUBMODULES, listed
from molino.core.fitting.fit_result import Fit
from molino.demo import make_data
from molino.desk.cli import COMMANDS
from molino.desk.cli.reference import EXAMPLES
from molino.desk.job.load import Job
from molino.desk.tables.write import whole

ROOT = Path(__file__).parent.parent


def test_the_demo_walks_the_whole_job(molino: Typed, tmp_path: Path) -> None:
    target = tmp_path / "mill"
    first = molino("demo", target)
    assert first.exit_code == 0
    for step in ("check", "fit", "run", "size", "compare"):
        assert f"molino {step} " in first.output
    assert "no faults found" in first.output
    assert "outlier" not in first.output
    assert "standard deviations off" in first.output
    words = " ".join(first.output.split())  # it ends in a decision, and says what would sharpen it
    for wanted in ("recommended: A tube is best: yield of furfural on xylose", "Back-mixing is a disadvantage", "with 0.95 confidence",
                   "the best 3 together leave"):  # fmt: skip
        assert wanted in words
    plan = json.loads((target / "results" / "valdeoro" / "optimize.json").read_text())["next"]["furfural"]
    assert plan["after"] < 0.8 * plan["now"]
    assert len(plan["together"]) == 3
    results = {path.name for path in (target / "results" / "valdeoro").iterdir()}
    for wanted in ("fit.json", "fit-kinetics.xlsx", "fit-kinetics-constants.csv", "fit-kinetics.png", "run-coil.csv",
                   "run-coil.png", "run-tank-over-time.png", "size.json", "compare-plant.csv", "compare-plant.png"):  # fmt: skip
        assert wanted in results
    assert not [name for name in results if name.startswith(".")]

    schema = json.loads((target / "job.schema.json").read_text())
    assert {"units", "reactions", "vessels", "size"} <= set(schema["properties"])
    assert schema["$defs"]["PlugFlowTable"]["additionalProperties"] is False
    assert "diameter" in schema["$defs"]["PlugFlowTable"]["properties"]

    constants = pd.read_csv(target / "results" / "valdeoro" / "fit-kinetics-constants.csv").set_index("constant")
    for name, true in make_data.TRUTH.items():
        name = name if name.endswith("Ea") else f"{name} at 165 °C"
        assert constants.loc[name, "95 % low"] < true < constants.loc[name, "95 % high"]
    profile = pd.read_excel(target / "results" / "valdeoro" / "run.xlsx", sheet_name="coil")
    assert profile.columns[0] == "length [m]"
    assert profile["xylose [mol/L]"].iloc[0] == pytest.approx(0.35)
    assert profile["xylose [mol/L]"].is_monotonic_decreasing
    side_by_side = pd.read_csv(target / "results" / "valdeoro" / "compare-plant.csv").set_index("vessel")
    assert side_by_side["conversion of xylose"].to_numpy() == pytest.approx(0.9, rel=1e-8)
    assert side_by_side.loc["tank", "volume [m3]"] > 3 * side_by_side.loc["coil", "volume [m3]"]
    sizes = json.loads((target / "results" / "valdeoro" / "size.json").read_text())["sizes"]
    assert sizes["coil"]["interval_95"][0] < sizes["coil"]["value"] < sizes["coil"]["interval_95"][1]
    assert max(sizes["coil"]["run"]["closure"].values()) < 1e-9

    printed = first.output.splitlines()
    starts = [n for n, line in enumerate(printed) if line.startswith(("molino ", "further "))]
    assert (
        max(later - n for n, later in itertools.pairwise(starts)) <= 40
    )  # one screen each, and where the rest is (a long path)
    assert "more lines with: molino run" in first.output
    walked = [printed[n].split()[1] for n in starts]
    assert walked[:9] == ["check", "fit", "run", "size", "compare", "sweep", "attainable", "recommend", "optimize"]
    spoil(target / "valdeoro.toml", ("T = 175", "T = 180"))
    changed = molino("demo", target)
    assert changed.exit_code == 2
    assert "has been changed" in changed.output
    assert "T = 180" in (target / "valdeoro.toml").read_text()


@pytest.mark.parametrize("command", ["check", "fit", "run", "size", "compare", "sweep", "optimize"])
def test_json_is_all_that_is_printed(molino: Typed, folder: Path, command: str) -> None:
    result = molino(command, folder / "valdeoro.toml", "--json")
    assert result.exit_code == 0
    content = json.loads(result.stdout)
    assert content["job"] == "valdeoro.toml"
    if command != "check":
        assert json.loads((folder / "results" / "valdeoro" / f"{command}.json").read_text()) == content
    if command == "fit":
        assert content["fits"]["kinetics"]["constants"]["dehydration.k"]["unit"] == "L/mol/min"
        (odd,) = content["fits"]["kinetics"]["outliers"]
        assert odd["run"] == "B4"


def test_steps_agree_with_python(molino: Typed, folder: Path, job: Job, fitted: Fit) -> None:
    content = json.loads(molino("size", folder / "valdeoro.toml", "--json").stdout)["sizes"]["coil"]
    coil = job.with_chemistry(fitted.chemistry)["coil"]
    by_python = mo.size(coil, mo.results.conversion("xylose"), target=0.9)
    assert content["value"] == pytest.approx(by_python.value, rel=1e-9)
    one = json.loads(molino("run", folder / "valdeoro.toml", "--only", "tank", "--json").stdout)["vessels"]
    assert list(one) == ["tank", "tank over time"]
    assert one["tank"]["steady"] is True
    assert molino("run", folder / "valdeoro.toml", "--only", "tnak").exit_code == 2


def test_a_point_left_out_by_the_job_is_listed(molino: Typed, folder: Path) -> None:
    spoil(folder / "valdeoro.toml", ("# leave_out", "leave_out"))
    result = molino("fit", folder / "valdeoro.toml")
    assert "left out: run B4, 49 min, furfural" in result.output
    assert "standard deviations off" not in result.output


FIRST = "B1,150,0.20,0.10,20,"


def test_faults_of_every_kind_are_reported_together(molino: Typed, folder: Path) -> None:
    spoil(
        folder / "valdeoro.toml",
        ("3 water", "2 water"), ("T = 175\n", 'T = "175 kg"\n'), ("diameter", "diametre"), ("[units] ", "[units]"),
        ('concentration = "mol/L"', 'concentration = "mol/h"'),
    )  # fmt: skip
    spoil(folder / "cob-liquor.csv", (FIRST, "B1,150,-0.20,0.10,20,"))
    error = json.loads(molino("check", folder / "valdeoro.toml", "--json").stdout)["errors"]
    assert len(error) == 5
    for table in ("reactions.dehydration", "feeds.liquor", "vessels.coil", "units", "data.liquor"):
        assert any(f"[{table}]" in fault["where"] for fault in error), table


def test_a_target_out_of_reach_keeps_the_others(molino: Typed, folder: Path) -> None:
    spoil(
        folder / "valdeoro.toml",
        ('vessel = "tank"\nmetric = "conversion of xylose"\ntarget = 0.9',
         'vessel = "tank"\nmetric = "yield of furfural on xylose"\ntarget = 0.9'),
    )  # fmt: skip
    result = molino("size", folder / "valdeoro.toml")
    assert result.exit_code == 1
    assert "out of reach: the most is 0.5" in " ".join(result.stderr.split())
    assert set(json.loads((folder / "results" / "valdeoro" / "size.json").read_text())["sizes"]) == {
        "cooker",
        "coil",
        "coil_at_95_percent",
    }


def test_bare_numbers_mean_what_the_units_table_says(job: Job) -> None:
    coil = job.vessels["coil"]
    assert isinstance(coil, mo.PlugFlow)
    assert coil.feed.flow.si == pytest.approx(12 / 3600)
    assert coil.feed.T.si == pytest.approx(448.15)
    assert coil.spec.fed.concentrations["xylose"] == pytest.approx(350)
    assert coil.length.si == 150
    assert job.chemistry.parameters[2].value == pytest.approx(438.15)


def write_table(path: Path, header: str, *rows: str) -> Path:
    path.write_text("\n".join([header, *rows]) + "\n", encoding="utf-8")
    return path


def test_tables_of_measurements_in_every_shape(tmp_path: Path) -> None:
    comma = write_table(tmp_path / "a.csv", "time [min],T [degC],A [mol/L]", "0,20,1.5", "1,20,", "2,,0.5")
    semicolon = write_table(
        tmp_path / "b.csv", "\ufefftime (min); T (degC);A [mol/L]", "0;20;1,5", "1;20;", "", "2;;0,5"
    )
    sheet = tmp_path / "c.xlsx"
    frame = pd.DataFrame({"time [min]": [0, 1, 2], "T [degC]": [20, 20, None], "A [mol/L]": [1.5, None, 0.5]})
    with pd.ExcelWriter(sheet) as book:
        frame.to_excel(book, sheet_name="lab", index=False)
    reads = [mo.read_experiments(t) for t in (comma, semicolon, frame)]
    for read in (*reads, mo.read_experiments(sheet, "lab")):
        (run,) = read
        assert run.times == pytest.approx([0, 60, 120])
        assert pytest.approx(293.15) == run.T
        assert run.measured["A"] == pytest.approx([1500, np.nan, 500], nan_ok=True)
        assert run.observed("A").tolist() == [False, False, True]
    for wrong in (tmp_path / "none.csv", write_table(tmp_path / "d.csv", "time [min],time [s],A", "1,2,3")):
        with pytest.raises(mo.InputError):
            mo.read_experiments(wrong)
    with pytest.raises(mo.InputError, match="unknown sheet 'office'"):
        mo.read_experiments(sheet, "office")


def test_a_file_is_written_whole_or_not_at_all(tmp_path: Path) -> None:
    target = tmp_path / "deep" / "result.csv"
    with whole(target) as temporary:
        temporary.write_text("sound")
    with pytest.raises(mo.files.WriteError, match="disk full"), whole(target) as temporary:  # noqa: PT012
        temporary.write_text("half")
        raise OSError("disk full")
    assert target.read_text() == "sound"
    assert [p.name for p in target.parent.iterdir()] == ["result.csv"]


def test_figures_show_what_was_measured_and_calculated(job: Job, fitted: Fit) -> None:
    figure = mo.figures.fit(fitted)
    panels = [axes for axes in figure.axes if axes.get_visible()]
    assert len(panels) == 6
    assert panels[0].get_ylabel() == "concentration [mol/L]"
    assert "outlier" in [text.get_text().strip() for text in figure.legends[0].texts]
    for axes, run in zip(panels, fitted.data, strict=True):
        top = axes.get_ylim()[1]
        assert top > max(np.nanmax(v) for v in run.measured.values()) / 1000
    vessels = job.with_chemistry(fitted.chemistry)
    profile = mo.figures.profile(vessels["coil"].run())
    assert profile.axes[1].get_xlabel() == "length [m]"
    assert profile.axes[1].get_ylabel() == "rate [mol/L/min]"
    with pytest.raises(mo.InputError, match="no profile"):
        mo.figures.profile(vessels["tank"].run())
    compared = mo.compare([vessels["coil"], vessels["tank"]], ["conversion of xylose"])
    bars = mo.figures.comparison(compared).axes[2]
    assert [bar.get_width() for bar in bars.patches] == pytest.approx(
        [v["conversion of xylose"] for v in compared.values]
    )


@pytest.mark.parametrize("example", sorted(p.name for p in (ROOT / "examples").glob("*.py")))
def test_examples_run(example: str, tmp_path: Path) -> None:
    words = [sys.executable, str(ROOT / "examples" / example)] + (
        ["2", "4"] if "coverage" in example else ["2"] if "verdicts" in example else []
    )
    done = subprocess.run(words, cwd=tmp_path, capture_output=True, text=True, timeout=120, check=False)
    assert done.returncode == 0, done.stderr
    assert done.stdout


def test_help_comes_at_once() -> None:
    """Nothing heavy is imported for it, whatever the machine does meanwhile; docs/performance.md has the time."""
    heavy = ["numpy", "scipy", "pandas", "sympy", "pint", "matplotlib", "pydantic"]
    code = (
        "import sys; from molino.desk.cli import app; app(['--help'], standalone_mode=False); "
        f"sys.exit(','.join(m for m in {heavy} if m in sys.modules) or 0)"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    for command in ("demo", "check", "fit", "run", "size", "compare"):
        assert command in done.stdout


def test_the_help_of_every_command_has_its_table_and_an_example_that_parses(molino: Typed) -> None:
    for command in COMMANDS:
        table, example = EXAMPLES[command.__name__]
        text = " ".join(molino(command.__name__, "--help").stdout.split())
        assert f"Example: {example}" in text
        assert f"Reads {table}." in text or not table
        tried = molino(*shlex.split(example)[1:], "--help")
        assert (tried.exit_code, tried.stderr) == (0, "")


def test_importing_molino_is_light() -> None:
    heavy = ["numpy", "scipy", "pandas", "sympy", "pint", "matplotlib", "pydantic", "typer", "rich"]
    code = f"import sys, molino; sys.exit(','.join(m for m in {heavy} if m in sys.modules) or 0)"
    subprocess.run([sys.executable, "-c", code], check=True, env={**os.environ, "PYTHONPATH": str(ROOT / "src")})


def test_the_public_face_is_whole_and_documented() -> None:
    for name in [*listed(), *SUBMODULES]:
        thing = attrgetter(name)(mo)
        assert thing.__doc__, name
        assert not thing.__doc__.startswith(f"{name}("), f"{name} has only the docstring a dataclass makes"
    with pytest.raises(AttributeError):
        _ = mo.nothing


def test_errors_of_the_command_line_show_a_traceback_only_on_request(folder: Path) -> None:
    spoil(folder / "valdeoro.toml", ("3 water", "2 water"))
    words = [sys.executable, "-m", "molino", "fit", "valdeoro.toml"]
    plain = subprocess.run(words, cwd=folder, capture_output=True, text=True, check=False)
    assert plain.returncode == 2
    assert "Traceback" not in plain.stderr
    debug = subprocess.run([*words, "--debug"], cwd=folder, capture_output=True, text=True, check=False)
    assert "Traceback" in debug.stderr


def test_amounts_are_shown_without_negative_rounding_and_as_amounts() -> None:
    chemistry = mo.Chemistry([mo.Reaction("A -> B", k="5 1/min"), mo.Reaction("B -> C", k="3 1/min")])
    run = mo.Batch(chemistry, {"A": "1 mol/L"}, time="60 min", volume="1 L").run()
    assert run.states.min() < 0, "this run has negative rounding errors"
    assert min(value.si for value in run.final.values()) >= 0
    assert run.table().filter(like="mol/L]").iloc[:, :3].to_numpy().min() >= 0
    assert run.stream_table()["contents"].min() >= 0
    figure = mo.figures.profile(run, show=["amount"])
    assert figure.axes[0].get_title("left") + figure.axes[0].get_ylabel() == "amount [mol]"
    with pytest.raises(mo.InputError, match="'molar flow' is not available for batch"):
        mo.figures.profile(run, show=["molar flow"])


def test_characters_without_a_font_give_one_warning(tmp_path: Path) -> None:
    chemistry = mo.Chemistry(mo.Reaction("\u7cdf\U00010a00 -> B", k="0.1 1/min"))
    figure = mo.Batch(chemistry, {"\u7cdf\U00010a00": "1 mol/L"}, time="5 min").run().figure()
    with pytest.warns(UserWarning, match="no installed font has") as warned:
        figure.savefig(tmp_path / "names.png")
    assert len(warned) == 1


def test_equal_quantities_are_stated_once_in_a_comparison() -> None:
    chemistry = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    vessels = [mo.PlugFlow(chemistry, feed, volume="5 L"), mo.StirredTank(chemistry, feed, volume="5 L")]
    compared = mo.compare(vessels, ["conversion of A"])
    figure = compared.figure()
    assert [axes.get_title("left") for axes in figure.axes] == ["conversion of A"]
    assert "all vessels: volume 5 L, residence time 5 min" in figure.get_suptitle()
    question, answer = compared.answer() or ("", "")
    assert question == "How do the vessels compare?"
    assert answer == "Conversion of A 0.5 (stirred tank) to 0.6321 (plug flow)."
