"""`molino tracer`: the analysis of a tracer test; without a job file."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from molino.core.annotations import PlainData
from molino.desk import steps
from molino.desk.cli.common import (
    AsJson,
    Debug,
    Formats,
    Only,
    Output,
    Quiet,
    as_asked,
    asked_job,
    handle_errors,
    kinds_of,
)
from molino.desk.cli.table_options import (
    Columns,
    Decimal,
    HeaderRow,
    Separator,
    Sheet,
    reading,
)
from molino.desk.steps import tracer as step
from molino.desk.steps.common import print_written

Data = Annotated[
    Path,
    typer.Argument(
        metavar="DATA",
        help="A table of times and signals (CSV or XLSX), or a job with a table \\[tracer.NAME].",
        show_default=False,
    ),
]
Kind = Annotated[
    str | None, typer.Option("--kind", help="pulse, 'step up', 'step down' or 'measured inlet'.", show_default=False)
]
Volume = Annotated[str | None, typer.Option("--volume", help="Volume of the vessel: '2 m3'.", show_default=False)]
Flow = Annotated[str | None, typer.Option("--flow", help="Flow through it: '12 m3/h'.", show_default=False)]
Injected = Annotated[
    str | None, typer.Option("--injected", help="The injected amount: '5 g', '0.2 mol'.", show_default=False)
]
Calibration = Annotated[
    str | None,
    typer.Option("--calibration", help="Concentration per unit of signal: '0.1 g/L'.", show_default=False),
]
Baseline = Annotated[
    list[str] | None,
    typer.Option(
        "--baseline", help="A window without tracer, '0 s:20 s'; two or more for a drift.", show_default=False
    ),
]
Plateau = Annotated[float | None, typer.Option("--plateau", help="The signal of the plateau.", show_default=False)]
Tail = Annotated[str, typer.Option("--tail", help="exponential or none.")]
Rule = Annotated[str, typer.Option("--rule", help="trapezoid or Simpson.")]
End = Annotated[str | None, typer.Option("--end", help="Later points are ignored: '30 min'.", show_default=False)]
Smoothing = Annotated[
    float | None,
    typer.Option("--smoothing", help="Smoothing of the curve, if not found automatically.", show_default=False),
]
Constant = Annotated[
    str | None,
    typer.Option(
        "--rate-constant", help="A first-order rate constant for a conversion, '0.2 1/min'.", show_default=False
    ),
]
Models = Annotated[bool, typer.Option("--models/--no-models", help="Fit flow models.")]


def tracer(
    data: Data,
    kind: Kind = None,
    volume: Volume = None,
    flow: Flow = None,
    injected: Injected = None,
    calibration: Calibration = None,
    baseline: Baseline = None,
    plateau: Plateau = None,
    tail: Tail = "exponential",
    rule: Rule = "trapezoid",
    end: End = None,
    smoothing: Smoothing = None,
    rate_constant: Constant = None,
    models: Models = True,
    sheet: Sheet = None,
    header_row: HeaderRow = None,
    columns: Columns = None,
    decimal: Decimal = None,
    separator: Separator = None,
    only: Only = None,
    output: Output = None,
    formats: Formats = None,
    quiet: Quiet = False,
    as_json: AsJson = False,
    debug: Debug = False,
) -> None:
    """Evaluate a tracer test: E and F curves, moments with intervals, recovery, dead volume, diagnosis, flow models."""
    with handle_errors(as_json, debug):
        from molino.core.errors import InputError
        from molino.desk.tables.tracer import read_tracer
        from molino.desk.tables.write import ResultsFolder, slug

        windows = [_window(text) for text in baseline or ()]
        given: PlainData = {"kind": kind, "volume": volume, "flow": flow, "injected": injected}
        given |= {"calibration": calibration, "plateau": plateau, "end": end}
        given = {name: value for name, value in given.items() if value is not None}
        if data.suffix.lower() == ".toml":
            plain = (tail, rule, models) == ("exponential", "trapezoid", True)
            places = (sheet, header_row, columns, decimal, separator)
            if not plain or any((given, windows, *places, smoothing, rate_constant)):
                raise InputError(
                    "options are given with a job file", data.name, "write them in its [tracer.NAME] table"
                )
            job = asked_job(data, output, formats)
            job = steps.only(job, "tracer", only) if only else job
            as_asked(step.do(job, as_json or quiet), as_json)
            return
        if only:
            raise InputError("--only names a table of a job", "--only", "leave it out, or give a job file")
        test = read_tracer(
            data,
            **reading(sheet, header_row, columns, decimal, separator),
            baseline=windows,
            tail=tail,
            rule=rule,
            **given,
        )
        folder = ResultsFolder(
            output or data.parent / "results" / slug(data.stem), formats=kinds_of(formats), inputs={data.name: data}
        )
        content = step.analysed(test, smoothing, models, rate_constant, folder, ("tracer",), as_json or quiet)
        folder.json(content, "tracer")
        if not (as_json or quiet):
            print_written(folder)
        as_asked(content, as_json)


def _window(text: str) -> tuple[str, str]:
    from molino.core.errors import InputError

    low, mark, high = text.partition(":")
    if not mark:
        raise InputError(f"'{text}' is not a window of times", "--baseline", "write it like '0 s:20 s'")
    return low.strip(), high.strip()
