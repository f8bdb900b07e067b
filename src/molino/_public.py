"""Public names, listed once in the stub (.pyi) of each public module and loaded on first use."""

from __future__ import annotations

import ast
import importlib
import sys
from collections.abc import Callable
from pathlib import Path

SUBMODULES = ("fields", "figures", "files", "mixing", "results", "thermo")


def homes(path: str) -> dict[str, str]:
    """The names in the stub of a module, each with the module that defines it."""
    tree = ast.parse(Path(path).with_suffix(".pyi").read_text(encoding="utf-8"))
    imports = [node for node in tree.body if isinstance(node, ast.ImportFrom) and node.module != "molino"]
    return {alias.name: str(node.module) for node in imports for alias in node.names}


def listed() -> dict[str, str]:
    """Every public name as it is written after `mo.`, with the module that defines it."""
    here, found = Path(__file__), homes(str(Path(__file__).with_name("__init__.py")))
    for submodule in SUBMODULES:
        for path in (here.with_name(f"{submodule}.pyi"), here.with_name(submodule) / "__init__.pyi"):
            if path.exists():
                found |= {f"{submodule}.{name}": home for name, home in homes(str(path)).items()}
    return found


def attach(module: str, path: str) -> tuple[Callable[[str], object], Callable[[], list[str]], list[str]]:
    """`__getattr__`, `__dir__` and `__all__` of a module whose names are imported on first use."""
    known = homes(path)
    more = SUBMODULES if module == "molino" else ()

    def load(name: str) -> object:
        if name in more:
            return importlib.import_module(f"{module}.{name}")
        if name not in known:
            raise AttributeError(f"module '{module}' has no attribute '{name}'{_hint(name)}")
        found = getattr(importlib.import_module(known[name]), name)
        if (core := sys.modules.get("molino.core.results")) is not None:
            core.DRAWING.draw = _draw
        setattr(sys.modules[module], name, found)
        return found

    return load, lambda: sorted({*known, *more}), [*known, *more]


def _draw(result: object, **options: object) -> object:
    """The figure of a result; Matplotlib is imported on first use."""
    return importlib.import_module("molino.desk.figures").figure_of(result, **options)


_OTHER_WORDS = {
    "CSTR": "StirredTank",
    "PFR": "PlugFlow",
    "PBR": "PlugFlow",
    "BatchReactor": "Batch",
    "Reactor": "StirredTank, PlugFlow or Batch",
    "RTD": "mixing.ResidenceTimeDistribution",
    "Stream": "Feed",
}
"""Words of the trade for what has another name here."""


def _hint(name: str) -> str:
    """The name that is meant by another word of the trade, or that lives in a submodule."""
    if name in _OTHER_WORDS:
        return f": use mo.{_OTHER_WORDS[name]}"
    for submodule in SUBMODULES:
        path = Path(__file__).with_name(f"{submodule}.pyi")
        if path.exists() and name in homes(str(path)):
            return f": it is mo.{submodule}.{name}"
    return ""
