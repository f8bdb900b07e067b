"""`molino equilibrium`: how far a feed could go over temperature and pressure, and by how many beds."""

from __future__ import annotations

from typing import TYPE_CHECKING

from molino.desk.cli.common import AsJson, Debug, JobPath, as_asked, handle_errors, read_job

if TYPE_CHECKING:
    pass

from molino.desk.steps import equilibrium as step


def equilibrium(job: JobPath, as_json: AsJson = False, debug: Debug = False) -> None:
    """Draw what a feed could come to over temperature and pressure, and the adiabatic beds that take it there.

    Prints the limits and each bed, with the heat that is taken away after it.
    """
    with handle_errors(as_json, debug):
        as_asked(step.do(read_job(job), quiet=as_json), as_json)
