"""Jobs with one thing wrong: whatever `check` accepts runs, and whatever it refuses has a place, a fact and a remedy.

A whole campaign: `.venv/bin/python tests/mutated_jobs.py 20000`, in two processes, with what failed at the end.
"""

from __future__ import annotations

import copy
import json
import math
import random
import shutil
import signal
import sys
import tempfile
import tomllib
import traceback
import warnings
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from importlib.resources import files
from pathlib import Path
from typing import Any, NamedTuple

from molino.core.errors import InputError, MolinoError
from molino.desk.job.load import Job, load_job
from molino.desk.steps import compare, fit, only, optimize, run, size, sweep
from molino.desk.tables.write import ResultsFolder

DEMO = Path(str(files("molino.demo")))
LIMIT = 10
"""Seconds that a check, or a command, may take."""
HOSTILE: tuple[Any, ...] = (
    True, 0, -1, 17, 1e308, -1e308, 1e-320, 10**400, math.nan, math.inf, "", " ", "nonsense", "12 parsecs", "-3 bar", "5 kg",
    "1e308 m", "nan", "inf", "x" * 3000, "\x00", "$\\frac{$", "=1+1", "../../etc/passwd", [], {}, [1, "a"], {"a": 1}, [[]],
    "rest", "50 mol%", "2 per A", "0 K", "-400 degC", "T", "self",
)  # fmt: skip
NAMES = ("", " ", "self", "T", "a b", "$x$", "\x07", "é" * 200, "A -> B", "../up", "results", "1", "CON", "[A]")
COMMANDS = {"fit": fit, "run": run, "size": size, "compare": compare, "sweep": sweep, "optimize": optimize}


class Mutation(NamedTuple):
    """What was changed where, and the job with it."""

    text: str
    path: tuple[Any, ...]
    job: dict[str, Any]


def jobs() -> dict[str, dict[str, Any]]:
    """Both examples, with fewer points where that saves time only."""
    found = {}
    for name in ("valdeoro", "ether"):
        text = (DEMO / f"{name}.toml").read_text(encoding="utf-8").replace("points = 36", "points = 2")
        found[name] = tomllib.loads(text.replace("points = 17", "points = 2").replace("points = 13", "points = 2"))
    found["valdeoro"] |= {
        "library": "cob-reactions.toml",
        "figures": {"width": "16 cm", "dpi": 50, "species": ["xylose"], "limits": {"concentration": [0.0, 0.4]}},
        "profile": {"start": {"vessels": ["cooker"], "species": ["furfural"], "limits": {"x": [0, "30 min"]}}},
    }
    found["valdeoro"]["reactions"]["glucose"] = {}
    table = {"T": ["150 degC", "180 degC"], "k": ["0.009 1/min", "0.1 1/min"], "predict": ["170 degC"]}
    found["valdeoro"]["fit"]["line"] = {"temperature": table}
    return found


def places(content: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """Where something stands in a job, tables and lists among it."""
    inner = content.items() if isinstance(content, dict) else enumerate(content) if isinstance(content, list) else ()
    for key, value in inner:
        yield (*path, key)
        yield from places(value, (*path, key))


def mutate(job: dict[str, Any], chance: random.Random) -> Mutation:
    """A job with one thing changed."""
    changed = copy.deepcopy(job)
    path = chance.choice([*places(job)])
    owner: Any = changed
    for step in path[:-1]:
        owner = owner[step]
    key = path[-1]
    way = chance.choice(["value", "value", "value", "value", "delete", "misspell", "rename", "add", "sign", "unit"])
    if way in ("misspell", "rename", "add") and not isinstance(owner, dict):
        way = "value"
    if way == "value":
        owner[key] = chance.choice(HOSTILE)
        return Mutation(f"{path} = {owner[key]!r:.40}", path, changed)
    if way == "delete":
        del owner[key]
    elif way in ("misspell", "rename"):
        new = chance.choice(NAMES) if way == "rename" else key + chance.choice("xs_") if len(key) < 2 else key[:-1]
        renamed = {new if k == key else k: v for k, v in owner.items()}
        owner.clear()
        owner.update(renamed)
        return Mutation(f"{path} renamed {new!r:.30}", path, changed)
    elif way == "add":
        owner[chance.choice([*NAMES, "T", "rate", "volume"])] = chance.choice(HOSTILE)
    else:
        value = owner[key]
        if isinstance(value, str) and way == "unit":
            number = value.split(" ")[0]
            owner[key] = f"{number} {chance.choice(['kg', 'm', '1/min', 'degC', 'L/mol/min', 'mol/L', 'W', 'bar'])}"
        elif isinstance(value, str):
            owner[key] = f"-{value}"
        elif isinstance(value, int | float) and not isinstance(value, bool):
            owner[key] = -value if way == "sign" else value * 1e9
    return Mutation(f"{way} {path}", path, changed)


def as_toml(value: Any) -> str:
    """A value in one line of TOML."""
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{json.dumps(k)} = {as_toml(v)}" for k, v in value.items()) + " }"
    if isinstance(value, list):
        return f"[{', '.join(as_toml(v) for v in value)}]"
    return json.dumps(value) if isinstance(value, str | bool) else repr(value)


class Timeout(Exception):
    """Something took longer than it may."""


def _too_long(*_: object) -> None:
    raise Timeout(f"longer than {LIMIT} s")


def faults_of(mutation: Mutation, name: str, folder: Path, does_run: bool = True) -> tuple[str, str]:
    """What `check` and the commands made of a mutated job: 'refused', 'ran' or 'unsolved', or 'FAULT' and what it is."""
    path = folder / f"{name}.toml"
    path.write_text("\n".join(f"{json.dumps(k)} = {as_toml(v)}" for k, v in mutation.job.items()), encoding="utf-8")
    signal.signal(signal.SIGALRM, _too_long)
    stage = "check"
    try:
        signal.alarm(LIMIT)
        try:
            job = load_job(path)
        except InputError as error:
            for fault in error.faults:
                if not fault.what or not fault.advice or not fault.where:
                    return (
                        "FAULT",
                        f"check: no place or remedy: {fault.where!r:.60}: {fault.what[:80]!r} -> {fault.advice!r:.40}",
                    )
            return ("refused", "") if error.faults else ("FAULT", "check: refused without a word")
        if not does_run:
            return "accepted", ""
        for stage in commands_for(mutation.path, job):
            signal.alarm(LIMIT)
            single = stage == "run" and _is_vessel(mutation.path, job)
            COMMANDS[stage].do(only(job, "run", [mutation.path[1]]) if single else job, True)
    except InputError as error:
        return "FAULT", f"{stage} refused: {str(error)[:150]!r}"
    except MolinoError:
        return "unsolved", ""
    except Timeout:
        return "FAULT", f"{stage}: hang"
    except BaseException as error:
        place = traceback.extract_tb(error.__traceback__)[-1]
        return (
            "FAULT",
            f"{stage}: {type(error).__name__}: {str(error)[:80]} ({Path(place.filename).name}:{place.lineno})",
        )
    finally:
        signal.alarm(0)
    return "ran", ""


def _is_vessel(path: tuple[Any, ...], job: Job) -> bool:
    return path[0] == "vessels" and len(path) > 1 and path[1] in job.vessels


def commands_for(path: tuple[Any, ...], job: Job) -> list[str]:
    """The commands that what was changed concerns; of the rest one that is quick."""
    has = {
        "fit": job.fits or job.lines,
        "run": job.vessels,
        "size": job.sizes,
        "compare": job.compares,
        "sweep": job.sweeps,
        "optimize": job.optimizations,
    }
    wanted = {"fit": ["fit"], "data": ["fit"], "size": ["size"], "compare": ["compare"], "sweep": ["sweep"], "optimize": ["optimize"],
              "profile": ["run"], "figures": ["run"], "vessels": ["run", "size", "sweep"]}.get(path[0], ["size", "sweep"])  # fmt: skip
    waits = path[0] == "vessels" and len(path) > 1 and getattr(job.vessels.get(path[1]), "_needs_size", False)
    return [command for command in wanted if has[command] and not (command == "run" and waits)]


def campaign(seed: int, count: int, does_run: bool = True) -> tuple[Counter[str], dict[str, list[str]]]:
    """So many mutated jobs: how many were refused, ran and could not be solved; and the faults, with what caused each."""
    warnings.simplefilter("ignore")
    drawn, originals = ResultsFolder.figure, jobs()
    ResultsFolder.figure = lambda self, figure, *parts: None  # type: ignore[method-assign,assignment]
    chance, ended, found = random.Random(seed), Counter[str](), dict[str, list[str]]()
    try:
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            for name in ("cob-liquor.csv", "cob-reactions.toml"):
                shutil.copy(DEMO / name, folder)
            for _ in range(count):
                name = chance.choice([*originals])
                mutation = mutate(originals[name], chance)
                how, fault = faults_of(mutation, name, folder, does_run)
                ended[how] += 1
                if fault:
                    found.setdefault(fault, []).append(f"{name} {mutation.text}")
    finally:
        ResultsFolder.figure = drawn  # type: ignore[method-assign]
    return ended, found


def main(count: int, first: int = 0) -> None:
    each = 250
    ended, faults = Counter[str](), dict[str, list[str]]()
    with ProcessPoolExecutor(2) as pool:
        for one, more in pool.map(campaign, range(first, first + count // each), [each] * (count // each)):
            ended += one
            for fault, causes in more.items():
                if fault not in faults:
                    print(fault, causes[0], flush=True)
                faults.setdefault(fault, []).extend(causes)
            print(json.dumps(dict(ended)), flush=True)
    for fault, causes in sorted(faults.items(), key=lambda pair: -len(pair[1])):
        print(f"{len(causes):4d}  {fault}\n        {causes[0]}")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 20_000, int(sys.argv[2]) if len(sys.argv) > 2 else 0)
