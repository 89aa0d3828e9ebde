"""Pictures: what stands on their axes, and that they can be saved."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
import shapely
from matplotlib.figure import Figure

import inkhorn as ik
from tests.conftest import held, rain, strip


@pytest.fixture
def ax():
    return Figure(figsize=(6, 4)).subplots()


def words(ax) -> str:
    return " | ".join([ax.get_title(), ax.get_xlabel(), ax.get_ylabel(), *ax.get_legend_handles_labels()[1]])


def saved(ax, tmp_path) -> bool:
    ax.figure.savefig(tmp_path / "picture.png")
    return (tmp_path / "picture.png").stat().st_size > 5000


@pytest.mark.parametrize("layer", ["peat", "sand", "lake clay", 3])
def test_heads(quillmere, ax, layer, tmp_path):
    assert ik.draw.heads(quillmere, layer, ax=ax) is ax
    assert "x [m] | y [m]" in words(ax)
    assert "head [m]" in ax.figure.axes[1].get_ylabel()
    assert {"fixed head", "river", "drain", "well, abstraction"} <= set(words(ax).split(" | "))
    assert saved(ax, tmp_path)


def test_heads_of_a_plain_model(ax, tmp_path):
    """One row of cells, no site: no contours, but a map."""
    grid = strip(10)
    flow = ik.solve_flow(ik.Model(grid, 3.0, terms=[held([0, 10], [7.0, 8.0])]))
    assert saved(ik.draw.heads(flow, ax=ax), tmp_path)
    with pytest.raises(ik.InputError, match='no layer "clay"'):
        ik.draw.heads(flow, "clay", ax=ax)


def test_dry_cells_are_said(ax):
    grid = ik.layered(ik.rectangles((0, 0, 60, 40), cell=10), [20.0, 10.0, 0.0])
    flow = ik.solve_flow(ik.Model(grid, 5.0, terms=[held(grid.cell_number[1, :6], 5.0), rain(grid, 1e-4)]))
    assert "dry" in words(ik.draw.heads(flow, 0, ax=ax))


def test_section(quillmere, ax, tmp_path):
    ik.draw.section(quillmere, [(5000, 4000), (3700, 2900), (1300, 1300)], exaggeration=20, ax=ax)
    assert ax.get_aspect() == 20
    said = words(ax)
    assert "heights × 20" in said
    assert all(name in said for name in (*quillmere.model.grid.layer_names, "water table"))
    assert "hatchery" in [t.get_text() for t in ax.texts]
    assert saved(ax, tmp_path)


@pytest.mark.parametrize(
    ("line", "message"),
    [([(0, 0)], "expected two or more"), ([(-9e4, 0), (-8e4, 0)], "meets no cell"), ([(1, 1)] * 2, "length")],
)
def test_sections_that_cannot_be(quillmere, ax, line, message):
    with pytest.raises(ik.InputError, match=message):
        ik.draw.section(quillmere, line, ax=ax)


def test_paths_plume_and_breakthrough(quillmere, tmp_path):
    traced = ik.trace(quillmere, ["hatchery"], backward=True, mark=1826.25, per_well=6)
    ax = ik.draw.paths(traced, ax=Figure().subplots())
    assert "every 5 years" in words(ax)
    assert "comes from that reaches hatchery" in ax.get_title()
    species = ik.Species("chloride", initial=14.0, limit=60.0)
    plume = ik.solve_transport(
        quillmere, species, duration=9000.0, step_length=300.0, dispersion=ik.Dispersion(20.0, 2.0, 0.2)
    )
    for layer in (None, "sand"):
        ax = ik.draw.plume(plume, layer=layer, ax=Figure().subplots())
        assert "limit, 60 mg/l" in words(ax)
        assert saved(ax, tmp_path)
    ax = ik.draw.breakthrough(plume, ["hatchery", "gardens north"], ax=Figure().subplots())
    assert "chloride [mg/l]" in words(ax)
    assert float(ax.lines[0].get_ydata()[0]) == pytest.approx(14.0)


@pytest.mark.parametrize("kind", ["rectangles", "cut", "voronoi"])
def test_plan_of_any_mesh(quillmere, ax, kind, tmp_path):
    site = quillmere.model.site
    mesh = {
        "rectangles": lambda: ik.rectangles(site.boundary, cell=300, rotation=20),
        "cut": lambda: ik.rectangles(site.boundary, cell=300, keep="cut"),
        "voronoi": lambda: ik.voronoi(site.boundary, cell=300, near=[(site.wells, 60)]),
    }[kind]()
    assert f"{mesh.n_cells} cells of" in ik.draw.plan(mesh, site, ax=ax).get_title()
    assert len(ax.collections[0].get_paths()) >= mesh.n_cells
    assert saved(ax, tmp_path)


def test_measured_against_computed(quillmere, ax, tmp_path):
    fit = ik.calibrate(
        quillmere.model, [ik.LayerConductivity(name="K", layer="sand", lower=1, upper=100)], max_iterations=2
    )
    from inkhorn.draw import measured_against_computed

    measured_against_computed(fit, ax=ax)
    assert "before the fit" in words(ax)
    assert f"RMS {fit.statistics().rms:.3f} m" in ax.get_title()
    points = np.concatenate([c.get_offsets() for c in ax.collections[2:]])
    assert len(points) == len(fit.observations.measured)
    assert saved(ax, tmp_path)


def test_sections_show_what_cells_are_made_of(quillmere, ax, tmp_path):
    """Of a grid alone, along a row, every cell outlined; no water without a flow."""
    grid, site = quillmere.model.grid, quillmere.model.site
    ik.draw.section(grid, grid.mesh.row_line(8), site=site, cells=True, ax=ax)
    said = words(ax)
    assert {"peat", "sand", "lake clay", "gravel"} <= set(said.split(" | "))
    assert "water table" not in said
    assert saved(ax, tmp_path)
    with pytest.raises(ik.InputError, match=r"there is no column 99; expected 0 to"):
        grid.mesh.column_line(99)


@pytest.mark.parametrize("values", [None, "heads"])
def test_a_block_opens_along_a_line(quillmere, values, tmp_path):
    grid = quillmere.model.grid
    given = {"values": quillmere.steps[-1].heads, "label": "head [m]"} if values else {}
    line = [(5050, 4050), (3700, 2900), (1300, 1300)]
    closed, opened = (
        ik.draw.block(grid, opened=way, ax=Figure().add_subplot(projection="3d"), **given)
        for way in (None, line)
    )
    shown = [b.collections[0].get_facecolor().shape[0] for b in (closed, opened)]
    assert 0 < shown[1] < shown[0]
    assert opened.get_title().startswith("heights ×")
    assert saved(opened, tmp_path)


def test_a_surface_shows_its_points_and_those_that_stand_out(ax, tmp_path):
    x, y = (v.ravel() for v in np.meshgrid(np.linspace(0, 900, 7), np.linspace(0, 900, 7)))
    z = 3.0 + 0.01 * x
    z[24] -= 20.0
    tilted = ik.PointSurface(x[[0, 6, 42, 48]], y[[0, 6, 42, 48]], z[[0, 6, 42, 48]])
    data = ik.PointSurface(x, y, z)
    ik.draw.surface(tilted, shapely.box(0, 0, 900, 900), points=data, name="base", ax=ax)
    assert "stands out from its neighbours" in words(ax)
    assert ax.get_title().startswith("base: 49 points, missed by up to 20 m")
    assert "surface less data [m]" in [a.get_ylabel() for a in ax.figure.axes]
    assert saved(ax, tmp_path)


def test_levels_in_time_and_the_quality_of_cells(ax, tmp_path):
    dates = pd.date_range("2021-01-01", periods=20, freq="MS")
    levels = pd.DataFrame(
        {"bore": "B1", "layer": "sand", "date": dates, "measured [m]": np.arange(20.0), "computed [m]": 5.0}
    )
    assert "measured | computed" in words(ik.draw.hydrograph(levels, "B1", ax=ax))
    with pytest.raises(ik.InputError, match='no levels of the bore "B2"'):
        ik.draw.hydrograph(levels, "B2")
    mesh = ik.voronoi(shapely.box(0, 0, 900, 600), cell=60)
    other = Figure().subplots()
    assert "least" in words(ik.draw.quality(mesh, ax=other))
    with pytest.raises(ik.InputError, match="there is no measure"):
        ik.draw.quality(mesh, "beauty")
