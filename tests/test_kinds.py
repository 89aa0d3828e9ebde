"""What follows from the declaration of a kind: for those of another package, and for all of our own alike."""

from __future__ import annotations

import json
import subprocess
import sys
from dataclasses import replace
from pathlib import Path

import geopandas as gpd
import matplotlib.pyplot as plt
import numpy as np
import numpy.testing as npt
import pandas as pd
import pytest
import shapely

import inkhorn as ik
from inkhorn.model import placings
from inkhorn.project.parts_site import feature_part
from inkhorn.project.project_file import project_model
from inkhorn.site import LayerNames, PickedCells, Quantity, declared_fields, geometry_of, kinds
from tests.outside import Moat
from tests.test_features import EVERY, SAND, STRATA, WAY, site
from tests.test_meshes import KINDS
from tests.test_project_file import spoil

SLOPE = ik.GivenFlow(name="slope", shape=shapely.LineString([(60, 850), (480, 900)]), inflow=40.0)


def put(folder, text):
    with (folder / "site.toml").open("a", encoding="utf-8") as file:
        file.write(text)


def shapes(path, geometry, crs=None, **columns):
    path.write_text(gpd.GeoDataFrame(columns, geometry=geometry, crs=crs).to_json())


MOAT = """
[[moat]]
name = { column = "who" }
file = "moat.geojson"
low = { column = ["deep", "less"], unit = "cm" }
high = { series = "high.csv", by = "whose" }
conductance = { column = "c" }
concentration = { salt = "2 g/l" }

[[species]]
name = "salt"

[time]
start = 2020-01-01
end = 2020-03-01
every = "month"

[grids.near]
cell = "200 m"
near = [{ kinds = ["moat"], size = "25 m" }]

[[edit]]
of = "moat.conductance"
value = "3 m/day"
feature = "outer"
"""


@pytest.fixture
def moated(first_project):
    """The first project with two moats: levels by attribute and in time, conductance by attribute."""
    ways = [shapely.LineString([(200, 200), (800, 220)]), shapely.LineString([(200, 700), (500, 720)])]
    shapes(
        first_project / "moat.geojson",
        ways,
        who=["inner", "outer"],
        deep=[1640.0, 1600],
        less=[1660.0, 1600],
        c=[0.5, 9.0],
    )
    dates = ["2020-01-01", "2020-02-01"] * 2
    high = {"whose": np.repeat(["inner", "outer"], 2), "date": dates, "high": [17.0, 17.4, 16.2, 16.1]}
    pd.DataFrame(high).to_csv(first_project / "high.csv", index=False)
    put(first_project, MOAT)
    storage = 'porosity = {}\nspecific_storage = "1e-5 1/m"\nspecific_yield = 0.2\norganic_carbon = {}\n'
    for porosity, carbon in ((0.25, 0.002), (0.2, 0.004)):
        old = f"porosity = {porosity}" + (" " * 11 if porosity == 0.25 else "\n")
        spoil(first_project, "site.toml", old, storage.format(porosity, carbon))
    return first_project


def test_a_kind_of_another_package_goes_all_the_way(moated, command, tmp_path):
    """Project file, columns, series, edits, placing, near, check, budget, map, legend, model file, sensitivities."""
    project = ik.read_project(moated / "site.toml")
    inner, outer = (project.site.feature(n) for n in ("inner", "outer"))
    assert (inner.low, inner.conductance) == ((16.4, 16.6), 0.5)
    assert project.mesh("near").area.min() < 700
    model = ik.place(project.site, project.grid())
    term = model.term("moat")
    mine = term.feature_index == term.feature_names.index("outer")
    npt.assert_allclose(
        term.conductance[mine].sum(), 3.0 * 2 * outer.shape.length
    )  # in both layers, by the metre
    npt.assert_allclose(term.conductance[~mine].sum(), 0.5 * 2 * inner.shape.length)
    npt.assert_allclose(model.inputs_in_time["moat.high"][1:, ~mine][:, 0], [17.0, 17.4])
    npt.assert_allclose([model.inflow_concentration["salt"][n] for n in ("inner", "outer")], 2000.0)
    row = model.placed.set_index("feature").loc["inner"]
    assert (row["kind"], row["water"]) == ("moat", "gives below, takes above")
    assert "low 16.4" in row["values"]
    flow = ik.solve_flow(model, closure=1e-12)
    assert flow.budget().loc["moat"].sum() > 1.0
    npt.assert_allclose(flow.budget().attrs["closing_error_percent"], 0.0, atol=1e-6)
    clean = tuple(replace(f, concentration={}) if f.kind == "moat" else f for f in project.site.features)
    for shown, words in (
        (project.site, "moat that brings solute"),
        (replace(project.site, features=clean), "moat"),
    ):
        ax = ik.draw.plan(model.grid.mesh, shown)
        assert words in [t.get_text() for t in ax.get_legend().get_texts()]
    assert "#123456" in [line.get_color() for line in ax.get_lines()]
    plt.close("all")
    ik.write_model(model, tmp_path / "model.nc")
    back = ik.read_model(tmp_path / "model.nc")
    for name in ("moat.low", "moat.conductance", "organic_carbon"):
        npt.assert_array_equal(back.input(name), model.input(name))
    npt.assert_array_equal(back.inputs_in_time["moat.high"], model.inputs_in_time["moat.high"])
    sensitivity = ik.FlowSensitivity(flow, tolerance=1e-13)
    weights = np.random.default_rng(0).normal(size=(len(flow.steps), model.grid.n_cells + 1))
    gradient = sensitivity.adjoint(weights)
    change = {k: v for k, v in gradient.items() if k.startswith("moat.")}
    assert len(change) == 3
    forward = np.sum(weights * sensitivity.tangent(change))
    npt.assert_allclose(forward, sum(np.sum(v**2) for v in change.values()), rtol=1e-10)
    (moated / "variants").mkdir()
    (moated / "variants" / "dry.toml").write_text('[[edit]]\nof = "moat.high"\nadd = "-3 m"\n')
    code, out, err = command("check", moated / "site.toml", "--variant", "dry")
    assert (code, err) == (2, "")
    assert 'moat "inner" has its low level above its high one' in " ".join(out.split())
    assert command("run", moated / "site.toml")[0] == 0


def test_a_property_of_another_package_goes_all_the_way(moated, refused):
    """Material, model, edit by zone, range, model file."""
    codes = moated / "zones.geojson"
    shapes(codes, [shapely.box(0, 0, 500, 1000), shapely.box(500, 0, 1000, 1000)], use=["west", "east"])
    put(moated, '[[edit]]\nof = "organic_carbon"\nfactor = 3\nzone = ["use", "west"]\nlayers = ["sand"]\n')
    put(moated, '[zones.use]\nfile = "zones.geojson"\nname = { column = "use" }\n')
    project = ik.read_project(moated / "site.toml")
    model = ik.place(project.site, project.grid())
    c = model.grid.cells
    npt.assert_allclose(
        model.input("organic_carbon"),
        np.where(c.layer == 1, 0.004, np.where(c.x < 500, 0.006, 0.002)),
    )
    assert model.zones["use"].names == ("west", "east")
    flow = ik.solve_flow(model)
    regions = flow.budget(by="region", regions=model.zones["use"].regions(), step=0)
    assert set(regions.index.get_level_values(0)) == {"west", "east", "total"}
    spoil(moated, "site.toml", "organic_carbon = 0.002", "organic_carbon = 2")
    refused(moated / "site.toml", "organic_carbon is 2; expected a share from 0 to 1")
    spoil(moated, "site.toml", "organic_carbon = 2", "organic_carbn = 0.1")
    refused(moated / "site.toml", 'Did you mean "organic_carbon"')


def test_every_declaration_is_whole():
    """Each kind has words for every key, a way to be placed, a symbol; each key its example, which is taken."""
    for table, kind in kinds().items():
        assert kind in placings(), kind
        assert kind.__doc__
        fields = project_model().model_fields
        assert table in fields
        part = feature_part(kind)
        needed = {"name": "x", "file": "y"} | {
            name: declared_fields(kind)[name][1].example
            for name, key in part.model_fields.items()
            if key.is_required() and name != "name"
        }
        for name, (_, said) in declared_fields(kind).items():
            assert said.words, (kind, name)
            assert said.example is not None, (kind, name)
            part.model_validate(needed | {name: said.example})


def picked(feature, cells):
    """The same feature in some cells told one by one."""
    own, changes = declared_fields(type(feature)), {}
    for k, (_, said) in own.items():  # what is said of shapes alone
        if isinstance(said, LayerNames):
            changes[k] = () if said.many else None
        elif isinstance(said, Quantity) and "cells" not in getattr(said.dimension, "keys", lambda: "cells")():
            changes[k] = None
    if "conductance" in own and feature.conductance is None and type(feature) is not ik.Seepage:
        changes["conductance"] = 5.0
    for k in own:  # what varies along a line has one value here
        value = getattr(feature, k)
        if isinstance(value, tuple) and value and isinstance(value[0], float):
            changes[k] = value[0]
    return replace(feature, shape=cells, **changes)


@pytest.mark.parametrize("by", ["number", "place"])
def test_every_kind_can_be_placed_by_cells(by):
    """By number, or by layer and place: all land in those cells alone, and the model runs."""
    mesh = KINDS["rectangles"]()
    grid = ik.layered(mesh, STRATA)
    c, side = grid.cells, grid.faces.cells[~grid.faces.is_floor]
    at = side[(c.layer[side] == 1).all(axis=1)][20]
    places = [("lower", c.x[k], c.y[k]) for k in at]
    cells = PickedCells(at) if by == "number" else PickedCells(places=places)
    pond = EVERY[0]
    for feature in (*EVERY[1:], SLOPE):
        one = picked(feature, cells)
        assert geometry_of(one.shape) == "cells"
        model = ik.place(site(pond, one), grid)
        row = model.placed.set_index("feature").loc[feature.name]
        assert (row["cells"], row["share outside"]) == (2, 0.0), feature.kind
        term = [t for t in model.terms if t.kind == feature.kind]
        if type(feature) is not ik.Barrier:
            assert set(term[0].cells) == set(at)
        ik.solve_flow(model)
    with pytest.raises(ik.InputError, match=r"there is no cell 99999; expected 0 to \d+ on this grid"):
        ik.place(site(pond, picked(EVERY[7], PickedCells([99999]))), grid)


def test_cells_in_a_layer_in_parts_give_and_take_as_much():
    """A place named in a layer stands for all its parts: they share what is there, and do not each have all of it."""
    mesh, places = KINDS["rectangles"](), [("lower", 312.5, 562.5), ("lower", 337.5, 562.5)]
    parts, cells, pond = STRATA.split("lower", 3), PickedCells(places=places), EVERY[0]
    for feature in (*EVERY[1:], SLOPE):
        one, totals = picked(feature, cells), []
        for strata in (STRATA, parts):
            made = replace(site(pond, one), strata=strata, materials=dict.fromkeys(strata.names, SAND))
            model = ik.place(made, ik.layered(mesh, strata))
            row = model.placed.set_index("feature").loc[feature.name]
            assert row["share outside"] == 0.0
            totals.append(row["total"])
        npt.assert_allclose(totals[1], totals[0], rtol=1e-12, err_msg=feature.kind)
        assert totals[0] > 0


def test_each_cell_told_may_have_its_own_value():
    """One for each, in the order of the cells; a cell told twice, or values that do not match, are refused."""
    grid = ik.layered(KINDS["rectangles"](), STRATA)
    flow, rain = ({"name": "a", "shape": PickedCells([7, 5])} for _ in range(2))
    drain = ik.Drain(name="d", shape=PickedCells([9, 8]), level=(1.0, 2.0), conductance=(3.0, 4.0))
    features = (
        ik.GivenFlow(**flow, outflow=[6.0, 2.0]),
        ik.Recharge(**rain | {"name": "r"}, rate=[1e-3, 2e-3]),
        drain,
    )
    model = ik.place(site(EVERY[0], *features), grid)
    npt.assert_allclose(model.term("given flow").rate, [-6.0, -2.0])
    npt.assert_allclose(model.term("recharge").rate, [1e-3, 2e-3])
    npt.assert_allclose(model.term("drain").conductance, [3.0, 4.0])
    assert model.term("drain").cells.tolist() == [9, 8]
    shared = ik.place(site(EVERY[0], ik.GivenFlow(**flow, outflow=6.0)), grid)
    npt.assert_allclose(shared.term("given flow").rate, [-3.0, -3.0])
    twice = ik.Edit(of="given_flow.rate", value=2.0, how="factor")  # by its table, as a project file has it
    model = ik.place(site(EVERY[0], *features, edits=(twice,)), grid)
    assert model.placed.set_index("feature").loc["a", "values"] == "rate -12 to -4 m³/day"
    with pytest.raises(ik.InputError, match=r"outflow has 3 values; expected 1 or 2 \(one for each cell\)"):
        ik.GivenFlow(**flow, outflow=[1.0, 2.0, 3.0])
    far = [("lower", x, 562.5) for x in (302.0, 310.0, 602.0, 702.0, 802.0, -50.0)]
    leak = ik.Recharge(name="leak", shape=PickedCells(places=far), rate=1e-3)
    coarse = ik.layered(ik.rectangles(shapely.box(0, 0, 1000, 1000), cell=100.0), STRATA)
    with pytest.raises(
        ik.InputError, match=r'recharge "leak": two of its places fall in one cell.*x=350, y=550'
    ):
        ik.place(site(EVERY[0], leak), coarse)
    most = replace(leak, shape=PickedCells(places=far[1:]))
    found = [str(f) for f in ik.check(ik.place(site(EVERY[0], most), coarse))]
    assert any('20% of recharge "leak" lies outside the cells' in f for f in found)
    deep = ik.Drain(name="deep", shape=PickedCells(places=far[1:2]), level=-3.0, conductance=1.0)
    split = STRATA.split("lower", 3)
    made = replace(site(EVERY[0], deep), strata=split, materials=dict.fromkeys(split.names, SAND))
    (cell,) = ik.place(made, ik.layered(coarse.mesh, split)).term("drain").cells
    assert (
        split.names[ik.layered(coarse.mesh, split).cells.layer[cell]] == "lower 3"
    )  # the part that holds its level
    with pytest.raises(ik.InputError, match='drain "d" names the cell 4 twice'):
        ik.Drain(name="d", shape=PickedCells([4, 4]), level=1.0, conductance=3.0)


def test_cells_are_typed_in_the_project_file(first_project, refused):
    put(
        first_project,
        '[[drain]]\nname = "typed"\nat = [{ layer = "sand", x = 250, y = 250 }]\nlevel = "16 m"\n'
        'conductance = "8 m²/day"\n[[recharge]]\nname = "leak"\ncells = [3, 4]\nrate = "1 mm/day"\n'
        '[grids.close]\ncell = "100 m"\nnear = [{ kinds = ["drain"], size = "10 m" }]\n'
        '[grids.lost]\ncell = "100 m"\nnear = [{ features = ["leak"], size = "10 m" }]\n',
    )
    project = ik.read_project(first_project / "site.toml")
    assert project.mesh("close").area.min() < 130
    with pytest.raises(
        ik.InputError, match=r'near recharge "leak".* told by their numbers, as 3, have no place'
    ):
        project.mesh("lost")
    assert "drain" in ik.draw.plan(project.mesh(), project.site).get_legend_handles_labels()[1]
    model = ik.place(project.site, project.grid())
    npt.assert_allclose(model.term("drain").conductance, [8.0])
    assert model.grid.place_of(int(model.term("drain").cells[0])) == 'layer "sand", x=250, y=250'
    spoil(first_project, "site.toml", 'layer = "sand", x', 'layer = "sad", x')
    refused(first_project / "site.toml", 'drain "typed".* names the layer "sad".*Did you mean "sand"')
    spoil(first_project, "site.toml", 'layer = "sad", x', 'layer = "sand", x')
    spoil(first_project, "site.toml", '"8 m²/day"', '"8 m/day"')
    refused(first_project / "site.toml", r"line \d+: conductance is '8 m/day'.*not a unit of conductance")


@pytest.mark.parametrize("kind", KINDS)
def test_the_rim_goes_once_around_every_mesh(kind):
    """By Gauss: outward normals over the rim add up to nothing, and with the places to twice the area."""
    mesh = KINDS[kind]()
    grid = ik.layered(mesh, [0.0, -2.0, -5.0])
    outer = grid.outer_faces
    npt.assert_allclose((outer.normal * outer.area[:, None]).sum(axis=0), 0.0, atol=1e-9 * outer.area.sum())
    flux = (outer.normal * outer.middle).sum(axis=1) * outer.area
    npt.assert_allclose(flux.sum(), 2.0 * 5.0 * mesh.area.sum(), rtol=1e-9)


@pytest.mark.parametrize("kind", ["rectangles", "rotated", "split", "voronoi", "cut"])
@pytest.mark.parametrize("name", ["inflow", "inflow_per_length", "outflow"])
def test_a_given_flow_comes_in_whole_through_the_rim(kind, name):
    """Whatever the mesh, in all or by the metre; by transmissivity into the layers; through outer faces."""
    rate = {"inflow": 40.0, "outflow": -40.0, "inflow_per_length": 0.1 * SLOPE.shape.length}[name]
    feature = ik.GivenFlow(name="slope", shape=SLOPE.shape, **{name: 0.1 if "per" in name else 40.0})
    tight = ik.Material("tight", 2.0)
    pond = ik.FixedHead(name="pond", shape=shapely.Point(700, 300), head=8.0)
    model = ik.place(site(pond, feature, lower=tight), KINDS[kind]())
    term, layer = model.term("given flow"), model.grid.cells.layer
    npt.assert_allclose(term.rate.sum(), rate, rtol=1e-9)
    assert set(term.crossing) == {"side"}
    npt.assert_array_equal(model.grid.outer_faces.cell[term.outer_face], term.cells)
    upper = term.rate[layer[term.cells] == 0].sum()
    npt.assert_allclose(upper / rate, 8.0 * 6.0 / (8.0 * 6.0 + 2.0 * 9.0), rtol=1e-9)
    flow = ik.solve_flow(model)
    npt.assert_allclose(flow.budget().loc["given flow"].sum(), abs(rate), rtol=1e-9)


def test_a_given_flow_makes_the_exact_slope_and_brings_what_it_carries():
    """Through one end of a strip: K b w dh/dx = Q at any angle; along a line inside as much; and its solute arrives."""
    for turn in (0.0, 30.0):
        box = shapely.affinity.rotate(shapely.box(0, 0, 1000, 50), turn, origin=(0, 0))
        end = shapely.affinity.rotate(shapely.LineString([(0, 0), (0, 50)]), turn, origin=(0, 0))
        far = shapely.affinity.rotate(shapely.LineString([(999, 0), (999, 50)]), turn, origin=(0, 0))
        inside = shapely.affinity.translate(
            end, *(5.0 * np.array([np.cos(np.deg2rad(turn)), np.sin(np.deg2rad(turn))]))
        )
        for line, through in ((end, {"side"}), (inside, {"inside"})):
            features = (
                ik.FixedHead(name="lake", shape=far, head=20.0),
                ik.GivenFlow(name="slope", shape=line, inflow=3.0, concentration={"salt": 7.0}),
            )
            strata = ik.Strata(ik.ConstantSurface(0.0), (ik.Layer("sand", ik.ConstantSurface(-10.0)),))
            made = ik.Site(
                box,
                strata,
                {"sand": ik.Material("sand", 5.0, porosity=0.2)},
                features=features,
                species=(ik.Species("salt", background=0.0),),
            )
            model = ik.place(
                made, ik.rectangles(box, cell=10.0, rotation=turn), water_table=ik.WaterTable(confined=True)
            )
            assert set(model.term("given flow").crossing) == through
            flow = ik.solve_flow(model)
            c, along = model.grid.cells, np.array([np.cos(np.deg2rad(turn)), np.sin(np.deg2rad(turn))])
            way = np.column_stack([c.x, c.y]) @ along
            npt.assert_allclose(
                flow.steps[-1].heads, 20.0 + 3.0 / (5.0 * 10.0 * 50.0) * (995.0 - way), atol=1e-6
            )
        plume = ik.solve_transport(flow, made.species[0], duration=150_000.0, step_length=5000.0)
        npt.assert_allclose(plume.concentration.isel(time=-1).min(), 7.0, rtol=0.05)


@pytest.mark.parametrize(("given", "expected"), [("2e-5", 1.728), ('"2 m/day"', 2.0)])
def test_bare_numbers_are_in_the_unit_of_the_project_whatever_the_kind(first_project, given, expected):
    shapes(first_project / "east.geojson", [shapely.LineString([(990, 10), (990, 990)])], a=[1])
    east = f'[[head_dependent]]\nname = "east"\nfile = "east.geojson"\nhead = 18\nconductance = {given}\n'
    put(first_project, east)
    spoil(first_project, "site.toml", 'time = "day"', 'time = "s"')
    npt.assert_allclose(ik.read_site(first_project / "site.toml").feature("east").conductance, expected)


def test_conductances_are_in_the_unit_of_their_shape(first_project, refused):
    """By the metre of a line, by the square metre of a polygon, in seconds and feet too; well_loss of wells as well."""
    boxes = [shapely.box(100, 100, 300, 300)]
    shapes(first_project / "field.geojson", boxes, c=[0.25])
    shapes(first_project / "ditch.geojson", [shapely.LineString([(100, 500), (900, 500)])], c=[2.0])
    put(first_project, "".join(
        f'[[drain]]\nname = "{n}"\nfile = "{n}.geojson"\nlevel = "16 m"\nconductance = {c}\n'
        for n, c in (("field", '"0.5 1/day"'), ("ditch", '{ column = "c" }'))
    ))  # fmt: skip
    text = (first_project / "wells.csv").read_text().splitlines()
    (first_project / "wells.csv").write_text(f"{text[0]},well_loss\n{text[1]},3\n")
    for length, time in (("m", "day"), ("ft", "s")):
        site_file = first_project / "site.toml"
        text = site_file.read_text(encoding="utf-8")
        spoil(
            first_project, "site.toml", 'length = "m"\ntime = "day"', f'length = "{length}"\ntime = "{time}"'
        )
        made = ik.read_site(site_file)
        foot, second = (0.3048, 1 / 86400) if length == "ft" else (1.0, 1.0)
        assert made.feature("field").conductance == 0.5
        npt.assert_allclose(made.feature("ditch").conductance, 2.0 * foot / second)
        npt.assert_allclose(made.wells[0].well_loss, 3.0 * second**2 / foot**5)
        site_file.write_text(text, encoding="utf-8")
    spoil(first_project, "site.toml", '"0.5 1/day"', '"0.5 m/day"')
    refused(first_project / "site.toml", "conductance is '0.5 m/day'.*not a unit of leakance")


def test_any_value_may_stand_in_a_column(first_project):
    """Conductances, depths of plants, the two ends of a stage in two columns, the factor of an edit."""
    brook, woods = shapely.LineString([(500, 900), (500, 100)]), [(0, 0, 400, 400), (600, 600, 900, 900)]
    shapes(first_project / "brook.geojson", [brook], up=[17.0], down=[16.5], k=[3.0])
    boxes = [shapely.box(*w) for w in woods]
    shapes(first_project / "wood.geojson", boxes, n=["a", "b"], d=[1.5, 250.0], f=[2.0, 3.0])
    put(
        first_project,
        """
[[river]]
name = "brook"
file = "brook.geojson"
stage = { column = ["up", "down"] }
bed = "15 m"
conductance = { column = "k" }
[[evapotranspiration]]
name = { column = "n" }
file = "wood.geojson"
rate = "1 mm/day"
depth = { column = "d", unit = "cm" }
[[edit]]
of = "horizontal_conductivity"
factor = { column = "f" }
within = { file = "wood.geojson" }
layers = ["sand"]
""",
    )
    project = ik.read_project(first_project / "site.toml")
    brook = project.site.feature("brook")
    assert (brook.stage, brook.conductance) == ((17.0, 16.5), 3.0)
    npt.assert_allclose([project.site.feature(n).depth for n in "ab"], [0.015, 2.5])
    model = ik.place(project.site, project.grid())
    c = model.grid.cells
    inside = [(c.x < 400) & (c.y < 400), (c.x > 600) & (c.x < 900) & (c.y > 600) & (c.y < 900)]
    times = np.select(inside, [2.0, 3.0], 1.0)
    npt.assert_allclose(model.horizontal_conductivity, np.where(c.layer == 0, 8.0 * times, 40.0))


@pytest.mark.parametrize("cell", [20.0, 100.0])
def test_what_a_feature_states_is_edited_as_it_states_it(cell):
    """By the metre, by the square metre: totals do not depend on the grid."""
    edits = (
        ik.Edit("drain.conductance", 1.5, feature="ditch"),
        ik.Edit("drain.conductance", 0.02, feature="field"),
        ik.Edit("river.conductance", 0.5, how="add"),
    )
    model = ik.place(site(*EVERY, edits=edits), ik.rectangles((0, -100, 1000, 1000), cell=cell))
    drain, river = model.term("drain"), model.term("river")
    totals = np.bincount(drain.feature_index, drain.conductance)
    npt.assert_allclose(totals, [1.5 * WAY.length, 0.02 * EVERY[6].shape.area], rtol=1e-9)
    npt.assert_allclose(river.conductance.sum(), (0.4 * 3 / 0.5 + 0.5) * WAY.length, rtol=1e-9)


# what is put at the end of the full project, and what `check` then says
MISTAKES = {
    "a species misspelt": (
        'file = "gallery.geojson"',
        'file = "gallery.geojson"\nconcentration = { chlroide = "3 g/l" }',
        'no species "chlroide"',
    ),
    "a bed edited above its stage": (
        "\n[[seepage]]\n",
        '\n[[edit]]\nof = "river.bed"\nadd = "3 m"\n[[seepage]]\n',
        'river "stream" has its stage up to .* below its bed',
    ),
    "a collector in a held cell": (
        "\n[[seepage]]\n",
        '\n[[fixed_head]]\nname = "pond"\nfile = "gallery.geojson"\nhead = 17\nlayers = ["sand"]\n[[seepage]]\n',
        'collector "gallery" stands in a cell of fixed head',
    ),
    "a level at a distance below its cell": (
        'head = "18 m"',
        'head = "7 m"',
        'head-dependent boundary "east" has its level below',
    ),
    "a kind near which": (
        "[grids.fine]",
        '[grids.odd]\ncell = "50 m"\nnear = [{ kinds = ["springs"], size = 5 }]\n[grids.fine]',
        'there is no kind "springs".*Did you mean "spring"',
    ),
    "a unit for another shape": (
        'leakance = "1e-4 1/day"',
        'leakance = "1e-4 m/day"',
        "leakance is '1e-4 m/day'",
    ),
    "a layer of no name": (
        'layers = ["sand"]\n\n[[spring]]',
        'layers = ["sad"]\n\n[[spring]]',
        'barrier "wall".*names the layer "sad"',
    ),
}


@pytest.mark.parametrize("case", MISTAKES)
def test_mistakes_that_used_to_pass_in_silence(full_project, command, case):
    import re

    old, new, words = MISTAKES[case]
    put(full_project, '[[species]]\nname = "chloride"\n')
    spoil(full_project, "site.toml", old, new)
    code, out, err = command("check", full_project / "site.toml")
    said = " ".join(re.sub("[│|]", " ", err or out).split())
    assert re.search(words, said), said
    assert code == (0 if "distance" in case else 2)


def test_a_river_that_cannot_be_is_not_solved():
    edits = (ik.Edit("river.bed", 3.0, how="add"),)
    with pytest.raises(ik.InputError, match=r'river "creek" has its stage up to 2.46 m below its bed'):
        ik.solve_flow(ik.place(site(*EVERY, edits=edits), KINDS["rectangles"]()))


def test_a_variant_replaces_one_way_to_make_a_surface_by_another(first_project):
    (first_project / "variants").mkdir()
    for way in (
        'under = "ground", depth = "11 m"',
        'between = ["ground", "ground"]',
        'polygons = "b.geojson", z = "z"',
    ):
        shapes(first_project / "b.geojson", [shapely.box(-9, -9, 1009, 1009)], z=[9.0])
        text = f'[[layer]]\nname = "sand"\nbase = {{ {way} }}\n'
        (first_project / "variants" / "v.toml").write_text(text)
        base = ik.read_site(first_project / "site.toml", variant="v").strata.layers[0].base
        npt.assert_allclose(base.at([5.0], [5.0]), {"u": 9.0, "b": 20.0, "p": 9.0}[way[0]])


def test_a_layer_s_name_means_all_of_its_parts(full_project):
    """Features, edits, bores, fits and surfaces name the whole, and nothing changes in how many parts it is."""
    totals = []
    put(full_project, '[[edit]]\nof = "porosity"\nvalue = 0.3\nlayers = ["sand"]\n')
    text = (full_project / "site.toml").read_text(encoding="utf-8")
    for parts in ("", "parts = 3\n", "parts = [0.2, 0.8]\n"):
        sand = 'base = { elevation = "8 m" }\n'
        assert sand in text
        (full_project / "site.toml").write_text(text.replace(sand, sand + parts), encoding="utf-8")
        project = ik.read_project(full_project / "site.toml")
        model = ik.place(project.site, project.grid())
        assert not ik.check(model).errors
        wall = (model.face_resistance > 0) @ model.grid.faces.area
        sandy = np.isin(model.grid.cells.layer, model.grid.layers_named("sand"))
        assert (model.porosity[sandy] == 0.3).all()
        assert (model.porosity[~sandy] < 0.3).all()
        from inkhorn.calibration import seen_bores

        seen, _ = seen_bores(model)
        totals.append([wall, model.term("head-dependent boundary").conductance.sum(), len(seen.bores)])
    npt.assert_allclose(totals[1], totals[0])
    npt.assert_allclose(totals[2], totals[0])


def tangent(flow, change):
    return ik.FlowSensitivity(flow).tangent(change)


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (lambda flow: tangent(flow, {"rechage.rate": np.zeros(3)}), 'Did you mean "recharge.rate"'),
        (lambda flow: tangent(flow, {"porosity": np.zeros(3)}), "do not depend on porosity"),
        (lambda flow: tangent(flow, {"recharge.rate": np.zeros(3)}), r"change of recharge.rate has the shape \(3,\)"),
        (lambda flow: flow.model.with_inputs({"anisotrpy": 1.0}), 'no input "anisotrpy".*Did you mean "anisotropy"'),
        (lambda flow: flow.model.input("river.stge"), 'Did you mean "river.stage"'),
        (lambda flow: ik.WaterTable(smoothing=0.6), "smoothing is 0.6; expected a share of at most a quarter"),
        (lambda flow: ik.WaterTable(film=3), "film is 3; expected a share of at most a tenth"),
        (lambda flow: flow.model.traces.matrix("river.width"), '"river.width" was not placed'),
    ],
)  # fmt: skip
def test_names_and_values_that_are_not_understood_are_refused(quillmere, make, message):
    with pytest.raises(ik.InputError, match=message):
        make(quillmere)


def moved(made, owner, name, place, factor):
    """The same site with one of its numbers multiplied."""
    what, _, who = owner.partition(" ")
    if what == "material":
        materials = {
            k: replace(m, **{name: factor * getattr(m, name)}) if m.name == who else m
            for k, m in made.materials.items()
        }
        return replace(made, materials=materials)
    if what == "edit":
        edits = list(made.edits)
        k = int(owner.split()[1]) - 1
        edits[k] = replace(edits[k], value=factor * edits[k].value)
        return replace(made, edits=tuple(edits))
    features = []
    for f in made.features:
        if f"{f.kind} {f.name}" == owner:
            value = getattr(f, name)
            if isinstance(value, tuple):
                value = tuple(v * (factor if k == place else 1.0) for k, v in enumerate(value))
            else:
                value = factor * value
            f = replace(f, **{name: value})
        features.append(f)
    return replace(made, features=tuple(features))


def test_heads_by_every_number_of_the_site_equal_differences_of_placing_anew():
    """One adjoint through the traces against placing and solving again, for all that the site states."""
    upper = replace(SAND, name="upper sand", anisotropy=3.0, direction=20.0)
    edits = (
        ik.Edit("vertical_conductivity", 1.3, how="factor", layers=("lower",)),
        ik.Edit("drain.level", 7.2, feature="ditch"),
    )
    made = site(*EVERY, replace(SLOPE, outflow=None), edits=edits, upper=upper)
    mesh = KINDS["rotated"]()
    model = ik.place(made, mesh)
    flow = ik.solve_flow(model, closure=1e-13)
    rng = np.random.default_rng(8)
    weights = np.zeros(model.grid.n_cells + 2)
    weights[: model.grid.n_cells] = rng.uniform(size=model.grid.n_cells) / model.grid.n_cells
    gradient = ik.FlowSensitivity(flow, tolerance=1e-12).adjoint(weights)
    exact = model.traces.gradient(gradient)
    assert len(exact) > 45

    def goal(other):
        heads = (
            ik.solve_flow(ik.place(other, mesh), initial_heads=flow.steps[-1].heads, closure=1e-13)
            .steps[-1]
            .heads
        )
        return float(weights[: len(heads)] @ heads)

    seen, largest = 0, np.abs(exact * [i.value for i in model.traces.inputs]).max()
    for number, known in enumerate(model.traces.inputs):
        if known.value == 0.0 or known.name in (
            "porosity",
            "specific_storage",
            "specific_yield",
            "elevation",
            "screen_bottom",
        ):
            continue  # heads do not depend on these, or a shape does
        step = 1e-3 if known.name not in ("head", "stage", "level", "bed") else 2e-5
        up, down = (goal(moved(made, known.owner, known.name, known.place, 1 + s)) for s in (step, -step))
        difference = (up - down) / (2 * step)
        npt.assert_allclose(exact[number] * known.value, difference, atol=2e-5 * largest, err_msg=str(known))
        seen += 1
    assert seen > 30
    change = model.traces.change(np.array([i.value for i in model.traces.inputs]))
    npt.assert_allclose(change["river.stage"], model.input("river.stage"), rtol=1e-12)


@pytest.mark.parametrize("kind", ["rectangles", "rotated", "split", "voronoi", "cut"])
@pytest.mark.parametrize("direction", [0.0, 35.0])
def test_sensitivities_by_the_tensor_equal_richardson_differences(kind, direction):
    """By ratio and direction, in blocks of cells, on every mesh, where its axes meet those of the mesh too."""
    model = ik.place(site(*EVERY, upper=replace(SAND, anisotropy=4.0, direction=direction)), KINDS[kind]())
    flow = ik.solve_flow(model, closure=1e-13)
    c = model.grid.cells
    sensitivity = ik.FlowSensitivity(flow, tolerance=1e-13)
    rng = np.random.default_rng(1)
    weights = rng.normal(size=sensitivity.equations.n_unknowns)
    gradient = sensitivity.adjoint(weights)
    ways = {"anisotropy": 1.0, "direction": 10.0}
    if kind == "split" and direction == 0.0:  # points on the axes are read otherwise than any beside them
        del ways["direction"]
    for name, scale in ways.items():
        change = scale * (1.0 + (c.x > 300)) * (c.layer == 0)
        exact = sensitivity.tangent({name: change})
        npt.assert_allclose(weights @ exact, gradient[name] @ change, rtol=1e-9)

        def heads(step, name=name, change=change):
            other = model.with_inputs({name: model.input(name) + step * change})
            return ik.solve_flow(other, initial_heads=flow.steps[-1].heads, closure=1e-13).steps[-1].heads

        step = 2e-4
        d1, d2 = ((heads(s) - heads(-s)) / (2 * s) for s in (step, step / 2))
        npt.assert_allclose(exact[: len(c)], (4 * d2 - d1) / 3, atol=2e-5 * np.abs(exact).max())


def test_zones_come_from_rasters_too(first_project):
    import rasterio
    from rasterio.transform import from_origin

    codes = np.repeat([[1, 2]], 4, axis=0).astype("uint8")
    place = {"transform": from_origin(0.0, 1000.0, 500.0, 250.0), "dtype": "uint8", "count": 1}
    with rasterio.open(first_project / "soil.tif", "w", driver="GTiff", height=4, width=2, **place) as file:
        file.write(codes, 1)
    put(
        first_project,
        '[zones.soil]\nraster = "soil.tif"\ncodes = { clay = 2, loam = 1 }\nlayers = ["sand"]\n',
    )
    project = ik.read_project(first_project / "site.toml")
    model = ik.place(project.site, project.grid())
    zones, c = model.zones["soil"], model.grid.cells
    npt.assert_array_equal(zones.mask("clay"), (c.x > 500) & (c.layer == 0))
    assert (zones.number[c.layer == 1] == -1).all()
    with pytest.raises(ik.InputError, match=r'names the zone "clya".*Did you mean "clay"'):
        zones.mask("clya")
    k = model.horizontal_conductivity
    matrix = zones.factors(k)
    npt.assert_allclose(matrix @ [1.0, 1.0], np.where(zones.number >= 0, k, 0.0))


def test_the_schema_knows_kinds_of_other_packages():
    text = json.dumps(project_model().model_json_schema())
    assert '"moat"' in text
    assert "organic_carbon" in text
    assert Moat.kind in {k.kind for k in kinds().values()}


def test_the_guide_to_new_kinds_runs():
    """Its code, as a package would have it, in a process of its own: the pond lands and leaks."""
    text = (Path(__file__).parent.parent / "docs" / "new-kinds.md").read_text(encoding="utf-8")
    code = "\n".join(part.partition("```")[0] for part in text.split("```python\n")[1:])
    code += """
import inkhorn as ik, shapely
from tests.test_features import EVERY, INNER, site
from tests.test_meshes import KINDS
pond = Pond(name="p", shape=INNER, depth=0.5, leakance=1e-3)
flow = ik.solve_flow(ik.place(site(EVERY[0], pond), KINDS["split"]()))
assert abs(flow.budget().loc["pond"].iloc[0] - 5e-4 * INNER.area) < 1e-6
"""
    root = Path(__file__).parent.parent
    done = subprocess.run([sys.executable, "-c", code], cwd=root, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
