"""`molino size`: how long, how large."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from molino.desk.cli.common import (
    AsJson,
    Debug,
    JobPath,
    as_asked,
    console,
    handle_errors,
    known_vessels,
    print_written,
    read_job,
    results_of,
    show_table,
)

if TYPE_CHECKING:
    import pandas as pd

    from molino.core.design.sizing import Sizing
    from molino.desk.job.load import Job


def size(job: JobPath, as_json: AsJson = False, debug: Debug = False) -> None:
    """Size the vessels for their targets, with the uncertainty of the fitted constants carried to the size."""
    with handle_errors(as_json, debug):
        as_asked(do(read_job(job), quiet=as_json), as_json)


def do(job: Job, quiet: bool) -> dict[str, Any]:
    """Size, write, print unless quiet; gives the result as plain data. One target out of reach keeps no other back."""
    from molino.core.design.sizing import size
    from molino.core.errors import InputError, MolinoError, SolveError

    if not job.sizes:
        raise InputError("there is no [size.NAME] table", job.path.name, "add one with vessel, metric and target")
    vessels, source = known_vessels(job, quiet)
    found: dict[str, Sizing] = {}
    failed: dict[str, MolinoError] = {}
    for name, wanted in job.sizes.items():
        try:
            found[name] = size(vessels[wanted.vessel], wanted.metric, wanted.target, wanted.vary)
        except MolinoError as error:
            failed[name] = error
    content = {"job": job.path.name, "title": job.title, "source": source,
               "sizes": {name: s.to_dict() for name, s in found.items()}}  # fmt: skip
    if found:
        folder = results_of(job, "size", content)
        folder.tables("size", {"sizes": table(found)})
        if not quiet:
            console().print(source, style="dim")
            show_table(table(found), "sizes")
            print_written(folder)
    if failed:
        faults = [fault.within(f"[size.{name}]") for name, error in failed.items() for fault in error.faults]
        raise (InputError if all(isinstance(e, InputError) for e in failed.values()) else SolveError)(faults)
    return content


def table(found: dict[str, Sizing]) -> pd.DataFrame:
    """One row a sizing."""
    import pandas as pd

    rows = [{"size": name, **s.table().to_dict("records")[0]} for name, s in found.items()]
    return pd.DataFrame(rows).dropna(axis="columns", how="all")
