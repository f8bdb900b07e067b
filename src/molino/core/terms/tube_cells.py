"""A cell of a tube over time: reaction, heating and adsorption per unit of volume, as symbols.

Along a tube that is followed over time the balances hold for cells of finite volume. A cell is a well-mixed place of
unit volume with a fraction e of fluid; the flows through its faces are added by `core.runs.cells`, with the cells as
columns.

    dn_i/dt = sum_j nu_ij r_j + (F_i,in - F_i,out)/dV,    n_i = e c_i
    C dT/dt = U a (T_c - T) - sum_j dH_j r_j + (streams at their own temperatures)/dV
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import sympy as sp

from molino.core.balances.balance_symbols import (
    ACTIVITY,
    AMOUNT,
    COOLANT,
    HELD,
    HELD_CAPACITY,
    INLET,
    STREAM_T,
    TRANSFER,
    WALL,
)
from molino.core.balances.collocation import PointFunctions
from molino.core.balances.system import TIME, ZERO, Balances, State
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE, species_in
from molino.core.terms.model import ModelKey, kinetics
from molino.core.terms.terms import Place, Sum, Term, coolant_along, reaction
from molino.core.thermo.phase_model import Content

FACE = "face"
"""The name of a stream through a face in its parameters."""


@dataclass(frozen=True, eq=False)
class CellModel:
    """The functions of a cell, each over columns of places.

    Attributes
    ----------
    states : tuple of State
        Amounts of the species per volume, then the temperature if it has a balance, then immobile states (loadings, the
        activity of a catalyst).
    local : PointFunctions
        Derivatives of the species and of the immobile states; with energy also heating (W/m^3) and heat capacity
        (J/(m^3 K)) of the whole and of the fluid; where the volume follows from the amounts also the partial molar
        volumes and dV/dT.
    face : PointFunctions
        Of a stream through a face, per volume: its volume, and its enthalpy relative to that of the place.
    wall : int or None
        The place of the heat through the wall in `local`.
    """

    key: ModelKey
    states: tuple[State, ...]
    local: PointFunctions
    face: PointFunctions
    follows_T: bool
    places: dict[str, slice]
    moving: tuple[sp.Symbol, ...]


@lru_cache(maxsize=64)
def cell_model(key: ModelKey, moving: tuple[sp.Symbol, ...], more: tuple[Term, ...] = ()) -> CellModel:
    """The model of a cell.

    Parameters
    ----------
    key : ModelKey
    moving : parameters that have a value of their own at each moment
    more : further terms, as an adsorption
    """
    species, phase = key.network.species, key.phase
    amounts = tuple(AMOUNT(s) for s in species)
    asked = frozenset(s for term in more for s in getattr(term, "asked", ()) if species_in(s) is not None)
    content = Content(phase, amounts, TEMPERATURE, PRESSURE)
    place = Place(key, amounts, HELD, sp.Integer(1), content, kinetics(key, amounts, HELD, asked))
    terms: list[Term] = [reaction, *more, *([coolant_along] if key.heat.mode == "jacket" else [])]
    total = Sum(place, terms)
    states = [State(s, n, "amount", ZERO, sp.Integer(1)) for s, n in zip(species, amounts, strict=True)]
    follows_T = key.heat.is_non_isothermal
    if follows_T:
        states.append(State("T", TEMPERATURE, "temperature", ZERO, sp.Integer(1)))
    own = [*total.states]
    if key.catalyst.law is not None:
        assert key.catalyst.slope is not None
        own.append((State("activity", ACTIVITY, "number", ZERO, sp.Integer(1)), key.catalyst.slope))
    states += [state for state, _ in own]
    definitions = [*content.definitions, *place.kinetics.definitions, *total.definitions]
    expressions: list[sp.Expr] = [*total.rhs, *(slope for _, slope in own)]
    places = {"species": slice(0, len(species)), "still": slice(len(species), len(expressions))}

    if key.has_energy:
        definitions.append((HELD_CAPACITY, phase.capacity(content, HELD) + WALL))
    for name, more_expressions in _further(key, content, total).items():
        places[name] = slice(len(expressions), len(expressions) + len(more_expressions))
        expressions.extend(more_expressions)
    parameters = [*key.symbols, *total.parameters, HELD, WALL, *moving]
    parameters += [PRESSURE] if phase.is_gas else []
    parameters += [TRANSFER, COOLANT] if key.heat.mode == "jacket" else []
    unknown = [s for s in dict.fromkeys(parameters) if not (follows_T and s == TEMPERATURE)]
    balances = Balances(TIME, tuple(states), tuple(definitions), tuple(ZERO for _ in states), tuple(unknown))
    inside = PointFunctions(balances, expressions, moving)
    return CellModel(key, tuple(states), inside, _face(key, unknown), follows_T, places, moving)


def _further(key: ModelKey, content: Content, total: Sum) -> dict[str, list[sp.Expr]]:
    """Expressions that the balances of a cell need besides the slopes of its states."""
    phase, found = key.phase, {}
    if key.has_energy:
        found["heating"] = [sp.Add(*(part.heating for part in total.parts if not part.is_wall))]
        found["wall"] = [total.wall]
        found["capacity"] = [HELD_CAPACITY, phase.capacity(content, HELD)]
        found["enthalpy"] = [phase.enthalpy(content, HELD) + WALL * TEMPERATURE]
    if key.catalyst.law is not None:
        found["activity at start"] = [key.catalyst.law]
    if not phase.carries_volume:
        found["volumes"] = [content.volume_by_amount(i) for i in range(len(key.network.species))]
        found["volume by T"] = [content.volume_by_T]
    return found


def _face(key: ModelKey, parameters: list[sp.Symbol]) -> PointFunctions:
    """Volume and enthalpies of the stream through a face between cells."""
    phase = key.phase
    stream = tuple(INLET(FACE, s) for s in key.network.species)
    passing = Content(phase, stream, STREAM_T(FACE), PRESSURE, f"{FACE} ")
    found: list[sp.Expr] = [ZERO if phase.carries_volume else passing.volume]
    if key.has_energy:
        found.append(phase.sensible_enthalpy(stream, STREAM_T(FACE), TEMPERATURE, sp.Integer(1)))
        found.append(phase.enthalpy(passing, sp.Integer(1)))
    inputs = (TEMPERATURE, *stream, STREAM_T(FACE))
    return PointFunctions(Balances(TIME, (), (), (), tuple(dict.fromkeys((*parameters, *inputs)))), found, inputs)
