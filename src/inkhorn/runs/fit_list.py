"""A list of what a fit of a project could change, to start from."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from inkhorn.model import Model
from inkhorn.project import Project

__all__ = ["parameter_list"]

_MANY = 8  # features of a kind from which one factor stands for all


def _table(
    name: str, of: str, how: str, where: str, start: float, unit: str, span: float, why: str = ""
) -> str:
    def number(value: float) -> str:
        return f'"{value:.4g} {unit}"' if unit else f"{value:.4g}"

    lines = [
        "[[fit.parameter]]" + (f"{'':14s}# {why}" if why else ""),
        f'name = "{name}"',
        f'of = "{of}"',
        f'how = "{how}"',
    ]
    lines += [where] * bool(where)
    lines += [
        f"start = {number(start)}",
        f"lower = {number(start / span)}",
        f"upper = {number(start * span)}",
    ]
    return "\n".join(lines) + "\n"


def _properties(project: Project, model: Model) -> Iterator[str]:
    grid, site = model.grid, project.site
    for layer in dict.fromkeys(site.strata.whole_names):
        mine = np.isin(grid.cells.material_layer, grid.layers_named(layer))
        if not mine.any():
            continue
        k = float(np.exp(np.log(model.horizontal_conductivity[mine]).mean()))
        where = f'layers = ["{layer}"]'
        yield _table(f"conductivity of {layer}", "conductivity", "set", where, k, "m/day", 30.0)
    for name, unit in (
        (("specific_yield", ""), ("specific_storage", "1/m")) if model.schedule is not None else ()
    ):
        values = model.property_of(name)
        if values is None:
            continue
        for layer in dict.fromkeys(site.strata.whole_names):
            mine = np.isin(grid.cells.material_layer, grid.layers_named(layer))
            if mine.any() and values[mine].min() > 0.0:
                usual, span = (
                    float(np.exp(np.log(values[mine]).mean())),
                    3.0 if name == "specific_yield" else 30.0,
                )
                words = name.replace("_", " ")
                yield _table(f"{words} of {layer}", name, "set", f'layers = ["{layer}"]', usual, unit, span)


def _features(model: Model) -> Iterator[str]:
    for term in model.terms:
        declared = term.declared_inputs()
        for key, span in (("rate", 2.0), ("conductance", 10.0)):
            if key not in declared or term.kind in ("well", "collector", "seepage"):
                continue
            of, names = f"{term.kind}.{key}", list(term.feature_names)
            if len(names) > _MANY or len(names) == 1:
                why = f"one factor for {len(names)} of them" if len(names) > 1 else ""
                yield _table(
                    f"{term.kind} {key}" if len(names) > 1 else f"{key} of {names[0]}",
                    of,
                    "factor",
                    "",
                    1.0,
                    "",
                    span,
                    why,
                )
                continue
            for name in names:
                yield _table(f"{key} of {name}", of, "factor", f'feature = "{name}"', 1.0, "", span)


def parameter_list(project: Project, model: Model) -> str:
    """Return tables ``[[fit.parameter]]`` of all that a fit of a project could change, as it stands there now.

    Conductivities of layers, storage where flow goes through time, and factors on what features bring and let pass. What
    readings cannot tell of is found by `inkhorn fit --sensitivities`.
    """
    head = (
        "# what a fit could change, each with its bounds; leave out what is known.\n"
        "# `inkhorn fit --sensitivities` tells which of these the readings say anything of.\n\n[fit]\n"
    )
    return head + "\n" + "\n".join([*_properties(project, model), *_features(model)])
