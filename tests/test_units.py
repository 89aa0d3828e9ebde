"""Numbers with units."""

from __future__ import annotations

import numpy.testing as npt
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

import inkhorn as ik
from inkhorn.units import KINDS, UnitSystem, quantity, unit_factor


@pytest.mark.parametrize(
    ("text", "kind", "inside"),
    [
        ("650 mm/year", "rate", 0.65 / 365.25),
        ("12 l/s", "flow", 1036.8),
        ("12 m³/h", "flow", 288.0),
        ("12 m3/h", "flow", 288.0),
        ("12 m^3/h", "flow", 288.0),
        ("1e-4 m/s", "conductivity", 8.64),
        ("250 mg/l", "concentration", 250.0),
        ("3 ppm", "concentration", 3.0),
        ("40 ppb", "concentration", 0.04),
        ("15 years", "time", 15 * 365.25),
        ("-3.5", "length", -3.5),
        (7, "length", 7.0),
        ("2 ha", "area", 20000.0),
        ("0.3", "number", 0.3),
        ("25 %", "number", 0.25),
        ("5 m3/day", "flow", 5.0),
        ("5 m2/day", "conductance", 5.0),
        ("5 m3 d-1", "flow", 5.0),
        ("5 m^3/(m^2 day)", "rate", 5.0),
    ],
)
def test_numbers_with_units(text, kind, inside):
    npt.assert_allclose(quantity(text, kind), inside, rtol=1e-12)


def test_bare_numbers_take_the_unit_of_the_project():
    feet = UnitSystem(length="ft", time="s", concentration="ug/l")
    npt.assert_allclose(quantity(1.0, "conductivity", units=feet), 0.3048 * 86400)
    npt.assert_allclose(quantity(5, "concentration", units=feet), 0.005)


@pytest.mark.parametrize(
    ("value", "kind", "message"),
    [
        ("650 mm", "rate", '"mm" is not a unit of rate; expected something like "650 mm/year"'),
        ("12 l/s", "length", "not a unit of length"),
        ("12 furloongs", "length", "not known"),
        ("about 12 m", "length", 'expected a number, as in "12.5 m"'),
        (True, "length", "expected a number"),
        (None, "length", "expected a number"),
        ("1e999", "length", "finite"),
        ("1 m; import os", "length", "not a unit"),
        ("1 m**9**9**9", "length", "not a unit"),
        ("20 9^9^9 m", "length", "is not a unit; expected one of length"),
        ("1 " + "m" * 5000, "length", "expected a number"),
        (" " * 3000 + "1 m", "length", "expected a number"),
    ],
)
def test_what_is_no_such_quantity_is_refused(value, kind, message):
    with pytest.raises(ik.InputError, match="depth is") as told:
        quantity(value, kind, what="depth")
    assert message in str(told.value)


@given(st.floats(0.0, 1.0), st.sampled_from(sorted(KINDS)))
def test_every_kind_knows_its_example_and_scales(share, kind):
    _, _, example = KINDS[kind].example.partition(" ")
    factor = unit_factor(example, kind)
    low, high = KINDS[kind].possible
    value = (low + share * (min(high, 1e9) - low)) / factor * (1.0 - 1e-12)
    npt.assert_allclose(quantity(f"{value!r} {example}", kind), value * factor, rtol=1e-12)


def test_abbreviations_of_the_trade_are_known():
    npt.assert_allclose(unit_factor("gpm", "flow"), 5.450992968959999, rtol=1e-12)
    npt.assert_allclose(unit_factor("MGD", "flow"), 3785.411784, rtol=1e-12)
    npt.assert_allclose(unit_factor("cfs", "flow"), 0.3048**3 * 86400, rtol=1e-12)
    npt.assert_allclose(quantity("10 gpd/ft^2", "conductivity"), 0.4074583333333333, rtol=1e-9)


def test_text_with_a_unit_is_taken_in_python_too():
    """By features, materials, species, meshes, solvers; what is of another kind is refused by name."""
    line, square = shapely.LineString([(0, 0), (100, 0)]), shapely.box(0, 0, 1000, 800)
    river = ik.River(
        name="brook", shape=line, stage=["17 m", "1600 cm"], bed="15 m", width="4 m",
        bed_thickness="0.5 m", bed_conductivity="1e-5 m/s",
    )  # fmt: skip
    npt.assert_allclose(river.stage, [17.0, 16.0])
    npt.assert_allclose(river.bed_conductivity, 0.864)
    well = ik.Well(
        name="w", x=1, y=2, screen_top="10 ft", screen_bottom="-3 m", abstraction="12 m3/h",
        concentration={"salt": "3 g/l"},
    )  # fmt: skip
    npt.assert_allclose(
        [well.screen_top, well.abstraction, well.concentration["salt"]], [3.048, 288.0, 3000.0]
    )
    sand = ik.Material("sand", conductivity="1e-4 m/s", porosity="25 %")
    npt.assert_allclose([sand.conductivity, sand.porosity], [8.64, 0.25])
    assert ik.Species("salt", limit="1 g/l").limit == pytest.approx(1000.0)
    near = [(shapely.Point(300, 300), "1000 cm")]
    for one, other in (
        (ik.rectangles(square, cell="0.1 km", near=near, rotation="30 degrees"),
         ik.rectangles(square, cell=100, near=[(near[0][0], 10)], rotation=30)),
        (ik.voronoi(square, cell="0.1 km", near=near), ik.voronoi(square, cell=100, near=[(near[0][0], 10)])),
        (ik.split_in_four(square, cell="0.1 km", near=near),
         ik.split_in_four(square, cell=100, near=[(near[0][0], 10)])),
    ):  # fmt: skip
        npt.assert_allclose(one.area, other.area)
    assert ik.Dispersion("20 m", "200 cm").transverse == pytest.approx(2.0)
    for make, message in (
        (lambda: ik.Recharge(name="rain", shape=square, rate="650 mm"), 'recharge "rain": rate is .*not a unit of rate'),
        (lambda: ik.Material("sand", conductivity="3 kg"), 'material "sand": conductivity is .*not a unit of cond'),
        (lambda: ik.rectangles(square, cell="100 kg"), "cell is .*not a unit of length"),
        (lambda: ik.Dispersion("2 days"), "longitudinal is .*not a unit of length"),
    ):  # fmt: skip
        with pytest.raises(ik.InputError, match=message):
            make()
