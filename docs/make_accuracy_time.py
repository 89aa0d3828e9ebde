"""Write accuracy-time.md and its picture, flow in time, paths and limits: ``python docs/make_accuracy_time.py``."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from scipy.special import exp1

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE.parent))

from tests.verification.test_fits import TRUTH, bores, read, three, valley  # noqa: E402
from tests.verification.test_paths_exact import HEIGHT, POROSITY, radial  # noqa: E402
from tests.verification.test_transient_exact import Q, S, T, cosine, field  # noqa: E402

import inkhorn as ik  # noqa: E402

HEAD = """# How exact flow in time, paths and limits are

Made by `python docs/make_accuracy_time.py` from the cases of the tests in `tests/verification/`, which hold more of
each kind.

![Drawdown in time, the order of steps, travel times to a well, and limits of fits](accuracy-time.png)

## Drawdown and recovery

A well of {rate:g} m³/day in a confined aquifer of {t:g} m²/day and a storativity of {s:g} pumps for a day and rests for
one (Theis 1935); 40 steps for each. Cells are 6 m wide at the well.

| distance [m] | time [day] | exact [m] | found [m] |
|---|---|---|---|
"""
STEPS = """
## Steps in time

A cosine of heads dies away between closed ends; what the cells miss is taken out, so what is left is of time.

| steps | error of first order [m] | order | error of second order [m] | order |
|---|---|---|---|---|
"""
PATHS = """
## Travel times to a well

Radial flow to a well anywhere in its cell; exact is $\\pi\\,\\theta\\,b\\,r^2 / Q$. The worst of twelve directions.

| mesh | place of the well in its cell | two cells away | five cells away |
|---|---|---|---|
"""
LIMITS = """
## Do limits hold the truth?

A valley between a lake and a divide, with wells and rain; sixteen levels are read with an error of 5 cm,
{draws} times over, and two conductivities are fitted each time. Limits of 95 % should hold the truth in 95 % of
all draws, {low:.0f} to {high:.0f} % if only chance is at work.

| parameter | limits that hold the truth |
|---|---|
"""
CASES = ((0.0, 0.0), (0.5, 0.5), (0.3, 0.45))
DRAWS = 100


def drawdown() -> Iterator[tuple[float, np.ndarray, np.ndarray, np.ndarray]]:
    """Distance, times, exact and found drawdown at some places, pumping for a day and resting for one."""
    model, away, near = field(
        schedule=ik.Schedule([1.0, 2.0], steps=40, growth=1.15),
        inputs_in_time={"well.rate": np.array([[-Q], [0.0]])},
    )
    flow = ik.solve_flow(model, initial_heads=0.0)
    ends = np.array([step.end for step in flow.steps])

    def theis(distance: float, time: np.ndarray) -> np.ndarray:
        u = distance**2 * S / (4 * T * np.where(time > 0, time, np.nan))
        return np.nan_to_num(Q / (4 * np.pi * T) * exp1(u))

    for wanted in (40.0, 200.0, 800.0):
        cell = np.flatnonzero(near)[np.abs(away[near] - wanted).argmin()]
        exact = theis(away[cell], ends) - theis(away[cell], ends - 1.0)
        yield float(away[cell]), ends, exact, np.array([-step.heads[cell] for step in flow.steps])


def time_errors() -> dict[int, list[float]]:
    """Errors of both orders with 5 to 80 steps."""
    found: dict[int, list[float]] = {1: [], 2: []}
    for order, errors in found.items():
        for steps in COUNTS:
            model, first, exact = cosine(steps=steps)
            flow = ik.solve_flow(model, initial_heads=first, order=order, closure=1e-11)
            errors.append(float(np.abs(flow.steps[-1].heads - exact(50.0)).max()))
    return found


COUNTS = (5, 10, 20, 40, 80)


def times_to_a_well(kind: str, off: tuple[float, float], cells: int) -> np.ndarray:
    """Found over exact travel times from twelve directions."""
    flow, middle = radial(kind, off)
    r, angle = 10.0 * cells, np.linspace(0.1, 6.2, 12)
    start = np.column_stack([middle[0] + r * np.cos(angle), middle[1] + r * np.sin(angle), np.full(12, -7.0)])
    exact = np.pi * POROSITY * HEIGHT * (r**2 - 0.01) / 600.0
    return np.asarray(ik.trace(flow, start).ends["travel time [day]"]) / exact


def limits() -> tuple[list[str], np.ndarray, np.ndarray, np.ndarray]:
    """Names of parameters, their truth, and the limits of every draw."""
    model = valley()
    flow, rng = ik.solve_flow(model, closure=1e-11), np.random.default_rng(3)
    places, parameters = bores(model, 16), three()[:2]
    start = model.with_inputs({"horizontal_conductivity": 0.8 * model.horizontal_conductivity})
    low, high = [], []
    for _ in range(DRAWS):
        seen = read(flow, places, rng.normal(0.0, 0.05, len(places)), 0.05)
        fit = ik.calibrate(start, parameters, observations=ik.observe(model, seen), tolerance=1e-6)
        both = fit.knowledge.limits()
        low.append(both[0])
        high.append(both[1])
    truth = np.array(list(TRUTH.values()))[:2]
    return [p.name for p in parameters], truth, np.array(low), np.array(high)


def main() -> None:
    """Write the page and its picture."""
    from matplotlib.figure import Figure

    figure = Figure(figsize=(12.8, 8.6), layout="constrained")
    (first, second), (third, fourth) = figure.subplots(2, 2)
    page = [HEAD.format(rate=Q, t=T, s=S)]
    for k, (distance, ends, exact, found) in enumerate(drawdown()):
        first.plot(ends, exact, color=f"C{k}", lw=1.2)
        first.plot(ends[::3], found[::3], "o", ms=4, color=f"C{k}", label=f"{distance:.0f} m from the well")
        for time in (1.0, 2.0):
            at = int(np.abs(ends - time).argmin())
            page.append(f"| {distance:.0f} | {time:g} | {exact[at]:.4f} | {found[at]:.4f} |\n")
    _said(first, "drawdown: line exact (Theis 1935)", "time [day]", "drawdown [m]")

    page.append(STEPS)
    errors = time_errors()
    for order, of in errors.items():
        second.loglog(COUNTS, of, "o-", label=f"order {order}")
    second.set_xticks(COUNTS, [str(n) for n in COUNTS])
    second.minorticks_off()
    _said(second, "error at the end by the number of steps", "steps", "error of heads [m]")
    for k, steps in enumerate(COUNTS):
        row = [f"{steps}"]
        for of in errors.values():
            row += [f"{of[k]:.1e}", f"{np.log2(of[k - 1] / of[k]):.2f}" if k else ""]
        page.append(f"| {' | '.join(row)} |\n")

    page.append(PATHS)
    for mesh in ("rectangles", "split", "voronoi"):
        for off in CASES:
            worst = []
            for cells in (2, 5):
                ratio = times_to_a_well(mesh, off, cells)
                worst.append(f"{100.0 * (ratio - 1.0)[np.abs(ratio - 1.0).argmax()]:+.2f} %")
            page.append(f"| {mesh} | ({off[0]:g}, {off[1]:g}) | {worst[0]} | {worst[1]} |\n")
        ratios = [np.abs(times_to_a_well(mesh, CASES[2], cells) - 1.0).max() for cells in (1, 2, 3, 5, 8, 12)]
        third.semilogy((1, 2, 3, 5, 8, 12), ratios, "o-", label=f"{mesh}, well at (0.3, 0.45)")
    _said(third, "worst error of travel times to a well", "cells away", "share of the exact time")

    names, truth, low, high = limits()
    chance = 196.0 * np.sqrt(0.05 * 0.95 / DRAWS)
    page.append(LIMITS.format(draws=DRAWS, low=95.0 - chance, high=min(95.0 + chance, 100.0)))
    for k, name in enumerate(names):
        holds = (low[:, k] <= truth[k]) & (truth[k] <= high[:, k])
        page.append(f"| {name} | {100.0 * holds.mean():.0f} % |\n")
    holds = (low[:, 0] <= truth[0]) & (truth[0] <= high[:, 0])
    for k in range(DRAWS):
        fourth.plot([k, k], [low[k, 0], high[k, 0]], color="#1b5e85" if holds[k] else "#c1121f", lw=1.4)
    fourth.axhline(truth[0], color="#222222", lw=1.0, label="truth")
    _said(fourth, f"limits of {names[0]}, draw by draw", "draw", "95 % limits")
    (HERE / "accuracy-time.md").write_text("".join(page), encoding="utf-8")
    figure.savefig(HERE / "accuracy-time.png", dpi=100)


def _said(ax: Any, title: str, x: str, y: str) -> None:
    ax.set(title=title, xlabel=x, ylabel=y)
    ax.grid(alpha=0.3)
    ax.legend(frameon=False)


if __name__ == "__main__":
    main()
