"""The effect of uncertain constants and conditions on a metric: draws, quantiles, sources of the spread.

Fitted constants are drawn from the multivariate Student t distribution of their covariance, or from refits to resampled
data, widened in the same way; conditions from normal distributions; by Sobol' points (scrambled; A. B. Owen, J.
Complexity 14 (1998) 466), which fill the space more evenly than random ones.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, fields, is_dataclass
from functools import cached_property

import numpy as np
import scipy

from molino.core import units
from molino.core.annotations import ByName, PlainData
from molino.core.arguments import checked
from molino.core.contract.metric import Metric
from molino.core.contract.metrics import read_metric
from molino.core.contract.vessel import Vessel
from molino.core.design.sweeping import computed
from molino.core.errors import Faults, InputError
from molino.core.frozen import Frozen
from molino.core.parallel import Workers, using
from molino.core.results import Result, Table, frame
from molino.core.trains.train import Train
from molino.core.unit_tables import SI_UNITS
from molino.core.units import Value

_DRAWS, _DRAWS_ALONE = 1024, 256
"""Number of draws for a probability: of vessels that are run together, and of those that are run one by one."""
_SHARES = 512
"""Draws of each of the samples from which sensitivity indices are estimated."""
_NEXT_TO_ZERO = 1e-3
"""Smallest draw of a number that cannot be negative, as a fraction of its mean."""
_TOGETHER = 0.3
"""Constants with a larger correlation have a common part of the spread; a smaller one is ignored."""


@dataclass(frozen=True, eq=False)
class UncertainNumbers(Frozen):
    """The uncertain numbers of a vessel.

    Attributes
    ----------
    names : tuple of str
        As `with_` takes them; constants first.
    means : array, shape (names,)
        In SI.
    covariance : array, shape (names, names)
    degrees_of_freedom : float
        Of the fit that gave the constants; inf without one.
    fitted : int
        Number of constants of a fit among them.
    is_positive : array of bool, shape (names,)
        Numbers that cannot be negative: draws below zero are replaced by a small positive number.
    refits : array, shape (refits, constants), or None
        Constants from fits to resampled data, from which draws are made; None for draws from a distribution.
    """

    names: tuple[str, ...]
    means: np.ndarray
    covariance: np.ndarray
    degrees_of_freedom: float
    fitted: int
    is_positive: np.ndarray
    refits: np.ndarray | None = None

    @classmethod
    def of(cls, vessel: Vessel | Train, spread: ByName | None = None) -> UncertainNumbers:
        """The fitted constants of a vessel, and other numbers with their standard deviations.

        Raises
        ------
        InputError
            If there are none, or with all faults of a spread.
        """
        first = vessel.vessels[0]
        held = vessel.chemistry.covariance
        constants = [first.spec.constant_name(name) for name in held.names] if held is not None else []
        faults, deviations = Faults(), _given_deviations(vessel)
        for name, given in (spread or {}).items():
            with faults.at(f"spread, {name}"):
                setting = vessel.spec.condition(name)
                if name in constants:
                    raise InputError("its spread is that of the fit", "", "leave it out here")
                if not np.isfinite(setting.own):
                    raise InputError("it is not given", "", "give it to the vessel")
                if name.startswith("["):
                    value, form = setting.read(given)
                    if form != setting.form:
                        message = f"'{given}' is not in the form in which {name} is given"
                        raise InputError(message, "", f"give it as {first.spec.contents()[name[1:-1]]} is")
                elif setting.form in SI_UNITS:
                    value = units.read_difference(given, setting.form, name)
                else:
                    value = units.read(given, name=name).si
                if value <= 0:
                    raise InputError(f"{given} is not a standard deviation", "", "give one above zero")
                deviations[name] = value
        faults.raise_any()
        if not constants and not deviations:
            message = "it has no uncertain numbers"
            advice = "take the chemistry of a fit (fit.chemistry), write flow='12 +- 1 m3/h', or give spread"
            raise InputError(message, vessel.label, advice)
        count = len(constants)
        covariance = np.zeros((count + len(deviations),) * 2)
        if held is not None:
            covariance[:count, :count] = np.asarray(held.matrix)
        covariance[range(count, len(covariance)), range(count, len(covariance))] = np.square([*deviations.values()])
        names = (*constants, *deviations)
        means = np.array([vessel.spec.condition(name).own for name in names])
        degrees = float(held.degrees_of_freedom) if held is not None else np.inf
        is_positive = np.array([vessel.spec.condition(name).form != "constant" for name in names])
        refits = held.refits if held is not None else None
        return cls(names, means, covariance, degrees, count, is_positive, refits)

    @cached_property
    def _factor(self) -> np.ndarray:
        """F with F F' the covariance, also of perfectly correlated constants; computed from correlations, since
        variances in SI differ by many decades."""
        size = np.sqrt(np.diag(self.covariance))
        values, vectors = np.linalg.eigh(self.covariance / np.outer(size, size))
        return np.asarray(size[:, None] * vectors * np.sqrt(np.maximum(values, 0.0)))

    def at(self, normal: np.ndarray, chance: np.ndarray) -> np.ndarray:
        """Draws from independent standard normal numbers, shape (draws, names), and a uniform number each (0 to 1),
        which widens those of the constants to Student's t."""
        away = normal @ self._factor.T
        if self.refits is not None:  # the first of their numbers selects the refit
            places = np.minimum((scipy.special.ndtr(normal[:, 0]) * len(self.refits)).astype(int), len(self.refits) - 1)
            away[:, : self.fitted] = self.refits[places] - self.means[: self.fitted]
        if np.isfinite(self.degrees_of_freedom) and self.fitted:
            dof = self.degrees_of_freedom
            quantiles = scipy.special.chdtri(dof, np.clip(chance, 1e-12, 1 - 1e-12))
            away[:, : self.fitted] *= np.sqrt(dof / quantiles)[:, None]
        found = self.means + away
        return np.asarray(np.where(self.is_positive, np.maximum(found, _NEXT_TO_ZERO * self.means), found))

    def draws(self, count: int, seed: int) -> np.ndarray:
        """Draws in SI, shape (count, names)."""
        from scipy.stats import qmc

        points = qmc.Sobol(len(self.names) + 1, seed=seed).random(count)
        points = np.clip(points, 1e-12, 1 - 1e-12)
        return self.at(scipy.special.ndtri(points[:, :-1]), points[:, -1])

    def groups(self) -> list[list[int]]:
        """Groups of numbers that are independent of all numbers outside the group."""
        size = np.sqrt(np.diag(self.covariance))
        related = np.abs(self.covariance / np.outer(size, size)) > _TOGETHER
        if self.refits is not None:
            related[: self.fitted, : self.fitted] = True
        left, found = set(range(len(self.names))), []
        while left:
            group: set[int] = set()
            new = {min(left)}
            while new:
                group |= new
                new = {int(j) for i in new for j in np.flatnonzero(related[i])} - group
            found.append(sorted(group))
            left -= group
        return found


def _given_deviations(vessel: Vessel | Train) -> dict[str, float]:
    """Given standard deviations in SI, by the names of conditions.

    Raises
    ------
    InputError
        For a standard deviation that does not belong to a condition of the vessel.
    """
    found, taken = {}, set()
    settings = sorted(
        vessel.spec.conditions.values(), key=lambda s: s.name == "T"
    )  # after "feed T", which may be the same
    for setting in settings:
        if setting.value is not None and setting.value.deviation and id(setting.value) not in taken:
            found[setting.name] = setting.value.deviation
            taken.add(id(setting.value))
    left = [str(value) for value in _values_in(vessel, set()) if value.deviation and id(value) not in taken]
    if left:
        message = f"{', '.join(left)}: the standard deviation does not belong to a condition of the vessel"
        raise InputError(message, vessel.label, "leave it out, or give the number directly to the vessel")
    return found


def _values_in(held: object, seen: set[int]) -> Iterator[Value]:
    """Every value in an object, its fields and their contents, each once."""
    if id(held) in seen or isinstance(held, str | int | float) or held is None:
        return
    seen.add(id(held))
    if isinstance(held, Value):
        yield held
    elif isinstance(held, Mapping):
        for one in held.values():
            yield from _values_in(one, seen)
    elif isinstance(held, list | tuple):
        for one in held:
            yield from _values_in(one, seen)
    elif is_dataclass(held):
        for field in fields(held):
            if field.name != "chemistry":
                yield from _values_in(getattr(held, field.name), seen)


def check_confidence(
    vessel: Vessel | Train, confidence: object, spread: ByName | None, sought: Iterable[str] = ()
) -> None:
    """Raise InputError for an invalid confidence, a spread without one, or a number that is both free and uncertain."""
    if confidence is None:
        if spread:
            raise InputError("a spread is given without a confidence", vessel.label, "give confidence=0.95, too")
        return
    if isinstance(confidence, bool) or not isinstance(confidence, int | float) or not 0.5 <= confidence <= 0.999:
        raise InputError(f"confidence = {confidence!r}", vessel.label, "give a probability from 0.5 to 0.999")
    for name in sought:
        value = vessel.spec.conditions[name].value if name in vessel.spec.conditions else None
        if name in (spread or {}) or (value is not None and value.deviation):
            raise InputError(f"{name} is both free and uncertain", vessel.label, "it cannot be both")
    if not vessel.chemistry.unknowns:  # those of a fit to come are uncertain
        UncertainNumbers.of(vessel, spread)


def draws_for(vessel: Vessel | Train) -> int:
    """The number of draws for a probability of this vessel."""
    is_alone = not isinstance(vessel, Vessel) or vessel.spec.has_segments or bool(vessel.spec.model.balances.conditions)
    return _DRAWS_ALONE if is_alone else _DRAWS


def drawn_metric(vessel: Vessel | Train, uncertain: UncertainNumbers, rows: np.ndarray, metric: Metric) -> np.ndarray:
    """A metric in SI for each draw, shape (draws,); nan where the vessel cannot be run."""
    return computed(vessel, uncertain.names, rows, metric)


def share_reaching(values: np.ndarray, target: float, sign: float) -> float:
    """The fraction of draws that reach a target (from below for a positive sign); those without a value do not."""
    with np.errstate(invalid="ignore"):
        return float(np.mean(sign * (values - target) >= 0))


def margin(values: np.ndarray, target: float, sign: float, confidence: float) -> float:
    """The margin by which all but a fraction 1 - confidence of the draws pass a target; negative if they do not."""
    passed = np.sort(np.where(np.isfinite(values), sign * (values - target), -np.inf))
    place = (1 - confidence) * len(passed) - 0.5
    low = int(np.clip(np.floor(place), 0, len(passed) - 2))
    if not np.isfinite(passed[low]):
        return -np.inf
    return float(passed[low] + (place - low) * (passed[low + 1] - passed[low]))


@dataclass(frozen=True, eq=False)
class SpreadSources(Frozen, Result):
    """The sources of the spread of a metric.

    Attributes
    ----------
    metric : Metric
    sources : tuple of str
        Uncertain numbers; correlated ones are grouped.
    linear : array, shape (sources,)
        Fractions of the variance by the derivatives (propagation of error); their sum is one.
    first, total : arrays, shape (sources,)
        Sobol' indices: of each source alone, and with its interactions.
    standard_deviation : float
        Of the metric over the draws, in SI.
    vessel : Vessel or Train

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> tube = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L", T="300 K")
    >>> sources = mo.spread_sources(tube, "conversion of A", spread={"flow": "0.1 L/min", "r1.k": "0.01 1/min"})
    >>> sources.sources, sources.linear.round(2).tolist()
    (('flow', 'r1.k'), [0.8, 0.2])
    """

    metric: Metric
    sources: tuple[str, ...]
    linear: np.ndarray
    first: np.ndarray
    total: np.ndarray
    standard_deviation: float
    vessel: Vessel | Train

    def table(self) -> Table:
        """One row per source, the largest first."""
        order = np.argsort(-self.total)
        return frame(
            {
                "source": [self.sources[i] for i in order],
                "linear": self.linear[order],
                "first order": self.first[order],
                "total": self.total[order],
            }
        )

    def facts(self) -> dict[str, str]:
        """The spread, and its largest source."""
        spread = self.vessel.spec.display.text(self.standard_deviation, self.metric.kind, 3)
        worst = int(np.argmax(self.total))
        return {
            f"standard deviation of {self.metric}": spread,
            "largest source": f"{self.sources[worst]} ({100 * self.total[worst]:.0f} %)",
        }

    def to_dict(self) -> PlainData:
        """Plain data: fractions by source."""
        return {
            "metric": str(self.metric),
            "standard_deviation_si": self.standard_deviation,
            "sources": {
                name: {"linear": float(a), "first_order": float(b), "total": float(c)}
                for name, a, b, c in zip(self.sources, self.linear, self.first, self.total, strict=True)
            },
        }

    def __str__(self) -> str:
        lines = [f"{name}: {text}" for name, text in self.facts().items()]
        return "\n".join([*lines, self.table().to_string(index=False, float_format=lambda x: f"{x:.3f}")])


@checked
def spread_sources(
    vessel: Vessel | Train,
    metric: Metric | str,
    spread: ByName | None = None,
    seed: int = 0,
    workers: Workers = None,
) -> SpreadSources:
    """Find the sources of the spread of a metric of a vessel: its fitted constants, and other uncertain conditions.

    Parameters
    ----------
    vessel : Batch, SemiBatch, StirredTank, PlugFlow or Train
    metric : Metric or str
    spread : mapping of condition to quantity, optional
        Standard deviations of other conditions: {"flow": "1 m3/h", "T": "2 K"}.
    seed : int
        Of the draws.
    workers : int, "all", Executor or Client of `distributed`, optional
        A number of processes; by default all cores, if it takes long. The numbers do not depend on the workers.

    Returns
    -------
    SpreadSources

    Raises
    ------
    InputError
        If the vessel has no uncertain numbers, or with all faults of the question.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> tube = mo.PlugFlow(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L", T="300 K")
    >>> print(mo.spread_sources(tube, "conversion of A", spread={"flow": "0.1 L/min"}).sources)
    ('flow',)
    """
    asked = read_metric(metric)
    vessel.spec.expression(asked)
    with using(workers):
        return find_sources(vessel, asked, UncertainNumbers.of(vessel, spread), seed)


def find_sources(vessel: Vessel | Train, metric: Metric, uncertain: UncertainNumbers, seed: int) -> SpreadSources:
    """Fractions by derivatives, and Sobol' indices: total ones by M. J. W. Jansen, Comput. Phys. Commun. 117 (1999) 35,
    of first order by A. Saltelli and others, Comput. Phys. Commun. 181 (2010) 259."""
    groups = uncertain.groups()
    run = vessel.run()
    slope = np.array(run.slopes((metric,), uncertain.names))[0]
    parts = slope * (uncertain.covariance @ slope)
    linear = np.array([float(parts[group].sum()) for group in groups]) / max(float(parts.sum()), 1e-300)
    count = len(uncertain.names)
    from scipy.stats import qmc

    points = np.clip(qmc.Sobol(2 * count, seed=seed).random(_SHARES), 1e-12, 1 - 1e-12)
    both = scipy.special.ndtri(points)
    calm = np.full(_SHARES, 0.5)  # independent uniform numbers would be one more source
    one, other = (uncertain.at(part, calm) for part in (both[:, :count], both[:, count:]))
    mixed = []
    for group in groups:
        rows = one.copy()
        rows[:, group] = other[:, group]
        mixed.append(rows)
    values = drawn_metric(vessel, uncertain, np.vstack([one, other, *mixed]), metric).reshape(-1, _SHARES)
    seen = np.isfinite(values).all(axis=0)
    if seen.sum() < _SHARES // 2:
        raise InputError("most draws cannot be run", vessel.label, "the spread is too large for shares of it")
    values = values[:, seen]
    variance = float(np.var(values[:2]))
    size = max(variance, 1e-300)
    total = np.array([float(np.mean((values[0] - v) ** 2)) / 2 for v in values[2:]]) / size
    centered = values[1] - values[:2].mean()
    first = np.array([float(np.mean(centered * (v - values[0]))) for v in values[2:]]) / size
    total, first = (np.where(np.abs(share) < 1e-9, 0.0, share) for share in (total, first))  # rounding
    names = tuple(", ".join(uncertain.names[i] for i in group) for group in groups)
    return SpreadSources(metric, names, linear, first, total, float(np.sqrt(variance)), vessel)
