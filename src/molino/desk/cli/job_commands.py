"""The commands that take a step of a job: `molino fit JOB`, `molino run JOB` and so on, all with the same options."""

from __future__ import annotations

import inspect
from collections.abc import Callable
from typing import Annotated, Any

import typer

from molino.desk.cli.common import AsJson, Debug, Formats, JobPath, Output, Quiet, as_asked, asked_job, handle_errors
from molino.desk.steps import take

Written = Annotated[bool, typer.Option("--equations", help="Print the balances of each vessel as they are written.")]
Thorough = Annotated[
    bool, typer.Option("--thorough", help="Run each vessel, and once more by another method, which must agree.")
]
ProfileLikelihood = Annotated[bool, typer.Option("--profile-likelihood", help="Profile-likelihood intervals, too.")]
Refits = Annotated[
    int | None,
    typer.Option("--bootstrap", metavar="N", min=2, help="Fit N times to resampled data.", show_default=False),
]
FieldName = Annotated[str | None, typer.Option("--field", help="Only this field.", show_default=False)]
VesselName = Annotated[str | None, typer.Option("--vessel", help="Only this vessel.", show_default=False)]

_OPTIONS: dict[str, dict[str, tuple[Any, Any]]] = {
    "check": {"equations": (Written, False), "thorough": (Thorough, False)},
    "fit": {"profile_likelihood": (ProfileLikelihood, False), "bootstrap": (Refits, None)},
    "field": {"only": (FieldName, None)},
    "run": {"only": (VesselName, None)},
}
"""What a command takes besides what all take: the annotation and the default."""
_ABOUT = {
    "check": """
        Check a job file and its data: inputs that are missing, specified twice, out of balance or of a wrong unit.

        Nothing is run, unless with --thorough.

        Then the findings before a run: warnings, notes, for each vessel the count of equations and unknowns.
    """,
    "fit": """
        Fit the unknown constants to the data: values, 95 % intervals, correlation, and how far to trust them.

        What its table `fit.NAME` asks for besides the fit is done, too: screening of orders, rates, the line over
        temperature, profile likelihoods, bootstrap, candidate laws, the next experiment.
    """,
    "survey": """
        Put given conversion, equilibrium, stirred tank, tube and batch on one feed, before anything is designed.

        Prints conversion, temperature, duty, residence time and distance from equilibrium of each, and why one is far.
    """,
    "equilibrium": """
        Draw what a feed could come to over temperature and pressure, and the adiabatic beds that take it there.

        Prints the limits and each bed, with the heat that is taken away after it.
    """,
    "field": """
        Work out the fields of a job: laminar pipes and slits, basins; over time and with a tracer where it asks for it.

        Prints conversion against plug flow and a stirred tank, ages, and what the grid does; draws the field.
    """,
    "run": """
        Run the vessels as given: batches, tubes and trains to their end, tanks to steady state (or all of them).
    """,
    "size": """
        Size the vessels for their targets, with the uncertainty of the fitted constants carried to the size.

        With `confidence` in its table a size is large enough with that probability; its sources of spread are drawn.
    """,
    "compare": """
        Put vessels side by side: as given, or each sized for the same target.
    """,
    "sweep": """
        Run vessels under many conditions: every combination of some, or a list of cases.

        Prints the first rows, the highest and lowest of each metric and what could not be computed; all cases go into
        tables (CSV, XLSX, with `parquet = true` also Parquet) and a figure. Ctrl-C keeps what has been computed.
    """,
    "attainable": """
        Find what any steady arrangement of tanks, tubes, by-passes and side feeds can make of a feed.

        Prints the extent of the region and, where something is to be best, the train that reaches it; draws the region
        with what makes each piece of its boundary.
    """,
    "recommend": """
        Put batch, tanks, tubes, recycle and side feed side by side, each at its own best temperature and size.

        Prints the ranking with the interval of each, and why the first is first; draws it.
    """,
    "optimize": """
        Find the conditions and sizes at which a metric of a vessel or train is best, within limits.

        Prints the optimum, its active limits and what each is worth, and the slopes; draws it within its surroundings.
        Ctrl-C keeps the best so far.
    """,
}
"""Each command with its help."""


def _command(name: str, about: str) -> Callable[..., None]:
    """The command of a step."""
    shared = {
        "output": (Output, None),
        "formats": (Formats, None),
        "quiet": (Quiet, False),
        "as_json": (AsJson, False),
        "debug": (Debug, False),
    }
    options = _OPTIONS.get(name, {})

    def command(**given: Any) -> None:
        own = {option: given[option] for option in options}
        with handle_errors(given["as_json"], given["debug"]):
            job = asked_job(given["job"], given["output"], given["formats"])
            as_asked(take(name, job, given["as_json"] or given["quiet"], **own), given["as_json"])

    keyword = inspect.Parameter.KEYWORD_ONLY
    parameters = [inspect.Parameter("job", keyword, annotation=JobPath)]
    for option, (annotation, default) in {**options, **shared}.items():
        parameters.append(inspect.Parameter(option, keyword, annotation=annotation, default=default))
    command.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
    command.__annotations__ = {one.name: one.annotation for one in parameters}
    command.__name__, command.__doc__ = name, inspect.cleandoc(about)
    return command


JOB_COMMANDS = {name: _command(name, about) for name, about in _ABOUT.items()}
"""The commands by their names."""
