"""Write the balances that each vessel prints into its page: .venv/bin/python docs/make_equations.py

A test holds the pages against what the vessels print now.
"""

from __future__ import annotations

import re
from pathlib import Path

import molino as mo

HERE = Path(__file__).parent
REACTION = {
    "k": mo.Arrhenius(k="0.2 1/min", at="330 K", Ea="85 kJ/mol"),
    "enthalpy": "-80 kJ/mol",
    "name": "r",
}
WATERY = {"heat_capacity": "4.2 MJ/m3/K"}


def examples() -> dict[str, mo.Batch | mo.StirredTank | mo.PlugFlow | mo.SemiBatch]:
    """One vessel for each block, by the name that the block carries."""
    chem = mo.Chemistry(mo.Reaction("A -> B", **REACTION))
    liquid = mo.Feed({"A": "2 mol/L"}, flow="100 L/min", T="330 K", **WATERY)
    species = [mo.Species(s, "C2H6O", heat_capacity=80.0) for s in "AB"]
    gas = mo.Chemistry(
        mo.Reaction(
            "A -> B", basis="catalyst mass", **{**REACTION, "k": "1e-4 m3/kg/s"}
        ),
        species=species,
    )
    vapour = mo.Feed({"A": "100 mol%"}, flow="2 kmol/h", T="500 K", P="3 bar")
    bed = mo.Catalyst(bulk_density="850 kg/m3", voidage=0.4, particle_diameter="3 mm")
    drop = mo.PressureDrop("0.02 mPa*s")
    dose = {
        "acid": mo.Dosing(
            mo.Feed({"A": "4 mol/L"}, flow="5 L/min", T="300 K"),
            windows=[("0 min", "30 min")],
        )
    }
    fizz = mo.Chemistry(mo.Reaction("A + H2 -> B", k="0.05 L/mol/s", name="r"))
    bubbles = mo.GasPhase(mo.Feed({"H2": "100 mol%"}, flow="2 mol/s", P="10 bar", T="330 K"), "0.2 1/s",
                          {"H2": "1300 bar*L/mol"})  # fmt: skip
    wall = mo.Jacket("300 K", UA="3 kW/K")
    return {
        "batch": mo.Batch(chem, {"A": "1 mol/L"}, T="330 K", heat=wall, **WATERY),
        "semi-batch": mo.SemiBatch(chem, {"B": "1 mol/L"}, dose, T="330 K", heat=wall, capacity="2 m3", **WATERY),
        "stirred-tank": mo.StirredTank(chem, liquid, volume="1 m3", heat=wall),
        "gas-liquid": mo.StirredTank(fizz, liquid, volume="1 m3", T="330 K", gas=bubbles),
        "plug-flow": mo.PlugFlow(gas, vapour, diameter="50 mm", length="3 m", catalyst=bed, pressure_drop=drop,
                                 heat=mo.Jacket("480 K", U="60 W/m2/K", flow="2 kW/K")),
    }  # fmt: skip


def block(name: str) -> str:
    """The printed balances of one example as a block of a page."""
    return f"<!-- equations {name} -->\n```text\n{examples()[name].equations()}\n```\n<!-- end -->"


def filled(text: str) -> str:
    """A page with its blocks as the vessels print them now."""
    return re.sub(
        r"<!-- equations ([\w-]+) -->.*?<!-- end -->",
        lambda m: block(m[1]),
        text,
        flags=re.DOTALL,
    )


if __name__ == "__main__":
    for page in sorted((HERE / "vessels").glob("*.md")):
        page.write_text(filled(page.read_text(encoding="utf-8")), encoding="utf-8")
