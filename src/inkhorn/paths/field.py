"""The velocity of the water in every triangle of every cell over a step, from the flows that were solved for."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.flow import FlowResult, FlowStep, NetworkPassing, network_of
from inkhorn.paths.near_wells import Bore, NearWells, Sources
from inkhorn.paths.within import Within
from inkhorn.space import Fans, fans_of
from inkhorn.space.merged import MergedMesh, pairs_once

__all__ = ["Field", "Passage", "VelocityMaker"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_RADIUS = 0.1  # m, of a bore that is not told


class Passage(NamedTuple):
    """Entries of terms through which water enters or leaves at some kind of place.

    Attributes
    ----------
    at : ndarray of int, (n,)
        The cell; of sides the outer face.
    term, entry : ndarray of int, (n,)
        Which of the model's terms, and which of its entries.
    flow : ndarray of float, (n,)
        Into the aquifer [m³/day].
    """

    at: Index
    term: Index
    entry: Index
    flow: Array


@dataclass(frozen=True, eq=False)
class Field:
    """What moves particles over a step. A *prism* is a triangle in a layer, ``layer * n_triangles + triangle``.

    Attributes
    ----------
    value : ndarray of float, (n_prisms, 2)
        Flow a metre of width at corner 0 of the triangle [m²/day].
    slope : ndarray of float, (n_prisms,)
        Of it by place, the same along x and y [m/day].
    low, high : ndarray of float, (n_layers, n_plan)
        Water that passes upwards through the bottom of each cell, and through its top or water table as it moves
        [m/day].
    height, height_after : ndarray of float, (n_cells,)
        Of the water in each cell at the begin and at the end of the step [m].
    pores : ndarray of float, (n_cells,)
        Effective porosity.
    taken, given : ndarray of float, (n_cells,)
        Water taken out, and brought in, inside each cell, beside wells [m/day].
    near : ndarray of int, (n_prisms,)
        Position in `around`, -1 away from wells.
    around : ndarray of int, (n, k)
        Of `sources`, whose radial flow comes on top of `value`; -1 for none.
    sources : Sources
        Wells as `bore` has them, then their images in closed sides.
    bore : Bore
        Screens of wells.
    through : mapping of str to Passage
        What passes the "top", the "floor", a "side" or "inside".
    takers : Passage
        What makes up `taken` and `given`.
    """

    value: Array
    slope: Array
    low: Array
    high: Array
    height: Array
    height_after: Array
    pores: Array
    taken: Array
    given: Array
    near: Index
    around: Index
    sources: Sources
    bore: Bore
    through: Mapping[str, Passage]
    takers: Passage


class VelocityMaker:
    """Makes the `Field` of any step of a flow.

    Parameters
    ----------
    flow : FlowResult
        With porosity, if particles are to be followed.

    """

    def __init__(self, flow: FlowResult) -> None:
        self.flow, self.grid = flow, flow.model.grid
        self.number = np.ascontiguousarray(self.grid.cell_number)
        self._columns()

    @cached_property
    def pores(self) -> Array:
        """Effective porosity, (n_cells,).

        Raises
        ------
        InputError
            If the model has none.
        """
        if self.flow.model.porosity is None:
            raise InputError("particle paths need a porosity. Give one for every material (or to Model).")
        return np.asarray(self.flow.model.porosity, dtype=np.float64)

    @cached_property
    def fans(self) -> Fans:
        """Triangles of the plan cells."""
        return fans_of(self.grid.mesh)

    @cached_property
    def near_wells(self) -> NearWells:
        """The radial flow of wells."""
        return NearWells(self.flow.model, self.fans)

    @cached_property
    def plans_of_cells(self) -> tuple[Index, Index]:
        """The plan cells of each cell, one after the other, and where those of each begin."""
        there = self.number >= 0
        layer, plan = np.nonzero(there)
        cell = self.number[layer, plan]
        order = np.argsort(cell, kind="stable")
        return plan[order], np.searchsorted(cell[order], np.arange(self.grid.n_cells + 1))

    def plan_at(self, cell: Index, place: Array) -> Index:
        """Return the plan cell of places on the rim of cells."""
        plans, starts = self.plans_of_cells
        found = np.asarray(plans[starts[cell]])
        many = np.flatnonzero(starts[cell + 1] - starts[cell] > 1)
        at = self.grid.mesh.locate(place[many, 0], place[many, 1])
        found[many] = np.where(at >= 0, at, found[many])
        return found

    @cached_property
    def _edges(self) -> Any:
        return self.grid.mesh.edges()

    @cached_property
    def _layers(self) -> list[tuple[Within, Index]]:
        """Of each layer how flow is divided inside its cells, and the group of each plan cell."""
        made: list[tuple[Within, Index]] = []
        found = []
        plain = np.arange(self.grid.mesh.n_cells)
        for k in range(len(self.grid.layer_names)):
            group = self.grid.joined.get(k, plain)
            same = [m for m in made if m[1] is group or np.array_equal(m[1], group)]
            if not same:
                made.append((Within(self.fans, group), group))
                same = made[-1:]
            found.append(same[0])
        return found

    def _columns(self) -> None:
        """The layers above and below each cell of each column, across layers that are absent; and their floor faces."""
        grid, number = self.grid, self.number
        n_layers, n_plan = number.shape
        self.above = np.full(number.shape, -1, dtype=np.int64)
        self.below = np.full(number.shape, -1, dtype=np.int64)
        floor = np.flatnonzero(grid.faces.is_floor)
        pair = grid.faces.cells[floor]
        code = pair[:, 0] * grid.n_cells + pair[:, 1]
        by_code = np.argsort(code)
        self.floor_face = np.full(number.shape, -1, dtype=np.int64)  # below each cell
        last = np.full(n_plan, -1)
        for k in range(n_layers):
            here = number[k] >= 0
            plan = np.flatnonzero(here & (last >= 0))
            self.above[k, plan] = last[plan]
            self.below[last[plan], plan] = k
            upper = number[last[plan], plan]
            # of joined cells pairs stand once, the lower number first, which is the upper cell
            at = np.searchsorted(code[by_code], upper * grid.n_cells + number[k, plan])
            self.floor_face[last[plan], plan] = floor[by_code[at]]
            last = np.where(here, k, last)
            if grid.taken_out is not None:
                last[grid.taken_out[k]] = -1

    @cached_property
    def _floor_area(self) -> Array:
        return np.asarray(self.grid.faces.area)

    @cached_property
    def side_faces(self) -> list[Any]:
        """Of each layer: the face of each edge of its own mesh (-1 where there is none), fine to coarse, and the rim."""
        grid = self.grid
        found, first, outer_first = [], 0, 0
        known: dict[int, Any] = {}
        rim = grid.rim
        for k, (mesh, present) in enumerate(zip(grid.meshes, grid.within_layer, strict=True)):
            if id(mesh) not in known:
                known[id(mesh)] = (mesh.edges(), *self._coarse(mesh))
            edges, coarse, turn = known[id(mesh)]
            numbers = np.full(mesh.n_cells, -1, dtype=np.int64)
            numbers[present] = grid.first_of_layer[k] + np.arange(len(present))
            there = (numbers[edges.cells] >= 0).all(axis=1)
            face = np.full(len(edges.cells), -1, dtype=np.int64)
            face[there] = first + np.arange(int(there.sum()))
            first += int(there.sum())
            group = grid.joined.get(k)
            owner = rim.cell if group is None else group[rim.cell]
            out = numbers[owner] >= 0
            outer = np.full(len(rim.cell), -1, dtype=np.int64)
            outer[out] = outer_first + np.arange(int(out.sum()))
            outer_first += int(out.sum())
            found.append((mesh, edges, coarse, turn, face, outer, numbers))
        return found

    def _coarse(self, mesh: Any) -> tuple[Index | None, Array | None]:
        """Of a mesh of joined cells the edge that each edge of the fine mesh is a piece of, and whether it is turned."""
        if not isinstance(mesh, MergedMesh):
            return None, None
        pair = mesh.group[self._edges.cells]
        between = pair[:, 0] != pair[:, 1]
        coarse = np.full(len(pair), -1, dtype=np.int64)
        coarse[between] = pairs_once(pair[between])[2]
        return coarse, np.where(pair[:, 0] > pair[:, 1], -1.0, 1.0)

    def passages(self, step: FlowStep) -> dict[str, Passage]:
        """Return the entries of terms by where their water passes; what is below or above other cells passes inside."""
        parts: dict[str, list[tuple[Any, ...]]] = {"top": [], "floor": [], "side": [], "inside": []}
        uppermost, lowest = self._ends
        for t, (term, flow) in enumerate(zip(self.flow.model.terms, step.term_flow, strict=True)):
            if not len(flow):
                continue
            bores = self._is_bore(term)
            crossing = np.where(bores, "screen", term.crossing)
            side = term.outer_face >= 0
            for name in parts:
                mine = crossing == name
                if name == "side":
                    mine = side
                elif name == "top":
                    mine = mine & uppermost[term.cells]
                elif name == "floor":
                    mine = mine & lowest[term.cells]
                else:
                    mine = ~side & (crossing != "screen")
                    mine &= ~((crossing == "top") & uppermost[term.cells])
                    mine &= ~((crossing == "floor") & lowest[term.cells])
                entry = np.flatnonzero(mine)
                at = term.outer_face[entry] if name == "side" else term.cells[entry]
                parts[name].append((at, np.full(len(entry), t), entry, flow[entry]))
        none = (np.empty(0, np.int64),) * 3 + (np.empty(0),)
        return {
            name: Passage(*(np.concatenate(v) for v in zip(none, *found, strict=True)))
            for name, found in parts.items()
        }

    def outer_face(self, layer: Index, rim: Index) -> Index:
        """Return the outer faces of sides of plan cells on the rim, in some layers."""
        found = np.empty(len(rim), dtype=np.int64)
        for k in np.unique(layer):
            mine = layer == k
            found[mine] = self.side_faces[k][5][rim[mine]]
        return found

    def network(self, number: int) -> NetworkPassing | None:
        """Return what the water of conduits does over a step; none where there are no conduits."""
        return network_of(self.flow, number)

    def open_rim(self, field: Field) -> NDArray[np.bool_]:
        """Return through which sides on the rim water passes, (n_layers, n_rim)."""
        side = field.through["side"]
        passes = np.bincount(side.at, np.abs(side.flow), len(self.grid.outer_faces) + 1) > 0.0
        return np.array([passes[entry[5]] & (entry[5] >= 0) for entry in self.side_faces])

    @cached_property
    def _ends(self) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
        """Which cells have none above anywhere, and none below."""
        covered, borne = np.zeros(self.grid.n_cells, dtype=bool), np.zeros(self.grid.n_cells, dtype=bool)
        there = self.number >= 0
        covered[self.number[there & (self.above >= 0)]] = True
        borne[self.number[there & (self.below >= 0)]] = True
        return ~covered, ~borne

    def _is_bore(self, term: Any) -> NDArray[np.bool_]:
        """Which entries of a term are upright screens at one place."""
        if term.usual_crossing != "screen" or term.kind != "well":
            return np.zeros(len(term.cells), dtype=bool)
        return np.asarray(term.crossing == "screen")

    def bores(self, step: FlowStep) -> Bore:
        """Return the screens of wells, each inside its cell."""
        water = [step.term_flow[t][e] for t, e in zip(self._screens.term, self._screens.entry, strict=True)]
        return self._screens._replace(flow=np.array(water, dtype=np.float64))

    @cached_property
    def _screens(self) -> Bore:
        """The screens of wells, without their flow."""
        grid, model = self.grid, self.flow.model
        radii = {} if model.site is None else {w.name: float(w.radius) for w in model.site.wells}
        parts = []
        for t, term in enumerate(model.terms):
            entry = np.flatnonzero(self._is_bore(term))
            if not len(entry):
                continue
            cell = term.cells[entry]
            place = np.column_stack([grid.cells.x[cell], grid.cells.y[cell]])
            told = term.place
            if told is not None:
                known = np.isfinite(told[entry]).all(axis=1)
                place[known] = told[entry][known]
            radius = np.array([radii.get(term.feature_names[k], _RADIUS) for k in term.feature_index[entry]])
            place, radius = self._inside(cell, place, radius)
            parts.append(
                (cell, np.full(len(entry), t), entry, place[:, 0], place[:, 1], radius, np.zeros(len(entry)))
            )
        none = (np.empty(0, np.int64),) * 3 + (np.empty(0),) * 4
        return Bore(*(np.concatenate(v) for v in zip(none, *parts, strict=True)))

    def _inside(self, cell: Index, place: Array, radius: Array) -> tuple[Array, Array]:
        """Move wells on the rim of their cells a little inside; a bore is no wider than its distance from there."""
        import shapely

        grid, place = self.grid, place.copy()
        layer = grid.cells.layer[cell]
        for k in np.unique(layer):
            mine = np.flatnonzero(layer == k)
            own = grid.within_layer[k][cell[mine] - grid.first_of_layer[k]]
            mesh = grid.meshes[k]
            outline = shapely.boundary(mesh.polygons()[own])
            middle = np.column_stack([grid.cells.x[cell[mine]], grid.cells.y[cell[mine]]])
            wanted = np.minimum(1.5 * radius[mine], 0.02 * np.sqrt(mesh.area[own]))
            for share in (1e-3, 0.01, 0.03, 0.1, 0.3):
                near = shapely.distance(outline, shapely.points(place[mine])) < wanted
                if not near.any():
                    break
                place[mine[near]] += share * (middle[near] - place[mine[near]])
            free = shapely.distance(outline, shapely.points(place[mine]))
            radius[mine] = np.minimum(radius[mine], 0.9 * np.maximum(free, 1e-9))
        return place, radius

    def made(self, number: int) -> Field:
        """Return the field of a step."""
        flow, grid = self.flow, self.grid
        step = flow.steps[number]
        n_layers = len(self.number)
        cells, area = grid.cells, grid.cells.area
        through, bore = self.passages(step), self.bores(step)
        ends = cells.thickness * flow.saturated_volume(number) / cells.volume
        begins = ends if step.steady else self._height_before(number)
        low, high = np.zeros(self.number.shape), np.zeros(self.number.shape)
        taken, given = np.zeros(grid.n_cells), np.zeros(grid.n_cells)
        takers: list[Passage] = []
        upward = self._of_floors(step)
        for k in range(n_layers):
            plan = np.flatnonzero(self.below[k] >= 0)
            low[k, plan] = upward[k, plan]
            high[self.below[k, plan], plan] = upward[k, plan]
        there = self.number >= 0
        for name, level, way in (("top", high, 1.0), ("floor", low, -1.0)):
            passing = through[name]
            into, out = (
                np.bincount(passing.at, np.maximum(sign * passing.flow, 0.0), grid.n_cells) / area
                for sign in (1.0, -1.0)
            )
            # what goes against the rest is taken, or given, inside
            net_in = into > out
            density = np.where(net_in, -into, out - into)
            taken += np.where(net_in, out, 0.0)
            against = net_in[passing.at] & (passing.flow < 0.0)
            takers.append(Passage._make(v[against] for v in passing))
            level[there] += way * np.where(self._open(name)[self.number], density[self.number], 0.0)[there]
        inside = through["inside"]
        takers.append(inside)
        taken += np.bincount(inside.at, np.maximum(-inside.flow, 0.0), grid.n_cells) / area
        given += np.bincount(inside.at, np.maximum(inside.flow, 0.0), grid.n_cells) / area
        near = self.near_wells.around(bore)
        value, slope = self._in_plan(step, through["side"], low - high, near)
        return Field(
            value, slope, low, high, np.maximum(begins, 1e-12), np.maximum(ends, 1e-12), self.pores, taken, given,
            *near, bore, through, Passage(*(np.concatenate(v) for v in zip(*takers, strict=True))),
        )  # fmt: skip

    def in_plan(self, number: int) -> tuple[Array, Array]:
        """Return the flow a metre of width in plan over a step, what wells take being spread over their cells.

        Returns
        -------
        value : ndarray of float, (n_prisms, 2)
            At corner 0 of each triangle [m²/day].
        slope : ndarray of float, (n_prisms,)
            Of it by place, the same along x and y [m/day].
        """
        step = self.flow.steps[number]
        return self._in_plan(step, self.passages(step)["side"], np.zeros(self.number.shape))

    def _in_plan(
        self,
        step: FlowStep,
        side: Passage,
        divergence: Array,
        wells: tuple[Index, Index, Sources] | None = None,
    ) -> tuple[Array, Array]:
        """The same, with what each cell gives more than it gets; without the radial flow of wells, if these are told."""
        fans, n_layers = self.fans, len(self.number)
        value, slope = np.zeros((n_layers * len(fans), 2)), np.zeros(n_layers * len(fans))
        for k in range(n_layers):
            present = self.number[k, fans.cell] >= 0
            if not present.any():
                continue
            mine = slice(k * len(fans), (k + 1) * len(fans))
            outer = np.where(present[:, None], self._outer(k, step, side), 0.0)
            if wells is not None:
                near, around, sources = wells
                self.near_wells.take_from(outer, near[mine], around, sources)
            flux = self._layers[k][0].fluxes(outer, divergence[k][fans.cell])
            half = 0.5 / fans.area
            slope[mine] = np.where(present, half * flux.sum(axis=1), 0.0)
            arm = fans.corner[:, 0][:, None] - fans.corner
            value[mine] = half[:, None] * np.einsum("ni,nik->nk", flux, arm)
        return value, slope

    def water_height(self, number: int, share: float = 1.0) -> Array:
        """Return the height of the water in each cell at a share of a step, (n_cells,) [m]."""
        end = self.flow.saturated_volume(number) / self.grid.cells.area
        if share >= 1.0 or self.flow.steps[number].steady:
            return np.asarray(end)
        begin = self._height_before(number)
        return np.asarray(begin + share * (end - begin))

    def _height_before(self, number: int) -> Array:
        """Height of the water at the begin of a step."""
        from inkhorn.model import saturation

        cells, law = self.grid.cells, self.flow.model.water_table
        heads = self.flow.start.heads if number == 0 else self.flow.steps[number - 1].heads
        return np.asarray(cells.thickness * saturation(heads, cells.bottom, cells.top, law)[0])

    def _open(self, name: str) -> NDArray[np.bool_]:
        return self._ends[0] if name == "top" else self._ends[1]

    def _of_floors(self, step: FlowStep) -> Array:
        """Upward flow through the floor of each cell, (n_layers, n_plan) [m/day]."""
        there = self.floor_face >= 0
        found = np.zeros(self.floor_face.shape)
        face = self.floor_face[there]
        found[there] = -step.face_flow[face] / self._floor_area[face]
        return found

    def _outer(self, layer: int, step: FlowStep, side: Passage) -> Array:
        """What flows out through the sides of triangles that are none inside a cell, (n_triangles, 3) [m³/day]."""
        fans, grid = self.fans, self.grid
        mesh, edges, coarse, turn, face, outer, _ = self.side_faces[layer]
        through = np.where(face >= 0, step.face_flow[np.maximum(face, 0)], 0.0)
        into = (
            np.bincount(side.at, side.flow, len(grid.outer_faces))
            if len(side.at)
            else np.zeros(len(grid.outer_faces))
        )
        rim_out = np.where(outer >= 0, -into[np.maximum(outer, 0)] if len(into) else 0.0, 0.0)
        if coarse is not None:
            through = self._pieces(mesh, edges, coarse, turn, through, rim_out)
        flux = np.where(
            fans.edge >= 0, fans.sign * through[np.maximum(fans.edge, 0)] if len(through) else 0.0, 0.0
        )
        if len(rim_out):
            flux = np.where(fans.rim >= 0, rim_out[np.maximum(fans.rim, 0)], flux)
        return np.asarray(flux)

    def _pieces(
        self, mesh: Any, edges: Any, coarse: Index, turn: Array, through: Array, rim_out: Array
    ) -> Array:
        """Share what flows between joined cells among the pieces of their border, as an even flow would."""
        rim, fine = self.grid.rim, self._edges
        # the even flow of each cell that meets what crosses its sides best
        owner = np.concatenate([edges.cells[:, 0], edges.cells[:, 1], mesh.group[rim.cell]])
        normal = np.concatenate([edges.normal, edges.normal, rim.normal])
        length = np.concatenate([edges.length, edges.length, rim.length])
        water = np.concatenate([through, through, rim_out])
        n = mesh.n_cells
        xx, xy, yy = (
            np.bincount(owner, length * normal[:, i] * normal[:, j], n) for i, j in ((0, 0), (0, 1), (1, 1))
        )
        right = [np.bincount(owner, water * normal[:, k], n) for k in (0, 1)]
        size = xx * yy - xy**2
        size = np.where(size > 1e-9 * (xx + yy) ** 2, size, np.inf)
        mean = np.column_stack([yy * right[0] - xy * right[1], xx * right[1] - xy * right[0]]) / size[:, None]
        piece = np.flatnonzero(coarse >= 0)
        # of the two cells at a border the one that the even flow fits better says more
        rest = np.abs(water - length * (mean[owner] * normal).sum(axis=1))
        misfit = np.bincount(owner, rest, n) / np.maximum(np.bincount(owner, np.abs(water), n), 1e-300)
        pair = mesh.group[fine.cells[piece]]
        trust = 1.0 / (misfit[pair] + 1e-12)
        even = (trust[:, :, None] * mean[pair]).sum(axis=1) / trust.sum(axis=1)[:, None]
        length = fine.length[piece]
        share = length * (even * fine.normal[piece]).sum(axis=1)
        own = coarse[piece]
        wanted = through[own] * turn[piece]
        total = np.bincount(own, turn[piece] * share, len(edges.cells))
        border = np.bincount(own, length, len(edges.cells))
        found = np.zeros(len(fine.cells))
        found[piece] = share + (wanted - turn[piece] * total[own]) * length / border[own]
        return found
