"""Columns of cells that fill and drain: what they store, and where plants, rain, drains and rivers act."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pytest

import inkhorn as ik
from tests.conftest import rain

AREA = 400.0


def by_hand(head, bottom, top, storage, drainable):
    """Water of one square metre: what drains from the filled part, and what pressure stores in it."""
    depth = np.clip(head - bottom, 0.0, top - bottom)
    above = np.maximum(head - top, 0.0)
    return drainable * depth + storage * (0.5 * depth**2 + (top - bottom) * above)


@pytest.mark.parametrize("order", [1, 2])
@pytest.mark.parametrize(
    ("storage", "drainable", "top"),
    [(1e-5, 0.2, 10.0), (5e-3, 0.05, 3.0), (1e-4, 0.3, 60.0), (2e-2, 1e-3, 8.0)],
)
def test_water_is_kept_between_water_table_and_pressure(order, storage, drainable, top):
    """One cell filled above its top and drained again: the hand integral, step by step."""
    grid = ik.layered(ik.rectangles((0, 0, 20, 20), cell=20), [top, 0.0])
    first = 0.9 * top
    room = float(
        by_hand(1.6 * top, 0.0, top, storage, drainable) - by_hand(first, 0.0, top, storage, drainable)
    )
    rate = np.array([1.0, -1.0, 1.0, -1.0]) * room / 10.0
    model = ik.Model(
        grid, 1.0, specific_storage=storage, specific_yield=drainable, terms=[rain(grid, 0.0)],
        schedule=ik.Schedule([10.0, 20.0, 25.0, 32.0], steps=7), inputs_in_time={"recharge.rate": rate[:, None]},
    )  # fmt: skip
    flow = ik.solve_flow(model, initial_heads=first, order=order, closure=1e-12)
    heads = np.array([first, *(s.heads[0] for s in flow.steps)])
    water = by_hand(heads, 0.0, top, storage, drainable)
    brought = np.cumsum([rate[s.period] * (s.end - s.begin) for s in flow.steps])
    clear = np.abs(heads[1:] - top) > 0.02  # where the law does not bend
    npt.assert_allclose((water[1:] - water[0])[clear], brought[clear], atol=1e-9 * np.abs(brought).max())
    assert clear.sum() > 20
    assert heads.max() > 1.5 * top
    assert heads.min() < top


def falling(level: float, *terms):
    """Three layers of 4 m, the lowest tied to a level beside it, under what acts from above."""
    grid = ik.layered(ik.rectangles((0, 0, 60, 20), cell=20), [12.0, 8.0, 4.0, 0.0])
    ends = ik.terms.HeadDependentTerm(
        grid.cell_number[2][[0, 2]], conductance=40.0, head=level, feature_names=("side",)
    )
    return ik.solve_flow(ik.Model(grid, 10.0, 5.0, terms=[ends, *(t(grid) for t in terms)]), closure=1e-12)


def plants(grid):
    cells = grid.cell_number.T.ravel()  # columns from the top down
    column = np.repeat(np.arange(3.0), 3)
    return ik.terms.EvapotranspirationTerm(
        cells, rate=2e-3, area=AREA, surface=12.0, depth=10.0, column=column, feature_names=("wood",)
    )


@pytest.mark.parametrize("level", [11.0, 7.3, 5.0, 3.2])
def test_plants_draw_from_the_cell_that_holds_the_water_table(level):
    """In proportion to its depth below the ground, whichever layer it stands in."""
    flow = falling(level, plants)
    heads, cells = flow.steps[-1].heads, flow.model.grid.cells
    table = heads[flow.model.grid.cell_number[2]]  # all are level but for what is drawn
    drawn = flow.steps[-1].term_flow[1].reshape(3, 3)
    npt.assert_allclose(drawn.sum(axis=1), -2e-3 * AREA * (table - 2.0) / 10.0, rtol=2e-3)
    holds = int(np.argmax(level > np.array([8.0, 4.0, 0.0])))
    npt.assert_allclose(drawn[:, holds], drawn.sum(axis=1), rtol=1e-6)
    assert (cells.layer[flow.model.term("evapotranspiration").cells[drawn.ravel() < 0]] == holds).all()


@pytest.mark.parametrize("level", [11.0, 6.0, 2.0])
def test_rain_and_rivers_reach_the_water_table_through_dry_layers(level):
    """Rain enters the uppermost cell and falls on; a river loses all it can through its bed; a drain above rests."""

    def river(grid):
        return ik.terms.RiverTerm(
            [grid.cell_number[0][1]], conductance=0.5, stage=11.5, bed=11.0, feature_names=("brook",)
        )

    def ditch(grid):
        return ik.terms.DrainTerm(
            [grid.cell_number[0][1]], conductance=5.0, level=11.4, feature_names=("ditch",)
        )

    flow = falling(level, lambda grid: rain(grid, 1e-3), river, ditch)
    _, rained, lost, drained = flow.steps[-1].term_flow
    npt.assert_allclose(rained.sum(), 1e-3 * 3 * AREA)
    table = flow.steps[-1].heads[flow.model.grid.cell_number[2][1]]
    expected = 0.5 * (11.5 - max(table, 11.0))
    npt.assert_allclose(lost.sum(), expected, rtol=0.02)
    assert drained.sum() == 0.0
    out = -flow.steps[-1].term_flow[0].sum()
    npt.assert_allclose(out, rained.sum() + lost.sum(), rtol=1e-9)
    npt.assert_allclose(table, level + out / 80.0, atol=0.1)
