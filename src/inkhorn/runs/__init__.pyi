from .checking import check_project as check_project
from .comparing import Comparison as Comparison
from .comparing import compare_runs as compare_runs
from .comparing import write_comparison as write_comparison
from .journal import Journal as Journal
from .making import fit_project as fit_project
from .making import run_project as run_project
from .opening import Run as Run
from .opening import open_run as open_run

__all__ = [
    "Comparison",
    "Journal",
    "Run",
    "check_project",
    "compare_runs",
    "fit_project",
    "open_run",
    "run_project",
    "write_comparison",
]
