"""The shape of a job file, as pydantic models; whatever it says, Python says in the same words."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, WithJsonSchema


def _quantity(given: Any) -> Any:
    if isinstance(given, bool) or not isinstance(given, str | int | float):
        raise ValueError("give a number, or a text with a unit like '0.35 mol/L'")
    return given


Quantity = Annotated[Any, BeforeValidator(_quantity), WithJsonSchema({"type": ["string", "number"]})]
"""A bare number, which [units] explains, or a text with a unit."""


def _quantities(given: Any) -> Any:
    return [_quantity(one) for one in given] if isinstance(given, list) else _quantity(given)


_ONE_OR_MORE = {"anyOf": [{"type": ["string", "number"]}, {"type": "array", "items": {"type": ["string", "number"]}}]}
Quantities = Annotated[Any, BeforeValidator(_quantities), WithJsonSchema(_ONE_OR_MORE)]
"""One quantity, or several in a list."""


class Table(BaseModel):
    """A table in which every key is known."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class UnknownTable(Table):
    """A constant that a fit shall find: { guess = "0.02 L/mol/min", lower = ..., upper = ... }."""

    guess: Quantity
    lower: Quantity | None = None
    upper: Quantity | None = None


def _entry(given: Any) -> Any:
    return UnknownTable.model_validate(given) if isinstance(given, dict) else _quantity(given)


_ENTRY_SCHEMA = {"anyOf": [{"type": ["string", "number"]}, UnknownTable.model_json_schema()]}
Entry = Annotated[Any, BeforeValidator(_entry), WithJsonSchema(_ENTRY_SCHEMA)]
"""A quantity, or a table for an unknown one."""


class ArrheniusTable(Table):
    """{ k = ..., at = "165 degC", Ea = ... } or { A = ..., Ea = ... }, with n; or { T = [...], k = [...] }."""

    k: Entry | None = None
    A: Entry | None = None
    Ea: Entry | None = None
    at: Quantity | None = None
    n: Entry | None = None


class VantHoffTable(Table):
    """{ K = ..., at = "165 degC", dH = ... }, { A = ..., dH = ... } or { a = ..., b = ..., unit = ... }."""

    K: Entry | None = None
    at: Quantity | None = None
    dH: Entry | None = None
    A: Entry | None = None
    a: Entry | None = None
    b: Entry | None = None
    unit: str | None = None


class ConstantsTable(Table):
    """Constants against temperature, with a law laid through them: { T = [...], k = [...] }, or K = [...]."""

    T: list[Quantity]
    k: list[Quantity] | None = None
    K: list[Quantity] | None = None


class FromSpeciesTable(Table):
    """An equilibrium constant from the species: { from_species = "concentrations", standard = "1 bar" }."""

    from_species: str
    standard: Quantity = "1 bar"


def constant_table(given: dict[str, Any]) -> type[Table]:
    """Which of the forms of a constant a table is."""
    for table, keys in (
        (UnknownTable, ("guess",)),
        (FromSpeciesTable, ("from_species",)),
        (ConstantsTable, ("T",)),
        (VantHoffTable, ("K", "dH", "a", "b")),
    ):
        if given.keys() & {*keys}:
            return table
    return ArrheniusTable


def _constant(given: Any) -> Any:
    return constant_table(given).model_validate(given) if isinstance(given, dict) else _quantity(given)


_FORMS = (ArrheniusTable, VantHoffTable, ConstantsTable, FromSpeciesTable)
_CONSTANT_SCHEMA = {"anyOf": [*_ENTRY_SCHEMA["anyOf"], *(form.model_json_schema() for form in _FORMS)]}
Constant = Annotated[Any, BeforeValidator(_constant), WithJsonSchema(_CONSTANT_SCHEMA)]


UNIT_KINDS = {
    "flow": "volumetric flow", "molar_flow": "molar flow", "mass_flow": "mass flow", "energy": "energy per amount",
    "heat": "energy",
}  # fmt: skip
"""Keys of [units] that are shorter than the kind of quantity they stand for."""


class UnitsTable(Table):
    """What bare numbers in the job mean, and what results are shown in."""

    time: str | None = None
    temperature: str | None = None
    concentration: str | None = None
    amount: str | None = None
    volume: str | None = None
    length: str | None = None
    diameter: str | None = None
    flow: str | None = None
    molar_flow: str | None = None
    energy: str | None = None
    heat: str | None = None
    power: str | None = None
    mass: str | None = None
    mass_flow: str | None = None
    density: str | None = None
    pressure: str | None = None
    rate: str | None = None


class HeatCapacityTable(Table):
    """{ coefficients = [...] } or { low = [7 numbers], high = [7 numbers], middle = "1000 K" }, with valid = [T, T]."""

    coefficients: Quantities | None = None
    low: list[float] | None = None
    high: list[float] | None = None
    middle: Quantity | None = None
    valid: list[Quantity] | None = None


def _heat_capacity(given: Any) -> Any:
    return HeatCapacityTable.model_validate(given) if isinstance(given, dict) else _quantities(given)


_CP_SCHEMA = {"anyOf": [*_ONE_OR_MORE["anyOf"], HeatCapacityTable.model_json_schema()]}


class SpeciesTable(Table):
    """What is known of a species; `look_up` names it (or its CAS number) in the data of the `species` extra."""

    formula: str | None = None
    look_up: str | None = None
    phase: Literal["gas", "liquid"] = "gas"
    molar_mass: Quantity | None = None
    heat_capacity: Annotated[Any, BeforeValidator(_heat_capacity), WithJsonSchema(_CP_SCHEMA)] = None
    enthalpy_of_formation: Quantity | None = None
    gibbs_of_formation: Quantity | None = None
    entropy: Quantity | None = None
    critical_temperature: Quantity | None = None
    critical_pressure: Quantity | None = None
    acentric_factor: Quantity | None = None
    density: Quantity | None = None
    molar_volume: Quantity | None = None
    source: str = ""


class ReactionTable(BaseModel):
    """Equation, rate law, and any constants that the rate law names."""

    model_config = ConfigDict(extra="allow", frozen=True)
    __pydantic_extra__: dict[str, Constant]

    equation: str
    rate: str | None = None
    orders: dict[str, Entry] | None = None
    basis: str = "volume"
    enthalpy: Quantity | None = None
    enthalpy_at: Quantity | None = None


class PairTable(Table):
    """A binary parameter of an equation of state: { species = ["A", "B"], k = 0.1 }."""

    species: list[str] = Field(min_length=2, max_length=2)
    k: float


class FeedTable(Table):
    """A feed: contents in any mixture of ways, total flows (volumetric, molar, mass), what a gas or a mass needs."""

    contents: dict[str, Quantity]
    flow: Quantities = []
    T: Quantity | None = None
    P: Quantity | None = None
    density: Quantity | None = None
    heat_capacity: Quantity | None = None
    model: str | None = None
    pairs: list[PairTable] = []


class InternalDiffusionTable(Table):
    """Diffusion in the particles that holds one reaction back."""

    species: str
    diffusivity: Quantity
    order: Quantity = 1.0


class DeactivationTable(Table):
    """Activity that falls with time on stream: da/dt = -k a^order, looked at after `age`."""

    k: Constant
    order: Quantity = 1.0
    age: Quantity = 0.0


class CatalystTable(Table):
    """The catalyst in a vessel, per volume of vessel."""

    bulk_density: Quantity | None = None
    area: Quantity | None = None
    fraction: Quantity = 1.0
    voidage: Quantity = 1.0
    particle_density: Quantity | None = None
    particle_diameter: Quantity | None = None
    shape: str = "sphere"
    internal_diffusion: dict[str, InternalDiffusionTable] = {}
    deactivation: DeactivationTable | None = None


class AdiabaticTable(Table):
    """{ wall = "25 kJ/K", stirrer = "2 kW" } with heat = "adiabatic"."""

    wall: Quantity | None = None
    stirrer: Quantity | None = None


def _piecewise(given: Any) -> Any:
    if isinstance(given, list):
        if any(not isinstance(pair, list) or len(pair) != 2 for pair in given):
            raise ValueError("a profile is a list of pairs, [[time, value], ...]")
        return [[_quantity(a), _quantity(b)] for a, b in given]
    return _quantity(given)


_PAIRS = {"type": "array", "items": {"type": "array", "items": {"type": ["string", "number"]}}}
Programmed = Annotated[
    Any, BeforeValidator(_piecewise), WithJsonSchema({"anyOf": [{"type": ["string", "number"]}, _PAIRS]})
]
"""A quantity, or a profile of [time, quantity] pairs."""


class JacketTable(Table):
    """Heat through the wall to a coolant."""

    T: Programmed
    U: Quantity | None = None
    area: Quantity | None = None
    UA: Quantity | None = None
    flow: Quantity | None = None
    heat_capacity: Quantity | None = None
    counter_current: bool = False
    coil: bool = False
    wall: Quantity | None = None
    stirrer: Quantity | None = None


class ProfileOverTable(Table):
    """A temperature that is prescribed to: { points = [["0 min", "20 degC"], ["30 min", "80 degC"]] }."""

    points: Programmed


def heat_table(given: dict[str, Any]) -> type[Table]:
    """Which of the forms of heat a table is."""
    if "points" in given:
        return ProfileOverTable
    return JacketTable if given.keys() - {"wall", "stirrer"} else AdiabaticTable


def _heat(given: Any) -> Any:
    if isinstance(given, dict):
        return heat_table(given).model_validate(given)
    if given not in ("isothermal", "adiabatic"):
        raise ValueError("write 'isothermal', 'adiabatic', or a table for a jacket or profile")
    return given


_HEAT_SCHEMA = {"anyOf": [{"enum": ["isothermal", "adiabatic"]}, AdiabaticTable.model_json_schema(),
                          JacketTable.model_json_schema(), ProfileOverTable.model_json_schema()]}  # fmt: skip
HeatField = Annotated[Any, BeforeValidator(_heat), WithJsonSchema(_HEAT_SCHEMA)]


class PressureDropTable(Table):
    """{ viscosity = "0.02 mPa*s" }, with the roughness of an empty tube."""

    viscosity: Quantity
    roughness: Quantity | None = None


class MembraneTable(Table):
    """A wall through which species pass; `sweep` names a feed that flows beyond it."""

    flux: dict[str, str] = Field(min_length=1)
    constants: dict[str, Constant] = {}
    outside: dict[str, Quantity] = {}
    sweep: str | None = None
    area: Quantity | None = None


class DosingTable(Table):
    """A feed into a semi-batch, in windows of time or by a profile of its flow."""

    feed: str
    windows: list[list[Quantity]] | None = None
    rate: Programmed | None = None


class ChangeTable(Table):
    """A step or ramp of a condition while a tank runs."""

    what: str
    to: Quantity
    at: Quantity = 0.0
    over: Quantity = 0.0


class SteadyTable(Table):
    """All steady states of a tank between two temperatures."""

    T: list[Quantity] = Field(min_length=2, max_length=2)


class BranchTable(Table):
    """The steady states of a tank as a condition varies."""

    vary: str
    between: list[Quantity] = Field(min_length=2, max_length=2)


class BatchTable(Table):
    """A batch, charged with `charge`, or with what a feed holds."""

    kind: Literal["batch"]
    charge: dict[str, Quantity] | None = None
    feed: str | None = None
    T: Quantity | None = None
    volume: Quantity | None = None
    time: Quantity | None = None
    total: Quantity | None = None
    P: Quantity | None = None
    density: Quantity | None = None
    heat_capacity: Quantity | None = None
    model: str | None = None
    constant_volume: bool = True
    heat: HeatField = None
    catalyst: CatalystTable | None = None


class SemiBatchTable(Table):
    """A vessel that is charged and then dosed."""

    kind: Literal["semi-batch"]
    charge: dict[str, Quantity]
    doses: dict[str, DosingTable]
    T: Quantity | None = None
    volume: Quantity | None = None
    capacity: Quantity | None = None
    withdrawal: Programmed | None = None
    time: Quantity | None = None
    total: Quantity | None = None
    density: Quantity | None = None
    heat_capacity: Quantity | None = None
    model: str | None = None
    heat: HeatField = None
    catalyst: CatalystTable | None = None


class StirredTankTable(Table):
    """A stirred tank; `start_up` asks `run` to follow it that long (through `changes`), `steady_states` and `branch`
    for all of its steady states.
    """

    kind: Literal["stirred tank"]
    feed: str
    volume: Quantity | None = None
    space_time: Quantity | None = None
    catalyst_mass: Quantity | None = None
    T: Quantity | None = None
    contents: dict[str, Quantity] | None = None
    heat: HeatField = None
    wall: MembraneTable | None = None
    catalyst: CatalystTable | None = None
    start_up: Quantity | None = None
    changes: list[ChangeTable] = []
    steady_states: SteadyTable | None = None
    branch: BranchTable | None = None


class PlugFlowTable(Table):
    kind: Literal["plug flow"]
    feed: str
    diameter: Quantity | None = None
    length: Quantity | None = None
    tubes: int = 1
    volume: Quantity | None = None
    space_time: Quantity | None = None
    catalyst_mass: Quantity | None = None
    T: Quantity | None = None
    heat: HeatField = None
    pressure_drop: PressureDropTable | None = None
    wall: MembraneTable | None = None
    side: str | None = None
    catalyst: CatalystTable | None = None


class ExchangerTable(Table):
    """{ T = "150 degC" } or { duty = "-250 kW" }."""

    T: Quantity | None = None
    duty: Quantity | None = None


class StepTable(Table):
    """A step of a train: one of a vessel by name (`count` times), vessels side by side, a side feed, an exchanger."""

    vessel: str | None = None
    count: int = Field(default=1, ge=1)
    parallel: list[str] | None = None
    split: list[float] | None = None
    side_feed: str | None = None
    exchanger: ExchangerTable | None = None


class TrainTable(Table):
    """Vessels one after another; what the steps name stands in other [vessels.NAME] tables."""

    kind: Literal["train"]
    steps: list[StepTable] = Field(min_length=1)
    recycle: Quantity = 0.0


AnyVessel = BatchTable | SemiBatchTable | StirredTankTable | PlugFlowTable | TrainTable
VesselTable = Annotated[AnyVessel, Field(discriminator="kind")]


class SignalTable(Table):
    """What a column says of a concentration: { species = "A", slope = "120 L/mol", blank = 0.02 }, or another form."""

    species: str
    slope: Quantity | None = None
    blank: Quantity | None = None
    conversion: bool = False
    reaction: str | None = None
    start: Quantity | None = None
    end: Quantity | None = None
    titrant: Quantity | None = None
    sample: Quantity | None = None
    per: float | None = None


class DataTable(Table):
    """A table of measurements, next to the job file: runs, or rates."""

    file: str
    sheet: str | None = None
    kind: Literal["runs", "rates"] = "runs"
    vessel: Literal["stirred tank", "plug flow"] | None = None
    signals: dict[str, SignalTable] = {}


class LeaveOutTable(Table):
    """One measurement to leave out of a fit."""

    run: str
    time: Quantity
    species: str


class ScreeningTable(Table):
    """Orders to be screened before the fit."""

    species: str
    partner: str | None = None
    reversible: bool = False
    predict: Quantity | None = None


class RatesTable(Table):
    """Rates taken from the runs (or as measured), and a power law through them."""

    species: str | None = None
    method: Literal["spline", "differences", "initial", "differential"] = "spline"
    smoothing: float | None = None
    within: float = 0.1
    orders_in: list[str] = []


class TemperatureTable(Table):
    """The line of ln k over 1/T: of a constant that each run had for itself, of the screening, or of a table."""

    constant: str | None = None
    T: list[Quantity] | None = None
    k: list[Quantity] | None = None
    K: list[Quantity] | None = None
    predict: list[Quantity] = []


class CandidateTable(BaseModel):
    """Another chemistry for the same data: the reactions in it take the place of those of their name."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    reactions: dict[str, ReactionTable] = {}
    without: list[str] = []


class NextTable(Table):
    """Experiments to choose the next from: every combination of T, charges and times."""

    narrow: str
    T: list[Quantity] = []
    charges: list[dict[str, Quantity]]
    times: list[list[Quantity]]


class FitTable(Table):
    """A fit of all unknown constants, and what is to be looked at before and after it."""

    data: str | list[str]
    leave_out: list[LeaveOutTable] = []
    errors: str | dict[str, Quantity] = "each"
    fit_initial: list[str] | dict[str, list[str]] = []
    delay: bool | str | float = False
    per_run: list[str] = []
    n_starts: int = Field(default=1, ge=1)
    seed: int = 0
    profile_likelihood: bool = False
    region: list[str] = Field(default=[], max_length=2)
    bootstrap: int = Field(default=0, ge=0)
    resample: Literal["residuals", "cases"] = "residuals"
    screening: ScreeningTable | None = None
    rates: RatesTable | None = None
    temperature: TemperatureTable | None = None
    candidates: dict[str, CandidateTable] = {}
    next: NextTable | None = None


class SizeTable(Table):
    vessel: str
    metric: str
    target: Quantity
    vary: str | None = None


class CompareTable(Table):
    """Vessels side by side, as they stand or (with `size_for` and `target`) each sized for the same target."""

    vessels: list[str]
    metrics: list[str] = []
    size_for: str | None = None
    target: Quantity | None = None


class ProfileTable(Table):
    """A figure of the profiles of some vessels over each other, in panels of choice."""

    vessels: list[str] = Field(min_length=1)
    show: list[str] | None = None
    log: Literal["", "x", "y", "xy"] = ""


class CovarianceTable(Table):
    """Covariance of fitted parameters in SI, as a fit wrote it."""

    names: list[str]
    matrix: list[list[float]]
    degrees_of_freedom: int


def job_schema() -> dict[str, Any]:
    """The JSON Schema of a job file, by which an editor completes and checks it."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **JobFile.model_json_schema()}


class JobFile(Table):
    """A whole job file."""

    title: str = ""
    species_table: str | None = None
    units: UnitsTable = UnitsTable()
    species: dict[str, SpeciesTable] = {}
    constants: dict[str, Constant] = {}
    reactions: dict[str, ReactionTable]
    covariance: CovarianceTable | None = None
    feeds: dict[str, FeedTable] = {}
    vessels: dict[str, VesselTable] = {}
    data: dict[str, DataTable] = {}
    fit: dict[str, FitTable] = {}
    size: dict[str, SizeTable] = {}
    compare: dict[str, CompareTable] = {}
    profile: dict[str, ProfileTable] = {}
