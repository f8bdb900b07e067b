"""A report of a job or of results: its content, and the record for running it again."""

from __future__ import annotations

import base64
import datetime
import hashlib
import platform
import re
from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import partial
from importlib.metadata import version
from pathlib import Path
from typing import TYPE_CHECKING

from molino.core.annotations import ByName, PlainData
from molino.core.arguments import checked
from molino.core.balances.settings import RTOL
from molino.core.design.size.size_result import Sizing
from molino.core.errors import Fault, InputError, MolinoError
from molino.core.fitting.experiments import Experiments
from molino.core.parallel import Here, count_of, in_order, in_turn
from molino.core.results import Result
from molino.desk.job.load import Job, load_job
from molino.desk.report.collected import CollectedResults
from molino.desk.report.document import Block, Facts, Formulas, Listing, Page, Paragraph, Part, Section, Table, numbered
from molino.desk.report.pictures import pictures_of
from molino.desk.steps import STEPS, steps_of, take
from molino.desk.steps.progress import Tell
from molino.desk.tables.write import whole

if TYPE_CHECKING:
    import pandas as pd

RECORD = 1
"""The version of the record of a report."""
_PACKAGES = ("molino", "numpy", "scipy", "pandas", "sympy", "pint", "matplotlib")
_DECISIONS = {
    "sizes": ("Sizes", ("size",)),
    "comparison": ("Comparison", ("compare",)),
    "optimum": ("Best conditions", ("optimize",)),
    "arrangements": ("Arrangements of vessels", ("attainable", "recommend")),
    "sensitivity": ("Sensitivity to conditions", ("sweep",)),
}
_SECTIONS = {
    "fit": ("Rate constants from the data", ("fit",)),
    "tracer": ("Tracer tests", ("tracer",)),
    "limits": ("What is possible", ("survey", "equilibrium", "beds")),
    "fields": ("Fields", ("field",)),
    "vessels": ("Vessels as given", ("run", "profile", "steady", "branch")),
    "streams": ("Streams", ("streams",)),
}
"""Sections by their name, before and after data and chemistry: the title, and their results."""
_ORDER = ("facts", "paragraph", "picture", "explorer", "table", "listing")


@checked
def report(
    what: str | Path | Job | Result | Sequence[Result],
    path: str | Path,
    *,
    title: str = "",
    question: str = "",
    answer: str = "",
) -> Path:
    """Write a report: one self-contained HTML file, to read, to print and (of a job) to run again.

    Parameters
    ----------
    what : job file, Job, result or sequence of results
        Of a job all tasks are run, and the job with its data is stored in the report.
    path : str or Path
        The file to write.
    title, question, answer : str, optional
        The beginning of the page, instead of that of the job.

    Returns
    -------
    Path
        The file.

    Raises
    ------
    InputError
        If the job has faults, or `what` is something else.
    WriteError
        If the file cannot be written.

    Examples
    --------
    >>> import molino as mo, tempfile
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> tank = mo.StirredTank(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), name="tank")
    >>> sized = mo.size(tank, "conversion of A", 0.9)
    >>> written = mo.report([sized, sized.run], tempfile.mkdtemp() + "/tank.html", title="How large a tank")
    >>> "What volume does tank need" in written.read_text(encoding="utf-8")
    True
    """
    path = Path(path)
    if isinstance(what, str | Path):
        what = load_job(what)
    if isinstance(what, Job):
        job = replace(what, title=title or what.title, question=question or what.question, answer=answer or what.answer)
        page = page_of_job(job, True)
    else:
        results = [what] if isinstance(what, Result) else list(what)
        if not results or not all(isinstance(one, Result) for one in results):
            raise InputError("it is neither a job nor results", "what", "give a job file, mo.size(...), [run, ...]")
        page = page_of_results(results, title, [text for text in (question, answer) if text])
    write_page(page, path)
    return path


def write_page(page: Page, path: Path) -> None:
    """Write a page, whole or not at all."""
    text = page.html()
    with whole(path) as temporary:
        temporary.write_text(text, encoding="utf-8")


def take_steps(
    job: Job, collected: CollectedResults, quiet: bool, progress: Tell | None = None
) -> dict[str, Sequence[Fault]]:
    """All steps of a job, with collected results; and the errors, by step.

    Steps are spread over workers, unless there are more workers than steps: then each spreads its own work.
    """
    failed, steps = dict[str, Sequence[Fault]](), steps_of(job)
    spread = in_order if quiet and count_of(None) <= len(steps) else in_turn
    each = spread(partial(_step, job, collected.draws, quiet, Here(progress)), steps)
    for done, (step, (found, own)) in enumerate(zip(steps, each, strict=True), start=1):
        if progress is not None:
            progress(f"{step} done", done, len(steps))
        collected.add_step(own)
        if isinstance(found, MolinoError):
            failed[step] = found.faults
        else:
            collected.contents.setdefault(step, found)
    return failed


def _step(
    job: Job, draws: bool, quiet: bool, progress: Here[Tell | None], step: str
) -> tuple[PlainData | MolinoError, CollectedResults]:
    """A step, or its error; and the collected results."""
    if progress.own is not None:
        progress.own(step, (steps := steps_of(job)).index(step), len(steps))
    collected = CollectedResults(draws, f"{step}-")
    try:
        return take(step, replace(job, collected=collected), quiet), collected
    except MolinoError as error:
        return error, collected


def page_of_job(job: Job, quiet: bool, progress: Tell | None = None) -> Page:
    """The report of a job; `progress` is called with the name of each step."""
    collected = CollectedResults()
    return page_of_steps(job, collected, take_steps(job, collected, quiet, progress))


def page_of_steps(job: Job, collected: CollectedResults, failed: Mapping[str, Sequence[Fault]]) -> Page:
    """The report of a job whose steps have been run."""
    answers = _answers(job, collected)
    introduction = [text for text in (job.question, job.answer) if text]
    warnings = [Paragraph(f"{step}: {fault}", "warning") for step, faults in failed.items() for fault in faults]
    record = {
        "format": RECORD,
        "versions": versions(),
        "job": job.path.name,
        "inputs": _inputs(job),
        "title": job.title,
        "question": job.question,
        "answer": job.answer,
        "answers": dict(answers),
        "results": collected.contents,
        "failed": {step: [str(f) for f in faults] for step, faults in failed.items()},
    }
    sections = [
        *_results(collected, _DECISIONS),
        _data(job),
        _chemistry(job, collected),
        *_results(collected, _SECTIONS),
        _closures(collected),
        _inputs_and_versions(record),
    ]
    numbered(sections)
    if warnings:
        sections.insert(0, Section("not-done", "Failed tasks", [Part("", [*warnings])]))
    subtitle = f"{job.path.name}, computed on {datetime.date.today().isoformat()} by Molino {version('molino')}"
    title, assumptions = job.title or job.path.stem, _assumptions(job, collected)
    return Page(title, subtitle, introduction, answers, sections, record, assumptions)


def _answers(job: Job, collected: CollectedResults) -> list[tuple[str, str]]:
    """The questions and answers of the results: decisions first, those on the vessels in the question of the job
    before others, constants last."""
    order = [step for step in ("size", "compare", "optimize", "recommend", *STEPS) if step != "fit"]
    named = [(name.partition("-")[0], one.answer()) for name, one in collected.results.items()]
    known = [(step, found) for step, found in named if found is not None]
    asked = [name for name in job.vessels if re.search(rf"\b{re.escape(name)}\b", job.question)]

    def place(one: tuple[str, tuple[str, str]]) -> tuple[int, bool]:
        step, (question, _) = one
        return (*order, "fit").index(step), not any(f" {name} " in question for name in asked)

    return [found for _, found in sorted(known, key=place)]


def _assumptions(job: Job, collected: CollectedResults) -> str:
    """The assumptions in a line: heat of the vessels, and what intervals include."""
    constant = [name for name, vessel in job.single_vessels.items() if not vessel.is_non_isothermal]
    parts = [f"{', '.join(constant)} isothermal"] if constant else []
    if len(constant) == len(job.single_vessels) > 0:
        parts = ["all vessels isothermal"]
    if any(isinstance(one, Sizing) and one.interval is not None for one in collected.results.values()):
        parts.append("intervals of sizes include the uncertainty of the fitted constants only")
    fitted = [study.data for study in job.fits.values() if isinstance(study.data, Experiments)]
    parts += [f"constants fitted at {_range(data)}" for data in fitted]
    return f"Assumptions: {'; '.join(parts)}." if parts else ""


def _range(data: Experiments) -> str:
    """The range of the temperatures and of the concentrations of data."""
    display = data.display
    known = data.temperatures
    ends = dict.fromkeys(display.text(T, "temperature") for T in ((min(known), max(known)) if known else ()))
    highest = [f"{s} up to {display.text(c, 'concentration')}" for s, c in data.highest_concentrations.items()]
    return ", ".join([*([" to ".join(ends)] if ends else []), *highest])


def page_of_results(results: Sequence[Result], title: str, introduction: Sequence[str]) -> Page:
    """The report of results that were computed in Python."""
    collected = CollectedResults()
    sections = []
    for n, result in enumerate(results, 1):
        collected.result(result, f"{n}")
        for name, figure in pictures_of(result).items():
            collected.figure(figure, f"{n}", name)
        collected.csv(result.table(), f"{n}", type(result).__name__.lower())
        blocks = [block for part in collected.parts.pop(f"{n}").values() for block in part.blocks]
        sections.append(Section(f"result-{n}", result.headline[:80], [Part("", _sorted(blocks))]))
    answers = [found for one in results if (found := one.answer()) is not None]
    record = {
        "format": RECORD,
        "versions": versions(),
        "job": None,
        "inputs": [],
        "failed": {},
        "answers": dict(answers),
        "results": {str(n): result.to_dict() for n, result in enumerate(results, 1)},
    }
    subtitle = f"computed on {datetime.date.today().isoformat()} by Molino {version('molino')}, from Python"
    sections.append(_inputs_and_versions(record))
    numbered(sections)
    return Page(title or "Report", subtitle, introduction, answers, sections, record)


def _sorted(blocks: Sequence[Block]) -> list[Block]:
    """The blocks in order: facts, figures, tables."""
    return sorted(blocks, key=lambda block: _ORDER.index(block.kind))


def _results(collected: CollectedResults, wanted: Mapping[str, tuple[str, tuple[str, ...]]]) -> list[Section]:
    """The sections of the results of steps."""
    sections = []
    for name, (title, kinds) in wanted.items():
        parts: dict[str, Part] = {}
        for kind in kinds:
            for label, part in collected.parts.get(kind, {}).items():
                head = label if len(kinds) == 1 or kind in ("run", "steady", "branch") else f"{kind}: {label}"
                parts.setdefault(head, Part(head)).blocks += part.blocks
        for part in parts.values():
            part.blocks = _sorted(part.blocks)
        sections.append(Section(name, title, [*parts.values()]))
    return sections


def _data(job: Job) -> Section:
    """The data, and the excluded points."""
    parts = []
    for name, data in job.data.items():
        described: list[Block] = [Listing(str(data), f"data {name}")]
        if isinstance(data, Experiments):
            described.append(Paragraph(f"Range: {_range(data)}."))
        parts.append(Part(name, described))
    left = [
        f"{name}: left out: {study.data.describe(gone)}"
        for name, study in job.fits.items()
        if isinstance(study.data, Experiments)
        for gone in study.data.left_out
    ]
    parts.append(Part("", [Paragraph(text, "note") for text in left]))
    return Section("data", "Data", parts)


def _chemistry(job: Job, collected: CollectedResults) -> Section:
    """Species, reactions, rate laws, and the balances."""
    blocks: list[Block] = []
    if job.chemistry.species:
        blocks.append(Listing(str(job.chemistry), "species, reactions and rate laws"))
    for finding in job.chemistry.check().findings:
        blocks.append(Paragraph(str(finding), "warning" if finding.level == "warning" else "note"))
    parts = [Part("", blocks), *collected.parts.get("species", {}).values()]
    equations = {name: vessel.equations() for name, vessel in job.single_vessels.items()}
    alike: dict[str, list[str]] = {}
    for name, own in equations.items():
        alike.setdefault(str(own), []).append(name)
    for names in alike.values():
        label = f"Balances of {', '.join(names)}, as integrated"
        parts.append(Part(label, [Formulas.of(equations[names[0]], label)]))
    return Section("chemistry", "Chemistry and equations", parts)


def _closures(collected: CollectedResults) -> Section:
    """The checks of each result, and the method of each run."""
    import pandas as pd

    rows, solved = [], []
    for name, result in collected.results.items():
        of = name.partition("-")[2]
        rows += [
            {
                "of": of,
                "check": check.name,
                "found": check.value or None,
                "limit": check.limit or None,
                "method": check.method,
            }
            for check in result.checks
        ]
        solved += [{"of": of, "solved by": text} for what, text in result.facts().items() if what == "solved by"]
    blocks: list[Block] = []
    if rows:
        text = (
            "Each result was verified by a route independent of the search that found it; a deviation is relative to "
            f"the size of the quantity. Integrations have a relative tolerance of {RTOL:g}."
        )
        blocks += [Paragraph(text), Table.of(pd.DataFrame(rows), "checks", 2)]
    if solved:
        blocks.append(Table.of(pd.DataFrame(solved), "the method of each run"))
    return Section("closures", "Closures and checks", [Part("", blocks)])


def versions() -> dict[str, str]:
    """The versions of the packages."""
    return {**{name: version(name) for name in _PACKAGES}, "python": platform.python_version()}


def _inputs(job: Job) -> list[dict[str, str]]:
    """The files of a job, with hash and content."""
    found = []
    for name, path in {job.path.name: job.path, **job.files}.items():
        content = path.read_bytes()
        try:
            text, encoding = content.decode("utf-8"), "utf-8"
        except UnicodeDecodeError:
            text, encoding = base64.b64encode(content).decode("ascii"), "base64"
        digest = hashlib.sha256(content).hexdigest()
        found.append({"name": name, "sha256": digest, "encoding": encoding, "content": text})
    return found


def _inputs_and_versions(record: ByName) -> Section:
    """Hashes of the inputs, versions, and the job as it was run."""
    import pandas as pd

    parts = []
    inputs = record["inputs"]
    if inputs:
        frame: pd.DataFrame = pd.DataFrame([{"file": one["name"], "SHA-256": one["sha256"]} for one in inputs])
        text = "The job and its data are inside this page: molino rerun extracts them, runs them again and compares."
        parts.append(Part("", [Paragraph(text), Table.of(frame, "inputs")]))
    else:
        parts.append(
            Part("", [Paragraph("Computed in Python: this page does not contain a job that can be run again.", "note")])
        )
    parts.append(Part("", [Facts([*record["versions"].items()], "versions")]))
    if inputs:
        parts.append(Part("The job", [Listing(inputs[0]["content"], "the job file")]))
    return Section("inputs", "Inputs and versions", parts)
