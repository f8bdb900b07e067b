"""Tables of species: reading and writing."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from dataclasses import fields
from pathlib import Path

import pandas as pd

from molino.core import units
from molino.core.annotations import PlainData
from molino.core.arguments import checked
from molino.core.chemistry.heat_capacity import HeatCapacity
from molino.core.chemistry.species import PROPERTIES, Species
from molino.core.display import HABIT
from molino.core.errors import Faults, InputError, nearest
from molino.core.units import Value
from molino.desk.tables.cell_table import CellTable, TableOptions
from molino.desk.tables.headings import read_heading
from molino.desk.tables.layout import read_table
from molino.desk.tables.number_format import read_numbers

_TEXTS = ("formula", "source")
_SHAPE = "the table needs a column 'name', and any of " + ", ".join(n.replace("_", " ") for n in (*_TEXTS, *PROPERTIES))


@checked
def read_species(path: str | Path | pd.DataFrame, sheet: str | None = None) -> list[Species]:
    """Read species and their properties from CSV, XLSX or JSON.

    A table has a column `name` and any of `formula`, `source` and the properties of `Species`, units in the headings:
    `molar mass [g/mol]`, `enthalpy of formation [kJ/mol]`. A heat capacity that is a polynomial in T has a column per
    coefficient: `heat capacity 0 [J/mol/K]`, `heat capacity 1 [J/mol/K^2]`. Empty cells are unknown. A JSON file holds
    {"NAME": {"formula": "...", "density": "980 kg/m3", ...}, ...}, in the words of `Species`.

    Parameters
    ----------
    path : str, Path or DataFrame
    sheet : str, optional
        Of an .xlsx file; by default the first.

    Returns
    -------
    list of Species

    Raises
    ------
    InputError
        With every fault: file, line, column, and remedy.

    Examples
    --------
    >>> import tempfile
    >>> from pathlib import Path
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = Path(folder) / "species.csv"
    ...     size = path.write_text("name,formula" + "\\nwater,H2O\\n")
    ...     found = mo.files.read_species(path)
    >>> [species.name for species in found]
    ['water']
    """
    if not isinstance(path, pd.DataFrame) and Path(path).suffix.lower() == ".json":
        return _from_json(Path(path))
    table = read_table(path, _SHAPE, TableOptions(sheet))
    columns = _columns([str(heading) for heading in table.cells.columns], table.path.name)
    faults = Faults()
    _with_points(table, [heading for heading, (key, _, _) in columns.items() if key in PROPERTIES], faults)
    found: list[Species] = []
    for line, row in table.cells.iterrows():
        with faults.at(f"line {line}"):
            species = _species(row, columns, table.path.name)
            if species.name in [s.name for s in found]:
                raise InputError(f"'{species.name}' appears twice", "", "keep one line")
            found.append(species)
    faults.raise_any(table.path.name)
    return found


_Columns = dict[str, tuple[str, int | None, str | None]]
"""By heading: the property, the power of T (of a coefficient of a polynomial) and the unit."""


def _columns(headings: list[str], file: str) -> _Columns:
    faults = Faults()
    columns: _Columns = {}
    for heading in headings:
        name, unit = (one := read_heading(heading)).name, one.unit
        key = name.strip().lower().replace(" ", "_")
        stem, _, last = key.rpartition("_")
        power = int(last) if stem == "heat_capacity" and last.isdigit() else None
        key = stem if power is not None else key
        with faults.at(f"column '{heading}'"):
            if key not in ("name", *_TEXTS, *PROPERTIES):
                raise InputError("it is not a property of a species", "", nearest(key, ("name", *_TEXTS, *PROPERTIES)))
            if unit is not None:
                units.unit(unit)
            columns[heading] = (key, power, unit)
    if not any(key == "name" for key, _, _ in columns.values()):
        faults.add("headings", "no column 'name'", _SHAPE)
    faults.raise_any(file)
    return columns


def _with_points(table: CellTable, headings: Iterable[str], faults: Faults) -> None:
    """Numbers with a decimal point; other texts, like quantities with a unit, unchanged."""
    for heading in headings:
        texts = [str(text) for text in table.cells[heading]]
        numbers = read_numbers(texts, table.decimal_of(heading, faults)).values
        table.cells[heading] = [t if n != n else repr(float(n)) for t, n in zip(texts, numbers, strict=True)]


def _species(row: pd.Series, columns: _Columns, file: str) -> Species:
    given: PlainData = {}
    polynomial: dict[int, str] = {}
    for heading, (key, power, unit) in columns.items():
        cell = row[heading]
        if not cell:
            continue
        text = f"{cell} {unit}" if unit and key in PROPERTIES else cell
        if power is None:
            given[key] = text
        else:
            polynomial[power] = text
    if "name" not in given:
        raise InputError("the species has no name", "", "write it, or delete the line")
    if polynomial:
        given["heat_capacity"] = HeatCapacity([polynomial.get(n, 0.0) for n in range(max(polynomial) + 1)])
    return Species(**{"source": file, **given})


def _from_json(path: Path) -> list[Species]:
    try:
        content = json.loads(path.read_text(encoding="utf-8-sig"))
    except OSError as error:
        raise InputError(f"cannot be read ({error.strerror})", str(path), "check the path") from error
    except ValueError as error:
        raise InputError(f"not readable as JSON: {error}", path.name, "check quotes, commas and brackets") from error
    if not isinstance(content, dict) or not all(isinstance(entry, dict) for entry in content.values()):
        raise InputError("not a table of species", path.name, 'write {"water": {"formula": "H2O"}, ...}')
    known = {f.name for f in fields(Species)} - {"name"}
    faults = Faults()
    found = []
    for name, entry in content.items():
        for key in sorted(entry.keys() - known):
            faults.add(name, f"'{key}' is not a property of a species", nearest(key, known))
        with faults.at():
            found.append(Species(name, **{"source": path.name, **{k: v for k, v in entry.items() if k in known}}))
    faults.raise_any(path.name)
    return found


def species_table(species: Iterable[Species], show: Mapping[str, str] | None = None) -> pd.DataFrame:
    """The properties of species as a table, with units in the headings and the source of the numbers.

    `show` are preferred units. `read_species` restores it, including constant or polynomial heat capacities.
    """
    chosen = {**HABIT, "density": "kg/m^3", "molar mass": "g/mol", "molar volume": "cm^3/mol", **(show or {})}
    rows = []
    for one in species:
        row: PlainData = {"name": one.name, "formula": one.formula or ""}
        known = one.known()
        if "molar_mass" not in known and one.formula:
            known = {"molar_mass": one.require("molar_mass", "the table"), **known}
        for name, value in known.items():
            words = name.replace("_", " ")
            if isinstance(value, Value):
                kind = PROPERTIES[name]
                unit = "K" if kind == "temperature" else chosen.get(kind, "") if kind != "number" else ""
                row[f"{words} [{unit}]" if unit else words] = value.to(unit)
            elif not value.seven:
                for power, c in enumerate(value.coefficients):
                    row[f"{words} {power} [J/mol/K{f'^{power + 1}' if power else ''}]"] = c.si
        rows.append({**row, "source": one.source})
    headings = dict.fromkeys(h for row in rows for h in row if h != "source")
    return pd.DataFrame(rows, columns=[*headings, "source"])
