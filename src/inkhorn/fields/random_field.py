"""Random fields: what they are, and making them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_finite, check_nonnegative, did_you_mean, place_words
from inkhorn.fields.cholesky import Cholesky
from inkhorn.fields.circulant import Circulant
from inkhorn.fields.conditioning import AtPoints, Kriged, covariance_left
from inkhorn.fields.method import FieldMethod
from inkhorn.fields.places import Places
from inkhorn.fields.sequential import Sequential
from inkhorn.fields.spectral import Spectral
from inkhorn.shown import Shown
from inkhorn.space import Grid, Surface, Variogram

__all__ = ["FIELD_METHODS", "FieldMaker", "MeasuredPoints", "RandomField"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]
Seed = int | np.random.SeedSequence

FIELD_METHODS: Mapping[str, type[FieldMethod]] = {
    m.name: m for m in (Circulant, Sequential, Spectral, Cholesky)
}
"""Ways of making random fields, by name."""
_FEW = 3000  # cells up to which the root of their covariance is made where there is no lattice


@dataclass(frozen=True, eq=False)
class MeasuredPoints:
    """Values measured at points, which a random field honours.

    Parameters
    ----------
    x, y : array_like of float, (m,)
        Places [m].
    values : array_like of float, (m,)
        What was measured, in the unit of what the field is of.
    layers : sequence of str
        The layer of each, as the grid or the strata call it; one name for all.
    deviations : array_like of float, (m,)
        Standard deviations, of natural logarithms where the field is one of logarithms; 0 for exact values.
    names : sequence of str
        What each is called.
    """

    x: ArrayLike
    y: ArrayLike
    values: ArrayLike
    layers: Sequence[str] | str
    deviations: ArrayLike = 0.0
    names: Sequence[str] = ()

    def __post_init__(self) -> None:
        n = np.atleast_1d(self.x).shape
        for key in ("x", "y", "values", "deviations"):
            given = np.atleast_1d(np.asarray(getattr(self, key), dtype=np.float64))
            if key == "deviations":
                given = np.broadcast_to(given, n)
                check_nonnegative("deviations of measured points", given)
            if given.shape != n:
                raise InputError(
                    f"measured points: x has {n[0]} numbers and {key} has {len(given)}. Give as many."
                )
            check_finite(f"{key} of measured points", given)
            object.__setattr__(self, key, given)
        layers = (self.layers,) * n[0] if isinstance(self.layers, str) else tuple(self.layers)
        names = tuple(self.names) or tuple(f"measured point {k + 1}" for k in range(n[0]))
        if len(layers) != n[0] or len(names) != n[0]:
            raise InputError(
                f"measured points: {n[0]} places, {len(layers)} layers, {len(names)} names. Give as many of each."
            )
        object.__setattr__(self, "layers", layers)
        object.__setattr__(self, "names", names)

    def __len__(self) -> int:
        return len(np.atleast_1d(self.x))

    def __repr__(self) -> str:
        return f"MeasuredPoints({len(self)})"


@dataclass(frozen=True, eq=False, kw_only=True)
class RandomField:
    """A random value at every place, alike at places that are near each other.

    Fields of logarithms are normal in these, so that values themselves are log-normal. A field may be the value of an
    `Edit`: then a model has one of it, that of its seed. `inkhorn.vary` draws many.

    Parameters
    ----------
    variogram : Variogram
        Variance (its sill), correlation lengths and direction, of logarithms where `logarithmic`. With a vertical range
        layers have to do with each other; without, each has a field of its own. Its nugget is a share of each cell's own.
    mean : float or Surface, optional
        In the unit of what the field is of; the geometric one where `logarithmic`. If not given: that of the values
        measured, or where the field is a factor, 1.
    logarithmic : bool
        Whether the field is one of natural logarithms.
    support : {"points", "averages"}
        Whether a cell has the value at its centre, or the mean of the field over its plan area, whose variance is less. A
        point measured stands at the centre of its cell in the first case, and where it is in the second.
    apart_by : str, optional
        A division into zones: places in different zones have nothing to do with each other.
    heights : {"beds", "centres"}
        Whether the distance up and down is that of layers in the mean, so that fields follow beds, or that of the centres
        of cells themselves.
    method : str, optional
        One of `FIELD_METHODS`; if not given, "circulant" where centres lie on an even lattice, else "cholesky" for few
        cells, "sequential" for many, and "spectral" for means over many.
    waves : int
        How many the spectral method adds.
    measured : MeasuredPoints, optional
        What it honours.
    seed : int
        Which of all fields it is where one alone is wanted.

    Examples
    --------
    >>> RandomField(mean=12.0, variogram=Variogram.of_lengths("exponential", 0.6, length=250.0))
    RandomField(exponential, variance 0.6, correlation length 250 m, of logarithms)
    """

    variogram: Variogram
    mean: float | Surface | None = None
    logarithmic: bool = True
    support: Literal["points", "averages"] = "points"
    apart_by: str | None = None
    heights: Literal["beds", "centres"] = "beds"
    method: Literal["circulant", "sequential", "spectral", "cholesky"] | None = None
    waves: int = 1000
    measured: MeasuredPoints | None = None
    seed: int = 0

    def __post_init__(self) -> None:
        if not self.variogram.ends:
            raise InputError(
                f"a random field needs a variance, and a {self.variogram.kind} variogram rises without end. Choose "
                "another kind."
            )
        for key, known in (
            ("support", ("points", "averages")),
            ("heights", ("beds", "centres")),
            ("method", (None, *FIELD_METHODS)),
        ):
            given = getattr(self, key)
            if given not in known:
                words = [k for k in known if k is not None]
                raise InputError(
                    f'random field: {key} is "{given}"; expected one of {words}.{did_you_mean(str(given), words)}'
                )
        if not 10 <= self.waves <= 1_000_000:
            raise InputError(f"random field: waves is {self.waves}; expected 10 to 1 000 000.")
        if isinstance(self.mean, int | float):
            check_finite("random field: mean", self.mean)
            if self.logarithmic and self.mean <= 0.0:
                raise InputError(
                    f"random field: mean is {self.mean:g}, which has no logarithm. Give one above 0, or say "
                    "logarithmic = false."
                )
        if self.logarithmic and self.measured is not None:
            values = np.asarray(self.measured.values)
            low = np.flatnonzero(values <= 0.0)
            if len(low):
                raise InputError(
                    f"random field: {self.measured.names[low[0]]} is {values[low[0]]:g}, which has no logarithm. Give "
                    "values above 0, or say logarithmic = false."
                )

    def __repr__(self) -> str:
        v = self.variogram
        of = ", of logarithms" if self.logarithmic else ""
        return f"RandomField({v.kind}, variance {v.sill:g}, correlation length {v.length:.4g} m{of})"


@dataclass(frozen=True, eq=False)
class _Group:
    """Places that have to do with each other: how fields are made there, and what they honour."""

    own: Index  # which of the maker's cells
    method: FieldMethod
    kriged: Kriged | None
    at_points: AtPoints | None
    measured: Index  # which of the measured points


class FieldMaker(Shown):
    """Makes random fields on some cells, set up once.

    Parameters
    ----------
    grid : Grid
    field : RandomField
    cells : array_like of int, (n,), optional
        Which have values; all if not given.
    base : float or array_like of float, (n,), optional
        What the field's mean multiplies, or of fields that are no logarithms is added to: of a factor what is there
        already. 1 or 0 if not given.
    zones : ndarray of int, (n_cells,), optional
        The zone of each cell of the grid, where the field is apart by zones.

    Attributes
    ----------
    methods : tuple of str
        By which fields are made, of each set of places that have to do with each other.
    notes : tuple of str
        What a person should know of how this goes.

    Raises
    ------
    InputError
        If the method asked for cannot be here: it names those that can. If a point lies in no cell.

    Examples
    --------
    >>> import inkhorn as ik
    >>> grid = ik.layered(ik.rectangles((0, 0, 500, 500), cell=50), [10, 0], names=["sand"])
    >>> field = RandomField(mean=12.0, variogram=Variogram.of_lengths("exponential", 0.6, length=100.0))
    >>> FieldMaker(grid, field).draw(7).shape
    (100,)
    """

    def __init__(
        self,
        grid: Grid,
        field: RandomField,
        cells: ArrayLike | None = None,
        *,
        base: ArrayLike | None = None,
        zones: Index | None = None,
    ) -> None:
        self.grid, self.field, self._zones = grid, field, zones
        self.cells = np.arange(grid.n_cells) if cells is None else np.asarray(cells, dtype=np.int64)
        self._notes: list[str] = []
        self.middle = self._middle(base)
        label = np.zeros(len(self.cells), dtype=np.int64)
        if field.apart_by is not None:
            if zones is None:
                raise InputError(
                    f'random field: no division "{field.apart_by}" was given. Give the zones of all cells.'
                )
            label = zones[self.cells]
        if field.variogram.vertical is None:
            label = label * len(grid.layer_names) + grid.cells.layer[self.cells]
        names, group = np.unique(label, return_inverse=True)
        home, number = self._measured_at(grid)
        if field.measured is not None and self.middle is None:
            free = [k for k in range(len(names)) if not (group[home] == k).any()]
            if free:
                raise InputError(
                    "random field: its mean is not given, and in some layer or zone nothing was measured that tells it. "
                    "Give a mean."
                )
        self.groups: list[_Group] = []
        for k in range(len(names)):
            own = np.flatnonzero(group == k)
            mine = np.flatnonzero(group[home] == k)
            self.groups.append(self._group(own, home[mine], number[mine]))
        self.methods = tuple(g.method.name for g in self.groups)

    def __repr__(self) -> str:
        how = ", ".join(dict.fromkeys(self.methods))
        held = 0 if self.field.measured is None else len(self.field.measured)
        return f"FieldMaker({len(self.cells)} cells, {how}{f', {held} measured points' if held else ''})"

    @property
    def notes(self) -> tuple[str, ...]:
        """What a person should know of how fields are made here."""
        return tuple(dict.fromkeys(self._notes))

    def without_measured(self) -> FieldMaker:
        """Return one of free fields about 0 (or 1 where logarithms are made) on the same cells."""
        free = replace(self.field, measured=None, mean=1.0 if self.field.logarithmic else 0.0)
        return FieldMaker(self.grid, free, self.cells, zones=self._zones)

    # --- setting up --------------------------------------------------------------------------------

    def _middle(self, base: ArrayLike | None) -> Array | None:
        """The mean at each cell, of logarithms where these are made; None where measurements tell it."""
        f, own = self.field, self.grid.cells
        mean: Any = f.mean
        if isinstance(mean, Surface):
            mean = mean.at(own.x[self.cells], own.y[self.cells])
        if mean is None:
            if base is None and f.measured is not None:
                return None
            mean = 1.0 if f.logarithmic else 0.0
        if base is not None:
            mean = mean * np.asarray(base, float) if f.logarithmic else mean + np.asarray(base, float)
        mean = np.broadcast_to(np.asarray(mean, dtype=np.float64), self.cells.shape)
        bad = np.flatnonzero(~np.isfinite(mean) | (f.logarithmic & (mean <= 0.0)))
        if len(bad):
            c = self.cells[bad[0]]
            raise InputError(
                f"random field: the mean is {mean[bad[0]]:g} at {place_words(own.x[c], own.y[c])} ({len(bad)} of "
                f"{len(mean)} cells). Expected a number{' above 0' if f.logarithmic else ''} everywhere."
            )
        return np.log(mean) if f.logarithmic else mean.copy()

    def _measured_at(self, grid: Grid) -> tuple[Index, Index]:
        """Which of the maker's cells each measured point lies in, in all layers that it is of, and which point it is."""
        points = self.field.measured
        if points is None:
            return np.empty(0, np.int64), np.empty(0, np.int64)
        place = np.full(grid.n_cells, -1)
        place[self.cells] = np.arange(len(self.cells))
        plan = grid.mesh.locate(points.x, points.y)
        x, y = np.asarray(points.x), np.asarray(points.y)
        home, number = [], []
        for k, layer in enumerate(points.layers):
            rows = grid.layers_named(layer, points.names[k])
            found = grid.cell_number[list(rows), plan[k]] if plan[k] >= 0 else np.empty(0, np.int64)
            found = place[found[found >= 0]]
            found = found[found >= 0]
            if not len(found):
                raise InputError(
                    f"random field: {points.names[k]} at {place_words(float(x[k]), float(y[k]))} lies in no cell of the "
                    f"{layer} that the field is on. Leave it out, or check its place."
                )
            home += found.tolist()
            number += [k] * len(found)
        return np.array(home, dtype=np.int64), np.array(number, dtype=np.int64)

    def _group(self, own: Index, home: Index, number: Index) -> _Group:
        f = self.field
        places = Places(self.grid, self.cells[own], f.variogram, f.support, f.heights == "centres")
        cell = np.searchsorted(own, home)
        points = None
        if len(number):
            assert f.measured is not None  # points are of it
            if f.support == "points":
                points = places.at_centres[cell]
            else:
                x, y = (np.asarray(v)[number] for v in (f.measured.x, f.measured.y))
                points = places.stretched(x, y, places.level[cell])
        extra = points if f.support == "averages" else None
        method = self._method(places, extra)
        if points is None:
            return _Group(own, method, None, None, number)
        deviation = np.asarray(f.measured.deviations)[number]  # type: ignore[union-attr]
        names = tuple(f.measured.names[k] for k in number)  # type: ignore[union-attr]
        kriged = Kriged(places, points, cell, deviation, self.middle is not None, names)
        drawn_after = (
            AtPoints(places, points) if f.support == "averages" and method.name == "circulant" else None
        )
        return _Group(own, method, kriged, drawn_after, number)

    def _method(self, places: Places, points: Array | None) -> FieldMethod:
        """The method that was asked for, or the one that suits."""
        f = self.field
        if f.method is None:
            self._look_at_cells(places)
            if Circulant.why_not(places) is None:
                try:
                    return self._circulant(places, points)
                except InputError:
                    self._notes.append("the range is too long for the circulant method; another is taken")
            if len(places) <= _FEW and Cholesky.why_not(places) is None:
                return Cholesky(places, points)
            return (
                Sequential(places)
                if Sequential.why_not(places) is None
                else Spectral(places, points, f.waves)
            )
        self._look_at_cells(places)
        why = FIELD_METHODS[f.method].why_not(places)
        if why is not None:
            can = [name for name, method in FIELD_METHODS.items() if method.why_not(places) is None]
            raise InputError(
                f'random field: the method "{f.method}" cannot be used: {why}. Those that can: {", ".join(can)}.'
            )
        if f.method == "circulant":
            return self._circulant(places, points)
        if f.method == "spectral":
            return Spectral(places, points, f.waves)
        return FIELD_METHODS[f.method](places, points)

    def _circulant(self, places: Places, points: Array | None) -> Circulant:
        like = next((g.method for g in self.groups if isinstance(g.method, Circulant)), None)
        return Circulant(places, points, like)

    def _look_at_cells(self, places: Places) -> None:
        """Note where cells are too wide for the range."""
        curve = places.variogram
        wide = np.sqrt(self.grid.cells.area[places.cells]).mean()
        length = curve.length / curve.ratio
        if wide > length:
            means = "" if places.support == "averages" else ", whose values at centres stand for all of them"
            self._notes.append(
                f"cells of {wide:.3g} m in the mean are wider than the correlation length of {length:.3g} m{means}"
            )

    # --- drawing -----------------------------------------------------------------------------------

    def normal(self, seed: Seed) -> Array:
        """Return a field before logarithms are undone: normal, its mean included, (n,)."""
        found = np.empty(len(self.cells))
        source = seed if isinstance(seed, np.random.SeedSequence) else np.random.SeedSequence(seed)
        children = np.random.SeedSequence(source.entropy, spawn_key=(*source.spawn_key, 0)).spawn(
            len(self.groups)
        )
        middle = np.zeros(len(self.cells)) if self.middle is None else self.middle
        for group, child in zip(self.groups, children, strict=True):
            found[group.own] = middle[group.own] + self._one(
                group, np.random.Generator(np.random.PCG64(child))
            )
        return found

    def _one(self, group: _Group, numbers: np.random.Generator) -> Array:
        """What a field differs from its mean by, at the places of a group."""
        field, at = group.method.made(numbers)
        nugget = self.field.variogram.nugget
        if nugget:
            field = field + np.sqrt(nugget) * numbers.standard_normal(len(field))
        if group.kriged is None:
            return field
        measured = self.field.measured
        assert measured is not None  # it is what is kriged
        if self.field.support == "points":
            at = field[group.kriged.cell]
        else:
            if group.at_points is not None:
                at = group.at_points.made(field, numbers)
            at = at + np.sqrt(nugget) * numbers.standard_normal(len(at))
        told = np.asarray(measured.values)[group.measured]
        told = np.log(told) if self.field.logarithmic else told
        if self.middle is not None:
            told = told - self.middle[group.own][group.kriged.cell]
        error = np.asarray(measured.deviations)[group.measured] * numbers.standard_normal(len(at))
        return field + group.kriged.times_weights(told - at - error)

    def draw(self, seed: Seed) -> Array:
        """Return a field, the same bits for the same seed, (n,).

        Parameters
        ----------
        seed : int or numpy.random.SeedSequence
        """
        found = self.normal(seed)
        return np.exp(found) if self.field.logarithmic else found

    def expected(self) -> Array:
        """Return the mean of all fields, of logarithms where these are made, measured points honoured, (n,)."""
        found = np.zeros(len(self.cells)) if self.middle is None else self.middle.copy()
        measured = self.field.measured
        for group in self.groups:
            if group.kriged is not None and measured is not None:
                told = np.asarray(measured.values)[group.measured]
                told = np.log(told) if self.field.logarithmic else told
                if self.middle is not None:
                    told = told - self.middle[group.own][group.kriged.cell]
                found[group.own] += group.kriged.times_weights(told)
        return found

    def covariance_times(self, vectors: ArrayLike) -> Array:
        """Return the covariance of all fields (of logarithms) times vectors, (n, k) gives (n, k)."""
        vectors = np.asarray(vectors, dtype=np.float64)
        found = np.zeros(vectors.shape)
        for group in self.groups:
            part = vectors[group.own]
            if group.kriged is not None:
                found[group.own] = covariance_left(group.kriged, group.method, part)
            else:
                nugget = self.field.variogram.nugget
                found[group.own] = group.method.covariance_times(part) + nugget * part
        return found
