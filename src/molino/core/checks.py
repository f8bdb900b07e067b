"""Checks of an answer before it is returned, by a route independent of the search that found it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from molino.core.annotations import PlainData
from molino.core.errors import Fault, SolveError

CLOSURE_LIMIT = 1e-6
"""Largest imbalance of elements, mass or energy, relative to the total, of a result that is returned."""


@dataclass(frozen=True)
class Check:
    """A verified property of an answer.

    Attributes
    ----------
    name : str
        The property, as in "balances of A + B closed".
    value : float
        The deviation, relative to the size of the quantity.
    limit : float
        The largest accepted deviation.
    method : str
        How it was computed.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> run = mo.Batch(chem, {"A": 1.0}, time="5 min").run()
    >>> all(check.is_passed for check in run.checks)
    True
    """

    name: str
    value: float
    limit: float
    method: str

    @property
    def is_passed(self) -> bool:
        """Whether the deviation is within the limit; nan is not."""
        return self.value <= self.limit

    def __str__(self) -> str:
        text = f"{self.name} to {self.value:.1e}" if self.value else self.name
        return text if self.is_passed else f"{text}, above the limit {self.limit:.1e}"

    def to_dict(self) -> PlainData:
        """Plain data."""
        return {
            "name": self.name,
            "value": self.value,
            "limit": self.limit,
            "method": self.method,
            "passed": self.is_passed,
        }


def closure_check(closure: Mapping[str, float], limit: float = CLOSURE_LIMIT) -> tuple[Check, ...]:
    """The largest imbalance of several balances as one check; none without balances."""
    if not closure:
        return ()
    method = "amounts in minus out minus accumulated, from integrals of the flows"
    return (Check(f"balances of {', '.join(closure)} closed", max(closure.values()), limit, method),)


def checked_fact(checks: Iterable[Check]) -> dict[str, str]:
    """The checks of a result in one line, as a fact; nothing without checks."""
    text = "; ".join(map(str, checks))
    return {"checked": text} if text else {}


def require_passed(checks: Iterable[Check], where: str, advice: str = "tighten the tolerances, or report it") -> None:
    """Raise SolveError with the numbers of every check that failed."""
    failed = [check for check in checks if not check.is_passed]
    if failed:
        raise SolveError([Fault(where, f"the answer fails its check: {c} ({c.method})", advice) for c in failed])
