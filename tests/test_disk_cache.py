"""What is kept on disk between processes: units are resolved once; damage and a folder that cannot be written cost time only."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

SCRIPT = "import sys; from molino.core import units; print(units.read('36 m3/h').si, 'pint' in sys.modules)"


def read_in_a_process(place: Path | str) -> list[str]:
    """The SI value that a new process reads, and whether pint was needed."""
    found = subprocess.run([sys.executable, "-c", SCRIPT], env={**os.environ, "MOLINO_CACHE": str(place)},
                           capture_output=True, text=True, check=True)  # fmt: skip
    assert not found.stderr
    return found.stdout.split()


def test_a_unit_is_resolved_once(tmp_path: Path) -> None:
    assert read_in_a_process(tmp_path / "new") == ["0.01", "True"]
    (kept,) = (tmp_path / "new").iterdir()
    assert read_in_a_process(tmp_path / "new") == ["0.01", "False"]
    content = json.loads(kept.read_text())
    content["of"]["m3/h"][0] = 1.0  # a changed number does not match the sum of the file
    kept.write_text(json.dumps(content))
    assert read_in_a_process(tmp_path / "new") == ["0.01", "True"]


@pytest.mark.parametrize("damage", ["not a folder", "off", "cut"])
def test_without_a_usable_file_everything_is_derived(tmp_path: Path, damage: str) -> None:
    place = tmp_path / "cache"
    if damage == "cut":
        read_in_a_process(place)
        (kept,) = place.iterdir()
        kept.write_text(kept.read_text()[:40])
    elif damage == "not a folder":
        place.write_text("")
    assert read_in_a_process("off" if damage == "off" else place) == ["0.01", "True"]
    assert read_in_a_process("off" if damage == "off" else place)[0] == "0.01"
