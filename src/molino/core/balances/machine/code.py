"""Symbols to machine functions by LLVM, which the integrators call by their address, without Python in between.

The program is that of `source.py`, as two functions: `head(parameters, fixed)` computes once the values that depend on
the parameters alone, and `body(t, states, fixed, out)` the outputs. A value that is not finite is not an error here:
the integrator finds it in the outputs.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cache, cached_property

import llvmlite.binding as llvm
import sympy as sp
from llvmlite import ir

from molino.core.balances.source import LOG_FLOOR, POWER, SLOPE, SLOPE_FLOOR, SMALLEST, Program, guarded, needed
from molino.core.chemistry.numeric_function import NumericFunction

_DOUBLE, _INTEGER = ir.DoubleType(), ir.IntType(64)
_POINTER = _DOUBLE.as_pointer()
_SPEED_LEVEL = 2


class NoMachineCode(Exception):
    """An expression that only Python can evaluate, such as a rate law that is a Python function."""


@cache
def _target() -> llvm.Target:
    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    return llvm.Target.from_default_triple()


@dataclass(frozen=True, eq=False)
class MachineCode:
    """The addresses of `head` and `body`, valid as long as this object, and the number of values that `head` fills."""

    head: int
    body: int
    fixed: int
    module: llvm.ExecutionEngine

    @cached_property
    def entry(self) -> tuple[int, int, int]:
        """Both addresses and that number, as the integrators take them."""
        return self.head, self.body, self.fixed


class _Writer:
    """Writes the code of one function."""

    def __init__(self, module: ir.Module, name: str, arguments: Sequence[ir.Type]) -> None:
        function = ir.Function(module, ir.FunctionType(ir.VoidType(), list(arguments)), name)
        self.arguments = function.args
        self.builder = ir.IRBuilder(function.append_basic_block())
        self.module = module
        self.values: dict[sp.Basic, ir.Value] = {}

    def load(self, pointer: ir.Value, i: int) -> ir.Value:
        return self.builder.load(self.builder.gep(pointer, [ir.Constant(_INTEGER, i)]))

    def store(self, value: ir.Value, pointer: ir.Value, i: int) -> None:
        self.builder.store(value, self.builder.gep(pointer, [ir.Constant(_INTEGER, i)]))

    def value(self, e: sp.Basic) -> ir.Value:
        """The value of an expression; each is computed once."""
        if e not in self.values:
            self.values[e] = self._made(e)
        return self.values[e]

    def _call(self, name: str, *values: ir.Value) -> ir.Value:
        return self.builder.call(self.module.declare_intrinsic(name, [_DOUBLE]), list(values))

    def _made(self, e: sp.Basic) -> ir.Value:
        if isinstance(e, sp.Add):
            return self._sum(e)
        if isinstance(e, sp.Mul):
            return self._product(e)
        if isinstance(e, sp.exp):
            return self._call("llvm.exp", self.value(e.args[0]))
        if isinstance(e, sp.log):
            x = self.value(e.args[0])
            is_positive = self.builder.fcmp_ordered(">", x, _number(SMALLEST))
            return self.builder.select(is_positive, self._call("llvm.log", x), _number(LOG_FLOOR))
        if isinstance(e, sp.Pow) and e.exp.is_Integer:
            return self._power(self.value(e.base), int(e.exp))
        if isinstance(e, sp.Pow) or e.func == POWER:
            return self._guarded(e, 0.0)
        if e.func == SLOPE:
            return self._guarded(e, SLOPE_FLOOR)
        if isinstance(e, NumericFunction) and e.is_choice:
            value, limit, low, high = map(self.value, e.args)
            return self.builder.select(self.builder.fcmp_ordered("<", value, limit), low, high)
        if e.is_number and not e.is_Function:
            return _number(float(e))
        raise NoMachineCode(type(e).__name__)

    def _sum(self, e: sp.Add) -> ir.Value:
        found = None
        for term in e.args:
            number, rest = term.as_coeff_Mul()
            if found is not None and number == -1:
                found = self.builder.fsub(found, self.value(rest))
            else:
                found = self.value(term) if found is None else self.builder.fadd(found, self.value(term))
        return found

    def _product(self, e: sp.Mul) -> ir.Value:
        below = [f for f in e.args if isinstance(f, sp.Pow) and f.exp.is_Integer and f.exp < 0]
        above = [f for f in e.args if f not in below]
        over = self._multiplied(above) if above else _number(1.0)
        return self.builder.fdiv(over, self._multiplied([1 / f for f in below])) if below else over

    def _multiplied(self, factors: Sequence[sp.Basic]) -> ir.Value:
        found = self.value(factors[0])
        for factor in factors[1:]:
            found = self.builder.fmul(found, self.value(factor))
        return found

    def _power(self, base: ir.Value, exponent: int) -> ir.Value:
        found, left = None, abs(exponent)
        while left:
            if left & 1:
                found = base if found is None else self.builder.fmul(found, base)
            left >>= 1
            base = self.builder.fmul(base, base) if left else base
        return found if exponent > 0 else self.builder.fdiv(_number(1.0), found)

    def _guarded(self, e: sp.Basic, floor: float) -> ir.Value:
        """`power` of source.py, or `slope_power` for a floor above zero."""
        builder, base, exponent = self.builder, self.value(e.args[0]), self.value(e.args[1])
        is_rising = builder.fcmp_ordered(">", exponent, _number(0.0))
        if floor:
            below = self._call("llvm.pow", _number(floor), exponent)
        else:
            is_zero = builder.fcmp_ordered("==", exponent, _number(0.0))
            below = builder.select(is_zero, _number(1.0), _number(math.nan))
        below = builder.select(is_rising, _number(0.0), below)
        return builder.select(
            builder.fcmp_ordered(">", base, _number(floor)), self._call("llvm.pow", base, exponent), below
        )


def _number(value: float) -> ir.Constant:
    return ir.Constant(_DOUBLE, value)


def machine_code(
    definitions: Mapping[sp.Symbol, sp.Expr],
    outputs: Sequence[sp.Expr],
    states: Sequence[sp.Symbol],
    independent: sp.Symbol,
    parameters: Sequence[sp.Symbol],
    places: Sequence[int] | None = None,
) -> MachineCode:
    """The machine code of outputs.

    Parameters
    ----------
    definitions, outputs, states, independent, parameters
        As of `source.build`.
    places : sequence of int, optional
        The place of each output in the array that `body` fills; by default their order.

    Raises
    ------
    NoMachineCode
        If an expression has none.
    """
    safe = {symbol: guarded(e) for symbol, e in definitions.items()}
    program = Program(safe, [guarded(e) for e in outputs], [*states, independent])
    module = ir.Module("molino")
    head = _Writer(module, "head", (_POINTER, _POINTER))
    given, fixed = head.arguments
    head.values = {symbol: head.load(given, i) for i, symbol in enumerate(parameters)}
    for symbol in needed(program.fixed, list(program.fixed)):
        head.values[symbol] = head.value(program.fixed[symbol])
    once = [*parameters, *program.fixed]
    for i, symbol in enumerate(once):
        head.store(head.values[symbol], fixed, i)
    head.builder.ret_void()
    body = _Writer(module, "body", (_DOUBLE, _POINTER, _POINTER, _POINTER))
    t, y, fixed, out = body.arguments
    body.values = {symbol: body.load(fixed, i) for i, symbol in enumerate(once)}
    body.values |= {symbol: body.load(y, i) for i, symbol in enumerate(states)}
    body.values[independent] = t
    for symbol, e in program.varying.items():
        body.values[symbol] = body.value(e)
    for place, e in zip(places or range(len(outputs)), program.outputs, strict=True):
        body.store(body.value(e), out, place)
    body.builder.ret_void()
    return _compiled(module, len(once))


def _compiled(module: ir.Module, fixed: int) -> MachineCode:
    machine = _target().create_target_machine(opt=_SPEED_LEVEL)  # one for each module, which takes it over
    made = llvm.parse_assembly(str(module))
    passes = llvm.create_pass_builder(machine, llvm.create_pipeline_tuning_options(speed_level=_SPEED_LEVEL))
    passes.getModulePassManager().run(made, passes)
    engine = llvm.create_mcjit_compiler(made, machine)
    engine.finalize_object()
    head, body = engine.get_function_address("head"), engine.get_function_address("body")
    return MachineCode(head, body, fixed, engine)
