"""The review of a chemistry and a vessel before anything runs."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import pytest

import molino as mo
from conftest import DEMO, Typed, spoil
from molino.core.balances.compiled import compiled

R = mo.Reaction


def arrhenius(A: str, Ea: str) -> mo.Reaction:
    return R("A -> B", k=mo.Arrhenius(A=A, Ea=Ea))


FOUND: dict[str, tuple[Any, str, str]] = {
    "no formula": ([R("A -> B", k="1 1/s")], "note", "species without formula: A, B"),
    "bare": ([R("A -> B", k=1)], "note", "all constants are bare numbers: dimensions are not checked"),
    "one bare among units": ([R("A -> B", k="1 1/s"), R("B -> C", k=2)], "note", "reaction r2, k: a bare number, taken as 1/s"),
    "idle": ({"reactions": [R("A -> B", k=1)], "species": ["A", "B", "N2"]}, "note", "no reaction and no rate law: N2"),
    "catalyst": ([R("A -> B", "k*[A]*[acid]", k=1)], "note", "neither formed nor consumed: acid"),
    "starters": ([R("A + B -> C", k=1)], "note", "must be fed or charged: A, B"),
    "ends": ([R("A -> B", k=1), R("B -> C", k=1)], "note", "end products: C"),
    "autocatalysis": ([R("A + B -> 2 B", k=1)], "note", "only from themselves or each other: B"),
    "dependent": ([R("A -> B", k=1), R("B -> C", k=1), R("A -> C", k=1)], "note", "2 of 3.*r1 \\+ r2 - r3"),
    "python": ([R("A -> B", rate=lambda A: A)], "note", "Python function.*slower"),
    "a forgotten minus sign": ([R("A -> B", "-k*[A]", k=1)], "error", "A, consumed by the equation, would be formed"),
    "a sign that turns": ([R("A -> B", "k*([A] - [B])", k=1)], "warning", "negative at some compositions.*not reversible"),
    "zero order": ([R("A -> B", "k", k=1)], "warning", "consumes A where it is exhausted"),
    "the other reactant": ([R("A + B -> C", "k*[A]", k=1)], "warning", "consumes B where it is exhausted"),
    "backwards without product": ([R("A <-> B", "k*([A] - 0.1)", k=1)], "warning", "consumes B where it is exhausted"),
    "a negative order": ([R("A -> B", "k*[A]^(-1)", k=1)], "warning", "not finite where A is exhausted"),
    "never finite": ([R("A -> B", "k*[A]*log(0 - [A]^2 - 1)", k=1)], "warning", "not finite at any composition"),
    "negative energy": ([arrhenius("1 1/s", "-50 kJ/mol")], "warning", "activation energy -50 kJ/mol is negative"),
    "kJ for J": ([arrhenius("1e9 1/s", "50 J/mol")], "warning", "0.05 kJ/mol is out of the usual.*J/mol or kJ/mol"),
    "J for kJ": ([arrhenius("1e9 1/s", "50000 kJ/mol")], "warning", "5e\\+04 kJ/mol is out of the usual"),
    "faster than it vibrates": ([arrhenius("1e20 1/s", "50 kJ/mol")], "warning", "1e\\+20 1/s is above the frequency"),
    "faster than it collides": (
        [R("2 A -> B", k=mo.Arrhenius(k="1 L/mol/s", at="300 K", Ea="200 kJ/mol"))], "warning", "frequency of collisions",
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", FOUND)
def test_findings(name: str) -> None:
    given, level, what = FOUND[name]
    review = (mo.Chemistry(**given) if isinstance(given, dict) else mo.Chemistry(given)).check()
    error = [f"{f.where}: {f.what} {f.advice}" for f in review.at(level)]
    assert any(re.search(what, text) for text in error), error
    assert str(review).startswith(f"{len(review.at('error'))} error")


SOUND = {
    "demo": lambda: mo.files.read_chemistry(DEMO / "valdeoro.toml"),
    "elementary both ways": lambda: mo.Chemistry(R("A + B <-> 2 C", k=2, k_reverse=3)),
    "saturation": lambda: mo.Chemistry(R("A -> B", "v*[A]/(K + [A])", v=1, K=2)),
    "adsorption": lambda: mo.Chemistry(R("A <-> B", "k*(p[A] - p[B]/K)/(1 + K*p[A])^2", k=1, K=3)),
}


@pytest.mark.parametrize("name", SOUND)
def test_sound_chemistries_raise_no_alarm(name: str) -> None:
    review = SOUND[name]().check()
    assert not review.at("error")
    assert not review.at("warning")


def gas(name: str, enthalpy: str, gibbs: str) -> mo.Species:
    return mo.Species(name, enthalpy_of_formation=enthalpy, gibbs_of_formation=gibbs)


PAIR = [gas("A", "-100 kJ/mol", "-60 kJ/mol"), gas("B", "-120 kJ/mol", "-65 kJ/mol")]


def test_backward_rates_are_held_against_the_thermochemistry() -> None:
    sound = mo.Chemistry(R("A <-> B", k="1 1/s", K=mo.thermo.FromSpecies()), species=PAIR)
    assert not sound.check("400 K").at("warning")
    K = {T: sound.equilibrium_constant("r1", T) for T in (400.0, 440.0)}
    backward = {T: 1 / k for T, k in K.items()}
    both = mo.Arrhenius.through(list(backward), list(backward.values()))
    forward = R("A -> B", k=mo.Arrhenius(k=1, at=400, Ea=0), name="f")
    assert not mo.Chemistry([forward, R("B -> A", k=both, name="b")], species=PAIR).check(400).at("warning")
    (error,) = mo.Chemistry([forward, R("B -> A", k=1 / K[400.0], name="b")], species=PAIR).check(400).at("warning")
    assert error.where == "reactions b and f"
    assert "at 440 K the rate vanishes" in error.what
    wrong = mo.Chemistry(R("A <-> B", "k*([A] - [B]/K)", k=1, K=3 * K[400.0]), species=PAIR).check(400).at("warning")
    assert f"the thermochemistry gives {K[400.0]:.3g}" in wrong[0].what
    (never, *_) = mo.Chemistry(R("A <-> B", "k*[A]", k=1), species=PAIR).check(400).at("warning")
    assert "vanishes at no composition" in never.what


def test_the_count_of_a_vessel_is_that_of_its_balances(molino: Typed, folder: Path) -> None:
    chemistry = mo.Chemistry(
        [R("A -> B", k="1 1/h"), R("B + X -> C", k=mo.Unknown("2 L/mol/h")), R("Y -> Z", k="1 1/h")]
    )
    tube = mo.PlugFlow(chemistry, mo.Feed({"A": "1 mol/L", "X": 0}, flow="1 m3/h"), diameter="5 cm")
    review = tube.check()
    count = review.count
    assert len(count.unknowns) == len(count.equations) == 6 + 6 + 3
    assert count.open == ("r2.k", "length")
    assert count.degrees_of_freedom == 2
    assert (
        len(count.given) + len(count.open) == len(compiled(tube.spec.model.balances).balances.parameters) - 1 + 1
    )  # T unused, length
    error = [f.what for f in review.at("warning")]
    assert error == ["r2 never starts: there is no source of X", "r3 never starts: there is no source of Y"]
    known = mo.PlugFlow(chemistry.at_guess(), tube.feed, volume="1 m3").check().count
    assert known.degrees_of_freedom == 0
    assert "0 degrees of freedom" in str(known)
    content = json.loads(molino("check", folder / "valdeoro.toml", "--json").stdout)
    assert len(content["counts"]["tank"]["unknowns"]) == 12
    assert {f["level"] for f in content["findings"]} == {"note"}
    spoil(folder / "valdeoro.toml", ('"k*[xylose]*[acid]"', '"-k*[xylose]*[acid]"'))
    refused = molino("run", folder / "valdeoro.toml")
    assert refused.exit_code == 2
    assert "[reactions.dehydration]: the rate is negative: xylose" in refused.stderr


def test_equations_are_those_that_run(molino: Typed, folder: Path, job: Any) -> None:
    tank = job.vessels["tank"]
    lines = {line.text[0]: line.text[1] for line in tank.equations().lines}
    assert lines["d(n_resin)/dt"] == "Q*in[resin] + V*r_resin - Q*n_resin/V"
    assert lines["[xylose]"] == "n_xylose/V"
    assert "dehydration.k.ref*exp(-dehydration.k.Ea*(1/T - 1/dehydration.k.at)/R)" in lines["dehydration.k"]
    chemistry = {line.text[0]: line.text[1] for line in job.chemistry.equations().lines}
    assert chemistry["R_water"] == "3*r_dehydration"
    latex = tank.equations().latex
    assert latex.count("{") == latex.count("}")
    assert "\\frac{dn_{\\mathrm{xylose}}}{dt} &= " in latex
    picture = mo.figures.equations(tank)
    picture.canvas.draw()
    width, height = picture.get_size_inches() * picture.dpi
    for text in picture.texts:
        box = text.get_window_extent()
        assert box.x0 >= 0
        assert box.x1 <= width
        assert box.y0 >= 0
        assert box.y1 <= height
    assert "d(F_xylose)/dV = -r_dehydration" in molino("check", folder / "valdeoro.toml", "--equations").stdout


def test_a_fitted_chemistry_comes_back_from_its_file_with_its_covariance(fitted: Any, tmp_path: Path) -> None:
    again = mo.files.read_chemistry(mo.files.write_chemistry(fitted.chemistry, tmp_path / "fitted.toml"))
    assert again.network == fitted.chemistry.network
    assert again.covariance.matrix == pytest.approx(fitted.chemistry.covariance.matrix, rel=1e-15)
    feed = mo.Feed({"xylose": "0.35 mol/L", "acid": "0.1 mol/L"}, flow="12 m3/h", T="175 degC")
    sizes = [mo.size(mo.PlugFlow(c, feed), "conversion of xylose", 0.9) for c in (again, fitted.chemistry)]
    assert sizes[0].standard_error == pytest.approx(sizes[1].standard_error, rel=1e-9)
    for fed, T, beyond in (
        ("0.25 mol/L", "175 degC", ""),
        ("1 mol/L", "175 degC", "fitted up to"),
        ("0.25 mol/L", "205 degC", "extrapolated to 205 °C"),
    ):
        feed = mo.Feed({"xylose": fed, "acid": "0.1 mol/L"}, flow="12 m3/h", T=T)
        tube = mo.PlugFlow(again, feed, diameter="80 mm", length="60 m")
        assert any((beyond or "extrapolated") in f.what for f in tube.check().at("warning")) == bool(beyond)
        assert (beyond or "which covers this run") in tube.run().facts()["rate constants"]
    with pytest.raises(mo.InputError, match="a file cannot contain"):
        mo.files.write_chemistry(mo.Chemistry(R("A -> B", rate=lambda A: A)), tmp_path / "p.toml")
    assert not (tmp_path / "p.toml").exists()


def test_the_library_is_searched_by_species_and_elements(molino: Typed) -> None:
    library = mo.files.read_library(DEMO / "cob-reactions.toml")
    assert list(library.search(["xylose", "furfural", "water", "resin"])) == ["dehydration", "resin"]
    assert list(library.search(["xylose", "furfural", "water", "humins"], ["C", "H", "O"])) == [
        "dehydration",
        "condensation",
    ]
    assert len(library.search(elements=["C", "H"])) == 0
    assert library.needs("condensation", ["xylose", "furfural"]) == ["k", "acid in the mixture"]
    assert library.needs("dehydration", ["acid"]) == ["a fit of k"]
    chemistry = library.chemistry("arabinose", "rehydration")
    assert list(chemistry.constants) == ["k_acid"]
    assert not chemistry.check().at("error")
    with pytest.raises(mo.InputError, match="needs 'k', which is not given"):
        library.chemistry("condensation")
    with pytest.raises(mo.InputError, match=r"unknown reaction 'resins'(.|\n)*did you mean 'resin'"):
        library.chemistry("resins")
    path = DEMO / "cob-reactions.toml"
    content = json.loads(
        molino(
            "search", path, "--elements", "C,H,O", "--species", "HMF,glucose,water,levulinic,formic", "--json"
        ).stdout
    )
    assert [row["reaction"] for row in content["reactions"]] == ["glucose", "rehydration"]
    assert "2 of 8 reactions" in molino("search", path, "--species", "glucose,HMF,water,acetyl,acetic").stdout
    assert molino("search", path, "--species", "xylos", "--elements", "Q").stderr.count("->") == 2


def test_what_is_far_too_small_or_cold_and_bases_mixed_up_are_named() -> None:
    chemistry = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T=49)
    for vessel, share in (
        (mo.PlugFlow(chemistry, feed, volume="5e-9 L"), "1e-09"), (mo.StirredTank(chemistry, feed, volume="1e-8 L"), "1e-09"),
        (mo.Batch(chemistry, feed, time="5e-9 min"), "1e-09"),
    ):  # fmt: skip
        found = [f.what for f in vessel.check().at("warning")]
        assert f"almost nothing reacts: it has {share} of the time that its fastest reaction needs" in found
        assert "T = 49 K (a bare number is kelvin)" in found
        assert "almost nothing reacts" in str(vessel.run())
    assert (
        not mo.PlugFlow(chemistry, mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="49 degC"), volume="5 L")
        .check()
        .at("warning")
    )
    flat = mo.PlugFlow(chemistry, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), diameter="1 m", length="1 cm")
    assert "it is shorter than it is wide" in str(flat.check())
    assert "it is shorter than it is wide" in str(mo.size(flat.with_(length=None), "conversion of A", 0.9))
    for basis, unit, other in (
        ("catalyst mass", "mol/L/min/bar", "volume"),
        ("volume", "mol/kg/min/bar", "catalyst mass"),
    ):
        with pytest.raises(mo.UnitError, match=f"a rate per {other}, and its basis is {basis}"):
            mo.Chemistry(mo.Reaction("A -> B", rate="k*p[A]", basis=basis, k=f"2 {unit}"))


@pytest.mark.parametrize("name", ["seed", "hot jacket", "dosed", "ramp"])
def test_a_slow_beginning_is_not_called_the_end_of_the_reaction(name: str) -> None:
    """A reaction that starts from a seed, by heating or by dosing is not reported as one that never starts."""
    steep = mo.Chemistry(mo.Reaction("A -> B", k=mo.Arrhenius(A="1e12 1/s", Ea="100 kJ/mol"), enthalpy="-80 kJ/mol"))
    cold = {"charge": {"A": "1 mol/L"}, "heat_capacity": "4 MJ/m3/K", "volume": "1 L"}
    vessels = {
        "seed": lambda: mo.Batch(
            mo.Chemistry(mo.Reaction("A + B -> 2 B", k="1 L/mol/min")), {"A": "1 mol/L", "B": "1e-9 mol/L"}, time="1 h"
        ),
        "hot jacket": lambda: mo.Batch(steep, T="200 K", heat=mo.Jacket("360 K", UA="20 W/K"), time="4 h", **cold),
        "ramp": lambda: mo.Batch(steep, heat=mo.Profile([("0 h", "200 K"), ("1 h", "360 K")]), time="4 h", **cold),
        "dosed": lambda: mo.SemiBatch(
            mo.Chemistry(mo.Reaction("A + B -> C", k="1 L/mol/min")),
            {"A": "1 mol/L"},
            {"B": mo.Dosing(mo.Feed({"B": "1 mol/L"}, flow="10 mL/min"), [("10 min", "60 min")])},
            volume="1 L",
            time="2 h",
        ),
    }
    vessel = vessels[name]()
    assert vessel.run().conversion("A") > 0.2
    assert not [str(f) for f in vessel.check().findings if "reacts" in f.what or "starts" in f.what]
    assert not [fact for fact in vessel.run().facts().values() if "reacts" in fact or "starts" in fact]


def test_a_rate_beyond_its_equilibrium_is_not_a_rate_with_a_wrong_sign() -> None:
    """An equilibrium constant so small that the rate is negative at most compositions."""
    small = mo.Chemistry(mo.Reaction("A -> B", rate="k*([A] - [B]/K)", k="0.2 1/min", K=0.1))
    assert [f.level for f in small.check().findings if "negative" in f.what] == ["warning"]
    wrong = mo.Chemistry(mo.Reaction("A -> B", rate="-k*[A]", k="0.2 1/min"))
    assert [f.level for f in wrong.check().findings if "negative" in f.what] == ["error"]
