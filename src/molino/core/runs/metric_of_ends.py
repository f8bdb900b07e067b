"""Metrics from inlet and outlet streams: of trains, fields, and tubes over time."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import sympy as sp

from molino.core.chemistry.formula import PRESSURE, TEMPERATURE, concentration
from molino.core.contents.streams import Stream
from molino.core.contract.metric import Metric
from molino.core.contract.vessel import Vessel
from molino.core.dual import Dual, Number, value_of
from molino.core.symbols import Role
from molino.core.terms.model import Model, StreamForm

ENTERING = Role("entering flow", "{} entering")
PRODUCT = Role("product flow", "{} in the product")
PRODUCT_FLOW = Role("volumetric flow of the product", "Q_product")()
MAIN = Role("flow in the main product", "{} in the main product")
IN_STREAM = Role("flow in a stream", "{}")
TRAIN_DUTY = Role("duty of the train", "duty")()
TRAIN_VOLUME = Role("volume of the train", "V_train")()
TRAIN_CATALYST = Role("catalyst of the train", "W_train")()


@dataclass(frozen=True)
class Ends:
    """The inputs of the metrics of a train: floats, or numbers with derivatives.

    Attributes
    ----------
    entering, product : mapping of species to mol/s
        In all fresh feeds, and in all products.
    main : mapping of species to mol/s
        In the main product.
    flow, T, P : numbers
        Of the main product: volumetric flow in m^3/s, K, Pa.
    duty : number
        In W; nan if unknown.
    volume, catalyst : numbers
        Of all vessels, in m^3 and kg.
    streams : mapping of name to Stream
    """

    entering: Mapping[str, Number]
    product: Mapping[str, Number]
    main: Mapping[str, Number]
    flow: Number
    T: Number
    P: Number
    duty: Number
    volume: Number
    catalyst: Number
    streams: Mapping[str, Stream] = field(default_factory=dict)

    @property
    def by_symbol(self) -> dict[sp.Symbol, Number]:
        """By their symbols in a metric."""
        return {
            **{ENTERING(s): n for s, n in self.entering.items()},
            **{PRODUCT(s): n for s, n in self.product.items()},
            **{MAIN(s): n for s, n in self.main.items()},
            **{concentration(s): n / self.flow if value_of(self.flow) else np.nan for s, n in self.main.items()},
            **{IN_STREAM(f"{s} in {name}"): n for name, x in self.streams.items() for s, n in x.amounts.items()},
            **{IN_STREAM(f"volume of {name}"): x.volume for name, x in self.streams.items()},
            PRODUCT_FLOW: self.flow,
            TEMPERATURE: self.T,
            PRESSURE: self.P,
            TRAIN_DUTY: self.duty,
            TRAIN_VOLUME: self.volume,
            TRAIN_CATALYST: self.catalyst,
        }


def train_expression(vessels: Sequence[Vessel], metric: Metric, names: Sequence[str] = ()) -> sp.Expr:
    """A metric of a train from `Ends`, which may be of one of its streams by name; InputError if it has no such
    quantity."""
    first = vessels[0]
    species, known = first.chemistry.names, first.spec.model.balances
    product = {s: PRODUCT(s) for s in species}
    name = "outlet" if "outlet" not in names else ""  # a stream of the train has its own name
    main = StreamForm(name, {s: MAIN(s) for s in species}, PRODUCT_FLOW, TEMPERATURE, PRESSURE, True)
    others = (
        StreamForm(n, {s: IN_STREAM(f"{s} in {n}") for s in species}, IN_STREAM(f"volume of {n}"), None, None, True)
        for n in names
    )
    streams = (main, *others)
    duty = TRAIN_DUTY if all(v.spec.key.has_energy for v in vessels) else None
    model = Model(known, {s: ENTERING(s) for s in species}, product, {}, streams, TRAIN_VOLUME, duty=duty)
    has_catalyst = any(v.spec.weights.bulk_density is not None for v in vessels)
    weights = replace(first.spec.weights, bulk_density=TRAIN_CATALYST / TRAIN_VOLUME if has_catalyst else None)
    return metric.expression(first.chemistry.network, model, weights)


def metric_of_ends(vessels: Sequence[Vessel], metric: Metric, ends: Ends) -> Number:
    """A metric from the feeds and the outlet of a train, with exact derivatives."""
    expression, numbers = train_expression(vessels, metric, [*ends.streams]), ends.by_symbol
    used = [s for s in numbers if s in expression.free_symbols]
    values = {s: sp.Float(float(value_of(numbers[s]))) for s in used}
    value = float(expression.xreplace(values))
    slopes = [(s, n.slope) for s in used if isinstance(n := numbers[s], Dual)]
    if not slopes:
        return value
    by = [float(expression.diff(s).xreplace(values)) * slope for s, slope in slopes]
    return Dual(value, np.sum(by, axis=0))
