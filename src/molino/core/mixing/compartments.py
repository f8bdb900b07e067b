"""A network of tanks and tubes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import ClassVar, Self

import numpy as np

from molino.core import units
from molino.core.annotations import ByName, PlainData
from molino.core.errors import Faults, InputError
from molino.core.frozen import FrozenMapping, settle
from molino.core.mixing.flow_model import FlowModel, Range
from molino.core.mixing.inversion import inverted
from molino.core.schema import option
from molino.core.units import Value


@dataclass(frozen=True, eq=False)
class Compartments(FlowModel):
    """A network of mixed tanks and tubes, connected by flows.

    Parameters
    ----------
    tanks, tubes : mapping of name to share
        Fractions of the whole volume; None is found by a fit, and one may be "rest".
    flows : mapping of name to mapping of name to share
        The targets of the outflow of "in" and of each compartment: {"in": {"bulk": 0.9, "out": "rest"}, "bulk": {"out":
        1}}. The fractions of a compartment add up to 1, one of them may be "rest", None is found by a fit.
    tube_tanks : int
        Number of tanks in series that represent a tube in E and F (for moments and conversions it is plug flow).

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> flows = {"in": {"bulk": 1}, "bulk": {"riser": 1}, "riser": {"out": 1}}
    >>> two = mo.mixing.Compartments({"bulk": 0.7}, {"riser": "rest"}, flows)
    >>> round(two.conversion("0.1 1/min", "10 min"), 4)
    0.5642
    """

    noun: ClassVar[str] = "compartments"
    tanks: ByName = field(default_factory=dict)
    tubes: ByName = field(default_factory=dict)
    flows: Mapping[str, ByName] = field(default_factory=dict)
    tube_tanks: int = option(60)

    def __post_init__(self) -> None:
        faults = Faults()
        names = [*self.tanks, *self.tubes]
        if len(names) != len(set(names)) or {"in", "out"} & set(names):
            faults.add(
                self.noun, "two compartments of one name, or one named 'in' or 'out'", "give each a name of its own"
            )
        volumes = self._shares({**self.tanks, **self.tubes}, "volumes", faults)
        flows = {}
        for start, ends in dict(self.flows).items():
            if start not in ("in", *names):
                faults.add(
                    self.noun, f"a flow comes from '{start}', which is not a compartment", f"{', '.join(names)} or in"
                )
            for end in ends:
                if end not in ("out", *names):
                    faults.add(
                        self.noun, f"a flow goes to '{end}', which is not a compartment", f"{', '.join(names)} or out"
                    )
            flows[start] = FrozenMapping(self._shares(dict(ends), f"flows out of {start}", faults))
        for start in ("in", *names):
            if start not in flows:
                faults.add(self.noun, f"the outflow of {start} has no target", f"flows={{'{start}': {{...: 1}}}}")
        settle(
            self,
            tanks=FrozenMapping({n: volumes[n] for n in self.tanks if n in volumes}),
            tubes=FrozenMapping({n: volumes[n] for n in self.tubes if n in volumes}),
            flows=FrozenMapping(flows),
        )
        faults.raise_any()
        if not self.unknown:
            self._throughputs()

    def _shares(self, given: PlainData, what: str, faults: Faults) -> PlainData:
        found: PlainData = {}
        for name, share in given.items():
            if share is None or share == "rest":
                found[name] = share
                continue
            with faults.at(f"{self.noun}, {what}"):
                found[name] = units.positive(share, "number", name, zero=True)
        rests = [n for n, share in found.items() if isinstance(share, str)]
        known = [share.si for share in found.values() if isinstance(share, Value)]
        open_ones = [n for n, share in found.items() if share is None]
        if len(rests) > 1 or (open_ones and not rests):
            faults.add(self.noun, f"{what}do not determine each other", "give one fraction as 'rest'")
        elif not open_ones and not faults.found:
            left = 1 - sum(known)
            if left < -1e-9 or (not rests and abs(left) > 1e-9):
                faults.add(
                    self.noun, f"{what} add up to {sum(known):g}", "give fractions that add up to 1, or one as 'rest'"
                )
            elif rests:
                found[rests[0]] = Value(max(left, 0.0), "")
        return found

    def free_ranges(self) -> Mapping[str, Range]:
        span = Range(0.0, 1.0, (0.2, 0.5), "", True)
        found = {n: span for n, share in (*self.tanks.items(), *self.tubes.items()) if share is None}
        return found | {f"{a} to {b}": span for a, ends in self.flows.items() for b, x in ends.items() if x is None}

    @property
    def unknown(self) -> tuple[str, ...]:
        """The fractions that are not given."""
        return tuple(self.free_ranges())

    def with_numbers(self, numbers: Mapping[str, float]) -> Self:
        def volumes(shares: ByName) -> PlainData:
            return {n: numbers.get(n, share.si if isinstance(share, Value) else share) for n, share in shares.items()}

        flows = {
            a: {b: numbers.get(f"{a} to {b}", x.si if isinstance(x, Value) else x) for b, x in ends.items()}
            for a, ends in self.flows.items()
        }
        return replace(self, tanks=volumes(self.tanks), tubes=volumes(self.tubes), flows=flows)

    def _throughputs(self) -> tuple[list[str], np.ndarray, np.ndarray, np.ndarray]:
        """The names, the fractions of each to each other, those of the inlet, and the flow through each."""
        names = [*self.tanks, *self.tubes]
        place = {n: i for i, n in enumerate(names)}
        passed, came = np.zeros((len(names), len(names))), np.zeros(len(names))
        for start, ends in self.flows.items():
            for end, share in ends.items():
                if end == "out":
                    continue
                if start == "in":
                    came[place[end]] += share.si
                else:
                    passed[place[end], place[start]] += share.si
        try:
            through = np.linalg.solve(np.eye(len(names)) - passed, came)
        except np.linalg.LinAlgError as error:
            message = "a closed circuit has no outlet"
            raise InputError(message, self.noun, "let some of it flow to 'out'") from error
        return names, passed, came, through

    @property
    def bypassed(self) -> float:
        """The fraction that leaves at once."""
        share = self.flows["in"].get("out")
        return float(share.si) if isinstance(share, Value) else 0.0

    @property
    def _sharpness(self) -> float:
        return float(self.tube_tanks) if self.tubes else 1.0

    def _transfer(self, s: np.ndarray, mean: float, in_time: bool = False) -> np.ndarray:
        names, passed, came, through = self._throughputs()
        shape, s = s.shape, s.ravel()
        pieces = np.empty((len(s), len(names)), dtype=complex)
        for i, name in enumerate(names):
            share = self.tanks[name].si if name in self.tanks else self.tubes[name].si
            own = s * mean * share / through[i] if through[i] > 0 else np.zeros_like(s)
            if name in self.tanks:
                pieces[:, i] = 1 / (1 + own)
            else:
                n = self.tube_tanks
                pieces[:, i] = np.exp(-n * np.log(1 + own / n)) if in_time else np.exp(-own)
        # the molar flow out of each, f_i = g_i (came_i + sum_j passed_ij f_j)
        matrix = np.eye(len(names)) - pieces[:, :, None] * passed[None]
        out = np.linalg.solve(matrix, (pieces * came)[..., None])[..., 0]
        leaving = np.array([self.flows[n].get("out", Value(0.0)).si for n in names])
        return np.asarray(self.bypassed + out @ leaving).reshape(shape)

    def E(self, times: np.ndarray, mean: float) -> np.ndarray:
        """E(t) in 1/s."""
        return np.asarray(
            np.maximum(inverted(lambda s: self._transfer(s, mean, True) - self.bypassed, times, self._terms), 0.0)
        )

    def F(self, times: np.ndarray, mean: float) -> np.ndarray:
        """F(t)."""
        return inverted(lambda s: self._transfer(s, mean, True) / s, times, self._terms)

    def _given_text(self) -> str:
        return ", ".join(
            f"{n} {share.si if isinstance(share, Value) else share:.4g}" if isinstance(share, Value) else n
            for n, share in (*self.tanks.items(), *self.tubes.items())
        )
