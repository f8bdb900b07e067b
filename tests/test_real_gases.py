"""Cubic equations of state: against the critical point, integrals of P(v, T), equal fugacities and finite differences."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from scipy.integrate import quad
from scipy.optimize import brentq

import molino as mo

R = 8.31446261815324
METHANOL = mo.Species("methanol", critical_temperature="512.5 K", critical_pressure="80.84 bar", acentric_factor=0.566)
ETHER = mo.Species("ether", critical_temperature="400.4 K", critical_pressure="53.4 bar", acentric_factor=0.2)
WATER = mo.Species("water", critical_temperature="647.1 K", critical_pressure="220.6 bar", acentric_factor=0.345)
FORMS = ("Soave", "Peng-Robinson")
MIXTURE = {"methanol": 0.3, "ether": 0.5, "water": 0.2}


def three(form: str) -> mo.thermo.CubicEquation:
    return mo.thermo.CubicEquation(
        [METHANOL, ETHER, WATER], form, {("methanol", "water"): -0.08, ("ether", "water"): 0.1}
    )


def by_hand(form: str, v: float, T: float, x: dict[str, float]) -> float:
    """P(v, T) written out: the textbook's numbers, the double sum over pairs."""
    wide = form == "Peng-Robinson"
    k = {frozenset(("methanol", "water")): -0.08, frozenset(("ether", "water")): 0.1}
    a, b = {}, {}
    for s in (METHANOL, ETHER, WATER):
        Tc, Pc, w = s.critical_temperature.si, s.critical_pressure.si, s.acentric_factor.si
        m = 0.37464 + 1.54226 * w - 0.26992 * w**2 if wide else 0.480 + 1.574 * w - 0.176 * w**2
        alpha = (1 + m * (1 - math.sqrt(T / Tc))) ** 2
        a[s.name] = (0.45723553 if wide else 0.42748023) * R**2 * Tc**2 / Pc * alpha
        b[s.name] = (0.07779607 if wide else 0.08664035) * R * Tc / Pc
    whole = sum(x[i] * x[j] * math.sqrt(a[i] * a[j]) * (1 - k.get(frozenset((i, j)), 0.0)) for i in x for j in x)
    size = sum(x[i] * b[i] for i in x)
    return R * T / (v - size) - whole / (v * (v + size) + (size * (v - size) if wide else 0.0))


@pytest.mark.parametrize(("form", "critical"), [("Soave", 1 / 3), ("Peng-Robinson", 0.3074013)])
def test_at_the_critical_point(form: str, critical: float) -> None:
    state = mo.thermo.CubicEquation([METHANOL], form).at(512.5, "80.84 bar", phase="gas")
    assert pytest.approx(critical, abs=1e-4) == state.Z
    thin = mo.thermo.CubicEquation([METHANOL], form).at(512.5, 1.0)
    assert pytest.approx(1, abs=1e-6) == thin.Z
    assert thin.enthalpy_departure == pytest.approx(0, abs=0.01)
    assert thin.fugacity_coefficients["methanol"] == pytest.approx(1, abs=1e-6)


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize(("T", "P", "x"), [
    (550.0, 4e6, MIXTURE), (480.0, 1.5e6, MIXTURE), (700.0, 2e7, MIXTURE), (520.0, 5e6, {"methanol": 1.0}), (420.0, 3e6, {"ether": 1.0}),
])  # fmt: skip
def test_departures_are_integrals_of_the_equation(form: str, T: float, P: float, x: dict[str, float]) -> None:
    """H - H_ig = P v - R T + integral from infinity of (T dP/dT - P) dv; S likewise; P(v) is what was asked for."""
    state = three(form).at(T, P, x, "gas")
    v = state.molar_volume
    assert by_hand(form, v, T, x) == pytest.approx(P, rel=2e-7)

    def by_T(v: float) -> float:
        return (by_hand(form, v, T * (1 + 1e-5), x) - by_hand(form, v, T * (1 - 1e-5), x)) / (2e-5 * T)

    heat, _ = quad(lambda u: (T * by_T(1 / u) - by_hand(form, 1 / u, T, x)) / u**2, 1e-7, 1 / v, epsrel=1e-9)
    order, _ = quad(lambda u: (by_T(1 / u) - R * u) / u**2, 1e-7, 1 / v, epsrel=1e-9)
    assert state.enthalpy_departure == pytest.approx(P * v - R * T - heat, rel=1e-4)
    assert state.entropy_departure == pytest.approx(R * math.log(state.Z) - order, rel=1e-4)


@settings(max_examples=60, deadline=None)
@given(st.sampled_from(FORMS), st.floats(300, 800), st.floats(1e4, 2e7), st.lists(st.floats(0.05, 1), min_size=3, max_size=3),
       st.sampled_from(["gas", "liquid"]))  # fmt: skip
def test_thermodynamic_identities_and_slopes(form: str, T: float, P: float, x: list[float], phase: str) -> None:
    """G = H - T S over all fugacities; dZ/dT, dZ/dP and the heat capacity against differences; phi_i from n ln phi."""
    equation, shares = three(form), dict(zip(MIXTURE, x, strict=True))
    state = equation.at(T, P, shares, phase)
    logs = np.log(list(state.fugacity_coefficients.values()))
    gibbs = state.enthalpy_departure - T * state.entropy_departure
    assert gibbs == pytest.approx(R * T * float(state.x @ logs), rel=1e-8, abs=1e-6)

    def at(T: float, P: float, x: dict[str, float] = shares) -> mo.thermo.CubicEquation:
        return equation.at(T, P, x, phase)

    h, p = 1e-5 * T, 1e-5 * P
    near = [at(T + h, P), at(T - h, P), at(T, P + p), at(T, P - p)]
    small = 1e-5 * sum(shares.values())
    near += [at(T, P, {**shares, name: shares[name] + sign * small}) for name in shares for sign in (1, -1)]
    if any(len(s.roots) != len(state.roots) for s in near) or abs(state.dZ_dP) * P > 20:
        return  # at the end of a branch nothing is smooth
    assert state.dZ_dT == pytest.approx((near[0].Z - near[1].Z) / (2 * h), rel=1e-4, abs=1e-9)
    assert state.dZ_dP == pytest.approx((near[2].Z - near[3].Z) / (2 * p), rel=1e-4, abs=1e-14)
    slope = (near[0].enthalpy_departure - near[1].enthalpy_departure) / (2 * h)
    assert state.heat_capacity_departure == pytest.approx(slope, rel=1e-3, abs=1e-3)
    total = sum(shares.values())

    def whole(x: dict[str, float]) -> float:
        found = at(T, P, x)
        return sum(x.values()) * float(found.x @ np.log(list(found.fugacity_coefficients.values())))

    for i, name in enumerate(shares):
        more, less = ({**shares, name: shares[name] + sign * 1e-5 * total} for sign in (1, -1))
        assert logs[i] == pytest.approx((whole(more) - whole(less)) / (2e-5 * total), rel=2e-3, abs=2e-5)


@pytest.mark.parametrize("form", FORMS)
def test_the_stable_root_changes_where_fugacities_are_equal(form: str) -> None:
    equation, T = mo.thermo.CubicEquation([ETHER], form), 0.7 * 400.4

    def apart(P: float) -> float:
        both = (equation.at(T, P, phase=phase).fugacity_coefficients["ether"] for phase in ("gas", "liquid"))
        return math.log(next(both) / next(both))

    vapour = brentq(apart, 2.5e5, 4.5e5)
    assert vapour == pytest.approx(53.4e5 * 10 ** -(1 + 0.2), rel=0.02)  # what the acentric factor says
    below, above = equation.at(T, 0.999 * vapour), equation.at(T, 1.001 * vapour)
    assert below.Z > 0.8 > 0.1 > above.Z
    assert len(below.roots) == 3
    assert "of the roots" in str(below)


def test_wrong_equations_and_states() -> None:
    with pytest.raises(mo.InputError) as error:
        mo.thermo.CubicEquation([mo.Species("A"), METHANOL], "Soavy", {("A", "Q"): 0.1, ("A", "A"): 0.1})
    for part in (
        "did you mean 'Soave'",
        "A has no critical temperature",
        "A has no acentric factor",
        "'Q' is not a species",
        "not a pair",
    ):
        assert part in str(error.value)
    with pytest.raises(mo.InputError) as error:
        three("Soave").at("-3 K", "2 m", {"Q": 1.0, "water": -1.0}, "solid")
    for part in (
        "must be above zero",
        "not a pressure",
        "'Q' is not a species",
        "are not fractions",
        "'solid' is not a phase",
    ):
        assert part in str(error.value)
