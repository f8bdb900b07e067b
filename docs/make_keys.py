"""Write the page of keys from the schema: .venv/bin/python docs/make_keys.py"""

from __future__ import annotations

from pathlib import Path

from molino.desk.job.reference import keys_page

PAGE = Path(__file__).parent / "job-keys.md"

if __name__ == "__main__":
    PAGE.write_text(keys_page(), encoding="utf-8")
