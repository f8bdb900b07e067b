"""A small user's project, which `make check` holds against `mypy --strict`: the types of the public names are whole."""

from pathlib import Path

import molino as mo


def coil_for(conversion: float, flow: str = "12 m3/h") -> mo.results.Sizing:
    """The coil of the mill for a conversion of xylose."""
    chemistry = mo.Chemistry(mo.Reaction("A -> B", k=mo.Arrhenius(k="0.2 1/min", at="350 K", Ea="60 kJ/mol")))
    feed = mo.Feed({"A": "1 mol/L"}, flow=flow, T="360 K")
    tube = mo.PlugFlow(chemistry, feed, diameter="80 mm", tubes=4, name="coil")
    return mo.size(tube, "conversion of A", conversion)


def report_on(path: Path) -> Path:
    """Sizes for some conversions, as a page."""
    sizes = [coil_for(conversion) for conversion in (0.8, 0.9)]
    lengths: list[float] = [size.value for size in sizes]
    compared: mo.results.Comparison = mo.compare(sizes, ["conversion of A"])
    swept = mo.sweep(sizes[0].run.vessel, {"flow": mo.span("8 m3/h", "16 m3/h", 3)}, [mo.results.conversion("A")])
    if max(lengths) > 1e3:
        raise mo.InputError("the coil is too long", "report_on", "take more tubes")
    return mo.report([*sizes, compared, swept], path, title="Coils")


if __name__ == "__main__":
    print(report_on(Path("coils.html")))
