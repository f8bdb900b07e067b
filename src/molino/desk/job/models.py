"""The job file as pydantic models, with the names of Python.

The tables of the core's classes follow from their schema. Written by hand: references between tables, `kind`, the forms
of heat, and tasks.
"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, PlainValidator, create_model

from molino.core.annotations import PlainData
from molino.core.chemistry.heat_capacity import HeatCapacity
from molino.core.chemistry.species import Species
from molino.core.contents.feed import Feed
from molino.core.fields.basin import Basin
from molino.core.fields.laminar_tube import LaminarTube
from molino.core.fields.transport import SIDES
from molino.core.fitting.signals import Signal
from molino.core.runs.profiles import PROFILES
from molino.core.runs.scheduled_changes import Change
from molino.core.terms.gas_phase import GasPhase
from molino.core.terms.heat import Adiabatic, Duty, Jacket, Profile
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
from molino.desk.job.shapes import (
    NUMBER_OR_TEXT,
    ONE_OR_MORE,
    Constant,
    Entry,
    OneOf,
    Pairs,
    ProfileField,
    Quantities,
    Quantity,
    Scalar,
    Table,
    check_quantities,
    check_quantity,
    table_of,
    with_fields_of,
)

UNIT_KINDS = {kind.replace(" ", "_"): kind for kind in SI_UNITS if kind != "number"}
"""The keys of [units], with the kind of quantity of each."""

_UNITS: PlainData = dict.fromkeys(UNIT_KINDS, (str | None, None))


@lambda base: create_model("UnitsTable", __base__=base, __doc__=base.__doc__, **_UNITS)
class UnitsTable(Table):
    """The units of bare numbers in the job, and of results."""


@with_fields_of(HeatCapacity)
class HeatCapacityTable(Table): ...


def _heat_capacity(given: object) -> Scalar | list[Scalar] | HeatCapacityTable:
    return HeatCapacityTable.model_validate(given) if isinstance(given, dict) else check_quantities(given)


class VaporPressureTable(Table):
    """A vapor pressure over temperature: { antoine = [A, B, C], pressure = "bar", temperature = "degC" }, or the
    numbers of ln(P/Pa) = a + b/(T + shift) + c ln T + d T^e."""

    antoine: list[float] | None = Field(None, min_length=3, max_length=3)
    pressure: str | None = None
    temperature: Literal["K", "degC"] | None = None
    base: Literal["10", "e"] | None = None
    a: float | None = None
    b: float | None = None
    c: float | None = None
    d: float | None = None
    e: float | None = None
    shift: float | None = None
    valid: list[Quantity] | None = Field(None, min_length=2, max_length=2)


@with_fields_of(Species)
class SpeciesTable(Table):
    """The properties of a species; `look_up` is its name (or CAS number) in the data of the `species` extra."""

    formula: str | None = None
    look_up: str | None = None
    phase: Literal["gas", "liquid"] = "gas"
    vapor_pressure: VaporPressureTable | None = None
    heat_capacity: Annotated[
        Scalar | list[Scalar] | HeatCapacityTable | None,
        PlainValidator(_heat_capacity),
        OneOf(*ONE_OR_MORE, HeatCapacityTable),
    ] = None
    source: str = ""


class ReactionTable(BaseModel):
    """Equation, rate law, and any constants that the rate law names; without an equation the reaction of that name in
    the `library`, changed by the given values."""

    model_config = ConfigDict(extra="allow", frozen=True, defer_build=True)
    __pydantic_extra__: dict[str, Constant]

    equation: str | None = None
    rate: str | None = None
    orders: dict[str, Entry] | None = None
    basis: str = "volume"
    enthalpy: Entry | None = None
    enthalpy_at: Quantity | None = None


class PairTable(Table):
    """Binary parameters: of an equation of state or a regular solution { species = ["A", "B"], k = 0.1 }, of another
    activity model in both orders { species = ["A", "B"], forward = "2.1 kJ/mol", backward = [0.3, -250],
    nonrandomness = 0.3 }."""

    species: list[str] = Field(min_length=2, max_length=2)
    k: float | None = None
    forward: Quantities | None = None
    backward: Quantities | None = None
    nonrandomness: float | None = None


@with_fields_of(Feed)
class FeedTable(Table):
    """A feed: contents, total flows (volumetric, molar, mass), and properties."""

    pairs: list[PairTable] = []


@with_fields_of(Adiabatic)
class AdiabaticTable(Table): ...


@with_fields_of(Duty)
class DutyTable(Table): ...


@with_fields_of(Jacket)
class JacketTable(Table): ...


@with_fields_of(Profile)
class HeldProfileTable(Table): ...


def heat_table(given: PlainData) -> type[Table]:
    """The form of heat of a table."""
    if "points" in given:
        return HeldProfileTable
    if "duty" in given:
        return DutyTable
    return JacketTable if given.keys() - {"wall", "stirrer"} else AdiabaticTable


def _heat(given: object) -> str | Table:
    if isinstance(given, dict):
        return heat_table(given).model_validate(given)
    if given not in ("isothermal", "adiabatic"):
        raise ValueError("write 'isothermal', 'adiabatic', or a table for a duty, a jacket or a profile")
    return given


HeatField = Annotated[
    str | Table | None,
    PlainValidator(_heat),
    OneOf({"enum": ["isothermal", "adiabatic"]}, AdiabaticTable, DutyTable, JacketTable, HeldProfileTable),
]


@with_fields_of(Membrane)
class MembraneTable(Table):
    """A membrane; `sweep` is the name of a feed beyond it."""

    flux: dict[str, str] = Field(min_length=1)
    constants: dict[str, Constant] = {}
    outside: dict[str, Quantity] = {}
    sweep: str | None = None


@with_fields_of(GasPhase)
class GasTable(Table):
    """A gas in the liquid: `feed` is its name, or `supply` its composition if it is supplied as it is absorbed."""

    feed: str | None = None
    supply: dict[str, Quantity] | None = None
    henry: dict[str, Constant] = Field(min_length=1)
    kLa_ratio: dict[str, Quantity] = {}


class DosingTable(Table):
    """A feed of a semi-batch, in windows of time or by a profile of its flow."""

    feed: str
    windows: list[list[Quantity]] | None = None
    rate: ProfileField | None = None


@with_fields_of(Change)
class ChangeTable(Table):
    """A step or ramp of a condition of a tank."""

    what: str
    to: Quantity


class SteadyTable(Table):
    """All steady states of a tank between two temperatures."""

    T: list[Quantity] = Field(min_length=2, max_length=2)


@with_fields_of(Batch)
class BatchTable(Table):
    """A batch, with a `charge`, or the concentrations of a feed."""

    kind: Literal["batch"]
    charge: dict[str, Quantity] | None = None
    feed: str | None = None
    heat: HeatField = None
    gas: GasTable | None = None
    profiles: dict[str, Pairs] = {}


@with_fields_of(SemiBatch)
class SemiBatchTable(Table):
    """A vessel that is charged and then dosed."""

    kind: Literal["semi-batch"]
    charge: dict[str, Quantity]
    doses: dict[str, DosingTable]
    heat: HeatField = None
    profiles: dict[str, Pairs] = {}


@with_fields_of(StirredTank)
class StirredTankTable(Table):
    """A stirred tank; with `start_up` it is run over time (with `changes`), with `steady_states` and `branch` these are
    computed."""

    kind: Literal["stirred tank"]
    feed: str | None = None
    heat: HeatField = None
    wall: MembraneTable | None = None
    gas: GasTable | None = None
    start_up: Quantity | None = None
    settling_band: float = Field(0.02, gt=0, lt=1)
    changes: list[ChangeTable] = []
    steady_states: SteadyTable | None = None
    branch: Annotated[dict[str, list[Quantity]], Field(max_length=1)] | None = None


@with_fields_of(BubbleColumn)
class BubbleColumnTable(StirredTankTable):
    """A bubble column; tasks as of a stirred tank."""

    kind: Literal["bubble column"]  # type: ignore[assignment]
    gas: GasTable


class FollowTubeTable(Table):
    """A tube or a train over time: initial contents (by default the feed, or "steady"), and changes."""

    time: Quantity
    contents: dict[str, Quantity] | Literal["steady"] | None = None
    changes: list[ChangeTable] = []
    cells: int = Field(200, ge=4, le=20_000)
    settling_band: float = Field(0.02, gt=0, lt=1)


class AdsorptionTable(Table):
    """Adsorption: by species an isotherm in mol/kg, the rate, and the constants of the isotherms."""

    isotherm: dict[str, str] = Field(min_length=1)
    rate: Quantity
    constants: dict[str, Constant] = {}


@with_fields_of(PlugFlow)
class PlugFlowTable(Table):
    """A tube in plug flow; `side` is a feed along it, with `follow` it is run over time."""

    kind: Literal["plug flow"]
    follow: FollowTubeTable | None = None
    adsorption: AdsorptionTable | None = None
    feed: str | None = None
    heat: HeatField = None
    wall: MembraneTable | None = None
    side: str | None = None
    profiles: dict[str, Pairs] = {}


@with_fields_of(DispersedTube)
class DispersedTubeTable(PlugFlowTable):
    """A tube with axial dispersion; tasks as of one in plug flow."""

    kind: Literal["dispersed tube"]  # type: ignore[assignment]


@with_fields_of(AtConversion)
class AtConversionTable(Table):
    """A vessel at a given conversion: by reaction a conversion of its key reactant, or an extent."""

    kind: Literal["given conversion"]
    feed: str
    conversions: dict[str, Quantity] = Field(min_length=1)
    keys: dict[str, str] = {}
    in_series: bool = False
    heat: HeatField = None


@with_fields_of(AtEquilibrium)
class AtEquilibriumTable(Table):
    """A vessel at equilibrium, by the constants of its reactions or by the least Gibbs energy."""

    kind: Literal["equilibrium"]
    feed: str | None = None
    reactions: list[str] | None = None
    species: list[str] | None = None
    solids: list[str] = []
    approach: dict[str, Quantity] = {}
    heat: HeatField = None


@with_fields_of(Separator)
class SeparatorTable(Table):
    """A separator: the fraction of each species that leaves as the stream `to`."""

    recovery: dict[str, Quantity]


@with_fields_of(Flash)
class FlashTable(Table):
    """A drum with vapor and liquid in equilibrium; `gases` do not dissolve."""

    gases: list[str] = []


@with_fields_of(Condenser)
class CondenserTable(Table):
    """A condenser; `gases` do not dissolve."""

    gases: list[str] = []


class StepTable(Table):
    """A step of a train: one of these keys, and a `name`.

    A vessel by name (`count` times), parallel vessels with `shares`, the name of a side feed, an exchanger and so on.
    Streams have names: `split`, `separator`, `flash` and `condenser` give them, `mix` and `from` take them, `to` ends a
    line. A `feed_effluent` is on the line of the feed; `effluent` with its name is its place on the other line. The
    conditions of a step that is not a vessel have its `name`: "NAME.T", "NAME.share".
    """

    vessel: str | None = None
    count: int = Field(default=1, ge=1, le=1000)
    parallel: list[str] | None = None
    shares: list[float] | None = None
    side_feed: str | None = None
    mix: str | list[str] | None = None
    begin: str | None = Field(None, alias="from")
    to: str | None = None
    effluent: str | None = None
    exchanger: table_of(Exchanger) | None = None  # type: ignore[valid-type]
    feed_effluent: table_of(FeedEffluent) | None = None  # type: ignore[valid-type]
    split: table_of(Split) | None = None  # type: ignore[valid-type]
    purge: table_of(Purge) | None = None  # type: ignore[valid-type]
    separator: SeparatorTable | None = None
    flash: FlashTable | None = None
    condenser: CondenserTable | None = None
    compressor: table_of(Compressor) | None = None  # type: ignore[valid-type]
    pump: table_of(Pump) | None = None  # type: ignore[valid-type]
    valve: table_of(Valve) | None = None  # type: ignore[valid-type]
    name: str = ""


class TrainTable(Table):
    """Vessels, named in other [vessels.NAME] tables, and other steps; with `follow` it is run over time.

    Its `feed` is by default that of the first vessel; vessels of a train need none. `returned` is a feed with the
    initial composition and temperature of the returned stream.
    """

    kind: Literal["train"]
    follow: FollowTubeTable | None = None
    feed: str | None = None
    steps: list[StepTable] = Field(min_length=1)
    recycle: Quantity = 0.0
    returned: str | None = None


VESSELS: PlainData = {
    "batch": BatchTable,
    "semi-batch": SemiBatchTable,
    "stirred tank": StirredTankTable,
    "bubble column": BubbleColumnTable,
    "plug flow": PlugFlowTable,
    "dispersed tube": DispersedTubeTable,
    "given conversion": AtConversionTable,
    "equilibrium": AtEquilibriumTable,
    "train": TrainTable,
}
"""The table of each kind of vessel."""
VesselTable = Annotated[
    BatchTable
    | SemiBatchTable
    | StirredTankTable
    | BubbleColumnTable
    | PlugFlowTable
    | DispersedTubeTable
    | AtConversionTable
    | AtEquilibriumTable
    | TrainTable,
    Field(discriminator="kind"),
]


@with_fields_of(Signal)
class SignalTable(Table): ...


class TableFile(Table):
    """A file with a table, next to the job file, and the place and meaning of its columns."""

    file: str
    sheet: str | None = None
    header_row: int | None = Field(None, ge=1)
    columns: str | list[str] | dict[str, str] | None = None
    decimal: Literal[".", ","] | None = None
    separator: Literal[",", ";", "\t"] | None = None

    @property
    def reading(self) -> PlainData:
        """The place and meaning of the columns, as arguments of `read_experiments`."""
        names = ("sheet", "header_row", "columns", "decimal", "separator")
        return {name: getattr(self, name) for name in names}


class DataTable(TableFile):
    """A table of measurements, next to the job file: runs, or rates; `vessel` is the observed vessel."""

    response: str | None = None
    detection_limits: dict[str, Quantity] = {}
    kind: Literal["runs", "rates"] = "runs"
    vessel: str | None = None
    signals: dict[str, SignalTable] = {}
    changes: list[ChangeTable] = []


class LeaveOutTable(Table):
    """One measurement to be excluded from a fit."""

    run: str
    time: Quantity
    response: str
    because: str = ""


class ScreeningTable(Table):
    """Orders to be screened before the fit."""

    species: str
    partner: str | None = None
    reversible: bool = False
    errors: Literal["same", "relative", "given"] | None = None
    autocorrelated: bool = False
    predict: Quantity | None = None


class RatesTable(Table):
    """Rates from the runs (or measured), and a power law through them."""

    species: str | None = None
    method: Literal["spline", "differences", "initial", "differential"] = "spline"
    smoothing: float | None = None
    within: float = 0.1
    orders_in: list[str] = []


class TemperatureTable(Table):
    """The line of ln k over 1/T: of a constant per run, of the screening, or of a table."""

    constant: str | None = None
    T: list[Quantity] | None = None
    k: list[Quantity] | None = None
    K: list[Quantity] | None = None
    predict: list[Quantity] = []


class CandidateTable(BaseModel):
    """Another chemistry for the same data: its reactions replace those of the same name."""

    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True)
    reactions: dict[str, ReactionTable] = {}
    without: list[str] = []


class FamilyTable(Table):
    """A family of candidate laws for a reaction of the job (by default its only one), as for `candidate_laws`."""

    reaction: str | None = None
    orders: dict[str, tuple[float, float]] = {}
    step: float = Field(default=0.5, gt=0)
    adsorbing: list[str] = []
    dissociating: list[str] = []
    limiting: list[Literal["surface", "adsorption", "desorption"]] = ["surface"]
    equilibrium: Entry | None = None


class CandidatesTable(Table):
    """Candidates for the next experiment: every combination of T, charges and times; `several` are made together."""

    T: list[Quantity] = []
    charges: list[dict[str, Quantity]]
    times: list[list[Quantity]]
    several: int = Field(default=1, ge=1, le=100)


class NextTable(CandidatesTable):
    """Candidates for the next experiment, and the quantity to narrow: a constant, or the D- or A-criterion."""

    narrow: str


class FitTable(Table):
    """A fit of all unknown constants, and its analyses before and after it; without data, a line of ln k
    over 1/T through a table of constants (`temperature`)."""

    data: str | list[str] | None = None
    leave_out: list[LeaveOutTable] = []
    errors: str | dict[str, Quantity] | None = None
    autocorrelated: bool = False
    fit_initial: list[str] | dict[str, list[str]] | None = None
    unknowns: dict[str, Entry] = {}
    delay: bool | str | float = False
    offset: str | list[str] = []
    robust: bool = False
    per_run: list[str] = []
    n_starts: int = Field(default=1, ge=1, le=10_000)
    seed: int = 0
    profile_likelihood: bool = False
    region: list[str] = Field(default=[], max_length=2)
    bootstrap: int = Field(default=0, ge=0, le=1_000_000)
    posterior: int = Field(default=0, ge=0, le=1_000_000)
    resample: Literal["residuals", "cases"] = "residuals"
    screening: ScreeningTable | None = None
    rates: RatesTable | None = None
    temperature: TemperatureTable | None = None
    candidates: dict[str, CandidateTable] = {}
    family: FamilyTable | None = None
    next: NextTable | None = None


class SizeTable(Table):
    """The size of a vessel at which a metric reaches a target."""

    vessel: str
    metric: str
    target: Quantity
    free: str | None = None
    confidence: Annotated[float, Field(ge=0.5, le=0.999)] | None = None
    spread: dict[str, Quantity] = {}
    seed: int = Field(default=0, ge=0)
    next: CandidatesTable | None = None


class CompareTable(Table):
    """A comparison of vessels, as given or (with `size_for` and `target`) each sized for the same target."""

    vessels: list[str] = Field(min_length=1)
    metrics: list[str] = []
    size_for: str | None = None
    target: Quantity | None = None


class FreeProfileTable(Table):
    """A condition that may change over a run: { low = "150 degC", high = "190 degC", pieces = 5, kind = "constant"
    }."""

    low: Quantity
    high: Quantity
    pieces: int | None = Field(default=None, ge=1)
    kind: Literal["linear", "constant"] = "linear"
    slope: Quantity | None = None


def _free(given: object) -> list[Scalar] | FreeProfileTable:
    if isinstance(given, dict):
        return FreeProfileTable.model_validate(given)
    if not isinstance(given, list) or len(given) != 2:
        raise ValueError("give [low, high], or { low = ..., high = ... } for a profile")
    return [check_quantity(end) for end in given]


_ENDS = {"type": "array", "items": NUMBER_OR_TEXT, "minItems": 2, "maxItems": 2}
FreeField = Annotated[list[Scalar] | FreeProfileTable, PlainValidator(_free), OneOf(_ENDS, FreeProfileTable)]


class OptimizeTable(Table):
    """The conditions and sizes at which a metric of a vessel is best."""

    vessel: str
    maximize: str | None = None
    minimize: str | None = None
    free: dict[str, FreeField] = Field(min_length=1)
    subject_to: list[str] = []
    confidence: Annotated[float, Field(ge=0.5, le=0.999)] | None = None
    spread: dict[str, Quantity] = {}
    n_starts: int = Field(default=3, ge=1, le=1000)
    seed: int = Field(default=0, ge=0)
    next: CandidatesTable | None = None


class AttainableTable(Table):
    """The attainable region of a feed, over two or three axes."""

    feed: str
    axes: list[str] = Field(min_length=2, max_length=3)
    T: Quantity | None = None
    heat: Literal["isothermal", "adiabatic"] | None = None
    maximize: str | None = None
    subject_to: list[str] = []


class RecommendTable(Table):
    """A recommendation of an arrangement of vessels, for one feed and target."""

    feed: str
    maximize: str | None = None
    minimize: str | None = None
    target: str | list[str] = []
    free: dict[str, Annotated[list[Quantity], Field(min_length=2, max_length=2)]] = {}
    heat: Literal["isothermal", "adiabatic"] | None = None


class SurveyTable(Table):
    """A survey of given conversion, equilibrium, tank, tube and batch on one feed, or on the feed (with heat and
    catalyst) of a vessel."""

    feed: str | None = None
    vessel: str | None = None
    residence_time: Quantity | None = None
    conversions: dict[str, Quantity] | None = None
    T: Quantity | None = None
    heat: HeatField = None
    metrics: list[str] = []


class EquilibriumTable(Table):
    """A metric at equilibrium over temperature and pressure, for the feed of a vessel, and the adiabatic beds to it."""

    vessel: str
    metric: str
    T: list[Quantity] = Field(min_length=2, max_length=2)
    P: list[Quantity] | None = Field(None, min_length=1, max_length=8)
    inlet: Quantity | None = None
    target: Quantity | None = None
    approach: Quantity | None = None
    beds: int = Field(8, ge=1, le=12)


class FollowFieldTable(Table):
    """A field over time: initial contents (by default the feed), steps of a basin, cells and nodes of a tube."""

    time: Quantity
    contents: dict[str, Quantity] | None = None
    steps: int = Field(200, ge=4, le=100_000)
    points: int = Field(51, ge=2, le=2000)
    cells: int = Field(60, ge=4, le=2000)
    nodes: int = Field(10, ge=4, le=200)
    animation: bool = False


class _FieldTable(Table):
    """The tasks of both kinds of fields."""

    diffusivity: Quantity | dict[str, Quantity] | None = None
    follow: FollowFieldTable | None = None
    tracer: bool = False
    show: list[str] | None = Field(None, min_length=1)


@with_fields_of(LaminarTube)
class LaminarTubeTable(_FieldTable):
    """A pipe or slit in laminar flow; with `follow` it is run over time, with `tracer` its residence times are
    computed."""

    kind: Literal["laminar tube"]
    feed: str
    heat: Literal["isothermal", "adiabatic"] | None = None


class InletTable(Table):
    """An inlet."""

    side: Literal[SIDES]  # type: ignore[valid-type]
    between: list[Quantity] = Field(min_length=2, max_length=2)
    feed: str
    profile: Literal["uniform", "parabolic"] = "uniform"


class OutletTable(Table):
    """An outlet."""

    side: Literal[SIDES]  # type: ignore[valid-type]
    between: list[Quantity] = Field(min_length=2, max_length=2)
    share: Quantity | None = None
    profile: Literal["free", "uniform", "parabolic"] = "free"


class BaffleTable(Table):
    """A thin wall inside, from one place to another."""

    start: list[Quantity] = Field(min_length=2, max_length=2)
    end: list[Quantity] = Field(min_length=2, max_length=2)


@with_fields_of(Basin)
class BasinTable(_FieldTable):
    """A basin in two dimensions; with `follow` it is run over time, with `tracer` its residence times are computed."""

    kind: Literal["basin"]
    inlets: list[InletTable] = Field(min_length=1)
    outlets: list[OutletTable] = Field(min_length=1)
    baffles: list[BaffleTable] = []
    moving: dict[str, Quantity] = {}
    cells: Annotated[list[int], Field(min_length=2, max_length=2)] = [64, 32]


FieldTable = Annotated[LaminarTubeTable | BasinTable, Field(discriminator="kind")]


class TracerTable(TableFile):
    """A tracer test in a table of times and signals, with the data of the vessel."""

    kind: Literal["pulse", "step up", "step down", "measured inlet"] | None = None
    volume: Quantity | None = None
    flow: Quantity | None = None
    injected: str | None = None
    calibration: str | None = None
    baseline: list[Annotated[list[Quantity], Field(min_length=2, max_length=2)]] = []
    plateau: float | None = None
    tail: Literal["exponential", "none"] = "exponential"
    rule: Literal["trapezoid", "Simpson"] = "trapezoid"
    end: Quantity | None = None
    smoothing: float | None = None
    models: bool = True
    rate_constant: str | None = None


class SpanTable(Table):
    """Values of a condition from one end to the other: { from = "165 degC", to = "185 degC", points = 21 }."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True, defer_build=True)
    first: Quantity = Field(alias="from")
    to: Quantity
    points: int = Field(ge=1)
    spacing: Literal["even", "log"] = "even"


def _values(given: object) -> Scalar | list[Scalar] | SpanTable:
    return SpanTable.model_validate(given) if isinstance(given, dict) else check_quantities(given)


Values = Annotated[Scalar | list[Scalar] | SpanTable, PlainValidator(_values), OneOf(*ONE_OR_MORE, SpanTable)]
"""One value of a condition, several in a list, or a span of them."""


class SweepTable(Table):
    """A vessel under every combination of `conditions`, or in a list of `cases`.

    With `parts` any number of them, written as Parquet to a folder of the results as they are computed; after an end
    the same command continues.
    """

    vessel: str
    metrics: list[str] = Field(min_length=1)
    conditions: dict[str, Values] = {}
    cases: list[dict[str, Quantity]] = []
    figure: Literal["", "lines", "contours", "none"] = ""
    parquet: bool = False
    parts: bool = False


Limits = dict[str, Annotated[list[Quantity], Field(min_length=2, max_length=2)]]
"""The ends of axes by panel, or of 'x'."""


class ProfileTable(Table):
    """A figure with the profiles of several vessels, in chosen panels."""

    vessels: list[str] = Field(min_length=1)
    show: list[Literal[tuple(PROFILES)]] | None = Field(None, min_length=1)  # type: ignore[valid-type]
    log: Literal["", "x", "y", "xy"] = ""
    species: list[str] | None = Field(None, min_length=1)
    limits: Limits = {}


class FiguresTable(Table):
    """The settings of all figures of the job: their size and dots per inch, and for profiles and fits the species and
    the limits of axes."""

    width: Quantity | None = None
    height: Quantity | None = None
    dpi: Annotated[int, Field(ge=30, le=1200)] = 200
    species: Annotated[list[str], Field(min_length=1)] | None = None
    limits: Limits = {}


class CovarianceTable(Table):
    """Covariance of fitted parameters in SI, as written by a fit."""

    names: list[str]
    matrix: list[list[float]]
    degrees_of_freedom: int
    refits: list[list[float]] | None = None
    temperatures: tuple[float, float] | None = None
    concentrations: dict[str, float] = {}


def job_schema() -> PlainData:
    """The JSON Schema of a job file, for completion and checks in an editor."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **JobFile.model_json_schema()}


class ReportTable(Table):
    """The beginning of a report: the question, and the answer in your own words."""

    question: str = ""
    answer: str = ""


class JobFile(Table):
    """A whole job file."""

    title: str = ""
    allow_outside: bool = False
    species_table: str | None = None
    library: str | None = None
    units: UnitsTable = UnitsTable()
    species: dict[str, SpeciesTable] = {}
    constants: dict[str, Constant] = {}
    reactions: dict[str, ReactionTable] = {}
    covariance: CovarianceTable | None = None
    feeds: dict[str, FeedTable] = {}
    vessels: dict[str, VesselTable] = {}
    data: dict[str, DataTable] = {}
    fit: dict[str, FitTable] = {}
    size: dict[str, SizeTable] = {}
    compare: dict[str, CompareTable] = {}
    sweep: dict[str, SweepTable] = {}
    optimize: dict[str, OptimizeTable] = {}
    attainable: dict[str, AttainableTable] = {}
    recommend: dict[str, RecommendTable] = {}
    survey: dict[str, SurveyTable] = {}
    equilibrium: dict[str, EquilibriumTable] = {}
    fields: dict[str, FieldTable] = {}
    tracer: dict[str, TracerTable] = {}
    profile: dict[str, ProfileTable] = {}
    figures: FiguresTable = FiguresTable()
    report: ReportTable = ReportTable()
