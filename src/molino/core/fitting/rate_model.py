"""Rate laws as functions of measured concentrations, with derivatives."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import sympy as sp

from molino.core.balances.source import Generated, build
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.constants import parameter_symbol
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE, concentration, species_in
from molino.core.chemistry.reaction import BASES
from molino.core.chemistry.symbolic_network import SymbolicNetwork
from molino.core.errors import Faults, InputError, SolveError, nearest
from molino.core.fitting.rates.rates import Rates
from molino.core.frozen import Frozen
from molino.core.unit_tables import GAS_CONSTANT


@lru_cache(maxsize=64)
def _compiled(network: SymbolicNetwork, species: str) -> tuple[Generated, Generated, tuple[sp.Symbol, ...]]:
    """make(parameters) of the rate of a species (or of the single reaction), and of its derivatives, over columns."""
    symbols = (*(concentration(s) for s in network.species), TEMPERATURE)
    parameters = tuple(parameter_symbol(name) for name in network.parameters)
    total = sp.Add(*symbols[:-1])
    swap: dict[sp.Symbol, sp.Expr] = {PRESSURE: total * GAS_CONSTANT * TEMPERATURE}
    for symbol in network.symbols:
        kind = species_in(symbol)
        if kind is not None and kind[0] == "p":
            swap[symbol] = concentration(kind[1]) * GAS_CONSTANT * TEMPERATURE
        if kind is not None and kind[0] == "x":
            swap[symbol] = concentration(kind[1]) / total
        if kind is not None and kind[0] in ("a", "f"):
            message = f"the rate law needs {symbol}, which follows from a model of the fluid"
            raise InputError(message, "rates", "write it with concentrations, or fit runs of a vessel")
    laws = [rate.xreplace(swap) for rate in network.rates]
    if species:
        row = network.species.index(species)
        net = {j: moles for j, column in enumerate(network.stoichiometry) for i, moles in column if i == row}
        sign = 1 if next(iter(net.values())) > 0 else -1
        law = sp.Add(*(sign * sp.Rational(moles) * laws[j] for j, moles in net.items()))
    else:
        law = laws[0]
    nothing = sp.Dummy("nothing")
    make = build({}, [law], symbols, nothing, parameters, array=True)
    slopes = build({}, [law.diff(p) for p in parameters], symbols, nothing, parameters, array=True)
    return make, slopes, parameters


@dataclass(frozen=True, eq=False)
class RateModel(Frozen):
    """Rate laws at given concentrations and temperatures."""

    network: SymbolicNetwork | None
    species: str
    columns: np.ndarray
    """Concentrations of every species, then temperature; shape (species + 1, points)."""
    numbers: np.ndarray
    """Every parameter of the chemistry."""
    places: np.ndarray
    """Whether each is fitted."""

    @classmethod
    def empty(cls) -> RateModel:
        return cls(None, "", np.zeros((1, 0)), np.zeros(0), np.zeros(0, dtype=int))

    @classmethod
    def of(cls, chemistry: Chemistry, data: Rates) -> RateModel:
        """The rate laws of a chemistry at the concentrations of the data; InputError if they are incompatible."""
        faults = Faults()
        network = chemistry.network
        if data.species and data.species not in chemistry.names:
            faults.add(
                "", f"'{data.species}' is not a species of the chemistry", nearest(data.species, chemistry.names)
            )
        elif data.species and not any(data.species in r.equation.net for r in chemistry.reactions):
            faults.add("", f"no reaction consumes or forms {data.species}", "name a reactant or a product")
        if not data.species and len(chemistry.reactions) > 1:
            faults.add("", f"{len(chemistry.reactions)} reactions for a single rate", "name the species: 'rate of A'")
        asked = {s for r in chemistry.reactions for s in r.asks}
        for name in sorted(asked - data.concentrations.keys()):
            faults.add("", f"a rate law needs [{name}], which the data do not have", "add a column for it")
        kinds = {BASES[r.basis] for r in chemistry.reactions}
        if kinds != {data.kind}:
            faults.add(
                "", f"the data contain a {data.kind}, the rate laws a {' and a '.join(sorted(kinds))}", "set basis"
            )
        for name in [p.name for p in chemistry.enthalpies if p.unknown]:
            faults.add("", f"no rate depends on {name}", "give it as a number, or fit it to thermal data")
        if network.by_temperature and data.T is None:
            faults.add("", "no temperature is given, and a rate law depends on it", "add a column T [degC]")
        faults.raise_any()
        count = len(data.rate)
        columns = [data.concentrations.get(s, np.zeros(count)) for s in network.species]
        columns.append(data.T if data.T is not None else np.full(count, np.nan))
        names = [p.name for p in chemistry.parameters]
        places = [names.index(p.name) for p in chemistry.unknowns]
        numbers = np.array([p.value for p in chemistry.parameters])
        return cls(network, data.species, np.array(columns), numbers, np.array(places, dtype=int))

    def rough(self) -> RateModel:
        return self

    plain = rough

    def __call__(self, parameters: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        assert self.network is not None
        make, slopes, _ = _compiled(self.network, self.species)
        numbers = self.numbers.copy()
        numbers[self.places] = parameters
        count = self.columns.shape[1]
        with np.errstate(all="ignore"):
            (value,) = make(numbers.tolist())(self.columns, 0.0)
            rows = slopes(numbers.tolist())(self.columns, 0.0)
        values = np.broadcast_to(np.asarray(value, dtype=float), (count,))
        whole = np.array([np.broadcast_to(np.asarray(row, dtype=float), (count,)) for row in rows]).T
        if not np.isfinite(values).all():
            worst = int(np.argmax(~np.isfinite(values)))
            raise SolveError(f"the rate law has no finite value at observation {worst + 1}", "rates", "other guesses")
        return values, np.nan_to_num(whole)[:, self.places]
