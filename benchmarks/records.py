"""What records cost on disk, and how fast a run is opened: ``python benchmarks/records.py``.

Times stand beside those of the steps that the records are of, and beside starting Python with NumPy.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from seasons import model

import inkhorn as ik

OPENED = "import inkhorn as ik; ik.open_run({!r})"


def seconds(act: Callable[[], object]) -> float:
    """How long something takes."""
    begun = time.perf_counter()
    act()
    return time.perf_counter() - begun


def process(*words: str) -> float:
    """How long a fresh process takes, the median of five."""
    run = [sys.executable, *words]
    return statistics.median(
        seconds(lambda: subprocess.run(run, check=True, capture_output=True)) for _ in range(5)
    )


def main() -> None:
    """Print seconds and ratios."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        made = model(months=12)
        steps = ik.StepFile(folder / "flow.nc", made)
        whole = seconds(lambda: ik.solve_flow(made, steps=steps))
        flow = ik.solve_flow(made)
        again = ik.StepFile(folder / "again.nc", made)
        again.begin(steps.start)
        writing = seconds(lambda: [again.append(record) for record in flow.steps])
        again.close()
        values = [flow.steps[1].heads, flow.steps[1].face_flow, *flow.steps[1].term_flow]
        raw = sum(v.nbytes for v in [*values, flow.steps[1].storage_change, flow.steps[1].drainage])
        size = (folder / "again.nc").stat().st_size / len(flow.steps)
        reader = ik.StepReader(folder / "again.nc", made)
        opening = seconds(lambda: ik.StepReader(folder / "again.nc", made)[-1].heads)
        reading = seconds(lambda: [record.heads for record in reader])
        print(f"{made.grid.n_cells} cells, {len(flow.steps)} steps: {whole:.1f} s with records on disk")
        print(
            f"  of a step's time, writing its record takes {writing / whole:.1%}, reading heads {reading / whole:.1%}"
        )
        print(f"  the file is opened and the last heads read in {opening:.3f} s")
        print(f"  a record takes {size / 1e6:.2f} MB on disk, {size / raw:.0%} of its numbers")
        command = [sys.executable, "-m", "inkhorn"]
        subprocess.run([*command, "new", "first"], cwd=folder, check=True, capture_output=True)
        subprocess.run([*command, "run", "first/site.toml"], cwd=folder, check=True, capture_output=True)
        run = str(folder / "first" / "runs" / "run-001")
        numpy = process("-c", "import numpy")
        opened = process("-c", OPENED.format(run))
        here = np.median([seconds(lambda: ik.open_run(run)) for _ in range(20)])
        print(
            f"a run is opened in {here * 1e3:.2f} ms; in a fresh process in {opened / numpy:.2f} times what NumPy takes"
        )


if __name__ == "__main__":
    main()
