"""Errors, with place, fact and remedy.

Every error names a place (*where*), a fact (*what*) and a remedy (*advice*). Faults of an input are gathered and
reported together: open a `Faults`, run each check inside `faults.at("place")`, and call `faults.raise_any()` at the
end.
"""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from molino.core.annotations import PlainData

if TYPE_CHECKING:
    import numpy as np


@dataclass(frozen=True)
class Fault:
    """A fault: the place, the fact, and the remedy."""

    where: str
    what: str
    advice: str = ""

    def __str__(self) -> str:
        text = f"{self.where}: {self.what}" if self.where else self.what
        return f"{text}\n    -> {self.advice}" if self.advice else text

    def within(self, place: str) -> Fault:
        """The same fault with an enclosing place, without what the two have in common."""
        if self.where == place or self.where.startswith(f"{place}, "):
            return self
        first, _, rest = self.where.partition(", ")
        if place.startswith(f"[{first}."):  # the task of a table, "[size.tank]"
            return replace(self, where=f"{place}, {rest}" if rest else place)
        return replace(self, where=f"{place}, {self.where}" if self.where else place)


class MolinoError(Exception):
    """Base of the errors of Molino; `faults` has their texts.

    Parameters
    ----------
    faults : str, Fault, or several of them
    where : str
        The place of a single fault.
    advice : str
        The remedy.

    Examples
    --------
    >>> issubclass(mo.SolveError, mo.MolinoError)
    True
    """

    def __init__(self, faults: str | Fault | Iterable[Fault], where: str = "", advice: str = "") -> None:
        if isinstance(faults, str):
            faults = Fault(where, faults, advice)
        self.faults: tuple[Fault, ...] = (faults,) if isinstance(faults, Fault) else tuple(faults)
        super().__init__("\n".join(str(fault) for fault in self.faults))

    def __reduce__(self) -> tuple[object, ...]:
        return _again, (type(self), self.faults, {n: v for n, v in self.__dict__.items() if n != "faults"})


def _again(kind: type[MolinoError], faults: tuple[Fault, ...], more: PlainData) -> MolinoError:
    """An error, restored in another process."""
    found = kind.__new__(kind)
    MolinoError.__init__(found, faults)
    found.__dict__.update(more)
    return found


class InputError(MolinoError):
    """The input cannot be used.

    Parameters
    ----------
    faults, where, advice
        As for `MolinoError`.

    Examples
    --------
    >>> try:
    ...     mo.Feed({"A": "1 mol/L"}, flow="-1 L/min")
    ... except mo.InputError as error:
    ...     print(error)
    feed, flow: volumetric flow -1 L/min must be above zero
        -> check the sign
    """


class UnitError(InputError):
    """A quantity has another dimension than expected, or an unknown unit.

    Parameters
    ----------
    faults, where, advice
        As for `MolinoError`.

    Examples
    --------
    >>> try:
    ...     mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="5 m")
    ... except mo.UnitError as error:
    ...     print(error.faults[0].what)
    '5 m' is not a temperature: m is a unit of length
    """


class SolveError(MolinoError):
    """A computation failed; the message states the attempts, the progress and the remedy.

    `reached` is the point in SI at which an integration stopped; nan for other errors.

    Parameters
    ----------
    faults, where, advice
        As for `MolinoError`.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> 2 A", rate="1e-3*[A]^2"))
    >>> try:
    ...     mo.Batch(chem, {"A": 1.0}, time="2000 s").run()
    ... except mo.SolveError as error:
    ...     print(round(error.reached))
    1000
    """

    reached: float = float("nan")
    symbol: object = None
    """The state that fell to zero, if any."""
    rows: np.ndarray | None = None
    """The points up to the stop, in SI."""
    parts: tuple[object, ...] = ()
    """The states at these points."""


class WriteError(MolinoError):
    """A file could not be written; a previous file is unchanged.

    Parameters
    ----------
    faults, where, advice
        As for `MolinoError`.

    Examples
    --------
    >>> issubclass(mo.files.WriteError, mo.InputError)
    False
    """


class NotFoundError(MolinoError):
    """A search ended without an answer, and without a proof that there is none.

    The message states the attempts and gives the best value seen.

    Parameters
    ----------
    what, where, advice : str
    best : float
        The best value seen, in SI; nan without one.

    Examples
    --------
    >>> issubclass(mo.NotFoundError, mo.UnreachableError)
    False
    """

    def __init__(self, what: str, where: str = "", advice: str = "", best: float = float("nan")) -> None:
        super().__init__(what, where, advice)
        self.best = best


class UnreachableError(MolinoError):
    """A target cannot be reached, with a certificate that proves it.

    Parameters
    ----------
    what, where, advice : str
    best : float
        The best value that the vessel reaches, in SI; nan if unknown.
    certificate : str
        The proof: a stoichiometric bound, a located maximum, an asymptote, or the end of the run.

    Examples
    --------
    >>> chem = mo.Chemistry([mo.Reaction("A -> B", k="0.5 1/min"), mo.Reaction("B -> C", k="0.2 1/min")])
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> try:
    ...     mo.size(mo.PlugFlow(chem, feed), "yield of B on A", 0.9)
    ... except mo.UnreachableError as error:
    ...     print(round(error.best, 4))
    0.5429
    """

    def __init__(
        self, what: str, where: str = "", advice: str = "", best: float = float("nan"), certificate: str = ""
    ) -> None:
        super().__init__(what, where, advice)
        self.best, self.certificate = best, certificate


class Faults:
    """Collects the faults of an input, so that all are reported at once."""

    def __init__(self) -> None:
        self.found: list[Fault] = []
        self._kinds: set[type[InputError]] = set()

    def add(self, where: str, what: str, advice: str = "") -> None:
        self._kinds.add(InputError)
        self.found.append(Fault(where, what, advice))

    @contextmanager
    def at(self, place: str = "") -> Iterator[None]:
        """Catch an InputError of the block and add its faults with this place."""
        try:
            yield
        except InputError as error:
            self._kinds.add(type(error))
            self.found.extend(fault.within(place) if place else fault for fault in error.faults)

    def raise_any(self, place: str = "") -> None:
        """Raise one InputError with all faults, if any (equal ones are reported once).

        It is a UnitError if all faults are of units.
        """
        if self.found:
            distinct = dict.fromkeys(self.found)
            kind = UnitError if self._kinds == {UnitError} else InputError
            raise kind(fault.within(place) if place else fault for fault in distinct)


class Failures:
    """Collects the errors of single items, while the others are computed."""

    def __init__(self) -> None:
        self.found: list[MolinoError] = []

    @contextmanager
    def at(self, place: str) -> Iterator[None]:
        """Catch a MolinoError of the block and add its faults with this place."""
        try:
            yield
        except MolinoError as error:
            error.faults = tuple(fault.within(place) for fault in error.faults)
            self.found.append(error)

    def raise_any(self, place: str = "") -> None:
        """Raise one error with all faults: an InputError if all of them are, otherwise a SolveError."""
        if self.found:
            kind = InputError if all(isinstance(error, InputError) for error in self.found) else SolveError
            raise kind(f.within(place) if place else f for error in self.found for f in error.faults)


def nearest(name: str, known: Iterable[str], otherwise: str = "none is defined: remove it, or add it") -> str:
    """Advice with the known name nearest to an unknown one, or a list of the known names; `otherwise` if there are
    none."""
    names = sorted(set(known))
    lowered = {n.lower(): n for n in names}
    close = difflib.get_close_matches(name.lower(), lowered, n=1, cutoff=0.6)
    if close:
        return f"did you mean '{lowered[close[0]]}'?"
    return "known: " + ", ".join(names[:20]) + (", ..." if len(names) > 20 else "") if names else otherwise
