"""What several products need, said before anything is solved."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from inkhorn.errors import InputError
from inkhorn.model import Finding, Model
from inkhorn.project import Project

__all__ = ["lacking_porosity", "left_out_in_time", "too_much"]


def lacking_porosity(project: Project, model: Model, what: str, table: str) -> Iterator[Finding]:
    """Say which materials lack a porosity."""
    if model.porosity is None:
        site = project.site
        lacking = [n for n in site.strata.names if site.materials[n].porosity is None]
        names = ", ".join(dict.fromkeys(site.materials[n].name for n in lacking))
        yield Finding(
            "error",
            f"for {what} there lacks the porosity of {names}",
            f"{project.path.name}, [{table}]",
            f"Give it for every material, or take out [{table}].",
        )


def too_much(refuse: Callable[[], None], where: str) -> Iterator[Finding]:
    """An error where what is asked for is more than is allowed, found before anything is solved."""
    try:
        refuse()
    except InputError as problem:
        yield Finding("error", str(problem), where, "")


def left_out_in_time(project: Project, model: Model, what: str, table: str) -> Iterator[Finding]:
    """Say what follows steady flow only so far; `what` ends in "is" or "are"."""
    if model.schedule is not None:
        it = "it follows" if what.endswith("is") else "they follow"
        yield Finding(
            "note",
            f"of a run through time {what} left out: {it} steady flow only so far",
            f"{project.path.name}, [{table}]",
            "Run it without [time].",
        )
