"""The Valdeoro mill as one Python script: from the lab table to three sized reactors.

python examples/valdeoro.py
"""

from pathlib import Path

import molino as mo

folder = Path(mo.__file__).parent / "demo"
runs = mo.read_experiments(folder / "cob-liquor.csv")

formulas = {"xylose": "C5H10O5", "furfural": "C5H4O2", "water": "H2O", "resin": "C5H4O2", "acid": "H2SO4"}
chemistry = mo.Chemistry(
    [
        mo.Reaction(
            "xylose -> furfural + 3 water",
            rate="k*[xylose]*[acid]",
            name="dehydration",
            k=mo.Arrhenius(k=mo.Unknown("0.1 L/mol/min"), at="165 degC", Ea=mo.Unknown("110 kJ/mol")),
        ),
        mo.Reaction(
            "furfural -> resin",
            rate="k*[furfural]*[acid]",
            name="resin",
            k=mo.Arrhenius(k=mo.Unknown("0.01 L/mol/min"), at="165 degC", Ea=mo.Unknown("110 kJ/mol")),
        ),
    ],
    species=formulas,
)

fit = mo.fit(chemistry, runs)
print(fit, "\n")

feed = mo.Feed({"xylose": "0.35 mol/L", "acid": "0.1 mol/L"}, flow="12 m3/h", T="175 degC")
vessels = [
    mo.Batch(fit.chemistry, feed, volume="8 m3", name="cooker"),
    mo.StirredTank(fit.chemistry, feed, name="tank"),
    mo.PlugFlow(fit.chemistry, feed, diameter="80 mm", tubes=4, name="coil"),
]
sized = [mo.size(vessel, "conversion of xylose", target=0.9) for vessel in vessels]
for one in sized:
    print(one, "\n")

metrics = ["conversion of xylose", "yield of furfural on xylose", "selectivity of furfural over resin"]
compared = mo.compare(sized, metrics)
print(compared)

mo.figures.fit(fit).savefig("fit.png")
mo.figures.profile(sized[2].run).savefig("coil.png")
mo.figures.comparison(compared).savefig("plant.png")
print("\nfigures: fit.png, coil.png, plant.png")
