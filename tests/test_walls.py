"""What passes through walls: membranes and side feeds against closed forms, their accounts, jobs and faults."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from typer.testing import CliRunner, Result

import molino as mo

ROOT = Path(__file__).parents[1]
K, KM, AREA, Q, V = 0.3 / 60, 2e-5, 3.0, 1e-4, 0.06
CHEMISTRY = mo.Chemistry(mo.Reaction("A -> B", k="0.3 1/min"))
FEED = mo.Feed({"A": "2 mol/L"}, flow="6 L/min")
WALL = mo.Membrane({"B": "km*[B]"}, {"km": "2e-5 m/s"}, area="3 m2")


def test_a_permeating_product_follows_its_closed_form() -> None:
    """dB/dtau = k A - km a B of a liquid: B = A0 k/(a km - k) (e^(-k tau) - e^(-a km tau)); in a tank
    B = k tau A/(1 + km A_m tau/V)."""
    run = mo.PlugFlow(CHEMISTRY, FEED, volume="60 L", wall=WALL).run()
    tau, loss = V / Q, KM * AREA / V
    there = 2000 * K / (loss - K) * (np.exp(-K * tau) - np.exp(-loss * tau))
    assert run.series["concentration of B"][-1] == pytest.approx(there, rel=1e-8)
    permeate = run.streams_out()[1]
    assert permeate.amounts["B"] == pytest.approx(Q * (2000 * (1 - np.exp(-K * tau)) - there), rel=1e-8)
    tank = mo.StirredTank(CHEMISTRY, FEED, volume="60 L", wall=WALL).steady()
    left = 2000 / (1 + K * tau)
    assert tank.series["concentration of B"][0] == pytest.approx(K * tau * left / (1 + loss * tau), rel=1e-10)
    assert run.conversion("A") == pytest.approx(1 - np.exp(-K * tau), rel=1e-8)


def test_a_sweep_and_its_tube_come_to_the_same_concentration() -> None:
    """Two equal flows: the difference falls by exp(-2 km a tau), the mean stays."""
    wall = mo.Membrane(
        {"A": "km*([A] - [A]')"}, {"km": "2e-5 m/s"}, area="3 m2", sweep=mo.Feed({"B": 1.0}, flow="6 L/min")
    )
    still = mo.Chemistry(mo.Reaction("A -> B", k=1e-300))
    run = mo.PlugFlow(still, FEED, volume="60 L", wall=wall).run()
    wanted = 1000 * (1 + np.exp(-2 * KM * AREA / V * V / Q))
    assert run.series["concentration of A"][-1] == pytest.approx(wanted, rel=1e-8)
    assert [s.name for s in run.streams_in()] == ["feed", "sweep"]
    assert max(run.closure.values()) < 1e-12


def test_hydrogen_through_a_wall_lets_an_equilibrium_go_further() -> None:
    """A <=> B + C: with the permeance large, p_C beyond the wall is p_C within, and the equilibrium holds with both
    sides' C; without it with that of the tube alone."""
    law = mo.Reaction("A <=> B + C", k="50 1/s", K="20 mol/m3")
    gas = mo.Feed({"A": "1 mol/s"}, T="500 K", P="5 bar")
    chem = mo.Chemistry(law, species=["N"])
    wall = mo.Membrane(
        {"C": "L*(p[C] - p[C]')"}, {"L": "1e-2 mol/m2/s/Pa"}, sweep=mo.Feed({"N": "2 mol/s"}, T="500 K", P="5 bar"),
        area="4 m2",
    )  # fmt: skip
    long = mo.PlugFlow(chem, gas, volume="2 m3", wall=wall)
    run = long.run()
    inside, beyond = (s.amounts for s in run.streams_out())
    shares = [s["C"] / sum(s.values()) for s in (inside, beyond)]
    pressure = run.streams_out()[1].P
    assert pressure == pytest.approx(5e5)
    assert shares[0] == pytest.approx(shares[1], rel=1e-5)
    c = 5e5 / (8.314462618 * 500) / sum(inside.values())
    assert inside["B"] * inside["C"] * c / inside["A"] == pytest.approx(20.0, rel=1e-5)
    assert run.metric("conversion of A") > long.with_(wall=None).run().metric("conversion of A") + 0.1


def test_a_feed_along_a_tube_follows_its_closed_form() -> None:
    """d(Q c)/dV = q c_s - k c, Q = Q0 + q V: F = q c_s/(q + k) Q + (F0 - q c_s/(q + k) Q0) (Q/Q0)^(-k/q)."""
    side = mo.DistributedFeed(mo.Feed({"A": "1 mol/L"}, flow="3 L/min"))
    tube = mo.PlugFlow(CHEMISTRY, FEED, volume="60 L", side=side)
    run = tube.run()
    q = 5e-5 / V
    out, steady = Q + q * V, q * 1000 / (q + K)
    wanted = steady * out + (0.2 - steady * Q) * (out / Q) ** (-K / q)
    assert run.stream_out().amounts["A"] == pytest.approx(wanted, rel=1e-8)
    assert run.residence_time_si == pytest.approx(np.log(out / Q) / q, rel=1e-8)
    assert max(run.closure.values()) < 1e-12
    size = mo.size(tube.with_(volume=None), "conversion of A", 0.8)
    assert tube.with_(volume=size.vessel.volume).run().metric("conversion of A") == pytest.approx(0.8, rel=1e-6)


def test_the_numbers_of_a_membrane_are_settings() -> None:
    tube = mo.PlugFlow(CHEMISTRY, FEED, volume="60 L", wall=WALL)
    tank = mo.StirredTank(CHEMISTRY, FEED, volume="60 L", wall=WALL)
    for one in (tube, tank):
        exact = one.run().sensitivity("concentration of B", ["membrane area", "membrane km"])
        for name, at in (("membrane area", AREA), ("membrane km", KM)):
            values = [one.with_({name: at * f}).run().series["concentration of B"][-1] for f in (1 + 1e-4, 1 - 1e-4)]
            assert exact[name] == pytest.approx((values[0] - values[1]) / (2e-4 * at), rel=1e-5)
        found = mo.sweep(one, {"membrane area": ["3 m2", "4 m2"]}, ["concentration of B"])
        changed = one.with_({"membrane area": "4 m2"}).run().series["concentration of B"][-1]
        assert found.table().iloc[1, 1] == pytest.approx(changed / 1000, rel=1e-7)


JOB = """
[reactions.r]
equation = "A -> B"
k = "0.3 1/min"
[feeds.f]
contents = { A = "2 mol/L" }
flow = "6 L/min"
[vessels.tube]
kind = "plug flow"
feed = "f"
volume = "60 L"
side = "f"
wall = { flux = { B = "km*([B] - [B]')" }, constants = { km = "2e-5 m/s" }, outside = { B = 0.1 }, area = "3 m2" }
[units]
concentration = "mol/L"
"""


def test_a_job_says_the_same(tmp_path: Path, molino: Callable[..., Result]) -> None:
    path = tmp_path / "job.toml"
    path.write_text(JOB)
    wall = mo.Membrane({"B": "km*([B] - [B]')"}, {"km": "2e-5 m/s"}, {"B": "0.1 mol/L"}, area="3 m2")
    same = mo.PlugFlow(CHEMISTRY, FEED, volume="60 L", wall=wall, side=mo.DistributedFeed(FEED))
    (one,) = mo.load_job(path).vessels.values()
    amounts = [s.amounts for s in one.run().streams_out()]
    assert amounts == [pytest.approx(s.amounts) for s in same.run().streams_out()]
    content = molino("run", path).output
    for part in ("tube, permeate", "tube, side feed"):
        assert part in content


def test_a_tank_that_loses_more_than_it_is_fed_is_reported() -> None:
    gas = mo.Feed({"A": "1 mol/s"}, T="500 K", P="5 bar")
    wall = mo.Membrane({s: f"L*p[{s}]" for s in "AB"}, {"L": "1e-5 mol/m2/s/Pa"}, area="1 m2")
    tank = mo.StirredTank(CHEMISTRY, gas, volume="1 m3", wall=wall)
    for task in (tank.steady, lambda: tank.run("1 min")):
        with pytest.raises(mo.SolveError, match="equals or exceeds the feed"):
            task()
    assert tank.with_({"membrane area": "0.1 m2"}).steady().stream_out().volume > 0


def test_all_that_is_wrong_with_a_wall_in_a_job_is_reported_together(
    tmp_path: Path, molino: Callable[..., Result]
) -> None:  # fmt: skip
    path = tmp_path / "job.toml"
    path.write_text(JOB.replace('side = "f"', 'side = "g"').replace('"3 m2"', '"3 m"').replace("2e-5 m/s", "2e-5 m"))
    result = molino("check", path)
    assert result.exit_code == 2
    for part in ("unknown feed 'g'", "is not an area", "needs it in m/s"):
        assert part in " ".join(result.output.split())


WRONG: list[tuple[Callable[[], Any], str]] = [
    (lambda: mo.Membrane({}), "no flux is given"),
    (lambda: mo.Membrane({"B": "km*[B]"}), "the constant km has no value"),
    (lambda: mo.Membrane({"B": "km*[B]"}, {"km": "2 1/s"}), "needs it in m/s"),
    (lambda: mo.Membrane({"B": "km*([B] - [B]')"}, {"km": "2 m/s"}), "beyond the wall is not given"),
    (lambda: mo.Membrane({"B": "km*[B]"}, {"km": "2 m/s", "L": 1.0}), "no flux uses the constant L"),
    (lambda: mo.Membrane({"B": "km*[B]"}, {"km": "2 m/s"}, {"A": 1.0}), "no flux uses A there"),
    (lambda: mo.Membrane({"B": "km*[B]"}, {"km": mo.Unknown(1.0)}), "is not fitted"),
    (lambda: mo.Membrane({"B": "a*[B]' + b*p[B]'"}, {"a": 1.0, "b": 1.0}, {"B": 1.0}), "in two forms"),
    (lambda: mo.PlugFlow(CHEMISTRY, FEED, volume=1.0, wall=3), "is not a membrane"),
    (lambda: mo.PlugFlow(CHEMISTRY, FEED, volume=1.0, side=FEED), "is not a side feed"),
    (lambda: mo.PlugFlow(CHEMISTRY, FEED, volume=1.0, wall=mo.Membrane({"C": "k*[C]"}, {"k": 1.0}, area=1.0)),
     "no species C"),
    (lambda: mo.PlugFlow(CHEMISTRY, FEED, volume=1.0, wall=mo.Membrane({"B": "k*[B]"}, {"k": 1.0})),
     "the area of the membrane is unknown"),
    (lambda: mo.PlugFlow(CHEMISTRY, FEED, volume=1.0, wall=mo.Membrane({"B": "k*p[B]"}, {"k": 1.0}, area=1.0)),
     "uses pressures"),
    (lambda: mo.StirredTank(CHEMISTRY, FEED, volume=1.0, wall=mo.Membrane({"B": "k*[B]"}, {"k": 1.0})),
     "the area is not given"),
    (lambda: mo.Train([mo.StirredTank(CHEMISTRY, FEED, volume=1.0, wall=WALL)]), "which a train does not support"),
    (lambda: mo.Reaction("A -> B", rate="k*[A]'", k=1.0), "other side of a membrane"),
    (lambda: mo.DistributedFeed(3), "is not a feed"),
]  # fmt: skip


@pytest.mark.parametrize(("make", "content"), WRONG)
def test_what_is_wrong_with_a_wall_is_reported(make: Callable[[], Any], content: str) -> None:
    with pytest.raises(mo.InputError, match=re.escape(content)):
        make()


def test_the_worked_examples_of_a_term_a_vessel_and_a_command_run() -> None:
    """A stirred tank with a permeable wall, outside the library, does everything that vessels of the library do."""
    blocks = re.findall(r"```python\n(.*?)```", (ROOT / "CONTRIBUTING.md").read_text(), re.DOTALL)
    names: dict[str, Any] = {}
    for block in blocks:
        exec(compile(block, "CONTRIBUTING.md", "exec"), names)
    job = ROOT / "src" / "molino" / "demo" / "valdeoro.toml"
    done = CliRunner().invoke(names["app"], ["reactants", str(job), "--json"])
    names["app"].registered_commands.pop()
    assert json.loads(done.output)["coil"][0] == "xylose"
    tank = names["tank"]
    run = tank.steady()
    assert run.series["concentration of B"][0] == pytest.approx(1500 / 1.6, rel=1e-10)
    assert max(run.closure.values()) < 1e-12
    assert [s.name for s in run.streams_out()] == ["outlet", "permeate"]
    exact = run.sensitivity("concentration of B", ["permeance"])["permeance"]
    assert exact == pytest.approx(-1500 / 1.6**2 / 1e-4, rel=1e-9)
    assert mo.size(tank, "concentration of B", "0.9 mol/L").vessel.volume.si == pytest.approx(0.36 / 7, rel=1e-8)
    assert tank.run("3 h").series["concentration of B"][-1] == pytest.approx(1500 / 1.6, rel=1e-6)
    assert "PA" in str(tank.equations())
