"""How long starting takes, beside importing the packages Inkhorn stands on: ``python benchmarks/startup.py``.

Each is a fresh process; the median of five is shown, and its ratio to the reference of the same run.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time

REFERENCE = [sys.executable, "-c", "import numpy, scipy.sparse.linalg, pandas, xarray"]
CASES = {
    "import inkhorn": [sys.executable, "-c", "import inkhorn"],
    "inkhorn --help": [sys.executable, "-m", "inkhorn", "--help"],
    "inkhorn demo (compiled before)": [sys.executable, "-m", "inkhorn", "demo"],
}


def seconds(command: list[str], folder: str, runs: int = 5) -> float:
    """Median wall time of a command, after one run that does not count."""
    times = []
    for _ in range(runs + 1):
        begun = time.perf_counter()
        subprocess.run(command, cwd=folder, capture_output=True, check=True)
        times.append(time.perf_counter() - begun)
    return statistics.median(times[1:])


def main() -> None:
    """Print seconds and ratios."""
    with tempfile.TemporaryDirectory() as folder:
        reference = seconds(REFERENCE, folder)
        print(f"{'numpy, scipy, pandas and xarray':34s} {reference:7.2f} s   1.00")
        for name, command in CASES.items():
            taken = seconds(command, folder)
            print(f"{name:34s} {taken:7.2f} s {taken / reference:6.2f}")


if __name__ == "__main__":
    main()
