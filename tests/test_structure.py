"""The rules of the source: no module reads a private name of another, asks for a concrete vessel, or imports in a
circle."""

from __future__ import annotations

import ast
from collections import defaultdict
from collections.abc import Iterator
from functools import cache
from graphlib import CycleError, TopologicalSorter
from pathlib import Path

SOURCE = Path(__file__).parents[1] / "src"
VESSELS = {
    "Batch", "SemiBatch", "StirredTank", "PlugFlow", "DispersedTube", "BubbleColumn", "LaminarTube", "Basin",
    "AtConversion", "AtEquilibrium", "Train",
}  # fmt: skip
OWN = {"vessels", "fields", "trains"}
"""The folders of the vessels themselves."""


@cache
def trees() -> dict[str, ast.Module]:
    """Every module of the source, by its name."""
    found = {}
    for path in SOURCE.rglob("*.py"):
        name = ".".join(path.relative_to(SOURCE).with_suffix("").parts).removesuffix(".__init__")
        found[name] = ast.parse(path.read_text(encoding="utf-8"))
    return found


def own_names(tree: ast.Module) -> set[str]:
    """The names that a module defines, its attributes and fields included."""
    found = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef | ast.ClassDef):
            found.add(node.name)
        elif isinstance(node, ast.Attribute) and isinstance(node.ctx, ast.Store):
            found.add(node.attr)
        elif isinstance(node, ast.AnnAssign) and isinstance(node.target, ast.Name):
            found.add(node.target.id)
    return found


def private_reads(tree: ast.Module) -> Iterator[str]:
    """The private names that are read of objects of other modules."""
    known = own_names(tree)
    for node in ast.walk(tree):
        if isinstance(node, ast.Attribute) and node.attr.startswith("_") and not node.attr.startswith("__"):
            is_own = isinstance(node.value, ast.Name) and node.value.id in ("self", "cls")
            if not is_own and node.attr not in known:
                yield f"line {node.lineno}: {ast.unparse(node)}"


def test_no_module_reads_a_private_name_of_another() -> None:
    """Other modules are read through public names alone: of a vessel, its specification."""
    found = {name: reads for name, tree in trees().items() if (reads := [*private_reads(tree)])}
    assert not found


def test_no_module_asks_for_a_concrete_vessel() -> None:
    """Whoever adds a vessel writes its specification and touches nothing else."""
    found = [
        f"{name}, line {node.lineno}: {ast.unparse(node)}"
        for name, tree in trees().items()
        if not OWN & {*name.split(".")}
        for node in ast.walk(tree)
        if isinstance(node, ast.Call) and getattr(node.func, "id", "") in ("isinstance", "issubclass")
        if VESSELS & {n.id for n in ast.walk(node.args[1]) if isinstance(n, ast.Name)}
    ]
    assert not found


def test_no_modules_import_each_other_in_a_circle() -> None:
    """Also not for the types of annotations alone."""
    known, edges = trees(), defaultdict[str, set[str]](set)
    for name, tree in known.items():
        for node in ast.walk(tree):
            if isinstance(node, ast.ImportFrom) and node.module:
                for alias in node.names:
                    module = f"{node.module}.{alias.name}"
                    module = module if module in known else node.module
                    if module in known and module != name and known[module].body:
                        edges[name].add(module)
    try:
        TopologicalSorter(edges).prepare()
    except CycleError as error:
        raise AssertionError(" -> ".join(error.args[1])) from None
