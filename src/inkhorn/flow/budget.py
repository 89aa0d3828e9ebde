"""The water budget, from the same flows that were solved for."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, did_you_mean
from inkhorn.model import Model

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["budget_table", "closing_error", "exchange_table"]

_STILL = 1e-10  # m³/day, up to which nothing is said to flow
IN, OUT = "in [m³/day]", "out [m³/day]"


def _row(flow: NDArray[np.float64], **labels: str) -> dict[str, Any]:
    return {**labels, IN: float(flow[flow > 0].sum()), OUT: float(np.abs(flow[flow < 0]).sum())}


def _storage(step: Any) -> list[tuple[str, NDArray[np.float64]]]:
    """What went into storage by pressure, and what filled pores, each with its name."""
    if step.steady:
        return []
    elastic = step.storage_change - step.drainage
    drained = [("storage, drainage", step.drainage)] if step.drainage.any() else []
    return [("storage, elastic", elastic), *drained]


_EXCHANGE = "exchange"


def _missing(flows: Iterable[NDArray[np.float64]], nothing: float) -> float:
    """What is missing from some flows that should add up to nothing, of the larger total [%]; 0 where that is nothing."""
    whole = np.concatenate([np.zeros(1), *(np.ravel(f) for f in flows)])
    larger = max(whole[whole > 0].sum(), -whole[whole < 0].sum())
    return float(100.0 * whole.sum() / larger) if larger > nothing else 0.0


def closing_error(model: Model, step: Any, nothing: float = 0.0) -> float:
    """Return what is missing from the water budget of a step, of the larger total [%].

    The worse of the aquifer's, and of that of what terms store besides; 0 where no more flows than `nothing` [m³/day].
    """
    errors = [_missing([*step.term_flow, -step.storage_change], nothing)]
    first = 0
    for term, flow, outside in zip(model.terms, step.term_flow, step.outside, strict=True):
        stored = step.extra_storage[first : first + term.n_extra]
        first += term.n_extra
        if stored.any() or len(term.links):
            errors.append(_missing([-flow[term.node >= 0], outside, -stored], nothing))
    return max(errors, key=abs)


def _by_store(model: Model, step: Any) -> Iterator[dict[str, Any]]:
    """Of every feature with a balance of its own: its exchange with the aquifer, what comes from outside, storage."""
    first = 0
    for term, flow, outside in zip(model.terms, step.term_flow, step.outside, strict=True):
        stored = step.extra_storage[first : first + term.n_extra]
        first += term.n_extra
        if not term.n_extra:
            continue
        whose = term.extra_feature
        for k, name in enumerate(term.feature_names):
            mine = (term.feature_index == k) & (term.node >= 0)
            yield _row(-flow[mine], feature=name, item="aquifer")
            for words, water in zip(term.outside_names, outside, strict=True):
                yield _row(water[whose == k], feature=name, item=words)
            if not step.steady and stored.any():
                yield _row(-stored[whose == k], feature=name, item="storage")


def _by_term(model: Model, step: Any) -> Iterator[dict[str, Any]]:
    for term, flow in zip(model.terms, step.term_flow, strict=True):
        yield _row(flow, term=term.kind)


def _by_feature(model: Model, step: Any) -> Iterator[dict[str, Any]]:
    for term, flow in zip(model.terms, step.term_flow, strict=True):
        for k, name in enumerate(term.feature_names):
            yield _row(flow[term.feature_index == k], term=term.kind, feature=name)


def _by_part(
    model: Model, step: Any, names: Sequence[str], part: NDArray[np.int64], label: str, beside: str
) -> Iterator[dict[str, Any]]:
    """The terms of each part of the cells, its storage, and its exchange with every other part."""
    faces = part[model.grid.faces.cells]
    for k, name in enumerate(names):
        for term, flow in zip(model.terms, step.term_flow, strict=True):
            mine = part[term.cells] == k
            if mine.any():
                yield _row(flow[mine], **{label: name, "item": term.kind})
        for item, change in _storage(step):
            yield _row(-change[part == k], **{label: name, "item": item})
        for other, other_name in enumerate(names):
            arriving = step.face_flow[(faces[:, 0] == other) & (faces[:, 1] == k)]
            leaving = -step.face_flow[(faces[:, 0] == k) & (faces[:, 1] == other)]
            if other != k and len(arriving) + len(leaving):
                exchanged = _row(
                    np.concatenate([arriving, leaving]), **{label: name, "item": f"{beside}{other_name}"}
                )
                yield {**exchanged, _EXCHANGE: True}


def _parts_of(model: Model, regions: Mapping[str, Any]) -> tuple[list[str], NDArray[np.int64]]:
    """Names of regions, and which each cell lies in; the rest of the model is one more, "elsewhere"."""
    import shapely

    cells = model.grid.cells
    part = np.full(len(cells), -1)
    for k, (name, where) in enumerate(regions.items()):
        if isinstance(where, shapely.Geometry):
            inside = shapely.contains_xy(where, cells.x, cells.y)
        else:
            inside = np.asarray(where, dtype=bool)
            if inside.shape != (len(cells),):
                raise InputError(
                    f'region "{name}" has the shape {inside.shape}; expected a polygon, or one truth value per cell, '
                    f"({len(cells)},)."
                )
        if not inside.any():
            raise InputError(
                f'region "{name}" holds the centre of no cell. Check its place, or make it larger.'
            )
        twice = inside & (part >= 0)
        if twice.any():
            raise InputError(
                f'region "{name}" shares {int(twice.sum())} cells with "{list(regions)[part[twice][0]]}"; expected '
                "regions apart from each other."
            )
        part[inside] = k
    names = list(regions)
    if (part < 0).any():
        part[part < 0] = len(names)
        names.append("elsewhere")
    return names, part


def _parts(model: Model, regions: Mapping[str, Any] | None) -> tuple[list[str], NDArray[np.int64]]:
    """Names of layers, or of regions, and which each cell belongs to."""
    if regions is None:
        return list(model.grid.layer_names), model.grid.cells.layer
    return _parts_of(model, regions)


def exchange_table(model: Model, step: Any, regions: Mapping[str, Any] | None = None) -> pd.DataFrame:
    """Return what flows between layers or regions; see `FlowResult.exchange`."""
    import pandas as pd

    names, part = _parts(model, regions)
    from_, to = part[model.grid.faces.cells].T
    flow, n = step.face_flow, len(names)
    between = np.zeros((n, n))
    for one, other, water in ((from_, to, flow), (to, from_, -flow)):
        mine = (water > 0) & (one != other)
        between += np.bincount(one[mine] * n + other[mine], water[mine], n * n).reshape(n, n)
    columns = pd.Index(names, name="to [m³/day]")
    table = pd.DataFrame(between, index=pd.Index(names, name="from"), columns=columns)
    if step.words:
        table.attrs["flows"] = step.words
    return table


def budget_table(model: Model, step: Any, by: str, regions: Mapping[str, Any] | None = None) -> pd.DataFrame:
    """Return the budget of a step; see `FlowResult.budget`.

    Raises
    ------
    InputError
        If `by` is not one of the ways to divide it.
    """
    import pandas as pd

    ways = {
        "term": ["term"],
        "feature": ["term", "feature"],
        "layer": ["layer", "item"],
        "region": ["region", "item"],
        "store": ["feature", "item"],
    }
    if by not in ways:
        raise InputError(f"by is {by!r}; expected one of {list(ways)}.{did_you_mean(by, list(ways))}")
    if (by == "region") != (regions is not None):
        raise InputError("a budget by region needs `regions`, and no other does. Give names and polygons.")
    labels, whole = ways[by], by in ("term", "feature")
    if by == "term":
        rows = list(_by_term(model, step))
    elif by == "feature":
        rows = list(_by_feature(model, step))
    elif by == "store":
        rows = list(_by_store(model, step))
    else:
        names, part = _parts(model, regions)
        rows = list(_by_part(model, step, names, part, by, "layer " if by == "layer" else ""))
    if whole:
        rows += [_row(-change, **dict.fromkeys(labels, item)) for item, change in _storage(step)]
    frame = pd.DataFrame(rows, columns=[*labels, IN, OUT]).set_index(labels)
    truly = [_EXCHANGE not in row for row in rows]  # what goes from part to part neither enters nor leaves
    total = frame.loc[truly, [IN, OUT]].sum()
    name = "total" if len(labels) == 1 else ("total", "")
    frame.loc[name, :] = total
    larger = max(total[IN], total[OUT])
    moves = larger > _STILL
    frame.attrs["closing_error_percent"] = float(100.0 * (total[IN] - total[OUT]) / larger) if moves else 0.0
    if step.words:
        frame.attrs["flows"] = step.words
    return frame
