"""Conduits against exact solutions: laws of pipes, leaking and partly filled ones, networks, limits, derivatives."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.testing as npt
import pytest
from scipy.sparse import csr_array

import inkhorn as ik
from inkhorn.conduits import PipeFlow, Pipes, PipeWater, friction_slope, mean_velocity
from inkhorn.flow import AllOf, FlowEquations, FlowSensitivity, Levels, Readings, SpringFlows
from inkhorn.model.terms import ConduitTerm, FixedHeadTerm

G, NU = 9.81 * 86400.0**2, 1.31e-6 * 86400.0
CONFINED = ik.WaterTable(confined=True)


def colebrook(reynolds, rough):
    """The friction factor, by bisection of Colebrook and White's equation."""
    low, high = 1e-4, 1.0
    for _ in range(200):
        f = np.sqrt(low * high)
        missing = 1.0 / np.sqrt(f) + 2.0 * np.log10(rough / 3.7 + 2.51 / (reynolds * np.sqrt(f)))
        low, high = (f, high) if missing > 0.0 else (low, f)
    return np.sqrt(low * high)


def test_laws_of_a_pipe_are_those_of_the_books():
    """Laminar and turbulent to 1e-12, smooth and rising between, the one law the inverse of the other."""
    rng = np.random.default_rng(3)
    for _ in range(200):
        d, rough, reynolds = (
            10.0 ** rng.uniform(-2, 1),
            10.0 ** rng.uniform(-6, -1),
            10.0 ** rng.uniform(0, 7.5),
        )
        v = reynolds * NU / d
        slope = float(friction_slope(v, d, rough * d))
        npt.assert_allclose(mean_velocity(slope, d, rough * d), v, rtol=1e-12)
        if reynolds < 2000.0:
            npt.assert_allclose(slope, 32.0 * NU * v / (G * d * d), rtol=1e-12)
        elif reynolds > 4000.0:
            npt.assert_allclose(slope, colebrook(reynolds, rough) / d * v * v / (2.0 * G), rtol=1e-12)
    for rough in (0.0, 1e-3, 0.1):
        re = np.geomspace(1500.0, 5000.0, 4000)
        s = np.log(friction_slope(re * NU, 1.0, rough))
        steep = np.gradient(s, np.log(re))
        assert steep.min() > 0.999
        assert np.abs(np.diff(steep)).max() < 0.02  # no corner at either end


def grid_of(length=1000.0, cells=10, top=50.0):
    return ik.layered(ik.rectangles((0, 0, length, 100), count=(cells, 1)), [top, 0.0])


def pipe(grid, pieces, length=900.0, **given):
    """One line of pieces along the grid, each of two pipes; its first and its last node held."""
    n = 2 * pieces
    x = np.linspace(0.0, length, n + 1)
    base = {
        "cells": grid.mesh.locate(0.5 * (x[1:] + x[:-1]), np.full(n, 50.0)), "feature_index": np.zeros(n, int),
        "feature_names": ("pipe", "a", "b"), "first": np.arange(n), "second": np.arange(1, n + 1), "length": length / n,
        "wall_end": (np.arange(n) + 1) % 2, "x": x, "y": 0 * x + 50.0, "at_node": [np.nan, 0, n],
        "level": [np.inf, 71.0, 70.0], "bed_first": 10.0, "bed_second": 10.0,
    }  # fmt: skip
    return ConduitTerm(**(base | given))


@pytest.mark.parametrize("pieces", [1, 7])
@pytest.mark.parametrize(
    ("diameter", "rough", "fall"), [(1.0, 0.01, 1.0), (0.05, 1e-3, 0.25), (3.0, 0.1, 4.0), (0.02, 0.0, 0.125)]
)
def test_a_single_pipe_carries_what_its_law_says(pieces, diameter, rough, fall):
    grid = grid_of()
    given = {"diameter": diameter, "roughness": rough, "level": [np.inf, 70.0 + fall, 70.0]}
    model = ik.Model(grid, 1e-3, terms=[FixedHeadTerm(cells=[0], head=60.0), pipe(grid, pieces, **given)])
    flow = ik.solve_flow(model)
    exact = 0.25 * np.pi * diameter**2 * mean_velocity(fall / 900.0, diameter, rough)
    npt.assert_allclose(flow.steps[0].link_flow[1], exact, rtol=1e-10)
    table = flow.conduits()
    npt.assert_allclose(
        table["velocity [m/s]"] * 86400.0 * diameter / NU, table["Reynolds number"], rtol=1e-12
    )
    reynolds = exact * 4.0 / (np.pi * diameter * NU)
    regime = "laminar" if reynolds < 2000.0 else "turbulent" if reynolds > 4000.0 else "in transition"
    assert set(table["regime"]) == {regime}


def test_a_leaking_pipe_follows_its_closed_form_with_order_two():
    """Laminar: the head inside falls to that in the rock as a hyperbolic function of the way."""
    errors = []
    for pieces in (20, 40, 80):
        grid = grid_of(length=900.0, cells=pieces, top=20.0)
        d, exchange = 0.028, 2e-5
        term = pipe(
            grid,
            pieces,
            diameter=d,
            roughness=0.0,
            exchange=exchange,
            level=[np.inf, 30.5, 30.1],
            bed_first=1.0,
            bed_second=1.0,
        )
        held = FixedHeadTerm(cells=np.arange(pieces), head=30.0)
        flow = ik.solve_flow(ik.Model(grid, 1.0, terms=[held, term], water_table=CONFINED), closure=1e-13)
        x, conducts = np.linspace(0.0, 900.0, 2 * pieces + 1), G * np.pi * d**4 / (128.0 * NU)
        decay = np.sqrt(exchange / conducts)
        exact = 30.0 + (0.5 * np.sinh(decay * (900.0 - x)) + 0.1 * np.sinh(decay * x)) / np.sinh(
            decay * 900.0
        )
        assert flow.conduits()["Reynolds number"].max() < 2000.0
        errors.append(np.abs(flow.conduit_nodes()["head [m]"] - exact).max())
        npt.assert_allclose(flow.conduit_budget().attrs["closing_error_percent"], 0.0, atol=1e-9)
    assert np.log2(errors[0] / errors[1]) > 1.9
    assert np.log2(errors[1] / errors[2]) > 1.9


def test_three_reservoirs_meet_at_a_junction():
    """The head at which what comes in goes out, by bisection of the laws of the three pipes."""
    grid = grid_of(cells=1)
    lengths, sizes, rough, levels = (
        [400.0, 700.0, 500.0],
        [0.6, 0.4, 0.9],
        [0.01, 0.002, 0.05],
        [78.0, 74.0, 70.0],
    )

    def into(head):
        return sum(
            np.sign(z - head) * 0.25 * np.pi * d * d * float(mean_velocity(abs(z - head) / far, d, k))
            for far, d, k, z in zip(lengths, sizes, rough, levels, strict=True)
        )

    low, high = 70.0, 78.0
    for _ in range(100):
        low, high = (
            (0.5 * (low + high), high) if into(0.5 * (low + high)) > 0.0 else (low, 0.5 * (low + high))
        )
    term = ConduitTerm(
        cells=np.zeros(3, int), feature_index=np.zeros(3, int), feature_names=("pipes", "a", "b", "c"), first=[0, 3, 2],
        second=[3, 1, 3], x=np.arange(4.0), y=np.zeros(4), at_node=[np.nan, 0, 1, 2], level=[np.inf, *levels],
        length=lengths, diameter=sizes, roughness=rough, bed_first=5.0, bed_second=5.0,
    )  # fmt: skip
    flow = ik.solve_flow(ik.Model(grid, 1.0, terms=[FixedHeadTerm(cells=[0], head=60.0), term]))
    npt.assert_allclose(flow.conduit_nodes()["head [m]"][3], low, rtol=1e-10)
    springs = flow.conduit_budget().loc["spring"]
    assert (springs["in [m³/day]"] > 0).tolist() == [True, low < 74.0, False]


def slope_of(share, rough, slope, d=1.0):
    """Flow of a partly filled circle at a slope, by its own section."""
    angle = 2.0 * np.arccos(1.0 - 2.0 * share)
    area, edge = d * d * (angle - np.sin(angle)) / 8.0, 0.5 * d * angle
    return area * float(mean_velocity(slope, 4.0 * area / edge, rough))


@pytest.mark.parametrize("share", [0.05, 0.2, 0.5, 0.7, 0.77])
def test_depth_in_a_sloping_pipe_is_the_normal_depth(share):
    """Far above a free outfall; at the crown a pipe conveys as a full one."""
    grid, n, fall = grid_of(), 15, 0.004
    z = 30.0 + fall * np.linspace(900.0, 0.0, 2 * n + 1)
    q = slope_of(share, 0.02, fall)
    term = pipe(
        grid, n, diameter=1.0, roughness=0.02, bed_first=z[:-1], bed_second=z[1:], feature_names=("pipe", "top", "end"),
        at_node=[np.nan, np.nan, 2 * n], level=[np.inf, np.inf, 29.0], inflow=[0.0, q, 0.0], source_node=[0],
        source_feature=[1], source_share=[1.0],
    )  # fmt: skip
    flow = ik.solve_flow(ik.Model(grid, 1.0, terms=[FixedHeadTerm(cells=[0], head=20.0), term]))
    depth = flow.conduit_nodes()["depth [m]"].to_numpy()
    npt.assert_allclose(depth[:15], share, rtol=0.01)
    full = ik.solve_flow(
        ik.Model(
            grid, 1.0, terms=[FixedHeadTerm(cells=[0], head=20.0), replace(term, inflow=[0.0, 3 * q, 0.0])]
        )
    )
    assert full.conduit_nodes()["depth [m]"][0] > depth[0]


def test_a_vanishing_pipe_leaves_the_rock_alone_and_a_huge_one_is_a_line_of_one_head():
    grid = grid_of()
    ends = [FixedHeadTerm(cells=[0, 9], head=[60.0, 58.0])]
    alone = ik.solve_flow(ik.Model(grid, 2.0, terms=ends)).steps[0].heads
    found = []
    for d, exchange in ((1e-4, 1.0), (30.0, 1e3)):
        term = pipe(
            grid, 6, length=600.0, diameter=d, roughness=1e-6, exchange=exchange, bed_first=5.0, bed_second=5.0,
            cells=np.repeat(np.arange(2, 8), 2), feature_names=("pipe",), at_node=[np.nan], level=[np.inf],
        )  # fmt: skip
        found.append(ik.solve_flow(ik.Model(grid, 2.0, terms=[*ends, term])))
    assert abs(found[1].conduit_budget().attrs["closing_error_percent"]) < 1e-7
    npt.assert_allclose(found[0].steps[0].heads, alone, atol=1e-4)
    level = found[1].conduit_nodes()["head [m]"].to_numpy()
    npt.assert_allclose(level, level[0], atol=1e-5)
    npt.assert_allclose(found[1].steps[0].heads[2:8], level[0], atol=0.01)


def jumbled(seed, *, stores=True):
    """A small network with loops, steep and flat, full, partly filled and dry."""
    rng, n, m = np.random.default_rng(seed), 12, 18
    pairs = {(int(rng.integers(0, k)), k) for k in range(1, n)}
    while len(pairs) < m:
        a, b = sorted(rng.integers(0, n, 2).tolist())
        pairs |= {(a, b)} if a != b else set()
    first, second = np.array(sorted(pairs)).T
    grid = ik.layered(ik.rectangles((0, 0, 100, 100), cell=10), [50.0, 0.0])
    term = ConduitTerm(
        cells=rng.integers(0, 100, m), wall_end=rng.integers(0, 2, m), feature_index=np.zeros(m, int),
        feature_names=("karst", "spring", "sink"), first=first, second=second, x=rng.uniform(0, 100, n),
        y=rng.uniform(0, 100, n), at_node=[np.nan, 0, 5], level=[np.inf, 20.0, np.inf], inflow=[0.0, 0.0, 3000.0],
        source_node=[5, 7], source_feature=[2, 2], source_share=[0.6, 0.4], bed_first=rng.uniform(18, 22, m),
        bed_second=rng.uniform(18, 22, m), length=rng.uniform(5, 50, m), diameter=10 ** rng.uniform(-0.5, 0.3, m),
        roughness=0.01, exchange=10 ** rng.uniform(-2, 0, m), shaft_area=[0.0, 0.0, 4.0 * stores],
    )  # fmt: skip
    held = FixedHeadTerm(cells=[0], head=21.0, feature_names=("w",))
    return ik.Model(grid, 1.0, specific_storage=1e-4, specific_yield=0.05, terms=[held, term])


@pytest.mark.parametrize("seed", range(12))
def test_any_network_is_solved_whatever_is_dry_or_loops(seed):
    model = jumbled(seed)
    flow = ik.solve_flow(model, initial_heads=np.full(100, [21.0, 5.0, 45.0][seed % 3]))
    assert len(flow.steps[0].report.rows) < 30
    assert abs(flow.conduit_budget().attrs["closing_error_percent"]) < 1e-7
    again = ik.solve_flow(model, initial_heads=np.full(100, 33.0))
    npt.assert_allclose(again.steps[0].heads, flow.steps[0].heads, atol=1e-5)


@pytest.mark.parametrize("seed", [1, 4, 8])
def test_derivatives_by_every_input_equal_differences(seed):
    """Of heads in the rock and of what the spring gives, by what a network is made of."""
    model = jumbled(seed)
    term = model.terms[1]
    head = csr_array(([1.0], ([0], [37])), shape=(1, FlowEquations(model).n_unknowns))
    both = AllOf((Levels(head), SpringFlows(1, np.array([1]))))
    adjoint = FlowSensitivity(ik.solve_flow(model, closure=1e-13))
    readings = Readings.at_end(both)
    found = [adjoint.gradient(readings, weights) for weights in np.eye(2)]
    for name in ("diameter", "roughness", "exchange", "length", "inflow", "bed_first", "viscosity"):
        values = np.array(getattr(term, name), dtype=float)
        by = np.array([np.asarray(one[f"conduit.{name}"]).ravel() for one in found])
        way = np.where(values != 0.0, values, 0.0) if name != "bed_first" else np.full(len(values), 0.1)
        ends = []
        for h in (1e-3, -1e-3, 5e-4, -5e-4):
            changed = replace(term, **{name: values + h * way})
            flow = ik.solve_flow(replace(model, terms=(model.terms[0], changed)), closure=1e-13)
            ends.append(both.values(flow, 0))
        wide, near = (ends[0] - ends[1]) / 2e-3, (ends[2] - ends[3]) / 1e-3
        difference = near + (near - wide) / 3.0  # of the fourth order
        npt.assert_allclose(by @ way, difference, rtol=1e-6, atol=1e-9, err_msg=name)


def water_of(first, second, length, diameter, flow, outlet):
    """Pipes that carry so much, full, from node 0 to an outlet."""
    m, n = len(first), int(max(np.max(first), np.max(second))) + 1
    one = np.ones(m)
    pipes = Pipes(
        np.array(first), np.array(second), 0 * one, 0 * one, length * one, diameter * one, 0.01 * one, NU * one,
        2000.0 * one, 4000.0 * one, np.zeros(m, dtype=np.int64),
    )  # fmt: skip
    comes, leaves, head = np.zeros(n), np.zeros(n), np.zeros(n)
    comes[0] = leaves[outlet] = flow[np.array(first) == 0].sum()
    for _ in range(n):  # heads that fall along every pipe
        np.maximum.at(head, np.where(flow > 0, first, second), head[np.where(flow > 0, second, first)] + 1.0)
    moving = PipeFlow(pipes, np.asarray(flow), np.zeros((m, 2)), comes, leaves, np.zeros(n), head)
    return moving, PipeWater(0.25 * np.pi * pipes.diameter**2 * pipes.length, np.zeros(n))


def pulse_through(moving, water, short, lasting, outlet):
    """Times, concentrations at the outlet, and the mass that came out of 1 kg put in at node 0."""
    brings = np.zeros(len(moving.head))
    brings[0] = 1000.0 / short
    one = water.carried(moving, brings, short)
    two = water.carried(moving, 0.0 * brings, lasting - short)
    times = np.concatenate([one.times, short + two.times])
    return times, np.concatenate([one.passing, two.passing])[:, outlet], one.gone.sum() + two.gone.sum()


@pytest.mark.parametrize("turned", [False, True])
def test_a_pulse_arrives_with_its_water(turned):
    """After the sum of area times length over flow, however uneven the pipes; no mass is lost."""
    rng, n = np.random.default_rng(5), 60
    length, diameter = 10.0 ** rng.uniform(0, 1.7, n), 10.0 ** rng.uniform(-0.5, 0.2, n)
    first, second = np.arange(n), np.arange(1, n + 1)
    flow = np.full(n, 5000.0)
    if turned:  # every other pipe drawn the other way
        other = np.arange(n) % 2 == 1
        first, second = np.where(other, second, first), np.where(other, first, second)
        flow = np.where(other, -flow, flow)
    moving, water = water_of(first, second, length, diameter, flow, n)
    moving.comes[0] = moving.leaves[n] = 5000.0
    whole = float((0.25 * np.pi * diameter**2 * length).sum() / 5000.0)
    times, c, out = pulse_through(moving, water, whole / 50.0, 3.0 * whole, n)
    npt.assert_allclose(times[c.argmax()], whole * 1.01, rtol=0.02)
    step = np.diff(np.concatenate([[0.0], times]))
    middle = ((times - 0.5 * step) * c * step).sum() / (c * step).sum()
    npt.assert_allclose(middle - whole / 100.0, whole, rtol=1e-3)
    npt.assert_allclose(out + water.stored, 1000.0, rtol=1e-12)


def test_in_a_loop_both_ways_bring_their_share_at_their_time():
    """A quarter of the water takes twice the way at half the speed; what decays is told."""
    n = 40
    first = np.concatenate([np.arange(n), [0], np.arange(n + 1, 2 * n)])
    second = np.concatenate([np.arange(1, n + 1), np.arange(n + 1, 2 * n), [n]])
    flow = np.concatenate([np.full(n, 3000.0), np.full(n, 1000.0)])
    length = np.concatenate([np.full(n, 10.0), np.full(n, 20.0)])
    moving, water = water_of(first, second, length, 0.5, flow, n)
    volume = 0.25 * np.pi * 0.25
    quick, slow = volume * 400.0 / 3000.0, volume * 800.0 / 1000.0
    times, c, out = pulse_through(moving, water, quick / 20.0, 1.5 * slow, n)
    step, early = np.diff(np.concatenate([[0.0], times])), times < 0.5 * (quick + slow)
    for part, when, share in ((early, quick, 0.75), (~early, slow, 0.25)):
        mass = c[part] * step[part]
        npt.assert_allclose((times[part] * mass).sum() / mass.sum() - quick / 40.0, when, rtol=0.02)
        npt.assert_allclose(4000.0 * mass.sum(), 1000.0 * share, rtol=1e-6)
    npt.assert_allclose(out + water.stored, 1000.0, rtol=1e-12)
    brings = np.zeros(len(moving.head))
    brings[0] = 500.0
    water.carried(moving, brings, quick)
    before = water.stored
    npt.assert_allclose(water.decay(2.0, 0.3).sum(), before * -np.expm1(-0.6), rtol=1e-12)
