"""Write accuracy.md and its picture, answers against exact ones: ``python docs/make_accuracy.py``."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import shapely

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE.parent))

from tests.verification.test_face_rows import MESHES, SIDE, errors  # noqa: E402
from tests.verification.test_outline import site  # noqa: E402
from tests.verification.test_wells import BORE, mesh_of, pumped  # noqa: E402

import inkhorn as ik  # noqa: E402

HEAD = """# How exact heads and flows are

Made by `python docs/make_accuracy.py`; every case is a test in `tests/verification/`, with others of its kind.

![Wells, a wall that ends inside, and water behind the outline](screenshots/accuracy.png)

## Cases with an exact answer

| case | exact | mesh | error |
|---|---|---|---|
"""
ORDERS = """
## Orders

Manufactured heads on a square of 1 km, smoothly varying conductivity (1.6
to 3 m/day), exact heads held along the rim; a zone in the middle keeps its place and cells a quarter as large as those
around it. Along 30° the conductivity is as large as across, or four times that. Errors are weighted means (L2): of
heads, which lie between 0 and 1.9 m, and of flows per area of side faces [m/day], whose greatest is about 0.008.
The order is the power of the cell size with which an error falls.

| mesh | anisotropy | cells a side | error of heads [m] | order | error of flows [m/day] | order |
|---|---|---|---|---|---|---|
"""
RADIUS, HIGH, CONDUCTIVITY = 500.0, 20.0, 10.0
KINDS = (("rectangles", 40), ("banded", 50), ("split", 30), ("voronoi", 20))


def well_level(kind: str, size: float, rate: float, layers: int) -> tuple[float, float, float]:
    """Level found, level by Charny (1951), and what is taken, of a well beside the centre of its cell."""
    most = np.pi * CONDUCTIVITY * HIGH**2 / np.log(RADIUS / BORE)

    def squared(distance: float) -> float:
        return HIGH**2 + min(rate, most) / (np.pi * CONDUCTIVITY) * np.log(distance / RADIUS)

    def exact(x: np.ndarray, y: np.ndarray) -> np.ndarray:
        return np.sqrt(np.maximum(squared(np.maximum(np.hypot(x, y), BORE)), 0.0))

    levels = [30.0, *np.linspace(HIGH, 0.0, layers + 1)[1:]]
    flow = pumped(mesh_of(kind, size), levels, exact, rate, (123.0, -81.0))
    (row,) = flow.well_levels().to_dict("records")
    return row["level [m]"], float(np.sqrt(max(squared(BORE), 0.0))), row["abstraction [m³/day]"]


def drawdown(
    kind: str, size: float, ratio: float, direction: float, at: tuple[float, float]
) -> tuple[float, ...]:
    """Errors of drawdown in a well and in bores two cells away and farther; distances, heads and exact heads."""
    angle, rate, deep = np.deg2rad(direction), 700.0, 15.0

    def head(x: np.ndarray, y: np.ndarray) -> np.ndarray:
        along, across = np.cos(angle) * x + np.sin(angle) * y, np.cos(angle) * y - np.sin(angle) * x
        distance = np.maximum(np.hypot(along, np.sqrt(ratio) * across), 1e-3)
        return 20.0 + rate * np.sqrt(ratio) / (2 * np.pi * 10.0 * deep) * np.log(distance / 500.0)

    flow = pumped(mesh_of(kind, size), [0.0, -deep], head, rate, at, 10.0, ratio, direction, confined=True)
    (row,) = flow.well_levels().to_dict("records")
    bore = 0.5 * BORE * (1 + np.sqrt(ratio)) / np.sqrt(ratio)
    level = head(np.array(-np.sin(angle) * bore), np.array(np.cos(angle) * bore))
    cells = flow.model.grid.cells
    distance = np.hypot(cells.x - at[0], cells.y - at[1])
    exact, found = head(cells.x - at[0], cells.y - at[1]), flow.steps[-1].heads
    still = exact[distance > 300.0].max()
    own = np.sqrt(cells.area[flow.model.term("well").cells[0]])
    bores = (distance > 2 * own) & (distance < 250.0)
    error = np.abs(found - exact)[bores] / (still - exact[bores])
    return (level - row["level [m]"]) / (still - level), error.max(), distance, found, exact  # type: ignore[return-value]


def distant(cell: float, top: float, bases: tuple[float, ...], far: float) -> tuple[float, ik.FlowResult]:
    """Error of the flow to water 250 m behind the outline, by Dupuit's formula, and the answer."""
    box, near = shapely.box(0, 0, 1000, 200), 13.0 - far
    west, east = (shapely.LineString([(x, 0), (x, 200)]) for x in (0, 1000))
    features = [
        ik.FixedHead(name="west", shape=west, head=near, every_layer=True),
        ik.HeadDependent(name="east", shape=east, head=far, distance=250.0),
    ]
    flow = ik.solve_flow(ik.place(site(box, features, top, bases, 6.0), ik.rectangles(box, cell=cell)))
    row = flow.budget("feature").loc[("fixed head", "west")]
    exact = 6.0 * (near**2 - far**2) / 2 / 1250.0 * 200.0
    return float((row.iloc[0] - row.iloc[1]) / exact - 1.0), flow


def plate(cell: float, angle: float, rotation: float = 0.0) -> tuple[float, ik.Model, np.ndarray]:
    """Error of the jump of heads at the middle of an impermeable wall in uniform flow; the model and its heads."""
    box, half, rate, k = shapely.box(0, 0, 1400, 1000), 200.0, 0.02, 5.0
    along = np.array([-np.sin(np.radians(angle)), np.cos(np.radians(angle))])
    middle = np.array([703.3, 501.7])
    wall = ik.Barrier(
        name="wall", shape=shapely.LineString([middle - half * along, middle + half * along]), leakance=1e-12
    )
    placed = ik.place(site(box, [wall], 10.0, (0.0,), k), ik.rectangles(box, cell=cell, rotation=rotation))
    grid = placed.grid
    arm = np.column_stack([grid.cells.x, grid.cells.y]) - middle
    z = arm @ [along[1], -along[0]] + 1j * (arm @ along)
    root = np.sqrt(z - 1j * half) * np.sqrt(z + 1j * half)
    exact = 50.0 - rate / k * np.where(root.real * z.real < 0, -root.real, root.real)
    rim = np.unique(grid.outer_faces.cell)
    model = ik.Model(
        grid, k, face_resistance=placed.face_resistance, water_table=ik.WaterTable(confined=True),
        terms=[ik.terms.FixedHeadTerm(rim, head=exact[rim])],
    )  # fmt: skip
    heads = ik.solve_flow(model).steps[-1].heads
    closed = np.flatnonzero(placed.face_resistance > 0)
    near = np.hypot(*(grid.faces.centroid[closed, :2] - middle).T) < 2.5 * cell
    one, other = grid.faces.cells[closed[near]].T
    way = np.sign(exact[one] - exact[other])
    return (
        float((way * (heads[one] - heads[other])).mean() / (way * (exact[one] - exact[other])).mean() - 1),
        model,
        heads,
    )


def cases() -> Iterator[tuple[str, str, str, str]]:
    """Rows of the table: case, exact answer, mesh, error."""
    for kind, size in KINDS:
        for layers in (1, 4):
            found, exact, _ = well_level(kind, size, 1500.0, layers)
            taken = well_level(kind, size, 2400.0, layers)[2]
            most = np.pi * CONDUCTIVITY * HIGH**2 / np.log(RADIUS / BORE)
            yield (
                f"level in a well in a water table, 93 % of the most it can take; the most ({layers} layers)",
                f"Charny (1951): {exact:.2f} m; {most:.0f} m³/day",
                f"{kind}, {size} m",
                f"{found / exact - 1:+.1%}; {taken / most - 1:+.2%}",
            )
    for kind, size, ratio, direction in (
        ("rectangles", 20, 1, 0), ("voronoi", 20, 1, 0), ("split", 20, 1, 0), ("banded", 30, 1, 0),
        ("rectangles", 20, 100, 0), ("rectangles", 20, 100, 30), ("voronoi", 15, 100, 50),
    ):  # fmt: skip
        level, bores = drawdown(kind, size, ratio, direction, (3.0, 7.0))[:2]
        yield (
            f"drawdown in a well off its cell's centre; in bores two cells away (anisotropy {ratio} at {direction}°)",
            "Thiem (1906), stretched", f"{kind}, {size} m", f"{level:+.2%}; {bores:.2%}",
        )  # fmt: skip
    for top, bases in ((12.0, (0.0,)), (60.0, (0.0,)), (9.0, (6.0, 4.5, 2.0, 0.0))):
        for far in (5.0, 8.0):
            error, _ = distant(50.0, top, bases, far)
            way = "falling" if far == 5.0 else "rising"
            yield (
                f"flow to distant water, {way} table, {len(bases)} layers under a top at {top:g} m",
                "Dupuit (1863)", "rectangles, 50 m", f"{error:+.1e}",
            )  # fmt: skip
    for angle, rotation in ((0.0, 0.0), (20.0, 20.0), (20.0, 0.0), (45.0, 0.0), (70.0, 0.0)):
        errors_of = [plate(cell, angle, rotation)[0] for cell in (20.0, 10.0)]
        words = "along the cells" if angle == rotation else f"{angle - rotation:g}° to the cells"
        yield (
            f"jump of heads across an impermeable wall of 400 m, {words}", "Milne-Thomson (1968), sect. 6.21",
            "rectangles, 20 and 10 m", " and ".join(f"{e:+.1%}" for e in errors_of),
        )  # fmt: skip


def picture(path: Path) -> None:
    """Draw four of them."""
    import matplotlib

    matplotlib.use("Agg")
    import matplotlib.pyplot as plt

    figure, axes = plt.subplots(2, 2, figsize=(12.8, 8.0), layout="constrained")
    most = np.pi * CONDUCTIVITY * HIGH**2 / np.log(RADIUS / BORE)
    rates = np.linspace(0.0, most, 200)
    levels = np.sqrt(HIGH**2 - rates / (np.pi * CONDUCTIVITY) * np.log(RADIUS / BORE))
    ax = axes[0, 0]
    ax.plot(rates, levels, color="#1b4965", label="Charny (1951)")
    for (kind, size), marker in zip(KINDS, "osD^", strict=True):
        found = [well_level(kind, size, rate, 4) for rate in (300.0, 700.0, 1100.0, 1400.0, 1550.0, 2400.0)]
        ax.plot(
            [f[2] for f in found],
            [f[0] for f in found],
            marker,
            mfc="none",
            label=f"{kind}, {size} m, 4 layers",
        )
    ax.axvline(most, color="#888", lw=0.8, ls="--")
    ax.set(
        xlabel="taken [m³/day]",
        ylabel="level in the well [m]",
        title="A well in a water table, asked for up to 2 400 m³/day",
    )
    ax.legend(frameon=False)
    ax = axes[0, 1]
    for kind, size, marker in (("rectangles", 50, "o"), ("voronoi", 40, "^")):
        _, _, distance, found, exact = drawdown(kind, size, 1.0, 0.0, (49.0, -49.0))
        near = distance < 300.0
        ax.plot(distance[near], found[near], marker, mfc="none", ms=4, label=f"cells of {size} m, {kind}")
        order = np.argsort(distance)
        line = order[near[order]]
    ax.plot(distance[line], exact[line], color="#1b4965", label="Thiem (1906)")
    ax.set(
        xscale="log",
        xlabel="distance from the well [m]",
        ylabel="head [m]",
        title="A well in the corner of its cell: heads around it",
    )
    ax.legend(frameon=False)
    ax = axes[1, 0]
    error, model, heads = plate(20.0, 30.0)
    cells = model.grid.cells
    lines = ax.tricontour(
        cells.x, cells.y, heads, levels=np.linspace(46.8, 53.2, 41), colors="#1b4965", linewidths=0.7
    )
    del lines
    along = 200.0 * np.array([-np.sin(np.radians(30.0)), np.cos(np.radians(30.0))])
    ax.plot([703.3 - along[0], 703.3 + along[0]], [501.7 - along[1], 501.7 + along[1]], color="#c1121f", lw=3)
    ax.set(
        aspect="equal",
        xlabel="x [m]",
        ylabel="y [m]",
        title=f"An impermeable wall at 30° to cells of 20 m: jump {error:+.1%}",
    )
    ax = axes[1, 1]
    for top, marker in ((12.0, "o"), (60.0, "x")):
        _, flow = distant(50.0, top, (0.0,), 5.0)
        cells = flow.model.grid.cells
        row = cells.y < 50.0
        ax.plot(
            cells.x[row],
            flow.steps[-1].heads[row],
            marker,
            mfc="none",
            label=f"cells of 50 m, top at {top:g} m",
        )
    x = np.linspace(0.0, 1250.0, 300)
    ax.plot(x, np.sqrt(64.0 - 39.0 * x / 1250.0), color="#1b4965", label="Dupuit (1863)")
    ax.axvline(1000.0, color="#888", lw=0.8, ls="--")
    ax.text(1005.0, 7.6, "outline", color="#555")
    ax.set(xlabel="x [m]", ylabel="head [m]", title="Water at 5 m, 250 m behind the outline")
    ax.legend(frameon=False)
    figure.savefig(path, dpi=100)


def orders() -> Iterator[str]:
    """Rows of the table of orders."""
    for kind, make in MESHES.items():
        for ratio in (1.0, 4.0):
            before = None
            for n in (20, 40, 80, 160):
                found = errors(make(SIDE / n), ratio)
                said = (
                    ["", ""]
                    if before is None
                    else [f"{np.log2(a / b):.2f}" for a, b in zip(before, found, strict=True)]
                )
                before = found
                yield f"| {kind} | {ratio:g} | {n} | {found[0]:.1e} | {said[0]} | {found[1]:.1e} | {said[1]} |"


def main() -> None:
    """Solve all of them and write tables and picture."""
    rows = [f"| {' | '.join(row)} |" for row in cases()]
    text = HEAD + "\n".join(rows) + "\n" + ORDERS + "\n".join(orders()) + "\n"
    (HERE / "accuracy.md").write_text(text, encoding="utf-8")
    picture(HERE / "screenshots" / "accuracy.png")


if __name__ == "__main__":
    main()
