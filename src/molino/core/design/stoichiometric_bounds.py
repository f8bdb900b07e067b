"""Bounds of a metric that hold for every vessel on a feed, whatever its kinetics and size."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import scipy
import sympy as sp

from molino.core.contract.metric import Metric
from molino.core.contract.vessel import Vessel
from molino.core.vessels.flow_vessel import FlowVessel

_LINEAR = ("conversion", "yield", "production")
"""The metrics that are linear in the amounts at the outlet."""

_NOT_NEGATIVE = ("concentration", "fraction", "mass fraction", "molar flow", "mass flow", "amount", "mass")


def stoichiometric_bounds(vessel: Vessel, metric: Metric) -> tuple[float, float]:
    """The least and the largest value of a metric that stoichiometry allows, in SI.

    A metric m = c0 + c n of the amounts n at the outlet is bounded by the linear program over the extents x of all
    reactions, forward or backward, with n = n_in + N x >= 0 (G. B. Dantzig, Linear Programming and Extensions, 1963).

    Parameters
    ----------
    vessel : Vessel
    metric : Metric
        Conversion, yield or production of a species; an amount, flow, fraction or concentration is not negative.

    Returns
    -------
    tuple of float
        Infinite if unknown: another metric, or a vessel with other streams than feed and outlet.
    """
    has_more = isinstance(vessel, FlowVessel) and (vessel.wall is not None or vessel.spec.has_side_feed)
    if metric.what in _NOT_NEGATIVE:
        return 0.0, 1.0 if "fraction" in metric.what else math.inf
    if metric.what not in _LINEAR or metric.per is not None or has_more or not vessel.spec.model.is_flowing:
        return -math.inf, math.inf
    network, fed = vessel.chemistry.network, vessel.spec.fed
    names, N = network.species, network.matrix
    fed_amounts = np.array([float(fed.concentrations.get(s, 0.0)) * float(fed.volume) for s in names])
    inlet, outlet = sp.symbols(f"in:{len(names)}"), sp.symbols(f"out:{len(names)}")
    model = replace(
        vessel.spec.model, inlet=dict(zip(names, inlet, strict=True)), outlet=dict(zip(names, outlet, strict=True))
    )
    numbers = dict(zip(inlet, fed_amounts.tolist(), strict=True))
    linear = sp.expand(metric.expression(network, model, vessel.spec.weights).xreplace(numbers))
    weights = np.array([float(linear.coeff(n)) for n in outlet])
    first = float(linear.subs(dict(zip(outlet, fed_amounts.tolist(), strict=True))))
    ends = []
    for sign in (1.0, -1.0):
        found = scipy.optimize.linprog(
            sign * weights @ N, A_ub=-N, b_ub=fed_amounts, bounds=(None, None), method="highs"
        )
        ends.append(first + sign * found.fun if found.status == 0 else -sign * math.inf)
    return ends[0], ends[1]
