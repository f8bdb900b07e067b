"""Run a report again: its inputs out of the page, its steps once more, and what differs."""

from __future__ import annotations

import base64
import hashlib
import json
import math
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from molino.core.errors import InputError
from molino.core.frozen import Frozen
from molino.core.results import Result
from molino.core.units import number_text
from molino.desk.job.load import build
from molino.desk.job.parse import read_tables
from molino.desk.report.build import RECORD, take_steps, versions
from molino.desk.report.collected import CollectedResults
from molino.desk.tables.write import whole

if TYPE_CHECKING:
    import pandas as pd

_RECORD = re.compile(r'<script type="application/json" id="record">(.*?)</script>', re.DOTALL)
_ALIKE = 1e-9
"""By how much, relative, a number may differ and still be called the same."""
_SMALL = 1e-12
"""Below which share of the largest number next to it a number is rounding."""


@dataclass(frozen=True)
class Difference:
    """Something that is not as the report says.

    Attributes
    ----------
    where : str
        The step, and the way to the number in its plain data.
    reported, now : number, str or None
    relative : float
        By how much it differs, of the larger of both; nan for what is no number.
    """

    where: str
    reported: Any
    now: Any
    relative: float


@dataclass(frozen=True, eq=False)
class Rerun(Frozen, Result):
    """What came of running a report again.

    Attributes
    ----------
    path : Path
    compared : int
        How many numbers were compared.
    largest : float
        The largest relative difference among those called the same.
    differences : tuple of Difference
    inputs : dict of str to str
        Each input that is not as its hash in the report says, and what is wrong with it.
    versions : dict of str to (str, str)
        Each package of another version: as reported, and now.
    """

    path: Path
    compared: int
    largest: float
    differences: tuple[Difference, ...]
    inputs: Mapping[str, str]
    versions: Mapping[str, tuple[str, str]]

    @property
    def is_same(self) -> bool:
        """Whether every input and every number is as reported."""
        return not self.differences and not self.inputs

    def facts(self) -> dict[str, str]:
        """What was compared, and what differs."""
        found = {"numbers compared": f"{self.compared}", "differ": f"{len(self.differences)}"}
        if self.compared > len(self.differences):
            found["others agree to"] = f"{self.largest:.1e} relative" if self.largest else "the last digit"
        found |= {f"input {name}": text for name, text in self.inputs.items()}
        found |= {f"version of {n}": f"{then} in the report, {now} here" for n, (then, now) in self.versions.items()}
        return found

    def table(self) -> pd.DataFrame:
        """One row a difference."""
        import pandas as pd

        rows = [
            {"where": d.where, "reported": _text(d.reported), "now": _text(d.now), "relative": d.relative}
            for d in self.differences
        ]
        return pd.DataFrame(rows, columns=["where", "reported", "now", "relative"])

    def to_dict(self) -> dict[str, Any]:
        """All of it as plain data."""
        return {
            "report": self.path.name, "same": self.is_same, "compared": self.compared, "largest": self.largest,
            "differences": self.table().to_dict("records"), "inputs": dict(self.inputs),
            "versions": {name: {"report": then, "here": now} for name, (then, now) in self.versions.items()},
        }  # fmt: skip

    def __str__(self) -> str:
        verdict = "every number is as reported" if self.is_same else "not all is as reported"
        return "\n".join([f"{self.path.name}: {verdict}", *(f"  {n:<22} {text}" for n, text in self.facts().items())])


def _text(value: Any) -> str:
    return number_text(value, 8) if isinstance(value, float) else str(value)


def read_record(path: Path) -> dict[str, Any]:
    """What a report stores of its inputs and results.

    Raises
    ------
    InputError
        If it is none of a report.
    """
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError("it cannot be read as a report", str(path), "name a file that molino report wrote") from error
    found = _RECORD.search(text)
    try:
        record = json.loads(found[1]) if found else None
    except ValueError:
        record = None
    if not isinstance(record, dict) or not {"format", "inputs", "results", "versions"} <= record.keys():
        message = "no record of inputs and results is in it"
        raise InputError(message, path.name, "name a file that molino report wrote, whole and unchanged")
    if record["format"] != RECORD:
        message = f"its record is of version {record['format']}, and this Molino reads {RECORD}"
        raise InputError(
            message, path.name, f"use the Molino that wrote it: {record['versions'].get('molino', 'another')}"
        )
    return record


def extract(record: Mapping[str, Any], folder: Path, inputs: Path | None) -> tuple[dict[str, Path], dict[str, str]]:
    """Write the inputs of a report into a folder, or take those of another one; and what is wrong with them.

    A file that the job reads from outside its folder goes into a folder `outside` of its own.
    """
    places, wrong = {}, {}
    for n, one in enumerate(record["inputs"]):
        name = str(one["name"])
        content = one["content"].encode("utf-8") if one["encoding"] == "utf-8" else base64.b64decode(one["content"])
        if hashlib.sha256(content).hexdigest() != one["sha256"]:
            wrong[name] = "has been changed inside the report"
        is_inside = (folder / name).resolve().is_relative_to(folder.resolve())
        target = folder / name if is_inside else folder / "outside" / f"{n}-{Path(name).name}"
        if inputs is not None:
            other = inputs / name
            if not other.is_file():
                wrong[name] = f"is not in {inputs}; that of the report is used"
            else:
                given = other.read_bytes()
                if hashlib.sha256(given).hexdigest() != one["sha256"]:
                    wrong[name] = "is another one than in the report"
                content = given
        with whole(target) as temporary:
            temporary.write_bytes(content)
        places[name] = target
    return places, wrong


def rerun(path: Path, folder: Path, inputs: Path | None, quiet: bool) -> Rerun:
    """Run a report again in a folder, with its own inputs or those of another folder, and compare every number.

    Raises
    ------
    InputError
        If it is no report, or its inputs are not sound any more.
    """
    record = read_record(path)
    if not record["inputs"]:
        message = "it was made of results in Python, and no job is in it"
        raise InputError(message, path.name, "run the script again that made it")
    places, wrong = extract(record, folder, inputs)
    job = build(read_tables(places[record["job"]], places))
    collected = CollectedResults(draws=False)
    failed = take_steps(job, collected, quiet)
    differences: list[Difference] = []
    largest, compared = 0.0, 0
    now = {"results": collected.contents, "failed": {step: [str(f) for f in faults] for step, faults in failed.items()}}
    then = {"results": record["results"], "failed": record["failed"]}
    for one in _compare(then, json.loads(json.dumps(now)), ""):
        compared += isinstance(one.reported, float)
        if one.relative > _ALIKE or math.isnan(one.relative):
            differences.append(one)
        else:
            largest = max(largest, one.relative)
    here, reported = versions(), record["versions"]
    others = {name: (reported[name], here.get(name, "none")) for name in reported if here.get(name) != reported[name]}
    differences.sort(key=lambda one: -math.inf if math.isnan(one.relative) else -one.relative)
    return Rerun(path, compared, largest, tuple(differences), wrong, others)


def _compare(then: Any, now: Any, where: str, scale: float = 0.0) -> Iterator[Difference]:
    """Every number of both, with its difference; of other things only what differs."""
    if isinstance(then, dict) and isinstance(now, dict):
        scale = max([abs(float(v)) for v in then.values() if _is_number(v)], default=0.0)
        if where.endswith("closure"):
            scale = 1.0  # shares of what was fed, of which only rounding is left
        for key in dict.fromkeys([*then, *now]):
            yield from _compare(then.get(key), now.get(key), f"{where}/{key}" if where else str(key), scale)
    elif isinstance(then, list) and isinstance(now, list) and len(then) == len(now):
        scale = max([abs(float(v)) for v in then if _is_number(v)], default=0.0)
        for n, (a, b) in enumerate(zip(then, now, strict=True), 1):
            yield from _compare(a, b, f"{where} {n}", scale)
    elif _is_number(then) and _is_number(now):
        a, b = float(then), float(now)
        of = max(abs(a), abs(b), _SMALL / _ALIKE * scale)
        yield Difference(_place(where), a, b, abs(a - b) / of if a != b else 0.0)
    elif then != now and not (isinstance(then, str) and isinstance(now, str) and _same_words(then, now)):
        yield Difference(_place(where), _short(then), _short(now), math.nan)


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


_NUMBER = re.compile(r"[-+]?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?")


def _same_words(then: str, now: str) -> bool:
    """Whether two texts differ only in rounding: numbers that are next to zero, or that stand next to each other."""
    if _NUMBER.sub("#", then) != _NUMBER.sub("#", now):
        return False
    pairs = zip(_NUMBER.findall(then), _NUMBER.findall(now), strict=True)
    return all(abs(float(a) - float(b)) <= max(_ALIKE * abs(float(a)), _SMALL) for a, b in pairs)


def _place(where: str) -> str:
    return where.removeprefix("results/")


def _short(value: Any) -> Any:
    if isinstance(value, float) or value is None:
        return value
    text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    return text if len(text) <= 80 else text[:77] + "..."
