"""The engines that integrate balances: LSODA with restarts, sparse BDF, Runge-Kutta."""

from __future__ import annotations

import warnings

import numpy as np
import scipy

from molino.core.annotations import PlainData
from molino.core.balances.compiled import Function, compiled
from molino.core.balances.functions import Functions
from molino.core.balances.kinks import Kinks
from molino.core.balances.machine.choice import machine_of, spent
from molino.core.balances.settings import Report, Settings
from molino.core.balances.source import NotFinite
from molino.core.balances.system import Case
from molino.core.errors import SolveError

_MOST_RESTARTS = 24
"""Number of restarts behind a place at which an integration stopped before it fails."""
_CLOSER = 101
"""Points of an interval that is integrated again with short steps."""
MOST_STEPS_CLOSER = 3_000
_MOST_STEPS_KINKS = 10_000
"""Largest number of steps between two points with a rate of an order below one, which may chatter where it exhausts its
reactant."""
DONE = "Integration successful."

# The warnings of odeint are also in its result, and a run reports them. To enter `catch_warnings` at each integration
# takes a tenth of a small one, and is not thread-safe; their class would import SciPy's integrators for every command.
warnings.filterwarnings("ignore", message=r"(?s).*Run with full_output = 1 to get quantitative", module=r"molino\.")


def start(case: Case) -> tuple[np.ndarray, np.ndarray]:
    """Initial values and scales of the states, each of shape (states,); read-only."""
    return beginning(case)[:2]


def beginning(case: Case) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """As `start`, with the scale of the absolute tolerance of each state.

    It is the scale of the state, or its initial value if that is smaller: a seed of 1e-12 of the charge must not be
    lost in errors of 1e-13.
    """
    if "start" not in case.remembered:
        case.remembered["start"] = _started(case)
    return case.remembered["start"]  # type: ignore[no-any-return]


def _started(case: Case) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    try:
        both = compiled(case.balances).start(case.values)(np.empty(0), 0.0)
    except (NotFinite, ArithmeticError, ValueError) as error:
        raise SolveError(
            f"the initial state has no finite value ({error})", "start", "check the numbers given"
        ) from error
    half = len(both) // 2
    y0, sizes = both[:half], both[half:]
    if min(sizes) <= 0:
        sizes = [size if size > 0 else 1.0 for size in sizes]
    first, scale = np.array(y0, dtype=float), np.array(sizes, dtype=float)
    seeds = [i for i in case.balances.amounts if 0 < y0[i] < sizes[i]]
    if not seeds:
        return first, scale, scale
    tolerated = scale.copy()
    tolerated[seeds] = first[seeds]
    return first, scale, tolerated


Rows = tuple[np.ndarray, np.ndarray, Report, SolveError | None]


def advance(
    case: Case,
    functions: Functions,
    first: np.ndarray,
    times: np.ndarray,
    settings: Settings,
    absolute: np.ndarray,
    scale: np.ndarray,
) -> Rows:
    """Rows of states as far as the integration goes, steps up to each, the report, and the failure."""
    rtol = settings.rtol
    if len(times) == 1:
        return first[None], np.zeros(1, dtype=int), Report("nothing to integrate", 0, 0, 0), None
    machine = machine_of(functions.whole, functions.by)
    if machine is not None:
        found = machine.integrate(case.values, first, times, absolute, settings)
        if found is not None:  # otherwise LSODA finds the place and the reason
            return *found, None
    if functions.is_sparse:
        return _by_sparse(case, functions, first, times, rtol, absolute)
    try:
        most = min(settings.most, _MOST_STEPS_KINKS) if case.balances.kinks else settings.most
        y, info = by_odeint(functions, first, times, rtol, absolute, most=most)
    except NotFinite as error:
        return _up_to(case, functions, first, times, rtol, absolute, _not_finite(case, error))
    if info["message"] == DONE:  # otherwise its counters are meaningless
        spent(functions.whole, functions.by, int(info["nfe"][-1]))
    method = {1: "LSODA (Adams)", 2: "LSODA (BDF)"}.get(int(info["mused"][-1]), "LSODA")
    report = Report(method, *(int(info[name][-1]) for name in ("nst", "nfe", "nje")))
    steps = np.zeros(len(times), dtype=int)
    steps[1:] = info["nst"]
    kinks = Kinks(case, functions, scale, settings.atol)
    rows = kinks.cut(_finished(times, y, info))
    steps = steps[: len(rows)]
    if len(rows) < len(times):
        rows, steps = _resumed(rows, steps, times, settings, absolute, kinks)
    if len(rows) == len(times):
        return rows, steps, report, None
    points = times[: len(rows)]
    goal, failure = times[len(rows)], None
    for _ in range(3):  # approaching the point where it stops
        closer = np.linspace(points[-1], goal, _CLOSER)
        try:
            fine, counts = by_odeint(functions, rows[-1], closer, rtol, absolute, most=MOST_STEPS_CLOSER)
        except NotFinite as error:
            failure = failure or _not_finite(case, error)
            break
        failure = _stuck(case, times[-1], closer, fine, scale, counts)
        further = _first_failure(closer, counts) + 1 if counts["message"] != DONE else len(closer)
        further = min(further, int(np.argmin(np.append(np.isfinite(fine).all(axis=1), False))))
        if further < len(closer):
            goal = closer[further]
        rows, points = np.concatenate([rows, fine[1:further]]), np.concatenate([points, closer[1:further]])
        steps = np.concatenate([steps, steps[-1] + counts["nst"][: max(further - 1, 0)]])
        if further == len(closer) or goal - points[-1] < 1e-9 * goal:
            break
    assert failure is not None
    failure.rows = points
    return rows, steps, report, failure


def _resumed(
    rows: np.ndarray, steps: np.ndarray, times: np.ndarray, settings: Settings, absolute: np.ndarray, kinks: Kinks
) -> tuple[np.ndarray, np.ndarray]:
    """Rows beyond the point where an integration stopped, and the steps up to each, as far as possible.

    The interval at which it stopped is integrated with short steps, by a method that passes the exhaustion of a
    reactant; a restart behind it has a new step size and order.
    """
    at, y, taken = times[len(rows) - 1], rows[-1], int(steps[-1])
    for _ in range(_MOST_RESTARTS):
        closer = np.linspace(at, times[len(rows)], _CLOSER)
        try:
            fine, counts = by_odeint(kinks, y, closer, settings.rtol, absolute, most=MOST_STEPS_CLOSER)
            good = len(kinks.cut(_finished(closer, fine, counts)))
            y, at = fine[good - 1], closer[good - 1]
            taken += int(counts["nst"][good - 2]) if good > 1 else 0
            if good < len(closer):
                passed = by_runge_kutta(y, closer[good - 1 : good + 1], settings.rtol, absolute, kinks)
                if passed is None:
                    break
                y, at, taken = passed[0], closer[good], taken + passed[1]
            if at < times[len(rows)]:
                continue
            rows, steps = np.concatenate([rows, y[None]]), np.append(steps, taken)
            if len(rows) == len(times):
                break
            behind, counts = by_odeint(kinks, y, times[len(rows) - 1 :], settings.rtol, absolute, most=settings.most)
        except NotFinite:
            break
        more = kinks.cut(_finished(times[len(rows) - 1 :], behind, counts))
        rows = np.concatenate([rows, more[1:]])
        steps = np.concatenate([steps, taken + counts["nst"][: len(more) - 1]])
        if len(rows) == len(times):
            break
        at, y, taken = times[len(rows) - 1], rows[-1], int(steps[-1])
    return rows, steps


def by_runge_kutta(
    first: np.ndarray, stretch: np.ndarray, rtol: float, absolute: np.ndarray, kinks: Kinks
) -> tuple[np.ndarray, int] | None:
    """The states at the end of an interval, and the number of steps; None if this method fails, too.

    An explicit method of order 8 (J. R. Dormand, P. J. Prince, J. Comput. Appl. Math. 6 (1980) 19) needs no Jacobian.
    Steps that leave an amount negative are halved until it is exhausted.
    """
    if not np.isfinite(first).all():
        return None
    rhs = kinks.callbacks()[0]

    def started(t: float, y: np.ndarray, longest: float) -> scipy.integrate.DOP853:
        return scipy.integrate.DOP853(
            lambda t, y: np.array(rhs(y, t)), t, y, stretch[1], rtol=max(rtol, 1e-12), atol=absolute, max_step=longest
        )

    solver, taken = started(stretch[0], kinks.settled(first), np.inf), 0
    while solver.status == "running" and taken < MOST_STEPS_CLOSER:
        t, y = solver.t, solver.y
        with np.errstate(all="ignore"):  # a step that is too long is rejected
            solver.step()
        taken += 1
        if (solver.y[kinks.places] < 0).any():
            rest = kinks.settled(y)
            solver = started(t, rest, np.inf if (rest != y).any() else (solver.t - t) / 2)
    return (kinks.settled(solver.y), taken) if solver.status == "finished" and np.isfinite(solver.y).all() else None


def _finished(times: np.ndarray, y: np.ndarray, info: PlainData) -> np.ndarray:
    """The rows that an integration finished, including the first one."""
    good = len(times) if info["message"] == DONE else _first_failure(times, info) + 1
    while good > 1 and not np.isfinite(y[good - 1]).all():
        good -= 1
    return y[:good]


def by_odeint(
    functions: Functions | Kinks,
    first: np.ndarray,
    times: np.ndarray,
    rtol: float,
    absolute: np.ndarray,
    stop: bool = False,
    most: int = Settings.most,
) -> tuple[np.ndarray, PlainData]:
    """Rows by LSODA; with `stop` it does not evaluate beyond the last."""
    rhs, jacobian = functions.callbacks()
    return lsoda(
        rhs, jacobian, first, times, rtol, absolute, mxstep=most, tcrit=times[-1:] if stop else None, **functions.band
    )


def lsoda(
    rhs: Function,
    jacobian: Function | None,
    first: np.ndarray,
    times: np.ndarray,
    rtol: float,
    absolute: np.ndarray,
    **further: object,
) -> tuple[np.ndarray, PlainData]:
    """Rows by LSODA through SciPy's `odeint`, and its counters; a failure is in its message, not a warning."""
    asked = {"Dfun": jacobian, "rtol": rtol, "atol": absolute, "full_output": True, "mxstep": Settings.most, **further}
    try:
        return scipy.integrate.odeint(rhs, first, times, **asked)  # type: ignore[no-any-return]
    except scipy.integrate.ODEintWarning:  # warnings are errors in this process
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", scipy.integrate.ODEintWarning)
            return scipy.integrate.odeint(rhs, first, times, **asked)  # type: ignore[no-any-return]


def _up_to(
    case: Case,
    functions: Functions,
    first: np.ndarray,
    times: np.ndarray,
    rtol: float,
    absolute: np.ndarray,
    failure: SolveError,
) -> Rows:
    """The rows before a place at which a value is not finite."""
    reach = failure.reached - times[0]
    for share in (1 - 1e-6, 1 - 1e-4, 0.99, 0.9, 0.5, 0.1):
        end = times[0] + share * reach
        grid = np.append(times[times < end], end)
        if len(grid) < 2:
            continue
        try:
            y, info = by_odeint(functions, first, grid, rtol, absolute, stop=True)
        except NotFinite:
            continue
        if info["message"] == DONE and np.isfinite(y).all():
            own = times[times < end]
            report = Report("LSODA", int(info["nst"][-1]), int(info["nfe"][-1]), int(info["nje"][-1]))
            return y[: len(own)], np.concatenate([[0], info["nst"]])[: len(own)], report, failure
    return first[None], np.zeros(1, dtype=int), Report("LSODA", 0, 1, 0), failure


def _by_sparse(
    case: Case, functions: Functions, first: np.ndarray, times: np.ndarray, rtol: float, absolute: np.ndarray
) -> Rows:
    """Rows by backward differentiation formulas with a sparse Jacobian (L. F. Shampine, M. W. Reichelt, SIAM J. Sci.
    Comput. 18 (1997) 1)."""
    try:
        with np.errstate(all="ignore"):  # differences of higher orders are undefined, and not used
            found = scipy.integrate.solve_ivp(
                lambda t, y: functions.rhs(y, t),
                (times[0], times[-1]),
                first,
                method="BDF",
                t_eval=times,
                jac=functions.sparse_jacobian_at,
                rtol=max(rtol, 1e-12),
                atol=absolute,
            )
    except NotFinite as error:
        failure = _not_finite(case, error)
        return first[None], np.zeros(1, dtype=int), Report("sparse BDF", 0, 0, 0), failure
    rows = found.y.T
    steps = np.zeros(len(rows), dtype=int)
    failed = None
    if found.status < 0:
        failed = SolveError(
            f"stopped at {case.balances.independent} = {found.t[-1]:.6g}: {found.message}",
            "integration",
            "look for a rate that grows without limit, or end the run earlier",
        )
        failed.reached = float(found.t[-1])
    return rows, steps, Report("sparse BDF", len(found.t), int(found.nfev), int(found.njev)), failed


def _not_finite(case: Case, error: NotFinite) -> SolveError:
    states = np.asarray(error.states, dtype=float)
    gone = [name for name, value in zip(case.balances.names, states, strict=False) if not value > 0]
    message = f"a rate law has no finite value at {case.balances.independent} = {error.at:.6g} ({error.cause})"
    if gone:
        message += f"; zero there: {', '.join(gone[:6])}"
    found = SolveError(message, "integration", "check denominators, logarithms and negative orders in the rate laws")
    found.reached = float(error.at)
    fallen = [i for i in case.balances.bounded if not states[i] > 0]
    if fallen:
        found.symbol = case.balances.symbols[fallen[0]]
    return found


def _first_failure(times: np.ndarray, info: PlainData) -> int:
    """Index of the first interval that was not finished; the counters of LSODA for later ones are meaningless."""
    return int(np.argmax(~(info["tcur"] >= times[1:])))


def _stuck(case: Case, end: float, times: np.ndarray, y: np.ndarray, scale: np.ndarray, info: PlainData) -> SolveError:
    failed = _first_failure(times, info) if info["message"] != DONE else len(times) - 1
    message = f"stopped at {case.balances.independent} = {times[failed]:.6g} of {end:.6g}"
    n = len(scale)
    change = np.zeros(0)
    if y.shape[1] >= n:
        with np.errstate(all="ignore"):
            change = np.abs(y[failed, :n] - y[max(failed - 1, 0), :n]) / scale
    if np.isfinite(change).any():
        message += f", where {case.balances.names[int(np.nanargmax(change))]} changes fastest"
    if info["message"] != DONE:
        message += f" (LSODA: {str(info['message']).split('(')[0].strip(' .').lower()})"
    advice = "look for a rate that grows without limit; check the rate laws, or end the run before this place"
    found = SolveError(message, "integration", advice)
    found.reached = float(times[failed])
    return found
