"""Write accuracy-transport.md and its picture, plumes against exact ones: ``python docs/make_accuracy_transport.py``."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE.parent))

from tests.verification.test_transport_exact import (  # noqa: E402
    GROUND,
    HEIGHT,
    MESHES,
    POROSITY,
    SALT,
    brings,
    even_flow,
    hill,
    inlet_of_water,
    mesh_over,
)

import inkhorn as ik  # noqa: E402
from inkhorn.model import Solute  # noqa: E402

HEAD = """# How exact plumes are

Made by `python docs/make_accuracy_transport.py`; tests of all this, and of more cases, are in
`tests/verification/test_transport_exact.py`. One set of settings for all.

![A hill, a front, a column and sideways spreading](screenshots/accuracy_transport.png)

## What is carried keeps its shape

Water flows alike everywhere, with no dispersion. A smooth hill ten cells to its standard deviation is carried 200 cells
far; a front 100 cells. Between a tenth and nine tenths the front is exact if it is within one cell.

| mesh | angle of flow | peak of the hill, 1 is exact | least | width of the front [cells] |
|---|---|---|---|---|
"""
SIDEWAYS = """
## What spreads sideways

Cells of 1 m, flow at an angle to them; transverse dispersivity a hundredth of that along the flow. *Wide* is a
cloud nine cells to its standard deviation, which tells what the scheme adds; *one cell* is a leak into one cell, whose
plume is narrower than four cells all the way: there concentrations that must not become negative leave no
room for all of what the tensor asks for at an angle. Found from 20 to 60 cells downstream, and the peak there. Where a
plume is but a few cells wide, the run says so: make cells smaller.

| mesh | angle | wide, found for {wide:g} m | one cell, found for {narrow:g} m | peak over exact, 20 m on | 60 m on |
|---|---|---|---|---|---|
"""
COLUMN = """
## A column with inlet, sorption and decay

Water of 1 comes in with its mass, retarded by 2.28, half gone in 150 days; exact by van Genuchten & Alves (1982), C14.
Mean error over 15 to 200 m after 570 days.

| mesh | cells of 10 m | 5 m | 2.5 m | order |
|---|---|---|---|---|
"""
ANGLES = (0, 15, 30, 45)  # those beyond are their mirror images on squares
WIDE, NARROW = 0.02, 0.05


@cache
def carried(kind: str, angle: float) -> tuple[ik.TransportResult, np.ndarray, np.ndarray]:
    """A hill, where it began and which way it went, after 200 cells."""
    way = np.array([np.cos(np.deg2rad(angle)), np.sin(np.deg2rad(angle))])
    size = np.ceil(90.0 + 200.0 * way)
    middle = (40.0, 40.0, *(0.6 * size))
    flow, v = even_flow(
        mesh_over(kind, (0, 0, *size), 1.0, middle if kind == "split" else ()), np.deg2rad(angle)
    )
    begin = np.array([45.0, 45.0])
    start = hill(flow.model.grid.centres_of_gravity, begin, 10.0)
    return ik.solve_transport(flow, SALT, duration=200.0 / np.hypot(*v), outputs=1, initial=start), begin, way


@cache
def front(kind: str) -> tuple[np.ndarray, np.ndarray, float]:
    """Place and concentration of a front after 100 cells, and its width."""
    flow, v = even_flow(mesh_over(kind, (0, 0, 150, 15), 1.0))
    c = ik.solve_transport(brings(flow, salt=1.0), SALT, duration=100.0 / v[0], outputs=1).values[-1]
    x = flow.model.grid.centres_of_gravity[:, 0]
    return x, c, float(x[c > 0.1].max() - x[c < 0.9].min())


@cache
def wide(kind: str, degrees: float) -> float:
    """Transverse dispersivity found from a wide cloud [m]."""
    flow, v = even_flow(mesh_over(kind, (0, 0, 120, 120), 1.0, (50, 50, 70, 70)), np.deg2rad(degrees))
    place, area, speed = flow.model.grid.centres_of_gravity, flow.model.grid.cells.area, float(np.hypot(*v))
    along = v / speed
    start = hill(place, np.array([60.0, 60.0]) - 15.0 * along, 9.0)
    made = ik.solve_transport(
        flow,
        SALT,
        duration=30.0 / speed,
        outputs=1,
        initial=start,
        dispersion=ik.Dispersion(100 * WIDE, WIDE),
    )
    sideways = place @ np.array([-along[1], along[0]])

    def spread(c: np.ndarray) -> float:
        weight = c * area / (c * area).sum()
        return float(weight @ (sideways - weight @ sideways) ** 2)

    return (spread(made.values[-1]) - spread(start)) / 60.0


def narrow(kind: str, degrees: float) -> tuple[float, float, float]:
    """Transverse dispersivity found from a leak into one cell [m], and peaks over the exact ones, 20 and 60 m on."""
    from scipy.special import k0e

    flow, v = even_flow(mesh_over(kind, (0, 0, 120, 120), 1.0, (45, 45, 75, 75)), np.deg2rad(degrees))
    grid, speed = flow.model.grid, float(np.hypot(*v))
    along = v / speed
    at = int(grid.mesh.locate(*(np.array([60.0, 60.0]) - 30.0 * along)[:, None])[0])
    leak = Solute("mass source", "leak", "salt", [at], [1.0], 10.0)
    flow = replace(flow, model=replace(flow.model, solutes=[leak]))
    spread = ik.Dispersion(100 * NARROW, NARROW)
    c = ik.solve_transport(flow, SALT, duration=130.0 / speed, outputs=1, dispersion=spread).values[-1]
    off = grid.centres_of_gravity - grid.centres_of_gravity[at]
    x, y = off @ along, off @ np.array([-along[1], along[0]])

    def variance(far: float) -> float:
        some = (np.abs(x - far) < 2.0) & (np.abs(y) < 25.0)
        weight = np.maximum(c * grid.cells.area, 0.0)[some]
        return float(np.cov(y[some], aweights=weight, ddof=0))

    def peak(far: float) -> float:
        whole = 10.0 / (2 * np.pi * POROSITY * HEIGHT * speed * 10 * NARROW)
        found = c[(np.abs(x - far) < 0.8) & (np.abs(y) < 3.0)].max()
        return float(found / (whole * k0e(far / (200 * NARROW))))

    return (variance(60.0) - variance(20.0)) / 80.0, peak(20.0), peak(60.0)


@cache
def column(
    kind: str, cell: float, method: str = "sharp"
) -> tuple[np.ndarray, np.ndarray, Callable[[Any], Any]]:
    """Place and concentration in a column, and the exact answer."""
    flow, v = even_flow(mesh_over(kind, (0, 0, 300, 30), cell, (100, 0, 200, 30)), bulk_density=GROUND)
    salt = ik.Species("salt", sorption=ik.LinearSorption(2e-7), half_life=150.0)
    retarded = 1.0 + GROUND * 2e-7 / POROSITY
    made = ik.solve_transport(
        brings(flow, salt=1.0), salt, duration=570.0, outputs=1, dispersion=ik.Dispersion(8.0), method=method,
        step_length=10.0 if method == "upstream" else None,
    )  # fmt: skip
    x = flow.model.grid.centres_of_gravity[:, 0]
    return (
        x,
        made.values[-1],
        lambda at: inlet_of_water(at, 570.0, v[0], 8.0 * v[0], retarded, np.log(2.0) / 150.0),
    )


def tables() -> Iterator[str]:
    """All that is written."""
    yield HEAD
    for kind in MESHES:
        wide_front = f"{front(kind)[2]:.1f}"
        for angle in (0, 45):
            c = carried(kind, angle)[0].values[-1]
            yield f"| {kind} | {angle}° | {c.max():.3f} | {c.min():.0e} | {wide_front if angle == 0 else ''} |\n"
    yield SIDEWAYS.format(wide=WIDE, narrow=NARROW)
    for kind in MESHES:
        for angle in ANGLES:
            found, *peaks = narrow(kind, angle)
            yield f"| {kind} | {angle}° | {wide(kind, angle):.4f} | {found:.3f} | {peaks[0]:.2f} | {peaks[1]:.2f} |\n"
    yield COLUMN
    for kind in MESHES:
        errors = []
        for cell in (10.0, 5.0, 2.5):
            x, c, exact = column(kind, cell)
            inner = (x > 15.0) & (x < 200.0)
            errors.append(float(np.abs(c - exact(x))[inner].mean()))
        yield f"| {kind} | {' | '.join(f'{e:.1e}' for e in errors)} | {np.log2(errors[1] / errors[2]):.1f} |\n"


def picture(path: Path) -> None:
    """Draw a few of them."""
    import matplotlib

    matplotlib.use("Agg")
    import matplotlib.pyplot as plt

    figure, axes = plt.subplots(2, 2, figsize=(12.8, 8.0), constrained_layout=True)
    ink, marks = "#1b4965", {"rectangles": "o", "split": "s", "voronoi": "x"}
    ax = axes[0, 0]
    made, begin, way = carried("voronoi", 45)
    image = made.flow.model.grid
    place, c = image.centres_of_gravity, made.values[-1]
    shown = ax.tripcolor(place[:, 0], place[:, 1], c, cmap="Blues", shading="gouraud", vmin=0.0, vmax=1.0)
    figure.colorbar(shown, ax=ax, label="concentration")
    end = begin + 200.0 * way
    turn = np.linspace(0.0, 2 * np.pi, 200)
    for level in (0.1, 0.5, 0.9):
        r = 10.0 * np.sqrt(-2.0 * np.log(level))
        for at, style in ((begin, ":"), (end, "-")):
            ax.plot(at[0] + r * np.cos(turn), at[1] + r * np.sin(turn), style, color="#c1121f", lw=0.9)
        ax.tricontour(
            place[:, 0], place[:, 1], c, levels=[level], colors=ink, linewidths=1.0, linestyles="--"
        )
    ax.set(
        aspect="equal", xlim=(0, 235), ylim=(0, 235), xlabel="x [m]", ylabel="y [m]",
        title=f"A hill after 200 cells, Voronoi: peak {c.max():.3f} of 1 (red: exact, dotted: begin)",
    )  # fmt: skip
    ax = axes[0, 1]
    for kind in MESHES:
        x, c, width = front(kind)
        ax.plot(x, c, marks[kind], mfc="none", ms=4, label=f"{kind}, {width:.1f} cells wide")
    ax.plot([80, 100, 100, 120], [1, 1, 0, 0], color=ink, label="exact")
    ax.set(
        xlim=(85, 115), xlabel="x [m]", ylabel="concentration", title="A front after 100 cells, no dispersion"
    )
    ax.legend(frameon=False)
    ax = axes[1, 0]
    for kind in MESHES:
        x, c, exact = column(kind, 5.0)
        ax.plot(x, c, marks[kind], mfc="none", ms=4, label=f"{kind}, cells of 5 m")
    x, c, _ = column("rectangles", 5.0, "upstream")
    row = np.argsort(x)
    ax.plot(x[row], c[row], "-", color="#999", lw=1.0, label="method upstream, steps of 10 days")
    x = np.linspace(0.5, 250.0, 300)
    ax.plot(x, exact(x), color=ink, label="van Genuchten & Alves (1982)")
    ax.set(xlim=(0, 250), xlabel="x [m]", ylabel="concentration", title="Inlet, sorption and decay, 570 days")
    ax.legend(frameon=False)
    ax = axes[1, 1]
    for kind in MESHES:
        ax.plot(ANGLES, [wide(kind, a) / WIDE for a in ANGLES], marks[kind], mfc="none", label=kind)
    ax.axhspan(0.9, 1.1, color="#cfe3ee", lw=0, label="within 10 %")
    ax.set(
        ylim=(0.7, 1.3), xticks=ANGLES, xlabel="angle of flow to the cells [°]",
        ylabel="transverse dispersivity found / stated", title="Sideways spreading of a wide cloud, ratio 100",
    )  # fmt: skip
    ax.legend(frameon=False)
    figure.savefig(path, dpi=100)


def main() -> None:
    """Solve all of them and write tables and picture."""
    (HERE / "accuracy-transport.md").write_text("".join(tables()), encoding="utf-8")
    picture(HERE / "screenshots" / "accuracy_transport.png")


if __name__ == "__main__":
    main()
