"""The flow equations: the water balance of every cell, and its derivative by every unknown.

Unknowns are the heads of all cells, then the own unknowns of the terms in their order. The residual
of a cell is what flows in less what flows out; a cell of fixed head has none.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from copy import copy
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.linear import Columns
from inkhorn.model import Model, face_saturation, ramp, saturation, stored_heights
from inkhorn.model.terms import Contribution, Moment, Term
from inkhorn.space import RectangularMesh

__all__ = ["Balance", "FlowEquations", "TimeStep"]


@dataclass(frozen=True, eq=False)
class Balance:
    """The equations evaluated at one set of unknowns.

    Attributes
    ----------
    residual : ndarray of float, (n_unknowns,)
        Inflow less outflow of each cell, then the terms' own residuals [m³/day]; what a fixed head
        gives or takes is left out, so at those cells the residual is that flow, reversed.
    face_flow : ndarray of float, (n_faces,)
        From first to second cell [m³/day].
    drive : ndarray of float, (n_entries of the face rows,)
        What each entry of a face row is multiplied with, head limited by the face's level [m].
    share : ndarray of float, (n_faces,)
        Saturation that scales the face row.
    contributions : tuple of Contribution
        Of each term.
    storage_change : ndarray of float, (n_cells,)
        Water taken into storage [m³/day]; zero when steady.
    rounding : float
        What rounding alone may add up to in the residuals [m³/day].
    slopes : callable
        Makes the derivative.
    """

    residual: NDArray[np.float64]
    face_flow: NDArray[np.float64]
    drive: NDArray[np.float64]
    share: NDArray[np.float64]
    contributions: tuple[Contribution, ...]
    storage_change: NDArray[np.float64]
    rounding: float
    slopes: Callable[[], Any] = field(repr=False)

    @cached_property
    def jacobian(self) -> Any:
        """Derivative of the residual by the unknowns, made when it is first asked for."""
        return self.slopes()


# what `Model.face_rows` is made of
_IN_ROWS = (
    "horizontal_conductivity",
    "vertical_conductivity",
    "anisotropy",
    "direction",
    "leakance",
    "face_resistance",
)


def _alike(one: Any, other: Any) -> bool:
    if one is None or other is None:
        return one is other
    return bool(np.array_equal(one, other, equal_nan=True))


@dataclass(frozen=True, eq=False)
class TimeStep:
    """From where to where a step goes, and the heads it begins with.

    Attributes
    ----------
    start, end : float
        [day]
    heads : ndarray of float, (n_cells,)
        At the start [m].
    """

    start: float
    end: float
    heads: NDArray[np.float64]


class FlowEquations:
    """The equations of one model, steady or over one step in time.

    Side faces carry their row's flow times a saturation, that of the upstream cell where either is
    nearly dry. Floor faces
    carry ``row @ max(heads, level of the face)``: as long as the lower cell is not full, water falls
    at the rate that the upper cell alone sets, and none rises into an empty cell from below.
    """

    def __init__(self, model: Model) -> None:
        from scipy.sparse import csr_array

        self.model = model
        self.step: TimeStep | None = None
        self.stored_before = np.empty(0)
        self.cells, faces = model.grid.cells, model.grid.faces
        n, self.first, self.second = len(self.cells), faces.cells[:, 0], faces.cells[:, 1]
        self.rows = model.face_rows()
        self.entry_face = self.rows.entry_face
        self.entry_floor = faces.is_floor[self.entry_face]
        level = np.maximum(self.cells.bottom[self.first], self.cells.top[self.second])
        self.entry_level = level[self.entry_face]
        height = self.cells.thickness
        bend = model.water_table.smoothing * np.minimum(height[self.first], height[self.second])
        self.entry_bend = bend[self.entry_face]
        face = np.arange(len(faces))
        self.divergence = csr_array(
            (
                np.concatenate([-np.ones(len(face)), np.ones(len(face))]),
                (np.concatenate([self.first, self.second]), np.concatenate([face, face])),
            ),
            shape=(n, len(faces)),
        )
        counts = [t.n_own for t in model.terms]
        self.first_own = n + np.concatenate([[0], np.cumsum(counts)]).astype(int)
        self.n_unknowns = int(self.first_own[-1])
        fixed = np.zeros(self.n_unknowns, dtype=bool)
        for term in model.terms:
            if term.fixes_head:
                fixed[term.cells] = True
        self.fixed, self.free = fixed, np.flatnonzero(~fixed)
        self.columns = self._columns()  # sorted out once, for all steps of all copies

    def _columns(self) -> Columns | None:
        """Where the free unknowns stand, for the linear solver; none where columns branch."""
        grid = self.model.grid
        if grid.joined:
            return None
        mesh, n = grid.mesh, len(self.cells)
        column, layer = np.full(self.n_unknowns, -1), np.zeros(self.n_unknowns, dtype=np.int64)
        column[:n], layer[:n] = self.cells.plan, self.cells.layer
        even = None
        if isinstance(mesh, RectangularMesh):
            widths = (np.diff(mesh.x_edges), np.diff(mesh.y_edges))
            even = mesh.row_column if all(w.max() < 1.01 * w.min() for w in widths) else None
        return Columns(
            column[self.free],
            layer[self.free],
            mesh.edges().cells,
            mesh.x,
            mesh.y,
            mesh.area,
            even,
        )

    def over(self, step: TimeStep) -> FlowEquations:
        """Return the same equations over a step in time."""
        other = copy(self)
        other.step = step
        other.stored_before, _ = self.stored(step.heads)
        return other

    def of(self, model: Model) -> FlowEquations:
        """Return the equations of another period of the same model; rows are made anew only if they changed."""
        same = all(_alike(getattr(model, name), getattr(self.model, name)) for name in _IN_ROWS)
        if not same:
            return FlowEquations(model)
        other = copy(self)
        other.model = model
        return other

    def stored(self, heads: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Return the water stored in each cell, and its slope by head [m³], [m²].

        Raises
        ------
        InputError
            If the model lacks a storage property.
        """
        model, law = self.model, self.model.water_table
        needed = ["specific_storage"] if law.confined else ["specific_storage", "specific_yield"]
        missing = [name for name in needed if getattr(model, name) is None]
        if missing:
            raise InputError(
                f"transient flow needs {' and '.join(missing)}. Give them for every material (or to Model)."
            )
        c = self.cells
        filled, filled_slope, elastic, elastic_slope = stored_heights(heads, c.bottom, c.top, law)
        drains = 0.0 if law.confined else model.specific_yield
        return (
            c.area * (drains * filled + model.specific_storage * elastic),
            c.area * (drains * filled_slope + model.specific_storage * elastic_slope),
        )

    def _storage(self, heads: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Water taken into storage over the step, and its slope by head [m³/day], [m²/day]."""
        if self.step is None:
            return np.zeros(len(heads)), np.zeros(len(heads))
        length = self.step.end - self.step.start
        now, slope = self.stored(heads)
        return (now - self.stored_before) / length, slope / length

    def own(self, unknowns: NDArray[np.float64]) -> Iterator[tuple[Term, NDArray[np.float64]]]:
        """Go through the terms, each with its own unknowns."""
        for term, start, end in zip(self.model.terms, self.first_own[:-1], self.first_own[1:], strict=True):
            yield term, unknowns[start:end]

    def start(self, heads: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return first unknowns from heads, fixed heads put in."""
        heads = np.array(heads, dtype=np.float64)
        for term in self.model.terms:
            if term.fixes_head:
                heads[term.cells] = term.head  # type: ignore[attr-defined]
        return self.settled(np.concatenate([heads, *(t.first_guess(heads) for t in self.model.terms)]))

    def settled(self, unknowns: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return unknowns with those of the terms brought to where the heads want them, where these suffice."""
        if self.n_unknowns == len(self.cells):
            return unknowns
        own = [term.settled(moment) for term, moment in self.moments(unknowns)]
        return np.concatenate([unknowns[: len(self.cells)], *own])

    def moments(self, unknowns: NDArray[np.float64]) -> Iterator[tuple[Term, Moment]]:
        """Go through the terms, each with what it is told at these unknowns."""
        heads = unknowns[: len(self.cells)]
        for (term, own), first in zip(self.own(unknowns), self.first_own[:-1], strict=True):
            yield (
                term,
                Moment(
                    heads=heads,
                    own=own,
                    first_own=int(first),
                    cells=self.cells,
                    horizontal_conductivity=self.model.horizontal_conductivity,
                    law=self.model.water_table,
                    start=0.0 if self.step is None else self.step.start,
                    end=0.0 if self.step is None else self.step.end,
                ),
            )

    def evaluate(self, unknowns: NDArray[np.float64]) -> Balance:
        """Evaluate the residual.

        Parameters
        ----------
        unknowns : ndarray of float, (n_unknowns,)
            Heads [m], then own unknowns.
        """
        law, n = self.model.water_table, len(self.cells)
        heads, matrix = unknowns[:n], self.rows.matrix
        drive = heads[matrix.indices]
        drive_slope = np.ones_like(drive)
        if not law.confined:
            floor, film = self.entry_floor, law.film
            level = self.entry_level[floor]
            over, slope = ramp(drive[floor] - level, self.entry_bend[floor])
            drive[floor] = (1.0 - film) * (level + over) + film * drive[floor]
            drive_slope[floor] = (1.0 - film) * slope + film
        product = matrix.data * drive
        full_flow = np.add.reduceat(product, matrix.indptr[:-1]) if len(product) else np.empty(0)
        forward = full_flow >= 0
        upstream = np.where(forward, self.first, self.second)
        filled, filled_slope = saturation(heads, self.cells.bottom, self.cells.top, law)
        side = ~self.model.grid.faces.is_floor
        downstream = np.where(forward, self.second, self.first)
        wet, by_upstream, by_downstream = face_saturation(filled[upstream], filled[downstream])
        share = np.where(side, wet, 1.0)
        face_flow = share * full_flow

        contributions = []
        residual = np.zeros(self.n_unknowns)
        storage, storage_slope = self._storage(heads)
        residual[:n] = self.divergence @ face_flow - storage
        for (term, moment), first in zip(self.moments(unknowns), self.first_own[:-1], strict=True):
            answer = term.evaluate(moment)
            contributions.append(answer)
            residual[:n] += np.bincount(term.cells, answer.flow, n)
            residual[first : first + term.n_own] = answer.own_residual

        def slopes() -> Any:
            data = share[self.entry_face] * matrix.data * drive_slope
            own = matrix.indptr[:-1]  # the face's own two cells lead its row
            for place, by, cell in (
                (np.where(forward, 0, 1), by_upstream, upstream),
                (np.where(forward, 1, 0), by_downstream, downstream),
            ):
                data[own + place] += np.where(side, full_flow * by * filled_slope[cell], 0.0)
            return self._jacobian(data, contributions, storage_slope)

        rounding = float(np.finfo(float).eps * np.abs(product).sum())
        answers = tuple(contributions)
        return Balance(residual, face_flow, drive, share, answers, storage, rounding, slopes)

    def _jacobian(
        self,
        face_slope: NDArray[np.float64],
        contributions: list[Contribution],
        storage_slope: NDArray[np.float64],
    ) -> Any:
        from scipy.sparse import coo_array, csr_array

        matrix = self.rows.matrix
        faces = self.divergence @ csr_array((face_slope, matrix.indices, matrix.indptr), shape=matrix.shape)
        faces.resize((self.n_unknowns, self.n_unknowns))
        rows, columns, values = [], [], []
        if self.step is not None:
            cells = np.arange(len(storage_slope))
            rows, columns, values = [cells], [cells], [-storage_slope]
        for term, answer, first in zip(self.model.terms, contributions, self.first_own[:-1], strict=True):
            for slope, number in (
                (answer.flow_slope, term.cells),
                (answer.own_slope, first + np.arange(term.n_own)),
            ):
                rows.append(number[slope.row])
                columns.append(slope.column)
                values.append(slope.value)
        if not rows:
            return faces.tocsr()
        extra = coo_array(
            (np.concatenate(values), (np.concatenate(rows), np.concatenate(columns))), shape=faces.shape
        )
        return (faces + extra.tocsr()).tocsr()

    def term_flows(self, balance: Balance) -> tuple[NDArray[np.float64], ...]:
        """Return the flow of every entry of every term, fixed heads included, [m³/day]."""
        return tuple(
            -balance.residual[term.cells] if term.fixes_head else answer.flow
            for term, answer in zip(self.model.terms, balance.contributions, strict=True)
        )

    def turnover(self, balance: Balance) -> float:
        """Return the larger of inflow and outflow, storage included [m³/day]."""
        flows = np.concatenate([np.zeros(1), *self.term_flows(balance), -balance.storage_change])
        return float(max(flows[flows > 0].sum(), -flows[flows < 0].sum()))

    def closure(self, balance: Balance) -> float:
        """Return the sum of absolute residuals over the larger of inflow and outflow, storage included.

        Exactly 0 where the residuals are no more than rounding, as where no water moves at all.
        """
        turnover = self.turnover(balance)
        missing = float(np.abs(balance.residual[self.free]).sum())
        if missing <= balance.rounding:
            return 0.0
        return missing / max(turnover, 1e-6 * missing)  # at the very start nothing may move yet

    @cached_property
    def names(self) -> list[str]:
        """Names of the terms' own unknowns, by feature."""
        return [f"{t.kind} {name}" for t in self.model.terms if t.n_own for name in t.features]

    def name_of(self, unknown: int) -> str:
        """Return an unknown in words: layer and place, or the feature it belongs to."""
        n = len(self.cells)
        if unknown >= n:
            return f"the water level of {self.names[unknown - n]}"
        c = self.cells
        layer = self.model.grid.layer_names[c.layer[unknown]]
        return f'cell {unknown} of layer "{layer}" at x={c.x[unknown]:.6g}, y={c.y[unknown]:.6g}'
