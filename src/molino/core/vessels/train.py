"""Vessels one after another and side by side, with side feeds, heat exchangers and a recycle."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, ClassVar, Self

import numpy as np

from molino.core import units
from molino.core.checks import Check, checked_fact
from molino.core.chemistry.chemistry import Chemistry, Covariance
from molino.core.dual import Dual, Number, value_of
from molino.core.errors import Fault, Faults, InputError, SolveError, nearest
from molino.core.frozen import Frozen, FrozenMapping, settle
from molino.core.printing import Printed
from molino.core.units import Display, Value
from molino.core.vessels.base import Setting, Vessel
from molino.core.vessels.changes import Change
from molino.core.vessels.data_range import fitted_fact
from molino.core.vessels.feed import Feed
from molino.core.vessels.flow_vessel import FlowVessel
from molino.core.vessels.metrics import Metric, parse_metric
from molino.core.vessels.phase_limits import phase_facts
from molino.core.vessels.run import ROUNDING, Run, RunResult, verified
from molino.core.vessels.streams import (
    Fluid,
    Stream,
    as_feed,
    enthalpy,
    is_whole,
    mixed,
    stream_table,
)
from molino.core.vessels.train_in_time import TrainInTime, follow_train
from molino.core.vessels.train_slopes import Ends, Pass, metric_of_ends, pass_slopes, train_expression
from molino.core.vessels.train_states import TrainSteadyStates, train_steady_states
from molino.core.vessels.train_steps import Exchanger, Parallel, SideFeed, Step, check_vessels

if TYPE_CHECKING:
    import pandas as pd


_ROUNDS = 3
"""Rounds of successive substitution before Newton's method."""
_MOST_STEPS, _MOST_TRIALS = 400, 30
_FARTHEST, _WARMER = 0.1, 0.02
"""The most that a step of the start-up of a loop changes a returned flow, in units of the recycle, and the returned
temperature, in units of that of the feed."""
_UNSTABLE = 0.5
"""The share of the time in which a disturbance grows e-fold that a step may take: longer ones lead back to where it
came from."""
_CLOSED = 1e-12
"""How nearly a recycle closes, in units of the feed."""
_CONVERGES = 0.5
"""A step of Newton's method is taken if less than this share of the difference is left after it."""
_BELOW_ZERO = 1e-9
"""How far below zero, as a share of the recycle, a returned flow counts as rounding."""


@dataclass(frozen=True, eq=False)
class Train(Frozen, Printed):
    """Vessels one after another; what comes out of one goes into the next.

    Parameters
    ----------
    steps : sequence of StirredTank, PlugFlow, Parallel, Exchanger and SideFeed
        The first vessel brings the feed; those of the others do not matter.
    recycle : float
        Flow returned to the inlet over flow that leaves (recycle ratio); at the pressure of the feed.
    returned : Feed, optional
        Composition and temperature of the returned stream at the start, which decides on which steady state the loop
        settles; those of the feed if left out. Its flow is not used.
    name, show
        As for `Batch`.

    Raises
    ------
    InputError
        If a step is none, or the vessels do not share one chemistry.

    Examples
    --------
    >>> import molino as mo
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tank = mo.StirredTank(chem, feed, volume="5 L")
    >>> train = mo.Train([tank, tank], recycle=0.5)
    >>> round(train.run().conversion("A"), 4)
    0.7273
    """

    noun: ClassVar[str] = "train"
    steps: Sequence[Step]
    recycle: Any = 0.0
    returned: Feed | None = None
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        faults = Faults()
        settle(self, steps=tuple(self.steps))
        check_vessels(faults, self.vessels, self.label)
        for step in self.steps:
            if isinstance(step, Vessel) and not isinstance(step, FlowVessel):
                faults.add(self.label, f"{step.title} does not flow through", "give stirred tanks and plug-flow tubes")
            elif not isinstance(step, Step):
                faults.add(self.label, f"{step!r} is no step of a train", "vessels, Parallel, Exchanger, SideFeed")
        with faults.at(self.label):
            settle(self, recycle=units.with_deviation(self.recycle, _read_recycle))
        if self.returned is not None and not isinstance(self.returned, Feed):
            faults.add(self.label, f"{self.returned!r} is not a feed", "give returned=mo.Feed(...)")
        for vessel in self.vessels:
            if vessel.wall is not None or vessel._has_side:
                message = f"something comes in or goes out at the side of {vessel.title}, which a train does not count"
                faults.add(self.label, message, "run it by itself, or give SideFeed steps between shorter tubes")
        if not faults.found and any(v.chemistry.names != self.chemistry.names for v in self.vessels):
            faults.add(self.label, "the vessels have different species", "give them one chemistry")
        faults.raise_any()

    @property
    def vessels(self) -> list[FlowVessel]:
        """Every vessel in it."""
        nested = [
            [*s.vessels] if isinstance(s, Parallel) else [s] for s in self.steps if isinstance(s, FlowVessel | Parallel)
        ]
        return [v for several in nested for v in several]

    @property
    def first(self) -> FlowVessel:
        """The vessel that brings the feed."""
        return self.vessels[0]

    @property
    def chemistry(self) -> Chemistry:
        return self.first.chemistry

    @property
    def feed(self) -> Feed:
        return self.first.feed

    @property
    def label(self) -> str:
        return self.name or self.noun

    @property
    def title(self) -> str:
        return f"{self.name}: {self.noun}" if self.name else self.noun

    @cached_property
    def _display(self) -> Display:
        return self.first.with_(show={**self.first.show, **self.show})._display

    def with_(self, conditions: Mapping[str, Any] | None = None, /, **changed: Any) -> Train:
        """The same train with some fields replaced, `chemistry` in every vessel, or some conditions.

        `train.with_({"bed.length": "4 m", "recycle": 2, "feed T": "60 degC"})`: a setting of a vessel by the vessel's
        name, "recycle", what its feed has ("flow", "feed T", "feed P", "[A]"), a constant of the chemistry ("r.k"), and
        of its other steps by their names (by what they are, where there is one such step only): "exchanger.T" or
        "exchanger.duty", "side feed.flow" and "side feed.T", "side feed.share" (of its flow and that of the feed
        together, which stays as it is), and "parallel.split", the share of the first of two.
        """
        chemistry = changed.pop("chemistry", None)
        found = replace(self, **changed)
        if chemistry is not None:
            found = found._with_vessels(lambda vessel: vessel.with_(chemistry=chemistry))
        own: dict[tuple[FlowVessel, ...], dict[str, Any]] = {}
        rest = dict(conditions or {})
        for name in [n for n in rest if n not in ("recycle", *found._step_settings, *found._side_shares)]:
            owners, setting = found._owners(name)
            own.setdefault(owners, {})[setting] = rest.pop(name)
        changes = {id(v): {k: x for owners, given in own.items() if v in owners for k, x in given.items()}
                   for v in found.vessels}  # fmt: skip
        found = found._with_vessels(lambda v: v.with_(changes[id(v)]) if changes[id(v)] else v) if own else found
        for name in sorted(rest, key=lambda n: n in found._side_shares):  # a share is one of the flows as they are then
            if name == "recycle":
                found = replace(found, recycle=rest[name])
            elif name in found._side_shares:
                found = found._with_side_share(name, rest[name])
            else:
                step, of_step = found._step_settings[name]
                found = replace(found, steps=[of_step.put(rest[name]) if s is step else s for s in found.steps])
        return found

    def _with_vessels(self, change: Callable[[FlowVessel], FlowVessel]) -> Train:
        def renew(step: Step) -> Step:
            if isinstance(step, FlowVessel):
                return change(step)
            return replace(step, vessels=[change(v) for v in step.vessels]) if isinstance(step, Parallel) else step

        return replace(self, steps=[renew(step) for step in self.steps])

    @cached_property
    def _step_settings(self) -> dict[str, tuple[Step, Setting]]:
        """What can be changed of steps that are no vessels, by the step's name; of steps of one name nothing."""
        others = [step for step in self.steps if not isinstance(step, FlowVessel)]
        labels = [*(step.label for step in others), *(v.name for v in self.vessels)]
        return {
            f"{step.label}.{name}": (step, setting)
            for step in others
            if labels.count(step.label) == 1
            for name, setting in step.settings().items()
        }

    @cached_property
    def _side_shares(self) -> dict[str, tuple[SideFeed, float, float]]:
        """The side feeds whose share can be changed, by that setting: the step, its flow and that of the feed in SI."""
        found = {}
        main = self.first._settings["flow"]
        for name, (step, setting) in self._step_settings.items():
            if isinstance(step, SideFeed) and name.endswith(".flow") and setting.form == main.form:
                found[f"{step.label}.share"] = step, setting.own, main.own
        return found

    def _with_side_share(self, name: str, value: Any) -> Train:
        """The same with another share of feed and side feed together at the side."""
        (step, side, main), share = self._side_shares[name], _read_share(value)[0]
        flows = {"flow": (1 - share) * (side + main), f"{step.label}.flow": share * (side + main)}
        shown = {n: Value(q, self._settings[n].value.unit) for n, q in flows.items()}  # type: ignore[union-attr]
        return self.with_(shown)

    def _vessel_setting(self, name: str) -> tuple[FlowVessel, str]:
        """The vessel that a setting like 'bed.length' belongs to, and the setting."""
        for vessel in self.vessels:
            setting = name.removeprefix(f"{vessel.name}.")
            if vessel.name and setting != name and setting in vessel._own_settings:
                return vessel, setting
        raise InputError(f"'{name}' cannot be varied", self.label, nearest(name, self._settings))

    def _owners(self, name: str) -> tuple[tuple[FlowVessel, ...], str]:
        """The vessels that a condition belongs to: the first for one of the feed, all for a constant."""
        if name in self.first._settings and name not in self.first._own_settings:
            is_feed = name in self.first._feed_settings
            return ((self.first,) if is_feed else tuple(self.vessels)), name
        owner, setting = self._vessel_setting(name)
        return (owner,), setting

    @cached_property
    def _settings(self) -> dict[str, Setting]:
        """Everything of it that can be changed by name."""

        def put(name: str) -> Callable[[Any], Train]:
            return lambda value: self.with_({name: value})

        first = self.first
        found = {"recycle": Setting("recycle", "number", _read_ratio, put("recycle"), self.recycle.si, "number",
                                    value=self.recycle)}  # fmt: skip
        for vessel in self.vessels:
            for one in vessel._own_settings if vessel.name else ():
                name = f"{vessel.name}.{one}"
                found[name] = replace(vessel._settings[one], name=name, put=put(name))
        for name in first._settings.keys() - first._own_settings:
            found[name] = replace(first._settings[name], put=put(name))
        found |= {
            name: replace(setting, name=name, put=put(name)) for name, (_, setting) in self._step_settings.items()
        }
        for name, (_, side, main) in self._side_shares.items():
            found[name] = Setting(name, "number", _read_share, put(name), side / (side + main), "number")
        return found

    def _setting(self, name: str) -> Setting:
        if name not in self._settings:
            raise InputError(f"'{name}' cannot be varied", self.label, nearest(name, self._settings))
        return self._settings[name]

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
        for vessel in self.vessels:
            vessel._require_known()
        found = self._closed(self._fresh) if self.recycle.si else self._pass(self._fresh, self._fresh)
        return verified(found, verify)

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
            vessel._require_known()
        return train_steady_states(self)

    @cached_property
    def _fresh(self) -> Stream:
        """The feed of the first vessel."""
        fed = self.first._fed
        amounts = {s: fed.concentrations.get(s, 0.0) * fed.volume for s in self.chemistry.names}
        T = self.feed.T.si if self.feed.T is not None else np.nan
        return Stream("feed", amounts, float(fed.volume), T, self.first._given_pressure())

    def follow(
        self, time: Any, contents: Any = None, changes: Sequence[Change] = (), cells: int = 200, points: Any = 401,
        progress: Callable[[float], None] | None = None, settling_band: float = 0.02,
    ) -> TrainInTime:  # fmt: skip
        """Follow the train over time: what leaves a vessel, moment by moment, is fed to the next.

        Parameters
        ----------
        time : str, float or quantity
        contents : mapping of species to concentration, optional
            What is in the vessels at first (in a tank with contents of its own, those); the feed if left out.
        changes : sequence of Change, optional
            Of the feed, and of the first vessel.
        cells, points, progress, settling_band
            As of `PlugFlow.follow`; a stirred tank is one cell.

        Raises
        ------
        InputError
            For a recycle, and for steps other than stirred tanks and tubes.
        SolveError
            If the integration cannot go on.
        """
        return follow_train(self, time, contents, changes, cells, points, progress, settling_band)

    @property
    def _follows_T(self) -> bool:
        """Whether the temperature of what is returned is worked out."""
        return bool(np.isfinite(self._fresh.T)) and self.first._key.has_energy

    def _closed(self, fresh: Stream) -> TrainRun:
        ratio, names = self.recycle.si, self.chemistry.names
        kept = np.nan if self._follows_T else self._pass(fresh, fresh).last.T

        def around(z: np.ndarray) -> TrainRun:
            return self._pass(self._joined(fresh, self._returned_stream(z, kept)), fresh)

        z = self._first_returned(fresh)
        run = around(z)
        off, length = self._returned(run) - z, 1.0
        largest = np.array([_FARTHEST * max(ratio, 1e-3)] * len(names) + [_WARMER] * (len(z) - len(names)))
        for n in range(_MOST_STEPS):
            if np.max(np.abs(off)) < _CLOSED * max(1.0, ratio):
                return run
            if n < _ROUNDS:
                z = z + off
                run = around(z)
                off = self._returned(run) - z
                continue
            by = pass_slopes(run._done(), (), len(z))[1][:, : len(z)] - np.eye(len(z))
            growth = float(np.linalg.eigvals(by).real.max())
            there = z - np.linalg.solve(by, off) if growth < 0 else z
            if growth < 0 and self._can_return(there) and (tried := _tried(around, there)) is not None:
                left = self._returned(tried) - there
                if np.linalg.norm(left) < _CONVERGES * np.linalg.norm(off):
                    z, run, off = there, tried, left
                    continue
            length = min(length, _UNSTABLE / growth) if growth > 0 else length
            for _ in range(_MOST_TRIALS):
                step = np.linalg.solve(np.eye(len(z)) / length - by, off)
                share = float(np.max(np.abs(step) / largest))
                there = np.append(np.maximum(z + step, 0.0)[: len(names)], (z + step)[len(names) :])
                if share <= 1 and (tried := _tried(around, there)) is not None:
                    break
                length *= min(0.5, 0.8 / max(share, 1e-300))
            else:
                break
            z, run, length = there, tried, length * float(np.clip(0.8 / max(share, 1e-300), 1.0, 4.0))
            off = self._returned(run) - z
        left = float(np.max(np.abs(off)))
        if left > 1e-9 * max(1.0, ratio):
            message = f"the recycle does not close: the returned stream still differs by {left:.2g} of the feed"
            raise SolveError([Fault(self.label, message, "see steady_states(), or give a smaller ratio")])
        return run

    def _can_return(self, z: np.ndarray) -> bool:
        """Whether flows and temperature of a returned stream can be such."""
        count = len(self.chemistry.names)
        return not (z[:count] < -_BELOW_ZERO * self.recycle.si).any() and bool((z[count:] > 0).all())

    def _first_returned(self, fresh: Stream) -> np.ndarray:
        """What returns at the start, in units of the feed."""
        amounts, T = fresh.amounts, fresh.T
        if self.returned is not None:
            own = {name: getattr(self.feed, name) for name in ("heat_capacity", "density", "model")}
            fed = self.first.with_(feed=replace(self.returned, **own))._fed
            amounts = {s: float(c) for s, c in fed.concentrations.items()}
            T = self.returned.T.si if self.returned.T is not None else T
        whole = sum(amounts.values())
        flows = [self.recycle.si * amounts.get(s, 0.0) / whole for s in self.chemistry.names]
        return np.array([*flows, *([T / fresh.T] if self._follows_T else [])])

    def _returned(self, run: TrainRun) -> np.ndarray:
        """What returns, in units of the feed."""
        ratio, out, whole = self.recycle.si, run.last, sum(self._fresh.amounts.values())
        flows = [ratio / (1 + ratio) * out.amounts[s] / whole for s in self.chemistry.names]
        return np.array([*flows, *([out.T / self._fresh.T] if self._follows_T else [])])

    def _returned_stream(self, z: Sequence[Number] | np.ndarray, kept: float) -> Stream:
        """The returned stream from its flows and temperature in units of the feed."""
        names, whole = self.chemistry.names, sum(self._fresh.amounts.values())
        flows = {s: _above_zero(x) * whole for s, x in zip(names, z, strict=False)}
        sides = [step.feed for step in self.steps if isinstance(step, SideFeed)]
        leaving = self._fresh.volume + sum(float(self.first.with_(feed=feed)._fed.volume) for feed in sides)
        volume = np.nan if self.feed.is_gas else self.recycle.si * leaving
        T = z[-1] * self._fresh.T if self._follows_T else kept
        return Stream("recycle", flows, volume, T, self._fresh.P)

    def _joined(self, fresh: Stream, returned: Stream) -> Stream:
        return mixed(self.first._fluid, [fresh, returned], "mixed feed")

    def _pass(
        self, stream: Stream, fresh: Stream, run_of: Callable[[FlowVessel], Run] = lambda vessel: vessel.outcome()
    ) -> TrainRun:  # fmt: skip
        """One pass through all steps; `run_of` runs a vessel with its feed."""
        fluid = self.first._fluid
        runs: list[Run] = []
        streams = [fresh] if stream is fresh else [fresh, stream]
        duties: dict[str, float] = {}
        added = [fresh]
        passed = 0.0
        for step in self.steps:
            if isinstance(step, Exchanger):
                stream, duty = step.passed(self.first, stream)
                duties[_unused(step.label, duties)] = duty
            elif isinstance(step, SideFeed):
                side = step.stream(self.first)
                added.append(side)
                stream = mixed(fluid, [stream, side], "mixed")
                streams.append(side)
            else:
                several = step.vessels if isinstance(step, Parallel) else (step,)
                shares = step.split if isinstance(step, Parallel) else (1.0,)
                outs = []
                for vessel, share in zip(several, shares, strict=True):
                    part = {s: n * share for s, n in stream.amounts.items()}
                    own = replace(stream, amounts=part, volume=stream.volume * share)
                    runs.append(run_of(vessel.with_(feed=as_feed(own, vessel.feed))))
                    passed += share * float(np.nan_to_num(runs[-1].residence_time_si))
                    outs.append(runs[-1].stream_out())
                stream = outs[0] if len(outs) == 1 else mixed(fluid, outs, "")
            streams.append(stream.named(f"after {step.label}"))
        return TrainRun(self, tuple(runs), tuple(streams), FrozenMapping(duties), tuple(added), passed)

    def outcome(self) -> TrainRun:
        return self.run()

    def _expression(self, metric: Metric) -> None:
        """Raise InputError if it has no such quantity."""
        train_expression(self.vessels, metric)
        metric.require_fed(self._goes_in, self.label)

    def _check_metric(self, metric: Metric) -> None:
        """Raise InputError if a run of it has no such metric."""
        self._expression(metric)

    def _goes_in(self, species: str) -> bool:
        """Whether some of a species is in one of its fresh feeds."""
        sides = [step.stream(self.first) for step in self.steps if isinstance(step, SideFeed)]
        return any(stream.amounts.get(species, 0.0) > 0 for stream in (self._fresh, *sides))

    def __str__(self) -> str:
        around = f", recycle ratio {self.recycle}" if self.recycle.si else ""
        return f"{self.title}{around}: " + ", then ".join(
            s.title if isinstance(s, FlowVessel) else str(s) for s in self.steps
        ) + f", fed {self.feed}"  # fmt: skip


def _tried(around: Callable[[np.ndarray], TrainRun], z: np.ndarray) -> TrainRun | None:
    """A pass with some returned stream; None where no vessel can be run with it."""
    try:
        return around(z)
    except SolveError:
        return None


def _read_recycle(value: Any) -> Value:
    return units.positive(value, "number", "recycle", zero=True)


def _read_ratio(value: Any) -> tuple[float, str]:
    return _read_recycle(value).si, "number"


def _read_share(value: Any) -> tuple[float, str]:
    share = units.positive(value, "number", "share").si
    if share >= 1:
        raise InputError(f"{value} is no share of a flow", "", "give a number between 0 and 1")
    return share, "number"


def _unused(label: str, taken: Mapping[str, Any]) -> str:
    """A label, numbered where it is taken."""
    count = 2
    found = label
    while found in taken:
        found, count = f"{label} {count}", count + 1
    return found


@dataclass(frozen=True, eq=False)
class TrainRun(RunResult):
    """The result of running a train.

    `runs` holds the run of each vessel in order, `streams` what flows from the feed to the outlet, `exchanged` the duty
    of each exchanger in W, `added` the fresh feeds, `residence_time_si` the time in s that one pass takes (of vessels
    side by side the mean, by their shares).

    Attributes
    ----------
    vessel : Train
    runs : tuple of Run
        Of each vessel in order.
    streams : tuple of Stream
        From the feed to the outlet.
    exchanged : mapping of name to W
        Duty of each exchanger.
    added : tuple of Stream
        All fresh feeds.
    residence_time_si : float
        In s.

    Examples
    --------
    >>> import molino as mo
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tank = mo.StirredTank(chem, feed, volume="5 L")
    >>> run = mo.Train([tank, tank]).run()
    >>> [round(one.stream_out().amounts["A"] * 60, 4) for one in run.runs]
    [0.5, 0.25]
    """

    vessel: Train
    runs: tuple[Run, ...]
    streams: tuple[Stream, ...]
    exchanged: Mapping[str, float]
    added: tuple[Stream, ...]
    residence_time_si: float

    @property
    def checks(self) -> tuple[Check, ...]:
        """The closure of its balances, and second integrations of its vessels."""
        return (*super().checks, *(check for run in self.runs for check in run.verified))

    def thoroughly_verified(self) -> Self:
        """The same with every run of a vessel verified so; raises as `Run.thoroughly_verified`."""
        return replace(self, runs=tuple(run.thoroughly_verified() for run in self.runs))

    @property
    def is_steady(self) -> bool:
        """Whether nothing changes over time: it does not."""
        return True

    @property
    def display(self) -> Display:
        """The units in which it is shown."""
        return self.vessel._display

    def _covariance(self) -> Covariance | None:
        return self.vessel.chemistry.covariance

    @property
    def last(self) -> Stream:
        """What comes out of the last step, before anything is returned."""
        return self.streams[-1]

    @cached_property
    def product(self) -> dict[str, float]:
        """Molar flow of each species that leaves for good, in mol/s."""
        share = 1 / (1 + self.vessel.recycle.si)
        return {s: n * share for s, n in self.last.amounts.items()}

    @cached_property
    def entering(self) -> dict[str, float]:
        """Molar flow of each species in all fresh feeds, in mol/s."""
        return {s: sum(x.amounts.get(s, 0.0) for x in self.added) for s in self.vessel.chemistry.names}

    def metric(self, metric: Metric | str) -> float:
        """A metric over the whole train, in SI."""
        asked = parse_metric(metric) if isinstance(metric, str) else metric
        values = self._values()
        return float(value_of(metric_of_ends(self.vessel.vessels, asked, values)))

    def _extreme(self, metric: Metric, sign: float) -> float:
        """The highest (or for a negative sign lowest) value of a metric anywhere in its vessels."""
        found = [one._extreme(metric, sign)[1] for one in self.runs]
        return max(found, key=lambda value: sign * value)

    def _done(self) -> Pass:
        """What it takes to follow it once more."""
        train = self.vessel
        joined = self.streams[1] if train.recycle.si else self.streams[0]
        by_step = {name: step for name, (step, _) in train._step_settings.items()}
        return Pass(
            train.steps, self.runs, train._fresh, joined, self.last.T, train.recycle.si, train._follows_T,
            lambda z: train._returned_stream(z, joined.T), train._vessel_setting, by_step, train._side_shares,
        )  # fmt: skip

    def _values(self) -> Ends:
        """What the metrics of a train are made of."""
        last, share = self.last, 1 / (1 + self.vessel.recycle.si)
        catalyst = sum(
            float(np.nan_to_num(run.volume_si)) * float(run.vessel._weights.bulk_density or 0.0) for run in self.runs
        )
        duty = self.duty_si if self.has_duty else np.nan
        return Ends(self.entering, self.product, last.volume * share, last.T, last.P, duty, self.volume_si, catalyst)

    def sensitivity(self, metric: Metric | str, settings: Sequence[str]) -> dict[str, float]:
        """Exact slopes of a metric, in SI, by the conditions that `with_` knows.

        Those of its vessels ("bed.length", "bed.tubes"), "recycle", of its feed ("flow", "feed T", "[A]"), constants,
        and of its other steps ("exchanger.T", "parallel.split").

        Raises
        ------
        InputError
            If there is no such metric or setting.
        """
        asked = parse_metric(metric) if isinstance(metric, str) else metric
        return dict(zip(settings, self._slopes_of((asked,), settings)[0].tolist(), strict=True))

    def _slopes_of(self, metrics: Sequence[Metric], settings: Sequence[str]) -> np.ndarray:
        """Exact d(metric)/d(setting), shape (metrics, settings)."""
        for name in settings:
            self.vessel._setting(name)
        constants = {self.vessel.first._constant_setting(p.name): p.name for p in self.vessel.chemistry.numbers}
        return self._slopes(metrics, tuple(f"constant {constants[n]}" if n in constants else n for n in settings))

    def _constant_slopes(self, metric: Metric, names: Sequence[str]) -> np.ndarray:
        return np.asarray(self._slopes((metric,), tuple(f"constant {name}" for name in names))[0])

    def _slopes(self, metrics: Sequence[Metric], inputs: tuple[str, ...]) -> np.ndarray:
        """Exact d(metric)/d(input), shape (metrics, inputs): through every vessel, and round the recycle by z = R(z,
        g), dz/dg = (1 - R_z)^-1 R_g."""
        count = len(self.vessel.chemistry.names) + self.vessel._follows_T if self.vessel.recycle.si else 0
        ends, by = pass_slopes(self._done(), inputs, count)
        wholes = [metric_of_ends(self.vessel.vessels, metric, ends) for metric in metrics]
        slopes = np.array([w.slope if isinstance(w, Dual) else np.zeros(count + len(inputs)) for w in wholes])
        if not count:
            return slopes
        returned = np.linalg.solve(np.eye(count) - by[:, :count], by[:, count:])
        return np.asarray(slopes[:, count:] + slopes[:, :count] @ returned)

    @property
    def duty_si(self) -> float:
        """Heat that comes in through all walls and exchangers, in W."""
        return sum(run.duty_si for run in self.runs) + sum(self.exchanged.values())

    @property
    def duty(self) -> Any:
        """Heat that comes in through all walls and exchangers, as a quantity."""
        return self.display.quantity(self.duty_si, "power")

    @property
    def volume_si(self) -> float:
        """Volume of all vessels in m^3."""
        return sum(float(np.nan_to_num(run.volume_si)) for run in self.runs)

    def positions(self) -> list[tuple[str, str, np.ndarray]]:
        """Nothing runs along a train as a whole."""
        return []

    @cached_property
    def closure(self) -> dict[str, float]:
        """How far each element (or stoichiometric invariant), mass and energy are from closing over the whole train."""
        names = self.vessel.chemistry.names
        came, went = (np.array([side[s] for s in names]) for side in (self.entering, self.product))
        found = {}
        for name, weights in self.runs[0].vessel._conserved().items():
            size = float(np.abs(weights) @ np.maximum(came, went))
            found[name] = float(abs(weights @ (went - came))) / size if size else 0.0
        first = self.runs[0].vessel._fluid
        if self.has_duty and all(np.isfinite(x.T) for x in (*self.added, self.last)):
            left = replace(self.last, amounts=self.product, volume=self.last.volume / (1 + self.vessel.recycle.si))
            out, brought = enthalpy(first, left), sum(enthalpy(first, x) for x in self.added)
            warm = abs(enthalpy(first, left) - enthalpy(first, left, self.added[0].T))
            size = max(abs(self.duty_si), warm, abs(enthalpy(first, left, self.added[0].T) - brought))
            off = max(abs(out - brought - self.duty_si) - ROUNDING * max(abs(out), abs(brought)), 0.0)
            found["energy"] = off / size if size else 0.0
        return found

    @property
    def fluid(self) -> Fluid:
        """What its streams are made of."""
        return self.vessel.first._fluid

    def streams_out(self) -> list[Stream]:
        """What comes out of the last step, in SI."""
        return [self.last]

    def stream_in(self) -> Stream:
        """The feed, in SI."""
        return self.streams[0]

    def streams_in(self) -> list[Stream]:
        """All fresh feeds, in SI."""
        return [*self.added]

    def stream_out(self) -> Stream:
        """What comes out of the last step, in SI."""
        return self.last

    @property
    def has_duty(self) -> bool:
        """Whether the duty of every vessel of the train can be worked out."""
        return all(run.vessel._key.has_energy for run in self.runs)

    @property
    def duty_kind(self) -> str:
        return "power"

    def stream_table(self) -> pd.DataFrame:
        """All streams side by side; see `streams.stream_table`."""
        fluid = self.vessel.first._fluid
        return stream_table(self.streams, fluid, self.display, is_whole(fluid, self.streams[0]))

    def table(self) -> pd.DataFrame:
        """One row a vessel: volume, temperature and conversions over the whole train up to there."""
        import pandas as pd

        rows = []
        display = self.display
        for run in self.runs:
            row: dict[str, Any] = {"vessel": run.vessel.label}
            row[display.heading("volume", "volume")] = display.number(run.volume_si, "volume")
            out = run.stream_out()
            if np.isfinite(out.T):
                row[display.heading("temperature", "temperature")] = display.number(out.T, "temperature")
            row |= {
                display.heading(f"molar flow of {s}", "molar flow"): display.number(n, "molar flow")
                for s, n in out.amounts.items()
            }
            rows.append(row)
        return pd.DataFrame(rows)

    def summary(self) -> dict[str, float]:
        """Conversion of every species fed that is consumed, and outlet concentrations in SI."""
        consumed = {i for column in self.vessel.chemistry.network.stoichiometry for i, moles in column if moles < 0}
        names = self.vessel.chemistry.names
        reactants = [s for i, s in enumerate(names) if i in consumed and self.entering[s] > 0]
        found = {f"conversion of {s}": self.conversion(s) for s in reactants}
        return found | {f"concentration of {s}": n / self.last.volume for s, n in self.last.amounts.items()}

    def facts(self) -> dict[str, str]:
        """The main results, by name, with units."""
        display, found = self.display, dict[str, str]()
        if self.volume_si > 0:
            found["volume"] = display.text(self.volume_si, "volume")
            found["residence time"] = display.text(self.residence_time_si, "time")
        for name, value in self.summary().items():
            found[name] = display.text(value, "number" if name.startswith("conversion") else "concentration")
        for name, kind, value in (("temperature", "temperature", self.last.T), ("pressure", "pressure", self.last.P)):
            if np.isfinite(value):
                found[name] = display.text(value, kind, 5)
        for name, duty in self.exchanged.items():
            found[f"duty of {name}"] = display.text(duty, "power")
        if self.has_duty:
            found["duty"] = display.text(self.duty_si, "power")
        found |= self._phases()
        warm = [
            T for run in self.runs if run.has_temperature for T in (np.min(run.temperatures), np.max(run.temperatures))
        ]
        highest = dict[str, float]()
        for run in self.runs:
            highest |= {s: max(highest.get(s, 0.0), float(np.max(row))) for s, row in run.concentrations.items()}
        found |= fitted_fact(self._covariance(), warm, highest, display)
        found |= checked_fact(self.checks)
        return found

    def _phases(self) -> dict[str, str]:
        """Where in its vessels a second phase appears, or that it does in none."""
        found, asked = dict[str, str](), dict[str, str]()
        for run in self.runs:
            for word, text in phase_facts(run).items():
                asked[word] = "in none of its vessels"
                if not text.startswith("none"):
                    found[f"{word} in {run.vessel.label}"] = text
        words = {name.partition(" in ")[0] for name in found}
        return {word: text for word, text in asked.items() if word not in words} | found

    def to_dict(self) -> dict[str, Any]:
        """Plain data, as of a `Run`."""
        return super().to_dict() | self._phases()

    def __str__(self) -> str:
        return self.lines(str(self.vessel))


def _above_zero(number: Number) -> Number:
    return number if isinstance(number, Dual) else max(float(number), 0.0)
