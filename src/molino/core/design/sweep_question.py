"""The question of a sweep: its cases, and how they are computed, together and one by one."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from molino.core import units
from molino.core.balances.compiled import compiled
from molino.core.balances.integrate import RUN_OUT
from molino.core.balances.many_cases import PER_EVALUATION, integrate_many
from molino.core.balances.system import Balances
from molino.core.contents.portion import read_portion
from molino.core.contract.condition import Condition
from molino.core.contract.metric import Metric
from molino.core.contract.metrics import parse_metric
from molino.core.contract.parameter_map import ParameterMap
from molino.core.contract.vessel import Vessel
from molino.core.design.spans import MOST
from molino.core.design.sweep_result import AGREES, Sweep, SweptCondition
from molino.core.errors import Faults, InputError, MolinoError
from molino.core.parallel import Workers, in_order
from molino.core.trains.train import Train, read_plant
from molino.core.unit_tables import SI_UNITS
from molino.core.units import Value
from molino.core.vessels.flow_vessel import FlowVessel

_FEWEST, _PER_CHECK, _MOST_CHECKS = 100, 1000, 5
"""Number of cases from which on single runs check them; one of this many (of tanks one of a hundred); and the largest
number of them."""
TOGETHER = 1024
"""Number of cases that are integrated as one system; an interruption loses at most these."""
_EVALUATIONS = 500
"""Evaluations of a right-hand side that a case takes, about."""
_UNDEFINED = "not defined here: division by zero"
_INTERRUPTED = "interrupted before it was computed"


@dataclass(frozen=True)
class Places:
    """The place of the value of each condition in each case: of a grid by its shape, of a list by its number."""

    shape: tuple[int, ...]
    conditions: int

    def __len__(self) -> int:
        return math.prod(self.shape)

    def of(self, cases: range) -> np.ndarray:
        """Shape (cases, conditions)."""
        at = np.arange(cases.start, cases.stop)
        if len(self.shape) == self.conditions:
            return np.column_stack(np.unravel_index(at, self.shape))
        return np.repeat(at[:, None], self.conditions, axis=1)


@dataclass(frozen=True, eq=False)
class Question:
    """The question of a sweep, read and checked."""

    vessel: Vessel | Train
    metrics: tuple[Metric, ...]
    given: Mapping[str, tuple[Any, ...]]
    settings: Mapping[str, Condition]
    numbers: Mapping[str, np.ndarray]
    """In SI."""
    forms: Mapping[str, str | None]
    """None if it differs between values."""
    places: Places

    @classmethod
    def read(cls, given_vessel: object, conditions: object, metrics: object, most: float = MOST) -> Question:
        vessel = read_plant(given_vessel, "sweep")
        faults = Faults()
        asked = _metrics(vessel, metrics, faults)
        given, shape = _cases(conditions, most, faults)
        settings, numbers, forms = {}, {}, {}
        for name, values in given.items():
            with faults.at(f"sweep, {name}"):
                settings[name] = setting = vessel.spec.condition(name)
                numbers[name], forms[name] = _read_all(setting, values, faults)
        sizes = [name for name in given if isinstance(vessel, Vessel) and name in vessel.spec.sizes]
        if len(sizes) > 1:
            faults.add("sweep", f"{' and '.join(sizes)} each specify its size", "vary one of them")
        faults.raise_any()
        if isinstance(vessel, Vessel) and vessel.spec.needs_size and not sizes:
            raise InputError("it has no size yet", vessel.label, f"give its {vessel.spec.default_size()}, or vary it")
        return cls(vessel, asked, given, settings, numbers, forms, Places(shape, len(given)))

    @classmethod
    def of(cls, vessel: Vessel | Train, names: Sequence[str], rows: np.ndarray, metric: Metric) -> Question:
        """The question of cases of numbers in SI, in the form of the present values."""
        settings = {name: vessel.spec.condition(name) for name in names}
        numbers = dict(zip(names, rows.T, strict=True))
        given = {name: tuple(map(settings[name].give, column.tolist())) for name, column in numbers.items()}
        for name, values in given.items():
            is_quantity = settings[name].form in SI_UNITS  # whose bounds are those of its extremes
            ends = (int(np.argmin(numbers[name])), int(np.argmax(numbers[name])))
            for value in [values[i] for i in ends] if is_quantity else values:
                settings[name].read(value)
        forms = {name: setting.form for name, setting in settings.items()}
        return cls(vessel, (metric,), given, settings, numbers, forms, Places((len(rows),), len(names)))

    @cached_property
    def shown(self) -> tuple[SweptCondition, ...]:
        """The conditions as in a table."""
        return tuple(_shown(self.vessel, name, given) for name, given in self.given.items())

    def result(
        self,
        shape: tuple[int, ...],
        cases: range,
        numbers: np.ndarray,
        reasons: Sequence[str],
        is_stopped: bool = False,
        apart: float = math.nan,
    ) -> Sweep:
        """Some cases as a result."""
        places = self.places.of(cases)
        return Sweep(self.vessel, self.metrics, self.shown, shape, places, numbers, tuple(reasons), is_stopped, apart)

    def block(self, cases: range) -> Sweep:
        """At most 1,024 cases, some of them checked by single runs; all by single runs if these disagree."""
        numbers, reasons = self._together(cases), [""] * len(cases)
        missing, apart = np.flatnonzero(~_known(numbers)), self.apart(numbers, cases.start)
        if apart > AGREES:
            missing, apart = np.arange(len(cases)), math.nan
        for n in missing.tolist():
            numbers[n], reasons[n] = self._alone(cases[n])
        return self.result((len(cases),), cases, numbers, reasons, apart=apart)

    def require_known(self) -> None:
        """Raise InputError if constants are unknown."""
        for vessel in self.vessel.vessels:
            vessel.spec.require_known()

    @cached_property
    def base(self) -> Vessel | None:
        """The vessel whose parameters are varied, if cases can be integrated together."""
        if not isinstance(self.vessel, Vessel) or None in self.forms.values():
            return None
        found: Vessel = self.vessel
        if any(self.settings[name].form != form for name, form in self.forms.items()):
            try:
                found = found.with_({name: values[0] for name, values in self.given.items()})
            except InputError:  # the first case cannot be computed; others may
                return None
        return None if found.spec.has_segments or found.spec.model.balances.conditions else found

    def compute_all(
        self, workers: Workers, progress: Callable[[int, int], None] | None
    ) -> tuple[np.ndarray, list[str], bool, float]:
        """The numbers, shape (cases, metrics), the reasons of missing ones, whether it was interrupted, and the largest
        difference from cases that are run one by one."""
        count = len(self.places)
        numbers, reasons = np.full((count, len(self.metrics)), np.nan), dict[int, str]()

        def run_alone(cases: list[int]) -> None:
            found = in_order(self._alone, cases, workers, evaluations=_EVALUATIONS * len(cases))
            for n, (case, (own, why)) in enumerate(zip(cases, found, strict=True), start=1):
                numbers[case], reasons[case] = own, why
                if progress is not None:
                    progress(count - len(cases) + n, count)

        apart, is_stopped = math.nan, False
        try:
            if self.base is not None:
                self._compute_together(numbers, workers, progress)
            run_alone(np.flatnonzero(~_known(numbers)).tolist())
            apart = self.apart(numbers)
            if apart > AGREES:  # as where start-ups end in different steady states: each case by itself
                apart, numbers[:] = math.nan, math.nan
                run_alone([*range(count)])
        except KeyboardInterrupt:
            is_stopped = True
        is_known = _known(numbers).tolist()
        why = ["" if known else reasons.get(case, _INTERRUPTED) for case, known in enumerate(is_known)]
        return numbers, why, is_stopped, apart

    def _compute_together(
        self, numbers: np.ndarray, workers: Workers, progress: Callable[[int, int], None] | None
    ) -> None:
        """Fill in the numbers of cases, in blocks that do not depend on the workers."""
        count, known = len(numbers), 0
        blocks = [range(first, min(first + TOGETHER, count)) for first in range(0, count, TOGETHER)]
        evaluations = _EVALUATIONS * max(count // PER_EVALUATION, 1)
        for block, own in zip(blocks, in_order(self._together, blocks, workers, evaluations=evaluations), strict=True):
            numbers[block.start : block.stop] = own
            known += int(_known(own).sum())
            if progress is not None and known:
                progress(known, count)

    def _together(self, cases: range) -> np.ndarray:
        """The metrics of cases that are integrated as one system; nan for a case that must be run alone."""
        none = np.full((len(cases), len(self.metrics)), np.nan)
        base = self.base
        if base is None or len(cases) == 1:
            return none
        rows = np.column_stack([self.numbers[name][self.places.of(cases)[:, i]] for i, name in enumerate(self.given)])
        try:
            with np.errstate(all="ignore"):
                table, ends = ParameterMap(base, tuple(self.given)).table(rows)
                expressions = tuple(base.spec.expression(m) for m in self.metrics)
                balances = base.spec.model.balances_for(expressions)
                states = _states(base, balances, table, ends)
                found = compiled(balances).outputs(expressions)(list(table.T))(states.T, ends)
        except MolinoError:
            return none
        columns = [np.broadcast_to(np.asarray(f, float), len(table)) for f in found]
        return np.where(np.isfinite(states).all(axis=1)[:, None], np.column_stack(columns), np.nan)

    def apart(self, numbers: np.ndarray, first: int = 0) -> float:
        """The largest difference between cases and their single runs, relative to the largest value of each metric."""
        known = np.flatnonzero(_known(numbers))
        if self.base is None or len(known) < _FEWEST:
            return math.nan
        per = _FEWEST if self.base.spec.has_steady_state else _PER_CHECK  # which may be several
        count = min(max(len(known) // per, 1), _MOST_CHECKS)
        sizes = np.maximum(np.max(np.abs(numbers[known]), axis=0), 1e-300)
        several = np.random.default_rng(0).choice(known, count, replace=False)
        return max(float(np.nanmax(np.abs(self._alone(first + int(c))[0] - numbers[c]) / sizes)) for c in several)

    def _alone(self, case: int) -> tuple[np.ndarray, str]:
        """The metrics of one case by a single run, and the reason if it has none."""
        values = {
            name: self.given[name][i]
            for name, i in zip(self.given, self.places.of(range(case, case + 1))[0], strict=True)
        }
        found, reasons = np.full(len(self.metrics), np.nan), []
        try:
            run = self.vessel.with_(values).run()
        except MolinoError as error:
            return found, str(error.faults[0]).partition("\n")[0]
        for i, metric in enumerate(self.metrics):
            try:
                number = run.metric(metric)
            except MolinoError as error:
                reasons.append(str(error.faults[0]).partition("\n")[0])
                continue
            if np.isfinite(number):
                found[i] = number
            else:
                reasons.append(f"{metric}: {_UNDEFINED}")
        return found, "; ".join(reasons)


def _known(numbers: np.ndarray) -> np.ndarray:
    """Whether all metrics of each case are known."""
    return np.asarray(np.isfinite(numbers).all(axis=1))


def _metrics(vessel: Vessel | Train, given: Any, faults: Faults) -> tuple[Metric, ...]:
    """The requested metrics, checked for the vessel."""
    if isinstance(given, str | Metric) or not isinstance(given, Sequence):
        given = [given] if isinstance(given, str | Metric) else [*(given or ())]
    found: list[Metric] = []
    for text in given:
        with faults.at("sweep"):
            metric = text if isinstance(text, Metric) else parse_metric(text)
            vessel.spec.check_metric(metric)
            found.append(metric)
    if not given:
        faults.add("sweep", "no metric is given", "give metrics, like 'conversion of A'")
    return tuple(dict.fromkeys(found))


_Cases = tuple[dict[str, tuple[Any, ...]], tuple[int, ...]]


def _cases(conditions: object, most: float, faults: Faults) -> _Cases:
    """The values of each condition, and the shape of the grid."""
    none: _Cases = ({}, (0,))
    if isinstance(conditions, Mapping):
        given = {str(name): _several(values) for name, values in conditions.items()}
        for name in [name for name, values in given.items() if not values]:
            faults.add(f"sweep, {name}", "no value is given", "give at least one")
        if not given:
            faults.add("sweep", "nothing to vary", "give conditions with their values")
        shape = tuple(len(values) for values in given.values())
        if math.prod(shape) > most:
            advice = f"ask for {most:,} at most, or write them to a folder by mo.files.write_sweep"
            faults.add("sweep", f"{math.prod(shape):,} combinations", advice)
            return none
        return (given, shape) if given and 0 not in shape else none
    rows = [*conditions] if isinstance(conditions, Sequence) and not isinstance(conditions, str) else []
    if not rows or not all(isinstance(row, Mapping) and row for row in rows):
        advice = "give a mapping of condition to values, or a list of mappings, one per case"
        faults.add("sweep", f"{conditions!r} is not a set of conditions", advice)
        return none
    names = dict.fromkeys(name for row in rows for name in row)
    for n, row in enumerate(rows, 1):
        for name in names.keys() - row.keys():
            faults.add(f"sweep, case {n}", f"it has no {name}", "give every condition in every case")
    if faults.found:
        return none
    listed = {name: tuple(row[name] for row in rows) for name in names}
    return listed, (len(rows),)


def _several(values: Any) -> tuple[object, ...]:
    """Values in a list, an array, a quantity of an array, or a single one."""
    if hasattr(values, "magnitude") and np.ndim(values.magnitude) == 1:
        return tuple(x * values.units for x in values.magnitude)
    if isinstance(values, str | Value) or np.ndim(values) == 0:
        return (values,)
    return tuple(x.item() if isinstance(x, np.generic) else x for x in values)


def _plain(values: Sequence[object]) -> np.ndarray | None:
    """Values as numbers, if all are bare numbers."""
    return np.array(values) if all(type(value) is float for value in values) else None


def _read_all(setting: Condition, values: Sequence[object], faults: Faults) -> tuple[np.ndarray, str | None]:
    """The values of a condition in SI, and their form if it is one."""
    numbers = _plain(values)
    if numbers is not None and setting.form in SI_UNITS.keys() - {"number"} and np.isfinite(numbers).all():
        ends = (float(np.min(numbers)), float(np.max(numbers)))
        with contextlib.suppress(MolinoError):  # the list below names each value
            if all(setting.read(end) == (end, setting.form) for end in ends):  # bounds hold between them
                return numbers, setting.form
    found = [(math.nan, "")] * len(values)
    for i, value in enumerate(values):
        with faults.at(f"sweep, {setting.name}"):
            found[i] = setting.read(value)
    kinds = {form for _, form in found}
    return np.array([number for number, _ in found]), kinds.pop() if len(kinds) == 1 else None


def _shown(vessel: Vessel | Train, name: str, given: tuple[object, ...]) -> SweptCondition:
    """A condition in its table: in the unit of its first value that has one."""
    setting = vessel.spec.condition(name)
    if name.endswith("]") and "[" in name:
        portions = [read_portion(v, True) for v in given]
        kinds = {(p.kind, p.of, p.mass) for p in portions}
        values = [p.value for p in portions]
        if len(kinds) > 1 or None in values:
            return SweptCondition(name, given, None, "", math.nan)
        kind, of, mass = kinds.pop()
        bare = {
            "ratio": f"{'kg' if mass[0] else 'mol'} per {'kg' if mass[1] else 'mol'} {of}",
            "mole fraction": "mol/mol",
            "mass fraction": "kg/kg",
        }.get(kind)
        own = setting.own if setting.form == setting.read(given[0])[1] else math.nan
        if bare is not None:
            numbers = np.array([v.si for v in values if v is not None])
            return SweptCondition(name, given, numbers, bare, own)
        setting_kind = {"mass concentration": "density", "partial pressure": "pressure"}.get(kind, kind)
        return _in_unit(vessel, name, given, [v for v in values if v is not None], setting_kind, own)
    plain = _plain(given)
    read = [units.read(v) for v in given] if plain is None else [Value(x) for x in plain.tolist()]
    return _in_unit(vessel, name, given, read, setting.kind, setting.own)


def _in_unit(
    vessel: Vessel | Train, name: str, given: tuple[object, ...], values: Sequence[Value], kind: str, own: float
) -> SweptCondition:
    unit = next((v.unit for v in values if v.unit), vessel.spec.display.unit(kind) if kind in SI_UNITS else "")
    numbers = np.array([v.si for v in values])
    if not unit:
        return SweptCondition(name, given, numbers, "", own)
    if len({units.unit(v.unit).dimension == units.unit(unit).dimension for v in values if v.unit}) > 1:
        return SweptCondition(name, given, None, "", math.nan)
    shown = [float(f"{x:.12g}") for x in units.unit(unit).from_si(numbers)]
    return SweptCondition(name, given, np.array(shown), unit, float(units.unit(unit).from_si(own)))


def _states(vessel: Vessel, balances: Balances, table: np.ndarray, ends: np.ndarray) -> np.ndarray:
    """The states at the end of every case, shape (cases, states); nan if they are not physical."""
    if vessel.spec.has_steady_state:
        assert isinstance(vessel, FlowVessel)
        return vessel.spec.solve_steady_many(balances, table)
    states = integrate_many(balances, table, ends)
    held = states[:, balances.amounts]
    below = (held < -RUN_OUT * np.max(np.abs(held), axis=1, keepdims=True)).any(axis=1)
    below |= ~(states[:, balances.is_kind(("temperature", "pressure", "volume"))] > 0).all(axis=1)
    limit = vessel.spec.margin()
    if limit is not None:
        left = compiled(balances).outputs((limit,))(list(table.T))(states.T, ends)[0]
        below |= ~(np.broadcast_to(np.asarray(left, dtype=float), len(table)) > 0)
    states[below] = np.nan
    return states
