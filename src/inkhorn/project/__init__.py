"""The project file: what it can say, its variants, and reading all that it names into a site."""

from inkhorn.project.project import Project
from inkhorn.project.project_file import ProjectFile, project_model
from inkhorn.project.read_fit import FitPlan, Places
from inkhorn.project.read_vary import VaryPlan
from inkhorn.project.reader import read_project, read_site
from inkhorn.project.variants import variant_file

__all__ = [
    "FitPlan",
    "Places",
    "Project",
    "ProjectFile",
    "VaryPlan",
    "project_model",
    "read_project",
    "read_site",
    "variant_file",
]
