"""The run of a region that a local model is cut out of."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path
from typing import Any, NamedTuple

from inkhorn.errors import InputError
from inkhorn.files.reading import text_of

__all__ = ["RegionRun", "region_of"]


class RegionRun(NamedTuple):
    """Where the region's run is, and its project as it was run."""

    folder: Path
    project: Path
    variant: Path | None


def region_of(project: Path, known: str | None) -> RegionRun | None:
    """Return the region's run that a project file names; none if it names none.

    Parameters
    ----------
    project : Path
        The project file.
    known : str, optional
        Where the folder was found before, of inputs that a run kept.

    Raises
    ------
    InputError
        If there is no such run, or it is not whole or of another kind.
    """
    try:
        said: Any = tomllib.loads(text_of(project)).get("cut_from")
    except (InputError, tomllib.TOMLDecodeError, RecursionError):
        return None  # it is told where the file is read
    if not isinstance(said, dict) or not isinstance(said.get("run"), str):
        return None
    folder = Path(known) if known else project.parent / said["run"]
    where = f"{project.name}, [cut_from]"
    try:
        about = json.loads((folder / "about.json").read_text(encoding="utf-8"))
    except (OSError, ValueError):
        raise InputError(
            f'{where}: there is no run of a region in "{folder}". Run the region first, and name its folder in `run`.'
        ) from None
    kind, state = about.get("kind"), about.get("state")
    if kind not in ("run", "fit") or state != "whole":
        raise InputError(
            f'{where}: "{folder}" is of `inkhorn {kind}` and {state}; expected a run or a fit that is whole.'
        )
    inputs = folder / "inputs"
    path, variant = inputs / str(about.get("file")), about.get("variant")
    if not path.is_file():
        raise InputError(f'{where}: the inputs of "{folder}" are not there any more. Run the region again.')
    over = inputs / "variants" / f"{variant}.toml" if variant else None
    if kind == "fit":  # what it found, and the variant that was fitted
        over = folder / "fitted.toml"
        if not over.is_file():
            raise InputError(
                f'{where}: "{folder}" has no fitted.toml, which says what the fit found. Fit again.'
            )
    return RegionRun(folder.resolve(), path, over)
