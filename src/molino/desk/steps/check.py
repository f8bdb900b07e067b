"""The check of a job: missing or contradictory inputs, unbalanced equations, wrong units."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING

from molino.core.annotations import ByName, PlainData
from molino.desk.steps.common import known_vessels
from molino.desk.steps.progress import show_progress
from molino.desk.steps.terminal import console, show_table

if TYPE_CHECKING:
    import pandas as pd

    from molino.core.chemistry.findings import Finding
    from molino.core.contract.review import VesselReview
    from molino.core.fitting.experiments import Experiments
    from molino.core.fitting.rates.rates import Rates
    from molino.desk.job.load import Job


def do(job: Job, quiet: bool, equations: bool = False, thorough: bool = False) -> PlainData:
    """Print the content of the job unless quiet, and return it as plain data; reading it has found no faults."""
    runs = _verified_runs(job, quiet) if thorough else {}
    if quiet:
        return _plain(job, {name: vessel.check() for name, vessel in job.single_vessels.items()}, runs)
    from rich.padding import Padding
    from rich.text import Text

    out = console()
    out.print(job.title or job.path.name, style="bold")
    if job.chemistry.species:
        out.print("chemistry", style="bold")
        out.print(Text(str(job.chemistry)))
    for name, data in job.data.items():
        out.print(f"data {name}", style="bold")
        out.print(Text(str(data)))
    reviews = {name: vessel.check() for name, vessel in job.single_vessels.items()}
    if reviews:
        out.print("vessels", style="bold")
        for vessel in job.vessels.values():
            out.print(Text(f"  {vessel}"))
        show_table(_counts(reviews))
        missing: dict[tuple[str, ...], list[str]] = {}
        for name, single in job.single_vessels.items() if equations else ():
            out.print(Text(f"{name}: {single.noun}", style="bold"))
            out.print(Text(str(single.equations())))
        for name, review in reviews.items():
            missing.setdefault(review.count.open, []).append(name)
        for names, owners in missing.items():
            if names:
                out.print(Text(f"  unknown in {', '.join(owners)}: {', '.join(names)}"))
    if runs:
        import pandas as pd

        rows = [
            {"run": name, "check": c.name, "found": c.value, "limit": c.limit, "method": c.method}
            for name, run in runs.items()
            for c in run.checks
        ]
        show_table(pd.DataFrame(rows), "checks of each vessel run once")
    for task in job.fields.values():
        out.print(Text(f"  {task.field}"))
    findings = _findings(job, reviews)
    for finding in findings:
        style = {"error": "bold red", "warning": "bold yellow", "note": "bold"}[finding.level]
        out.print(Text.assemble((f"{finding.level} ", style), f"{finding.where}: {finding.what}"))
        if finding.advice:
            out.print(Padding(Text.assemble(("-> ", "cyan"), finding.advice), (0, 0, 0, 4)))
    tasks = [f"{task} {name}" for task, names in _tasks(job).items() for name in names]
    out.print(Text(f"tasks: {', '.join(tasks) or ('run' if job.vessels else 'none')}"))
    warnings = sum(finding.level == "warning" for finding in findings)
    if warnings:
        out.print(f"no faults; {warnings} warning{'s' if warnings > 1 else ''}", style="bold yellow")
    else:
        out.print("no faults found", style="bold green")
    return _plain(job, reviews, runs)


def _verified_runs(job: Job, quiet: bool) -> PlainData:
    """Run each vessel with a size, with a second integration by another method; an error if one disagrees."""
    from molino.core.errors import Failures, InputError

    vessels, _, _ = known_vessels(job, quiet)
    found, failures = {}, Failures()
    for name, vessel in vessels.items():
        with failures.at(name), show_progress(f"running {name} twice", quiet):
            try:
                run = vessel.run()
            except InputError:  # without a size
                continue
            found[name] = run.thoroughly_verified()
    failures.raise_any()
    return found


def _findings(job: Job, reviews: Mapping[str, VesselReview]) -> tuple[Finding, ...]:
    """What there is to report of the chemistry and its vessels, each thing once."""
    from molino.core.chemistry.findings import Finding, Review
    from molino.core.fitting.experiments import Experiments

    own = list(job.chemistry.check().findings)
    own += [Finding("note", "units", remark, "write another unit if this is not meant") for remark in job.remarks]
    for name, data in job.data.items():
        if isinstance(data, Experiments):
            own += [replace(f, where=f"data {name}, {f.where}") for f in data.check(job.chemistry).findings]
    return Review.of([*own, *(f for review in reviews.values() for f in review.findings)]).findings


def _counts(reviews: Mapping[str, VesselReview]) -> pd.DataFrame:
    """For each vessel its unknowns, equations and degrees of freedom."""
    import pandas as pd

    rows = []
    for name, review in reviews.items():
        count = review.count
        sizes = {"unknowns": len(count.unknowns), "equations": len(count.equations), "given": len(count.given)}
        rows.append({"vessel": name, **sizes, "degrees of freedom": count.degrees_of_freedom})
    return pd.DataFrame(rows)


def _runs(data: Experiments | Rates) -> list[str]:
    from molino.core.fitting.experiments import Experiments

    return [run.name for run in data] if isinstance(data, Experiments) else []


def _tasks(job: Job) -> dict[str, list[str]]:
    """The tasks of the job, by command."""
    tasks = {
        "fit": {**job.lines, **job.fits},
        "size": job.sizes,
        "compare": job.compares,
        "sweep": job.sweeps,
        "attainable": job.regions,
        "recommend": job.recommendations,
        "survey": job.surveys,
        "equilibrium": job.equilibria,
        "optimize": job.optimizations,
        "tracer": job.tracers,
        "field": job.fields,
    }
    return {task: list(names) for task, names in tasks.items()}


def _plain(job: Job, reviews: Mapping[str, VesselReview], runs: ByName) -> PlainData:
    chemistry = job.chemistry
    return {
        "job": job.path.name,
        "title": job.title,
        "reactions": {str(r.name): str(r.equation) for r in chemistry.reactions},
        "unknown": [p.name for p in chemistry.unknowns],
        "data": {name: {"runs": _runs(data)} for name, data in job.data.items()},
        "vessels": {name: str(vessel) for name, vessel in job.vessels.items()},
        "tasks": _tasks(job),
        "counts": {
            name: {
                "unknowns": list(r.count.unknowns),
                "equations": list(r.count.equations),
                "given": list(r.count.given),
                "open": list(r.count.open),
            }
            for name, r in reviews.items()
        },
        "findings": [
            {"level": f.level, "where": f.where, "what": f.what, "advice": f.advice} for f in _findings(job, reviews)
        ],
        "checks": {name: [check.to_dict() for check in run.checks] for name, run in runs.items()},
        "errors": [],
    }
