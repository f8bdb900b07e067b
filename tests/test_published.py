"""Published regression problems: certified values, and schemes of the literature from starts a factor of five away."""

from __future__ import annotations

import numpy as np
import pytest

import molino as mo

# National Institute of Standards and Technology, Statistical Reference Datasets, nonlinear regression: dental research
# monomolecular adsorption (x, y), and biochemical oxygen demand (G. E. P. Box, W. G. Hunter, J. S. Hunter, 1978).
MONO_X = [77.6, 114.9, 141.1, 190.8, 239.9, 289.0, 332.8, 378.4, 434.8, 477.3, 536.8, 593.1, 689.1, 760.0]
MONO_Y = [10.07, 14.73, 17.94, 23.93, 29.61, 35.18, 40.02, 44.82, 50.76, 55.05, 61.01, 66.40, 75.47, 81.78]
DEMAND = ([1, 2, 3, 5, 7, 10], [109, 149, 149, 191, 213, 224])
CERTIFIED = {  # data, guesses, (value, standard error) of amplitude and constant, sum of squares
    "adsorption": ((MONO_X, MONO_Y), (500.0, 1e-4), (2.3894212918e02, 2.7070075241e00),
                   (5.5015643181e-04, 7.2668688436e-06), 1.2455138894e-01),
    "adsorption, near": ((MONO_X, MONO_Y), (250.0, 5e-4), (2.3894212918e02, 2.7070075241e00),
                         (5.5015643181e-04, 7.2668688436e-06), 1.2455138894e-01),
    "oxygen demand": (DEMAND, (100.0, 0.75), (2.1380940889e02, 1.2354515176e01), (5.4723748542e-01, 1.0455993237e-01),
                      1.1680088766e03),
}  # fmt: skip


@pytest.mark.parametrize("name", CERTIFIED)
def test_first_order_with_an_unknown_start_meets_the_certified_values(name: str) -> None:
    """y = b1 (1 - exp(-b2 x)) is the product of A -> B from an unknown charge."""
    (x, y), (start, k), amplitude, constant, squares = CERTIFIED[name]
    run = mo.Experiment("1", x, {"B": y}, {"A": start})
    found = mo.fit(mo.Chemistry(mo.Reaction("A -> B", k=mo.Unknown(k))), run, fit_initial=["A"], errors="same")
    for estimate, (value, error) in ((found["start A, 1"], amplitude), (found["r1.k"], constant)):
        assert estimate.value == pytest.approx(value, rel=5e-10)
        assert estimate.standard_error == pytest.approx(error, rel=5e-8)
    assert found.sum_of_squares == pytest.approx(squares, rel=1e-9)


@pytest.mark.parametrize("guess", [(500.0, 1e-4), (450.0, 3e-4), (80.0, 1.5e-3)])
def test_saturation_meets_the_certified_values(guess: tuple[float, float]) -> None:
    """y = b1 b2 x / (1 + b2 x) as a rate law on rates."""
    law = mo.Reaction("A -> B", rate="a*b*[A]/(1 + b*[A])", a=mo.Unknown(guess[0]), b=mo.Unknown(guess[1]))
    found = mo.fit(mo.Chemistry(law), mo.Rates(np.array(MONO_Y), {"A": np.array(MONO_X)}))
    assert found["r1.a"].value == pytest.approx(4.3736970754e02, rel=5e-10)
    assert found["r1.b"].value == pytest.approx(3.0227324449e-04, rel=5e-10)
    assert found["r1.a"].standard_error == pytest.approx(3.6489174345e00, rel=5e-8)
    assert found["r1.b"].standard_error == pytest.approx(2.9334354479e-06, rel=5e-8)
    assert found.sum_of_squares == pytest.approx(5.6419295283e-02, rel=1e-9)


FACTORS = [(5.0,) * 5, (0.2,) * 5, (5.0, 0.2, 5.0, 0.2, 5.0), (0.2, 5.0, 0.2, 5.0, 0.2)]


@pytest.mark.parametrize("factors", FACTORS)
def test_thermal_isomerisation_of_a_terpene(factors: tuple[float, ...]) -> None:
    """Five constants, five responses (G. E. P. Box, W. G. Hunter, J. F. MacGregor, J. Erjavec, Technometrics 15
    (1973) 33; data of R. E. Fuguitt, J. E. Hawkins, J. Am. Chem. Soc. 69 (1947) 319). Least squares 19.872."""
    times = [1230, 3060, 4920, 7800, 10680, 15030, 22620, 36420]
    measured = {
        "A": [88.35, 76.4, 65.1, 50.4, 37.5, 25.9, 14.0, 4.5],
        "B": [7.3, 15.6, 23.1, 32.9, 42.7, 49.1, 57.4, 63.1],
        "C": [2.3, 4.5, 5.3, 6.0, 6.0, 5.9, 5.1, 3.8],
        "D": [0.4, 0.7, 1.1, 1.5, 1.9, 2.2, 2.6, 2.9],
        "E": [1.75, 2.8, 5.8, 9.3, 12.0, 17.0, 21.0, 25.7],
    }
    best = np.array([5.93e-5, 2.96e-5, 2.05e-5, 27.5e-5, 4.00e-5])
    k = [mo.Unknown(float(g)) for g in best * factors]
    scheme = mo.Chemistry(
        [
            mo.Reaction("A -> B", name="1", k=k[0]),
            mo.Reaction("A -> C", name="2", k=k[1]),
            mo.Reaction("C -> D", name="3", k=k[2]),
            mo.Reaction("C <-> E", rate="k*[C] - back*[E]", name="4", k=k[3], back=k[4]),
        ]
    )
    found = mo.fit(scheme, mo.Experiment("1", times, measured, {"A": 100.0}), errors="same")
    assert list(found.values.values()) == pytest.approx(best.tolist(), rel=3e-3)
    assert found.sum_of_squares == pytest.approx(19.872, abs=5e-4)


@pytest.mark.parametrize("factor", [5.0, 0.2])
def test_cracking_of_gas_oil(factor: float) -> None:
    """Three constants (data as in I.-B. Tjoa, L. T. Biegler, Ind. Eng. Chem. Res. 30 (1991) 376). Least squares
    5.2366e-3."""
    times = [
        0.025,
        0.05,
        0.075,
        0.1,
        0.125,
        0.15,
        0.175,
        0.2,
        0.225,
        0.25,
        0.3,
        0.35,
        0.4,
        0.45,
        0.5,
        0.55,
        0.65,
        0.75,
        0.85,
        0.95,
    ]
    oil = [
        0.8105,
        0.6208,
        0.5258,
        0.4345,
        0.3903,
        0.3342,
        0.3034,
        0.2735,
        0.2405,
        0.2283,
        0.2071,
        0.1669,
        0.1530,
        0.1339,
        0.1265,
        0.1200,
        0.0990,
        0.0870,
        0.0770,
        0.0690,
    ]
    fuel = [
        0.2,
        0.2886,
        0.3010,
        0.3215,
        0.3123,
        0.2716,
        0.2551,
        0.2258,
        0.1959,
        0.1789,
        0.1457,
        0.1198,
        0.0909,
        0.0719,
        0.0561,
        0.0460,
        0.0280,
        0.0190,
        0.0140,
        0.0100,
    ]
    scheme = mo.Chemistry(
        [
            mo.Reaction("oil -> fuel", rate="k*[oil]^2", name="1", k=mo.Unknown(12.0 * factor)),
            mo.Reaction("fuel -> gas", name="2", k=mo.Unknown(8.0 * factor)),
            mo.Reaction("oil -> gas", rate="k*[oil]^2", name="3", k=mo.Unknown(2.0 * factor)),
        ]
    )
    found = mo.fit(scheme, mo.Experiment("1", times, {"oil": oil, "fuel": fuel}, {"oil": 1.0}), errors="same")
    assert list(found.values.values()) == pytest.approx([11.847, 8.345, 1.001], abs=6e-4)
    assert found.sum_of_squares == pytest.approx(5.2366e-3, rel=1e-5)
