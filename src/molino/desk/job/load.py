"""Core objects from a job file, with all faults reported together, by table and key."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property, partial
from pathlib import Path

from molino.core.annotations import PlainData
from molino.core.arguments import checked
from molino.core.chemistry.chemistry import Chemistry
from molino.core.contents.feed import Feed, NoFeed, check_contents, check_species
from molino.core.contract.vessel import Vessel
from molino.core.errors import InputError
from molino.core.fitting.experiments import Experiments
from molino.core.fitting.rates.rates import Rates
from molino.core.trains.train import Train
from molino.core.unit_tables import ambiguous
from molino.core.vessels.flow_vessel import FlowVessel
from molino.core.vessels.outlet_vessel import OutletVessel
from molino.desk.job import models
from molino.desk.job.context import JobContext
from molino.desk.job.drawing import FigureSettings, ProfileTask, read_figures, read_profiles
from molino.desk.job.fields import (
    FieldTask,
    FollowTube,
    TracerTask,
    read_fields,
    read_follow,
    read_tracers,
)
from molino.desk.job.parse import read_tables
from molino.desk.job.reactions import read_chemistry_tables
from molino.desk.job.studies import Line, Study, read_data, read_line, study
from molino.desk.job.task_types import (
    Compare,
    EquilibriumTask,
    OptimizeTask,
    RecommendTask,
    RegionTask,
    Size,
    SurveyTask,
    SweepTask,
)
from molino.desk.job.tasks import (
    read_compares,
    read_equilibria,
    read_optimizations,
    read_recommendations,
    read_regions,
    read_sizes,
    read_surveys,
    read_sweeps,
)
from molino.desk.job.vessels import CLASSES, TankTasks, read_feed, read_tank_tasks, read_train, read_vessel
from molino.desk.tables.write import USUAL, ResultsFolder, slug


@dataclass(frozen=True, eq=False)
class Job:
    """A job file, read and checked: core objects by their names in the file."""

    path: Path
    title: str
    chemistry: Chemistry
    feeds: Mapping[str, Feed]
    vessels: Mapping[str, Vessel | Train]
    data: Mapping[str, Experiments | Rates]
    fits: Mapping[str, Study]
    lines: Mapping[str, Line]
    """Lines of constants over temperature, through tables in the job."""
    sizes: Mapping[str, Size]
    compares: Mapping[str, Compare]
    sweeps: Mapping[str, SweepTask]
    optimizations: Mapping[str, OptimizeTask]
    regions: Mapping[str, RegionTask] = field(default_factory=dict)
    recommendations: Mapping[str, RecommendTask] = field(default_factory=dict)
    surveys: Mapping[str, SurveyTask] = field(default_factory=dict)
    equilibria: Mapping[str, EquilibriumTask] = field(default_factory=dict)
    tanks: Mapping[str, TankTasks] = field(default_factory=dict)
    profiles: Mapping[str, ProfileTask] = field(default_factory=dict)
    fields: Mapping[str, FieldTask] = field(default_factory=dict)
    follows: Mapping[str, FollowTube] = field(default_factory=dict)
    tracers: Mapping[str, TracerTask] = field(default_factory=dict)
    figures: FigureSettings = field(default_factory=FigureSettings)
    remarks: tuple[str, ...] = ()
    """The meanings used for ambiguous units."""
    files: Mapping[str, Path] = field(default_factory=dict)
    """The other files that it reads, by the names in the job."""
    question: str = ""
    answer: str = ""
    output: Path | None = None
    """The folder of results, if given."""
    formats: tuple[str, ...] = USUAL
    """The formats of results."""
    collected: ResultsFolder | None = None
    """The collector of results for a report."""

    @cached_property
    def results(self) -> Path:
        """The folder of results: by default next to the job file and with its name."""
        if self.output is not None:
            return self.output
        return self.path.parent / "results" / slug(self.path.stem)

    def results_folder(self) -> ResultsFolder:
        """That folder, with the figure size of the job; or the collector."""
        if self.collected is not None:
            return self.collected
        drawn = self.figures
        return ResultsFolder(
            self.results,
            width=drawn.width,
            height=drawn.height,
            dpi=drawn.dpi,
            formats=self.formats,
            inputs={self.path.name: self.path, **self.files},
            title=self.title,
        )

    @property
    def single_vessels(self) -> dict[str, Vessel]:
        """The vessels without the trains."""
        return {name: v for name, v in self.vessels.items() if isinstance(v, Vessel)}

    def with_chemistry(self, chemistry: Chemistry) -> Mapping[str, Vessel | Train]:
        """The vessels with another chemistry (the fitted one)."""
        return {name: vessel.with_(chemistry=chemistry) for name, vessel in self.vessels.items()}


@checked
def load_job(path: str | Path) -> Job:
    """Read a job file and its data.

    Parameters
    ----------
    path : str or Path

    Returns
    -------
    Job

    Raises
    ------
    InputError
        With every fault of the file and its data, by table and key.

    Examples
    --------
    >>> from importlib.resources import files
    >>> job = mo.load_job(files("molino.demo") / "valdeoro.toml")
    >>> list(job.vessels)
    ['cooker', 'tank', 'coil']
    """
    return build(read_tables(Path(path)))


def build(job: JobContext) -> Job:
    """The core objects of a job; InputError with all faults."""
    chemistry = read_chemistry_tables(job)
    feeds = _feeds(job, chemistry)
    vessels = _vessels(job, chemistry, feeds) if chemistry is not None else {}
    data = {}
    for name, source in job.file.data.items():
        with job.at(f"[data.{name}]"):
            data[name] = read_data(job, source, vessels, chemistry)
    fits, lines = {}, {}
    for name, fit in job.file.fit.items():
        with job.at(f"[fit.{name}]"):
            if fit.data is None:
                lines[name] = read_line(job, fit)
            else:
                fits[name] = study(job, fit, data, chemistry)
    tasks: PlainData = {
        "sizes": read_sizes(job, vessels),
        "compares": read_compares(job, vessels),
        "sweeps": read_sweeps(job, vessels),
        "optimizations": read_optimizations(job, vessels),
        "regions": read_regions(job, feeds, chemistry),
        "recommendations": read_recommendations(job, feeds, chemistry),
        "surveys": read_surveys(job, feeds, vessels, chemistry),
        "equilibria": read_equilibria(job, vessels),
        "tanks": _tank_tasks(job, vessels),
        "fields": read_fields(job, chemistry, feeds),
        "tracers": read_tracers(job),
        "follows": _follows(job, vessels),
        "profiles": read_profiles(job, vessels, chemistry),
        "figures": read_figures(job, chemistry),
    }
    if chemistry is not None and not job.known("fit") and any(_waits(vessel) for vessel in vessels.values()):
        waiting = ", ".join(p.name for p in chemistry.unknowns)
        advice = "add a [fit.NAME] table with data, or give numbers"
        job.faults.add("", f"{waiting} unknown, and no [fit] to find them", advice)
    job.raise_merged()
    assert chemistry is not None
    texts = (*_texts(job.raw), *(f"1 {unit}" for unit in job.units.values()))
    remarks = tuple(dict.fromkeys(remark for text in texts for remark in ambiguous(text)))
    file = job.file
    given: PlainData = {"question": file.report.question, "answer": file.report.answer, "files": job.files}
    return Job(job.path, file.title, chemistry, feeds, vessels, data, fits, lines, **tasks, remarks=remarks, **given)


def _feeds(job: JobContext, chemistry: Chemistry | None) -> dict[str, Feed]:
    feeds = {}
    for name, table in job.file.feeds.items():
        with job.at(f"[feeds.{name}]"):
            feed = read_feed(job, table, chemistry)
            if chemistry is not None:
                check = partial(check_contents, is_closed=False) if _starts_by(job, name) else check_species
                check(feed.contents, chemistry, "contents")
            feeds[name] = feed
    return feeds


def _vessels(job: JobContext, chemistry: Chemistry, feeds: Mapping[str, Feed]) -> dict[str, Vessel | Train]:
    """The vessels, and then the trains of them."""
    vessels: dict[str, Vessel | Train] = {}
    trains = {n: t for n, t in job.file.vessels.items() if isinstance(t, models.TrainTable)}
    for name, vessel in job.file.vessels.items():
        with job.at(f"[vessels.{name}]"):
            if name not in trains:
                vessels[name] = read_vessel(job, name, vessel, chemistry, feeds)
    for name, train in trains.items():
        with job.at(f"[vessels.{name}]"):
            vessels[name] = read_train(job, name, train, vessels, feeds)
    in_trains = {step for train in trains.values() for s in train.steps for step in (s.vessel, *(s.parallel or ()))}
    for name, one in [*vessels.items()]:
        if isinstance(one, FlowVessel) and isinstance(one.feed, NoFeed):  # it is run in its train
            del vessels[name]
            with job.at(f"[vessels.{name}]"):
                if name not in in_trains:
                    raise InputError("no feed is given", "", "give feed, or use it in a train")
    return vessels


def _tank_tasks(job: JobContext, vessels: Mapping[str, Vessel | Train]) -> dict[str, TankTasks]:
    tanks = {}
    for name, vessel in job.file.vessels.items():
        if isinstance(vessel, models.StirredTankTable) and isinstance(tank := vessels.get(name), Vessel):
            with job.at(f"[vessels.{name}]"):
                tanks[name] = read_tank_tasks(job, vessel, tank)
    return tanks


def _follows(job: JobContext, vessels: Mapping[str, Vessel | Train]) -> dict[str, FollowTube]:
    follows = {}
    for name, vessel in job.file.vessels.items():
        asked = getattr(vessel, "follow", None)
        if asked is not None and (tube := vessels.get(name)) is not None:
            with job.at(f"[vessels.{name}]"):
                follows[name] = read_follow(job, asked, tube)
    return follows


def _waits(vessel: Vessel | Train) -> bool:
    """Whether it has unknown constants."""
    try:
        for one in vessel.vessels:
            one.spec.require_constants()
    except InputError:
        return True
    return False


def _texts(content: object) -> Iterator[str]:
    """Every text in a job file."""
    if isinstance(content, str):
        yield content
    for inner in content.values() if isinstance(content, Mapping) else content if isinstance(content, list) else ():
        yield from _texts(inner)


def _starts_by(job: JobContext, feed: str) -> bool:
    """Whether the reactions of a vessel must start from this feed.

    Not if it is dosed or a side feed, nor for a tank with other initial contents or with a gas.
    """
    fed = [
        v
        for v in job.file.vessels.values()
        if getattr(v, "feed", None) == feed and not issubclass(CLASSES[v.kind], OutletVessel)
    ]
    return any(getattr(v, "contents", None) is None and getattr(v, "gas", None) is None for v in fed)
