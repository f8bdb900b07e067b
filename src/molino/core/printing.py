"""How results show themselves in a notebook: as they print."""

from __future__ import annotations

import html


class Printed:
    """Gives a notebook what `print` gives a terminal."""

    def _repr_html_(self) -> str:
        return f"<pre>{html.escape(str(self))}</pre>"
