"""`molino size`: how long, how large."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from molino.desk.cli.common import AsJson, Debug, JobPath, console, guard, known_vessels, read_job, show_table, wrote

if TYPE_CHECKING:
    import pandas as pd

    from molino.core.design.sizing import Sizing
    from molino.desk.job.load import Job


def size(job: JobPath, as_json: AsJson = False, debug: Debug = False) -> None:
    """Size the vessels for their targets, with the uncertainty of the fitted constants carried to the size."""
    with guard(as_json, debug):
        do(read_job(job), as_json)


def do(job: Job, as_json: bool) -> None:
    """Size, print, write. One target out of reach does not keep the others back; it is told at the end."""
    from molino.core.design.sizing import size
    from molino.core.errors import InputError, MolinoError, UnreachableError
    from molino.desk.tables.write import to_json, write_json, write_tables

    if not job.sizes:
        raise InputError("there is no [size.NAME] table", job.path.name, "add one with vessel, metric and reach")
    vessels, source = known_vessels(job, quiet=as_json)
    found: dict[str, Sizing] = {}
    failed: list[MolinoError] = []
    for name, wanted in job.sizes.items():
        try:
            found[name] = size(vessels[wanted.vessel], wanted.metric, wanted.reach, wanted.vary)
        except MolinoError as error:
            failed.append(type(error)(fault.within(f"[size.{name}]") for fault in error.faults)
                          if not isinstance(error, UnreachableError) else error)  # fmt: skip
    content = {"job": job.path.name, "title": job.title, "source": source,
               "sizes": {name: plain(s) for name, s in found.items()}}  # fmt: skip
    if found:
        files = [write_json(job.results / "size.json", content)]
        files += write_tables(job.results, "size", {"sizes": table(found)})
        if as_json and not failed:
            print(to_json(content))
        elif not as_json:
            console().print(source, style="dim")
            show_table(table(found), "sizes")
            wrote(job, files)
    if failed:
        raise (
            next((e for e in failed if isinstance(e, InputError)), failed[0]) if len(failed) == 1 else _together(failed)
        )


def _together(errors: list[Any]) -> Any:
    from molino.core.errors import InputError, SolveError

    faults = [fault for error in errors for fault in error.faults]
    return InputError(faults) if all(isinstance(e, InputError) for e in errors) else SolveError(faults)


def table(found: dict[str, Sizing]) -> pd.DataFrame:
    """One row a sizing."""
    import pandas as pd

    from molino.core.design.sizing import KINDS

    rows = []
    for name, s in found.items():
        display, kind = s.vessel.display, KINDS[s.vary]
        low, high = s.interval if s.interval is not None else (None, None)
        rows.append(
            {
                "size": name,
                "target": f"{s.metric} = {display.text(s.reach, s.metric.kind)}",
                "found": s.vary.replace("_", " "),
                "value": float(display.number(s.value, kind)),
                "95 % low": float(display.number(low, kind)) if low is not None else None,
                "95 % high": float(display.number(high, kind)) if high is not None else None,
                "unit": display.unit(kind),
                display.heading("residence time", "time"): float(display.number(s.run.residence_time_si, "time")),
            }
        )
    return pd.DataFrame(rows)


def plain(s: Sizing) -> dict[str, Any]:
    """A sizing as plain data, in the units shown."""
    from molino.core.design.sizing import KINDS
    from molino.desk.cli.run import plain as plain_run

    display, kind = s.vessel.display, KINDS[s.vary]
    interval = [float(display.number(bound, kind)) for bound in s.interval] if s.interval is not None else None
    return {
        "metric": str(s.metric),
        "reach": float(display.number(s.reach, s.metric.kind)),
        "vary": s.vary,
        "value": float(display.number(s.value, kind)),
        "unit": display.unit(kind),
        "interval_95": interval,
        "run": plain_run(s.run),
    }
