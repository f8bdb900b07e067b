"""The commands of the steps of a job: `molino fit JOB`, `molino run JOB` and so on, with the same options."""

from __future__ import annotations

import inspect
from collections.abc import Callable
from typing import Annotated, Any

import typer

from molino.desk.cli.common import (
    AsJson,
    Cluster,
    Debug,
    Formats,
    JobPath,
    Only,
    Output,
    Quiet,
    WorkerCount,
    as_asked,
    asked_job,
    continued,
    handle_errors,
    workers_of,
)
from molino.desk.steps import only, take

Written = Annotated[bool, typer.Option("--equations", help="Print the balances of each vessel.")]
Thorough = Annotated[bool, typer.Option("--thorough", help="Run each vessel twice, by two methods that must agree.")]
ProfileLikelihood = Annotated[
    bool, typer.Option("--profile-likelihood", help="Also compute profile-likelihood intervals.")
]
Refits = Annotated[
    int | None,
    typer.Option("--bootstrap", metavar="N", min=2, help="Also refit N times to resampled data.", show_default=False),
]
DrawCount = Annotated[
    int | None,
    typer.Option("--posterior", metavar="N", min=10, help="Also draw N times from the posterior.", show_default=False),
]

_OPTIONS: dict[str, dict[str, tuple[object, object]]] = {
    "check": {"equations": (Written, False), "thorough": (Thorough, False)},
    "fit": {
        "profile_likelihood": (ProfileLikelihood, False),
        "bootstrap": (Refits, None),
        "posterior": (DrawCount, None),
    },
}
"""The further options of a command: annotation and default."""
_ABOUT = {
    "check": """
        Check a job file and its data: missing or contradictory inputs, unbalanced equations, wrong units.

        Nothing is run, except with --thorough.

        Prints warnings, notes, and for each vessel the count of equations and unknowns.
    """,
    "fit": """
        Fit the unknown constants to the data: values, 95 % intervals, correlation, diagnostics.

        Also the other analyses of its table `fit.NAME`: screening of orders, rates, the Arrhenius line, profile
        likelihoods, bootstrap, posterior, candidate laws, the next experiment.
    """,
    "survey": """
        Compare a given conversion, equilibrium, a stirred tank, a tube and a batch on one feed, before a design.

        Prints conversion, temperature, duty, residence time and distance from equilibrium of each, with remarks.
    """,
    "equilibrium": """
        Compute the equilibrium of a feed over temperature and pressure, and the adiabatic beds to a target.

        Prints the limits and each bed, with the duty after it.
    """,
    "field": """
        Compute the fields of a job: laminar pipes and slits, basins; over time and with a tracer if requested.

        Prints the conversion compared with plug flow and a stirred tank, ages, and the error of the grid; draws the
        field.
    """,
    "run": """
        Run the vessels as given: batches, tubes and trains to their end, tanks to steady state (or all of them).
    """,
    "size": """
        Size the vessels for their targets, with the uncertainty from the fitted constants.

        With `confidence` in its table a size is large enough with that probability; its sources of spread are drawn.
    """,
    "compare": """
        Compare vessels: as given, or each sized for the same target.
    """,
    "sweep": """
        Run vessels under many conditions: every combination of values, or a list of cases.

        Prints the first rows, the highest and lowest of each metric and the failed cases; all cases are written to
        tables (CSV, XLSX, with `parquet = true` also Parquet) and a figure. Ctrl-C keeps the computed cases.
    """,
    "attainable": """
        Find the outlets of all steady arrangements of tanks, tubes, by-passes and side feeds on a feed.

        Prints the extent of the region and, with an objective, the train of the best point; draws the region with the
        kind of each piece of its boundary.
    """,
    "recommend": """
        Compare batch, tanks, tubes, recycle and side feed, each at its own best temperature and size.

        Prints the ranking with the interval of each, and the reason; draws it.
    """,
    "optimize": """
        Find the conditions and sizes at which a metric of a vessel or train is best, within limits.

        Prints the optimum, its active limits with their multipliers, and derivatives; draws its surroundings.
        Ctrl-C keeps the best so far.
    """,
}
"""Each command with its help."""


def _command(name: str, about: str) -> Callable[..., None]:
    """The command of a step."""
    shared = {
        "output": (Output, None),
        "formats": (Formats, None),
        "workers": (WorkerCount, None),
        "cluster": (Cluster, None),
        "quiet": (Quiet, False),
        "as_json": (AsJson, False),
        "debug": (Debug, False),
    }
    if name != "check":
        shared = {"only": (Only, None), **shared}
    options = _OPTIONS.get(name, {})

    def command(**given: Any) -> None:
        own, is_quiet = {option: given[option] for option in options}, given["as_json"] or given["quiet"]
        with handle_errors(given["as_json"], given["debug"]), workers_of(given["workers"], given["cluster"]):
            job = asked_job(given["job"], given["output"], given["formats"])
            if given.get("only"):
                job = only(job, name, given["only"])
            with continued(job, name, {**own, "only": given.get("only")}, is_quiet):
                found = take(name, job, is_quiet, **own)
            as_asked(found, given["as_json"])

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
