"""Rate constants as they stand in a job file."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from molino.core.chemistry.constants import Unknown
from molino.core.chemistry.temperature_dependence import Arrhenius, VantHoff
from molino.core.chemistry.thermochemistry import FromSpecies
from molino.core.errors import InputError
from molino.desk.job import shapes

if TYPE_CHECKING:
    from molino.desk.job.context import JobContext


def read_constant_table(job: JobContext, given: Any) -> Any:
    """A constant: a quantity, an unknown one, or a law over temperature."""
    if isinstance(given, shapes.FromSpeciesTable):
        return FromSpecies(given.from_species, job.in_unit(given.standard, "pressure"))
    if isinstance(given, shapes.ConstantsTable):
        if (given.k is None) == (given.K is None):
            raise InputError("a table of constants has T and k, or T and K", "", "give one of k and K")
        temperatures = [job.in_unit(T, "temperature") for T in given.T]
        if given.k is not None:
            return Arrhenius.through(temperatures, given.k)
        return VantHoff.through(temperatures, given.K or [])
    if isinstance(given, shapes.ArrheniusTable):
        return Arrhenius(**job.read(Arrhenius, given))
    if isinstance(given, shapes.VantHoffTable):
        return VantHoff(**job.read(VantHoff, given))
    return read_entry(job, given, "")


def read_entry(job: JobContext, given: Any, kind: str) -> Any:
    """A quantity, or an unknown one."""
    if isinstance(given, shapes.UnknownTable):
        return Unknown(*(job.in_unit(part, kind) for part in (given.guess, given.lower, given.upper)))
    return job.in_unit(given, kind)
