"""The common parts of commands: options, printing, and errors without a traceback.

Imports of the core are inside functions, so that `molino --help` is fast.
"""

from __future__ import annotations

import os
import sys
import traceback
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from molino.core.annotations import ByName

if TYPE_CHECKING:
    from molino.core.errors import Fault
    from molino.desk.job.load import Job

from molino.desk.steps.terminal import console

_CONNECT_SECONDS = 30
"""Time in which the scheduler of a cluster must answer."""
_MOST_PRINTED = 20
"""The largest number of printed faults; JSON has all of them."""


class Format(StrEnum):
    """Formats of result files."""

    csv = "csv"
    xlsx = "xlsx"
    parquet = "parquet"
    json = "json"
    png = "png"
    svg = "svg"
    pdf = "pdf"


JobPath = Annotated[Path, typer.Argument(metavar="JOB", help="The job file (TOML).", show_default=False)]
Output = Annotated[
    Path | None,
    typer.Option(
        "--output", metavar="FOLDER", help="Output folder; by default results/JOB next to the job.", show_default=False
    ),
]
Formats = Annotated[
    list[Format] | None,
    typer.Option(
        "--format",
        help="Write only this format; may be repeated. Default: csv, xlsx, json, png.",
        show_default=False,
    ),
]
Only = Annotated[
    list[str] | None,
    typer.Option("--only", metavar="NAME", help="Only this table of the job; may be repeated.", show_default=False),
]
WorkerCount = Annotated[
    str | None,
    typer.Option(
        "--workers", metavar="N", help='Processes, or "all"; by default all, if it takes long.', show_default=False
    ),
]
Cluster = Annotated[
    str | None,
    typer.Option(
        "--cluster", metavar="ADDRESS", help="Scheduler of a Dask cluster, as tcp://host:8786.", show_default=False
    ),
]
Quiet = Annotated[bool, typer.Option("--quiet", "-q", help="Print only errors.")]
AsJson = Annotated[bool, typer.Option("--json", help="Print only the result, as JSON.")]
Debug = Annotated[bool, typer.Option("--debug", help="Show the traceback of an error.")]


@contextmanager
def handle_errors(as_json: bool, debug: bool) -> Iterator[None]:
    """Report errors on standard error with cause and advice (with --json as JSON); written results are kept.

    Exit codes: 2 for input, 1 for a failed computation, a write error or an internal error, 130 after Ctrl-C, 141 for a
    closed pipe.
    """
    try:
        yield
    except KeyboardInterrupt:
        raise _interrupted() from None
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        raise typer.Exit(141) from None
    except (typer.Exit, typer.Abort):
        raise
    except Exception as error:
        if _has_been_interrupted(error):
            raise _interrupted() from None
        if debug:
            raise
        from molino.core.errors import InputError

        faults = faults_of(error)
        if as_json:
            as_asked({"errors": [{"where": f.where, "what": f.what, "advice": f.advice} for f in faults]}, as_json)
        else:
            tell(faults)
        raise typer.Exit(2 if isinstance(error, InputError) else 1) from None


def _interrupted() -> typer.Exit:
    """Report an interruption; return the exit code."""
    print("interrupted; what has been written stays", file=sys.stderr)
    return typer.Exit(130)


def _has_been_interrupted(error: BaseException | None) -> bool:
    """Whether Ctrl-C caused an error: a module that is being imported may convert it."""
    while error is not None and not isinstance(error, KeyboardInterrupt):
        error = error.__cause__ or error.__context__
    return error is not None


def faults_of(error: Exception) -> Sequence[Fault]:
    """The faults of an error, expected or not."""
    from molino.core.errors import Fault, MolinoError

    if isinstance(error, MolinoError):
        return error.faults
    if isinstance(error, OSError):
        where = str(error.filename) if error.filename is not None else ""
        advice = "free some space" if error.errno == 28 else "check that the file or folder exists and is accessible"
        return [Fault(where, f"system error: {error.strerror or error}", advice)]
    if isinstance(error, MemoryError):
        return [Fault("", "there is not enough memory", "reduce the number of points, cases or rows")]
    if isinstance(error, RecursionError):
        return [Fault("", "something in the input is nested too deeply", "write it flatter")]
    place = traceback.extract_tb(error.__traceback__)[-1]
    what = f"internal error: {type(error).__name__}: {error} ({Path(place.filename).name}, line {place.lineno})"
    advice = "this is a fault of Molino: run the command with --debug and report its output; written results are kept"
    return [Fault("", what, advice)]


def as_asked(content: ByName, as_json: bool) -> None:
    """Print plain data as JSON, if requested."""
    if as_json:
        from molino.desk.tables.write import JSON_VERSION, to_json

        print(to_json({"format": JSON_VERSION, **content}))


def tell(faults: Sequence[Fault]) -> None:
    """Faults on standard error, each with its place and the remedy."""
    from rich.padding import Padding
    from rich.text import Text

    out = console(stderr=True)
    if len(faults) > 1:
        first = f", the first {_MOST_PRINTED}" if len(faults) > _MOST_PRINTED else ""
        out.print(f"{len(faults)} faults{first}:", style="bold red")
    for fault in faults[:_MOST_PRINTED]:
        line = Text()
        line.append(f"{fault.where}: " if fault.where else "", style="bold")
        line.append(fault.what)
        out.print(line)
        if fault.advice:
            out.print(Padding(Text.assemble(("-> ", "cyan"), fault.advice), (0, 0, 0, 4)))


def asked_job(path: Path, output: Path | None, formats: Sequence[Format] | None) -> Job:
    """A job with the folder and the formats of its results."""
    kinds = kinds_of(formats)
    return replace(read_job(path), output=output, formats=kinds)


def kinds_of(formats: Sequence[Format] | None) -> tuple[str, ...]:
    """The requested formats; InputError for Parquet without pyarrow."""
    from molino.desk.tables.write import USUAL, check_parquet

    kinds = tuple(one.value for one in formats or ()) or USUAL
    if "parquet" in kinds:
        check_parquet()
    return kinds


def read_job(path: Path) -> Job:
    from molino.desk.job.load import load_job

    return load_job(path)


@contextmanager
def continued(job: Job, command: str, options: ByName, quiet: bool) -> Iterator[None]:
    """Record the progress of a command, and keep its results until it ends; begin with those that are kept."""
    from molino.desk.job.unfinished import question_of, resumable
    from molino.desk.steps.progress import recorded

    def tell(remark: str) -> None:
        if not quiet:
            console(stderr=True).print(f"{command} {remark}", style="dim")

    name, question = f"{job.results.resolve()} {command}", question_of(job, options)
    with recorded(job.results, command), resumable(name, question, tell):
        yield


@contextmanager
def workers_of(count: str | None, cluster: str | None) -> Iterator[None]:
    """Use the workers that the options ask for."""
    from molino.core.errors import InputError, SolveError
    from molino.core.parallel import using

    if cluster is None:
        with using(int(count) if count is not None and count.isdecimal() else count):
            yield
        return
    if count is not None:
        raise InputError("--workers and --cluster are both given", "", "the workers of a cluster are its own")
    try:
        from distributed import Client
    except ImportError as error:
        raise InputError("a cluster needs the package distributed", "", "pip install 'molino[dask]'") from error
    try:
        client = Client(cluster, timeout=_CONNECT_SECONDS)
    except (OSError, ValueError, TypeError, RuntimeError) as error:  # the last two without the keys of TLS
        raise SolveError(f"{cluster} does not answer ({error})", "--cluster", "start `dask scheduler`") from error
    if not client.nthreads():
        console(stderr=True).print("the cluster has no workers yet: start `dask worker`", style="dim")
    with client, using(client):
        yield
