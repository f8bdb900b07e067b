"""`survey`: a comparison of given conversion, equilibrium, stirred tank, tube and batch on one feed."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from molino.core import units
from molino.core.annotations import ByName, PlainData
from molino.core.arguments import checked
from molino.core.balances.compiled import compiled
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.contents.feed import Feed
from molino.core.contract.metric import Metric
from molino.core.contract.metrics import conversion, read_metric
from molino.core.contract.review import doubtful_size
from molino.core.contract.run_result import RunResult
from molino.core.contract.vessel import Vessel
from molino.core.design.comparison import Comparison, compare
from molino.core.design.size.sizing import size
from molino.core.display import Display
from molino.core.errors import Faults, InputError, MolinoError, SolveError, UnreachableError
from molino.core.frozen import Frozen, FrozenMapping
from molino.core.results import Result, Table, frame, plain_dict
from molino.core.runs.run import Run
from molino.core.terms.catalyst import Catalyst
from molino.core.units import QuantityLike, Value
from molino.core.vessels.at_conversion import AtConversion
from molino.core.vessels.at_equilibrium import AtEquilibrium
from molino.core.vessels.batch import Batch
from molino.core.vessels.plug_flow import PlugFlow
from molino.core.vessels.stirred_tank import StirredTank

_WAY = 0.95
"""Fraction of the equilibrium conversion that counts as equilibrium."""
_FAR = 0.5
"""Fraction of the equilibrium conversion below which a vessel is far from equilibrium."""
_BEYOND = 1e-6
NAMES = ("given conversion", "equilibrium", "stirred tank", "tube", "batch")


@dataclass(frozen=True, eq=False)
class Survey(Frozen, Result):
    """Five models of a vessel on one feed.

    Attributes
    ----------
    comparison : Comparison
        Of the models that could be run.
    ratios : tuple of mapping of reaction to float
        Q/K of each reversible reaction in the outlet of each: 1 at equilibrium.
    fractions : tuple of float
        Conversion of the first reactant over that at equilibrium at the temperature of the outlet.
    remarks : mapping of name to str
        Remarks on each: why it is far from equilibrium, or cannot be run.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A <-> B", k="0.2 1/min", K=3.0))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="330 K")
    >>> found = mo.survey(chem, feed, residence_time="5 min", conversions={"r1": 0.5})
    >>> [round(row["conversion of A"], 3) for row in found.comparison.values]
    [0.5, 0.75, 0.429, 0.552, 0.552]
    """

    comparison: Comparison
    ratios: tuple[Mapping[str, float], ...]
    fractions: tuple[float, ...]
    remarks: Mapping[str, str]

    @property
    def display(self) -> Display:
        """The units of results."""
        return self.comparison.display

    def table(self) -> Table:
        """One row per vessel: residence time, metrics, temperature, duty, Q/K, fraction of the equilibrium
        conversion."""
        display, rows = self.display, []
        for run, values, ratios, fraction in zip(
            self.comparison.runs, self.comparison.values, self.ratios, self.fractions, strict=True
        ):
            row: PlainData = {"vessel": run.vessel.label}
            row[display.heading("residence time", "time")] = display.number(run.residence_time_si, "time")
            for metric in self.comparison.metrics:
                row[display.heading(str(metric), metric.kind)] = display.number(values[str(metric)], metric.kind)
            if isinstance(run, Run) and run.has_temperature:
                row[display.heading("T", "temperature")] = display.number(run.temperatures[-1], "temperature")
            if run.has_duty:
                row[display.heading("duty", "power")] = display.number(
                    run.duty_si if run.duty_kind == "power" else np.nan, "power"
                )
            row |= {f"Q/K of {name}": ratio for name, ratio in ratios.items()}
            row["fraction of equilibrium conversion"] = fraction
            rows.append(row)
        return frame(rows)

    def to_dict(self) -> PlainData:
        """Plain data: each vessel's metrics, run, Q/K and fraction of the equilibrium conversion; the remarks."""
        found = self.comparison.to_dict()
        for label, ratios, fraction in zip(found, self.ratios, self.fractions, strict=True):
            found[label] |= {"Q_over_K": dict(ratios), "fraction_of_equilibrium_conversion": fraction}
        return plain_dict({"vessels": found, "remarks": dict(self.remarks)})

    @property
    def headline(self) -> str:
        """The number of models, and the feed."""
        return f"{len(self.table())} models of a vessel on one feed"

    def facts(self) -> dict[str, str]:
        """The remarks on each."""
        return dict(self.remarks)

    def __str__(self) -> str:
        table = self.table().to_string(index=False, float_format=lambda x: f"{x:.4g}", na_rep="")
        return "\n".join([table, *(f"{name}: {text}" for name, text in self.remarks.items())])


@checked
def survey(
    chemistry: Chemistry,
    feed: Feed,
    *,
    residence_time: QuantityLike | None = None,
    conversions: ByName | None = None,
    T: QuantityLike | None = None,
    heat: object = None,
    catalyst: Catalyst | None = None,
    metrics: Sequence[Metric | str] = (),
    show: Mapping[str, str] | None = None,
) -> Survey:
    """Compare a given conversion, equilibrium, a stirred tank, a tube and a batch on one feed.

    A vessel that cannot be run (no rate law, no equilibrium constant) is left out, and the reason is reported.

    Parameters
    ----------
    chemistry : Chemistry
    feed : Feed
    residence_time : optional
        Space time of tank and tube, and time of the batch; by default the space time in which a tube reaches 95 % of
        the equilibrium conversion.
    conversions : mapping of reaction to conversion, optional
        As for `AtConversion`.
    T : temperature, optional
    heat : "isothermal", "adiabatic", Adiabatic or Jacket, optional
    catalyst : Catalyst, optional
    metrics : sequence of Metric or str, optional
        By default the conversion of each reactant fed.
    show : mapping of kind to unit, optional

    Returns
    -------
    Survey

    Raises
    ------
    InputError
        If no vessel can be run.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A <-> B", k="0.2 1/min", K=3.0))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="330 K")
    >>> found = mo.survey(chem, feed)
    >>> round(found.fractions[-2], 3)
    0.95
    """
    asked, time = _read_metrics_and_time(metrics, residence_time)
    common = {"T": T, "heat": heat, "show": show or {}}
    remarks: dict[str, str] = {}
    vessels, limit = _vessels(chemistry, feed, time, conversions, catalyst, common, remarks)
    runs = _runs(vessels, remarks)
    fractions = tuple(_fraction(run, limit) for run in runs)
    found = {run.vessel.label: _remark(run, part, limit) for run, part in zip(runs, fractions, strict=True)}
    remarks |= {label: remark for label, remark in found.items() if remark}
    ratios = tuple(FrozenMapping(_ratios(run, limit)) for run in runs)
    return Survey(compare([run.vessel for run in runs], asked), ratios, fractions, FrozenMapping(remarks))


def _read_metrics_and_time(
    metrics: Sequence[Metric | str], residence_time: QuantityLike | None
) -> tuple[list[Metric], Value | None]:
    faults, asked = Faults(), []
    for text in metrics:
        with faults.at("survey"):
            asked.append(read_metric(text))
    time: Value | None = None
    with faults.at("survey, residence time"):
        time = units.positive(residence_time, "time", "") if residence_time is not None else None
    faults.raise_any()
    return asked, time


def _vessels(
    chemistry: Chemistry,
    feed: Feed,
    time: Value | None,
    conversions: ByName | None,
    catalyst: Catalyst | None,
    common: PlainData,
    remarks: dict[str, str],
) -> tuple[list[Vessel], AtEquilibrium | None]:
    """The vessels that can be made, and the one at equilibrium; a remark for each that cannot."""
    vessels: list[Vessel] = []
    limit: AtEquilibrium | None = None
    if conversions is not None:
        vessels.append(AtConversion(chemistry, feed, conversions, name=NAMES[0], **common))
    try:
        limit = AtEquilibrium(chemistry, feed, name=NAMES[1], **common)
        limit.run()
        vessels.append(limit)
    except MolinoError as error:
        none = not any(r.equation.reversible for r in chemistry.reactions)
        limit, remarks[NAMES[1]] = None, ("no reaction is reversible, and " if none else "") + _first(error)
    try:
        kinetic = _kinetic(chemistry, feed, time, catalyst, limit, common)
        vessels += kinetic
    except MolinoError as error:
        remarks["stirred tank, tube and batch"] = _first(error)
    if not vessels:
        advice = "give a rate law, equilibrium constants, or conversions"
        raise InputError(next(iter(remarks.values())), "survey", advice)
    return vessels, limit


def _runs(vessels: list[Vessel], remarks: dict[str, str]) -> list[RunResult]:
    runs = []
    for vessel in vessels:
        try:
            runs.append(vessel.run())
        except MolinoError as error:
            remarks[vessel.label] = _first(error)
    return runs


def _first(error: MolinoError) -> str:
    return error.faults[0].what if getattr(error, "faults", None) else str(error)


def _kinetic(
    chemistry: Chemistry,
    feed: Feed,
    time: Value | None,
    catalyst: Catalyst | None,
    limit: AtEquilibrium | None,
    common: ByName,
) -> list[Vessel]:
    """Tank, tube and batch with one residence time."""
    along = {k: v for k, v in common.items() if k != "T" or common["heat"] is None}
    tube = PlugFlow(chemistry, feed, space_time=time, catalyst=catalyst, name=NAMES[3], **along)
    tube.spec.require_known()
    if time is None:
        time = _time_for(tube, limit)
        tube = tube.with_(space_time=time)
    tank = StirredTank(chemistry, feed, space_time=time, catalyst=catalyst, name=NAMES[2], **along)
    gas: PlainData = {"constant_volume": False} if feed.is_gas else {}
    volume = Value(float(tube.spec.fed.volume) * time.si, "m^3")
    batch = Batch(chemistry, feed, volume=volume, time=time, catalyst=catalyst, name=NAMES[4], **gas, **common)
    return [tank, tube, batch]


def _time_for(tube: PlugFlow, limit: AtEquilibrium | None) -> Value:
    """The space time in which a tube comes near to equilibrium."""
    species = next(
        s for r in tube.chemistry.reactions for s, n in r.equation.net.items() if n < 0 and tube.spec.is_fed(s)
    )
    whole = limit.run().conversion(species) if limit is not None else 1.0
    found = size(tube, conversion(species), _WAY * whole, free="space_time")
    return Value(found.value, found.display.unit("time") or None)


def _fraction(run: RunResult, limit: AtEquilibrium | None) -> float:
    """Conversion over that at equilibrium at the same temperature and pressure; nan if unknown."""
    if not run.vessel.spec.reactants:
        return math.nan
    species = run.vessel.spec.reactants[0]
    if limit is None:
        return run.conversion(species)
    out = run.stream_out()
    held: PlainData = {"heat": None}
    if np.isfinite(out.T):
        held["T"] = Value(out.T, "K")
    if limit.is_gas and np.isfinite(out.P):
        held["P"] = Value(out.P, "Pa")
    try:
        whole = limit.with_(**held).run().conversion(species)
    except SolveError:
        return math.nan
    return run.conversion(species) / whole if abs(whole) > 1e-12 else math.nan


def _ratios(run: RunResult, limit: AtEquilibrium | None) -> dict[str, float]:
    """Q/K in the outlet of each reaction that has an equilibrium constant."""
    if limit is None or not limit.by_reactions:
        return {}
    out, case = run.stream_out(), limit.spec.case
    state = np.zeros(len(case.balances.states))
    state[: len(out.amounts)] = [max(out.amounts[s], 0.0) for s in limit.chemistry.names]
    if TEMPERATURE in case.balances.symbols:
        state[-1] = out.T
    elif np.isfinite(out.T):
        case = case.with_values({TEMPERATURE: out.T})
    expressions = limit.spec.affinities
    logs = np.array(compiled(case.balances).outputs(expressions)(case.values)(state, 0.0), dtype=float)
    return dict(
        zip((c.reaction for c in limit.spec.form.constants), np.exp(np.clip(logs, -700, 700)).tolist(), strict=True)
    )


def _remark(run: RunResult, fraction: float, limit: AtEquilibrium | None) -> str:
    """Why a vessel is far from equilibrium, or beyond it."""
    if fraction > 1 + _BEYOND:
        return f"beyond equilibrium: {100 * fraction:.4g} % of the equilibrium conversion"
    if not run.vessel.spec.is_kinetic:
        return ""
    conversions = [run.conversion(s) for s in run.vessel.spec.reactants]
    if (doubt := doubtful_size(run.vessel.spec, conversions)) is not None:
        return str(doubt.what)
    if not fraction < _FAR:
        return ""
    species, vessel = run.vessel.spec.reactants[0], run.vessel
    display = run.display
    own = display.text(run.space_time_si, "time")
    whole = limit.run().conversion(species) if limit is not None else 1.0
    text = (
        f"{100 * fraction:.3g} % of the equilibrium conversion" if limit is not None else f"conversion {fraction:.3g}"
    )
    if "space_time" not in vessel.spec.sizes:
        return f"{text} in {own}: the reaction is slow for this time"
    try:
        longer = size(vessel, conversion(species), _WAY * whole, free="space_time")
    except UnreachableError as error:
        return f"{text}: {error.faults[0].what}"
    except MolinoError:
        return f"{text} in {own}: the reaction is slow for this time"
    return (
        f"{text} in {own}: the reaction is slow, {display.text(longer.value, 'time')} would give {100 * _WAY:g} % of it"
    )
