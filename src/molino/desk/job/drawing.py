"""The settings of figures of a job, and its profiles."""

from __future__ import annotations

from dataclasses import dataclass, field

from molino.core import units
from molino.core.annotations import ByName
from molino.core.chemistry.chemistry import Chemistry
from molino.core.contract.vessel import Vessel
from molino.core.errors import Faults, InputError, nearest
from molino.core.runs.profiles import PROFILES, read_limits
from molino.core.trains.train import Train
from molino.desk.job.context import JobContext
from molino.desk.job.tasks import Vessels, vessel_named

_SIZES = (0.03, 1.0)
"""The smallest and the largest side of a figure in m."""


@dataclass(frozen=True)
class FigureSettings:
    """Sides in m and dots per inch of every figure; species and limits of axes of profiles."""

    width: float | None = None
    height: float | None = None
    dpi: int = 200
    species: tuple[str, ...] | None = None
    limits: ByName = field(default_factory=dict)


@dataclass(frozen=True)
class ProfileTask:
    """A figure with the profiles of several vessels."""

    vessels: tuple[str, ...]
    show: tuple[str, ...] | None
    log: str
    species: tuple[str, ...] | None
    limits: ByName


def read_figures(job: JobContext, chemistry: Chemistry | None) -> FigureSettings:
    """The settings of all figures; faults are added."""
    table, sides = job.file.figures, {}
    for side in ("width", "height"):
        with job.at("[figures]"):
            given = job.in_unit(getattr(table, side), "length")
            if given is None:
                continue
            sides[side] = units.positive(given, "length", side).si
            if not _SIZES[0] <= sides[side] <= _SIZES[1]:
                raise InputError(f"{given} is not a size of a figure", side, "give 3 cm to 1 m, like '16 cm'")
    with job.at("[figures]"):
        if "x" in table.limits:
            raise InputError("figures have axes of time, length or volume", "limits, x", "give it in a [profile.NAME]")
        limits = _limits(job, table.limits, "number")
        return FigureSettings(dpi=table.dpi, species=_species(table.species, chemistry), limits=limits, **sides)
    return FigureSettings()


def read_profiles(job: JobContext, vessels: Vessels, chemistry: Chemistry | None) -> dict[str, ProfileTask]:
    """The profiles of a job; faults are added."""
    found = {}
    for name, table in job.file.profile.items():
        with job.at(f"[profile.{name}]"):
            along = {_runs_along(job, vessel, vessel_named(job, vessel, vessels)) for vessel in table.vessels}
            if len(along) > 1:
                raise InputError(
                    f"its vessels have different axes: {' and '.join(sorted(along))}", "", "draw them separately"
                )
            faults, limits, species = Faults(), {}, None
            with faults.at():
                limits = _limits(job, table.limits, *along)
            with faults.at():
                species = _species(table.species, chemistry)
            faults.raise_any()
            show = tuple(table.show) if table.show is not None else None
            found[name] = ProfileTask(tuple(table.vessels), show, table.log, species, limits)
    return found


def _limits(job: JobContext, given: ByName, along: str) -> dict[str, tuple[object, object]]:
    kinds = {**PROFILES, "x": along}
    limits = {}
    for name, (low, high) in given.items():
        limits[name] = job.in_unit(low, kinds.get(name, "")), job.in_unit(high, kinds.get(name, ""))
    read_limits(limits, along)
    return limits


def _species(given: list[str] | None, chemistry: Chemistry | None) -> tuple[str, ...] | None:
    if given is None or chemistry is None:
        return None
    faults = Faults()
    for name in given:
        if name not in chemistry.names:
            faults.add("species", f"unknown species '{name}'", nearest(name, chemistry.names))
    faults.raise_any()
    return tuple(given)


def _runs_along(job: JobContext, name: str, vessel: Vessel | Train) -> str:
    """The axis of the profile of a vessel; InputError for one without a profile."""
    if not isinstance(vessel, Vessel):
        raise InputError(f"{name} is a train, which has no profile of its own", "", "name its vessels")
    if vessel.spec.has_steady_state and getattr(job.file.vessels[name], "start_up", None) is None:
        what = "at steady state" if vessel.spec.is_kinetic else f"at {vessel.noun}"
        raise InputError(f"{name} is {what}, which has no profile", "", "name a tube, or give start_up to a tank")
    return vessel.spec.profile_axis[0]
