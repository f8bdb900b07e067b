"""Least Gibbs energy against constants of equilibrium, closed forms and a kinetic run; elements, solids, traces."""

from __future__ import annotations

import itertools
import math
import pickle
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from scipy.optimize import brentq, minimize

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


def at_equilibrium(start: dict[str, float], T: float, bar: float, **more: object) -> mo.results.Run:
    """Some flows in mol/s at least Gibbs energy, over the species named."""
    of = more.pop("of", NUMBERS)
    solids = more.pop("solids", ["C"] if "C" in of else [])
    chemistry = mo.Chemistry([], species=[s for s in SPECIES if s.name in of])
    feed = mo.Feed({s: f"{n!r} mol/s" for s, n in start.items()}, T=T, P=f"{bar!r} bar", model=more.pop("model", None))
    return mo.AtEquilibrium(chemistry, feed, solids=solids, **more).run()


def flows(run: mo.results.Run) -> dict[str, float]:
    return {s: float(n[0]) for s, n in run.flows.items()}


@settings(max_examples=60)
@given(st.lists(st.floats(-8.0, 1.0), min_size=10, max_size=10), st.floats(300.0, 4000.0), st.floats(-2.0, 2.5))
def test_every_reaction_is_at_its_constant_and_the_elements_are_kept(
    powers: list[float], T: float, pressure: float
) -> None:
    """Ten species from 300 to 4000 K: sum of nu ln(x P) = ln K, carbon where its activity is one, and no less energy."""
    start = {name: 10.0**p for name, p in zip(NUMBERS, powers, strict=True)}
    bar = 10.0**pressure
    run = at_equilibrium(start, T, bar)
    found = flows(run)
    assert max(run.closure[e] for e in "CHON") < 1e-12
    gas = sum(n for s, n in found.items() if s != "C")
    x = {s: n / gas for s, n in found.items()}
    for reaction in REACTIONS:
        log_K = -sum(nu * potential(s, T) for s, nu in reaction.items())
        if min(x[s] for s in reaction) > 1e-200:
            assert sum(nu * math.log(x[s] * bar) for s, nu in reaction.items()) == pytest.approx(log_K, abs=1e-8)
    log_activity = 2 * math.log(x["CO"] * bar) - math.log(x["CO2"] * bar) + 2 * potential("CO", T) - potential("CO2", T)
    log_activity -= potential("C", T)
    assert log_activity < 1e-8
    assert found["C"] == 0.0 or abs(log_activity) < 1e-8
    brought = sum(n * enthalpy(s, T) for s, n in start.items())
    assert run.duty_si == pytest.approx(sum(n * enthalpy(s, T) for s, n in found.items()) - brought, rel=1e-9, abs=1e-3)

    def energy(amounts: dict[str, float]) -> float:
        total = sum(n for s, n in amounts.items() if s != "C")
        return sum(
            n * (potential(s, T) + (0.0 if s == "C" else math.log(n / total * bar)))
            for s, n in amounts.items()
            if n > 0
        )

    least = energy(found)
    for reaction, sign in itertools.product(REACTIONS, (1, -1)):
        step = 0.1 * min(found[s] / abs(nu) for s, nu in reaction.items())
        moved = {s: n + sign * step * reaction.get(s, 0) for s, n in found.items()}
        assert energy(moved) >= least - 1e-9 * abs(least)


def test_traces_closed_forms_and_what_is_not_there() -> None:
    for T, P in itertools.product((300.0, 1500.0, 3500.0), (0.01, 1.0, 100.0)):
        found = flows(at_equilibrium({"H2": 1.0}, T, P, of=("H2", "H")))
        K = math.exp(potential("H2", T) - 2 * potential("H", T))
        share = math.sqrt(K / (K + 4 * P))  # of H2 that is dissociated
        assert found["H"] == pytest.approx(2 * share, rel=1e-10)  # 1e-36 at the coldest
    pure = flows(at_equilibrium({"H2O": 1.0}, 300.0, 1.0, of=("H2O", "H2", "O2", "OH")))
    assert pure["H2"] == pytest.approx(2 * pure["O2"] + pure["OH"] / 2, rel=1e-9)  # traces of 1e-27 of what is there
    K = math.exp(2 * (potential("H2O", 300.0) - potential("H2", 300.0)) - potential("O2", 300.0))
    assert pure["H2"] ** 2 * pure["O2"] == pytest.approx(K, rel=1e-8)
    dry = flows(at_equilibrium({"CO": 1.0, "N2": 1.0}, 900.0, 1.0))
    assert {s for s, n in dry.items() if n > 0} == {"CO", "CO2", "O2", "C", "N2"}
    K = math.exp(2 * potential("CO", 900.0) - potential("CO2", 900.0) - potential("C", 900.0))
    gas = sum(dry.values()) - dry["C"]
    assert dry["CO2"] * gas / dry["CO"] ** 2 == pytest.approx(K, rel=1e-9)


def test_problems_of_the_literature() -> None:
    """Steam reforming at 1000 K (Smith, Van Ness, Abbott, 7th ed. 2005, example 13.14), ten species of hydrazine and
    oxygen at 3500 K (White, Johnson, Dantzig, J. Chem. Phys. 28 (1958) 751), the shift (Smith et al., example 13.5)."""

    def fixed(name: str, formula: str, g: float) -> mo.Species:
        """A species whose Gibbs energy in J/mol is the same at every temperature."""
        return mo.Species(name, formula, enthalpy_of_formation=g, gibbs_of_formation=g, heat_capacity=0.0)

    gibbs = {"CH4": 19720, "H2O": -192420, "CO": -200240, "CO2": -395790, "H2": 0}
    chemistry = mo.Chemistry([], species=[fixed(s, s, float(g)) for s, g in gibbs.items()])
    feed = mo.Feed({"CH4": "2 mol/s", "H2O": "3 mol/s"}, T="1000 K", P="1 bar")
    found = flows(mo.AtEquilibrium(chemistry, feed).run())
    total = sum(found.values())
    published = {"CH4": 0.0196, "H2O": 0.0980, "CO": 0.1743, "CO2": 0.0371, "H2": 0.6711}
    assert {s: n / total for s, n in found.items()} == pytest.approx(published, abs=1.01e-4)
    names = ["H", "H2", "H2O", "N", "N2", "NH", "NO", "O", "O2", "OH"]
    c = [-6.089, -17.164, -34.054, -5.914, -24.721, -14.986, -24.100, -10.708, -26.662, -22.179]
    species = [fixed(s, s, g * R * 3500.0) for s, g in zip(names, c, strict=True)]
    feed = mo.Feed({"H2": "1 mol/s", "N2": "0.5 mol/s", "O2": "0.5 mol/s"}, T="3500 K", P="1 bar")
    found = flows(mo.AtEquilibrium(mo.Chemistry([], species=species), feed).run())
    published = [0.040668, 0.147730, 0.783153, 0.001414, 0.485247, 0.000693, 0.027399, 0.017947, 0.037314, 0.096872]
    assert [found[s] for s in names] == pytest.approx(published, abs=1.5e-6)
    for fed, K, extent in (
        ({"CO": 1, "H2O": 1}, 1.0, 0.5), ({"CO": 1, "H2O": 2}, 1.0, 0.667), ({"CO": 2, "H2O": 1}, 1.0, 0.667),
        ({"CO": 1, "H2O": 1, "CO2": 1}, 1.0, 0.333), ({"CO": 1, "H2O": 1}, 0.316, 0.36),
    ):  # fmt: skip
        shift = mo.Chemistry(mo.Reaction("CO + H2O <-> CO2 + H2", k=1.0, K=K))
        feed = mo.Feed({s: f"{n} mol/s" for s, n in fed.items()}, T="1100 K", P="1 bar")
        reached = mo.AtEquilibrium(shift, feed).run()
        assert fed["CO"] * reached.conversion("CO") == pytest.approx(extent, abs=1e-3)


CRITICAL = {"CH4": (190.6, 46.0, 0.011), "H2O": (647.1, 220.6, 0.345), "CO": (132.9, 35.0, 0.048),
            "CO2": (304.1, 73.8, 0.224), "H2": (33.2, 13.0, -0.216)}  # fmt: skip


def gases(names: tuple[str, ...]) -> list[mo.Species]:
    return [
        replace(s, critical_temperature=CRITICAL[s.name][0], critical_pressure=f"{CRITICAL[s.name][1]} bar",
                acentric_factor=CRITICAL[s.name][2])
        for s in SPECIES if s.name in names
    ]  # fmt: skip


@pytest.mark.parametrize("T", [673.0, 773.0, 873.0])
def test_sulfur_dioxide_by_its_published_constant(T: float) -> None:
    """log K = 4956/T - 4.678 in atm^-1/2 (A. F. Kapustinskii, L. A. Shamovskii, Acta Physicochim. URSS 4 (1936) 791):
    contact gas of 7 % SO2 and 11 % O2, the conversion by hand; and a bed that warms to it."""
    law = "k*(p[SO2]*p[O2]^0.5 - p[SO3]/(10^(4956/T - 4.678)/sqrt(101325)))"
    reaction = mo.Reaction("SO2 + 0.5 O2 <-> SO3", rate=law, k=1.0, enthalpy="-94.9 kJ/mol", enthalpy_at=T)
    species = [mo.Species(s, heat_capacity=Cp) for s, Cp in (("SO2", 50.0), ("O2", 33.0), ("SO3", 66.5), ("N2", 31.0))]
    feed = mo.Feed({"SO2": "7 mol%", "O2": "11 mol%", "N2": "rest"}, flow="100 mol/s", T=T, P="1 atm")
    chemistry = mo.Chemistry([reaction], species)

    def off(x: float, T: float) -> float:
        return x / (1 - x) * np.sqrt((100 - 3.5 * x) / (11 - 3.5 * x)) / 10 ** (4956 / T - 4.678) - 1

    wanted = brentq(off, 1e-6, 1 - 1e-9, args=(T,), xtol=1e-14)
    assert mo.AtEquilibrium(chemistry, feed).run().conversion("SO2") == pytest.approx(wanted, rel=1e-9)
    if T == 673.0:  # with Cp that add up to zero over the reaction, the line of the bed is straight
        bed = mo.AtEquilibrium(chemistry, feed, heat="adiabatic").run()
        end = brentq(lambda x: off(x, T + 94900 * 7 * x / (7 * 50 + 11 * 33 + 82 * 31)), 1e-6, 1 - 1e-9, xtol=1e-14)
        assert bed.conversion("SO2") == pytest.approx(end, rel=1e-8)


@pytest.mark.parametrize(("model", "heat"), [
    (None, None), (None, "adiabatic"), (None, mo.Duty("30 kW")), ("Soave", mo.Duty("30 kW")), ("Peng-Robinson", "adiabatic"),
])  # fmt: skip
def test_gibbs_energy_and_constants_of_reactions_agree_and_slopes_are_exact(model: str | None, heat: object) -> None:
    species = gases(tuple(CRITICAL))
    of = mo.thermo.FromSpecies("activities")
    reactions = [
        mo.Reaction(f"{left} <-> {right}", rate=f"k*({forward} - {backward}/K)", k="1 mol/m3/s", K=of)
        for left, right, forward, backward in (
            ("CH4 + H2O", "CO + 3 H2", "a[CH4]*a[H2O]", "a[CO]*a[H2]^3"),
            ("CO + H2O", "CO2 + H2", "a[CO]*a[H2O]", "a[CO2]*a[H2]"),
        )
    ]
    feed = mo.Feed({"CH4": "1 mol/s", "H2O": "2.5 mol/s"}, T="900 K", P="40 bar", model=model)
    by_reactions = mo.AtEquilibrium(mo.Chemistry(reactions, species=species), feed, heat=heat)
    by_energy = mo.AtEquilibrium(mo.Chemistry([], species=species), feed, heat=heat)
    one, other = by_reactions.run(), by_energy.run()
    assert flows(one) == pytest.approx(flows(other), rel=1e-9)
    assert one.temperatures == pytest.approx(other.temperatures, rel=1e-11)
    assert max(one.closure["energy"], other.closure["energy"]) < 1e-8
    names = ["feed T", "feed P", "[CH4]", *(["duty"] if isinstance(heat, mo.Duty) else [])]
    slopes = other.sensitivity("conversion of CH4", names)
    for name in names:
        own = by_energy.spec.condition(name).own
        ends = [
            by_energy.with_({name: by_energy.spec.condition(name).give(own * f)}).run() for f in (1 + 1e-4, 1 - 1e-4)
        ]
        change = ends[0].conversion("CH4") - ends[1].conversion("CH4")
        assert slopes[name] * 2e-4 * own == pytest.approx(change, rel=1e-5, abs=1e-11)
    assert pickle.loads(pickle.dumps(other)).to_dict() == other.to_dict()


def test_methanol_at_high_pressure_against_another_minimisation() -> None:
    """Methanol synthesis at 300 bar by Soave's equation, against a direct search over the extents of its reactions; the
    ideal gas would make less of it."""
    names, T, P = ("CH3OH", "H2O", "CO", "CO2", "H2"), 573.15, 300.0
    methanol = mo.Species(
        "CH3OH", "CH4O", enthalpy_of_formation=-201.0e3, entropy=239.9, heat_capacity=60.0,
        critical_temperature=512.6, critical_pressure="80.9 bar", acentric_factor=0.566,
    )  # fmt: skip
    species = [methanol, *gases(names[1:])]
    g = [(-201.0e3 + 60.0 * (T - T0)) / (R * T) - (239.9 + 60.0 * math.log(T / T0)) / R]
    g += [potential(s, T) for s in names[1:]]
    equation = mo.thermo.CubicEquation(species, "Soave")
    start = np.array([0.05, 0.02, 1.0, 0.4, 3.0])
    nu = np.array([[1, 0, -1, 0, -2], [0, -1, -1, 1, 1]], dtype=float)

    def energy(extents: np.ndarray) -> float:
        n = start + extents @ nu
        if n.min() <= 0:
            return 1e6
        phi = equation.at(T, f"{P} bar", dict(zip(names, n, strict=True)), "gas").fugacity_coefficients
        return float(n @ (g + np.log(n / n.sum() * P) + np.log([phi[s] for s in names])))

    options = {"xatol": 1e-10, "fatol": 1e-13, "maxiter": 4000, "maxfev": 8000}
    best = minimize(energy, [0.3, 0.0], method="Nelder-Mead", options=options)
    fed = {s: f"{n} mol/s" for s, n in zip(names, start, strict=True)}
    made = {}
    for model in ("Soave", None):
        feed = mo.Feed(fed, T=T, P=f"{P} bar", model=model)
        made[model] = flows(mo.AtEquilibrium(mo.Chemistry([], species=species), feed).run())
    assert [*made["Soave"].values()] == pytest.approx(start + best.x @ nu, rel=1e-5)
    assert made["Soave"]["CH3OH"] > 1.03 * made[None]["CH3OH"]


def test_kinetic_runs_end_there_a_gas_and_a_liquid_that_is_not_ideal() -> None:
    shift = [s for s in SPECIES if s.name in ("CO", "H2O", "CO2", "H2")]
    chemistry = mo.Chemistry(
        mo.Reaction("CO + H2O <=> CO2 + H2", k="1 L/mol/s", K=mo.thermo.FromSpecies("concentrations")), species=shift
    )
    feed = mo.Feed({"CO": "40 mol%", "H2O": "rest"}, flow="1 mol/s", T="800 K", P="5 bar")
    tube = mo.PlugFlow(chemistry, feed, volume="1e6 m3", heat="adiabatic").run()
    for by in ("reactions", "Gibbs energy"):
        there = mo.AtEquilibrium(chemistry, feed, heat="adiabatic", by=by).run()
        assert tube.conversion("CO") == pytest.approx(there.conversion("CO"), rel=1e-8)
        assert tube.temperatures[-1] == pytest.approx(there.temperatures[0], rel=1e-9)
    liquid = [
        mo.Species("acid", molar_volume="57 cm3/mol", heat_capacity=123.0), mo.Species("alcohol", molar_volume="86 cm3/mol", heat_capacity=200.0),
        mo.Species("ester", molar_volume="124 cm3/mol", heat_capacity=250.0), mo.Species("water", molar_volume="18 cm3/mol", heat_capacity=75.0),
    ]  # fmt: skip
    pairs = {("acid", "water"): "0.4 kJ/mol", ("water", "acid"): "0.9 kJ/mol", ("alcohol", "water"): "1.1 kJ/mol",
             ("water", "alcohol"): "2.9 kJ/mol", ("ester", "water"): "2.6 kJ/mol", ("water", "ester"): "6.1 kJ/mol"}  # fmt: skip
    model = mo.thermo.ActivityModel(liquid, "NRTL", pairs)
    law = mo.Reaction(
        "acid + alcohol <-> ester + water", rate="k*(a[acid]*a[alcohol] - a[ester]*a[water]/K)",
        k="2 mol/L/h", K=mo.VantHoff(K=6.0, at="350 K", enthalpy="-6 kJ/mol"), enthalpy="-6 kJ/mol",
    )  # fmt: skip
    chemistry = mo.Chemistry(law, species=liquid)
    feed = mo.Feed({"acid": "2 mol/s", "alcohol": "3 mol/s"}, T="360 K", model=model)
    tube = mo.PlugFlow(chemistry, feed, volume="2000 m3", heat="adiabatic").run()
    there = mo.AtEquilibrium(chemistry, feed, heat="adiabatic").run()
    assert flows(there) == pytest.approx({s: float(n[-1]) for s, n in tube.flows.items()}, rel=1e-8)
    assert there.temperatures[-1] == pytest.approx(tube.temperatures[-1], rel=1e-9)
    assert max(*there.closure.values(), *tube.closure.values()) < 1e-7
    x = {s: n / sum(flows(there).values()) for s, n in flows(there).items()}
    gamma = model.coefficients(float(there.temperatures[0]), x)
    K = 6.0 * math.exp(6000.0 / R * (1 / float(there.temperatures[0]) - 1 / 350.0))
    a = {s: x[s] * gamma[s] for s in x}
    assert a["ester"] * a["water"] / (a["acid"] * a["alcohol"]) == pytest.approx(K, rel=1e-9)
    assert gamma["ester"] > 1.05  # it is not ideal


def test_inert_species_an_approach_solids_in_a_reaction_and_jumps() -> None:
    shift = mo.Chemistry(
        mo.Reaction("A <-> B", k=1.0, K=mo.VantHoff(K=4.0, at="400 K", enthalpy="-40 kJ/mol"), name="r"), species=["N"]
    )
    feed = mo.Feed({"A": "1 mol/s", "N": "9 mol/s"}, T="400 K", P="1 bar")
    for off in (0.0, -20.0, 15.0):
        run = mo.AtEquilibrium(shift, feed, approach={"r": off}).run()
        K = 4.0 * math.exp(40e3 / R * (1 / (400.0 + off) - 1 / 400.0))
        assert run.conversion("A") == pytest.approx(K / (1 + K), rel=1e-12)
    moved = mo.AtEquilibrium(shift, feed).with_({"approach of r": "15 K"})
    assert moved.run().conversion("A") == pytest.approx(run.conversion("A"), rel=1e-14)
    lime = [
        mo.Species("stone", "CaCO3", enthalpy_of_formation=-1206.9e3, entropy=92.9, heat_capacity=105.0),
        mo.Species("lime", "CaO", enthalpy_of_formation=-635.1e3, entropy=39.8, heat_capacity=50.0),
        mo.Species("gas", "CO2", enthalpy_of_formation=-393.5e3, entropy=213.7, heat_capacity=45.0),
    ]
    burnt = mo.Chemistry([], species=lime)
    feed = mo.Feed({"stone": "1 mol/s", "gas": "0.5 mol/s"}, T="900 K", P="1 bar")
    cold, hot = (
        flows(mo.AtEquilibrium(burnt, feed, T=T, solids=["stone", "lime"]).run()) for T in ("1000 K", "1300 K")
    )
    assert cold == pytest.approx({"stone": 1.5 - 0.5, "lime": 0.0, "gas": 0.5})
    assert hot == pytest.approx({"stone": 0.0, "lime": 1.0, "gas": 1.5})
    kiln = mo.AtEquilibrium(burnt, feed, heat=mo.Duty("100 kW"), solids=["stone", "lime"]).run()
    share = flows(kiln)["lime"]  # the kiln burns a part of the stone, at the one temperature where both stand
    assert 0.1 < share < 0.9
    T = float(kiln.temperatures[0])
    taken = share * (178.3e3 + (50.0 + 45.0 - 105.0) * (T - T0)) + (105.0 + 0.5 * 45.0) * (T - 900.0)
    assert taken == pytest.approx(100e3, rel=1e-9)


def test_hundreds_of_unkind_problems_are_solved() -> None:
    """Any atoms, potentials up to 100 R T apart, elements down to 1e-12 of the whole, up to two solids."""
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
        found = GibbsProblem(holds, phases).solve(g, totals)
        assert found.amounts @ holds == pytest.approx(totals, rel=1e-12)
        assert (found.amounts >= 0).all()
        for phase, there, away in zip(phases, found.phases, found.distances, strict=True):
            own = np.sum(np.exp(holds[phase] @ found.potentials - g[phase]))
            assert (
                (abs(own - 1) < 1e-7)
                if there > 0
                else (own < 1 + 1e-9 and own == pytest.approx(math.exp(-away), rel=1e-6))
            )
    with pytest.raises(mo.SolveError, match="no amounts of these species"):
        GibbsProblem(np.array([[1.0, 4.0], [2.0, 8.0]]), [[0, 1]]).solve(np.zeros(2), np.array([1.0, 3.0]))


def test_a_given_conversion_in_every_way() -> None:
    reactions = [
        mo.Reaction("A -> 2 B", name="main", enthalpy="-50 kJ/mol"),
        mo.Reaction("B -> C", name="next", enthalpy="-20 kJ/mol"),
    ]
    chemistry = mo.Chemistry(
        reactions, species=[mo.Species(s, heat_capacity=c) for s, c in (("A", 80.0), ("B", 40.0), ("C", 45.0))]
    )
    feed = mo.Feed({"A": "2 mol/s", "C": "1 mol/s"}, T="300 K", P="2 bar")
    run = mo.AtConversion(chemistry, feed, {"main": 0.5, "next": 0.25}, in_series=True).run()
    assert flows(run) == pytest.approx({"A": 1.0, "B": 1.5, "C": 1.5})
    heats = 1.0 * 50e3 + 0.5 * 20e3  # at 298.15 K
    assert run.duty_si == pytest.approx(-heats + 0.5 * 5.0 * (300.0 - T0))
    assert flows(mo.AtConversion(chemistry, feed, {"main": "0.3 mol/s"}).run())["B"] == pytest.approx(0.6)
    for heat, through in (
        ("adiabatic", lambda T: 0.0),
        (mo.Duty("-20 kW"), lambda T: -20e3),
        (mo.Jacket("320 K", UA="100 W/K"), lambda T: 100.0 * (320.0 - T)),
    ):
        hot = mo.AtConversion(chemistry, feed, {"main": 0.5, "next": 0.25}, in_series=True, heat=heat).run()
        T = float(hot.temperatures[0])
        h = {"A": 80.0, "B": 40.0, "C": 45.0}
        taken = sum(n * h[s] for s, n in flows(run).items()) * (T - 298.15) - (2 * 80.0 + 45.0) * (300.0 - 298.15)
        assert taken - heats == pytest.approx(through(T), abs=1e-6 * heats)
        assert hot.closure["energy"] < 1e-8
    with pytest.raises(mo.SolveError, match="B is negative"):
        mo.AtConversion(chemistry, feed, {"next": "1 mol/s"}).run()
    for wrong, words in (
        ({"main": 1.5}, "more than one"),
        ({"mian": 0.5}, "main"),
        ({}, "no conversion"),
        ({"main": "3 kg"}, "number"),
    ):
        with pytest.raises(mo.InputError, match=words):
            mo.AtConversion(chemistry, feed, wrong)


def test_they_stand_beside_tank_and_tube() -> None:
    """Compared, swept, in a train, optimized: the same numbers as alone, and a reaction without kinetics said to be."""
    law = {
        "k": "2 1/h",
        "K": mo.VantHoff(K=9.0, at="350 K", enthalpy="-60 kJ/mol"),
        "name": "r",
        "enthalpy": "-60 kJ/mol",
    }
    chemistry = mo.Chemistry(mo.Reaction("A <-> B", **law))
    feed = mo.Feed({"A": "2 mol/L"}, flow="1 m3/h", T="330 K", heat_capacity="4 MJ/m3/K")
    at = mo.AtEquilibrium(chemistry, feed, name="limit", heat="adiabatic")
    given = mo.AtConversion(chemistry, feed, {"r": 0.5}, name="half", heat="adiabatic")
    tube = mo.PlugFlow(chemistry, feed, volume="4 m3", name="tube", heat="adiabatic")
    compared = mo.compare([given, at, tube], ["conversion of A", "temperature"])
    assert compared.values[0]["conversion of A"] == pytest.approx(0.5)
    assert compared.values[2]["conversion of A"] < compared.values[1]["conversion of A"]
    swept = mo.sweep(at, {"feed T": ["310 K", "330 K", "350 K"]}, ["conversion of A"])
    alone = [at.with_({"feed T": T}).run().conversion("A") for T in ("310 K", "330 K", "350 K")]
    assert swept.table()["conversion of A"].to_numpy() == pytest.approx(alone, rel=1e-12)
    again = mo.evaluator(at, ["feed T"], ["conversion of A"])
    assert [again(T)[0] for T in (310.0, 330.0, 350.0)] == pytest.approx(alone, rel=1e-12)
    beds = mo.Train([at, mo.Exchanger(T="330 K"), at.with_(name="second")])
    end = beds.run()
    assert end.conversion("A") > at.run().conversion("A")
    best = mo.optimize(
        beds, maximize="conversion of A", free={"exchanger.T": ("300 K", "380 K"), "feed T": ("300 K", "380 K")}
    )
    assert best.run.conversion("A") > end.conversion("A")
    with pytest.raises(mo.InputError, match="no size"):
        mo.size(at, "conversion of A", 0.5)
    with pytest.raises(mo.InputError, match="no volume"):
        at.run().metric("production of B per volume")
    bare = mo.Chemistry(mo.Reaction("A <-> B"))
    with pytest.raises(mo.InputError, match="unknown: r1"):
        mo.PlugFlow(bare, feed, volume="1 m3").run()
    with pytest.raises(mo.InputError, match="give none"):
        mo.AtEquilibrium(bare, feed)
    assert "r" in str(mo.AtEquilibrium(chemistry, feed).check().count)


def test_what_it_lacks_is_named_all_at_once() -> None:
    bare = mo.Chemistry([], species=[
        mo.Species("A", "CH4"), mo.Species("B", enthalpy_of_formation=0.0, entropy=1.0, heat_capacity=30.0)
    ])  # fmt: skip
    with pytest.raises(mo.InputError) as caught:
        mo.AtEquilibrium(bare, mo.Feed({"A": "1 mol/s"}, T=300.0, P=1e5))
    assert "A has no heat capacity" in str(caught.value)
    assert "B has no formula" in str(caught.value)
    mixed = [SPECIES[0], mo.Species("X", "CO", enthalpy_of_formation=0.0, gibbs_of_formation=1.0, heat_capacity=30.0)]
    with pytest.raises(mo.InputError, match="absolute entropy"):
        mo.AtEquilibrium(mo.Chemistry([], species=mixed), mo.Feed({"X": "1 mol/s"}, T=300.0, P=1e5))
    contradict = mo.Chemistry([
        mo.Reaction("A <-> B", k=1.0, K=2.0), mo.Reaction("B <-> C", k=1.0, K=3.0), mo.Reaction("A <-> C", k=1.0, K=7.0)
    ])  # fmt: skip
    with pytest.raises(mo.InputError, match="contradict each other"):
        mo.AtEquilibrium(contradict, mo.Feed({"A": 1.0}, flow=1.0)).run()
    endless = mo.Chemistry(mo.Reaction("A <-> 2 A", k=1.0, K=2.0))
    with pytest.raises(mo.InputError, match="without limit"):
        mo.AtEquilibrium(endless, mo.Feed({"A": 1.0}, flow=1.0))
    strange = mo.Chemistry(mo.Reaction("A <-> B", rate="k*([A] - [B]^2/K)", k=1.0, K=2.0))
    with pytest.raises(mo.InputError, match="another ratio"):
        mo.AtEquilibrium(strange, mo.Feed({"A": 1.0}, flow=1.0))


def test_curves_and_beds_against_the_balance_of_energy() -> None:
    """A liquid of constant heat capacity: X = K/(1 + K), beds along T = T0 + X dT, cooled to the inlet between them."""
    law = {"k": mo.Arrhenius(k="2 1/h", at="330 K", Ea="90 kJ/mol"), "enthalpy": "-60 kJ/mol", "name": "r"}
    chemistry = mo.Chemistry(mo.Reaction("A <-> B", K=mo.VantHoff(K=9.0, at="350 K", enthalpy="-60 kJ/mol"), **law))
    feed = mo.Feed({"A": "2 mol/L"}, flow="1 m3/h", T="320 K", heat_capacity="3 MJ/m3/K")
    tube = mo.PlugFlow(chemistry, feed, volume="1 m3", name="tube")
    found = mo.thermo.equilibrium_curves(
        tube, "conversion of A", T=("300 K", "420 K"), inlet="330 K", target=0.95, approach="5 K"
    )

    def limit(T: float) -> float:
        K = 9.0 * math.exp(60e3 / R * (1 / T - 1 / 350.0))
        return K / (1 + K)

    assert found.values[0] == pytest.approx([limit(T) for T in found.temperatures], rel=1e-10)
    assert found.is_reached
    assert len(found.lines) == 3
    at = 0.0
    for n, line in enumerate(found.lines):
        assert line[0] == pytest.approx([330.0, at], abs=1e-9)
        for T, X in line:
            assert pytest.approx(330.0 + (X - at) * 40.0, abs=1e-8) == T
        assert line[-1, 1] == pytest.approx(limit(line[-1, 0] + 5.0), rel=1e-9)
        at = line[-1, 1]
        if n < 2:
            cooled = (line[-1, 0] - 330.0) * 3e6 / 3600.0
            assert found.duties[n] == pytest.approx(-cooled, rel=1e-9)
    for T, X in found.locus[:: len(found.locus) // 5]:  # the slope of k (1 - X - X/K) in T is zero
        K = limit(T) / (1 - limit(T))
        assert pytest.approx(60e3 * X / K, rel=1e-3) == 90e3 * (1 - X - X / K)
    assert len(found.beds()) == 3
    assert "0.95 takes 3 beds" in str(found)
    short = mo.thermo.equilibrium_curves(tube, "conversion of A", T=("300 K", "420 K"), target=0.99, beds=1)
    assert not short.is_reached
    for wrong, words in (
        ({"T": ("400 K", "300 K")}, "not rising"), ({"T": ("300 K", "400 K"), "P": ["1 bar"]}, "has no pressure"),
        ({"T": ("300 K", "400 K"), "beds": 0}, "is not a number of beds"), ({"T": ("300 K", "400 K"), "target": "3 kg"}, "target"),
    ):  # fmt: skip
        with pytest.raises(mo.InputError, match=words):
            mo.thermo.equilibrium_curves(tube, "conversion of A", **wrong)


def test_a_survey_says_how_far_each_is_and_why() -> None:
    """First order both ways: closed forms of tank, tube and batch; Q/K; what is missing is said, not guessed."""
    chemistry = mo.Chemistry(mo.Reaction("A <-> B", k="0.2 1/min", K=3.0, name="r"))
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="330 K")
    found = mo.survey(chemistry, feed, residence_time="5 min", conversions={"r": 0.5})
    k = 0.2 * (1 + 1 / 3) * 5.0
    expected = [0.5, 0.75, 0.75 * k / (1 + k), 0.75 * (1 - math.exp(-k)), 0.75 * (1 - math.exp(-k))]
    assert [row["conversion of A"] for row in found.comparison.values] == pytest.approx(expected, rel=1e-7)
    assert list(found.fractions) == pytest.approx([x / 0.75 for x in expected], rel=1e-7)
    assert [r["r"] for r in found.ratios] == pytest.approx([x / (1 - x) / 3 for x in expected], rel=1e-7)
    assert not found.remarks
    short = mo.survey(chemistry, feed, residence_time="6 s")
    assert "would give 95 %" in short.remarks["tube"]
    minutes = float(short.remarks["tube"].split("slow, ")[1].split(" s")[0]) / 60
    assert minutes == pytest.approx(-math.log(0.05) / (0.2 * 4 / 3), rel=1e-3)
    bare = mo.survey(mo.Chemistry(mo.Reaction("A -> B", name="r")), feed, conversions={"r": 0.4})
    assert len(bare.comparison.runs) == 1
    assert "unknown: r.k" in bare.remarks["stirred tank, tube and batch"]
    assert bare.remarks["equilibrium"].startswith("no reaction is reversible")
    with pytest.raises(mo.InputError, match="no reaction is reversible"):
        mo.survey(mo.Chemistry(mo.Reaction("A -> B", name="r")), feed)
    assert pickle.loads(pickle.dumps(found)).to_dict() == found.to_dict()


@pytest.mark.parametrize(("T", "bar"), [(900.0, 1.0), (1000.0, 20.0), (1100.0, 5.0)])
def test_the_boundary_of_carbon_deposition(T: float, bar: float) -> None:
    """Steam per methane at which 2 CO = C + CO2 and CH4 = C + 2 H2 come to a carbon of activity one, without carbon in
    the search; with it, there is some just below and none just above."""
    gases_alone = ("CH4", "H2O", "CO", "CO2", "H2")

    def log_activity(steam: float) -> float:
        found = flows(at_equilibrium({"CH4": 1.0, "H2O": steam}, T, bar, of=gases_alone))
        x = {s: n / sum(found.values()) for s, n in found.items()}
        by_methane = math.log(x["CH4"]) - 2 * math.log(x["H2"]) - math.log(bar)
        by_methane += potential("CH4", T) - 2 * potential("H2", T) - potential("C", T)
        by_monoxide = 2 * math.log(x["CO"]) - math.log(x["CO2"]) + math.log(bar)
        by_monoxide += 2 * potential("CO", T) - potential("CO2", T) - potential("C", T)
        assert by_methane == pytest.approx(by_monoxide, abs=1e-9)
        return by_methane

    boundary = brentq(log_activity, 0.3, 4.0, xtol=1e-12)
    of = (*gases_alone, "C")
    below, above = (flows(at_equilibrium({"CH4": 1.0, "H2O": boundary * f}, T, bar, of=of)) for f in (0.9999, 1.0001))
    assert 0 < below["C"] < 1e-3
    assert above["C"] == 0.0
