"""The analyses of a fit before and after the fit itself."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from molino.core.annotations import PlainData
from molino.desk.steps.common import load_figures, posterior_of, refits_of
from molino.desk.steps.progress import show_progress
from molino.desk.steps.terminal import console, show_table

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

    from molino.core import units
    from molino.core.chemistry.temperature_dependence import Arrhenius, VantHoff
    from molino.core.fitting.experiments import Experiments
    from molino.core.fitting.fit_result import Fit
    from molino.core.fitting.orders.screening_result import Screening
    from molino.core.fitting.profile_likelihood import ProfileLikelihood
    from molino.core.fitting.rates.rates import Rates
    from molino.desk.job.load import Job
    from molino.desk.job.models import RatesTable
    from molino.desk.job.studies import Line, Study
    from molino.desk.tables.write import ResultsFolder


@dataclass
class FitReport:
    """Their results: plain data by name, and the folder for files."""

    job: Job
    name: str
    quiet: bool
    folder: ResultsFolder
    content: PlainData = field(default_factory=dict)
    screening: Screening | None = None

    def say(self, text: str) -> None:
        """Print, unless quiet."""
        from rich.text import Text

        if not self.quiet:
            console().print(Text(text))

    def head(self, text: str) -> None:
        """Print a heading, unless quiet."""
        if not self.quiet:
            console().print(text, style="bold")

    def tabulate(self, frame: pd.DataFrame, title: str) -> None:
        if not self.quiet:
            show_table(frame, title)

    def keep(self, what: str, table: pd.DataFrame | None = None, *drawn: tuple[str, Figure]) -> None:
        """Write a table and figures under the name of the fit and of this part."""
        if table is not None:
            self.folder.csv(table, "fit", self.name, what)
        for part, figure in drawn:
            self.folder.figure(figure, "fit", self.name, what, *([part] if part else []))


def before(job: Job, name: str, study: Study, quiet: bool, folder: ResultsFolder) -> FitReport:
    """Checks of the data, screening of orders, and rates."""
    from molino.core.fitting.experiments import Experiments
    from molino.core.fitting.orders.screening import screen_orders

    figures = load_figures()

    out = FitReport(job, name, quiet, folder)
    if isinstance(study.data, Experiments):
        findings = study.data.check(job.chemistry).findings
        out.content["data"] = [{"level": f.level, "where": f.where, "what": f.what} for f in findings]
        for finding in findings:
            out.say(str(finding))
    if study.screening is not None:
        out.screening = screen_orders(study.data, **study.screening)  # type: ignore[arg-type]
        out.content["screening"] = out.screening.to_dict()
        out.head(f"{name}: which order")
        out.say(str(out.screening))
        if study.predict is not None and out.screening.chosen is not None:
            for s in out.screening.series:
                out.say(str(out.screening.predict(study.predict, s.run)))
        out.keep("orders", out.screening.table(), ("", figures.orders(out.screening)))
    if study.rates is not None:
        rates = rates_of(study.data, study.rates)
        law = rates.power_law(*study.rates.orders_in)
        out.content["rates"] = law.to_dict()
        out.head(f"{name}: rates")
        out.say(str(rates))
        out.tabulate(law.table(), f"power law: {law.law}")
        out.say(str(law.signs))
        drawn = [("power-law", figures.power_law(law))]
        if rates.slopes:
            drawn.insert(0, ("", figures.slopes(rates)))
        out.keep("rates", rates.table(), *drawn)
        out.keep("power-law", law.points_table())
    return out


def rates_of(data: Experiments | Rates, table: RatesTable) -> Rates:
    """The rates of a table."""
    from molino.core.fitting.rates.rates import Rates

    if isinstance(data, Rates):
        return data
    species = table.species or ""
    if table.method == "initial":
        return Rates.initial(data, species, table.within)
    if table.method == "differential":
        return Rates.differential(data, species)
    return Rates.from_curves(data, species, table.method, table.smoothing)


def after(job: Job, name: str, study: Study, found: Fit, early: FitReport, quiet: bool) -> FitReport:
    """Profiles, joint region, bootstrap, the line over temperature, candidate laws, the next experiment."""
    out = FitReport(job, name, quiet, early.folder)
    if found.is_stopped:
        return out
    _report_influence(out, found)
    _report_uncertainty(out, study, found)
    if study.line is not None:
        _over_temperature(out, study.line, found, early)
    if study.candidates:
        _weigh(out, study, job)
    if study.narrow is not None:
        from molino.core.fitting.next_experiment import next_experiment

        best = next_experiment(found, study.narrow, study.next, study.several)
        out.content["next"] = best.to_dict()
        out.tabulate(best.table().head(8), f"experiments that narrow {study.narrow}")
        out.say(str(best))
        out.keep("next", best.table())
    return out


def _report_influence(out: FitReport, found: Fit) -> None:
    """The influence of each run on the constants; printed if one disagrees with the others."""
    from molino.core.fitting.run_influence import FEWEST

    if len(found.parameter_map.runs) < FEWEST or found.points.weight is not None:
        return
    with show_progress("influence of runs", out.quiet):
        influence = found.odd_run or found.run_influence()
    out.content["run_influence"] = influence.to_dict()
    if influence.odd is not None:
        out.tabulate(influence.table(), "influence of runs, changes in standard errors")
    out.keep("run-influence", influence.table(), ("", load_figures().run_influence(influence)))


def _report_uncertainty(out: FitReport, study: Study, found: Fit) -> None:
    figures = load_figures()

    profiles = None
    if study.profile_likelihood:
        with show_progress("profile likelihoods", out.quiet):
            profiles = found.profile_likelihood()
        out.content["profile_likelihood"] = {n: p.to_dict() for n, p in profiles.items()}
        out.tabulate(_intervals(profiles), "profile-likelihood intervals")
        out.keep("profile-likelihood", _intervals(profiles), ("", figures.profiles(found, profiles)))
    draws = refits_of(study, found, out.quiet)
    if draws is not None:
        out.content["bootstrap"] = draws.to_dict()
        out.tabulate(draws.table(), f"bootstrap of {draws.kind}: {len(draws.draws)} refits")
        out.keep("bootstrap", draws.table(), ("", figures.bootstrap(draws)))
    posterior = posterior_of(study, found, out.quiet)
    if posterior is not None:
        out.content["posterior"] = posterior.to_dict()
        out.tabulate(posterior.table(), f"posterior: {len(posterior.draws)} draws")
        for line in str(posterior).splitlines()[1 + len(posterior.names) :]:
            out.say(line.strip())
        out.keep("posterior", posterior.table(), ("", figures.posterior(posterior)))
        out.keep("predictions", None, ("", figures.fit(found, posterior=posterior)))
    every = [one for one in (draws, posterior) if one is not None]
    if len(every) + (profiles is not None) > 1:
        out.keep("intervals", None, ("", figures.intervals(found, profiles, *every)))
    if study.region:
        first, second = study.region
        region = found.region(first, second)
        out.keep("region", None, ("", figures.region(region, draws)))


def _intervals(profiles: dict[str, ProfileLikelihood]) -> pd.DataFrame:
    """The intervals of profiles as a table, with open ends marked."""
    import pandas as pd

    return pd.concat([profile.table() for profile in profiles.values()], ignore_index=True)


def over_temperature(job: Job, name: str, line: Line, quiet: bool, folder: ResultsFolder) -> FitReport:
    """A line through a table in the job, without a fit."""
    out = FitReport(job, name, quiet, folder)
    assert line.law is not None
    _report_line(out, line.law, line.at)
    return out


def _over_temperature(out: FitReport, line: Line, found: Fit, early: FitReport) -> None:
    from molino.core.errors import InputError

    law = line.law
    if law is None and line.of is not None:
        law = found.over_temperature(line.of)
    elif law is None and early.screening is not None:
        if early.screening.chosen is None:
            raise InputError("the screening chose no law", "temperature", early.screening.verdict)
        law = early.screening.over_temperature()
    assert law is not None
    _report_line(out, law, line.at)


def _report_line(out: FitReport, law: Arrhenius | VantHoff, at: tuple[units.Value, ...]) -> None:
    """The law, its values at some temperatures, and its figure."""
    from molino.core import units

    figures = load_figures()
    line = law.through_table
    assert line is not None
    out.head(f"{out.name}: over temperature")
    out.say(f"{line.noun} = {law}")
    rows = []
    for T in at:
        unit = units.unit(line.constants[0].unit or "")
        value, low, high = (unit.from_si(x) for x in line.at(T.si))
        rows.append({"T": str(T), "value": value, "low_95": low, "high_95": high, "unit": line.constants[0].unit or ""})
        shown = units.pretty(line.constants[0].unit or "")
        out.say(f"  at {units.pretty(str(T))}: {value:.4g} ({low:.4g} to {high:.4g}) {shown}".rstrip())
    out.content["temperature"] = {"law": str(law), "predicted": rows}
    out.keep("temperature", None, ("", figures.over_temperature(law)))


def _weigh(out: FitReport, study: Study, job: Job) -> None:
    from molino.core.fitting.discrimination import discriminate

    figures = load_figures()

    options = {n: v for n, v in study.options.items() if n != "per_run"}
    with show_progress("candidates", out.quiet) as tell_of:
        found = discriminate(
            {"as in the job": job.chemistry, **study.candidates},
            study.data,
            progress=lambda count, squares: tell_of(f"evaluation {count}, sum of squares {squares:.6g}"),
            **options,
        )
    out.content["candidates"] = found.to_dict()
    out.tabulate(found.table(), "candidate laws")
    out.say(f"verdict: {found.verdict}")
    if found.next_text:
        out.say(f"next: {found.next_text}")
    out.keep("candidates", found.table(), ("", figures.candidates(found)))
