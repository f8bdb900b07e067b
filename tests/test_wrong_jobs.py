"""A corpus of wrong jobs: each gets its own message, none is accepted, none ends in a traceback, nothing is written."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from conftest import Typed
from test_docs_and_jobs import PILOT

VAPOUR = """
[units]
time = "h"
temperature = "degC"
pressure = "bar"
energy_per_amount = "kJ/mol"

[species]
methanol = { formula = "CH4O", enthalpy_of_formation = -201, entropy = "240 J/mol/K", heat_capacity = [21.2, 0.071] }
DME = { formula = "C2H6O", enthalpy_of_formation = -184, entropy = "266 J/mol/K", heat_capacity = [17.0, 0.179] }
water = { formula = "H2O", enthalpy_of_formation = -242, entropy = "189 J/mol/K", heat_capacity = "34 J/mol/K" }

[reactions.dehydration]
equation = "2 methanol <-> DME + water"
rate = "k*(p[methanol]^2 - p[DME]*p[water]/K)/(1 + K_w*p[water])^2"
basis = "catalyst mass"
k = { A = "4e6 mol/kg/h/bar^2", Ea = 80 }
K = { from_species = "activities" }
K_w = { K = "2 1/bar", at = 250, enthalpy = -42 }

[feeds.vapour]
contents = { methanol = "90 mol%", water = "rest" }
flow = "40 kmol/h"
T = 260
P = 3

[vessels.bed]
kind = "plug flow"
feed = "vapour"
diameter = "1.2 m"
length = "5 m"
catalyst = { bulk_density = "850 kg/m3" }

[vessels.pot]
kind = "batch"
charge = { methanol = "rest", water = "1 bar" }
total = "3 mol"
P = 5
T = 250
time = 2
catalyst = { bulk_density = "8 kg/m3" }
"""


WRONG = {
    "a wrong unit": ('valdeoro.toml', '80 mm', '80 kg', ['[vessels.coil], diameter', 'kg is a unit of mass', '80 mm']),
    "an unknown unit": ('valdeoro.toml', '80 mm', '80 mn', ['[vessels.coil], diameter', "unknown unit 'mn'"]),
    "a misspelt species": ('valdeoro.toml', '{ xylose = 0.35', '{ xylos = 0.35', ['[feeds.liquor]', "did you mean 'xylose'"]),
    "a missing catalyst": ('valdeoro.toml', ', acid = 0.10', '', ['[feeds.liquor]', "'acid' is not given", 'acid = 0']),
    "a missing feed": ('valdeoro.toml', '"liquor"\nvolume = 8', '"licor"\nvolume = 8', ['[vessels.tank]', "unknown feed 'licor'", "'liquor'"]),
    "a missing flow": ('valdeoro.toml', 'flow = 12\n', '', ['[feeds.liquor]', 'the volumetric flow is not determined', "flow='12 m3/h'"]),
    "a negative concentration": ('valdeoro.toml', 'acid = 0.10 }', 'acid = -0.10 }', ['acid', 'must not be negative']),
    "a reaction out of balance": ('valdeoro.toml', '3 water', '2 water', ['[reactions.dehydration]', 'it balances with 3 water']),
    "a formula that is none": ('valdeoro.toml', 'k*[xylose]*[acid]', 'k*[xylose*[acid]', ['[reactions.dehydration]', 'character 3']),
    "a constant of a wrong unit": ('valdeoro.toml', '0.1 L/mol/min', '0.1 1/min', ['[reactions.dehydration]', 'give k in L/mol/min']),
    "a constant without unit": ('valdeoro.toml', '"0.1 L/mol/min"', '0.1', ['[reactions.dehydration]', 'L/mol/min']),
    "a misspelt key": ('valdeoro.toml', 'diameter', 'diametre', ['[vessels.coil]', "'diametre'", "did you mean 'diameter'"]),
    "a misspelt table": ('valdeoro.toml', '[size.coil]', '[sise.coil]', ["'sise'", "did you mean 'size'"]),
    "a kind of vessel that is none": ('valdeoro.toml', '"batch"', '"bach"', ['[vessels.cooker]', "did you mean 'batch'"]),
    "a metric that is none": ('valdeoro.toml', '"conversion of xylose"\ntarget', '"conv of xylose"\ntarget', ['[size.coil]', 'conversion of A']),
    "a size specified twice": ('valdeoro.toml', 'length = 150', 'length = 150\nvolume = 3', ['[vessels.coil]', 'length and volume', 'give one']),
    "a length without diameter": ('valdeoro.toml', 'diameter = "80 mm"\n', '', ['[vessels.coil]', 'no diameter']),
    "half a tube": ('valdeoro.toml', 'tubes = 4', 'tubes = 1.5', ['[vessels.coil]', 'tubes']),
    "no temperature": ('valdeoro.toml', 'T = 175\n', '', ['[vessels.coil]', 'no temperature', 'give T']),
    "colder than can be": ('valdeoro.toml', 'T = 175\n', 'T = -300\n', ['[feeds.liquor]', 'must be above zero']),
    "data that are not there": ('valdeoro.toml', 'cob-liquor.csv', 'liquor.csv', ['[data.liquor]', 'the file does not exist', 'cob-liquor.csv']),
    "a fit of no data": ('valdeoro.toml', 'data = "liquor"', 'data = "lab"', ['[fit.kinetics]', "unknown data 'lab'"]),
    "no way to the constants": ('valdeoro.toml', '[fit.kinetics]\ndata = "liquor"', '', ['dehydration.k', '[fit.NAME]']),
    "not TOML": ('valdeoro.toml', 'title =', 'title', ['not readable as TOML', 'line 4']),
    "an empty data file": ('cob-liquor.csv', '', '\n', ['[data.liquor]', 'the file is empty', 'time [min]']),
    "headings alone": ('cob-liquor.csv', '', 'time [min],xylose [mol/L]\n', ['no data']),
    "a time below zero": ('cob-liquor.csv', 'B1,150,0.20,0.10,20,', 'B1,150,0.20,0.10,-20,', ['line 2', 'time [min]', "-20 is a negative time"]),
    "a negative measurement": ('cob-liquor.csv', 'B1,150,0.20,0.10,20,', 'B1,150,0.20,0.10,20,-', ['line 2', 'xylose [mol/L]', 'negative concentration']),
    "a temperature that changes": ('cob-liquor.csv', 'B1,150,0.20,0.10,20,', 'B1,151,0.20,0.10,20,', ['run B1', "'T [degC]' changes"]),
    "time that stands still": ('cob-liquor.csv', 'B1,150,0.20,0.10,20,', 'B1,150,0.20,0.10,50,', ['run B1', 'goes back at sample 2']),
    "a heading of a wrong unit": ('cob-liquor.csv', 'xylose [mol/L],f', 'xylose [min],f', ["column 'xylose [min]'", 'time']),
    "a stray column": ('cob-liquor.csv', 'furfural [mol/L]', 'furfurol [mol/L]', ["'furfurol' is not a species", "'furfural'"]),
    'charge and feed': ('pilot.toml', 'charge = { A = "600 mmol"', 'feed = "fresh"\ncharge = { A = "600 mmol"', ['[vessels.flask]', 'both charge and feed']),
    'neither charge nor feed': ('pilot.toml', 'charge = { A = "600 mmol", B = "1.4 kmol/m3" }\n', '', ['[vessels.flask]', 'neither charge nor feed']),
    'compare a stranger': ('pilot.toml', '"flask"]', '"flusk"]', ['[compare.all]', "did you mean 'flask'"]),
    'half a target': ('pilot.toml', '[compare.all]', '[compare.all]\nsize_for = "conversion of A"', ['[compare.all]', 'go together']),
    'a unit of another kind': ('pilot.toml', 'time = "h"', 'time = "kg"', ['[units] time', 'give a time']),
    'a shared constant unused': ('pilot.toml', '(1 + K*[C])', '1', ['[constants] K', 'no rate law uses it']),
    'a list for a number': ('pilot.toml', 'flow = 2.5', 'flow = [[2.5]]', ['[feeds.fresh] flow', 'give a number']),
    'a table for a number': ('pilot.toml', 'volume = 400', 'volume = { a = 3 }', ['[vessels.first] volume', 'give a number']),
    'a constant of parts unknown': ('pilot.toml', 'at = 60, ', '', ['[reactions.lose], k', 'give k, Ea, at']),
    'a start-up before it starts': ('pilot.toml', 'start_up = 12', 'start_up = -1', ['[vessels.first]', 'start_up', 'must be above zero']),
    'a dash in the equation': ('pilot.toml', 'A + B <-> C', 'A + B - C', ['[reactions.make]', 'no arrow']),
    'a number for a formula': ('pilot.toml', 'rate = "k*([A]*[B] - [C]/Kc)/(1 + K*[C])"', 'rate = 3', ['[reactions.make] rate', '3 is not a text']),
    'two arrows': ('pilot.toml', '"C -> D"', '"C -> D -> E"', ['[reactions.lose]', '2 arrows']),
    'nothing changes': ('pilot.toml', '"C -> D"', '"C -> C"', ['[reactions.lose]', 'changes nothing']),
    'a minus sign before the rate': ('pilot.toml', 'rate = "k*(', 'rate = "-k*(', ['[reactions.make]', 'negative where there is no C']),
    'a minus sign before a one-way rate': ('pilot.toml', '[reactions.lose]\nequation = "C -> D"\n', '[reactions.lose]\nequation = "C -> D"\nrate = "-k*[C]"\n', ['[reactions.lose]', 'C, consumed by the equation, would be formed']),
    'a backward constant of a one-way reaction': ('pilot.toml', 'equation = "C -> D"\nk =', 'equation = "C -> D"\nk_reverse = "1 1/h"\nk =', ['[reactions.lose]', 'write the arrow as <->']),
    'a space time and a volume': ('pilot.toml', 'space_time = "2 h"', 'space_time = "2 h"\nvolume = 3', ['[vessels.second]', 'same thing twice']),
    'nothing to start from': ('pilot.toml', 'charge = { A = "600 mmol", B = "1.4 kmol/m3" }', 'charge = { A = "600 mmol" }', ['[vessels.flask]', 'no reaction can start', 'add B']),
    'a flow in amount': ('pilot.toml', 'flow = 2.5', 'flow = "2.5 mol"', ['[feeds.fresh]', 'mol is a unit of amount']),
    'two flows that contradict': ('pilot.toml', 'flow = 2.5', 'flow = ["2.5 L/min", "9 mol/min"]', ['[feeds.fresh]', 'the specifications contradict each other']),
    'a key of a vessel of another kind': ('pilot.toml', 'space_time = "2 h"\n', 'space_time = "2 h"\nstart_up = 3\n', ['[vessels.second]', "unknown key 'start_up'"]),
    'fractions that miss the whole': ('vapour.toml', 'water = "rest" }\nflow', 'water = "8 mol%" }\nflow', ['[feeds.vapour]', 'mole fractions add up to 0.98', "'rest'"]),
    'a total left out': ('vapour.toml', 'flow = "40 kmol/h"\n', '', ['[feeds.vapour]', 'is not determined by', 'in kmol/h']),
    'a ratio to a stranger': ('vapour.toml', '"90 mol%"', '"9 per watr"', ['[feeds.vapour]', 'is relative to watr', "did you mean 'water'"]),
    'per cent of what': ('vapour.toml', '"90 mol%"', '"90 %"', ['[feeds.vapour]', 'write mol% or wt%']),
    'a partial pressure above the whole': ('vapour.toml', 'water = "1 bar"', 'water = "6 bar"', ['[vessels.pot]', 'the rest is negative']),
    'a total of neither amount nor mass': ('vapour.toml', 'total = "3 mol"', 'total = "3 m"', ['[vessels.pot]', 'total', 'not an amount']),
    'an amount besides a total that contradicts': ('vapour.toml', 'methanol = "rest"', 'methanol = "4 mol"', ['[vessels.pot]', 'the specifications contradict each other', 'total 3 mol']),
    'no catalyst': ('vapour.toml', 'length = "5 m"\ncatalyst = { bulk_density = "850 kg/m3" }', 'length = "5 m"', ['[vessels.bed]', 'per catalyst mass', 'bulk_density']),
    'a density of nothing': ('vapour.toml', '"850 kg/m3"', '"850 kg/m2"', ['[vessels.bed]', 'not a density']),
    'a misspelt key of a catalyst': ('vapour.toml', '{ bulk_density = "850', '{ bulkdensity = "850', ['[vessels.bed.catalyst]', "did you mean 'bulk_density'"]),
    'a basis that is none': ('vapour.toml', '"catalyst mass"', '"catalyst weight"', ['[reactions.dehydration]', "did you mean 'catalyst"]),
    'a volume rate for a mass rate': ('vapour.toml', 'basis = "catalyst mass"\n', '', ['[reactions.dehydration]', 'give k in']),
    'a constant of the wrong power': ('vapour.toml', 'mol/kg/h/bar^2', 'mol/kg/h/bar', ['[reactions.dehydration]', 'k is in']),
    'K of pressures where activities go': ('vapour.toml', '"activities"', '"pressurs"', ['[reactions.dehydration], K', 'concentrations, pressures, activities']),
    'an entropy left out': ('vapour.toml', ', entropy = "266 J/mol/K"', '', ['[reactions.dehydration], K', 'DME has no entropy']),
    'a heat capacity left out': ('vapour.toml', ', heat_capacity = "34 J/mol/K"', '', ['[reactions.dehydration], K', 'water has no heat capacity']),
    'an enthalpy in kJ alone': ('vapour.toml', 'enthalpy_of_formation = -242', 'enthalpy_of_formation = "-242 kJ"', ['[species.water]', 'enthalpy_of_formation', 'not an energy per amount']),
    'a formula with a typing error': ('vapour.toml', '"C2H6O"', '"C2H6Oo"', ['[species.DME]', "'Oo'"]),
    'a formula of another molecule': ('vapour.toml', '"C2H6O"', '"C2H4O"', ['[reactions.dehydration]', 'does not balance', 'loses 2 H']),
    'a charge that can be read in two ways': ('vapour.toml', '"CH4O"', '"CH42+"', ['[species.methanol]', 'two ways']),
    "a molar mass that is another's": ('vapour.toml', 'formula = "H2O"', 'formula = "H2O", molar_mass = "20 g/mol"', ['[species.water]', 'weighs 18.015']),
    'a misspelt property': ('vapour.toml', 'entropy = "189', 'entrpy = "189', ['[species.water]', "did you mean 'entropy'"]),
    "half a van 't Hoff law": ('vapour.toml', ', at = 250, enthalpy = -42', '', ['[reactions.dehydration], K_w', 'give K, enthalpy, at']),
    'a misspelt part of a law': ('vapour.toml', 'enthalpy = -42', 'entalpy = -42', ['[reactions.dehydration.K_w]', "did you mean 'enthalpy'"]),
    'a table of constants that does not match': ('vapour.toml', '{ K = "2 1/bar", at = 250, enthalpy = -42 }', '{ T = [250, 260], K = ["2 1/bar"] }', ['[reactions.dehydration], K_w', '2 temperatures and 1 constants']),
    'orders besides a formula': ('vapour.toml', 'basis = "catalyst mass"', 'basis = "catalyst mass"\norders = { methanol = 2 }', ['[reactions.dehydration]', 'both a rate law and orders']),
    'a species table that is not there': ('vapour.toml', '\n[units]', '\nspecies_table = "own.csv"\n[units]', ['species_table', 'the file does not exist']),
    'a pressure in metres': ('vapour.toml', 'P = 3\n', 'P = "3 m"\n', ['[feeds.vapour]', 'not a pressure']),
    'a rate of a gas in a liquid': ('vapour.toml', 'charge = { methanol = "rest", water = "1 bar" }\ntotal = "3 mol"\nP = 5', 'charge = { methanol = "1 mol/L" }', ['[vessels.pot]', 'holds a liquid', 'give P of a gas']),
}  # fmt: skip


@pytest.mark.parametrize("name", WRONG)
def test_each_wrong_job_gets_its_own_message(molino: Typed, folder: Path, name: str) -> None:
    file, old, new, parts = WRONG[name]
    (folder / "pilot.toml").write_text(PILOT)
    (folder / "vapour.toml").write_text(VAPOUR)
    text = (folder / file).read_text()
    assert old in text
    (folder / file).write_text(text.replace(old, new) if old else new)
    job = folder / (file if file.endswith(".toml") else "valdeoro.toml")
    result = molino("check", job, "--json")
    assert result.exit_code == 2, result.output
    (fault,) = json.loads(result.stdout)["errors"]
    error = f"{fault['where']}: {fault['what']} -> {fault['advice']}"
    for part in parts:
        assert part in error
    in_words = molino("check", job)
    assert in_words.exit_code == 2
    assert " ".join(fault["what"].split()) in " ".join(in_words.stderr.split())
    assert not (folder / "results").exists()


def test_the_sound_jobs_are_accepted_and_the_corpus_is_large(molino: Typed, folder: Path) -> None:
    (folder / "pilot.toml").write_text(PILOT)
    (folder / "vapour.toml").write_text(VAPOUR)
    for name in ("valdeoro.toml", "pilot.toml", "vapour.toml"):
        assert molino("check", folder / name).exit_code == 0
    assert molino("run", folder / "vapour.toml").exit_code == 0
    assert len({tuple(parts) for *_, parts in WRONG.values()}) == len(WRONG)
