"""Tubes that disperse, tubes over time and fields against each other, against their limits and against simple sums."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from matplotlib.figure import Figure
from scipy.integrate import solve_ivp

import molino as mo
from conftest import Typed

FIRST = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min", name="r"))
FEED = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
SPECIES = [mo.Species(s, "C2H6O", heat_capacity="80 J/mol/K") for s in "AB"]
HOT = mo.Chemistry(
    mo.Reaction("A -> B", rate="k*exp(-E/T)*[A]", enthalpy="-30 kJ/mol", name="r"), SPECIES,
    {"k": "4e5 1/s", "E": "6000 K"},
)  # fmt: skip
GAS = mo.Feed({"A": "60 mol%", "B": "40 mol%"}, flow="2 mol/s", T="400 K", P="2 bar")


# limits of the tube with dispersion


def test_much_conduction_makes_an_adiabatic_tube_of_one_temperature() -> None:
    """With mass and heat mixed alike it is the adiabatic tank; with heat alone the isothermal tube at its outlet T."""
    warm = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="330 K", heat_capacity="3.8 MJ/m3/K")
    sizes: dict[str, Any] = {"diameter": "0.1 m", "length": "0.5 m", "heat": "adiabatic"}
    mixed = mo.DispersedTube(HOT, warm, dispersion=mo.Dispersion(peclet=1e-4), **sizes).run()
    tank = mo.StirredTank(HOT, warm, volume=mixed.vessel.spec.volume_si, heat="adiabatic").steady()
    assert mixed.conversion("A") == pytest.approx(tank.conversion("A"), abs=2e-4)
    assert pytest.approx(tank.stream_out().T, abs=2e-3) == mixed.stream_out().T
    conducting = mo.DispersedTube(
        HOT, warm, dispersion=mo.Dispersion(peclet=1e4, conductivity="1e5 W/m/K"), **sizes
    ).run()
    assert np.ptp(conducting.temperatures) < 0.2
    alone = mo.PlugFlow(HOT, warm, diameter="0.1 m", length="0.5 m", T=conducting.stream_out().T).run()
    assert conducting.conversion("A") == pytest.approx(alone.conversion("A"), abs=2e-3)


@pytest.mark.parametrize("heat", ["isothermal", "adiabatic", "co-current", "counter-current"])
def test_a_bed_with_little_dispersion_is_the_bed_without(heat: str) -> None:
    """Gas, pressure drop, catalyst per mass, coolant of its own: everything that the plain bed has."""
    jacket = mo.Jacket("390 K", U="80 W/m2/K", flow="60 W/K", counter_current=heat == "counter-current")
    chem = mo.Chemistry(
        mo.Reaction("A -> B", rate="k*exp(-E/T)*p[A]", basis="catalyst mass", enthalpy="-30 kJ/mol", name="r"), SPECIES,
        {"k": "2e-3 mol/kg/s/Pa", "E": "5500 K"},
    )  # fmt: skip
    parts: dict[str, Any] = {
        "diameter": "50 mm", "length": "2 m", "tubes": 20, "heat": jacket if "current" in heat else heat,
        "catalyst": mo.Catalyst(bulk_density="850 kg/m3", voidage=0.4, particle_diameter="4 mm"),
        "pressure_drop": mo.PressureDrop("0.02 mPa*s"),
    }  # fmt: skip
    plain = mo.PlugFlow(chem, GAS, **parts).run()
    far, near = (mo.DispersedTube(chem, GAS, dispersion=mo.Dispersion(peclet=p), **parts).run() for p in (400, 4000))
    for read in (lambda r: r.conversion("A"), lambda r: r.stream_out().T, lambda r: r.stream_out().P):
        away = [abs(read(run) - read(plain)) for run in (far, near)]
        assert away[1] <= 0.2 * away[0] + 1e-9 * abs(read(plain))
    assert max(near.closure.values()) < 1e-8
    by_correlation = mo.DispersedTube(
        chem, GAS, dispersion=mo.Dispersion(correlation="packed bed", diffusivity="2e-5 m2/s"), **parts
    )
    assert 200 < by_correlation.peclet < 1500  # 2 L/d_p at the most where the flow is fast


def test_what_comes_and_goes_through_the_wall_on_the_way_is_counted() -> None:
    """A membrane and a side feed along a tube that disperses: streams add up, and little dispersion changes little."""
    wall = mo.Membrane({"B": "k*([B] - [B]')"}, {"k": "2e-5 m/s"}, {"B": "0 mol/L"}, area="2 m2")
    side = mo.DistributedFeed(mo.Feed({"A": "0.5 mol/L"}, flow="0.2 L/min"))
    plain = mo.PlugFlow(FIRST, FEED, volume="5 L", wall=wall, side=side).run()
    runs = [mo.DispersedTube(FIRST, FEED, volume="5 L", wall=wall, side=side, dispersion=mo.Dispersion(peclet=p)).run()
            for p in (5, 2000)]  # fmt: skip
    for run in runs:
        came = sum(sum(stream.amounts.values()) for stream in run.streams_in())
        went = sum(sum(stream.amounts.values()) for stream in run.streams_out())
        assert went == pytest.approx(came, rel=1e-9)
        assert max(run.closure.values()) < 1e-9
    assert runs[1].stream_out().amounts["A"] == pytest.approx(plain.stream_out().amounts["A"], rel=2e-3)
    assert runs[0].stream_out().amounts["A"] > runs[1].stream_out().amounts["A"]


def test_pores_and_age_slow_a_tube_that_disperses() -> None:
    """Effectiveness of first order, tanh-free by its limit: a strong resistance leaves 3/phi of a sphere."""
    pores = mo.InternalDiffusion("A", "1e-9 m2/s")
    packing: dict[str, Any] = {"voidage": 0.4, "particle_density": "1500 kg/m3", "particle_diameter": "6 mm"}
    chem = mo.Chemistry(mo.Reaction("A -> B", k="2e-3 m3/kg/s", basis="catalyst mass", name="r"))

    def conversion(**more: Any) -> float:
        bed = mo.Catalyst(**packing, **more)
        return (
            mo.DispersedTube(chem, FEED, volume="0.1 L", catalyst=bed, dispersion=mo.Dispersion(peclet=20))
            .run()
            .conversion("A")
        )

    # phi = R/3 sqrt(k rho_p/D), eta = 1/phi far above one
    eta = 1 / (0.003 / 3 * np.sqrt(2e-3 * 1500 / 1e-9))
    Da = 2e-3 * 900 * 0.1e-3 / (1e-3 / 60)
    slowed = conversion(internal_diffusion={"r": pores})

    def danckwerts(Da: float, Pe: float) -> float:
        q = np.sqrt(1 + 4 * Da / Pe)
        left = 4 * q * np.exp(Pe * (1 - q) / 2) / ((1 + q) ** 2 - (1 - q) ** 2 * np.exp(-q * Pe))
        return float(1 - left)

    assert slowed == pytest.approx(danckwerts(eta * Da, 20), rel=0.03)
    aged = conversion(deactivation=mo.Deactivation("0.01 1/h", age="100 h"))
    assert aged == pytest.approx(danckwerts(np.exp(-1) * Da, 20), abs=1e-7)


# one vessel, several ways


def test_a_pipe_a_distribution_and_a_segregated_batch_agree() -> None:
    """First order in a laminar pipe without diffusion: by marching, by its E curve, by the model of laminar flow."""
    pipe = mo.fields.LaminarTube(FIRST, FEED, diameter="20 mm", length="16 m")
    tau = np.pi * 0.01**2 * 16 / (1e-3 / 60)
    model = mo.mixing.LaminarFlow().conversion("0.2 1/min", f"{tau} s")
    assert pipe.run().conversion("A") == pytest.approx(model, abs=1e-6)
    bounds = mo.mixing.mixing_bounds(
        mo.Batch(FIRST, {"A": "1 mol/L"}), mo.mixing.LaminarFlow().distribution(f"{tau} s")
    )
    assert bounds.conversion("A") == pytest.approx(model, abs=2e-3)


def test_a_basin_an_axial_model_and_a_tube_that_disperses_agree() -> None:
    """A channel of plug flow with diffusion along it is a tube with dispersion: the same Peclet number, the same outlet."""
    flow, area, length = 2e-3, 1.0, 4.0
    D = flow / area * length / 8
    channel = mo.fields.Basin(FIRST, length=length, width=1, depth=1, inlets=mo.fields.Inlet("left", (0, 1), mo.Feed(
        {"A": "1 mol/L"}, flow="2 L/s")), outlets=mo.fields.Outlet("right", (0, 1)), diffusivity=D, cells=(160, 4))  # fmt: skip
    slow = mo.Chemistry(mo.Reaction("A -> B", k=f"{1.5 * flow / (area * length)} 1/s"))
    run = mo.fields.Basin(slow, **{name: getattr(channel, name) for name in (
        "length", "width", "depth", "inlets", "outlets", "diffusivity", "cells")}).run()  # fmt: skip
    tube = mo.DispersedTube(slow, mo.Feed({"A": "1 mol/L"}, flow="2 L/s"), volume="4 m3",
                            dispersion=mo.Dispersion(peclet=8)).run()  # fmt: skip
    assert run.conversion("A") == pytest.approx(tube.conversion("A"), abs=1e-4)
    assert run.extrapolated_conversion("A")[0] == pytest.approx(tube.conversion("A"), abs=2e-5)
    curve, model = channel.distribution(steps=200), mo.mixing.AxialDispersion(8, "closed")
    mean = area * length / flow
    assert curve.raw[0] == pytest.approx(mean, rel=1e-6)
    variance = 2 / 8 - 2 / 64 * (1 - np.exp(-8))
    assert (curve.raw[1] / mean**2 - 1) == pytest.approx(variance, rel=2e-3)
    some = np.linspace(0.3, 2.0, 12) * mean
    assert np.interp(some, curve.times, curve.F) == pytest.approx(model.F(some, mean), abs=4e-3)


def test_a_slit_over_time_and_a_basin_over_time_settle_alike() -> None:
    """Developed creeping flow between two plates: the same vessel as a laminar slit and as a basin."""
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    slit = mo.fields.LaminarTube(FIRST, feed, gap="20 mm", width="0.5 m", length="0.5 m", diffusivity="1e-6 m2/s")
    basin = mo.fields.Basin(
        FIRST, length="0.5 m", width="20 mm", depth="0.5 m", inlets=mo.fields.Inlet("left", ("0 m", "20 mm"), feed, "parabolic"),
        outlets=mo.fields.Outlet("right", ("0 m", "20 mm")), flow="creeping", diffusivity="1e-6 m2/s", cells=(60, 24),
    )  # fmt: skip
    assert basin.run().conversion("A") == pytest.approx(slit.run().conversion("A"), abs=2e-3)
    empty = {"B": "1 mol/L"}
    one = slit.follow("30 min", contents=empty, cells=40, nodes=8)
    two = basin.follow("30 min", contents=empty, steps=150)
    at = np.linspace(7, 25, 8) * 60
    both = [np.interp(at, run.times, run.outlet["concentration of A"]) for run in (one, two)]
    assert both[0] == pytest.approx(both[1], abs=15)  # of 1000 mol/m3
    assert one.settling_times().keys() == two.settling_times().keys()


def test_an_adsorber_is_the_linear_chromatograph_of_its_moments() -> None:
    """A step through a linear isotherm: the mean breakthrough at (e + rho K) V/Q, the variance 2 rho K V/(Q k) of the
    rate, as the moments of the transform have it."""
    K, k = 1e-3, 0.02
    bed = mo.Catalyst(bulk_density="500 kg/m3", voidage=0.5, adsorption=mo.Adsorption(
        {"A": "K*[A]"}, f"{k} 1/s", {"K": f"{K} m3/kg"}))  # fmt: skip
    chem = mo.Chemistry([mo.Reaction("A -> B", k="1e-12 1/s")], ["S"])
    tube = mo.PlugFlow(chem, mo.Feed({"A": "0.01 mol/L", "S": "1 mol/L"}, flow="1 L/min"), volume="5 L", catalyst=bed)
    run = tube.follow("30 min", contents={"S": "1 mol/L"}, cells=100, points=601)
    through = run.left["A"] / run.fed["A"]
    tau = 5e-3 / (1e-3 / 60)
    mean = float(np.trapezoid(1 - through, run.times))
    assert mean == pytest.approx((0.5 + 0.5) * tau, rel=2e-3)
    second = float(np.trapezoid(2 * run.times * (1 - through), run.times))
    assert second - mean**2 == pytest.approx(2 * 0.5 * tau / k, rel=0.03)
    rows = run.profile("5 min")
    assert {"A [mol/L]", "loading of A [mol/kg]"} <= {*rows.columns}
    assert run.table().shape == (601, 4)


def test_a_hot_spot_that_a_step_leaves_behind_is_followed() -> None:
    """A cooled tube whose feed stops reacting: the profile moves out, and what is inside is that of a batch."""
    warm = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="345 K", heat_capacity="3.8 MJ/m3/K")
    tube = mo.PlugFlow(HOT, warm, volume="3 L", heat="adiabatic")
    run = tube.follow("3 min", contents={"A": "1 mol/L"}, cells=80, points=61)

    def batch(t: float, y: np.ndarray) -> list[float]:
        rate = 4e5 * np.exp(-6000 / y[1]) * y[0]
        return [-rate, 30e3 * rate * 1e3 / 3.8e6]

    found = solve_ivp(batch, (0, 180), [1.0, 345.0], rtol=1e-9, atol=1e-12, t_eval=run.times)
    # until the feed has come through what leaves has been inside from the start: a batch
    inside = run.times < 140
    assert run.outlet["temperature"][inside] == pytest.approx(found.y[1][inside], abs=0.02)
    assert run.outlet["concentration of A"][inside] / 1e3 == pytest.approx(found.y[0][inside], abs=1e-3)


# figures and commands


@pytest.fixture(scope="module")
def followed() -> dict[str, Any]:
    warm = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="330 K", heat_capacity="3.8 MJ/m3/K")
    basin = mo.fields.Basin(FIRST, length=6, width=1, depth=1, inlets=mo.fields.Inlet("bottom", (0, 0.5), mo.Feed(
        {"A": "1 mol/L"}, flow="10 L/s")), outlets=mo.fields.Outlet("top", (5.5, 6)), cells=(24, 8))  # fmt: skip
    return {
        "tube": mo.PlugFlow(HOT, warm, volume="3 L", heat="adiabatic").follow("2 min", cells=20, points=21),
        "pipe": mo.fields.LaminarTube(HOT, warm, diameter="20 mm", length="8 m", conductivity="0.6 W/m/K", wall_T="320 K",
                               viscosity="1 mPa*s").run(nodes=12),
        "slit": mo.fields.LaminarTube(FIRST, FEED, gap="4 mm", width="0.2 m", length="1 m").follow("5 min", cells=10, nodes=5),
        "basin": basin.run(), "start": basin.follow("20 min", steps=20, points=3),
    }  # fmt: skip


def _labels(figure: Figure) -> str:
    texts = [axes.get_xlabel() + axes.get_ylabel() + axes.get_title(loc="left") for axes in figure.axes]
    return " ".join(texts)


def test_figures_show_what_there_is_with_units(followed: dict[str, Any]) -> None:
    drawn = {
        "tube": mo.figures.over_time(followed["tube"]), "slit": mo.figures.over_time(followed["slit"]),
        "start": mo.figures.over_time(followed["start"]), "pipe": mo.figures.field(followed["pipe"]),
        "across": mo.figures.across(followed["pipe"]), "basin": mo.figures.field(followed["basin"]),
        "moments": mo.figures.sequence(followed["start"]), "sides": mo.figures.across(followed["basin"], "B"),
    }  # fmt: skip
    wanted = {
        "tube": ("time [min]", "outlet temperature [K]", "volume [L]"), "slit": ("outlet concentration [mol/L]",),
        "start": ("time [min]",), "pipe": ("A [mol/L]", "temperature [K]", "speed [m/s]", "length [m]"),
        "across": ("velocity along it [m/s]", "distance from the axis [mm]"),
        "basin": ("speed [m/s], with stream lines", "mean age [min]", "conversion of A"), "moments": ("after 0 min",),
        "sides": ("B [mol/L]", "y [m]"),
    }  # fmt: skip
    for name, figure in drawn.items():
        for text in wanted[name]:
            assert text in _labels(figure), (name, text, _labels(figure))
    frames = mo.figures.animation(followed["start"])
    assert len(list(frames.new_frame_seq())) == 3


def test_results_print_hold_tables_and_plain_data(followed: dict[str, Any]) -> None:
    for name, run in followed.items():
        assert np.isfinite(run.table().to_numpy(dtype=float)).all(), name
        content = json.loads(json.dumps(run.to_dict()))
        assert content["kind"], name
        assert "<table" in run._repr_html_()
        assert len(str(run).splitlines()) > 3
    pipe = followed["pipe"]
    assert pipe.at_axis("temperature")[0] == pytest.approx(330)
    assert pipe.at_wall("temperature") == pytest.approx(320)
    assert pipe.pressure_lost[-1] > 0
    assert "temperatures inside" in pipe.facts()
    with pytest.raises(mo.InputError, match="B is not fed"):
        pipe.conversion("B")
    with pytest.raises(mo.InputError, match="ask earlier"):
        followed["tube"].profile("1 h")


def test_a_poisoned_bed_of_a_job_is_followed_though_it_has_no_steady_state(tmp_path: Path, molino: Typed) -> None:
    (tmp_path / "job.toml").write_text(
        """
[reactions.main]
equation = "A -> B"
k = "0.02 m3/kg/min"
basis = "catalyst mass"
[reactions.uptake]
equation = "S -> Z"
k = "0.01 m3/kg/min"
basis = "catalyst mass"
[feeds.f]
contents = { A = "1 mol/L", S = "0.01 mol/L" }
flow = "1 L/min"
[vessels.bed]
kind = "plug flow"
feed = "f"
volume = "1 L"
catalyst = { bulk_density = "600 kg/m3", voidage = 0.4, deactivation = { k = "300 L/mol/h", poison = "S" } }
follow = { time = "30 min", cells = 16 }
""",
        encoding="utf-8",
    )
    done = molino("run", tmp_path / "job.toml", "--json")
    assert done.exit_code == 0, done.output
    content = json.loads(done.stdout)
    assert content["vessels"] == {}
    assert content["over_time"]["bed"]["closure"]
    assert (tmp_path / "results" / "job" / "run-bed-over-time.csv").exists()
    sized = (tmp_path / "job.toml").read_text(encoding="utf-8")
    sized += '[size.bed]\nvessel = "bed"\nmetric = "conversion of A"\ntarget = 0.5\n'
    (tmp_path / "size.toml").write_text(sized, encoding="utf-8")
    refused = molino("size", tmp_path / "size.toml")
    assert refused.exit_code == 2
    assert "depends on the history" in " ".join(refused.output.split())


def test_a_train_of_a_job_is_followed_as_in_python(tmp_path: Path, molino: Typed) -> None:
    job = """
[units]
pressure = "bar"
[reactions.main]
equation = "A -> B"
k = "0.2 1/min"
[feeds.f]
contents = { A = "1 mol/L" }
flow = "1 L/min"
[vessels.tank]
kind = "stirred tank"
feed = "f"
volume = "5 L"
[vessels.tube]
kind = "plug flow"
feed = "f"
volume = "5 L"
[vessels.both]
kind = "train"
steps = [{ vessel = "tank" }, { vessel = "tube" }]
follow = { time = "1 h", cells = 20, contents = { B = "1 mol/L" }, changes = [{ what = "[A]", to = "2 mol/L", at = "30 min" }] }
"""
    path = tmp_path / "job.toml"
    path.write_text(job, encoding="utf-8")
    done = molino("run", path, "--json")
    assert done.exit_code == 0, done.output
    found = json.loads(done.stdout)["over_time"]["both"]["vessels"][-1]["outlet"]["concentration of A"]
    chem, feed = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min")), mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    train = mo.Train([mo.StirredTank(chem, feed, volume="5 L"), mo.PlugFlow(chem, feed, volume="5 L")])
    step = mo.Change("[A]", "2 mol/L", at="30 min")
    own = train.follow("1 h", contents={"B": "1 mol/L"}, changes=[step], cells=20)
    assert np.allclose(np.array(found["values"]) * 1000, own.outlet["concentration of A"], rtol=1e-9, atol=1e-6)
    assert (tmp_path / "results" / "job" / "run-both-over-time.png").exists()
    path.write_text(job.replace("follow =", "recycle = 0.5\nfollow ="), encoding="utf-8")
    refused = molino("check", path)
    assert refused.exit_code == 2
    assert "recycle is not followed" in " ".join(refused.output.split())
