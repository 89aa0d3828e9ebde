"""What readings say of parameters, and what they cannot: spread, shares, combinations that stay unknown."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from inkhorn.calibration.observations import Observations
from inkhorn.calibration.parameters import Parameter, ParameterSet

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Knowledge", "Unknown"]

Array = NDArray[np.float64]

_WIDE = 1.17  # standard deviation of a logarithm from which 95 % limits are farther off than a factor of ten
_NOISE = 1e-5  # of the greatest singular value, below which one is rounding
_LITTLE = 0.2  # share of a pilot point from readings, below which its neighbours and what was expected decide
_PART = 0.2  # of the greatest part in a combination, from which a parameter is named


@dataclass(frozen=True)
class Unknown:
    """A combination of parameters that readings do not fix.

    Attributes
    ----------
    names : tuple of str
        The parameters in it, those first that have the greatest part.
    parts : tuple of float
        How they move together, the greatest 1.
    deviation : float
        Standard deviation along it, of the first (of its logarithm where that is fitted); infinite where nothing is
        told at all.
    words : str
    """

    names: tuple[str, ...]
    parts: tuple[float, ...]
    deviation: float
    words: str

    def __str__(self) -> str:
        how = (
            ""
            if not np.isfinite(self.deviation)
            else (
                f" (only within a factor of {np.exp(1.96 * self.deviation):.2g} either way)"
                if 1.96 * self.deviation < 20.0
                else " (not at all, in effect)"
            )
        )
        return self.words + how


@dataclass(frozen=True, eq=False)
class Knowledge:
    """A fit made linear where it stands.

    Attributes
    ----------
    parameters : ParameterSet
    observations : Observations
    coordinates : ndarray of float, (n,)
        Of the free numbers.
    jacobian : ndarray of float, (n_readings, n)
        Of weighted computed values by coordinates.
    residual : ndarray of float, (n_readings,)
        Weighted.
    precision : ndarray of float, (n, n)
        Of what is known or asked besides the readings, zero where nothing is.
    pull : ndarray of float, (n,)
        Of that penalty on the coordinates: minus half its slope.
    dry : ndarray of bool, (n,)
        Whether all cells that a number acts on are drained.
    fitted : bool
        Whether this is after a fit; before one, what no change of the parameters could mend is what readings are off by.
    """

    parameters: ParameterSet
    observations: Observations
    coordinates: Array
    jacobian: Array = field(repr=False)
    residual: Array = field(repr=False)
    precision: Array = field(repr=False)
    pull: Array = field(repr=False)
    dry: NDArray[np.bool_] = field(repr=False)
    fitted: bool = True

    @cached_property
    def scale(self) -> Array:
        """What each coordinate is compared by: 1 for a logarithm, else its deviation, its bounds or its size, (n,)."""
        p = self.parameters
        low, high = p.bounds
        with np.errstate(invalid="ignore"):
            span = np.where(
                np.isfinite(high - low), 0.25 * (high - low), np.maximum(np.abs(self.coordinates), 1.0)
            )
        return np.where(p.logarithmic, 1.0, np.where(np.isfinite(p.deviation), p.deviation, span))

    @cached_property
    def _scaled(self) -> tuple[Array, Array]:
        """Information of the readings, and of the rest, by scaled coordinates; the variance left aside."""
        j = self.jacobian * self.scale
        return j.T @ j, self.precision * np.outer(self.scale, self.scale)

    @cached_property
    def _variance(self) -> tuple[float, float]:
        """Variance of a weighted residual, and the freedom that is left."""
        residual, count = self.residual, len(self.residual)
        if not self.fitted:
            residual = residual - self.jacobian @ np.linalg.lstsq(self.jacobian, residual, rcond=1e-10)[0]
        misfit = float(np.sum(residual**2))
        informed, known = self._scaled
        variance = 1.0
        for _ in range(30):
            freedom = count - self._fixed(variance, informed, known)
            if freedom < 0.5:
                return np.nan, max(freedom, 0.0)
            new = max(misfit / freedom, 1e-300)
            if self.observations.stated:
                new = max(new, 1.0)
            if abs(new - variance) <= 1e-6 * variance:
                break
            variance = new
        return variance, freedom

    @staticmethod
    def _fixed(variance: float, informed: Array, known: Array) -> float:
        """How many numbers readings fix: the trace of the resolution."""
        size, axes = np.linalg.eigh(informed / variance + known)
        told = size > 1e-10 * max(float(size.max(initial=0.0)), 1e-300)
        mine = axes[:, told]
        return float(np.einsum("ij,ik,kj,j->", mine, informed / variance, mine, 1.0 / size[told]))

    @property
    def freedom(self) -> float:
        """Readings less the trace of the resolution."""
        return self._variance[1]

    @property
    def variance(self) -> float:
        """Of a weighted residual: what is left of the misfit; NaN without freedom.

        At least 1 where standard deviations are stated.
        """
        return self._variance[0]

    @cached_property
    def _axes(self) -> tuple[Array, Array]:
        """Precision along its own axes, those of scaled coordinates; 0 where nothing is told."""
        informed, known = self._scaled
        variance = self.variance if np.isfinite(self.variance) else 1.0
        size, axes = np.linalg.eigh(informed / variance + known)
        return np.where(size > _NOISE**2 * max(float(size.max(initial=0.0)), 1e-300), size, 0.0), axes

    @cached_property
    def covariance(self) -> Array:
        """Of the coordinates, as far as they are told, (n, n); what is not told at all counts as fixed."""
        size, axes = self._axes
        told = size > 0.0
        half = self.scale[:, None] * axes[:, told] / np.sqrt(size[told])
        return half @ half.T

    @cached_property
    def deviation(self) -> Array:
        """Standard deviation of each coordinate, (n,); infinite where part of it is not told at all."""
        size, axes = self._axes
        found = np.sqrt(np.maximum(np.diagonal(self.covariance), 0.0))
        if (size == 0.0).any():
            found[(axes[:, size == 0.0] ** 2).sum(axis=1) > 1e-6] = np.inf
        return np.where(np.isnan(self.variance), np.inf, found)

    @property
    def times(self) -> float:
        """Standard deviations to a 95 % limit."""
        from scipy.special import stdtrit

        known = self.observations.stated and self.variance <= 1.0
        return float(1.96 if known else stdtrit(max(self.freedom, 1.0), 0.975))

    @cached_property
    def share(self) -> Array:
        """Share of each number that readings fix, 0 to 1, (n,): the diagonal of the resolution.

        Of what was known beforehand; where nothing was, of what the bounds allow.
        """
        informed = self.jacobian.T @ self.jacobian / self.usual_variance
        fixed = np.einsum("ij,ji->i", np.linalg.pinv(self.afterwards, hermitian=True), informed)
        return np.clip(fixed, 0.0, 1.0)

    @property
    def usual_variance(self) -> float:
        """Of a weighted residual; 1 where no freedom is left to tell."""
        return self.variance if np.isfinite(self.variance) else 1.0

    @cached_property
    def beforehand(self) -> Array:
        """Precision of the coordinates without the readings, (n, n).

        Where nothing is stated bounds count as two standard deviations either way.
        """
        low, high = self.parameters.bounds
        with np.errstate(invalid="ignore"):
            span = np.where(np.isfinite(high - low), 0.25 * (high - low), 10.0 * self.scale)
        bare = ~np.isfinite(self.parameters.deviation)
        return np.asarray(self.precision + np.diag(np.where(bare, 1.0 / span**2, 0.0)))

    @cached_property
    def afterwards(self) -> Array:
        """The same with the readings, (n, n)."""
        return np.asarray(self.beforehand + self.jacobian.T @ self.jacobian / self.usual_variance)

    @cached_property
    def correlation(self) -> Array:
        """Of the coordinates, (n, n)."""
        c = self.covariance
        size = np.sqrt(np.maximum(np.diagonal(c), 1e-300))
        return np.asarray(c / np.outer(size, size))

    @cached_property
    def singular_values(self) -> Array:
        """Of the scaled weighted sensitivities, falling."""
        return np.asarray(np.linalg.svd(self.jacobian * self.scale, compute_uv=False), dtype=np.float64)

    @cached_property
    def sensitivity(self) -> Array:
        """By how much the weighted readings change, in the root mean square, for a scaled step of each number, (n,)."""
        return np.sqrt(np.mean((self.jacobian * self.scale) ** 2, axis=0))

    @cached_property
    def leverage(self) -> Array:
        """How far each reading decides on its own computed value, 0 to 1, (n_readings,)."""
        variance = self.variance if np.isfinite(self.variance) else 1.0
        found = np.einsum("ij,jk,ik->i", self.jacobian, self.covariance, self.jacobian) / variance
        return np.clip(found, 0.0, 1.0)

    @cached_property
    def alike(self) -> float:
        """Correlation of the residuals of levels with those at the nearest other places; NaN of fewer than ten places.

        Errors of reading have none. Where it is high the form of the model is not that of the ground, and limits, which
        know of errors of reading alone, are too narrow.
        """
        from scipy.spatial import KDTree

        table = self.observations.table.assign(r=self.residual)
        table = table[(table["unit"] == "m") & np.isfinite(table["x [m]"])]
        means = table.groupby(["x [m]", "y [m]", "layer"], sort=False)["r"].mean().reset_index()
        place = means[["x [m]", "y [m]"]].to_numpy()
        if len(np.unique(place, axis=0)) < 10 or float(means["r"].std()) == 0.0:
            return float("nan")
        distance, near = KDTree(place).query(place, k=min(6, len(place)))
        first = np.argmax(distance > 1e-6, axis=1)
        other = near[np.arange(len(place)), first]
        return float(np.corrcoef(means["r"], means["r"].to_numpy()[other])[0, 1])

    # --- what cannot be known -----------------------------------------------------------------------

    @cached_property
    def _wholes(self) -> tuple[list[list[int]], Array]:
        """Free numbers by parameter, those of pilot points together; and the weighted sensitivity to each whole."""
        p = self.parameters
        owner = np.array([p.scalars[k].parameter for k in p.free])
        members = [np.flatnonzero(owner == k).tolist() for k in dict.fromkeys(owner.tolist())]
        j = self.jacobian * self.scale
        return members, np.array([j[:, mine].sum(axis=1) for mine in members]).T

    @cached_property
    def unknown(self) -> tuple[Unknown, ...]:
        """Combinations that the readings leave open, what is known besides left aside: those least told first.

        Pilot points count together, as if all of them rose; of single ones see `share`.
        """
        from scipy.linalg import qr

        members, j = self._wholes
        if not members:
            return ()
        deviate = float(np.sqrt(self.usual_variance))
        own = np.sqrt((j**2).sum(axis=0))
        most = max(float(own.max(initial=0.0)), 1e-300)
        alone = (own <= _NOISE * most) | (deviate > 2.0 * own * _WIDE)
        found = []
        for k in np.flatnonzero(alone).tolist():
            found.append(
                self._alone(members[k], deviate / float(own[k]) if own[k] > _NOISE * most else np.inf)
            )
        rest = np.flatnonzero(~alone)
        if len(rest) < 2:
            return tuple(found)
        _, size, turned = np.linalg.svd(j[:, rest], full_matrices=True)
        size = np.concatenate([size, np.zeros(len(rest) - len(size))])
        with np.errstate(divide="ignore"):
            spread = np.where(size > _NOISE * size.max(), deviate / size, np.inf)
        # the same room, spanned by combinations of as few parameters as may be
        room = turned[spread > _WIDE]
        if len(room) > 1:
            _, _, order = qr(room, pivoting=True, mode="economic")
            room = np.linalg.solve(room[:, order[: len(room)]], room)
        for row in room:
            along = row / np.linalg.norm(row)
            told = float(np.linalg.norm(j[:, rest] @ along))
            deviation = deviate / told if told > _NOISE * float(size.max()) else np.inf
            found.append(self._together([members[k] for k in rest], along, deviation))
        return tuple(sorted(found, key=lambda u: -u.deviation))

    def _whole_name(self, mine: list[int]) -> str:
        """What the numbers of one parameter are called together."""
        p = self.parameters
        return p.names[mine[0]] if len(mine) == 1 else p.parameters[p.scalars[p.free[mine[0]]].parameter].name

    def _alone(self, mine: list[int], deviation: float) -> Unknown:
        name = self._whole_name(mine)
        if self.dry[mine].all():
            words = f"{name} acts on drained cells only, and no reading tells of it"
            return Unknown((name,), (1.0,), deviation, words)
        return Unknown((name,), (1.0,), deviation, f"no reading tells of {name}")

    def _together(self, members: list[list[int]], along: Array, deviation: float) -> Unknown:
        order = np.argsort(-np.abs(along))
        order = order[np.abs(along[order]) > _PART * np.abs(along[order[0]])]
        parts = along[order] / along[order[0]]
        names = tuple(self._whole_name(members[k]) for k in order)
        up, down = (self._called([members[k] for k in order[(parts > 0) == way]]) for way in (True, False))
        if len(names) == 1:
            words = f"readings hardly tell of {names[0]}"
        elif not down:
            words = f"{up} may rise or fall together, and the readings do not say how far"
        else:
            falls = "fall" if " and " in down else "falls"
            words = f"{up} may rise as {down} {falls}, and the readings do not say how far"
        return Unknown(names, tuple(parts.tolist()), deviation * float(np.abs(along[order[0]])), words)

    def _called(self, which: list[list[int]]) -> str:
        """Some parameters in words; all conductivities as such."""
        p = self.parameters

        def conducts(mine: list[int]) -> bool:
            return "conductivity" in p.parameters[p.scalars[p.free[mine[0]]].parameter].of

        every = sum(conducts(mine) for mine in self._wholes[0])
        all_said = every > 1 and sum(conducts(mine) for mine in which) == every
        names = ["all conductivities"] * all_said
        names += [self._whole_name(mine) for mine in which if not (all_said and conducts(mine))]
        return " and ".join([", ".join(names[:-1]), names[-1]]) if len(names) > 1 else "".join(names)

    def insensitive(self, least: float = 0.01) -> tuple[str, ...]:
        """Return the parameters of which readings tell less than a share of what they tell of the others, by name."""
        most = float(self.sensitivity.max(initial=0.0))
        low = (self.sensitivity < least * most) | (most == 0.0)
        p = self.parameters
        owner = np.array([p.scalars[k].parameter for k in p.free])
        return tuple(p.parameters[k].name for k in dict.fromkeys(owner.tolist()) if low[owner == k].all())

    def hold_insensitive(self, least: float = 0.01) -> list[Parameter]:
        """Return the parameters, those that readings hardly tell of held."""
        from dataclasses import replace

        out = self.insensitive(least)
        return [
            replace(q, held=True, follows=None) if q.name in out else q for q in self.parameters.parameters
        ]

    # --- tables -------------------------------------------------------------------------------------

    def limits(self) -> tuple[Array, Array]:
        """Return lower and upper 95 % limits of the free numbers, (n,) each.

        Where a bound is active the others are not where the readings want them: limits then reach to there as well.
        """
        times, free = self.times, self.coordinates.copy()
        centres = [self.coordinates]
        if self.on_bound.any():
            slope = (
                self.jacobian.T @ self.residual / (self.variance if np.isfinite(self.variance) else 1.0)
                + self.pull
            )
            centres.append(free + self.covariance @ slope)
        with np.errstate(over="ignore", invalid="ignore"):
            low = np.min([c - times * self.deviation for c in centres], axis=0)
            high = np.max([c + times * self.deviation for c in centres], axis=0)
        return self.parameters.numbers(low), self.parameters.numbers(high)

    @cached_property
    def on_bound(self) -> NDArray[np.bool_]:
        """Which free numbers stand on a bound, (n,)."""
        low, high = self.parameters.bounds
        size = np.maximum(np.where(np.isfinite(high - low), high - low, 1.0), 1e-300)
        return (np.abs(self.coordinates - low) < 1e-6 * size) | (
            np.abs(self.coordinates - high) < 1e-6 * size
        )

    def remarks(self) -> list[str]:
        """Return why limits are wide or bent, for each free number; nothing where all is well."""
        found = []
        bound = [n for n, on in zip(self.parameters.names, self.on_bound, strict=True) if on]
        for k, name in enumerate(self.parameters.names):
            said = []
            if self.on_bound[k]:
                said.append("on its bound")
            elif bound:
                also = any(abs(self.correlation[k, j]) > 0.3 for j in np.flatnonzero(self.on_bound))
                said += [f"bent by {', '.join(bound[:2])}, on a bound"] if also else []
            if np.isnan(self.variance):
                said.append("no freedom left: as many numbers as readings")
            whole = self.parameters.parameters[
                self.parameters.scalars[self.parameters.free[k]].parameter
            ].name
            mine = [u for u in self.unknown if name in u.names]
            if mine and len(mine[0].names) == 1:
                said.append("its cells are drained" if self.dry[k] else "hardly told by the readings")
            elif mine:
                others = [n for n in mine[0].names if n != name]
                more = " and others" if len(others) > 2 else ""
                said.append(f"known only together with {', '.join(others[:2])}{more}")
            elif whole != name and self.share[k] < _LITTLE:
                said.append("hardly told by the readings; as its neighbours and what was expected")
            found.append("; ".join(said))
        return found

    def table(self) -> pd.DataFrame:
        """Return the free numbers: value, 95 % limits beforehand and now, what readings tell of each, remarks."""
        import pandas as pd

        p = self.parameters
        low, high = self.limits()
        with np.errstate(over="ignore"):
            before = [p.numbers(p.expected + way * 1.96 * p.deviation) for way in (-1.0, 1.0)]
        return pd.DataFrame(
            {
                "parameter": list(p.names),
                "unit": [p.scalars[k].unit for k in p.free],
                "start": p.numbers(p.start),
                "value": p.numbers(self.coordinates),
                "lower 95 %": low,
                "upper 95 %": high,
                "expected lower 95 %": before[0],
                "expected upper 95 %": before[1],
                "sensitivity [-]": self.sensitivity,
                "share from readings [-]": self.share,
                "remark": self.remarks(),
            }
        )

    def readings_table(self) -> pd.DataFrame:
        """Return the readings: leverage, how much each tells in all, and of which number the most."""
        scaled = np.abs(self.jacobian * self.scale)
        names = np.array(self.parameters.names, dtype=object)
        return self.observations.table[["name", "kind", "group", "layer", "date", "time [day]"]].assign(
            **{
                "leverage [-]": self.leverage,
                "sensitivity [-]": np.sqrt((scaled**2).sum(axis=1)),
                "tells most of": names[np.argmax(scaled, axis=1)] if len(names) else "",
            }
        )

    def words(self) -> list[str]:
        """Return what cannot be known, a line for each combination."""
        return [str(u) for u in self.unknown]
