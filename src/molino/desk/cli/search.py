"""`molino search`: reactions of a library among chosen species or elements."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from molino.desk.cli.common import AsJson, Debug, as_asked, handle_errors
from molino.desk.steps.terminal import console, show_table

LibraryPath = Annotated[Path, typer.Argument(metavar="LIBRARY", help="A TOML file with reactions.", show_default=False)]
Names = Annotated[
    str | None, typer.Option("--species", help="Among these species: xylose,furfural.", show_default=False)
]
Symbols = Annotated[str | None, typer.Option("--elements", help="Of these elements only: C,H,O.", show_default=False)]


def search(
    library: LibraryPath, species: Names = None, elements: Symbols = None, as_json: AsJson = False, debug: Debug = False
) -> None:
    """Search a library of reactions, and list the missing inputs of each that is found."""
    with handle_errors(as_json, debug):
        import pandas as pd

        from molino.desk.job.chemistry import read_library

        names, symbols = (
            [part.strip() for part in text.split(",") if part.strip()] if text is not None else None
            for text in (species, elements)
        )
        known = read_library(library)
        found = known.search(names, symbols)
        rows = found.rows(names)
        if not as_json:
            if rows:
                show_table(pd.DataFrame(rows).drop(columns="rate law"))
            console().print(f"{len(found)} of {len(known)} reactions of {library.name}")
        as_asked({"library": library.name, "reactions": rows}, as_json)
