"""Throw random texts at the formula reader: nothing may come back but an expression or an InputError.

    python benchmarks/fuzz_formulas.py [HOW MANY] [SEED]

Half of the texts are random characters, half are pieces of real formulas and of Python put together at random. A guard
counts any attempt to run code, import, open a file or start a process while a text is read.
"""

from __future__ import annotations

import random
import sys
import time

import molino as mo
from molino.core.chemistry.formula import parse_formula

# fmt: off
PIECES = r"""
k K_A n T P R [A] [B] p[A] x[B] [xylose] [H+] ( ) ( ) + - * / ^ ** , . 2 0 1e3 1e-400 1e400 .5 3. exp log sqrt exp( log(
sqrt( sin( __import__('os') ().__class__ lambda: eval( exec( open('x') import os print([A]) [] [ ] {A} 'A' "A" \ ; :
= == := if else for not None True f"{k}" 9**9**9 [A]^[A]^[A] e E j 1j 0x1F 1_000 é α ½ ² ∞ # // % @ & | ~ ? ! $ ` < >
""".split()  # noqa: SIM905
# fmt: on
FORBIDDEN = {"import", "open", "exec", "compile", "os.system", "subprocess.Popen", "socket.connect"}


def texts(count: int, seed: int) -> list[str]:
    draw = random.Random(seed)
    alphabet = [chr(c) for c in range(32, 127)] + [
        "α",
        "²",
        "\n",
        "\t",
        "\x00",
        "[",
        "]",
        "(",
        ")",
        "*",
        "^",
        "k",
        "A",
        "1",
    ]
    found = []
    for n in range(count):
        pool = PIECES if n % 2 else alphabet
        found.append("".join(draw.choice(pool) for _ in range(draw.randint(0, 40))))
    return found


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 0
    parse_formula("k*exp(-[A])^0.5 + log(2)*sqrt(T)")  # what SymPy loads late, it loads now
    watching, ran = [True], []

    def watch(event: str, arguments: tuple[object, ...]) -> None:
        if watching[0] and event in FORBIDDEN:
            ran.append((event, arguments))

    sys.addaudithook(watch)
    begin, read, longest = time.perf_counter(), 0, 0.0
    for text in texts(count, seed):
        start = time.perf_counter()
        try:
            parse_formula(text)
            read += 1
        except mo.InputError:
            pass
        longest = max(longest, time.perf_counter() - start)
    watching[0] = False
    took = time.perf_counter() - begin
    print(
        f"{count} texts in {took:.1f} s: {read} are formulas, {count - read} are reported as InputError, nothing else"
    )
    print(f"slowest {longest * 1e3:.0f} ms; code run, files opened, modules imported: {len(ran)}")
    sys.exit(1 if ran else 0)


if __name__ == "__main__":
    main()
