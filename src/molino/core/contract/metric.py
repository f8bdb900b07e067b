"""A metric of an outlet or a run: its expression, and its requirements."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
import scipy
import sympy as sp

from molino.core.arguments import short
from molino.core.balances.system import TIME
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE, concentration as concentration_symbol
from molino.core.chemistry.symbolic_network import SymbolicNetwork
from molino.core.disk_cache import derived
from molino.core.errors import Faults, InputError, SolveError, nearest
from molino.core.terms.model import Model, StreamForm

OF_THE_WHOLE = {
    "temperature": "temperature",
    "pressure": "pressure",
    "duty": "power",
    "heat": "energy",
    "heat flow": "power",
    "batch time": "time",
    "volume": "volume",
    "catalyst mass": "mass",
    "volumetric flow": "volumetric flow",
    "molar flow": "molar flow",
    "mass flow": "mass flow",
    "amount": "amount",
    "mass": "mass",
    "coolant temperature": "temperature",
    "coolant outlet temperature": "temperature",
    "adiabatic rise": "temperature difference",
    "temperature after cooling failure": "temperature",
    "time to maximum rate": "time",
    "hot spot sensitivity": "number",
}
"""Metrics without a species, with their kind of quantity."""
_OF_A_WHOLE_RUN = (
    "adiabatic rise",
    "temperature after cooling failure",
    "time to maximum rate",
    "hot spot sensitivity",
)
"""Metrics that need more than the end of a run: a cooling failure, or neighboring runs."""
OF_A_SPECIES = {
    "conversion": "number",
    "yield": "number",
    "selectivity": "number",
    "concentration": "concentration",
    "fraction": "number",
    "mass fraction": "number",
    "molar flow": "molar flow",
    "mass flow": "mass flow",
    "amount": "amount",
    "mass": "mass",
    "production": "molar flow",
    "uptake": "amount",
    "absorption": "molar flow",
}
"""Metrics of a species, with their kind of quantity."""
PER = {"volume": "rate", "catalyst mass": "rate per catalyst mass"}
"""The bases of a production."""
FLOWING = {"volumetric flow", "molar flow", "mass flow"}
"""Metrics of streams, which a batch does not have."""
_HELD = {"amount": "molar flow", "mass": "mass flow"}
"""Metrics of a batch, and those of a stream in their place."""


@dataclass(frozen=True)
class Weights:
    """The data of metrics by mass, besides the balances.

    Attributes
    ----------
    molar_masses : mapping of species to float or None
        In kg/mol; None for a species with neither formula nor molar mass.
    bulk_density : expression, float or None
        Mass of catalyst per volume of vessel in kg/m^3; None without a catalyst.
    """

    molar_masses: Mapping[str, float | None]
    bulk_density: sp.Expr | float | None

    def of(self, amounts: Mapping[str, sp.Expr], what: str) -> dict[str, sp.Expr]:
        """Masses from amounts; InputError if a species has no molar mass."""
        missing = [s for s in amounts if self.molar_masses.get(s) is None]
        if missing:
            message = f"the molar mass of {', '.join(missing)} is unknown"
            raise InputError(message, what, "give a formula or molar_mass to these species")
        return {s: sp.Float(self.molar_masses[s]) * n for s, n in amounts.items()}

    def catalyst(self, volume: sp.Expr, what: str) -> sp.Expr:
        """The mass of catalyst in a volume; InputError if it is unknown."""
        if self.bulk_density is None:
            advice = "give catalyst=mo.Catalyst(bulk_density='850 kg/m3')"
            raise InputError("the mass of catalyst is unknown", what, advice)
        return sp.sympify(self.bulk_density) * volume


@dataclass(frozen=True)
class Metric:
    """A number by which a vessel is evaluated or observed; made by `conversion`, `yield_of` and so on, or read from its
    text.

    `what` is, of a species, "conversion", "yield", "selectivity", "concentration", "fraction" (mole fraction), "mass
    fraction", "molar flow" and "mass flow" (of a stream), "amount" and "mass" (in a batch) or "production" (formed per
    time; in a batch the mean since the start), "uptake" (supplied to a batch since the start, as a gas that is absorbed
    at constant pressure) or "absorption" (from a gas, per time); of the whole, "batch time", "temperature", "pressure",
    "duty" (of a flow vessel), "heat" (into a batch since the start), "heat flow" (into it at this moment), "volume" (of
    the contents; of a tube up to this point), "catalyst mass", "volumetric flow", "molar flow", "mass flow", "amount",
    "mass", "coolant temperature" or "coolant outlet temperature"; of the safety of a whole run (see `heat_safety`),
    "adiabatic rise", "temperature after cooling failure" and "time to maximum rate" of a batch or semi-batch, "hot spot
    sensitivity" of a tube. `stream` names another stream than the first ("permeate").

    Parameters
    ----------
    what : str
    species : str
        Empty of the whole.
    over, on : str, optional
        The by-product of a selectivity, and the reactant of a yield or selectivity.
    stream : str, optional
        Of a fraction or flow: the stream; by default the first.
    per : "volume" or "catalyst mass", optional
        Of a production.

    Examples
    --------
    >>> metric = mo.results.yield_of("B", on="A")
    >>> str(metric), metric.kind
    ('yield of B on A', 'number')
    """

    what: str
    species: str
    over: str | None = None
    on: str | None = None
    stream: str | None = None
    per: str | None = None

    def __post_init__(self) -> None:
        texts = {"what": self.what, "species": self.species, "over": self.over, "on": self.on, "stream": self.stream}
        faults = Faults()
        for name, text in texts.items():
            if not isinstance(text, str) and (text is not None or name in ("what", "species")):
                faults.add(f"metric, {name}", f"{short(text)} is not a name", "give the name of a species, like 'A'")
        faults.raise_any()
        known = OF_A_SPECIES if self.species else OF_THE_WHOLE
        if self.what not in known:
            faults.add("metric", f"unknown metric '{self.what}'", nearest(self.what, known))
        if self.per is not None and self.per not in PER:
            faults.add("metric", f"unknown production per {self.per!r}", nearest(str(self.per), PER))
        if (self.what == "yield" and not self.on) or (self.what == "selectivity" and not (self.on or self.over)):
            faults.add("metric", f"{self.what} of {self.species}: on which reactant?", "name the reactant with on='A'")
        faults.raise_any()

    @property
    def reactants(self) -> tuple[str, ...]:
        """The species that it refers to, which must be fed."""
        if self.what == "conversion":
            return (self.species,)
        return (self.on,) if self.on is not None else ()

    def require_fed(self, goes_in: Callable[[str], bool], label: str) -> None:
        """Raise InputError if a species that it refers to is not fed."""
        for species in self.reactants:
            if not goes_in(species):
                raise InputError(f"{self}: {species} is not fed", label, "name a reactant that is fed or charged")

    @property
    def kind(self) -> str:
        """The kind of quantity, for units."""
        if self.per is not None:
            return PER[self.per]
        return OF_A_SPECIES[self.what] if self.species else OF_THE_WHOLE[self.what]

    @property
    def takes_weights(self) -> bool:
        """Whether masses are needed that are not in the balances."""
        return "mass" in self.what or self.per == "catalyst mass"

    @property
    def is_of_a_whole_run(self) -> bool:
        """Whether it is not an expression of the outlet, but needs runs of its own."""
        return self.what in _OF_A_WHOLE_RUN

    def __str__(self) -> str:
        text = f"{self.what} of {self.species}" if self.species else self.what
        text += f" over {self.over}" if self.over else ""
        text += f" per {self.per}" if self.per else ""
        text += f" in {self.stream}" if self.stream else ""
        return text + (f" on {self.on}" if self.on else "")

    def expression(self, network: SymbolicNetwork, model: Model, weights: Weights) -> sp.Expr:
        """Over the states and parameters of a vessel.

        Raises
        ------
        InputError
            If a species is not in the chemistry, stoichiometry does not make the product from the reactant, or the
            vessel has no such quantity.
        """
        for name in (self.species, self.over, self.on):
            if name and name not in network.species:
                advice = nearest(name, network.species)
                raise InputError(f"'{name}' is not a species of the chemistry", str(self), advice)
        if self.is_of_a_whole_run:
            advice = "use it with a run, in compare or sweep, or as objective or limit of optimize"
            raise InputError(f"{self} follows only from a whole run", str(self), advice)
        self._check_flowing(model)
        if self.what in ("fraction", "mass fraction", "molar flow", "mass flow", "amount", "mass"):
            amounts = self._stream(model).amounts
            if not model.is_flowing:  # without the outflow
                amounts = {s: concentration_symbol(s) * model.volume for s in network.species}
            parts = weights.of(amounts, str(self)) if "mass" in self.what else amounts
            asked = parts[self.species] if self.species else sp.Add(*parts.values())
            return asked / sp.Add(*parts.values()) if "fraction" in self.what else asked
        if not self.species:
            return self._of_the_whole(model, weights)
        if self.what == "uptake":
            return self._uptake(model)
        if self.what == "absorption":
            if str(self) not in model.readings:
                raise InputError(f"no gas dissolves {self.species}", str(self), "give the vessel a gas")
            return model.readings[str(self)].expression
        inlet, outlet = model.inlet, model.outlet
        if self.what == "concentration":
            return concentration_symbol(self.species)
        if self.what == "conversion":
            return (inlet[self.species] - outlet[self.species]) / inlet[self.species]
        formed = outlet[self.species] - inlet[self.species]
        if self.what == "production":
            return self._per(formed if model.is_flowing else formed / model.balances.independent, model, weights)
        if self.what == "yield":
            assert self.on is not None
            return formed / (_most(network, self.species, self.on) * inlet[self.on])
        if self.over is None:
            assert self.on is not None
            return formed / (_most(network, self.species, self.on) * (inlet[self.on] - outlet[self.on]))
        source = self.on or _source(network, self.species, self.over)
        ratio = _most(network, self.over, source) / _most(network, self.species, source)
        return ratio * formed / (outlet[self.over] - inlet[self.over])

    def _uptake(self, model: Model) -> sp.Expr:
        """The amount of a species that was supplied since the start."""
        totals = {state.symbol: sp.Integer(0) for state, slope in model.totals if slope != 0}
        supplied = sp.expand(model.inlet[self.species] - model.inlet[self.species].xreplace(totals))
        if model.is_flowing or supplied == 0:
            message = f"no {self.species} is supplied during a batch"
            raise InputError(message, str(self), "give a batch a gas without a flow: gas=mo.GasPhase({'H2': '5 bar'})")
        return supplied

    def _check_flowing(self, model: Model) -> None:
        """Raise InputError for a flow of a batch, or an amount of a stream."""
        if self.what in FLOWING and not model.is_flowing:
            instead = next((held for held, flow in _HELD.items() if flow == self.what), "volume")
            raise InputError("nothing flows out of a batch", str(self), f"ask for its {instead}")
        if self.what in _HELD and model.is_flowing:
            raise InputError("a stream has a flow, not an amount", str(self), f"ask for its {_HELD[self.what]}")
        if self.what in ("duty", "heat") and (self.what == "duty") != model.is_flowing:
            instead = "'duty', in power" if model.is_flowing else "'heat' (in since the start)"
            raise InputError(f"this vessel has no {self.what}", str(self), f"ask for {instead}")

    def _of_the_whole(self, model: Model, weights: Weights) -> sp.Expr:
        """A metric without a species, of the vessel and not of a stream."""
        symbol = {"temperature": TEMPERATURE, "pressure": PRESSURE}.get(self.what)
        if symbol is not None:
            if symbol in model.balances.known:
                return symbol
            raise InputError(f"the {self.what} is unknown", str(self), f"give the {self.what}")
        if self.what == "batch time":
            if model.balances.independent == TIME and not model.is_flowing:
                return TIME
            raise InputError("a flow vessel has no batch time", str(self), "ask for its volume")
        if self.what == "volume":
            return self._volume(model)
        if self.what == "catalyst mass":
            return weights.catalyst(self._volume(model), str(self))
        if self.what == "volumetric flow":
            volume = self._stream(model).volume
            if volume is not None:
                return volume
            raise InputError("the volume of that stream is unknown", str(self), "ask for its molar flow")
        if self.what in model.readings:
            return model.readings[self.what].expression
        if self.what in ("duty", "heat", "heat flow"):
            if self.what != "heat flow" and model.duty is not None:
                return model.duty
            advice = "give heat capacities and enthalpies of formation, or an enthalpy to each reaction"
            raise InputError(f"the {self.what} is unknown", str(self), advice)
        raise InputError(f"this vessel has no {self.what}", str(self), f"it shows {', '.join(model.readings)}")

    def _per(self, rate: sp.Expr, model: Model, weights: Weights) -> sp.Expr:
        """A production per volume or catalyst mass."""
        if self.per is None:
            return rate
        volume = self._volume(model)
        return rate / (volume if self.per == "volume" else weights.catalyst(volume, str(self)))

    def _volume(self, model: Model) -> sp.Expr:
        if model.volume is None:
            message = "a vessel at a given conversion or at equilibrium has no volume"
            raise InputError(message, str(self), "ask for a flow of its outlet")
        return model.volume

    def _stream(self, model: Model) -> StreamForm:
        """The stream that it refers to."""
        names = [form.name for form in model.streams]
        if self.stream is None:
            return model.streams[0]
        if self.stream not in names:
            raise InputError(f"unknown stream '{self.stream}'", str(self), nearest(self.stream, names))
        return model.streams[names.index(self.stream)]


def _most(network: SymbolicNetwork, product: str, reactant: str) -> float:
    """The most moles of product that one mole of reactant can give, by the reaction equations.

    The largest amount formed by extents >= 0 of all reactions, from one mole of the reactant, none of the other species
    that reactions form (intermediates must be formed first), and any amount of the other reactants: a linear program,
    solved by `scipy.optimize.linprog`.
    """
    index, N = network.species.index, network.matrix.tolist()
    limited = [i for i, row in enumerate(N) if i == index(reactant) or max(row, default=0.0) > 0]
    wanted, key = index(product), f"most of {product} from {reactant} of {network.species} by {N}"
    most = derived(key, lambda: _largest(N, wanted, limited, index(reactant)))
    if most < 1e-9 or product == reactant:
        message = f"the reactions as written do not form {product} from {reactant}"
        raise InputError(message, "metric", "name a product and a reactant that leads to it")
    return most


def _largest(N: list[list[float]], wanted: int, limited: list[int], reactant: int) -> float:
    """The largest amount of a species formed, N x, if of the limited ones no more is consumed than is there; else 0."""
    if not N or not N[0]:  # with no reaction there is nothing to maximize
        return 0.0
    there = [1.0 if i == reactant else 0.0 for i in limited]
    found = scipy.optimize.linprog(-np.array(N[wanted]), -np.array([N[i] for i in limited]), there, method="highs")
    if found.status not in (0, 3):  # 3: unbounded, the reactant does not limit the product
        raise SolveError(f"the linear program failed ({found.message})", "metric", "check the reaction equations")
    return float(round(-found.fun, 12)) if found.status == 0 else 0.0


def _source(network: SymbolicNetwork, first: str, second: str) -> str:
    """The common reactant of both products: the first that no reaction forms, otherwise the first that leads to
    both."""
    coefficients = network.matrix
    order = sorted(network.species, key=lambda s: coefficients[network.species.index(s)].max(initial=0.0) > 0)
    for species in order:
        try:
            if species not in (first, second):
                _most(network, first, species)
                _most(network, second, species)
                return species
        except InputError:
            continue
    raise InputError(f"{first} and {second} have no common reactant", "metric", "name the reactant with on=")
