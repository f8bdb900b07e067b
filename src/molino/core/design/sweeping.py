"""`sweep`: the same vessel under many conditions, on a grid or in a list of cases."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from molino.core.annotations import ByName
from molino.core.arguments import checked
from molino.core.contract.metric import Metric
from molino.core.contract.vessel import Vessel
from molino.core.design.spans import MOST
from molino.core.design.sweep_question import Question
from molino.core.design.sweep_result import Sweep
from molino.core.parallel import Workers
from molino.core.trains.train import Train


@checked
def sweep(
    vessel: Vessel | Train,
    conditions: ByName | Sequence[ByName],
    metrics: Sequence[Metric | str],
    *,
    workers: Workers = None,
    progress: Callable[[int, int], None] | None = None,
) -> Sweep:
    """Run a vessel under many conditions: every combination of values, or a list of cases.

    A thousand cases are computed in one call, in machine code or as one banded system, and cost little more than a few.
    Vessels with events and trains are run one by one, and so is each case that fails among the others; a case that
    fails alone, too, has no numbers and a reason. Ctrl-C keeps the cases computed so far.

    Parameters
    ----------
    vessel : Batch, SemiBatch, StirredTank, PlugFlow or Train
    conditions : mapping of condition to values, or list of mappings of condition to value
        By the name that `with_` takes: a field of the vessel ("T", "volume", "length", "diameter", "tubes", "time"),
        "flow" or "feed T", "coolant T", the content of a species in the feed or charge ("[xylose]", also as "3 per
        acid" or "20 mol%"), or a constant of the chemistry ("dehydration.k"). Of a train: "recycle", those of its feed
        and chemistry, and those of a vessel by its name ("coil.length"). Values in a list, or from `mo.span` and
        `mo.log_span`; a mapping means every combination, a list of mappings one case each.
    metrics : sequence of Metric or str
    workers : int, "all", Executor or Client of `distributed`, optional
        A number of processes; by default all cores, if it takes long. The numbers do not depend on the workers.
    progress : callable (done, of all), optional
        Called as cases are done.

    Returns
    -------
    Sweep

    Raises
    ------
    InputError
        With all faults of the question.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> tube = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L")
    >>> conditions = {"volume": mo.span("1 L", "5 L", 3), "flow": ["1 L/min", "2 L/min"]}
    >>> swept = mo.sweep(tube, conditions, ["conversion of A"])
    >>> swept.values["conversion of A"].round(3).tolist()
    [[0.181, 0.095], [0.451, 0.259], [0.632, 0.393]]
    """
    question = Question.read(vessel, conditions, metrics)
    question.require_known()
    numbers, reasons, is_stopped, apart = question.compute_all(workers, progress)
    places = question.places
    return question.result(places.shape, range(len(places)), numbers, reasons, is_stopped, apart)


def computed(vessel: Vessel | Train, names: Sequence[str], rows: np.ndarray, metric: Metric) -> np.ndarray:
    """A metric in SI for cases of numbers in SI, rows of shape (cases, names); nan where the vessel cannot be run.

    Raises
    ------
    InputError
        For a number that a condition cannot have.
    """
    question = Question.of(vessel, names, rows, metric)
    question.require_known()
    return question.compute_all(None, None)[0][:, 0]


def check_sweep(vessel: Vessel | Train, conditions: object, metrics: object, most: float = MOST) -> None:
    """Raise InputError with all faults of the question of a sweep; constants may be unknown."""
    Question.read(vessel, conditions, metrics, most)
