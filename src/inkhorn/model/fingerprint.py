"""What shapes a model, part by part, as short digests: two models are told apart by them, and what differs is named."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping
from hashlib import blake2b
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.model.model import Model
from inkhorn.model.solutes import concentration_told
from inkhorn.model.terms import Term, placed_fields
from inkhorn.site import properties

__all__ = ["differences", "fingerprint"]

_OF_DISSOLVED = ("porosity", "bulk_density")
_FOLLOW = 3  # of parts that differ, how many are named of a sort


def _digest(*arrays: Any) -> str:
    made = blake2b(digest_size=8)
    for values in arrays:
        plain = np.ascontiguousarray(values)
        made.update(plain.tobytes())
        made.update(str(plain.shape).encode())
    return made.hexdigest()


def _of_grid(model: Model) -> Iterator[tuple[str, str]]:
    grid, cells = model.grid, model.grid.cells
    yield "the plan of the cells", _digest(cells.x, cells.y, cells.area, cells.plan_cell)
    yield "how cells meet", _digest(grid.faces.cells, grid.faces.area, grid.faces.distance)
    for k, name in enumerate(grid.layer_names):
        here = cells.layer == k
        yield f'layer "{name}": top and base', _digest(cells.top[here], cells.bottom[here])


def _of_properties(model: Model, names: Iterable[str]) -> Iterator[tuple[str, str]]:
    layer = model.grid.cells.layer
    for name in names:
        values = model.property_of(name)
        if values is None:
            continue
        changing = model.inputs_in_time.get(name)
        for k, layer_name in enumerate(model.grid.layer_names):
            here = layer == k
            moving = [] if changing is None else [changing[:, here]]
            yield f'layer "{layer_name}": {name.replace("_", " ")}', _digest(values[here], *moving)


def _of_term(term: Term, changes: Mapping[str, NDArray[np.float64]]) -> Iterator[tuple[str, str]]:
    """Of each feature, its places and inputs; of what belongs to no feature alone, the kind as a whole."""
    n, order = len(term.feature_names), np.argsort(term.feature_index, kind="stable")
    begins = np.searchsorted(term.feature_index[order], np.arange(n + 1))
    over = {name: said.over for name, said in term.declared_inputs().items()}
    over |= {name: f.metadata["placed"] for name, f in placed_fields(type(term)).items()}
    own = term.extra_feature
    by_entry = [term.cells[order], term.crossing[order], term.outer_face[order]]
    by_feature: list[NDArray[Any]] = []
    by_own: list[NDArray[Any]] = []
    whole: list[NDArray[Any]] = [np.asarray(term.links)]
    for name, what in over.items():
        values = [np.asarray(getattr(term, name))]
        changing = changes.get(f"{term.kind}.{name}")
        values += [] if changing is None else list(changing)
        if what == "entry":
            by_entry += [v[order] for v in values]
        elif what == "feature":
            by_feature += values
        elif what == "extra":
            by_own += values
        else:
            whole += values
    for k, feature in enumerate(term.feature_names):
        mine = slice(begins[k], begins[k + 1])
        yield (
            f'{term.kind} "{feature}"',
            _digest(
                *(v[mine] for v in by_entry), *(v[k] for v in by_feature), *(v[own == k] for v in by_own)
            ),
        )
    yield f"{term.kind}: what concerns all", _digest(*whole)


def fingerprint(model: Model, *, dissolved: bool = False) -> dict[str, str]:
    """Return a digest of each part of a model that heads and flows depend on, by what it is in words.

    Models of one fingerprint have the same heads to the bit, whatever they are called.

    Parameters
    ----------
    model : Model
        A site placed on a grid, or made from arrays.
    dissolved : bool
        Count in what only paths and transport depend on: porosity, bulk density, concentrations of inflow.
    """
    parts = dict(_of_grid(model))
    parts |= _of_properties(model, [k for k in properties() if k not in _OF_DISSOLVED])
    if model.face_resistance is not None:
        there = np.flatnonzero(model.face_resistance)
        parts["barriers"] = _digest(there, model.face_resistance[there])
    for term in model.terms:
        parts |= _of_term(term, model.inputs_in_time)
    law = model.water_table
    parts["laws of partly filled cells"] = _digest([law.film, law.smoothing, law.confined])
    schedule = model.schedule
    if schedule is not None:
        parts["the date of the start"] = _digest(np.array(str(schedule.start)))
        parts["periods"] = _digest(schedule.ends, schedule.steady)
        parts["steps within periods"] = _digest(schedule.steps, schedule.growth)
    if dissolved:
        parts |= _of_properties(model, _OF_DISSOLVED)
        brought = {
            k: {n: concentration_told(c) for n, c in v.items()} for k, v in model.inflow_concentration.items()
        }
        parts["concentrations of inflow"] = _digest(np.array(json.dumps(brought, sort_keys=True)))
        for s in model.solutes:
            told = json.dumps([s.kind, s.name, s.species, concentration_told(s.value)])
            parts[f'{s.kind} "{s.name}", {s.species}'] = _digest(np.array(told), s.cells, s.share)
    return parts


def differences(before: Mapping[str, str], now: Mapping[str, str]) -> list[str]:
    """Return what differs between two fingerprints, in words; of many parts of one sort the first."""
    said = [k for k in now if k in before and before[k] != now[k]]
    said += [f"{k} (new)" for k in now if k not in before]
    said += [f"{k} (gone)" for k in before if k not in now]
    sorts: dict[str, list[str]] = {}
    for words in said:
        sorts.setdefault(words.split('"')[0] + words.rpartition('"')[2], []).append(words)
    short = []
    for of_a_sort in sorts.values():
        short += of_a_sort[:_FOLLOW]
        if len(of_a_sort) > _FOLLOW:
            more = len(of_a_sort) - _FOLLOW
            kind = of_a_sort[0].split('"')[0].strip()
            short.append(f"{more} more of {kind}")
    return short
