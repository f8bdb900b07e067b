"""What holds for every vessel in every heat mode: accounts, units, copies, print, jobs, and whatever things are called."""

from __future__ import annotations

import copy
import json
import pickle
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import pytest

import molino as mo
from molino.core.schema import schema_of

HEATS = ("isothermal", "adiabatic", "held coolant", "flowing coolant", "duty", "profile")


class Names(NamedTuple):
    """What things are called; no choice may change a number."""

    A: str = "Alfa"
    B: str = "Beta"
    k: str = "kappa"
    E: str = "epsilon"
    vessel: str = "tina"
    dose: str = "chorro"


NEUTRAL = Names()
COLLIDING = [
    Names("T", "P", "V", "Q", "T", "P"), Names("n", "F", "n_F", "F_n", "V", "Q_n"), Names("x", "t", "t", "z", "x", "x"),
    Names("lambda", "yield", "F_lambda", "n_yield", "def", "class"), Names("Ä", "β", "λ", "Σ", "Ä", "β"),
    Names("r1", "in", "y", "dy", "main", "r_main"), Names("h", "H", "c", "p", "main", "V_h"),
]  # fmt: skip


def chemistry(names: Names, **more: Any) -> mo.Chemistry:
    law = f"{names.k}*exp(-{names.E}/T)*[{names.A}]"
    species = [mo.Species(s, "C2H6O", heat_capacity="80 J/mol/K") for s in (names.A, names.B)]
    return mo.Chemistry(
        mo.Reaction(f"{names.A} -> {names.B}", rate=law, enthalpy="-30 kJ/mol", name="main"), species=species,
        constants={names.k: "3e4 1/min", names.E: "4000 K"},
    )  # fmt: skip


def heat(mode: str, kind: str) -> Any:
    if mode in ("isothermal", "adiabatic"):
        return mode
    if mode == "profile":
        along = {"tube": "L", "bed": "m", "membrane tube": "L"}.get(kind, "min")
        far = {"bed": "2 m"}.get(kind, f"20 {along}")
        return mo.Profile([(f"0 {along}", "330 K"), (far, "345 K")])
    if mode == "duty":
        return mo.Duty("-300 W")
    flowing = {"flow": "60 W/K"} if mode == "flowing coolant" else {}
    if flowing and kind in ("tube", "bed", "dispersed tube"):
        flowing["counter_current"] = True
    if flowing and kind == "batch":
        flowing["coil"] = True
    return mo.Jacket("320 K", UA="40 W/K", **flowing)


def vessel(kind: str, mode: str, names: Names = NEUTRAL) -> Any:
    chem, A, B = chemistry(names), names.A, names.B
    liquid = {"heat_capacity": "4 MJ/m3/K"}
    common: dict[str, Any] = {"name": names.vessel, "heat": heat(mode, kind)}
    kept = {} if mode == "profile" else {"T": "330 K"}
    feed = mo.Feed({A: "2 mol/L"}, flow="6 L/min", T="330 K", **liquid)
    gas = mo.Feed({A: "90 mol%", B: "10 mol%"}, flow="20 mol/min", T="330 K", P="2 bar")
    if kind == "batch":
        return mo.Batch(chem, {A: "2 mol/L"}, volume="50 L", time="20 min", **kept, **common, **liquid)
    if kind == "semi-batch":
        doses = {names.dose: mo.Dosing(feed, windows=[("2 min", "8 min")])}
        return mo.SemiBatch(chem, {B: "1 mol/L"}, doses, volume="30 L", time="20 min", capacity="60 L", **kept, **common,
                            **liquid)  # fmt: skip
    if kind == "tank":
        return mo.StirredTank(chem, feed, volume="60 L", **common)
    if kind == "gas tank":
        wall = mo.Membrane({B: f"{names.k}*(p[{B}] - p[{B}]')"}, {names.k: "1e-7 mol/m2/s/Pa"}, {B: "0.1 bar"},
                           area="1 m2")  # fmt: skip
        return mo.StirredTank(chem, gas, volume="800 L", wall=wall, **common)
    if kind == "tank with gas":
        sparged = mo.GasPhase(gas, "0.3 1/s", {A: mo.VantHoff(K="12 bar*L/mol", at="330 K", enthalpy="20 kJ/mol")})
        return mo.StirredTank(chem, mo.Feed({A: "2 mol/L"}, flow="6 L/min", T="330 K"), volume="60 L", gas=sparged,
                              **common)  # fmt: skip
    if kind == "conversion":
        return mo.AtConversion(chem, gas, {"main": 0.4}, **common)
    if kind == "equilibrium":
        K = f"exp(3 - 500/T)*{names.k}"
        law = mo.Reaction(f"{A} <-> {B}", rate=f"[{A}] - [{B}]/({K})", enthalpy="-30 kJ/mol", name="main")
        return mo.AtEquilibrium(mo.Chemistry(law, chem.species, {names.k: 1.2}), feed, **common)
    if kind == "tube":
        return mo.PlugFlow(chem, feed, volume="20 L", **common)
    if kind == "membrane tube":
        wall = mo.Membrane({B: f"{names.k}*([{B}] - [{B}]')"}, {names.k: "2e-5 m/s"}, area="2 m2",
                           sweep=mo.Feed({A: "0.1 mol/L"}, flow="3 L/min"))  # fmt: skip
        side = mo.DistributedFeed(mo.Feed({A: "1 mol/L"}, flow="2 L/min", T="320 K"))
        return mo.PlugFlow(chem, feed, volume="20 L", wall=wall, side=side, **common)
    if kind == "dispersed tube":
        return mo.DispersedTube(chem, feed, volume="20 L", dispersion=mo.Dispersion(peclet=8), **common)
    if kind == "dispersed bed":
        bed = mo.Catalyst(voidage=0.4, particle_diameter="3 mm")
        spread = mo.Dispersion(correlation="packed bed", diffusivity="1e-5 m2/s", conductivity="8 W/m/K")
        return mo.DispersedTube(chem, gas, diameter="60 mm", length="2 m", tubes=4, catalyst=bed, dispersion=spread,
                                pressure_drop=mo.PressureDrop("0.02 mPa*s"), **common)  # fmt: skip
    bed = mo.Catalyst(voidage=0.4, particle_diameter="3 mm")
    return mo.PlugFlow(chem, gas, diameter="60 mm", length="2 m", tubes=4, catalyst=bed,
                       pressure_drop=mo.PressureDrop("0.02 mPa*s"), **common)  # fmt: skip


KINDS = ("batch", "semi-batch", "tank", "gas tank", "tank with gas", "conversion", "equilibrium", "tube",
         "membrane tube", "bed", "dispersed tube", "dispersed bed")  # fmt: skip
_STEADY = ("tank", "gas tank", "tank with gas", "conversion", "equilibrium")
_ALONG = ("tube", "membrane tube", "bed", "dispersed tube", "dispersed bed")
CASES = [
    (k, h)
    for k in KINDS
    for h in HEATS
    if not (k in _STEADY and h == "profile")
    and not (k in _ALONG and h == "duty")
    and not (k.startswith("dispersed") and h == "profile")
]


def numbers(run: Any, names: Names) -> np.ndarray:
    """What comes out, by what it is."""
    found = [run.stream_out().amounts[s] for s in (names.A, names.B)]
    found += [s.amounts[names.B] for s in run.streams_out()[1:]]
    found += [run.stream_out().T, run.metric(f"conversion of {names.A}"), run.duty_si]
    return np.array([*found, *run.series[f"concentration of {names.B}"][[0, -1]], np.nan_to_num(run.residence_time_si)])


@pytest.mark.parametrize(("kind", "mode"), CASES)
def test_every_vessel_keeps_the_contract(kind: str, mode: str) -> None:
    one = vessel(kind, mode)
    run = one.run()
    assert {"energy"} < run.closure.keys()
    assert max(run.closure.values()) < 1e-8
    wanted = numbers(run, NEUTRAL)
    first = CASES.index((kind, mode))
    for other in (COLLIDING[(first + n) % len(COLLIDING)] for n in range(3)):
        assert numbers(vessel(kind, mode, other).run(), other) == pytest.approx(wanted, rel=1e-7, abs=1e-9), other
    for thing in (one, run):
        for twin in (pickle.loads(pickle.dumps(thing)), copy.deepcopy(thing)):
            assert twin == thing
            assert hash(twin) == hash(thing)
            assert str(twin) == str(thing)
    assert one.with_(name="other") != one
    assert numbers(pickle.loads(pickle.dumps(one)).run(), NEUTRAL).tolist() == wanted.tolist()
    assert one.equations().latex.count("\\") > 5
    assert not one.check().at("error")
    read = json.loads(json.dumps(run.to_dict()))
    assert [s["name"] for s in read["streams_out"]] == [s.name for s in run.streams_out()]
    if np.isfinite(run.residence_time_si):
        assert read["residence_time"]["value"] == run.display.number(run.residence_time_si, "time")
    table = run.stream_table()
    assert not table.iloc[:, 1:].isna().all().any()


@pytest.mark.parametrize("kind", KINDS)
def test_a_number_is_exchanged_as_in_a_new_vessel(kind: str) -> None:
    """`with_` keeps the form of the balances where only an independent number changes, and nothing that depends on it."""
    one = vessel(kind, "isothermal").with_(heat=None)
    names = [name for name in schema_of(type(one)) if one.spec.is_independent(name)]
    assert names or kind in ("conversion", "equilibrium")
    assert "T" in names or kind not in ("batch", "semi-batch")
    for name in names:
        own = getattr(one, name) or one.spec.first_T
        other = mo.results.Value(1.03 * own.si, own.unit) if isinstance(own, mo.results.Value) else own + 1
        assert one.spec.case.values
        changed, new = one.with_(**{name: other}), replace(one, **{name: other})
        assert changed == new
        assert changed.spec.case.values == new.spec.case.values
        assert (changed.spec.end_si, changed.spec.fed.concentrations) == (new.spec.end_si, new.spec.fed.concentrations)


@pytest.mark.parametrize(("kind", "mode"), [(k, h) for k, h in CASES if h != "profile"])
def test_an_evaluator_has_the_derivatives_of_a_run(kind: str, mode: str) -> None:
    """By every condition of every vessel, without a run."""
    one = vessel(kind, mode)
    names = [
        n for n, c in one.spec.conditions.items() if np.isfinite(c.own) and c.own > 0 and n not in ("tubes", "cells")
    ]
    names = [n for n in names if n not in one.spec.sizes or getattr(one, n) is not None]
    metrics = [mo.results.conversion("Alfa"), mo.results.concentration("Beta")]
    numbers = [one.spec.condition(n).own for n in names]
    wanted = one.run().slopes(metrics, names)
    held = mo.evaluator(one, names, metrics)
    assert held.slopes(*numbers) == pytest.approx(wanted, rel=1e-6, abs=1e-7 * np.max(np.abs(wanted)))


def test_units_do_not_change_a_number() -> None:
    feeds = [mo.Feed({"A": "2 mol/L"}, flow="6 L/min", T="57 degC"), mo.Feed({"A": 2000.0}, flow=1e-4, T=330.15)]
    laws = [{"k": "0.3 1/min"}, {"k": 0.005}]
    ends = [
        mo.PlugFlow(mo.Chemistry(mo.Reaction("A -> B", **law)), feed, volume=volume).run().stream_out().amounts["A"]
        for law, feed, volume in zip(laws, feeds, ("60 L", 0.06), strict=True)
    ]
    assert ends[0] == pytest.approx(ends[1], rel=1e-13)
    assert ends[0] == pytest.approx(0.2 * np.exp(-3.0), rel=1e-8)


JOB = """
[reactions.main]
equation = "{A} -> {B}"
rate = "{k}*[{A}]"
[constants]
"{k}" = "0.1 1/s"
[feeds."{dose}"]
contents = {{ "{A}" = "2 mol/L" }}
flow = "6 L/min"
[vessels."{vessel}"]
kind = "{kind}"
feed = "{dose}"
{size}
"""


@pytest.mark.parametrize(("kind", "size", "left"), [
    ("batch", 'time = "10 s"', np.exp(-1)), ("plug flow", 'space_time = "10 s"', np.exp(-1)),
    ("stirred tank", 'space_time = "10 s"', 0.5),
])  # fmt: skip
@pytest.mark.parametrize("names", COLLIDING)
def test_names_change_nothing_in_a_job(tmp_path: Path, names: Names, kind: str, size: str, left: float) -> None:
    path = tmp_path / "job.toml"
    path.write_text(JOB.format(**names._asdict(), kind=kind, size=size))
    (one,) = mo.load_job(path).vessels.values()
    assert one.run().metric(f"conversion of {names.A}") == pytest.approx(1 - left, rel=1e-8)


def _conversion(one: Any) -> float:
    return float(one.run().metric("conversion of Alfa"))


def test_everything_crosses_processes_and_compares() -> None:
    tube, tank = vessel("tube", "flowing coolant"), vessel("tank", "adiabatic")
    both = [tube, tank]
    with ProcessPoolExecutor(2) as pool:
        assert [*pool.map(_conversion, both)] == [_conversion(one) for one in both]
    train = mo.Train([vessel("tank", "isothermal").with_(name="a"), vessel("tube", "isothermal").with_(name="b")])
    things = [
        train, train.run(), mo.size(tube, "conversion of Alfa", 0.3), mo.size(tank, "conversion of Alfa", 0.3),
        tank.steady_states(), tank.branch({"feed T": ("320 K", "340 K")}), mo.compare(both, ["conversion of Alfa"]),
        mo.sweep(tube, {"T": ["330 K", "340 K"]}, ["conversion of Alfa"]), tube.feed, tube.heat, tube.chemistry,
        mo.evaluator(tube, ["T"], ["conversion of Alfa"]), mo.Change("T", 330.0), mo.Species("A", "H2O"),
    ]  # fmt: skip
    for thing in things:
        for twin in (pickle.loads(pickle.dumps(thing)), copy.deepcopy(thing)):
            assert twin == thing, type(thing)
            assert hash(twin) == hash(thing)
            assert str(twin) == str(thing)
    assert tube != tank
    assert tube.run() != tube.with_(volume="21 L").run()


def test_results_are_hashed_and_pickled() -> None:
    """Those with plain mappings, arrays or functions in them, too."""
    chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    unknown = mo.Chemistry(mo.Reaction("A -> B", k=mo.Unknown("0.1 1/min")))
    t = np.linspace(0.0, 3600.0, 61)
    run = mo.Experiment("1", t, {"A": 1000 * np.exp(-t / 300)}, initial={"A": 1000.0})
    found = mo.mixing.TracerTest(t, np.exp(-t / 600)).distribution()
    species = [mo.Species(n, vapor_pressure={"antoine": [4.2, 1200.0 + 100 * i, -50.0]}) for i, n in enumerate("AB")]
    results = [
        mo.fit(unknown, run), mo.screen_orders(run, "A"), found, mo.mixing.mixing_bounds(mo.Batch(chem, {"A": 1.0}), found),
        mo.thermo.PhaseEquilibrium(species).flash({"A": 0.5, "B": 0.5}, T=360, P="1 bar"),
    ]  # fmt: skip
    for one in results:
        twin = pickle.loads(pickle.dumps(one))
        assert str(twin) == str(one)
        assert isinstance(hash(twin), int)
