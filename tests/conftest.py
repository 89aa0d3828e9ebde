"""Models that several tests share."""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
import pytest

import inkhorn as ik
from inkhorn.cli import main
from inkhorn.demo import write_demo, write_new


@pytest.fixture(scope="session")
def quillmere_folder(tmp_path_factory):
    folder = tmp_path_factory.mktemp("demo") / "quillmere"
    write_demo(folder)
    return folder


@pytest.fixture(scope="session")
def quillmere(quillmere_folder):
    """The demo on cells of 250 m, water table active, solved as tightly as rounding allows."""
    site = ik.read_site(quillmere_folder / "site.toml")
    model = ik.place(site, ik.rectangles(site.boundary, cell=250))
    return ik.solve_flow(model, closure=1e-12)


@pytest.fixture
def first_project(tmp_path):
    """A copy of the project that `inkhorn new` makes, on coarser cells."""
    folder = tmp_path / "first"
    write_new(folder)
    site = folder / "site.toml"
    site.write_text(
        site.read_text(encoding="utf-8").replace('cell = "25 m"', 'cell = "100 m"'), encoding="utf-8"
    )
    return folder


@pytest.fixture
def command(monkeypatch, capsys):
    """Run the command line as a shell would; return exit code, output and errors."""

    def run(*words: object) -> tuple[int, str, str]:
        monkeypatch.setattr(sys, "argv", ["inkhorn", *map(str, words)])
        monkeypatch.setenv("COLUMNS", "160")
        code = 0
        try:
            main()
        except SystemExit as end:
            code = int(end.code or 0)
        said = capsys.readouterr()
        return code, said.out, said.err

    return run


def strip(n: int, length: float = 1000.0, width: float = 10.0, surfaces=(30.0, 0.0)) -> ik.Model:
    """A row of cells whose first and last centres are at 0 and `length`; no terms yet."""
    half = 0.5 * length / n
    mesh = ik.rectangles((-half, 0.0, length + half, width), count=(n + 1, 1))
    return ik.layered(mesh, list(surfaces))


def tree(folder: Path) -> dict[str, bytes]:
    """Every file below a folder, and what is in it."""
    return {str(p.relative_to(folder)): p.read_bytes() for p in sorted(folder.rglob("*")) if p.is_file()}


def rain(grid, rate: float) -> ik.terms.RechargeTerm:
    """The same recharge on every uppermost cell [m/day]."""
    cells = grid.uppermost
    return ik.terms.RechargeTerm(cells=cells, rate=rate, area=grid.cells.area[cells], features=("rain",))


def held(cells, head) -> ik.terms.FixedHeadTerm:
    return ik.terms.FixedHeadTerm(cells=np.atleast_1d(cells), head=head, features=("held",))
