"""What the documentation site adds to the pages of this folder: the reference of the public names, and files from
elsewhere in the project that pages link to."""

from __future__ import annotations

import re
from operator import attrgetter
from pathlib import Path
from typing import TYPE_CHECKING, Any

import molino
from molino._public import listed

if TYPE_CHECKING:
    from mkdocs.structure.files import Files

ROOT = Path(__file__).parents[1]
TOPICS = {
    "chemistry": (
        "Chemistry",
        ("core.chemistry", "core.thermo"),
        "Species, reactions, rate laws and constants.",
    ),
    "vessels": (
        "Vessels",
        (
            "core.vessels",
            "core.contents",
            "core.terms",
            "core.runs",
            "core.contract",
            "core.trains",
            "core.safety",
        ),
        "Vessels, feeds, heat, catalysts and walls, their runs and metrics, trains and heat safety.",
    ),
    "mixing": (
        "Mixing",
        ("core.mixing",),
        "Tracer tests, residence times, models of flow, conversions from them.",
    ),
    "fields": (
        "Fields",
        ("core.fields",),
        "Laminar pipes and slits, basins in two dimensions.",
    ),
    "fitting": (
        "Fitting",
        ("core.fitting",),
        "From measurements to constants with intervals.",
    ),
    "design": ("Design", ("core.design",), "Sizes, comparisons, sweeps and optima."),
    "files": (
        "Files and figures",
        ("desk",),
        "Tables, jobs and libraries in, figures out.",
    ),
    "errors": (
        "Errors and checks",
        ("core.errors", "core.checks", "core.units", "core.display"),
        "The errors, when each is raised, and the checks of results.",
    ),
}
"""The pages of the reference: title, where the names on it live, and what it is about."""
_OUTSIDE = re.compile(r"\]\((?:\.\./)+((?:src|examples|tests)/[^)#]+|[A-Z]+\.md)\)")
_FORMULA = re.compile(r"\$([^$\n]+)\$")
_INSIDE = re.compile(r"\]\(docs/([^)]+)\)")


def names_on(page: str) -> list[str]:
    """The public names of a page of the reference."""
    homes = TOPICS[page][1]
    whole = tuple(f"molino.{home}" for home in homes)
    return [name for name, home in listed().items() if home.startswith(whole)]


def members_of(cls: type) -> list[str]:
    """The methods and properties of a class that its users call, those of its bases first."""
    found: list[str] = []
    for owner in reversed(cls.__mro__):
        if owner.__module__.startswith("molino"):
            found += [
                name
                for name, held in vars(owner).items()
                if not name.startswith("_")
                and (callable(held) or hasattr(held, "__get__"))
            ]
    fields = getattr(cls, "__dataclass_fields__", {})
    return [name for name in dict.fromkeys(found) if name not in fields]


def reference_page(page: str) -> str:
    """A page of the reference as Markdown."""
    title, _, about = TOPICS[page]
    parts = [
        f"# {title}",
        about,
        "`import molino as mo`, then `mo.NAME` as the headings say.",
    ]
    for name in names_on(page):
        held = attrgetter(name)(molino)
        block = f"## mo.{name}\n\n::: {listed()[name]}.{name.rpartition('.')[2]}"
        if isinstance(held, type):
            members = members_of(held)
            inherited = "\n      inherited_members: true" if members else ""
            block += f"\n    options:\n      members: {members or 'false'}{inherited}"
        parts.append(block)
    parts += ["## mo.figures", "::: molino.desk.figures"] if page == "files" else []
    return "\n\n".join(parts) + "\n"


def linked_files() -> dict[str, Path]:
    """Files outside of this folder that its pages link to, by their place in the site."""
    found = {
        f"files/{name}": ROOT / name for name in ("CONTRIBUTING.md", "CHANGELOG.md")
    }
    pages = [*(ROOT / "docs").rglob("*.md"), *found.values()]
    for page in pages:
        for target in re.findall(
            r"\]\((?:\.\./)*((?:src|examples|benchmarks)/[^)#]+)\)",
            page.read_text("utf-8"),
        ):
            if (ROOT / target).is_file():
                found[f"files/{Path(target).name}"] = ROOT / target
    return found


def on_files(files: Files, config: Any) -> Files:
    """Add the reference and the linked files."""
    from mkdocs.structure.files import File

    for page in TOPICS:
        files.append(
            File.generated(config, f"reference/{page}.md", content=reference_page(page))
        )
    for place, path in linked_files().items():
        files.append(File.generated(config, place, content=path.read_bytes()))
    return files


def _typeset(markdown: str) -> str:
    """Formulas between dollar signs as MathML, except in code."""
    from latex2mathml.converter import convert

    parts = re.split(r"(```.*?```|`[^`\n]*`)", markdown, flags=re.DOTALL)
    return "".join(
        p if n % 2 else _FORMULA.sub(lambda m: f"<span>{convert(m[1])}</span>", p)
        for n, p in enumerate(parts)
    )


def on_page_markdown(markdown: str, page: Any, **_: Any) -> str:
    """Formulas are typeset; links to files elsewhere in the project lead to their copies in the site."""
    markdown = _typeset(markdown)
    up = "../" * page.file.src_uri.count("/")
    if page.file.src_uri.startswith("files/"):
        markdown = _INSIDE.sub(lambda m: f"]({up}{m[1]})", markdown)
        markdown = re.sub(
            r"\]\(((?:src|examples|benchmarks)/[^)#]+)\)",
            lambda m: f"]({Path(m[1]).name})",
            markdown,
        )
    return _OUTSIDE.sub(lambda m: f"]({up}files/{Path(m[1]).name})", markdown)
