"""Which numbers each run has: by chance, in a Latin hypercube, or in Sobol's sequence."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, did_you_mean

__all__ = ["SAMPLINGS", "Sampling", "Shares"]

Array = NDArray[np.float64]

Sampling = Literal["latin hypercube", "sobol", "random"]
SAMPLINGS: tuple[Sampling, ...] = ("latin hypercube", "sobol", "random")
_MOST_SOBOL = 1000  # numbers that Sobol's sequence spreads well


@dataclass(frozen=True)
class Shares:
    """Shares between 0 and 1 for each number of each run; the same for a run however many there are.

    Parameters
    ----------
    count : int
        Numbers of a run.
    sampling : {"latin hypercube", "sobol", "random"}
        Latin hypercubes are filled one after the other, each of so many runs as a block has.
    seed : int
    block : int
        Runs of a Latin hypercube.

    References
    ----------
    McKay, M. D., Beckman, R. J. and Conover, W. J. (1979), A comparison of three methods for selecting values of input
    variables in the analysis of output from a computer code, Technometrics 21(2), 239-245.
    Owen, A. B. (1998), Scrambling Sobol' and Niederreiter-Xing points, Journal of Complexity 14(4), 466-489.
    """

    count: int
    sampling: Sampling
    seed: int
    block: int = 100
    _made: dict[int, Array] = field(default_factory=dict, repr=False, compare=False)

    def __post_init__(self) -> None:
        if self.sampling not in SAMPLINGS:
            raise InputError(
                f'sampling is "{self.sampling}"; expected one of {list(SAMPLINGS)}.'
                f"{did_you_mean(self.sampling, SAMPLINGS)}"
            )
        if self.sampling == "sobol" and self.count > _MOST_SOBOL:
            raise InputError(
                f"Sobol's sequence is for up to {_MOST_SOBOL} numbers, and there are {self.count}. Use a Latin hypercube."
            )

    def of(self, run: int) -> Array:
        """Return the shares of a run, counted from 0, (count,); none of them 0 or 1."""
        if not self.count:
            return np.empty(0)
        if self.sampling == "random":
            found = np.random.default_rng([self.seed, 1, run]).random(self.count)
        elif self.sampling == "latin hypercube":
            found = self._hypercube(run // self.block)[run % self.block]
        else:
            found = self._sobol(run)
        return np.clip(found, 1e-12, 1.0 - 1e-12)

    def _hypercube(self, number: int) -> Array:
        if number not in self._made:
            numbers = np.random.default_rng([self.seed, 2, number])
            order = numbers.permuted(np.tile(np.arange(self.block), (self.count, 1)), axis=1).T
            self._made.clear()
            self._made[number] = (order + numbers.random((self.block, self.count))) / self.block
        return self._made[number]

    def _sobol(self, run: int) -> Array:
        size = 256
        part = run // size
        if part not in self._made:
            from scipy.stats.qmc import Sobol

            sequence = Sobol(self.count, scramble=True, rng=np.random.default_rng([self.seed, 3]))
            if part:
                sequence.fast_forward(part * size)
            self._made.clear()
            self._made[part] = sequence.random(size)
        return self._made[part][run % size]
