"""Conduits drawn: the network over the heads, heads along it, and what its springs give in time."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.conduits import REGIMES
from inkhorn.draw.dates import by_date, when
from inkhorn.draw.flow import heads
from inkhorn.draw.scales import NUMBER
from inkhorn.draw.style import BANK, FLOW_OUT, INK, WATER, axes_or_new, halo, line_style
from inkhorn.errors import InputError, did_you_mean
from inkhorn.flow import FlowResult, conduits_of
from inkhorn.model.terms import ConduitTerm

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["conduit_profile", "conduits", "spring_discharge"]

_COLOURS = dict(zip(REGIMES, ("#9a9a9a", "#35b8c6", "#f2a33a", "#8c1d40"), strict=True))
_NARROW, _WIDE = 0.8, 7.0  # points


def _term(flow: FlowResult) -> ConduitTerm:
    term = conduits_of(flow.model)
    if term is None:
        raise InputError("the model has no conduits to draw.")
    return term


def conduits(
    flow: FlowResult, *, step: int = -1, layer: str | int | None = None, ax: Axes | None = None
) -> Axes:
    """Draw the network over the heads of the rock: pipes as wide as they carry much, coloured by how water flows in them.

    Parameters
    ----------
    flow : FlowResult
    step : int
        Which step.
    layer : str or int, optional
        Whose heads; of the layer that holds most of the pipes if not given.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes

    Raises
    ------
    InputError
        If the model has no conduits.
    """
    from matplotlib.collections import LineCollection
    from matplotlib.legend import Legend
    from matplotlib.lines import Line2D

    term, pipes = _term(flow), flow.conduits(step)
    if layer is None:
        layer = str(pipes["layer"].mode().iloc[0])
    ax = heads(flow, layer, step=step, show=("fill", "lines"), ax=ax)
    ends = np.stack([np.column_stack([term.x, term.y])[term.links[:, k]] for k in (0, 1)], axis=1)
    size = np.abs(pipes["flow [m³/day]"].to_numpy())
    most = float(size.max(initial=0.0)) or 1.0

    def width(flow: Any) -> Any:
        return _NARROW + (_WIDE - _NARROW) * np.sqrt(np.asarray(flow) / most)

    order = np.argsort(size)
    colours = [_COLOURS[r] for r in pipes["regime"].iloc[order]]
    lines: Any = ends[order]
    under = LineCollection(
        lines, linewidths=width(size[order]) + 1.6, colors="white", capstyle="round", zorder=3.9
    )
    over = LineCollection(lines, linewidths=width(size[order]), colors=colours, capstyle="round", zorder=4.0)
    ax.add_collection(under)
    ax.add_collection(over)
    there = [r for r in REGIMES if (pipes["regime"] == r).any()]
    marks = [Line2D([], [], color=_COLOURS[r], lw=3.0, label=r) for r in there]
    for share in (1.0, 0.1):
        text = f"{most * share:,.0f} m³/day"
        marks.append(Line2D([], [], color="#555555", lw=float(width(most * share)), label=text))
    key = Legend(
        ax, marks, [str(m.get_label()) for m in marks], title="flow in conduits", fontsize=7, title_fontsize=8,
        loc="lower right", framealpha=0.9,
    )  # fmt: skip
    for words in key.get_texts()[len(there) :]:
        words.set_gid(f"{NUMBER} [m³/day]")
    ax.add_artist(key).set_zorder(6)  # beside that of the map
    ax.set_title(f"conduits over heads, layer {layer}{when(flow, step)}", fontsize=10)
    return ax


def _node_of(term: ConduitTerm, name: str) -> int:
    known = [n for n, at in zip(term.feature_names, term.at_node.tolist(), strict=True) if np.isfinite(at)]
    if name not in known:
        raise InputError(
            f'there is no spring or sinkhole "{name}" of the conduits; expected one of {known}.'
            f"{did_you_mean(name, known)}"
        )
    return int(term.at_node[term.feature_names.index(name)])


def _route(term: ConduitTerm, begin: str | None, end: str | None) -> NDArray[np.int64]:
    """Nodes along the shortest way through the network."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import dijkstra

    n, (a, b) = term.n_levels, term.links.T
    graph = coo_array((term.length, (a, b)), shape=(n, n)).tocsr()
    if end is not None:
        last = _node_of(term, end)
    elif len(term.springs):
        last = int(term.at_node[term.springs[0]])
    else:
        last = int(np.argmin(term.bed))
    away, before = dijkstra(graph, directed=False, indices=last, return_predecessors=True)
    if begin is not None:
        node = _node_of(term, begin)
    else:
        sinks = term.at_node[np.isfinite(term.at_node)].astype(np.int64)
        sinks = sinks[np.isfinite(away[sinks]) & (away[sinks] > 0.0)]
        reached = np.flatnonzero(np.isfinite(away)) if not len(sinks) else sinks
        node = int(reached[np.argmax(away[reached])])
    if not np.isfinite(away[node]):
        raise InputError("no conduit leads from the one place to the other.")
    route = [node]
    while route[-1] != last:
        route.append(int(before[route[-1]]))
    return np.array(route)


def conduit_profile(
    flow: FlowResult,
    begin: str | None = None,
    end: str | None = None,
    *,
    step: int = -1,
    ax: Axes | None = None,
) -> Axes:
    """Draw the heads along the shortest way through the network, with the pipe, the water in it and the rock's head.

    Parameters
    ----------
    flow : FlowResult
    begin, end : str, optional
        Names of a sinkhole and of a spring; the first spring, and the sinkhole farthest from it, if not given.
    step : int
        Which step.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes

    Raises
    ------
    InputError
        If there is no such place, or no way between both.
    """
    term, pipes, nodes = _term(flow), flow.conduits(step), flow.conduit_nodes(step)
    route = _route(term, begin, end)
    of = {frozenset(p): k for k, p in enumerate(term.links.tolist())}
    way = np.array(
        [of[frozenset(p)] for p in zip(route[:-1].tolist(), route[1:].tolist(), strict=True)], dtype=np.int64
    )
    along = np.concatenate([[0.0], np.cumsum(term.length[way])])
    turned = term.links[way, 0] != route[:-1]
    beds = [np.where(turned, term.bed_second[way], term.bed_first[way])]
    beds.append(np.where(turned, term.bed_first[way], term.bed_second[way]))
    ax = axes_or_new(ax, (10.0, 5.5))
    head = nodes["head [m]"].to_numpy()[route]
    size = term.diameter[way]
    for k in range(len(way)):
        x, bed = along[k : k + 2], np.array([beds[0][k], beds[1][k]])
        ax.fill_between(x, bed, bed + size[k], fc="#e5dfd3", ec="#e5dfd3", lw=0.3, zorder=1)
        water = np.clip(head[k : k + 2], bed, bed + size[k])
        ax.fill_between(x, bed, water, fc=WATER, ec=WATER, lw=0.3, zorder=2)
        ax.plot(x, bed, color=INK, lw=0.8, zorder=3)
        ax.plot(x, bed + size[k], color=INK, lw=0.8, zorder=3)
    cells = pipes["cell"].to_numpy()[way]
    stretch = np.cumsum(np.concatenate([[0], cells[1:] != cells[:-1]]))
    middle = np.bincount(stretch, 0.5 * (along[1:] + along[:-1])) / np.bincount(stretch)
    cells = cells[np.unique(stretch, return_index=True)[1]]
    rock = flow.steps[step].heads[cells]
    ax.plot(middle, rock, color=FLOW_OUT, lw=1.4, ls="--", label="head in the rock", zorder=4)
    ax.plot(along, head, color=BANK, lw=2.0, label="head in the conduit", zorder=5)
    ground = flow.model.grid.cells
    top = ground.top[flow.model.grid.uppermost[ground.plan_cell[cells]]]
    ax.plot(middle, top, color="#8a6d3b", lw=1.2, label="ground", zorder=1)
    ax.fill_between([], [], [], color="#e5dfd3", label="conduit")
    names = np.array(term.feature_names, dtype=object)[term.pipe_feature[way]]
    change = np.flatnonzero(np.concatenate([[True], names[1:] != names[:-1]]))
    low = min(float(np.min(beds[0])), float(np.min(beds[1])))
    for k in change.tolist() if len(change) > 1 else []:
        ax.axvline(along[k], color="#bbbbbb", lw=0.7, zorder=0)
        ax.text(
            along[k],
            low,
            f" {names[k]}",
            fontsize=7,
            va="bottom",
            rotation=90,
            zorder=6,
            path_effects=halo(2.0),
        )
    places = [term.feature_names[int(term.extra_feature[node])] for node in (route[0], route[-1])]
    ax.set_xlabel("way along the conduits [m]")
    ax.set_ylabel("elevation [m]")
    ax.set_xlim(0.0, along[-1])
    ax.set_title(f"from {places[0]} to {places[1]}{when(flow, step)}", fontsize=10)
    ax.legend(fontsize=8, framealpha=0.9)
    return ax


def spring_discharge(flow: FlowResult, *, ax: Axes | None = None) -> Axes:
    """Draw what the springs of the conduits give in time, and what is let in.

    Parameters
    ----------
    flow : FlowResult
        In time.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes

    Raises
    ------
    InputError
        If the model has no conduits, no spring of them, or does not go through time.
    """
    _term(flow)
    table = flow.spring_discharge()
    springs = [c for c in table.columns if c.endswith("[m³/day]") and not c.startswith("let in")]
    if not springs:
        raise InputError("the conduits have no spring.")
    moving = table[table["end [day]"] > table["begin [day]"]]
    if len(moving) < 2:
        raise InputError("the flow does not go through time; `conduit_budget` tells what springs give.")
    ax = axes_or_new(ax, (10.0, 5.0))
    dated = "date" in moving
    times = moving["date"] if dated else moving["end [day]"]
    ax.fill_between(times, moving["let in [m³/day]"], step="pre", color="#c9d9e4", lw=0.0, label="let in")
    middle = 0.5 * (moving["begin [day]"] - moving["end [day]"])
    middle = times + (middle * np.timedelta64(86400, "s") if dated else middle)
    for k, name in enumerate(springs):
        ax.plot(middle, moving[name], lw=1.8, label=name.removesuffix(" [m³/day]"), **line_style(k + 1))
    ax.set_ylim(bottom=min(0.0, float(moving[springs].to_numpy().min())))
    ax.set_ylabel("discharge [m³/day]")
    if dated:
        by_date(ax)
    else:
        ax.set_xlabel("time [day]")
    ax.set_xlim(times.iloc[0], times.iloc[-1])
    ax.set_title("springs of conduits", fontsize=10)
    ax.legend(fontsize=8)
    return ax
