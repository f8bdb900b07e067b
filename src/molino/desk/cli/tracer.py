"""`molino tracer`: what a tracer test says of a vessel; no job file needed."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from molino.desk.cli.common import (
    AsJson,
    Debug,
    as_asked,
    console,
    handle_errors,
    load_figures,
    print_written,
    read_job,
    show_progress,
    show_table,
)

if TYPE_CHECKING:
    from molino.core.mixing.tracer_test import TracerTest
    from molino.desk.job.load import Job
    from molino.desk.tables.write import ResultsFolder

Data = Annotated[
    Path,
    typer.Argument(
        metavar="DATA",
        help="A table of times and signals (CSV or XLSX), or a job with [tracer.NAME] tables.",
        show_default=False,
    ),
]
Kind = Annotated[
    str | None, typer.Option("--kind", help="pulse, 'step up', 'step down' or 'measured inlet'.", show_default=False)
]
Volume = Annotated[str | None, typer.Option("--volume", help="Of the vessel: '2 m3'.", show_default=False)]
Flow = Annotated[str | None, typer.Option("--flow", help="Through it: '12 m3/h'.", show_default=False)]
Injected = Annotated[
    str | None, typer.Option("--injected", help="What was put in: '5 g', '0.2 mol'.", show_default=False)
]
Calibration = Annotated[
    str | None,
    typer.Option("--calibration", help="Concentration for one unit of signal: '0.1 g/L'.", show_default=False),
]
Baseline = Annotated[
    list[str] | None,
    typer.Option(
        "--baseline", help="A window without tracer, '0 s:20 s'; two or more for a drift.", show_default=False
    ),
]
Plateau = Annotated[
    float | None, typer.Option("--plateau", help="The signal of the tracer itself.", show_default=False)
]
Tail = Annotated[str, typer.Option("--tail", help="exponential or none.")]
Rule = Annotated[str, typer.Option("--rule", help="trapezoid or Simpson.")]
End = Annotated[str | None, typer.Option("--end", help="What comes later is left out: '30 min'.", show_default=False)]
Smoothing = Annotated[
    float | None, typer.Option("--smoothing", help="Of the smoothed curve, if not found.", show_default=False)
]
Sheet = Annotated[str | None, typer.Option("--sheet", help="Of an XLSX file.", show_default=False)]
HeaderRow = Annotated[
    int | None, typer.Option("--header-row", min=1, help="The line of the headings, if not found.", show_default=False)
]
Columns = Annotated[
    str | None, typer.Option("--columns", help="Of several tables side by side: B:E.", show_default=False)
]
Constant = Annotated[
    str | None,
    typer.Option("--rate-constant", help="Of first order: also the conversion, '0.2 1/min'.", show_default=False),
]
Models = Annotated[bool, typer.Option("--models/--no-models", help="Fit models of flow.")]


def tracer(
    data: Data, kind: Kind = None, volume: Volume = None, flow: Flow = None, injected: Injected = None,
    calibration: Calibration = None, baseline: Baseline = None, plateau: Plateau = None, tail: Tail = "exponential",
    rule: Rule = "trapezoid", end: End = None, smoothing: Smoothing = None, rate_constant: Constant = None,
    models: Models = True, sheet: Sheet = None, header_row: HeaderRow = None, columns: Columns = None,
    as_json: AsJson = False, debug: Debug = False,
) -> None:  # fmt: skip
    """E and F curves of a tracer test: moments with intervals, recovery, dead volume, a diagnosis, models of flow."""
    with handle_errors(as_json, debug):
        from molino.core.errors import InputError
        from molino.desk.tables.tracer import read_tracer
        from molino.desk.tables.write import ResultsFolder, slug

        windows = []
        for text in baseline or ():
            low, mark, high = text.partition(":")
            if not mark:
                raise InputError(f"'{text}' is no window of times", "--baseline", "write it like '0 s:20 s'")
            windows.append((low.strip(), high.strip()))
        given: dict[str, Any] = {
            "kind": kind, "volume": volume, "flow": flow, "injected": injected, "calibration": calibration,
            "plateau": plateau, "end": end,
        }  # fmt: skip
        given = {name: value for name, value in given.items() if value is not None}
        if data.suffix.lower() == ".toml":
            plain = (tail, rule, models) == ("exponential", "trapezoid", True)
            if not plain or any((given, windows, sheet, header_row, columns, smoothing, rate_constant)):
                raise InputError(
                    "options are given with a job file", data.name, "write them in its [tracer.NAME] table"
                )
            as_asked(do(read_job(data), as_json), as_json)
            return
        test = read_tracer(data, sheet, header_row=header_row, columns=columns, baseline=windows, tail=tail, rule=rule,
                           **given)  # fmt: skip
        folder = ResultsFolder(data.parent / "results" / slug(data.stem))
        content = _analysed(test, smoothing, models, rate_constant, folder, ("tracer",), as_json)
        folder.json(content, "tracer")
        if not as_json:
            print_written(folder)
        as_asked(content, as_json)


def do(job: Job, quiet: bool) -> dict[str, Any]:
    """The tracer tests of a job: analyse, write, print unless quiet; gives the result as plain data."""
    from molino.core.errors import Failures, InputError
    from molino.desk.tables.tracer import read_tracer

    if not job.tracers:
        raise InputError("there is no [tracer.NAME] table", job.path.name, "add one with file, volume and flow")
    folder, failures, found = job.results_folder(), Failures(), dict[str, Any]()
    for name, task in job.tracers.items():
        with failures.at(f"[tracer.{name}]"), show_progress(f"tracer test {name}", quiet):
            test = read_tracer(task.path, **task.reading)
            found[name] = _analysed(test, task.smoothing, task.has_models, task.rate_constant, folder, ("tracer", name),
                                    quiet)  # fmt: skip
    if not found:
        failures.raise_any(job.path.name)
    content = {"job": job.path.name, "title": job.title, "tracers": found}
    folder.json(content, "tracer")
    if not quiet:
        print_written(folder)
    failures.raise_any(job.path.name)
    return content


def _analysed(
    test: TracerTest, smoothing: float | None, models: bool, rate_constant: str | None, folder: ResultsFolder,
    parts: tuple[str, ...], quiet: bool,
) -> dict[str, Any]:  # fmt: skip
    """What one test says: written, printed unless quiet, given as plain data."""
    from molino.core.mixing.conversion import mixing_bounds
    from molino.core.mixing.flow_fit import fit_flow_models

    figures = load_figures()
    found = test.distribution(smoothing)
    compared = fit_flow_models(test) if models else None
    bounds = mixing_bounds(_first_order(rate_constant), found) if rate_constant is not None else None
    content: dict[str, Any] = {**found.to_dict(), "notes_of_reading": list(test.notes)}
    folder.csv(found.table(), *parts)
    folder.figure(figures.tracer(found, compared), *parts)
    if compared is not None:
        folder.csv(compared.table(), *parts, "models")
        content["models"] = compared.to_dict()
    if bounds is not None:
        content["first_order"] = bounds.to_dict()
    if quiet:
        return content
    from rich.text import Text

    out = console()
    for note in test.notes:
        out.print(Text(note), style="dim")
    out.print(Text(str(found)))
    if compared is not None:
        rows = compared.table().drop(columns=["AICc", "dead fraction"], errors="ignore")
        rows["weight"] = [f"{w:.3f}" if w >= 1e-3 else "< 0.001" for w in compared.weights]
        show_table(rows, "models of flow")
        for name, words in compared.facts().items():
            out.print(Text(f"{name}: {words}"))
    if bounds is not None and compared is not None:
        of_model = compared.best.model.conversion(rate_constant, f"{compared.best.mean_si!r} s")
        least, most = bounds.interval("A")
        by_E = f"conversion {bounds.conversion('A'):.4g} by E (95 %: {least:.4g} to {most:.4g})"
        by_model = f"{of_model:.4g} by {compared.best.model.noun}"
        out.print(Text(f"first order, k = {rate_constant}: {by_E}, {by_model}"))
    elif bounds is not None:
        out.print(Text(str(bounds)))
    return content


def _first_order(rate_constant: str) -> Any:
    """A batch in which A reacts in first order."""
    from molino.core.chemistry.chemistry import Chemistry
    from molino.core.chemistry.reaction import Reaction
    from molino.core.vessels.batch import Batch

    return Batch(Chemistry([Reaction("A -> B", k=rate_constant)]), {"A": "1 mol/L"}, name="first order")
