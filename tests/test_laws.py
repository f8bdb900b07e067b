"""A few problems of every law; `make laws N=20000` tries many."""

from __future__ import annotations

import numpy as np
import pytest
from tests.laws.laws import LAWS

SLOW = {"an arrangement is no worse than those it contains": 1}


@pytest.mark.parametrize("name", LAWS)
def test_law_holds_for_random_problems(name: str) -> None:
    for seed in range(SLOW.get(name, 5)):
        LAWS[name](np.random.default_rng([seed, *name.encode()]))
