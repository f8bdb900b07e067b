"""Run a report again: extract its inputs, run its steps, and compare."""

from __future__ import annotations

import base64
import hashlib
import json
import math
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from difflib import SequenceMatcher
from html.parser import HTMLParser
from itertools import zip_longest
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from pydantic import BaseModel

from molino.core.annotations import PlainData
from molino.core.errors import InputError
from molino.core.frozen import Frozen
from molino.core.results import Result
from molino.core.units import number_text
from molino.desk.job.load import build
from molino.desk.job.parse import read_tables
from molino.desk.report.build import RECORD, page_of_steps, take_steps, versions
from molino.desk.report.collected import CollectedResults
from molino.desk.report.document import digest_of, record_of
from molino.desk.tables.write import whole

if TYPE_CHECKING:
    import pandas as pd

_UNREAD = ("script", "style", "figure", "nav", "button", "title")
"""Elements of a page that are not compared."""
_ALIKE = 1e-9
"""Largest relative difference of numbers that are the same."""
_SMALL = 1e-12
"""Fraction of the largest number next to it below which a number is rounding."""


@dataclass(frozen=True)
class Difference:
    """A difference from the report.

    Attributes
    ----------
    where : str
        The step, and the path to the number in its plain data.
    reported, now : number, str or None
    relative : float
        The difference relative to the larger of both; nan if they are not numbers.
    """

    where: str
    reported: Any
    now: Any
    relative: float


@dataclass(frozen=True, eq=False)
class Rerun(Frozen, Result):
    """The result of running a report again.

    Attributes
    ----------
    path : Path
    compared : int
        Number of compared numbers.
    largest : float
        The largest relative difference among those that are the same.
    differences : tuple of Difference
    inputs : dict of str to str
        Each input that differs from its hash in the report, and its faults.
    versions : dict of str to (str, str)
        Packages of other versions: as reported, and now.
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
        """The number of compared numbers, and the differences."""
        found = {"numbers compared": f"{self.compared}", "differ": f"{len(self.differences)}"}
        if self.compared > len(self.differences):
            found["others agree to"] = f"{self.largest:.1e} relative" if self.largest else "the last digit"
        found |= {f"input {name}": text for name, text in self.inputs.items()}
        found |= {f"version of {n}": f"{then} in the report, {now} here" for n, (then, now) in self.versions.items()}
        return found

    def table(self) -> pd.DataFrame:
        """One row per difference."""
        import pandas as pd

        rows = [
            {"where": d.where, "reported": _text(d.reported), "now": _text(d.now), "relative": d.relative}
            for d in self.differences
        ]
        return pd.DataFrame(rows, columns=["where", "reported", "now", "relative"])

    def to_dict(self) -> PlainData:
        """Plain data of the comparison."""
        return {
            "report": self.path.name,
            "same": self.is_same,
            "compared": self.compared,
            "largest": self.largest,
            "differences": self.table().to_dict("records"),
            "inputs": dict(self.inputs),
            "versions": {name: {"report": then, "here": now} for name, (then, now) in self.versions.items()},
        }

    def __str__(self) -> str:
        verdict = "every number is as reported" if self.is_same else "there are differences from the report"
        return "\n".join([f"{self.path.name}: {verdict}", *(f"  {n:<22} {text}" for n, text in self.facts().items())])


def _text(value: object) -> str:
    return number_text(value, 8) if isinstance(value, float) else str(value)


class _Input(BaseModel):
    name: str
    sha256: str
    encoding: Literal["utf-8", "base64"]
    content: str

    @property
    def bytes(self) -> bytes:
        return (
            self.content.encode("utf-8") if self.encoding == "utf-8" else base64.b64decode(self.content, validate=True)
        )


class Record(BaseModel):
    """The record of a report: inputs, results and versions."""

    format: int
    versions: dict[str, str]
    job: str | None
    inputs: list[_Input]
    answers: dict[str, str] = {}
    results: PlainData
    failed: PlainData = {}
    page: str = ""
    title: str = ""
    question: str = ""
    answer: str = ""


def read_page(path: Path) -> str:
    """The text of a report.

    Raises
    ------
    InputError
        If it is not a file of text.
    """
    try:
        if not path.is_file():  # reading a pipe would block
            raise OSError
        return path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError("it cannot be read as a report", str(path), "name a file that molino report wrote") from error


def read_record(path: Path) -> Record:
    """The record of a report; errors as for `read_page` and `record_in`."""
    return record_in(read_page(path), path.name)


def record_in(page: str, name: str) -> Record:
    """The record of a page.

    Raises
    ------
    InputError
        If there is not exactly one record, or it is not valid.
    """
    place, advice = record_of(page), "name a complete and unchanged file of molino report"
    if place is None:
        raise InputError("it has no record of inputs and results, or more than one", name, advice)
    try:
        record = Record.model_validate(json.loads(page[slice(*place)]), strict=True)
    except (ValueError, RecursionError) as error:
        raise InputError("its record of inputs and results is not valid", name, advice) from error
    if record.format != RECORD:
        message = f"its record is of version {record.format}, and this Molino reads {RECORD}"
        raise InputError(message, name, f"use the Molino that wrote it: {record.versions.get('molino', 'another')}")
    if record.inputs and record.job not in {one.name for one in record.inputs}:
        raise InputError(f"its job '{record.job}' is not among its inputs", name, advice)
    return record


def extract(record: Record, folder: Path, inputs: Path | None) -> tuple[dict[str, Path], dict[str, str]]:
    """Write the inputs of a report into a folder, or use those of another one; return their faults.

    A file from outside the folder of the job is written to a folder `outside`, and is always taken from the report.
    """
    places, wrong = {}, {}
    for n, one in enumerate(record.inputs):
        try:
            content = one.bytes
        except ValueError as error:
            raise InputError(f"its input '{one.name}' is not valid", "", "write it anew") from error
        if hashlib.sha256(content).hexdigest() != one.sha256:
            wrong[one.name] = "has been changed inside the report"
        is_inside = _is_inside(folder, one.name)
        target = folder / one.name if is_inside else folder / "outside" / f"{n}" / (Path(one.name).name or "input")
        if inputs is not None:
            other = inputs / one.name
            if not _is_inside(inputs, one.name) or not other.is_file():
                wrong[one.name] = f"is not in {inputs}; that of the report is used"
            else:
                given = other.read_bytes()
                if hashlib.sha256(given).hexdigest() != one.sha256:
                    wrong[one.name] = "differs from that in the report"
                content = given
        with whole(target) as temporary:
            temporary.write_bytes(content)
        places[one.name] = target
    return places, wrong


def _is_inside(folder: Path, name: str) -> bool:
    return (folder / name).resolve().is_relative_to(folder.resolve()) and (folder / name).resolve() != folder.resolve()


class _Visible(HTMLParser):
    """The visible texts of a page, without figures, controls, and the section of inputs and versions."""

    def __init__(self) -> None:
        super().__init__()
        self.texts: list[str] = []
        self._hidden: list[str] = []
        self._is_over = False

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        named = dict(attrs)
        self._is_over = self._is_over or (tag == "h2" and named.get("id") == "inputs")
        is_hidden = tag in _UNREAD or named.get("class") in ("explorer", "when")
        if self._hidden and tag == self._hidden[0]:
            self._hidden.append(tag)
        elif is_hidden and not self._hidden:
            self._hidden = [tag]

    def handle_endtag(self, tag: str) -> None:
        if self._hidden and tag == self._hidden[0]:
            self._hidden.pop()

    def handle_data(self, data: str) -> None:
        if not self._hidden and not self._is_over and data.strip():
            self.texts.append(data.strip())


def visible_texts(page: str) -> list[str]:
    """The visible texts of a page, without figures and versions."""
    parser = _Visible()
    parser.feed(page)
    return parser.texts


def _of_page(page: str, record: Record, again: str) -> Iterator[Difference]:
    """The visible texts of a page that differ from those of the same results written again."""
    if record.page and record.page == digest_of(page):
        return
    then, now = visible_texts(page), visible_texts(again)
    found = False
    for tag, i, j, k, m in SequenceMatcher(None, then, now, autojunk=False).get_opcodes():
        if tag == "equal":
            continue
        pairs = zip_longest(then[i:j], now[k:m], fillvalue="")
        for a, b in pairs:
            if not _same_words(a, b):
                found = True
                yield Difference("page", _short(a), _short(b), math.nan)
    if record.page and not found:
        yield Difference("page", "changed since it was written", "in a figure, or invisible", math.nan)


def rerun(path: Path, folder: Path, inputs: Path | None, quiet: bool) -> Rerun:
    """Run a report again in a folder, with its own inputs or those of another folder, and compare every number.

    Raises
    ------
    InputError
        If it is not a report, or its inputs have faults.
    """
    page = read_page(path)
    record = record_in(page, path.name)
    if not record.inputs or record.job is None:
        message = "it was made from results in Python, without a job"
        raise InputError(message, path.name, "run its script again")
    places, wrong = extract(record, folder, inputs)
    job = build(read_tables(places[record.job], places))
    job = replace(job, title=record.title, question=record.question, answer=record.answer)
    collected = CollectedResults(draws=False)
    failed = take_steps(job, collected, quiet)
    differences: list[Difference] = []
    largest, compared = 0.0, 0
    now = {"results": collected.contents, "failed": {step: [str(f) for f in faults] for step, faults in failed.items()}}
    then = {"results": record.results, "failed": record.failed}
    for one in _compare(then, json.loads(json.dumps(now)), ""):
        compared += isinstance(one.reported, float)
        if one.relative > _ALIKE or math.isnan(one.relative):
            differences.append(one)
        else:
            largest = max(largest, one.relative)
    here, reported = versions(), record.versions
    others = {name: (reported[name], here.get(name, "none")) for name in reported if here.get(name) != reported[name]}
    if inputs is None:
        differences += _of_page(page, record, page_of_steps(job, collected, failed).html())
    differences.sort(key=lambda one: -math.inf if math.isnan(one.relative) else -one.relative)
    return Rerun(path, compared, largest, tuple(differences), wrong, others)


def _compare(then: Any, now: Any, where: str, scale: float = 0.0) -> Iterator[Difference]:
    """Every number of both, with its difference; other values only if they differ."""
    if isinstance(then, dict) and isinstance(now, dict):
        scale = max([abs(float(v)) for v in then.values() if _is_number(v)], default=0.0)
        if where.endswith("closure"):
            scale = 1.0  # relative imbalances that are rounding
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


def _is_number(value: object) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


_NUMBER = re.compile(r"[-+]?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?")


def _same_words(then: str, now: str) -> bool:
    """Whether two texts differ only in rounding of numbers."""
    if _NUMBER.sub("#", then) != _NUMBER.sub("#", now):
        return False
    pairs = zip(_NUMBER.findall(then), _NUMBER.findall(now), strict=True)
    return all(abs(float(a) - float(b)) <= max(_ALIKE * abs(float(a)), _SMALL) for a, b in pairs)


def _place(where: str) -> str:
    return where.removeprefix("results/")


def _short(value: object) -> object:
    if isinstance(value, float) or value is None:
        return value
    text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    return text if len(text) <= 80 else text[:77] + "..."
