"""The heat safety of exothermic vessels in `run`, `size` and `optimize`."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from molino.core.annotations import ByName
from molino.desk.steps.common import load_figures
from molino.desk.steps.terminal import show_table

if TYPE_CHECKING:
    from molino.core.safety.safety_results import Safety
    from molino.desk.tables.write import ResultsFolder


def safety_of_runs(runs: ByName) -> dict[str, Safety]:
    """The heat safety of each run with an exothermic reaction."""
    from molino.core.safety.heat_safety import safety_of

    found = {name: safety_of(run) for name, run in runs.items()}
    return {name: safety for name, safety in found.items() if safety is not None}


def draw_safety(folder: ResultsFolder, kind: str, found: Mapping[str, Safety]) -> None:
    """Write the figure of each."""
    from molino.core.safety.safety_results import UndeterminedSafety

    for name, safety in found.items():
        if not isinstance(safety, UndeterminedSafety):
            folder.figure(load_figures().heat_safety(safety), kind, name, "heat-safety")


def show_safety(found: Mapping[str, Safety]) -> None:
    """Print each."""
    import pandas as pd

    for name, safety in found.items():
        facts = safety.facts()
        show_table(pd.DataFrame({"heat safety": [*facts], "": [*facts.values()]}), name)
