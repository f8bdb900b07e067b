"""Conversion in a vessel of known residence time distribution: segregation and maximum mixedness."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import scipy

from molino.core.annotations import PlainData
from molino.core.arguments import checked
from molino.core.balances.compiled import compiled
from molino.core.balances.engines import start
from molino.core.chemistry.formula import concentration
from molino.core.display import Display
from molino.core.errors import InputError, SolveError
from molino.core.frozen import Frozen
from molino.core.mixing.distribution import ResidenceTimeDistribution
from molino.core.results import Result, Table, entry, frame, in_columns, plain_dict
from molino.core.runs.run import Run
from molino.core.vessels.batch import Batch

_NORMAL = 1.959963984540054
_ALIKE = 1e-4
_EMPTY = 1e-8
"""Fraction of the flow beyond which a distribution is cut."""


@dataclass(frozen=True, eq=False)
class MixingBounds(Frozen, Result):
    """The outlet of a vessel of known residence time distribution, segregated and at maximum mixedness.

    In segregated flow, fluid elements are small batches, c = integral of c_batch(t) E(t) dt (P. V. Danckwerts, Chem.
    Eng. Sci. 8 (1958) 93). At maximum mixedness it mixes as early as the distribution allows, dc/dl = -r + (c - c_0)
    E(l)/(1 - F(l)) over the life expectancy, from infinity to 0 (Th. N. Zwietering, Chem. Eng. Sci. 11 (1959) 1). For a
    single reaction of an order other than one the two are the bounds of the conversion.

    Attributes
    ----------
    batch : Batch
    distribution : ResidenceTimeDistribution
    segregated, mixed : mapping of species to float
        Concentrations of the outlet, in mol/m^3; `mixed` is empty if the batch is not isothermal.
    deviations : mapping of species to float
        Standard deviations of the segregated ones, from the noise of the test.
    ideal : mapping of str to mapping
        Concentrations of plug flow and of a mixed tank of the same mean residence time.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.1 1/min"))
    >>> batch, distribution = mo.Batch(chem, {"A": "1 mol/L"}), mo.mixing.TanksInSeries(2).distribution("10 min")
    >>> found = mo.mixing.mixing_bounds(batch, distribution)
    >>> round(found.conversion("A"), 4)
    0.5556
    """

    batch: Batch
    distribution: ResidenceTimeDistribution
    segregated: dict[str, float]
    mixed: dict[str, float]
    deviations: dict[str, float]
    ideal: dict[str, dict[str, float]]

    @property
    def display(self) -> Display:
        """The units of results."""
        return self.batch.spec.display

    def _fed(self, species: str) -> float:
        fed = float(self.batch.spec.fed.concentrations.get(species, 0.0))
        if species not in self.batch.chemistry.names or not fed > 0:
            raise InputError(f"{species} is not fed", self.batch.label, "name a species that is charged")
        return fed

    def conversion(self, species: str, mixedness: str = "segregated") -> float:
        """Of a species, "segregated", "maximum mixedness", "plug flow" or "mixed tank".

        Raises
        ------
        InputError
            If it is not fed, or the mixedness is unknown.
        """
        return 1 - self.concentrations(mixedness)[species] / self._fed(species)

    def concentrations(self, mixedness: str = "segregated") -> dict[str, float]:
        """Of every species of the outlet in mol/m^3; as for `conversion`."""
        known = {"segregated": self.segregated, "maximum mixedness": self.mixed, **self.ideal}
        if not known.get(mixedness):
            raise InputError(
                f"'{mixedness}' is not known",
                self.batch.label,
                f"one of {', '.join(n for n in known if known[n])}",
            )
        return known[mixedness]

    def interval(self, species: str) -> tuple[float, float]:
        """95 % interval of the segregated conversion, from the noise of the test."""
        at, half = self.conversion(species), _NORMAL * self.deviations[species] / self._fed(species)
        return at - half, at + half

    def order_in_words(self) -> str:
        """The upper bound of the conversion of the two, and the reason."""
        reactants = [s for s in self._reactants() if self.mixed]
        if not reactants:
            return ""
        gap = self.conversion(reactants[0]) - self.conversion(reactants[0], "maximum mixedness")
        if abs(gap) < _ALIKE:
            return "of first order (or nearly): the earliness of mixing has no effect"
        if len(self.batch.chemistry.reactions) > 1:
            return "several reactions: the earliness of mixing has an effect, and neither needs to be a bound"
        above = gap > 0
        if above:
            return "order above one: early mixing lowers the rate, so segregation is the upper bound"
        return "order below one: early mixing raises the rate, so maximum mixedness is the upper bound"

    def _reactants(self) -> list[str]:
        consumed = {i for column in self.batch.chemistry.network.stoichiometry for i, moles in column if moles < 0}
        fed = self.batch.spec.fed.concentrations
        return [s for i, s in enumerate(self.batch.chemistry.names) if i in consumed and fed.get(s, 0.0) > 0]

    def table(self) -> Table:
        """One row per kind of mixing: concentrations of the outlet, and conversions of the reactants."""
        rows = []
        for name in ("plug flow", "segregated", "maximum mixedness", "mixed tank"):
            try:
                held = self.concentrations(name)
            except InputError:
                continue
            row: PlainData = {"mixing": name}
            row |= {f"conversion of {s}": self.conversion(s, name) for s in self._reactants()}
            for s, c in held.items():
                row[self.display.heading(s, "concentration")] = float(self.display.number(c, "concentration"))
            rows.append(row)
        return frame(rows)

    def facts(self) -> dict[str, str]:
        """Conversions segregated (with the interval of the test) and at maximum mixedness, and the upper bound."""
        found = {}
        for s in self._reactants():
            text = f"{self.conversion(s):.4g} segregated"
            if self.deviations[s] > 0:
                low, high = self.interval(s)
                text += f" (95 %: {low:.4g} to {high:.4g})"
            if self.mixed:
                text += f", {self.conversion(s, 'maximum mixedness'):.4g} at maximum mixedness"
            text += "".join(f", {self.conversion(s, n):.4g} in {n}" for n in self.ideal)
            found[f"conversion of {s}"] = text
        return found | ({"mixing": words} if (words := self.order_in_words()) else {})

    def to_dict(self) -> PlainData:
        """Concentrations and conversions of each kind of mixing."""
        found: PlainData = {"mixing": self.order_in_words()}
        for name in ("plug flow", "segregated", "maximum mixedness", "mixed tank"):
            try:
                held = self.concentrations(name)
            except InputError:
                continue
            found[name.replace(" ", "_")] = {
                "concentrations": {s: entry(self.display, c, "concentration") for s, c in held.items()},
                "conversions": {s: self.conversion(s, name) for s in self._reactants()},
            }
        found["intervals"] = {s: list(self.interval(s)) for s in self._reactants()}
        return plain_dict(found)

    def __str__(self) -> str:
        return "\n".join([f"{self.batch.label} over a residence time distribution", *in_columns(self.facts())])


@checked
def mixing_bounds(batch: Batch, distribution: ResidenceTimeDistribution) -> MixingBounds:
    """Compute the conversion in a vessel of known residence time distribution.

    Parameters
    ----------
    batch : Batch
        Of a liquid, charged with the feed: its rate laws and its heat are those of each fluid element.
    distribution : ResidenceTimeDistribution
        From a tracer test, a flow model or a field.

    Returns
    -------
    MixingBounds

    Raises
    ------
    InputError
        If the batch holds a gas, or constants are unknown.
    SolveError
        If the integration fails.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^2", k="0.1 L/mol/min"))
    >>> batch, distribution = mo.Batch(chem, {"A": "1 mol/L"}), mo.mixing.TanksInSeries(2).distribution("20 min")
    >>> found = mo.mixing.mixing_bounds(batch, distribution)
    >>> print(found.order_in_words())
    order above one: early mixing lowers the rate, so segregation is the upper bound
    """
    batch.spec.require_known()
    if batch.is_gas or not batch.spec.phase.carries_volume or batch.gas is not None:
        message = "the distribution is of a liquid of constant density"
        raise InputError(message, batch.label, "charge a liquid without a model")
    at, share = distribution.shares
    names = batch.chemistry.names
    longest = float(at[share > 0].max())
    run = batch.with_(time=None).run(longest)

    def leaving(species: str) -> tuple[float, float]:
        def over(times: np.ndarray) -> np.ndarray:
            return _at(run, species, np.minimum(times, longest))

        return distribution.average(over)

    both = {s: leaving(s) for s in names}
    segregated = {s: mean for s, (mean, _) in both.items()}
    isothermal = batch.heat is None
    mixed = _maximum_mixedness(batch, distribution) if isothermal else {}
    ideal = {"plug flow": {s: float(_at(run, s, np.array([distribution.mean_si]))[0]) for s in names}}
    if isothermal:
        ideal["mixed tank"] = _mixed_tank(batch, distribution.mean_si)
    return MixingBounds(batch, distribution, segregated, mixed, {s: d for s, (_, d) in both.items()}, ideal)


def _at(run: Run, species: str, times: np.ndarray) -> np.ndarray:
    """Concentration of a species in a batch at some times."""
    order = np.argsort(times)
    states = run.trajectory.at(times[order])
    found = np.empty(len(times))
    found[order] = run.trajectory.evaluate((concentration(species),), times[order], states)[0]
    return found


def _rates(batch: Batch) -> Callable[[np.ndarray], np.ndarray]:
    """production(c) of an isothermal batch, shape (species,) in mol/(m^3 s)."""
    case = batch.with_(volume="1 m3").spec.case
    n = len(batch.chemistry.names)
    rhs = compiled(case.balances).outputs(case.balances.rhs[:n])(case.values)
    rest = start(case)[0][n:]

    def production(c: np.ndarray) -> np.ndarray:
        return np.array([float(np.ravel(x)[0]) for x in rhs(np.concatenate([np.maximum(c, 0.0), rest]), 0.0)])

    return production


def _maximum_mixedness(batch: Batch, distribution: ResidenceTimeDistribution) -> dict[str, float]:
    production, names = _rates(batch), batch.chemistry.names
    fed = np.array([float(batch.spec.fed.concentrations.get(s, 0.0)) for s in names])
    t, left = distribution.times, np.maximum(1 - distribution.F, _EMPTY)
    count = min(int(np.sum(left > _EMPTY)) + 1, len(t))
    last = float(t[count - 1])
    risk = scipy.interpolate.PchipInterpolator(
        t[:count], -np.log(left[:count])
    ).derivative()  # E/(1 - F), its integral exactly that of F

    def slope(x: float, c: np.ndarray) -> np.ndarray:  # x = last - life expectancy
        return np.asarray(production(c) - float(risk(last - x)) * (c - fed))

    rate = distribution.tail_rate if math.isfinite(distribution.tail_rate) else float(risk(last))
    begin = _rest(production, fed, max(rate, 1e-12 / max(last, 1e-300)))
    found = scipy.integrate.solve_ivp(
        slope, (0.0, last), begin, method="LSODA", rtol=1e-8, atol=1e-10 * max(fed.sum(), 1e-300), max_step=last / 200
    )
    if not found.success:
        raise SolveError(f"maximum mixedness: {found.message}", batch.label, "check the rate laws")
    end = found.y[:, -1]
    at_once = float(distribution.F[0])  # this part of the flow has not reacted
    return (
        dict(zip(names, (at_once * fed + (1 - at_once) * end).tolist(), strict=True))
        if at_once
        else dict(zip(names, end.tolist(), strict=True))
    )


def _rest(production: Callable[[np.ndarray], np.ndarray], fed: np.ndarray, rate: float) -> np.ndarray:
    """The steady state of dc/dt = production - rate (c - fed)."""
    found = scipy.integrate.solve_ivp(
        lambda t, c: production(c) - rate * (c - fed),
        (0.0, 60.0 / rate),
        fed,
        method="LSODA",
        rtol=1e-8,
        atol=1e-10 * max(fed.sum(), 1e-300),
    )
    return np.asarray(found.y[:, -1])


def _mixed_tank(batch: Batch, mean: float) -> dict[str, float]:
    fed = np.array([float(batch.spec.fed.concentrations.get(s, 0.0)) for s in batch.chemistry.names])
    return dict(zip(batch.chemistry.names, _rest(_rates(batch), fed, 1 / mean).tolist(), strict=True))
