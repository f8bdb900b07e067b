"""Types that annotations share."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, TypeAlias

PlainData: TypeAlias = dict[str, Any]
"""Plain data by name: texts, numbers, None, and lists and mappings of these; for JSON and TOML."""
ByName: TypeAlias = Mapping[str, Any]
"""Values by name, such as conditions or the fields of a table."""
