"""`make laws N=20000`: so many random problems over all laws, and a table of what held, broke or was refused."""

from __future__ import annotations

import sys
import time
import warnings
from collections import Counter
from pathlib import Path

import numpy as np

import molino as mo
from molino.core.parallel import in_order
from molino.desk.job.unfinished import resumable

from .laws import LAWS


def tried(task: tuple[str, int]) -> tuple[str, str, float]:
    """Whether a law held, broke or was refused with a seed, why, and the processor time."""
    name, seed = task
    begun, outcome, why = time.process_time(), "held", ""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            LAWS[name](np.random.default_rng([seed, *name.encode()]))
    except mo.MolinoError as error:
        outcome, why = "refused", str(error).partition("\n")[0]
    except Exception as error:
        outcome, why = "broken", f"{type(error).__name__}: {error}"
    return outcome, why, time.process_time() - begun


def main(problems: int, first: int = 0, only: str = "") -> int:
    names = [name for name in LAWS if only in name]
    each = max(problems // len(names), 1)
    tasks = [(name, seed) for name in names for seed in range(first, first + each)]
    begun = time.perf_counter()
    count: Counter[tuple[str, str]] = Counter()
    taken: dict[str, float] = dict.fromkeys(names, 0.0)
    source = "".join(path.read_text() for path in sorted(Path(__file__).parent.glob("*.py")))
    with resumable("laws", {"laws": source, "problems": f"{each} from {first} of {only}"}, print):
        for (name, seed), (outcome, why, seconds) in zip(tasks, in_order(tried, tasks, "all"), strict=True):
            taken[name] += seconds
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
