"""The balances of a vessel with its numbers, and metrics over them."""

from __future__ import annotations

import math
from collections.abc import Mapping
from functools import cached_property, lru_cache

import sympy as sp

from molino.core import units
from molino.core.balances.balance_symbols import INLET
from molino.core.balances.system import Case
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.contents.mixture_equations import Mixture
from molino.core.contract.medium import Medium
from molino.core.contract.metric import Metric, Weights
from molino.core.display import Display
from molino.core.dual import Number
from molino.core.errors import InputError
from molino.core.schema import given_values
from molino.core.terms.model import Model


@lru_cache(maxsize=4096)
def _state_symbols(expression: sp.Expr) -> frozenset[sp.Symbol]:
    """Temperature and pressure, if an expression contains them."""
    return frozenset(expression.free_symbols & {TEMPERATURE, PRESSURE})


class Formulation(Medium):
    """The balances of a vessel as symbols, and the numbers in them."""

    @cached_property
    def model(self) -> Model:
        return self.build_model()

    @cached_property
    def fed(self) -> Mixture:
        """The feed or charge: concentrations in mol/m^3, and volumetric flow in m^3/s or volume in m^3."""
        return self.mixture({})

    def parameters(self, given: Mapping[str, Number]) -> tuple[dict[sp.Symbol, Number], Number]:
        """All parameters of the balances, and the end of the independent variable, with some conditions replaced.

        Plain numbers give one vessel, columns many, `Dual` numbers the exact derivatives by the conditions.
        """
        if not given:
            return self.base_numbers | self.own_numbers({}, self.fed), self.end({}, self.fed)
        fed = self.mixture(given)
        return self.general_numbers(given, fed) | self.own_numbers(given, fed), self.end(given, fed)

    def general_numbers(self, given: Mapping[str, Number], fed: Mixture) -> dict[sp.Symbol, Number]:
        """The parameters that every vessel has: constants, the feed, catalyst, heat and properties."""
        numbers: dict[sp.Symbol, Number] = {
            p.symbol: given.get(self.constant_name(p.name), p.value) for p in self.chemistry.parameters
        }
        numbers |= {INLET(s): fed.concentrations.get(s, 0.0) for s in self.chemistry.names}
        return numbers | self.property_numbers(given)

    @cached_property
    def base_numbers(self) -> dict[sp.Symbol, Number]:
        """Those of `_general_numbers` with the vessel's own conditions."""
        return self.general_numbers({}, self.fed)

    @cached_property
    def own_parameters(self) -> tuple[dict[sp.Symbol, Number], Number]:
        """The parameters of this vessel, and the end of the independent variable."""
        return self.parameters({})

    @cached_property
    def case(self) -> Case:
        """The balances with the parameters of this vessel (unknown constants at their guess)."""
        numbers, _ = self.own_parameters
        balances = self.model.balances
        return Case(balances, tuple(float(numbers.get(p, 0.0)) for p in balances.parameters))

    @cached_property
    def end_si(self) -> float:
        return float(self.own_parameters[1])

    @property
    def needs_size(self) -> bool:
        """Whether its size is unknown."""
        return not math.isfinite(self.end_si)

    @property
    def has_segments(self) -> bool:
        """Whether conditions change during a run, which then has stages."""
        return bool(self.moving_numbers())

    @cached_property
    def symbols_in_balances(self) -> frozenset[sp.Symbol]:
        """The symbols of its right-hand sides, without those of the initial state alone."""
        balances = self.model.followed
        both = (*balances.rhs, *(e for _, e in balances.definitions))
        return frozenset[sp.Symbol]().union(*(e.free_symbols for e in both))

    @cached_property
    def display(self) -> Display:
        """The units of its results."""
        with_units = any(p.unit is not None for p in self.chemistry.parameters)
        return Display.of([*given_values(self.vessel), *self.given_inputs()], self.vessel.show, with_units)

    def is_fed(self, species: str) -> bool:
        """Whether a species is fed or charged."""
        return float(self.fed.concentrations.get(species, 0.0)) > 0

    @property
    def reactants(self) -> tuple[str, ...]:
        """The species fed or charged that some reaction consumes."""
        network = self.chemistry.network
        consumed = {i for column in network.stoichiometry for i, moles in column if moles < 0}
        return tuple(s for i, s in enumerate(network.species) if i in consumed and self.is_fed(s))

    def expression(self, metric: Metric) -> sp.Expr:
        """A metric over the states and parameters of this vessel; InputError if it has no such quantity."""
        known = self.model.metrics
        if metric.takes_weights:  # which another vessel of the same form may not share
            found = metric.expression(self.chemistry.network, self.model, self.weights)
        else:
            if metric not in known:
                known[metric] = metric.expression(self.chemistry.network, self.model, self.weights)
            found = known[metric]
        for symbol in _state_symbols(found):
            if symbol in self.model.balances.places and math.isnan(self.case.value(symbol)):
                raise InputError(f"no {metric.what} is given", self.label, f"give {symbol}")
        metric.require_fed(self.is_fed, self.label)
        return found

    def check_metric(self, metric: Metric) -> None:
        """Raise InputError if a run of this vessel has no such metric."""
        if not metric.is_of_a_whole_run:
            self.expression(metric)
            return
        if metric.what not in self.run_metrics:
            has = " or ".join(self.run_metrics)
            advice = f"ask for its {has}" if has else "ask it of a batch or tube"
            raise InputError(f"{units.article(self.vessel.noun)} has no {metric}", self.label, advice)
        self.require_energy()

    @cached_property
    def weights(self) -> Weights:
        """The masses that metrics by mass need."""
        masses = {
            s.name: float(s.require("molar_mass", "masses").si)
            if s.formula is not None or s.molar_mass is not None
            else None
            for s in self.chemistry.species
        }
        bulk = self.vessel.catalyst.bulk_density if self.vessel.catalyst is not None else None
        return Weights(masses, bulk.si if bulk is not None else None)

    @property
    def poison(self) -> str:
        """The species that poisons its catalyst, so that a run depends on its history; empty for none."""
        ages = self.vessel.catalyst.deactivation if self.vessel.catalyst is not None else None
        return str(ages.poison) if ages is not None else ""

    def require_known(self) -> None:
        """Raise InputError if it cannot be run: constants are unknown, or it has no steady state."""
        self.require_constants()
        self.require_no_history()

    def require_no_history(self) -> None:
        """Raise InputError if its state depends on its history, and it is not followed from its beginning."""
        if self.poison and not self.has_history:
            message = f"the activity left by the poison {self.poison} depends on the history of the catalyst"
            raise InputError(message, self.label, "follow a tube over time, tube.follow('12 h'), or run a batch")

    def require_constants(self) -> None:
        """Raise InputError if constants are unknown."""
        waiting = [p.name for p in self.chemistry.unknowns]
        if waiting:
            advice = "fit them (mo.fit), give numbers, or use the guesses (chemistry.at_guess())"
            raise InputError(f"unknown: {', '.join(waiting)}", self.label, advice)

    def progress_end(self) -> float:
        """The end in units of its slopes: the time of a batch, the volume of a tube."""
        return self.end_si
