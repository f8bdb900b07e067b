"""The names of observed responses: species (their concentrations), and metrics by their texts."""

from __future__ import annotations

from functools import lru_cache

from molino.core.contract.metric import Metric
from molino.core.contract.metrics import concentration, parse_metric
from molino.core.errors import InputError


@lru_cache(maxsize=4096)
def metric_of(response: str) -> Metric:
    """An observation: a metric by its text, or the concentration of a species by its name."""
    try:
        return parse_metric(response)
    except InputError:
        return concentration(response)


def response_of(observed: Metric | str) -> str:
    """The name of an observation: for a concentration the name of its species."""
    metric = metric_of(observed) if isinstance(observed, str) else observed
    return metric.species if metric.what == "concentration" else str(metric)


def is_concentration(response: str) -> bool:
    """Whether a response is the concentration of a species."""
    return metric_of(response).what == "concentration"
