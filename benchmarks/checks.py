"""The share of the time of each kind of answer that its checks take."""

from __future__ import annotations

import time
from collections.abc import Callable
from importlib.resources import files
from pathlib import Path
from typing import Any

import numpy as np

import molino as mo
from molino.core.design.optimize import optimum_search
from molino.core.design.size import sizing
from molino.core.design.sweep_question import Question


def best(turns: int, *works: Callable[[], object]) -> list[float]:
    """Shortest time of each piece of work, taken in turn."""
    times = [[0.0] * 0 for _ in works]
    for _ in range(turns):
        for n, work in enumerate(works):
            begin = time.perf_counter()
            work()
            times[n].append(time.perf_counter() - begin)
    return [min(t) for t in times]


def share_of_checks(work: Callable[[], object], owner: Any, name: str, turns: int = 5) -> float:
    """Which share of the time of a piece of work one function in it takes; the median of several turns."""
    function, spent, shares = getattr(owner, name), [0.0], list[float]()

    def timed(*args: Any, **kwargs: Any) -> Any:
        begin = time.process_time()
        try:
            return function(*args, **kwargs)
        finally:
            spent[0] += time.process_time() - begin

    setattr(owner, name, timed)
    try:
        for _ in range(turns):
            spent[0], begin = 0.0, time.process_time()
            work()
            shares.append(spent[0] / max(time.process_time() - begin, 1e-9))
    finally:
        setattr(owner, name, function)
    return float(np.median(shares))


def checks() -> list[tuple[str, float]]:
    """The share of the time that the checks of an answer take, of each kind of answer."""
    chemistry = mo.Chemistry([mo.Reaction("A -> B", k="0.2 1/min"), mo.Reaction("B -> C", k="0.05 1/min")])
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    tube, tank = mo.PlugFlow(chemistry, feed, volume="5 L"), mo.StirredTank(chemistry, feed, volume="5 L")
    many = {"volume": mo.span("1 L", "9 L", 40), "flow": mo.span("0.5 L/min", "2 L/min", 25)}
    free = {"volume": ("1 L", "50 L")}
    job = mo.load_job(Path(str(files("molino.demo") / "valdeoro.toml")))
    data = job.fits["kinetics"].data
    found = [
        ("sweep of 1000 tubes", share_of_checks(lambda: mo.sweep(tube, many, ["yield of B on A"]), Question,
                                                "apart")),
        ("size of a tube", share_of_checks(lambda: mo.size(tube, "conversion of A", 0.9), sizing, "_verified")),
        ("size of a tank", share_of_checks(lambda: mo.size(tank, "conversion of A", 0.9), sizing, "_verified")),
        ("optimum of a tube", share_of_checks(lambda: mo.optimize(tube, maximize="yield of B on A", free=free),
                                              optimum_search.Search, "_place_aside")),
    ]  # fmt: skip
    fitted, run = mo.fit(job.chemistry, data), tube.run()
    for name, one, work in (("fit of the demo", fitted, lambda: mo.fit(job.chemistry, data)),
                            ("run of a tube, where they are asked for", run, tube.run)):  # fmt: skip
        kind = type(one).checks.func if hasattr(type(one).checks, "func") else type(one).checks.fget
        own, whole = best(5, lambda one=one, kind=kind: kind(one), work)
        found.append((name, own / (own + whole)))
    return found


if __name__ == "__main__":
    for name, share in checks():
        print(f"{name:<52}{100 * share:>6.1f} %")
