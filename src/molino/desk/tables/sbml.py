"""Chemistry as SBML, level 3 version 2 core (M. Hucka et al., J. Integr. Bioinform. 16 (2019) 20190021), in and out."""

from __future__ import annotations

from pathlib import Path
from typing import Any
from xml.parsers import expat

from molino.core.arguments import checked
from molino.core.errors import Faults, InputError
from molino.desk.tables.sbml_reader import Reader, SbmlModel
from molino.desk.tables.sbml_writer import library

_DEEPEST = 200
"""How deep the elements of a file may be nested."""


# out


# in


@checked
def read_sbml(path: str | Path) -> SbmlModel:
    """Read a chemistry from SBML (of any level that the library of the standard converts).

    Parameters
    ----------
    path : str or Path

    Returns
    -------
    SbmlModel

    Raises
    ------
    InputError
        For invalid SBML, for features that would change a run and are not supported (several compartments, events, rate
        rules, delays), for units that only some of its numbers have, and if python-libsbml is missing.

    Examples
    --------
    >>> try:
    ...     mo.files.read_sbml("nowhere.xml")
    ... except mo.InputError as error:
    ...     print(error.faults[0].what)
    the file does not exist
    """
    sbml, path = library(), Path(path)
    if not path.is_file():
        raise InputError("the file does not exist", str(path), "check its name and folder")
    text = path.read_text(encoding="utf-8")
    _check_depth(text, path.name)
    document = sbml.readSBMLFromString(text)
    _raise_errors(sbml, document, path.name)
    faults = Faults()
    _check_calls(sbml, document.getModel(), path.name)
    for category in (sbml.LIBSBML_CAT_UNITS_CONSISTENCY, sbml.LIBSBML_CAT_MODELING_PRACTICE):
        document.setConsistencyChecks(category, False)  # units are compared when rates are read
    document.checkConsistency()
    notes: list[str] = []
    with faults.at(path.name):
        notes = _packages(document)
    with faults.at():
        _raise_errors(sbml, document, path.name)
    if faults.found:  # all at once
        with faults.at(path.name):
            Reader(sbml, document.getModel(), notes).refuse()
    faults.raise_any()
    for what in ("expandFunctionDefinitions", "expandInitialAssignments", "promoteLocalParameters"):
        properties = sbml.ConversionProperties()
        properties.addOption(what, True)
        document.convert(properties)
    with faults.at(path.name):
        found = Reader(sbml, document.getModel(), notes).read()
    faults.raise_any()
    return found


def _raise_errors(sbml: Any, document: Any, name: str) -> None:
    """Raise InputError with every error that the library of the standard has found."""
    faults = Faults()
    for n in range(document.getNumErrors()):
        error = document.getError(n)
        if error.getSeverity() >= sbml.LIBSBML_SEV_ERROR:
            faults.add(f"{name}, line {error.getLine()}", error.getShortMessage(), "correct the file")
    if not faults.found and document.getModel() is None:
        faults.add(name, "there is no model in it", "correct the file")
    faults.raise_any()


def _check_depth(text: str, name: str) -> None:
    """Raise InputError for elements that are nested too deeply for the library of the standard, and for files that are
    not XML."""
    depth = deepest = 0

    def begin(*_: Any) -> None:
        nonlocal depth, deepest
        depth += 1
        deepest = max(deepest, depth)

    def end(_: str) -> None:
        nonlocal depth
        depth -= 1

    parser = expat.ParserCreate()
    parser.StartElementHandler, parser.EndElementHandler = begin, end
    try:
        parser.Parse(text.encode("utf-8"), True)
    except expat.ExpatError as error:
        raise InputError(f"it is not XML ({error})", name, "name a file of SBML") from error
    if deepest > _DEEPEST:
        raise InputError(
            f"its elements are nested {deepest} deep", name, f"write its formulas flatter, {_DEEPEST} at most"
        )


def _check_calls(sbml: Any, model: Any, name: str) -> None:
    """Raise InputError for recursive functions."""
    calls = {f.getId(): _called(sbml, f.getMath()) for f in model.getListOfFunctionDefinitions()}
    for first in calls:
        reached, new = set(), calls[first]
        while new:
            reached |= new
            new = {n for one in new for n in calls.get(one, set())} - reached
        if first in reached:
            raise InputError(f"its function '{first}' calls itself", name, "remove it")


def _called(sbml: Any, node: Any) -> set[str]:
    """The names of the functions that a formula calls."""
    if node is None:
        return set()
    own = {node.getName()} if node.getType() == sbml.AST_FUNCTION else set()
    return own.union(*(_called(sbml, node.getChild(n)) for n in range(node.getNumChildren())))


def _packages(document: Any) -> list[str]:
    """Notes on extensions that are not used; InputError for one that the model requires."""
    found = []
    for n in range(document.getNumPlugins()):
        package = document.getPlugin(n).getPackageName()
        if package == "l3v2extendedmath":  # of the core since version 2
            continue
        if document.getPackageRequired(package):
            raise InputError(f"it needs the extension '{package}'", "", "write the model without it")
        found.append(f"the extension '{package}' is not used")
    return found
