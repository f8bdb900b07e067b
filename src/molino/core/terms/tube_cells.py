"""A cell of a tube over time: what reacts, warms and is taken up in a unit of its volume, as symbols.

Along a tube that is followed over time the balances hold for cells of finite volume. A cell is a well-mixed place of a
unit volume with the fluid's share e of it; the flows through its faces are added by `tube_in_time`,
which knows the cells as columns.

    dn_i/dt = sum_j nu_ij r_j + (F_i,in - F_i,out)/dV,    n_i = e c_i
    C dT/dt = U a (T_c - T) - sum_j dH_j r_j + (streams at their own temperatures)/dV
"""

from __future__ import annotations

from collections.abc import Sequence
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
"""The name that the parameters of what passes a face carry."""


@dataclass(frozen=True, eq=False)
class CellModel:
    """The functions of a cell, each over columns of places.

    Attributes
    ----------
    states : tuple of State
        Amounts of the species per volume, then the temperature where it follows from a balance, then what stands still
        (loadings, the activity of a catalyst).
    local : PointFunctions
        Slopes of the species and of what stands still; with energy also what heats (W/m^3) and the heat capacity
        (J/(m^3 K)), that of the fluid by itself; without a volume of its own the partial molar volumes and dV/dT.
    face : PointFunctions
        Of what passes a face, per volume: its volume, and the enthalpy it brings above that of the place.
    wall : int or None
        Which of `local` is the heat through the wall.
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

    def add(name: str, new: Sequence[sp.Expr]) -> None:
        places[name] = slice(len(expressions), len(expressions) + len(new))
        expressions.extend(new)

    if key.has_energy:
        fluid = phase.capacity(content, HELD)
        definitions.append((HELD_CAPACITY, fluid + WALL))
        inside = [part.heating for part in total.parts if not part.is_wall]
        add("heating", [sp.Add(*inside)])
        add("wall", [total.wall])
        add("capacity", [HELD_CAPACITY, fluid])
        add("enthalpy", [phase.enthalpy(content, HELD) + WALL * TEMPERATURE])
    if key.catalyst.law is not None:
        add("activity at start", [key.catalyst.law])
    if not phase.carries_volume:
        add("volumes", [content.volume_by_amount(i) for i in range(len(species))])
        add("volume by T", [content.volume_by_T])
    parameters = [*key.symbols, *total.parameters, HELD, WALL, *moving]
    parameters += [PRESSURE] if phase.is_gas else []
    parameters += [TRANSFER, COOLANT] if key.heat.mode == "jacket" else []
    unknown = [s for s in dict.fromkeys(parameters) if not (follows_T and s == TEMPERATURE)]
    balances = Balances(TIME, tuple(states), tuple(definitions), tuple(ZERO for _ in states), tuple(unknown))
    stream = tuple(INLET(FACE, s) for s in species)
    passing = Content(phase, stream, STREAM_T(FACE), PRESSURE, f"{FACE} ")
    found: list[sp.Expr] = [ZERO if phase.carries_volume else passing.volume]
    if key.has_energy:
        found.append(phase.sensible_enthalpy(stream, STREAM_T(FACE), TEMPERATURE, sp.Integer(1)))
        found.append(phase.enthalpy(passing, sp.Integer(1)))
    inputs = (TEMPERATURE, *stream, STREAM_T(FACE))
    with_face = Balances(TIME, (), (), (), tuple(dict.fromkeys((*unknown, *inputs))))
    return CellModel(
        key,
        tuple(states),
        PointFunctions(balances, expressions, moving),
        PointFunctions(with_face, found, inputs),
        follows_T,
        places,
        moving,
    )
