"""Calls of machine functions by their address from code that numba compiles, and the outcomes of an integrator."""

# mypy: allow-untyped-defs, allow-untyped-calls
from __future__ import annotations

import numba
from llvmlite import ir
from numba import types
from numba.core import cgutils, config
from numba.extending import intrinsic

from molino.core.balances.machine.compiled_code import folder_of_integrators

_folder = folder_of_integrators()
if _folder is not None:
    config.CACHE_DIR = str(_folder)

in_machine_code = numba.njit(cache=_folder is not None, error_model="numpy", nogil=True)
"""Compiles a function: stored on disk like everything derived, with NaN instead of errors."""

FINISHED, NOT_FINITE, TOO_MANY_STEPS, STEP_TOO_SMALL, STIFF, NOT_STIFF = range(6)
"""Outcomes of an integration."""
SMALLEST_STEP = 1e-14
"""Smallest step, relative to the place."""

_ARRAY, _ROWS = types.Array(types.float64, 1, "C"), types.Array(types.float64, 2, "C")
_DOUBLE = ir.DoubleType()
_POINTER = _DOUBLE.as_pointer()


def _place(context, builder, kind, array, row=None):
    """The address of an array, or of a row in it."""
    whole = cgutils.create_struct_proxy(kind)(context, builder, value=array)
    if row is None:
        return whole.data
    return builder.gep(whole.data, [builder.mul(row, cgutils.unpack_tuple(builder, whole.shape)[1])])


def _evaluate(typing, address, t, states, row, fixed, outs, place):
    """Call `body(t, states[row], fixed, outs[place])` at an address."""

    def code(context, builder, signature, args):
        kind = ir.FunctionType(ir.VoidType(), [_DOUBLE, _POINTER, _POINTER, _POINTER]).as_pointer()
        y = _place(context, builder, signature.args[2], args[2], args[3])
        fixed = _place(context, builder, signature.args[4], args[4])
        out = _place(context, builder, signature.args[5], args[5], args[6])
        builder.call(builder.inttoptr(args[0], kind), [args[1], y, fixed, out])
        return context.get_dummy_value()

    return types.void(types.int64, types.float64, _ROWS, types.int64, _ARRAY, _ROWS, types.int64), code


def _prepare(typing, address, parameters, fixed):
    """Call `head(parameters, fixed)` at an address."""

    def code(context, builder, signature, args):
        kind = ir.FunctionType(ir.VoidType(), [_POINTER, _POINTER]).as_pointer()
        arrays = [_place(context, builder, signature.args[i], args[i]) for i in (1, 2)]
        builder.call(builder.inttoptr(args[0], kind), arrays)
        return context.get_dummy_value()

    return types.void(types.int64, _ARRAY, _ARRAY), code


evaluate = intrinsic(_evaluate)
prepare = intrinsic(_prepare)
