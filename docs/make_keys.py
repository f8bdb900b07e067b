"""Write the pages of the keys and the commands: .venv/bin/python docs/make_keys.py"""

from __future__ import annotations

from pathlib import Path

from molino.desk.cli import COMMANDS
from molino.desk.cli.reference import commands_page
from molino.desk.job.reference import keys_page

PAGE = Path(__file__).parent / "job-keys.md"
COMMANDS_PAGE = PAGE.with_name("commands.md")

if __name__ == "__main__":
    PAGE.write_text(keys_page(), encoding="utf-8")
    COMMANDS_PAGE.write_text(commands_page(COMMANDS), encoding="utf-8")
