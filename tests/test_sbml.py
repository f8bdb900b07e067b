"""Chemistry as SBML: a round trip keeps runs, models of others are read with their units, the rest is refused in words."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import libsbml
import numpy as np
import pytest

import molino as mo


def same_run(
    chemistry: mo.Chemistry, start: dict[str, Any], path: Path, T: Any = None, time: Any = "1 h"
) -> mo.files.SbmlModel:
    """Write, read, run both; the model that was read."""
    mo.files.write_sbml(chemistry, path, initial=start, volume="3 L", T=T)
    document = libsbml.readSBMLFromFile(str(path))
    document.setConsistencyChecks(libsbml.LIBSBML_CAT_MODELING_PRACTICE, False)
    document.checkConsistency()
    errors = [document.getError(n) for n in range(document.getNumErrors())]
    problems = [one.getMessage() for one in errors if one.getSeverity() >= libsbml.LIBSBML_SEV_ERROR]
    assert not problems, "it is sound SBML, its units, too"
    model = mo.files.read_sbml(path)
    own = mo.Batch(chemistry, start, T=T, time=time).run(points=20)
    read = mo.Batch(model.chemistry, model.initial, T=model.T, time=time).run(points=20)
    for species, row in own.concentrations.items():
        scale = max(float(np.max(np.abs(row))), 1e-12)
        assert np.max(np.abs(read.concentrations[species] - row)) < 1e-9 * scale
    return model


def test_a_round_trip_keeps_runs(tmp_path: Path, fitted: mo.results.Fit) -> None:
    start = {"xylose": "0.35 mol/L", "acid": "0.1 mol/L"}
    model = same_run(fitted.chemistry, start, tmp_path / "liquor.xml", T="175 degC")
    assert model.chemistry.reactions[0].equation.right == fitted.chemistry.reactions[0].equation.right
    notes = mo.files.write_sbml(fitted.chemistry, tmp_path / "again.xml", T="175 degC")
    assert any("formulas" in note for note in notes)
    assert any("covariance" in note for note in notes)
    several = mo.Chemistry(
        [
            mo.Reaction("A + B <-> C", k="2 L/mol/h", K="0.4 L/mol"),
            mo.Reaction("C -> 1/2 D-x", rate="v*[C]/(K_m + [C])^0.5*sqrt([B])/(1 + exp(-[A]/c_0) + log(1 + [A]/c_0))",
                        v="0.3 L^0/min", K_m="0.2 mol/L", c_0="1 mol/L"),
        ]
    )  # fmt: skip
    same_run(several, {"A": "1 mol/L", "B": "2 mol/L"}, tmp_path / "several.xml", time="2 h")


OTHER = """<?xml version="1.0" encoding="UTF-8"?>
<sbml xmlns="http://www.sbml.org/sbml/level3/version1/core" level="3" version="1">
<model id="m" substanceUnits="mmol" timeUnits="minute" volumeUnits="litre" extentUnits="mmol">
<listOfUnitDefinitions>
<unitDefinition id="mmol"><listOfUnits><unit kind="mole" exponent="1" scale="-3" multiplier="1"/></listOfUnits></unitDefinition>
<unitDefinition id="minute"><listOfUnits><unit kind="second" exponent="1" scale="0" multiplier="60"/></listOfUnits></unitDefinition>
<unitDefinition id="per_minute"><listOfUnits><unit kind="second" exponent="-1" scale="0" multiplier="60"/></listOfUnits></unitDefinition>
</listOfUnitDefinitions>
<listOfCompartments><compartment id="pot" size="2" spatialDimensions="3" units="litre" constant="true"/></listOfCompartments>
<listOfSpecies>
<species id="S" compartment="pot" initialAmount="20" hasOnlySubstanceUnits="false" boundaryCondition="false" constant="false" substanceUnits="mmol"/>
<species id="P" compartment="pot" initialConcentration="0" hasOnlySubstanceUnits="true" boundaryCondition="false" constant="false" substanceUnits="mmol"/>
<species id="E" compartment="pot" initialConcentration="3" hasOnlySubstanceUnits="false" boundaryCondition="true" constant="true" substanceUnits="mmol"/>
</listOfSpecies>
<listOfParameters><parameter id="k" value="0.1" units="per_minute" constant="true"/><parameter id="twice" constant="false" units="per_minute"/></listOfParameters>
<listOfRules><assignmentRule variable="twice"><math xmlns="http://www.w3.org/1998/Math/MathML"><apply><times/><cn>2</cn><ci>k</ci></apply></math></assignmentRule></listOfRules>
<listOfReactions><reaction id="r" reversible="false" fast="false">
<listOfReactants><speciesReference species="S" stoichiometry="1" constant="true"/></listOfReactants>
<listOfProducts><speciesReference species="P" stoichiometry="1" constant="true"/></listOfProducts>
<listOfModifiers><modifierSpeciesReference species="E"/></listOfModifiers>
<kineticLaw><math xmlns="http://www.w3.org/1998/Math/MathML"><apply><times/><ci>pot</ci><ci>twice</ci><ci>S</ci></apply></math></kineticLaw>
</reaction></listOfReactions></model></sbml>"""


def test_units_and_rules_of_others_are_read(tmp_path: Path) -> None:
    """20 mmol in 2 L, first order with 2 x 0.1 1/min: 10 exp(-2) mmol/L are left after 10 min."""
    path = tmp_path / "other.xml"
    path.write_text(OTHER, encoding="utf-8")
    model = mo.files.read_sbml(path)
    assert mo.PlugFlow(
        model.chemistry, mo.Feed(model.initial, flow="1 L/min"), volume=model.volume
    ).volume.si == pytest.approx(0.002)
    run = mo.Batch(model.chemistry, model.initial, time="10 min").run()
    assert run.concentrations["S"][-1] == pytest.approx(10 * np.exp(-2), rel=1e-8)
    assert run.concentrations["P"][-1] == pytest.approx(10 * (1 - np.exp(-2)), rel=1e-8)
    bare = OTHER
    for gone in (' units="litre"', ' substanceUnits="mmol"', ' units="per_minute"', ' timeUnits="minute"',
                 ' volumeUnits="litre"', ' extentUnits="mmol"'):  # fmt: skip
        bare = bare.replace(gone, "")
    bare = bare[: bare.index("<listOfUnitDefinitions>")] + bare[bare.index("</listOfUnitDefinitions>") + 24 :]
    path.write_text(bare, encoding="utf-8")
    model = mo.files.read_sbml(path)
    assert model.initial["S"] == 10.0
    assert mo.Batch(model.chemistry, model.initial, time=10.0).run().conversion("S") == pytest.approx(
        1 - np.exp(-2), rel=1e-8
    )


def test_what_has_no_place_is_refused_all_at_once(tmp_path: Path) -> None:
    path = tmp_path / "other.xml"
    rate_rule = '<rateRule variable="S"><math xmlns="http://www.w3.org/1998/Math/MathML"><cn>1</cn></math></rateRule></listOfRules>'
    second = '<compartment id="pan" size="1" spatialDimensions="3" constant="true"/></listOfCompartments>'
    wrong = OTHER.replace("</listOfRules>", rate_rule).replace("</listOfCompartments>", second)
    path.write_text(wrong, encoding="utf-8")
    with pytest.raises(mo.InputError) as caught:
        mo.files.read_sbml(path)
    found = str(caught.value)
    assert "2 compartments" in found
    assert "rate or algebraic rule" in found
    path.write_text(OTHER.replace('value="0.1" units="per_minute"', 'value="0.1"'), encoding="utf-8")
    with pytest.raises(mo.InputError, match="has no unit, and other numbers have"):
        mo.files.read_sbml(path)
    path.write_text(OTHER.replace("<ci>pot</ci>", "<ci>nobody</ci>"), encoding="utf-8")
    with pytest.raises(mo.InputError):
        mo.files.read_sbml(path)
    path.write_text("<sbml", encoding="utf-8")
    with pytest.raises(mo.InputError):
        mo.files.read_sbml(path)
    gas = mo.Chemistry(
        [mo.Reaction("A -> B", rate="k*p[A]", k="2 mol/m3/h/bar"), mo.Reaction("B -> C", k=mo.Unknown("1 1/h"))]
    )
    with pytest.raises(mo.InputError) as caught:
        mo.files.write_sbml(gas, tmp_path / "gas.xml")
    assert "is unknown" in str(caught.value)
    with pytest.raises(mo.InputError, match="SBML has concentrations"):
        mo.files.write_sbml(mo.Chemistry(gas.reactions[0]), tmp_path / "gas.xml")
    warm = mo.Chemistry(mo.Reaction("A -> B", k=mo.Arrhenius(k="0.2 1/min", at="350 K", Ea="60 kJ/mol")))
    with pytest.raises(mo.InputError, match="rates depend on T"):
        mo.files.write_sbml(warm, tmp_path / "warm.xml")
    assert not (tmp_path / "gas.xml").exists()


MATH = '<math xmlns="http://www.w3.org/1998/Math/MathML">'


def test_numbers_of_a_rate_are_read_in_the_units_of_the_model(tmp_path: Path) -> None:
    """0.2 S in mmol, litre and minutes, 0.0007 P for each S."""
    path = tmp_path / "other.xml"
    text = OTHER.replace("<ci>twice</ci>", "<cn>0.2</cn>").replace(
        '"P" stoichiometry="1"', '"P" stoichiometry="0.0007"'
    )
    path.write_text(text, encoding="utf-8")
    model = mo.files.read_sbml(path)
    run = mo.Batch(model.chemistry, model.initial, time="10 min").run()
    assert run.concentrations["S"][-1] == pytest.approx(10 * np.exp(-2), rel=1e-8)
    assert run.concentrations["P"][-1] == pytest.approx(0.0007 * 10 * (1 - np.exp(-2)), rel=1e-8)
    assert "read in those of the model" in model.notes[0]


def test_a_parameter_called_T_is_a_temperature_only_in_kelvin(tmp_path: Path) -> None:
    path = tmp_path / "other.xml"
    text = OTHER.replace('"twice"', '"R"').replace("<ci>twice</ci>", "<ci>R</ci>").replace('id="k"', 'id="T"')
    path.write_text(text.replace("<ci>k</ci>", "<ci>T</ci>"), encoding="utf-8")
    model = mo.files.read_sbml(path)
    assert model.T is None
    run = mo.Batch(model.chemistry, model.initial, time="10 min").run()
    assert run.concentrations["S"][-1] == pytest.approx(10 * np.exp(-2), rel=1e-8)


RECURSIVE = (
    f'<listOfFunctionDefinitions><functionDefinition id="f">{MATH}<lambda><bvar><ci>x</ci></bvar><apply><ci>f</ci>'
    "<ci>x</ci></apply></lambda></math></functionDefinition></listOfFunctionDefinitions><listOfUnitDefinitions>"
)


@pytest.mark.parametrize(("old", "new", "words"), [
    ("<listOfUnitDefinitions>", RECURSIVE, "calls itself"),
    ("<ci>S</ci>", "<apply><minus/>" * 300 + "<ci>S</ci>" + "</apply>" * 300, "nested"),
    ('<parameter id="k"', '<parameter id="pot"', "line"),
    ('size="2" ', "", "it has no size"),
    ('fast="false"', 'fast="true"', "a fast reaction is not supported"),
    ('id="S" compartment="pot"', 'id="S" conversionFactor="k" compartment="pot"', "a conversion factor"),
    ('variable="twice"', 'variable="pot"', "line"),
    ("<ci>k</ci></apply>", "<ci>twice</ci></apply>", "line"),
    ('value="0.1" ', "", "it has no value"),
    ('"S" stoichiometry="1" constant="true"', '"S" stoichiometry="1" constant="false"', "its stoichiometry is computed"),
])  # fmt: skip
def test_what_is_not_used_is_refused(old: str, new: str, words: str, tmp_path: Path) -> None:
    path = tmp_path / "other.xml"
    assert old in OTHER
    path.write_text(OTHER.replace(old, new), encoding="utf-8")
    with pytest.raises(mo.InputError, match=words):
        mo.files.read_sbml(path)


def test_a_missing_initial_value_is_noted(tmp_path: Path) -> None:
    path = tmp_path / "other.xml"
    path.write_text(OTHER.replace(' initialConcentration="0"', ""), encoding="utf-8")
    assert any("'P' has no initial value" in note for note in mo.files.read_sbml(path).notes)
