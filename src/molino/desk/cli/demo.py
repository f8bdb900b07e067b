"""`molino demo`: an example with its data, in its own folder."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from molino.desk.cli.common import AsJson, Debug, as_asked, handle_errors
from molino.desk.steps.terminal import console, one_screen

_FILES = {
    "liquor": (
        "valdeoro.toml",
        "cob-liquor.csv",
        "cob-reactions.toml",
        "make_data.py",
        "laboratory/cob-kinetics.toml",
        "laboratory/calorimeter.toml",
        "laboratory/calorimeter.csv",
        "laboratory/probe.toml",
        "laboratory/probe.csv",
        "cooker-tracer.csv",
    ),
    "ether": ("ether.toml",),
    "resin": ("resin.toml",),
    "ester": ("ester.toml",),
    "basin": ("basin.toml", "cooker-tracer.csv"),
}
_FURTHER = {
    "liquor": "The same data for the laboratory:\n  molino fit {folder}/laboratory/cob-kinetics.toml\n"
    "A rate law from a calorimeter:\n  molino fit {folder}/laboratory/calorimeter.toml\n"
    "A rate law from a probe with an unknown blank, and samples below the limit of detection:\n"
    "  molino fit {folder}/laboratory/probe.toml\n"
    "A tracer test of the cooker:\n  molino tracer {folder}/cooker-tracer.csv --volume '6 m3' --flow '12 m3/h' "
    "--injected '1.5 kg' --calibration '0.55 g/L' --baseline '-5 min:-0.5 min' --baseline '320 min:360 min'",
    "ether": "The example with measurements, fits and a coil:\n  molino demo",
    "resin": "The example with measurements, fits and a coil:\n  molino demo",
    "ester": "The example with measurements, fits and a coil:\n  molino demo",
    "basin": "The example with measurements, fits and a coil:\n  molino demo",
}


class Example(StrEnum):
    """The examples."""

    liquor = "liquor"
    ether = "ether"
    resin = "resin"
    ester = "ester"
    basin = "basin"


WhichExample = Annotated[
    Example,
    typer.Option(
        "--example",
        help="liquor: furfural from cob liquor; ether: methanol vapour over a packed bed; "
        "resin: a kettle whose cooling may fail; ester: a non-ideal liquid, and its equilibrium limit; "
        "basin: a settling basin as a field, and a tracer test.",
    ),
]

Folder = Annotated[Path, typer.Argument(metavar="FOLDER", help="The folder.")]


def demo(
    folder: Folder = Path("molino-demo"),
    example: WhichExample = Example.liquor,
    as_json: AsJson = False,
    debug: Debug = False,
) -> None:
    """Write an example of the Valdeoro mill into a folder and run its commands, one after another."""
    with handle_errors(as_json, debug):
        import shutil
        from importlib.resources import as_file, files

        from rich.rule import Rule

        from molino.core.errors import InputError
        from molino.desk.job.load import load_job
        from molino.desk.job.models import job_schema
        from molino.desk.steps import steps_of, take
        from molino.desk.tables.write import whole, write_json

        if folder.exists() and not folder.is_dir():
            raise InputError("it is a file", str(folder), "name another folder: molino demo FOLDER")
        for name in _FILES[example]:
            target = folder / name
            with as_file(files("molino.demo") / name) as source:
                if target.exists() and target.read_bytes() != source.read_bytes():
                    advice = "rename it, or name another folder: molino demo FOLDER"
                    raise InputError("it exists already and has been changed", str(target), advice)
                with whole(target) as temporary:
                    shutil.copyfile(source, temporary)
        write_json(folder / "job.schema.json", job_schema())
        out = console()
        job = load_job(folder / _FILES[example][0])
        if not as_json:
            out.print(f"The example is in {folder}/; the same steps one by one:")
        results = {}
        for step in steps_of(job):
            if not as_json:
                out.print(Rule(f"molino {step} {job.path}", align="left", style="cyan"))
            with one_screen(f"molino {step} {job.path}"):
                results[step] = take(step, job, as_json)
        if not as_json:
            out.print(Rule("further", align="left", style="cyan"))
            out.print(f"Tables and figures of all steps are in {job.results}/.")
            out.print(_FURTHER[example].format(folder=folder))
        as_asked(results, as_json)
