"""`molino orders`: the order of a measured concentration; without a job file."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from molino.desk.cli.common import AsJson, Debug, Formats, Output, Quiet, as_asked, handle_errors, kinds_of
from molino.desk.cli.table_options import (
    Columns,
    Decimal,
    DetectionLimits,
    HeaderRow,
    Response,
    Separator,
    Sheet,
    Units,
    pairs,
    reading,
)
from molino.desk.steps.common import load_figures, print_written
from molino.desk.steps.terminal import console, show_table

Data = Annotated[
    Path, typer.Argument(metavar="DATA", help="A table of measurements (CSV or XLSX).", show_default=False)
]
SpeciesName = Annotated[
    str | None, typer.Option("--species", help="The species, if several were measured.", show_default=False)
]
Partner = Annotated[
    str | None, typer.Option("--with", help="A second reactant, consumed one for one.", show_default=False)
]
Reversible = Annotated[bool, typer.Option("--reversible", help="Also try a reversible first order.")]
Relative = Annotated[bool, typer.Option("--relative", help="Errors are relative to each value.")]
Autocorrelated = Annotated[bool, typer.Option("--autocorrelated", help="Errors are correlated over time.")]
Run = Annotated[str | None, typer.Option("--run", help="Only this run of the table.", show_default=False)]
At = Annotated[
    str | None, typer.Option("--predict", help="Also predict the concentration at a time: '9 h'.", show_default=False)
]


def orders(
    data: Data,
    species: SpeciesName = None,
    partner: Partner = None,
    reversible: Reversible = False,
    relative: Relative = False,
    autocorrelated: Autocorrelated = False,
    sheet: Sheet = None,
    header_row: HeaderRow = None,
    columns: Columns = None,
    decimal: Decimal = None,
    separator: Separator = None,
    units: Units = None,
    response: Response = None,
    detection_limit: DetectionLimits = None,
    run: Run = None,
    predict: At = None,
    output: Output = None,
    formats: Formats = None,
    quiet: Quiet = False,
    as_json: AsJson = False,
    debug: Debug = False,
) -> None:
    """Try zero, first and second order and a free order n: straight lines, least squares, a verdict."""
    with handle_errors(as_json, debug):
        from molino.core.fitting.orders.screening import screen_orders

        figures = load_figures()
        from molino.desk.tables.experiments import read_experiments
        from molino.desk.tables.write import ResultsFolder, slug

        runs = read_experiments(
            data,
            **reading(sheet, header_row, columns, decimal, separator),
            units=pairs(units, "--units"),
            response=response,
            detection_limits=pairs(detection_limit, "--detection-limit"),
        )
        if run is not None:
            runs = runs.only(run)
        found = screen_orders(
            runs,
            species,
            partner=partner,
            reversible=reversible,
            errors="relative" if relative else None,
            autocorrelated=autocorrelated,
        )
        predictions = [found.predict(predict, s.run) for s in found.series] if predict is not None else []
        content = {**found.to_dict(), "notes": list(runs.notes)}
        folder = ResultsFolder(
            output or data.parent / "results" / slug(data.stem), formats=kinds_of(formats), inputs={data.name: data}
        )
        folder.csv(found.table(), "orders")
        folder.figure(figures.orders(found), "orders")
        temperatures = {r.T for r in found.experiments if r.T is not None}
        law = found.over_temperature() if found.chosen is not None and len(temperatures) > 1 else None
        if law is not None:
            content["over_temperature"] = str(law)
            folder.figure(figures.over_temperature(law), "orders", "temperature")
        folder.json(content, "orders")
        if not (as_json or quiet):
            from rich.text import Text

            out = console()
            for note in runs.notes:
                out.print(Text(note), style="dim")
            if len(found.series) == 1:
                show_table(found.table().drop(columns=["95 % low", "95 % high", "intercept", "slope"]))
            out.print(Text(str(found)))
            for one in predictions:
                out.print(Text(str(one)))
            if law is not None:
                out.print(Text(f"k over temperature: {law}"))
            print_written(folder)
        as_asked(content, as_json)
