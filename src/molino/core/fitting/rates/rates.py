"""Rates, derived from concentrations over time, initial slopes or a differential reactor."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from molino.core.annotations import ByName
from molino.core.errors import Faults, InputError, nearest
from molino.core.fitting.experiment import Experiment
from molino.core.fitting.experiments import Experiments
from molino.core.fitting.rates.power_law import PowerLaw, power_law
from molino.core.fitting.rates.rate_data import RateData, Slopes
from molino.core.fitting.rates.rate_slopes import differentiate, measured, series
from molino.core.units import QuantityLike

METHODS = ("spline", "differences")
_Row = tuple[Experiment, np.ndarray, np.ndarray, Mapping[str, np.ndarray]]
"""A run with times, slopes and concentrations."""


@dataclass(frozen=True, eq=False)
class Rates(RateData):
    """Rates at known concentrations.

    Attributes
    ----------
    rate : array of mol/m^3/s (or per kg or m^2 of catalyst), shape (points,)
        Of `species`: rate of consumption of a reactant, of formation of a product.
    concentrations : mapping of species to array of mol/m^3, shape (points,)
    species : str
        The species of the rate; empty for a single reaction.
    T : array of K, shape (points,), optional
    run : tuple of str, shape (points,)
    time : array of s, shape (points,); nan without a time
    kind : str
        "rate", "rate per catalyst mass" or "rate per area".
    source : str
        The source of the data, for messages.
    show : mapping of kind to unit
        Units of results.
    how : str
        The origin of the rates, in words.
    slopes : tuple of Slopes
        The curves that they are derived from.
    notes : tuple of str
        Notes on the reading of their table.

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> rates = mo.Rates([0.2, 0.4, 0.8], {"A": [100.0, 200.0, 400.0]})
    >>> len(rates.rate)
    3
    """

    @classmethod
    def from_curves(
        cls,
        runs: Experiments | Experiment | Sequence[Experiment],
        species: str,
        method: str = "spline",
        smoothing: QuantityLike | None = None,
    ) -> Rates:
        """Rates as slopes of concentration over time in batch runs.

        "spline": a cubic smoothing spline, its smoothing by robust generalised cross-validation or as given;
        at each sample. "differences": differences of three
        neighbours, exact for a parabola. Other species come from their own spline or measurement at that time.

        Parameters
        ----------
        runs : Experiments, or runs
        species : str
        method : "spline" or "differences"
        smoothing : float, optional
            Weight of roughness, for times relative to the length of the run.

        Raises
        ------
        InputError
            For an unknown species, or a run with fewer than five (spline) or three samples.
        """
        data, named = measured(runs, species)
        if method not in METHODS:
            raise InputError(f"'{method}' is not a way to find slopes", "method", nearest(method, METHODS))
        fewest = 5 if method == "spline" else 3
        faults = Faults()
        found, rows = [], []
        for run in named:
            times, values = series(run, species)
            if len(times) < fewest:
                faults.add(f"run {run.name}", f"{len(times)} samples of {species}", f"at least {fewest} are needed")
                continue
            curve, slope, weight = differentiate(times, values, method, smoothing)
            found.append(Slopes(run.name, times, values, times, curve, slope, weight))
            others = {s: _interpolated(run, s, times) for s in _followed(run)}
            rows.append((run, times, slope, {**others, species: np.maximum(curve, 0.0)}))
        faults.raise_any(data.source)
        word = "smoothing spline" if method == "spline" else "differences of three neighbours"
        return cls._of(data, species, rows, f"slopes of {word}", tuple(found))

    @classmethod
    def initial(cls, runs: Experiments | Experiment | Sequence[Experiment], species: str, within: float = 0.1) -> Rates:
        """Initial rates: the slope of a parabola through the start of each run, while conversion is small.

        The samples up to a conversion (for a product, up to that fraction of the largest reactant) of `within` are
        used, at least three; with fewer than four by a straight line.

        Raises
        ------
        InputError
            If a run has fewer than three samples, including the start.
        """
        data, named = measured(runs, species)
        faults = Faults()
        found, rows = [], []
        for run in named:
            times, values = series(run, species, start=True)
            if len(times) < 3:
                faults.add(f"run {run.name}", f"{len(times)} samples of {species}", "at least 3 are needed")
                continue
            top = max([abs(values[0]), *run.charge.values()])
            early = np.abs(values - values[0]) <= within * top
            used = max(3, int(np.argmin(early)) if not early.all() else len(early))
            t, c = times[:used], values[:used]
            fitted = np.polynomial.Polynomial.fit(t, c, 2 if used >= 4 else 1)
            slope = float(fitted.deriv()(t[0]))
            found.append(Slopes(run.name, times, values, t, fitted(t), np.array([slope])))
            rows.append((run, t[:1], np.array([slope]), {s: np.array([c]) for s, c in run.charge.items()}))
        faults.raise_any(data.source)
        return cls._of(data, species, rows, f"initial slopes, to a conversion of {within:g}", tuple(found))

    @classmethod
    def differential(cls, runs: Experiments | Experiment | Sequence[Experiment], species: str) -> Rates:
        """Rates from outlets of a differential reactor or a stirred tank: (in - out) / space time.

        In a stirred tank the rate is that at the outlet; in a short tube that at the mean of inlet and outlet, which
        holds for small conversion (O. Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, chapter 18).

        Raises
        ------
        InputError
            If a run is a batch.
        """
        data, named = measured(runs, species)
        rows = []
        for run in named:
            if run.vessel == "batch":
                raise InputError("a batch has no outlet", f"run {run.name}", "use Rates.from_curves, or Rates.initial")
            seen = np.isfinite(run.measured[species])
            times, out = run.times[seen], run.measured[species][seen]
            slope = (out - run.charge.get(species, 0.0)) / times
            here = {}
            for s in run.charge.keys() | run.measured.keys():
                fed = run.charge.get(s, 0.0)
                leaving = run.measured[s][seen] if s in run.measured else np.full(len(times), fed)
                leaving = np.where(np.isfinite(leaving), leaving, fed)
                here[s] = leaving if run.vessel == "stirred tank" else (fed + leaving) / 2
            rows.append((run, times, slope, here))
        return cls._of(data, species, rows, "(in - out) / space time", ())

    @classmethod
    def _of(
        cls,
        data: Experiments,
        species: str,
        rows: Sequence[_Row],
        how: str,
        slopes: tuple[Slopes, ...],
    ) -> Rates:
        slope = np.concatenate([s for _, _, s, _ in rows])
        names = [n for n in rows[0][3] if all(n in c for *_, c in rows)]
        known = all(run.T is not None for run, *_ in rows)
        limits = sum(int((run.limits(species) != 0).sum()) for run, *_ in rows if species in run.measured)
        note = f"{limits} limit{'s' * (limits != 1)} of {species} not used in slopes: fit the runs themselves"
        return cls(
            slope if slope.sum() > 0 else -slope,
            {n: np.concatenate([np.broadcast_to(c[n], t.shape) for _, t, _, c in rows]) for n in names},
            species,
            np.concatenate([np.full(len(t), run.T) for run, t, *_ in rows]) if known else None,
            tuple(run.name for run, t, *_ in rows for _ in t),
            np.concatenate([t for _, t, *_ in rows]),
            source=data.source,
            show=data.show,
            how=how,
            slopes=slopes,
            notes=(note,) if limits else (),
        )

    @classmethod
    def from_dict(cls, given: ByName) -> Rates:
        """The rates of `to_dict`, without the curves that they are derived from."""
        known = {name: value for name, value in given.items() if value is not None}
        return cls(**{**known, "run": tuple(known.get("run", ()))})

    def power_law(self, *species: str | Sequence[str]) -> PowerLaw:
        """ln r = ln k + sum of n_i ln c_i (- Ea/R (1/T - 1/T_mean)) by multiple linear regression.

        (H. S. Fogler, Elements of Chemical Reaction Engineering, 5th ed. 2016, section 7.) The activation energy is
        fitted if there are several temperatures.

        Parameters
        ----------
        species : str, or a sequence of str
            The species whose orders are fitted; by default all whose concentration varies.

        Raises
        ------
        InputError
            For an unknown concentration, too few rates above zero, or concentrations that vary together.
        """
        return power_law(self, [name for one in species for name in ((one,) if isinstance(one, str) else one)])


def _followed(run: Experiment) -> list[str]:
    return list(run.charge.keys() | run.measured.keys())


def _interpolated(run: Experiment, species: str, times: np.ndarray) -> np.ndarray:
    """A concentration at given times: measured (with linear interpolation), or the charge."""
    if species not in run.measured:
        return np.full(len(times), run.charge[species])
    t, c = series(run, species, start=True)
    return np.asarray(np.interp(times, t, c))
