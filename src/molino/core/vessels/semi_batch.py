"""The semi-batch vessel: charged, then dosed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, ClassVar

import numpy as np
import sympy as sp
from scipy.optimize import brentq

from molino.core import units
from molino.core.balances.solve import integrate
from molino.core.balances.system import Case
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.chemistry.network import Chemistry
from molino.core.errors import Faults, InputError
from molino.core.printing import Printed
from molino.core.units import Value
from molino.core.vessels.base import Vessel, check_programme, check_vessel, convert, settle_heat
from molino.core.vessels.feed import Feed, check_model, is_real, read_mixture_capacity, require_feed, settle
from molino.core.vessels.heat import Jacket, Programme
from molino.core.vessels.mixture import Contents, Mixture
from molino.core.vessels.run import Run, follow
from molino.core.vessels.schedule import Stage, Track, stages
from molino.core.vessels.writing import (
    OVERFLOWING,
    START_T,
    VOLUME,
    WITHDRAWN,
    Inflow,
    Written,
    start_symbol,
    well_mixed,
)


@dataclass(frozen=True)
class Dosing(Printed):
    """A feed into a semi-batch vessel, over time.

    Parameters
    ----------
    feed : Feed
        Its flow is the rate of dosing while a window is open (beside a `rate` its flow does not matter).
    windows : list of (from, to), optional
        When it runs: [("0 min", "45 min")]; all the time, if neither windows nor rate are given.
    rate : list of (time, volumetric flow), optional
        A programme of straight lines instead; the same time twice is a jump.

    Raises
    ------
    InputError
        With everything that is wrong.
    """

    feed: Feed
    windows: Any = None
    rate: Any = None

    def __post_init__(self) -> None:
        require_feed(self.feed, "dosing")
        if self.windows is not None and self.rate is not None:
            raise InputError("both windows and a rate are given", "dosing", "give one of them")
        if self.feed.is_gas:
            raise InputError("a gas is dosed", "dosing", "a semi-batch vessel holds a liquid: leave P out")

    def track(self, flow: float) -> Track:
        """Volumetric flow over time, with the feed's own flow while it runs."""
        if self.rate is not None:
            return Track.read(self.rate, "time", "volumetric flow", "dosing, rate", zero=True)
        if self.windows is None:
            return Track.constant(flow)
        faults = Faults()
        times: list[float] = [0.0]
        values: list[float] = [0.0]
        for window in self.windows:
            with faults.at("dosing, windows"):
                if not isinstance(window, list | tuple) or len(window) != 2:
                    raise InputError(f"{window!r} is not a window", "", "write [('0 min', '45 min')]")
                begin, end = (units.positive(t, "time", "window", zero=True).si for t in window)
                if not times[-1] <= begin < end:
                    raise InputError(f"{window!r} does not come after the one before it", "", "put windows in order")
                times += [begin, begin, end, end]
                values += [0.0, flow, flow, 0.0]
        faults.raise_any()
        return Track(tuple(times), tuple(values))

    def __str__(self) -> str:
        when = ""
        if self.windows is not None:
            when = " " + " and ".join(f"from {a} to {b}" for a, b in self.windows)
        return f"{self.feed}{when}" + (" by a rate programme" if self.rate is not None else "")


@dataclass(frozen=True)
class SemiBatch(Vessel):
    """A well-mixed vessel that is charged and then dosed: a liquid whose volume grows.

    dn_i/dt = sum over feeds Q c_i,in - Q_out c_i + V sum_j nu_ij r_j, dV/dt = sum Q - Q_out at constant density
    (H. S. Fogler, Elements of Chemical Reaction Engineering, 5th ed. 2016, section 6.6); with additive volumes V
    follows from the amounts. Energy as in `StirredTank`.

    Parameters
    ----------
    chemistry : Chemistry
    charge : mapping of species to quantity
        What is in it at the start, as for `Batch`.
    doses : mapping of name to Dosing
        What is fed, and when.
    T : temperature, optional
        At the start, and kept if the heat is isothermal.
    volume : optional
        Of the charge.
    capacity : volume, optional
        At which it is full: from then on as much flows over as comes in.
    withdrawal : flow or list of (time, flow), optional
        Volumetric flow of the contents that is taken out.
    time, total, density, heat_capacity, model, heat, catalyst, name, show
        As for `Batch` (liquids only).
    """

    noun: ClassVar[str] = "semi-batch"
    sizes: ClassVar[tuple[str, ...]] = ("time",)
    chemistry: Chemistry
    charge: Any
    doses: Mapping[str, Dosing]
    T: Any = None
    volume: Any = None
    capacity: Any = None
    withdrawal: Any = None
    time: Any = None
    total: Any = None
    density: Any = None
    heat_capacity: Any = None
    model: Any = None
    heat: Any = None
    catalyst: Any = None
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        faults = Faults()
        convert(faults, self, T="temperature", volume="volume", capacity="volume", time="time", density="density")
        if not isinstance(self.charge, Contents):
            with faults.at(self.label):
                object.__setattr__(self, "charge", Contents(self.charge, False, "charge"))
        if not self.doses or not all(isinstance(d, Dosing) for d in self.doses.values()):
            faults.add(self.label, "no dosing is given", "write doses={'acid': mo.Dosing(feed, windows=[...])}")
            faults.raise_any()
        with faults.at(self.label):
            check_model(self.model)
            if is_real(self.model) or self.model == "ideal gas" or self.charge_is_gas:
                raise InputError("a semi-batch vessel holds a liquid", "", "use a batch, or a tank of gas")
        with faults.at(self.label):
            object.__setattr__(self, "heat_capacity", read_mixture_capacity(self.heat_capacity, self.density))
        settle_heat(faults, self)
        with faults.at(self.label):
            if isinstance(self.heat, Programme):
                check_programme(self.T, self.programme)
            if isinstance(self.heat, Jacket) and not np.isfinite(self.heat.conductance):
                raise InputError("U is given without the area", "heat", "give area='6 m2', or UA")
        for name, dose in self.doses.items():
            with faults.at(f"{self.label}, {name}"):
                dose.track(1.0)
                if (self.moves_T or isinstance(self.heat, Programme)) and dose.feed.T is None:
                    raise InputError("the feed has no temperature, which the balance of energy needs", "", "give T")
        with faults.at(self.label):
            self.withdrawn  # noqa: B018 - read once, so that what is wrong with it is told here
        fed = [s for d in self.doses.values() for s in d.feed.contents]
        species = [*self.charge, *fed] if isinstance(self.charge, Contents) else None
        check_vessel(faults, self, species, self.start_T)
        if not faults.found and self.capacity is not None and self.capacity.si < self.fed.volume:
            said = f"the charge of {self.display.text(self.fed.volume, 'volume')} is more than {self.capacity} hold"
            faults.add(self.label, said, "charge less, or give a larger capacity")
        faults.raise_any()

    @property
    def charge_is_gas(self) -> bool:
        return isinstance(self.charge, Contents) and self.charge.is_gas

    @property
    def gas(self) -> bool:
        return False

    @property
    def mixture_capacity(self) -> Value | None:
        return self.heat_capacity  # type: ignore[no-any-return]

    @property
    def programme(self) -> Track:
        """The temperature programme over time."""
        return self.heat.track("time", self.label)  # type: ignore[no-any-return]

    @property
    def start_T(self) -> Value | None:
        """Temperature at the start."""
        return Value(self.programme.after(0.0)) if isinstance(self.heat, Programme) else self.T

    @cached_property
    def withdrawn(self) -> Track | None:
        """What is taken out over time."""
        if self.withdrawal is None:
            return None
        if isinstance(self.withdrawal, list | tuple):
            return Track.read(self.withdrawal, "time", "volumetric flow", "withdrawal", zero=True)
        return Track.constant(units.positive(self.withdrawal, "volumetric flow", "withdrawal").si)

    @property
    def inflows(self) -> dict[str, Inflow]:
        return {name: Inflow(name) for name in self.doses}

    @cached_property
    def streams(self) -> dict[str, Mixture]:
        """Each feed worked out."""
        return {
            name: settle(d.feed.contents, [f for f in d.feed.flows if f is not None] or [Value(1.0, "m^3/s")],
                         self.by_name, d.feed.T, None, d.feed.density, self.model)
            for name, d in self.doses.items()
        }  # fmt: skip

    def goes_in(self, species: str) -> bool:
        return super().goes_in(species) or any(s.concentrations.get(species, 0.0) > 0 for s in self.streams.values())

    def write(self) -> Written:
        follows = self.medium.model == "additive volumes"
        leaving = self.capacity is not None or self.withdrawal is not None
        volume = "follows" if follows else "carried"
        return well_mixed(self.setup, tuple(self.inflows.values()), volume, leaving, False)

    def mixture(self) -> Mixture:
        totals = [self.volume, self.total]
        return settle(self.charge, totals, self.by_name, self.start_T, None, self.density, self.model)

    def numbers(self) -> dict[sp.Symbol, float]:
        T = self.start_T.si if self.start_T is not None else np.nan
        found = {TEMPERATURE: T, START_T: T, VOLUME: self.fed.volume, OVERFLOWING: 0.0, WITHDRAWN: 0.0}
        found |= {start_symbol(s): self.inlet().get(s, 0.0) for s in self.chemistry.names}
        for name, flow in self.inflows.items():
            stream = self.streams[name]
            found |= {flow.inside(s): stream.concentrations.get(s, 0.0) for s in self.chemistry.names}
            own_T = self.doses[name].feed.T
            found |= {flow.flow: 0.0, flow.T: own_T.si if own_T is not None else T}
        return found

    def tracks(self) -> dict[sp.Symbol, Track]:
        found = super().tracks()
        if isinstance(self.heat, Programme):
            found[TEMPERATURE] = self.programme
        for name, flow in self.inflows.items():
            found[flow.flow] = self.doses[name].track(self.streams[name].volume)
        if self.withdrawn is not None:
            found[WITHDRAWN] = self.withdrawn
        return found

    @property
    def is_staged(self) -> bool:
        return True

    @property
    def end(self) -> float:
        return float(self.time.si) if self.time is not None else np.nan

    def given(self) -> list[tuple[str, Value | None]]:
        fed = [pair for dose in self.doses.values() for pair in dose.feed.given()]
        own = [("time", self.time), ("volume", self.volume), ("volume", self.capacity), ("temperature", self.T)]
        return [*self.charge.given(), *own, *fed]

    def run(self, time: Any = None, points: Any = 101) -> Run:
        """Follow the vessel from the charge to `time` (default: its own); raises as `Batch.run`.

        An InputError, too, where more is withdrawn than there is.
        """
        given = self.time if time is None else units.positive(time, "time", f"{self.label}, time")
        if given is None:
            raise InputError("no time is given", self.label, "give time='3 h'")
        vessel = self if time is None else self.with_(time=given)
        vessel._check_emptying(given.si)
        return follow(vessel, given.si, points, tighter=10.0, split=vessel._overflow)

    def _check_emptying(self, end: float) -> None:
        """Raise InputError where the volume would come to nothing (at constant density, where it is known)."""
        if self.withdrawn is None or not self.medium.carries_volume:
            return
        tracks = self.tracks()
        for t in np.linspace(0.0, end, 401)[1:]:
            came = sum(tracks[flow.flow].integral(float(t)) for flow in self.inflows.values())
            if self.fed.volume + came - self.withdrawn.integral(float(t)) <= 0:
                at = self.display.text(float(t), "time")
                raise InputError(f"it is empty before {at}", self.label, "withdraw less, or stop earlier")

    def _overflow(self, whole: Case, tracks: Mapping[sp.Symbol, Track], end: float) -> list[Stage]:
        """The stages, with a further one where it fills: from there on it overflows while more comes in than out."""
        several = stages(whole, tracks, end)
        if self.capacity is None:
            return several
        full, found, state, begin = self.capacity.si, [], None, 0.0
        overflowing = False
        waiting = [*several]
        while waiting:
            stage = waiting.pop(0)
            inflow = sum(stage.case.value(f.flow) for f in self.inflows.values())
            if overflowing and inflow <= stage.case.value(WITHDRAWN):
                overflowing = False
            case = stage.case.with_values({OVERFLOWING: 1.0 if overflowing else 0.0})
            rows = np.linspace(begin, stage.end, 41)
            run = integrate(case, rows, initial=state, rtol=1e-11, atol=1e-14)
            volumes = self._volumes(case, run.states, rows)
            over = np.flatnonzero(volumes > full * (1 + 1e-12)) if not overflowing else np.array([], dtype=int)
            if not len(over):
                found.append(Stage(stage.end, case))
                begin, state = stage.end, run.states[-1]
                continue
            first = max(int(over[0]), 1)
            at = self._filled(case, run.states[first - 1], float(rows[first - 1]), float(rows[first]), full)
            if at > begin:
                found.append(Stage(at, case))
                state = integrate(case, [begin, at], initial=state, rtol=1e-11, atol=1e-14).states[-1]
            begin, overflowing = at, True
            waiting.insert(0, Stage(stage.end, stage.case))
        return found

    def _volumes(self, case: Case, states: np.ndarray, rows: np.ndarray) -> np.ndarray:
        names = case.balances.names
        if "volume" in names:
            return np.asarray(states[:, names.index("volume")])
        numbers = [self.by_name[s].require("molar_volume", "an additive liquid").si for s in self.chemistry.names]
        return np.asarray(states[:, : len(numbers)] @ np.array(numbers))

    def _filled(self, case: Case, state: np.ndarray, low: float, high: float, full: float) -> float:
        """When the volume comes to the capacity."""

        def over(t: float) -> float:
            if t <= low:
                return float(self._volumes(case, state[None], np.array([low]))[0]) - full
            ended = integrate(case, [low, t], initial=state, rtol=1e-11, atol=1e-14).states[-1:]
            return float(self._volumes(case, ended, np.array([t]))[0]) - full

        return low if over(low) >= 0 else float(brentq(over, low, high, xtol=1e-12 * high, rtol=1e-14))

    def outcome(self) -> Run:
        return self.run()

    def __str__(self) -> str:
        at = f" at {self.T}" if self.T is not None else ""
        ends = f", {self.heat}" if self.heat is not None else ""
        ends += f", {self.time}" if self.time else ""
        dosed = "; ".join(f"{name}: {dose}" for name, dose in self.doses.items())
        return f"{self.title} charged with {self.charge}{at}{ends}, dosed with {dosed}"
