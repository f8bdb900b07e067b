"""The steps of a job: each computes, writes its results and prints them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from importlib import import_module
from typing import TYPE_CHECKING

from molino.core.annotations import PlainData

if TYPE_CHECKING:
    from molino.desk.job.load import Job

STEPS = {
    "check": ("vessels", "fields", "fits"),
    "fit": ("fits", "lines"),
    "tracer": ("tracers",),
    "survey": ("surveys",),
    "equilibrium": ("equilibria",),
    "field": ("fields",),
    "run": ("vessels",),
    "size": ("sizes",),
    "compare": ("compares",),
    "sweep": ("sweeps",),
    "attainable": ("regions",),
    "recommend": ("recommendations",),
    "optimize": ("optimizations",),
}
"""Each step in the order of the work, with its tables in a job."""


def steps_of(job: Job) -> list[str]:
    """The steps of a job."""
    return [step for step, asking in STEPS.items() if any(getattr(job, name) for name in asking)]


def only(job: Job, step: str, names: Sequence[str]) -> Job:
    """The job with only the named tables of a step; InputError for an unknown name."""
    from molino.core.errors import Faults, nearest

    tables = {name: getattr(job, name) for name in STEPS[step]}
    known = [name for table in tables.values() for name in table]
    faults = Faults()
    for name in names:
        if name not in known:
            faults.add("--only", f"unknown name '{name}'", nearest(name, known))
    faults.raise_any()
    kept: PlainData = {key: {n: one for n, one in t.items() if n in names} for key, t in tables.items()}
    return replace(job, **kept)


def take(step: str, job: Job, quiet: bool, **options: object) -> PlainData:
    """One step of a job; returns its result as plain data."""
    found: PlainData = import_module(f"molino.desk.steps.{step}").do(job, quiet, **options)
    return found
