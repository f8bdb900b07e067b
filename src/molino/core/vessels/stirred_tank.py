"""The continuous stirred tank."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np
import sympy as sp

from molino.core import units
from molino.core.balances.solve import Solution, steady
from molino.core.chemistry.formula import PRESSURE, TEMPERATURE
from molino.core.chemistry.network import Chemistry
from molino.core.errors import Faults, InputError
from molino.core.units import Value
from molino.core.vessels.base import Vessel, check_vessel, convert, settle_heat, volume_of_catalyst
from molino.core.vessels.conditions import Change, changed_tracks
from molino.core.vessels.feed import Feed, require_feed, settle
from molino.core.vessels.heat import Jacket, Programme
from molino.core.vessels.mixture import Contents, Mixture
from molino.core.vessels.run import Part, Run, follow
from molino.core.vessels.writing import FEED_T, FLOW, START_T, VOLUME, Inflow, Written, start_symbol, well_mixed

if TYPE_CHECKING:
    from molino.core.vessels.steady_states import Branch, SteadyStates


@dataclass(frozen=True)
class StirredTank(Vessel):
    """A continuous stirred tank: well mixed, at constant volume, of a liquid or a gas.

    dn_i/dt = F_i,in - Q c_i + V sum_j nu_ij r_j (O. Levenspiel, Chemical Reaction Engineering, 3rd ed. 1999, ch. 5),
    with as much flowing out as keeps it full, and where the temperature is not kept

        sum_i n_i Cp_i dT/dt = Q_wall + W - sum_i F_i,in (h_i(T) - h_i(T_in)) - V sum_j dH_j r_j

    (H. S. Fogler, Elements of Chemical Reaction Engineering, 5th ed. 2016, section 13.1).

    Parameters
    ----------
    chemistry : Chemistry
    feed : Feed
    volume : optional
        Of what is in it; or give `space_time` or `catalyst_mass`; or nothing and let `mo.size` find it.
    space_time : optional
        Volume over volumetric flow of the feed.
    catalyst_mass : optional
        With the bulk density (loading) of the catalyst.
    T : temperature, optional
        That is kept in the tank; that of the feed if left out. Where it is not kept, the temperature at t = 0.
    contents : mapping of species to concentration or amount, optional
        What is in it at t = 0, for start-up; the feed if left out.
    heat : "isothermal", "adiabatic", Adiabatic or Jacket
        What passes through the walls; isothermal if left out, with the duty that this takes.
    catalyst, name, show
        As for `Batch`.
    """

    noun: ClassVar[str] = "stirred tank"
    sizes: ClassVar[tuple[str, ...]] = ("volume", "space_time", "catalyst_mass")
    chemistry: Chemistry
    feed: Feed
    volume: Any = None
    space_time: Any = None
    catalyst_mass: Any = None
    T: Any = None
    contents: Any = None
    heat: Any = None
    catalyst: Any = None
    name: str = ""
    show: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        require_feed(self.feed, self.label)
        faults = Faults()
        convert(faults, self, volume="volume", space_time="time", T="temperature", catalyst_mass="mass")
        given = [n for n in self.sizes if getattr(self, n) is not None]
        if len(given) > 1:
            faults.add(self.label, f"{' and '.join(given)} say the same thing twice", "give one of them")
        if self.contents is not None:
            with faults.at(self.label):
                object.__setattr__(self, "contents", Contents(self.contents, False, "contents"))
        settle_heat(faults, self)
        with faults.at(self.label):
            if isinstance(self.heat, Programme):
                raise InputError(
                    "a tank at steady state has no programme", "heat", "change T on the way: tank.run(...)"
                )
            if isinstance(self.heat, Jacket):
                if self.heat.counter_current:
                    raise InputError("counter-current is along a tube", "heat", "give coil=True, or leave it out")
                if not np.isfinite(self.heat.conductance):
                    raise InputError("U is given without the area", "heat", "give area='6 m2', or UA")
        own = self.feed.T if self.moves_T else self.T or self.feed.T
        asks = "T of the feed" if self.moves_T else "T"
        check_vessel(faults, self, [*self.feed.contents, *(self.contents or ())], own, asks)
        with faults.at(self.label):
            volume_of_catalyst(self)
        faults.raise_any()

    def write(self) -> Written:
        return well_mixed(self.setup, (Inflow(),), "fixed", True, False)

    def mixture(self) -> Mixture:
        return self.feed.mixture(self.by_name)

    @property
    def start_T(self) -> Value | None:
        """Temperature at t = 0."""
        return self.T or self.feed.T  # type: ignore[no-any-return]

    def _inside(self) -> dict[str, float]:
        """Concentrations at t = 0; nan where amounts are given and the volume is not known yet."""
        T = self.start_T
        if self.contents is None:
            if not self.gas:
                return self.inlet()
            whole = sum(self.inlet().values())
            kept = Contents({s: Value(c / whole, "mol/mol") for s, c in self.inlet().items()}, False, "contents")
            return settle(kept, [], self.by_name, T, self.pressure, None, self.model).concentrations
        volume = self.volume_si
        if self.contents.extensive and np.isnan(volume):
            return dict.fromkeys(self.contents, np.nan)
        given = [Value(volume)] if np.isfinite(volume) else []
        return settle(self.contents, given, self.by_name, T, self.pressure, None, self.model).concentrations

    @property
    def pressure(self) -> Value | None:
        """Of a gas: that of the feed, which the tank keeps."""
        return Value(self.feed_pressure(), "Pa") if self.gas else None

    @property
    def volume_si(self) -> float:
        """Volume in m^3; nan while it is not known."""
        if self.volume is not None:
            return float(self.volume.si)
        if self.catalyst_mass is not None:
            return float(self.catalyst_mass.si / self.catalyst.bulk_density.si)
        return float(self.space_time.si * self.fed.volume) if self.space_time is not None else np.nan

    def numbers(self) -> dict[sp.Symbol, float]:
        T = self.start_T.si if self.start_T is not None else np.nan
        found = {start_symbol(s): c for s, c in self._inside().items()}
        found |= {VOLUME: self.volume_si, FLOW: self.fed.volume, PRESSURE: self.feed_pressure()}
        return found | {TEMPERATURE: T, START_T: T, FEED_T: self.feed.T.si if self.feed.T is not None else T}

    @property
    def end(self) -> float:
        return np.inf

    def given(self) -> list[tuple[str, Value | None]]:
        own = [("volume", self.volume), ("time", self.space_time), ("mass", self.catalyst_mass)]
        return [*own, ("temperature", self.T), *self.feed.given()]

    def require_volume(self) -> None:
        """Raise InputError while the volume is not known."""
        if not np.isfinite(self.volume_si):
            advice = "give volume='4 m3' or space_time='20 min', or size it: mo.size(..., vary='volume')"
            raise InputError("no volume is given", self.label, advice)

    def steady(self, near: np.ndarray | None = None) -> Run:
        """The steady state that the tank settles to from what is in it at t = 0.

        Where there may be several, `steady_states` finds them all.

        Parameters
        ----------
        near : array, shape (states,), optional
            A state of a like tank, next to which the steady state is looked for first.

        Raises
        ------
        InputError
            If there is no volume, or constants are still unknown.
        SolveError
            If it never settles.
        """
        self.require_volume()
        self.require_known()
        state, report = steady(self.case, self.volume_si / self.fed.volume, near)
        return self.at_rest(state, report)

    def steady_states(self, T: tuple[Any, Any] | None = None) -> SteadyStates:
        """All steady states within bounds of temperature, each with its stability.

        At every temperature between the bounds the balances of the species are solved, following their solution as a
        curve (through folds) from the coldest; where along it the heat made meets the heat removed there is a steady
        state. All are found that lie on this curve; amounts that have several steady states at one temperature, not
        joined to it, would be missed.

        Parameters
        ----------
        T : pair of temperatures, optional
            Bounds; from the coldest of what goes in to 600 K above the hottest, if left out.

        Raises
        ------
        InputError
            If the temperature of the tank is kept, or the bounds are none.
        SolveError
            If the curve cannot be followed.
        """
        from molino.core.vessels.steady_states import steady_states

        return steady_states(self, T)

    def branch(self, vary: str, between: tuple[Any, Any]) -> Branch:
        """The steady states as one condition varies, followed through ignition and extinction.

        Parameters
        ----------
        vary : str
            A condition as `mo.under` names it: "feed T", "coolant T", "flow", "[A]", "volume".
        between : pair of values
            The curve begins at the first, with the steady state that the tank settles to there.

        Raises
        ------
        InputError
            If there is no such condition, or the range is none.
        SolveError
            If the curve cannot be followed.
        """
        from molino.core.vessels.steady_states import branch

        return branch(self, vary, between)

    def at_rest(self, state: np.ndarray, report: Any) -> Run:
        """The run of one steady state."""
        return Run(self, Solution(np.array([np.inf]), state[None, :], None, report), (Part(self.case, 1, np.inf),))

    def run(self, time: Any, points: Any = 101, changes: Sequence[Change] = ()) -> Run:
        """Follow the tank for some time from what is in it at t = 0, through changes on the way.

        Parameters
        ----------
        time : str, float or quantity
        points : int or array of s
            As for `Batch.run`.
        changes : sequence of Change, optional
            Steps and ramps of feed, flow, temperature or coolant: [mo.Change("feed T", "60 degC", at="2 h")].

        Raises
        ------
        InputError
            If there is no volume, constants are still unknown, or a change is none.
        SolveError
            If the integration cannot go on.
        """
        self.require_volume()
        end = units.positive(time, "time", f"{self.label}, time").si
        # the elements in a tank that fills are integrated, not invariant as in a batch: their closure needs the tenth
        as_built = self.with_(volume=Value(self.volume_si, "m^3"), space_time=None, catalyst_mass=None)
        return follow(self, end, points, tighter=10.0, tracks=changed_tracks(as_built, changes))

    def outcome(self) -> Run:
        return self.steady()

    def __str__(self) -> str:
        sizes = {"of": self.volume, "of space time": self.space_time, "of catalyst mass": self.catalyst_mass}
        size = "".join(f" {name} {value}" for name, value in sizes.items() if value is not None)
        at = f" at {self.T}" if self.T is not None else ""
        ends = f", {self.heat}," if self.heat is not None else ""
        return f"{self.title}{size}{at}{ends} fed {self.feed}"
