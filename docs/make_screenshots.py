"""Make the pictures in docs/screenshots from the demo: the figures as they are, the commands as a terminal shows them.

python docs/make_screenshots.py        (or: make docs-shots)
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from matplotlib.figure import Figure
from PIL import Image

HERE = Path(__file__).parent / "screenshots"
COMMANDS = ("check", "fit", "run", "size", "recommend", "optimize")
FIGURES = {
    "fit-kinetics.png": "figure-fit.png",
    "run-coil.png": "figure-profile.png",
    "attainable-liquor.png": "figure-attainable.png",
}


ETHER = {"optimize-graded": "optimal-profile", "equilibrium-beds": "equilibrium"}


def terminal(words: list[str], folder: Path, target: Path) -> None:
    """Draw what a command prints, in a fixed-width face on a dark ground, 1280 points wide."""
    environment = {**os.environ, "COLUMNS": "120", "NO_COLOR": "1", "PYTHONUTF8": "1"}
    message = subprocess.run([sys.executable, "-m", "molino", *words], cwd=folder, env=environment, capture_output=True,
                          text=True, check=True).stdout  # fmt: skip
    lines = [
        "$ molino " + " ".join(words),
        *(line.rstrip() for line in message.splitlines()),
    ]
    height = max(300, 19 * len(lines) + 40)
    figure = Figure(figsize=(12.8, height / 100), dpi=100, facecolor="#101418")
    for i, line in enumerate(lines):
        weight = "bold" if i == 0 else "normal"
        shown = line.replace("$", r"\$")
        figure.text(0.012, 1 - (24 + 19 * i) / height, shown, family="DejaVu Sans Mono", size=9.6, color="#e6e6e6",
                    va="center", weight=weight)  # fmt: skip
    figure.savefig(target)


def smaller(source: Path, target: Path) -> None:
    """A figure 1280 points wide."""
    with Image.open(source) as picture:
        picture.resize(
            (1280, round(1280 * picture.height / picture.width)),
            Image.Resampling.LANCZOS,
        ).save(target)


def whole_way(results: Path, target: Path) -> None:
    """Four figures of the demo as the steps from data to decision."""
    steps = {"measured, fitted": "fit-kinetics.png", "a vessel, integrated": "run-coil.png",
             "vessels compared": "compare-plant.png", "decided": "optimize-furfural.png"}  # fmt: skip
    figure = Figure(figsize=(12.8, 8), dpi=100, facecolor="white")
    for n, (words, name) in enumerate(steps.items()):
        row, column = divmod(n, 2)
        axes = figure.add_axes(
            (0.015 + 0.5 * column, 0.02 + 0.5 * (1 - row), 0.47, 0.43)
        )
        axes.imshow(Image.open(results / name))
        axes.axis("off")
        figure.text(
            0.02 + 0.5 * column,
            0.475 + 0.5 * (1 - row),
            f"{n + 1}  {words}",
            size=13,
            weight="bold",
        )
    figure.savefig(target)


def page(report: Path, target: Path, script: str = "") -> None:
    """A page in a browser of 1280 by 800 points, where there is one, after a script."""
    browser = shutil.which("chromium") or shutil.which("google-chrome")
    if browser is None:
        print(f"no browser here: {target.name} stays as it is")
        return
    shown = report.with_name(f"{target.stem}.html")
    text = report.read_text(encoding="utf-8")
    shown.write_text(
        text.replace("</body>", f"<script>{script}</script></body>"), encoding="utf-8"
    )
    subprocess.run(
        [browser, "--headless", "--no-sandbox", "--disable-gpu", "--disable-background-networking", "--hide-scrollbars",
         f"--user-data-dir={report.parent / 'browser'}", "--window-size=1280,800", "--virtual-time-budget=3000",
         f"--screenshot={target}", shown.as_uri()], check=True, capture_output=True,
    )  # fmt: skip


_EXPLORED = (
    "document.documentElement.dataset.look = 'dark';"
    "const explorer = document.querySelector('.explorer');"
    "const main = document.querySelector('main');"
    "main.replaceChildren(explorer.closest('section'));"
    "main.querySelectorAll('figure, details, .tools').forEach((one) => one.remove());"
)
"""What shows the control of a sweep alone, on a dark page."""


def main() -> None:
    HERE.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        subprocess.run(
            [sys.executable, "-m", "molino", "demo", "mill"],
            cwd=folder,
            capture_output=True,
            check=True,
        )
        for name, target in FIGURES.items():
            smaller(folder / "mill" / "results" / "valdeoro" / name, HERE / target)
        whole_way(folder / "mill" / "results" / "valdeoro", HERE / "way.png")
        words = ["report", "valdeoro.toml", "--output", "report.html"]
        subprocess.run(
            [sys.executable, "-m", "molino", *words],
            cwd=folder / "mill",
            capture_output=True,
            check=True,
        )
        page(folder / "mill" / "report.html", HERE / "report.png")
        page(folder / "mill" / "report.html", HERE / "report-explorer.png", _EXPLORED)
        for command in COMMANDS:
            terminal(
                [command, "valdeoro.toml"],
                folder / "mill",
                HERE / f"molino-{command}.png",
            )
        terminal(
            ["orders", "cob-liquor.csv", "--species", "xylose"],
            folder / "mill",
            HERE / "molino-orders.png",
        )
        tracer = ["tracer", "cooker-tracer.csv", "--volume", "6 m3", "--flow", "12 m3/h", "--injected", "1.5 kg",
                  "--calibration", "0.55 g/L", "--baseline", "-5 min:-0.5 min",
                  "--baseline", "320 min:360 min"]  # fmt: skip
        subprocess.run(
            [sys.executable, "-m", "molino", *tracer],
            cwd=folder / "mill",
            capture_output=True,
            check=True,
        )
        smaller(
            folder / "mill" / "results" / "cooker-tracer" / "tracer.png",
            HERE / "figure-tracer.png",
        )
        ether = ["demo", "ether", "--example", "ether"]
        subprocess.run(
            [sys.executable, "-m", "molino", *ether],
            cwd=folder,
            capture_output=True,
            check=True,
        )
        basin = ["demo", "basin", "--example", "basin"]
        subprocess.run(
            [sys.executable, "-m", "molino", *basin],
            cwd=folder,
            capture_output=True,
            check=True,
        )
        smaller(
            folder / "basin" / "results" / "basin" / "field-walled.png",
            HERE / "figure-field.png",
        )
        terminal(
            ["field", "basin.toml", "--only", "walled"],
            folder / "basin",
            HERE / "molino-field.png",
        )
        for name, target in ETHER.items():
            smaller(
                folder / "ether" / "results" / "ether" / f"{name}.png",
                HERE / f"figure-{target}.png",
            )
        resin = ["demo", "resin", "--example", "resin"]
        subprocess.run(
            [sys.executable, "-m", "molino", *resin],
            cwd=folder,
            capture_output=True,
            check=True,
        )
        safety = folder / "resin" / "results" / "resin" / "run-kettle-heat-safety.png"
        smaller(safety, HERE / "figure-heat-safety.png")


if __name__ == "__main__":
    main()
