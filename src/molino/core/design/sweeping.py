"""`sweep`: the same vessel under many conditions at once."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import sympy as sp

from molino.core.balances.compiled import compiled
from molino.core.balances.integrate import RUN_OUT
from molino.core.balances.many import integrate_many, steady_many
from molino.core.balances.system import Balances
from molino.core.errors import Faults, InputError, SolveError
from molino.core.frozen import Frozen, FrozenMapping
from molino.core.results import Result
from molino.core.units import Display
from molino.core.vessels.base import Vessel
from molino.core.vessels.metrics import Metric, parse_metric
from molino.core.vessels.parameter_map import ParameterMap
from molino.core.vessels.roles import FLOW, VOLUME
from molino.core.vessels.train import Train

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True, eq=False)
class Sweep(Frozen, Result):
    """Metrics of a vessel over a grid of conditions.

    Attributes
    ----------
    vessel : Vessel or Train
    conditions : mapping of name to values
        What was varied, each value as it was given.
    values : mapping of metric to array, shape (conditions of the first, of the second, ...)
        In SI.
    metrics : tuple of Metric

    Examples
    --------
    >>> import molino as mo
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L")
    >>> found = mo.sweep(tube, {"volume": ["1 L", "5 L"]}, ["conversion of A"])
    >>> found.values["conversion of A"].round(4).tolist()
    [0.1813, 0.6321]
    """

    vessel: Vessel | Train
    conditions: Mapping[str, Sequence[Any]]
    values: Mapping[str, np.ndarray]
    metrics: tuple[Metric, ...]

    @property
    def display(self) -> Display:
        """The units in which it is shown."""
        return self.vessel._display

    def table(self) -> pd.DataFrame:
        """One row a combination: conditions as given, metrics with units in the headings."""
        import pandas as pd

        rows = list(itertools.product(*self.conditions.values()))
        columns: dict[str, Any] = {name: [row[i] for row in rows] for i, name in enumerate(self.conditions)}
        for metric in self.metrics:
            heading = self.display.heading(str(metric), metric.kind)
            columns[heading] = self.display.number(self.values[str(metric)].ravel(), metric.kind)
        return pd.DataFrame(columns)

    def to_dict(self) -> dict[str, Any]:
        """Plain data: conditions as given, and each metric as nested lists in their order."""
        metrics = {}
        for m in self.metrics:
            values = self.display.number(self.values[str(m)], m.kind)
            metrics[str(m)] = {"unit": self.display.unit(m.kind), "values": values.tolist()}
        conditions = {name: [v if isinstance(v, int | float) else str(v) for v in given]
                      for name, given in self.conditions.items()}  # fmt: skip
        return {"conditions": conditions, "metrics": metrics}

    def __str__(self) -> str:
        return self.table().to_string(index=False, float_format=lambda x: f"{x:.4g}")


def sweep(vessel: Vessel | Train, vary: Mapping[str, Sequence[Any]], metrics: Sequence[Metric | str]) -> Sweep:
    """Run a vessel under every combination of conditions.

    The numbers of all combinations are worked out as columns, and all are integrated together, as one banded system
    (tanks: brought to steady state together), so that a thousand cost little more than a few; vessels whose numbers
    change on the way, and trains, are run one by one.

    Parameters
    ----------
    vessel : Batch, SemiBatch, StirredTank, PlugFlow or Train
    vary : mapping of condition to values
        A condition by the name that `with_` gives it: a field of the vessel ("T", "volume", "length", "time"), the
        "flow" or "feed T" of its feed, "coolant T", what is fed or charged of a species ("[xylose]"), or a constant of
        the chemistry ("dehydration.k", in SI).
    metrics : sequence of Metric or str

    Returns
    -------
    Sweep

    Raises
    ------
    InputError
        With everything that is wrong; SolveError if a combination cannot be computed.

    Examples
    --------
    >>> import molino as mo
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.PlugFlow(chem, feed, volume="5 L")
    >>> found = mo.sweep(tube, {"volume": ["1 L", "5 L"]}, ["conversion of A"])
    >>> found.values["conversion of A"].round(4).tolist()
    [0.1813, 0.6321]
    """
    faults = Faults()
    asked: list[Metric] = []
    for text in metrics:
        with faults.at("sweep"):
            asked.append(parse_metric(text) if isinstance(text, str) else text)
            vessel._expression(asked[-1])
    if not vary or not asked:
        faults.add("sweep", "nothing to vary, or no metric", "give conditions with their values, and metrics")
    for name, given in vary.items():
        if not len(given):
            faults.add(f"sweep, {name}", "no value is given", "give at least one")
    if isinstance(vessel, Train):
        faults.raise_any()
        return _one_by_one(vessel, vary, tuple(asked))
    vessel._require_known()
    numbers, forms = _read(vessel, vary, faults)
    faults.raise_any()
    if vessel._needs_size and not {*vary} & {*vessel._sizes}:
        raise InputError("it has no size yet", vessel.label, f"give its {vessel._default_size()}, or vary it")
    base = vessel
    if any(vessel._setting(name).form != form for name, form in forms.items()):
        base = vessel.with_({name: given[0] for name, given in vary.items()})
    same = None not in forms.values()
    if not same or base._has_segments or base._model.balances.conditions:
        return _one_by_one(vessel, vary, tuple(asked))
    table, ends = ParameterMap(base, tuple(vary)).table(np.array([*itertools.product(*numbers.values())]))
    expressions = tuple(base._expression(m) for m in asked)
    balances = _balances_for(base, expressions)
    states = _states(base, balances, table, ends, vary)
    with np.errstate(all="ignore"):
        found = compiled(balances).outputs(expressions)(list(table.T))(states.T, ends)
    shape = tuple(len(given) for given in vary.values())
    shaped = {
        str(m): np.broadcast_to(np.asarray(f, float), len(table)).reshape(shape)
        for m, f in zip(asked, found, strict=True)
    }
    return _swept(vessel, vary, shaped, tuple(asked))


def _swept(
    vessel: Vessel | Train, vary: Mapping[str, Sequence[Any]], values: Mapping[str, np.ndarray],
    asked: tuple[Metric, ...],
) -> Sweep:  # fmt: skip
    conditions = FrozenMapping({name: list(given) for name, given in vary.items()})
    return Sweep(vessel, conditions, FrozenMapping(values), asked)


def _read(
    vessel: Vessel, vary: Mapping[str, Sequence[Any]], faults: Faults
) -> tuple[dict[str, list[float]], dict[str, str | None]]:  # fmt: skip
    """The numbers of each condition in SI, and their form, None where it is not the same for all."""
    found: dict[str, list[float]] = {}
    form_of: dict[str, str | None] = {}
    for name, given in vary.items():
        with faults.at(f"sweep, {name}"):
            setting = vessel._setting(name)
        if name not in vessel._settings:
            continue
        forms, found[name] = set(), []
        for value in given:
            with faults.at(f"sweep, {name}"):
                number, form = setting.read(value)
                found[name].append(number)
                forms.add(form)
        form_of[name] = forms.pop() if len(forms) == 1 else None
    return found, form_of


def _balances_for(vessel: Vessel, expressions: tuple[sp.Expr, ...]) -> Balances:
    """The balances that some expressions need: with their totals only where one is asked for."""
    model = vessel._model
    asked = frozenset().union(*(e.free_symbols for e in expressions))
    return model.balances if asked <= model.balances.known else model.followed


def _states(
    vessel: Vessel, balances: Balances, table: np.ndarray, ends: np.ndarray, vary: Mapping[str, Sequence[Any]]
) -> np.ndarray:  # fmt: skip
    """The states at the end of every case, shape (cases, states)."""
    if vessel._has_steady_state:
        volume, flow = (table[:, balances.parameters.index(symbol)] for symbol in (VOLUME, FLOW))
        return steady_many(balances, table, volume / flow)
    states = integrate_many(balances, table, ends)
    amounts = balances.amounts
    held = states[:, amounts]
    below = np.argwhere(held < -RUN_OUT * np.max(np.abs(held), axis=1, keepdims=True))
    watched = np.flatnonzero(balances.is_kind(("temperature", "pressure", "volume")))
    fallen = np.argwhere(~(states[:, watched] > 0))
    limit = vessel._limit()
    if limit is not None:
        left = compiled(balances).outputs((limit,))(list(table.T))(states.T, ends)[0]
        beyond = np.flatnonzero(~(np.broadcast_to(np.asarray(left, dtype=float), len(table)) > 0))
        fallen = fallen if len(fallen) else np.array([[case, 0] for case in beyond], dtype=int).reshape(-1, 2)
    if len(below) or len(fallen):
        case, place = (int(n) for n in (below if len(below) else fallen)[0])
        conditions = list(itertools.product(*vary.values()))[case]
        where = ", ".join(f"{name} = {value}" for name, value in zip(vary, conditions, strict=True))
        if len(below):
            species = balances.names[amounts[place]]
            message = f"{species} runs out at {where}, and a rate law goes on consuming it"
            raise SolveError(message, vessel.label, f"make that rate fall to zero with [{species}]")
        name = balances.states[int(watched[place])].kind
        raise SolveError(f"the {name} falls to zero at {where}", vessel.label, "leave this combination out")
    return states


def _one_by_one(vessel: Vessel | Train, vary: Mapping[str, Sequence[Any]], asked: tuple[Metric, ...]) -> Sweep:
    """Every combination by a run of its own."""
    faults, found = Faults(), []
    for values in itertools.product(*vary.values()):
        with faults.at("sweep"):
            run = vessel.with_(dict(zip(vary, values, strict=True))).outcome()
            found.append([run.metric(m) for m in asked])
    faults.raise_any()
    shape = tuple(len(given) for given in vary.values())
    columns = zip(asked, np.array(found).T, strict=True)
    return _swept(vessel, vary, {str(m): column.reshape(shape) for m, column in columns}, asked)
