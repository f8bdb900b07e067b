"""The result of a recommendation: arrangements in their order."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from molino.core.annotations import PlainData
from molino.core.contract.vessel import Vessel
from molino.core.design.optimize.optimum import Optimum
from molino.core.display import Display
from molino.core.frozen import Frozen, FrozenMapping
from molino.core.results import Result, Table, frame, plain_dict

_AS_GOOD = 2e-3
"""Relative difference of objectives that are equally good; the smaller volume is then preferred."""


@dataclass(frozen=True, eq=False)
class Arrangement(Frozen):
    """One arrangement at its best.

    Attributes
    ----------
    name : str
    optimum : Optimum or None
        None if it cannot meet the target.
    reason : str
        The reason for that.
    half_width : float or None
        Of the 95 % interval of the objective in SI, from the covariance of fitted constants.
    at_end : mapping of condition to "largest" or "smallest"
        Conditions at an end of the range that `recommend` has chosen: a wider range may contain a better optimum.
    """

    name: str
    optimum: Optimum | None
    reason: str = ""
    half_width: float | None = None
    at_end: Mapping[str, str] = FrozenMapping({})

    @property
    def volume(self) -> float:
        """Its whole volume in m^3; nan for a batch, whose volume is arbitrary."""
        if self.optimum is None or self.optimum.run.duty_kind == "energy":
            return np.nan
        return float(self.optimum.run.volume_si)

    @property
    def parts(self) -> int:
        """Number of vessels, pumps and side feeds."""
        vessel = self.optimum.vessel if self.optimum is not None else None
        return 1 if vessel is None or isinstance(vessel, Vessel) else len(vessel.steps) + 1


@dataclass(frozen=True, eq=False)
class Recommendation(Frozen, Result):
    """Arrangements, the best first.

    Attributes
    ----------
    arrangements : tuple of Arrangement
        Those that meet the target, the best first, and then the others.
    objective : str
    target : tuple of str
    is_highest : bool

    Examples
    --------
    >>> reactions = [mo.Reaction("A -> B", k="0.2 1/min"), mo.Reaction("B -> C", k="0.1 1/min")]
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> found = mo.recommend(mo.Chemistry(reactions), feed, maximize="yield of B on A", target="conversion of A >= 0.6")
    >>> found.best.name, round(found.best.optimum.value, 3)
    ('tube', 0.5)
    """

    arrangements: tuple[Arrangement, ...]
    objective: str
    target: tuple[str, ...]
    is_highest: bool

    @property
    def best(self) -> Arrangement:
        """The first of them."""
        return self.arrangements[0]

    @property
    def display(self) -> Display:
        """The units of results."""
        optimum = self.best.optimum
        assert optimum is not None
        return optimum.display

    def table(self) -> Table:
        """One row per arrangement that meets the target: objective with its interval, conditions, volume, time,
        duty."""
        display, rows = self.display, []
        for one in self.arrangements:
            row: PlainData = {"arrangement": one.name}
            if one.optimum is None:
                continue
            found, run = one.optimum, one.optimum.run
            unit = found.objective.unit(display)
            row[f"{self.objective} [{unit}]" if unit else self.objective] = found.objective.shown(display, found.value)
            if one.half_width is not None:
                row["± 95 %"] = one.half_width
            row["conditions"] = _conditions(found)
            row[display.heading("volume", "volume")] = float(display.number(one.volume, "volume"))
            if run.has_duty and run.duty_kind == "power":
                row[display.heading("duty", "power")] = float(display.number(run.duty_si, "power"))
            rows.append(row)
        return frame(rows)

    def facts(self) -> dict[str, str]:
        """The first, and why."""
        optimum = self.best.optimum
        assert optimum is not None
        found = {"recommended": self._decision(), "because": self.why()}
        for one in self.arrangements:
            if one.optimum is None:
                found[f"left out: {one.name}"] = one.reason
        return found

    def answer(self) -> tuple[str, str]:
        """The question, and the best arrangement with the reason."""
        return f"Which arrangement has the best {self.objective}?", f"{self._decision()} {self.why()}"

    def _decision(self) -> str:
        """The best arrangement with its objective, conditions and volume."""
        one, optimum = self.best, self.best.optimum
        assert optimum is not None
        value = optimum.objective.shown_text(self.display, optimum.value)
        spread = f" ± {one.half_width:.2g}" if one.half_width is not None else ""
        free = [number for number in optimum.free if number.name.rpartition(".")[2] != "volume"]
        parts = [number.text_with_bound() for number in free]
        if np.isfinite(one.volume) and "volume" not in self.objective:
            parts.append(f"volume {self.display.text(one.volume, 'volume')}")
        at = f", with {', '.join(parts)}" if parts else ""
        return f"{_named(one.name)} best: {self.objective} {value}{spread}{at}."

    def why(self) -> str:
        """The reason of the order, in sentences."""
        able = [a for a in self.arrangements if a.optimum is not None]
        first, others = able[0], able[1:]
        assert first.optimum is not None
        if not others:
            return "No other arrangement meets the target."
        parts = []
        second = others[0]
        assert second.optimum is not None
        if self._as_good(first, second):
            parts.append(f"{_named(second.name, 'gives', 'give')} the same{self._volumes(first, second)}.")
        further = next((a for a in others if not self._as_good(first, a)), None)
        if further is not None:
            assert further.optimum is not None
            more = abs(first.optimum.value - further.optimum.value)
            text = first.optimum.objective.shown_text(self.display, more, 3)
            less = "less" if self.is_highest else "more"
            parts.append(f"{_named(further.name, 'gives', 'give')} {text} {less}.")
        by_name = {a.name: a for a in able}
        tube, tank = by_name.get("tube"), by_name.get("tank")
        if tube is not None and tank is not None and not self._as_good(tube, tank):
            assert tube.optimum is not None
            assert tank.optimum is not None
            is_tube = (tube.optimum.value > tank.optimum.value) == self.is_highest
            parts.append(
                "Back-mixing is a disadvantage: the product forms at high concentrations, or is lost at long times."
                if is_tube
                else "Back-mixing is an advantage: the product forms at the concentrations of the outlet."
            )
        return " ".join(parts)

    def _as_good(self, first: Arrangement, second: Arrangement) -> bool:
        assert first.optimum is not None
        assert second.optimum is not None
        return is_as_good(first.optimum.value, second.optimum.value)

    def _volumes(self, first: Arrangement, second: Arrangement) -> str:
        if not np.isfinite(first.volume) or not np.isfinite(second.volume):
            is_batch = second.optimum is not None and second.optimum.run.duty_kind == "energy"
            return ", but not continuously" if is_batch else ""
        ratio = second.volume / first.volume
        return f" with {ratio:.3g} times the volume" if abs(ratio - 1) > 0.01 else " with the same volume"

    def to_dict(self) -> PlainData:
        """Plain data: every arrangement with its optimum, and the reason of the order."""
        return plain_dict(
            {
                "objective": self.objective,
                "target": list(self.target),
                "recommended": self.best.name,
                "why": self.why(),
                "arrangements": [
                    {
                        "name": a.name,
                        "reason": a.reason,
                        "half_width": a.half_width,
                        "at_end": dict(a.at_end),
                        "optimum": None if a.optimum is None else a.optimum.to_dict(),
                    }
                    for a in self.arrangements
                ],
            }
        )

    def __str__(self) -> str:
        lines = [f"{name}: {text}" for name, text in self.facts().items() if not name.startswith("left out")]
        for one in self.arrangements:
            if one.optimum is None:
                lines.append(f"  {one.name}: {one.reason}")
                continue
            value = one.optimum.objective.shown_text(self.display, one.optimum.value)
            spread = f" ± {one.half_width:.2g}" if one.half_width is not None else ""
            ends = {name: f" (the {end} that was searched)" for name, end in one.at_end.items()}
            numbers = ", ".join(f"{n.name} {n.text(n.value, 4)}{ends.get(n.name, '')}" for n in one.optimum.free)
            lines.append(f"  {one.name}: {value}{spread}, {numbers}")
        return "\n".join(lines)


def _named(name: str, one: str = "is", several: str = "are") -> str:
    """'A tube is', '3 tanks in series are', 'Tubes with a side feed are'."""
    is_one = not name[0].isdigit() and not name.startswith("tubes")
    return f"A {name} {one}" if is_one else f"{name[0].upper()}{name[1:]} {several}"


def _conditions(found: Optimum) -> str:
    """Conditions at the optimum except sizes; those that are equal in all vessels once."""
    by_name: dict[str, list[str]] = {}
    for n in found.free:
        name = n.name.rpartition(".")[2]
        if name != "volume":
            by_name.setdefault(name, []).append(n.text(n.value, 4))
    return ", ".join(f"{name} {' and '.join(dict.fromkeys(texts))}" for name, texts in by_name.items())


def is_as_good(first: float, second: float) -> bool:
    return abs(first - second) <= _AS_GOOD * max(abs(first), abs(second))
