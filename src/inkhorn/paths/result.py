"""What tracing leaves: the points of paths, how each ended, and what follows for wells."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.dates import time_in_words
from inkhorn.errors import InputError, check_positive
from inkhorn.flow import FlowResult
from inkhorn.paths.fates import words_of
from inkhorn.paths.starts import Starts
from inkhorn.shown import Shown
from inkhorn.space import area_of
from inkhorn.units import WithUnit, plain

if TYPE_CHECKING:
    import geopandas as gpd
    import pandas as pd
    import xarray as xr

__all__ = ["PathResult"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_ORIGIN = ["term", "feature", "end"]


@dataclass(frozen=True, eq=False)
class PathResult(Shown):
    """Particle paths of one tracing.

    Attributes
    ----------
    flow : FlowResult
        What they follow.
    points : pandas.DataFrame
        One row per point: path, time [day] since it began, x, y, z [m], layer, cell, speed [m/day] and whether it is a
        time mark. Points stand where a path turns. Empty where only ends were asked for.
    ends : pandas.DataFrame
        One row per path: where it began and when, where it ended and why, by which term and feature, its travel time
        [day], and the flow that it stands for [m³/day].
    backward : bool
        Whether the water was followed to where it came from.
    mark : float
        Time between marks [day].
    """

    flow: FlowResult = field(repr=False)
    points: pd.DataFrame
    ends: pd.DataFrame
    backward: bool
    mark: float

    @classmethod
    def of(
        cls, flow: FlowResult, starts: Starts, released: Array, first: Index, reason: Index, term: Index, named: Index,
        age: Array, place: Array, cell: Index, parts: Sequence[tuple[Any, ...]], origin: Array, backward: bool,
        mark: float,
    ) -> PathResult:  # fmt: skip
        """Put together what the tracer found."""
        import pandas as pd

        grid = flow.model.grid
        names = np.array(grid.layer_names, dtype=object)
        words = np.array(words_of(backward), dtype=object)
        kind, feature = np.full(len(reason), "", dtype=object), np.full(len(reason), "", dtype=object)
        for t in np.unique(term[term >= 0]):
            mine = term == t
            of = flow.model.terms[t]
            kind[mine] = of.kind
            feature[mine] = np.array(of.feature_names, dtype=object)[named[mine]]
        cells = grid.cells
        ends = pd.DataFrame(
            {
                "path": np.arange(len(reason)),
                "start": starts.name,
                "end": words[reason],
                "term": kind,
                "feature": feature,
                "travel time [day]": age,
                "flow [m³/day]": starts.flow,
                "start layer": names[starts.layer],
                "end layer": names[cells.layer[cell]],
                "start x [m]": starts.x,
                "start y [m]": starts.y,
                "start cell": first,
                "end x [m]": place[:, 0],
                "end y [m]": place[:, 1],
                "end z [m]": place[:, 2],
                "end cell": cell,
            }
        )
        if len(flow.steps) > 1:
            ends.insert(2, "released [day]", released)
        points = (
            _points(parts, origin, names, cells.layer) if parts else _points([], origin, names, cells.layer)
        )
        return cls(flow, points, ends, backward, mark)

    def __repr__(self) -> str:
        way = "backward" if self.backward else "forward"
        longest = self.ends["travel time [day]"].max() if len(self.ends) else 0.0
        return f"PathResult({len(self.ends)} paths {way}, longest {time_in_words(longest)})"

    def marks(self) -> pd.DataFrame:
        """Return the points at the time marks."""
        return self.points[self.points["mark"]]

    def lines(self) -> gpd.GeoDataFrame:
        """Return one line per path, with the columns of `ends`."""
        import geopandas as gpd
        import shapely

        self._need_points()
        crs = self.flow.model.site.crs if self.flow.model.site is not None else None
        xyz = self.points[["x [m]", "y [m]", "z [m]"]].to_numpy()
        path = self.points["path"].to_numpy()
        count = np.bincount(path, minlength=len(self.ends))
        alone = count[path] == 1  # a line has two points
        repeats = np.where(alone, 2, 1)
        lines = shapely.linestrings(np.repeat(xyz, repeats, axis=0), indices=np.repeat(path, repeats))
        return gpd.GeoDataFrame(self.ends, geometry=lines, crs=crs)

    def _need_points(self) -> None:
        if self.points.empty:
            raise InputError("only the ends of these paths were kept. Trace them with points=True.")

    def shares(self) -> pd.DataFrame:
        """Return what share of each start's water entered where (backward), or went where (forward).

        Returns
        -------
        pandas.DataFrame
            A row for each start (a well, a feature), term, feature and way of ending: flow [m³/day], share of that
            start's [%], mean travel time, weighted by flow, and the shortest [day].
        """
        import pandas as pd

        ends = self.ends.assign(_time=self.ends["travel time [day]"] * self.ends["flow [m³/day]"])
        groups = ends.groupby(["start", *_ORIGIN], sort=False)
        table = groups.agg(
            **{
                "flow [m³/day]": ("flow [m³/day]", "sum"),
                "_time": ("_time", "sum"),
                "shortest time [day]": ("travel time [day]", "min"),
            }
        )
        whole = table["flow [m³/day]"].groupby(level="start").transform("sum")
        table.insert(1, "share [%]", 100.0 * table["flow [m³/day]"] / whole)
        table.insert(2, "mean time [day]", table.pop("_time") / table["flow [m³/day]"])
        return pd.DataFrame(table.sort_values(["start", "flow [m³/day]"], ascending=[True, False]))

    def ages(self, younger_than: Sequence[WithUnit] = ()) -> pd.DataFrame:
        """Return how old the water at each start is, from paths followed backward, weighted by flow.

        Parameters
        ----------
        younger_than : sequence of float
            Ages of which the share of younger water is told [day].

        Returns
        -------
        pandas.DataFrame
            A row for each start: mean, and what a tenth, half and nine tenths are younger than [day]; the share that is
            younger than each age asked for, and the share that is not known, as it was in the ground at the start of the
            run or reached a time limit [%]. Ages of that count as they are, so the mean is then too low.
        """
        import pandas as pd

        if not self.backward:
            raise InputError("ages follow from paths followed backward. Trace with backward=True.")
        rows = []
        limits = [float(plain(v, "time", "younger_than")) for v in younger_than]
        for name, mine in self.ends.groupby("start", sort=False):
            order = np.argsort(mine["travel time [day]"].to_numpy())
            age = mine["travel time [day]"].to_numpy()[order]
            weight = mine["flow [m³/day]"].to_numpy()[order]
            along = (np.cumsum(weight) - 0.5 * weight) / weight.sum()
            open_ = ~mine["end"].str.startswith(("entered", "given"))
            row: dict[str, Any] = {"start": name, "mean [day]": np.average(age, weights=weight)}
            for share in (0.1, 0.5, 0.9):
                row[f"{share:.0%} younger than [day]"] = np.interp(share, along, age)
            for limit in limits:
                row[f"younger than {limit:g} days [%]"] = 100.0 * weight[age < limit].sum() / weight.sum()
            row["not known [%]"] = 100.0 * mine.loc[open_, "flow [m³/day]"].sum() / weight.sum()
            rows.append(row)
        return pd.DataFrame(rows).set_index("start")

    def zones(self, times: Sequence[WithUnit], *, layer: str | int | None = None) -> gpd.GeoDataFrame:
        """Return the zone around each start from which water gets there within some times, in plan.

        Every plan cell that a path crosses within the time, joined and with corners rounded by half a cell. For wells
        follow the water backward, with paths so many that they leave no cell out.

        Parameters
        ----------
        times : sequence of float
            [day].
        layer : str or int, optional
            Of this layer alone.

        Returns
        -------
        geopandas.GeoDataFrame
            A polygon for each start and time, with its area [m²].
        """
        import geopandas as gpd

        self._need_points()
        grid = self.flow.model.grid
        limits = [float(plain(v, "time", "times")) for v in times]
        check_positive("times", limits, unit="days")
        points = self.points
        if layer is not None:
            points = points[points["layer"] == grid.layer_names[grid.layer_index(layer)]]
        start = self.ends["start"].to_numpy()[points["path"].to_numpy()]
        plan = grid.mesh.locate(points["x [m]"].to_numpy(), points["y [m]"].to_numpy())
        rows = []
        for name in dict.fromkeys(self.ends["start"]):
            for limit in limits:
                mine = (
                    (start == name) & (points["time [day]"].to_numpy() <= limit * (1 + 1e-12)) & (plan >= 0)
                )
                cells = np.unique(plan[mine])
                zone = area_of(grid.mesh, cells)
                half = 0.5 * float(np.sqrt(np.median(grid.mesh.area[cells]))) if len(cells) else 0.0
                zone = _rounded(zone, half) if len(cells) > 8 else zone
                rows.append({"start": name, "time [day]": limit, "area [m²]": zone.area, "geometry": zone})
        crs = self.flow.model.site.crs if self.flow.model.site is not None else None
        return gpd.GeoDataFrame(rows, geometry="geometry", crs=crs)

    def contributing_areas(self, *, share: float = 0.5) -> gpd.GeoDataFrame:
        """Return where the water enters that goes to each well or other feature, in plan, from paths of all inflow.

        Plan cells of whose starts at least a share ends there. Where cells have few starts the rim is uneven: ask for
        ten or more in a cell.

        Parameters
        ----------
        share : float
            Of the flow that enters a cell.

        Returns
        -------
        geopandas.GeoDataFrame
            A polygon for each term and feature, with its area [m²] and the flow that gets there from it [m³/day].

        Raises
        ------
        InputError
            If the paths were followed backward.
        """
        import geopandas as gpd

        if self.backward:
            raise InputError(
                "areas of inflow follow from paths followed forward. Trace with starts_of_inflow."
            )
        mesh, ends = self.flow.model.grid.mesh, self.ends
        plan = mesh.locate(ends["start x [m]"].to_numpy(), ends["start y [m]"].to_numpy())
        flow = ends["flow [m³/day]"].to_numpy()
        whole = np.bincount(plan, flow, mesh.n_cells)
        rows = []
        for (term, feature), mine in ends.groupby(["term", "feature"], sort=False):
            if not feature:
                continue
            here = mine.index.to_numpy()
            to = np.bincount(plan[here], flow[here], mesh.n_cells)
            cells = np.flatnonzero((to >= share * whole) & (to > 0.0))
            area = area_of(mesh, cells)
            row = {"term": term, "feature": feature, "area [m²]": area.area, "flow [m³/day]": to[cells].sum()}
            rows.append({**row, "geometry": area})
        crs = self.flow.model.site.crs if self.flow.model.site is not None else None
        columns = ["term", "feature", "area [m²]", "flow [m³/day]", "geometry"]
        return gpd.GeoDataFrame(rows, columns=columns, geometry="geometry", crs=crs)

    def trajectories(self) -> xr.Dataset:
        """Return the points as trajectories by the CF conventions (ragged, contiguous): what NetCDF files hold."""
        import xarray as xr

        self._need_points()
        ordered = self.points
        count = np.bincount(ordered["path"], minlength=len(self.ends))
        point = "obs"
        metre = {"units": "m"}
        return xr.Dataset(
            {
                "time": (
                    point, ordered["time [day]"].to_numpy(),
                    {"long_name": "time since the particle began", "units": "days", "axis": "T"},
                ),
                "x": (point, ordered["x [m]"].to_numpy(), {**metre, "standard_name": "projection_x_coordinate"}),
                "y": (point, ordered["y [m]"].to_numpy(), {**metre, "standard_name": "projection_y_coordinate"}),
                "z": (point, ordered["z [m]"].to_numpy(), {**metre, "positive": "up", "axis": "Z"}),
                "speed": (point, ordered["speed [m/day]"].to_numpy(), {"units": "m day-1", "coordinates": "time x y z"}),
                "row_size": ("trajectory", count, {"long_name": "points of each path", "sample_dimension": point}),
                "start": ("trajectory", self.ends["start"].to_numpy(dtype=str)),
                "end": ("trajectory", self.ends["end"].to_numpy(dtype=str)),
                "feature": ("trajectory", self.ends["feature"].to_numpy(dtype=str)),
                "water": ("trajectory", self.ends["flow [m³/day]"].to_numpy(), {"units": "m3 day-1"}),
            },
            coords={"trajectory": ("trajectory", np.arange(len(self.ends)), {"cf_role": "trajectory_id"})},
            attrs={"Conventions": "CF-1.11", "featureType": "trajectory"},
        )  # fmt: skip


def _rounded(zone: Any, half: float) -> Any:
    """A zone with its corners rounded; strips one cell wide, as along a conduit, stay as they are."""
    smooth = zone.buffer(half).buffer(-2.0 * half).buffer(half)
    strips = zone.difference(smooth.buffer(half)).buffer(1.01 * half).intersection(zone)
    return smooth.union(strips)


def _points(
    parts: Sequence[tuple[Any, ...]], origin: Array, names: NDArray[Any], layer_of: Index
) -> pd.DataFrame:
    """The table of points, path by path in time."""
    import pandas as pd

    columns = ["path", "time [day]", "x [m]", "y [m]", "z [m]", "layer", "cell", "speed [m/day]", "mark"]
    if not parts:
        return pd.DataFrame({c: pd.Series(dtype=bool if c == "mark" else float) for c in columns})
    path, age, place, cell, speed, mark = (np.concatenate(v) for v in zip(*parts, strict=True))
    order = np.argsort(path, kind="stable")
    place = place[order]
    return pd.DataFrame(
        {
            "path": path[order],
            "time [day]": age[order],
            "x [m]": place[:, 0] + origin[0],
            "y [m]": place[:, 1] + origin[1],
            "z [m]": place[:, 2],
            "layer": names[layer_of[cell[order]]],
            "cell": cell[order],
            "speed [m/day]": speed[order],
            "mark": mark[order],
        }
    )
