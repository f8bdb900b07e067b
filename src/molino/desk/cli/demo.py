"""`molino demo`: the whole example, with its data, into a folder of its own."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from molino.desk.cli.common import Debug, console, guard

_FILES = ("valdeoro.toml", "cob-liquor.csv", "make_data.py")

Folder = Annotated[Path, typer.Argument(metavar="FOLDER", help="Where to write it.")]


def demo(folder: Folder = Path("molino-demo"), debug: Debug = False) -> None:
    """Write the example of the Valdeoro mill into a folder and walk it: check, fit, run, size, compare."""
    with guard(False, debug):
        import shutil
        from importlib.resources import as_file, files

        from rich.rule import Rule

        from molino.core.errors import InputError
        from molino.desk.cli import check, compare, fit, run, size
        from molino.desk.job.load import load_job
        from molino.desk.tables.write import whole

        if folder.exists() and not folder.is_dir():
            raise InputError("it is a file", str(folder), "name another folder: molino demo FOLDER")
        for name in _FILES:
            target = folder / name
            with as_file(files("molino.demo") / name) as source:
                if target.exists() and target.read_bytes() != source.read_bytes():
                    advice = "rename it, or name another folder: molino demo FOLDER"
                    raise InputError("it is there already and has been changed", str(target), advice)
                with whole(target) as temporary:
                    shutil.copyfile(source, temporary)
        out = console()
        job = load_job(folder / _FILES[0])
        out.print(f"The example is in {folder}/; the same steps one by one:")
        for step, act in (
            ("check", check.show),
            ("fit", fit.do),
            ("run", run.do),
            ("size", size.do),
            ("compare", compare.do),
        ):
            out.print(Rule(f"molino {step} {job.path}", align="left", style="cyan"))
            act(job, False)
