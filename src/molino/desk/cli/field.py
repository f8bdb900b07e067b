"""`molino field`: laminar tubes and basins, at rest and over time."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from molino.desk.cli.common import AsJson, Debug, JobPath, as_asked, handle_errors, read_job

if TYPE_CHECKING:
    pass

from molino.desk.steps import field as step

FieldName = Annotated[str | None, typer.Option("--field", help="Only this field.", show_default=False)]


def field(job: JobPath, only: FieldName = None, as_json: AsJson = False, debug: Debug = False) -> None:
    """Work out the fields of a job: laminar pipes and slits, basins; over time and with a tracer where it asks for it.

    Prints conversion against plug flow and a stirred tank, ages, and what the grid does; draws the field.
    """
    with handle_errors(as_json, debug):
        as_asked(step.do(read_job(job), as_json, only), as_json)
