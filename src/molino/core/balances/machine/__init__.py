"""The engine in machine code (the extra `fast`): symbols to functions by LLVM, integrators by numba."""
