"""`molino help`: the formula language, units, metrics, results and completion, without a browser."""

from __future__ import annotations

from typing import Annotated

import typer

from molino.desk.cli.common import handle_errors
from molino.desk.steps.terminal import console, show_table

TOPICS = {
    "formulas": "rate laws and reactions",
    "units": "quantities, and every kind with an example",
    "metrics": "metrics for sizing, comparison and optimization",
    "results": "files, exit codes, JSON",
    "schema": "the JSON Schema of results",
    "completion": "commands completed by tab",
}

Topic = Annotated[str | None, typer.Argument(metavar="TOPIC", help=", ".join(TOPICS) + ".", show_default=False)]


def help(topic: Topic = None) -> None:
    """Explain a topic: formulas, units, metrics, results, schema, completion."""
    with handle_errors(False, False):
        from importlib.resources import files

        import pandas as pd
        from rich.markdown import Markdown

        from molino.core.errors import InputError, nearest

        out = console()
        if topic is None:
            show_table(pd.DataFrame({"molino help": [*TOPICS], "": [*TOPICS.values()]}))
            return
        if topic not in TOPICS:
            raise InputError(f"unknown topic '{topic}'", "molino help", nearest(topic, TOPICS))
        if topic == "schema":
            print((files("molino.desk.tables") / "results.schema.json").read_text(encoding="utf-8"), end="")
            return
        out.print(Markdown((files("molino.desk.cli") / "topics" / f"{topic}.md").read_text(encoding="utf-8")))
        if topic == "units":
            from molino.core.unit_tables import AMBIGUOUS, EXAMPLES

            show_table(pd.DataFrame({"kind of quantity": [*EXAMPLES], "example": [*EXAMPLES.values()]}))
            show_table(
                pd.DataFrame(
                    {
                        "unit with two meanings": [*AMBIGUOUS],
                        "meaning": [text.partition(" is read ")[2] for text in AMBIGUOUS.values()],
                    }
                )
            )
        if topic == "metrics":
            from molino.core.contract.metric import OF_A_SPECIES, OF_THE_WHOLE

            show_table(pd.DataFrame({"of a species": [f"{name} of A" for name in OF_A_SPECIES]}))
            show_table(pd.DataFrame({"of the vessel": [*OF_THE_WHOLE]}))
