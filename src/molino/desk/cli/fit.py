"""`molino fit`: rate constants from the data."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from molino.desk.cli.common import AsJson, Debug, JobPath, as_asked, handle_errors, read_job

if TYPE_CHECKING:
    pass

from molino.desk.steps import fit as step

ProfileLikelihood = Annotated[bool, typer.Option("--profile-likelihood", help="Profile-likelihood intervals, too.")]
Refits = Annotated[
    int | None,
    typer.Option("--bootstrap", metavar="N", min=2, help="Fit N times to resampled data.", show_default=False),
]


def fit(
    job: JobPath,
    profile_likelihood: ProfileLikelihood = False,
    bootstrap: Refits = None,
    as_json: AsJson = False,
    debug: Debug = False,
) -> None:
    """Fit the unknown constants to the data: values, 95 % intervals, correlation, and how far to trust them.

    What its table `fit.NAME` asks for besides the fit is done, too: screening of orders, rates, the line over
    temperature, profile likelihoods, bootstrap, candidate laws, the next experiment.
    """
    with handle_errors(as_json, debug):
        as_asked(
            step.do(read_job(job), quiet=as_json, profile_likelihood=profile_likelihood, bootstrap=bootstrap), as_json
        )
