"""How the file of the records of a run is laid out: NetCDF by its rules for HDF5, and CF conventions."""

from __future__ import annotations

import json
import zlib
from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.flow import FlowStart
from inkhorn.model import Model

__all__ = ["FORMAT", "LETTERS", "NEWTON", "OF_CELLS", "OF_STEPS", "StepLayout", "lay_out", "packed"]

FORMAT = 2
OF_CELLS = {  # what a record holds for every cell, with its unit and words
    "head": ("heads", "m", "hydraulic head at the end of the step"),
    "storage_change": ("storage_change", "m3 d-1", "water taken into storage"),
    "drainage": ("drainage", "m3 d-1", "part of it that fills pores at the water table"),
}
OF_STEPS = {  # one number each, the last written last: a record counts once it is there
    "steady": ("i1", "1 where nothing is stored"),
    "period": ("i4", "of the schedule, from 0"),
    "order": ("i4", "of the scheme"),
    "closure": ("f8", "sum of absolute residuals over the turnover"),
    "unknowns": ("i8", "that were solved for"),
    "closing_error": ("f8", "of the water budget, in per cent"),
    "next_step": ("f8", "to be tried next, in days; 0 where it is one of the schedule"),
    "slope_kept": ("i1", "1 where head_slope holds something"),
    "newton_end": ("i8", "rows of newton_* up to this record"),
    "joined_steps": ("i4", "steps joined in the record, whose flows are their means"),
}
NEWTON = {
    "closure": "f8",
    "largest_change": "f8",
    "damping": "f8",
    "linear_iterations": "i4",
    "until": "f8",
}
LETTERS = 160  # of the place of a Newton step
_ROWS = 256  # of small tables are kept together
_MOST = 1 << 16  # numbers that are packed together, so that several processors have something to do
_PACKED: dict[str, Any] = {"shuffle": True, "compression": "gzip", "compression_opts": 1}
_NO_VARIABLE = "This is a netCDF dimension but not a netCDF variable. "


def _plain(kind: str) -> str:
    return kind.replace(" ", "_").replace("-", "_")


class StepLayout:
    """What the tables of a file are called, and how long they are, for a model."""

    def __init__(self, model: Model) -> None:
        terms = model.terms
        self.kinds = [_plain(t.kind) for t in terms]
        # what a term has besides: how many values, and how they lie
        self.shapes = {
            f"{kind}_{name}": shape
            for kind, t in zip(self.kinds, terms, strict=True)
            for name, shape in (
                ("outside", (len(t.outside_names), t.n_extra)),
                ("link_flow", (len(t.links),)),
                ("state", (t.n_state,)),
            )
        }
        self.besides = [name for name, shape in self.shapes.items() if np.prod(shape)]
        self.sizes = {
            "cell": model.grid.n_cells,
            "face": len(model.grid.faces),
            "extra_unknown": sum(t.n_extra for t in terms),
            **{f"{kind}_entry": len(t.cells) for kind, t in zip(self.kinds, terms, strict=True)},
            **{f"{name}_value": int(np.prod(self.shapes[name])) for name in self.besides},
        }
        self.over = {
            **dict.fromkeys(OF_CELLS, "cell"),
            "head_slope": "cell",
            "extra_unknown_value": "extra_unknown",
            "extra_storage": "extra_unknown",
            "face_flow": "face",
            **{f"{kind}_flow": f"{kind}_entry" for kind in self.kinds},
            **{name: f"{name}_value" for name in self.besides},
        }

    def described(self) -> Iterator[tuple[str, str, str]]:
        """Yield every table with a row for each record, its unit and words."""
        for name, (_, units, words) in OF_CELLS.items():
            yield name, units, words
        yield "head_slope", "m d-1", "how fast heads changed in the step, where the next is judged by it"
        yield "extra_unknown_value", "m", "levels in wells and other unknowns of the terms"
        yield "extra_storage", "m3 d-1", "water taken into storage by unknowns of the terms"
        yield "face_flow", "m3 d-1", "flow from the first to the second cell of each face"
        for kind in self.kinds:
            yield f"{kind}_flow", "m3 d-1", f"flow into the aquifer: {kind}"
        for name in self.besides:
            units = "1" if name.endswith("_state") else "m3 d-1"
            yield name, units, f"of the terms: {name.replace('_', ' ')}"


def packed(values: NDArray[np.float64]) -> bytes:
    """Pack the numbers of a chunk as HDF5 would: bytes of one kind beside each other, then deflated."""
    apart = values.view(np.uint8).reshape(len(values), values.itemsize).T
    return zlib.compress(apart.tobytes(), _PACKED["compression_opts"])


class _Netcdf:
    """Makes variables with named dimensions in an HDF5 file, as NetCDF does, but for a tenth of the time.

    References
    ----------
    Unidata (2023), NetCDF-4 file format, in: The NetCDF users' guide, appendix B (dimension scales).
    """

    def __init__(self, file: Any, dimensions: dict[str, int | None]) -> None:
        self.file, self.dimensions = file, dimensions
        self._scales: dict[str, Any] = {}

    def variable(
        self, name: str, over: tuple[str, ...], kind: Any, *, values: Any = None, **options: Any
    ) -> Any:
        """Make a variable over some dimensions; values are given where none of them is without limit."""
        sizes = [self.dimensions[d] for d in over]
        made = self.file.create_dataset(
            name,
            shape=tuple(size or 0 for size in sizes),
            maxshape=tuple(sizes) if None in sizes else None,
            dtype=kind,
            data=values,
            **options,
        )
        if over == (name,):
            made.make_scale(name)
            self._scales[name] = made
            return made
        for axis, dimension in enumerate(over):
            made.dims[axis].attach_scale(self._scale(dimension))
        return made

    def _scale(self, dimension: str) -> Any:
        """What stands for a dimension that has no variable of its own."""
        if dimension not in self._scales:
            size = self.dimensions[dimension]
            made = self.file.create_dataset(
                dimension,
                shape=(size or 0,),
                maxshape=(None,) if size is None else None,
                dtype=">f4",
                chunks=(_ROWS,) if size is None else None,
            )
            made.make_scale(f"{_NO_VARIABLE}{size or 0:10d}")
            self._scales[dimension] = made
        return self._scales[dimension]


def lay_out(file: Any, layout: StepLayout, model: Model, start: FlowStart) -> None:
    """Make the tables of a file that is to hold the records of a model.

    Parameters
    ----------
    file : h5py.File
        Empty.
    layout : StepLayout
        Of the model.
    model : Model
        Whose records they are.
    start : FlowStart
        What the run begins with.
    """
    import h5py

    schedule = model.schedule
    said = {
        "Conventions": "CF-1.11",
        "title": model.name,
        "source": "Inkhorn, flow step by step",
        "format_number": FORMAT,
    }
    for key, value in said.items():
        file.attrs[key] = value
    made_of = np.frombuffer(json.dumps(dict(start.made_of)).encode(), dtype=np.uint8)
    own_sizes = {name: max(size, 1) for name, size in layout.sizes.items()}
    fixed = {"bound": 2, "letter": LETTERS, "made_of_byte": len(made_of), **own_sizes}
    whole = _Netcdf(file, {"time": None, "newton_step": None, **fixed})
    date = None if schedule is None else schedule.start
    clock = "days" if date is None else f"days since {str(date).replace('T', ' ')}"

    def described(made: Any, **said: str) -> None:
        for key, value in said.items():
            made.attrs[key] = value

    clocked = whole.variable("time", ("time",), "f8", chunks=(_ROWS,))
    described(clocked, units=clock, bounds="time_bounds", long_name="time since the start")
    whole.variable("time_bounds", ("time", "bound"), "f8", chunks=(_ROWS, 2))
    for name, (kind, words) in OF_STEPS.items():
        described(whole.variable(name, ("time",), kind, chunks=(_ROWS,), fillvalue=0), long_name=words)
    for name, kind in NEWTON.items():
        whole.variable(f"newton_{name}", ("newton_step",), kind, chunks=(_ROWS,))
    whole.variable("newton_place", ("newton_step", "letter"), "S1", chunks=(_ROWS, LETTERS))
    for name, units, words in layout.described():
        over = layout.over[name]
        made = whole.variable(name, ("time", over), "f8", chunks=(1, min(own_sizes[over], _MOST)), **_PACKED)
        described(made, units=units, long_name=words)
        if units == "m3 d-1":
            described(made, cell_methods="time: mean")
    names = [f"{t.kind} {name}" for t in model.terms for name in t.extra_names]
    if names:
        text = np.array(names, dtype=object)
        whole.variable("extra_unknown_name", ("extra_unknown",), h5py.string_dtype(), values=text)
    whole.variable("made_of", ("made_of_byte",), "u1", values=made_of)
    initial = {
        "initial_head": ("cell", start.heads),
        "initial_extra": ("extra_unknown", start.extra_unknowns),
    }
    for kind, state in zip(layout.kinds, start.state, strict=True):
        if len(state):
            initial[f"{kind}_initial_state"] = (f"{kind}_state_value", state)
    for name, (over, values) in initial.items():
        padded = np.zeros(own_sizes[over])
        padded[: len(values)] = values
        whole.variable(name, (over,), "f8", values=padded)
