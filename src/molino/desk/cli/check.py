"""`molino check`: what is missing, said twice, out of balance or of a wrong unit; nothing is run."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from molino.desk.cli.common import AsJson, Debug, JobPath, as_asked, console, guard, read_job

if TYPE_CHECKING:
    from molino.desk.job.load import Job


def check(job: JobPath, as_json: AsJson = False, debug: Debug = False) -> None:
    """Check a job file and its data: what is missing, said twice, out of balance or of a wrong unit. Nothing is run."""
    with guard(as_json, debug):
        as_asked(do(read_job(job), quiet=as_json), as_json)


def do(job: Job, quiet: bool) -> dict[str, Any]:
    """Print what the job holds unless quiet, and give it as plain data; reading it has found it sound."""
    if quiet:
        return _plain(job)
    from rich.text import Text

    out = console()
    out.print(job.title or job.path.name, style="bold")
    unbalanced = [s.name for s in job.chemistry.species if not s.formula]
    out.print("chemistry", style="bold")
    out.print(Text(str(job.chemistry)))
    out.print(
        "  elements balance" if not unbalanced else f"  elements not checked: no formula for {', '.join(unbalanced)}"
    )
    for name, data in job.data.items():
        out.print(f"data {name}", style="bold")
        out.print(Text(str(data)))
    if job.vessels:
        out.print("vessels", style="bold")
        for vessel in job.vessels.values():
            out.print(Text(f"  {vessel}"))
    tasks = [f"fit {n}" for n in job.fits] + [f"size {n}" for n in job.sizes] + [f"compare {n}" for n in job.compares]
    out.print(f"tasks: {', '.join(tasks) or 'run'}")
    out.print("no faults found", style="bold green")
    return _plain(job)


def _plain(job: Job) -> dict[str, Any]:
    chemistry = job.chemistry
    return {
        "job": job.path.name,
        "title": job.title,
        "reactions": {str(r.name): str(r.equation) for r in chemistry.reactions},
        "unknown": [p.name for p in chemistry.unknowns],
        "data": {name: {"runs": [run.name for run in data]} for name, data in job.data.items()},
        "vessels": {name: str(vessel) for name, vessel in job.vessels.items()},
        "tasks": {"fit": list(job.fits), "size": list(job.sizes), "compare": list(job.compares)},
        "errors": [],
    }
