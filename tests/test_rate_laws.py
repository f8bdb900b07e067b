"""How rate laws and constants are written: every line of docs/chemistry.md, in Python and as a job file."""

from __future__ import annotations

import math
import re
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import sympy as sp
from hypothesis import given, settings, strategies as st

import molino as mo
from molino.core.balances.compiled import compiled
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.unit_tables import GAS_CONSTANT

PAGE = (Path(__file__).parent.parent / "docs" / "chemistry.md").read_text()
SPECIES = [
    mo.Species("A", "CH4O", heat_capacity="44 J/mol/K", enthalpy_of_formation="-201 kJ/mol", entropy="240 J/mol/K"),
    mo.Species("B", heat_capacity="30 J/mol/K", enthalpy_of_formation="-110 kJ/mol", entropy="198 J/mol/K"),
    mo.Species("C", heat_capacity=[28.0, 2e-3], enthalpy_of_formation="-80 kJ/mol", entropy="131 J/mol/K"),
    mo.Species("acid"),
]


def rows(section: str) -> list[list[str]]:
    """The lines of the table in a section of the page, the code of each cell."""
    text = PAGE.partition(f"## {section}\n")[2].partition("\n## ")[0]
    lines = [line for line in text.splitlines() if line.startswith("|")][2:]
    return [[cell.strip().strip("`") for cell in line.strip("|").split(" |")] for line in lines]


def from_job(tmp_path: Path, reaction: str, constants: str = "") -> mo.Chemistry:
    """The chemistry of a job file with one reaction."""
    path = tmp_path / "job.toml"
    known = 'heat_capacity = "{}", enthalpy_of_formation = "{}", entropy = "{}"'
    listed = [
        'A = { formula = "CH4O", ' + known.format("44 J/mol/K", "-201 kJ/mol", "240 J/mol/K") + " }",
        "B = { " + known.format("30 J/mol/K", "-110 kJ/mol", "198 J/mol/K") + " }",
        'C = { heat_capacity = ["28 J/mol/K", "2e-3 J/mol/K^2"], enthalpy_of_formation = "-80 kJ/mol", entropy = "131 J/mol/K" }',
        "acid = {}",
    ]
    path.write_text("\n".join(["[species]", *listed, "[constants]", constants, "[reactions]", f"r1 = {reaction}"]))
    return mo.files.read_chemistry(path)


def run(chemistry: mo.Chemistry) -> Any:
    """A closed gas vessel with all that a rate law may ask for."""
    charge = {"A": "1 bar", "B": "1.5 bar", "C": "0.2 bar", "acid": "0.1 bar"}
    catalyst = mo.Catalyst(bulk_density="2 kg/m3", area="300 m2/m3", fraction=0.6)
    return mo.Batch(chemistry.at_guess(), charge, T="450 K", catalyst=catalyst).run("2 h", points=5)


@pytest.mark.parametrize("row", rows("Rate laws"), ids=lambda row: row[0])
def test_each_rate_law_of_the_page_runs_the_same_from_python_and_from_a_job(row: list[str], tmp_path: Path) -> None:
    _, equation, rate, constants = row
    constants = constants.replace("`", "")
    by_python = mo.Chemistry(eval(f"mo.Reaction({equation!r}, rate={rate!r} or None, {constants})"), species=SPECIES)
    formula = f"rate = {rate!r}, " if rate else ""
    job = f"{{ equation = {equation!r}, {formula}{constants} }}"
    by_job = from_job(tmp_path, job)
    assert str(by_python.reactions[0]) == str(by_job.reactions[0])
    runs = [run(by_python), run(by_job)]
    assert np.array_equal(runs[0].states, runs[1].states)
    assert runs[0].series["rate of r1"][0] > 0
    assert max(runs[0].closure.values(), default=0.0) < 1e-9  # from nothing, nothing is kept
    assert not by_python.check("450 K").at("error")
    assert len(by_python.equations().lines) >= 5
    assert mo.files.write_chemistry(by_python, tmp_path / "again.toml").exists()
    again = mo.files.read_chemistry(tmp_path / "again.toml")
    assert again.network == by_python.network
    assert [p.value for p in again.parameters] == pytest.approx([p.value for p in by_python.parameters], rel=1e-15)


@pytest.mark.parametrize("row", rows("Constants"), ids=lambda row: row[0])
def test_each_constant_of_the_page_is_the_same_from_python_and_from_a_job(row: list[str], tmp_path: Path) -> None:
    _, python, job = row
    if "FromSpecies" in python:
        assert from_job(
            tmp_path, f'{{ equation = "A <-> B + C", rate = "k*([A] - [B]*[C]/K)", k = "3 1/h", K = {job} }}'
        ) == (mo.Chemistry(mo.Reaction("A <-> B + C", rate="k*([A] - [B]*[C]/K)", k="3 1/h", K=eval(python)), SPECIES))
        return
    held = mo.Reaction("A -> B", rate="k*[A]*exp(K/K0)", k=1, K=eval(python, {"mo": mo}), K0=1).constants["K"]
    unit = f'k = "1 1/h", K0 = "1 {held.unit}", K = {job}'
    again = (
        from_job(tmp_path, f'{{ equation = "A -> B", rate = "k*[A]*exp(K/K0)", {unit} }}').reactions[0].constants["K"]
    )
    assert str(again) == str(held)
    assert again.parts() == held.parts()


def test_the_python_function_of_the_page_runs() -> None:
    block = re.findall(r"```python\n(.*?)```", PAGE, re.DOTALL)[1]
    scope: dict[str, Any] = {"mo": mo}
    exec(block.replace("mo.Reaction(", "reaction = mo.Reaction("), scope)
    made = run(mo.Chemistry(scope["reaction"], species=SPECIES))
    assert made.series["rate of r1"][0] > 0


def law(A: float, B: float, T: float, k: float) -> float:
    return k * A * B


FORMS: dict[str, dict[str, Any]] = {
    "formula": {"rate": "k*[A]*[B]"},
    "orders": {"orders": {"A": 1, "B": 1}},
    "python": {"rate": law},
}


@pytest.mark.parametrize("form", FORMS)
def test_one_mechanism_in_every_form_gives_the_same_run(form: str) -> None:
    k = mo.Arrhenius(k="0.8 L/mol/min", at="60 degC", Ea="70 kJ/mol")
    chemistries = [
        mo.Chemistry([mo.Reaction("A + B -> C", k=k, **way), mo.Reaction("C + B -> D", k="0.3 L/mol/min")])
        for way in ({}, FORMS[form])
    ]
    feed = mo.Feed({"A": "1 mol/L", "B": "1.4 mol/L"}, flow="2 L/min", T="65 degC")
    for make in (
        lambda c: mo.Batch(c, feed).run("30 min"),
        lambda c: mo.PlugFlow(c, feed, volume="50 L").run(),
        lambda c: mo.StirredTank(c, feed, volume="50 L").steady(),
        lambda c: mo.StirredTank(c, feed, volume="50 L").run("1 h"),
    ):
        one, other = (make(c).states[-1] for c in chemistries)
        assert other == pytest.approx(one, rel=1e-8)


def test_a_python_rate_law_has_sensitivities_and_fits() -> None:
    def saturating(A: float, v: float, K: float) -> float:
        return v * A / (K + A)

    ways = [{"rate": saturating}, {"rate": "v*[A]/(K + [A])"}]
    guess = {"v": mo.Unknown("0.1 mol/L/min"), "K": mo.Unknown("0.8 mol/L")}
    truth = mo.Chemistry(mo.Reaction("A -> B", rate="v*[A]/(K + [A])", v="0.07 mol/L/min", K="0.4 mol/L"))
    runs = []
    for start in (1000.0, 300.0):
        made = mo.Batch(truth, {"A": start}).run("40 min", points=12)
        runs.append(mo.Experiment(f"{start:g}", made.points, {"A": made.concentrations["A"]}, {"A": start}))
    fits = [mo.fit(mo.Chemistry(mo.Reaction("A -> B", **way, **guess)), runs) for way in ways]
    for found in fits:
        assert found["r1.v"].value == pytest.approx(70 / 60, rel=1e-5)
        assert found["r1.K"].value == pytest.approx(400, rel=1e-5)


def test_an_unknown_order_fits_in_any_unit() -> None:
    truth = mo.Chemistry(mo.Reaction("A -> B", orders={"A": 1.5}, k="0.05 L^0.5/mol^0.5/min"))
    runs = []
    for start in (1000.0, 400.0):
        made = mo.Batch(truth, {"A": start}).run("30 min", points=10)
        runs.append(mo.Experiment(f"{start:g}", made.points, {"A": made.concentrations["A"]}, {"A": start}))
    guess = mo.Reaction("A -> B", orders={"A": mo.Unknown(1.1)}, k=mo.Unknown("0.1 mol/L/min"))
    found = mo.fit(mo.Chemistry(guess), runs)
    assert found["r1.n_A"].value == pytest.approx(1.5, rel=1e-6)
    assert found["r1.k"].shown()[0] == pytest.approx(0.05, rel=1e-6)


def at(held: Any, T: float) -> float:
    """A constant at a temperature, in SI, as a vessel computes it."""
    chemistry = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]", k=held, basis="volume"))
    return float(compiled_rate(chemistry, T))


def compiled_rate(chemistry: mo.Chemistry, T: float) -> float:
    balances = mo.Batch(chemistry, {"A": 1.0}, T=T).spec.case
    return float(-compiled(balances.balances).rhs(balances.values)(np.array([1.0, 0.0]), 0.0)[0])


@settings(max_examples=40, deadline=None)
@given(st.floats(300, 900), st.floats(1e-3, 1e3), st.floats(-2, 3), st.floats(1e4, 2e5))
def test_laws_over_temperature_against_their_formulas(T: float, k: float, n: float, E: float) -> None:
    R = GAS_CONSTANT
    by_reference = mo.Arrhenius(k=k, at=500.0, Ea=E, n=n)
    assert at(by_reference, T) == pytest.approx(k * (T / 500) ** n * math.exp(-E / R * (1 / T - 1 / 500)), rel=1e-12)
    factor = k * math.exp(E / R / 500) / 500**n
    assert at(mo.Arrhenius(A=factor, Ea=E, n=n), T) == pytest.approx(at(by_reference, T), rel=1e-9)
    ways = [
        mo.VantHoff(K=k, at=500, enthalpy=-E),
        mo.VantHoff(A=k * math.exp(-E / R / 500), enthalpy=-E),
        mo.VantHoff(a=math.log(k) - E / R / 500, b=E / R),
    ]
    for way in ways:
        assert at(way, T) == pytest.approx(k * math.exp(E / R * (1 / T - 1 / 500)), rel=1e-9)


def test_a_law_through_a_table_is_the_line_of_least_squares() -> None:
    T = np.array([420.0, 435.0, 450.0, 470.0])
    k = 3e8 * np.exp(-9e4 / GAS_CONSTANT / T) * np.array([1.02, 0.97, 1.01, 1.0])
    made = mo.Arrhenius.through(T, k)
    slope, intercept = np.polyfit(1 / T, np.log(k), 1)
    assert made.Ea.si == pytest.approx(-slope * GAS_CONSTANT, rel=1e-9)
    assert at(made, 444.0) == pytest.approx(math.exp(intercept + slope / 444.0), rel=1e-9)
    fitted = made.through_table
    assert fitted is not None
    errors = np.sqrt(np.diag(np.polyfit(1 / T, np.log(k), 1, cov=True)[1]))
    assert fitted.energy_half_width == pytest.approx(4.302653 * errors[0] * GAS_CONSTANT, rel=1e-5)  # t(0.975, 2)
    factor, low, high = fitted.factor
    assert math.log(factor) == pytest.approx(intercept, rel=1e-9)
    assert math.log(high / low) / 2 == pytest.approx(4.302653 * errors[1], rel=1e-5)
    covariance = np.polyfit(1 / T, np.log(k), 1, cov=True)[1]
    assert fitted.correlation == pytest.approx(-covariance[0, 1] / errors[0] / errors[1], rel=1e-9)
    value, below, above = fitted.at(500.0)
    variance = covariance[0, 0] / 500**2 + 2 * covariance[0, 1] / 500 + covariance[1, 1]
    assert math.log(above / below) / 2 == pytest.approx(4.302653 * math.sqrt(variance), rel=1e-5)
    assert at(made, 500.0) == pytest.approx(value, rel=1e-12)
    energy, log_factor = fitted.region()
    off = np.array([-(energy - fitted.energy) / GAS_CONSTANT, log_factor - intercept])
    assert np.sum(off * np.linalg.solve(covariance, off), axis=0) == pytest.approx(2 * 19.0, rel=1e-5)  # F(0.95; 2, 2)
    assert "4 temperatures" in str(made)
    figure = mo.figures.over_temperature(made)
    assert figure.axes[0].get_xlabel() == "1000/T [1/K]"
    with pytest.raises(mo.InputError, match="does not come from a table"):
        mo.figures.over_temperature(mo.Arrhenius(A=1, Ea=2))
    with pytest.raises(mo.InputError, match="measure at a third one"):
        mo.Arrhenius.through([400, 450], [3, 2]).through_table.region()  # type: ignore[union-attr]
    assert "exact" in str(mo.VantHoff.through([400, 450], [3, 2]))
    assert mo.Chemistry(mo.Reaction("A -> B", k=made)).with_values({"r1.k": 1.0}).constants == {}


SHIFT = {
    "CO": (-110.53, 197.66, 29.14), "H2O": (-241.83, 188.84, 33.58), "CO2": (-393.51, 213.79, 37.12), "H2": (0.0, 130.68, 28.84),
}  # fmt: skip


def shift(**more: Any) -> mo.Chemistry:
    """CO + H2O <-> CO2 + H2 with textbook thermochemistry (J. M. Smith et al., 2005, tables C.1 and C.4, rounded)."""
    listed = [
        mo.Species(n, n, enthalpy_of_formation=f"{h} kJ/mol", entropy=f"{s} J/mol/K", heat_capacity=f"{c} J/mol/K")
        for n, (h, s, c) in SHIFT.items()
    ]
    return mo.Chemistry(mo.Reaction("CO + H2O <-> CO2 + H2", k="1 L/mol/s", **more), species=listed)


def test_equilibrium_from_species() -> None:
    chemistry = shift(K=mo.thermo.FromSpecies())
    assert chemistry.reaction_enthalpy("r1", 298.15).number == pytest.approx(-41.15, abs=0.01)
    K = chemistry.equilibrium_constant("r1", 298.15)
    assert math.log(K) == pytest.approx((41150 / 298.15 - 42.03) / GAS_CONSTANT, rel=1e-4)
    T, h = 700.0, 0.01  # van 't Hoff: d ln K / dT = dH / (R T^2)
    slope = (
        math.log(chemistry.equilibrium_constant("r1", T + h)) - math.log(chemistry.equilibrium_constant("r1", T - h))
    ) / (2 * h)
    heat = chemistry.reaction_enthalpy("r1", T).to("J/mol")
    assert slope == pytest.approx(heat / GAS_CONSTANT / T**2, rel=1e-7)
    end = mo.Batch(chemistry, {"CO": "1 mol/L", "H2O": "2 mol/L"}, T=T).run("10 h").final
    ratio = end["CO2"].si * end["H2"].si / end["CO"].si / end["H2O"].si
    assert ratio == pytest.approx(chemistry.equilibrium_constant("r1", T), rel=1e-8)


def test_equilibria_of_concentrations_and_pressures_say_the_same() -> None:
    """A <-> 2 B where moles change: at rest the rate in pressures and the rate in concentrations both vanish."""
    listed = [
        mo.Species("A", "N2O4", enthalpy_of_formation="9.2 kJ/mol", gibbs_of_formation="97.9 kJ/mol"),
        mo.Species("B", "NO2", enthalpy_of_formation="33.2 kJ/mol", gibbs_of_formation="51.3 kJ/mol"),
    ]
    by_c = mo.Chemistry(mo.Reaction("A <-> 2 B", k="1 1/s", K=mo.thermo.FromSpecies()), species=listed)
    law = "k*(p[A] - p[B]^2/K)"
    by_p = mo.Chemistry(
        mo.Reaction("A <-> 2 B", rate=law, k="1 mol/m3/s/bar", K=mo.thermo.FromSpecies("pressures", "1 bar")),
        species=listed,
    )
    ends = [mo.Batch(c, {"A": "0.7 bar"}, T="320 K").run("1 h") for c in (by_c, by_p)]
    assert ends[0].conversion("A") == pytest.approx(ends[1].conversion("A"), rel=1e-8)
    K = by_c.equilibrium_constant("r1", 320.0)
    dG = (2 * 51.3 - 97.9) * 1e3 - (320 / 298.15 - 1) * ((2 * 33.2 - 9.2) - (2 * 51.3 - 97.9)) * 1e3
    assert math.log(K) == pytest.approx(-dG / GAS_CONSTANT / 320, rel=1e-9)
    assert any("assumed constant" in f.what for f in by_c.check().at("note"))


def test_heat_capacities_in_every_form_integrate_to_their_enthalpy_and_entropy() -> None:
    low = (3.5, 1e-3, -2e-7, 1e-11, 0.0, -1000.0, 4.0)
    high = (3.2, 1.2e-3, -3e-7, 2e-11, 1e-16, -950.0, 5.0)
    T = TEMPERATURE
    for held in (
        mo.thermo.HeatCapacity("75 J/mol/K"), mo.thermo.HeatCapacity([20.0, 0.1, -3e-5, 2e-9]), mo.thermo.HeatCapacity(low=low, high=high, middle="900 K")
    ):  # fmt: skip
        for kelvin in (350.0, 700.0, 1200.0):
            value = float(held.value(T).subs(T, kelvin))
            assert float(sp.diff(held.enthalpy(T), T).subs(T, kelvin)) == pytest.approx(value, rel=1e-10)
            assert float(sp.diff(held.entropy(T), T).subs(T, kelvin)) == pytest.approx(value / kelvin, rel=1e-10)
    both = mo.thermo.HeatCapacity(low=low, high=low)
    listed = [
        mo.Species("A", "H2", heat_capacity=both),
        mo.Species("B", "H2", heat_capacity=mo.thermo.HeatCapacity(low=low, high=high)),
    ]
    chemistry = mo.Chemistry(mo.Reaction("A <-> B", k="1 1/h", K=mo.thermo.FromSpecies()), species=listed)
    cold, hot = (mo.Batch(chemistry, {"A": 1.0}, T=kelvin).run("40 h").conversion("A") for kelvin in (800.0, 1100.0))
    assert cold == pytest.approx(0.5, rel=1e-9)
    K = chemistry.equilibrium_constant("r1", 1100.0)
    assert hot == pytest.approx(K / (1 + K), rel=1e-9)


def test_rates_per_catalyst_against_their_closed_form() -> None:
    for basis, unit, catalyst, factor in (
        ("catalyst mass", "L/kg/min", {"bulk_density": "0.05 kg/L"}, 0.05),
        ("catalyst volume", "1/min", {"fraction": 0.6}, 0.6),
        ("area", "L/m2/min", {"area": "3 m2/L"}, 3.0),
    ):
        reaction = mo.Reaction("A -> B", rate="k*[A]", k=f"0.7 {unit}", basis=basis)
        made = mo.Batch(mo.Chemistry(reaction), {"A": "1 mol/L"}, catalyst=mo.Catalyst(**catalyst)).run("3 min")
        assert made.conversion("A") == pytest.approx(1 - math.exp(-0.7 * factor * 3), rel=1e-9)
    both = [reaction, mo.Reaction("B -> C", k="0.1 1/min")]
    half = mo.Catalyst(area="3 m2/L", voidage=0.5)
    slurry = mo.Batch(mo.Chemistry(both), {"A": "1 mol/L"}, catalyst=half).run("3 min")
    k1, k2 = 2.1, 0.05
    assert slurry.yield_of("B", on="A") == pytest.approx(
        k1 / (k2 - k1) * (math.exp(-k1 * 3) - math.exp(-k2 * 3)), rel=1e-8
    )


def bad_kind(A: float) -> float:
    raise KeyError("A")


WRONG: dict[str, tuple[Any, str]] = {
    "basis": (lambda: mo.Reaction("A -> B", k=1, basis="catalyst weight"), "did you mean 'catalyst"),
    "orders and a rate": (lambda: mo.Reaction("A -> B", "k*[A]", orders={"A": 1}, k=1), "both a rate law and orders"),
    "orders both ways": (lambda: mo.Reaction("A <-> B", orders={"A": 1}, k=1), "write its rate as a formula"),
    "an order that is none": (lambda: mo.Reaction("A -> B", orders={"A": "1 mol"}, k=1), "not a number"),
    "an unknown order of a concentration with its unit": (
        lambda: mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^n", k="1 1/h", n=mo.Unknown(1))), r"divide the base: \(\[A\]/c0\)",
    ),
    "orders of nothing": (lambda: mo.Reaction("A -> B", orders={}, k=1), "write orders={"),
    "arguments unnamed": (lambda: mo.Reaction("A -> B", rate=lambda *c: 1.0), "does not name its arguments"),
    "arguments unreadable": (lambda: mo.Reaction("A -> B", rate=max), "cannot be read|does not name"),
    "a law that fails": (lambda: mo.Batch(mo.Chemistry(mo.Reaction("A -> B", rate=bad_kind)), {"A": 1}).run(1), "bad_kind failed: KeyError"),
    "a law of no number": (
        lambda: mo.Batch(mo.Chemistry(mo.Reaction("A -> B", rate=lambda A: math.nan)), {"A": 1}).run(1), "no finite value",
    ),
    "per mass without catalyst": (
        lambda: mo.Batch(mo.Chemistry(mo.Reaction("A -> B", k=1, basis="catalyst mass")), {"A": 1}), "has no bulk_density",
    ),
    "a volume rate for a mass rate": (
        lambda: mo.Chemistry(mo.Reaction("A -> B", k="1 1/min", basis="catalyst mass")), "give k in L/kg/min",
    ),
    "a catalyst that is none": (lambda: mo.Batch(mo.Chemistry(mo.Reaction("A -> B", k=1)), {"A": 1}, catalyst="Pt"), "is not a catalyst"),
    "more voids than bed": (lambda: mo.Catalyst(voidage=1.3), "is more than 1"),
    "a half van 't Hoff": (lambda: mo.VantHoff(K=1), "give K, enthalpy, at; or A, enthalpy; or a, b"),
    "b in degC": (lambda: mo.VantHoff(a=1, b="20 degC"), "give it in K"),
    "a unit specified twice": (lambda: mo.VantHoff(K="3 1/bar", at=400, enthalpy=0, unit="1/Pa"), "unit belongs to a and b"),
    "tables of unequal length": (lambda: mo.Arrhenius.through([300, 310], [1]), "2 temperatures and 1 constants"),
    "one temperature": (lambda: mo.Arrhenius.through([300, 300], [1, 2]), "all temperatures of the table are the same"),
    "a constant of zero": (lambda: mo.Arrhenius.through([300, 310, -5], [1, 0, 2]), r"row 2, k: 0 is not above zero(.|\n)*row 3, T"),
    "constants of two units": (lambda: mo.VantHoff.through([300, 310], ["1 1/bar", "2 L"]), "differ in dimension"),
    "K of nothing": (lambda: mo.thermo.FromSpecies("moles"), "concentrations, pressures, activities"),
    "K of pressures in mol/L": (lambda: mo.thermo.FromSpecies("pressures", "1 mol/L"), "give a pressure"),
    "K shared": (lambda: mo.Chemistry(mo.Reaction("A <-> B", k=1), constants={"K": mo.thermo.FromSpecies()}), "k_reverse and K"),
    "K without species": (
        lambda: mo.Chemistry(mo.Reaction("A <-> B", k=1, K=mo.thermo.FromSpecies())), "A has no enthalpy of formation(.|\n)*B has no entropy",
    ),
    "entropies of two kinds": (
        lambda: mo.Chemistry(
            mo.Reaction("A <-> B", k=1, K=mo.thermo.FromSpecies()),
            species=[mo.Species("A", enthalpy_of_formation=1, entropy=1), mo.Species("B", enthalpy_of_formation=1, gibbs_of_formation=1)],
        ),
        "where the others have an absolute entropy",
    ),
    "two forms of a heat capacity": (lambda: mo.thermo.HeatCapacity(75, low=[1] * 7, high=[1] * 7), "one of the two forms"),
    "a concentration as cA": (lambda: mo.Chemistry(mo.Reaction("A -> B", rate="k*cA", k="1 1/min")), r"did you mean '\[A\]'"),
    "a pressure as p_A": (lambda: mo.Chemistry(mo.Reaction("A -> B", rate="k*p_A", k="1 1/min")), r"did you mean 'p\[A\]'"),
    "an Ea of a reaction": (lambda: mo.Reaction("A -> B", k="1 1/min", Ea="80 kJ/mol"), r"give k=mo.Arrhenius\("),
    "a dH of a reaction": (lambda: mo.Reaction("A -> B", k="1 1/min", dH="8 kJ/mol"), "did you mean 'enthalpy'"),
    "six coefficients": (lambda: mo.thermo.HeatCapacity(low=[1] * 6, high=[1] * 7), "low: 6 numbers"),
    "a coefficient of another unit": (lambda: mo.thermo.HeatCapacity(["1 J/mol/K", "2 J/mol/K"]), "coefficient 1.*not in J/mol/K.2"),
}  # fmt: skip


@pytest.mark.parametrize("name", WRONG)
def test_what_is_wrong_is_reported(name: str) -> None:
    make, what = WRONG[name]
    with pytest.raises(mo.MolinoError) as error:
        make()
    assert re.search(what, str(error.value)), error.value
