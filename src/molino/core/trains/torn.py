"""The torn streams of a train as a vector of unknowns, in units of the feed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from molino.core.contents.streams import Stream
from molino.core.dual import Dual, Number, value_of
from molino.core.trains.train_fields import TrainFields

_SMALLEST = 1e-3
"""The smallest size of a torn stream, in units of the feed."""


class Torn:
    """The flows of each torn stream, with its volume (of a liquid of constant density), temperature and pressure.

    Attributes
    ----------
    names : tuple of str
    count : int
        The number of unknowns.
    unit : array, shape (count,)
        Each unknown of the feed: the size by which it is divided.
    is_flow : array of bool
    """

    def __init__(self, train: TrainFields) -> None:
        self.train, self.names = train, train.spec.network.torn
        fresh, whole = train.spec.fresh, train.spec.fed_in_all
        one = [float(whole.total)] * len(fresh.amounts)
        self.more = [name for name in ("volume", "T", "P") if self._has(name)]
        one += [float(getattr(whole if name == "volume" else fresh, name)) for name in self.more]
        self.each = len(one)
        self.count = self.each * len(self.names)
        self.unit = np.tile(one, len(self.names))
        flows = [True] * len(fresh.amounts) + [name == "volume" for name in self.more]
        self.is_flow = np.tile(flows, len(self.names)).astype(bool)

    def _has(self, name: str) -> bool:
        if name == "volume":
            return self.train.first.spec.fluid.phase.carries_volume
        return bool(np.isfinite(getattr(self.train.spec.fresh, name)))

    def scale(self, z: np.ndarray, of_state: float = 1.0) -> np.ndarray:
        """The size of each unknown: of a flow the total flow of its stream, of temperatures and pressures as given."""
        rows = z.reshape(len(self.names), self.each)
        totals = np.maximum(rows[:, : self.each - len(self.more)].sum(axis=1), _SMALLEST)
        return np.where(self.is_flow, np.repeat(totals, self.each), of_state)

    def vector(self, streams: Mapping[str, Stream]) -> list[Number]:
        """The unknowns of streams."""
        found: list[Number] = []
        for name in self.names:
            stream = streams[name]
            found += [*stream.amounts.values(), *(getattr(stream, one) for one in self.more)]
        return [number / unit for number, unit in zip(found, self.unit.tolist(), strict=True)]

    def values(self, streams: Mapping[str, Stream]) -> np.ndarray:
        return np.array([float(value_of(number)) for number in self.vector(streams)])

    def slopes(self, streams: Mapping[str, Stream], size: int) -> np.ndarray:
        """Derivatives of the unknowns of computed streams, shape (count, size)."""
        return np.array([x.slope if isinstance(x, Dual) else np.zeros(size) for x in self.vector(streams)])

    def streams(self, z: Sequence[Number] | np.ndarray, like: Mapping[str, Stream]) -> dict[str, Stream]:
        """The torn streams from their unknowns, in the phases of others."""
        numbers = [
            _at_least_zero(x) * u if f else x * u for x, u, f in zip(z, self.unit.tolist(), self.is_flow, strict=True)
        ]
        found = {}
        for k, name in enumerate(self.names):
            own = numbers[k * self.each : (k + 1) * self.each]
            amounts = dict(zip(like[name].amounts, own, strict=False))
            state = dict(zip(self.more, own[len(amounts) :], strict=True))
            found[name] = replace(like[name], amounts=amounts, **state)
        return found

    def seeded(self, z: np.ndarray, like: Mapping[str, Stream], size: int) -> dict[str, Stream]:
        """The torn streams with derivatives by the unknowns, the first of `size` inputs."""
        eye = np.eye(size)
        return self.streams([Dual(float(x), eye[i]) for i, x in enumerate(z)], like)


def _at_least_zero(number: Number) -> Number:
    return number if isinstance(number, Dual) else max(float(number), 0.0)
