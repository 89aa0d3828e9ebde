"""Particle paths: rays in triangles, radial flow around wells, on any mesh, steady and in time."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_nonnegative, check_positive
from inkhorn.flow import FlowResult
from inkhorn.paths import fates
from inkhorn.paths.field import VelocityMaker
from inkhorn.paths.following import Particles, Tracer
from inkhorn.paths.result import PathResult
from inkhorn.paths.starts import Starts, starts_at_points
from inkhorn.paths.starts_of_flow import starts_at_wells
from inkhorn.paths.times import Window, released, windows_of
from inkhorn.progress import Progress
from inkhorn.site import Well
from inkhorn.sizes import refuse_beyond
from inkhorn.units import WithUnit, plain

__all__ = ["refuse_many_paths", "trace"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_BYTES_PER_PATH = 8000.0  # of a hundred points or so, in the tables
_BYTES_PER_END = 400.0
_PARTLY = ("chance", "pass", "end")


def refuse_many_paths(count: int, *, points: bool = True) -> None:
    """Refuse more paths than memory is allowed for.

    Raises
    ------
    InputError
        With the estimate and the limit.
    """
    each = _BYTES_PER_PATH if points else _BYTES_PER_END
    refuse_beyond("memory", count * each, f"{count:.3g} paths", "Ask for fewer.")


def trace(
    flow: FlowResult,
    start: Starts | Callable[[int], Starts] | Sequence[Any] | ArrayLike,
    *,
    backward: bool = False,
    max_time: WithUnit = 200.0 * 365.25,
    mark: WithUnit = 0.0,
    per_well: int = 24,
    release: Any = None,
    partly_taken: str = "chance",
    through_bores: bool = False,
    retardation: ArrayLike = 1.0,
    moisture: float = 0.0,
    stop_in: Any = None,
    points: bool = True,
    seed: int = 0,
    threads: int = 1,
    progress: Progress | None = None,
) -> PathResult:
    """Follow the water from wells, points, areas or wherever it enters, forward or backward, on any grid, in time.

    In every triangle of a cell the flow is that of Raviart and Thomas of the lowest order, which balances and in which
    the way is a straight ray and its time closed; around wells their radial flow is taken out first and added where a
    particle is, so it meets the bore where it stands. Up and down a particle keeps its share of the height of the water,
    beside what flows through floors and tops; the water table moves evenly over a step. Elastic storage moves no pores,
    and is no part of the velocity up and down.

    In conduits particles go with the water: in pipes one behind the other, mixed where pipes meet and in open shafts.
    Through walls they come and go by chance of what conduits take from a cell and give it. `retardation` is of the rock.

    A path ends where the water leaves the aquifer (backward: entered it), in a bore, at `max_time`, or at the end of the
    run (backward: its start). Water falls from above through cells that are not full at once, unless `moisture` is given.

    Parameters
    ----------
    flow : FlowResult
        Flow with porosity.
    start : Starts, callable, sequence of Well or str, or array_like of float (n, 3)
        From `starts_of_inflow` and its like; what makes them for the step of each release; wells or their names, by
        their rates at each release; or points x, y, z [m].
    backward : bool
        Follow the water to where it came from.
    max_time : float
        Longest travel time [day].
    mark : float
        Time between marks along the paths [day]; 0 for none.
    per_well : int
        About how many particles begin at each well, shared by what each cell gives.
    release : float, date or sequence of them, optional
        When particles begin, each at every time; the start of the run if not given (backward: its end).
    partly_taken : {"chance", "pass", "end"}
        In cells that give up a part of their water inside, as to a drain under rain: by chance of the share taken, as
        flow does; pass; or end there. Wells need none of these: what they take they take where they stand.
    through_bores : bool
        Go on where a bore gives water to other layers, by chance of its share; else paths end in bores.
    retardation : float or array_like, as of `Grid.per_cell`
        How much slower than the water a dissolved species moves.
    moisture : float
        Share of the volume that water fills on its way down above the water table; 0: it falls at once.
    stop_in : array_like of bool, (n_cells,), or shapely Polygon, optional
        Cells in which paths end.
    points : bool
        Keep the points of paths; else only their ends, in memory that does not grow with their length.
    seed : int
        Of all chance.
    threads : int
        That follow particles side by side; the paths are the same.
    progress : callable, optional
        Called with what is being done and its share, as `inkhorn.progress.Progress` says.

    Returns
    -------
    PathResult

    Raises
    ------
    InputError
        If porosity is missing, a start lies in no cell, a well is not there or moves no water, a time lies outside the
        run, or more paths are asked for than memory is allowed for.

    References
    ----------
    Cordes, C. & Kinzelbach, W. (1992), Continuous groundwater velocity fields and path lines in linear, bilinear, and
    trilinear finite elements, Water Resources Research 28(11), 2903-2911. Mosé, R., Siegel, P., Ackerer, P. & Chavent,
    G. (1994), Application of the mixed hybrid finite element approximation in a groundwater flow model, Water Resources
    Research 30(11), 3001-3012. Dormand, J. R. & Prince, P. J. (1980), A family of embedded Runge-Kutta formulae, Journal
    of Computational and Applied Mathematics 6(1), 19-26.

    Examples
    --------
    >>> from inkhorn.model import Model, terms
    >>> from inkhorn.space import layered, rectangles
    >>> from inkhorn.flow import solve_flow
    >>> grid = layered(rectangles((0, 0, 500, 100), cell=100), [0.0, -20.0])
    >>> ends = terms.FixedHeadTerm(cells=[0, 4], head=[10.0, 8.0])
    >>> paths = trace(solve_flow(Model(grid, 5.0, porosity=0.2, terms=[ends])), [(100.0, 50.0, -10.0)])
    >>> there = paths.points["x [m]"].sub(400.0).abs().idxmin()
    >>> round(float(paths.points["time [day]"][there]), 6)  # 300 m at 5 * 0.005 / 0.2 m/day
    2400.0
    """
    max_time, mark = plain(max_time, "time", "max_time"), plain(mark, "time", "mark")
    check_positive("max_time", max_time, unit="days")
    check_nonnegative("mark", mark, unit="days")
    check_nonnegative("moisture", moisture)
    check_positive("per_well", per_well)
    check_positive("threads", threads)
    if partly_taken not in _PARTLY:
        raise InputError(f'partly_taken is "{partly_taken}"; expected one of {list(_PARTLY)}.')
    maker = VelocityMaker(flow)
    windows = windows_of(flow, backward)
    release_at = released(flow, windows, release, backward)
    starts, clock = _starts(flow, start, backward, per_well, windows, release_at, maker)
    refuse_many_paths(len(starts), points=points)
    random = np.random.default_rng([seed, 1])  # another row of numbers than starts are drawn by
    left = {"chance": random.exponential(size=len(starts)), "pass": np.full(len(starts), np.inf)}.get(
        partly_taken, np.zeros(len(starts))
    )
    particles = Particles(starts, maker, clock, float(max_time), left)
    tracer = Tracer(
        maker,
        particles,
        starts,
        backward,
        float(mark),
        partly_taken,
        retardation,
        float(moisture),
        stop_in,
        points,
        int(threads),
        random,
    )
    if through_bores:
        tracer.through_bores = True
    for number, window in enumerate(windows):
        tracer.go_through(window, progress, (number, len(windows)))
        if not np.isin(particles.status, [fates.RUNNING, fates.IN_PIPES]).any():
            break
    tracer.out_of_time()
    return tracer.result(starts, clock, backward)


def _starts(
    flow: FlowResult,
    start: Any,
    backward: bool,
    per_well: int,
    windows: list[Window],
    release: Array,
    maker: VelocityMaker,
) -> tuple[Starts, Array]:
    """Starts of any kind at every time of release, and these times by the clock."""
    given: Any = start if isinstance(start, Starts) or callable(start) else list(start)
    if not callable(given) and not len(given):
        raise InputError(
            "nothing to start from: `start` is empty. Give wells, their names, or points x, y, z."
        )
    if isinstance(given, Starts):
        refuse_many_paths(len(given) * len(release))
        return (given.repeated(len(release)) if len(release) > 1 else given), np.tile(release, len(given))
    wells = not callable(given) and all(isinstance(s, Well | str) for s in given)
    if not callable(given):
        refuse_many_paths(len(given) * (per_well if wells else 1) * len(release))
    parts: list[Starts] = []
    for clock in release.tolist():
        window = next((w for w in windows if w.begin <= clock < w.end), windows[-1])
        if callable(given):
            parts.append(given(window.step))
        elif wells:
            names = [s.name if isinstance(s, Well) else s for s in given]
            parts.append(
                starts_at_wells(
                    flow, names, backward=backward, per_well=per_well, step=window.step, maker=maker
                )
            )
        else:
            lasting = window.end - window.begin
            passed = (clock - window.begin) / lasting if 0.0 < lasting < np.inf else 0.0
            share = 1.0 - passed if backward else passed
            points = np.asarray(given, dtype=np.float64)
            parts.append(starts_at_points(flow, points, step=window.step, share=share, maker=maker))
    whole = parts[0]
    for more in parts[1:]:
        whole = whole + more
    whole = replace(whole, flow=whole.flow / len(release))  # so that all together stand for their mean
    return whole, np.repeat(release, [len(part) for part in parts])
