"""Face rows: the flow across each face, as a sparse row over the heads of cells."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    pass

__all__ = ["STRAIGHT", "FaceRows"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

STRAIGHT = 1e-9  # how far off the centres may lie, as a share of their distance, for a row of two


@dataclass(frozen=True, eq=False)
class FaceRows:
    """Flow across each face when all is saturated, and its derivative by conductivity.

    The flow is a conductance times a head difference, that between two points on the line through the
    face along which water would cross it (the conormal). Where a centre does not lie on that line, the
    head at the point is read between the centre and its neighbours; where both do, the row has two entries.

    Attributes
    ----------
    difference : scipy.sparse.csr_array, (n_faces, n_cells)
        ``difference @ heads`` is that head difference [m]. The first two entries of each row belong to
        the face's own two cells, in their order.
    conductance : ndarray of float, (n_faces,)
        [m²/day]
    cells : ndarray of int, (n_faces, 2)
        Of `Faces`.
    is_floor : ndarray of bool, (n_faces,)
        Of `Faces`.
    by_conductivity : ndarray of float, (n_faces, 2)
        Derivative of the conductance by the conductivity of either cell, vertical for floor faces [m].
    by_leakance, by_resistance : ndarray of float, (n_faces,)
        Derivative of the conductance by the leakance of the first cell [m²] and by what stands in the face [m⁴/day²].
    inexact : ndarray of int
        Faces that a linear head does not cross exactly, for want of neighbours to read it between.
    """

    difference: Any
    conductance: Array
    cells: Index
    is_floor: NDArray[np.bool_]
    by_conductivity: Array
    by_leakance: Array
    by_resistance: Array
    inexact: Index

    def __repr__(self) -> str:
        return f"FaceRows({len(self.cells)} faces, {int((~self.two_point).sum())} of more than two cells)"

    @cached_property
    def entry_face(self) -> Index:
        """The face of each entry."""
        return np.repeat(np.arange(len(self.conductance)), np.diff(self.difference.indptr))

    @cached_property
    def matrix(self) -> Any:
        """``matrix @ heads`` is the flow from first to second cell [m³/day], (n_faces, n_cells)."""
        from scipy.sparse import csr_array

        rows = self.difference
        data = (
            (self.conductance[:, None] * rows.data.reshape(-1, 2)).ravel()
            if len(rows.data) == 2 * len(self.conductance)
            else self.conductance[self.entry_face] * rows.data
        )
        return csr_array((data, rows.indices, rows.indptr), shape=rows.shape)

    @property
    def two_point(self) -> NDArray[np.bool_]:
        """True for faces whose row has two entries, (n_faces,)."""
        return np.asarray(np.diff(self.difference.indptr) == 2)

    @cached_property
    def slopes(self) -> dict[str, Any]:
        """Derivatives of the conductances by what they are made of, sparse, by the names of a model's arrays.

        By ``"horizontal_conductivity"``, ``"vertical_conductivity"`` [m] and ``"leakance"`` [m²] of the cells,
        (n_faces, n_cells), and by ``"face_resistance"``, (n_faces, n_faces) [m⁴/day²].
        """
        from scipy.sparse import csr_array, diags_array

        n_faces, n_cells = self.difference.shape
        found = {}
        for name, here in (
            ("horizontal_conductivity", ~self.is_floor),
            ("vertical_conductivity", self.is_floor),
        ):
            start = np.concatenate([[0], np.cumsum(2 * here)])
            entries = (self.by_conductivity[here].ravel(), self.cells[here].ravel(), start)
            found[name] = csr_array(entries, shape=(n_faces, n_cells))
        every = np.arange(n_faces + 1)
        found["leakance"] = csr_array((self.by_leakance, self.cells[:, 0], every), shape=(n_faces, n_cells))
        found["face_resistance"] = diags_array(self.by_resistance).tocsr()
        return found

    def losing_monotonicity(self) -> Index:
        """Return the cells whose head might rise where a neighbour's falls, all being saturated.

        A cell's balance is safe if no other head enters it with the sign of its own; then heads between
        the boundaries obey a maximum principle. Rows of two entries always are safe; longer ones may not be.
        """
        from scipy.sparse import csr_array, diags_array

        long = ~self.two_point
        if not long.any():
            return np.empty(0, dtype=np.int64)
        n = self.difference.shape[1]
        asked = np.zeros(n, dtype=bool)
        asked[self.cells[long]] = True
        face = np.flatnonzero(asked[self.cells].any(axis=1))
        outward = csr_array(
            (
                np.repeat([1.0, -1.0], len(face)),
                (self.cells[face].T.ravel(), np.tile(np.arange(len(face)), 2)),
            ),
            shape=(n, len(face)),
        )
        balance = (outward @ self.matrix[face]).tocsr()
        diagonal = balance.diagonal()
        others = (balance - diags_array(diagonal)).tocoo()
        wrong = asked[others.row] & (others.data > 1e-10 * diagonal[others.row])
        return np.unique(others.row[wrong]).astype(np.int64)
