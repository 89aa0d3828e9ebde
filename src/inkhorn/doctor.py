"""Whether all is well where Inkhorn is installed: versions, processors, caches, and a few exact answers."""

from __future__ import annotations

import os
import platform
import re
import tempfile
import time
from collections.abc import Callable, Iterator
from importlib.metadata import PackageNotFoundError, requires, version
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

if TYPE_CHECKING:
    from inkhorn.flow import FlowResult

__all__ = ["Trial", "surroundings", "trials", "versions"]

_SET = (
    "NUMBA_NUM_THREADS", "NUMBA_CACHE_DIR", "NUMBA_DISABLE_JIT", "OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS", "MPLBACKEND",
    "PYTHONPATH",
)  # fmt: skip


class Trial(NamedTuple):
    """What was tried, what came out, and how long it took.

    Attributes
    ----------
    what : str
    found : str
        What came out, or what went wrong.
    well : bool
    seconds : float
    """

    what: str
    found: str
    well: bool
    seconds: float


def versions() -> dict[str, str]:
    """Return the version of each package that Inkhorn needs; "missing" of one that is not there."""
    found = {"inkhorn": version("inkhorn"), "Python": platform.python_version()}
    for needed in requires("inkhorn") or ():
        if "extra ==" in needed:
            continue
        name = re.split(r"[^\w.-]", needed, maxsplit=1)[0]
        try:
            found[name] = version(name)
        except PackageNotFoundError:
            found[name] = "missing"
    return found


def surroundings() -> dict[str, str]:
    """Return what this machine offers, and what its environment says."""
    from inkhorn.sizes import LIMITS, limit
    from inkhorn.threads import processors

    found = {"machine": f"{platform.system()} {platform.release()}, {platform.machine()}"}
    found["processors used"] = f"{processors()} of {os.cpu_count()}"
    if hasattr(os, "sysconf") and "SC_PHYS_PAGES" in os.sysconf_names:
        found["memory"] = f"{os.sysconf('SC_PHYS_PAGES') * os.sysconf('SC_PAGE_SIZE') / 1e9:.1f} GB"
    for name in LIMITS:
        number = limit(name)
        found[f"limit of {name}"] = f"{number / 1e9:g} GB" if name == "memory" else f"{number:g}"
    found["compiled loops are kept"] = _cache()
    found |= {name: os.environ[name] for name in _SET if name in os.environ}
    return found


def _cache() -> str:
    """Where compiled loops are kept, and whether they can be."""
    said = os.environ.get("NUMBA_CACHE_DIR")
    place = Path(said) if said else Path(__file__).parent / "linear" / "__pycache__"
    nearest = next((p for p in (place, *place.parents) if p.exists()), place)
    if os.access(nearest, os.W_OK):
        return str(place if said else Path(__file__).parent)
    return f"nowhere, as {place} cannot be written to: every start compiles. Set NUMBA_CACHE_DIR to another folder"


def trials() -> Iterator[Trial]:
    """Try what Inkhorn rests on, against exact answers; nothing raises."""
    for what, trial in _TRIALS.items():
        begun = time.perf_counter()
        try:
            found, well = trial()
        except Exception as problem:  # of whatever kind: that is what is asked here
            found, well = f"{type(problem).__name__}: {problem}", False
        yield Trial(what, found, well, time.perf_counter() - begun)


def _slope(rows: int = 12) -> FlowResult:
    """Even flow down a slope of 2 per mille, from the left to the right [m/day: 0.016]."""
    import inkhorn as ik

    mesh = ik.rectangles((0.0, 0.0, 1000.0, 20.0 * rows), cell=20)
    ends = np.flatnonzero((mesh.x < 20) | (mesh.x > 980))
    term = ik.terms.FixedHeadTerm(cells=ends, head=12.0 - 0.002 * mesh.x[ends])
    grid = ik.layered(mesh, [0.0, -20.0], names=["sand"])
    model = ik.Model(grid, 8.0, porosity=0.25, terms=[term], water_table=ik.WaterTable(confined=True))
    return ik.solve_flow(model)


def _even_flow() -> tuple[str, bool]:
    flow = _slope()
    off = float(np.abs(flow.steps[-1].heads - (12.0 - 0.002 * flow.model.grid.mesh.x)).max())
    return f"heads off by {off:.0e} m", off < 1e-8


def _water_table() -> tuple[str, bool]:
    import inkhorn as ik

    mesh = ik.rectangles((0.0, 0.0, 1000.0, 100.0), cell=10)
    ends = np.flatnonzero((mesh.x < 10) | (mesh.x > 990))
    left, right = 18.0, 6.0
    term = ik.terms.FixedHeadTerm(cells=ends, head=np.where(mesh.x[ends] < 500, left, right))
    flow = ik.solve_flow(ik.Model(ik.layered(mesh, [30.0, 0.0]), 5.0, terms=[term]))
    exact = 5.0 * (left**2 - right**2) / (2.0 * 990.0) * 100.0  # Dupuit (1863), between the centres
    found = float(flow.steps[-1].term_flow[0].clip(min=0.0).sum())
    return f"{found:.2f} m³/day, by Dupuit {exact:.2f}", abs(found / exact - 1.0) < 0.01


def _many_cells() -> tuple[str, bool]:
    import inkhorn as ik

    mesh = ik.rectangles((0.0, 0.0, 2000.0, 2000.0), cell=20)
    grid = ik.layered(mesh, [-5.0 * k for k in range(6)])
    k = np.exp(np.random.default_rng(1).normal(size=grid.n_cells))
    held = ik.terms.FixedHeadTerm(cells=np.flatnonzero(grid.cells.x < 20), head=0.0)
    top = grid.uppermost
    rain = ik.terms.RechargeTerm(cells=top, rate=1e-3, area=grid.cells.area[top], feature_names=("rain",))
    flow = ik.solve_flow(ik.Model(grid, k, terms=[held, rain], water_table=ik.WaterTable(confined=True)))
    closure = flow.report.closure
    return f"{grid.n_cells:,} cells, balance closes to {closure:.0e}", closure < 1e-7


def _paths() -> tuple[str, bool]:
    import inkhorn as ik

    flow = _slope()
    traced = ik.trace(flow, ik.starts_at_points(flow, [[210.0, 105.0, -8.0]]))
    days = float(np.interp(910.0, traced.points["x [m]"], traced.points["time [day]"]))
    exact = (910.0 - 210.0) / (8.0 * 0.002 / 0.25)
    return f"{days:.1f} days, exactly {exact:.1f}", abs(days / exact - 1.0) < 1e-6


def _plume() -> tuple[str, bool]:
    import inkhorn as ik

    flow = _slope(3)
    start = np.where(np.abs(flow.model.grid.mesh.x - 300.0) < 60.0, 1.0, 0.0)
    salt = ik.Species("salt", background=0.0)
    plume = ik.solve_transport(flow, salt, duration=2000.0, initial=start, dispersion=ik.Dispersion(5.0))
    last = plume.records[-1].concentration
    middle = float((last * flow.model.grid.mesh.x).sum() / last.sum())
    exact = 300.0 + 2000.0 * 8.0 * 0.002 / 0.25
    well = abs(middle - exact) < 2.0 and float(last.min()) >= -1e-12
    return f"middle of a cloud at {middle:.1f} m, exactly {exact:.1f}", well


def _files() -> tuple[str, bool]:
    import geopandas as gpd
    import shapely

    import inkhorn as ik

    flow = _slope(2)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "grid.nc"
        ik.write_grid(flow.model.grid, path, {"head": flow.steps[-1].heads})
        same = bool((ik.read_grid(path).properties["head"] == flow.steps[-1].heads).all())
        shapes = gpd.GeoDataFrame({"name": ["one"]}, geometry=[shapely.box(0, 0, 1, 1)], crs="EPSG:25832")
        shapes.to_file(Path(folder) / "one.gpkg")
        same &= gpd.read_file(Path(folder) / "one.gpkg").to_crs(4326).crs is not None
    return "NetCDF and GeoPackage come back as they were written", same


def _pictures() -> tuple[str, bool]:
    from functools import partial

    from inkhorn.draw import heads, save_figure

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "heads.png"
        flow = _slope(6)
        save_figure(path, partial(_drawn, heads, flow))
        size = path.stat().st_size
    return f"a map of {size / 1e3:.0f} kB", size > 5000


def _drawn(draw: Callable[..., object], flow: FlowResult, figure: object) -> None:
    draw(flow, ax=figure.subplots())  # type: ignore[attr-defined]


_TRIALS: dict[str, Callable[[], tuple[str, bool]]] = {
    "even flow": _even_flow,
    "a water table": _water_table,
    "a larger system": _many_cells,
    "a particle's way": _paths,
    "a cloud that drifts": _plume,
    "files": _files,
    "pictures": _pictures,
}
