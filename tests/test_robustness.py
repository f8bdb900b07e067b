"""What nobody should be able to break: spoiled files, odd starts, searches that go astray."""

from __future__ import annotations

import random
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings, strategies as st

import molino as mo
from conftest import DEMO
from molino.core.errors import Faults
from molino.desk.job.load import Job

JOB = (DEMO / "valdeoro.toml").read_text().splitlines()
DATA = (DEMO / "cob-liquor.csv").read_text().splitlines()
SCRAPS = ["", "=", "[", '"', "nan", "-1", "1e999", "true", "{}", "[units]", "x" * 90, "ä", "[size.coil]", "0", "'"]


@st.composite
def spoiled(draw: st.DrawFn, lines: list[str], marks: str) -> str:
    """A file with a few lines lost, doubled or with a piece of them replaced."""
    found = list(lines)
    for _ in range(draw(st.integers(1, 3))):
        at = draw(st.integers(0, len(found) - 1))
        how = draw(st.sampled_from(["lose", "double", "replace"]))
        if how == "lose":
            del found[at]
        elif how == "double":
            found.insert(at, found[at])
        else:
            pieces = found[at].split(marks)
            pieces[draw(st.integers(0, len(pieces) - 1))] = draw(st.sampled_from(SCRAPS))
            found[at] = marks.join(pieces)
    return "\n".join(found) + "\n"


quick = settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])


@quick
@given(spoiled(JOB, " "))
def test_a_spoiled_job_is_read_or_told(tmp_path: Path, text: str) -> None:
    (tmp_path / "cob-liquor.csv").write_text("\n".join(DATA) + "\n")
    path = tmp_path / "job.toml"
    path.write_text(text)
    try:
        assert isinstance(mo.load_job(path), Job)
    except mo.InputError as error:
        assert all(fault.what and fault.where.startswith("job.toml") for fault in error.faults)


@quick
@given(spoiled(DATA, ","))
def test_a_spoiled_table_is_read_or_told(tmp_path: Path, text: str) -> None:
    path = tmp_path / "table.csv"
    path.write_text(text)
    try:
        runs = mo.read_experiments(path)
    except mo.InputError as error:
        assert all(fault.what and fault.where.startswith("table.csv") for fault in error.faults)
    else:
        assert all((values[np.isfinite(values)] >= 0).all() for run in runs for values in run.measured.values())


def test_a_tank_settles_where_its_start_leads() -> None:
    """A + B -> 2 B in a tank: without B it stays washed out, from a seed it goes to A = 1/(k tau), both steady."""
    k, tau = 0.5, 4.0
    chemistry = mo.Chemistry(mo.Reaction("A + B -> 2 B", k=k))
    feed = mo.Feed({"A": 2.0, "B": 0.0}, flow=1.0)
    washed_out = mo.StirredTank(chemistry, feed, volume=tau, contents={"A": 2.0, "B": 0.0}).steady()
    assert washed_out.conversion("A") == pytest.approx(0, abs=1e-9)
    seeded = mo.StirredTank(chemistry, feed, volume=tau, contents={"A": 2.0, "B": 0.5}).steady()
    assert seeded.concentrations["A"][-1] == pytest.approx(1 / (k * tau), rel=1e-9)
    assert seeded.concentrations["B"][-1] == pytest.approx(2 - 1 / (k * tau), rel=1e-9)


def test_a_search_that_oversteps_comes_back() -> None:
    """A growing population fitted from a guess whose runs overflow on the way: the step is taken back."""
    chemistry = mo.Chemistry(mo.Reaction("A -> 2 A", k=mo.Unknown(0.01)))
    times = np.linspace(10, 100, 10)
    run = mo.Experiment("1", times, {"A": np.exp(0.05 * times)}, {"A": 1.0})
    seen: list[tuple[int, float]] = []
    found = mo.fit(chemistry, run, progress=lambda count, squares: seen.append((count, squares)))
    assert found["r1.k"].value == pytest.approx(0.05, rel=1e-8)
    assert [count for count, _ in seen] == list(range(1, len(seen) + 1))
    assert seen[-1][1] < seen[0][1]


def test_a_guess_that_cannot_be_integrated_is_reported() -> None:
    chemistry = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]/[B]", k=mo.Unknown(1.0)))
    with pytest.raises(mo.SolveError, match=r"run 1, integration.*zero there: B"):
        mo.fit(chemistry, mo.Experiment("1", [1.0, 2.0], {"A": [0.5, 0.2]}, {"A": 1.0}))


def test_order_of_reactions_and_species_does_not_matter() -> None:
    """The same network written in any order gives the same end."""
    reactions = [("A -> B", 0.3), ("B <-> C", 0.2), ("A + C -> D", 0.1), ("2 D -> E", 0.4)]
    ends = []
    for seed in range(4):
        shuffled = random.Random(seed).sample(reactions, len(reactions))
        made = [mo.Reaction(e, k=k, **({"K": 2.0} if "<->" in e else {})) for e, k in shuffled]
        run = mo.Batch(mo.Chemistry(made), {"A": 2.0}).run(5.0)
        ends.append([run.concentrations[s][-1] for s in "ABCDE"])
    assert ends[1:] == [pytest.approx(ends[0], rel=1e-8)] * 3


def test_faults_are_gathered_each_once_with_their_places() -> None:
    faults = Faults()
    for place in ("first", "second", "second"):
        with faults.at(place):
            raise mo.UnitError("wrong unit", "length", "write m")
    with pytest.raises(mo.InputError) as error:
        faults.raise_any("file")
    assert [fault.where for fault in error.value.faults] == ["file, first, length", "file, second, length"]
    assert str(error.value).count("-> write m") == 2


def test_denominators_within_denominators_have_an_end() -> None:
    def nested(n: int) -> str:
        return "k*" + "[A]/(1 + " * n + "[A]" + ")" * n

    shallow = mo.Chemistry(mo.Reaction("A -> B", rate=nested(8), k=0.2))
    assert mo.PlugFlow(shallow, mo.Feed({"A": 1.0}, flow=1.0), volume=1.0).run().conversion("A") > 0
    with pytest.raises(mo.InputError, match="more than 12 nested denominators"):
        mo.Reaction("A -> B", rate=nested(20), k=0.2)


@pytest.mark.parametrize("vessel", ["tube", "batch", "dispersed", "train"])
def test_a_thorough_verification_integrates_once_more(vessel: str) -> None:
    """By another method: it agrees with the first, and would not with a run of loose tolerances."""
    chem = mo.Chemistry(mo.Reaction("A -> B", rate="k*[A]^2", k="1 L/mol/min", enthalpy="-80 kJ/mol"))
    feed = mo.Feed({"A": "1 mol/L"}, flow="1 L/min", T="330 K", heat_capacity="4 kJ/L/K")
    tube = mo.PlugFlow(chem, feed, volume="5 L", heat="adiabatic")
    made: dict[str, Any] = {
        "tube": tube, "batch": mo.Batch(chem, feed, time="5 min", heat="adiabatic"), "train": mo.Train([tube, tube]),
        "dispersed": mo.DispersedTube(chem, feed, volume="5 L", heat="adiabatic", dispersion=mo.Dispersion(peclet=20)),
    }  # fmt: skip
    check = made[vessel].run(verify="thorough").checks[-1]
    assert check.name == "a second integration agrees"
    assert check.value < 1e-7
    if vessel in ("tube", "batch"):
        loose = made[vessel].run(rtol=1e-2, atol=1e-2, verify="thorough").checks[-1]
        assert 1e-6 < loose.value <= loose.limit
    with pytest.raises(mo.InputError, match="give one of usual, thorough"):
        made[vessel].run(verify="twice")
