"""Many made-up problems full of switches, by seed, from two first heads: ``python benchmarks/problems.py 0 500``.

Prints how many are not solved, how many Newton steps it takes, and how far apart the two answers are.
"""

from __future__ import annotations

import sys
import time
import warnings
from concurrent.futures import ProcessPoolExecutor

import numpy as np

import inkhorn as ik
from inkhorn.model import flow_problem

STEPS = 60


def tried(seed: int) -> tuple[int, list[int], float, float, str]:
    """Seed, Newton steps from full columns and from anywhere (-1: unsolved), difference [m], seconds, complaint."""
    warnings.simplefilter("ignore")
    problem, steps, answers, said = flow_problem(seed, in_time=False), [], [], ""
    begun = time.perf_counter()
    for first in (None, problem.initial_heads):
        try:
            flow = ik.solve_flow(problem.model, initial_heads=first)
            steps.append(flow.report.iterations)
            answers.append(flow.steps[-1].heads)
        except (ik.ConvergenceError, ik.InputError) as error:
            steps.append(-1)
            said = str(error)[:160]
    apart = float(np.abs(answers[0] - answers[1]).max()) if len(answers) == 2 else float("nan")
    return seed, steps, apart, time.perf_counter() - begun, said


def main() -> None:
    """Try the seeds from the first argument up to the second."""
    begin, end = (int(a) for a in sys.argv[1:3]) if len(sys.argv) > 2 else (0, 100)
    with ProcessPoolExecutor() as pool:
        rows = list(pool.map(tried, range(begin, end), chunksize=5))
    steps = np.array([k for row in rows for k in row[1]])
    apart = np.array([row[2] for row in rows])
    solved = steps[steps >= 0]
    print(
        f"{len(rows)} problems, two first heads each: {(steps < 0).sum()} of {len(steps)} runs not solved; Newton steps "
        f"median {np.median(solved):.0f}, 90 % in {np.quantile(solved, 0.9):.0f}, most {solved.max()}, "
        f"{(solved > STEPS).sum()} runs above {STEPS}; heads apart by up to {np.nanmax(apart):.1e} m, "
        f"{(apart > 1e-6).sum()} problems by more than 1e-6 m; {sum(row[3] for row in rows) / len(steps):.2f} s a run"
    )
    for seed, taken, _, _, said in rows:
        if min(taken) < 0:
            print(f"  seed {seed}: {said}")


if __name__ == "__main__":
    main()
