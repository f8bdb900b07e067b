"""Large networks, against sparse NumPy."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
from scipy import sparse
from scipy.integrate import odeint

import molino as mo
from molino.core.balances.integrate import integrate
from molino.core.unit_tables import GAS_CONSTANT as R
from table import Pair, row


def network(species: int, reactions: int) -> tuple[list[str], np.ndarray]:
    """Equations, first a ring, then pairs of random species; and the frequency factors."""
    random = np.random.default_rng(0)
    pairs = [random.choice(species, 4, replace=False) for _ in range(reactions)]
    texts = [f"S{a} + S{b} -> S{c} + S{d}" for a, b, c, d in pairs]
    texts[:species] = [f"S{j} -> S{(j + 1) % species}" for j in range(species)]
    return texts, random.uniform(0.1, 10.0, reactions)


def chemistry(species: int, reactions: int) -> mo.Chemistry:
    texts, factors = network(species, reactions)
    return mo.Chemistry(
        [mo.Reaction(t, k=mo.Arrhenius(A=float(a), Ea=2e4)) for t, a in zip(texts, factors, strict=True)]
    )


def compared(species: int, reactions: int) -> Pair:
    scheme = chemistry(species, reactions)
    case = mo.Batch(scheme, {"S0": 1000.0, "S1": 500.0}, T=350.0).spec.case
    place = {name: i for i, name in enumerate(scheme.names)}
    sides = [[place[name] for name, _ in r.equation.left] for r in scheme.reactions]
    first, second = np.array([s[0] for s in sides]), np.array([s[1] if len(s) > 1 else species for s in sides])
    _, factors = network(species, reactions)
    k = factors * np.exp(-2e4 / (R * 350.0))
    matrix = sparse.csr_matrix(scheme.network.matrix)
    start = np.zeros(species)
    start[[place["S0"], place["S1"]]] = 1000.0, 500.0
    c = np.ones(species + 1)

    def rhs(y: np.ndarray, t: float) -> np.ndarray:
        c[:species] = y
        return matrix @ (k * c[first] * c[second])

    def points(turn: int) -> np.ndarray:
        return np.linspace(0.0, 1.0 + 1e-6 * turn, 11)

    return Pair(
        lambda turn: integrate(case, points(turn), rtol=1e-8, atol=1e-11).states[:, :species],
        lambda turn: odeint(rhs, start, points(turn), rtol=1e-8, atol=1e-8, mxstep=50000),
        agree=1e-5,
    )


for _species, _reactions in ((100, 300), (300, 1000)):
    row(f"integration: {_species} species, {_reactions} reactions", 1.5)(
        lambda species=_species, reactions=_reactions: compared(species, reactions)
    )


def calibration(turn: int) -> None:
    """The loop of DESIGN: twenty million integers are added."""
    total = 0
    for i in range(20_000_000 + turn):
        total += i


@row("300 species, 1,000 reactions: from file to compiled (loops)", 1 / 0.8)
def compiled() -> Pair:
    """Each call reads another file, so that nothing is compiled already."""
    folder = Path(tempfile.mkdtemp())
    written = iter([mo.files.write_chemistry(chemistry(300, 1000 + n), folder / f"{n}.toml") for n in range(12)])

    def ours(turn: int) -> float:
        scheme = mo.files.read_chemistry(next(written))
        case = mo.Batch(scheme, {"S0": 1000.0, "S1": 500.0}, T=350.0).spec.case
        integrate(case, [0.0, 1e-9])
        return 0.0

    return Pair(ours, lambda turn: calibration(turn) or 0.0)
