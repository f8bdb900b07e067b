"""`sweep`: the same vessel under many conditions at once."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from molino.core.balances.compiled import compiled
from molino.core.balances.many import integrate_many, steady_many
from molino.core.balances.solve import RUN_OUT
from molino.core.errors import Faults, InputError, SolveError
from molino.core.printing import Printed
from molino.core.vessels.base import Vessel
from molino.core.vessels.conditions import under
from molino.core.vessels.metrics import Metric, parse_metric
from molino.core.vessels.stirred_tank import StirredTank
from molino.core.vessels.writing import FLOW, VOLUME

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True, eq=False)
class Sweep(Printed):
    """Metrics of a vessel over a grid of conditions.

    `conditions` holds what was varied, each value as it was given; `values` each metric in SI, shape (conditions of
    the first, of the second, ...).
    """

    vessel: Vessel
    conditions: Mapping[str, Sequence[Any]]
    values: Mapping[str, np.ndarray]
    metrics: tuple[Metric, ...]

    def table(self) -> pd.DataFrame:
        """One row a combination: conditions as given, metrics with units in the headings."""
        import pandas as pd

        rows = list(itertools.product(*self.conditions.values()))
        columns: dict[str, Any] = {name: [row[i] for row in rows] for i, name in enumerate(self.conditions)}
        for metric in self.metrics:
            heading = self.vessel.display.heading(str(metric), metric.kind)
            columns[heading] = self.vessel.display.number(self.values[str(metric)].ravel(), metric.kind)
        return pd.DataFrame(columns)

    def __str__(self) -> str:
        return self.table().to_string(index=False, float_format=lambda x: f"{x:.4g}")


def sweep(vessel: Vessel, vary: Mapping[str, Sequence[Any]], metrics: Sequence[Metric | str]) -> Sweep:
    """Run a vessel under every combination of conditions.

    All combinations are integrated together, as one banded system (tanks: brought to steady state together), so that
    a thousand cost little more than a few; vessels whose numbers change on the way are run one by one.

    Parameters
    ----------
    vessel : Batch, StirredTank or PlugFlow
    vary : mapping of condition to values
        A condition by the name that `mo.under` gives it: a field of the vessel ("T", "volume", "length", "time"), the
        "flow" or "feed T" of its feed, "coolant T", what is fed or charged of a species ("[xylose]"), or a constant of
        the chemistry ("dehydration.k", in SI).
    metrics : sequence of Metric or str

    Raises
    ------
    InputError
        With everything that is wrong; SolveError if a combination cannot be computed.
    """
    vessel.require_known()
    faults = Faults()
    asked = []
    for text in metrics:
        with faults.at("sweep"):
            asked.append(parse_metric(text) if isinstance(text, str) else text)
            vessel.expression(asked[-1])
    if not vary or not asked:
        faults.add("sweep", "nothing to vary, or no metric", "give conditions with their values, and metrics")
    if vessel.is_staged and not isinstance(vessel, StirredTank):
        faults.raise_any()
        return _one_by_one(vessel, vary, tuple(asked))
    base = _row(vessel)
    changed: list[list[np.ndarray]] = []
    for name, given in vary.items():
        rows = []
        if not len(given):
            faults.add(f"sweep, {name}", "no value is given", "give at least one")
        for value in given:
            with faults.at(f"sweep, {name}"):
                rows.append(_row(under(vessel, name, value)))
        changed.append(rows)
    faults.raise_any()
    if not _has_size(vessel) and not {*vary} & {*vessel.sizes}:
        raise InputError("it has no size yet", vessel.label, f"give its {vessel.sizes[0]}, or vary it")
    touched = [np.any([row != base for row in rows], axis=0) for rows in changed]
    shape = tuple(len(rows) for rows in changed)
    if np.any(np.sum(touched, axis=0) > 1):  # conditions that meet in one number: length and diameter, say
        combined = [_combination(vessel, dict(zip(vary, c, strict=True))) for c in itertools.product(*vary.values())]
        table = np.array([_row(v) for v in combined])
    else:
        table = np.broadcast_to(base, (*shape, len(base))).copy()
        for axis, (rows, own) in enumerate(zip(changed, touched, strict=True)):
            along = np.array(rows)[:, own]
            table[..., own] = along.reshape([-1 if i == axis else 1 for i in range(len(shape))] + [along.shape[1]])
        table = table.reshape(-1, len(base))
    values, ends = table[:, :-1], table[:, -1]
    balances = vessel.written.balances
    if isinstance(vessel, StirredTank):
        volume, flow = (values[:, balances.parameters.index(symbol)] for symbol in (VOLUME, FLOW))
        states = steady_many(balances, values, volume / flow)
    else:
        states = integrate_many(balances, values, ends)
        amounts = np.flatnonzero(balances.positive)
        held = states[:, amounts]
        below = np.argwhere(held < -RUN_OUT * np.max(np.abs(held), axis=1, keepdims=True))
        if len(below):
            case, species = (int(n) for n in below[0])
            conditions = list(itertools.product(*vary.values()))[case]
            where = ", ".join(f"{name} = {value}" for name, value in zip(vary, conditions, strict=True))
            species = int(amounts[species])
            said = f"{balances.names[species]} runs out at {where}, and a rate law goes on consuming it"
            raise SolveError(said, vessel.label, f"make that rate fall to zero with [{balances.names[species]}]")
    expressions = tuple(vessel.expression(m) for m in asked)
    with np.errstate(all="ignore"):
        found = compiled(balances).outputs(expressions)(list(values.T))(states.T, ends)
    shaped = {
        str(m): np.broadcast_to(np.asarray(f, float), len(table)).reshape(shape)
        for m, f in zip(asked, found, strict=True)
    }
    return Sweep(vessel, {name: list(given) for name, given in vary.items()}, shaped, tuple(asked))


def _one_by_one(vessel: Vessel, vary: Mapping[str, Sequence[Any]], asked: tuple[Metric, ...]) -> Sweep:
    """Every combination by a run of its own, for vessels that go by stages."""
    faults, found = Faults(), []
    for values in itertools.product(*vary.values()):
        with faults.at("sweep"):
            run = _combination(vessel, dict(zip(vary, values, strict=True))).outcome()
            found.append([run.metric(m) for m in asked])
    faults.raise_any()
    shape = tuple(len(given) for given in vary.values())
    columns = zip(asked, np.array(found).T, strict=True)
    shaped = {str(m): column.reshape(shape) for m, column in columns}
    return Sweep(vessel, {name: list(given) for name, given in vary.items()}, shaped, asked)


def _has_size(vessel: Vessel) -> bool:
    return bool(np.isfinite(vessel.volume_si if isinstance(vessel, StirredTank) else vessel.end))


def _row(vessel: Vessel) -> np.ndarray:
    """Every number of a vessel, and where it ends, as one row."""
    return np.array([*vessel.case.values, vessel.end])


def _combination(vessel: Vessel, conditions: Mapping[str, Any]) -> Vessel:
    for name, value in conditions.items():
        vessel = under(vessel, name, value)
    return vessel
