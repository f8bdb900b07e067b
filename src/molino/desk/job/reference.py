"""The page of keys of the tables of a job file, from the schema of the core's classes."""

from __future__ import annotations

import dataclasses
import math

from molino.core.annotations import PlainData
from molino.core.chemistry.heat_capacity import HeatCapacity
from molino.core.chemistry.species import Species
from molino.core.chemistry.temperature_dependence import Arrhenius, VantHoff
from molino.core.contents.feed import Feed
from molino.core.fitting.signals import Signal
from molino.core.runs.scheduled_changes import Change
from molino.core.schema import FieldSchema, help_of, is_required, schema_of
from molino.core.terms.catalyst import Catalyst, Deactivation, InternalDiffusion
from molino.core.terms.decomposition import Decomposition
from molino.core.terms.dispersion import Dispersion
from molino.core.terms.gas_phase import FilmReaction, GasPhase
from molino.core.terms.heat import Adiabatic, Duty, Jacket, Profile
from molino.core.terms.pressure import PressureDrop
from molino.core.terms.walls import Membrane
from molino.core.trains.heat_steps import Exchanger, FeedEffluent
from molino.core.trains.phase_steps import Condenser, Flash
from molino.core.trains.pressure_steps import Compressor, Pump, Valve
from molino.core.trains.steps import Purge, Separator, Split
from molino.core.unit_tables import SI_UNITS
from molino.core.vessels.at_conversion import AtConversion
from molino.core.vessels.at_equilibrium import AtEquilibrium
from molino.core.vessels.batch import Batch
from molino.core.vessels.bubble_column import BubbleColumn
from molino.core.vessels.dispersed_tube import DispersedTube
from molino.core.vessels.plug_flow import PlugFlow
from molino.core.vessels.semi_batch import SemiBatch
from molino.core.vessels.stirred_tank import StirredTank
from molino.desk.job import models

_TABLES: PlainData = {
    "[species.NAME]": Species,
    "[feeds.NAME]": Feed,
    '[vessels.NAME], kind = "batch"': Batch,
    '[vessels.NAME], kind = "semi-batch"': SemiBatch,
    '[vessels.NAME], kind = "stirred tank"': StirredTank,
    '[vessels.NAME], kind = "bubble column"': BubbleColumn,
    '[vessels.NAME], kind = "plug flow"': PlugFlow,
    '[vessels.NAME], kind = "dispersed tube"': DispersedTube,
    '[vessels.NAME], kind = "given conversion"': AtConversion,
    '[vessels.NAME], kind = "equilibrium"': AtEquilibrium,
    "heat, adiabatic": Adiabatic,
    "heat, a duty": Duty,
    "heat, a jacket": Jacket,
    "heat, a profile": Profile,
    "catalyst": Catalyst,
    "internal_diffusion of a catalyst": InternalDiffusion,
    "deactivation of a catalyst": Deactivation,
    "pressure_drop": PressureDrop,
    "dispersion": Dispersion,
    "wall": Membrane,
    "gas": GasPhase,
    "film of a gas": FilmReaction,
    "decomposition": Decomposition,
    "changes": Change,
    "exchanger of a train": Exchanger,
    "feed_effluent of a train": FeedEffluent,
    "split of a train": Split,
    "purge of a train": Purge,
    "separator of a train": Separator,
    "flash of a train": Flash,
    "condenser of a train": Condenser,
    "compressor of a train": Compressor,
    "pump of a train": Pump,
    "valve of a train": Valve,
    "a constant, Arrhenius": Arrhenius,
    "a constant, van 't Hoff": VantHoff,
    "heat_capacity of a species": HeatCapacity,
    "[data.NAME.signals]": Signal,
}


def keys_of(cls: type) -> list[str]:
    """The rows of the table of one class: key, its content, default, its meaning."""
    lines, rows = help_of(cls), []
    defaults = {f.name: f.default for f in dataclasses.fields(cls)}
    for name, schema in schema_of(cls).items():
        default = "required" if is_required(cls, name) else _text(defaults[name])
        rows.append(f"| `{name}` | {_holds(schema)} | {default} | {lines.get(name, '').replace('|', '/')} |")
    return rows


def _text(default: object) -> str:
    if default is None or default is dataclasses.MISSING or default == "":
        return ""
    return str(default).lower() if isinstance(default, bool) else f"{default}"


def _holds(schema: FieldSchema) -> str:
    if schema.choices:
        return ", ".join(f'"{choice}"' for choice in schema.choices)
    kind = " or ".join([schema.kind, *schema.alternatives])
    sign = {"positive": ", above 0", "nonnegative": ", 0 or more", "any": ""}[schema.sign]
    most = f", at most {schema.most:g}" if schema.most < math.inf else ""
    return {
        "quantity": f"{kind or 'a quantity'}{sign}{most}",
        "quantities": f"{kind}, one or several",
        "profile": f"{kind}, or [[time, {kind}], ...]",
        "contents": "{ SPECIES = quantity }",
        "entry": f"{kind or 'a quantity'}, or {{ guess = ... }}",
        "entries": "{ NAME = quantity, or { guess = ... } }",
        "numbers": "[numbers]",
        "constant": "a rate constant",
        "flag": "true or false",
        "count": "a whole number",
        "text": "a text",
        "part": "a table",
        "parts": "{ NAME = a table }",
    }[schema.holds]


def keys_page() -> str:
    """The whole page, as Markdown."""
    parts = [
        "# The keys of the job file",
        "Made from the declarations of the core's classes by `docs/make_keys.py`; a test compares the two. A quantity\n"
        'is a text with its unit ("12 m3/h") or a bare number, which `[units]` explains. Tables that refer to others,\n'
        "and tasks, are in [job-file.md](job-file.md).",
        "## [units]",
        "| key | kind of quantity | SI |\n|---|---|---|\n"
        + "\n".join(f"| `{key}` | {kind} | {SI_UNITS[kind]} |" for key, kind in models.UNIT_KINDS.items()),
    ]
    for title, cls in _TABLES.items():
        parts += [f"## {title}", "\n".join(["| key | holds | default | |", "|---|---|---|---|", *keys_of(cls)])]
    return "\n\n".join(parts) + "\n"
