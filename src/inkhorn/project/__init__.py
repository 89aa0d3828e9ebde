"""The project file: what it can say, its variants, and reading all that it names into a site."""

from inkhorn.project.project import Project, read_project, read_site
from inkhorn.project.project_file import ProjectFile, project_model

__all__ = ["Project", "ProjectFile", "project_model", "read_project", "read_site"]
