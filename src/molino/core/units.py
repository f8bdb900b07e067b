"""Quantities in, SI floats inside, quantities out; the arithmetic of units is pint's.

`read` turns a string, a pint quantity or a bare number (SI) into a `Value`: an SI float with the unit of the input, in
which results are shown.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import cache, lru_cache
from typing import TYPE_CHECKING, Any, TypeAlias

from molino.core.arguments import short
from molino.core.dimension_text import si_text
from molino.core.errors import InputError, UnitError
from molino.core.pint_units import registry, resolved, spell_out
from molino.core.unit_tables import (
    EXAMPLES,
    LEAST,
    LIKELY,
    MOST,
    MOST_OF,
    OTHER_WORDS,
    SI_UNITS,
    Dimension,
)

if TYPE_CHECKING:
    import numpy as np
    import pint


_LEAST_OF_ANY = 2.3e-308
"""Smallest number of other kinds: below it floats lose their digits."""
_MOST_OF_ANY = 1e200
"""Largest number of any kind, for rate constants."""
_NUMBER = re.compile(r"\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)\s*(.*?)\s*$", re.DOTALL)
_SPREAD = re.compile(
    r"\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)\s*(?:\+/?-|±)\s*((?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)(.*)",
    re.DOTALL,
)


@dataclass(frozen=True)
class Unit:
    """A unit reduced to its conversion: SI value = factor * number + offset."""

    text: str
    factor: float
    offset: float
    dimension: Dimension

    def to_si(self, number: Any) -> Any:
        return number * self.factor + self.offset

    def from_si(self, number: Any) -> Any:
        return (number - self.offset) / self.factor


@cache
def unit(text: str) -> Unit:
    """Look a unit up by its text ("mol/L/min", "m3/h", "degC").

    Raises
    ------
    UnitError
        If the unit is unknown.
    """
    if "%" in text and text.strip() != "%":
        raise UnitError(f"'{text[:80]}' is not a unit", advice="a fraction has no other unit: '20 mol%', '3 wt%'")
    risky = r"\d{3}|\d\s*(\*\*|\^)"  # powers of numbers are not units, and their evaluation may not end
    if len(text) > 80 or not re.fullmatch(r"[\w\s*/^().%°·²³⁻¹+-]*", text) or re.search(risky, text):
        raise UnitError(f"'{text[:80]}' is not a unit", advice="write units like mol/L, 1/min, m3/h, degC")
    text = text.strip()
    factor, offset, dimension = resolved(text)
    return Unit(text, factor, offset, {base: Fraction(power) for base, power in dimension.items()})


@dataclass(frozen=True)
class Value:
    """A number with its unit: dimensional results and given quantities.

    `to` gives the number in another unit, `quantity` a pint quantity for arithmetic; `print` shows it with its unit.
    Values of one dimension can be compared and sorted, whatever their units.

    Attributes
    ----------
    si : float
        In SI.
    unit : str or None
        The unit in which it is shown; None for a bare number.
    deviation : float
        Its standard deviation in SI; 0 without one.

    Examples
    --------
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.PlugFlow(mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min")), feed, volume="5 L")
    >>> time = tube.run().residence_time
    >>> time.si, round(time.to("h"), 4), str(time)
    (300.0, 0.0833, '5 min')
    """

    si: float
    unit: str | None = None
    deviation: float = 0.0

    def to(self, text: str) -> float:
        """The number in another unit of the same dimension; UnitError for one of another dimension."""
        self._expect_dimension_of(text)
        return float(unit(text).from_si(self.si))

    def _expect_dimension_of(self, text: str | None) -> None:
        if self.unit is not None and text is not None and unit(text).dimension != unit(self.unit).dimension:
            raise UnitError(f"{self} is not in a unit like {text}", "", f"give one like {self.unit}")

    def __lt__(self, other: Value) -> bool:
        self._expect_dimension_of(other.unit)
        return self.si < other.si

    def __le__(self, other: Value) -> bool:
        self._expect_dimension_of(other.unit)
        return self.si <= other.si

    @property
    def number(self) -> float:
        """The number in its own unit."""
        return self.si if self.unit is None else self.to(self.unit)

    def __repr__(self) -> str:
        return f"Value({str(self)!r})"

    @property
    def quantity(self) -> Any:
        """The same as a pint quantity, in its own unit."""
        return registry().Quantity(self.to(self.unit or ""), spell_out(self.unit or ""))

    def text(self, digits: int) -> str:
        """The number to some digits, with its own unit."""
        return f"{number_text(self.number, digits)} {pretty(self.unit or '')}".rstrip()

    def __str__(self) -> str:
        if not isinstance(self.si, float | int):
            return "several numbers"
        if not self.deviation:
            return self.text(6)
        deviation = self.deviation / (unit(self.unit).factor if self.unit else 1.0)
        return f"{number_text(self.number, 6)} ± {number_text(deviation, 6)} {pretty(self.unit or '')}".rstrip()


if TYPE_CHECKING:
    QuantityLike: TypeAlias = "float | str | Value | pint.Quantity[Any]"
    """A quantity as it is given: a number, a text with a unit, a `Value` or a pint quantity."""
else:
    QuantityLike = Any


def number_text(number: float, digits: int) -> str:
    """A number to some digits; below a million with all before the point, 11574 and not 1.157e+04."""
    return f"{number:.0f}" if 10.0**digits <= abs(number) < 1e6 else f"{number:.{digits}g}"


def split(text: str) -> tuple[float, str]:
    """Split "12 m3/h" into the number and the text of the unit."""
    match = _NUMBER.match(text)
    if match and _SPREAD.match(text):
        message = f"{short(text)} has a standard deviation, which is not used here"
        raise InputError(
            message, advice="leave it out; a feed, a charge, a size and a condition of a vessel may have one"
        )
    if not match or (match[2] and match[2][0] in ".,"):
        advice = "write a number and its unit, like '0.35 mol/L'"
        if re.search(r"\d,\d", text):
            advice += ", with a decimal point"
        raise InputError(f"{short(text)} is not a quantity", advice=advice)
    return float(match[1]), match[2]


def of(number: float, text: str) -> Value:
    """A value from its number in a unit."""
    return Value(float(unit(text).to_si(number)), text)


def read(given: Any, kind: str | None = None, name: str = "") -> Value:
    """Read a quantity.

    Parameters
    ----------
    given : str, int, float, pint quantity or Value
        "12 m3/h", a quantity of any pint registry, or a bare number in SI.
    kind : str, optional
        A key of `SI_UNITS` with the expected dimension; by default any dimension.
    name : str
        The argument, for the message.

    Returns
    -------
    Value
        The SI number and the unit of the input.

    Raises
    ------
    UnitError
        If the unit is unknown or of another dimension than `kind`.
    InputError
        If it is not a finite number.
    """
    try:
        if isinstance(given, Value):
            value = given
        elif isinstance(given, str):
            number, text = split(given)
            value = of(number, text) if text else Value(number)
        elif isinstance(given, bool) or given is None:
            raise InputError(f"{given!r} is not a quantity", advice=_example(kind))
        elif hasattr(given, "magnitude") and hasattr(given, "units"):
            text = f"{given.units:~C}"
            value = of(float(given.magnitude), text)
        else:
            value = Value(float(given))
    except OverflowError:
        value = Value(math.inf)
    except (TypeError, ValueError) as error:
        raise InputError(f"{short(given)} is not a quantity", where=name, advice=_example(kind)) from error
    except InputError as error:
        raise type(error)(fault.within(name) if name else fault for fault in error.faults) from error
    if not math.isfinite(value.si):
        raise InputError(f"{short(given)} is not a finite number", where=name, advice=_example(kind))
    most = MOST if kind else _MOST_OF_ANY
    least = 0.0 if kind == "number" else LEAST.get(kind or "", _LEAST_OF_ANY)
    if abs(value.si) > most or 0 < abs(value.si) < least:
        size = "large" if abs(value.si) > 1 else "small"
        raise InputError(f"{short(given)} is too {size} to compute with", where=name, advice=_example(kind))
    if kind is not None and value.unit is not None:
        expect(value.unit, kind, name, str(given))
    if kind in MOST_OF and abs(value.si) > MOST_OF[kind]:
        message = f"{short(given)} is beyond the largest value that Molino accepts ({MOST_OF[kind]:g} {SI_UNITS[kind]})"
        raise InputError(message, where=name, advice=_example(kind))
    return value


def split_deviation(text: str) -> tuple[str, float, float] | None:
    """'12 +- 1 m3/h' (or with ±) as '12 m3/h', 12 and 1; None without a standard deviation."""
    match = _SPREAD.fullmatch(text)
    return None if match is None else (f"{match[1]}{match[3]}", float(match[1]), float(match[2]))


def with_deviation(given: object, reader: Callable[[object], Value]) -> Value:
    """Read a quantity that may have a standard deviation, "12 +- 1 m3/h"; `reader` reads it without."""
    parts = split_deviation(given) if isinstance(given, str) else None
    if parts is None:
        return reader(given)
    value = reader(parts[0])
    return replace(value, deviation=parts[2] * (unit(value.unit).factor if value.unit else 1.0))


def read_numbers(given: Any, kind: str, name: str = "") -> np.ndarray:
    """Several numbers in SI, shape (numbers,): an array (in SI), a pint quantity of one, or quantities in a list.

    Raises
    ------
    UnitError, InputError
        As `read`.
    """
    import numpy as np

    if hasattr(given, "magnitude") and hasattr(given, "units"):
        text = f"{given.units:~C}"
        expect(text, kind, name)
        return np.atleast_1d(np.asarray(unit(text).to_si(np.asarray(given.magnitude, dtype=float))))
    if isinstance(given, np.ndarray) and given.ndim and given.dtype.kind in "fiu":
        return np.asarray(given, dtype=float)
    items = [given] if isinstance(given, str) or np.ndim(given) == 0 else list(given)
    if any(isinstance(item, str | Value) or hasattr(item, "magnitude") for item in items):
        return np.array([read(item, kind, name).si for item in items])
    try:
        return np.asarray(items, dtype=float)
    except (TypeError, ValueError) as error:
        raise InputError(f"{given!r} are not numbers", where=name, advice=_example(kind)) from error


def unit_of(given: Any) -> str | None:
    """The unit of a quantity, or of the first of several that has one; None for bare numbers."""
    if hasattr(given, "magnitude") and hasattr(given, "units"):
        return f"{given.units:~C}" or None
    if isinstance(given, Value):
        return given.unit
    if isinstance(given, str):
        return read(given).unit
    if hasattr(given, "dtype") or not hasattr(given, "__iter__"):
        return None
    return next((unit for one in given if (unit := unit_of(one)) is not None), None)


def read_difference(given: object, kind: str, name: str = "") -> float:
    """A difference of two quantities in SI, like a standard deviation: "0.5 degC" are 0.5 K."""
    value = positive(given, kind, name)
    found = unit(value.unit) if value.unit else None
    difference = value.si if found is None else float(found.from_si(value.si)) * found.factor
    if not difference > 0:
        raise InputError(f"{given!s} must be above zero", where=name, advice="give a size, like '0.5 K'")
    return difference


def _example(kind: str | None) -> str:
    return f"write it like '{EXAMPLES[kind]}'" if kind else "write it like '0.35 mol/L'"


def expect(text: str, kind: str, name: str = "", given: str | None = None) -> Unit:
    """Look a unit up and compare its dimension with a kind of quantity; UnitError if they differ."""
    found, wanted = unit(text), unit(SI_UNITS[kind])
    if found.dimension != wanted.dimension:
        message = given if given is not None else text
        advice = (
            f"give {article(kind)}, like '{EXAMPLES[kind]}'"
            if kind != "number"
            else "give a plain number, without unit"
        )
        if kind == "temperature" and text.strip() in LIKELY:
            advice = f"did you mean '{LIKELY[text.strip()]}'?"
        raise UnitError(
            f"'{message}' is not {article(kind)}: {text or '1'} is a unit of {describe(found.dimension)}", name, advice
        )
    if kind == "temperature difference" and found.offset:
        message = given if given is not None else text
        raise UnitError(f"'{message}' is a temperature, not a difference of two", name, "give it in K")
    return found


def article(noun: str) -> str:
    """'a length', 'an amount'."""
    return f"{'an' if noun[0] in 'aeiou' else 'a'} {noun}"


def positive(given: object, kind: str, name: str, zero: bool = False) -> Value:
    """Read a quantity that must be above zero (or, with `zero`, not below it)."""
    return (_positive_known if isinstance(given, str | Value) else _positive)(given, kind, name, zero)


def _positive(given: object, kind: str, name: str, zero: bool) -> Value:
    value = read(given, kind, name)
    if value.si < 0 or (value.si == 0 and not zero):
        what = "must not be negative" if zero else "must be above zero"
        advice = "temperatures are absolute: check the unit" if kind == "temperature" else "check the sign"
        raise InputError(f"{kind} {given!s} {what}", where=name, advice=advice)
    return value


_positive_known = lru_cache(maxsize=8192)(_positive)


def describe(dimension: Dimension) -> str:
    """A dimension in words: the kind it belongs to, or its SI unit."""
    for kind, text in SI_UNITS.items():
        if text and unit(text).dimension == dimension and kind not in ("diameter",):
            return OTHER_WORDS.get(kind, kind)
    return si_text(dimension) or "a pure number"


def pretty(text: str) -> str:
    """A unit in typeset form: 'm3/h' as 'm³/h', 'degC' as '°C'."""
    shown = text.strip().replace("**", "^").replace("degC", "°C").replace("degF", "°F")
    return re.sub(r"(?<=[A-Za-z])\^?([23])(?![\dA-Za-z.])", lambda m: {"2": "²", "3": "³"}[m[1]], shown)


def pretty_heading(heading: str) -> str:
    """A heading with a typeset unit: 'flow [m3/h]' as 'flow [m³/h]'."""
    name, bracket, unit = heading.partition(" [")
    return f"{name} [{pretty(unit.rstrip(']'))}]" if bracket else name
