"""The common parts of steps: fits, progress, printing.

Imports of the core are inside functions, so that `molino --help` is fast.
"""

from __future__ import annotations

import os
import sys
import unicodedata
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from molino.core.annotations import ByName, PlainData
from molino.desk.steps.progress import Tell, show_progress

if TYPE_CHECKING:
    import pandas as pd
    from rich.console import Console

    from molino.core.chemistry.chemistry import Chemistry
    from molino.core.contract.vessel import Vessel
    from molino.core.errors import Failures, MolinoError
    from molino.core.fitting.experiment import Experiment
    from molino.core.fitting.fit_result import Fit
    from molino.core.fitting.next_experiment import NextExperiment
    from molino.core.results import Result
    from molino.core.trains.train import Train
    from molino.desk.job.load import Job
    from molino.desk.job.studies import Study
    from molino.desk.tables.write import ResultsFolder


T = TypeVar("T")
R = TypeVar("R")


def console(stderr: bool = False) -> Console:
    """A Rich console without highlighting of numbers and without markup in names like [acid], which replaces control
    characters of names and texts."""
    from rich.console import Console
    from rich.segment import Segment

    class Plain(Console):
        def render(self, renderable: Any, options: Any = None) -> Iterator[Segment]:
            for segment in super().render(renderable, options):
                text, style, control = segment
                yield segment if control or text.isprintable() else Segment(without_controls(text), style)

        def print(self, *objects: Any, **options: Any) -> None:
            lines = _PRINTED.get()
            if lines is None or self.stderr:
                return super().print(*objects, **options)
            with self.capture() as caught:
                super().print(*objects, **options)
            lines += caught.get().splitlines(keepends=True)

    return Plain(stderr=stderr, highlight=False, markup=False, soft_wrap=False)


_PRINTED: ContextVar[list[str] | None] = ContextVar("printed", default=None)
"""The lines that are collected, if so."""
_LINES, _TAIL = 36, 14
"""Lines of a screen that is not a terminal, and those at the end that are always shown."""


@contextmanager
def one_screen(command: str) -> Iterator[None]:
    """Limit the printed lines to one screen: the first and the last, and the command that prints all of them."""
    lines: list[str] = []
    token = _PRINTED.set(lines)
    try:
        yield
    finally:
        _PRINTED.reset(token)
        out = console()
        most = max(out.height - 4, _TAIL + 6) if out.is_terminal else _LINES
        left_out = len(lines) - most + 1 if len(lines) > most else 0
        end = len(lines) - _TAIL
        out.file.write("".join(lines[: end - left_out] if left_out else lines))
        if left_out:
            out.print(f"... {left_out} more lines with: {command}", style="dim")
            out.file.write("".join(lines[end:]))


def without_controls(text: str) -> str:
    """A text with control characters, except line breaks and tabs, as their pictures (from U+2400) or U+FFFD."""
    return "".join(
        c if c in "\n\t" or not _is_control(c) else chr(0x2400 + ord(c)) if c < " " else "\ufffd" for c in text
    )


def _is_control(character: str) -> bool:
    return unicodedata.category(character) == "Cc"


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

    If the fit has a bootstrap, its refits are the distribution of the constants.
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
    if not draws or not study.bootstrap:
        return dict(job.with_chemistry(fitted.chemistry)), source, fitted
    with show_progress("bootstrap", quiet) as tell_of:
        refits = fitted.bootstrap(
            study.bootstrap,
            study.resample,
            int(study.options.get("seed", 0)),
            progress=lambda done, of: tell_of(f"{done} of {of} refits", done, of),
        )
    source += f", drawn from {len(refits.draws)} refits to resampled data"
    return dict(job.with_chemistry(refits.chemistry)), source, fitted


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


def show_table(frame: pd.DataFrame, title: str = "", digits: int = 4) -> None:
    """A data frame as a table; numbers to some digits; transposed if it is wider than the terminal."""
    import pandas as pd
    from rich import box
    from rich.table import Table

    from molino.core.units import number_text, pretty, pretty_heading

    def text(value: object) -> str:
        if isinstance(value, float):
            return "" if pd.isna(value) else number_text(value, digits)
        return str(value)

    out = console()
    cells = [[text(v) for v in row] for row in frame.itertuples(index=False)]
    if "unit" in frame.columns:
        place = list(frame.columns).index("unit")
        cells = [[pretty(c) if i == place else c for i, c in enumerate(row)] for row in cells]
    headings = [pretty_heading(str(c)) for c in frame.columns]
    widest = sum(max([_word(h), *(len(r[i]) for r in cells)]) + 3 for i, h in enumerate(headings))
    transposed = widest > out.width and len(cells) < len(headings)
    if transposed:
        cells = [[headings[i], *(row[i] for row in cells)] for i in range(len(headings))]
        headings, cells = cells[0], cells[1:]
    for n, columns in enumerate(_parts(headings, cells, out.width)):
        table = Table(
            title=(title or None) if n == 0 else None,
            box=box.SIMPLE_HEAD,
            title_justify="left",
            title_style="bold",
            pad_edge=False,
        )
        for i in columns:
            numeric = bool(cells) and all(_is_number(row[i]) for row in cells)
            label = i == 0 and max((len(row[0]) for row in cells), default=0) <= out.width // 3
            least = min(_word(headings[i], *(row[i] for row in cells)), out.width - 4)
            table.add_column(
                headings[i], justify="right" if numeric else "left", overflow="fold", no_wrap=label, min_width=least
            )
        for row in cells:
            if not transposed or any(row[i] for i in columns[1:]):
                table.add_row(*(row[i] for i in columns))
        out.print(table)


def _parts(headings: list[str], cells: list[list[str]], width: int) -> list[list[int]]:
    """The columns of a table in parts that fit a terminal without splitting words; each begins with the first
    column."""
    needed = [_word(h, *(row[i] for row in cells)) + 3 for i, h in enumerate(headings)]
    label = max((len(row[0]) for row in cells), default=0)
    needed[0] = max(needed[0], label + 3 if label <= width // 3 else 0)  # labels are kept in one line
    parts: list[list[int]] = [[0]]
    for i in range(1, len(headings)):
        if sum(needed[k] for k in parts[-1]) + needed[i] > width and len(parts[-1]) > 1:
            parts.append([0])
        parts[-1].append(i)
    return parts


def _word(*texts: str) -> int:
    """The length of the longest word."""
    return max((len(word) for text in texts for word in text.split()), default=1)


def _is_number(text: str) -> bool:
    try:
        float(text or "0")
    except ValueError:
        return False
    return True


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
