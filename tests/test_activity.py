"""Activity coefficients against closed forms and differences; activities and fugacities in rate laws and balances."""

from __future__ import annotations

import math
import pickle
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

import molino as mo

R = 8.31446261815324
SPECIES = [
    mo.Species("A", molar_volume="60 cm3/mol", solubility_parameter="18 MPa^0.5", relative_volume=2.1,
               relative_area=1.97, heat_capacity=110.0),
    mo.Species("B", molar_volume="18 cm3/mol", solubility_parameter="25 MPa^0.5", relative_volume=0.92,
               relative_area=1.4, heat_capacity=75.0),
    mo.Species("C", molar_volume="90 cm3/mol", solubility_parameter="16 MPa^0.5", relative_volume=3.4,
               relative_area=2.9, heat_capacity=160.0),
]  # fmt: skip
FORMS = ("Wilson", "NRTL", "UNIQUAC", "regular solution")
PAIRS: dict[tuple[str, str], Any] = {
    ("A", "B"): "1.2 kJ/mol", ("B", "A"): (0.3, -150.0), ("A", "C"): "2.3 kJ/mol", ("C", "A"): (0.1, 50.0, 0.02, 1e-4),
    ("B", "C"): "-0.6 kJ/mol", ("C", "B"): (0.4,),
}  # fmt: skip


def model(form: str) -> mo.thermo.ActivityModel:
    return mo.thermo.ActivityModel(SPECIES, form, {("A", "B"): 0.01} if form == "regular solution" else PAIRS)


@pytest.mark.parametrize("form", FORMS)
@settings(max_examples=30)
@given(st.lists(st.floats(0.01, 1.0), min_size=3, max_size=3), st.floats(280.0, 450.0))
def test_coefficients_and_heats_are_slopes_of_the_excess_gibbs_energy(form: str, n: list[float], T: float) -> None:
    """ln gamma_i = d(n G/RT)/dn_i, H = -R T^2 d(G/RT)/dT, and sum x_i d(ln gamma_i) = 0 along any way (Gibbs, Duhem)."""
    one, amounts = model(form), np.array(n)

    def total(amounts: np.ndarray, T: float = T) -> float:
        return float(amounts.sum()) * one.excess_gibbs(T, dict(zip("ABC", amounts, strict=True))) / (R * T)

    logs = np.log([*one.coefficients(T, dict(zip("ABC", amounts, strict=True))).values()])
    steps = 1e-5 * amounts.sum() * np.eye(3)
    differences = [(total(amounts + e) - total(amounts - e)) / (2 * e.max()) for e in steps]
    assert logs == pytest.approx(differences, abs=2e-8)
    assert float(amounts @ logs) == pytest.approx(total(amounts), abs=1e-12)
    warmer = (total(amounts, T + 0.01) - total(amounts, T - 0.01)) / 0.02
    heat = float(amounts.sum()) * one.excess_enthalpy(T, dict(zip("ABC", amounts, strict=True)))
    assert heat == pytest.approx(-R * T**2 * warmer, rel=1e-5, abs=1e-2)


def test_closed_forms_of_each_model() -> None:
    """Infinite dilution of Wilson and NRTL, Flory and Huggins in UNIQUAC, Hildebrand, order and absent species."""
    T = 350.0
    binary = SPECIES[:2]
    pairs = {("A", "B"): (0.4, -120.0), ("B", "A"): (-0.2, 60.0)}
    forward, backward = 0.4 - 120.0 / T, -0.2 + 60.0 / T
    x = {"A": 1e-9, "B": 1.0}
    wilson = mo.thermo.ActivityModel(binary, "Wilson", pairs).coefficients(T, x)
    assert math.log(wilson["A"]) == pytest.approx(1 - forward - math.exp(backward), abs=1e-7)
    nrtl = mo.thermo.ActivityModel(binary, "NRTL", pairs, {("A", "B"): 0.2}).coefficients(T, x)
    assert math.log(nrtl["A"]) == pytest.approx(backward + forward * math.exp(-0.2 * forward), abs=1e-7)
    assert nrtl["B"] == pytest.approx(1.0, abs=1e-9)
    energies = {("A", "B"): "1 kJ/mol", ("B", "A"): "2 kJ/mol"}
    ratio = math.log(18.0 / 60.0)
    same = {("A", "B"): (ratio, -1000.0 / R), ("B", "A"): (-ratio, -2000.0 / R)}
    for share in (0.1, 0.6):
        mix = {"A": share, "B": 1 - share}
        by_energy, by_numbers = (
            mo.thermo.ActivityModel(binary, "Wilson", p).coefficients(T, mix) for p in (energies, same)
        )
        assert by_energy == pytest.approx(by_numbers, rel=1e-12)
        r, q = np.array([2.1, 0.92]), np.array([1.97, 1.4])
        fractions = np.array([share, 1 - share])
        phi, theta = r / (r @ fractions), q / (q @ fractions)
        expected = np.log(phi) + 1 - phi - 5 * q * (np.log(phi / theta) + 1 - phi / theta)
        athermal = mo.thermo.ActivityModel(binary, "UNIQUAC", {("A", "B"): (0.0,), ("B", "A"): (0.0,)}).coefficients(
            T, mix
        )
        assert np.log([*athermal.values()]) == pytest.approx(expected, abs=1e-12)
        v, delta = np.array([60e-6, 18e-6]), np.array([18e3, 25e3])
        mean = (v * fractions) @ delta / (v @ fractions)
        regular = mo.thermo.ActivityModel(binary, "regular solution").coefficients(T, mix)
        assert np.log([*regular.values()]) == pytest.approx(v * (delta - mean) ** 2 / (R * T), rel=1e-10)
    for form in FORMS:
        here = model(form).coefficients(T, {"A": 0.2, "B": 0.5, "C": 0.3})
        turned = mo.thermo.ActivityModel(SPECIES[::-1], form, model(form).pairs)
        assert turned.coefficients(T, {"A": 0.2, "B": 0.5, "C": 0.3}) == pytest.approx(here, rel=1e-12)
        two = mo.thermo.ActivityModel(binary, form, {p: v for p, v in model(form).pairs.items() if "C" not in p})
        without = model(form).coefficients(T, {"A": 0.4, "B": 0.6})
        assert two.coefficients(T, {"A": 0.4, "B": 0.6})["B"] == pytest.approx(without["B"], rel=1e-12)
        assert pickle.loads(pickle.dumps(two)) == two


@pytest.mark.parametrize("form", FORMS)
def test_a_tank_reacts_by_activities_and_mixes_with_its_heat(form: str) -> None:
    """The rate is that of gamma x, and two streams that only mix come out warmer by the heat of mixing."""
    one = model(form)
    law = mo.Reaction("A <-> C", rate="k*(a[A] - a[C]/K)", k="0.4 mol/L/h", K=3.0, enthalpy="-15 kJ/mol")
    chemistry = mo.Chemistry(law, species=SPECIES)
    feed = mo.Feed({"A": "2 mol/s", "B": "3 mol/s", "C": "0.2 mol/s"}, T="340 K", model=one)
    tank = mo.StirredTank(chemistry, feed, volume="20 m3", heat="adiabatic").steady()
    T, out = float(tank.temperatures[0]), tank.stream_out().amounts
    total = sum(out.values())
    gamma = one.coefficients(T, out)
    rate = 0.4e3 / 3600 * (out["A"] * gamma["A"] - out["C"] * gamma["C"] / 3.0) / total
    assert 2.0 - out["A"] == pytest.approx(rate * 20.0, rel=1e-8)
    assert max(tank.closure.values()) < 1e-9

    def enthalpy(n: dict[str, float], T: float) -> float:
        pure = sum(n[s.name] * float(s.heat_capacity.coefficients[0].si) for s in SPECIES) * (T - 298.15)
        return pure + sum(n.values()) * one.excess_enthalpy(T, n)

    reacted = (2.0 - out["A"]) * 15e3  # at 298.15 K
    fed = {"A": 2.0, "B": 3.0, "C": 0.2}
    assert enthalpy(dict(out), T) - enthalpy(fed, 340.0) == pytest.approx(reacted, rel=1e-8)
    still = mo.Chemistry([], species=SPECIES)
    first = mo.Feed({"A": "1 mol/s"}, T="330 K", model=one)
    second = mo.Feed({"B": "2 mol/s"}, T="330 K", model=one)
    mixed = mo.Train([mo.SideFeed(second), mo.StirredTank(still, first, volume="1 m3", heat="adiabatic")]).run()
    both = {"A": 1.0, "B": 2.0, "C": 0.0}
    assert enthalpy(both, mixed.last.T) == pytest.approx(
        enthalpy({"A": 1.0, "B": 0.0, "C": 0.0}, 330.0) + enthalpy({"A": 0.0, "B": 2.0, "C": 0.0}, 330.0), abs=1e-3
    )
    assert abs(mixed.last.T - 330.0) > 0.02


@pytest.mark.parametrize("gas", [None, "Soave", "Peng-Robinson"])
def test_fugacities_in_a_rate_law(gas: str | None) -> None:
    """f = x phi P and a = f/1 bar, phi that of the equation of state."""
    species = [
        mo.Species("M", critical_temperature="512.5 K", critical_pressure="80.84 bar", acentric_factor=0.566),
        mo.Species("D", critical_temperature="400.4 K", critical_pressure="53.4 bar", acentric_factor=0.2),
    ]
    for rate, k in (("k*f[M]", "0.05 mol/L/h/bar"), ("k*a[M]", "0.05 mol/L/h")):
        chemistry = mo.Chemistry(mo.Reaction("M -> D", rate=rate, k=k), species=species)
        feed = mo.Feed({"M": "60 mol%", "D": "rest"}, flow="10 mol/s", T="560 K", P="60 bar", model=gas)
        tank = mo.StirredTank(chemistry, feed, volume="5 m3").steady()
        out = tank.stream_out().amounts
        x = {s: n / sum(out.values()) for s, n in out.items()}
        phi = (
            1.0
            if gas is None
            else mo.thermo.CubicEquation(species, gas).at("560 K", "60 bar", x, "gas").fugacity_coefficients["M"]
        )
        assert 6.0 - out["M"] == pytest.approx(0.05e3 / 3600 * x["M"] * phi * 60.0 * 5.0, rel=1e-9)
        assert gas is None or phi < 0.9


def test_what_is_wrong_in_a_model_is_said_at_once() -> None:
    bare = [mo.Species("A"), mo.Species("B")]
    for arguments, words in (
        ((bare, "Margules"), "unknown form 'Margules'"), ((bare, "NRTL", {("A", "X"): (1.0,)}), "'X' is not a species"),
        ((bare, "NRTL", {("A", "B"): (1.0,)}), "B with A is not"), ((bare, "NRTL", {("A", "B"): 3.0, ("B", "A"): (1.0,)}), "neither an energy"),
        ((bare, "UNIQUAC"), "A has no relative volume"), ((bare, "regular solution"), "solubility parameter"),
        ((bare, "Wilson", {("A", "B"): "1 kJ/mol", ("B", "A"): "1 kJ/mol"}), "no molar volume"),
        ((bare, "Wilson", {}, {("A", "B"): 0.3}), "has none"), ((bare, "NRTL", {("A", "A"): (1.0,)}), "not a pair"),
    ):  # fmt: skip
        with pytest.raises(mo.InputError, match=words):
            mo.thermo.ActivityModel(*arguments)
    with pytest.raises(mo.InputError, match="unknown model 'NRTL'"):
        mo.Feed({"A": 1.0}, flow=1.0, model="NRTL")
    model_of_two = mo.thermo.ActivityModel(bare, "NRTL", {("A", "B"): (1.0,), ("B", "A"): (1.0,)})
    with pytest.raises(mo.InputError, match="not fractions"):
        model_of_two.coefficients(300.0, {"A": -1.0, "B": 2.0})
    assert mo.thermo.ActivityModel([*bare, mo.Species("C")], "NRTL", model_of_two.pairs).unpaired == [
        ("A", "C"),
        ("B", "C"),
    ]
    gas = mo.Chemistry(mo.Reaction("A -> B", rate="k*f[A]", k="1 mol/L/h/bar"), species=bare)
    with pytest.raises(mo.InputError, match="needs the pressure"):
        mo.StirredTank(gas, mo.Feed({"A": 1.0}, flow=1.0, T=300.0), volume=1.0)


def test_a_liquid_that_would_split_is_reported() -> None:
    """Symmetric NRTL: unstable between its spinodals, metastable outside of them, stable beyond the binodal."""
    pairs = {("A", "B"): (2.0,), ("B", "A"): (2.0,)}
    one = mo.thermo.ActivityModel(SPECIES[:2], "NRTL", pairs, {("A", "B"): 0.2})

    def mixed(x: float) -> float:
        gamma = one.coefficients(300.0, {"A": x, "B": 1 - x})
        return math.log(x * gamma["A"]) - math.log((1 - x) * gamma["B"])

    low, high = 1e-4, 0.2  # equal chemical potentials of both in x and 1 - x, by symmetry
    for _ in range(80):
        middle = (low + high) / 2
        low, high = (middle, high) if mixed(middle) < 0 else (low, middle)
    for x, splits in ((0.98 * low, False), (1.02 * low, True), (0.5, True), (1 - 0.98 * low, False)):
        assert (one.second_liquid(300.0, {"A": x, "B": 1 - x}) is not None) is splits, x
    assert mo.thermo.ActivityModel(SPECIES, "NRTL", PAIRS).second_liquid(340.0, {"A": 0.3, "B": 0.3, "C": 0.4}) is None
    law = mo.Reaction("A <-> B", rate="k*(a[A] - a[B]/K)", k="1 mol/L/h", K=1.2)
    chemistry = mo.Chemistry(law, species=SPECIES[:2])
    feed = mo.Feed({"A": "1 mol/s"}, T="300 K", model=one)
    with pytest.raises(mo.SolveError, match="splits into two liquids"):
        mo.AtEquilibrium(chemistry, feed).run()
    assert "two liquids" in mo.StirredTank(chemistry, feed, volume="10 m3").steady().facts()["liquid"]
