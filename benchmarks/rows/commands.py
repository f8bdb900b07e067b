"""The processor time of whole commands on the demo, against that of importing NumPy, SciPy's integrators and pandas."""

from __future__ import annotations

import os
import resource
import shutil
import subprocess
import sys
import tempfile
from functools import cache
from importlib.resources import files

from table import Pair, row

IMPORTS = ("-c", "import numpy, scipy.integrate, pandas")
FIRST = """
import molino as mo
chemistry = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
tube = mo.PlugFlow(chemistry, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L")
print(tube.run().conversion("A"))
"""


@cache
def folder() -> tempfile.TemporaryDirectory:
    """A copy of the demo; removed at the end."""
    made = tempfile.TemporaryDirectory()
    shutil.copytree(str(files("molino.demo")), made.name, dirs_exist_ok=True)
    return made


def done(*arguments: str) -> float:
    """Run Python; its compiled modules and Molino's cache are there from the first turn."""
    environment = {name: text for name, text in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    subprocess.run([sys.executable, *arguments], cwd=folder().name, env=environment, capture_output=True, check=True)
    return 0.0


def spent() -> float:
    """The processor time of all processes that this one has started."""
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    return used.ru_utime + used.ru_stime


def command(*arguments: str) -> Pair:
    return Pair(lambda turn: done(*arguments), lambda turn: done(*IMPORTS), clock=spent)


row("the first conversion in Python (over imports)", 1 / 1.3)(lambda: command("-c", FIRST))
for _name, _reach in (("check", 1.4), ("size", 2.0), ("compare", 2.2), ("run", 2.5), ("fit", 3.0)):
    row(f"molino {_name} (over imports)", 1 / _reach)(lambda name=_name: command("-m", "molino", name, "valdeoro.toml"))
