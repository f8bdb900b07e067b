"""Least Gibbs energy against constants of equilibrium, closed forms and a kinetic run; elements, solids, traces."""

from __future__ import annotations

import itertools
import math
import pickle
import re

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import molino as mo
from molino.core.thermo.gibbs import GibbsProblem

R, T0 = 8.31446261815324, 298.15
NUMBERS = {
    "CH4": (-74.87, 186.25, 50.0), "H2O": (-241.83, 188.83, 37.0), "CO": (-110.53, 197.66, 31.0),
    "CO2": (-393.52, 213.79, 48.0), "H2": (0.0, 130.68, 29.5), "C": (0.0, 5.74, 14.0), "N2": (0.0, 191.6, 30.0),
    "H": (218.0, 114.7, 20.8), "O2": (0.0, 205.15, 33.0), "OH": (39.0, 183.7, 31.0),
}  # fmt: skip
"""Rounded textbook values: enthalpy of formation in kJ/mol, entropy and heat capacity in J/(mol K)."""
SPECIES = [
    mo.Species(n, n, enthalpy_of_formation=h * 1e3, entropy=s, heat_capacity=c) for n, (h, s, c) in NUMBERS.items()
]
ATOMS = {"CH4": (1, 4, 0, 0), "H2O": (0, 2, 1, 0), "CO": (1, 0, 1, 0), "CO2": (1, 0, 2, 0), "H2": (0, 2, 0, 0),
         "C": (1, 0, 0, 0), "N2": (0, 0, 0, 2), "H": (0, 1, 0, 0), "O2": (0, 0, 2, 0), "OH": (0, 1, 1, 0)}  # fmt: skip
REACTIONS = [{"CH4": -1, "H2O": -1, "CO": 1, "H2": 3}, {"CO": -1, "H2O": -1, "CO2": 1, "H2": 1},
             {"H2": -1, "H": 2}, {"H2O": -2, "H2": 2, "O2": 1}, {"H2O": -2, "OH": 2, "H2": 1}]  # fmt: skip


def potential(name: str, T: float) -> float:
    """h - T s over R T of a species alone at 1 bar."""
    h, s, c = NUMBERS[name]
    return (h * 1e3 + c * (T - T0)) / (R * T) - (s + c * math.log(T / T0)) / R


def enthalpy(name: str, T: float) -> float:
    return NUMBERS[name][0] * 1e3 + NUMBERS[name][2] * (T - T0)


@settings(max_examples=60)
@given(st.lists(st.floats(-8.0, 1.0), min_size=10, max_size=10), st.floats(300.0, 4000.0), st.floats(-2.0, 2.5))
def test_every_reaction_is_at_its_constant_and_the_elements_are_kept(
    powers: list[float], T: float, pressure: float
) -> None:
    """Ten species from 300 to 4000 K: sum of nu ln(x P) = ln K, carbon where its activity is one, and no less energy."""
    start = {name: 10.0**p for name, p in zip(NUMBERS, powers, strict=True)}
    bar = 10.0**pressure
    found = mo.equilibrium(SPECIES, start, T=T, P=f"{bar} bar", solids=["C"])
    for j in range(4):
        came, there = (sum(ATOMS[s][j] * n for s, n in of.items()) for of in (start, found.amounts))
        assert there == pytest.approx(came, rel=1e-12)
    x = found.fractions
    for reaction in REACTIONS:
        log_K = -sum(nu * potential(s, T) for s, nu in reaction.items())
        if min(x[s] for s in reaction) > 1e-200:
            assert sum(nu * math.log(x[s] * bar) for s, nu in reaction.items()) == pytest.approx(log_K, abs=1e-8)
    log_activity = 2 * math.log(x["CO"] * bar) - math.log(x["CO2"] * bar) + 2 * potential("CO", T) - potential("CO2", T)
    log_activity -= potential("C", T)
    assert log_activity < 1e-8
    assert found.amounts["C"] == 0.0 or abs(log_activity) < 1e-8
    brought = sum(n * enthalpy(s, T) for s, n in start.items())
    assert found.heat == pytest.approx(
        sum(n * enthalpy(s, T) for s, n in found.amounts.items()) - brought, rel=1e-9, abs=1e-3
    )

    def energy(amounts: dict[str, float]) -> float:
        total = sum(n for s, n in amounts.items() if s != "C")
        return sum(
            n * (potential(s, T) + (0.0 if s == "C" else math.log(n / total * bar)))
            for s, n in amounts.items()
            if n > 0
        )

    least = energy(dict(found.amounts))
    for reaction, sign in itertools.product(REACTIONS, (1, -1)):
        step = 0.1 * min(found.amounts[s] / abs(nu) for s, nu in reaction.items())
        moved = {s: n + sign * step * reaction.get(s, 0) for s, n in found.amounts.items()}
        assert energy(moved) >= least - 1e-9 * abs(least)


def test_traces_closed_forms_and_what_is_not_there() -> None:
    hydrogen = {s.name: s for s in SPECIES}
    for T, P in itertools.product((400.0, 1500.0, 3500.0), (1e3, 1e5, 1e7)):
        found = mo.equilibrium([hydrogen["H2"], hydrogen["H"]], {"H2": 1.0}, T=T, P=P)
        K = math.exp(potential("H2", T) - 2 * potential("H", T))
        share = math.sqrt(K / (K + 4 * P / 1e5))  # of H2 that is dissociated
        assert found.amounts["H"] == pytest.approx(2 * share, rel=1e-10)  # 1e-26 at the coldest
    dry = mo.equilibrium(SPECIES, {"CO": 1.0, "N2": 1.0}, T=900.0, P="1 bar", solids=["C"])
    assert {s for s, n in dry.amounts.items() if n > 0} == {"CO", "CO2", "O2", "C", "N2"}
    K = math.exp(2 * potential("CO", 900.0) - potential("CO2", 900.0) - potential("C", 900.0))
    assert dry.fractions["CO2"] / dry.fractions["CO"] ** 2 == pytest.approx(K, rel=1e-9)
    only = mo.equilibrium([hydrogen["C"]], {"C": 2.0}, T=900.0, P="1 bar", solids=["C"])
    assert only.amounts == {"C": 2.0}
    assert only.fractions == {}


def test_hundreds_of_unkind_problems_are_solved_or_refused() -> None:
    """Any atoms, potentials up to 100 R T apart, elements down to 1e-12 of the whole, up to two solids."""
    failed = 0
    for trial in range(300):
        chance = np.random.default_rng(trial)
        elements = int(chance.integers(1, 6))
        count = int(chance.integers(elements + 1, 21))
        holds = chance.integers(0, 4, (count, elements)).astype(float)
        holds[holds.sum(axis=1) == 0, 0] = 1
        holds[:elements] = np.eye(elements)
        pure = int(chance.integers(0, 3)) if count > elements + 3 else 0
        g = chance.normal(0, 40, count)
        totals = chance.random(count) * 10.0 ** chance.uniform(-12, 2, count) @ holds
        phases = [[*range(count - pure)], *([i] for i in range(count - pure, count))]
        try:
            found = GibbsProblem(holds, phases).solve(g, totals)
        except mo.SolveError:
            failed += 1
            continue
        assert found.amounts @ holds == pytest.approx(totals, rel=1e-12)
        assert (found.amounts >= 0).all()
        for phase, there, away in zip(phases, found.phases, found.distances, strict=True):
            own = np.sum(np.exp(holds[phase] @ found.potentials - g[phase]))
            assert (
                (abs(own - 1) < 1e-7)
                if there > 0
                else (own < 1 + 1e-9 and own == pytest.approx(math.exp(-away), rel=1e-6))
            )
    assert failed <= 1
    with pytest.raises(mo.SolveError, match="no amounts of these species"):
        GibbsProblem(np.array([[1.0, 4.0], [2.0, 8.0]]), [[0, 1]]).solve(np.zeros(2), np.array([1.0, 3.0]))


def test_it_keeps_its_enthalpy_and_a_kinetic_run_ends_there() -> None:
    found = mo.equilibrium(SPECIES, {"CO": "1 mol", "H2": "3 mol"}, T="500 K", P="20 bar", solids=["C"], adiabatic=True)
    before = sum(n * enthalpy(s, 500.0) for s, n in found.start.items())
    after = sum(n * enthalpy(s, found.T) for s, n in found.amounts.items())
    assert after == pytest.approx(before, rel=1e-10)
    again = mo.equilibrium(SPECIES, {"CO": "1 mol", "H2": "3 mol"}, T=found.T, P="20 bar", solids=["C"])
    assert again.amounts == pytest.approx(dict(found.amounts), rel=1e-7)
    assert pickle.loads(pickle.dumps(found)).to_dict() == found.to_dict()
    assert re.search("solid C +none", str(found))
    assert found.table()["fraction"].sum() == pytest.approx(1.0)
    shift = [s for s in SPECIES if s.name in ("CO", "H2O", "CO2", "H2")]
    chemistry = mo.Chemistry(
        mo.Reaction("CO + H2O <=> CO2 + H2", k="1 L/mol/s", K=mo.FromSpecies("concentrations")), species=shift
    )
    charge = {"CO": "40 mol%", "H2O": "rest"}
    run = mo.Batch(chemistry, charge, T="800 K", P="5 bar", volume="1 L", time="1e6 s").run()
    there = mo.equilibrium(shift, {"CO": 0.4, "H2O": 0.6}, T="800 K", P="5 bar")
    assert run.conversion("CO") == pytest.approx(1 - there.amounts["CO"] / 0.4, rel=1e-8)


def test_what_it_lacks_is_named_all_at_once() -> None:
    bare = [mo.Species("A", "CH4"), mo.Species("B", enthalpy_of_formation=0.0, entropy=1.0, heat_capacity=30.0)]
    with pytest.raises(mo.InputError) as caught:
        mo.equilibrium(bare, {"A": 1.0}, T=300.0, P=1e5)
    assert "A has no heat capacity" in str(caught.value)
    assert "B has no formula" in str(caught.value)
    for amounts, words in (
        ({"C9": 1.0}, "not among the species"),
        ({"CO": "1 kg"}, "amount"),
        ({"CO": 0.0}, "nothing is there"),
    ):
        with pytest.raises(mo.InputError, match=words):
            mo.equilibrium(SPECIES, amounts, T=300.0, P=1e5)
    narrow = mo.HeatCapacity(30.0, valid=["300 K", "500 K"])
    odd = [mo.Species("H2", "H2", enthalpy_of_formation=0.0, entropy=130.7, heat_capacity=narrow)]
    assert "H2 beyond 300 K to 500 K" in str(mo.equilibrium(odd, {"H2": 1.0}, T=700.0, P=1e5))
    mixed = [SPECIES[0], mo.Species("X", "CO", enthalpy_of_formation=0.0, gibbs_of_formation=1.0, heat_capacity=30.0)]
    with pytest.raises(mo.InputError, match="absolute entropy"):
        mo.equilibrium(mixed, {"X": 1.0}, T=300.0, P=1e5)
