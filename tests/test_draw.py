"""Pictures: what stands on their axes, and that they can be saved."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pandas as pd
import pytest
import shapely
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.colors import to_rgb
from matplotlib.figure import Figure
from PIL import Image

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


def overlapping(figure) -> list[tuple[str, str]]:
    """Pairs of words that lie over each other, once the figure is laid out: titles, names, numbers, legends, ticks."""
    figure.draw_without_rendering()
    shown = []
    for ax in [*figure.axes, *(bar for of in figure.axes for bar in of.child_axes)]:
        flat = [] if ax.name == "3d" else ax.texts  # those in space have no box on paper
        shown += [ax.title, *flat, *(ax.get_legend().get_texts() if ax.get_legend() else [])]
        for axis in (ax.xaxis, ax.yaxis) if ax.axison else ():
            low, high = sorted(axis.get_view_interval())
            ticks = [t for t in axis.get_major_ticks() if low <= t.get_loc() <= high]
            shown += [axis.label, *(label for t in ticks for label in (t.label1, t.label2))]
    shown = [t for t in shown if t.get_visible() and t.get_text().strip()]
    boxes = [(t.get_text(), t.get_window_extent()) for t in shown]
    beyond = [words for words, b in boxes if b.x0 < -2 or b.x1 > figure.bbox.x1 + 2]
    assert beyond == []
    return [
        (a, b)
        for k, (a, one) in enumerate(boxes)
        for b, other in boxes[k + 1 :]
        if min(one.x1, other.x1) - max(one.x0, other.x0) > 2
        and min(one.y1, other.y1) - max(one.y0, other.y0) > 2
    ]


@pytest.mark.slow
def test_no_words_lie_over_others_in_any_figure_of_a_run(quillmere_folder, monkeypatch, command, tmp_path):
    """Every picture of a run in time, and those of the project: grids beside and over each other, block, section."""
    seen, seeing, plain = {}, [], FigureCanvasAgg.draw

    def painting(canvas):
        if not seeing:
            seeing.append(canvas)
            seen[len(seen)] = overlapping(canvas.figure)
            seeing.pop()
        plain(canvas)

    monkeypatch.setattr(FigureCanvasAgg, "draw", painting)
    monkeypatch.setattr(
        "inkhorn.runs.drawing.processors", lambda: 1
    )  # all are drawn here, where they are seen
    site = quillmere_folder / "site.toml"
    grids = [word for name in ("banded", "split", "voronoi") for word in ("--grid", name)]
    commands = [
        ("run", site, "--out", tmp_path / "runs"),
        ("draw", "plan", site, *grids, "--out", tmp_path / "plans.png"),
        ("draw", "plan", site, *grids[:4], "--over", "--out", tmp_path / "over.png"),
        ("draw", "section", site, "--row", "12", "--out", tmp_path / "row.png"),
        ("draw", "surface", site, "sand", "--out", tmp_path / "surface.png"),
        ("draw", "block", site, "--out", tmp_path / "block.png"),
        ("draw", "values", site, "river.stage", "--out", tmp_path / "stage.png"),
    ]
    made = tmp_path / "runs" / "run-001"
    for name in ("heads --show fill,arrows", "water-table", "depth", "drawdown", "budget", "section", "exchange",
                 "convergence", "head-surface", "paths", "plume", "concentrations", "block --values head"):  # fmt: skip
        words_ = name.split()
        commands.append(("draw", words_[0], made, *words_[1:], "--out", tmp_path / f"{words_[0]}.png"))
    commands.append(("draw", "plume", made, "--along", "", "--time", "9000", "--out", tmp_path / "along.png"))
    for words_ in commands:
        code, _, err = command(*words_)
        assert (code, err) == (0, "")
    assert len(seen) == 33
    code, out, _ = command("show", made, "--at", "3700,2900", "--out", tmp_path / "shown")
    assert code == 0
    assert "Darcy flux" in " ".join(out.split())
    assert pd.read_csv(tmp_path / "shown" / "place_3700_2900.csv")["what"].iloc[-1].startswith("from ")
    for words_ in (("--cell", "3"), ("--feature", "hatchery")):
        assert command("show", made, *words_)[0] == 0
    assert command("show", made)[0] == command("show", made, "--at", "3")[0] == 2
    assert {name: pairs for name, pairs in seen.items() if pairs} == {}


def test_materials_are_told_apart_by_those_who_see_no_red_or_green():
    """Twenty, no two alike; ten colours by CIELAB, as they are and as both deficiencies see them (Machado 2009)."""
    from inkhorn.draw.style import material_style

    styles = [material_style(k) for k in range(20)]
    assert len(set(styles)) == len({s.solid for s in styles}) == 20
    colours = np.array([to_rgb(s.colour) for s in styles[:10]])
    linear = np.where(colours <= 0.04045, colours / 12.92, ((colours + 0.055) / 1.055) ** 2.4)
    protan = [
        [0.152286, 1.052583, -0.204868],
        [0.114503, 0.786281, 0.099216],
        [-0.003882, -0.048116, 1.051998],
    ]
    deutan = [
        [0.367322, 0.860646, -0.227968],
        [0.280085, 0.672501, 0.047413],
        [-0.011820, 0.042940, 0.968881],
    ]
    xyz_of = np.array([[0.4339, 0.3762, 0.1898], [0.2127, 0.7152, 0.0722], [0.0177, 0.1095, 0.8729]])
    for eye in (np.eye(3), protan, deutan):
        f = np.cbrt(np.clip(linear @ np.transpose(eye), 1e-9, 1) @ xyz_of.T)
        lab = np.column_stack([116 * f[:, 1], 500 * (f[:, 0] - f[:, 1]), 200 * (f[:, 1] - f[:, 2])])
        apart = np.linalg.norm(lab[:, None] - lab[None], axis=2)[np.triu_indices(10, 1)]
        assert apart.min() > 20


@pytest.mark.parametrize("layer", ["peat", "sand", "lake clay", 3])
def test_heads(quillmere, ax, layer, tmp_path):
    assert ik.draw.heads(quillmere, layer, ax=ax) is ax
    assert "x [m] | y [m]" in words(ax)
    assert "head [m]" in ax.child_axes[0].get_ylabel()
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


def in_time(start=None):
    """Twelve cells in a row that drain for ten days from 8 m."""
    grid = strip(12)
    schedule = ik.Schedule([2.0, 10.0], start, steps=[1, 4])
    model = ik.Model(
        grid, 3.0, terms=[held([0], [7.0])], schedule=schedule, specific_storage=1e-4, specific_yield=0.1
    )
    return ik.solve_flow(model, initial_heads=8.0)


def test_times_are_found_by_date_or_day(ax):
    flow = in_time("2021-05-01")
    assert [flow.step_at(t) for t in (0.1, 2.9, "2021-05-11", np.datetime64("2021-05-05"))] == [0, 0, 4, 1]
    title = ik.draw.drawdown(flow, since=0, step=flow.step_at(10.0), ax=ax).get_title()
    assert title.endswith("drawdown, layer layer 1, 2021-05-11, since 2021-05-03")
    shown = ax.collections[0].get_array()
    npt.assert_allclose(shown.compressed(), flow.steps[0].heads - flow.steps[-1].heads)
    for time, message in (
        ("2021-06-01", "lies outside the run, which goes from day 0 to 10"),
        (11.0, "outside"),
    ):
        with pytest.raises(ik.InputError, match=message):
            flow.step_at(time)
    with pytest.raises(ik.InputError, match="the run begins at none"):
        in_time().step_at("2021-05-02")
    far = ik.layered(ik.rectangles((1e6, 0, 1e6 + 30, 10), cell=10), [30.0, 0.0])
    other = ik.solve_flow(ik.Model(far, 3.0, terms=[held([0], [7.0])]))
    with pytest.raises(ik.InputError, match="the grids share nothing"):
        ik.draw.drawdown(flow, against=other, ax=ax)


def test_budgets_are_drawn_as_they_are(quillmere, ax):
    """Bars as long as the flows, their numbers in the unit that the axis is in; bands that end where totals do."""
    table = quillmere.budget().drop(index="total")
    ik.draw.budget(quillmere, ax=ax)
    widths = [bar.get_width() for bars in ax.containers for bar in bars]
    npt.assert_allclose(widths, [*table["in [m³/day]"], *-table["out [m³/day]"]])
    ik.draw.in_units(ax.figure, ik.UnitChoice(["l/s"]))
    assert ax.get_xlabel() == "flow [l/s]"
    assert f"{table.loc['well', 'out [m³/day]'] / 86.4:.4g}" in [t.get_text() for t in ax.texts]
    flow = in_time("2021-05-01")
    bands = ik.draw.budget_in_time(flow, ax=Figure().subplots())
    last = flow.budget().loc["total"]
    assert bands.dataLim.y1 >= last["in [m³/day]"] - 1e-9
    edges = np.concatenate([c.get_paths()[0].vertices for c in bands.collections])
    npt.assert_allclose(
        edges[:, 1].max(), max(flow.budget(step=k).loc["total", "in [m³/day]"] for k in range(5))
    )
    with pytest.raises(ik.InputError, match="has one step"):
        ik.draw.budget_in_time(quillmere, ax=ax)


def test_depth_and_values_are_those_of_the_cells(quillmere, tmp_path):
    model, grid = quillmere.model, quillmere.model.grid
    depth = ik.draw.depth_to_water(quillmere, ax=Figure().subplots()).collections[0].get_array().compressed()
    wet = np.isfinite(quillmere.water_table())
    expected = grid.cells.top[grid.uppermost] - quillmere.water_table()
    npt.assert_allclose(np.sort(depth), np.sort(expected[wet]))
    stage = ik.draw.values(model, "river.stage", ax=Figure().subplots())
    term = model.term("river")
    assert len(stage.collections[0].get_array().compressed()) == len(
        np.unique(grid.cells.plan_cell[term.cells])
    )
    assert stage.child_axes[0].get_ylabel() == "river stage [m]"
    k = ik.draw.values(model, "horizontal_conductivity", "gravel", ax=Figure().subplots())
    assert k.child_axes[0].get_ylabel() == "horizontal conductivity [m/day]"
    assert saved(k, tmp_path)
    for name, message in (
        ("river.stag", 'the river has no "stag"'),
        ("conductivty", "there is no input"),
        ("specific_heat", "there is no input"),
    ):
        with pytest.raises(ik.InputError, match=message):
            ik.draw.values(model, name)


def test_what_is_shown_is_chosen(quillmere, ax):
    """Colours or lines alone, arrows along the mean flux with a key in the unit asked for."""
    lines = ik.draw.heads(quillmere, "sand", show=["lines"], ax=Figure().subplots())
    assert not lines.child_axes
    assert "dry" not in words(lines)
    fill = ik.draw.heads(quillmere, "sand", show=["fill"], span=(30.0, 50.0), ax=Figure().subplots())
    assert fill.collections[0].get_clim() == (30.0, 50.0)
    ik.draw.heads(quillmere, "gravel", show=["arrows"], ax=ax)
    arrows = next(c for c in ax.collections if hasattr(c, "U"))
    flux = quillmere.darcy_flux()[:, :2]
    grid = quillmere.model.grid
    number = grid.cell_number[grid.layer_index("gravel")]
    near = number[grid.mesh.locate(arrows.X, arrows.Y)]
    along = np.sum(np.column_stack([arrows.U, arrows.V]) * flux[near], axis=1)
    assert np.mean(along / np.hypot(arrows.U, arrows.V) / np.hypot(*flux[near].T) > 0.8) > 0.95
    ik.draw.in_units(ax.figure, ik.UnitChoice(["ft/day"]))
    assert any(t.get_text().endswith(" ft/day") for t in ax.texts)
    with pytest.raises(ik.InputError, match='"arow" cannot be shown'):
        ik.draw.heads(quillmere, show=["arow"], ax=ax)


def test_exchange_between_parts_adds_up(quillmere, ax):
    """What a layer's terms bring and its neighbours give is what it gives; regions alike, and the numbers drawn."""
    between, table = quillmere.exchange(), quillmere.budget(by="layer")
    for layer in between.index:
        mine = table.loc[layer]
        of_terms = mine[~mine.index.str.startswith("layer ")]
        net = (of_terms["in [m³/day]"] - of_terms["out [m³/day]"]).sum()
        npt.assert_allclose(net + between[layer].sum() - between.loc[layer].sum(), 0.0, atol=1e-3)
    in_litres = ik.draw.exchange(quillmere, ax=Figure().subplots())
    ik.draw.in_units(in_litres.figure, ik.UnitChoice(["l/s"]))
    assert in_litres.get_title().endswith("exchange between layers [l/s]")
    assert f"{between.to_numpy().max() / 86.4:.4g}" in [t.get_text() for t in in_litres.texts]
    ik.draw.exchange(quillmere, ax=ax)
    drawn = {float(t.get_text().replace(",", "")) for t in ax.texts if t.get_gid()}
    most = between.to_numpy().max()
    assert any(abs(number - most) < 1 for number in drawn)
    west = shapely.box(-1e5, -1e5, 3000, 1e5)
    regions = quillmere.exchange(regions={"west": west})
    assert list(regions.index) == ["west", "elsewhere"]
    assert ik.draw.exchange(quillmere, regions={"west": west}, ax=Figure().subplots()).get_title()


def test_levels_at_a_place_stop_where_it_is_dry(ax):
    flow = in_time("2021-05-01")
    ik.draw.heads_in_time(flow, 5.0, 5.0, ax=ax)
    npt.assert_allclose(ax.lines[0].get_ydata(), [s.heads[0] for s in flow.steps])
    assert ax.get_title().endswith("heads at x=5, y=5")
    history = ik.draw.convergence(flow, ax=Figure().subplots())
    assert sum(len(line.get_xdata()) for line in history.lines[:-1]) == len(flow.report.rows)


def test_films_have_a_picture_for_each_step_on_one_scale(tmp_path, monkeypatch):
    flow = in_time("2021-05-01")
    span = ik.draw.span_of("heads", flow, range(5))
    assert span == (min(s.heads.min() for s in flow.steps), max(s.heads.max() for s in flow.steps))
    said = []
    made = ik.draw.film(
        tmp_path / "heads.gif",
        lambda ax, k: ik.draw.heads(flow, step=k, span=span, ax=ax),
        range(5),
        progress=lambda words, share: said.append(share),
    )
    with Image.open(made) as film:
        assert (film.n_frames, film.size) == (5, (960, 600))
    assert said == [0.0, 0.2, 0.4, 0.6, 0.8]
    monkeypatch.setenv("PATH", "")
    for name, message in (("heads.mp4", "needs the program ffmpeg"), ("heads.png", "ends in .gif or .mp4")):
        with pytest.raises(ik.InputError, match=message):
            ik.draw.film(tmp_path / name, ik.draw.heads, range(5))


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
    species = ik.Species("chloride", initial=14.0, limit=60.0, background=14.0)
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
        quillmere.model, [ik.Parameter(name="K", of="conductivity", layers=("sand",))], max_iterations=2
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
    assert "surface less data [m]" in [a.get_ylabel() for a in ax.child_axes]
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


def test_a_block_that_is_opened_is_closed_all_around(quillmere_folder):
    from inkhorn.draw.blocks import _left_of, _walls
    from inkhorn.space import area_of

    site = ik.read_site(quillmere_folder / "site.toml")
    mesh = ik.split_in_four(site.boundary, cell=200, near=[(site.wells, 25)])
    grid = ik.layered(mesh, site.strata)
    kept = _left_of([(5050, 4050), (3700, 2900), (1300, 1300)], mesh) & (grid.uppermost >= 0)
    faces, _ = _walls(grid, kept, np.zeros((grid.n_cells, 4)))
    lowest = grid.cells.bottom[grid.cell_number[-1]]
    around = sum(np.hypot(f[1][0] - f[0][0], f[1][1] - f[0][1]) for f in faces if f[0][2] in set(lowest))
    assert around == pytest.approx(area_of(mesh, np.flatnonzero(kept), grid.rim).boundary.length, rel=1e-3)
