"""What can go wrong, worded so that the reader can correct it.

Every error names a place (*where*), a fact (*what*) and a remedy (*advice*). Faults of an input are gathered and
reported together: open a `Faults`, run each check inside `faults.at("place")`, and call `faults.raise_any()` at the
end.
"""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Any


@dataclass(frozen=True)
class Fault:
    """One thing that is wrong: the place, the fact, and what to do about it."""

    where: str
    what: str
    advice: str = ""

    def __str__(self) -> str:
        text = f"{self.where}: {self.what}" if self.where else self.what
        return f"{text}\n    -> {self.advice}" if self.advice else text

    def within(self, place: str) -> Fault:
        """The same fault, seen from one place further out; a place that it begins with already is not named twice."""
        if self.where == place or self.where.startswith(f"{place}, "):
            return self
        return replace(self, where=f"{place}, {self.where}" if self.where else place)


class MolinoError(Exception):
    """Base of every error that Molino raises on purpose; `faults` holds what it has to say.

    Parameters
    ----------
    faults : str, Fault, or several of them
    where : str
        The place of a single fault.
    advice : str
        What to do about it.

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

    def __reduce__(self) -> tuple[Any, ...]:
        return _again, (type(self), self.faults, {n: v for n, v in self.__dict__.items() if n != "faults"})


def _again(kind: type[MolinoError], faults: tuple[Fault, ...], more: dict[str, Any]) -> MolinoError:
    """An error once more, in another process."""
    found = kind.__new__(kind)
    MolinoError.__init__(found, faults)
    found.__dict__.update(more)
    return found


class InputError(MolinoError):
    """The input cannot be used as it stands.

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
    """A quantity has a dimension other than the one its place asks for, or a unit that nobody knows.

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
    """The numbers could not be computed; states the attempts, how far it came, what to change.

    `reached` is where an integration stopped, in SI; nan where nothing was integrated.

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
    """The state that fell to zero, where one did."""
    rows: Any = None
    """The points up to there, in SI."""
    parts: tuple[object, ...] = ()
    """What was integrated before."""


class WriteError(MolinoError):
    """A file could not be written; what stood there before stays.

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
        The best value seen, in SI; nan where there is none.

    Examples
    --------
    >>> issubclass(mo.NotFoundError, mo.UnreachableError)
    False
    """

    def __init__(self, what: str, where: str = "", advice: str = "", best: float = float("nan")) -> None:
        super().__init__(what, where, advice)
        self.best = best


class UnreachableError(MolinoError):
    """A target lies beyond what the vessel can do, and a certificate proves it.

    Parameters
    ----------
    what, where, advice : str
    best : float
        The best value that the vessel reaches, in SI; nan where it is not known.
    certificate : str
        What proves it: a stoichiometric bound, a located maximum, an asymptote, a point where the run must end.

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
    """Gathers the faults of an input so that all are reported at once."""

    def __init__(self) -> None:
        self.found: list[Fault] = []
        self._kinds: set[type[InputError]] = set()

    def add(self, where: str, what: str, advice: str = "") -> None:
        self._kinds.add(InputError)
        self.found.append(Fault(where, what, advice))

    @contextmanager
    def at(self, place: str = "") -> Iterator[None]:
        """Catch what the block raises as InputError and note it under this place."""
        try:
            yield
        except InputError as error:
            self._kinds.add(type(error))
            self.found.extend(fault.within(place) if place else fault for fault in error.faults)

    def raise_any(self, place: str = "") -> None:
        """Raise one InputError with all that was found, if anything was (the same thing is reported once).

        Where all that is wrong are units, it is a UnitError.
        """
        if self.found:
            distinct = dict.fromkeys(self.found)
            kind = UnitError if self._kinds == {UnitError} else InputError
            raise kind(fault.within(place) if place else fault for fault in distinct)


class Failures:
    """Gathers what kept single things of several from being computed, while the others go on."""

    def __init__(self) -> None:
        self.found: list[MolinoError] = []

    @contextmanager
    def at(self, place: str) -> Iterator[None]:
        """Catch what the block raises as MolinoError and note it under this place."""
        try:
            yield
        except MolinoError as error:
            error.faults = tuple(fault.within(place) for fault in error.faults)
            self.found.append(error)

    def raise_any(self, place: str = "") -> None:
        """Raise one error with all that was found: an InputError if all of it is, else a SolveError."""
        if self.found:
            kind = InputError if all(isinstance(error, InputError) for error in self.found) else SolveError
            raise kind(f.within(place) if place else f for error in self.found for f in error.faults)


def nearest(name: str, known: Iterable[str], otherwise: str = "there is none here: take it out, or add it") -> str:
    """Advice that offers the known name nearest to a mistaken one, or lists the known values; `otherwise` if
    nothing."""
    names = sorted(set(known))
    lowered = {n.lower(): n for n in names}
    close = difflib.get_close_matches(name.lower(), lowered, n=1, cutoff=0.6)
    if close:
        return f"did you mean '{lowered[close[0]]}'?"
    return "known here: " + ", ".join(names[:20]) + (", ..." if len(names) > 20 else "") if names else otherwise
