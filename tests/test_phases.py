"""Bubble and dew points and flashes against published problems and equal fugacities; boiling and condensing on the way."""

from __future__ import annotations

import math
import pickle
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

import molino as mo

R = 8.31446261815324
NITRILE = mo.Species("nitrile", heat_capacity=91.0, vapor_pressure=mo.thermo.VaporPressure.antoine(
    14.2724, 2945.47, 224.0, pressure="kPa", temperature="degC", base="e"))  # fmt: skip
NITRO = mo.Species("nitro", heat_capacity=106.0, vapor_pressure=mo.thermo.VaporPressure.antoine(
    14.2043, 2972.64, 209.0, pressure="kPa", temperature="degC", base="e"))  # fmt: skip
MIX = {"nitrile": 0.6, "nitro": 0.4}


def test_published_points_and_a_published_flash() -> None:
    """Acetonitrile and nitromethane by Raoult's law, and with acetone (Smith, Van Ness, Abbott, 7th ed. 2005, examples
    10.1 and 10.5); water boils at 100 degC."""
    both = mo.thermo.PhaseEquilibrium([NITRILE, NITRO])
    bubble, dew = both.bubble_point(MIX, T="75 degC"), both.dew_point(MIX, T="75 degC")
    assert pytest.approx(66.72, abs=0.006) == bubble.P / 1e3
    assert bubble.fractions("gas")["nitrile"] == pytest.approx(0.7483, abs=6e-5)
    assert pytest.approx(59.74, abs=0.006) == dew.P / 1e3
    assert dew.fractions("liquid")["nitrile"] == pytest.approx(0.4308, abs=6e-5)
    bubble, dew = both.bubble_point(MIX, P="70 kPa"), both.dew_point(MIX, P="70 kPa")
    assert pytest.approx(76.42, abs=0.006) == bubble.T - 273.15
    assert bubble.fractions("gas")["nitrile"] == pytest.approx(0.7472, abs=6e-5)
    assert pytest.approx(79.58, abs=0.006) == dew.T - 273.15
    assert dew.fractions("liquid")["nitrile"] == pytest.approx(0.4351, abs=6e-5)
    three = [
        mo.Species(n, vapor_pressure={"a": math.log(P * 1e3)}) for n, P in (("K", 195.75), ("N", 97.84), ("M", 50.32))
    ]
    split = mo.thermo.PhaseEquilibrium(three).flash({"K": 0.45, "N": 0.35, "M": 0.2}, T="80 degC", P="110 kPa")
    assert split.vapor_fraction == pytest.approx(0.7364, abs=2e-4)
    assert [*split.fractions("gas").values()] == pytest.approx([0.5087, 0.3389, 0.1524], abs=6e-5)
    assert [*split.fractions("liquid").values()] == pytest.approx([0.2859, 0.3810, 0.3331], abs=6e-5)
    water = mo.thermo.VaporPressure.antoine(8.07131, 1730.63, 233.426, pressure="mmHg", temperature="degC")
    assert water.at("100 degC") == pytest.approx(760 * 133.322, rel=2e-4)


@settings(max_examples=25)
@given(st.lists(st.floats(0.02, 1.0), min_size=3, max_size=3), st.floats(-0.9, 1.9))
def test_fugacities_are_equal_and_nothing_is_lost(weights: list[float], place: float) -> None:
    """Three species by NRTL at any place between, below and above bubble and dew point."""
    laws = {"A": [4.2, 1250.0, -45.0], "B": [4.0, 1200.0, -50.0], "C": [4.4, 1600.0, -40.0]}
    species = [mo.Species(n, vapor_pressure={"antoine": law}) for n, law in laws.items()]
    pairs: dict[tuple[str, str], Any] = {("A", "B"): (0.5,), ("B", "A"): (0.3,), ("A", "C"): (0.2, 60.0),
                                         ("C", "A"): (0.4,), ("B", "C"): (0.6,), ("C", "B"): (-0.1,)}  # fmt: skip
    model = mo.thermo.ActivityModel(species, "NRTL", pairs)
    both, z = mo.thermo.PhaseEquilibrium(species, model), dict(zip(laws, np.array(weights) / sum(weights), strict=True))
    first, last = both.bubble_point(z, P="1 bar"), both.dew_point(z, P="1 bar")
    split = both.flash(z, T=first.T + place * (last.T - first.T), P="1 bar")
    for point in (first, last, split):
        gamma = model.coefficients(point.T, point.fractions("liquid"))
        pressures = {s.name: s.vapor_pressure.at(point.T) for s in species}
        x, y = point.fractions("liquid"), point.fractions("gas")
        if point.vapor_fraction in (0.0, 1.0) and point is split:
            continue
        assert [x[s] * gamma[s] * pressures[s] for s in laws] == pytest.approx([y[s] * 1e5 for s in laws], rel=1e-9)
    assert (1 - split.vapor_fraction) * split.x + split.vapor_fraction * split.y == pytest.approx(
        np.array([*z.values()]), abs=1e-12
    )
    assert (split.vapor_fraction == 0.0) == (place < 0) or abs(place) < 1e-6
    assert (split.vapor_fraction == 1.0) == (place > 1) or abs(place - 1) < 1e-6


def test_one_equation_for_both_phases() -> None:
    """Light and heavy at equal fugacities of a cubic equation; a pure species at its vapor pressure; the critical end."""
    light = mo.Species(
        "L", critical_temperature="190.6 K", critical_pressure="46 bar", acentric_factor=0.012, heat_capacity=36.0
    )
    heavy = mo.Species(
        "H", critical_temperature="425.1 K", critical_pressure="38 bar", acentric_factor=0.2, heat_capacity=98.0
    )
    equation = mo.thermo.CubicEquation([light, heavy], "Soave")
    both = mo.thermo.PhaseEquilibrium([light, heavy], equation)
    for split in (
        both.bubble_point({"L": 0.3, "H": 0.7}, T="311 K"), both.dew_point({"L": 0.5, "H": 0.5}, P="20 bar"),
        both.flash({"L": 0.5, "H": 0.5}, T="311 K", P="40 bar"),
    ):  # fmt: skip
        phases = {"liquid": split.fractions("liquid"), "gas": split.fractions("gas")}
        f = {p: equation.at(split.T, split.P, x, p).fugacity_coefficients for p, x in phases.items()}
        for s in "LH":
            assert phases["liquid"][s] * f["liquid"][s] == pytest.approx(phases["gas"][s] * f["gas"][s], rel=1e-9)
    pure = mo.thermo.PhaseEquilibrium([heavy], equation).bubble_point({"H": 1.0}, T="350 K")
    phi = [
        mo.thermo.CubicEquation([heavy], "Soave").at("350 K", pure.P, phase=p).fugacity_coefficients["H"]
        for p in ("gas", "liquid")
    ]
    assert phi[0] == pytest.approx(phi[1], rel=1e-9)
    assert 8e5 < pure.P < 11e5
    for T, P, vapor in (
        ("400 K", "1 bar", 1.0),
        ("311 K", "1 bar", 1.0),
        ("500 K", "50 bar", 1.0),
        ("250 K", "150 bar", 0.0),
    ):
        assert both.flash({"L": 0.5, "H": 0.5}, T=T, P=P).vapor_fraction == vapor
    for P, vapor in ((0.9 * pure.P, 1.0), (1.1 * pure.P, 0.0)):
        assert mo.thermo.PhaseEquilibrium([heavy], equation).flash({"H": 1.0}, T="350 K", P=P).vapor_fraction == vapor
    with pytest.raises(mo.SolveError, match="critical point"):
        both.bubble_point({"L": 0.95, "H": 0.05}, T="311 K")
    assert pickle.loads(pickle.dumps(split)).to_dict() == split.to_dict()


def test_an_adiabatic_flash_keeps_its_enthalpy() -> None:
    both = mo.thermo.PhaseEquilibrium([NITRILE, NITRO])
    split = both.flash(MIX, P="30 kPa", feed_T="90 degC")

    def boiling(one: mo.Species, T: float) -> float:
        slope = (math.log(one.vapor_pressure.at(T + 0.01)) - math.log(one.vapor_pressure.at(T - 0.01))) / 0.02
        return R * T**2 * slope

    held = 0.6 * 91.0 + 0.4 * 106.0
    y = split.fractions("gas")
    taken = split.vapor_fraction * (y["nitrile"] * boiling(NITRILE, split.T) + y["nitro"] * boiling(NITRO, split.T))
    assert held * (363.15 - split.T) == pytest.approx(taken, rel=1e-6)
    alone = mo.thermo.PhaseEquilibrium([NITRILE]).flash({"nitrile": 1.0}, P="30 kPa", feed_T="90 degC")
    assert NITRILE.vapor_pressure.at(alone.T) == pytest.approx(30e3, rel=1e-9)
    assert alone.vapor_fraction * boiling(NITRILE, alone.T) == pytest.approx(91.0 * (363.15 - alone.T), rel=1e-6)


def test_boiling_is_found_where_it_begins() -> None:
    """A tube of liquid that warms by its reaction: the place where the bubble pressure passes that of the feed."""
    species = [
        mo.Species(n, vapor_pressure={"antoine": [4.0, B, -50.0]}, heat_capacity=150.0, molar_volume="80 cm3/mol")
        for n, B in (("A", 1300.0), ("B", 1150.0))
    ]
    law = {"k": mo.Arrhenius(k="0.02 1/min", at="360 K", Ea="80 kJ/mol"), "enthalpy": "-20 kJ/mol"}
    chemistry = mo.Chemistry(mo.Reaction("A -> B", **law), species=species)
    feed = mo.Feed({"A": "1 mol/s"}, T="360 K", P="1 bar", model="additive volumes")
    run = mo.PlugFlow(chemistry, feed, volume="500 L", heat="adiabatic").run()
    text = run.facts()["boiling"]
    place = float(text.split("volume ")[1].split(" ")[0]) / 1e3
    here = run.at([place])
    T, flows = here.temperatures[1], {s: n[1] for s, n in here.flows.items()}
    x = flows["A"] / sum(flows.values())
    assert x * species[0].vapor_pressure.at(T) + (1 - x) * species[1].vapor_pressure.at(T) == pytest.approx(
        1e5, rel=2e-3
    )
    cold = mo.PlugFlow(chemistry, feed, volume="500 L", T="330 K").run()
    assert cold.facts()["boiling"].startswith("none: bubble pressure up to")
    calm = mo.PlugFlow(chemistry, feed, volume="5 L", name="cold")
    both = mo.Train([calm, mo.PlugFlow(chemistry, feed, volume="500 L", heat="adiabatic", name="hot")]).run()
    assert "boiling in hot" in both.facts()
    assert "boiling in hot" in both.to_dict()
    assert "boiling in cold" not in both.facts()
    assert mo.Train([calm, mo.Exchanger("330 K")]).run().facts()["boiling"] == "in none of its vessels"
    warm = mo.PlugFlow(
        chemistry, mo.Feed({"A": "1 mol/s"}, T="360 K", P="0.5 bar", model="additive volumes"), volume="5 L"
    )
    assert any("would boil at 360 K and 0.5 bar" in f.what for f in warm.check().findings)
    gas = mo.PlugFlow(chemistry, mo.Feed({"A": "1 mol/s"}, T="390 K", P="1 bar"), volume="20 m3", T="340 K").run()
    assert gas.facts()["condensation"].startswith("it condenses throughout")
    batch = mo.Batch(chemistry, {"A": "100 mol%"}, T="330 K", time="1 h", model="additive volumes").run()
    assert batch.facts()["boiling"].startswith("bubble pressure up to")
    bare = mo.Chemistry(mo.Reaction("A -> B", **law), species=[species[0]])
    assert (
        "boiling"
        not in mo.PlugFlow(
            bare,
            mo.Feed(
                {"A": "1 mol/L"}, flow=1e-3, T="360 K", P="1 bar", model="constant density", heat_capacity="2 MJ/m3/K"
            ),
            volume="5 L",
        )
        .run()
        .facts()
    )


def test_what_is_wrong_is_said(tmp_path: Any) -> None:
    both = mo.thermo.PhaseEquilibrium([NITRILE, NITRO])
    for call, words in (
        (lambda: both.bubble_point(MIX), "one of T and P"), (lambda: both.dew_point(MIX, T=300.0, P=1e5), "one of T and P"),
        (lambda: both.flash(MIX, P=1e5), "one of T and feed_T"), (lambda: both.flash({"X": 1.0}, P=1e5, T=300.0), "not a species"),
        (lambda: mo.thermo.PhaseEquilibrium([mo.Species("A")]), "A has no vapor pressure"), (lambda: mo.thermo.PhaseEquilibrium([]), "no species"),
        (lambda: mo.Species("A", vapor_pressure={"antoine": [1.0]}), "three numbers"), (lambda: mo.Species("A", vapor_pressure=3.0), "is not a vapor pressure"),
        (lambda: mo.Species("A", vapor_pressure={"b": 1.0}), "a is missing"),
    ):  # fmt: skip
        with pytest.raises(mo.InputError, match=words):
            call()
    chemistry = mo.Chemistry(mo.Reaction("nitrile -> nitro", k=1.0), species=[NITRILE, NITRO])
    again = mo.files.read_chemistry(mo.files.write_chemistry(chemistry, tmp_path / "chemistry.toml"))
    assert again.species[0].vapor_pressure.at(350.0) == pytest.approx(NITRILE.vapor_pressure.at(350.0), rel=1e-12)


def test_a_published_mixture_with_activity_coefficients() -> None:
    """Methanol and methyl acetate at 318.15 K, ln gamma = 1.107 times the square of the other's fraction (Smith, Van
    Ness, Abbott, example 10.3), as a regular solution of equal molar volumes; and their azeotrope."""
    T, A, v = 318.15, 2.771 - 0.00523 * 318.15, 1e-4
    laws = {"M": (16.59158, 3643.31, -33.424), "E": (14.25326, 2665.54, -53.424)}
    species = [
        mo.Species(n, molar_volume=v, solubility_parameter=20e3 + (n == "E") * math.sqrt(A * R * T / v),
                   vapor_pressure=mo.thermo.VaporPressure.antoine(*law, pressure="kPa", base="e"))
        for n, law in laws.items()
    ]  # fmt: skip
    both = mo.thermo.PhaseEquilibrium(species, mo.thermo.ActivityModel(species, "regular solution"))
    assert [s.vapor_pressure.at(T) / 1e3 for s in species] == pytest.approx([44.51, 65.64], abs=0.006)
    bubble = both.bubble_point({"M": 0.25, "E": 0.75}, T=T)
    gamma = both.liquid.coefficients(T, {"M": 0.25, "E": 0.75})
    assert [*gamma.values()] == pytest.approx([1.864, 1.072], abs=6e-4)
    assert pytest.approx(73.50, abs=0.02) == bubble.P / 1e3
    assert bubble.fractions("gas")["M"] == pytest.approx(0.282, abs=6e-4)
    dew = both.dew_point({"M": 0.6, "E": 0.4}, T=T)
    assert pytest.approx(62.89, abs=0.02) == dew.P / 1e3
    assert dew.fractions("liquid")["M"] == pytest.approx(0.817, abs=1e-3)
    azeotrope = both.bubble_point({"M": 0.325, "E": 0.675}, T=T)
    assert pytest.approx(73.76, abs=0.02) == azeotrope.P / 1e3
    assert azeotrope.fractions("gas")["M"] == pytest.approx(0.325, abs=1e-3)


def test_a_liquid_that_splits_boils_as_its_two_liquids_do() -> None:
    """Between the ends of the tie line one bubble point; a flash there has the stable liquid, or both."""
    A, B = (mo.Species(n, vapor_pressure={"antoine": law}) for n, law in
            (("A", [4.2, 1200.0, -50.0]), ("B", [4.1, 1300.0, -45.0])))  # fmt: skip
    model = mo.thermo.ActivityModel([A, B], "NRTL", {("A", "B"): [0.45], ("B", "A"): [3.2]}, {("A", "B"): 0.43})
    both = mo.thermo.PhaseEquilibrium([A, B], model)
    split = both.bubble_point({"A": 0.15, "B": 0.85}, T=360)
    for x in split.liquids:
        end = both.bubble_point(dict(zip("AB", x, strict=True)), T=360)
        assert pytest.approx(split.P, rel=1e-9) == end.P
        assert end.y == pytest.approx(split.y, rel=1e-9)
    assert pytest.approx(360, rel=1e-9) == both.bubble_point({"A": 0.15, "B": 0.85}, P=split.P).T
    below, above = (both.flash({"A": 0.15, "B": 0.85}, T=360, P=factor * split.P) for factor in (0.99, 1.01))
    assert len(above.liquids) == 2
    assert above.vapor_fraction == 0
    assert model.second_liquid(360, dict(zip("AB", below.x, strict=True))) is None
    assert 0 < below.vapor_fraction < 1


def test_a_gas_above_its_critical_temperature_has_two_dew_points() -> None:
    light, heavy = (
        mo.Species(n, critical_temperature=Tc, critical_pressure=Pc, acentric_factor=w)
        for n, Tc, Pc, w in (("A", "190 K", "46 bar", 0.01), ("B", "425 K", "38 bar", 0.2))
    )
    both, z = mo.thermo.PhaseEquilibrium([light, heavy], mo.thermo.CubicEquation([light, heavy])), {"A": 0.8, "B": 0.2}
    lower = both.dew_point(z, T=310)
    upper = both.dew_point(z, P="125 bar")
    assert "second dew point" in lower.note
    assert both.flash(z, T=310, P=3 * lower.P).vapor_fraction < 1
    warm, cool = (both.flash(z, T=factor * upper.T, P="125 bar") for factor in (1 + 1e-4, 1 - 1e-4))
    assert warm.x == pytest.approx(warm.y)
    assert abs(cool.x[0] - cool.y[0]) > 0.1
