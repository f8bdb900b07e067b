"""Results of independent pieces of work, kept while the whole is not done, so that it can be continued.

A keeper is given by who owns the whole, as a command does. Each call of `parallel.in_order` has a place: its number
among those of the item that makes it. The same question makes the same calls, in the same order.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sized
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from functools import partial
from typing import Any, Protocol, TypeAlias, TypeVar

Item = TypeVar("Item")
Found = TypeVar("Found")
Compute: TypeAlias = Callable[[bool, Callable[[Any], Found], Iterator[Any], int], Iterator[Found]]
"""Computes the results of items in order: of whether by machine code, the work, the items and their number (zero if it
is not known)."""


class Keeper(Protocol):
    """Where results are kept, by the place of a call and the number of the item."""

    def engine(self, place: str, in_machine_code: bool) -> bool:
        """Whether the items of a call are computed by machine code: as before, or as given."""
        ...

    def known(self, place: str) -> Iterator[Any]:
        """The results from the first item on."""
        ...

    def keep(self, place: str, number: int, found: object) -> None: ...


@dataclass
class _Calls:
    """The calls of an item."""

    keeper: Keeper
    place: str = ""
    count: int = 0


_CALLS: ContextVar[_Calls | None] = ContextVar("calls of in_order", default=None)


@contextmanager
def keeping(keeper: Keeper | None) -> Iterator[None]:
    """Keep the results of all calls; of none, without a keeper."""
    token = _CALLS.set(None if keeper is None else _Calls(keeper))
    try:
        yield
    finally:
        _CALLS.reset(token)


def resumed(
    compute: Compute[Found], in_machine_code: bool, work: Callable[[Item], Found], items: Iterable[Item]
) -> Iterator[Found]:
    """The results of a call of `in_order`: those that are known, then the others."""
    calls, count = _CALLS.get(), len(items) if isinstance(items, Sized) else 0
    if calls is None:
        return compute(in_machine_code, work, iter(items), count)
    calls.count += 1
    place = f"{calls.place}{calls.count}"
    own = partial(compute, calls.keeper.engine(place, in_machine_code), partial(_in_place, work, place))
    return _resumed(own, enumerate(items), count, calls.keeper, place)


def _resumed(
    compute: Callable[[Iterator[tuple[int, Item]], int], Iterator[Found]],
    source: Iterator[tuple[int, Item]],
    count: int,
    keeper: Keeper,
    place: str,
) -> Iterator[Found]:
    done = 0
    for found, _ in zip(keeper.known(place), source, strict=False):  # known ones first: no item is taken in vain
        done += 1
        yield found
    for number, found in enumerate(compute(source, max(count - done, 0)), start=done):
        keeper.keep(place, number, found)
        yield found


def _in_place(work: Callable[[Item], Found], place: str, numbered: tuple[int, Item]) -> Found:
    """An item, whose own calls are kept if it is computed in the process of the keeper."""
    (number, item), calls = numbered, _CALLS.get()
    if calls is None:
        return work(item)
    token = _CALLS.set(_Calls(calls.keeper, f"{place}/{number}/"))
    try:
        return work(item)
    finally:
        _CALLS.reset(token)
