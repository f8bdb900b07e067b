"""The balances along a tube with axial dispersion."""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property, lru_cache
from typing import Literal

import sympy as sp

from molino.core.balances.balance_symbols import (
    CARRIED,
    CONDUCTED,
    CONDUCTION,
    FEED_T,
    FLOW,
    HEAT_SPREAD,
    HELD_CAPACITY,
    INLET,
    INSIDE,
    INSIDE_T,
    LOCAL,
    SPREAD,
    VESSEL_VOLUME,
)
from molino.core.balances.system import Balances, State
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.terms.along_tube import Tube
from molino.core.terms.model import Model, ModelKey, Reading, total
from molino.core.terms.terms import Term
from molino.core.thermo.phase_model import Content

HeatBy = Literal["dispersion", "conduction"]


@lru_cache(maxsize=256)
def along_dispersed(key: ModelKey, terms: tuple[Term, ...], heat_by: HeatBy) -> Model:
    """The model of a tube with axial dispersion, closed at both ends.

    The net molar flow F_i along the tube is the sum of convection and dispersion,

        F_i = Q c_i - D A dc_i/dz,   dF_i/dV = sum_j nu_ij r_j,   V = A z

    with the mole fractions where the volume follows from the amounts, F_i = (sum F) x_i - D A c dx_i/dz, so that
    dispersion transports no volume. The ends are closed: F_i is the feed at the inlet, and F_i = Q c_i at the outlet
    (P. V. Danckwerts, Chem. Eng. Sci. 2 (1953) 1). Heat is dispersed in the same way,

        d(sum F_i h_i + q)/dV = U a (T_c - T),   q = -k A dT/dz,   k = D_h C

    with C the heat capacity per volume, or a given k.

    Parameters
    ----------
    key : ModelKey
    terms : tuple of Term
        As of `along_tube`.
    heat_by : "dispersion" or "conduction"
        Whether heat is transported by a dispersion coefficient or by a conductivity.
    """
    return _Dispersed(key, terms, heat_by).model()


class _Dispersed(Tube):
    def __init__(self, key: ModelKey, terms: tuple[Term, ...], heat_by: HeatBy) -> None:
        super().__init__(key, terms)
        self.conducts = heat_by == "conduction"
        self.local = tuple(LOCAL(s) for s in self.species)
        self.by_fraction = not key.phase.carries_volume
        """Whether compositions are mole fractions, because the volume follows from the amounts."""

    def _carried(self) -> tuple[sp.Symbol, ...]:
        return tuple(CARRIED(s) for s in self.species)

    @cached_property
    def flowing(self) -> Content:
        return Content(self.phase, self.flows, TEMPERATURE, PRESSURE, "net ")

    def _definitions(self) -> list[tuple[sp.Symbol, sp.Expr]]:
        whole = sp.Add(*self.flows) if self.by_fraction else self.here
        carried = [(CARRIED(s), whole * LOCAL(s)) for s in self.species]
        return [*carried, *super()._definitions()]

    def _states(self) -> list[tuple[State, sp.Expr]]:
        plain, count = super()._states(), len(self.species)
        found = [
            (replace(state, name=f"net flow of {name}", kind="net molar flow"), slope)
            for (state, slope), name in zip(plain, self.species, strict=False)
        ]
        found += plain[count:]
        kind, scale = ("concentration", total(self.key.network, INLET))
        spread: sp.Expr = SPREAD
        if self.by_fraction:
            kind, scale, spread = "mole fraction", sp.Integer(1), SPREAD * sp.Add(*self.flows) / self.here
        for name, symbol, flow in zip(self.species, self.local, self.flows, strict=True):
            found.append((State(name, symbol, kind, INSIDE(name), scale), (CARRIED(name) - flow) / spread))
        if self.key.heat.is_non_isothermal:
            found = self._with_conduction(found)
        return found

    def _with_conduction(self, states: list[tuple[State, sp.Expr]]) -> list[tuple[State, sp.Expr]]:
        """The temperature by the conducted heat, and the conducted heat by the energy balance."""
        place = next(i for i, (state, _) in enumerate(states) if state.symbol == TEMPERATURE)
        state, warming = states[place]
        if self.conducts:
            conduction: sp.Expr = CONDUCTION
        else:
            conduction = HEAT_SPREAD / self.here * self.phase.capacity(self.place.content, self.here)
        slope = -CONDUCTED / conduction
        first = self.phase.sensible_enthalpy(self.fed, FEED_T, INSIDE_T, FLOW)
        scale = (
            self.phase.capacity(Content(self.phase, self.fed, FEED_T, PRESSURE, "fed "), FLOW).xreplace(
                {TEMPERATURE: FEED_T}
            )
            * FEED_T
        )
        states[place] = (replace(state, initial=INSIDE_T), slope)
        states.append(
            (State("heat by dispersion", CONDUCTED, "power", first, scale), HELD_CAPACITY * (warming - slope))
        )
        return states

    def _parameters(self) -> list[sp.Symbol]:
        found = [*super()._parameters(), SPREAD, *(INSIDE(s) for s in self.species), VESSEL_VOLUME]
        if self.key.heat.is_non_isothermal:
            found += [INSIDE_T, CONDUCTION if self.conducts else HEAT_SPREAD]
        return list(dict.fromkeys(found))

    def _balances(self) -> Balances:
        plain = super()._balances()
        conditions = [(INSIDE(s), (CARRIED(s) - F) / self.scale) for s, F in zip(self.species, self.flows, strict=True)]
        if self.key.heat.is_non_isothermal:
            conditions.append((INSIDE_T, CONDUCTED / plain.states[-1].scale))
        return replace(plain, conditions=(*plain.conditions, *conditions), extent=VESSEL_VOLUME)

    def _readings(self) -> dict[str, Reading]:
        found = super()._readings()
        for s, F in zip(self.species, self.flows, strict=True):
            found[f"net flow of {s}"] = Reading(F, "molar flow", f"net flow of {s}")
        return found

    def _enthalpy_flow(self) -> sp.Expr:
        plain = super()._enthalpy_flow()
        return plain + CONDUCTED if self.key.heat.is_non_isothermal else plain
