from .checking import check_project as check_project
from .comparing import Comparison as Comparison
from .comparing import compare_runs as compare_runs
from .comparing import write_comparison as write_comparison
from .fit import knowledge_tables as knowledge_tables
from .fit_list import parameter_list as parameter_list
from .journal import Journal as Journal
from .making import fit_project as fit_project
from .making import look_before_fit as look_before_fit
from .making import run_project as run_project
from .making import vary_project as vary_project
from .opening import Run as Run
from .opening import open_run as open_run

__all__ = [
    "Comparison",
    "Journal",
    "Run",
    "check_project",
    "compare_runs",
    "fit_project",
    "knowledge_tables",
    "look_before_fit",
    "open_run",
    "parameter_list",
    "run_project",
    "vary_project",
    "write_comparison",
]
