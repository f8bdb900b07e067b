"""Molino: from a table of measured concentrations to a reactor that can be built.

    import molino as mo

Each name is loaded on first use, so that importing the package stays light; `__init__.pyi` lists them.
"""

from __future__ import annotations

import builtins
from typing import Any

from molino._public import attach

_load, __dir__, __all__ = attach(__name__, __file__)


def __getattr__(name: str) -> object:
    if name == "__version__":
        from importlib.metadata import version

        return version("molino")
    return _load(name)


if hasattr(builtins, "__IPYTHON__"):  # a notebook, or IPython in a terminal
    from molino.desk.notebook import install as _install

    _install()
