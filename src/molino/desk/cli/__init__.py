"""The command line: `molino COMMAND`, one module a command."""

from __future__ import annotations

import codecs
import io
import os
import sys
from typing import Annotated

import typer

from molino.desk.cli import demo, help, new, orders, report, rerun, search, show, tracer
from molino.desk.cli.job_commands import JOB_COMMANDS
from molino.desk.cli.reference import help_text

app = typer.Typer(
    no_args_is_help=True,
    rich_markup_mode="rich",
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
)


def _version(wanted: bool) -> None:
    if wanted:
        from importlib.metadata import version

        typer.echo(f"molino {version('molino')}")
        raise typer.Exit


@app.callback()
def molino(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version and stop.")
    ] = False,
) -> None:
    """From a table of measured concentrations to a reactor that can be built.

    A job file (TOML) names data, reactions, feeds, vessels and tasks. Results go into 'results/JOB' next to it. Exit
    code 2: the input is wrong; 1: it could not be solved.
    """


_JOB = JOB_COMMANDS
COMMANDS = (
    demo.demo,
    new.new,
    _JOB["check"],
    orders.orders,
    tracer.tracer,
    _JOB["fit"],
    _JOB["survey"],
    _JOB["equilibrium"],
    _JOB["run"],
    _JOB["field"],
    _JOB["size"],
    _JOB["compare"],
    _JOB["sweep"],
    _JOB["attainable"],
    _JOB["recommend"],
    _JOB["optimize"],
    report.report,
    rerun.rerun,
    show.show,
    search.search,
    help.help,
)

for command in COMMANDS:
    app.command(help=help_text(command), no_args_is_help=command not in (demo.demo, help.help))(command)


_PLAIN = {
    "³": "3",
    "²": "2",
    "⁻": "-",
    "¹": "1",
    "·": "*",
    "°": "deg",
    "µ": "u",
    "−": "-",
    "±": "+/-",
    "…": "...",
    "─": "-",
    "→": "->",
    "–": "-",
    "≥": ">=",
    "≤": "<=",
    "×": "x",
}
"""Replacements in a terminal without Unicode."""


def _in_plain_characters(error: UnicodeError) -> tuple[str, int]:
    if not isinstance(error, UnicodeEncodeError):
        raise error
    return "".join(_PLAIN.get(c, "?") for c in error.object[error.start : error.end]), error.end


def main() -> None:
    """Entry point of the `molino` command."""
    codecs.register_error("plain", _in_plain_characters)
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="plain")
    try:
        app()
    except KeyboardInterrupt:
        print("interrupted; files written so far are kept", file=sys.stderr)
        sys.exit(130)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(141)
