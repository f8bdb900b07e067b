"""The tables that each command reads, an example of it, its help text, and the page of all commands."""

from __future__ import annotations

import inspect
import re
from collections.abc import Callable

EXAMPLES = {
    "demo": ("", "molino demo --example ether"),
    "new": ("", "molino new mine --kind bed"),
    "check": ("all tables", "molino check job.toml --equations"),
    "orders": ("", "molino orders series.csv --predict '2 h'"),
    "tracer": ("[tracer.NAME]", "molino tracer pulse.csv --volume '2 m3' --flow '12 m3/h'"),
    "fit": ("[fit.NAME]", "molino fit job.toml --profile-likelihood"),
    "survey": ("[survey.NAME]", "molino survey job.toml"),
    "equilibrium": ("[equilibrium.NAME]", "molino equilibrium job.toml --format svg"),
    "run": ("[vessels.NAME]", "molino run job.toml --only tube"),
    "field": ("[fields.NAME]", "molino field job.toml --only basin"),
    "size": ("[size.NAME]", "molino size job.toml --only tube"),
    "compare": ("[compare.NAME]", "molino compare job.toml"),
    "sweep": ("[sweep.NAME]", "molino sweep job.toml --format csv --format png"),
    "attainable": ("[attainable.NAME]", "molino attainable job.toml"),
    "recommend": ("[recommend.NAME]", "molino recommend job.toml"),
    "optimize": ("[optimize.NAME]", "molino optimize job.toml --only best"),
    "report": ("all tables", "molino report job.toml --output report.html"),
    "rerun": ("", "molino rerun report.html --extract inputs"),
    "show": ("", "molino show results/job/size.json"),
    "search": ("[reactions.NAME]", "molino search reactions.toml --species xylose"),
    "help": ("", "molino help units"),
}
"""By command the tables of a job that it reads, and an example."""


def help_text(command: Callable[..., None]) -> str:
    """The help of a command: its docstring in one line per paragraph, its table and an example."""
    table, example = EXAMPLES[command.__name__]
    paragraphs = re.split(r"\n\s*\n", inspect.cleandoc(command.__doc__ or ""))
    parts = [" ".join(paragraph.split()) for paragraph in paragraphs]
    parts += [f"Reads {table}."] if table else []
    return "\n\n".join([*parts, f"Example: {example}"]).replace("[", r"\[")


def commands_page(commands: tuple[Callable[..., None], ...]) -> str:
    """The page of all commands, in Markdown."""
    lines = [
        "# Commands",
        "",
        "Made by `docs/make_keys.py`. `molino COMMAND --help` lists the options of a command.",
        "",
        "| command | purpose | reads | example |",
        "|---|---|---|---|",
    ]
    for command in commands:
        table, example = EXAMPLES[command.__name__]
        purpose = " ".join(re.split(r"\n\s*\n", inspect.cleandoc(command.__doc__ or ""))[0].split())
        reads = f"`{table}`" if "[" in table else table
        lines.append(f"| `{command.__name__}` | {purpose} | {reads} | `{example}` |")
    return "\n".join(lines) + _COMMON


_COMMON = """

## Options of all commands that read a job

| option | meaning |
|---|---|
| `--only NAME` | only this table of the job, for example `--only tube` for `[size.tube]`; may be repeated |
| `--output FOLDER` | folder of the results; by default `results/JOB` next to the job |
| `--format FORMAT` | only this format (`csv`, `xlsx`, `parquet`, `json`, `png`, `svg`, `pdf`); may be repeated |
| `--workers N`, `--cluster ADDRESS` | a number of processes, or a [Dask cluster](scaling.md) |
| `--quiet` | print only errors |
| `--json` | print only the result, as JSON |
| `--debug` | show the traceback of an error |

## Exit codes

| code | meaning |
|---|---|
| 0 | done |
| 1 | the problem could not be solved, or a result could not be written |
| 2 | the input is wrong; each problem is listed with its place |
| 130 | interrupted by Ctrl-C; results written so far are kept |

See also [job files](job-file.md), [reports and files](results.md), and `molino help TOPIC` for formulas, units,
metrics, results, the JSON Schema and shell completion.
"""
