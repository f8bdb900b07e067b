"""Vessels one after another and side by side, with side feeds, heat exchangers and a recycle."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np
import sympy as sp
from scipy.optimize import root

from molino.core import units
from molino.core.chemistry.network import Chemistry
from molino.core.chemistry.species import Species
from molino.core.errors import Fault, Faults, InputError, SolveError
from molino.core.printing import Printed
from molino.core.units import Display
from molino.core.vessels.base import Vessel
from molino.core.vessels.feed import Feed, require_feed
from molino.core.vessels.metrics import Metric
from molino.core.vessels.plug_flow import PlugFlow
from molino.core.vessels.run import Judged, Run
from molino.core.vessels.stirred_tank import StirredTank
from molino.core.vessels.streams import Stream, as_feed, at_enthalpy, enthalpy, is_whole, mixed, outlet_of, stream_table
from molino.core.vessels.writing import Written

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True)
class Exchanger(Printed):
    """Warms or cools a stream between two vessels.

    Parameters
    ----------
    T : temperature, optional
        To which it brings the stream.
    duty : power, optional
        What it adds instead ("-250 kW" takes away).
    name : str
    """

    T: Any = None
    duty: Any = None
    name: str = ""

    def __post_init__(self) -> None:
        if (self.T is None) == (self.duty is None):
            said = "neither T nor duty is given" if self.T is None else "T and duty are both given"
            raise InputError(said, "exchanger", "give one of them")
        if self.T is not None:
            object.__setattr__(self, "T", units.positive(self.T, "temperature", "exchanger, T"))
        else:
            object.__setattr__(self, "duty", units.read(self.duty, "power", "exchanger, duty"))

    @property
    def label(self) -> str:
        return self.name or "exchanger"

    def __str__(self) -> str:
        return f"{self.label} to {self.T}" if self.T is not None else f"{self.label} of {self.duty}"


@dataclass(frozen=True)
class SideFeed(Printed):
    """A feed that joins the stream between two vessels."""

    feed: Feed
    name: str = ""

    def __post_init__(self) -> None:
        require_feed(self.feed, "side feed")

    @property
    def label(self) -> str:
        return self.name or "side feed"

    def __str__(self) -> str:
        return f"{self.label} of {self.feed}"


@dataclass(frozen=True)
class Parallel(Printed):
    """Vessels side by side: the stream is split between them and what comes out is mixed.

    Parameters
    ----------
    vessels : sequence of StirredTank or PlugFlow
    split : sequence of float, optional
        What share each gets; equal shares if left out.
    """

    vessels: Sequence[Vessel]
    split: Any = None
    name: str = ""

    def __post_init__(self) -> None:
        faults = Faults()
        _check_vessels(faults, self.vessels, "parallel")
        count = len(self.vessels)
        given = [1 / count] * count if self.split is None and count else self.split or []
        shares = []
        for one in given:
            with faults.at("parallel, split"):
                shares.append(units.positive(one, "number", "share").si)
        if len(shares) != count or abs(sum(shares) - 1) > 1e-9:
            faults.add(
                "parallel, split", f"{self.split!r} does not share the stream among {count}", "give shares of sum 1"
            )
        faults.raise_any()
        object.__setattr__(self, "vessels", tuple(self.vessels))
        object.__setattr__(self, "split", tuple(shares))

    @property
    def label(self) -> str:
        return self.name or "parallel"

    def __str__(self) -> str:
        return f"{self.label}: " + " beside ".join(str(v.title) for v in self.vessels)


Step = Vessel | Exchanger | SideFeed | Parallel


def _check_vessels(faults: Faults, given: Sequence[Any], place: str) -> None:
    for one in given:
        if not isinstance(one, StirredTank | PlugFlow):
            faults.add(place, f"{one!r} does not flow through", "give stirred tanks and plug-flow tubes")
    if not given:
        faults.add(place, "no vessel is given", "give at least one")


@dataclass(frozen=True)
class Train(Printed):
    """Vessels one after another; what comes out of one goes into the next.

    Parameters
    ----------
    steps : sequence of StirredTank, PlugFlow, Parallel, Exchanger and SideFeed
        The first vessel brings the feed; those of the others do not matter.
    recycle : float
        Flow returned to the inlet over flow that leaves (recycle ratio); at the pressure of the feed.
    name, show
        As for `Batch`.

    Raises
    ------
    InputError
        If a step is none, or the vessels do not share one chemistry.
    """

    noun: ClassVar[str] = "train"
    sizes: ClassVar[tuple[str, ...]] = ()
    steps: Sequence[Step]
    recycle: Any = 0.0
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        faults = Faults()
        object.__setattr__(self, "steps", tuple(self.steps))
        _check_vessels(faults, self.vessels, self.label)
        for step in self.steps:
            if not isinstance(step, Step):
                faults.add(self.label, f"{step!r} is no step of a train", "vessels, Parallel, Exchanger, SideFeed")
        with faults.at(self.label):
            object.__setattr__(self, "recycle", units.positive(self.recycle, "number", "recycle", zero=True))
        if not faults.found and any(v.chemistry.names != self.chemistry.names for v in self.vessels):
            faults.add(self.label, "the vessels have different species", "give them one chemistry")
        faults.raise_any()

    @property
    def vessels(self) -> list[Vessel]:
        """Every vessel in it."""
        nested = [
            [*s.vessels] if isinstance(s, Parallel) else [s] for s in self.steps if isinstance(s, Vessel | Parallel)
        ]
        return [v for several in nested for v in several]

    @property
    def first(self) -> Vessel:
        return self.vessels[0]

    @property
    def chemistry(self) -> Chemistry:
        return self.first.chemistry

    @property
    def feed(self) -> Feed:
        return self.first.feed  # type: ignore[attr-defined,no-any-return]

    @property
    def label(self) -> str:
        return self.name or self.noun

    @property
    def title(self) -> str:
        return f"{self.name}: {self.noun}" if self.name else self.noun

    @cached_property
    def display(self) -> Display:
        return self.first.with_(show={**self.first.show, **self.show}).display

    @property
    def by_name(self) -> dict[str, Species]:
        return self.first.by_name

    def with_(self, **changed: Any) -> Train:
        """The same train with some fields replaced; `chemistry` is replaced in every vessel."""
        chemistry = changed.pop("chemistry", None)
        found = replace(self, **changed)
        if chemistry is None:
            return found

        def renew(step: Step) -> Step:
            if isinstance(step, Vessel):
                return step.with_(chemistry=chemistry)
            if isinstance(step, Parallel):
                return replace(step, vessels=[v.with_(chemistry=chemistry) for v in step.vessels])
            return step

        return replace(found, steps=[renew(step) for step in found.steps])

    def run(self) -> TrainRun:
        """Run all steps in order; with a recycle, until what returns is what was returned.

        The returned stream is found by Powell's hybrid method on flows and temperature (MINPACK), from a few rounds of
        successive substitution.

        Raises
        ------
        InputError
            If constants are unknown, a vessel has no size, or mixing takes enthalpies that the species lack.
        SolveError
            If a vessel cannot be run, or the recycle does not close.
        """
        for vessel in self.vessels:
            vessel.require_known()
        fresh = Stream(
            "feed", dict(self.first.inlet_flows()), self.first.fed.volume,
            self.feed.T.si if self.feed.T is not None else np.nan, self.first.feed_pressure(),
        )  # fmt: skip
        if self.recycle.si == 0.0:
            return self._pass(fresh, fresh)
        return self._closed(fresh)

    def _closed(self, fresh: Stream) -> TrainRun:
        ratio = self.recycle.si
        back = ratio / (1 + ratio)
        names = self.chemistry.names
        whole = sum(fresh.amounts.values())
        liquid = not self.feed.is_gas
        sides = [step.feed for step in self.steps if isinstance(step, SideFeed)]
        leaving = fresh.volume + sum(self.first.with_(feed=feed).fed.volume for feed in sides)
        knows_T = np.isfinite(fresh.T) and self.first.setup.knows_heat
        kept = np.nan if knows_T else self._pass(fresh, fresh).last.T

        def returned(run: TrainRun) -> np.ndarray:
            out = run.last
            flows = [back * out.amounts[s] / whole for s in names]
            return np.array([*flows, *([out.T / fresh.T] if knows_T else [])])

        def around(z: np.ndarray) -> TrainRun:
            flows = {s: float(x) * whole for s, x in zip(names, np.maximum(z[: len(names)], 0.0), strict=True)}
            volume = ratio * leaving if liquid else np.nan
            stream = Stream("recycle", flows, volume, float(z[-1]) * fresh.T if knows_T else kept, fresh.P)
            return self._pass(mixed(self.first, [fresh, stream], "mixed feed"), fresh)

        z = np.array([*(ratio * fresh.amounts.get(s, 0.0) / whole for s in names), *([1.0] if knows_T else [])])
        for _ in range(5):
            z = returned(around(z))
        found = root(lambda x: returned(around(x)) - x, z, method="hybr", options={"xtol": 1e-13})
        off = float(np.max(np.abs(found.fun)))
        if off > 1e-9:
            said = f"the recycle does not close: what returns still differs by {off:.2g} of the feed"
            raise SolveError([Fault(self.label, said, "try a smaller ratio first, or look for several steady states")])
        return around(found.x)

    def _pass(self, stream: Stream, fresh: Stream) -> TrainRun:
        """One pass through all steps."""
        runs: list[Run] = []
        streams = [fresh] if stream is fresh else [fresh, stream]
        duties: dict[str, float] = {}
        added = [fresh]
        passed = 0.0
        for step in self.steps:
            if isinstance(step, Exchanger):
                before = enthalpy(self.first, stream)
                if step.T is not None:
                    stream = replace(stream, T=step.T.si)
                    duty = enthalpy(self.first, stream) - before
                else:
                    duty = step.duty.si
                    stream = at_enthalpy(self.first, stream, before + duty)
                duties[_unused(step.label, duties)] = duty
            elif isinstance(step, SideFeed):
                carrier = self.first.with_(feed=step.feed)
                T = step.feed.T.si if step.feed.T is not None else np.nan
                side = Stream(step.label, carrier.inlet_flows(), carrier.fed.volume, T, carrier.feed_pressure())
                added.append(side)
                stream = mixed(self.first, [stream, side], "mixed")
                streams.append(side)
            else:
                several = step.vessels if isinstance(step, Parallel) else (step,)
                shares = step.split if isinstance(step, Parallel) else (1.0,)
                outs = []
                for vessel, share in zip(several, shares, strict=True):
                    part = {s: n * share for s, n in stream.amounts.items()}
                    own = replace(stream, amounts=part, volume=stream.volume * share)
                    fed = vessel.with_(feed=as_feed(own, vessel.feed))  # type: ignore[attr-defined]
                    runs.append(fed.outcome())
                    passed += share * runs[-1].residence_time_si
                    outs.append(outlet_of(runs[-1]))
                stream = outs[0] if len(outs) == 1 else mixed(self.first, outs, "")
            streams.append(stream.named(f"after {step.label}"))
        return TrainRun(self, tuple(runs), tuple(streams), duties, tuple(added), passed)

    def outcome(self) -> TrainRun:
        return self.run()

    def inlet(self) -> dict[str, float]:
        """Concentrations of the first feed in mol/m^3."""
        return self.first.inlet()

    def expression(self, metric: Metric) -> None:
        """Raise InputError if a metric cannot be told of it."""
        self.first.expression(metric)

    def __str__(self) -> str:
        around = f", recycle ratio {self.recycle}" if self.recycle.si else ""
        return f"{self.title}{around}: " + ", then ".join(
            s.title if isinstance(s, Vessel) else str(s) for s in self.steps
        ) + f", fed {self.feed}"  # fmt: skip


def _unused(label: str, taken: Mapping[str, Any]) -> str:
    """A label, numbered where it is taken."""
    count = 2
    found = label
    while found in taken:
        found, count = f"{label} {count}", count + 1
    return found


@dataclass(frozen=True, eq=False)
class TrainRun(Judged):
    """The result of running a train.

    `runs` holds the run of each vessel in order, `streams` what flows from the feed to the outlet, `exchanged` the duty
    of each exchanger in W, `added` the fresh feeds, `residence_time_si` the time in s that one pass takes (of vessels
    side by side the mean, by their shares).
    """

    vessel: Train
    runs: tuple[Run, ...]
    streams: tuple[Stream, ...]
    exchanged: Mapping[str, float]
    added: tuple[Stream, ...]
    residence_time_si: float

    @property
    def is_steady(self) -> bool:
        return True

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

    def metric(self, metric: Metric) -> float:
        """A metric over the whole train, in SI."""
        if metric.what == "concentration":
            return self.last.amounts[metric.species] / self.last.volume
        if metric.what in ("temperature", "pressure"):
            return self.last.T if metric.what == "temperature" else self.last.P
        if metric.what == "duty":
            return self.duty_si
        self.vessel.expression(metric)
        came, went = ({s: sp.Float(n) for s, n in side.items()} for side in (self.entering, self.product))
        written = Written(self.runs[0].vessel.written.balances, came, went)
        return float(metric.expression(self.vessel.chemistry.structure, written))

    @property
    def duty_si(self) -> float:
        """Heat that comes in through all walls and exchangers, in W."""
        return sum(run.duty_si for run in self.runs) + sum(self.exchanged.values())

    @property
    def duty(self) -> Any:
        """Heat that comes in through all walls and exchangers, as a quantity."""
        return self.vessel.display.quantity(self.duty_si, "power")

    @property
    def volume_si(self) -> float:
        """Volume of all vessels in m^3."""
        return sum(run.volume_si for run in self.runs)

    def positions(self) -> list[tuple[str, str, np.ndarray]]:
        """Nothing runs along a train as a whole."""
        return []

    @cached_property
    def closure(self) -> dict[str, float]:
        """How far each element (or stoichiometric invariant), mass and energy are from closing over the whole train."""
        names = self.vessel.chemistry.names
        came, went = (np.array([side[s] for s in names]) for side in (self.entering, self.product))
        found = {}
        for name, weights in self.runs[0].vessel.conserved().items():
            size = float(np.abs(weights) @ np.maximum(came, went))
            found[name] = float(abs(weights @ (went - came))) / size if size else 0.0
        first = self.runs[0].vessel
        if first.setup.knows_heat and all(np.isfinite(x.T) for x in (*self.added, self.last)):
            left = replace(self.last, amounts=self.product, volume=self.last.volume / (1 + self.vessel.recycle.si))
            out, brought = enthalpy(first, left), sum(enthalpy(first, x) for x in self.added)
            warm = abs(enthalpy(first, left) - enthalpy(first, left, self.added[0].T))
            size = max(abs(self.duty_si), warm, abs(enthalpy(first, left, self.added[0].T) - brought))
            found["energy"] = abs(out - brought - self.duty_si) / size if size else 0.0
        return found

    def stream_out(self) -> Stream:
        """What comes out of the last step, in SI."""
        return self.last

    @property
    def knows_duty(self) -> bool:
        """Whether there is enough to tell the duty."""
        return all(run.vessel.setup.knows_heat for run in self.runs)

    @property
    def duty_kind(self) -> str:
        return "power"

    def stream_table(self) -> pd.DataFrame:
        """All streams side by side; see `streams.stream_table`."""
        whole = is_whole(self.vessel.first, self.streams[0])
        return stream_table(self.streams, self.vessel.by_name, self.vessel.display, whole)

    def table(self) -> pd.DataFrame:
        """One row a vessel: volume, temperature and conversions over the whole train up to there."""
        import pandas as pd

        rows = []
        display = self.vessel.display
        for run in self.runs:
            row: dict[str, Any] = {"vessel": run.vessel.label}
            row[display.heading("volume", "volume")] = display.number(run.volume_si, "volume")
            out = outlet_of(run)
            if np.isfinite(out.T):
                row[display.heading("T", "temperature")] = display.number(out.T, "temperature")
            row |= {s: display.number(n, "molar flow") for s, n in out.amounts.items()}
            rows.append(row)
        named = {s: display.heading(s, "molar flow") for s in self.vessel.chemistry.names}
        return pd.DataFrame(rows).rename(columns=named)

    def summary(self) -> dict[str, float]:
        """Conversion of every species fed that is consumed, and outlet concentrations in SI."""
        consumed = {i for column in self.vessel.chemistry.structure.stoichiometry for i, moles in column if moles < 0}
        names = self.vessel.chemistry.names
        reactants = [s for i, s in enumerate(names) if i in consumed and self.vessel.inlet().get(s, 0.0) > 0]
        found = {f"conversion of {s}": self.conversion(s) for s in reactants}
        return found | {f"concentration of {s}": n / self.last.volume for s, n in self.last.amounts.items()}

    def facts(self) -> dict[str, str]:
        """What an engineer wants to read of it, by name, with units."""
        display = self.vessel.display
        found = {"volume": display.text(self.volume_si, "volume"),
                 "residence time": display.text(self.residence_time_si, "time")}  # fmt: skip
        for name, value in self.summary().items():
            found[name] = display.text(value, "number" if name.startswith("conversion") else "concentration")
        for name, kind, value in (("temperature", "temperature", self.last.T), ("pressure", "pressure", self.last.P)):
            if np.isfinite(value):
                found[name] = display.text(value, kind, 5)
        for name, duty in self.exchanged.items():
            found[f"duty of {name}"] = display.text(duty, "power")
        if self.knows_duty:
            found["duty"] = display.text(self.duty_si, "power")
        found[f"balances of {', '.join(self.closure)} close to"] = f"{max(self.closure.values()):.2e}"
        return found

    def __str__(self) -> str:
        return self.lines(str(self.vessel))


def derivative_by_constants(run: Run | TrainRun, metric: Metric, names: Sequence[str]) -> np.ndarray:
    """d(metric)/d(constant) of a train or of a tube whose coolant comes in at its end.

    By central differences of a relative step of 1e-4.
    """
    chemistry = run.vessel.chemistry
    values = {p.name: p.value for p in chemistry.parameters}
    found = []
    for name in names:
        step = 1e-4 * (abs(values[name]) or 1.0)
        ends = [
            run.vessel.with_(chemistry=chemistry.with_values({name: values[name] + h})).outcome().metric(metric)
            for h in (step, -step)
        ]
        found.append((ends[0] - ends[1]) / (2 * step))
    return np.array(found)
