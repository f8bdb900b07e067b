"""Random trains against attainable regions: none may lie outside. `python benchmarks/attainable.py [TRAINS]`"""

from __future__ import annotations

import sys
from typing import Any

import numpy as np

import molino as mo

FEED = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
AXES = ("concentration of A", "concentration of B")
SCHEMES = {
    "Van de Vusse": [mo.Reaction("A -> B", k="1 1/min"), mo.Reaction("B -> C", k="1 1/min"),
                     mo.Reaction("2 A -> D", rate="k*[A]^2", k="5 L/mol/min")],
    "four reactions": [mo.Reaction("A <-> B", rate="k1*[A] - k2*[B]", k1="0.6 1/min", k2="0.3 1/min"),
                       mo.Reaction("B -> C", k="0.6 1/min"),
                       mo.Reaction("2 A -> D", rate="k*[A]^2", k="6 L/mol/min")],
    "autocatalytic": [mo.Reaction("A + B -> 2 B", k="2 L/mol/min"), mo.Reaction("B -> C", k="0.2 1/min"),
                      mo.Reaction("A -> B", k="0.02 1/min")],
}  # fmt: skip


def train(chemistry: mo.Chemistry, random: np.random.Generator) -> mo.Train:
    """One to four tanks and tubes, with vessels side by side, side feeds and recycles among them."""

    def vessel() -> Any:
        cls = mo.PlugFlow if random.random() < 0.5 else mo.StirredTank
        return cls(chemistry, FEED, volume=1e-3 * 10 ** random.uniform(-2.5, 1.5))

    steps: list[Any] = [vessel() for _ in range(random.integers(1, 5))]
    if random.random() < 0.4:
        share = float(random.uniform(0.05, 0.95))
        steps.insert(int(random.integers(1, len(steps) + 1)), mo.Parallel([vessel(), vessel()], [share, 1 - share]))
    if random.random() < 0.4:
        side = mo.SideFeed(mo.Feed({"A": "1 mol/L"}, flow=FEED.flows[0].si * random.uniform(0.05, 2)))
        steps.insert(int(random.integers(1, len(steps) + 1)), side)
    recycle = float(random.uniform(0, 5)) if random.random() < 0.2 and not any(
        isinstance(s, mo.SideFeed) for s in steps
    ) else 0.0  # fmt: skip
    return mo.Train(steps, recycle=recycle)


def main(count: int) -> None:
    """How far outside the farthest of so many trains lies, for each scheme."""
    print(f"{'scheme':<16} {'trains':>8} {'failed':>7} {'farthest outside':>17}")
    for n, (name, reactions) in enumerate(SCHEMES.items()):
        chemistry, random = mo.Chemistry(reactions), np.random.default_rng(n)
        region = mo.attainable(chemistry, FEED, axes=AXES)
        farthest, failed, own = -np.inf, 0, count // len(SCHEMES)
        for _ in range(own):
            try:
                run = train(chemistry, random).run()
            except mo.SolveError:
                failed += 1
                continue
            farthest = max(farthest, region.distance([run.metric(axis) for axis in AXES]))
        print(f"{name:<16} {own:>8} {failed:>7} {100 * farthest:>15.3f} %")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 50_000)
