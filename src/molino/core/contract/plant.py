"""The base of vessels and trains: objects that are run, sized, swept and optimized."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar, Self

from molino.core.annotations import ByName
from molino.core.frozen import Frozen
from molino.core.printing import Printed


class Plant(Frozen, Printed):
    """A vessel or a train of vessels."""

    noun: ClassVar[str]
    """Its kind in messages."""
    name: str
    show: Mapping[str, str]

    @property
    def label(self) -> str:
        """Its name, or its kind."""
        return self.name or self.noun

    @property
    def title(self) -> str:
        """Name and kind: 'coil: plug flow'."""
        return f"{self.name}: {self.noun}" if self.name else self.noun

    def with_(self, conditions: ByName | None = None, /, **changed: Any) -> Self:
        """The same with some fields or conditions changed."""
        raise NotImplementedError
