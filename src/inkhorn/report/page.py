"""The report of a run as one HTML page that needs nothing else."""

from __future__ import annotations

import base64
import gzip
import json
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING, Any

from inkhorn.errors import InputError
from inkhorn.files import written_whole
from inkhorn.report.contents import parts_of

if TYPE_CHECKING:
    from inkhorn.runs import Run

__all__ = ["report", "write_report"]


@cache
def _drawing_library() -> str:
    """The script that draws what is turned and slid, squeezed."""
    from plotly.offline import get_plotlyjs

    return base64.b64encode(gzip.compress(get_plotlyjs().encode("utf-8"), 9, mtime=0)).decode("ascii")


def _as_json(data: Any) -> str:
    """Data within a page: what would end its script is written otherwise."""
    text = json.dumps(data, ensure_ascii=False, separators=(",", ":"), allow_nan=False)
    return text.replace("<", "\\u003c")


def report(run: Run) -> str:
    """Return the report of a run as an HTML page.

    Parameters
    ----------
    run : Run
        As `inkhorn.open_run` gives it, of a run, a fit or many runs; what it has not made is left out.

    Returns
    -------
    str
        The page; it needs no network and no other file.
    """
    from jinja2 import Environment, PackageLoader, StrictUndefined
    from markupsafe import Markup

    environment = Environment(
        loader=PackageLoader("inkhorn.report", "assets"), autoescape=True, undefined=StrictUndefined,
        trim_blocks=True, lstrip_blocks=True,
    )  # fmt: skip
    environment.filters["as_json"] = lambda data: Markup(_as_json(data))  # escaped above
    parts = parts_of(run)
    assets = files("inkhorn.report") / "assets"
    style, script = (Markup((assets / name).read_text(encoding="utf-8")) for name in ("page.css", "page.js"))
    live = any(block.kind == "live" for part in parts for block in part.blocks)
    return environment.get_template("page.html").render(
        title=str(run.about.get("project") or "A run"),
        about=run.about,
        parts=parts,
        style=style,
        script=script,
        library=_drawing_library() if live else "",
    )


def write_report(run: Run, path: Path | str | None = None) -> Path:
    """Write the report of a run, and return where.

    Parameters
    ----------
    run : Run
        See `report`.
    path : Path or str, optional
        The file; ``report.html`` in the run's folder if not given. One that is there is written over.

    Raises
    ------
    InputError
        If the file does not end in .html.
    """
    path = run.path / "report.html" if path is None else Path(path)
    if path.suffix.lower() not in (".html", ".htm"):
        raise InputError(f'a report is an HTML file; "{path}" does not end in .html. Name it so.')
    page = report(run)
    path.parent.mkdir(parents=True, exist_ok=True)
    with written_whole(path) as beside:
        beside.write_text(page, encoding="utf-8")
    return path
