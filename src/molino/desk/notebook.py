"""Notebooks: errors as boxes with a folded traceback, and a progress bar."""

from __future__ import annotations

import html
import sys
import traceback
from collections.abc import Sequence
from typing import Any

from molino.core.arguments import checked
from molino.core.errors import Fault, MolinoError

_BOX = (
    '<div style="border-left:4px solid #b3261e;padding:.4em 1em;margin:.4em 0">'
    '<strong>{kind}</strong><ul style="margin:.3em 0 .3em 1.2em">{faults}</ul>'
    '<details><summary>traceback</summary><pre style="white-space:pre-wrap">{trace}</pre></details></div>'
)


def install() -> None:
    """Let IPython show errors of Molino as a box in a notebook, and as text in a terminal."""
    MolinoError._render_traceback_ = _render  # type: ignore[attr-defined]


def _render(error: MolinoError) -> list[str]:
    """The text of an error in IPython; in a notebook a box is displayed."""
    lines = [f"{type(error).__name__}: {error}"]
    if _has_pages() and not getattr(error, "_is_displayed", False):  # IPython calls this more than once
        error._is_displayed = True  # type: ignore[attr-defined]
        _display(_box(error))
    return lines


def _box(error: MolinoError) -> str:
    """An error as HTML: each fault with its place and remedy, the traceback folded."""
    trace = "".join(traceback.format_exception(type(error), error, error.__traceback__))
    rows = "".join(f"<li>{_fault(fault)}</li>" for fault in error.faults)
    return _BOX.format(kind=type(error).__name__, faults=rows, trace=html.escape(trace))


def _fault(fault: Fault) -> str:
    where = f"<b>{html.escape(fault.where)}</b>: " if fault.where else ""
    advice = f"<br>&rarr; {html.escape(fault.advice)}" if fault.advice else ""
    return f"{where}{html.escape(fault.what)}{advice}"


def _has_pages() -> bool:
    """Whether this runs in a notebook, which shows HTML."""
    if "IPython" not in sys.modules:
        return False
    import IPython

    shell = IPython.get_ipython()
    return shell is not None and getattr(shell, "kernel", None) is not None


def _display(text: str, **named: object) -> object:
    """Show HTML in the cell that runs."""
    import IPython.display as ipython

    return ipython.display(ipython.HTML(text), **named)


class ProgressBar:
    """The object of `progress_bar`: called by a computation, closed at the end of its `with`."""

    def __init__(self, label: str) -> None:
        self.label, self.words = label, ""
        self.share: float | None = None
        self._shown: Any = None
        self._status: Any = None

    def __enter__(self) -> ProgressBar:
        if _has_pages():
            self._shown = _display(self._repr_html_(), display_id=True)
        elif sys.stderr.isatty():
            from rich.console import Console

            self._status = Console(stderr=True).status(f"{self.label} ...")
            self._status.start()
        return self

    def __exit__(self, *_: object) -> None:
        if self._shown is not None:
            self.share = 1.0
            self._shown.update(self)
        if self._status is not None:
            self._status.stop()

    def __call__(self, *news: Any) -> None:
        """Take the arguments of any `progress=`: a fraction, a count and the total, or words."""
        self.share, self.words = _read(news)
        if self._shown is not None:
            self._shown.update(self)
        if self._status is not None:
            self._status.update(f"{self.label}: {self.words}")

    def _repr_html_(self) -> str:
        value = "" if self.share is None else f' value="{self.share:.4f}"'
        label = html.escape(self.label)
        return f'<label>{label} <progress max="1"{value}></progress></label> <small>{html.escape(self.words)}</small>'


def _read(news: Sequence[Any]) -> tuple[float | None, str]:
    """The fraction that is done, if known, and its text."""
    if len(news) == 1 and isinstance(news[0], float):
        return min(max(news[0], 0.0), 1.0), f"{100 * news[0]:.0f} %"
    if len(news) == 2 and all(isinstance(n, int) for n in news) and news[1] > 0 and news[0] <= news[1]:
        return news[0] / news[1], f"{news[0]} of {news[1]}"
    return None, ", ".join(f"{n:.6g}" if isinstance(n, float) else str(n) for n in news)


@checked
def progress_bar(label: str) -> ProgressBar:
    """A progress bar for any `progress=` argument: in a notebook a bar, in a terminal a line.

    Parameters
    ----------
    label : str
        The name of the computation.

    Returns
    -------
    ProgressBar
        A context manager, to be given as `progress=`.

    Examples
    --------
    >>> chem = mo.Chemistry(mo.Reaction("A -> B", k="0.2 1/min"))
    >>> tank = mo.StirredTank(chem, mo.Feed({"A": "1 mol/L"}, flow="1 L/min"), volume="5 L")
    >>> with mo.progress_bar("flows") as bar:
    ...     swept = mo.sweep(tank, {"flow": mo.span("1 L/min", "2 L/min", 3)}, ["conversion of A"], progress=bar)
    >>> bar.words
    '3 of 3'
    """
    return ProgressBar(label)
