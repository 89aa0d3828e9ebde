"""Write accuracy.md: errors against the size of cells, on every kind of mesh: ``python docs/make_accuracy.py``."""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE.parent))

from tests.verification.test_face_rows import MESHES, SIDE, errors  # noqa: E402

HEAD = """# How exact heads and flows are

Made by `python docs/make_accuracy.py`. Manufactured heads on a square of 1 km, smoothly varying conductivity (1.6
to 3 m/day), exact heads held along the rim; a zone in the middle keeps its place and cells a quarter as large as those
around it. Along 30° the conductivity is as large as across, or four times that. Errors are weighted means (L2): of
heads, which lie between 0 and 1.9 m, and of flows per area of side faces [m/day], whose greatest is about 0.008.
The order is the power of the cell size with which an error falls.

| mesh | anisotropy | cells a side | error of heads [m] | order | error of flows [m/day] | order |
|---|---|---|---|---|---|---|
"""


def main() -> None:
    """Solve all of them and write the table."""
    lines = []
    for kind, make in MESHES.items():
        for ratio in (1.0, 4.0):
            before = None
            for n in (20, 40, 80, 160):
                found = errors(make(SIDE / n), ratio)
                orders = (
                    ["", ""]
                    if before is None
                    else [f"{np.log2(a / b):.2f}" for a, b in zip(before, found, strict=True)]
                )
                before = found
                lines.append(
                    f"| {kind} | {ratio:g} | {n} | {found[0]:.1e} | {orders[0]} | {found[1]:.1e} | {orders[1]} |"
                )
    (HERE / "accuracy.md").write_text(HEAD + "\n".join(lines) + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
