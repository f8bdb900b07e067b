"""The folder of a long sweep: its question, its lock, its parts, and their writer."""

from __future__ import annotations

import hashlib
import json
import math
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from itertools import chain, islice
from pathlib import Path
from typing import Any

import numpy as np

from molino.core import units
from molino.core.annotations import ByName, PlainData
from molino.core.balances.machine.choice import prefers_machine_code
from molino.core.contract.metric import Metric
from molino.core.contract.vessel import Vessel
from molino.core.design.sweep_question import TOGETHER, Question
from molino.core.errors import InputError
from molino.core.parallel import Workers, in_order
from molino.core.results import Table
from molino.core.trains.train import Train
from molino.desk.tables.write import whole, write_json

MOST_CASES, _SECONDS = 65_536, 30.0
"""Number of cases of a part, and time after which a smaller one is written: no more is lost at a sudden end."""
_ALONE = 8
"""Number of cases of a block that are run one by one."""
MANIFEST = "sweep.json"
_ABOUT = b"molino"
_EVALUATIONS = 5
"""Evaluations of a right-hand side in Python that take as long as a case among many, about."""

Cases = Mapping[str, Any] | Sequence[ByName] | Iterable[ByName] | Path | str
Abouts = tuple[tuple[Path, PlainData], ...]
"""The parts of a folder, with what their metadata state."""


@dataclass(frozen=True)
class Source:
    """The cases of a sweep in blocks, and the texts by which its question is recognized."""

    compute: Callable[[Any], tuple[Table, float]]
    """The table of a block, with the reasons, and the largest difference from single runs."""
    blocks: Callable[[int], Iterator[Any]]
    """Those from a case on."""
    count: int
    """Of cases; zero if it is not known."""
    conditions: int
    question: PlainData


def source_of(vessel: Vessel | Train, conditions: Cases, metrics: Sequence[Metric | str]) -> Source:
    if isinstance(conditions, Mapping) or (isinstance(conditions, Sequence) and not isinstance(conditions, str)):
        question = Question.read(vessel, conditions, metrics, most=math.inf)
        count = len(question.places)
        given = {name: _hash(repr([*map(_exact, values)])) for name, values in question.given.items()}
        given["cases"] = f"{count:,}"

        def blocks(start: int) -> Iterator[Any]:
            size = _block_size(question)
            return (range(n, min(n + size, count)) for n in range(start, count, size))

        work: Callable[[Any], tuple[Table, float]] = partial(_block, question)
    else:
        several = _columns_of(Path(conditions)) if isinstance(conditions, str | Path) else iter(conditions)
        first = next(several, None)
        if first is None:
            raise InputError("there are no cases", "sweep", "give at least one")
        question = Question.read(vessel, [first], metrics)
        rows, count, given = chain([first], several), 0, {"names": ", ".join(question.given)}

        def blocks(start: int) -> Iterator[Any]:
            return iter(lambda: [*islice(rows, _block_size(question))], [])

        work = partial(_block_of_rows, vessel, question.metrics)
    question.require_known()
    return Source(work, blocks, count, len(question.given), _texts(vessel, question.metrics, given))


def _columns_of(path: Path) -> Iterator[ByName]:
    """The cases of a Parquet file; columns with a unit are converted to SI."""
    import pyarrow.parquet as pq

    try:
        file = pq.ParquetFile(path)
    except (OSError, ValueError) as error:
        raise InputError(
            f"cannot be read as Parquet ({error})", str(path), "give a file with a column for each condition"
        ) from error
    for batch in file.iter_batches(MOST_CASES):
        columns = {}
        for heading, values in zip(batch.schema.names, batch.columns, strict=True):
            name, bracket, unit = heading.removesuffix("]").partition(" [")
            numbers = values.to_pylist()
            if bracket:
                numbers = units.unit(unit).to_si(np.array(numbers, dtype=float)).tolist()
            columns[name] = numbers
        yield from (dict(zip(columns, row, strict=True)) for row in zip(*columns.values(), strict=True))


def _block(question: Question, cases: range) -> tuple[Table, float]:
    found = question.block(cases)
    table = found.table()
    table["reason"] = list(found.reasons)
    return table, found.apart


def _block_of_rows(vessel: Vessel | Train, metrics: Sequence[Metric], rows: list[ByName]) -> tuple[Table, float]:
    return _block(Question.read(vessel, rows, metrics), range(len(rows)))


def _block_size(question: Question) -> int:
    """Number of cases of a block: few, if each is run by itself and may take long."""
    return _ALONE if question.base is None else TOGETHER


def _exact(value: Any) -> object:
    """A value with all its digits: its own text is rounded."""
    return (value.si, value.unit) if isinstance(value, units.Value) else value


def _key(block: list[ByName]) -> str:
    return _hash(repr([{name: _exact(value) for name, value in row.items()} for row in block]))


def _hash(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()[:16]


def _texts(vessel: Vessel | Train, metrics: Sequence[Metric], given: ByName) -> PlainData:
    """The parts of a question: of the vessel its description, and of its balances a hash."""
    import molino

    cases = [one.spec.case for one in vessel.vessels]
    balances = [(c.values, [str(e) for e in c.balances.rhs], [str(d) for d in c.balances.definitions]) for c in cases]
    found = {f"condition {name}": text for name, text in given.items()}
    inside = [(f"vessel {n} ({one.label}), ", one) for n, one in enumerate(vessel.vessels, 1) if one is not vessel]
    for of, one in (("", vessel), *inside):
        found |= {f"{of}{name}": repr(own.own) for name, own in one.spec.conditions.items()}
    found |= {"description": str(vessel), "balances": _hash(repr(balances))}
    return {**found, "metrics": ", ".join(str(m) for m in metrics), "version of Molino": molino.__version__}


def begin(folder: Path, source: Source) -> str:
    """Write the question to the folder, after moving another one away; a remark on that."""
    manifest = folder / MANIFEST
    remark = ""
    if manifest.is_file():
        before = json.loads(manifest.read_text(encoding="utf-8"))["question"]
        changed = [name for name in {**before, **source.question} if before.get(name) != source.question.get(name)]
        if not changed:
            done = next(reversed([about["stop"] for _, about in abouts_of(folder)]), 0)
            return f"continued after {done:,} cases" if done else ""
        old = next(p for n in range(1, 10_000) if not (p := folder / f"old-{n}").exists())
        old.mkdir()
        for path in (manifest, *folder.glob("part-*.parquet")):
            path.rename(old / path.name)
        remark = f"begun anew, since these changed: {', '.join(changed)}; the cases before are in {old.name}"
    code = prefers_machine_code(_EVALUATIONS * source.count)
    write_json(manifest, {"question": source.question, "machine code": code})
    return remark


def abouts_of(folder: Path) -> Abouts:
    """The parts of a folder, from the first case to the first part that is missing or damaged."""
    import pyarrow.parquet as pq

    found: list[tuple[Path, PlainData]] = []
    for path in sorted(folder.glob("part-*.parquet")):
        try:
            about = json.loads(pq.read_metadata(path).metadata[_ABOUT])
        except (OSError, ValueError, KeyError):
            break
        if about["start"] != (found[-1][1]["stop"] if found else 0):
            break
        found.append((path, about))
    return tuple(found)


class Writer:
    """Parts of a folder, written as their blocks are computed."""

    def __init__(self, folder: Path, source: Source, progress: Callable[[int, int], None] | None) -> None:
        self.folder, self.source, self.progress = folder, source, progress
        self.done = abouts_of(folder)
        for path in {*folder.glob("part-*.parquet")} - {path for path, _ in self.done}:
            path.unlink()  # damaged, or behind a damaged one: its cases are computed again
        self.start = self.done[-1][1]["stop"] if self.done else 0
        self.open: list[Table] = []
        self.keys: list[str] = []
        self.apart: list[float] = []

    def write(self, workers: Workers) -> bool:
        """Compute the blocks that are missing, and write them; an interruption writes the open part. Whether there was
        one."""
        blocks, sent = self._left(self.source.blocks(self.start)), list[str]()

        def noted() -> Iterator[Any]:
            for block in blocks:
                sent.append("" if isinstance(block, range) else _key(block))
                yield block

        begun, stop, is_stopped = time.monotonic(), self.start, False
        try:
            for n, (table, apart) in enumerate(in_order(self.source.compute, noted(), workers)):
                self.open.append(table)
                self.keys.append(sent[n])
                self.apart += [apart] if math.isfinite(apart) else []
                stop += len(table)
                if stop - self.start >= MOST_CASES or time.monotonic() - begun > _SECONDS:
                    self._flush()
                    begun = time.monotonic()
                if self.progress is not None:
                    self.progress(stop, self.source.count)
        except KeyboardInterrupt:
            is_stopped = True
        self._flush()
        return is_stopped

    def _left(self, blocks: Iterator[Any]) -> Iterator[Any]:
        """The blocks that are not in a part; those that are must be the same."""
        if self.source.count:
            yield from blocks
            return
        for path, about in self.done:
            at, keys = about["start"], list[str]()
            while at < about["stop"] and (block := next(blocks, None)) is not None:
                keys.append(_key(block))
                at += len(block)
            if _hash("".join(keys)) != about["key"]:
                message = f"the cases {about['start']:,} to {about['stop']:,} differ from those in {path.name}"
                raise InputError(message, str(self.folder), "give the same cases as before, or another folder")
        yield from blocks

    def _flush(self) -> None:
        """Write the open part."""
        import pandas as pd
        import pyarrow as pa
        import pyarrow.parquet as pq

        if not self.open:
            return
        table = pd.concat(self.open, ignore_index=True)
        headings = [str(heading) for heading in table.columns]
        names, metrics = headings[: self.source.conditions], headings[self.source.conditions : -1]
        stop = self.start + len(table)
        about = {
            "start": self.start,
            "stop": stop,
            "key": _hash("".join(self.keys)),
            "apart": max(self.apart, default=None),
            "failed": int((table["reason"] != "").sum()),
            "statistics": {m: own for m in metrics if (own := _statistics(table, m, names)) is not None},
        }
        found = pa.Table.from_pandas(table, preserve_index=False)
        path = self.folder / f"part-{self.start:012d}.parquet"
        with whole(path) as temporary:
            pq.write_table(
                found.replace_schema_metadata({**found.schema.metadata, _ABOUT: json.dumps(about)}), temporary
            )
        self.start, self.open, self.keys, self.apart = stop, [], [], []


def _statistics(table: Table, metric: str, names: Sequence[str]) -> PlainData | None:
    """Those of a metric in a table; None without a value."""
    known = table[np.isfinite(table[metric].to_numpy(dtype=float))]
    if not len(known):
        return None
    column = known[metric].to_numpy(dtype=float)
    found: PlainData = {"values": len(column), "mean": float(column.mean())}
    found["squares"] = float(((column - found["mean"]) ** 2).sum())
    for end, at in (("low", int(column.argmin())), ("high", int(column.argmax()))):
        found[end] = float(column[at])
        found[f"{end} at"] = {n: v if isinstance(v, str) else float(v) for n, v in known.iloc[at][list(names)].items()}
    return found
