"""Rate laws that are Python functions, for laws that no formula can express; with numeric derivatives."""

from __future__ import annotations

import inspect
import math
from collections.abc import Callable
from functools import lru_cache
from typing import Any, ClassVar

import sympy as sp

from molino.core.chemistry.formula import KNOWN, concentration, constant, species_in
from molino.core.errors import InputError, SolveError

_STEP = 6e-6
"""Relative step of a difference, the cube root of the machine's precision."""
_SMALL = 1e-3
"""Below this argument (a concentration of 1e-3 mol/m^3) the step no longer shrinks."""


class PythonFunction(sp.Function):  # type: ignore[misc]
    """A Python function of numbers in an expression; each has its own subclass."""

    call: ClassVar[Callable[..., float]]
    code_name: ClassVar[str]
    """Its name in generated code."""

    origin: ClassVar[tuple[object, ...]]
    """The maker of its class, and its arguments."""

    def __reduce__(self) -> tuple[object, ...]:
        return _rebuilt, (*type(self).origin, self.args)

    def __reduce_ex__(self, protocol: object) -> tuple[object, ...]:
        return self.__reduce__()

    def _latex(self, printer: Any) -> str:
        name = type(self).__name__.removeprefix("python_").replace("_", "\\_").strip("<>")
        return f"\\mathrm{{{name}}}({', '.join(printer.doprint(a) for a in self.args)})"

    def fdiff(self, argindex: int = 1) -> sp.Expr:
        return _slope(type(self), argindex - 1)(*self.args)  # type: ignore[arg-type]


def python_law(function: Callable[..., object], constants: frozenset[str]) -> sp.Expr:
    """The rate law of a Python function over the symbols of its arguments.

    An argument is one of `constants`, T or P, or otherwise the concentration of the species of that name; one with a
    default value that is not among the constants is left to its default.

    Raises
    ------
    InputError
        If the arguments of the function cannot be read.
    """
    try:
        signature = inspect.signature(function).parameters.values()
    except (TypeError, ValueError) as error:
        raise InputError(
            f"the arguments of {function!r} cannot be read", "", "write def rate(A, B, T, k): ..."
        ) from error
    known = {inspect.Parameter.POSITIONAL_OR_KEYWORD, inspect.Parameter.KEYWORD_ONLY}
    taken = [p for p in signature if p.default is inspect.Parameter.empty or p.name in constants]
    if not taken or any(p.kind not in known for p in taken):
        message = f"the Python rate law {name_of(function)} does not name its arguments"
        raise InputError(message, "", "write def rate(A, B, T, k): with species, T, P and constants as arguments")
    symbols = [constant(p.name) if p.name in constants else KNOWN.get(p.name, concentration(p.name)) for p in taken]
    return _law(function, tuple(p.name for p in taken), tuple(species_in(s) is not None for s in symbols))(*symbols)


def name_of(function: Callable[..., object]) -> str:
    """The name of a function."""
    return str(getattr(function, "__name__", function))


@lru_cache(maxsize=4096)
def _law(function: Callable[..., Any], names: tuple[str, ...], clipped: tuple[bool, ...]) -> type[PythonFunction]:
    def call(*numbers: float) -> float:
        # negative rounding is read as zero, as in formulas
        given = {n: max(v, 0.0) if clip else v for n, v, clip in zip(names, map(float, numbers), clipped, strict=True)}
        try:
            value = float(function(**given))
        except (ArithmeticError, ValueError):
            raise
        except Exception as error:
            at = ", ".join(f"{n} = {v:.6g}" for n, v in given.items())
            message = f"the Python rate law {name_of(function)} failed: {type(error).__name__}: {error}, at {at} (SI)"
            raise SolveError(
                message, "rate law", "correct the function; it takes and gives plain numbers in SI"
            ) from error
        if not math.isfinite(value):
            raise ArithmeticError(f"{name_of(function)} gives {value}")
        return value

    return _made(f"python_{name_of(function)}", call, (_law, (function, names, clipped)))


@lru_cache(maxsize=65536)
def _slope(law: type[PythonFunction], place: int) -> type[PythonFunction]:
    """The derivative of a law by one argument: a central difference, near zero a one-sided one of second order."""

    def call(*numbers: float) -> float:
        x = float(numbers[place])
        h = _STEP * max(abs(x), _SMALL)

        def at(value: float) -> float:
            return law.call(*numbers[:place], value, *numbers[place + 1 :])

        if 0.0 <= x < h:
            return (-3.0 * at(x) + 4.0 * at(x + h) - at(x + 2.0 * h)) / (2.0 * h)
        return (at(x + h) - at(x - h)) / (2.0 * h)

    return _made(f"d{place}_{law.__name__}", call, (_slope_again, (law.origin, place)))


def _made(name: str, call: Callable[..., float], origin: tuple[object, ...]) -> type[PythonFunction]:
    static = staticmethod(call)
    own = {"call": static, "_imp_": static, "code_name": f"python_{id(call):x}", "origin": origin}
    return type(name, (PythonFunction,), own)


def _slope_again(origin: tuple[Any, ...], place: int) -> type[PythonFunction]:
    maker, arguments = origin
    return _slope(maker(*arguments), place)


def _rebuilt(maker: Callable[..., Any], arguments: tuple[Any, ...], args: tuple[Any, ...]) -> sp.Expr:
    """An expression, restored in another process."""
    return maker(*arguments)(*args)
