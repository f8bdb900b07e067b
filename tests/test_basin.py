"""Basins: flows against published ones, order of the scheme, what is conserved, tracers, reaction, several openings."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

import molino as mo
from molino.core.fields.grid import Grid, lines_through
from molino.core.fields.openings import Layout
from molino.core.fields.stream_function import Flow, FlowProblem
from molino.core.fields.transport import Transport

FIRST = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min", name="r"))
FEED = mo.Feed({"A": "1 mol/L"}, flow="20 L/s")
CORNERS: dict[str, Any] = {
    "length": "4 m", "width": "2 m", "depth": "1 m", "inlets": mo.fields.Inlet("left", ("0 m", "0.5 m"), FEED),
    "outlets": mo.fields.Outlet("right", ("1.5 m", "2 m")),
}  # fmt: skip


_TENTHS = st.integers(0, 14).map(lambda n: n / 10)


def basin(**more: Any) -> mo.fields.Basin:
    return mo.fields.Basin(
        more.pop("chemistry", FIRST), **{**CORNERS, "diffusivity": "1e-4 m2/s", "cells": (32, 24), **more}
    )


def cavity(n: int, viscosity: float | None) -> tuple[float, float, float]:
    """The strongest circulation below a lid of unit velocity, and where it is."""
    layout = Layout(1.0, 1.0, (), (), (), {"top": 1.0})
    grid = layout.grid((n, n), 1.0)
    problem = FlowProblem(grid, layout.conditions(grid, False))
    flow = problem.creeping() if viscosity is None else problem.laminar(viscosity)
    i, j = np.unravel_index(np.argmax(np.abs(flow.psi)), flow.psi.shape)
    return float(flow.psi[i, j]), float(grid.x[i]), float(grid.y[j])


def test_flow_below_a_lid_is_the_published_one() -> None:
    """Creeping: -0.10008 at (0.5, 0.765) (M. Sahin, R. G. Owens, Int. J. Numer. Meth. Fluids 42 (2003) 57); Re 100:
    -0.1034 at (0.6172, 0.7344) (U. Ghia, K. N. Ghia, C. T. Shin, J. Comput. Phys. 48 (1982) 387)."""
    found = [cavity(n, None)[0] for n in (32, 64)]
    assert found[1] == pytest.approx(-0.10008, rel=0.01)
    assert found[1] + (found[1] - found[0]) / 3 == pytest.approx(-0.10008, rel=1e-3)
    psi, x, y = cavity(64, 0.01)
    assert psi == pytest.approx(-0.1034, rel=0.01)
    assert (x, y) == pytest.approx((0.6172, 0.7344), abs=1 / 64)


def test_flow_behind_a_step_is_the_published_one() -> None:
    """Re 800 (D. K. Gartling, Int. J. Numer. Meth. Fluids 11 (1990) 953): it joins the lower wall at 6.10, leaves the
    upper at 4.85 and joins it again at 10.48 heights; extrapolated from two grids."""
    feed = mo.Feed({"A": "1 mol/m3"}, flow="0.5 m3/s", density="1 kg/m3")
    step = mo.fields.Basin(
        FIRST, length=12, width=1, depth=1, inlets=mo.fields.Inlet("left", (0.5, 1), feed, profile="parabolic"),
        outlets=mo.fields.Outlet("right", (0, 1)), flow="laminar", viscosity=1 / 800, cells=(200, 40),
    )  # fmt: skip
    assert step.Reynolds == pytest.approx(400)  # flow over viscosity; 800 with the height, twice that of the inlet

    def places(flow: Flow) -> np.ndarray:
        x, found = flow.grid.x, []
        for u, last in ((flow.through_x[:, 0], 1), (flow.through_x[:, -1], 2)):
            at = np.flatnonzero(u[1:-1] * u[2:] < 0)[-last:] + 1
            found += [x[i] - u[i] * (x[i + 1] - x[i]) / (u[i + 1] - u[i]) for i in at]
        return np.array(found)

    fine, coarse = places(step._field.flow), places(step._coarse_field.flow)
    assert fine + (fine - coarse) / 3 == pytest.approx([6.10, 4.85, 10.48], rel=0.01)


@pytest.mark.parametrize("D", [0.0, 1e-3, 0.1])
def test_the_scheme_is_of_second_order(D: float) -> None:
    """A solution that is made up, in a flow that is made up, on graded grids with jumps of the spacing."""
    errors = []
    for n in (20, 40, 80):
        grid = Grid(lines_through([0, 0.4, 1], n, 2.0), lines_through([0, 0.7, 1], n, 2.0))
        X, Y = np.meshgrid(grid.x, grid.y, indexing="ij")
        flow = Flow(grid, Y + 0.3 * np.sin(np.pi * X) * np.sin(np.pi * Y) / np.pi)
        transport = Transport(flow, np.zeros((grid.nx + 1, grid.ny), bool), np.zeros((grid.nx, grid.ny + 1), bool))
        x, y = np.meshgrid(*grid.middle, indexing="ij")
        s, c, p = np.sin, np.cos, np.pi
        exact = 2 + s(p * x / 2) * c(p * y)
        made = (1 + 0.3 * s(p * x) * c(p * y)) * p / 2 * c(p * x / 2) * c(p * y)
        made += 0.3 * c(p * x) * s(p * y) * p * s(p * x / 2) * s(p * y)
        made += D * 1.25 * p**2 * s(p * x / 2) * c(p * y)
        fed = 2 - D * p / 2 * c(p * grid.middle[1])  # what is carried in, less what diffuses against it
        found = transport.steady(D, [fed, 0.0, 0.0, 0.0], (made * grid.areas).ravel())
        assert found.change < 1e-10
        errors.append(np.sqrt(np.sum((found.c.reshape(x.shape) - exact) ** 2 * grid.areas)))
    orders = np.log2(np.array(errors[:-1]) / errors[1:])
    assert orders == pytest.approx([2.0, 2.0], abs=0.2)


@pytest.mark.parametrize("flow", ["potential", "creeping"])
@pytest.mark.parametrize("kind", ["corners", "baffles", "two of each", "island"])
def test_nothing_is_lost_and_the_mean_age_is_volume_over_flow(flow: str, kind: str) -> None:
    more: dict[str, Any] = {"corners": {}, "baffles": {"baffles": [
        mo.fields.Baffle(("1 m", "0 m"), ("1 m", "1.5 m")), mo.fields.Baffle(("2.5 m", "2 m"), ("2.5 m", "0.5 m"))]},
        "two of each": {"inlets": [mo.fields.Inlet("left", ("0 m", "0.5 m"), FEED),
                                   mo.fields.Inlet("bottom", ("2 m", "2.5 m"), mo.Feed({"B": "0.5 mol/L"}, flow="10 L/s"),
                                            "parabolic")],
                        "outlets": [mo.fields.Outlet("right", ("1.5 m", "2 m")), mo.fields.Outlet("top", ("0 m", "0.5 m"))]},
        "island": {"baffles": [mo.fields.Baffle(("2 m", "0.5 m"), ("2 m", "1.5 m")),
                               mo.fields.Baffle(("2 m", "1 m"), ("3 m", "1 m"))]}}[kind]  # fmt: skip
    vessel = basin(flow=flow, **more)
    run = vessel.run()
    assert max(run.closure.values()) < 1e-10
    field = run.inside["concentration of A"]
    assert field.min() > -1e-6 * 1000
    assert field.max() < 1000 * (1 + 1e-6)
    fed = 20e-3 if kind != "two of each" else 30e-3
    assert sum(one["flow"] for one in run.outlets) == pytest.approx(fed, rel=1e-12)
    assert run.residence_time_si == pytest.approx(8 / fed)
    transport = vessel._field.transport
    leaving = sum(float(one.sum()) for one in transport.leaving(run.age.reshape(1, -1)))
    assert leaving / fed == pytest.approx(8 / fed, rel=1e-4)
    text = str(run)
    assert "on a finer grid" in text
    if kind == "island" and flow == "potential":
        psi, conditions = run.flow.psi, vessel.spec.conditions(run.grid)
        on_wall = psi[conditions.groups == 0]
        assert np.ptp(on_wall) == 0.0
        assert psi.min() < on_wall[0] < psi.max()  # it goes around on both sides


def test_both_limits_and_the_reaction_in_between() -> None:
    """Much diffusion is a stirred tank; a straight channel of potential flow without any is plug flow."""
    second = mo.Chemistry([mo.Reaction("2 A -> B", k="0.3 L/mol/min"), mo.Reaction("B -> C", k="0.1 1/min")])
    tank = mo.StirredTank(second, FEED, volume="8 m3").steady()
    mixed = basin(chemistry=second, diffusivity="100 m2/s").run()
    assert [mixed.left[s] for s in "ABC"] == pytest.approx([tank.final[s].to("mol/m^3") for s in "ABC"], rel=1e-4)
    channel = {
        "inlets": mo.fields.Inlet("left", ("0 m", "2 m"), FEED),
        "outlets": mo.fields.Outlet("right", ("0 m", "2 m")),
    }
    plug = mo.PlugFlow(second, FEED, volume="8 m3").run()
    run = basin(chemistry=second, diffusivity=None, cells=(80, 4), **channel).run()
    assert [run.left[s] for s in "ABC"] == pytest.approx([plug.final[s].to("mol/m^3") for s in "ABC"], rel=1e-3)
    alike = basin(chemistry=second).run()
    apart = basin(chemistry=second, diffusivity={"A": "1e-4 m2/s", "B": "1.0001e-4 m2/s", "C": "1e-4 m2/s"}).run()
    assert [apart.left[s] for s in "ABC"] == pytest.approx([alike.left[s] for s in "ABC"], rel=2e-3)
    across = alike.across(x=2.0)
    assert len(across) == alike.grid.ny
    with pytest.raises(mo.InputError, match="one x or at one y"):
        alike.across()


def test_a_tracer_finds_the_corners_and_reacts_as_the_field_does() -> None:
    """In and out in opposite corners: dead corners and a long tail; segregated first order as in the field itself."""
    vessel = basin(flow="creeping", cells=(48, 24))
    seen: list[float] = []
    curve = vessel.distribution(steps=300, progress=seen.append)
    run = vessel.run()
    tau = run.residence_time_si
    assert curve.raw[0] == pytest.approx(tau, rel=1e-4)
    assert np.trapezoid(1 - curve.F, curve.times) == pytest.approx(tau, rel=0.03)
    assert curve.F[-1] > 0.98
    assert "cut" in curve.notes
    assert run.stagnant_fraction > 0.05
    assert run.age.max() > 3 * tau
    conversion = 1 - float(np.trapezoid(np.exp(-0.2 / 60 * curve.times) * curve.E, curve.times))
    assert conversion == pytest.approx(run.conversion("A"), abs=0.01)
    assert seen[-1] == 1.0
    straight = basin(
        inlets=mo.fields.Inlet("left", ("0 m", "2 m"), FEED), outlets=mo.fields.Outlet("right", ("0 m", "2 m"))
    ).run()
    assert straight.stagnant_fraction == 0.0


def test_over_time_it_comes_to_its_steady_state() -> None:
    second = mo.Chemistry([mo.Reaction("2 A -> B", k="0.3 L/mol/min"), mo.Reaction("B -> C", k="0.1 1/min")])
    vessel = basin(chemistry=second, flow="creeping")
    run = vessel.follow("4 h", contents={"C": "0.2 mol/L"}, steps=120, points=5)
    rest = vessel.run()
    for s in "ABC":
        assert run.outlet[f"concentration of {s}"][-1] == pytest.approx(rest.left[s], rel=5e-3)
        assert min(row.min() for row in run.inside.values()) > -1e-3
    assert run.inside["concentration of A"].shape == (5, rest.grid.nx, rest.grid.ny)
    assert 0 < run.settling_times()["concentration of C"] < 4 * 3600
    assert list(run.field_table(0.0).columns)[:2] == ["x [m]", "y [m]"]


@pytest.mark.parametrize(("more", "words"), [
    ({"inlets": ()}, "no inlet"),
    ({"outlets": mo.fields.Outlet("right", ("1.5 m", "3 m"))}, "is not on its side"),
    ({"outlets": mo.fields.Outlet("left", ("0.2 m", "1 m"))}, "overlaps"),
    ({"baffles": [mo.fields.Baffle(("1 m", "0 m"), ("1 m", "2 m"))]}, "separates an inlet"),
    ({"flow": "laminar"}, "needs the viscosity"),
    ({"diffusivity": {"X": "1e-9 m2/s"}}, "unknown species X"),
    ({"cells": (1, 2)}, "whole numbers"),
    ({"moving": {"top": "1 m/s"}}, "cannot have a moving side"),
    ({"inlets": [mo.fields.Inlet("left", (0, 0.5), mo.Feed({"A": "1 mol/L"}, flow="1 L/s", T=T)) if T < 310 else
                 mo.fields.Inlet("top", (0, 0.5), mo.Feed({"A": "1 mol/L"}, flow="1 L/s", T=T)) for T in (300, 320)]},
     "different temperatures"),
    ({"outlets": [mo.fields.Outlet("right", (0, 0.5), 0.7), mo.fields.Outlet("right", (1, 1.5), 0.7)]}, "add up to 1"),
    ({"inlets": mo.fields.Inlet("left", (0, 0.5), mo.Feed({"A": "1 mol/s"}, T="400 K", P="2 bar"))}, "constant density"),
])  # fmt: skip
def test_what_is_wrong_is_said(more: dict[str, Any], words: str) -> None:
    with pytest.raises(mo.InputError, match=words):
        basin(**more)


@settings(max_examples=6, deadline=None)
@given(
    low=_TENTHS, wide=st.sampled_from([0.2, 0.35, 0.6]), side=st.sampled_from(["right", "top", "left"]),
    place=_TENTHS, wall=st.sampled_from([0.3, 0.9, 1.5]), flow=st.sampled_from(["potential", "creeping"]),
    D=st.floats(-6.0, -2.0), grading=st.floats(1.0, 6.0), order=st.sampled_from([1, 2]),
)  # fmt: skip
def test_any_openings_and_walls_keep_what_is_fed(
    low: float, wide: float, side: str, place: float, wall: float, flow: str, D: float, grading: float, order: int
) -> None:
    """Whatever stands where: elements close, the mean age at the outlet is the volume over the flow, nothing overshoots."""
    if side == "left" and not (place + wide < low or place > low + wide):
        place = 1.4 if low < 0.8 else 0.0
        low = min(low, 0.7) if place == 1.4 else max(low, 0.7)
    law = mo.Reaction("A -> B", k="0.2 1/min") if order == 1 else mo.Reaction("2 A -> B", k="0.3 L/mol/min")
    vessel = basin(
        chemistry=mo.Chemistry(law), inlets=mo.fields.Inlet("left", (low, low + wide), FEED, "parabolic"),
        outlets=mo.fields.Outlet(side, (place, place + wide)), baffles=[mo.fields.Baffle((2.2, 0), (2.2, wall))],
        diffusivity=10.0**D, flow=flow, grading=grading, cells=(18, 12),
    )  # fmt: skip
    run = vessel.run()
    assert max(run.closure.values()) < 1e-10
    field = run.inside["concentration of A"]
    assert field.min() > -1e-3
    assert field.max() < 1000 * (1 + 1e-3)
    transport = vessel._field.transport
    leaving = sum(float(one.sum()) for one in transport.leaving(run.age.reshape(1, -1)))
    assert leaving / 20e-3 == pytest.approx(400.0, rel=1e-4)
    assert 0 < run.conversion("A") < mo.PlugFlow(vessel.chemistry, FEED, volume="8 m3").run().conversion("A") + 1e-3
    through = [np.abs(np.diff(run.flow.through_x, axis=0) + np.diff(run.flow.through_y, axis=1)).max()]
    assert through[0] < 1e-15


def test_a_channel_between_two_walls_has_the_profile_of_poiseuille() -> None:
    """Creeping and laminar: 6 (y/h)(1 - y/h) of the mean, some heights behind a uniform inlet; a lid drags half."""
    feed = mo.Feed({"A": "1 mol/L"}, flow="2 L/s", density="1000 kg/m3")
    for flow in ("creeping", "laminar"):
        channel = mo.fields.Basin(FIRST, length=6, width=1, depth=1, inlets=mo.fields.Inlet("left", (0, 1), feed),
                           outlets=mo.fields.Outlet("right", (0, 1)), flow=flow, viscosity="0.1 Pa*s", cells=(60, 24))  # fmt: skip
        y, u = channel._field.grid.middle[1], channel._field.flow.velocity[0][45]
        assert u == pytest.approx(2e-3 * 6 * y * (1 - y), abs=2e-3 * 0.01)
    assert channel.Reynolds == pytest.approx(20)
    slow = mo.Feed({"A": "1 mol/L"}, flow="0.5 L/s")
    dragged = mo.fields.Basin(FIRST, length=6, width=1, depth=1, inlets=mo.fields.Inlet("left", (0, 1), slow),
                       outlets=mo.fields.Outlet("right", (0, 1)), flow="creeping", moving={"top": "1 mm/s"}, cells=(60, 24))  # fmt: skip
    y, u = dragged._field.grid.middle[1], dragged._field.flow.velocity[0][45]
    assert u == pytest.approx(1e-3 * y, abs=2e-5)  # what the lid drags along is just what is fed


def test_shares_and_pressures_split_what_flows_out() -> None:
    """Given shares are kept; alike outlets at one pressure share alike, a farther one takes less."""
    both = [mo.fields.Outlet("top", ("3.5 m", "4 m"), 0.3), mo.fields.Outlet("right", ("0 m", "0.5 m"))]
    run = basin(outlets=both).run()
    assert [one["flow"] / 20e-3 for one in run.outlets] == pytest.approx([0.3, 0.7], rel=1e-12)
    middle = {"inlets": mo.fields.Inlet("left", ("0.75 m", "1.25 m"), FEED)}
    even = basin(
        **middle, outlets=[mo.fields.Outlet("right", ("0 m", "0.5 m")), mo.fields.Outlet("right", ("1.5 m", "2 m"))]
    ).run()
    assert even.outlets[0]["flow"] == pytest.approx(even.outlets[1]["flow"], rel=1e-9)
    near = basin(
        **middle, outlets=[mo.fields.Outlet("top", ("0.5 m", "1 m")), mo.fields.Outlet("top", ("3 m", "3.5 m"))]
    ).run()
    assert near.outlets[0]["flow"] > 1.5 * near.outlets[1]["flow"]
    assert near.outlets[0]["A"] > near.outlets[1]["A"]
    assert "flow of outlet 2" in near.facts()
    assert max(near.closure.values()) < 1e-10
    read = near.to_dict()
    assert read["conversion_of_A"]["grid_error"] >= 0
    assert read["cells"] == [near.grid.nx, near.grid.ny]


def test_a_laminar_flow_does_not_depend_on_where_the_search_for_it_began() -> None:
    """From the flow on half the lines, and from the creeping one: the same to the digits of Newton's method."""
    feed = mo.Feed({"A": "1 mol/L"}, flow="10 L/s", density="1000 kg/m3")
    vessel = mo.fields.Basin(
        FIRST, length=3, width=1, depth=1, inlets=mo.fields.Inlet("left", (0, 0.3), feed, "parabolic"),
        outlets=[mo.fields.Outlet("right", (0.7, 1)), mo.fields.Outlet("top", (1, 1.3))],
        baffles=[mo.fields.Baffle((1.5, 0), (1.5, 0.5)), mo.fields.Baffle((2.2, 0.4), (2.2, 0.6))],
        flow="laminar", viscosity="0.1 Pa*s", cells=(40, 20),
    )  # fmt: skip
    grid = vessel.spec.grid
    problem = FlowProblem(grid, vessel.spec.conditions(grid))
    nu = vessel.spec.kinematic_viscosity
    from_rest, from_coarse = problem.laminar(nu), problem.laminar(nu, vessel._coarse_field.flow)
    assert from_coarse.psi == pytest.approx(from_rest.psi, abs=1e-9 * float(np.ptp(from_rest.psi)))
    assert from_coarse.iterations <= from_rest.iterations
    run = vessel.run()
    assert max(run.closure.values()) < 1e-10
    assert sum(one["flow"] for one in run.outlets) == pytest.approx(10e-3, rel=1e-12)
    assert "Reynolds number of the inlet" in run.facts()


@pytest.mark.parametrize("flow", ["potential", "creeping"])
def test_without_diffusion_concentrations_and_E_stay_physical(flow: str) -> None:
    """From corner to corner on 40 x 40 cells: nothing below zero, nothing above the feed, and E falls behind its peak."""
    chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 m3/h")
    basin = mo.fields.Basin(
        chem, inlets=mo.fields.Inlet("left", ("0 m", "0.025 m"), feed), outlets=mo.fields.Outlet("right", ("0.975 m", "1 m")),
        length="1 m", width="1 m", depth="1 m", flow=flow, cells=(40, 40),
    )  # fmt: skip
    for run in (basin.run(), basin.follow("2 h", steps=60)):
        low = min(float(field.min()) for field in run.inside.values())
        high = max(float(field.max()) for field in run.inside.values())
        assert low > -1e-3
        assert high < 1000.01
    E = basin.distribution().E
    falling = E[int(np.argmax(E)) :]
    assert np.diff(falling).max() < 2e-3 * E.max()
    assert (falling > 0).all()


def test_a_steady_field_has_no_negative_concentration_and_is_that_of_a_start_up() -> None:
    """Newton's method finds a field with -850 mol/m3 from the feed; the start-up leads to the other one."""
    chem = mo.Chemistry([mo.Reaction("A -> B", k="0.02 1/s"), mo.Reaction("B + D -> C", k="0.05 L/mol/s")])
    feed = mo.Feed({"A": "1 mol/L", "D": "0.2 mol/L"}, flow="20 L/s")
    basin = mo.fields.Basin(chem, length="4 m", width="2 m", depth="1 m", inlets=mo.fields.Inlet("left", ("0 m", "0.5 m"), feed),
                     outlets=mo.fields.Outlet("right", ("1.5 m", "2 m")), cells=(16, 16), diffusivity="0.1 m2/s")  # fmt: skip
    run, start = basin.run(), basin.follow("60 min", contents={"B": "1 mol/L"}, steps=400)
    assert min(rows.min() for rows in run.inside.values()) > 0
    assert start.conversion("D") == pytest.approx(run.conversion("D"), rel=1e-5)
    assert all(check.is_passed for check in (*run.checks, *start.checks, *basin.distribution().checks))
    assert {"balances of A + B + C, D + C closed", "D + C bounded by the feeds"} <= {c.name for c in start.checks}
    assert run.coarse is not None
    assert start.grid_error < 1e-3
