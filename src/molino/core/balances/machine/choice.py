"""When balances are integrated in machine code: where the extra `fast` is installed, and the work repays its making.

The evaluations of right-hand sides that Python has done so far are counted. The machine takes over when they have taken
as long as its making will: the time is then at most twice the least possible, whatever comes. MOLINO_MACHINE_CODE in
the environment is "auto", "always" or "off".
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field
from importlib.util import find_spec
from typing import TYPE_CHECKING
from weakref import WeakKeyDictionary

import sympy as sp

from molino.core.balances.compiled import Compiled
from molino.core.balances.machine.compiled_code import are_compiled

if TYPE_CHECKING:
    from molino.core.balances.machine.engine import Machine

_TO_WRITE, _TO_LOAD, _TO_COMPILE = 10_000, 200_000, 5_000_000
"""Numbers of evaluations in Python that take as long as writing the code of one form of balances, loading numba and the
compiled integrators, and compiling these, which is done once (docs/performance.md)."""
_MOST_STATES = 80
"""Number of states above which sparse algebra is faster than the dense factors of the machine."""


class Account:
    """The evaluations of right-hand sides in this process, and whether there is machine code."""

    def __init__(self) -> None:
        asked = os.environ.get("MOLINO_MACHINE_CODE", "auto")
        self.is_installed = asked != "off" and find_spec("numba") is not None
        self.is_asked = asked == "always"
        self.evaluations = 0
        self.of: WeakKeyDictionary[Compiled, _Record] = WeakKeyDictionary()

    def record(self, whole: Compiled) -> _Record:
        """The record of some balances."""
        if whole not in self.of:
            self.of[whole] = _Record()
        return self.of[whole]


@dataclass
class _Record:
    """The evaluations of balances in Python, and their machine code (None: there can be none), by sensitivities."""

    evaluations: dict[tuple[sp.Symbol, ...], int] = field(default_factory=dict)
    machines: dict[tuple[sp.Symbol, ...], Machine | None] = field(default_factory=dict)


ACCOUNT = Account()
_PINNED: ContextVar[bool | None] = ContextVar("in_machine_code", default=None)


def prefers_machine_code(evaluations: int) -> bool:
    """Whether machine code would repay, if so many evaluations in Python follow."""
    if _PINNED.get() is not None:
        return bool(_PINNED.get())
    whole = max(ACCOUNT.evaluations, evaluations)
    repaid = whole >= _TO_LOAD and (are_compiled() or whole >= _TO_COMPILE)
    return ACCOUNT.is_installed and (ACCOUNT.is_asked or repaid)


@contextmanager
def pinned(in_machine_code: bool) -> Iterator[None]:
    """One engine, whatever has been evaluated before."""
    token = _PINNED.set(in_machine_code)
    try:
        yield
    finally:
        _PINNED.reset(token)


def spent(whole: Compiled, by: tuple[sp.Symbol, ...], evaluations: int) -> None:
    """Count evaluations of a right-hand side in Python."""
    ACCOUNT.evaluations += evaluations
    counted = ACCOUNT.record(whole).evaluations
    counted[by] = counted.get(by, 0) + evaluations


def machine_of(whole: Compiled, by: tuple[sp.Symbol, ...] = ()) -> Machine | None:
    """The machine code of balances with sensitivities by some parameters; None where Python does the work."""
    pin = _PINNED.get()
    if not ACCOUNT.is_installed or pin is False:
        return None
    record = ACCOUNT.record(whole)
    if by in record.machines:
        return record.machines[by]
    b = whole.balances
    if b.has_equations or b.kinks or b.extent is not None or len(b.states) > _MOST_STATES:
        record.machines[by] = None
    elif pin or ACCOUNT.is_asked or (record.evaluations.get(by, 0) >= _TO_WRITE and prefers_machine_code(0)):
        record.machines[by] = _made(whole, by)
    return record.machines.get(by)


def _made(whole: Compiled, by: tuple[sp.Symbol, ...]) -> Machine | None:
    from molino.core.balances.machine.code import NoMachineCode
    from molino.core.balances.machine.engine import Machine

    try:
        return Machine(whole, by)
    except NoMachineCode:
        return None
