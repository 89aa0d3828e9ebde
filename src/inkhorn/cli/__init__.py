"""The command line: parses, calls, prints; no calculation."""

# isort: off
import inkhorn._start  # noqa: F401  # first of all
from inkhorn.cli import beginning, solving, drawing_runs, drawing_conduits, drawing_local, results  # noqa: F401  # as help lists them
from inkhorn.cli.application import app, main
# isort: on

__all__ = ["app", "main"]
