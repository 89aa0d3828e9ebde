"""One value for each cell: a smooth field fitted by adjoint gradients, whatever the number of cells."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.calibration.observations import Observations, observe
from inkhorn.calibration.parameters import NOT_OF_HEADS
from inkhorn.errors import ConvergenceError, InputError, check_positive
from inkhorn.flow import FlowResult, FlowSensitivity, solve_flow
from inkhorn.linear import LinearSystem
from inkhorn.model import Model
from inkhorn.model.placing import changed_by, chosen_cells
from inkhorn.progress import Progress
from inkhorn.shown import Shown
from inkhorn.site import Edit
from inkhorn.space import Grid

__all__ = ["FieldFit", "FieldState", "Smooth", "calibrate_field"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_MEMORY = 12  # steps that the curvature is learnt from
_ENOUGH_FALL = 1e-4  # of that foreseen, for a step to be taken


_RIM = 1.42  # over which a field goes on beyond the rim, in units of 1/k


def _length(ends: Array) -> Array:
    return np.asarray(np.hypot(*(ends[:, 1] - ends[:, 0]).T))


class Smooth:
    """Turns independent standard normal numbers, one a cell, into a field with a correlation length, and back.

    ``field = c (k² M + G)⁻¹ M^½ z`` with the areas M of the cells and the flow G between neighbours of one layer: in the
    plane a field of the Matérn kind whose correlation has fallen to about a tenth at the range (Lindgren et al. 2011).
    Layers are independent of each other. On the rim of the cells ``du/dn = -k u / 1.42``, so that values there spread
    hardly otherwise than inside (Daon & Stadler 2018).

    Parameters
    ----------
    grid : Grid
    cells : ndarray of int, (n,)
        Of which there is one number each.
    range : float
        [m]
    deviation : float
        Standard deviation of the field far from the rim.

    References
    ----------
    Daon, Y. and Stadler, G. (2018), Mitigating the influence of the boundary on PDE-based covariance operators, Inverse
    Problems and Imaging 12(5), 1083-1102.
    Lindgren, F., Rue, H. and Lindström, J. (2011), An explicit link between Gaussian fields and Gaussian Markov random
    fields: the stochastic partial differential equation approach, Journal of the Royal Statistical Society B 73(4),
    423-498.
    """

    def __init__(self, grid: Grid, cells: Index, range: float, deviation: float) -> None:
        from scipy.sparse import coo_array, diags_array

        check_positive("range", range, unit="m")
        check_positive("deviation", deviation)
        n, kappa = len(cells), np.sqrt(8.0) / range
        place = np.full(grid.n_cells, -1)
        place[cells] = np.arange(n)
        faces = grid.faces
        side = np.flatnonzero(~faces.is_floor & (place[faces.cells] >= 0).all(axis=1))
        one, other = place[faces.cells[side]].T
        width = _length(faces.ends[side])
        between = width / faces.distance[side].sum(axis=1)
        area = grid.cells.area[cells]
        total = np.bincount(one, between, n) + np.bincount(other, between, n) + kappa**2 * area
        beside = np.flatnonzero(~faces.is_floor & ((place[faces.cells] >= 0).sum(axis=1) == 1))
        rim = np.concatenate([place[faces.cells[beside]].max(axis=1), place[grid.outer_faces.cell]])
        open_ = np.concatenate([_length(faces.ends[beside]), _length(grid.outer_faces.ends)])
        total += np.bincount(rim[rim >= 0], open_[rim >= 0], n) * kappa / _RIM
        apart = coo_array(
            (np.tile(-between, 2), (np.concatenate([one, other]), np.concatenate([other, one]))), shape=(n, n)
        )
        self.n, self.root = n, np.sqrt(area)
        self.factor = float(deviation * np.sqrt(4.0 * np.pi) * kappa)
        self.system = LinearSystem((apart + diags_array(total)).tocsr())

    def field(self, numbers: Array) -> Array:
        """Return the field that independent numbers make, (n,)."""
        return self.factor * self.system.solve(self.root * numbers, tolerance=1e-10)

    def turned(self, gradient: Array) -> Array:
        """Return the derivative by the numbers of what has some derivative by the field, (n,)."""
        return self.factor * self.root * self.system.solve(gradient, tolerance=1e-10)


@dataclass(frozen=True, eq=False)
class FieldState:
    """Where a fit of a field stands after an iteration: all that the next depends on.

    Attributes
    ----------
    numbers, gradient : ndarray of float, (n,)
        Independent numbers that make the field, and the slope there.
    steps, turns : tuple of ndarray of float, (n,)
        The last steps, and by how much the gradient changed along them.
    history : tuple of (float, float, int)
        Misfit, penalty and flow solves of each iteration.
    before, flow : FlowResult
        At the start and now.
    """

    numbers: Array
    gradient: Array
    steps: tuple[Array, ...]
    turns: tuple[Array, ...]
    history: tuple[tuple[float, float, int], ...]
    before: FlowResult
    flow: FlowResult


@dataclass(frozen=True, eq=False)
class FieldFit(Shown):
    """What the fit of a field found.

    Attributes
    ----------
    before, after : FlowResult
        ``after.model`` is the fitted model.
    cells : ndarray of int, (n,)
        Whose values were fitted.
    factor : ndarray of float, (n,)
        What they were multiplied with.
    observations : Observations
    history : tuple of (float, float, int)
        Misfit, penalty and flow solves of each iteration, the start first.
    reason : str
        Why it stopped.
    """

    before: FlowResult = field(repr=False)
    after: FlowResult = field(repr=False)
    cells: Index = field(repr=False)
    factor: Array = field(repr=False)
    observations: Observations = field(repr=False)
    history: tuple[tuple[float, float, int], ...] = field(repr=False)
    reason: str = ""

    def __repr__(self) -> str:
        first, last = self.history[0][0], self.history[-1][0]
        return f"FieldFit({len(self.cells)} cells; misfit {first:.4g} to {last:.4g}; {self.reason})"

    @property
    def model(self) -> Model:
        """The fitted model."""
        return self.after.model


class _Problem:
    """Misfit and penalty of a field, and their slope."""

    def __init__(
        self, model: Model, edit: Edit, smooth: Smooth, cells: Index, seen: Observations, initial_heads: Any,
        options: Mapping[str, Any],
    ) -> None:  # fmt: skip
        self.model, self.names, self.smooth, self.cells, self.seen = (
            model,
            changed_by(edit),
            smooth,
            cells,
            seen,
        )
        self.initial_heads, self.options = initial_heads, {**options, "order": 1, "results": "steps"}
        schedule = model.schedule
        self.from_heads = schedule is not None and not schedule.steady[0]

    def factor(self, numbers: Array) -> Array:
        return np.exp(np.clip(self.smooth.field(numbers), -20.0, 20.0))

    def flow(self, numbers: Array, near: FlowResult | None) -> FlowResult:
        factor, inputs = self.factor(numbers), {}
        for name in self.names:
            inputs[name] = self.model.input(name).copy()
            inputs[name][self.cells] *= factor
        first = self.initial_heads if self.from_heads or near is None else near.steps[0].heads
        return solve_flow(self.model.with_changes(inputs), initial_heads=first, **self.options)

    def misfit(self, flow: FlowResult) -> float:
        off = (self.seen.measured - self.seen.computed(flow)) * self.seen.weights
        return float(off @ off)

    def gradient(self, numbers: Array, flow: FlowResult) -> Array:
        off = (self.seen.measured - self.seen.computed(flow)) * self.seen.weights
        weights = -2.0 * off * self.seen.weights
        by = FlowSensitivity(flow, tolerance=1e-8).gradient(self.seen.readings(flow), weights)
        slope = np.zeros(len(self.cells))
        for name in self.names:
            values = by.get(name)
            if values is not None:
                slope += values[self.cells] * flow.model.input(name)[self.cells]
        return self.smooth.turned(slope) + 2.0 * numbers


def _direction(gradient: Array, steps: Sequence[Array], turns: Sequence[Array]) -> Array:
    """Downhill by what the last steps tell of the curvature (Nocedal 1980)."""
    q, kept = gradient.copy(), []
    for s, y in zip(reversed(steps), reversed(turns), strict=True):
        a = float(np.sum(s * q) / np.sum(y * s))
        q -= a * y
        kept.append(a)
    if steps:
        q *= float(np.sum(steps[-1] * turns[-1]) / np.sum(turns[-1] ** 2))
    for s, y, a in zip(steps, turns, reversed(kept), strict=True):
        q += (a - float(np.sum(y * q) / np.sum(y * s))) * s
    return -q


def calibrate_field(
    model: Model,
    *,
    of: str = "conductivity",
    layers: Sequence[str] = (),
    zone: tuple[str, str] | None = None,
    range: float,
    deviation: float,
    observations: Observations | None = None,
    max_iterations: int = 200,
    tolerance: float = 1e-4,
    initial_heads: Any = None,
    solver: Mapping[str, Any] | None = None,
    progress: Progress | None = None,
    keep: Callable[[FieldState], None] | None = None,
    go_on: FieldState | None = None,
) -> FieldFit:
    """Fit one factor for each cell, smooth over a range, by adjoint gradients and a limited memory of the curvature.

    Whatever the number of cells each iteration takes a flow or two and one adjoint. Misfit and a penalty on the field
    are minimised together, as for a field known beforehand to have such a range and deviation around what the model has.

    Parameters
    ----------
    model : Model
        Where to start.
    of : str
        ``"conductivity"`` (both, in proportion) or a property of cells.
    layers, zone
        Where, as of an `Edit`; everywhere if not given.
    range : float
        Over which values are alike [m].
    deviation : float
        Standard deviation of the natural logarithm of the factor.
    observations : Observations, optional
        With standard deviations; those of the model's site if not given.
    max_iterations, tolerance, initial_heads, solver, progress
        As of `calibrate`.
    keep : callable, optional
        Given the `FieldState` after each iteration.
    go_on : FieldState, optional
        Go on from there, to the same bits as if it had not stopped.

    Returns
    -------
    FieldFit

    Raises
    ------
    InputError
        If readings have no standard deviations, or there is no such property.

    References
    ----------
    Nocedal, J. (1980), Updating quasi-Newton matrices with limited storage, Mathematics of Computation 35, 773-782.
    """
    seen = observations or observe(model)
    if not seen.stated:
        raise InputError(
            "readings have no standard deviations, and a field's misfit cannot be weighed against its smoothness. Give "
            "`deviation` of the readings."
        )
    edit = Edit(of, 1.0, how="factor", layers=tuple(layers), zone=zone, source="the field")
    if "." in edit.of:
        raise InputError(
            f"a field is of a property of cells, not of {of}. Expected one such as conductivity."
        )
    if edit.of in NOT_OF_HEADS:
        raise InputError(f"heads do not depend on {of}. Fit a field of something else.")
    model.input(changed_by(edit)[0])
    everywhere = np.arange(model.grid.n_cells)
    cells = np.flatnonzero(chosen_cells(edit, model.grid, model.zones, everywhere))
    smooth = Smooth(model.grid, cells, range, deviation)
    problem = _Problem(model, edit, smooth, cells, seen, initial_heads, solver or {})
    tell = progress or (lambda *_: None)
    reason = "the iterations that were allowed are done"
    if go_on is None:
        tell("fitting a field: the first flow", None)
        numbers = np.zeros(len(cells))
        before = flow = problem.flow(numbers, None)
        gradient = problem.gradient(numbers, flow)
        steps, turns = (deque[Array](maxlen=_MEMORY) for _ in (0, 1))
        history = [(problem.misfit(flow), 0.0, 1)]
        if keep is not None:
            keep(FieldState(numbers, gradient, (), (), tuple(history), before, flow))
    else:
        numbers, gradient, before, flow = go_on.numbers, go_on.gradient, go_on.before, go_on.flow
        steps, turns = deque(go_on.steps, maxlen=_MEMORY), deque(go_on.turns, maxlen=_MEMORY)
        history = list(go_on.history)
    for iteration in np.arange(len(history), max_iterations + 1).tolist():
        now = history[-1][0] + history[-1][1]
        if len(history) > 3 and sum(history[-4][:2]) - now <= 3.0 * tolerance * now:
            reason = (
                f"the last three iterations lowered what is minimised by less than {tolerance:.0e} of it each"
            )
            break
        way = _direction(gradient, tuple(steps), tuple(turns))
        fall = float(np.sum(way * gradient))
        if fall >= 0.0:  # what was learnt misleads
            steps.clear()
            turns.clear()
            way, fall = -gradient, -float(np.sum(gradient**2))
        length = 1.0 if steps else min(1.0, 1.0 / max(float(np.abs(way).max()), 1e-300))
        found = None
        for solves in (1, 2, 3, 4, 5, 6, 7, 8):
            tell(f"fitting a field, iteration {iteration}, misfit {history[-1][0]:.4g}", None)
            there = numbers + length * way
            try:
                trial = problem.flow(there, flow)
            except (ConvergenceError, InputError):
                length *= 0.25
                continue
            misfit, penalty = problem.misfit(trial), float(np.sum(there**2))
            if misfit + penalty <= now + _ENOUGH_FALL * length * fall:
                found = (there, trial, misfit, penalty, solves)
                break
            bent = (misfit + penalty) - now - length * fall  # of the parabola through both
            length *= float(np.clip(-length * fall / (2.0 * bent), 0.1, 0.5)) if bent > 0.0 else 0.5
        if found is None:
            reason = "no step lowers what is minimised any more"
            break
        there, flow, misfit, penalty, solves = found
        new = problem.gradient(there, flow)
        s, y = there - numbers, new - gradient
        if float(np.sum(s * y)) > 1e-12 * float(np.sum(y * y)):
            steps.append(s)
            turns.append(y)
        numbers, gradient = there, new
        history.append((misfit, penalty, solves))
        if keep is not None:
            keep(FieldState(numbers, gradient, tuple(steps), tuple(turns), tuple(history), before, flow))
    return FieldFit(before, flow, cells, problem.factor(numbers), seen, tuple(history), reason)
