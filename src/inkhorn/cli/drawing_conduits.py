"""The drawing commands for conduits of a run."""

from __future__ import annotations

from typing import Annotated

import typer

from inkhorn.cli.asked import LayerName, Output, RunFolder, When, step_of
from inkhorn.cli.drawing import Drawn, drawing

__all__: list[str] = []


@drawing.command("conduits")
def draw_conduits(run: RunFolder, layer: LayerName = None, time: When = None, out: Output = None) -> None:
    """Draw the conduits of a run over the heads of the rock: as wide as they carry much, coloured by how water flows."""
    from inkhorn import draw

    drawn = Drawn.of(run)
    step = step_of(drawn.flow, time)
    drawn.one("conduits", lambda ax: draw.conduits(drawn.flow, step=step, layer=layer, ax=ax), out)


@drawing.command("conduit-profile")
def draw_conduit_profile(
    run: RunFolder,
    begin: Annotated[
        str | None,
        typer.Option(
            "--from", help="A sinkhole; that farthest from the spring if not given.", metavar="NAME"
        ),
    ] = None,
    end: Annotated[
        str | None, typer.Option("--to", help="A spring; the first if not given.", metavar="NAME")
    ] = None,
    time: When = None,
    out: Output = None,
) -> None:
    """Draw the heads along the conduits of a run, with the water in them and the head in the rock."""
    from inkhorn import draw

    drawn = Drawn.of(run)
    step = step_of(drawn.flow, time)
    drawn.one(
        "conduit-profile", lambda ax: draw.conduit_profile(drawn.flow, begin, end, step=step, ax=ax), out
    )


@drawing.command("springs")
def draw_springs(run: RunFolder, out: Output = None) -> None:
    """Draw what the springs of the conduits of a run give in time, and what is let in."""
    from inkhorn import draw

    drawn = Drawn.of(run)
    drawn.one("springs", lambda ax: draw.spring_discharge(drawn.flow, ax=ax), out)
