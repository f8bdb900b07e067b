"""Vessels in series and in parallel, with side feeds, heat exchangers and a recycle."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from molino.core.contract.plant import Plant
from molino.core.contract.vessel import Vessel
from molino.core.errors import InputError
from molino.core.runs.follow import verified
from molino.core.runs.scheduled_changes import Change
from molino.core.trains.recycle import run_train
from molino.core.trains.steady_states import TrainSteadyStates, train_steady_states
from molino.core.trains.train_fields import TrainFields
from molino.core.trains.train_over_time import TrainInTime, follow_train
from molino.core.trains.train_run import TrainRun


@dataclass(frozen=True, eq=False)
class Train(TrainFields):
    """Vessels one after another; the outlet of one goes into the next.

    Parameters
    ----------
    steps : sequence of StirredTank, PlugFlow, Parallel, Exchanger and SideFeed
        The first vessel brings the feed; those of the others do not matter.
    recycle : float
        Flow returned to the inlet over flow that leaves (recycle ratio); at the pressure of the feed.
    returned : Feed, optional
        Composition and temperature of the returned stream at the start, which decides on which steady state the loop
        settles; those of the feed if omitted. Its flow is not used.
    name, show
        As for `Batch`.

    Raises
    ------
    InputError
        If a step is none, or the vessels do not share one chemistry.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tank = mo.StirredTank(chem, feed, volume="5 L")
    >>> train = mo.Train([tank, tank], recycle=0.5)
    >>> round(train.run().conversion("A"), 4)
    0.7273
    """

    def run(self, verify: str = "usual") -> TrainRun:
        """Run all steps in order; with a recycle, until what returns is what was returned.

        The returned stream is found by Newton's method on flows and temperature, with the exact derivatives of the
        whole train, from a few rounds of successive substitution. Where a step of Newton's method does not bring the
        loop much nearer to closing, its start-up is followed instead: implicit Euler steps along the rounds, as long
        as they change little, so that a loop that nearly ignites takes no longer than others (C. T. Kelley, D. E.
        Keyes, SIAM J. Numer. Anal. 35 (1998) 508).

        Parameters
        ----------
        verify : "usual" or "thorough"
            With a second integration of each vessel by another method that must agree.

        Raises
        ------
        InputError
            If constants are unknown, a vessel has no size, or mixing takes enthalpies that the species lack.
        SolveError
            If a vessel cannot be run, or the recycle does not close.
        """
        return verified(run_train(self), verify)

    def steady_states(self) -> TrainSteadyStates:
        """All steady states that are found, each with its stability.

        The sizes of all vessels grow together from next to nothing to a thousand times their own, and the curve of
        steady states over them is followed through its folds; start-ups from places along it, cold and hot, look for
        steady states off it. The search does not prove that there are no others.

        Raises
        ------
        InputError
            If constants are unknown or a vessel has no size.
        SolveError
            If the curve cannot be followed.

        See Also
        --------
        StirredTank.steady_states
        """
        for vessel in self.vessels:
            vessel.spec.require_known()
        return train_steady_states(self)

    def follow(
        self,
        time: Any,
        contents: Any = None,
        changes: Sequence[Change] = (),
        cells: int = 200,
        points: Any = 401,
        progress: Callable[[float], None] | None = None,
        settling_band: float = 0.02,
    ) -> TrainInTime:
        """Follow the train over time: the outlet of a vessel, moment by moment, is fed to the next.

        Parameters
        ----------
        time : str, float or quantity
        contents : mapping of species to concentration, optional
            What is in the vessels at first (in a tank with contents of its own, those); the feed if omitted.
        changes : sequence of Change, optional
            Of the feed, and of the first vessel.
        cells, points, progress, settling_band
            As of `PlugFlow.follow`; a stirred tank is one cell.

        Raises
        ------
        InputError
            For a recycle, and for steps other than stirred tanks and tubes.
        SolveError
            If the integration fails.
        """
        return follow_train(self, time, contents, changes, cells, points, progress, settling_band)


def read_plant(given: Any, place: str) -> Vessel | Train:
    """A vessel or a train; InputError for anything else."""
    if not isinstance(given, Plant):
        raise InputError(f"{given!r} is not a vessel", place, "give a vessel or a train")
    return given  # type: ignore[return-value]
