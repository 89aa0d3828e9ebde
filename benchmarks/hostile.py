"""Mutations of a project and of files of every format, through the command line: nothing may end in a traceback.

    python benchmarks/hostile.py [COUNT [FIRST SEED [PROCESSES]]]

Prints how far the mutations came and every one that ends as it must not: a traceback, words of a library, more than
20 s of CPU or 2 GB of memory.
"""

from __future__ import annotations

import os
import sys
import tempfile
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

from tests.hostile import Outcome, attempt, prepare, write_base


def main(count: int, first: int, processes: int) -> None:
    """Run so many mutations and print what came of them."""
    begun = first
    with tempfile.TemporaryDirectory() as there:
        base, work = Path(there) / "base", Path(there) / "work"
        write_base(base)
        work.mkdir()
        ends: list[int] = []
        for k in range(processes):
            child = os.fork()
            if child == 0:
                prepare(base, work)
                with (Path(there) / f"part-{k}").open("w", encoding="utf-8") as file:
                    for seed in range(begun + k, begun + count, processes):
                        one = attempt(base, work, seed, solve=seed % 6 == 0)
                        file.write(repr(one) + "\n")
                        file.flush()
                        if one.problem:
                            print(
                                f"seed {one.seed}, {one.changed}, {one.stage}: {one.problem}\n{one.said[-1500:]}",
                                flush=True,
                            )
                os._exit(0)
            ends.append(child)
        for child in ends:
            os.waitpid(child, 0)
        found = [
            eval(line, {"Outcome": Outcome})  # written above
            for k in range(processes)
            for line in (Path(there) / f"part-{k}").read_text(encoding="utf-8").splitlines()
        ]
    bad = [one for one in found if one.problem]
    stages, codes = Counter(one.stage for one in found), Counter(one.code for one in found)
    reached = {"placed": stages["placed"] + stages["solved"], "solved": stages["solved"]}
    print(f"{len(found)} mutations: {len(bad)} that must not be")
    print("reached:", ", ".join(f"{name} {n} ({n / len(found):.1%})" for name, n in reached.items()))
    print("exit codes:", dict(sorted(codes.items())))
    print(
        f"CPU at the most {max(o.cpu for o in found):.1f} s, memory {max(o.memory for o in found) / 1e9:.2f} GB"
    )
    print("by file:", dict(Counter(one.changed for one in found).most_common()))


if __name__ == "__main__":
    numbers = [int(v) for v in sys.argv[1:]]
    main(*(numbers + [200, 0, 2][len(numbers) :]))
