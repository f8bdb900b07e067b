"""Python source from symbols: shared subexpressions once, parts that depend on parameters alone outside the loop.

The text is generated from SymPy trees with generated names (y0, p3, x12), so that user text is never executed. The same
text runs on floats (with `math`) and on whole columns of results (with NumPy).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cached_property
from struct import Struct
from typing import Any

import numpy as np
import sympy as sp

from molino.core.annotations import PlainData
from molino.core.chemistry.numeric_function import NumericFunction
from molino.core.chemistry.python_rate_law import PythonFunction
from molino.core.errors import SolveError
from molino.core.symbols import in_order


class NotFinite(SolveError, ArithmeticError):
    """A generated function had a division by zero or a similar error; with its place."""

    def __init__(self, cause: Exception, states: object, at: float) -> None:
        message = f"the balances evaluate to NaN there ({cause})"
        super().__init__(message, "", "check the size of the numbers, and rate laws with denominators that may be zero")
        self.cause, self.states, self.at = cause, states, at


def power(base: float, exponent: float) -> float:
    """base^exponent with negative rounding read as zero, so that a fractional order is defined at exhaustion."""
    if base > 0.0:
        return float(base**exponent)
    if exponent > 0.0:
        return 0.0
    if exponent == 0.0:
        return 1.0
    raise ZeroDivisionError("zero to a negative power")


SLOPE_FLOOR = 1e-12
"""Base below which the derivative of a power is that at this base."""
SMALLEST, LOG_FLOOR = 1e-300, -690.7755278982137
"""The smallest positive number, and its logarithm, as which rounding below zero is read."""


def slope_power(base: float, exponent: float) -> float:
    """As `power`, for derivatives: large at zero instead of infinite."""
    return float(base**exponent) if base > SLOPE_FLOOR else (0.0 if exponent > 0.0 else SLOPE_FLOOR**exponent)


def floored_log(value: float) -> float:
    """log with negative rounding read as the smallest positive number (so that 0^n log 0 is 0)."""
    return math.log(value) if value > SMALLEST else LOG_FLOOR


SCALAR = {"exp": math.exp, "log": floored_log, "power": power, "slope_power": slope_power}


def _array_power(base: Any, exponent: object) -> Any:
    return np.where(np.asarray(base) > 0, np.abs(base) ** exponent, np.where(np.asarray(exponent) > 0, 0.0, np.nan))


def _array_slope(base: Any, exponent: object) -> Any:
    return (
        np.where(np.asarray(base) > SLOPE_FLOOR, np.abs(base), np.where(np.asarray(exponent) > 0, 0.0, SLOPE_FLOOR))
        ** exponent
    )


ARRAY = {
    "exp": np.exp,
    "log": lambda v: np.log(np.maximum(v, SMALLEST)),
    "power": _array_power,
    "slope_power": _array_slope,
}


def scope(expressions: Iterable[sp.Expr], array: bool) -> PlainData:
    """The functions that the text of some expressions calls; users' Python functions are called element by element."""
    every = [*expressions]
    own = {f.func for e in every for f in e.atoms(PythonFunction)}
    calls = {f.code_name: np.vectorize(f.call, otypes=[float]) if array else f.call for f in own}
    numeric = {f.func for e in every for f in e.atoms(NumericFunction)}
    calls |= {f.code_name(): f.columns if array else f.number for f in numeric}
    return {"NotFinite": NotFinite, **(ARRAY if array else SCALAR), **calls}


POWER, SLOPE = sp.Function("power"), sp.Function("slope_power")


def guarded(e: sp.Expr, function: sp.Function = POWER) -> sp.Expr:
    """Powers that are not whole numbers as calls of `power` (in derivatives: `slope_power`), which are defined at
    zero."""
    if not any(not p.exp.is_Integer for p in e.atoms(sp.Pow)):
        return e
    return e.replace(lambda p: isinstance(p, sp.Pow) and not p.exp.is_Integer, lambda p: function(p.base, p.exp))


def plain(e: sp.Expr) -> sp.Expr:
    """The inverse of `guarded`: calls as powers."""
    for function in (POWER, SLOPE):
        e = e.replace(function, sp.Pow) if e.has(function) else e
    return e


def write(e: sp.Basic, names: Mapping[sp.Symbol, str]) -> str:
    """One expression as Python text, fully bracketed."""
    if isinstance(e, sp.Symbol):
        return names[e]
    if isinstance(e, sp.Number):
        return repr(int(e)) + ".0" if isinstance(e, sp.Integer) else f"({float(e)!r})"
    if isinstance(e, sp.Add):
        return _sum(e, names)
    if isinstance(e, sp.Mul):
        above: list[sp.Basic] = []
        below: list[sp.Basic] = []
        for factor in e.args:
            down = isinstance(factor, sp.Pow) and factor.exp.is_Integer and factor.exp < 0
            (below if down else above).append(1 / factor if down else factor)
        sign = "-" if above and above[0] == -1 else ""
        over = "*".join(write(f, names) for f in above[bool(sign) :]) or "1.0"
        under = "*".join(write(f, names) for f in below)
        return f"({sign}{over})" if not under else f"({sign}{over}/({under}))"
    if isinstance(e, sp.exp):
        return f"exp({write(e.args[0], names)})"
    if isinstance(e, sp.log):
        return f"log({write(e.args[0], names)})"
    if isinstance(e, sp.Pow):
        base = write(e.base, names)
        if e.exp.is_Integer:
            count = abs(int(e.exp))
            product = "*".join([base] * count) if count <= 4 and len(base) < 6 else f"{base}**{count}"
            return f"({product})" if e.exp > 0 else f"(1.0/({product}))"
        return f"power({base}, {write(e.exp, names)})"
    if isinstance(e, sp.core.function.AppliedUndef | NumericFunction | PythonFunction):
        called = e.func.__name__ if isinstance(e, sp.core.function.AppliedUndef) else e.func.code_name
        called = called() if isinstance(e, NumericFunction) else called
        return f"{called}({', '.join(write(a, names) for a in e.args)})"
    if e.is_number:
        return f"({float(e)!r})"
    raise NotImplementedError(f"no code for {type(e).__name__}")  # pragma: no cover - the grammar has no other node


def _sum(e: sp.Add, names: Mapping[sp.Symbol, str]) -> str:
    """A sum; negative terms are subtracted, which is one operation less."""
    taken = [term for term in e.args if _is_negative(term)]
    added = [term for term in e.args if not _is_negative(term)]
    if not added:
        added = [taken.pop(0)]
    text = " + ".join(write(term, names) for term in added)
    return f"({''.join([text, *(f' - {write(-term, names)}' for term in taken)])})"


def _is_negative(e: sp.Basic) -> bool:
    return bool((e.is_Mul and e.args[0].is_Number and e.args[0].is_negative) or (e.is_Number and e.is_negative))


class Program:
    """Assignments and outputs, divided into those that depend on parameters alone and those of every call."""

    def __init__(
        self,
        definitions: Mapping[sp.Symbol, sp.Expr],
        outputs: Sequence[sp.Expr],
        moving: Iterable[sp.Symbol],
        share: bool = True,
    ) -> None:
        used = needed(definitions, outputs)
        self.fixed: dict[sp.Symbol, sp.Expr] = {}
        self.hoisted: dict[sp.Expr, sp.Symbol] = {}
        self.moving: set[sp.Symbol] = set(moving)
        self._moves: dict[sp.Expr, bool] = {}
        self._done: dict[sp.Expr, sp.Expr] = {}
        for symbol in used:
            if definitions[symbol].free_symbols & self.moving:
                self.moving.add(symbol)
        varying: dict[sp.Symbol, sp.Expr] = {}
        for symbol in used:
            if symbol in self.moving:
                varying[symbol] = self._hoist(definitions[symbol])
            else:
                self.fixed[symbol] = definitions[symbol]
        self.outputs = [self._hoist(output) for output in outputs]
        self.varying = varying
        if share:
            self._share(varying)

    def _hoist(self, e: sp.Expr) -> sp.Expr:
        """Replace the largest constant parts by symbols that are computed once."""
        if e.is_Number or isinstance(e, sp.Symbol):
            return e
        if e not in self._done:
            self._done[e] = self._hoisted(e)
        return self._done[e]

    def moves(self, e: sp.Expr) -> bool:
        """Whether an expression must be evaluated at every call."""
        if isinstance(e, sp.Symbol):
            return e in self.moving
        if e not in self._moves:
            self._moves[e] = any(self.moves(a) for a in e.args)
        return self._moves[e]

    def _hoisted(self, e: sp.Expr) -> sp.Expr:
        if not self.moves(e):
            return self.once(e)
        if isinstance(e, sp.Mul | sp.Add):
            still = [a for a in e.args if not self.moves(a)]
            rest = [self._hoist(a) for a in e.args if self.moves(a)]
            if len(still) == 1 and (still[0].is_Number or still[0].is_Symbol):
                return e.func(still[0], *rest)
            return e.func(self.once(e.func(*still)), *rest) if still else e.func(*rest)
        return e.func(*(self._hoist(a) for a in e.args))

    def once(self, e: sp.Expr) -> sp.Expr:
        """The symbol of a constant part, computed once."""
        if e.is_Number or isinstance(e, sp.Symbol):
            return e
        if e not in self.hoisted:
            self.hoisted[e] = sp.Symbol(f"#{len(self.hoisted)}")
            self.fixed[self.hoisted[e]] = e
        return self.hoisted[e]

    def _share(self, varying: dict[sp.Symbol, sp.Expr]) -> None:
        expressions = [*varying.values(), *self.outputs]
        shared, reduced = sp.cse(expressions, symbols=sp.numbered_symbols("@"), order="none")
        self.outputs = reduced[len(varying) :]
        found = {**dict(shared), **dict(zip(varying, reduced[: len(varying)], strict=True))}
        order = needed(found, self.outputs)
        self.varying = {symbol: found[symbol] for symbol in order}


def needed(definitions: Mapping[sp.Symbol, sp.Expr], outputs: Sequence[sp.Expr]) -> list[sp.Symbol]:
    """The definitions that the outputs need, each after those that it uses."""
    order: dict[sp.Symbol, None] = {}
    stack = [s for output in reversed(outputs) for s in reversed(in_order(output.free_symbols))]
    while stack:
        symbol = stack.pop()
        if symbol in order or symbol not in definitions:
            continue
        missing = [s for s in definitions[symbol].free_symbols if s in definitions and s not in order]
        if missing:
            stack += [symbol, *in_order(missing)]
        else:
            order[symbol] = None
    return list(order)


class Generated:
    """Python text of outputs over states: `make(parameters) -> function(states, independent) -> list of outputs`."""

    def __init__(self, head: list[str], body: list[str], results: list[str], known: PlainData) -> None:
        self._head, self._body, self._results, self._known = head, body, results, known

    def __call__(self, parameters: Sequence[float]) -> Callable[..., list[Any]]:
        return self._listing(parameters)

    @cached_property
    def _listing(self) -> Callable[[Sequence[float]], Callable[..., list[Any]]]:
        return self._compile([f"return [{', '.join(self._results)}]"], self._known)  # type: ignore[no-any-return]

    def filling(
        self, shape: tuple[int, ...], places: Sequence[int] | None = None
    ) -> Callable[[Sequence[float]], Callable[..., np.ndarray]]:
        """`make(parameters) -> function(states, independent) -> array`, the same array at every call.

        For an integrator, which copies the result before its next call: filling an existing array takes half the time
        of converting a list. Each function has its own array.

        Parameters
        ----------
        shape : tuple of int
            Of that array.
        places : sequence of int, optional
            The place of each output in it, flattened; the rest is zero.
        """
        texts = ["0.0"] * math.prod(shape)
        for place, text in zip(places or range(len(texts)), self._results, strict=True):
            texts[place] = text
        known = {"pack": Struct(f"{len(texts)}d").pack_into, "empty": np.empty, "view": memoryview, **self._known}
        out = [f"out = empty({shape!r})", "held = view(out).cast('B')"]
        return self._compile([f"pack(held, 0, {', '.join(texts)})", "return out"], known, out)  # type: ignore[no-any-return]

    def _compile(self, end: list[str], known: PlainData, head: Sequence[str] = ()) -> Any:
        unpack, *body = self._body
        lines = ["def make(parameters):", *(f"    {line}" for line in [*self._head, *head]), "    def function(y, t):"]
        lines += [f"        {unpack}", "        try:", *(f"            {line}" for line in [*body, *end])]
        lines += [
            "        except (ArithmeticError, ValueError) as cause:",
            "            raise NotFinite(cause, y, t) from cause",
            "    return function",
        ]
        space = dict(known)
        exec(compile("\n".join(lines), "<molino balances>", "exec"), space)
        return space["make"]


def build(
    definitions: Mapping[sp.Symbol, sp.Expr],
    outputs: Sequence[sp.Expr],
    states: Sequence[sp.Symbol],
    independent: sp.Symbol,
    parameters: Sequence[sp.Symbol],
    *,
    array: bool = False,
) -> Generated:
    """Generate `make(parameters) -> function(states, independent) -> list of outputs`.

    With `array` the states come as rows of a matrix and the outputs are columns of numbers.
    """
    safe = {symbol: guarded(e) for symbol, e in definitions.items()}
    program = Program(safe, [guarded(e) for e in outputs], [*states, independent])
    names = {symbol: f"y{i}" for i, symbol in enumerate(states)}
    names |= {symbol: f"p{i}" for i, symbol in enumerate(parameters)}
    names[independent] = "t"
    names |= {symbol: f"h{i}" for i, symbol in enumerate(program.fixed)}
    names |= {symbol: f"x{i}" for i, symbol in enumerate(program.varying)}
    head = [f"{', '.join(names[s] for s in parameters)}, = parameters"] if parameters else []
    head += [f"{names[s]} = {write(program.fixed[s], names)}" for s in needed(program.fixed, list(program.fixed))]
    unpack = f"{', '.join(names[s] for s in states)}, = y" + ("" if array else ".tolist()") if states else "pass"
    body = [unpack, *(f"{names[s]} = {write(e, names)}" for s, e in program.varying.items())]
    known = scope([*program.fixed.values(), *program.varying.values(), *program.outputs], array)
    return Generated(head, body, [write(output, names) for output in program.outputs], known)
