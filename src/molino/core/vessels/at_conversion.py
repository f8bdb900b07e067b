"""A vessel at a given conversion."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from typing import ClassVar

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.annotations import ByName
from molino.core.balances.balance_symbols import EXTENT, GIVEN_CONVERSION, GIVEN_EXTENT
from molino.core.balances.compiled import compiled
from molino.core.balances.system import Case
from molino.core.chemistry.chemistry import Chemistry
from molino.core.contents.feed import Feed
from molino.core.contents.mixture_equations import Mixture
from molino.core.contract.condition import Condition
from molino.core.contract.validation import check_vessel, read_vessel_heat
from molino.core.dual import Number
from molino.core.errors import Faults, InputError, SolveError, nearest
from molino.core.frozen import FrozenMapping, settle
from molino.core.schema import QuantityField, ReadField, quantity, read_fields, several_forms
from molino.core.terms.model import Model, ModelKey, Reading
from molino.core.units import Value
from molino.core.vessels.outlet_vessel import Outlet, OutletSpecification, OutletVessel, Unknowns

_BELOW = 1e-9
"""A negative flow below this fraction of the total is rounding."""


class AtConversionSpecification(OutletSpecification):
    """The specification of an AtConversion."""

    vessel: AtConversion
    method: ClassVar[str] = "balances of the extents"

    def validate_fed(self) -> None:
        vessel = self.vessel
        faults = Faults()
        read_fields(vessel, faults, self.label)
        settle(vessel, keys=FrozenMapping(dict(vessel.keys)))
        found = {}
        names = [str(r.name) for r in self.chemistry.reactions]
        for name in [*vessel.conversions, *vessel.keys]:
            if name not in names:
                faults.add(self.label, f"unknown reaction '{name}'", nearest(str(name), names))
        if not vessel.conversions:
            faults.add(self.label, "no conversion is given", "write {'r1': 0.7}")
        for name, given in vessel.conversions.items() if not faults.found else ():
            with faults.at(f"{self.label}, {name}"):
                found[name] = _read(given)
                self.key_reactant(name)
        if not faults.found:
            settle(vessel, conversions=FrozenMapping(found))
        read_vessel_heat(faults, vessel)
        with faults.at(self.label):
            self.check_heat()
        own = vessel.feed.T if self.is_non_isothermal else vessel.T or vessel.feed.T
        if not faults.found:
            check_vessel(faults, self, vessel.feed.contents, own, "T of the feed")
        faults.raise_any()

    def key_reactant(self, reaction: str) -> str:
        """The species whose conversion is given."""
        net = self.chemistry.reaction(reaction).equation.net
        consumed = [s for s, moles in net.items() if moles < 0]
        key = self.vessel.keys.get(reaction, consumed[0] if consumed else "")
        if key not in consumed:
            advice = nearest(key, consumed) if consumed else "give its extent, like '2 mol/s'"
            raise InputError(f"{key or 'a key reactant'} is not consumed by {reaction}", "", advice)
        return key

    def build_model(self) -> Model:
        network = self.chemistry.network
        kinds = tuple(
            (name, value.unit != "", network.species.index(self.key_reactant(name)))
            for name, value in self.vessel.conversions.items()
        )
        return _model(self.key, kinds, self.vessel.in_series)

    def own_numbers(self, given: Mapping[str, Number], fed: Mixture) -> dict[sp.Symbol, Number]:
        found = super().own_numbers(given, fed)
        for name, value in self.vessel.conversions.items():
            symbol = GIVEN_EXTENT if value.unit != "" else GIVEN_CONVERSION
            found[symbol(name)] = given.get(f"{_word(value)} of {name}", value.si)
        return found

    def more_conditions(self) -> Iterable[Condition]:
        yield from super().more_conditions()
        for name, value in self.vessel.conversions.items():

            def put(v: object, name: str = name) -> AtConversion:
                return self.vessel.with_(conversions={**self.vessel.conversions, name: v})

            kind = "molar flow" if value.unit != "" else "number"
            yield Condition(
                f"{_word(value)} of {name}",
                kind,
                lambda v, kind=kind: (units.positive(v, kind, "", zero=True).si, kind),  # type: ignore[misc]
                put,
                value.si,
                kind,
                value=value,
            )

    def given_inputs(self) -> list[tuple[str, Value | None]]:
        return [*super().given_inputs(), *(("molar flow", v) for v in self.vessel.conversions.values() if v.unit)]

    def composition(self, case: Case, T: float, near: np.ndarray | None) -> tuple[Case, np.ndarray, int]:
        n = len(self.chemistry.names)
        rows = case.balances.rhs[:n]
        state = np.append(np.zeros(n), T) if self.is_non_isothermal else np.zeros(n)
        flows = np.array(compiled(case.balances).outputs(rows)(case.values)(state, 0.0), dtype=float)
        if float(flows.min()) < -_BELOW * float(np.abs(flows).sum()):
            worst = int(np.argmin(flows))
            message = f"{self.chemistry.names[worst]} is negative: the reactions consume more than there is"
            raise SolveError(message, self.label, "give smaller conversions, or in_series=True")
        return case, np.maximum(flows, 0.0), 1


@dataclass(frozen=True, eq=False)
class AtConversion(OutletVessel):
    """A vessel in which each reaction reaches a given conversion or extent: outlet, streams and duty.

    F_i = F_i,in + sum_j nu_ij xi_j (O. A. Hougen, K. M. Watson, R. A. Ragatz, Chemical Process Principles I, 2nd ed.
    1954, chapter 10). Rate laws are not needed: mo.Reaction("A -> B").

    Parameters
    ----------
    chemistry : Chemistry
    feed : Feed
    conversions : mapping of reaction to number or molar flow
        For each reaction the conversion of its key reactant, 0.7, or its extent, "2 mol/s". Reactions left out do not
        proceed.
    keys : mapping of reaction to species
        The key reactant; by default the first on the left.
    in_series : bool
        Whether a conversion refers to the key reactant left by the reactions before it, in their order here; otherwise
        it refers to the feed.
    T : temperature, optional
        Prescribed; by default that of the feed.
    P : pressure, optional
        Of a gas at the outlet; by default that of the feed.
    heat : "isothermal", "adiabatic", Adiabatic, Duty or Jacket
        Isothermal by default; the duty is then a result.
    name : str
    show : mapping of kind to unit

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> chem = mo.Chemistry([mo.Reaction("A -> 2 B", name="main"), mo.Reaction("A -> C", name="side")])
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> run = mo.AtConversion(chem, feed, {"main": 0.7, "side": 0.1}).run()
    >>> round(run.yield_of("B", "A"), 6), round(run.conversion("A"), 6)
    (0.7, 0.8)
    """

    noun: ClassVar[str] = "given conversion"
    chemistry: Chemistry
    feed: Feed
    conversions: ByName
    keys: Mapping[str, str] = field(default_factory=dict)
    in_series: bool = False
    T: QuantityField = quantity("temperature", setting=True, independent=True)
    P: QuantityField = quantity("pressure", setting=True, independent=True)
    heat: ReadField = several_forms()
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)

    @cached_property
    def spec(self) -> AtConversionSpecification:
        return AtConversionSpecification(self)

    def __str__(self) -> str:
        parts = ", ".join(f"{_word(v)} of {n} {v}" for n, v in self.conversions.items())
        ends = f", {self.heat}," if self.heat is not None else ""
        return f"{self.title}: {parts}{', in series' if self.in_series else ''}{ends} fed {self.feed}"


def _read(given: object) -> Value:
    """A conversion between 0 and 1 (of unit ''), or an extent."""
    value = units.read(given)
    if value.unit is not None and units.unit(value.unit).dimension == units.unit("mol/s").dimension:
        return units.positive(value, "molar flow", "", zero=True)
    share = units.positive(value, "number", "", zero=True)
    if share.si > 1:
        raise InputError(f"{given} is more than one", "", "a conversion lies between 0 and 1; give an extent in mol/s")
    return Value(share.si, "", share.deviation)


def _word(value: Value) -> str:
    return "extent" if value.unit != "" else "conversion"


@lru_cache(maxsize=256)
def _model(key: ModelKey, given: tuple[tuple[str, bool, int], ...], in_series: bool) -> Model:
    return _AtConversion(key, given, in_series).model()


class _AtConversion(Outlet):
    """Flows by extents; `given` has for each reaction its name, whether its extent is given, and its key reactant."""

    def __init__(self, key: ModelKey, given: tuple[tuple[str, bool, int], ...], in_series: bool) -> None:
        super().__init__(key)
        self.given, self.in_series = given, in_series
        self.columns = {
            name: dict(column) for name, column in zip(key.network.reactions, key.network.stoichiometry, strict=True)
        }

    def unknowns(self) -> Unknowns:
        made = [
            sp.Add(*(sp.Rational(self.columns[name].get(i, 0)) * EXTENT(name) for name, _, _ in self.given))
            for i in range(len(self.species))
        ]
        return [
            self.flow(i, fed + change - F)
            for i, (fed, change, F) in enumerate(zip(self.fed, made, self.flows, strict=True))
        ]

    def definitions(self) -> list[tuple[sp.Symbol, sp.Expr]]:
        found: list[tuple[sp.Symbol, sp.Expr]] = []
        for name, by_extent, i in self.given:
            passed = (
                [
                    sp.Rational(self.columns[other].get(i, 0)) * EXTENT(other)
                    for other, _ in ((str(s.owner), e) for s, e in found)
                ]
                if self.in_series
                else []
            )
            there = sp.Add(self.fed[i], *passed)
            share = GIVEN_CONVERSION(name) * there / -sp.Rational(self.columns[name][i])
            found.append((EXTENT(name), GIVEN_EXTENT(name) if by_extent else share))
        return found

    def parameters(self) -> list[sp.Symbol]:
        return [(GIVEN_EXTENT if by_extent else GIVEN_CONVERSION)(name) for name, by_extent, _ in self.given]

    def readings(self) -> dict[str, Reading]:
        return {f"extent of {n}": Reading(EXTENT(n), "molar flow", f"extent of {n}") for n, _, _ in self.given}
