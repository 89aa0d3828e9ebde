"""The drawing commands for local models."""

from __future__ import annotations

from inkhorn.cli.asked import GridName, LayerName, Output, SiteOrRun
from inkhorn.cli.drawing import Drawn, drawing

__all__: list[str] = []


@drawing.command("rim")
def draw_rim(of: SiteOrRun, layer: LayerName = None, grid: GridName = None, out: Output = None) -> None:
    """Draw the rim of a local model over the heads of its region: what each stretch is, and what flows across it.

    Of a project file before anything is solved, or of a run.
    """
    from inkhorn import draw
    from inkhorn.errors import InputError
    from inkhorn.runs.local import cut_of

    drawn = Drawn.of(of)
    if drawn.project.cut_from is None:
        raise InputError(f'"{of}" is of no local model: the project has no [cut_from].')
    cut = drawn.made.cut if drawn.made is not None else cut_of(drawn.project, grid)
    drawn.one("rim", lambda ax: draw.rim(cut, layer, ax=ax), out)
