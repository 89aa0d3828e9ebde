"""Series, schedules and the water balance of the soil."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import inkhorn as ik
from inkhorn.site import Schedule, Series, in_each_period, periods_between, soil_water_balance

DATES = pd.date_range("2019-01-01", "2021-12-01", freq="MS").to_numpy()


def test_a_series_is_averaged_by_how_long_each_value_holds():
    series = Series(np.array(["2021-01-01", "2021-01-11"], "datetime64[s]"), [[1.0, 2.0], [3.0, 6.0]])
    start = np.datetime64("2021-01-06", "s")
    npt.assert_allclose(series.mean(0.0, 20.0, start), [2.5, 5.0])
    npt.assert_allclose(series.mean(5.0, 5.0, start), [3.0, 6.0])
    npt.assert_allclose(series.changed(lambda v: 2 * v).mean(-5.0, 0.0, start), [2.0, 4.0])


@pytest.mark.parametrize(
    ("times", "values", "message"),
    [
        ([0.0, 0.0], [1, 2], r"row 1: the time 0.0 does not come after 0.0"),
        (np.array(["2021-02-01", "2021-01-01"], "datetime64[s]"), [1, 2], r"\(1 such rows\). Sort the rows"),
        ([0.0, np.nan], [1, 2], "row 1: the time is missing"),
        ([0.0, 1.0], [1, np.inf], "series"),
        ([0.0, 1.0], [1], "2 times and 1 values"),
    ],
)
def test_series_that_cannot_be(times, values, message):
    with pytest.raises(ik.InputError, match=message):
        Series(times, values)


def test_series_that_do_not_reach():
    late = Series(DATES, np.arange(36.0), name="stage")
    with pytest.raises(ik.InputError, match="stage begins 31 days after it is needed"):
        late.mean(0.0, 10.0, np.datetime64("2018-12-01", "s"))
    with pytest.raises(ik.InputError, match="goes by dates, but the schedule starts at none"):
        late.mean(0.0, 10.0)
    with pytest.raises(ik.InputError, match=r"no schedule\. Give one"):
        in_each_period(late, None, "the stage")


def test_warm_up_years_take_the_means_of_their_season():
    yearly = Series(DATES, np.tile(np.arange(12.0), 3) + np.repeat([0.0, 10.0, 20.0], 12), name="rain")
    schedule = Schedule([0.0, 365.0], "2019-01-01", steady=[True, False]).warmed_up(2)
    assert len(schedule) == 26
    assert schedule.warm_up.sum() == 25
    assert str(schedule.start)[:10] == "2017-01-01"
    values = schedule.mean(yearly)[:, 0]
    npt.assert_allclose(values[1:13], np.arange(12) + 10.0)  # the mean of three Januaries, and so on
    days = np.diff(np.append(DATES, np.datetime64("2020-01-01"))[:13]) / np.timedelta64(1, "D")
    npt.assert_allclose(values[-1], days @ np.arange(12) / 365)
    with pytest.raises(ik.InputError, match="a warm-up needs dates"):
        Schedule([10.0]).warmed_up(1)


@given(st.lists(st.floats(0.1, 99.9), max_size=8), st.integers(1, 5), st.floats(0.5, 2.0))
def test_no_change_falls_inside_a_period(times, steps, growth):
    changes = Series(np.unique([0.0, *times]), np.arange(len(np.unique([0.0, *times]))))
    schedule = Schedule([0.0, 40.0, 100.0], steady=[True, False, False], steps=steps, growth=growth)
    split = schedule.split_at([changes])
    for k in range(len(split)):
        inside = (changes.times > split.begins[k] + 1e-8) & (changes.times < split.ends[k] - 1e-8)
        assert not inside.any() or split.lengths[k] == 0
        ends = split.step_ends(k)
        assert ends[-1] == split.ends[k]
        assert len(ends) == split.steps[k]
    assert split.steady.tolist() == [True] + [False] * (len(split) - 1)


def test_calendar_periods_end_where_the_last_one_is_said_to():
    npt.assert_allclose(periods_between("2020-01-31", "2020-04-10", "month")[-1], 70.0)
    npt.assert_allclose(periods_between("2020-01-01", "2022-07-01", "year"), [366, 731, 912])
    npt.assert_allclose(periods_between("2020-01-01", "2020-01-20", "week"), [7, 14, 19])
    table = Schedule([31.0, 60.0], "2020-01-01", steps=[1, 2]).table({"rate": np.array([[1.0], [2.0]])})
    assert table["end"].tolist() == ["2020-02-01", "2020-03-01"]
    assert table["changes"].tolist() == ["", "rate"]


@pytest.mark.parametrize(
    ("options", "message"),
    [
        ({"ends": [10.0, 5.0]}, "period 1 ends 5 days after the start, which is not after it begins"),
        ({"ends": [0.0]}, "only a steady period may have no length"),
        ({"ends": [1.0], "steps": 0}, "steps of period 0 is 0; expected 1 or more"),
        ({"ends": [1.0], "growth": [1.0, 2.0]}, r"growth has the shape \(2,\)"),
    ],
)
def test_schedules_that_cannot_be(options, message):
    with pytest.raises(ik.InputError, match=message):
        Schedule(**options)


@given(
    st.lists(st.tuples(st.floats(0, 80), st.floats(0, 9)), min_size=1, max_size=60),
    st.floats(0, 1),
    st.floats(0, 1),
)
def test_the_soil_keeps_its_water(days, runoff, easily):
    rain, wanted = np.array(days).T
    table = soil_water_balance(
        rain, wanted, available_water=60, easily_taken=easily, runoff=runoff, initial_deficit=30
    )
    out = table["recharge [mm]"] + table["evapotranspiration [mm]"] + table["runoff [mm]"]
    npt.assert_allclose(rain.sum(), out.sum() + 30 - table["deficit [mm]"].iloc[-1], atol=1e-9)
    assert (table >= -1e-12).all(axis=None)
    assert (table["evapotranspiration [mm]"] <= wanted + 1e-12).all()
    assert (table["deficit [mm]"] <= 60 + 1e-12).all()


def test_what_the_soil_refuses():
    with pytest.raises(ik.InputError, match="rain has 2 days and evapotranspiration 1"):
        soil_water_balance([1, 2], [1], available_water=50)
    with pytest.raises(ik.InputError, match="runoff is 2; expected 0 to 1"):
        soil_water_balance([1], [1], available_water=50, runoff=2)
