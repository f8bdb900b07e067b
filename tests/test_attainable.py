"""Attainable regions against closed forms and random trains; recommendations against what is known to be best."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.integrate import quad, solve_ivp
from scipy.optimize import minimize_scalar
from typer.testing import CliRunner

import molino as mo
from molino.desk.cli import app

VAN_DE_VUSSE = [mo.Reaction("A -> B", k="1 1/min"), mo.Reaction("B -> C", k="1 1/min"),
                mo.Reaction("2 A -> D", rate="k*[A]^2", k="5 L/mol/min")]  # fmt: skip
FEED = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
CONCENTRATIONS = ("concentration of A", "concentration of B")


@pytest.fixture(scope="module")
def region() -> mo.results.AttainableRegion:
    return mo.attainable(mo.Chemistry(VAN_DE_VUSSE), FEED, axes=CONCENTRATIONS)


def _most_of_b() -> float:
    """The most of B from a tank followed by a tube, by an integration of its own (mol/L)."""

    def after(a: float) -> float:
        tau = (1 - a) / (a + 10 * a * a)
        b = tau * a / (1 + tau)
        found = solve_ivp(lambda t, y: [-y[0] - 10 * y[0] ** 2, y[0] - y[1]], (0, 3), [a, b], rtol=1e-11, atol=1e-13,
                          events=lambda t, y: y[0] - y[1], max_step=0.01)  # fmt: skip
        return float(max(found.y[1].max(), *(y[1] for y in found.y_events[0]), b))

    best = minimize_scalar(lambda a: -after(a), bounds=(0.1, 0.9), method="bounded", options={"xatol": 1e-7})
    return float(-best.fun)


def test_van_de_vusse_by_a_tank_then_a_tube_with_a_mixing_line_from_the_feed(
    region: mo.results.AttainableRegion,
) -> None:
    assert region.dimensions == 2
    best = region.best("concentration of B")
    assert best.description == "tank, then tube"
    assert best.point[1] == pytest.approx(1e3 * _most_of_b(), rel=2e-4)
    assert best.reached == pytest.approx(best.point, rel=1e-2)
    mixed = region.best("concentration of B", subject_to=["concentration of A >= 0.6 mol/L"])
    assert mixed.reached == pytest.approx(mixed.point, rel=1e-2)
    assert "past all of it" in mixed.description or "by-pass" in mixed.description
    kinds = [
        kind for kind, before in zip(region.pieces, region.pieces[-1:] + region.pieces, strict=False) if kind != before
    ]
    assert set(kinds) == {"mixing", "tube"}


def test_no_train_of_many_lies_outside(region: mo.results.AttainableRegion) -> None:
    """What benchmarks/attainable.py does with 50 000."""
    chemistry, random = mo.Chemistry(VAN_DE_VUSSE), np.random.default_rng(1)

    def vessel() -> Any:
        cls = mo.PlugFlow if random.random() < 0.5 else mo.StirredTank
        return cls(chemistry, FEED, volume=1e-3 * 10 ** random.uniform(-2.5, 1))

    for _ in range(60):
        steps: list[Any] = [vessel() for _ in range(random.integers(1, 4))]
        if random.random() < 0.4:
            share = float(random.uniform(0.05, 0.95))
            steps.append(mo.Parallel([vessel(), vessel()], [share, 1 - share]))
        if random.random() < 0.4:
            side = mo.SideFeed(mo.Feed({"A": "1 mol/L"}, flow=FEED.flows[0].si * random.uniform(0.1, 1)))
            steps.insert(int(random.integers(1, len(steps) + 1)), side)
        run = mo.Train(steps, recycle=float(random.choice([0.0, random.uniform(0, 3)]))).run()
        assert region.distance([run.metric(axis) for axis in CONCENTRATIONS]) < 5e-3


def test_tubes_alone_are_best_where_the_product_reacts_on() -> None:
    chemistry = mo.Chemistry([mo.Reaction("A -> B", k="0.2 1/min"), mo.Reaction("B -> C", k="0.1 1/min")])
    region = mo.attainable(chemistry, FEED, axes=("conversion of A", "yield of B on A"))
    ratio = 0.5
    for x in (0.2, 0.75, 0.97):  # A^ratio - A over 1 - ratio
        exact = ((1 - x) ** ratio - (1 - x)) / (1 - ratio)
        assert abs(region.distance((x, exact))) < 2e-3
        assert not region.contains((x, exact + 0.01))
    best = region.best("yield of B on A", subject_to=["conversion of A >= 0.9"])
    assert best.description == "tube"
    assert best.run.yield_of("B", on="A") == pytest.approx((0.1**ratio - 0.1) / (1 - ratio), rel=1e-3)
    with pytest.raises(mo.UnreachableError, match="no train meets"):
        region.best("yield of B on A", subject_to=["yield of B on A >= 0.6"])
    with pytest.raises(mo.InputError, match="not an axis of the region"):
        region.best("yield of C on A")


def test_adiabatic_and_three_dimensional_regions() -> None:
    reactions = [
        mo.Reaction("A <-> B", rate="k1*[A] - k2*[B]", k1=mo.Arrhenius(A="1e7 1/min", Ea="50 kJ/mol"),
                    k2=mo.Arrhenius(A="5e12 1/min", Ea="90 kJ/mol"), enthalpy="-40 kJ/mol"),
        mo.Reaction("B -> C", k=mo.Arrhenius(A="1e8 1/min", Ea="70 kJ/mol"), enthalpy="-20 kJ/mol"),
    ]  # fmt: skip
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="310 K", heat_capacity="1 MJ/m3/K")
    hot = mo.attainable(mo.Chemistry(reactions), feed, axes=("conversion of A", "yield of B on A"), heat="adiabatic")
    best = hot.best("yield of B on A")
    assert best.reached == pytest.approx(best.point, rel=1e-2)
    chemistry = mo.Chemistry([mo.Reaction("A <-> B", rate="k1*[A] - k2*[B]", k1="0.01 1/s", k2="5 1/s"),
                              mo.Reaction("B -> C", k="10 1/s"),
                              mo.Reaction("2 A -> D", rate="k*[A]^2", k="100 L/mol/s")])  # fmt: skip
    flat = mo.attainable(chemistry, FEED, axes=CONCENTRATIONS)
    full = mo.attainable(chemistry, FEED, axes=(*CONCENTRATIONS, "concentration of D"))
    assert len(mo.figures.attainable(full, full.best("concentration of B")).axes) == 3
    assert {*full.table()["made by"]} == {"feed", "tube", "tank"}
    assert (flat.dimensions, full.dimensions) == (2, 3)
    most = [one.vertices[:, 1].max() for one in (flat, full)]
    assert most[1] == pytest.approx(most[0], rel=5e-3)  # its shadow is the region over two axes
    reached = full.best("concentration of B")
    assert reached.reached == pytest.approx(reached.point, rel=1e-2)


def test_a_region_tells_its_extent_and_how_it_grows(region: mo.results.AttainableRegion) -> None:
    seen: list[tuple[int, int]] = []
    again = mo.attainable(mo.Chemistry(VAN_DE_VUSSE), FEED, axes=CONCENTRATIONS,
                          progress=lambda rounds, points: seen.append((rounds, points)))  # fmt: skip
    assert again.vertices == pytest.approx(region.vertices)
    assert seen[0][0] == 1
    assert [points for _, points in seen] == sorted(points for _, points in seen)
    table = region.table()
    assert list(table.columns) == ["concentration of A [mol/L]", "concentration of B [mol/L]", "boundary"]
    assert table["concentration of A [mol/L]"].max() == pytest.approx(1.0)
    x, y = region.vertices.T
    shoelace = 0.5 * abs(float(x @ np.roll(y, -1) - y @ np.roll(x, -1)))
    assert region.area == pytest.approx(shoelace, rel=1e-9)
    assert region.distance(region.vertices.mean(axis=0)) < 0
    far = region.vertices.max(axis=0) * 2
    assert region.distance(far) > 0.5
    assert not region.contains(far)
    assert region.contains(region.fed)
    assert "independent concentrations" in str(region)


def test_questions_that_have_no_region_are_refused() -> None:
    chemistry = mo.Chemistry(VAN_DE_VUSSE)
    with pytest.raises(mo.InputError, match="does not mix linearly"):
        mo.attainable(chemistry, FEED, axes=("conversion of A", "selectivity of B over C"))
    with pytest.raises(mo.InputError, match="are not axes"):
        mo.attainable(chemistry, FEED, axes=("conversion of A",))
    with pytest.raises(mo.SolveError, match="no reaction starts in the feed"):
        mo.attainable(chemistry, mo.Feed({"C": "1 mol/L"}, flow="1 L/min"), axes=CONCENTRATIONS)
    with pytest.raises(mo.InputError, match="are not independent"):
        mo.attainable(mo.Chemistry(mo.Reaction("A -> B", k="1 1/min")), FEED, axes=CONCENTRATIONS)


def test_an_autocatalytic_reaction_asks_for_a_tank_and_then_a_tube() -> None:
    """The tank up to the highest rate, the tube behind it (O. Levenspiel, Chemical Reaction Engineering, chapter 6)."""
    feed = mo.Feed({"A": "1 mol/L", "B": "0.01 mol/L"}, flow="1 L/min")
    chemistry = mo.Chemistry(mo.Reaction("A + B -> 2 B", k="0.5 L/mol/min"))
    found = mo.recommend(chemistry, feed, minimize="volume", target="conversion of A >= 0.8")

    def rate(x: float) -> float:
        return 0.5 * (1 - x) * (0.01 + x)

    peak = 0.495
    exact = {
        "tube": quad(lambda x: 1 / rate(x), 0, 0.8)[0], "tank": 0.8 / rate(0.8),
        "tank, then tube": peak / rate(peak) + quad(lambda x: 1 / rate(x), peak, 0.8)[0],
    }  # fmt: skip

    def recycled(ratio: float) -> float:
        begin = ratio * 0.8 / (1 + ratio)
        return float((1 + ratio) * quad(lambda x: 1 / rate(x), begin, 0.8)[0])

    exact["tube with recycle"] = float(minimize_scalar(recycled, bounds=(0, 20), method="bounded").fun)
    assert found.best.name == "tank, then tube"
    volumes = {a.name: a.volume * 1e3 for a in found.arrangements}
    for name, volume in exact.items():
        assert volumes[name] == pytest.approx(volume, rel=1e-4), name
    assert math.isnan(volumes["batch"])
    assert "Back-mixing is an advantage" in found.why()
    assert "volume is not defined for a batch" in str(found)


def test_a_recommendation_carries_temperatures_and_intervals() -> None:
    k = mo.Arrhenius(k=mo.Unknown("0.1 1/min"), at="330 K", Ea=mo.Unknown("60 kJ/mol"))
    chemistry = mo.Chemistry([mo.Reaction("A -> B", name="a", k=k), mo.Reaction("B -> C", name="b", k="0.02 1/min")])
    true, random = chemistry.with_values({"a.k": 0.12 / 60, "a.k.Ea": 65e3}), np.random.default_rng(0)
    times, runs = np.linspace(200, 2400, 8), []
    for T in (320.0, 340.0):
        exact = mo.Batch(true, {"A": 1e3}, T=T, time=2400.0).run(points=times).concentrations["A"][1:]
        runs.append(mo.Experiment(f"{T:g}", times, {"A": exact + random.normal(0, 8, 8)}, {"A": 1e3}, T))
    fitted = mo.fit(chemistry, runs).chemistry
    found = mo.recommend(fitted, FEED, maximize="yield of B on A", target="conversion of A >= 0.9",
                         free={"T": ("310 K", "345 K")})  # fmt: skip
    first, tank = found.best, next(a for a in found.arrangements if a.name == "tank")
    assert first.name == "tube"
    assert first.optimum is not None
    assert tank.optimum is not None
    assert first.optimum.free[1].value == pytest.approx(345.0)  # the wanted reaction has the energy
    assert first.half_width is not None
    assert 0 < first.half_width < 0.2
    assert first.optimum.value > tank.optimum.value + 0.05
    with pytest.raises(mo.NotFoundError, match="no arrangement was found that meets the target"):
        mo.recommend(fitted, FEED, maximize="yield of B on A", target="yield of B on A >= 1.5",
                     free={"T": ("310 K", "345 K")})  # fmt: skip
    with pytest.raises(mo.InputError, match="either maximize or minimize"):
        mo.recommend(fitted, FEED)


def test_regions_and_recommendations_in_a_job(tmp_path: Path) -> None:
    job = tmp_path / "job.toml"
    job.write_text(
        '[units]\ntime = "min"\nconcentration = "mol/L"\nvolumetric_flow = "L/min"\n'
        '[reactions.wanted]\nequation = "A -> B"\nk = "0.2 1/min"\n'
        '[reactions.loss]\nequation = "B -> C"\nk = "0.1 1/min"\n'
        "[feeds.stream]\nflow = 1\ncontents = { A = 1 }\n"
        '[attainable.all]\nfeed = "stream"\naxes = ["concentration of A", "concentration of B"]\n'
        'maximize = "concentration of B"\nsubject_to = ["concentration of A <= 0.2"]\n'
        '[recommend.vessel]\nfeed = "stream"\nmaximize = "yield of B on A"\ntarget = "conversion of A >= 0.6"\n'
    )
    runner = CliRunner()
    region = runner.invoke(app, ["attainable", str(job), "--json"])
    assert region.exit_code == 0, region.output
    train = json.loads(region.stdout)["trains"]["all"]
    assert train["train"] == "tube"
    assert train["reached"]["concentration of A"] == pytest.approx(200, rel=1e-3)  # mol/m^3: the job's 0.2 mol/L
    ranking = runner.invoke(app, ["recommend", str(job), "--json"])
    assert ranking.exit_code == 0, ranking.output
    assert json.loads(ranking.stdout)["recommendations"]["vessel"]["recommended"] == "tube"
    for name in ("attainable-all", "recommend-vessel"):
        assert (tmp_path / "results" / "job" / f"{name}.png").is_file()
    job.write_text(
        job.read_text().replace('concentration of B"]', 'concentration of Q"]').replace("target = ", "goal = ")
    )
    refused = runner.invoke(app, ["check", str(job)])
    assert refused.exit_code == 2
    assert "'Q' is not a species" in refused.output or "unknown key 'goal'" in refused.output


def test_arrangements_that_are_adiabatic_have_feeds_of_their_own_temperatures() -> None:
    """Equilibrium falls as the bed warms up: part of the feed in between, cold, takes it back (O. Levenspiel, ch. 19)."""
    chemistry = mo.Chemistry(
        mo.Reaction("A <-> B", rate="k*([A] - [B]/K)", k=mo.Arrhenius(k="0.2 1/min", at="340 K", Ea="60 kJ/mol"),
                    K=mo.VantHoff(K=6.0, at="340 K", enthalpy="-70 kJ/mol"), enthalpy="-70 kJ/mol", name="r")
    )  # fmt: skip
    feed = mo.Feed({"A": "3 mol/L"}, flow="10 L/min", T="320 K", heat_capacity="4 MJ/m3/K")
    found = mo.recommend(chemistry, feed, minimize="volume", target="conversion of A >= 0.72", heat="adiabatic",
                         free={"T": ("300 K", "345 K")})  # fmt: skip
    able = {a.name: a.optimum for a in found.arrangements if a.optimum is not None}
    assert {a.name for a in found.arrangements} - {*able} == {"batch", "tube with a by-pass"}
    assert "no better than the tube" in next(a.reason for a in found.arrangements if a.name == "tube with a by-pass")
    cold, tube = able["tubes with a cold shot"], able["tube"]
    assert cold.value < 0.9 * tube.value
    numbers = {n.name: n.value for n in cold.free}
    assert cold.first_order < 1e-4
    assert numbers["side feed.T"] < numbers["feed T"] - 5
    assert cold.run.metric("volumetric flow") == pytest.approx(10e-3 / 60, rel=1e-9)
    assert cold.run.volume_si == pytest.approx(numbers["tube 1.volume"] + numbers["tube 2.volume"], rel=1e-9)
    assert cold.run.metric("conversion of A") == pytest.approx(0.72, rel=1e-6)
    assert max(cold.run.closure.values()) < 1e-9
