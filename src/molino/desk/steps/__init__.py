"""The steps of a job: each computes, writes its results and prints them."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

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


def take(step: str, job: Job, quiet: bool, **options: Any) -> Any:
    """One step of a job; returns its result as plain data."""
    return import_module(f"molino.desk.steps.{step}").do(job, quiet, **options)
