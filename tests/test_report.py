"""Reports: what stands in the page, how it behaves in a browser, and what running it again finds."""

from __future__ import annotations

import html
import importlib.resources
import json
import os
import re
import shutil
import subprocess
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import molino as mo
from conftest import Typed
from molino.desk.report.rerun import read_record

CHROMIUM = shutil.which("chromium") or shutil.which("google-chrome")
DEMO = importlib.resources.files("molino.demo")
QUIET = [
    "--headless",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--virtual-time-budget=5000",
    "--enable-logging=stderr",
]


_SHORTER = (  # the checker takes half a minute for thousands of cells that are all alike
    "document.querySelectorAll('details').forEach((one) => { one.open = true; });"
    "document.querySelectorAll('tbody').forEach((body) => [...body.rows].slice(4).forEach((row) => row.remove()));"
    "document.querySelectorAll('svg').forEach((one) => one.replaceChildren());"
    "document.querySelectorAll('pre').forEach((one) => { one.textContent = one.textContent.slice(0, 200); });"
)


def copied(folder: Path, *names: str) -> Path:
    """Files of the demo in a folder, the job (the first of them) without what takes longest; gives the job."""
    for name in names:
        (folder / name).write_bytes((DEMO / name).read_bytes())
    job = folder / names[0]
    parts = re.split(r"(?m)^(?=\[)", job.read_text(encoding="utf-8"))
    kept = [
        part
        for part in parts
        if not part.startswith(("[attainable.", "[recommend.", "[survey.", "[optimize.furfural.next"))
    ]
    job.write_text("".join(kept), encoding="utf-8")
    return job


def browse(page: Path, width: int, look: str, script: str = "") -> tuple[list[Any], str, str]:
    """What an accessibility checker finds in a page, what `script` gives, and what the console says."""
    axe = (importlib.resources.files("axe_core_python") / "axe.min.js").read_text(encoding="utf-8")
    tail = (
        f"<script>{axe}</script><script>document.documentElement.dataset.look = '{look}';"
        f"const given = (() => {{ {script} }})();"
        f"{_SHORTER}"
        "axe.run().then((found) => { const end = document.createElement('pre'); end.id = 'end';"
        "end.textContent = JSON.stringify([found.violations.map((v) => [v.id, v.nodes[0].html]), given ?? '']);"
        "document.body.append(end); });</script></body>"
    )
    looked_at = page.with_name(f"{page.stem}-{width}.html")
    looked_at.write_text(page.read_text(encoding="utf-8").replace("</body>", tail), encoding="utf-8")
    folder = page.parent / f"browser-{width}-{look}"
    assert CHROMIUM is not None
    done = subprocess.run(
        [CHROMIUM, *QUIET, f"--user-data-dir={folder}", f"--window-size={width},800", "--dump-dom", looked_at.as_uri()],
        capture_output=True, text=True, timeout=120, check=False,
    )  # fmt: skip
    found = re.search(r'<pre id="end">(.*?)</pre>', done.stdout, re.DOTALL)
    assert found is not None, done.stdout[-500:]
    violations, given = json.loads(html.unescape(found[1]))
    return violations, given, "\n".join(line for line in done.stderr.splitlines() if "CONSOLE" in line)


@pytest.mark.parametrize(("files", "width", "look"), [
    (("valdeoro.toml", "cob-liquor.csv"), 1280, "light"), (("ether.toml",), 400, "dark"),
])  # fmt: skip
def test_the_report_of_a_plant(
    files: tuple[str, ...], width: int, look: str, tmp_path: Path, molino: Typed
) -> None:  # fmt: skip
    """It says all, needs nothing, behaves in a browser, and gives every number again elsewhere."""
    job = copied(tmp_path, *files)
    done = molino("report", job)
    assert done.exit_code == 0, done.output
    page = tmp_path / "results" / job.stem / "report.html"
    says_all(page, job)
    if CHROMIUM is not None:
        behaves(page, width, look)
    again = molino("rerun", page, "--extract", tmp_path / "again", "--json")
    assert again.exit_code == 0, again.output
    found = json.loads(again.stdout)
    assert found["same"]
    assert found["compared"] > 500
    assert (tmp_path / "again" / job.name).read_bytes() == job.read_bytes()


def says_all(page: Path, job: Path) -> None:
    text = page.read_text(encoding="utf-8")
    assert not re.findall(
        r'(?:src|href)="(?!#|data:)[^"]*"|@import|url\((?!#)',
        re.sub(r"<pre.*?</pre>", "", text, flags=re.DOTALL).partition('id="record"')[0],
    )
    wanted = ["Question and answer", "Sizes", "Comparison", "Best conditions", "Sensitivity to conditions",
              "Chemistry and equations", "Vessels as given", "Streams", "Closures and checks", "Inputs and versions"]  # fmt: skip
    assert re.findall(r'<h2 id="[^"]*">(.*?)</h2>', text)[0] == "Question and answer"
    places = [text.index(f">{title}</h2>") for title in wanted]
    assert places == sorted(places)
    record = read_record(page)
    assert record.inputs[0].name == job.name
    assert record.inputs[0].content in html.unescape(text)
    assert all(one.sha256 in text for one in record.inputs)
    sized = record.results["size"]["sizes"]
    assert all(f"need for {one['metric']} = " in html.unescape(text) for one in sized.values())
    figures = re.findall(r'<div role="img" aria-label="([^"]*)">\s*<svg', text)
    assert len(figures) == text.count("<svg") >= 6
    assert all(len(alternative) > 30 for alternative in figures)
    names = re.findall(r'\bid="([^"]*)"', text.partition('id="record"')[0])
    assert len(names) == len(set(names))


def behaves(page: Path, width: int, look: str) -> None:
    """Accessible, an empty console, nothing wider than the window; and what a reader does works."""
    script = """
    const table = document.querySelector("table.data");
    table.querySelectorAll("thead button")[2].click();
    const column = [...table.tBodies[0].rows].map((row) => Number(row.cells[2].dataset.value));
    const plot = document.querySelector(".plot[tabindex]");
    plot.dispatchEvent(new KeyboardEvent("keydown", { key: "ArrowRight" }));
    const slider = document.querySelector(".explorer input");
    const before = document.querySelector(".explorer tbody").textContent;
    slider.value = 0;
    slider.dispatchEvent(new Event("input"));
    return [column, plot.parentElement.querySelector(".reading").textContent, before,
            document.querySelector(".explorer tbody").textContent, document.documentElement.scrollWidth - window.innerWidth];
    """
    violations, given, console = browse(page, width, look, script)
    assert violations == []
    assert console == ""
    column, reading, before, after, beyond = given
    assert [x for x in column if x is not None] == sorted(x for x in column if x is not None)
    assert re.search(r"\d: .*\d", reading)
    assert before != after
    assert beyond <= 0
    sweep = next(iter(read_record(page).results["sweep"]["sweeps"].values()))
    assert all(metric in after for metric in sweep["metrics"])


SMALL = """
title = "A small one"
allow_outside = true
[reactions.main]
equation = "A -> B"
k = { guess = "0.1 1/min" }
[data.lab]
file = "../lab.csv"
[fit.k]
data = "lab"
leave_out = [{ run = "1", time = "5 min", response = "A", because = "the <flask> & its stopper leaked" }]
[feeds.f]
contents = { A = "1 mol/L" }
flow = "1 L/min"
[vessels.tank]
kind = "stirred tank"
feed = "f"
volume = "5 L"
[size.tank]
vessel = "tank"
metric = "conversion of A"
target = 0.9
[size.never]
vessel = "tank"
metric = "concentration of B"
target = "GOAL mol/L"
"""
LAB = "run,time [min],A [mol/L]\n1,0,1.0\n1,5,0.9\n1,10,0.14\n1,15,0.05\n1,20,0.018\n"


@pytest.fixture(scope="module")
def small(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A job whose data lie outside its folder, and of which one step cannot be done."""
    folder = tmp_path_factory.mktemp("small")
    (folder / "job").mkdir()
    (folder / "lab.csv").write_text(LAB, encoding="utf-8")
    (folder / "job" / "small.toml").write_text(SMALL.replace("GOAL", "0.95"), encoding="utf-8")
    return mo.report(folder / "job" / "small.toml", folder / "small.html", question="How <large>?")


def test_what_was_left_out_stands_there_with_its_reason(small: Path) -> None:
    text = small.read_text(encoding="utf-8")
    assert "How &lt;large&gt;?" in text
    assert "the &lt;flask&gt; &amp; its stopper leaked" in text
    assert "<flask>" not in text


def test_a_changed_input_is_found(small: Path, tmp_path: Path, molino: Typed) -> None:
    assert molino("rerun", small).exit_code == 0
    others = tmp_path / "others"
    others.mkdir()
    (others / "small.toml").write_text(SMALL.replace("GOAL", "0.95").replace('"5 L"', '"6 L"'), encoding="utf-8")
    changed = molino("rerun", small, "--inputs", others, "--json")
    assert changed.exit_code == 1
    found = json.loads(changed.stdout)
    assert found["inputs"]["small.toml"] == "differs from that in the report"
    assert "is not in" in found["inputs"]["../lab.csv"]
    volume = next(d for d in found["differences"] if d["where"] == "run/vessels/tank/volume/value")
    assert (float(volume["reported"]), float(volume["now"])) == (5.0, 6.0)
    assert volume["relative"] == pytest.approx(1 / 6)
    assert "there are differences from the report" in " ".join(
        molino("rerun", small, "--inputs", others).output.split()
    )
    edited = tmp_path / "edited.html"
    text = small.read_text(encoding="utf-8")
    volume_text = re.search(r"<td>([\d.]+ L)</td>", text)
    assert volume_text
    edited.write_text(text.replace(volume_text[0], "<td>7.125 L</td>", 1), encoding="utf-8")
    found = json.loads(molino("rerun", edited, "--json").stdout)
    assert [(d["where"], d["reported"], d["now"]) for d in found["differences"]] == [
        ("page", "7.125 L", volume_text[1])
    ]
    forged = tmp_path / "forged.html"
    forged.write_text(small.read_text(encoding="utf-8").replace("1,10,0.14", "1,10,0.15"), encoding="utf-8")
    found = json.loads(molino("rerun", forged, "--json").stdout)
    assert found["inputs"] == {"../lab.csv": "has been changed inside the report"}
    assert any(d["where"].startswith("fit/fits/k") for d in found["differences"])


def _record(**changed: Any) -> str:
    """A page with nothing but a record."""
    record = {"format": 1, "job": None, "inputs": [], "results": {}, "versions": {}} | changed
    return f'<script type="application/json" id="record">{json.dumps(record)}</script>'


@pytest.mark.parametrize(("text", "words"), [
    ("<p>no report</p>", "no record of inputs"), (_record(format=99), "version 99"), (_record(), "without a job"),
    (_record(inputs=3), "is not valid"), (_record(results=[1]), "is not valid"),
    (_record(inputs=[{"name": "j.toml", "sha256": "", "encoding": "base64", "content": "%"}], job="j.toml"),
     "is not valid"),
    (_record(inputs=[{"name": "j.toml", "sha256": "", "encoding": "utf-8", "content": ""}], job="k"), "its job 'k'"),
    (_record()[:44] + "[" * 100_000 + "</script>", "is not valid"),
    (_record()[:-9] * 20_000, "or more than one"),
])  # fmt: skip
def test_what_is_no_report_is_refused(text: str, words: str, tmp_path: Path, molino: Typed) -> None:
    (tmp_path / "a.html").write_text(text, encoding="utf-8")
    refused = molino("rerun", tmp_path / "a.html")
    assert refused.exit_code == 2
    assert words in " ".join(refused.output.split())


def test_a_pipe_or_no_file_is_no_report(tmp_path: Path, molino: Typed) -> None:
    os.mkfifo(tmp_path / "pipe.html")
    assert molino("rerun", tmp_path / "pipe.html").exit_code == 2
    assert molino("rerun", tmp_path / "none.html").exit_code == 2
    with pytest.raises(mo.InputError, match="neither a job nor results"):
        mo.report([], tmp_path / "d.html")
    assert not (tmp_path / "d.html").exists()


def test_what_could_not_be_done_stands_first_and_the_rest_is_there(tmp_path: Path, molino: Typed) -> None:
    (tmp_path / "lab.csv").write_text(LAB, encoding="utf-8")
    job = tmp_path / "job.toml"
    job.write_text(SMALL.replace("../lab", "lab").replace("GOAL", "2"), encoding="utf-8")
    done = molino("report", job, "--output", tmp_path / "page.html", "--json")
    assert done.exit_code == 1
    content = json.loads(done.stdout)
    assert [*content["failed"]] == ["size"]
    assert "What volume does tank need for conversion of A = 0.9?" in content["answers"]
    text = (tmp_path / "page.html").read_text(encoding="utf-8")
    assert text.index("Failed tasks</h2>") < text.index("Sizes</h2>") < text.index("Data</h2>")
    again = molino("rerun", tmp_path / "page.html", "--json")
    assert (again.exit_code, json.loads(again.stdout)["same"]) == (0, True), "it fails in the same way"


def test_a_rerun_reads_nothing_but_the_report(small: Path, tmp_path: Path, molino: Typed) -> None:
    others = tmp_path / "others"
    others.mkdir()
    other = SMALL.replace("GOAL", "0.95").replace("../lab.csv", "../secret.csv")
    (others / "small.toml").write_text(other, encoding="utf-8")
    (tmp_path / "secret.csv").write_text(LAB, encoding="utf-8")
    refused = molino("rerun", small, "--inputs", others)
    assert refused.exit_code == 2
    assert "is not in the report" in " ".join(refused.output.split())


def test_results_of_python_make_a_report(tmp_path: Path, molino: Typed) -> None:
    chem, feed = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min")), mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    tube = mo.PlugFlow(chem, feed, volume="5 L", name="tube")
    swept = mo.sweep(
        tube, [{"volume": "1 L", "[A]": "1 mol/L"}, {"volume": "2 L", "[A]": "2 mol/L"}], ["conversion of A"]
    )
    page = mo.report([tube.run(), mo.size(tube, "conversion of A", 0.9), swept], tmp_path / "page.html", title="Tube")
    text = page.read_text(encoding="utf-8")
    assert "What volume does tube need for conversion of A = 0.9?" in text
    assert '"name":"case"' in text
    assert "does not contain a job" in text
    shown = " ".join(molino("show", page).output.split())
    assert "What volume does tube need for conversion of A = 0.9?" in shown
    assert molino("rerun", page).exit_code == 2


def test_results_answer_what_was_asked(fitted: mo.results.Fit) -> None:
    """The question and the answer that a report begins with, from what the results hold."""
    question, answer = fitted.answer()
    assert "constants" in question
    value, _, low, high = fitted["dehydration.k"].shown()
    assert f"dehydration.k at 165 °C {value:.4g} ({low:.4g} to {high:.4g}) L/mol/min" in answer
    chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    pipe = mo.fields.LaminarTube(
        chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), diameter="20 mm", length="10 m", name="pipe"
    ).run()
    question, answer = pipe.answer() or ("", "")
    assert question == "What does pipe convert?"
    assert f"conversion of A {pipe.conversion('A'):.4g}" in answer
    assert "stirred tank" in answer
    t = np.linspace(0.0, 60.0, 61)
    spread = mo.mixing.TracerTest(t * 60, t * np.exp(-t / 10)).distribution()
    assert f"mean residence time {spread.facts()['mean residence time']}" in spread.answer()[1]
    assert pipe.tube.distribution().answer()[0] == "What is the flow pattern of the vessel?"
    assert mo.compare([mo.Batch(chem, {"A": 1.0}, time=60.0)], ["conversion of A"]).answer() is None


def test_a_report_begins_with_what_was_asked_and_ends_its_answers_with_the_constants(
    molino: Typed, folder: Path
) -> None:
    page = folder / "page.html"
    content = json.loads(molino("report", folder / "valdeoro.toml", "--output", page, "--json").stdout)
    questions = [*content["answers"]]
    assert questions[0] == "What length does coil need for conversion of xylose = 0.9?", "the job asks for the coil"
    assert questions[-1] == "What are the constants (95 % intervals)?"
    length = content["answers"][questions[0]]
    assert re.match(
        r"3\d\d\.\d m \(95 % interval .* m to .* m\)\. Basis: plug flow, 4 tubes of diameter 80 mm fed", length
    )
    assert content["answers"]["What is the highest yield of furfural on xylose of coil?"].count("(upper bound)") == 1
    compared = content["answers"]["How do the vessels compare for conversion of xylose = 0.9?"]
    assert re.match(r"Volume .* m³ \(coil\) to .* m³ \(tank\); yield of furfural on xylose .* \(tank\) to", compared)
    arrangement = content["answers"]["Which arrangement has the best yield of furfural on xylose?"]
    assert arrangement.startswith("A tube is best: yield of furfural on xylose 0.7")
    assert "A batch gives the same, but not continuously." in arrangement
    text = page.read_text(encoding="utf-8")
    assert "Assumptions: all vessels isothermal; intervals of sizes include" in text
    assert "constants fitted at 150 °C to 180 °C, xylose up to" in text
    assert text.count("<math") > 50
    assert "d(n_xylose)/dt = -V*r_dehydration" in text, "the equations can be copied as text"
    numbers = [int(n) for n in re.findall(r"<figcaption>Figure (\d+)\.", text)]
    assert numbers == [*range(1, len(numbers) + 1)]


def test_every_kind_of_size_has_an_answer() -> None:
    """Whole numbers and sizes within a train have no field that could be left open."""
    chemistry, feed = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min")), mo.Feed({"A": "1 mol/L"}, flow="1 m3/h")
    tube = mo.PlugFlow(chemistry, feed, diameter="50 mm", length="10 m")
    train = mo.Train([mo.PlugFlow(chemistry, feed, volume="1 m3", name="t")], recycle=1.0)
    for vessel, free, question, answer in (
        (
            tube,
            "tubes",
            "How many tubes does plug flow need",
            "10. Basis: plug flow, 10 tubes of diameter 50 mm, length",
        ),
        (tube, "length", "What length does plug flow need", "97.72 m. Basis: plug flow, tube of diameter 50 mm fed"),
        (
            mo.StirredTank(chemistry, feed, volume="0.1 m3"),
            "tanks_in_series",
            "How many tanks in series does",
            "3. Basis",
        ),
        (train, "t.volume", "What t.volume does train need", "0.2841 m³. Basis: t: plug flow"),
    ):
        found = mo.size(vessel, "conversion of A", 0.9, free=free).answer()
        assert found[0].startswith(question)
        assert found[1].startswith(answer)
