"""Vessels in series and in parallel, with side feeds, heat exchangers and a recycle."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from molino.core.contract.plant import Plant
from molino.core.contract.vessel import Vessel
from molino.core.errors import InputError
from molino.core.runs.follow import verified
from molino.core.runs.scheduled_changes import Change
from molino.core.trains.closing import run_train
from molino.core.trains.steady_states import TrainSteadyStates, train_steady_states
from molino.core.trains.train_branch import TrainBranch, train_branch
from molino.core.trains.train_fields import TrainFields
from molino.core.trains.train_over_time import TrainInTime, follow_train
from molino.core.trains.train_run import TrainRun
from molino.core.units import QuantityLike


@dataclass(frozen=True, eq=False)
class Train(TrainFields):
    """Vessels and other units: a line, or a network with loops.

    The stream passes from step to step. Steps may give further streams, by names (`Split`, `Separator`, `Condenser`),
    which other steps take (`Mix`, `From`); a line ends with `To`. So any number of loops is written.

    Parameters
    ----------
    steps : sequence of vessels with a feed, and of Parallel, Exchanger, FeedEffluent, SideFeed, Mix, From, To, Split,
        Purge, Separator, Flash, Condenser, Compressor, Pump and Valve
    feed : Feed, optional
        By default that of the first vessel; those of the others are ignored.
    recycle : float
        Recycle ratio: flow returned to the inlet over flow of the product; at the pressure of the feed.
    returned : Feed, optional
        Composition and temperature of the returned stream at the start, which determines the steady state that is
        reached; by default those of the feed. Its flow is ignored.
    name, show
        As for `Batch`.

    Raises
    ------
    InputError
        If a step is invalid, or the vessels do not have the same chemistry.

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
        """Run all steps in order; with a recycle, until it closes.

        The returned stream is found by Newton's method on flows and temperature, with the exact derivatives of the
        whole train, from a few rounds of successive substitution. If a Newton step does not reduce the residual much,
        the start-up is followed instead: implicit Euler steps along the rounds, as long as they change little, so that
        a loop near ignition takes no longer than others (C. T. Kelley, D. E. Keyes, SIAM J. Numer. Anal. 35 (1998)
        508).

        Parameters
        ----------
        verify : "usual" or "thorough"
            With a second integration of each vessel by another method that must agree.

        Raises
        ------
        InputError
            If constants are unknown, a vessel has no size, or enthalpies for mixing are missing.
        SolveError
            If a vessel cannot be run, or the recycle does not close.
        """
        return verified(run_train(self), verify)

    def steady_states(self) -> TrainSteadyStates:
        """All steady states that are found, each with its stability.

        The curve of steady states over a common factor of all sizes, from almost zero to a thousand, is followed
        through its folds; start-ups from points on it, cold and hot, search for steady states off it. The search does
        not prove that there are no others.

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

    def branch(self, free: Mapping[str, Sequence[QuantityLike]]) -> TrainBranch:
        """The curve of steady states as one condition varies, through its folds: ignition and extinction.

        Parameters
        ----------
        free : mapping of a condition to (low, high)
            The curve begins at the lower end with the state that `run` reaches there.

        Raises
        ------
        InputError
            For an unknown condition, constants or sizes.
        SolveError
            If the curve cannot be followed.

        See Also
        --------
        StirredTank.branch, Train.steady_states

        Examples
        --------
        >>> law = mo.Arrhenius(A="3e14 1/min", Ea="100 kJ/mol")
        >>> hot = mo.Chemistry(mo.Reaction("A -> B", k=law, enthalpy="-80 kJ/mol"))
        >>> cold = mo.Feed({"A": "2 mol/L"}, flow="100 L/min", T="300 K", heat_capacity="4.2 MJ/m3/K")
        >>> exchanger = mo.FeedEffluent(UA="10 kW/K")
        >>> bed = mo.PlugFlow(hot, volume="200 L", heat="adiabatic")
        >>> train = mo.Train([exchanger.feed, bed, exchanger.effluent], cold)
        >>> [fold.kind for fold in train.branch({"feed T": ("280 K", "330 K")}).folds]
        ['ignition', 'extinction']
        """
        return train_branch(self, free)

    def follow(
        self,
        time: QuantityLike,
        contents: object = None,
        changes: Sequence[Change] = (),
        cells: int = 200,
        points: object = 401,
        progress: Callable[[float], None] | None = None,
        settling_band: float = 0.02,
    ) -> TrainInTime:
        """Integrate the train over time: the outlet of a vessel at each moment is the feed of the next.

        Parameters
        ----------
        time : str, float or quantity
        contents : mapping of species to concentration, optional
            Initial contents of the vessels (a tank with its own contents has those); by default the feed.
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


def read_plant(given: object, place: str) -> Vessel | Train:
    """A vessel or a train; InputError for anything else."""
    if not isinstance(given, Plant):
        raise InputError(f"{given!r} is not a vessel", place, "give a vessel or a train")
    return given  # type: ignore[return-value]
