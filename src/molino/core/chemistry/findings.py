"""The findings of a check: errors, warnings and notes."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from molino.core.errors import Fault
from molino.core.frozen import Frozen
from molino.core.printing import Printed

LEVELS = ("error", "warning", "note")


@dataclass(frozen=True)
class Finding:
    """A finding: its level ('error', 'warning', 'note'), place, fact and remedy."""

    level: str
    where: str
    what: str
    advice: str = ""

    def __str__(self) -> str:
        return f"{self.level}: {Fault(self.where, self.what, self.advice)}"


@dataclass(frozen=True, eq=False)
class Review(Frozen, Printed):
    """The findings of a check, errors first.

    Attributes
    ----------
    findings : tuple of Finding
        Errors, warnings and notes, each with its place and a remedy.

    Examples
    --------
    >>> review = mo.Chemistry(mo.Reaction("A -> B", rate="k*[B]", k="0.2 1/min")).check()
    >>> len(review.findings) > 0
    True
    """

    findings: tuple[Finding, ...]

    @classmethod
    def of(cls, found: Iterable[Finding]) -> Review:
        """Each reported once, sorted by level."""
        return cls(tuple(sorted(dict.fromkeys(found), key=lambda f: LEVELS.index(f.level))))

    def at(self, level: str) -> tuple[Finding, ...]:
        """The findings of one level."""
        return tuple(f for f in self.findings if f.level == level)

    def __str__(self) -> str:
        counts = [f"{len(self.at(level))} {level}{'s' if len(self.at(level)) != 1 else ''}" for level in LEVELS]
        return "\n".join([", ".join(counts), *(str(f) for f in self.findings)])
