"""Placing a project's site, and looking for all that is wrong with it or that its products will lack."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from inkhorn.model import Finding, Findings, Model, check
from inkhorn.project import Project
from inkhorn.runs.fit import FitProduct
from inkhorn.runs.flow import FlowProduct
from inkhorn.runs.levels import LevelsProduct
from inkhorn.runs.local import LocalProduct, placed
from inkhorn.runs.paths import PathsProduct
from inkhorn.runs.plume import PlumeProduct
from inkhorn.runs.product import Product
from inkhorn.runs.vary import VaryProduct

__all__ = ["PRODUCTS", "check_project", "found_before"]

PRODUCTS: Sequence[Product[Any]] = (
    FlowProduct(), LocalProduct(), LevelsProduct(), PathsProduct(), PlumeProduct(),
)  # fmt: skip


def check_project(project: Project, grid: str | None = None) -> tuple[Model, Findings]:
    """Place the site on the grid asked for, or another of the project's by name, and look for mistakes."""
    site, unknown = project.site_on(grid), project.site.unknown_materials
    if unknown:  # supposed to be like the others, so that all other mistakes are seen, too
        known = [m.conductivity for m in site.materials.values() if m.conductivity is not None]
        guess = float(np.exp(np.mean(np.log(known)))) if known else 1.0
        supposed = {n: m if m.conducts else replace(m, conductivity=guess) for n, m in site.materials.items()}
        site = replace(site, materials=supposed)
    model = placed(project, grid, site)
    lacking = (
        Finding(
            "error",
            f'material "{m.name}" has no conductivity',
            f'{project.path.name}, [material."{m.name}"]',
            "Give one, or a transmissivity.",
        )
        for m in unknown
    )
    return model, Findings.of([*lacking, *found_before(project, model)])


def found_before(project: Project, model: Model) -> Findings:
    """Return what is known of a model before it is solved, and what the products asked for will lack."""
    return Findings.of([*project.findings, *check(model), *_lacking(project, model)])


def _lacking(project: Project, model: Model) -> Iterator[Finding]:
    for product in (*PRODUCTS, FitProduct(), VaryProduct()):
        for asked in product.requests(project, model):
            yield from product.lacks(project, model, asked)
