"""Laminar pipes and slits: closed forms, the series of Graetz, Taylor and Aris, the entrance, over time."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from scipy.special import expn

import molino as mo

FEED = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
FIRST = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min", name="r"))
SPECIES = [mo.Species(s, "C2H6O", heat_capacity="80 J/mol/K") for s in "AB"]
WATERY = {"T": "300 K", "heat_capacity": "4 MJ/m3/K", "density": "1000 kg/m3"}


@pytest.mark.parametrize("Da", [0.1, 1.0, 5.0])
def test_without_diffusion_first_order_is_that_of_segregated_flow(Da: float) -> None:
    """2 E3(Da/2) in a pipe (K. B. Denbigh, J. Appl. Chem. 1 (1951) 227); in a slit by quadrature over its velocity."""
    length = Da / 0.2 * 1e-3 / (np.pi * 0.01**2)
    pipe = mo.fields.LaminarTube(FIRST, FEED, diameter="20 mm", length=length).run()
    assert 1 - pipe.conversion("A") == pytest.approx(2 * expn(3, Da / 2), abs=1e-6)
    slit = mo.fields.LaminarTube(FIRST, FEED, gap="2 mm", width="0.5 m", length=Da / 0.2).run()
    y, w = np.polynomial.legendre.leggauss(400)
    u = 1.5 * (1 - ((y + 1) / 2) ** 2)
    assert 1 - slit.conversion("A") == pytest.approx(float(w / 2 @ (u * np.exp(-Da / u))), abs=1e-6)
    assert max(pipe.closure.values()) < 1e-10


def test_much_diffusion_is_plug_flow_and_what_is_inside_lies_between() -> None:
    pipe = {"diameter": "20 mm", "length": "16 m"}
    found = [mo.fields.LaminarTube(FIRST, FEED, **pipe, diffusivity=D).run() for D in (0.0, 1e-7, 1e-3)]
    plug = mo.PlugFlow(FIRST, FEED, **pipe).run().conversion("A")
    X = [run.conversion("A") for run in found]
    assert X[0] < X[1] < X[2]
    assert X[2] == pytest.approx(plug, abs=2e-5)
    run = found[1]
    assert (run.at_wall("concentration of A")[1:] < run.at_axis("concentration of A")[1:]).all()
    assert run.grid_error < 1e-6
    assert f"conversion of A in plug flow  {plug:.4g}" in " ".join(str(run).split()).replace("flow ", "flow  ")


def test_heat_from_a_wall_is_the_series_of_graetz() -> None:
    """Mixing-cup temperature by the first terms of the eigenfunction series (Shah and London 1978, table 13)."""
    chem = mo.Chemistry(mo.Reaction("A -> B", k="1e-15 1/s", enthalpy="0 kJ/mol"), species=SPECIES)
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", **WATERY)
    pipe = mo.fields.LaminarTube(chem, feed, diameter="20 mm", length="16 m", conductivity="0.6 W/m/K", wall_T="350 K")
    run = pipe.run()
    roots, shares = [2.7043644, 6.6790315, 10.673380, 14.671078], [0.819050, 0.097527, 0.032504, 0.015440]
    along = run.z[50:] * 0.6 / 4e6 / (2 * pipe.spec.velocity * 0.01**2)
    wanted = sum(c * np.exp(-(root**2) * along) for root, c in zip(roots, shares, strict=True))
    assert (350 - run.mixed["temperature"][50:]) / 50 == pytest.approx(wanted, rel=1e-4)
    assert run.heat == pytest.approx((run.mixed["temperature"][-1] - 300) * 4e6 / 6e4, rel=1e-9)
    assert run.closure["energy"] < 1e-9


@pytest.mark.parametrize("heat", [{"heat": "adiabatic"}, {"wall_flux": "1 kW/m2"}, {"wall_T": "320 K"}])
@pytest.mark.parametrize("shape", [{"diameter": "20 mm"}, {"gap": "10 mm", "width": "60 mm"}])
def test_reaction_and_heat_close(heat: dict[str, str], shape: dict[str, str]) -> None:
    law = mo.Reaction("A -> B", rate="k*exp(-E/T)*[A]", enthalpy="-60 kJ/mol")
    chem = mo.Chemistry(law, SPECIES, {"k": "3e4 1/s", "E": "5000 K"})
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", **WATERY)
    tube = mo.fields.LaminarTube(
        chem, feed, **shape, length="10 m", diffusivity="1e-8 m2/s", conductivity="0.6 W/m/K", **heat
    )
    run = tube.run()
    assert max(run.closure.values()) < 1e-8
    warmed = (run.mixed["temperature"][-1] - 300) * 4e6 / 6e4
    assert warmed == pytest.approx(run.heat + run.conversion("A") * 60e3 / 60, rel=1e-6)
    assert "temperatures inside" in run.facts()
    assert np.isfinite(run.table().to_numpy()).all()


def test_a_long_pipe_disperses_as_taylor_and_aris_say() -> None:
    """Variance 2 D/(u L) with D = u^2 d^2/(192 D_m); by the moments, and by the curve from the transform."""
    pipe = mo.fields.LaminarTube(FIRST, FEED, diameter="2 mm", length="2000 m", diffusivity="1e-7 m2/s")
    u, tau = pipe.spec.velocity, 2000 / pipe.spec.velocity
    mean, variance, _ = pipe.tracer_moments()
    assert mean == pytest.approx(tau, rel=1e-6)
    assert variance / tau**2 == pytest.approx(2 * u * 0.002**2 / (192 * 1e-7 * 2000), rel=0.01)
    curve = pipe.distribution()
    found = float(np.trapezoid((curve.times - tau) ** 2 * curve.E, curve.times))
    assert found == pytest.approx(variance, rel=0.01)
    assert curve.F[-1] == pytest.approx(1, abs=1e-5)
    none = mo.fields.LaminarTube(FIRST, FEED, diameter="2 mm", length="1 m").distribution()
    assert none.F[np.searchsorted(none.times, none.raw[0])] == pytest.approx(0.75, abs=0.01)  # 1 - (tau/2t)^2


def test_the_entrance_is_as_long_and_costs_as_much_as_published() -> None:
    """Slit: 0.044 gaps times Re of the gap (J. R. Bodoia, J. F. Osterle, Appl. Sci. Res. A 10 (1961) 265), and 0.674
    velocity heads; pipe: 1.25 (Shah and London 1978)."""
    from molino.core.fields.developing import developing
    from molino.core.fields.radial import radial

    slit, pipe = (developing(radial(geometry, 36)) for geometry in ("slit", "pipe"))
    assert slit.entrance_length / 4 == pytest.approx(0.044, rel=0.03)
    assert slit.excess == pytest.approx(0.674, rel=0.01)
    assert pipe.excess == pytest.approx(1.25, rel=0.01)
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", density="1000 kg/m3")
    tube = mo.fields.LaminarTube(FIRST, feed, gap="4 mm", width="20 mm", length="0.5 m", viscosity="1 mPa*s",
                          entrance="developing")  # fmt: skip
    run, u = tube.run(points=21), tube.spec.velocity
    assert tube.Reynolds == pytest.approx(u * 8e-3 * 1e6)
    drop = 12 * 1e-3 * u * 0.5 / 0.004**2 + 0.674 * 1000 * u**2 / 2
    assert run.pressure_lost[-1] == pytest.approx(drop, rel=0.01)
    assert run.velocity[-1] == pytest.approx(np.append(1.5 * u * (1 - (run.radii[:-1] / 0.002) ** 2), 0), abs=2e-3 * u)
    later = mo.fields.LaminarTube(FIRST, feed, gap="4 mm", width="20 mm", length="0.5 m").run()
    plug = 1 - np.exp(-0.2 * 0.04)
    assert later.conversion("A") < run.conversion("A") < plug


def test_over_time_it_comes_to_the_same_steady_state_and_says_when() -> None:
    pipe = mo.fields.LaminarTube(FIRST, FEED, diameter="20 mm", length="16 m", diffusivity="2e-8 m2/s")
    run = pipe.follow("30 min", contents={"B": "1 mol/L"}, cells=40, nodes=8)
    assert run.conversion("A") == pytest.approx(pipe.run().conversion("A"), abs=2e-3)
    row = run.mixed["concentration of A"]
    assert np.interp(2.3 * 60, run.times, row) < 1.0  # nothing leaves before half of the mean time, on the axis
    assert row.min() > -1e-6
    assert 5 * 60 < run.settling_times()["concentration of A"] < 20 * 60
    assert run.inside["concentration of A"].shape == (101, 40, 8)


def test_what_is_wrong_is_said_at_once() -> None:
    with pytest.raises(mo.InputError) as caught:
        mo.fields.LaminarTube(FIRST, FEED, heat="adiabatic", wall_T="300 K", entrance="developing")
    text = str(caught.value)
    for words in ("no length", "neither diameter nor gap", "specify the same thing twice", "conductivity", "viscosity"):
        assert words in text
    with pytest.raises(mo.InputError, match="specify the same thing twice"):
        mo.fields.LaminarTube(FIRST, FEED, diameter="1 cm", length="1 m", heat="isothermal", wall_T="300 K",
                       conductivity="0.6 W/m/K")  # fmt: skip
    gas = mo.Feed({"A": "1 mol/s"}, T="400 K", P="2 bar")
    with pytest.raises(mo.InputError, match="constant density"):
        mo.fields.LaminarTube(FIRST, gas, diameter="1 cm", length="1 m")
    with pytest.raises(mo.InputError, match="unknown species C"):
        mo.fields.LaminarTube(FIRST, FEED, diameter="1 cm", length="1 m", diffusivity={"C": "1e-9 m2/s"})


@pytest.mark.parametrize(("shape", "at_flux", "at_wall", "rows"), [
    ({"diameter": "10 mm"}, 48 / 11, 3.6568, (40, 60)), ({"gap": "5 mm", "width": "50 mm"}, 140 / 17, 7.5407, (8, 14)),
])  # fmt: skip
def test_far_from_the_inlet_heat_transfer_is_that_of_the_textbook(
    shape: dict[str, str], at_flux: float, at_wall: float, rows: tuple[int, int]
) -> None:
    """Nusselt numbers with the hydraulic diameter (Shah and London 1978): 48/11 and 140/17 for a flux that is given,
    3.6568 and 7.5407 for a wall at one temperature."""
    chem = mo.Chemistry(mo.Reaction("A -> B", k="1e-15 1/s", enthalpy="0 kJ/mol"), species=SPECIES)
    feed = mo.Feed({"A": "1 mol/L"}, flow="0.1 L/min", **WATERY)
    tube = {"length": "6 m", "conductivity": "0.6 W/m/K", **shape}
    wide = 0.01
    given = mo.fields.LaminarTube(chem, feed, **tube, wall_flux="200 W/m2").run()
    warmer = given.at_wall("temperature")[-1] - given.mixed["temperature"][-1]
    assert 200 / warmer * wide / 0.6 == pytest.approx(at_flux, rel=1e-4)
    assert given.heat == pytest.approx((given.mixed["temperature"][-1] - 300) * 4e6 * 0.1e-3 / 60, rel=1e-8)
    held = mo.fields.LaminarTube(chem, feed, **tube, wall_T="310 K").run()
    left = 310 - held.mixed["temperature"]
    a, b = rows
    fall = np.log(left[a] / left[b]) / (held.z[b] - held.z[a])
    wet_per_flow = (np.pi * 0.01 if "diameter" in shape else 0.1) / (4e6 * 0.1e-3 / 60)
    assert fall / wet_per_flow * wide / 0.6 == pytest.approx(at_wall, rel=1e-3)


def test_second_order_without_diffusion_is_a_batch_on_each_stream_line() -> None:
    """Mixed again at the outlet: the mean of 1/(1 + k c0 t) by what flows, in series and parallel as well."""
    chem = mo.Chemistry([mo.Reaction("2 A -> B", k="0.05 L/mol/min"), mo.Reaction("B -> C", k="0.1 1/min")])
    pipe = mo.fields.LaminarTube(chem, FEED, diameter="20 mm", length="16 m").run(nodes=48)
    y, w = np.polynomial.legendre.leggauss(200)
    x = (y + 1) / 2
    u = 2 * (1 - x)
    tau = np.pi * 0.01**2 * 16 / 1e-3
    batch = mo.Batch(chem, {"A": "1 mol/L"}, time=f"{tau / u.min()} min").run(points=np.sort(tau / u) * 60)
    times = batch.points / 60
    for s in "ABC":
        on_each = np.interp(tau / u, times, batch.concentrations[s])
        wanted = float(w / 2 @ (u * on_each))
        assert pipe.mixed[f"concentration of {s}"][-1] == pytest.approx(wanted, rel=2e-4), s
    assert pipe.closure["A + 2 B + 2 C"] < 1e-10


@settings(max_examples=5, deadline=None)
@given(
    k=st.floats(1e-4, 0.05), D=st.floats(-11.0, -6.0), conductivity=st.floats(0.1, 5.0), wall=st.floats(280.0, 340.0),
    is_slit=st.booleans(),
)  # fmt: skip
def test_whatever_the_numbers_nothing_is_lost_and_nothing_is_negative(
    k: float, D: float, conductivity: float, wall: float, is_slit: bool
) -> None:
    law = mo.Reaction("A -> B", rate="k*exp(-E*(1/T - 1/T0))*[A]", enthalpy="-20 kJ/mol")
    chem = mo.Chemistry(law, SPECIES, {"k": f"{k} 1/s", "E": "3000 K", "T0": "300 K"})
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", **WATERY)
    shape = {"gap": "6 mm", "width": "80 mm"} if is_slit else {"diameter": "20 mm"}
    tube = mo.fields.LaminarTube(
        chem, feed, **shape, length="8 m", diffusivity=10.0**D, conductivity=conductivity, wall_T=wall
    )
    run = tube.run(points=21)
    assert max(run.closure.values()) < 1e-7
    field = run.inside["concentration of A"]
    assert field[1:].min() > -1e-3 * 1000
    assert (np.diff(run.mixed["concentration of A"]) < 1e-9).all()
    low, high = min(300.0, wall), max(300.0, wall) + 20e3 / 4e3
    assert low - 0.5 < run.mixed["temperature"].min() <= run.mixed["temperature"].max() < high + 0.5


@pytest.mark.parametrize("diffusivity", ["1e-7 m2/s", "1e-5 m2/s", "1e-3 m2/s"])
def test_moments_of_a_tracer_keep_their_digits_with_more_nodes(diffusivity: str) -> None:
    chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    tube = mo.fields.LaminarTube(chem, feed, diameter="20 mm", length="16 m", diffusivity=diffusivity)
    assert tube.tracer_moments(40) == pytest.approx(tube.tracer_moments(12), rel=1e-7)


def test_a_tracer_that_hardly_spreads_takes_more_nodes_or_is_refused() -> None:
    """With too few nodes E has one peak for each of them, which were diagnosed as several paths through the pipe."""
    pipe = mo.fields.LaminarTube(FIRST, FEED, diameter="20 mm", length="16 m", diffusivity="4e-9 m2/s")
    found = pipe.distribution()
    assert {check.name for check in found.checks} >= {"E on fewer nodes", "E not negative"}
    assert not any("peaks" in line for line in found.diagnosis())
    with pytest.raises(mo.SolveError, match="E on fewer nodes"):
        mo.fields.LaminarTube(FIRST, FEED, diameter="20 mm", length="1 m", diffusivity="1e-11 m2/s").distribution()
