"""The common parts of steps: fits, progress, printing.

Imports of the core are inside functions, so that `molino --help` is fast.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from molino.core.annotations import ByName, PlainData
from molino.desk.steps.progress import Tell, show_progress
from molino.desk.steps.terminal import console, show_table

if TYPE_CHECKING:
    from molino.core.chemistry.chemistry import Chemistry
    from molino.core.contract.vessel import Vessel
    from molino.core.errors import Failures, MolinoError
    from molino.core.fitting.bootstrap import Bootstrap
    from molino.core.fitting.experiment import Experiment
    from molino.core.fitting.fit_result import Fit
    from molino.core.fitting.next_experiment import NextExperiment
    from molino.core.fitting.posterior import Posterior
    from molino.core.results import Result
    from molino.core.trains.train import Train
    from molino.desk.job.load import Job
    from molino.desk.job.studies import Study
    from molino.desk.tables.write import ResultsFolder


T = TypeVar("T")
R = TypeVar("R")


def load_figures() -> Any:
    """The module of figures, without settings of Matplotlib from the working folder or the environment."""
    if "matplotlib" not in sys.modules:
        before = Path.cwd()
        os.environ["MPLBACKEND"] = "agg"
        os.environ.pop("MATPLOTLIBRC", None)
        os.chdir(Path(__file__).parent)  # Matplotlib reads a matplotlibrc in the working folder when it is imported
        try:
            import matplotlib as mpl
        finally:
            os.chdir(before)
        mpl.rcdefaults()
    from molino.desk import figures

    return figures


def do_fits(job: Job, quiet: bool) -> dict[str, Fit]:
    """Every fit of the job, with a line of progress on a terminal."""
    from molino.core.fitting.regression import fit

    def best(study: Study, tell_of: Tell) -> Fit:
        def show(count: int, squares: float) -> None:
            tell_of(f"evaluation {count}, weighted sum of squares {squares:.6g} (Ctrl-C keeps the best so far)")

        return fit(job.chemistry, study.data, progress=show, **study.options)

    found, failures = do_each("fit", job.fits, quiet, best)
    failures.raise_any()
    return found


def known_vessels(job: Job, quiet: bool, draws: bool = False) -> tuple[dict[str, Vessel | Train], str, Fit | None]:
    """The job's vessels with all constants known (fitted now, if necessary), a line on that, and the fit.

    If the fit has a posterior, or a bootstrap, its draws are the distribution of the constants.
    """
    from molino.core.errors import InputError

    if not job.chemistry.unknowns:
        return dict(job.vessels), "constants as given", None
    if len(job.fits) > 1:
        raise InputError(
            f"{len(job.fits)} fits give the constants", job.path.name, "keep one [fit.NAME] that names all data"
        )
    ((name, fitted),) = do_fits(job, quiet).items()
    count = len(fitted.points.measured)
    source = f"constants from the fit '{name}' to {count} observations"
    study = job.fits[name]
    posterior = posterior_of(study, fitted, quiet) if draws else None
    if posterior is not None:
        source += f", drawn from their posterior, {len(posterior.draws)} draws"
        return dict(job.with_chemistry(posterior.chemistry)), source, fitted
    refits = refits_of(study, fitted, quiet) if draws else None
    if refits is not None:
        source += f", drawn from {len(refits.draws)} refits to resampled data"
        return dict(job.with_chemistry(refits.chemistry)), source, fitted
    return dict(job.with_chemistry(fitted.chemistry)), source, fitted


def refits_of(study: Study, fitted: Fit, quiet: bool) -> Bootstrap | None:
    """The bootstrap that a study asks for."""
    if not study.bootstrap:
        return None
    with show_progress("bootstrap", quiet) as tell_of:
        return fitted.bootstrap(
            study.bootstrap,
            study.resample,
            int(study.options.get("seed", 0)),
            progress=lambda done, of: tell_of(f"{done} of {of} refits", done, of),
        )


def posterior_of(study: Study, fitted: Fit, quiet: bool) -> Posterior | None:
    """The posterior that a study asks for."""
    if not study.posterior:
        return None
    with show_progress("posterior", quiet) as tell_of:
        return fitted.posterior(
            study.posterior,
            int(study.options.get("seed", 0)),
            progress=lambda done, of: tell_of(f"{done} of {of} effective draws", done, of),
        )


def known_chemistry(job: Job, quiet: bool) -> tuple[Chemistry, str]:
    """The job's chemistry with all constants known, fitted if necessary, and a line on that."""
    _, source, fit = known_vessels(job, quiet)
    return (job.chemistry if fit is None else fit.chemistry), source


def next_experiments(
    fit: Fit | None, decisions: Mapping[str, tuple[Any, Sequence[Experiment], int]]
) -> dict[str, NextExperiment]:
    """For each decision the experiments that would narrow it, if candidates are given; InputError without a fit."""
    from molino.core.errors import Failures, InputError
    from molino.core.fitting.next_experiment import next_experiment

    found, failures = {}, Failures()
    for name, (decision, candidates, several) in decisions.items():
        if not candidates:
            continue
        with failures.at(name):
            if fit is None:
                message = "the constants are given, so that experiments cannot narrow them"
                raise InputError(message, "next", "leave it out, or fit the constants")
            found[name] = next_experiment(fit, decision, candidates, several)
    failures.raise_any()
    return found


def require_tasks(job: Job, table: str, tasks: ByName, advice: str) -> None:
    """Raise InputError if a job has no table of a kind."""
    from molino.core.errors import InputError

    if not tasks:
        raise InputError(f"there is no [{table}.NAME] table", job.path.name, advice)


def do_each(
    table: str, tasks: Mapping[str, T], quiet: bool, work: Callable[[T, Tell], R]
) -> tuple[dict[str, R], Failures]:
    """The result of each task of a table, by `work` of the task and of a function that shows progress, and the errors;
    no others are begun after an interrupted one."""
    from molino.core.errors import Failures, MolinoError
    from molino.core.parallel import in_turn

    found, failures = dict[str, R](), Failures()
    with show_progress(table, quiet) as tell_of:
        for name, result in zip(tasks, in_turn(partial(_task, work, tell_of), tasks.items()), strict=False):
            with failures.at(f"[{table}.{name}]"):
                if isinstance(result, MolinoError):
                    raise result
                found[name] = result
                if getattr(result, "is_stopped", False):
                    break
    return found, failures


def _task(work: Callable[[T, Tell], R], tell_of: Tell, named: tuple[str, T]) -> R | MolinoError:
    """The result of a task, or its error."""
    from molino.core.errors import MolinoError

    name, task = named
    tell_of(name)
    try:
        return work(task, lambda text, done=0, of=0: tell_of(f"{name}: {text}", done, of))
    except MolinoError as error:
        return error


def content_of(job: Job, source: str, **found: Mapping[str, Result]) -> PlainData:
    """The plain data of a command: the job, the source of its constants, and results by kind and name."""
    results = {kind: {name: one.to_dict() for name, one in own.items()} for kind, own in found.items()}
    return {"job": job.path.name, "title": job.title, "source": source, **results}


def results_of(
    job: Job,
    command: str,
    content: object,
    results: Mapping[str, Result] | None = None,
    folder: ResultsFolder | None = None,
) -> ResultsFolder:
    """The folder of a job's results, with the plain data of a command, its answers in words, and the properties of the
    species."""
    from molino.desk.tables.species import species_table

    folder = job.results_folder() if folder is None else folder
    folder.json(content, command)
    for name, one in (results or {}).items():
        folder.result(one, command, name)
    known = [s for s in job.chemistry.species if s.known()]
    if known:
        folder.csv(species_table(known), "species")
    return folder


def show_next(name: str, plan: NextExperiment) -> None:
    """Print the experiments that would narrow a decision."""
    show_table(plan.table().head(8), f"{name}: which experiment would narrow {plan.what}")
    console().print(str(plan))


def print_written(folder: ResultsFolder) -> None:
    """Print the files written to a folder, and whether they changed."""
    try:
        shown = folder.path.resolve().relative_to(Path.cwd())
    except (ValueError, OSError):
        shown = folder.path
    out = console()
    for state in ("new", "changed", "unchanged"):
        names = [name for name, found in folder.states.items() if found == state]
        if names:
            out.print(f"{state} in {shown}/: {', '.join(names)}", style="dim")
