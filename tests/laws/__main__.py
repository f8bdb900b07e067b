"""`make laws N=20000`: so many random problems over all laws, and a table of what held, broke or was refused."""

from __future__ import annotations

import sys
import time
import warnings
from collections import Counter

import numpy as np
from joblib import Parallel, delayed

import molino as mo

from .laws import LAWS

_BATCH = 20


def tried(name: str, seed: int) -> tuple[str, str]:
    """How a law fares with a seed: held, broken or refused, and why."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            LAWS[name](np.random.default_rng([seed, *name.encode()]))
    except mo.MolinoError as error:
        return "refused", str(error).partition("\n")[0]
    except Exception as error:
        return "broken", f"{type(error).__name__}: {error}"
    return "held", ""


def several(name: str, seeds: range) -> tuple[list[tuple[str, int, str, str]], float]:
    """How a law fares with several seeds, and the processor time that it took."""
    begun = time.process_time()
    return [(name, seed, *tried(name, seed)) for seed in seeds], time.process_time() - begun


def main(problems: int, first: int = 0, only: str = "") -> int:
    names = [name for name in LAWS if only in name]
    each = max(problems // len(names), 1)
    tasks = [(n, range(s, min(s + _BATCH, first + each))) for n in names for s in range(first, first + each, _BATCH)]
    begun = time.perf_counter()
    done = Parallel(n_jobs=-1, return_as="generator_unordered")(delayed(several)(n, seeds) for n, seeds in tasks)
    count: Counter[tuple[str, str]] = Counter()
    taken: dict[str, float] = dict.fromkeys(names, 0.0)
    for results, seconds in done:
        taken[results[0][0]] += seconds
        for name, seed, outcome, why in results:
            count[name, outcome] += 1
            if outcome != "held":
                print(f"{outcome}: {name}, seed {seed}: {why[:300]}", flush=True)
    print(f"\n{'law':<80}{'held':>8}{'broken':>8}{'refused':>8}{'ms each':>9}")
    for name in names:
        counts = [count[name, outcome] for outcome in ("held", "broken", "refused")]
        print(f"{name:<80}" + "".join(f"{n:>8}" for n in counts) + f"{1e3 * taken[name] / sum(counts):>9.0f}")
    failed = sum(n for (_, outcome), n in count.items() if outcome != "held")
    print(f"{sum(count.values())} problems, {failed} not held, {time.perf_counter() - begun:.0f} s")
    return 1 if failed else 0


if __name__ == "__main__":
    words = sys.argv[1:]
    sys.exit(main(int(words[0]) if words else 1000, *(int(w) for w in words[1:2]), *words[2:3]))
