"""Decisions from end to end: what commands print and write, what results hold, and laws that hold for any numbers."""

from __future__ import annotations

import copy
import itertools
import json
import math
import pickle
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

import molino as mo

FEED = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")


def series(k1: float, k2: float, order: int = 1) -> mo.Chemistry:
    second = mo.Reaction("B -> C", k=k2) if order == 1 else mo.Reaction("2 B -> C", rate="k*[B]^2", k=k2 / 1000)
    return mo.Chemistry([mo.Reaction("A -> B", k=k1), second])


@settings(max_examples=4, deadline=None)
@given(st.floats(1e-3, 1e-2), st.floats(1e-3, 1e-2), st.sampled_from([1, 2]))
def test_a_region_holds_every_tank_and_tube_and_its_trains_reach_it(k1: float, k2: float, order: int) -> None:
    chemistry = series(k1, k2, order)
    region = mo.attainable(chemistry, FEED, axes=("conversion of A", "yield of B on A"))
    assert region.contains(region.fed)
    for cls, size in itertools.product((mo.PlugFlow, mo.StirredTank), (0.1, 1.0, 5.0)):
        run = cls(chemistry, FEED, space_time=size / k1).run()
        assert region.distance((run.conversion("A"), run.yield_of("B", on="A"))) < 2e-3
    for weight in (0.3, 1.0, 3.0):
        best = region.best(f"yield of B on A + {weight}*conversion of A - conversion of A")
        assert best.reached == pytest.approx(best.point, rel=1e-2, abs=1e-3)
        value = best.point[1] + (weight - 1) * best.point[0]
        assert value >= (region.vertices[:, 1] + (weight - 1) * region.vertices[:, 0]).max() - 1e-9


@settings(max_examples=4, deadline=None)
@given(st.floats(40.0, 70.0), st.floats(75.0, 110.0), st.floats(5.0, 20.0))
def test_more_freedom_is_never_worse(first: float, second: float, minutes: float) -> None:
    """One temperature, two pieces, four pieces, any course: each holds the one before it."""
    reactions = [mo.Reaction("A -> B", k=mo.Arrhenius(k="0.2 1/min", at="340 K", Ea=f"{first} kJ/mol")),
                 mo.Reaction("B -> C", k=mo.Arrhenius(k="0.1 1/min", at="340 K", Ea=f"{second} kJ/mol"))]  # fmt: skip
    batch = mo.Batch(mo.Chemistry(reactions), {"A": 1e3}, T=340.0, time=f"{minutes} min")
    bounds = (320.0, 370.0)
    asked: list[Any] = [bounds, *(mo.FreeProfile(*bounds, pieces=n, kind="constant") for n in (2, 4)),
                        mo.FreeProfile(*bounds)]  # fmt: skip
    found = [mo.optimize(batch, maximize="yield of B on A", free={"T": free}, n_starts=1) for free in asked]
    values = [best.value for best in found]
    assert all(after >= before - 2e-6 for before, after in itertools.pairwise(values))
    profile = found[-1].profiles[0]
    assert (profile.values >= 320.0 - 1e-9).all()
    assert (profile.values <= 370.0 + 1e-9).all()
    assert found[-1].first_order < 5e-3
    for arc in profile.arcs:  # what leaving a bound over its arc would gain, as a share of the objective
        own = profile.switching[(profile.switching_times > arc.begin) & (profile.switching_times < arc.end)]
        share = own.mean() * (arc.end - arc.begin) * 50.0 / values[-1]
        if "upper" in arc.kind:
            assert share > -5e-4
        if "lower" in arc.kind:
            assert share < 5e-4


def test_results_can_be_kept_printed_and_drawn(tmp_path: Path) -> None:
    chemistry = series(0.2 / 60, 0.1 / 60)
    region = mo.attainable(chemistry, FEED, axes=("conversion of A", "yield of B on A"))
    best = region.best("yield of B on A")
    ranking = mo.recommend(chemistry, FEED, maximize="yield of B on A", target="conversion of A >= 0.6")
    batch = mo.Batch(mo.Chemistry(mo.Reaction("A -> B", rate="u*[A]"), constants={"u": 1.0}), {"A": 1.0}, time=1.0)
    optimum = mo.optimize(batch, maximize="conversion of A", free={"u": mo.FreeProfile(0, 2)}, n_starts=1)
    assert optimum.value == pytest.approx(1 - math.exp(-2.0), rel=1e-8)
    results: list[Any] = [region, best, ranking, optimum]
    for result in results:
        assert str(pickle.loads(pickle.dumps(result))) == str(result)
        assert str(copy.deepcopy(result)) == str(result)
        json.dumps(result.to_dict())
        assert len(result.table()) > 0
    assert "at its upper bound 2" in str(optimum)
    figure = mo.figures.attainable(region, best)
    assert [text.get_text() for text in figure.legends[0].get_texts()] == ["tube", "mixing", "feed", "best"]
    assert figure.axes[0].get_xlabel() == "conversion of A"
    bars = mo.figures.recommendation(ranking)
    assert [t.get_text() for t in bars.axes[0].get_yticklabels()] == [a.name for a in ranking.arrangements if a.optimum]
    panels = mo.figures.optimum(optimum).axes
    assert [axes.get_ylabel() for axes in panels[:2]] == ["u", "switching function"]


def test_several_experiments_together_are_the_best_of_all_sets() -> None:
    """Chosen one after another and exchanged, they are as good as the best of every pair."""
    k = mo.Arrhenius(k=mo.Unknown("0.1 1/min"), at="330 K", Ea=mo.Unknown("60 kJ/mol"))
    chemistry = mo.Chemistry(mo.Reaction("A -> B", name="a", k=k))
    true, random = chemistry.with_values({"a.k": 0.12 / 60, "a.k.Ea": 65e3}), np.random.default_rng(0)
    times, runs = np.linspace(200, 2400, 6), []
    for T in (325.0, 335.0):
        exact = mo.Batch(true, {"A": 1e3}, T=T, time=2400.0).run(points=times).concentrations["A"][1:]
        runs.append(mo.Experiment(f"{T:g}", times, {"A": exact + random.normal(0, 10, 6)}, {"A": 1e3}, T))
    fit = mo.fit(chemistry, runs)
    plans: dict[str, Any] = {
        "T": [315.0, 330.0, 345.0],
        "charges": [{"A": 1e3}, {"A": 300.0}],
        "times": [[300.0, 900.0]],
    }
    for narrow in ("a.k", "a.k.Ea", "D", "A"):
        pair = fit.next_experiment(narrow, **plans, several=2)
        single = fit.next_experiment(narrow, **plans)
        assert pair.after < single.best.half_width < single.now
        count = len(single.candidates)
        names = [c.run.name for c in single.candidates]
        assert {run.name for run in pair.together} <= set(names)
        assert count == 6
        ordered = [c.half_width for c in single.candidates]
        assert ordered == sorted(ordered)
        whole = fit.next_experiment(narrow, **plans, several=4)
        assert whole.after < pair.after
    with pytest.raises(mo.InputError, match="several = 0"):
        fit.next_experiment("D", **plans, several=0)


def test_what_is_missing_or_wrong_in_a_decision_is_said(molino: Callable[..., Any], tmp_path: Path) -> None:
    job = tmp_path / "job.toml"
    base = '[reactions.r]\nequation = "A -> B"\nk = 0.1\n[feeds.f]\nflow = 1\ncontents = { A = 1 }\n'
    tube = '[vessels.t]\nkind = "plug flow"\nfeed = "f"\nvolume = 5\n'
    cases = {
        base: ("attainable", "there is no [attainable.NAME] table"),
        base + "\n": ("recommend", "there is no [recommend.NAME] table"),
        base + '[attainable.a]\nfeed = "g"\naxes = ["conversion of A", "yield of B on A"]\n': (
            "check", "unknown feed 'g'"
        ),
        base + '[attainable.a]\nfeed = "f"\naxes = ["conversion of A"]\n': ("check", "axes"),
        base + '[attainable.a]\nfeed = "f"\naxes = ["conversion of A", "conversion of Z"]\n': ("check", "'Z'"),
        base + '[recommend.a]\nfeed = "f"\n': ("check", "either maximize or minimize"),
        base + '[recommend.a]\nfeed = "f"\nmaximize = "conversion of A"\ntarget = "conversion of Z >= 1"\n': (
            "check", "'Z'"
        ),
        base + tube + '[size.s]\nvessel = "t"\nmetric = "conversion of A"\ntarget = 0.5\n'
        "[size.s.next]\ncharges = [{ A = 1 }]\ntimes = [[1, 2]]\n": ("size", "the constants are given"),
        base + tube + '[optimize.o]\nvessel = "t"\nmaximize = "conversion of A"\nfree = { "r.k" = { low = 1, high = 0.5 } }\n': (
            "check", "is not below"
        ),
    }  # fmt: skip
    for text, (command, expected) in cases.items():
        job.write_text(text)
        refused = molino(command, job)
        assert refused.exit_code == 2, refused.output
        assert expected in " ".join(refused.output.split()), (expected, refused.output)


def test_sizes_at_the_end_of_the_range_searched_are_stated() -> None:
    """A conversion without a limit on the volume only grows with it."""
    chem = mo.Chemistry(mo.Reaction("A -> B", k="0.001 1/min"))
    found = mo.recommend(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), maximize="conversion of A")
    tank = next(a for a in found.arrangements if a.name == "tank")
    assert tank.at_end == {"volume": "largest"}
    assert "(the largest that was searched)" in str(found)


def test_the_smallest_ignited_tank_is_found_far_below_the_scale_of_the_feed() -> None:
    """A cold autocatalytic feed of 330 K that warms by 40 K per mol/L: the tank is a twentieth of the tube."""
    k = mo.Arrhenius(k="5.1e-7 m3/mol/s", at="330 K", Ea="38.5 kJ/mol")
    chem = mo.Chemistry(mo.Reaction("A + B -> 2 B", rate="k*[A]*[B]", k=k, enthalpy="-158 kJ/mol"))
    feed = mo.Feed({"A": 600, "B": 0.1}, flow="2e-5 m3/s", T="330 K", heat_capacity="4 kJ/L/K")
    found = mo.recommend(chem, feed, minimize="volume", target="conversion of A >= 0.8", heat="adiabatic")
    tank = next(a for a in found.arrangements if a.name == "tank")
    alone = mo.size(mo.StirredTank(chem, feed, heat="adiabatic"), "conversion of A", 0.8)
    assert tank.volume <= alone.value * (1 + 1e-6)
