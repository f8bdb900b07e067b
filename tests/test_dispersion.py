"""Axial dispersion: closed forms, independent solutions, limits, correlations."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from scipy.integrate import solve_bvp

import molino as mo
from conftest import Typed

FIRST = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min", name="r"))
FEED = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")


def danckwerts(Da: float, Pe: float) -> float:
    """Conversion of a first-order reaction (P. V. Danckwerts, Chem. Eng. Sci. 2 (1953) 1)."""
    q = np.sqrt(1 + 4 * Da / Pe)
    left = 4 * q * np.exp(Pe * (1 - q) / 2) / ((1 + q) ** 2 - (1 - q) ** 2 * np.exp(-q * Pe))
    return float(1 - left)


@pytest.mark.parametrize("Da", [0.1, 1.0, 10.0])
@pytest.mark.parametrize("Pe", [0.1, 1.0, 30.0, 1000.0])
def test_first_order_is_that_of_the_closed_form_with_its_slopes(Da: float, Pe: float) -> None:
    tube = mo.DispersedTube(FIRST, FEED, volume=f"{Da / 0.2} L", dispersion=mo.Dispersion(peclet=Pe))
    run = tube.run()
    assert run.conversion("A") == pytest.approx(danckwerts(Da, Pe), abs=1e-8)
    found, step = run.sensitivity("conversion of A", ["volume", "peclet", "r.k", "flow"]), 3e-4
    by_Da = (danckwerts(Da * (1 + step), Pe) - danckwerts(Da * (1 - step), Pe)) / (2 * step)
    by_Pe = (danckwerts(Da, Pe * (1 + step)) - danckwerts(Da, Pe * (1 - step))) / (2 * step)
    own = {name: tube.spec.condition(name).own for name in found}
    wanted = {"volume": by_Da, "peclet": by_Pe, "r.k": by_Da, "flow": -by_Da}
    for name, slope in found.items():
        assert slope * own[name] == pytest.approx(wanted[name], rel=3e-5, abs=1e-9), name


def test_both_limits_are_reached() -> None:
    chem = mo.Chemistry([mo.Reaction("2 A -> B", k="0.4 L/mol/min"), mo.Reaction("B -> C", k="0.1 1/min")])

    def ends(peclet: float) -> np.ndarray:
        run = mo.DispersedTube(chem, FEED, volume="5 L", dispersion=mo.Dispersion(peclet=peclet)).run()
        return np.array([float(run.final[s].to("mol/L")) for s in "ABC"])

    tank = mo.StirredTank(chem, FEED, volume="5 L").steady()
    tube = mo.PlugFlow(chem, FEED, volume="5 L").run()
    for run, near, far in ((tank, 1e-4, 1e-2), (tube, 1e5, 1e3)):
        wanted = np.array([float(run.final[s].to("mol/L")) for s in "ABC"])
        away = [np.max(np.abs(ends(peclet) - wanted)) for peclet in (far, near)]
        assert away[1] < 2e-5
        assert away[1] == pytest.approx(away[0] / 100, rel=0.05)  # of first order in what mixes, or keeps apart


def test_second_order_and_heat_against_a_boundary_value_solution_of_its_own() -> None:
    """Dimensionless, with coefficients of its own for heat, written out by hand."""
    k, E, rise, Pe, ratio, Ua = 0.8, 4000.0, 45.0, 12.0, 1.7, 0.8
    species = [mo.Species(s, heat_capacity="80 J/mol/K") for s in "AB"]
    law = mo.Reaction("A -> B", rate="k*exp(-E*(1/T - 1/T0))*[A]^2", enthalpy=f"{-rise * 4} kJ/mol", name="r")
    chem = mo.Chemistry(law, species, {"k": f"{k} L/mol/min", "E": f"{E} K", "T0": "350 K"})
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="350 K", heat_capacity="4 MJ/m3/K")
    length, area = 2.0, np.pi / 4 * 0.05**2
    volume, flow = length * area, 1e-3 / 60
    D = flow / area * length / Pe
    tube = mo.DispersedTube(
        chem, feed, diameter="50 mm", length="2 m", heat=mo.Jacket("345 K", UA=f"{Ua * flow * 4e6} W/K"),
        dispersion=mo.Dispersion(coefficient=D, heat=ratio * D),
    )  # fmt: skip
    run, tau = tube.run(), volume / flow / 60

    def slopes(x: np.ndarray, y: np.ndarray) -> np.ndarray:
        c, dc, T, dT = y
        rate = tau * k * np.exp(-E * (1 / T - 1 / 350)) * c**2
        return np.array([dc, Pe * (dc + rate), dT, Pe / ratio * (dT - rise * rate - Ua * (345 - T))])

    def ends(a: np.ndarray, b: np.ndarray) -> np.ndarray:
        return np.array([a[0] - a[1] / Pe - 1, b[1], a[2] - a[3] * ratio / Pe - 350, b[3]])

    x = np.linspace(0, 1, 101)
    start = np.array([1 - 0.5 * x, -0.5 + 0 * x, 350 + 0 * x, 0 * x])
    found = solve_bvp(slopes, ends, x, start, tol=1e-9, max_nodes=100_000)
    assert found.status == 0
    assert run.conversion("A") == pytest.approx(1 - found.y[0, -1], abs=1e-6)
    assert float(run.stream_out().T) == pytest.approx(found.y[2, -1], abs=1e-5)
    assert float(run.max_temperature.to("K")) == pytest.approx(found.sol(np.linspace(0, 1, 5001))[2].max(),
                                                                        abs=1e-4)  # fmt: skip
    assert max(run.closure.values()) < 1e-9


def test_a_gas_that_expands_exchanges_mole_for_mole() -> None:
    """A -> 2 B at one T and P: (1 + x') moles for each fed; written out by hand in mole fractions."""
    chem = mo.Chemistry(mo.Reaction("A -> 2 B", k="0.05 1/s"))
    feed = mo.Feed({"A": "1 mol/s"}, T="600 K", P="2 bar")
    c = 2e5 / (8.31446261815324 * 600)
    tube = mo.DispersedTube(chem, feed, volume="500 L", dispersion=mo.Dispersion(peclet=5), T="600 K")
    run, tau = tube.run(), 0.05 * 0.5 * c

    def slopes(x: np.ndarray, y: np.ndarray) -> np.ndarray:
        share, net = y  # the mole fraction and the net flow of A; in all 1 + (1 - net) moles flow
        return np.array([5 * ((2 - net) * share - net), -tau * share])

    def ends(a: np.ndarray, b: np.ndarray) -> np.ndarray:
        return np.array([a[1] - 1, b[1] - (2 - b[1]) * b[0]])

    x = np.linspace(0, 1, 101)
    found = solve_bvp(slopes, ends, x, np.array([0.5 + 0 * x, 1 - 0.5 * x]), tol=1e-10, max_nodes=100_000)
    assert found.status == 0
    assert run.conversion("A") == pytest.approx(1 - found.y[1, -1], abs=1e-7)
    assert max(run.closure.values()) < 1e-9


def test_correlations_are_those_of_the_literature() -> None:
    pipe: dict[str, object] = {"diameter": "10 mm", "length": "20 m"}
    slow = mo.Feed({"A": "1 mol/L"}, flow="1 mL/s", density="1000 kg/m3")
    u, d = 1e-6 / (np.pi / 4 * 0.01**2), 0.01

    def coefficient(feed: mo.Feed, dispersion: mo.Dispersion, **more: object) -> float:
        tube = mo.DispersedTube(FIRST, feed, dispersion=dispersion, **{**pipe, **more})
        return float(tube.feed.flows[0].si / (np.pi / 4 * d**2) * 20 / tube.peclet)

    laminar = mo.Dispersion(correlation="laminar", diffusivity="1e-8 m2/s")
    assert coefficient(slow, laminar) == pytest.approx(1e-8 + u**2 * d**2 / (192 * 1e-8), rel=1e-12)
    fast = mo.Feed({"A": "1 mol/L"}, flow="200 mL/s", density="1000 kg/m3")
    turbulent = mo.Dispersion(correlation="turbulent", viscosity="1 mPa*s")
    # Blasius: f = 0.316 Re^-0.25 at Re = 25 465; D = 10.1 r u sqrt(f/8) (Taylor 1954)
    wanted = 10.1 * d / 2 * 200 * u * np.sqrt(0.316 * 25465**-0.25 / 8)
    assert coefficient(fast, turbulent) == pytest.approx(wanted, rel=0.02)
    bed = mo.Catalyst(voidage=0.4, particle_diameter="1 mm")
    gas = mo.Dispersion(correlation="packed bed", diffusivity="1e-5 m2/s")
    quick = mo.Feed({"A": "1 mol/L"}, flow="100 L/s")
    inside = 0.1 / (np.pi / 4 * d**2) / 0.4
    assert coefficient(quick, gas, catalyst=bed) / 0.4 == pytest.approx(inside * 0.001 / 2, rel=0.01)  # Pe = 2
    liquid = mo.Dispersion(correlation="packed bed", viscosity="1 mPa*s")
    creeping = mo.Feed({"A": "1 mol/L"}, flow="0.1 uL/s", density="1000 kg/m3")
    inside = 1e-10 / (np.pi / 4 * d**2) / 0.4
    assert coefficient(creeping, liquid, catalyst=bed) / 0.4 == pytest.approx(0.4 / 0.2 * inside * 1e-3, rel=0.02)
    early = mo.DispersedTube(FIRST, slow, diameter="10 mm", length="1 m",
                             dispersion=mo.Dispersion(correlation="laminar", diffusivity="1e-9 m2/s"))  # fmt: skip
    assert any("the radial profile is not uniform" in f.what for f in early.check().findings)
    for dispersion, lacks in ((gas, "no packing"), (turbulent, "density"), (mo.Dispersion(peclet=3), "")):
        try:
            mo.DispersedTube(FIRST, FEED, dispersion=dispersion, **pipe)
        except mo.InputError as error:
            assert lacks
            assert lacks in str(error)
        else:
            assert not lacks
    with pytest.raises(mo.InputError, match=r"takes a diffusivity"):
        mo.Dispersion(correlation="laminar")
    with pytest.raises(mo.InputError, match=r"no condition can have a profile"):
        mo.DispersedTube(FIRST, FEED, volume=1, dispersion=mo.Dispersion(peclet=3), heat=mo.Profile([(0, 300)]))


def test_sizes_sweeps_optima_and_trains_know_it() -> None:
    """Against the closed form: the length for a conversion, what dispersion costs, a tube in a train."""
    tube = mo.DispersedTube(FIRST, FEED, volume="5 L", dispersion=mo.Dispersion(peclet=6), name="coil")
    sized = mo.size(tube, "conversion of A", target=0.8)
    tau = sized.run.residence_time_si / 60
    assert danckwerts(0.2 * tau, 6) == pytest.approx(0.8, abs=1e-7)
    swept = mo.sweep(tube, {"peclet": [1, 10, 100]}, ["conversion of A"])
    assert swept.table()["conversion of A"].to_numpy() == pytest.approx([danckwerts(1, p) for p in (1, 10, 100)],
                                                                        abs=1e-8)  # fmt: skip
    best = mo.optimize(tube, maximize="conversion of A", free={"peclet": (1, 50), "flow": ("0.5 L/min", "2 L/min")})
    assert best.run.conversion("A") == pytest.approx(danckwerts(2, 50), abs=1e-7)
    train = mo.Train([tube, mo.StirredTank(FIRST, FEED, volume="5 L")]).run()
    assert train.conversion("A") == pytest.approx(1 - (1 - danckwerts(1, 6)) / 2, abs=1e-7)
    compared = mo.compare([tube, mo.PlugFlow(FIRST, FEED, volume="5 L")], ["conversion of A"])
    assert "dispersed tube" in str(compared)
    curve = mo.evaluator(tube, ["volume"], ["conversion of A"])
    assert float(curve(0.01)[0]) == pytest.approx(danckwerts(2, 6), abs=1e-8)


def test_a_job_says_what_python_says(tmp_path: Path, molino: Typed) -> None:
    (tmp_path / "job.toml").write_text(
        '[units]\ntime = "min"\n[reactions.r]\nequation = "A -> B"\nk = "0.2 1/min"\n[feeds.f]\nflow = "1 L/min"\n'
        'contents = { A = "1 mol/L" }\n[vessels.coil]\nkind = "dispersed tube"\nfeed = "f"\ndiameter = "50 mm"\n'
        'length = "3 m"\ndispersion = { coefficient = "3 cm2/s" }\n[size.coil]\nvessel = "coil"\n'
        'metric = "conversion of A"\ntarget = 0.9\n',
        encoding="utf-8",
    )
    done = molino("run", tmp_path / "job.toml", "--json")
    assert done.exit_code == 0, done.output
    found = json.loads(done.stdout)["vessels"]["coil"]
    tube = mo.DispersedTube(FIRST, FEED, diameter="50 mm", length="3 m", dispersion=mo.Dispersion("3 cm2/s"))
    assert found["conversion_of_A"] == pytest.approx(tube.run().conversion("A"), rel=1e-12)
    assert found["Péclet number u L/D"] == f"{tube.peclet:.4g}"
    sized = molino("size", tmp_path / "job.toml")
    assert "length" in sized.output
    wrong = (tmp_path / "job.toml").read_text(encoding="utf-8").replace("coefficient", "peclet = 3, coefficient")
    (tmp_path / "wrong.toml").write_text(wrong, encoding="utf-8")
    assert "specify the same thing twice" in " ".join(molino("check", tmp_path / "wrong.toml").output.split())


@settings(max_examples=4, deadline=None)
@given(
    peclet=st.floats(0.2, 300.0), ratio=st.floats(0.3, 3.0), UA=st.floats(1.0, 200.0), counter=st.booleans(),
    rise=st.floats(-60.0, 30.0),
)  # fmt: skip
def test_heat_and_mass_close_whatever_the_numbers(
    peclet: float, ratio: float, UA: float, counter: bool, rise: float
) -> None:
    """With a coolant that flows either way: elements and energy to 1e-8, slopes by the coolant as differences."""
    law = mo.Reaction("A -> B", rate="k*exp(-E*(1/T - 1/T0))*[A]", enthalpy=f"{rise} kJ/mol", name="r")
    species = [mo.Species(s, "C2H6O", heat_capacity="80 J/mol/K") for s in "AB"]
    chem = mo.Chemistry(law, species, {"k": "0.3 1/min", "E": "3000 K", "T0": "350 K"})
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="350 K", heat_capacity="4 MJ/m3/K")
    D = 1e-3 / 60 / (np.pi / 4 * 0.05**2) * 2.0 / peclet
    tube = mo.DispersedTube(
        chem, feed, diameter="50 mm", length="2 m", dispersion=mo.Dispersion(D, heat=ratio * D),
        heat=mo.Jacket("340 K", UA=f"{UA} W/K", flow="80 W/K", counter_current=counter),
    )  # fmt: skip
    run = tube.run()
    assert max(run.closure.values()) < 1e-8
    assert 0 < run.conversion("A") < 1
    own = run.sensitivity("temperature", ["coolant T"])["coolant T"]
    ends = [tube.with_({"coolant T": f"{340 + d} K"}).run().stream_out().T for d in (-0.05, 0.05)]
    assert own == pytest.approx((ends[1] - ends[0]) / 0.1, rel=1e-4, abs=1e-7)


def test_the_balances_are_printed_with_the_conditions_at_the_end() -> None:
    tube = mo.DispersedTube(FIRST, FEED, volume="5 L", dispersion=mo.Dispersion(peclet=8))
    text = str(tube.equations())
    assert "d(c_A)/dV = (Fc_A - F_A)/D_A2" in text
    assert text.count("0 at the end of V") == 2
    assert "c_A at V = 0 = c0_A" in text
    assert tube.check().count.open == ()
    # a tube of which neither length nor volume is known is sized, not run
    with pytest.raises(mo.InputError, match="no length or volume"):
        mo.DispersedTube(FIRST, FEED, dispersion=mo.Dispersion(peclet=8)).run()
    with pytest.raises(mo.InputError, match="no dispersion is given"):
        mo.DispersedTube(FIRST, FEED, volume="5 L")
    with pytest.raises(mo.InputError, match="no dispersion coefficient is given"):
        mo.Dispersion()
    with pytest.raises(mo.InputError, match="unknown correlation"):
        mo.Dispersion(correlation="creeping", viscosity="1 mPa*s")
    species = [
        mo.Species(s, critical_temperature="500 K", critical_pressure="40 bar", acentric_factor=0.3) for s in "AB"
    ]
    real = mo.Feed({"A": "1 mol/s"}, T="500 K", P="5 bar", model="Soave")
    chem = mo.Chemistry(FIRST.reactions, species)
    with pytest.raises(mo.InputError, match="has another model"):
        mo.DispersedTube(chem, real, volume="5 L", dispersion=mo.Dispersion(peclet=8))
