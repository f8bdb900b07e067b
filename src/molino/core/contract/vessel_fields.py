"""The fields that all vessels have."""

from __future__ import annotations

from molino.core.annotations import ByName
from molino.core.chemistry.chemistry import Chemistry
from molino.core.contract.plant import Plant
from molino.core.frozen import FrozenMapping
from molino.core.schema import ReadField
from molino.core.terms.catalyst import Catalyst


class VesselFields(Plant):
    """The fields of every vessel; a vessel adds its own, and a specification."""

    chemistry: Chemistry
    catalyst: Catalyst | None
    heat: ReadField
    profiles: ByName = FrozenMapping()
