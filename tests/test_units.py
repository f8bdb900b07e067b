"""Quantities: what a person writes, and what is made of it."""

from __future__ import annotations

import pint
import pytest
from hypothesis import given, settings, strategies as st

import molino as mo
from molino.core import pint_units, units
from molino.core.unit_tables import ambiguous

WRITTEN = [
    ("0.35 mol/L", "concentration", 350.0),
    ("1.2e-3 mol/L", "concentration", 1.2),
    ("0.35 M", "concentration", 350.0),
    ("12 m3/h", "volumetric flow", 12 / 3600),
    ("12 m³/h", "volumetric flow", 12 / 3600),
    ("12m^3/h", "volumetric flow", 12 / 3600),
    ("165 degC", "temperature", 438.15),
    ("165 °C", "temperature", 438.15),
    ("-40 degF", "temperature", 233.15),
    ("80 mm", "diameter", 0.08),
    ("15 kcal/mol", "energy per amount", 62760.0),
    ("120 kJ mol-1", "energy per amount", 120e3),
    ("3 bar", "pressure", 3e5),
    ("3 h", "time", 10800.0),
    ("4 kmol/h", "molar flow", 4000 / 3600),
    ("90 %", "number", 0.9),
    (7, "time", 7.0),
    ("7", "time", 7.0),
]

RATE_CONSTANTS = [
    ("0.02 L/mol/min", 0.02e-3 / 60),
    ("0.02 L mol-1 min-1", 0.02e-3 / 60),
    ("0.2 1/min", 0.2 / 60),
    ("0.2/min", 0.2 / 60),
    ("3 (L/mol)^2/s", 3e-6),
    ("2 mol^0.5/L^0.5/s", 2 * 1000**0.5),
    ("5 mol/L/min", 5000 / 60),
]


@pytest.mark.parametrize(("text", "kind", "si"), WRITTEN)
def test_what_is_written_is_read(text: object, kind: str, si: float) -> None:
    assert units.read(text, kind).si == pytest.approx(si, rel=1e-12)


@pytest.mark.parametrize(("text", "si"), RATE_CONSTANTS)
def test_rate_constants_of_any_order(text: str, si: float) -> None:
    assert units.read(text).si == pytest.approx(si, rel=1e-12)


def test_quantities_of_another_registry() -> None:
    other = pint.UnitRegistry()
    assert units.read(other.Quantity(165, "degC"), "temperature").si == pytest.approx(438.15)
    assert units.read(other.Quantity(12, "m**3/hour"), "volumetric flow").si == pytest.approx(12 / 3600)


@settings(deadline=None)  # the first reads pint's definitions
@given(
    st.floats(-1e6, 1e6).filter(lambda x: x == 0 or abs(x) > 1e-300),
    st.sampled_from(["degC", "degF", "K", "mol/L", "L/mol/min", "kcal/mol", "m3/h", "bar", "1/min", "mm"]),
)
def test_a_value_comes_back_in_the_unit_it_came_in(number: float, unit: str) -> None:
    value = units.read(f"{number!r} {unit}")
    assert value.to(unit) == pytest.approx(number, rel=1e-9, abs=1e-9)
    assert value.quantity.to(pint_units.registry().parse_units(pint_units.spell_out(unit))).magnitude == pytest.approx(
        number, rel=1e-9, abs=1e-9
    )


WRONG = [
    ("80 kg", "diameter", "kg is a unit of mass", "80 mm"),
    ("165 C", "temperature", "not a temperature", "did you mean 'degC'"),
    ("0.2 1/min", "concentration", "first-order rate constant", "0.35 mol/L"),
    ("5 furlings", "length", "unknown unit 'furlings'", "mol/L"),
    ("0,35 mol/L", "concentration", "not a quantity", "decimal point"),
    ("much", "time", "not a quantity", "number and its unit"),
    ("9 9^9^9^9^9", "time", "is not a unit", "mol/L"),
    (float("nan"), "time", "not a finite number", "3 h"),
    (True, "time", "not a quantity", "3 h"),
    ([3], "time", "not a quantity", "3 h"),
]


@pytest.mark.parametrize(("text", "kind", "what", "advice"), WRONG)
def test_what_cannot_be_read_is_reported_with_a_way_out(text: object, kind: str, what: str, advice: str) -> None:
    with pytest.raises(mo.InputError) as error:
        units.read(text, kind, "here")
    (fault,) = error.value.faults
    assert fault.where == "here"
    assert what in fault.what
    assert advice in fault.advice


def test_signs_and_zero() -> None:
    with pytest.raises(mo.InputError, match="must be above zero"):
        units.positive("0 h", "time", "time")
    with pytest.raises(mo.InputError, match="absolute"):
        units.positive("-300 degC", "temperature", "T")
    assert units.positive("0 mol/L", "concentration", "A", zero=True).si == 0


def test_results_are_shown_in_the_units_that_came_in() -> None:
    chemistry = mo.Chemistry(mo.Reaction("A -> B", k="0.5 1/h"))
    run = mo.Batch(chemistry, {"A": "2 mol/L"}, volume="3 L").run("90 min", points=3)
    assert list(run.table().columns) == ["time [min]", "A [mol/L]", "B [mol/L]", "rate of r1 [mol/L/min]"]
    assert run.table()["time [min]"].iloc[-1] == pytest.approx(90)
    assert run.residence_time.to("h") == pytest.approx(1.5)
    assert run.final["A"].unit == "mol/L"
    shown = mo.Batch(chemistry, {"A": "2 mol/L"}, show={"time": "h", "concentration": "kmol/m3"}).run("90 min")
    assert "A [kmol/m3]" in shown.table().columns


def test_a_study_without_units_stays_without() -> None:
    run = mo.Batch(mo.Chemistry(mo.Reaction("A -> B", k=0.2)), {"A": 1.0}).run(40)
    assert list(run.table().columns) == ["time", "A", "B", "rate of r1"]
    assert "mol" not in str(run)


PLANT = [
    ("1 bbl", "volume", 0.158987294928), ("1 bpd", "volumetric flow", 0.158987294928 / 86400),
    ("1 lbmol/h", "molar flow", 453.59237 / 3600), ("0 psig", "pressure", 101325.0), ("2 barg", "pressure", 301325.0),
    ("3 bara", "pressure", 3e5), ("1 Nm3", "amount", 44.61503), ("1 Sm3/h", "molar flow", 42.29254 / 3600),
    ("1 scf", "amount", 1.195287), ("1 MMBTU/h", "power", 293071.1), ("1 gpm", "volumetric flow", 6.30902e-5),
    ("1 inH2O", "pressure", 249.08891),
]  # fmt: skip
"""Handbook values: a barrel of 42 gallons, 22.414 m3/kmol at 0 degC and 23.645 at 15 degC and 1 atm."""


@pytest.mark.parametrize(("text", "kind", "si"), PLANT)
def test_units_of_the_plant(text: str, kind: str, si: float) -> None:
    value = units.read(text, kind)
    assert value.si == pytest.approx(si, rel=2e-6)
    assert value.to(value.unit or "") == pytest.approx(float(text.split()[0]), abs=1e-9)


def test_a_feed_in_units_of_the_plant() -> None:
    feed = mo.Feed({"A": "10 mol%", "B": "rest"}, flow="1000 Nm3/h", T="300 degC", P="5 barg")
    tube = mo.PlugFlow(mo.Chemistry(mo.Reaction("A -> B", k="1 1/s")), feed, volume="1 m3")
    assert tube.run().stream_in().amounts["A"] == pytest.approx(0.1 * 1000 / 3600 * 44.61503, rel=1e-6)
    assert pytest.approx(601325) == tube.run().stream_in().P
    with pytest.raises(mo.UnitError, match="a fraction has no other unit"):
        units.read("20 mol%", "amount")
    assert ambiguous("3 gpm") == ["gpm is read in US gallons of 3.785 L"]
    assert ambiguous("gal") == []
