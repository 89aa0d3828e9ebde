"""Pictures one after the other, as a film."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator, Sequence
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING, Any

from inkhorn.draw.saving import blank_figure, dots_of_figure
from inkhorn.draw.style import MARKS
from inkhorn.errors import InputError
from inkhorn.files import written_whole
from inkhorn.progress import Progress
from inkhorn.unit_choice import UnitChoice

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

__all__ = ["film"]

_COLOURS = 256
_SIZE = 0.75  # of a picture that stands alone: 960 × 600 dots


def film(
    path: Path | str,
    paint: Callable[[Axes, int], Any],
    steps: Sequence[int],
    *,
    rate: float = 4.0,
    units: UnitChoice | None = None,
    progress: Progress | None = None,
) -> Path:
    """Draw a picture for each of some steps, and save them as a film; the file is there whole or not at all.

    Parameters
    ----------
    path : Path or str
        A file that ends in .gif; or in .mp4, where `ffmpeg` is found, which writes it.
    paint : callable
        Draws one step: takes Axes and the step. Give it the `span` of all, see `span_of`.
    steps : sequence of int
        In order.
    rate : float
        Pictures a second.
    units : UnitChoice, optional
        What to show values in.
    progress : callable, optional
        Told how it goes.

    Returns
    -------
    Path

    Raises
    ------
    InputError
        If there is no step, the file's ending is another, or nothing can write it.

    Examples
    --------
    >>> def paint(ax, k):
    ...     ik.draw.heads(flow, step=k, span=(20, 45), ax=ax)
    >>> ik.draw.film("heads.gif", paint, range(40))  # doctest: +SKIP
    """
    path = Path(path)
    if not len(steps):
        raise InputError("a film of no steps was asked for; expected one or more.")
    if path.suffix not in (".gif", ".mp4"):
        raise InputError(
            f'a film cannot be written as "{path.name}"; expected a name that ends in .gif or .mp4.'
        )
    if path.suffix == ".mp4" and shutil.which("ffmpeg") is None:
        raise InputError(
            f'"{path.name}" needs the program ffmpeg, which is not on this machine. Name a .gif, or install ffmpeg.'
        )

    pictures = _pictures(paint, steps, units, progress)
    with written_whole(path) as beside:
        if path.suffix == ".gif":
            some = [steps[k] for k in sorted({0, len(steps) // 2, len(steps) - 1})]
            _as_gif(beside, pictures, list(_pictures(paint, some, units, None)), rate)
        else:
            _as_mp4(beside, pictures, rate)
    return path


def _pictures(
    paint: Callable[[Axes, int], Any],
    steps: Sequence[int],
    units: UnitChoice | None,
    progress: Progress | None,
) -> Iterator[Any]:
    """One picture after the other."""
    from PIL import Image

    for k, step in enumerate(steps):
        if progress is not None:
            progress("drawing the film", k / len(steps))

        def fill(figure: Figure, step: int = step) -> None:
            paint(figure.subplots(), step)

        yield Image.fromarray(dots_of_figure(blank_figure(size=_SIZE), fill, units))


def _as_gif(path: Path, pictures: Iterator[Any], some: Sequence[Any], rate: float) -> None:
    """One palette for all, that of some of them and the colours of small marks, so that nothing flickers or pales."""
    import numpy as np
    from matplotlib.colors import to_rgb
    from PIL import Image

    together = Image.fromarray(np.vstack([np.asarray(picture) for picture in some]))
    usual = _COLOURS - len(MARKS)
    most = together.quantize(usual, method=Image.Quantize.MEDIANCUT, dither=Image.Dither.NONE)
    marks = [round(255 * part) for colour in MARKS for part in to_rgb(colour)]
    palette = Image.new("P", (1, 1))
    palette.putpalette([*(most.getpalette() or [])[: 3 * usual], *marks])
    shown = (p.quantize(palette=palette, dither=Image.Dither.NONE) for p in pictures)
    next(shown).save(
        path,
        format="gif",
        save_all=True,
        append_images=shown,
        duration=round(1000.0 / rate),
        loop=0,
        optimize=False,
    )


def _as_mp4(path: Path, pictures: Any, rate: float) -> None:
    """By the program ffmpeg, which takes dots as they come."""
    import subprocess

    first = next(pictures)
    command = [
        *("ffmpeg", "-y", "-loglevel", "error", "-f", "rawvideo", "-pix_fmt", "rgb24"),
        *("-s", f"{first.width}x{first.height}", "-r", f"{rate:g}", "-i", "-"),
        *("-pix_fmt", "yuv420p", "-f", "mp4", str(path)),
    ]
    writer = subprocess.Popen(command, stdin=subprocess.PIPE, stderr=subprocess.PIPE)
    assert writer.stdin is not None  # both are pipes
    assert writer.stderr is not None
    try:
        for picture in chain([first], pictures):
            writer.stdin.write(picture.tobytes())
        writer.stdin.close()
    except BaseException as problem:
        writer.kill()
        writer.wait()
        if isinstance(problem, BrokenPipeError):
            raise InputError(
                f"ffmpeg stopped: {writer.stderr.read().decode(errors='replace').strip()}"
            ) from None
        raise
    if writer.wait():
        raise InputError(f"ffmpeg stopped: {writer.stderr.read().decode(errors='replace').strip()}")
