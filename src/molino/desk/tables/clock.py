"""Times of day, dates and durations in the cells of a table."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime

import numpy as np

from molino.core.errors import InputError

_TIME = re.compile(
    r"(?:(?P<date>\d{1,4}[-./]\d{1,2}[-./]\d{1,4})[ T]+)?(?P<first>\d{1,3}):(?P<second>\d{2})"
    r"(?::(?P<third>\d{2}(?:[.,]\d+)?))?\s*(?P<half>[AaPp][Mm])?(?:Z|[+-]\d{2}:?\d{2})?"
)
_DAY, _HOUR, _MINUTE = 86400.0, 3600.0, 60.0
_ORDERS = {"-": ("%Y-%m-%d", "%d-%m-%Y", "%m-%d-%Y"), "/": ("%Y/%m/%d", "%d/%m/%Y", "%m/%d/%Y"), ".": ("%d.%m.%Y",)}


def is_clock(cell: str) -> bool:
    """Whether a text is a time of day or a duration, like 08:30, with or without a date."""
    return _TIME.fullmatch(cell) is not None


def has_clock(cells: Iterable[str]) -> bool:
    """Whether one of some texts is a time of day or a duration."""
    return any(":" in cell and is_clock(cell) for cell in cells)


def seconds_of(texts: Sequence[str], form: str, runs: Sequence[np.ndarray], is_of_day: bool) -> tuple[np.ndarray, str]:
    """Times in s since the start of each run, nan for an empty cell, and a remark on their reading.

    Durations are those with a form in the heading ('h:min', 'min:s', 'h:min:s'), or that begin with zero; others are
    times of day, and the first of each run is its start.

    Raises
    ------
    InputError
        If a text is not a time, or if hours and minutes, or day and month, cannot be distinguished.
    """
    found = [_TIME.fullmatch(text) if text else None for text in texts]
    wrong = next((text for text, one in zip(texts, found, strict=True) if text and one is None), None)
    if wrong is not None:
        raise InputError(f"'{wrong}' is not a time of day", "", "write all of them like 08:30 or 2026-03-01 08:30")
    seen = [one for one in found if one is not None]
    has_date = any(one["date"] for one in seen)
    is_of_day = is_of_day or has_date or any(one["half"] for one in seen)
    has_hours = _has_hours(seen, form, is_of_day)
    seconds = np.array([np.nan if one is None else _seconds(one, has_hours) for one in found])
    days = _days([one["date"] if one is not None else None for one in found])
    seconds += days
    first = next((text for text in texts if text), "")
    if form or (not is_of_day and seconds[np.isfinite(seconds)][0] == 0):
        return seconds, f"{'hours and minutes' if has_hours else 'minutes and seconds'} since the start"
    if not is_of_day and 0 < seconds[np.isfinite(seconds)][0] < _HOUR:
        advice = "name the column 'time [h:min:s]' (since the start) or 'clock time': columns = {...}"
        raise InputError(f"'{first}' may be a time of day, or a time since the start", "", advice)
    for rows in runs:
        own = seconds[rows]
        if not has_date:  # past midnight
            own = own + _DAY * np.cumsum(np.r_[0.0, np.diff(own) < -_DAY / 2])
        seconds[rows] = own - own[np.isfinite(own)][0] if np.isfinite(own).any() else own
    return seconds, f"times of day, zero at the first of each run ('{first}')"


def _has_hours(seen: Sequence[re.Match[str]], form: str, is_of_day: bool) -> bool:
    """Whether the first number is hours, and not minutes."""
    if form:
        return form[0].lower() == "h"
    if is_of_day or any(one["third"] for one in seen):
        return True
    if any(int(one["first"]) > 23 for one in seen) or int(seen[0]["first"]) == 0:
        advice = "say so in the heading, 'time [h:min]' or 'time [min:s]', also by columns = {...}"
        raise InputError(f"'{seen[-1].group()}' may be hours and minutes, or minutes and seconds", "", advice)
    return True


def _seconds(one: re.Match[str], has_hours: bool) -> float:
    first, second = float(one["first"]), float(one["second"])
    third = float((one["third"] or "0").replace(",", "."))
    if one["half"]:
        first = first % 12 + (12 if one["half"].lower() == "pm" else 0)
    return first * _HOUR + second * _MINUTE + third if has_hours else first * _MINUTE + second


def _days(dates: Sequence[str | None]) -> np.ndarray:
    """The day of each date in s since the first."""
    known = [date for date in dates if date]
    if not known:
        return np.zeros(len(dates))
    readings: list[list[float]] = []
    for order in _ORDERS[next(c for c in known[0] if not c.isdigit())]:
        for year in (order, order.replace("%Y", "%y")):
            try:
                stamps = [datetime.strptime(date, year).replace(tzinfo=UTC).timestamp() for date in known]
            except ValueError:
                continue
            readings.append([stamp - stamps[0] for stamp in stamps])
    if not readings or any(other != readings[0] for other in readings):
        problem = "is not a date" if not readings else "may be of two months"
        raise InputError(f"'{known[-1]}' {problem}", "", "write dates like 2026-03-01")
    each = iter(readings[0])
    return np.array([next(each) if date else 0.0 for date in dates])
