"""What is computed from a flow and can be measured: levels, flows of features and across lines, and their derivatives."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.flow.linearised import LinearisedStep
from inkhorn.flow.result import FlowResult
from inkhorn.model import saturation
from inkhorn.model.terms import HORIZONTAL

__all__ = [
    "AllOf",
    "FaceFlows",
    "Form",
    "Levels",
    "OpenLevels",
    "Quantity",
    "Readings",
    "SpringFlows",
    "TermFlows",
    "WellLevels",
]

Array = NDArray[np.float64]
Index = NDArray[np.int64]


def _rows(n: int, size: int, row: Any = (), column: Any = (), value: Any = ()) -> Any:
    from scipy.sparse import coo_array

    where = np.asarray(row, dtype=np.int64), np.asarray(column, dtype=np.int64)
    return coo_array((np.asarray(value, dtype=np.float64), where), shape=(n, size)).tocsr()


@dataclass(frozen=True, eq=False)
class Form:
    """The derivative of some quantities of one step, in the parts that it is made of.

    Attributes
    ----------
    unknowns : scipy.sparse.csr_array, (n, n_unknowns)
        By heads and other unknowns.
    residuals : scipy.sparse.csr_array, (n, n_unknowns), optional
        By the residuals of cells whose heads are given, which are what these take.
    faces : scipy.sparse.csr_array, (n, n_faces), optional
        By the flows across faces, for what these depend on beside unknowns.
    answers : mapping of int to scipy.sparse.csr_array, (n, n_entries + n_extra)
        By what a term answers, likewise.
    inputs : mapping of str to scipy.sparse.csr_array, (n, n_values)
        By inputs themselves.
    """

    unknowns: Any
    residuals: Any = None
    faces: Any = None
    answers: Mapping[int, Any] = field(default_factory=dict)
    inputs: Mapping[str, Any] = field(default_factory=dict)

    def scaled(self, weights: Any) -> Form:
        """Return that of weighted sums of the quantities, ``weights`` being sparse (m, n)."""
        return Form(
            weights @ self.unknowns,
            None if self.residuals is None else weights @ self.residuals,
            None if self.faces is None else weights @ self.faces,
            {k: weights @ v for k, v in self.answers.items()},
            {k: weights @ v for k, v in self.inputs.items()},
        )

    def by_input(self, step: LinearisedStep, name: str) -> Any:
        """Return the derivative by an input with all unknowns as they are, (n, n_values); none if there is none."""
        parts = [self.inputs[name]] if name in self.inputs else []
        if self.faces is not None:
            across = step.face_flow_by_input(name)
            parts += [] if across is None else [self.faces @ across]
        for term, weights in self.answers.items():
            by = step.answer_by_input(term, name)
            parts += [] if by is None else [weights @ by]
        return None if not parts else sum(parts[1:], start=parts[0])


class Quantity(ABC):
    """Some quantities of one kind, computed from one step of a flow."""

    def __len__(self) -> int:
        raise NotImplementedError

    @abstractmethod
    def values(self, flow: FlowResult, step: int) -> Array:
        """Return them at the end of a step, or of flows over it, (n,)."""

    @abstractmethod
    def form(self, step: LinearisedStep) -> Form:
        """Return their derivative."""


@dataclass(frozen=True, eq=False)
class Levels(Quantity):
    """Weighted means of heads, and of other unknowns.

    Attributes
    ----------
    rows : scipy.sparse.csr_array, (n, n_unknowns)
    """

    rows: Any

    def __len__(self) -> int:
        return int(self.rows.shape[0])

    def values(self, flow: FlowResult, step: int) -> Array:
        record = flow.steps[step]
        return np.asarray(self.rows @ np.concatenate([record.heads, record.extra_unknowns]))

    def form(self, step: LinearisedStep) -> Form:
        return Form(self.rows)


@dataclass(frozen=True, eq=False)
class OpenLevels(Quantity):
    """Levels in bores whose screens reach several layers: means of these by their transmissivities along the screen.

    So much stands in a bore through which as much comes in as goes out, where flow to it is alike in all layers
    (Sokol 1963).

    Attributes
    ----------
    rows : tuple of scipy.sparse.csr_array, (n, n_cells)
        Read the head in each of the layers that screens reach.
    cells : ndarray of int, (n_layers, n)
        The cell of each layer that each bore stands in, -1 where there is none.
    bottom, top : ndarray of float, (n_layers, n)
        Of the screen in it [m].

    References
    ----------
    Sokol, D. (1963), Position and fluctuations of water level in wells perforated in more than one aquifer, Journal of
    Geophysical Research 68(4), 1079-1080.
    """

    rows: tuple[Any, ...]
    cells: Index
    bottom: Array
    top: Array

    def __len__(self) -> int:
        return int(self.cells.shape[1])

    def _shares(
        self, heads: Array, conductivity: Array, law: Any
    ) -> tuple[Array, Array, Array, Array, Array]:
        """Level in each layer, transmissivity there and its slopes by level and conductivity, and their total."""
        level = np.array([rows @ heads for rows in self.rows])
        there = self.cells >= 0
        bottom, top = np.where(there, self.bottom, 0.0), np.where(there, self.top, 1.0)
        share, slope = saturation(level.ravel(), bottom.ravel(), top.ravel(), law)[:2]
        height = np.where(there, top - bottom, 0.0)
        depth, by_level = height * share.reshape(level.shape), height * slope.reshape(level.shape)
        k = np.where(there, conductivity[self.cells], 0.0)
        transmissivity = k * depth
        return level, transmissivity, k * by_level, depth, transmissivity.sum(axis=0)

    def values(self, flow: FlowResult, step: int) -> Array:
        model = flow.model_at(step)
        level, weight, *_, total = self._shares(
            flow.steps[step].heads, model.horizontal_conductivity, model.water_table
        )
        return np.asarray((weight * level).sum(axis=0) / total)

    def form(self, step: LinearisedStep) -> Form:
        from scipy.sparse import csr_array, diags_array

        eq, n = step.equations, len(self)
        model, n_cells = eq.model, len(eq.cells)
        level, weight, slope, depth, total = self._shares(
            step.unknowns[:n_cells], model.horizontal_conductivity, model.water_table
        )
        mean = (weight * level).sum(axis=0) / total
        unknowns = csr_array((n, n_cells))
        for k, rows in enumerate(self.rows):
            unknowns = unknowns + diags_array((weight[k] + (level[k] - mean) * slope[k]) / total) @ rows
        there = self.cells >= 0
        layer, bore = np.nonzero(there)
        by_k = ((level - mean) * depth / total)[there]
        padded = csr_array((unknowns.data, unknowns.indices, unknowns.indptr), shape=(n, eq.n_unknowns))
        return Form(padded, inputs={HORIZONTAL: _rows(n, n_cells, bore, self.cells[layer, bore], by_k)})


@dataclass(frozen=True, eq=False)
class TermFlows(Quantity):
    """What entries of a term bring into the aquifer, summed with weights [m³/day].

    Attributes
    ----------
    term : int
        Which of the model's terms.
    rows : scipy.sparse.csr_array, (n, n_entries)
    """

    term: int
    rows: Any

    def __len__(self) -> int:
        return int(self.rows.shape[0])

    def values(self, flow: FlowResult, step: int) -> Array:
        return np.asarray(self.rows @ flow.steps[step].term_flow[self.term])

    def form(self, step: LinearisedStep) -> Form:
        eq = step.equations
        term, n, where = eq.model.terms[self.term], len(self), self.rows.tocoo()
        holds = term.holds[where.col]
        entry = _rows(
            n, step.outputs[self.term].n_law, where.row[~holds], where.col[~holds], where.data[~holds]
        )
        held = _rows(n, eq.n_unknowns, where.row[holds], term.cells[where.col[holds]], -where.data[holds])
        return Form(
            entry @ step.answer_by_unknowns(self.term),
            residuals=held if held.nnz else None,
            answers={self.term: entry} if entry.nnz else {},
        )


@dataclass(frozen=True, eq=False)
class WellLevels(Quantity):
    """Levels inside wells, with what is lost in them; and the rates they get.

    Attributes
    ----------
    term : int
        Which of the model's terms; of wells or collectors.
    wells : ndarray of int, (n,)
        Which of them.
    rate : bool
        Whether the rate into the aquifer is meant [m³/day], and not the level [m].
    """

    term: int
    wells: Index
    rate: bool = False

    def __len__(self) -> int:
        return len(self.wells)

    def _first(self, model: Any) -> int:
        return sum(t.n_extra for t in model.terms[: self.term])

    def values(self, flow: FlowResult, step: int) -> Array:
        record, model = flow.steps[step], flow.model_at(step)
        got = record.outside[self.term][0][self.wells]
        if self.rate:
            return np.asarray(got)
        level = record.extra_unknowns[self._first(model) + self.wells]
        term: Any = model.terms[self.term]
        return np.asarray(level + term.well_loss[self.wells] * got * np.abs(got))

    def form(self, step: LinearisedStep) -> Form:
        eq, n = step.equations, len(self)
        term: Any = eq.model.terms[self.term]
        answer, where = step.balance.contributions[self.term], step.outputs[self.term]
        got = answer.outside[term.outside_names[0]][self.wells]
        # what comes from outside is what a well's own equation says beside the flows of its entries
        mine = np.full(term.n_extra, -1)
        mine[self.wells] = np.arange(n)
        entry = np.flatnonzero(mine[term.feature_index] >= 0)
        row = np.concatenate([mine[term.feature_index[entry]], np.arange(n)])
        outside = _rows(
            n, where.n_law, row, np.concatenate([entry, where.n_entries + self.wells]), np.ones(len(row))
        )
        if self.rate:
            return Form(outside @ step.answer_by_unknowns(self.term), answers={self.term: outside})
        from scipy.sparse import diags_array

        bent = diags_array(2.0 * term.well_loss[self.wells] * np.abs(got)) @ outside
        own = len(eq.cells) + self._first(eq.model) + self.wells
        level = _rows(n, eq.n_unknowns, np.arange(n), own, np.ones(n))
        loss = _rows(n, term.n_extra, np.arange(n), self.wells, got * np.abs(got))
        return Form(
            level + bent @ step.answer_by_unknowns(self.term),
            answers={self.term: bent},
            inputs={f"{term.kind}.well_loss": loss},
        )


@dataclass(frozen=True, eq=False)
class SpringFlows(Quantity):
    """What springs of conduits bring in from outside; less than nothing where water comes out [m³/day].

    Attributes
    ----------
    term : int
        Which of the model's terms.
    springs : ndarray of int, (n,)
        Which of its features.
    """

    term: int
    springs: Index

    def __len__(self) -> int:
        return len(self.springs)

    def values(self, flow: FlowResult, step: int) -> Array:
        term: Any = flow.model.terms[self.term]
        nodes = term.at_node[self.springs].astype(np.int64)
        return np.asarray(np.asarray(flow.steps[step].outside[self.term])[1][nodes])

    def form(self, step: LinearisedStep) -> Form:
        eq, n = step.equations, len(self)
        term: Any = eq.model.terms[self.term]
        mine = np.full(term.n_levels, -1)
        mine[term.at_node[self.springs].astype(np.int64)] = np.arange(n)
        own = len(eq.cells) + sum(t.n_extra for t in eq.model.terms[: self.term]) + term.n_levels
        rows, pipes, signs = [], [], []
        for end, sign in ((0, 1.0), (1, -1.0)):  # what a pipe takes away from the node of its first end
            at = np.flatnonzero(mine[term.links[:, end]] >= 0)
            rows.append(mine[term.links[at, end]])
            pipes.append(own + at)
            signs.append(np.full(len(at), sign))
        through = _rows(n, eq.n_unknowns, *(np.concatenate(v) for v in (rows, pipes, signs)))
        walls = np.flatnonzero(mine[term.node] >= 0)
        passes = _rows(n, step.outputs[self.term].n_law, mine[term.node[walls]], walls, np.ones(len(walls)))
        source = mine[term.source_node.astype(np.int64)]
        let_in = np.flatnonzero(source >= 0)
        inflow = _rows(
            n,
            len(term.feature_names),
            source[let_in],
            term.source_feature[let_in],
            -term.source_share[let_in],
        )
        return Form(
            through + passes @ step.answer_by_unknowns(self.term),
            answers={self.term: passes} if passes.nnz else {},
            inputs={f"{term.kind}.inflow": inflow} if inflow.nnz else {},
        )


@dataclass(frozen=True, eq=False)
class FaceFlows(Quantity):
    """Flows across faces, and through outer faces, summed with weights [m³/day]; as across a line.

    Attributes
    ----------
    faces : scipy.sparse.csr_array, (n, n_faces)
        From the first to the second cell of each.
    rim : scipy.sparse.csr_array, (n, n_outer_faces)
        Into the grid.
    """

    faces: Any
    rim: Any

    def __len__(self) -> int:
        return int(self.faces.shape[0])

    def _through_rim(self, model: Any) -> list[tuple[int, Any]]:
        """What the entries of each term that pass outer faces count for."""
        found, turned = [], self.rim.tocsc()
        for k, term in enumerate(model.terms):
            entry = np.flatnonzero(term.outer_face >= 0)
            if len(entry):
                part = turned[:, term.outer_face[entry]].tocoo()
                found.append((k, _rows(len(self), len(term.cells), part.row, entry[part.col], part.data)))
        return found

    def values(self, flow: FlowResult, step: int) -> Array:
        record = flow.steps[step]
        total = self.faces @ record.face_flow
        for k, rows in self._through_rim(flow.model):
            total = total + rows @ record.term_flow[k]
        return np.asarray(total)

    def form(self, step: LinearisedStep) -> Form:
        unknowns, residuals = self.faces @ step.face_flow_by_unknowns, None
        answers: dict[int, Any] = {}
        for k, rows in self._through_rim(step.equations.model):
            more = TermFlows(k, rows).form(step)
            unknowns = unknowns + more.unknowns
            answers.update(more.answers)
            if more.residuals is not None:
                residuals = more.residuals if residuals is None else residuals + more.residuals
        return Form(unknowns, residuals=residuals, faces=self.faces, answers=answers)


@dataclass(frozen=True, eq=False)
class AllOf(Quantity):
    """Quantities of several kinds, one after the other."""

    parts: tuple[Quantity, ...]

    def __len__(self) -> int:
        return sum(len(p) for p in self.parts)

    def values(self, flow: FlowResult, step: int) -> Array:
        return np.concatenate([np.empty(0), *(p.values(flow, step) for p in self.parts)])

    def form(self, step: LinearisedStep) -> Form:
        total: Form | None = None
        first = 0
        for part in self.parts:
            n = len(part)
            place = _rows(len(self), n, first + np.arange(n), np.arange(n), np.ones(n))
            total = _added(total, part.form(step).scaled(place))
            first += n
        assert total is not None  # there is at least one
        return total


def _added(one: Form | None, other: Form) -> Form:
    if one is None:
        return other

    def both(a: Any, b: Any) -> Any:
        return b if a is None else a if b is None else a + b

    return Form(
        one.unknowns + other.unknowns,
        both(one.residuals, other.residuals),
        both(one.faces, other.faces),
        {k: both(one.answers.get(k), other.answers.get(k)) for k in {**one.answers, **other.answers}},
        {k: both(one.inputs.get(k), other.inputs.get(k)) for k in {**one.inputs, **other.inputs}},
    )


@dataclass(frozen=True, eq=False)
class Readings:
    """Numbers that are read of a flow: weighted sums of quantities at the ends of steps.

    Attributes
    ----------
    quantity : Quantity
        What is read.
    weights : mapping of int to scipy.sparse.csr_array, (n_readings, n_quantities)
        By the number of the step.
    """

    quantity: Quantity
    weights: Mapping[int, Any]

    def __post_init__(self) -> None:
        if not self.weights:
            raise InputError("there is nothing to read: no step has a weight.")

    @classmethod
    def at_end(cls, quantity: Quantity, step: int = 0) -> Readings:
        """Return each quantity as it is at the end of one step, as of steady flow."""
        from scipy.sparse import eye_array

        return cls(quantity, {step: eye_array(len(quantity), format="csr")})

    def __len__(self) -> int:
        return int(next(iter(self.weights.values())).shape[0])

    @cached_property
    def last_step(self) -> Index:
        """The last step that each reading is made of, -1 for none, (n_readings,)."""
        last = np.full(len(self), -1)
        for k in sorted(self.weights):
            last[np.diff(self.weights[k].tocsr().indptr) > 0] = k
        return last

    def some(self, which: Sequence[int] | Index) -> Readings:
        """Return some of the readings, in that order."""
        kept = {k: w.tocsr()[which] for k, w in self.weights.items()}
        return Readings(
            self.quantity, {k: w for k, w in kept.items() if w.nnz} or {0: next(iter(kept.values()))}
        )

    def values(self, flow: FlowResult) -> Array:
        """Return what is read of a flow, (n_readings,)."""
        total = np.zeros(len(self))
        for k in sorted(self.weights):
            total += self.weights[k] @ self.quantity.values(flow, k)
        return total

    def form(self, k: int, step: LinearisedStep) -> Form | None:
        """Return their derivative by what step `k` has; none where nothing is read of it."""
        if k not in self.weights:
            return None
        return self.quantity.form(step).scaled(self.weights[k])
