"""Headings of tables: names and units in the notations of laboratories."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache

from molino.core import units
from molino.core.errors import UnitError
from molino.core.unit_tables import SI_UNITS

_CERTAIN = (
    re.compile(r"(?P<name>.*?)\s*\[(?P<unit>[^\[\]]*)\]", re.DOTALL),
    re.compile(r"(?P<name>.*?)\s+\((?P<unit>.*)\)", re.DOTALL),
)
"""Notations that are always a name with its unit: 'A [mol/L]', 'A (mol/L)'."""
_LIKELY = (
    re.compile(r"(?P<name>[^()]+)\((?P<unit>[^()]+)\)"),
    re.compile(r"(?P<name>.+?)\s*/\s*\(?(?P<unit>.+?)\)?"),
    re.compile(r"(?P<name>.+?)\s*[,;:]\s*(?P<unit>.+)"),
)
"""Notations that are so if the last part is a unit: 'A(mol/L)', 'A / mol L-1', 'A, mol/L'."""
_POSSIBLE = re.compile(r"(?P<name>.+)[\s_](?P<unit>\S+)")
"""'time min', 'A_mM': if the last part is a unit that fits the name."""
_WORDS = {
    "time": "time t zeit temps tiempo tempo|elapsed time|reaction time|sampling time|time elapsed|sample time",
    "clock time": "clock uhrzeit timestamp datetime|clock time|time of day|date time|date/time|date and time",
    "date": "date datum day",
    "temperature": "temp temp. temperature temperatur température temperatura",
    "run": "run experiment exp exp. versuch lauf essai ensayo|run no|run no.|run #|run id|run name|experiment no."
    "|experiment no|exp. no.",
    "sample": "sample no no. nr nr. # index number vial line|sample no|sample no.|sample #|sample id",
}
_AXES = {
    word: name
    for name, words in _WORDS.items()
    for group in (words.split("|")[0].split(), words.split("|")[1:])
    for word in group
}
_OF_KIND = {"time": "time", "clock time": "time", "temperature": "temperature", "T": "temperature"}
_AMOUNTS = ("concentration", "density")
_CONCENTRATION = re.compile(
    r"(?:(?i:conc(?:entration|\.)?|konz(?:entration|\.)?)|[cC])(?:\s*\(\s*(?P<a>[^()]+?)\s*\)|(?:_|\s+of\s+|\s+)(?P<b>.+))"
    r"|\[\s*(?P<c>[^\[\]]+?)\s*\]|(?P<d>.+?)[\s_]+(?i:conc(?:entration|\.)?)"
)
_MEAN = re.compile(r"(?i)(?P<a>.+?)[\s_(]+(?:mean|average|avg\.?|mittelwert)\)?|(?:mean|average)\s+(?:of\s+)?(?P<b>.+)")
_SD = r"s\.?d\.?|std\.?(?:\s?dev\.?)?|st\.?\s?dev\.?|stdev|standard deviation|error|err\.?|uncertainty|sigma|σ|±|\+/-"
_DEVIATION = re.compile(
    rf"(?i)(?:{_SD})(?:(?:\s+of\s+|[\s_]+|\s*(?=\())(?P<a>.+))?|(?P<b>.+?)[\s_(]+(?:{_SD})\)?|[su]\s*\((?P<c>.+)\)"
)
_COMPUTED = re.compile(r"-?\s*(?:(?:[lL][nN]|[lL]og|lg|log10|sqrt|exp)(?:\b.+|[cC].*)|1\s*/.+)")
_QUANTITY = re.compile(r"[-+]?\d+(?:[.,]\d+)?\s*(?P<unit>[^\d\s/].*)?")
_CLOCKS = re.compile(r"(?i)(h{1,2}|m{1,2}|min)\s?:\s?(m{1,2}|min|s{1,2})(\s?:\s?s{1,2}|\s?:\s?sec?)?")
DEVIATION = "standard deviation of "
_SPELLED = {"temperature": {"C": "degC", "F": "degF", "°": "degC"}, "time": {"Min": "min", "MIN": "min", "H": "h"}}
_SPELLED["time"] |= {"Std": "h", "hrs": "h", "Sek": "s", "secs": "s", "mins": "min", "Tage": "day"}


@dataclass(frozen=True)
class Heading:
    """A heading as it is understood.

    Attributes
    ----------
    text : str
        As it is written.
    name : str
        Of a species, metric or condition; 'time', 'clock time', 'date', 'temperature', 'run', 'sample' in one word.
    unit : str or None
    form : str
        'plain'; 'deviation' (a standard deviation of `name`, or of the column before); 'computed' (ln A, 1/A);
        'quantity' (a condition like 50 °C, and no name).
    clock : str
        The form of times, like 'h:min'.
    """

    text: str
    name: str
    unit: str | None = None
    form: str = "plain"
    clock: str = ""

    @property
    def canonical(self) -> str:
        """The heading in one notation: 'A [mol/L]'."""
        name = DEVIATION + self.name if self.form == "deviation" else self.name
        unit = self.clock or self.unit
        return f"{name} [{unit}]" if unit else name


@lru_cache(maxsize=4096)
def read_heading(text: str) -> Heading:
    """Name and unit of a heading: 'time [min]', 't / min', 'c(A) (mol/L)', 'A, mol/L', 'SD of A [mol/L]'."""
    whole = " ".join(str(text).split())
    quantity = _QUANTITY.fullmatch(whole)
    if quantity and (quantity["unit"] is None or _dimension(quantity["unit"]) is not None):
        return Heading(text, whole, form="quantity")
    if _COMPUTED.fullmatch(whole):
        return Heading(text, whole, form="computed")
    name, unit = _split(whole)
    mean = _MEAN.fullmatch(name)
    name = (mean["a"] or mean["b"]) if mean else name
    deviation = _DEVIATION.fullmatch(name)
    if deviation:
        own = next((part for part in deviation.groups() if part), "")
        return Heading(text, _name(own.strip("() ")) if own else "", unit, "deviation")
    if unit is not None and _DEVIATION.fullmatch(unit) and _dimension(unit) is None:  # 'A (SD)'
        return Heading(text, _name(name), None, "deviation")
    if unit is not None and unit.lower() in ("mean", "average", "avg"):
        name, unit = _split(name)
    name = _name(name)
    clock = unit.replace(" ", "") if unit is not None and _CLOCKS.fullmatch(unit) else ""
    spelled = _SPELLED.get(_OF_KIND.get(name, ""), {})
    if unit is not None:
        unit = None if clock else spelled.get(unit.rstrip(".") or unit, unit)
    return Heading(text, name, unit, clock=clock)


def _name(text: str) -> str:
    """A name without its notation: 'c(A)' and '[A]' are A, 'Zeit' is time; also after 'initial' and 'feed'."""
    for word in ("initial ", "feed "):
        if text.lower().startswith(word):
            return word + _name(text[len(word) :].strip())
    found = _CONCENTRATION.fullmatch(text)
    species = next((part for part in found.groups() if part), "") if found else ""
    if species and not species[0].isdigit():
        return species.strip()
    return text if text == "T" else _AXES.get(text.lower(), text)


def _split(text: str) -> tuple[str, str | None]:
    """Name and unit in the notation of the heading."""
    for pattern in _CERTAIN:
        if (found := pattern.fullmatch(text)) is not None:
            if not found["name"]:
                return text, None
            return found["name"].strip(), found["unit"].strip() or None
    for pattern in _LIKELY:
        found = pattern.fullmatch(text)
        if found and _is_unit_of(found["name"], found["unit"], len(found["unit"]) > 1):
            return found["name"].strip(), found["unit"].strip()
    found = _POSSIBLE.fullmatch(text)
    if found and text.lower() not in _AXES and _is_unit_of(found["name"], found["unit"], any_kind=False):
        return found["name"].strip(), found["unit"]
    return text, None


def _is_unit_of(name: str, text: str, any_kind: bool) -> bool:
    """Whether a text is a unit that fits a name; with `any_kind` any unit fits a name that is not an axis."""
    if _CLOCKS.fullmatch(text.strip()):
        return True
    plain = name.strip() if name.strip() == "T" else _AXES.get(name.strip().lower(), "")
    kind = _OF_KIND.get(plain)
    found = _dimension(_SPELLED.get(kind or "", {}).get(text.strip(), text))
    if found is None:
        return False
    fitting = [units.unit(SI_UNITS[k]).dimension for k in ([kind] if kind else _AMOUNTS)]
    return found in fitting or (any_kind and kind is None)


def _dimension(text: str) -> object:
    """The dimension of a unit; None for another text."""
    try:
        return units.unit(text.strip()).dimension
    except UnitError:
        return None
