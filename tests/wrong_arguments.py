"""Calls of everything public with one argument that is nonsense."""

from __future__ import annotations

import datetime
import decimal
import inspect
import traceback
from collections.abc import Callable, Iterator
from operator import attrgetter
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pint

import molino as mo
from molino._public import listed

CHEMISTRY = mo.Chemistry(
    mo.Reaction("A -> B", k=mo.Arrhenius(k="0.2 1/min", at="350 K", Ea="60 kJ/mol"), name="r", enthalpy="-20 kJ/mol"),
    species=[mo.Species(s, "C2H6O", heat_capacity="110 J/mol/K") for s in "AB"],
)
FEED = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="350 K")
GAS = mo.Feed({"A": "1 mol/mol"}, flow="1 mol/min", T="350 K", P="1 bar")
TUBE = mo.PlugFlow(CHEMISTRY, FEED, volume="5 L")
TANK = mo.StirredTank(CHEMISTRY, FEED, volume="5 L")
TABLE = pd.DataFrame({"time [min]": [0, 5, 10, 20, 40], "A [mol/L]": [1.0, 0.37, 0.14, 0.02, 0.001]})
RUNS = mo.read_experiments(TABLE)
T = np.linspace(0.0, 60.0, 31)
SIGNAL = T * np.exp(-T / 10)
TRACED = mo.mixing.TracerTest(T, SIGNAL)
WRONG: tuple[Any, ...] = (
    None, [], {}, [None], "", "nonsense", "3 parsec", -1, 1e400, True, object(), decimal.Decimal("NaN"), b"x", {1: 2},
    pd.DataFrame({"a": [1]}), np.array([[1.0]]), np.nan, pint.UnitRegistry().Quantity(3, "volt"), lambda: 1, {"A": None},
    datetime.date(2026, 1, 1), ("A",), 10**400, complex(1, 2), Path("nowhere"),
)  # fmt: skip
CALLS: dict[str, tuple[Callable[..., Any], dict[str, Any]]] = {
    "Reaction": (mo.Reaction, {"equation": "A -> B", "rate": "k*[A]", "name": "r", "basis": "volume", "enthalpy": None,
                               "k": "1 1/min", "orders": None}),
    "Chemistry": (mo.Chemistry, {"reactions": [mo.Reaction("A -> B", k=1.0)], "species": (), "constants": {}}),
    "Species": (mo.Species, {"name": "A", "formula": "H2O", "density": "1 kg/L", "heat_capacity": "75 J/mol/K"}),
    "Arrhenius": (mo.Arrhenius, {"k": "1 1/min", "at": "300 K", "Ea": "50 kJ/mol"}),
    "VantHoff": (mo.VantHoff, {"K": 2.0, "at": "300 K", "enthalpy": "50 kJ/mol"}),
    "Unknown": (mo.Unknown, {"guess": "1 1/min", "lower": None, "upper": None}),
    "HeatCapacity": (mo.thermo.HeatCapacity, {"coefficients": ["75 J/mol/K"], "valid": None}),
    "Feed": (mo.Feed, {"contents": {"A": "1 mol/L"}, "flow": "1 L/min", "T": "300 K", "P": None, "density": None}),
    "Batch": (mo.Batch, {"chemistry": CHEMISTRY, "charge": {"A": "1 mol/L"}, "time": "1 h", "T": "350 K", "heat": None,
                         "volume": "1 L", "show": {}}),
    "StirredTank": (mo.StirredTank, {"chemistry": CHEMISTRY, "feed": FEED, "volume": "1 L", "heat": None, "catalyst": None,
                                     "contents": None, "wall": None}),
    "PlugFlow": (mo.PlugFlow, {"chemistry": CHEMISTRY, "feed": FEED, "diameter": "1 cm", "length": "1 m", "tubes": 2,
                               "heat": None, "pressure_drop": None, "catalyst": None, "side": None, "wall": None}),
    "SemiBatch": (mo.SemiBatch, {"chemistry": CHEMISTRY, "charge": {"A": "1 mol/L"}, "volume": "1 L", "T": "350 K",
                                 "doses": {"d": mo.Dosing(FEED, windows=[("0 s", "5 s")])}, "time": "1 h"}),
    "Dosing": (mo.Dosing, {"feed": FEED, "windows": [("0 s", "5 s")], "rate": None}),
    "Jacket": (mo.Jacket, {"T": "300 K", "U": "50 W/m2/K", "flow": None}),
    "Profile": (mo.Profile, {"points": [("0 s", "300 K"), ("9 s", "310 K")]}),
    "Catalyst": (mo.Catalyst, {"bulk_density": "800 kg/m3", "deactivation": None, "internal_diffusion": {}}),
    "Decomposition": (mo.Decomposition, {"heat": "500 kJ/kg", "rate": "10 W/kg", "at": "150 degC", "Ea": "90 kJ/mol"}),
    "AtConversion": (mo.AtConversion, {"chemistry": CHEMISTRY, "feed": FEED, "conversions": {"r": 0.5}, "keys": {},
                                       "in_series": True, "T": None, "P": None, "heat": None, "show": {}}),
    "AtEquilibrium": (mo.AtEquilibrium, {
        "chemistry": mo.Chemistry(mo.Reaction("A <-> B", k=1.0, K=2.0, name="r")), "feed": FEED, "T": None, "P": None,
        "heat": None, "by": None, "reactions": None, "species": None, "solids": (), "approach": {}, "show": {},
    }),
    "ActivityModel": (mo.thermo.ActivityModel, {"species": [mo.Species("A"), mo.Species("B")], "form": "NRTL",
                                         "pairs": {}, "nonrandomness": {}}),
    "VaporPressure": (mo.thermo.VaporPressure, {"a": 20.0, "b": -4000.0, "c": 0.0, "d": 0.0, "e": 2.0, "shift": 0.0, "valid": None}),
    "PhaseEquilibrium": (mo.thermo.PhaseEquilibrium, {"species": [mo.Species("A", vapor_pressure={"a": 11.0})], "liquid": None}),
    "flash": (lambda **given: mo.thermo.PhaseEquilibrium([mo.Species("A", vapor_pressure={"a": 20.0, "b": -4000.0})]).flash(**given),
              {"fractions": {"A": 1.0}, "P": "1 bar", "T": "300 K", "feed": "liquid"}),
    "Duty": (mo.Duty, {"duty": "2 kW", "wall": None, "stirrer": None}),
    "equilibrium_curves": (mo.thermo.equilibrium_curves, {
        "vessel": mo.AtEquilibrium(mo.Chemistry(mo.Reaction("A <-> B", k=1.0, K=2.0, name="r")), FEED),
        "metric": "conversion of A", "T": ("300 K", "400 K"), "P": None, "inlet": None, "target": None, "approach": None,
        "beds": 2,
    }),
    "survey": (mo.survey, {"chemistry": CHEMISTRY, "feed": FEED, "residence_time": "2 min", "conversions": {"r": 0.5},
                           "T": None, "heat": None, "catalyst": None, "metrics": (), "show": None}),
    "heat_safety": (mo.heat_safety, {"vessel": TUBE, "within": "20 K"}),
    "Deactivation": (mo.Deactivation, {"k": "1 1/h", "age": "3 h"}),
    "Membrane": (mo.Membrane, {"flux": {"A": "L*[A]"}, "constants": {"L": "1 m/s"}, "area": None, "outside": {}}),
    "GasPhase": (mo.GasPhase, {"feed": GAS, "kLa": "0.1 1/s", "henry": {"A": "900 bar*L/mol"}, "P": None, "kL": "2e-4 m/s",
                               "holdup": 0.1, "kLa_ratio": {}, "film": {"r": mo.FilmReaction("A", "2e-9 m2/s")}}),
    "FilmReaction": (mo.FilmReaction, {"species": "A", "diffusivity": "2e-9 m2/s", "order": 1.0, "partner": "",
                                       "partner_diffusivity": None}),
    "Adsorption": (mo.Adsorption, {"isotherm": {"A": "K*[A]"}, "rate": "0.1 1/s", "constants": {"K": "3 L/kg"}}),
    "LaminarTube": (mo.fields.LaminarTube, {"chemistry": CHEMISTRY, "feed": FEED, "diameter": "1 cm", "length": "1 m",
                                     "diffusivity": "1e-9 m2/s", "heat": None, "entrance": "developed"}),
    "Inlet": (mo.fields.Inlet, {"side": "left", "between": ("0 m", "0.5 m"), "feed": FEED, "profile": "uniform"}),
    "Outlet": (mo.fields.Outlet, {"side": "right", "between": ("0 m", "0.5 m"), "share": None, "profile": "free"}),
    "Baffle": (mo.fields.Baffle, {"start": ("1 m", "0 m"), "end": ("1 m", "0.5 m")}),
    "Basin": (mo.fields.Basin, {"chemistry": CHEMISTRY, "length": "2 m", "width": "1 m", "depth": "1 m",
                         "inlets": mo.fields.Inlet("left", ("0 m", "0.5 m"), FEED), "outlets": mo.fields.Outlet("right", ("0 m", "1 m")),
                         "flow": "potential", "cells": (8, 8)}),
    "Dispersion": (mo.Dispersion, {"coefficient": None, "peclet": 8, "correlation": None, "diffusivity": None,
                                   "viscosity": None, "roughness": 0.0, "heat": None, "conductivity": None}),
    "DispersedTube": (mo.DispersedTube, {"chemistry": CHEMISTRY, "feed": FEED, "volume": "1 L", "T": "300 K",
                                         "dispersion": mo.Dispersion(peclet=8), "heat": None}),
    "BubbleColumn": (mo.BubbleColumn, {"chemistry": CHEMISTRY, "feed": FEED, "diameter": "1 m", "height": "2 m",
                                       "gas": mo.GasPhase(GAS, "0.1 1/s", {"A": "900 bar*L/mol"}), "heat": None}),
    "TracerTest": (mo.mixing.TracerTest, {"times": T, "signal": SIGNAL, "kind": "pulse", "inlet": None, "volume": "1 m3",
                                   "flow": "1 m3/h", "injected": "1 mol", "calibration": "1 mol/L", "baseline": (),
                                   "plateau": None, "tail": "none", "rule": "Simpson", "end": "1 h", "show": {}}),
    "TanksInSeries": (mo.mixing.TanksInSeries, {"n": 3}),
    "AxialDispersion": (mo.mixing.AxialDispersion, {"peclet": 3, "boundaries": "open"}),
    "TankWithDeadZone": (mo.mixing.TankWithDeadZone, {"active": 0.8, "bypass": 0.1}),
    "StagnantZones": (mo.mixing.StagnantZones, {"n": 3, "active": 0.8, "exchange": 0.1}),
    "Recycle": (mo.mixing.Recycle, {"ratio": 1, "n": 3}),
    "Compartments": (mo.mixing.Compartments, {"tanks": {"A": 1}, "tubes": {}, "flows": {"in": {"A": 1}, "A": {"out": 1}}}),
    "FlowModel.distribution": (mo.mixing.TanksInSeries(2).distribution, {"mean": "1 h", "show": {}}),
    "FlowModel.conversion": (mo.mixing.TanksInSeries(2).conversion, {"rate_constant": "1 1/h", "mean": "1 h"}),
    "fit_flow_models": (mo.mixing.fit_flow_models, {"test": TRACED, "models": [mo.mixing.TanksInSeries()]}),
    "mixing_bounds": (mo.mixing.mixing_bounds, {"batch": mo.Batch(CHEMISTRY, {"A": "1 mol/L"}, T="350 K"),
                                         "distribution": mo.mixing.TanksInSeries(2).distribution("1 h")}),
    "read_tracer": (mo.mixing.read_tracer, {"source": TABLE, "sheet": None, "columns": None, "header_row": None}),
    "PressureDrop": (mo.PressureDrop, {"viscosity": "0.02 mPa*s"}),
    "Exchanger": (mo.Exchanger, {"T": "300 K", "duty": None}),
    "Train": (mo.Train, {"steps": [TANK, TUBE], "recycle": 0.5, "name": "x"}),
    "Change": (mo.Change, {"what": "flow", "to": "2 L/min", "at": "1 h", "over": None}),
    "Signal": (mo.Signal, {"of": "A", "slope": "2 L/mol", "blank": 0.0}),
    "Experiment": (mo.Experiment, {"name": "1", "times": [0.0, 1.0], "measured": {"A": [1.0, 0.5]}, "initial": {}, "T": None}),
    "Rates": (mo.Rates, {"rate": [1.0, 2.0], "concentrations": {"A": [1.0, 2.0]}, "T": None}),
    "read_experiments": (mo.read_experiments, {"path": TABLE, "sheet": None, "signals": None, "vessel": None, "changes": (),
                                               "header_row": None, "columns": None}),
    "read_rates": (mo.read_rates, {"path": TABLE, "sheet": None}),
    "read_species": (mo.files.read_species, {"path": TABLE, "sheet": None}),
    "read_chemistry": (mo.files.read_chemistry, {"path": "nowhere.toml"}),
    "read_library": (mo.files.read_library, {"path": "nowhere.toml"}),
    "load_job": (mo.load_job, {"path": "nowhere.toml"}),
    "screen_orders": (mo.screen_orders, {"data": RUNS, "species": "A", "partner": None, "errors": "same"}),
    "fit": (mo.fit, {"chemistry": mo.Chemistry(mo.Reaction("A -> B", k=mo.Unknown("0.1 1/min"))), "data": RUNS,
                     "errors": "each", "fit_initial": (), "n_starts": 1, "seed": 0, "per_run": (), "unknowns": {}}),
    "discriminate": (mo.discriminate, {"candidates": {}, "data": RUNS}),
    "candidate_laws": (mo.candidate_laws, {"equation": "A -> B", "data": RUNS, "orders": {"A": (0, 2)}, "step": 0.5,
                                           "adsorbing": "A", "limiting": "surface", "equilibrium": None,
                                           "Ea": "80 kJ/mol", "name": "r"}),
    "average_size": (mo.average_size, {"candidates": None, "vessel": TUBE, "metric": "conversion of A", "target": 0.5,
                                       "free": None}),
    "size": (mo.size, {"vessel": TUBE, "metric": "conversion of A", "target": 0.5, "free": None, "spread": {"flow": "0.1 L/min"},
                      "confidence": 0.9, "seed": 0}),
    "compare": (mo.compare, {"vessels": [TUBE, TANK], "metrics": ["conversion of A"]}),
    "sweep": (mo.sweep, {"vessel": TUBE, "conditions": {"volume": ["1 L", "2 L"]}, "metrics": ["conversion of A"],
              "workers": None}),
    "spread_sources": (mo.spread_sources, {"vessel": TUBE, "metric": "conversion of A", "spread": {"flow": "0.1 L/min"}}),
    "attainable": (mo.attainable, {"chem": TUBE.chemistry, "feed": TUBE.feed,
                                   "axes": ("conversion of A", "concentration of B")}),
    "SbmlModel": (mo.files.SbmlModel, {"chemistry": CHEMISTRY, "initial": {}, "volume": 1.0, "T": None, "notes": ()}),
    "read_sbml": (mo.files.read_sbml, {"path": "nowhere.xml"}),
    "write_sbml": (mo.files.write_sbml, {"chemistry": mo.Chemistry(mo.Reaction("A -> B", k="1 1/h")), "path": "nowhere/\0/m.xml",
                                   "initial": None, "volume": "1 m3", "T": "300 K", "P": None}),
    "report": (mo.report, {"what": [TANK.run()], "path": "nowhere/\0/report.html", "title": "", "question": ""}),
    "progress_bar": (mo.progress_bar, {"label": "x"}),
    "recommend": (mo.recommend, {"chem": TUBE.chemistry, "feed": TUBE.feed, "maximize": "conversion of A"}),
    "FreeProfile": (mo.FreeProfile, {"low": "300 K", "high": "350 K"}),
    "optimize": (mo.optimize, {"vessel": TUBE, "maximize": "conversion of A", "free": {"volume": ("1 L", "2 L")},
                               "subject_to": ["volume <= 1.5 L"], "n_starts": 1, "seed": 0}),
    "evaluator": (mo.evaluator, {"vessel": TUBE, "settings": ["volume"], "metrics": ["conversion of A"]}),
    "span": (mo.span, {"low": "1 L", "high": "2 L", "points": 3}),
    "conversion": (lambda species: TUBE.run().metric(mo.results.conversion(species)), {"species": "A"}),
    "yield_of": (lambda product, on: TUBE.run().metric(mo.results.yield_of(product, on)), {"product": "B", "on": "A"}),
    "selectivity": (lambda wanted, over: TUBE.run().metric(mo.results.selectivity(wanted, over)), {"wanted": "B", "over": "A"}),
    "metric": (lambda text: TUBE.run().metric(text), {"text": "conversion of A"}),
    "with_": (lambda conditions: TUBE.with_(conditions), {"conditions": {"volume": "1 L"}}),
    "with_ T": (lambda T: TUBE.with_(T=T), {"T": "1 K"}),
    "run of a batch": (lambda time: mo.Batch(CHEMISTRY, {"A": 1.0}, T=350.0).run(time), {"time": "1 h"}),
    "run of a tank": (lambda time, changes: TANK.run(time, changes=changes), {"time": "1 h", "changes": ()}),
    "steady_states": (lambda T: TANK.with_(heat="adiabatic").steady_states(T), {"T": ("300 K", "500 K")}),
    "branch": (TANK.branch, {"free": {"feed T": ("300 K", "310 K")}}),
    "sensitivity": (lambda metric, settings: TUBE.run().sensitivity(metric, settings),
                    {"metric": "conversion of A", "settings": ["volume"]}),
    "write_sweep": (mo.files.write_sweep, {"path": "parts", "vessel": TUBE, "conditions": {"volume": ["1 L", "2 L"]},
                    "metrics": ["conversion of A"], "workers": None, "progress": None}),
    "read_sweep": (mo.files.read_sweep, {"path": "nowhere"}),
    "write_chemistry": (mo.files.write_chemistry, {"chemistry": CHEMISTRY, "path": "/nowhere/x.toml"}),
    "CubicEquation": (mo.thermo.CubicEquation, {"species": [mo.Species("A")], "form": "Soave", "pairs": None}),
    "Metric": (mo.results.Metric, {"what": "conversion", "species": "A"}),
    "effectiveness_factor": (mo.thermo.effectiveness_factor, {"modulus": 2.0}),
    "figures.profile": (mo.figures.profile, {"run": TUBE.run(), "show": None, "species": None, "limits": None}),
    "figures.sweep": (mo.figures.sweep, {"result": mo.sweep(TUBE, {"volume": ["1 L", "2 L"]}, ["volume"]), "metrics": None}),
}  # fmt: skip


def raw_errors(name: str) -> Iterator[str]:
    """What came out of a call that is no MolinoError, for each argument and each nonsense in its place."""
    call, good = CALLS[name]
    for argument in good:
        for wrong in WRONG:
            given = {**good, argument: wrong}
            try:
                call(**given)
            except mo.MolinoError:
                continue
            except Exception as error:
                place = traceback.extract_tb(error.__traceback__)[-1]
                where = f"{Path(place.filename).name}:{place.lineno}"
                yield f"{name}({argument}={wrong!r:.30}): {type(error).__name__}: {str(error)[:60]} ({where})"


def missing() -> set[str]:
    """Public functions that are not called here."""
    public = {n.rpartition(".")[2] for n in listed() if inspect.isfunction(attrgetter(n)(mo))}
    called = {call.__name__ for call, _ in CALLS.values() if inspect.isfunction(call)} | set(CALLS)
    return public - called


if __name__ == "__main__":
    import contextlib
    import tempfile
    import warnings

    warnings.simplefilter("ignore")
    print("not called:", sorted(missing()))
    with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):  # where nonsense is a name of a file
        for name in CALLS:
            for line in raw_errors(name):
                print(line)
