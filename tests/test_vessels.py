"""Vessels: how they may be specified, what they say, and a published network run through them."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

import molino as mo
from molino.core.chemistry.formula import parse_formula
from molino.core.contract.metrics import parse_metric
from molino.core.fitting.fit_result import Fit

SERIES = mo.Chemistry(
    [mo.Reaction("A -> B", k="0.2 1/min", name="one"), mo.Reaction("B -> C", k="0.05 1/min", name="two")]
)
WARM = mo.Chemistry(mo.Reaction("A -> B", k=mo.Arrhenius(k="0.2 1/min", at="50 degC", Ea="70 kJ/mol")))
FEED = mo.Feed({"A": "2 mol/L"}, flow="6 L/min")

WRONG: dict[str, tuple[Callable[[], object], list[str]]] = {
    "volume specified twice": (lambda: mo.StirredTank(SERIES, FEED, volume="1 m3", space_time="5 min"), ["same thing twice"]),
    "length and volume": (lambda: mo.PlugFlow(SERIES, FEED, diameter=1, length=1, volume=2), ["length and volume", "twice"]),
    "no diameter": (lambda: mo.PlugFlow(SERIES, FEED, length=1), ["no diameter", "give the diameter"]),
    "no tubes": (lambda: mo.PlugFlow(SERIES, FEED, volume=1, tubes=0), ["tubes = 0", "whole number"]),
    "negative volume": (lambda: mo.StirredTank(SERIES, FEED, volume=-2), ["must be above zero"]),
    "volume in metres": (lambda: mo.StirredTank(SERIES, FEED, volume="2 m"), ["m is a unit of length", "4 m3"]),
    "unknown species": (lambda: mo.Batch(SERIES, {"D": 1}), ["'D' is not a species"]),
    "unknown contents": (lambda: mo.StirredTank(SERIES, FEED, volume=1, contents={"D": 1}), ["'D' is not a species"]),
    "nothing reacts": (lambda: mo.Batch(SERIES, {"C": 1}), ["no reaction can start", "add A, B"]),
    "no temperature": (lambda: mo.PlugFlow(WARM, FEED, volume=1), ["no temperature", "r1", "give T"]),
    "amounts without volume": (lambda: mo.Batch(SERIES, {"A": "3 mol"}), ["the volume is not determined by: A 3 mol", "give the volume"]),
    "a pressure for a concentration": (lambda: mo.Batch(SERIES, {"A": "3 bar"}), ["a partial pressure is given, and no temperature"]),
    "a partial pressure in a liquid": (
        lambda: mo.Batch(mo.Chemistry(mo.Reaction("A -> B", rate="k*p[A]", k=1)), {"A": 1}),
        ["the pressure p[A]", "holds a liquid", "give P of a gas"],
    ),
    "the pressure in a liquid": (
        lambda: mo.Batch(mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]*P", k=1)), {"A": 1}), ["needs the pressure P, but"],
    ),
    "a field that is none": (lambda: mo.PlugFlow(SERIES, FEED, volume=1).with_(lenght=3), ["has no lenght", "length"]),
    "a batch without time": (lambda: mo.Batch(SERIES, {"A": 1}).run(), ["no batch time", "mo.size"]),
    "a tank without volume": (lambda: mo.StirredTank(SERIES, FEED).steady(), ["no volume", "mo.size"]),
    "a tube without length": (lambda: mo.PlugFlow(SERIES, FEED, diameter=1).run(), ["no length or volume"]),
    "a flow in mass": (lambda: mo.PlugFlow(SERIES, mo.Feed({"A": 1}, flow="3 kg/s"), volume=1), ["A has no molar mass", "which quantities by mass needs"]),
    "a flow that is a volume": (lambda: mo.Feed({"A": 1}, flow="3 m3"), ["m3 is a unit of volume", "12 m3/h"]),
    "two faults in a feed": (lambda: mo.Feed({"A": -1, "B": "1 L"}, flow=0), ["must be above zero", "must not be negative", "neither"]),
    "a unit to show that is none": (lambda: mo.Batch(SERIES, {"A": 1}, show={"time": "kg"}), ["not a time"]),
    "a kind to show that is none": (lambda: mo.Batch(SERIES, {"A": 1}, show={"times": "h"}), ["not a kind of quantity"]),
    "a length of a tank": (lambda: mo.size(mo.StirredTank(SERIES, FEED), "conversion of A", 0.5, free="length"), ["cannot be varied"]),
    "a length without diameter": (
        lambda: mo.size(mo.PlugFlow(SERIES, FEED), "conversion of A", 0.5, free="length"), ["without a diameter"],
    ),
    "a concentration to reach in minutes": (
        lambda: mo.size(mo.Batch(SERIES, {"A": 1}), "concentration of A", "5 min"), ["not a concentration"],
    ),
    "a metric of a stranger": (lambda: mo.size(mo.Batch(SERIES, {"A": 1}), "conversion of Q", 0.5), ["'Q' is not a species"]),
    "conversion of what is not fed": (
        lambda: mo.PlugFlow(SERIES, FEED, volume=1).run().conversion("B"), ["conversion of B: B is not fed", "reactant"],
    ),
    "a size for what is not fed": (lambda: mo.size(mo.Batch(SERIES, {"A": 1}), "conversion of B", 0.5), ["B is not fed"]),
    "a feed that is none": (lambda: mo.PlugFlow(SERIES, {"A": 1}, volume=1), ["is not a feed", "mo.Feed("]),
    "a charge that is none": (lambda: mo.Batch(SERIES, ["A"]), ["does not specify a composition"]),
    "a reaction that is none": (lambda: mo.Chemistry(["A -> B"]), ["not a Reaction"]),
    "a number for a rate law": (lambda: mo.Reaction("A -> B", rate=3), ["rate law are texts"]),
    "a path for experiments": (lambda: mo.fit(SERIES, "runs.csv"), ["mo.read_experiments"]),
    "compare nothing": (lambda: mo.compare([]), ["no vessel"]),
    "compare by a stranger": (
        lambda: mo.compare([mo.PlugFlow(SERIES, FEED, volume=1)], ["yield of Q on A", "conv"]), ["'conv' is not a metric"],
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", WRONG)
def test_wrong_vessels_are_reported_with_a_way_out(name: str) -> None:
    make, parts = WRONG[name]
    with pytest.raises(mo.InputError) as error:
        make()
    for part in parts:
        assert part in str(error.value)


def test_a_feed_by_molar_flow_or_by_concentration_is_the_same() -> None:
    by_flow = mo.Feed({"A": "12 mol/min"}, flow="6 L/min")
    outlets = [mo.PlugFlow(SERIES, feed, volume="30 L").run().concentrations["B"][-1] for feed in (FEED, by_flow)]
    assert outlets[0] == pytest.approx(outlets[1], rel=1e-12)
    by_amount = mo.Batch(SERIES, {"A": "6 mol"}, volume="3 L").run("5 min")
    assert by_amount.concentrations["A"][0] == pytest.approx(2000)
    assert by_amount.concentrations["B"][-1] == pytest.approx(outlets[0], rel=1e-9)


def test_temperature_of_the_vessel_goes_before_that_of_the_feed() -> None:
    warm = mo.Feed({"A": "2 mol/L"}, flow="6 L/min", T="50 degC")
    by_feed = mo.StirredTank(WARM, warm, space_time="10 min").steady()
    assert by_feed.conversion("A") == pytest.approx(2 / 3, rel=1e-9)
    hotter = mo.StirredTank(WARM, warm, space_time="10 min", T="60 degC").steady()
    k = 0.2 * np.exp(-70e3 / 8.31446261815324 * (1 / 333.15 - 1 / 323.15))
    assert hotter.conversion("A") == pytest.approx(10 * k / (1 + 10 * k), rel=1e-9)
    batch = mo.Batch(WARM, warm, time="10 min")
    assert batch.run().conversion("A") == pytest.approx(1 - np.exp(-2), rel=1e-9)


def test_what_is_printed_reads_like_a_report() -> None:
    tube = mo.PlugFlow(SERIES, FEED, diameter="5 cm", length="12 m", tubes=2, name="pilot")
    content = str(tube.run())
    for part in ("pilot: plug flow, 2 tubes of diameter 5 cm, length 12 m", "fed 6 L/min of A 2 mol/L", "residence time",
                 "conversion of A", "concentration of B", "mol/L", "balances of A + B + C closed to", "solved by"):  # fmt: skip
        assert part in content
    sized = mo.size(tube, "yield of B on A", 0.5)
    assert str(sized).startswith("length ")
    assert "yield of B on A = 0.5" in str(sized)
    table = str(mo.compare([sized, mo.StirredTank(SERIES, FEED, volume="50 L")]))
    assert "conversion of A" in table
    assert "stirred tank" in table
    assert "one       A -> B    k*[A]" in str(SERIES)
    page = sized._repr_html_()
    assert page.startswith("<p><b>length ")
    assert "<th>residence time" in page


def test_tables_run_along_the_right_axis() -> None:
    tube = mo.PlugFlow(SERIES, FEED, diameter="5 cm", length="12 m")
    table = tube.run(points=5).table()
    assert table["length [m]"].tolist() == pytest.approx([0, 3, 6, 9, 12])
    assert table["volume [m3]"].iloc[-1] == pytest.approx(12 * np.pi / 4 * 0.05**2)
    assert table["rate of one [mol/L/min]"].iloc[0] == pytest.approx(0.4)
    steady = mo.StirredTank(SERIES, FEED, space_time="5 min").steady().table()
    assert steady.columns[0] == "A [mol/L]"
    assert steady["A [mol/L]"].item() == pytest.approx(1.0)
    chosen = mo.Batch(SERIES, {"A": "2 mol/L"}).run("9 min", points=np.array([0.0, 60.0, 540.0]))
    assert chosen.table()["time [min]"].tolist() == pytest.approx([0, 1, 9])
    between = mo.Batch(SERIES, {"A": "2 mol/L"}).run("9 min", points=[60.0, 120.0]).table()
    assert between["time [min]"].tolist() == pytest.approx([0, 1, 2, 9])
    assert between["A [mol/L]"].tolist() == pytest.approx([2 * np.exp(-0.2 * t) for t in (0, 1, 2, 9)])
    for wrong in (1, -3, "x", [600.0], [-1.0, 2.0], True):
        with pytest.raises(mo.InputError, match="not places between"):
            mo.Batch(SERIES, {"A": 1}).run("9 min", points=wrong)


METRICS = [
    mo.results.conversion("A"),
    mo.results.yield_of("B", on="A"),
    mo.results.selectivity("B", over="C"),
    mo.results.selectivity("B", on="A"),
    mo.results.selectivity("B", over="C", on="A"),
    mo.results.concentration("B"),
]


@pytest.mark.parametrize("metric", METRICS, ids=str)
def test_metrics_print_as_they_are_read(metric: object) -> None:
    assert parse_metric(str(metric)) == metric


@pytest.mark.parametrize(
    "text", ["conversion", "yield of B", "selectivity of B", "conversion of A on B", "purity of A", ""]
)
def test_wrong_metrics(text: str) -> None:
    with pytest.raises(mo.InputError):
        parse_metric(text)


def test_uncertainty_of_metrics_against_differences(fitted: Fit) -> None:
    """The standard error of each metric is sqrt(g C g), with g here by differences of whole runs."""
    feed = mo.Feed({"xylose": "0.35 mol/L", "acid": "0.1 mol/L"}, flow="12 m3/h", T="175 degC")
    metrics = [
        mo.results.conversion("xylose"),
        mo.results.yield_of("furfural", on="xylose"),
        mo.results.concentration("resin"),
    ]
    vessels = [
        mo.StirredTank(fitted.chemistry, feed, volume="8 m3"),
        mo.PlugFlow(fitted.chemistry, feed, volume="8 m3"),
        mo.Batch(fitted.chemistry, feed, time="30 min"),
    ]
    compared = mo.compare(vessels, metrics)
    for vessel, errors in zip(vessels, compared.errors, strict=True):
        for metric in metrics:
            slopes = []
            for name, value in fitted.values.items():
                sides = [
                    vessel.with_(chemistry=fitted.chemistry.with_values({name: value * (1 + s)})) for s in (1e-4, -1e-4)
                ]
                up, down = (side.run().metric(metric) for side in sides)
                slopes.append((up - down) / (2e-4 * value))
            by_differences = np.sqrt(np.array(slopes) @ fitted.covariance @ np.array(slopes))
            assert errors[str(metric)] == pytest.approx(by_differences, rel=1e-5)
    assert mo.compare([mo.PlugFlow(SERIES, FEED, volume=1)]).errors == [{"conversion of A": None}]


POLLUTION = """
NO2 -> NO + O3P                0.35
NO + O3 -> NO2                 26.6
HO2 + NO -> NO2 + OH           12300
HCHO -> 2 HO2 + CO             0.00086
HCHO -> CO                     0.00082
HCHO + OH -> HO2 + CO          15000
ALD -> MEO2 + HO2 + CO         0.00013
ALD + OH -> C2O3               24000
C2O3 + NO -> NO2 + MEO2 + CO2  16500
C2O3 + NO2 -> PAN              9000
PAN -> C2O3 + NO2              0.022
MEO2 + NO -> CH3O + NO2        12000
CH3O -> HCHO + HO2             1.88
NO2 + OH -> HNO3               16300
O3P -> O3                      4800000
O3 -> O1D                      0.00035
O3 -> O3P                      0.0175
O1D -> 2 OH                    1e8
O1D -> O3P                     4.44e11
SO2 + OH -> SO4 + HO2          1240
NO3 -> NO                      2.1
NO3 -> NO2 + O3P               5.78
NO2 + O3 -> NO3                0.0474
NO3 + NO2 -> N2O5              1780
N2O5 -> NO3 + NO2              3.12
"""
AIR = {"NO": 0.2, "O3": 0.04, "HCHO": 0.1, "CO": 0.3, "ALD": 0.01, "SO2": 0.007}
AFTER_AN_HOUR = {
    "NO2": 0.5646255480022769e-1, "NO": 0.1342484130422339, "O3P": 0.4139734331099427e-8, "O3": 0.5523140207484359e-2,
    "HO2": 0.2018977262302196e-6, "OH": 0.1464541863493966e-6, "HCHO": 0.7784249118997964e-1, "CO": 0.3245075353396018,
    "ALD": 0.7494013383880406e-2, "MEO2": 0.1622293157301561e-7, "C2O3": 0.1135863833257075e-7, "CO2": 0.2230505975721359e-2,
    "PAN": 0.2087162882798630e-3, "CH3O": 0.1396921016840158e-4, "HNO3": 0.8964884856898295e-2, "O1D": 0.4352846369330103e-17,
    "SO2": 0.6899219696263405e-2, "SO4": 0.1007803037365946e-3, "NO3": 0.1772146513969984e-5, "N2O5": 0.5682943292316392e-4,
}  # fmt: skip


def test_air_pollution_network_of_twenty_species() -> None:
    """20 species, 25 elementary reactions, rates over 14 decades; end values at t = 60 from F. Mazzia, C. Magherini,
    Test Set for Initial Value Problem Solvers, release 2.4, 2008, problem POLLU (J. G. Verwer, 1994)."""
    rows = [line.rsplit(maxsplit=1) for line in POLLUTION.strip().splitlines()]
    chemistry = mo.Chemistry([mo.Reaction(equation, k=float(k)) for equation, k in rows])
    assert len(chemistry.names) == 20
    run = mo.Batch(chemistry, AIR).run(60.0, points=2)
    for species, published in AFTER_AN_HOUR.items():
        assert run.concentrations[species][-1] == pytest.approx(published, rel=1e-6), species


def test_sweep_of_a_stiff_chemistry_agrees_with_single_runs() -> None:
    """A fast equilibrium before a slow step: constants 1e5 and 1e-2 in one system."""
    chemistry = mo.Chemistry(
        [mo.Reaction("A <-> B", k=1e5, K=0.5, name="fast"), mo.Reaction("2 B -> C", k=0.01, name="slow")]
    )
    feed = mo.Feed({"A": 2.0}, flow=1.0)
    for vessel in (mo.PlugFlow(chemistry, feed), mo.StirredTank(chemistry, feed)):
        swept = mo.sweep(vessel, {"volume": [1.0, 30.0], "slow.k": [0.01, 1.0]}, ["yield of C on A"])
        for row in swept.table().to_dict("records"):
            alone = vessel.with_(volume=row["volume"], chemistry=chemistry.with_values({"slow.k": row["slow.k"]}))
            assert row["yield of C on A"] == pytest.approx(alone.run().yield_of("C", on="A"), rel=1e-6)
        assert "slow.k" in str(swept)


def test_sweep_tells_all_that_is_wrong() -> None:
    tube = mo.PlugFlow(SERIES, FEED, volume="30 L")
    with pytest.raises(mo.InputError) as error:
        mo.sweep(tube, {"volume": ["10 L", "3 kg"], "one.kk": [1.0]}, ["conversion of A", "yield of Q on A"])
    text = str(error.value)
    for part in ("kg is a unit of mass", "did you mean 'one.k'", "'Q' is not a species"):
        assert part in text
    with pytest.raises(mo.InputError, match="nothing to vary"):
        mo.sweep(tube, {}, ["conversion of A"])
    with pytest.raises(mo.InputError, match="no value is given"):
        mo.sweep(tube, {"flow": []}, ["conversion of A"])
    for vessel in (mo.Batch(SERIES, {"A": 1}), mo.StirredTank(SERIES, FEED), mo.PlugFlow(SERIES, FEED, diameter=1)):
        with pytest.raises(mo.InputError, match="no size yet"):
            mo.sweep(vessel, {"one.k": [0.1]}, ["conversion of A"])
    zero_order = mo.Batch(mo.Chemistry(mo.Reaction("A -> B", rate="k", k=0.2)), {"A": 1.0})
    assert mo.sweep(zero_order, {"time": [1.0, 4.0]}, ["conversion of A"]).values["conversion of A"][
        1
    ] == pytest.approx(0.8)
    swept = mo.sweep(zero_order, {"time": [1.0, 20.0, 4.0]}, ["conversion of A"])
    assert swept.values["conversion of A"] == pytest.approx([0.2, np.nan, 0.8], nan_ok=True)
    assert [bool(reason) for reason in swept.reasons] == [False, True, False]
    assert "A runs out at time 5" in swept.facts()["not computed"]


ATOMS = st.sampled_from(["k", "K", "n", "[A]", "[B]", "x[A]", "T", "2", "0.5", "1e-7", "3.25"])
SUMS = st.recursive(
    ATOMS,
    lambda inner: st.one_of(
        st.tuples(inner, st.sampled_from(["+", "-", "*", "/"]), inner).map(lambda t: f"({t[0]} {t[1]} {t[2]})"),
        inner.map(lambda e: f"exp(-({e})/T)"),
        inner.map(lambda e: f"({e})^n"),
        inner.map(lambda e: f"sqrt({e})"),
    ),
    max_leaves=8,
)


@settings(max_examples=150, deadline=None)
@given(SUMS)
def test_formulas_survive_printing_and_reading(text: str) -> None:
    try:
        first = parse_formula(text)
    except mo.InputError:
        return  # what it says has no value, like division by (2 - 2)
    again = parse_formula(str(first))
    numbers = {s: 0.3 + 0.1 * i for i, s in enumerate(sorted(first.free_symbols, key=str))}
    one, other = (complex(e.subs(numbers).evalf()) for e in (first, again))
    assert one == pytest.approx(other, rel=1e-9) or not np.isfinite(one)


def test_every_setting_that_is_wrong_is_reported() -> None:
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="300 K")
    tube = mo.PlugFlow(mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min")), feed, diameter="8 cm", length="3 m")
    with pytest.raises(mo.UnitError) as caught:
        tube.with_({"feed T": "260 bar", "length": "6 kg", "[A]": "2 s"})
    assert len(caught.value.faults) == 3
