"""Travel times and ways of particles against exact solutions."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pytest

import inkhorn as ik
from tests.conftest import held, rain, strip
from tests.verification.test_flow_exact import around_a_well


@pytest.mark.parametrize("angle", [0.1, 0.8, 2.0, 4.5])
def test_travel_time_to_a_well(angle):
    """Radial flow: t = pi n b r² / Q, forward and backward."""
    flow, *_ = around_a_well(101)
    r = 200.0
    exact = np.pi * 0.2 * 15.0 * r**2 / 600.0
    start = [(r * np.cos(angle), r * np.sin(angle), -7.0)]
    ends = ik.trace(flow, start, max_time=1e5).ends
    assert ends.loc[0, ["end", "feature"]].tolist() == ["taken by a well", "well"]
    npt.assert_allclose(ends.loc[0, "travel time [day]"], exact, rtol=0.01)
    # back from the well for that time, every path has come from about that distance
    back = ik.trace(flow, ["well"], backward=True, max_time=exact, per_well=12).ends
    npt.assert_allclose(np.hypot(back["end x [m]"], back["end y [m]"]), r, rtol=0.01)
    npt.assert_allclose(back["travel time [day]"], exact, rtol=1e-12)


def test_travel_time_under_recharge_from_the_divide():
    """Confined thickness H with rain R: from x0 to x takes n H / R ln(x / x0); heights shrink as x0 / x."""
    n, height, rate, porosity = 100, 20.0, 0.001, 0.3
    grid = strip(n, surfaces=(height, 0.0))
    model = ik.Model(
        grid, 50.0, porosity=porosity, terms=[held([n], 100.0), rain(grid, rate)],
        water_table=ik.WaterTable(confined=True),
    )  # fmt: skip
    # the divide is the closed side of the first cell, at x = -5
    flow = ik.solve_flow(model)
    paths = ik.trace(flow, [(195.0, 5.0, height)], mark=100.0)
    x, z, t = (paths.points[c].to_numpy() for c in ("x [m]", "z [m]", "time [day]"))
    moving = x < 990.0  # the last cell lets water out by its top
    npt.assert_allclose(t[moving], porosity * height / rate * np.log((x[moving] + 5) / 200.0), rtol=2e-3, atol=1.0)
    npt.assert_allclose(z[moving], height * 200.0 / (x[moving] + 5), rtol=5e-3)
    assert paths.ends.loc[0, ["end", "feature"]].tolist() == ["left by the top", "held"]
    npt.assert_allclose(np.diff(paths.marks()["time [day]"]), 100.0)


def test_there_and_back_again(quillmere):
    """A path followed backward from where it got to returns to where it began."""
    # on the ground by the depot, where rain soaks in
    start = np.array([[4430.0, 3650.0, 40.0]])
    there = ik.trace(quillmere, start, max_time=3000.0)
    end = there.points.iloc[-1]
    assert end["time [day]"] == 3000.0
    back = ik.trace(
        quillmere, [end[["x [m]", "y [m]", "z [m]"]].to_numpy(float)], backward=True, max_time=3000.0
    )
    npt.assert_allclose(back.ends[["end x [m]", "end y [m]", "end z [m]"]].to_numpy(), start, atol=0.01)


def test_the_hatchery_drinks_rain(quillmere):
    ends = ik.trace(quillmere, ["hatchery"], backward=True, per_well=16).ends
    assert set(ends["end"]) == {"entered by the top"}
    assert set(ends["feature"]) <= {"heath 1", "heath 2", "meadow", "wood", "salt depot"}
    assert (ends["travel time [day]"] > 0).all()


@pytest.mark.parametrize(
    ("start", "message"),
    [
        ([], "`start` is empty"),
        ([(0.0, 0.0)], r"shape \(1, 2\); expected \(n, 3\)"),
        ([(3000.0, 3000.0, 500.0)], "start point 0 at x=3000, y=3000, z=500 lies in no cell"),
        (["hatchry"], 'no well "hatchry"'),
    ],
)
def test_starts_that_cannot_be(quillmere, start, message):
    with pytest.raises(ik.InputError, match=message):
        ik.trace(quillmere, start)
