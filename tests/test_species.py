"""Species: formulas, properties, tables of them, and looking them up."""

from __future__ import annotations

import json
import re
import sys
from pathlib import Path

import pandas as pd
import pytest

import molino as mo
from conftest import Typed
from molino.core.chemistry.composition import ATOMIC_MASSES, composition
from molino.desk.tables.species import species_table

FORMULAS = {
    "H2O": ({"H": 2, "O": 1}, 0),
    "Ca(OH)2": ({"Ca": 1, "O": 2, "H": 2}, 0),
    "(NH4)2SO4": ({"N": 2, "H": 8, "S": 1, "O": 4}, 0),
    "CuSO4·5H2O": ({"Cu": 1, "S": 1, "O": 9, "H": 10}, 0),
    "CuSO4.5H2O": ({"Cu": 1, "S": 1, "O": 9, "H": 10}, 0),
    "CaSO4.0.5H2O": ({"Ca": 1, "S": 1, "O": 4.5, "H": 1}, 0),
    "MgCl2*6H2O": ({"Mg": 1, "Cl": 2, "H": 12, "O": 6}, 0),
    "[Co(NH3)6]^3+": ({"Co": 1, "N": 6, "H": 18}, 3),
    "CH1.8O0.5N0.2": ({"C": 1, "H": 1.8, "O": 0.5, "N": 0.2}, 0),
    "NH4+": ({"N": 1, "H": 4}, 1),
    "SO4^2-": ({"S": 1, "O": 4}, -2),
    "PO4-3": ({"P": 1, "O": 4}, -3),
    "Fe+3": ({"Fe": 1}, 3),
    "Ca^{2+}": ({"Ca": 1}, 2),
    "O^--": None,
    "NO3-": ({"N": 1, "O": 3}, -1),
    "e-": ({}, -1),
    "Ca2+": "two ways.*Ca\\^2\\+",
    "SO42-": "two ways.*SO4\\^2-",
    "Xy2": "'Xy' in 'Xy2' is not an element",
    "co": "cannot read 'co' at 'co'",
    "C6H12O6)": "at '\\)'",
    "Ca(OH": "ends too early",
    "": "ends too early",
}


@pytest.mark.parametrize("formula", FORMULAS)
def test_formulas(formula: str) -> None:
    expected = FORMULAS[formula]
    if isinstance(expected, tuple):
        found = composition(formula)
        assert ({e: float(n) for e, n in found.atoms.items()}, found.charge) == expected
    else:
        with pytest.raises(mo.InputError) as error:
            composition(formula)
        assert re.search(expected or "cannot read", str(error.value), re.DOTALL)


def test_molar_masses_against_another_table() -> None:
    chemicals = pytest.importorskip("chemicals")
    for element, mass in ATOMIC_MASSES.items():
        if mass != round(mass):  # those without a standard weight are whole mass numbers, and matters of choice
            assert pytest.approx(mass, rel=3e-4) == chemicals.periodic_table[element].MW
    assert composition("C5H10O5").molar_mass == pytest.approx(0.15013, rel=1e-5)


def test_charge_must_balance_and_is_kept() -> None:
    ions = {"Fe2": "Fe^2+", "Fe3": "Fe^3+", "Ce4": "Ce^4+", "Ce3": "Ce^3+"}
    sound = mo.Chemistry(mo.Reaction("Fe2 + Ce4 -> Fe3 + Ce3", k="3 L/mol/s"), species=ions)
    run = mo.Batch(sound, {"Fe2": "1 mmol/L", "Ce4": "2 mmol/L"}).run("5 min")
    assert set(run.closure) == {"Fe", "Ce", "charge", "mass"}
    assert max(run.closure.values()) < 1e-12
    with pytest.raises(mo.InputError, match=r"its charge changes by -1"):
        mo.Chemistry(mo.Reaction("Fe2 + Ce4 -> Fe3 + Ce3", k=1), species={**ions, "Ce3": "Ce^2+"})
    with pytest.raises(mo.InputError, match="balances with 2 H"):
        mo.Chemistry(mo.Reaction("S + H+ -> H2S", k=1), species={"S": "S^2-", "H+": "H+", "H2S": "H2S"})


WRONG = {
    "a molar mass that is not": ({"formula": "H2O", "molar_mass": "20 g/mol"}, "H2O weighs 18.015 g/mol"),
    "density in mol": ({"density": "55 mol/L"}, "not a density"),
    "volume and density": ({"formula": "H2O", "density": "1 kg/L", "molar_volume": "18 mL/mol"}, "same thing twice"),
    "below zero": ({"critical_temperature": "-300 degC"}, "must be above zero"),
    "an enthalpy in kJ": ({"enthalpy_of_formation": "-200 kJ"}, "not an energy per amount"),
    "heat per mass without mass": ({"heat_capacity": "4.18 kJ/kg/K"}, "give the formula or the molar mass"),
    "an unknown part": ({"heat_capacity": {"koefficients": [1]}}, "unknown: koefficients"),
    "enthalpy specified twice": (
        {"heat_capacity": {"low": [1] * 7, "high": [1] * 7}, "entropy": "1 J/mol/K"}, "included in the seven coefficients",
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", WRONG)
def test_wrong_properties_are_reported(name: str) -> None:
    given, what = WRONG[name]
    with pytest.raises(mo.InputError, match=what):
        mo.Species("A", **given)


def test_what_is_needed_is_asked_for_by_name() -> None:
    water = mo.Species("water", "H2O", heat_capacity="4.18 kJ/kg/K", density="998 kg/m3")
    assert water.heat_capacity.coefficients[0].si == pytest.approx(4180 * 0.018015, rel=1e-6)
    assert water.require("molar_volume", "a test").si == pytest.approx(0.018015 / 998)
    with pytest.raises(
        mo.InputError, match=r"water has no critical temperature, which the gas needs(.|\n)*\[species.water\]"
    ):
        water.require("critical_temperature", "the gas")
    assert "18.015 g/mol" in str(water)


KNOWN = """name;formula;molar mass [g/mol];heat capacity 0 [J/mol/K];heat capacity 1 [J/mol/K^2];entropy [J/mol/K];density [kg/m3];source
A;C2H6;;5,4;0,178;229;;handbook
B;;44.5;80;;;750;
"""


def test_tables_of_species_read_and_write_the_same(tmp_path: Path) -> None:
    (tmp_path / "s.csv").write_text(KNOWN)
    found = mo.files.read_species(tmp_path / "s.csv")
    assert [c.si for c in found[0].heat_capacity.coefficients] == [5.4, 0.178]
    assert found[0].source == "handbook"
    assert found[1].molar_mass.si == pytest.approx(0.0445)
    assert found[1].source == "s.csv"
    species_table(found).to_excel(tmp_path / "s.xlsx", index=False)
    content = {"A": {"formula": "C2H6", "heat_capacity": ["5.4 J/mol/K", "0.178 J/mol/K^2"], "entropy": "229 J/mol/K"},
               "B": {"molar_mass": "44.5 g/mol", "heat_capacity": "80 J/mol/K", "density": "750 kg/m3"}}  # fmt: skip
    (tmp_path / "s.json").write_text(json.dumps(content))
    for other in (
        mo.files.read_species(tmp_path / "s.xlsx"),
        mo.files.read_species(tmp_path / "s.json"),
        mo.files.read_species(species_table(found)),
    ):
        for one, again in zip(found, other, strict=True):
            assert again.formula == one.formula
            for name, value in one.known().items():
                same = getattr(again, name)
                pair = (value.coefficients, same.coefficients) if name == "heat_capacity" else ((value,), (same,))
                assert [v.si for v in pair[1]] == pytest.approx([v.si for v in pair[0]])


WRONG_TABLES = {
    "s.csv, headings: no column 'name'": "formula\nH2O\n",
    "column 'densty': it is not a property of a species\n    -> did you mean 'density'": "name,densty\nA,3\n",
    "line 3: 'A' appears twice": "name,formula\nA,H2\nA,H2\n",
    "line 2, A: 'Zz' in 'Zz' is not an element": "name,formula\nA,Zz\n",
    "line 2: the species has no name": "name,formula\n,H2\n",
    "line 2, A, acentric_factor: 'low' is not a quantity": "name,acentric factor\nA,low\n",
    "not readable as JSON": "{",
    "not a table of species": "[1]",
    "'densty' is not a property of a species": '{"A": {"densty": 3}}',
}


@pytest.mark.parametrize("what", WRONG_TABLES)
def test_wrong_tables_of_species_are_reported(tmp_path: Path, what: str) -> None:
    text = WRONG_TABLES[what]
    path = tmp_path / ("s.json" if text[0] in "{[" else "s.csv")
    path.write_text(text)
    with pytest.raises(mo.InputError) as error:
        mo.files.read_species(path)
    assert what in str(error.value)


LOOKED_UP = """
species_table = "own.csv"
[units]
time = "min"
temperature = "degC"
concentration = "mol/L"
[species]
methanol = { look_up = "67-56-1" }
ether = { look_up = "dimethyl ether", enthalpy_of_formation = "-184.1 kJ/mol" }
[reactions.dehydration]
equation = "2 methanol <-> ether + water"
k = "0.3 L/mol/min"
K = { from_species = "concentrations" }
[vessels.pot]
kind = "batch"
charge = { methanol = "80 mol%", water = "rest" }
total = "3 kmol"
P = "2 bar"
T = 250
time = 6000
"""


def test_a_job_looks_species_up_and_writes_their_source(
    molino: Typed, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    pytest.importorskip("chemicals")
    water = mo.files.look_up("water")
    assert water.vapor_pressure.at("100 degC") == pytest.approx(101325.0, rel=2e-3)
    assert "without de" in water.source
    assert water.enthalpy_of_formation.si == pytest.approx(-241.8e3, rel=1e-3)
    assert water.heat_capacity.value(500.0) == pytest.approx(35.2, rel=5e-3)
    methanol = mo.files.look_up("methanol", phase="liquid")
    assert methanol.density.si == pytest.approx(787, rel=5e-3)
    assert methanol.heat_capacity.value(298.15) == pytest.approx(81.1, rel=5e-3)
    assert methanol.heat_capacity.value(320.0) == pytest.approx(85.9, rel=1e-2)
    assert methanol.expansion(333.15) == pytest.approx(787 / 752, rel=2e-2)
    species_table([water]).to_csv(tmp_path / "own.csv", index=False)
    (tmp_path / "job.toml").write_text(LOOKED_UP)
    result = molino("run", tmp_path / "job.toml")
    assert result.exit_code == 0, result.output
    written = pd.read_csv(tmp_path / "results" / "job" / "species.csv").set_index("name")
    assert "CAS 67-56-1" in written.loc["methanol", "source"]
    assert "the job: enthalpy_of_formation" in written.loc["ether", "source"]
    assert written.loc["ether", "enthalpy of formation [kJ/mol]"] == pytest.approx(-184.1)
    end = pd.read_csv(tmp_path / "results" / "job" / "run-pot.csv").iloc[-1]
    chemistry = mo.files.read_chemistry(tmp_path / "job.toml")
    K = end["ether [mol/L]"] * end["water [mol/L]"] / end["methanol [mol/L]"] ** 2
    assert chemistry.equilibrium_constant("dehydration", "250 degC") == pytest.approx(K, rel=1e-4)
    (tmp_path / "job.toml").write_text(LOOKED_UP.replace("67-56-1", "methanool"))
    assert "has no \n'methanool'" in molino("check", tmp_path / "job.toml").stderr
    monkeypatch.setitem(sys.modules, "chemicals", None)
    assert "pip install 'molino[species]'" in molino("check", tmp_path / "job.toml").stderr.replace("\n    ", "")


def test_a_heat_capacity_in_bare_numbers_is_that_in_si_units() -> None:
    bare = mo.thermo.HeatCapacity([28.0, 2e-3, 1e-6])
    given = mo.thermo.HeatCapacity(["28 J/mol/K", "2e-3 J/mol/K^2", "1e-6 J/mol/K^3"])
    assert bare == given
    assert str(bare) == str(given) == "28 J/mol/K + 0.002 J/mol/K² T + 1e-06 J/mol/K³ T^2"
    with pytest.raises(mo.UnitError, match=r"coefficient 2: '1 J/mol/K\^2' is not in J/mol/K\^3"):
        mo.thermo.HeatCapacity([28.0, 2e-3, "1 J/mol/K^2"])
