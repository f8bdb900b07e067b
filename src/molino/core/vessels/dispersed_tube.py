"""The tube with axial dispersion."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, fields, replace
from functools import cached_property
from typing import ClassVar

import numpy as np
import sympy as sp

from molino.core.balances.balance_symbols import (
    CONDUCTION,
    HEAT_SPREAD,
    INLET,
    INSIDE,
    INSIDE_T,
    LOCAL,
    MOLAR_FLOW,
    SPREAD,
    VESSEL_VOLUME,
)
from molino.core.balances.settings import ATOL, RTOL
from molino.core.balances.system import Case
from molino.core.chemistry.findings import Finding
from molino.core.chemistry.formula import TEMPERATURE
from molino.core.contents.feed import is_molar
from molino.core.contents.mixture_equations import Mixture
from molino.core.contract.condition import Condition, number_condition
from molino.core.contract.review import VesselReview
from molino.core.contract.run_result import RunResult
from molino.core.dual import Number
from molino.core.errors import Faults, InputError, SolveError
from molino.core.runs.run import Run
from molino.core.schema import part
from molino.core.terms.along_dispersed import along_dispersed
from molino.core.terms.dispersion import Dispersion, FlowInTube
from molino.core.terms.heat import Profile
from molino.core.terms.model import Model
from molino.core.units import QuantityLike
from molino.core.vessels.plug_flow import PlugFlow, PlugFlowSpecification

_COARSE = 60
"""Cells of a start-up that gives a first guess of the steady profile."""
_MOST_PECLET = 1e8
"""Péclet number beyond which a tube is plug flow within the tolerance of its profile."""
_START_UP = 12.0
"""Its length, in space times."""


class DispersedTubeSpecification(PlugFlowSpecification):
    """The specification of a DispersedTube."""

    vessel: DispersedTube

    def validate_fed(self) -> None:
        vessel = self.vessel
        faults = Faults()
        if not isinstance(vessel.dispersion, Dispersion):
            given = (
                "no dispersion is given" if vessel.dispersion is None else f"{vessel.dispersion!r} is not a dispersion"
            )
            faults.add(self.label, given, "give dispersion=mo.Dispersion(peclet=40), or use plug flow")
        if isinstance(vessel.heat, Profile) or vessel.profiles:
            message = "with dispersion no condition can have a profile along the tube"
            faults.add(self.label, message, "leave profiles out, or use plug flow")
        faults.raise_any()
        super().validate_fed()
        if self.phase.real is not None or self.phase.activity is not None:
            message = "dispersion needs an ideal gas or liquid, and this feed has another model"
            faults.add(self.label, message, "leave the model of the feed out")
        found = self.flow_in_tube({}, self.fed, 1.0)
        for what, remedy in vessel.dispersion.faults(found):
            faults.add(self.label, what, remedy)
        faults.raise_any()

    def flow_in_tube(self, given: Mapping[str, Number], fed: Mixture, end: Number) -> FlowInTube:
        """The properties of the flow that correlations use."""
        vessel = self.vessel
        has_width = vessel.diameter is not None or "diameter" in given
        area = self.area(given) if has_width else 1.0
        packing, density = vessel.catalyst, None
        if vessel.feed.density is not None and not is_molar(vessel.feed.density):
            density = vessel.feed.density.si
        elif vessel.dispersion.takes_density:
            try:
                density = self.mass_flow(fed) / fed.volume
            except InputError:
                density = None
        return FlowInTube(
            fed.volume / area,
            self.width(given) if has_width else math.nan,
            end / area,
            packing.voidage.si if packing is not None else 1.0,
            packing.particle_diameter.si if packing is not None and packing.particle_diameter is not None else None,
            density,
        )

    def build_model(self) -> Model:
        conducts = self.vessel.dispersion.conductivity is not None
        return along_dispersed(self.key, self.terms, "conduction" if conducts else "dispersion")

    def own_numbers(self, given: Mapping[str, Number], fed: Mixture) -> dict[sp.Symbol, Number]:
        found, end, dispersion = super().own_numbers(given, fed), self.end(given, fed), self.vessel.dispersion
        flow = self.flow_in_tube(given, fed, end)
        # D A^2 with the fraction e of the cross-section A that is fluid: (D/v) v e A^2 = (D/v) Q A, and A is V/L
        area = end / flow.length
        spread = dispersion.per_velocity(flow, given) * fed.volume * area
        found |= {SPREAD: spread, VESSEL_VOLUME: end}
        total: Number = 0.0
        for c in fed.concentrations.values():
            total = total + c
        for s in self.chemistry.names:
            share = fed.concentrations.get(s, 0.0)
            found[INSIDE(s)] = share if self.phase.carries_volume else share / total
            found[INLET(s)] = share
        if self.is_non_isothermal:
            found[INSIDE_T] = self.temperatures(given)[1]
            if dispersion.conductivity is not None:
                found[CONDUCTION] = dispersion.conductivity.si * area**2.0
            elif dispersion.heat is not None:
                found[HEAT_SPREAD] = dispersion.heat.si * flow.voidage * area**2.0
            else:
                found[HEAT_SPREAD] = spread
        return found

    def more_conditions(self) -> Iterable[Condition]:
        yield from super().more_conditions()
        for name, field, kind in (("dispersion", "coefficient", "diffusivity"), ("peclet", "peclet", "number")):
            own = getattr(self.vessel.dispersion, field)
            if own is not None:
                yield number_condition(name, kind, own, self.put_dispersion(field))

    def put_dispersion(self, field: str) -> Callable[[QuantityLike], DispersedTube]:
        def put(value: QuantityLike) -> DispersedTube:
            return self.vessel.with_(dispersion=replace(self.vessel.dispersion, **{field: value}))

        return put

    @property
    def has_boundary_values(self) -> bool:
        return True

    @cached_property
    def case(self) -> Case:
        return super(PlugFlowSpecification, self).case

    def profile_guesses(self, shares: np.ndarray) -> Iterator[dict[sp.Symbol, np.ndarray]]:
        """Plug flow, a guess for an ignited tube, which a flat profile does not lead to; then the tube after a
        start-up."""
        for guess in (self.by_plug_flow, self.by_start_up):
            with contextlib.suppress(SolveError, InputError):
                yield guess(shares)

    def by_start_up(self, shares: np.ndarray) -> dict[sp.Symbol, np.ndarray]:
        """The tube in coarse cells after several space times, from its feed."""
        settled = self.vessel.follow(_START_UP * self.end_si / float(self.fed.volume), cells=_COARSE, points=2)
        middle = (np.arange(_COARSE) + 0.5) / _COARSE
        found = {
            LOCAL(s): np.interp(shares, middle, settled.inside[f"concentration of {s}"][-1])
            for s in self.chemistry.names
        }
        found |= {MOLAR_FLOW(s): found[LOCAL(s)] * float(self.fed.volume) for s in self.chemistry.names}
        if "temperature" in settled.inside:
            found[TEMPERATURE] = np.interp(shares, middle, settled.inside["temperature"][-1])
        return found

    def by_plug_flow(self, shares: np.ndarray) -> dict[sp.Symbol, np.ndarray]:
        """The same tube without dispersion."""
        given = {f.name: getattr(self.vessel, f.name) for f in fields(PlugFlow)}
        run = PlugFlow(**given).run()
        states = run.trajectory.at(shares * run.trajectory.end)
        found = {symbol: states[:, i] for i, symbol in enumerate(run.vessel.spec.model.followed.symbols)}
        flows = np.array([found[MOLAR_FLOW(s)] for s in self.chemistry.names])
        whole = flows.sum(axis=0) if not self.phase.carries_volume else float(self.fed.volume)
        return found | {LOCAL(s): row / whole for s, row in zip(self.chemistry.names, flows, strict=True)}

    def require_resolved(self) -> None:
        """Raise InputError if dispersion is so small that the tube does not differ from plug flow."""
        if self.vessel.peclet > _MOST_PECLET:
            message = f"its Péclet number is {self.vessel.peclet:.3g}, plug flow to 1/Pe of its conversion"
            raise InputError(message, self.label, 'take mo.PlugFlow, or kind = "plug flow"')

    def more_facts(self, run: RunResult) -> dict[str, str]:
        found = {**super().more_facts(run), "Péclet number u L/D": f"{self.vessel.peclet:.4g}"}
        text = self.vessel.dispersion.warning(self.flow_in_tube({}, self.fed, self.end_si))
        return {**found, "dispersion": text} if text else found


@dataclass(frozen=True, eq=False)
class DispersedTube(PlugFlow):
    """A tube with axial dispersion, between plug flow and a stirred tank: empty or packed, of a liquid or a gas.

    d/dz(D dc_i/dz - u c_i) + sum_j nu_ij r_j = 0 with closed ends (P. V. Danckwerts, Chem. Eng. Sci. 2 (1953) 1); the
    same for heat. In a gas, dispersion exchanges equal amounts of moles.

    A tube that ignites may have several steady states: the search begins at a flat profile at the temperature of the
    feed, and usually finds the coldest.

    Parameters
    ----------
    dispersion : Dispersion
        Of mass and heat.
    chemistry, feed, diameter, length, tubes, volume, space_time, catalyst_mass, T, heat, pressure_drop, wall, side
        As of a `PlugFlow`.
    catalyst, profiles, name, show
        As of a `PlugFlow`, without profiles.

    Raises
    ------
    InputError
        With all faults of the fields.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min")
    >>> tube = mo.DispersedTube(chem, feed, volume="5 L", dispersion=mo.Dispersion(peclet=10))
    >>> round(tube.run().conversion("A"), 4)
    0.6027
    """

    noun: ClassVar[str] = "dispersed tube"
    dispersion: Dispersion = part(Dispersion)

    @cached_property
    def spec(self) -> DispersedTubeSpecification:
        return DispersedTubeSpecification(self)

    def run(self, points: object = None, rtol: float = RTOL, atol: float = ATOL, verify: str = "usual") -> Run:
        """The steady state of the tube, from its inlet to its end.

        Parameters
        ----------
        points, rtol, atol, verify
            As of `PlugFlow.run`; the tolerance is that of the residual between the nodes, at least 1e-10.

        Raises
        ------
        InputError
            If there is no length or volume, constants are unknown, or the Péclet number is beyond 1e8.
        SolveError
            If no profile meets the conditions at both ends.
        """
        if math.isfinite(self.spec.end_si):
            self.spec.require_resolved()
        return super().run(points, rtol, atol, verify)

    def check(self) -> VesselReview:
        """As for any vessel, with a warning where a correlation is used beyond its range."""
        review = super().check()
        if not math.isfinite(self.spec.end_si):
            return review
        text = self.dispersion.warning(self.spec.flow_in_tube({}, self.spec.fed, self.spec.end_si))
        if not text:
            return review
        finding = Finding("warning", self.label, text, "give a coefficient of your own, or another correlation")
        return replace(review, findings=(*review.findings, finding))

    @property
    def peclet(self) -> float:
        """u L/D over its length, at the inlet."""
        flow = self.spec.flow_in_tube({}, self.spec.fed, self.spec.end_si)
        return float(flow.length / self.dispersion.per_velocity(flow))

    def __str__(self) -> str:
        return f"{super().__str__()}, {self.dispersion}"
