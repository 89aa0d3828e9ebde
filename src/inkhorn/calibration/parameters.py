"""Parameters: what a fit may change, and how the model's arrays follow."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.calibration.pilot_points import PilotPoints
from inkhorn.errors import InputError, check_finite, check_positive, did_you_mean
from inkhorn.model import Model
from inkhorn.model.placing import Target, Traced, change, changed_by, chosen_cells, dimension_of, target_of
from inkhorn.site import Edit, value_named
from inkhorn.space import PointSurface
from inkhorn.units import KINDS

__all__ = ["NOT_OF_HEADS", "Made", "Parameter", "ParameterSet", "Scalar"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

NOT_OF_HEADS = ("porosity", "bulk_density")
_WIDEST = 1000.0  # of the start, either way, where no bounds are told
_LEVELS = ("elevation", "angle")  # what is no multiple of anything


@dataclass(frozen=True, kw_only=True, eq=False)
class Parameter:
    """Something that a fit may change: a value somewhere, a factor on it, or what is added to it.

    What is changed, and where, is said as by an `Edit`; parameters are set one after the other, and later ones see what
    earlier ones left. With pilot points there is one number at each point, and values between are kriged.

    Parameters
    ----------
    name : str
        That a person can read.
    of : str
        ``"conductivity"`` (horizontal, the vertical one in proportion), a property of cells such as
        ``"specific_yield"``, or a value of features such as ``"recharge.rate"`` or ``"river.conductance"``, in the unit
        in which these state it.
    how : {"set", "factor", "add"}
        What is done with the number.
    layers, zone, feature, shape
        Where, as of an `Edit`.
    start : float, optional
        Where a fit begins. If not given: with "set" the mean of what the model has there (geometric where logarithms are
        fitted), with "factor" 1, with "add" 0.
    lower, upper : float, optional
        Bounds; a thousand times less and more than the start if not given, none for what is added.
    logarithmic : bool, optional
        Whether its logarithm is fitted; so is that of all but levels, angles and what is added if not said.
    held : bool
        Whether it stays at its start.
    follows : str, optional
        The name of another parameter that it is so many times of.
    multiple : float
        How many times.
    expected : float, optional
        What is known of it beforehand; the start if not given.
    deviation : float, optional
        The standard deviation of that: of its natural logarithm if that is fitted, else in its unit.
    points : PilotPoints, optional
        Where numbers stand.

    Examples
    --------
    >>> Parameter(name="conductivity of sand", of="conductivity", how="set", layers=("sand",), lower=1, upper=100)
    Parameter('conductivity of sand': set conductivity in sand)
    """

    name: str
    of: str
    how: Literal["set", "factor", "add"] = "factor"
    layers: tuple[str, ...] = ()
    zone: tuple[str, str] | None = None
    feature: str | None = None
    shape: Any = field(default=None, repr=False)
    start: float | None = None
    lower: float | None = None
    upper: float | None = None
    logarithmic: bool | None = None
    held: bool = False
    follows: str | None = None
    multiple: float = 1.0
    expected: float | None = None
    deviation: float | None = None
    points: PilotPoints | None = None

    def __post_init__(self) -> None:
        object.__setattr__(self, "layers", tuple(self.layers))
        object.__setattr__(self, "of", value_named(self.of))
        if self.how not in ("set", "factor", "add"):
            raise InputError(f'{self.where}: how is "{self.how}"; expected "set", "factor" or "add".')
        for key in ("start", "lower", "upper", "expected", "multiple"):
            if getattr(self, key) is not None:
                check_finite(f"{self.where}: {key}", getattr(self, key))
        if self.deviation is not None:
            check_positive(f"{self.where}: deviation", self.deviation)
        if self.lower is not None and self.upper is not None and self.lower >= self.upper:
            raise InputError(
                f"{self.where}: lower {self.lower:g} is not below upper {self.upper:g}. Swap them."
            )
        if self.of in NOT_OF_HEADS:
            raise InputError(f"{self.where}: heads do not depend on {self.of}. Fit something else.")
        if self.follows is not None and (self.held or self.points is not None or self.deviation is not None):
            raise InputError(
                f"{self.where}: what follows another parameter is neither held nor known beforehand, and has no pilot "
                "points. Say one thing of it."
            )
        if self.logarithmic and self.how == "add":
            raise InputError(f"{self.where}: what is added may be of either sign, and has no logarithm.")

    def __repr__(self) -> str:
        where = [*self.layers, *(self.zone or ())[1:], *((self.feature,) if self.feature else ())]
        return f"Parameter({self.name!r}: {self.how} {self.of}{' in ' if where else ''}{', '.join(where)})"

    @property
    def where(self) -> str:
        """The parameter in words, for messages."""
        return f'parameter "{self.name}"'

    def edit(self, value: Any = 0.0) -> Edit:
        """Return the edit that gives it a value."""
        return Edit(
            self.of, value, how=self.how, layers=self.layers, shape=self.shape, feature=self.feature, zone=self.zone,
            reason=self.name, source=self.where,
        )  # fmt: skip


@dataclass(frozen=True)
class Scalar:
    """One number of a parameter.

    Attributes
    ----------
    name : str
        Of the parameter; with that of the pilot point.
    parameter : int
        Which of the parameters it belongs to.
    unit : str
    start, lower, upper : float
    logarithmic, held : bool
    leader : int
        Which scalar it is `multiple` times of, -1 for none.
    multiple : float
    expected, deviation : float
        Beforehand; the deviation is of the logarithm where that is fitted, infinite where nothing is known.
    x, y : float
        Of a pilot point [m], else NaN.
    """

    name: str
    parameter: int
    unit: str
    start: float
    lower: float
    upper: float
    logarithmic: bool
    held: bool
    leader: int = -1
    multiple: float = 1.0
    expected: float = np.nan
    deviation: float = np.inf
    x: float = np.nan
    y: float = np.nan


class Made(NamedTuple):
    """Arrays of a model made of numbers, by name, and their derivatives by the numbers, sparse."""

    inputs: Mapping[str, Array]
    by: Mapping[str, Any]


class ParameterSet:
    """Parameters on one model: all their numbers, and the arrays that follow from them.

    A fit works with one coordinate for each number that is free: its natural logarithm, or itself.

    Parameters
    ----------
    model : Model
        With the arrays that are changed.
    parameters : sequence of Parameter

    Attributes
    ----------
    scalars : tuple of Scalar
        All numbers, those of pilot points one by one.
    free : ndarray of int, (n_free,)
        Which of them a fit may change.

    Raises
    ------
    InputError
        If a parameter is of nothing that the model has, or meets nothing; if it starts beyond its bounds.
    """

    def __init__(self, model: Model, parameters: Sequence[Parameter]) -> None:
        self.model, self.parameters = model, tuple(parameters)
        self._refuse_repeats()
        self._base: dict[str, Target] = {}
        self._chosen: list[NDArray[np.bool_]] = []
        self._surfaces: list[tuple[PointSurface, Any] | None] = []
        self._dropped: dict[str, tuple[str, ...]] = {}
        scalars: list[Scalar] = []
        for number, parameter in enumerate(self.parameters):
            target = self._target(parameter)
            chosen = chosen_cells(parameter.edit(), model.grid, model.zones, target.cells, target.features)
            self._chosen.append(chosen)
            scalars += self._scalars(number, parameter, target, chosen)
        first = {s.name: k for k, s in enumerate(scalars)}
        for k, scalar in enumerate(scalars):
            leads = self.parameters[scalar.parameter].follows
            if leads is not None:
                scalars[k] = replace(scalar, leader=self._leader(scalar, leads, first, scalars))
        self.scalars = tuple(scalars)
        self.free = np.array(
            [k for k, s in enumerate(scalars) if not s.held and s.leader < 0], dtype=np.int64
        )
        self._check_bounds()

    def __len__(self) -> int:
        return len(self.free)

    def __repr__(self) -> str:
        return (
            f"ParameterSet({len(self.parameters)} parameters, {len(self.scalars)} numbers, {len(self)} free)"
        )

    def _refuse_repeats(self) -> None:
        names = [p.name for p in self.parameters]
        twice = next((n for n in names if names.count(n) > 1), None)
        if twice is not None:
            raise InputError(f'two parameters are called "{twice}". Give each its own name.')

    # --- what is changed ---------------------------------------------------------------------------

    def _target(self, parameter: Parameter) -> Target:
        """The array that a parameter is of, as the model has it, in the unit in which it is stated."""
        for name in changed_by(parameter.edit()):
            if name not in self._base:
                self._base[name] = target_of(self.model, name, parameter.where)
        return self._base[changed_by(parameter.edit())[0]]

    def _scalars(
        self, number: int, parameter: Parameter, target: Target, chosen: NDArray[np.bool_]
    ) -> list[Scalar]:
        """The numbers of one parameter."""
        names = [] if target.features is None else sorted(set(target.features[chosen].tolist()))
        site = self.model.site
        features = [] if site is None else [f for f in site.features if f.name in names]
        dimension = "number" if parameter.how == "factor" else dimension_of(parameter.of, features)
        unit = KINDS[dimension].inside or "-"
        levels = parameter.how != "factor" and dimension in _LEVELS
        logarithmic = parameter.logarithmic
        if logarithmic is None:
            logarithmic = parameter.how != "add" and not levels
        values = target.values.values[..., chosen]
        start = parameter.start
        if start is None:
            start = {"factor": 1.0, "add": 0.0}.get(parameter.how)
        if start is None:
            known = values[np.isfinite(values)]
            if (logarithmic and (known <= 0.0).any()) or not len(known):
                raise InputError(
                    f"{parameter.where}: {parameter.of} is 0 or less, or not given, somewhere there; its logarithm "
                    "cannot start from the model's. Give a start, or logarithmic = false."
                )
            start = float(np.exp(np.log(known).mean()) if logarithmic else known.mean())
        widest = (start / _WIDEST, start * _WIDEST) if logarithmic else (-np.inf, np.inf)
        lower = widest[0] if parameter.lower is None else parameter.lower
        upper = widest[1] if parameter.upper is None else parameter.upper
        whole = Scalar(
            parameter.name, number, unit, start, lower, upper, logarithmic, parameter.held, -1, parameter.multiple,
            start if parameter.expected is None else parameter.expected,
            np.inf if parameter.deviation is None else parameter.deviation,
        )  # fmt: skip
        if parameter.points is None:
            self._surfaces.append(None)
            return [whole]
        x, y = (v[target.cells] for v in (self.model.grid.cells.x, self.model.grid.cells.y))
        points = parameter.points.within(parameter.where, self.model.grid, target.cells[chosen])
        on_logarithms = logarithmic if points.on_logarithms is None else points.on_logarithms
        surface = points.surface(parameter.name, start, on_logarithms=on_logarithms)
        self._surfaces.append((surface, surface.rows(x[chosen], y[chosen])))
        self._dropped[parameter.name] = points.outside
        return [
            replace(
                whole, name=f"{parameter.name} at {name}", start=float(value), held=whole.held or bool(held),
                expected=whole.expected if parameter.expected is not None else float(value), x=float(px), y=float(py),
            )
            for name, px, py, value, held in zip(
                points.names, points.x, points.y, surface.z, points.held, strict=True
            )
        ]  # fmt: skip

    def _leader(self, scalar: Scalar, leads: str, first: Mapping[str, int], scalars: Sequence[Scalar]) -> int:
        what = self.parameters[scalar.parameter].where
        if leads not in first:
            known = [n for n in first if n != scalar.name]
            raise InputError(
                f'{what} follows "{leads}"; expected one of {known}.{did_you_mean(leads, known)}'
            )
        leader = scalars[first[leads]]
        if self.parameters[leader.parameter].follows is not None:
            raise InputError(f'{what} follows "{leads}", which follows another. Let both follow the same.')
        if scalar.logarithmic and leader.start * scalar.multiple <= 0.0:
            raise InputError(
                f'{what} would be {leader.start * scalar.multiple:g}, as {scalar.multiple:g} times "{leads}"; expected a '
                "number above 0."
            )
        return first[leads]

    def _check_bounds(self) -> None:
        for s in self.scalars:
            what = f'parameter "{s.name}"'
            if s.leader >= 0:
                continue
            if s.logarithmic and min(s.start, s.lower) <= 0.0:
                raise InputError(
                    f"{what}: start {s.start:g} and lower {s.lower:g} {s.unit} must be above 0, as its logarithm is "
                    "fitted. Raise them, or say logarithmic = false."
                )
            if s.lower >= s.upper:
                raise InputError(f"{what}: lower {s.lower:g} is not below upper {s.upper:g}. Swap them.")
            if not s.held and not s.lower <= s.start <= s.upper:
                raise InputError(
                    f"{what} starts at {s.start:g} {s.unit}, outside its bounds {s.lower:g} to {s.upper:g}. Widen them."
                )
            if s.logarithmic and not s.expected > 0.0:
                raise InputError(f"{what}: {s.expected:g} is expected; a logarithm wants a number above 0.")

    # --- numbers and coordinates -------------------------------------------------------------------

    @property
    def logarithmic(self) -> NDArray[np.bool_]:
        """Whether each free number is fitted by its logarithm, (n_free,)."""
        return np.array([self.scalars[k].logarithmic for k in self.free], dtype=bool)

    def coordinates(self, values: Any) -> Array:
        """Return coordinates of free numbers, (n_free,)."""
        values = np.asarray(values, dtype=np.float64)
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.where(self.logarithmic, np.log(values), values)

    def numbers(self, coordinates: Array) -> Array:
        """Return the free numbers at some coordinates, (n_free,)."""
        with np.errstate(over="ignore"):
            return np.where(
                self.logarithmic, np.exp(np.where(self.logarithmic, coordinates, 0.0)), coordinates
            )

    def _of_free(self, key: str) -> Array:
        return np.array([getattr(self.scalars[k], key) for k in self.free], dtype=np.float64)

    @property
    def start(self) -> Array:
        """Coordinates where a fit begins, (n_free,)."""
        return self.coordinates(self._of_free("start"))

    @property
    def bounds(self) -> tuple[Array, Array]:
        """Lower and upper coordinates, (n_free,) each."""
        return self.coordinates(self._of_free("lower")), self.coordinates(self._of_free("upper"))

    @property
    def expected(self) -> Array:
        """Coordinates that are expected beforehand, (n_free,)."""
        return self.coordinates(self._of_free("expected"))

    @property
    def deviation(self) -> Array:
        """Standard deviations of these, infinite where nothing is known, (n_free,)."""
        return self._of_free("deviation")

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the free numbers."""
        return tuple(self.scalars[k].name for k in self.free)

    def all_numbers(self, coordinates: Array) -> Array:
        """Return all numbers, those that are held or follow others too, (n_scalars,)."""
        found = np.array([s.start for s in self.scalars])
        found[self.free] = self.numbers(coordinates)
        for k, s in enumerate(self.scalars):
            if s.leader >= 0:
                found[k] = s.multiple * found[s.leader]
        return found

    def _by_coordinates(self, coordinates: Array) -> Any:
        """Derivative of all numbers by the coordinates, sparse (n_scalars, n_free)."""
        from scipy.sparse import coo_array

        n = len(self.free)
        slope = np.where(self.logarithmic, self.numbers(coordinates), 1.0)
        row, column, value = [self.free], [np.arange(n)], [slope]
        place = {int(k): j for j, k in enumerate(self.free)}
        for k, s in enumerate(self.scalars):
            if s.leader in place:
                j = place[s.leader]
                row.append(np.array([k]))
                column.append(np.array([j]))
                value.append(np.array([s.multiple * slope[j]]))
        where = np.concatenate(row), np.concatenate(column)
        return coo_array((np.concatenate(value), where), shape=(len(self.scalars), n)).tocsr()

    # --- arrays ------------------------------------------------------------------------------------

    def made(self, coordinates: Array) -> Made:
        """Return the arrays that follow from coordinates, and their derivatives by these, (n_values, n_free)."""
        numbers, by = self.all_numbers(coordinates), self._by_coordinates(coordinates)
        targets = dict(self._base)
        first = 0
        for number, parameter in enumerate(self.parameters):
            chosen, surface = self._chosen[number], self._surfaces[number]
            count = 1 if surface is None else len(surface[0].z)
            own = first + np.arange(count)
            first += count
            n = len(chosen)
            points = Traced(numbers[own], np.arange(count), own, np.ones(count))
            if surface is None:
                value = points.spread((n,))
            else:
                logs = surface[0].on_logarithms
                there = (points.log() if logs else points).times(surface[1])
                there = there.exp() if logs else there
                place = np.flatnonzero(chosen)
                whole = np.ones(n)
                whole[place] = there.values
                value = Traced(whole, place[there.row], there.column, there.slope)
            change(targets, parameter.edit(), value, chosen)
        inputs, slopes = {}, {}
        for name, target in targets.items():
            values = target.values * self.model.traces.measures.get(name, 1.0)
            inputs[name] = values.values
            slopes[name] = (values.matrix(len(self.scalars)) @ by).tocsr()
        return Made(inputs, slopes)

    def cells_of(self, name: str) -> Index:
        """Return the cell that each value of an array stands in, (n,)."""
        return self._base[name].cells

    def model_with(self, coordinates: Array) -> Model:
        """Return the model with its parameters at some coordinates.

        Raises
        ------
        InputError
            If an array would hold what cannot be, as a conductivity below 0.
        """
        return self.model.with_changes(self.made(coordinates).inputs)

    def edits(self, coordinates: Array) -> list[Edit]:
        """Return the edits of a site that make the same of it."""
        numbers, found, first = self.all_numbers(coordinates), [], 0
        for parameter, surface in zip(self.parameters, self._surfaces, strict=True):
            if surface is None:
                found.append(parameter.edit(float(numbers[first])))
                first += 1
            else:
                count = len(surface[0].z)
                found.append(parameter.edit(replace(surface[0], z=numbers[first : first + count])))
                first += count
        return found

    def dropped(self, name: str) -> tuple[str, ...]:
        """Return the pilot points of a parameter that lie outside what it is of, by name."""
        return self._dropped.get(name, ())

    def _over_cells(self, name: str) -> tuple[int, Any, Any]:
        """Of a parameter with pilot points: its number, rows from them to plan cells, and these."""
        number = [q.name for q in self.parameters].index(name)
        target = self._base[changed_by(self.parameters[number].edit())[0]]
        surface = self._surfaces[number]
        assert surface is not None  # asked of those with pilot points
        cells = target.cells[self._chosen[number]]
        plan, first = np.unique(self.model.grid.cells.plan_cell[cells], return_index=True)
        return number, surface[1][first], plan

    def field_of(self, name: str, coordinates: Array) -> Array:
        """Return the field of a parameter with pilot points over the plan, NaN where it is not, (n_plan,)."""
        number, rows, plan = self._over_cells(name)
        own = [k for k, s in enumerate(self.scalars) if s.parameter == number]
        surface, values = self._surfaces[number], self.all_numbers(coordinates)[own]
        assert surface is not None
        found = np.full(self.model.grid.mesh.n_cells, np.nan)
        logs = surface[0].on_logarithms
        found[plan] = np.exp(rows @ np.log(values)) if logs else rows @ values
        return found

    def field_deviation(self, name: str, coordinates: Array, covariance: Array) -> Array:
        """Return the standard deviation of that field as kriged from its points, of logarithms where these are fitted."""
        number, rows, plan = self._over_cells(name)
        place = {int(k): j for j, k in enumerate(self.free)}
        own = [k for k, s in enumerate(self.scalars) if s.parameter == number]
        mine = [j for j, k in enumerate(own) if k in place]
        part = rows[:, mine]
        cov = covariance[np.ix_([place[own[j]] for j in mine], [place[own[j]] for j in mine])]
        found = np.full(self.model.grid.mesh.n_cells, np.nan)
        found[plan] = np.sqrt(np.maximum(np.asarray((part @ cov) * part.toarray()).sum(axis=1), 0.0))
        return found

    def kriging_variance(self, name: str, variance: float) -> Array:
        """Return the variance that kriging leaves between pilot points, (n_plan,), of a field with some variance."""
        number, rows, plan = self._over_cells(name)
        surface, mesh = self._surfaces[number], self.model.grid.mesh
        assert surface is not None
        curve = surface[0].variogram
        whole = curve.covariance(surface[0].x, surface[0].y)
        sill = float(whole[0, 0])
        points = curve.stretched(surface[0].x, surface[0].y)
        cells = curve.stretched(mesh.x[plan], mesh.y[plan])
        apart = np.linalg.norm(cells[:, None, :] - points[None, :, :], axis=2)
        cross = sill - curve.nugget - curve.at(apart)
        weights = rows.toarray()
        left = sill - 2.0 * (weights * cross).sum(axis=1) + ((weights @ whole) * weights).sum(axis=1)
        found = np.full(mesh.n_cells, np.nan)
        found[plan] = variance * np.maximum(left, 0.0) / sill
        return found

    def groups(self) -> list[tuple[Parameter, Index, PointSurface]]:
        """Return of each parameter with pilot points which free numbers stand at them, and the surface of all."""
        place = {int(k): j for j, k in enumerate(self.free)}
        found = []
        for number, surface in enumerate(self._surfaces):
            if surface is not None:
                mine = [place[k] for k, s in enumerate(self.scalars) if s.parameter == number and k in place]
                found.append((self.parameters[number], np.array(mine, dtype=np.int64), surface[0]))
        return found
