"""Feeds and charges specified in any combination, and ideal gases in the vessels."""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from hypothesis import assume, given, settings, strategies as st

import molino as mo
from molino.core.unit_tables import GAS_CONSTANT
from test_rate_laws import rows

PAIR = mo.Chemistry(mo.Reaction("A -> B", k="0.4 1/h"), species={"A": "CH4O", "B": "CH4O"})
INERT = {"A": "CH4O", "B": "H2O", "C": "CH2"}
MIX = mo.Chemistry(mo.Reaction("A -> B + C", k="0.4 1/h"), species=INERT)
MASS = {s.name: s.require("molar_mass", "this").si for s in MIX.species}


@pytest.mark.parametrize("row", rows("Feeds and charges"), ids=lambda row: row[0])
def test_each_feed_of_the_page_is_the_same(row: list[str]) -> None:
    feed: mo.Feed = eval(row[1], {"mo": mo})
    fed = mo.PlugFlow(MIX, feed, volume=1).spec.fed
    assert fed.volume == pytest.approx(1385.744 / 3600, rel=1e-5)
    assert fed.concentrations == pytest.approx({"A": 57.7307, "B": 14.4327}, rel=2e-5)


def test_a_flow_given_twice_in_agreement_is_no_contradiction() -> None:
    given = mo.Feed(dict.fromkeys(MASS, "1 mol/m3"), ["1 m3/s", f"{sum(MASS.values())!r} kg/s"], T=400.0)
    assert mo.PlugFlow(MIX, given, volume=1).spec.fed.volume == pytest.approx(1.0)


def ways(amounts: dict[str, float], volume: float, T: float) -> list[tuple[str | None, Any]]:
    """Everything that could be specified of a mixture: (species, text), or (None, total flow)."""
    moles = sum(amounts.values())
    mass = sum(n * MASS[s] for s, n in amounts.items())
    content: list[tuple[str | None, Any]] = [
        (None, f"{volume!r} m3/s"),
        (None, f"{moles!r} mol/s"),
        (None, f"{mass!r} kg/s"),
    ]
    for s, n in amounts.items():
        other = next(o for o in amounts if o != s)
        texts = [f"{n / volume!r} mol/m3", f"{n * MASS[s] / volume!r} g/L", f"{n!r} mol/s", f"{n * MASS[s]!r} kg/s",
                 f"{100 * n / moles!r} mol%", f"{n * MASS[s] / mass!r} kg/kg", f"{n / amounts[other]!r} per {other}",
                 f"{n * MASS[s] / amounts[other]!r} kg per mol {other}", f"{n * GAS_CONSTANT * T / volume!r} Pa", "rest"]  # fmt: skip
        content += [(s, text) for text in texts]
    return content


@settings(max_examples=150, deadline=None)
@given(st.data())
def test_whatever_settles_a_mixture_gives_that_mixture(data: st.DataObject) -> None:
    amounts = {s: data.draw(st.floats(0.1, 10.0)) for s in "ABC"}
    volume, T = data.draw(st.floats(0.01, 1.0)), 400.0
    everything = ways(amounts, volume, T)
    totals = data.draw(st.lists(st.sampled_from([t for s, t in everything if s is None]), max_size=2, unique=True))
    contents = {s: data.draw(st.sampled_from([t for o, t in everything if o == s])) for s in amounts}
    assume(sum(t == "rest" for t in contents.values()) <= 1)
    try:
        fed = mo.PlugFlow(MIX, mo.Feed(contents, totals, T=T), volume=1).spec.fed
    except mo.InputError as error:
        assert "not determined by" in str(error)  # too little was drawn; a contradiction there cannot be
        return
    assert fed.volume == pytest.approx(volume, rel=1e-6)
    assert fed.concentrations == pytest.approx({s: n / volume for s, n in amounts.items()}, rel=1e-6)


LIQUIDS = [
    mo.Species("A", "CH4O", density="0.79 kg/L"), mo.Species("B", "H2O", molar_volume="18 mL/mol"), mo.Species("C", "CH2"),
]  # fmt: skip


def test_volumes_of_liquids_and_densities() -> None:
    chemistry = mo.Chemistry(mo.Reaction("A -> B + C", k="0.4 1/h"), species=LIQUIDS)
    by_volumes = mo.PlugFlow(chemistry, mo.Feed({"A": "30 kmol/h", "B": "70 kmol/h"}), volume=1).spec.fed
    flow = 30e3 * 0.032042 / 790 + 70e3 * 18e-6
    assert by_volumes.volume * 3600 == pytest.approx(flow, rel=1e-9)
    by_density = mo.Batch(chemistry, {"A": "30 wt%", "B": "rest"}, total="2 t", density="0.95 kg/L")
    assert by_density.spec.fed.volume == pytest.approx(2000 / 950, rel=1e-9)
    assert by_density.run("1 h").conversion("A") == pytest.approx(1 - math.exp(-0.4), rel=1e-9)
    amounts = mo.Batch(chemistry, {"A": "2 kmol", "B": "3 per A"}, volume="4 m3")
    assert amounts.spec.fed.concentrations == pytest.approx({"A": 500.0, "B": 1500.0})


FEEDS: dict[str, tuple[Callable[[], Any], str]] = {
    "fractions short": (
        lambda: mo.Feed({"A": "0.3 mol/mol", "B": "0.5 mol/mol"}, "9 mol/s", T=400, P=1e5), "mole fractions add up to 0.8: A 0.3",
    ),
    "more than the whole": (lambda: mo.Feed({"A": "80 mol%", "B": "30 mol%", "C": "rest"}, "9 mol/s", T=400, P=1e5), "the rest is negative"),
    "no fraction": (lambda: mo.Feed({"A": "130 mol%"}, flow=1), "a fraction lies between 0 and 1"),
    "per cent of what": (lambda: mo.Feed({"A": "30 %"}, flow=1), "write mol% or wt%"),
    "two rests": (lambda: mo.Feed({"A": "rest", "B": "rest"}, flow=1), "only one species can be"),
    "per a stranger": (lambda: mo.Feed({"A": "3 per a", "B": 1}, flow=1), "is relative to a, which is not in the mixture"),
    "a ratio of lengths": (lambda: mo.Feed({"A": "3 m per mol B", "B": 1}, flow=1), "a ratio is of amounts or masses"),
    "flow and total contradict": (
        lambda: mo.Feed({"A": "2 mol/L"}, ["1 L/s", "3 mol/s"]), "the specifications contradict each other: volumetric flow 1 L/s; total 3",
    ),
    "pressures contradict": (lambda: mo.Feed({"A": "1 bar"}, 1, T=400, P="2 bar"), "A 1 bar; pressure 2 bar at 400"),
    "no flow": (lambda: mo.Feed({"A": 1}), "A, the volumetric flow is not determined by: A 1"),
    "one open": (lambda: mo.Feed({"A": "2 mol/L", "B": "rest"}, "1 L/s"), "B is not determined by: volumetric flow 1 L/s; A 2 mol/L"),
    "volume open": (lambda: mo.PlugFlow(MIX, mo.Feed({"A": "2 mol/s"}), volume=1), "the volumetric flow is not determined by(.|\\n)*a density"),
    "a gas without temperature": (lambda: mo.Feed({"A": "2 mol/s"}, P="1 bar"), "a pressure is given, and no temperature"),
    "mass without formula": (
        lambda: mo.PlugFlow(mo.Chemistry(mo.Reaction("A -> B", k=1)), mo.Feed({"A": "2 kg/s"}, 1), volume=1), "A has no molar mass",
    ),
    "a total that is none": (lambda: mo.Batch(MIX, {"A": "30 wt%", "B": "rest"}, total="3 m", density=900), "total"),
}  # fmt: skip


@pytest.mark.parametrize("name", FEEDS)
def test_too_much_and_too_little_are_reported(name: str) -> None:
    make, what = FEEDS[name]
    with pytest.raises(mo.InputError) as error:
        make()
    assert re.search(what, str(error.value)), error.value


def test_gas_vessels_against_their_closed_forms() -> None:
    """A -> 2 B, first order, half inert: expansion factor 1/2 (O. Levenspiel, 1999, eqs. 5.15, 5.23)."""
    reaction = mo.Reaction("A -> 2 B", rate="k*p[A]", k="0.01 mol/m3/s/bar")
    chemistry = mo.Chemistry(reaction, species=["A", "B", "inert"])
    feed = mo.Feed({"A": "1 bar", "inert": "1 bar"}, flow="10 m3/h", T="500 K")
    k = 0.01 / 1e5 * GAS_CONSTANT * 500
    tube = mo.PlugFlow(chemistry, feed, volume="5 m3").run()
    X = tube.conversion("A")
    assert 1.5 * math.log(1 / (1 - X)) - 0.5 * X == pytest.approx(k * 1800, rel=1e-9)
    assert tube.residence_time_si == pytest.approx(-math.log(1 - X) / k, rel=1e-9)
    assert tube.space_time_si == pytest.approx(1800)
    assert {"residence time", "space time"} <= {*tube.facts()}
    tank = mo.StirredTank(chemistry, feed, volume="5 m3").steady()
    X = tank.conversion("A")
    assert pytest.approx(k * 1800, rel=1e-9) == X * (1 + 0.5 * X) / (1 - X)
    assert sum(c[-1] for c in tank.concentrations.values()) == pytest.approx(2e5 / GAS_CONSTANT / 500, rel=1e-9)
    started = mo.StirredTank(chemistry, feed, volume="5 m3", contents={"inert": "2 bar"}).run("10 h")
    assert started.concentrations["A"][[0, -1]] == pytest.approx([0.0, tank.concentrations["A"][-1]], rel=1e-8)
    for run in (tube, tank, started):
        assert max(run.closure.values()) < 1e-9
    hot = mo.StirredTank(chemistry, feed, volume="5 m3", T="600 K").steady()
    assert sum(c[-1] for c in hot.concentrations.values()) == pytest.approx(2e5 / GAS_CONSTANT / 600, rel=1e-9)
    batch = mo.Batch(chemistry, feed).run("1 h", points=7)
    t = batch.points
    assert batch.series["pressure"] == pytest.approx(2e5 + 1e5 * (1 - np.exp(-k * t)), rel=1e-9)
    assert batch.table()["pressure [bar]"].iloc[0] == pytest.approx(2.0)
    warmer = batch.vessel.with_(T="550 K").run("1 h", points=7)  # what was charged stays, the pressure follows
    assert warmer.concentrations["A"][0] == pytest.approx(batch.concentrations["A"][0])
    assert warmer.series["pressure"][0] == pytest.approx(2.2e5)
    swept = mo.sweep(mo.Batch(chemistry, feed, time="1 h"), {"T": [500, 550], "[A]": [10.0, 20.0]}, ["conversion of A"])
    assert swept.values["conversion of A"][0] == pytest.approx(1 - math.exp(-k * 3600), rel=1e-8)
    sized = mo.size(mo.PlugFlow(chemistry, feed), "conversion of A", 0.9)
    assert 1.5 * math.log(10) - 0.45 == pytest.approx(k * sized.value / (10 / 3600), rel=1e-8)


def test_a_molar_density_brings_volume_and_moles_together() -> None:
    feed = mo.Feed({"A": "10 mol%", "B": "rest"}, flow="5 kmol/h", density="12 mol/L")
    mixture = feed.mixture(None)
    assert mixture.concentrations["A"] == pytest.approx(1200.0)
    assert mixture.volume == pytest.approx(5000 / 3600 / 12e3)
    with pytest.raises(mo.UnitError, match="is not a density"):
        mo.Feed({"A": "1 mol/L"}, flow="5 kmol/h", density="3 m")
