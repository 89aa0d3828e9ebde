"""Numbers with units."""

from __future__ import annotations

import numpy.testing as npt
import pytest
from hypothesis import given
from hypothesis import strategies as st

import inkhorn as ik
from inkhorn.units import KINDS, UnitSystem, quantity, split_header, unit_factor


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
    ],
)
def test_what_is_no_such_quantity_is_refused(value, kind, message):
    with pytest.raises(ik.InputError, match="depth is") as told:
        quantity(value, kind, what="depth")
    assert message in str(told.value)


@given(st.floats(-1e6, 1e6), st.sampled_from(sorted(KINDS)))
def test_every_kind_knows_its_example_and_scales(value, kind):
    _, _, example = KINDS[kind].example.partition(" ")
    factor = unit_factor(example, kind)
    npt.assert_allclose(quantity(f"{value!r} {example}", kind), value * factor, rtol=1e-12)


@pytest.mark.parametrize(
    ("header", "split"),
    [("rate [l/s]", ("rate", "l/s")), ("x", ("x", "")), (" sand base [ m ] ", ("sand base", "m"))],
)
def test_headers_carry_units(header, split):
    assert split_header(header) == split
