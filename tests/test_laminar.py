"""Laminar pipes and slits: closed forms, the series of Graetz, Taylor and Aris, the entrance, over time."""

from __future__ import annotations

import numpy as np
import pytest
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
    pipe = mo.LaminarTube(FIRST, FEED, diameter="20 mm", length=length).run()
    assert 1 - pipe.conversion("A") == pytest.approx(2 * expn(3, Da / 2), abs=1e-6)
    slit = mo.LaminarTube(FIRST, FEED, gap="2 mm", width="0.5 m", length=Da / 0.2).run()
    y, w = np.polynomial.legendre.leggauss(400)
    u = 1.5 * (1 - ((y + 1) / 2) ** 2)
    assert 1 - slit.conversion("A") == pytest.approx(float(w / 2 @ (u * np.exp(-Da / u))), abs=1e-6)
    assert max(pipe.closure.values()) < 1e-10


def test_much_diffusion_is_plug_flow_and_what_is_inside_lies_between() -> None:
    pipe = {"diameter": "20 mm", "length": "16 m"}
    found = [mo.LaminarTube(FIRST, FEED, **pipe, diffusivity=D).run() for D in (0.0, 1e-7, 1e-3)]
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
    pipe = mo.LaminarTube(chem, feed, diameter="20 mm", length="16 m", conductivity="0.6 W/m/K", wall_T="350 K")
    run = pipe.run()
    roots, shares = [2.7043644, 6.6790315, 10.673380, 14.671078], [0.819050, 0.097527, 0.032504, 0.015440]
    along = run.z[50:] * 0.6 / 4e6 / (2 * pipe._velocity * 0.01**2)
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
    tube = mo.LaminarTube(chem, feed, **shape, length="10 m", diffusivity="1e-8 m2/s", conductivity="0.6 W/m/K", **heat)
    run = tube.run()
    assert max(run.closure.values()) < 1e-8
    warmed = (run.mixed["temperature"][-1] - 300) * 4e6 / 6e4
    assert warmed == pytest.approx(run.heat + run.conversion("A") * 60e3 / 60, rel=1e-6)
    assert "temperatures inside" in run.facts()
    assert np.isfinite(run.table().to_numpy()).all()


def test_a_long_pipe_disperses_as_taylor_and_aris_say() -> None:
    """Variance 2 D/(u L) with D = u^2 d^2/(192 D_m); by the moments, and by the curve from the transform."""
    pipe = mo.LaminarTube(FIRST, FEED, diameter="2 mm", length="2000 m", diffusivity="1e-7 m2/s")
    u, tau = pipe._velocity, 2000 / pipe._velocity
    mean, variance, _ = pipe.tracer_moments()
    assert mean == pytest.approx(tau, rel=1e-6)
    assert variance / tau**2 == pytest.approx(2 * u * 0.002**2 / (192 * 1e-7 * 2000), rel=0.01)
    curve = pipe.distribution()
    found = float(np.trapezoid((curve.times - tau) ** 2 * curve.E, curve.times))
    assert found == pytest.approx(variance, rel=0.01)
    assert curve.F[-1] == pytest.approx(1, abs=1e-5)
    none = mo.LaminarTube(FIRST, FEED, diameter="2 mm", length="1 m").distribution()
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
    tube = mo.LaminarTube(FIRST, feed, gap="4 mm", width="20 mm", length="0.5 m", viscosity="1 mPa*s",
                          entrance="developing")  # fmt: skip
    run, u = tube.run(points=21), tube._velocity
    assert tube.Reynolds == pytest.approx(u * 8e-3 * 1e6)
    drop = 12 * 1e-3 * u * 0.5 / 0.004**2 + 0.674 * 1000 * u**2 / 2
    assert run.pressure_lost[-1] == pytest.approx(drop, rel=0.01)
    assert run.velocity[-1] == pytest.approx(np.append(1.5 * u * (1 - (run.radii[:-1] / 0.002) ** 2), 0), abs=2e-3 * u)
    later = mo.LaminarTube(FIRST, feed, gap="4 mm", width="20 mm", length="0.5 m").run()
    plug = 1 - np.exp(-0.2 * 0.04)
    assert later.conversion("A") < run.conversion("A") < plug


def test_over_time_it_comes_to_the_same_steady_state_and_says_when() -> None:
    pipe = mo.LaminarTube(FIRST, FEED, diameter="20 mm", length="16 m", diffusivity="2e-8 m2/s")
    run = pipe.follow("30 min", contents={"B": "1 mol/L"}, cells=40, nodes=8)
    assert run.conversion("A") == pytest.approx(pipe.run().conversion("A"), abs=2e-3)
    row = run.mixed["concentration of A"]
    assert np.interp(2.3 * 60, run.times, row) < 1.0  # nothing leaves before half of the mean time, on the axis
    assert row.min() > -1e-6
    assert 5 * 60 < run.settling_times()["concentration of A"] < 20 * 60
    assert run.inside["concentration of A"].shape == (101, 40, 8)


def test_what_is_wrong_is_said_at_once() -> None:
    with pytest.raises(mo.InputError) as caught:
        mo.LaminarTube(FIRST, FEED, heat="adiabatic", wall_T="300 K", entrance="developing")
    text = str(caught.value)
    for words in ("no length", "neither diameter nor gap", "specify the same thing twice", "conductivity", "viscosity"):
        assert words in text
    gas = mo.Feed({"A": "1 mol/s"}, T="400 K", P="2 bar")
    with pytest.raises(mo.InputError, match="constant density"):
        mo.LaminarTube(FIRST, gas, diameter="1 cm", length="1 m")
    with pytest.raises(mo.InputError, match="no species C"):
        mo.LaminarTube(FIRST, FEED, diameter="1 cm", length="1 m", diffusivity={"C": "1e-9 m2/s"})
