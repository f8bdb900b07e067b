"""A train over time: the outlet of a vessel at each moment is the feed of the next."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from molino.core import units
from molino.core.annotations import PlainData
from molino.core.checks import checked_fact, closure_check
from molino.core.display import Display
from molino.core.errors import Faults, InputError
from molino.core.frozen import Frozen
from molino.core.results import Result, Table, in_columns
from molino.core.runs.cells import Cells, Fed, Followed
from molino.core.runs.over_time import kind_of
from molino.core.runs.scheduled_changes import Change, changed_numbers
from molino.core.runs.tube_over_time import TubeInTime, check_followed, in_time, moments
from molino.core.trains.train_fields import TrainFields
from molino.core.units import QuantityLike
from molino.core.vessels.flow_vessel import FlowVessel


@dataclass(frozen=True, eq=False)
class TrainInTime(Frozen, Result):
    """The result of `Train.follow`.

    Attributes
    ----------
    train : Train
    vessels : tuple of TubeInTime
        One for each vessel, in order; a stirred tank is one cell.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tank, tube = (cls(chem, feed, volume="5 L") for cls in (mo.StirredTank, mo.PlugFlow))
    >>> start = mo.Train([tank, tube]).follow("1 h", contents={"B": "1 mol/L"}, cells=50)
    >>> round(float(start.outlet["concentration of A"][-1]))
    184
    """

    train: TrainFields
    vessels: tuple[TubeInTime, ...]

    @property
    def display(self) -> Display:
        """The units of results."""
        return self.train.spec.display

    @property
    def times(self) -> np.ndarray:
        """The moments in s, shape (times,)."""
        return self.vessels[-1].times

    @property
    def outlet(self) -> Mapping[str, np.ndarray]:
        """The outlet of the last vessel; see `TubeInTime`."""
        return self.vessels[-1].outlet

    def conversion(self, species: str) -> np.ndarray:
        """1 - the outlet of the last vessel/the feed to the first at the same moment, shape (times,)."""
        fed = self.vessels[0].fed.get(species)
        if fed is None or not (fed > 0).any():
            raise InputError(f"{species} is not fed", self.train.label, "name a species of the feed")
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.asarray(1 - self.vessels[-1].left[species] / fed)

    def table(self) -> Table:
        """The outlet of the last vessel over time, with units in the headings."""
        return self.vessels[-1].table()

    def facts(self) -> dict[str, str]:
        """The end and the settling time of each vessel, by name, with units."""
        found = {"followed for": self.display.text(float(self.times[-1]), "time")}
        for s in self.vessels[0].vessel.spec.reactants:
            found[f"conversion of {s} at the end"] = f"{self.conversion(s)[-1]:.4g}"
        for n, one in enumerate(self.vessels, 1):
            label = one.vessel.name or f"{n}"
            for name, row in one.outlet.items():
                if name != "duty":
                    found[f"{name} of the outlet of {label}"] = self.display.text(float(row[-1]), kind_of(name))
            times = one.settling_times()
            if times:
                found[f"settling time of {label}"] = self.display.text(max(times.values()), "time")
        closures = {n: max(one.closure.get(n, 0.0) for one in self.vessels) for v in self.vessels for n in v.closure}
        return found | checked_fact(closure_check(closures))

    def to_dict(self) -> PlainData:
        """Each vessel over time, as plain data."""
        return {"kind": "train over time", "vessels": [one.to_dict() for one in self.vessels]}

    def __str__(self) -> str:
        return "\n".join([f"{self.train.label} over time", *in_columns(self.facts())])


def follow_train(
    train: TrainFields,
    time: QuantityLike,
    contents: object,
    changes: Sequence[Change],
    cells: int,
    points: object,
    progress: Callable[[float], None] | None,
    settling_band: float,
) -> TrainInTime:
    """As `Train.follow`."""
    end = units.positive(time, "time", f"{train.label}, time").si
    vessels = followed_vessels(train, cells, settling_band)
    for vessel in vessels:
        vessel.spec.require_constants()
    times, found = moments(points, end, train.label), list[TubeInTime]()
    fed: Fed | None = None
    for n, (vessel, step) in enumerate(zip(vessels, train.vessels, strict=True)):
        moved = changed_numbers(vessel, changes) if n == 0 else {}
        share = _part(progress, n, len(vessels))
        count = 1 if step.spec.is_mixed else cells
        filled = step.spec.start_contents or contents
        run = Cells(vessel, count, moved, fed).run(filled, times, share)
        half = None if count == 1 else Cells(vessel, max(cells // 2, 2), moved, fed).run(filled, times, None)
        found.append(in_time(vessel, times, run, half, settling_band))
        fed = _leaving(vessel, run, times)
    return TrainInTime(train, tuple(found))


def followed_vessels(train: TrainFields, cells: int, settling_band: float) -> list[FlowVessel]:
    """The steps of a train as tubes; InputError for features that are not available over time."""
    faults, vessels, steps = Faults(), list[FlowVessel](), list[FlowVessel]()
    if train.spec.network.torn:
        faults.add(train.label, "over time a recycle is not followed", "leave it out")
    for n, step in enumerate(train.steps, 1):
        with faults.at(f"step {n}"):
            if not isinstance(step, FlowVessel):
                raise InputError(f"over time {step} is not followed", "", "give stirred tanks and tubes")
            vessels.append(step.spec.as_tube())
            steps.append(step)
    faults.raise_any()
    for vessel, step in zip(vessels, steps, strict=True):
        with faults.at():
            check_followed(vessel, 4 if step.spec.is_mixed else cells, settling_band)
    faults.raise_any()
    return vessels


def _leaving(vessel: FlowVessel, run: Followed, times: np.ndarray) -> Fed:
    """The outlet of a vessel, linear between the moments."""
    names = vessel.chemistry.names
    flows = np.array([run.left[s] for s in names])
    first = float(vessel.spec.fed.volume)
    volume = run.outlet.get("volumetric flow", np.full(len(times), first))
    if vessel.spec.key.phase.carries_volume:
        volume = run.flow
    T = run.outlet.get(
        "temperature", np.full(len(times), float(vessel.spec.first_T.si) if vessel.spec.first_T else np.nan)
    )

    def fed(t: float) -> tuple[float, np.ndarray, float]:
        Q = float(np.interp(t, times, volume))
        return Q, np.array([np.interp(t, times, row) for row in flows]) / Q, float(np.interp(t, times, T))

    return fed


def _part(progress: Callable[[float], None] | None, n: int, of: int) -> Callable[[float], None] | None:
    return None if progress is None else lambda share: progress((n + share) / of)
