"""The limits of spreadsheets, and the names of the sheets that every workbook has."""

from __future__ import annotations

import re

CONTENTS, INPUTS = "Contents", "Inputs"
"""The names of the first and the last sheet."""
CELL = 32_767
"""Characters of a cell of a spreadsheet."""
ILLEGAL = re.compile(r"[\x00-\x08\x0b-\x1f\x7f]")
"""Characters that a cell cannot hold."""
