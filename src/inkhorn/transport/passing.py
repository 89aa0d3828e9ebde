"""What the water does over one step of the flow, cell by cell, as all species are carried by it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.flow import FlowResult, NetworkPassing, network_of
from inkhorn.model import Model, filled
from inkhorn.model.terms import ConduitTerm
from inkhorn.transport.mixing import Mix, mixes_of

__all__ = ["Giving", "Passing", "passing_of"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_MOVES = 1e-6  # of a cell's pores: with less water nothing is told of how concentrations change within


class Giving(NamedTuple):
    """Water that a feature brings in from outside.

    Attributes
    ----------
    key : tuple of str
        Kind and feature.
    cells : ndarray of int
        Where to.
    rate : ndarray of float
        How much of it, of `water` [m³/day].
    water : float
        All of it [m³/day].
    """

    key: tuple[str, str]
    cells: Index
    rate: Array
    water: float


@dataclass(frozen=True, eq=False)
class Passing:
    """Flows of water over a step, and the water in the pores at its ends.

    Attributes
    ----------
    begin, end : float
        [day].
    across : ndarray of float, (n_faces,)
        From the first to the second cell [m³/day].
    flux : ndarray of float, (n_cells, 3)
        Darcy's, as means over cells [m/day]; 0 where there is no water.
    saturated : ndarray of float, (2, n_cells)
        Saturated volume at the begin and the end [m³].
    filled : ndarray of float, (n_cells,)
        Share of each cell's height that is, at the mean.
    wet : ndarray of bool, (n_cells,)
        Which hold enough water at both ends that concentrations may be told to change within.
    leaving : ndarray of float, (n_cells,)
        What features take, not counting plants [m³/day].
    plants : ndarray of float, (n_cells,)
        What plants and evaporation take [m³/day].
    own : ndarray of float, (n_cells,)
        Water that is pressed together, less what expands again, at the concentration of the cell [m³/day]; what the flow
        was out of balance by, and specific yield beyond porosity, is in it.
    retained : ndarray of float, (n_cells,)
        Share of the volume that holds water back where the water table falls.
    giving : list of Giving
        What comes in from outside, feature by feature.
    taking : sparse array, (n_takers, n_cells)
        What leaves by each of `takers` [m³/day].
    takers : list of tuple of str
        Kind and feature.
    takes_up : ndarray of bool, (n_takers,)
        Which of them are plants and evaporation.
    mixes : list of Mix
        Wells and collectors.
    links : tuple of ndarray
        From which cell to which wells hand water on, and how much [m³/day].
    network : NetworkPassing, optional
        The water in conduits.
    through_rim : list of tuple
        Of each feature that passes outer faces: kind and name, which faces, of which cells, and the flow inwards
        [m³/day].
    """

    begin: float
    end: float
    across: Array
    flux: Array
    saturated: Array
    filled: Array
    wet: NDArray[np.bool_]
    leaving: Array
    plants: Array
    own: Array
    retained: Array
    giving: list[Giving]
    taking: Any
    takers: list[tuple[str, str]]
    takes_up: NDArray[np.bool_]
    mixes: list[Mix]
    links: tuple[Index, Index, Array]
    through_rim: list[tuple[tuple[str, str], Index, Index, Array]]
    network: NetworkPassing | None = None

    @property
    def length(self) -> float:
        """Of the step [day]."""
        return self.end - self.begin

    @cached_property
    def still(self) -> bool:
        """Whether no level moves."""
        return self.length <= 0.0 or np.array_equal(*self.saturated)

    def moved_to(self, begin: float) -> Passing:
        """Return the same at another time."""
        return replace(self, begin=begin, end=begin + self.length)

    def at(self, time: float) -> Array:
        """Return the saturated volume at a time within the step, (n_cells,) [m³]."""
        begin, end = self.saturated
        if self.still:
            return end
        return begin + (time - self.begin) / self.length * (end - begin)


def _terms(
    model: Model, step: Any
) -> tuple[list[Giving], list[tuple[tuple[str, str], Index, Array]], list[Mix]]:
    """What features bring in, what they take of each cell's water, and which of them mix."""
    giving, taking = [], []
    mixes = list(mixes_of(model, step))
    mixing = {(mix.term, mix.feature): mix for mix in mixes}
    for t, (term, flows) in enumerate(zip(model.terms, step.term_flow, strict=True)):
        if isinstance(term, ConduitTerm):
            continue
        order = np.argsort(term.feature_index, kind="stable")
        ends = np.searchsorted(term.feature_index[order], np.arange(len(term.feature_names) + 1))
        for k, name in enumerate(term.feature_names):
            key, mix = (term.kind, name), mixing.get((t, k))
            if mix is None:
                mine = order[ends[k] : ends[k + 1]]
                cells, water = term.cells[mine], flows[mine]
                comes = water > 0.0
                added = float(water[comes].sum())
                giving.append(Giving(key, cells[comes], water[comes], added))
                taking.append((key, cells[~comes], -water[~comes]))
                continue
            if mix.total > 0.0:
                back = mix.given / mix.total  # more than all of it where the casing gives water, too
                giving.append(Giving(key, mix.gives, back * mix.added, float(back.sum()) * mix.added))
                taking.append((key, mix.takes, (1.0 - back.sum()) * mix.taken))
            else:
                giving.append(Giving(key, mix.gives, mix.given, float(mix.given.sum())))
    return giving, taking, mixes


def passing_of(flow: FlowResult, number: int) -> Passing:
    """Return what the water does over a step of a flow result.

    Raises
    ------
    InputError
        If the model has no porosity.
    """
    from scipy.sparse import csr_array

    model, step = flow.model, flow.steps[number]
    if model.porosity is None:
        raise InputError("transport needs a porosity. Give one for every material (or to Model).")
    cells, law, n = model.grid.cells, model.water_table, model.grid.n_cells
    height = cells.thickness
    after = filled(step.heads, cells.bottom, cells.top, law)[0]
    before = after
    if not step.steady:
        heads = flow.start.heads if number == 0 else flow.steps[number - 1].heads
        before = filled(heads, cells.bottom, cells.top, law)[0]
    share = 0.5 * (before + after)
    giving, taking, mixes = _terms(model, step)
    plants = np.zeros(n)
    leaving = np.zeros(n)
    roots = {term.kind for term in model.terms if term.may_leave_behind}
    takes_up = np.array([kind in roots for (kind, _), _, _ in taking], dtype=bool)
    for mix in mixes:
        np.add.at(leaving, mix.takes, mix.taken)
    mixing = {(model.terms[mix.term].kind, model.terms[mix.term].feature_names[mix.feature]) for mix in mixes}
    for (key, where, taken), rooted in zip(taking, takes_up, strict=True):
        if key not in mixing:
            np.add.at(plants if rooted else leaving, where, taken)
    network = network_of(flow, number)
    if network is not None:
        np.add.at(leaving, network.cells, network.taken)
    linked = [_links(mix) for mix in mixes if len(mix.takes) and len(mix.gives) and mix.total > 0.0]
    none = (np.empty(0, np.int64), np.empty(0, np.int64), np.empty(0))
    out, to, rate = (np.concatenate(parts) for parts in zip(none, *linked, strict=True))
    # the water balance of the pores, and what of it the flow does not tell
    net = np.zeros(n)
    np.add.at(net, model.grid.faces.cells[:, 0], -step.face_flow)
    np.add.at(net, model.grid.faces.cells[:, 1], step.face_flow)
    for term, comes in zip(model.terms, step.term_flow, strict=True):
        np.add.at(net, term.cells, comes)
    length = step.end - step.begin
    rises = cells.volume * (after - before) / length if length > 0.0 else np.zeros(n)
    drains = np.zeros(n) if model.specific_yield is None else model.specific_yield
    retained = np.maximum(model.porosity - drains, 0.0)
    own = net - (model.porosity - retained) * rises
    flux = np.nan_to_num(flow.darcy_flux(number), nan=0.0)
    rows = np.concatenate(
        [np.full(len(where), k) for k, (_, where, _) in enumerate(taking)] or [np.empty(0, int)]
    )
    columns = np.concatenate([where for _, where, _ in taking] or [np.empty(0, int)])
    rates = np.concatenate([rate for _, _, rate in taking] or [np.empty(0)])
    return Passing(
        begin=step.begin,
        end=step.end,
        across=step.face_flow,
        flux=flux,
        saturated=np.stack([before, after]) * cells.volume,
        filled=np.where(height > 0.0, share, 0.0),
        wet=np.minimum(before, after) > _MOVES,
        leaving=leaving,
        plants=plants,
        own=own,
        retained=retained,
        giving=giving,
        taking=csr_array((rates, (rows, columns)), shape=(len(taking), n)),
        takers=[key for key, _, _ in taking],
        takes_up=takes_up,
        mixes=mixes,
        links=(out, to, rate),
        through_rim=_through_rim(model, step),
        network=network,
    )


def _through_rim(model: Model, step: Any) -> list[tuple[tuple[str, str], Index, Index, Array]]:
    found = []
    for term, rate in zip(model.terms, step.term_flow, strict=True):
        outer = np.flatnonzero(term.outer_face >= 0)
        for k in np.unique(term.feature_index[outer]).tolist():
            mine = outer[term.feature_index[outer] == k]
            key = (term.kind, term.feature_names[k])
            found.append((key, term.outer_face[mine], term.cells[mine], rate[mine]))
    return found


def _links(mix: Mix) -> tuple[Index, Index, Array]:
    """From which cell to which a well hands water on, and how much."""
    return (
        np.repeat(mix.takes, len(mix.gives)),
        np.tile(mix.gives, len(mix.takes)),
        np.outer(mix.taken, mix.given).ravel() / mix.total,
    )
