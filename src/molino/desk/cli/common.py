"""What the commands share: options, printing, and faults reported without a traceback.

Imports of the computing half stand inside functions, so that `molino --help` is quick.
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
from typing import TYPE_CHECKING, Annotated, Any

import typer

if TYPE_CHECKING:
    from molino.core.errors import Fault
    from molino.desk.job.load import Job

from molino.desk.steps.common import console

_MOST_PRINTED = 20
"""How many faults are printed; JSON has all of them."""


class Format(StrEnum):
    """Kinds of files that results go into."""

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
        "--output", metavar="FOLDER", help="Write here; results/JOB next to the job if omitted.", show_default=False
    ),
]
Formats = Annotated[
    list[Format] | None,
    typer.Option(
        "--format",
        help="Write only this kind of file; may be given again. Usual: csv, xlsx, json, png.",
        show_default=False,
    ),
]
Quiet = Annotated[bool, typer.Option("--quiet", "-q", help="Print nothing but errors.")]
AsJson = Annotated[bool, typer.Option("--json", help="Print the result as JSON and nothing else.")]
Debug = Annotated[bool, typer.Option("--debug", help="Show the traceback of an error.")]


@contextmanager
def handle_errors(as_json: bool, debug: bool) -> Iterator[None]:
    """Report whatever goes wrong in words, cause and advice, on standard error (with --json as JSON); results that have
    been written stay.

    Exit codes: 2 for input, 1 for what has no solution, could not be written or was not foreseen, 130 after Ctrl-C, 141
    where nobody reads on.
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
    """Report an interruption; what to leave with."""
    print("interrupted; what has been written stays", file=sys.stderr)
    return typer.Exit(130)


def _has_been_interrupted(error: BaseException | None) -> bool:
    """Whether Ctrl-C is behind an error: a module that is being imported may make another one of it."""
    while error is not None and not isinstance(error, KeyboardInterrupt):
        error = error.__cause__ or error.__context__
    return error is not None


def faults_of(error: Exception) -> Sequence[Fault]:
    """What there is to report about an error, foreseen or not."""
    from molino.core.errors import Fault, MolinoError

    if isinstance(error, MolinoError):
        return error.faults
    if isinstance(error, OSError):
        where = str(error.filename) if error.filename is not None else ""
        advice = "free some space" if error.errno == 28 else "check that the file or folder is there and may be used"
        return [Fault(where, f"the system refused: {error.strerror or error}", advice)]
    if isinstance(error, MemoryError):
        return [Fault("", "there is not enough memory for this", "ask for less at a time: fewer points, cases or rows")]
    if isinstance(error, RecursionError):
        return [Fault("", "something in the input is nested too deeply", "write it flatter")]
    place = traceback.extract_tb(error.__traceback__)[-1]
    what = f"not foreseen: {type(error).__name__}: {error} ({Path(place.filename).name}, line {place.lineno})"
    advice = "this is a fault of Molino: run the command with --debug and report its output; results written stay"
    return [Fault("", what, advice)]


def as_asked(content: Any, as_json: bool) -> None:
    """Print plain data as JSON, where that was asked for."""
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
    """A job with where and as what its results are to be written."""
    kinds = kinds_of(formats)
    return replace(read_job(path), output=output, formats=kinds)


def kinds_of(formats: Sequence[Format] | None) -> tuple[str, ...]:
    """The kinds of files that were asked for; InputError for Parquet without what writes it."""
    from molino.desk.tables.write import USUAL, check_parquet

    kinds = tuple(one.value for one in formats or ()) or USUAL
    if "parquet" in kinds:
        check_parquet()
    return kinds


def read_job(path: Path) -> Job:
    from molino.desk.job.load import load_job

    return load_job(path)
