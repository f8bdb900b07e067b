"""A few problems of every law; `make laws N=20000` tries many."""

from __future__ import annotations

from importlib.util import find_spec

import numpy as np
import pytest
from tests.laws.laws import LAWS

from molino.core.balances.machine.choice import ACCOUNT

SLOW = {"an arrangement is no worse than those it contains": 1}


@pytest.mark.parametrize("name", LAWS)
def test_law_holds_for_random_problems(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Every second problem in machine code, where it is installed."""
    for seed in range(SLOW.get(name, 5)):
        in_machine_code = seed % 2 == 1 and find_spec("numba") is not None
        monkeypatch.setattr(ACCOUNT, "is_installed", in_machine_code)
        monkeypatch.setattr(ACCOUNT, "is_asked", in_machine_code)
        LAWS[name](np.random.default_rng([seed, *name.encode()]))
