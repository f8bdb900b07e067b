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
    print_files_written,
    read_job,
    show_table,
    write_species,
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
    from molino.desk.tables.write import write_json, write_tables

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
               "sizes": {name: plain(s) for name, s in found.items()}}  # fmt: skip
    if found:
        files = [write_json(job.results / "size.json", content), *write_species(job)]
        files += write_tables(job.results, "size", {"sizes": table(found)})
        if not quiet:
            console().print(source, style="dim")
            show_table(table(found), "sizes")
            print_files_written(job, files)
    if failed:
        faults = [fault.within(f"[size.{name}]") for name, error in failed.items() for fault in error.faults]
        raise (InputError if all(isinstance(e, InputError) for e in failed.values()) else SolveError)(faults)
    return content


def table(found: dict[str, Sizing]) -> pd.DataFrame:
    """One row a sizing."""
    import pandas as pd

    rows = []
    for name, s in found.items():
        display, kind = s.display, s.kind
        low, high = s.interval if s.interval is not None else (None, None)
        rows.append(
            {
                "size": name,
                "target": f"{s.metric} = {display.text(s.target, s.metric.kind)}",
                "found": s.vary.replace("_", " "),
                "value": float(display.number(s.value, kind)),
                "95 % low": float(display.number(low, kind)) if low is not None else None,
                "95 % high": float(display.number(high, kind)) if high is not None else None,
                "unit": display.unit(kind),
                display.heading("residence time", "time"): float(display.number(s.run.residence_time_si, "time")),
            }
        )
    return pd.DataFrame(rows).dropna(axis="columns", how="all")


def plain(s: Sizing) -> dict[str, Any]:
    """A sizing as plain data, in the units shown."""
    from molino.desk.cli.run import plain as plain_run

    display, kind = s.display, s.kind
    interval = [float(display.number(bound, kind)) for bound in s.interval] if s.interval is not None else None
    return {
        "metric": str(s.metric),
        "target": float(display.number(s.target, s.metric.kind)),
        "vary": s.vary,
        "value": float(display.number(s.value, kind)),
        "unit": display.unit(kind),
        "interval_95": interval,
        "stable": s.is_stable,
        "remark": s.remark,
        "run": plain_run(s.run),
    }
