"""The drawing commands for runs that were made: maps, films, budgets, exchange, levels, paths, plumes."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from inkhorn.cli.asked import Exaggeration, LayerName, Output, RunFolder, When, corners_of, place_of, step_of
from inkhorn.cli.drawing import Drawn, drawing

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from matplotlib.axes import Axes

__all__: list[str] = []

_FRAMES = 40  # of a film of paths

Shows = Annotated[
    str | None,
    typer.Option(
        "--show",
        help="Some of fill, lines, dry, flooded, arrows, with commas between; all but the last if not given.",
        metavar="WORDS",
    ),
]
Photo = Annotated[
    str | None,
    typer.Option("--picture", help="The site's picture: under, over or away.", metavar="WORD"),
]
InTime = Annotated[
    bool,
    typer.Option("--in-time", help="A film of all steps up to --time, GIF, or MP4 by the name of --out."),
]


def _shown(text: str | None, usual: Sequence[str]) -> list[str]:
    return list(usual) if text is None else [word.strip() for word in text.split(",") if word.strip()]


def _laid(paint: Callable[[Axes], Any], picture: str | None) -> Callable[[Axes], Any]:
    """Draw, and lay the site's picture where it is wanted."""
    from inkhorn import draw

    def both(ax: Axes) -> None:
        paint(ax)
        if picture is not None:
            draw.lay_picture(ax, picture)

    return both


def _map_of_flow(
    run: Path,
    what: str,
    out: Path | None,
    *,
    time: str | None,
    show: str | None,
    picture: str | None,
    in_time: bool,
    usual: Sequence[str] | None = None,
    **options: Any,
) -> None:
    """Draw one of the maps of flow, or a film of it."""
    from inkhorn import draw

    drawn = Drawn.of(run)
    flow = drawn.flow
    if "layer" in options:
        options["layer"] = options["layer"] or flow.model.grid.layer_names[0]
    shown, last = _shown(show, usual or draw.SHOWN), step_of(flow, time)
    name = f"{what}-{options['layer']}" if "layer" in options else what
    made = draw.flow_map(what, flow, **options)

    def paint(ax: Axes, step: int, span: Any = None) -> None:
        _laid(lambda a: made.draw(step, shown, span, a), picture)(ax)

    if in_time:
        drawn.film(name, paint, range(last + 1), out, made.span)
    else:
        drawn.one(name, lambda ax: paint(ax, last), out)


@drawing.command("heads")
def draw_heads(
    run: RunFolder,
    layer: LayerName = None,
    time: When = None,
    show: Shows = None,
    picture: Photo = None,
    in_time: InTime = False,
    out: Output = None,
) -> None:
    """Draw the heads of a layer of a run, with labelled lines; dry cells and water above ground marked."""
    _map_of_flow(run, "heads", out, time=time, show=show, picture=picture, in_time=in_time, layer=layer)


@drawing.command("water-table")
def draw_water_table(
    run: RunFolder,
    time: When = None,
    show: Shows = None,
    picture: Photo = None,
    in_time: InTime = False,
    out: Output = None,
) -> None:
    """Draw the level of the uppermost water of a run."""
    _map_of_flow(run, "water table", out, time=time, show=show, picture=picture, in_time=in_time)


@drawing.command("depth")
def draw_depth(
    run: RunFolder,
    time: When = None,
    show: Shows = None,
    picture: Photo = None,
    in_time: InTime = False,
    out: Output = None,
) -> None:
    """Draw how deep the uppermost water of a run lies below the ground."""
    _map_of_flow(run, "depth to water", out, time=time, show=show, picture=picture, in_time=in_time)


@drawing.command("drawdown")
def draw_drawdown(
    run: RunFolder,
    layer: LayerName = None,
    time: When = None,
    since: Annotated[
        str | None,
        typer.Option(help="A date, or days since the start; the first step if not given.", metavar="TIME"),
    ] = None,
    against: Annotated[
        Path | None, typer.Option(help="Another run, on any grid, instead of a time.", metavar="RUN")
    ] = None,
    show: Shows = None,
    picture: Photo = None,
    in_time: InTime = False,
    out: Output = None,
) -> None:
    """Draw by how much the heads of a layer are lower than at an earlier time, or than in another run."""
    from inkhorn.errors import InputError

    if since is not None and against is not None:
        raise InputError("give one of --since and --against.")
    options: dict[str, Any] = {"layer": layer}
    if against is not None:
        options |= {"against": Drawn.of(against).flow, "other": against.name}
    elif since is not None:
        options |= {"since": step_of(Drawn.of(run).flow, since, "--since")}
    usual = ("fill", "lines")
    _map_of_flow(
        run, "drawdown", out, time=time, show=show, picture=picture, in_time=in_time, usual=usual, **options
    )


@drawing.command("depletion")
def draw_depletion(
    run: RunFolder,
    of: Annotated[
        list[str],
        typer.Option(
            "--of", help="A river, spring, drain, lake or well; more with more --of.", metavar="FEATURE"
        ),
    ],
    layer: LayerName = None,
    picture: Photo = None,
    out: Output = None,
) -> None:
    """Draw which share of water pumped anywhere in a layer some features go without."""
    from inkhorn import draw

    drawn = Drawn.of(run)
    flow = drawn.flow
    layer = layer or flow.model.grid.layer_names[0]
    drawn.one(f"depletion-{layer}", _laid(lambda ax: draw.depletion(flow, of, layer, ax=ax), picture), out)


@drawing.command("head-surface")
def draw_head_surface(
    run: RunFolder,
    layer: Annotated[
        str | None, typer.Option("--layer", help="Which layer; the water table if not given.", metavar="NAME")
    ] = None,
    time: When = None,
    exaggeration: Exaggeration = None,
    out: Output = None,
) -> None:
    """Draw the water table, or the heads of a layer, as a surface seen from above and aside."""
    from inkhorn import draw

    drawn = Drawn.of(run)
    step = step_of(drawn.flow, time)

    def fill(figure: Any) -> None:
        ax = figure.add_axes((0.0, 0.0, 1.0, 0.98), projection="3d")
        draw.head_surface(drawn.flow, layer, step=step, exaggeration=exaggeration, ax=ax)

    drawn.save(f"head-surface-{layer or 'water-table'}", fill, out, margins=False)


@drawing.command("budget")
def draw_budget(
    run: RunFolder,
    by: Annotated[str, typer.Option(help="term, feature or layer.", metavar="WORD")] = "term",
    time: When = None,
    in_time: Annotated[bool, typer.Option("--in-time", help="Bands over the whole run.")] = False,
    out: Output = None,
) -> None:
    """Draw the water budget of a run: bars of one time, or bands in time."""
    from inkhorn import draw
    from inkhorn.errors import InputError

    if in_time and (time is not None or by != "term"):
        raise InputError("bands in time are of all times, by term. Leave out --time and --by, or --in-time.")
    drawn = Drawn.of(run)
    if in_time:
        drawn.one("budget-in-time", lambda ax: draw.budget_in_time(drawn.flow, ax=ax), out)
        return
    if by not in ("term", "feature", "layer"):
        raise InputError(f'--by is "{by}"; expected term, feature or layer.')
    step = step_of(drawn.flow, time)
    drawn.one(f"budget-by-{by}", lambda ax: draw.budget(drawn.flow, by=by, step=step, ax=ax), out)


@drawing.command("exchange")
def draw_exchange(
    run: RunFolder,
    by: Annotated[str, typer.Option(help="layer or region.", metavar="WORD")] = "layer",
    time: When = None,
    out: Output = None,
) -> None:
    """Draw what flows between the layers of a run, or its regions, and into and out of each."""
    from inkhorn import draw
    from inkhorn.errors import InputError

    if by not in ("layer", "region"):
        raise InputError(f'--by is "{by}"; expected layer or region.')
    drawn = Drawn.of(run)
    regions = drawn.project.cells_of_regions(drawn.flow.model.grid) if by == "region" else None
    if by == "region" and not regions:
        raise InputError(
            f"{drawn.project.path.name} names no region. Add a table [[region]] with a polygon and a name."
        )
    step = step_of(drawn.flow, time)
    drawn.one(
        f"exchange-by-{by}", lambda ax: draw.exchange(drawn.flow, regions=regions, step=step, ax=ax), out
    )


@drawing.command("convergence")
def draw_convergence(
    run: RunFolder,
    of: Annotated[str, typer.Option(help="closure or change.", metavar="WORD")] = "closure",
    out: Output = None,
) -> None:
    """Draw how the solver of a run came to its answer, Newton step by Newton step."""
    from inkhorn import draw

    drawn = Drawn.of(run)
    drawn.one(f"convergence-{of}", lambda ax: draw.convergence(drawn.flow, of=of, ax=ax), out)


@drawing.command("hydrographs")
def draw_hydrographs(
    run: RunFolder,
    bore: Annotated[
        list[str] | None,
        typer.Option(
            "--bore", help="A bore by name; may be given several times; all if not.", metavar="NAME"
        ),
    ] = None,
    at: Annotated[
        str | None, typer.Option(help="The heads at a place instead, as in 3700,2900.", metavar="X,Y[,Z]")
    ] = None,
    out: Output = None,
) -> None:
    """Draw measured and computed levels of bores in time, or the heads at any place."""
    from inkhorn import draw
    from inkhorn.calibration import curve_table
    from inkhorn.errors import InputError, did_you_mean

    drawn = Drawn.of(run)
    if at is not None:
        if bore:
            raise InputError("give one of --bore and --at.")
        place = place_of(at, "--at")
        drawn.one(f"heads-at-{at}", lambda ax: draw.heads_in_time(drawn.flow, *place, ax=ax), out)
        return
    made, flow = drawn.run.levels, drawn.flow
    if made.by_date is None or flow.model.schedule is None:
        raise InputError(
            "the run is not one through time from a date, so there are no levels in time. Give the project a table "
            "[time] with a `start`."
        )
    known = made.by_date["bore"].unique().tolist()
    for name in bore or []:
        if name not in known:
            raise InputError(
                f'the run has no levels of the bore "{name}"; it has {known}.{did_you_mean(name, known)}'
            )
    wanted = bore or known
    levels = made.by_date[made.by_date["bore"].isin(wanted)]
    curve = curve_table(flow, made.seen)
    drawn.save("hydrographs", lambda figure: draw.hydrographs(levels, curve, figure), out)


Named = Annotated[str, typer.Option("--name", help="Of several, which one.", metavar="NAME")]


@drawing.command("paths")
def draw_paths(
    run: RunFolder,
    name: Named = "",
    by: Annotated[str, typer.Option(help="Coloured by time, layer or end.", metavar="WORD")] = "time",
    picture: Photo = None,
    in_time: Annotated[
        bool,
        typer.Option("--in-time", help="A film of paths as they grow, GIF, or MP4 by the name of --out."),
    ] = False,
    out: Output = None,
) -> None:
    """Draw the particle paths of a run."""
    import numpy as np

    from inkhorn import draw

    drawn = Drawn.of(run)
    traced = drawn.run.paths(name)
    called = f"paths-{name}" if name else "paths"
    if in_time:
        ages = np.linspace(0.0, float(traced.points["time [day]"].max()), _FRAMES + 1)[1:]

        def paint(ax: Axes, k: int, scale: None = None) -> None:
            _laid(lambda a: draw.paths(traced, by=by, until=float(ages[k]), ax=a), picture)(ax)

        drawn.film(called, paint, range(_FRAMES), out, lambda steps: None)
        return
    drawn.one(called, _laid(lambda ax: draw.paths(traced, by=by, ax=ax), picture), out)


@drawing.command("travel-times")
def draw_travel_times(
    run: RunFolder,
    name: Named = "",
    histogram: Annotated[bool, typer.Option("--histogram", help="Bars instead of a curve.")] = False,
    out: Output = None,
) -> None:
    """Draw what share of the water of each start has a travel time below any: how old it is, followed backward."""
    from inkhorn import draw

    drawn = Drawn.of(run)
    traced = drawn.run.paths(name)
    drawn.one(
        f"travel-times-{name}" if name else "travel-times",
        lambda ax: draw.travel_times(traced, histogram=histogram, ax=ax),
        out,
    )


@drawing.command("zones")
def draw_zones(
    run: RunFolder,
    within: Annotated[
        list[str],
        typer.Option(
            "--within", help='A time, as in "10 years"; may be given several times.', metavar="TIME"
        ),
    ],
    name: Named = "",
    layer: Annotated[
        str | None, typer.Option("--layer", help="Of one layer; of all if not given.", metavar="NAME")
    ] = None,
    out: Output = None,
) -> None:
    """Draw the zones from which water gets to wells within some times, of paths that were followed backward."""
    from inkhorn import draw
    from inkhorn.units import plain

    drawn = Drawn.of(run)
    traced = drawn.run.paths(name)
    times = [float(plain(v, "time", "--within")) for v in within]
    called = "-".join(w for w in ("zones", name, layer) if w)
    drawn.one(called, lambda ax: draw.zones(traced, times, layer=layer, ax=ax), out)


Species = Annotated[
    str | None,
    typer.Option(
        "--species", help="Which, of several carried together; the first if not given.", metavar="NAME"
    ),
]


@drawing.command("plume")
def draw_plume(
    run: RunFolder,
    name: Named = "",
    species: Species = None,
    layer: Annotated[
        str | None,
        typer.Option("--layer", help="Which layer; the highest of all if not given.", metavar="NAME"),
    ] = None,
    time: Annotated[
        str | None,
        typer.Option(
            "--time", help="A date, or days since the start; the end if not given.", metavar="DATE|DAYS"
        ),
    ] = None,
    along: Annotated[
        str | None,
        typer.Option(
            "--along",
            help='In a section along corners in m, as in "0,0 500,300"; "" for the project\'s line.',
            metavar="CORNERS",
        ),
    ] = None,
    side_by_side: Annotated[
        bool, typer.Option("--side-by-side", help="Four times, each twice as late as the one before.")
    ] = False,
    picture: Photo = None,
    in_time: InTime = False,
    out: Output = None,
) -> None:
    """Draw the concentrations of a run in plan, or in a section."""
    from inkhorn import draw
    from inkhorn.errors import InputError

    if along is not None and (layer is not None or side_by_side or picture is not None):
        raise InputError(
            "--along shows all layers in a section, at one time or as a film. Leave --layer, --side-by-side and "
            "--picture out."
        )
    drawn = Drawn.of(run)
    made = drawn.run.transport(name, species)
    last = made.time_at(_date_or_days(time)) if time is not None else len(made.times) - 1
    called = "-".join(word for word in ("plume", name, species, layer) if word)

    if along is not None:
        called = f"{called}-section"
        line = corners_of(along or None, "--along") or drawn.project.section_line
        where, asked = draw.line_of(drawn.flow.model.grid.mesh, line, None, None), drawn.project.asked.draw

    def paint(ax: Axes, k: int, most: float | None = None) -> None:
        if along is None:
            _laid(lambda a: draw.plume(made, layer=layer, time=k, most=most, ax=a), picture)(ax)
            return
        step = _step_at(drawn.flow, float(made.times[k]))
        draw.section(
            drawn.flow,
            where,
            step=step,
            exaggeration=asked.exaggeration,
            plume=made,
            time=k,
            most=most,
            ax=ax,
        )

    if in_time:
        drawn.film(called, paint, range(last + 1), out, lambda steps: draw.highest_of(made, layer, steps))
    elif side_by_side:
        drawn.save(f"{called}-in-time", lambda figure: draw.snapshots(made, figure, layer=layer), out)
    else:
        drawn.one(called, lambda ax: paint(ax, last), out)


def _step_at(flow: Any, day: float) -> int:
    """The step of a flow in which a day lies; its last one where the flow is gone through again."""
    ends = [step.end for step in flow.steps]
    return next((k for k, end in enumerate(ends) if end >= day - 1e-9), len(ends) - 1)


def _date_or_days(text: str) -> float | str:
    from inkhorn.dates import one_date

    try:
        return float(text)
    except ValueError:
        return str(one_date(text, "--time"))


@drawing.command("concentrations")
def draw_concentrations(
    run: RunFolder,
    name: Named = "",
    species: Species = None,
    well: Annotated[
        list[str] | None,
        typer.Option(
            "--well",
            help="A well, another feature that takes water, or a bore, by name; may be given several times; those "
            "watched if not.",
            metavar="NAME",
        ),
    ] = None,
    out: Output = None,
) -> None:
    """Draw the concentrations in the water of wells, other features and bores in time."""
    from inkhorn import draw
    from inkhorn.errors import InputError

    drawn = Drawn.of(run)
    made = drawn.run.transport(name, species)
    watched = next((a.watch for a in drawn.project.asked.transport if a.name == name), [])
    wells = well or [n for n in watched if n in made.watched.columns]
    if not wells:
        raise InputError("nothing is watched that takes water. Name a well or a bore with --well.")
    drawn.one("concentrations", lambda ax: draw.breakthrough(made, wells, ax=ax), out)
