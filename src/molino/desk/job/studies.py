"""The fits of a job: data, options, and analyses."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from molino.core import units
from molino.core.annotations import ByName, PlainData
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.formula import names_in
from molino.core.chemistry.temperature_dependence import Arrhenius, VantHoff
from molino.core.contract.vessel import Vessel
from molino.core.errors import Faults, InputError, nearest
from molino.core.fitting.candidate_laws import candidate_laws
from molino.core.fitting.experiment import VESSELS, Experiment, condition_kinds
from molino.core.fitting.experiments import Experiments, as_experiments
from molino.core.fitting.model import vessel_of
from molino.core.fitting.next_experiment import grid
from molino.core.fitting.rates.rates import Rates
from molino.core.fitting.regression import check_data
from molino.core.fitting.signals import Signal
from molino.core.runs.scheduled_changes import Change
from molino.core.trains.train import Train
from molino.core.units import QuantityLike
from molino.desk.job import models
from molino.desk.job.context import JobContext
from molino.desk.job.reactions import note_unitless, read_reaction
from molino.desk.job.vessels import read_changes
from molino.desk.tables.experiments import read_experiments, read_rates


@dataclass(frozen=True)
class Line:
    """A line of ln k over 1/T of a job: through a table in the job, or (`law` None) through the constants `of` the
    runs, or those of the screening. `at` are temperatures for values of the constant."""

    law: Arrhenius | VantHoff | None
    of: str | None
    at: tuple[units.Value, ...]


@dataclass(frozen=True, eq=False)
class Study:
    """A fit of a job: `options` are those of `mo.fit`; the rest are further analyses."""

    data: Experiments | Rates
    options: ByName = field(default_factory=dict)
    profile_likelihood: bool = False
    region: tuple[str, ...] = ()
    bootstrap: int = 0
    resample: str = "residuals"
    posterior: int = 0
    screening: ByName | None = None
    predict: QuantityLike | None = None
    rates: models.RatesTable | None = None
    line: Line | None = None
    candidates: Mapping[str, Chemistry] = field(default_factory=dict)
    narrow: str | None = None
    several: int = 1
    next: tuple[Experiment, ...] = ()


def read_data(
    job: JobContext, table: models.DataTable, vessels: Mapping[str, Vessel | Train], chemistry: Chemistry | None
) -> Experiments | Rates:
    """Runs or rates from a table of the job."""
    path = job.named_file(table.file)
    where: PlainData = {**table.reading, "units": job.units, "chemistry": chemistry}
    if table.kind == "rates":
        if table.signals or table.vessel or table.changes or table.response or table.detection_limits:
            advice = "remove signals, vessel, changes, response, detection_limits"
            raise InputError("a table of rates has neither runs nor vessels", "", advice)
        return read_rates(path, **where)
    vessel: str | Vessel | Train | None = table.vessel
    if table.vessel is not None and table.vessel not in VESSELS:
        if table.vessel not in job.known("vessels"):
            advice = nearest(table.vessel, [*job.known("vessels"), *VESSELS[1:]])
            raise InputError(f"unknown vessel '{table.vessel}'", "vessel", advice)
        if table.vessel not in vessels:
            raise InputError(())  # its own faults have been reported
        vessel = vessels[table.vessel]
    signals, faults = {}, Faults()
    for column, given in table.signals.items():
        with faults.at(f"signals.{column}"):
            signals[column] = Signal(**job.read(Signal, given))
    changes: tuple[Change, ...] = ()
    if isinstance(vessel, Vessel):
        with faults.at():
            changes = read_changes(job, table.changes, vessel)
    elif table.changes:
        faults.add("changes", "they need a vessel, and none is named", "vessel = 'NAME' of a stirred tank")
    faults.raise_any()
    where |= {"response": table.response, "detection_limits": table.detection_limits, "signals": signals}
    return read_experiments(path, **where, vessel=vessel, changes=changes)


def study(
    job: JobContext, table: models.FitTable, data: Mapping[str, Experiments | Rates], chemistry: Chemistry | None
) -> Study:
    """A fit from its table; InputError with all its faults."""
    faults = Faults()
    found = _data_of(job, table, data)
    options: PlainData = {
        "errors": _errors(job, table.errors, found, faults),
        "autocorrelated": table.autocorrelated,
        "fit_initial": table.fit_initial,
        "unknowns": _unknowns(job, table, found),
        "delay": table.delay if isinstance(table.delay, bool | str) else job.in_unit(table.delay, "time"),
        "offset": table.offset,
        "robust": table.robust,
        "per_run": table.per_run,
    }
    if chemistry is not None:
        with faults.at():
            check_data(chemistry, found, **options)
    candidates: dict[str, Chemistry] = {}
    if chemistry is not None:
        for name, candidate in table.candidates.items():
            with faults.at(f"candidates.{name}"):
                candidates[name] = _candidate(job, candidate, chemistry)
                check_data(candidates[name], found, **{**options, "per_run": ()})
        if table.family is not None:
            with faults.at("family"):
                candidates |= _family(job, table.family, chemistry, found)
    _check_names(table, chemistry, faults)
    extra: PlainData = {}
    with faults.at("screening"):
        extra |= _screening(job, table, found)
    with faults.at("rates"):
        _check_rates(table, found)
    with faults.at("temperature"):
        extra["line"] = _line(job, table)
    with faults.at("next"):
        if table.next is not None:
            extra |= {
                "narrow": table.next.narrow,
                "next": tuple(read_candidates(job, table.next, chemistry)),
                "several": table.next.several,
            }
    faults.raise_any()
    options |= {"n_starts": table.n_starts, "seed": table.seed}
    extra |= {"rates": table.rates, "candidates": candidates}
    profiles, region = table.profile_likelihood, tuple(table.region)
    return Study(found, options, profiles, region, table.bootstrap, table.resample, table.posterior, **extra)


def _errors(job: JobContext, errors: object, data: Experiments | Rates, faults: Faults) -> object:
    if not isinstance(errors, dict):
        return errors
    with faults.at("errors"):
        for name, given in errors.items() if "concentration" in job.units else ():
            kind = data.kind_of(name)
            if not isinstance(given, str) and kind not in ("number", *job.units):
                raise InputError(f"a bare number for {name}", "", f"write it with the unit of a {kind}")
    return {name: job.in_unit(given, data.kind_of(name)) for name, given in errors.items()}


def _check_names(table: models.FitTable, chemistry: Chemistry | None, faults: Faults) -> None:
    """Add faults for constants of a region, or of the next experiments, that are not fitted."""
    if len(table.region) == 1:
        faults.add("region", "a region is of two constants", "region = ['r.k', 'r.k.Ea']")
    if chemistry is None:
        return
    known = {p.name for p in chemistry.unknowns}
    narrowed = [table.next.narrow] if table.next is not None and table.next.narrow not in ("D", "A") else []
    for name in [*table.region, *narrowed]:
        is_known = name.partition(",")[0] in known | table.unknowns.keys()
        if not is_known and not name.startswith(("start ", "feed ", "delay")):
            faults.add("region or next", f"'{name}' is not an unknown constant", nearest(name, known))


def _unknowns(job: JobContext, table: models.FitTable, data: Experiments | Rates) -> PlainData:
    """Unknown conditions of vessels, a bare number in the unit of its kind."""
    vessels = [run.vessel for run in data if not run.is_simple] if isinstance(data, Experiments) else []
    found = {}
    for name, given in table.unknowns.items():
        kinds = [kind for vessel in vessels if (kind := condition_kinds(vessel).get(name))]
        found[name] = job.entry(given, kinds[0] if kinds else "")
    return found


def read_line(job: JobContext, table: models.FitTable) -> Line:
    """A fit without data: the line through a table of constants in the job."""
    found = _line(job, table)
    if found is None or found.law is None:
        raise InputError("'data' is missing", "", "add data = 'NAME' of a [data.NAME], or temperature = { T, k }")
    others = sorted(table.model_fields_set - {"temperature"})
    if others:
        raise InputError(f"{', '.join(others)} without data", "", "add data = 'NAME', or remove it")
    return found


def _data_of(job: JobContext, table: models.FitTable, data: Mapping[str, Experiments | Rates]) -> Experiments | Rates:
    names = [table.data] if isinstance(table.data, str) else table.data or []
    faults = Faults()
    for name in names:
        if name not in job.known("data"):
            advice = nearest(name, job.known("data"), "add a [data.NAME] table")
            faults.add("data", f"unknown data '{name}'", advice)
    faults.raise_any()
    if any(name not in data for name in names):
        raise InputError(())
    sets = [data[name] for name in names]
    if any(isinstance(one, Rates) for one in sets):
        if len(sets) > 1 or table.leave_out:
            raise InputError("rates are fitted one table at a time", "data", "delete the line in the table")
        return sets[0]
    runs = as_experiments([one for one in sets if isinstance(one, Experiments)])
    for point in table.leave_out:
        with faults.at("leave_out"):
            axes = {run.name: run.axis_kind for run in runs}
            at = job.in_unit(point.time, axes.get(point.run, "time"))
            runs = runs.without(point.run, at, point.response, point.because)
    faults.raise_any()
    return runs


def _candidate(job: JobContext, table: models.CandidateTable, chemistry: Chemistry) -> Chemistry:
    """The job's chemistry with some reactions replaced, added or removed."""
    names = [str(r.name) for r in chemistry.reactions]
    faults = Faults()
    for name in table.without:
        if name not in names:
            faults.add("without", f"unknown reaction '{name}'", nearest(name, names))
    changed = {}
    for name, given in table.reactions.items():
        with faults.at(f"reactions.{name}"):
            changed[name] = read_reaction(job, name, given, job.library)
    faults.raise_any()
    kept = [changed.pop(str(r.name), r) for r in chemistry.reactions if r.name not in table.without]
    reactions = [*kept, *changed.values()]
    used = {name for r in reactions for name in names_in(r.formula)}
    constants = {name: held for name, held in chemistry.constants.items() if name in used}
    found = replace(chemistry, reactions=reactions, constants=constants)
    note_unitless(job, found)
    return found


def _family(
    job: JobContext, table: models.FamilyTable, chemistry: Chemistry, data: Experiments | Rates
) -> dict[str, Chemistry]:
    """The job's chemistry with each law of a family for one reaction."""
    names = [str(r.name) for r in chemistry.reactions]
    if table.reaction not in (None, *names) or (table.reaction is None and len(names) > 1):
        raise InputError(f"reaction = {table.reaction!r}", "", nearest(table.reaction or "", names))
    replaced = chemistry.reaction(table.reaction or names[0])
    keys = ("orders", "step", "adsorbing", "dissociating", "limiting")
    laws = candidate_laws(
        str(replaced.equation),
        data,
        **{key: getattr(table, key) for key in keys},
        equilibrium=None if table.equilibrium is None else job.entry(table.equilibrium, ""),
        name=str(replaced.name),
    )
    return {
        name: replace(chemistry, reactions=[law.reactions[0] if r is replaced else r for r in chemistry.reactions])
        for name, law in laws.items()
    }


def _runs(found: Experiments | Rates, what: str) -> Experiments:
    if isinstance(found, Rates):
        raise InputError(f"{what} needs runs, not rates", "", "remove it, or name data of runs")
    return found


def _screening(job: JobContext, table: models.FitTable, found: Experiments | Rates) -> PlainData:
    given = table.screening
    if given is None:
        return {}
    runs = _runs(found, "a screening")
    for name in [given.species, *([given.partner] if given.partner else [])]:
        if name not in runs.species and name not in {s for run in runs for s in run.charge}:
            raise InputError(f"'{name}' was not measured", "", nearest(name, runs.species))
    predict = job.in_unit(given.predict, "time")
    if predict is not None:
        predict = units.positive(predict, "time", "predict", zero=True)
    options = {
        "species": given.species,
        "partner": given.partner,
        "reversible": given.reversible,
        "errors": given.errors,
        "autocorrelated": given.autocorrelated,
    }
    return {"screening": options, "predict": predict}


def _check_rates(table: models.FitTable, found: Experiments | Rates) -> None:
    given = table.rates
    if given is None or isinstance(found, Rates):
        return
    if given.species is None or given.species not in found.species:
        message = f"'{given.species}' was not measured" if given.species else "no species is named"
        raise InputError(message, "", nearest(given.species or "", found.species))


def _line(job: JobContext, table: models.FitTable) -> Line | None:
    given = table.temperature
    if given is None:
        return None
    at = tuple(units.positive(job.in_unit(T, "temperature"), "temperature", "predict") for T in given.predict)
    own = [given.T, given.k if given.k is not None else given.K]
    if any(part is not None for part in own):
        if any(part is None for part in own) or given.constant is not None or (given.k and given.K):
            raise InputError("a table of constants has T and k, or T and K", "", "and no other constant")
        temperatures = [job.in_unit(T, "temperature") for T in given.T or []]
        law = Arrhenius.through(temperatures, given.k) if given.k else VantHoff.through(temperatures, given.K or [])
        return Line(law, None, at)
    if given.constant is None and table.screening is None:
        raise InputError("of which constant?", "", "name a constant of per_run, or give T and k, or a screening")
    if given.constant is not None and given.constant not in table.per_run:
        raise InputError(f"'{given.constant}' is common to all runs", "constant", "also name it in per_run")
    return Line(None, given.constant, at)


def read_candidates(job: JobContext, table: models.CandidatesTable, chemistry: Chemistry | None) -> list[Experiment]:
    """The candidate experiments of a table; InputError for those that cannot be run with the chemistry."""
    found = grid(
        [job.in_unit(T, "temperature") for T in table.T],
        [job.contents(charge) for charge in table.charges],
        [[job.in_unit(t, "time") for t in row] for row in table.times],
    )
    faults = Faults()
    for candidate in found if chemistry is not None else []:
        with faults.at(candidate.name):
            vessel_of(candidate, chemistry)  # type: ignore[arg-type]
    faults.raise_any()
    return found
