"""Reaction equations, rate laws, constants, dimensions, elements."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest
import sympy as sp
from hypothesis import example, given, settings, strategies as st

import molino as mo
from molino.core.chemistry.composition import composition
from molino.core.chemistry.equation import parse_equation
from molino.core.chemistry.formula import concentration, constant, parse_formula

EQUATIONS = [
    ("xylose -> furfural + 3 water", {"xylose": -1, "furfural": 1, "water": 3}, False),
    ("A + 2.5 B -> C", {"A": -1, "B": -2.5, "C": 1}, False),
    ("A+2B <-> C", {"A": -1, "B": -2, "C": 1}, True),
    ("1/2 O2 + H2 = H2O", {"O2": -0.5, "H2": -1, "H2O": 1}, True),
    ("A + B -> 2 B", {"A": -1, "B": 1}, False),
    ("A + A -> B", {"A": -2, "B": 1}, False),
    ("H+ + OH- ⇌ H2O", {"H+": -1, "OH-": -1, "H2O": 1}, True),
    ("E + S -> E + P", {"S": -1, "P": 1}, False),
]


@pytest.mark.parametrize(("text", "net", "reversible"), EQUATIONS)
def test_equations(text: str, net: dict[str, float], reversible: bool) -> None:
    equation = parse_equation(text)
    assert equation.net == {name: Fraction(number) for name, number in net.items()}
    assert equation.reversible is reversible
    assert parse_equation(str(equation)).net == equation.net


def test_elementary_orders_count_both_sides() -> None:
    autocatalytic = mo.Reaction("A + B -> 2 B", k=1)
    assert autocatalytic.formula == constant("k") * concentration("A") * concentration("B")
    fractional = mo.Reaction("A + 2.5 B -> C", k=1)
    assert fractional.formula == constant("k") * concentration("A") * concentration("B") ** sp.Rational(5, 2)


FORMULAS = [
    ("2 + 3*4^2/8 - 1", 7.0),
    ("2^3^2", 512.0),
    ("-2^2", -4.0),
    ("2**-1", 0.5),
    ("(1 + 2)*-3", -9.0),
    ("exp(0) + log(1) + sqrt(16)", 5.0),
    ("1e3/.5", 2000.0),
]


@pytest.mark.parametrize(("text", "value"), FORMULAS)
def test_formula_grammar(text: str, value: float) -> None:
    assert float(parse_formula(text)) == pytest.approx(value)


def test_formula_names() -> None:
    found = parse_formula("k*[acid]*[A]^n/(1 + K*[B])^2*exp(-Ea/(R*T)) + p[A]*x[B]*P")
    names = {str(s) for s in found.free_symbols}
    assert names == {"k", "n", "K", "Ea", "R", "T", "P", "[acid]", "[A]", "[B]", "p[A]", "x[B]"}


WRONG_FORMULAS = [
    "", "k*", "k*[A", "k [A]", "*k", "(k", "k)", "sin(k)", "exp", "exp()", "[]", "1/0", "log(0)", "exp(1e9)", "9^9^9^9^9",
    "(-8)^0.5", "k; import os", "__import__('os')", "k.real", "k == 2", "1e999", "'a'", "(" * 300 + "k" + ")" * 300,
    "k" * 3000, "lambda: 3", "2^" * 200 + "2", "0^-1", "k[0]", "\x00", "k if k else k",
]  # fmt: skip


@pytest.mark.parametrize("text", WRONG_FORMULAS, ids=lambda t: t[:20])
def test_wrong_formulas_are_reported(text: str) -> None:
    with pytest.raises(mo.InputError):
        parse_formula(text)


@settings(max_examples=400, deadline=None)
@given(st.text(alphabet="kAn[]()+-*/^.,0123456789 exp logsqrTPR_x", max_size=40))
def test_any_text_is_a_formula_or_an_input_error(text: str) -> None:
    try:
        found = parse_formula(text)
    except mo.InputError:
        return
    assert isinstance(found, sp.Expr)
    assert found.is_finite is not False


def test_arrhenius_in_its_two_forms() -> None:
    by_reference = mo.Arrhenius(k="0.3 L/mol/min", at="165 degC", Ea="128 kJ/mol")
    factor = 0.3 * np.exp(128e3 / 8.31446261815324 / 438.15)
    by_factor = mo.Arrhenius(A=f"{float(factor)!r} L/mol/min", Ea="128 kJ/mol")
    concentrations = []
    for k in (by_reference, by_factor):
        chemistry = mo.Chemistry(mo.Reaction("A + B -> C", k=k))
        run = mo.Batch(chemistry, {"A": "1 mol/L", "B": "2 mol/L"}, T="180 degC").run("5 min")
        concentrations.append(run.concentrations["A"][-1])
    assert concentrations[0] == pytest.approx(concentrations[1], rel=1e-9)


def test_shared_and_own_constants() -> None:
    chemistry = mo.Chemistry(
        [
            mo.Reaction("A -> B", rate="k*[A]/(1 + K*[A])", k=0.3, name="one"),
            mo.Reaction("B -> C", rate="k*[B]/(1 + K*[A])", k=0.2, name="two"),
        ],
        constants={"K": 0.5},
    )
    assert [p.name for p in chemistry.parameters] == ["K", "one.k", "two.k"]
    changed = chemistry.with_values({"K": 0.9, "two.k": 0.1})
    assert [p.value for p in changed.parameters] == [0.9, 0.3, 0.1]
    assert changed.network == chemistry.network
    assert [p.value for p in chemistry.parameters] == [0.5, 0.3, 0.2]
    with pytest.raises(mo.InputError, match=r"did you mean 'two\.k'"):
        chemistry.with_values({"tow.k": 1})


def chemistry_of(*reactions: tuple[str, dict], **more: object) -> mo.Chemistry:
    return mo.Chemistry([mo.Reaction(equation, **constants) for equation, constants in reactions], **more)


FORMULAE = {"xylose": "C5H10O5", "furfural": "C5H4O2", "water": "H2O"}

WRONG = [
    ("A + B -> C", {"k": "0.2 1/min"}, {}, "needs it in L/mol/min", "give k in L/mol/min"),
    ("2 A -> B", {"rate": "k*[A]^2/(1 + K*[A])", "k": "1 L/mol/s", "K": "2 mol/L"}, {}, "needs it in L/mol", "give K"),
    ("A -> B", {"rate": "k*[A]^0.5", "k": "1 1/min"}, {}, "mol^0.5", "give k"),
    ("A -> B", {"rate": "k*exp(-E/(R*T))*[A]", "k": "1 1/s", "E": "50 kJ"}, {}, "E is in", "kg*m^2/s^2/mol"),
    ("A -> B", {"rate": "k*([A] + 1)", "k": "1 1/s"}, {}, "dimensions do not agree", "name and unit"),
    ("A -> B", {"rate": "kk*[A]", "k": 1}, {}, "needs 'kk', which is not given", "did you mean 'k'"),
    ("A -> B", {"rate": "k*[A]", "k": 1, "q": 2}, {}, "'q' is given but", "k"),
    ("A -> B", {"rate": "k*[A]*[acid]", "k": 1}, {"species": ["A", "B", "acids"]}, "[acid]", "did you mean 'acids'"),
    ("furfural -> resin", {"rate": "k*[furfurall]", "k": 1}, {}, "[furfurall]", "did you mean 'furfural'"),
    ("xylose -> furfural + 2 water", {"k": 1}, {"species": FORMULAE}, "loses 2 H and O", "balances with 3 water"),
    ("xylose -> 2 furfural", {"k": 1}, {"species": FORMULAE}, "does not balance", "check the coefficients"),
    ("A -> B", {"k": 1}, {"species": {"A": "Xy2"}}, "'Xy' in 'Xy2' is not an element", "capitals"),
    ("A -> B", {"k": 1}, {"constants": {"K": 3}}, "no rate law uses it", "remove it"),
    ("A -> B", {"k": mo.Arrhenius(k=1, at=300, Ea=5e4), "k_reverse": 1}, {}, "no constant 'k_reverse'", "<->"),
    ("A <-> B", {"k": 1}, {}, "one of k_reverse and K", "exactly one"),
    ("A <-> B", {"k": 1, "k_reverse": 1, "K": 2}, {}, "one of k_reverse and K", "exactly one"),
    ("A -> A", {"k": 1}, {}, "changes nothing", "products"),
    ("A - B", {"k": 1}, {}, "no arrow", "A <-> B"),
    ("A -> B -> C", {"k": 1}, {}, "2 arrows", "A <-> B"),
    ("A + -> B", {"k": 1}, {}, "missing on the left", "blanks"),
    ("0 A -> B", {"k": 1}, {}, "zero A", "remove the species"),
]


@pytest.mark.parametrize(("equation", "held", "more", "what", "advice"), WRONG)
def test_wrong_chemistry_is_reported_with_a_way_out(
    equation: str, held: dict, more: dict, what: str, advice: str
) -> None:
    with pytest.raises(mo.InputError) as error:
        chemistry_of((equation, held), **more)
    assert any(what in f.what and advice in f.advice for f in error.value.faults), str(error.value)


def test_all_faults_of_a_chemistry_at_once() -> None:
    with pytest.raises(mo.InputError) as error:
        chemistry_of(("A + B -> C", {"k": "1 1/s"}), ("A -> C", {"rate": "q*[A]"}), constants={"K": 1})
    assert len(error.value.faults) == 3


WRONG_CONSTANTS = [
    ({"k": 1, "Ea": 2}, "give k, Ea, at"),
    ({"k": 1, "A": 2, "Ea": 3}, "or A, Ea"),
    ({"A": 1, "Ea": "50 kJ"}, "not an energy per amount"),
    ({"k": "1 1/s", "at": "20 L", "Ea": "5 kJ/mol"}, "not a temperature"),
]


@pytest.mark.parametrize(("held", "what"), WRONG_CONSTANTS)
def test_wrong_constants(held: dict, what: str) -> None:
    with pytest.raises(mo.InputError, match=what):
        mo.Arrhenius(**held)


def test_wrong_lists_of_species() -> None:
    for listed, what in (
        ([mo.Species("A"), "A"], "A: it is listed twice"), (["A", 3], "3 is not a species"),
        ({"A": {"formla": "H2"}}, "did you mean 'formula'"), ({"A": 7}, "is not a species"),
    ):  # fmt: skip
        with pytest.raises(mo.InputError, match=what):
            mo.Chemistry(mo.Reaction("A -> B", k=1), species=listed)
    by_properties = mo.Chemistry(mo.Reaction("A -> B", k=1), species={"A": {"formula": "H2", "density": "1 kg/L"}})
    assert by_properties.species[0].density.si == pytest.approx(1000)


def test_wrong_unknowns() -> None:
    with pytest.raises(mo.InputError, match="not between its bounds"):
        mo.Unknown("1 1/s", lower="2 1/s")
    with pytest.raises(mo.UnitError, match="differ in dimension"):
        mo.Unknown("1 1/s", upper="2 L/mol/s")
    waiting = mo.Batch(chemistry_of(("A -> B", {"k": mo.Unknown(1)})), {"A": 1})
    with pytest.raises(mo.InputError, match=r"unknown: r1\.k"):
        waiting.run(3)
    assert waiting.with_(chemistry=waiting.chemistry.at_guess()).run(3).conversion("A") > 0.9


def test_elements_and_invariants() -> None:
    assert composition("Ca(OH)2").atoms == {"Ca": 1, "O": 2, "H": 2}
    assert composition("(NH4)2SO4").atoms == {"N": 2, "H": 8, "S": 1, "O": 4}
    with_formulas = chemistry_of(("xylose -> furfural + 3 water", {"k": 1}), species=FORMULAE)
    assert set(with_formulas.invariants()) == {"C", "H", "O"}
    without = chemistry_of(("xylose -> furfural + 3 water", {"k": 1}))
    for weights in without.invariants().values():
        assert weights @ without.network.matrix == pytest.approx(0)
    assert len(without.invariants()) == 2


BALANCED = [
    "A + B -> C", "C -> A + B", "A + C -> D", "D -> A + C", "B + C -> E", "E -> B + C", "B + D -> 2 C", "A + E -> 2 C",
    "2 C -> A + E", "2 C -> B + D", "D + E -> 3 C", "1.5 C -> 0.5 D + 0.5 E"
]  # fmt: skip
ATOMS = {"A": "H", "B": "O", "C": "HO", "D": "H2O", "E": "HO2"}


@settings(max_examples=5, deadline=None)
@given(st.dictionaries(st.sampled_from(BALANCED), st.floats(1e-3, 1e2), min_size=1, max_size=6))
@example({"A + B -> C": 2.0, "E -> B + C": 37.0, "D -> A + C": 19.0, "2 C -> A + E": 21.0, "A + E -> 2 C": 41.0})
def test_every_vessel_keeps_the_elements_and_the_invariants(network: dict[str, float]) -> None:
    inlet = {"A": 1.0, "B": 0.8, "C": 0.6, "D": 0.4, "E": 0.2}
    feed = mo.Feed(inlet, flow=1.0)
    gas = mo.Feed({s: f"{n} bar" for s, n in inlet.items()}, flow=1.0, T=300.0)
    for known in (ATOMS, [*ATOMS]):
        reactions = [mo.Reaction(equation, k=k) for equation, k in network.items()]
        chemistry = mo.Chemistry(reactions, species=known)
        runs = [
            mo.Batch(chemistry, inlet).run(3.0),
            mo.PlugFlow(chemistry, feed, volume=3.0).run(),
            mo.StirredTank(chemistry, feed, volume=3.0).steady(),
            mo.StirredTank(chemistry, feed, volume=3.0, contents={"A": 1.0}).run(2.0),
            mo.Batch(chemistry, gas).run(0.1),
            mo.PlugFlow(chemistry, gas, volume=0.1).run(),
            mo.StirredTank(chemistry, gas, volume=0.1).steady(),
        ]
        rank = np.linalg.matrix_rank(chemistry.network.matrix)
        reacting = {name for r in chemistry.reactions for name in r.equation.net}
        for run in runs:
            assert (
                set(run.closure) == {"H", "O", "mass"} if known is ATOMS else len(run.closure) == len(reacting) - rank
            )
            assert all(closed < 1e-9 for closed in run.closure.values())
            assert all(np.min(c) > -1e-8 * np.max(c) for c in run.concentrations.values() if np.max(c) > 1e-6)


def test_to_nothing_and_from_nothing() -> None:
    made, lost = mo.Reaction("-> A", k="0.2 mol/L/min", name="made"), mo.Reaction("A ->", k="0.1 1/min", name="lost")
    chemistry = mo.Chemistry([made, lost], species={"A": "C2H4"})
    assert str(chemistry.matrix().loc["A"].to_list()) == "[1.0, -1.0]"
    notes = [f.what for f in chemistry.check().findings if "nothing: elements and mass" in f.what]
    assert len(notes) == 2
    end = mo.Batch(chemistry, {"A": "0 mol/L"}).run("1000 min")
    assert end.final["A"].to("mol/L") == pytest.approx(2.0)
    assert "mass" not in end.closure
    for equation in ("->", "A + -> B", "-> A +"):
        with pytest.raises(mo.InputError):
            mo.Reaction(equation, k=1.0)
