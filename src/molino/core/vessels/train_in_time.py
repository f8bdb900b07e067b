"""A train followed over time: what leaves one vessel, moment by moment, is fed to the next."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from molino.core import units
from molino.core.checks import checked_fact, closure_check
from molino.core.errors import Faults, InputError
from molino.core.frozen import Frozen
from molino.core.results import Result, in_columns
from molino.core.units import Display, Value
from molino.core.vessels.changes import Change, changed_numbers
from molino.core.vessels.heat import Adiabatic, Jacket
from molino.core.vessels.over_time import kind_of
from molino.core.vessels.plug_flow import PlugFlow
from molino.core.vessels.stirred_tank import StirredTank
from molino.core.vessels.tube_in_time import Cells, Fed, Followed, TubeInTime, check_followed, in_time, moments

if TYPE_CHECKING:
    import pandas as pd

    from molino.core.vessels.train import Train


@dataclass(frozen=True, eq=False)
class TrainInTime(Frozen, Result):
    """A train followed over time; made by `Train.follow`.

    Attributes
    ----------
    train : Train
    vessels : tuple of TubeInTime
        One for each vessel, in order; a stirred tank is one cell.

    Examples
    --------
    >>> import molino as mo
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tank, tube = (cls(chem, feed, volume="5 L") for cls in (mo.StirredTank, mo.PlugFlow))
    >>> start = mo.Train([tank, tube]).follow("1 h", contents={"B": "1 mol/L"}, cells=50)
    >>> round(float(start.outlet["concentration of A"][-1]))
    184
    """

    train: Train
    vessels: tuple[TubeInTime, ...]

    @property
    def display(self) -> Display:
        """The units in which it is shown."""
        return self.train._display

    @property
    def times(self) -> np.ndarray:
        """The moments in s, shape (times,)."""
        return self.vessels[-1].times

    @property
    def outlet(self) -> Mapping[str, np.ndarray]:
        """What leaves the last vessel; see `TubeInTime`."""
        return self.vessels[-1].outlet

    def conversion(self, species: str) -> np.ndarray:
        """1 - what leaves the last vessel/what is fed to the first at the same moment, shape (times,)."""
        fed = self.vessels[0].fed.get(species)
        if fed is None or not (fed > 0).any():
            raise InputError(f"nothing of {species} is fed", self.train.label, "name a species of the feed")
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.asarray(1 - self.vessels[-1].left[species] / fed)

    def table(self) -> pd.DataFrame:
        """What leaves the last vessel over time, with units in the headings."""
        return self.vessels[-1].table()

    def facts(self) -> dict[str, str]:
        """How each vessel ends and when it has settled, by name, with units."""
        found = {"followed for": self.display.text(float(self.times[-1]), "time")}
        for s in self.vessels[0].vessel._consumed:
            found[f"conversion of {s} at the end"] = f"{self.conversion(s)[-1]:.4g}"
        for n, one in enumerate(self.vessels, 1):
            label = one.vessel.name or f"{n}"
            for name, row in one.outlet.items():
                if name != "duty":
                    found[f"{name} that leaves {label}"] = self.display.text(float(row[-1]), kind_of(name))
            times = one.settling_times()
            if times:
                found[f"settling time of {label}"] = self.display.text(max(times.values()), "time")
        closures = {n: max(one.closure.get(n, 0.0) for one in self.vessels) for v in self.vessels for n in v.closure}
        return found | checked_fact(closure_check(closures))

    def to_dict(self) -> dict[str, Any]:
        """Each vessel over time, as plain data."""
        return {"kind": "train over time", "vessels": [one.to_dict() for one in self.vessels]}

    def __str__(self) -> str:
        return "\n".join([f"{self.train.label} over time", *in_columns(self.facts())])


def follow_train(
    train: Train, time: Any, contents: Any, changes: Sequence[Change], cells: int, points: Any,
    progress: Callable[[float], None] | None, settling_band: float,
) -> TrainInTime:  # fmt: skip
    """As `Train.follow`."""
    end = units.positive(time, "time", f"{train.label}, time").si
    vessels = followed_vessels(train, cells, settling_band)
    for vessel in vessels:
        vessel._require_constants()
    times, found = moments(points, end, train.label), list[TubeInTime]()
    fed: Fed | None = None
    for n, (vessel, step) in enumerate(zip(vessels, train.steps, strict=True)):
        moved = changed_numbers(vessel, changes) if n == 0 else {}
        share = _part(progress, n, len(vessels))
        count = 1 if isinstance(step, StirredTank) else cells
        filled = step.contents if isinstance(step, StirredTank) and step.contents is not None else contents
        run = Cells(vessel, count, moved, fed).run(filled, times, share)
        half = None if count == 1 else Cells(vessel, max(cells // 2, 2), moved, fed).run(filled, times, None)
        found.append(in_time(vessel, times, run, half, settling_band))
        fed = _leaving(vessel, run, times)
    return TrainInTime(train, tuple(found))


def followed_vessels(train: Train, cells: int, settling_band: float) -> list[PlugFlow]:
    """The steps of a train as tubes; InputError with all that is not followed over time."""
    faults, vessels = Faults(), list[PlugFlow]()
    if train.recycle.si:
        faults.add(train.label, "over time a recycle is not followed", "leave it out")
    for n, step in enumerate(train.steps, 1):
        with faults.at(f"step {n}"):
            vessels.append(_followed(step))
    faults.raise_any()
    for vessel, step in zip(vessels, train.steps, strict=True):
        with faults.at():
            check_followed(vessel, cells if not isinstance(step, StirredTank) else 4, settling_band)
    faults.raise_any()
    return vessels


def _followed(step: Any) -> PlugFlow:
    """A step as a tube: a stirred tank is one of a single cell."""
    if isinstance(step, PlugFlow):
        return step
    if not isinstance(step, StirredTank) or type(step) is not StirredTank:
        raise InputError(f"over time {step} is not followed", "", "give stirred tanks and tubes")
    step._require_volume()
    heat = step.heat
    if isinstance(heat, Jacket) and (heat.wall is not None or heat.stirrer is not None or not heat.has_conductance):
        raise InputError("over time a wall, a stirrer or U without its area is not followed", step.label, "give UA")
    if heat is not None and not isinstance(heat, Jacket | Adiabatic | str):
        raise InputError(f"over time {heat} is not followed", step.label, "give a jacket, or 'adiabatic'")
    if step.is_non_isothermal and step.T is not None:
        message = "over time a tank begins at the temperature of its feed"
        raise InputError(message, step.label, "leave T out, or give it to the feed")
    volume, T = Value(step._volume_si, "m^3"), None if step.is_non_isothermal else step.T
    return PlugFlow(step.chemistry, step.feed, volume=volume, T=T, heat=heat, catalyst=step.catalyst, name=step.name,
                    show=step.show)  # fmt: skip


def _leaving(vessel: PlugFlow, run: Followed, times: np.ndarray) -> Fed:
    """What leaves a vessel, between the moments by straight lines."""
    names = vessel.chemistry.names
    flows = np.array([run.left[s] for s in names])
    first = float(vessel._fed.volume)
    volume = run.outlet.get("volumetric flow", np.full(len(times), first))
    if vessel._key.phase.carries_volume:
        volume = run.flow
    T = run.outlet.get("temperature", np.full(len(times), float(vessel._first_T.si) if vessel._first_T else np.nan))

    def fed(t: float) -> tuple[float, np.ndarray, float]:
        Q = float(np.interp(t, times, volume))
        return Q, np.array([np.interp(t, times, row) for row in flows]) / Q, float(np.interp(t, times, T))

    return fed


def _part(progress: Callable[[float], None] | None, n: int, of: int) -> Callable[[float], None] | None:
    return None if progress is None else lambda share: progress((n + share) / of)
