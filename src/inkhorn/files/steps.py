"""The records of a run through time in a file: written as they are made, read one at a time."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, overload

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.flow import FlowStep
from inkhorn.model import Model

__all__ = ["StepFile"]

_OF_CELLS = {  # what a record holds for every cell, with its unit and words
    "head": ("heads", "m", "hydraulic head at the end of the step"),
    "storage_change": ("storage_change", "m3 d-1", "water taken into storage"),
    "drainage": ("drainage", "m3 d-1", "part of it that fills pores at the water table"),
}
_OF_STEPS = {"steady": "i1", "period": "i4", "order": "i4", "joined_steps": "i4"}


class StepFile(Sequence[FlowStep]):
    """Records of flow in a NetCDF file (CF conventions), as a sequence that `solve_flow` can add to.

    Each record is on disk once it is added, so that memory does not grow with their number, and a run that was
    stopped can go on from the last of them: give the file to `solve_flow` again.

    Parameters
    ----------
    path : Path
        A file that is there is read and added to; else it is begun.
    model : Model
        Whose cells, faces and terms the records are of.

    Raises
    ------
    InputError
        If the file is of another kind, or of another model.
    """

    def __init__(self, path: Path | str, model: Model) -> None:
        self.path, self.model = Path(path), model
        self._file: Any = None
        self._tables: dict[str, Any] = {}
        self._entries = {_plain(t.kind): len(t.cells) for t in model.terms}
        n_own = sum(t.n_own for t in model.terms)
        # what a term has besides: how many values, and how they lie
        self._shapes = {
            f"{_plain(t.kind)}_{name}": shape
            for t in model.terms
            for name, shape in (
                ("outside", (len(t.outside_names), t.n_own)),
                ("link_flow", (len(t.links),)),
                ("state", (t.n_state,)),
            )
        }
        self._besides = [name for name, shape in self._shapes.items() if np.prod(shape)]
        self._sizes = {
            "cell": model.grid.n_cells,
            "face": len(model.grid.faces),
            "own_unknown": n_own,
            **{f"{kind}_entry": n for kind, n in self._entries.items()},
            **{f"{name}_value": int(np.prod(self._shapes[name])) for name in self._besides},
        }
        if self.path.exists():
            self._check()
        else:
            self._begin()

    def _open(self) -> Any:
        """The file; its tables are handled one by one, which is far quicker than by their common dimensions."""
        if self._file is None:
            import h5py

            try:
                self._file = h5py.File(self.path, "a")
            except OSError as problem:
                raise InputError(
                    f'cannot read "{self.path}": {problem}. Expected the flow.nc of a run.'
                ) from None
        return self._file

    def _table(self, name: str) -> Any:
        """A table of the file, looked up once."""
        if name not in self._tables:
            self._tables[name] = self._open()[name]
        return self._tables[name]

    def _begin(self) -> None:
        import h5netcdf

        schedule = self.model.schedule
        with h5netcdf.File(self.path, "w") as file:
            self._lay_out(file, None if schedule is None else schedule.start)

    def _lay_out(self, file: Any, start: np.datetime64 | None) -> None:
        import h5py

        file.attrs.update(
            {
                "Conventions": "CF-1.11",
                "title": self.model.name,
                "source": "Inkhorn, flow step by step",
            }
        )
        # an empty dimension would be without limit
        file.dimensions = {
            "time": None,
            "bound": 2,
            **{name: max(size, 1) for name, size in self._sizes.items()},
        }
        clock = "days" if start is None else f"days since {str(start).replace('T', ' ')}"
        time = file.create_variable("time", ("time",), "f8")
        time.attrs.update({"units": clock, "bounds": "time_bounds", "long_name": "time since the start"})
        file.create_variable("time_bounds", ("time", "bound"), "f8")
        for name, kind in _OF_STEPS.items():
            file.create_variable(name, ("time",), kind)

        def values(name: str, over: str, units: str, words: str) -> None:
            shape = (1, max(self._sizes[over], 1))
            made = file.create_variable(name, ("time", over), "f8", chunks=shape)
            made.attrs.update({"units": units, "long_name": words})
            if units == "m3 d-1":
                made.attrs["cell_methods"] = "time: mean"

        for name, (_, units, words) in _OF_CELLS.items():
            values(name, "cell", units, words)
        values("own_unknown_value", "own_unknown", "m", "levels in wells and other unknowns of the terms")
        values("own_storage", "own_unknown", "m3 d-1", "water taken into storage by unknowns of the terms")
        names = [f"{t.kind} {name}" for t in self.model.terms for name in t.own_names]
        if names:
            made = file.create_variable("own_unknown_name", ("own_unknown",), h5py.string_dtype())
            made[:] = np.array(names, dtype=object)
        values("face_flow", "face", "m3 d-1", "flow from the first to the second cell of each face")
        for kind in self._entries:
            values(f"{kind}_flow", f"{kind}_entry", "m3 d-1", f"flow into the aquifer: {kind}")
        for name in self._besides:
            units = "1" if name.endswith("_state") else "m3 d-1"
            values(name, f"{name}_value", units, f"of the terms: {name.replace('_', ' ')}")

    def _check(self) -> None:
        file = self._open()
        if "joined_steps" not in file:
            raise InputError(f'"{self.path}" does not hold the steps of a run. Expected the flow.nc of one.')
        for name, size in self._sizes.items():
            found = file[name].shape[0] if name in file else 0
            if found != max(size, 1):
                raise InputError(
                    f'"{self.path}" has {found} of {name}; this model has {size}. '
                    "Go on with the same grid and features."
                )
        if len(self) and not file["joined_steps"][-1]:  # cut off as it was written
            self._resize(len(self) - 1)

    def _resize(self, count: int) -> None:
        """Make room for so many records."""
        for name in self._timed:
            self._table(name).resize(count, axis=0)

    @property
    def _timed(self) -> list[str]:
        """The tables that have a row for each record."""
        kinds = [f"{kind}_flow" for kind in self._entries]
        own = ["own_unknown_value", "own_storage"]
        return ["time", "time_bounds", *_OF_STEPS, *_OF_CELLS, *own, "face_flow", *kinds, *self._besides]

    def __len__(self) -> int:
        return int(self._table("joined_steps").shape[0])

    @property
    def reached(self) -> float:
        """The end of the last record [days since the start]; 0 without one."""
        return float(self._table("time")[-1]) if len(self) else 0.0

    @overload
    def __getitem__(self, index: int) -> FlowStep: ...
    @overload
    def __getitem__(self, index: slice) -> list[FlowStep]: ...
    def __getitem__(self, index: int | slice) -> FlowStep | list[FlowStep]:
        if isinstance(index, slice):
            return [self[k] for k in range(*index.indices(len(self)))]
        count = len(self)
        k = index + count if index < 0 else index
        if not 0 <= k < count:
            raise IndexError(f"there are {count} records, counted from 0; asked for {index}")
        bounds = self._table("time_bounds")[k]

        def row(name: str, over: str) -> NDArray[np.float64]:
            return np.asarray(self._table(name)[k], dtype=np.float64)[: self._sizes[over]]

        def besides(what: str) -> tuple[NDArray[np.float64], ...]:
            names = [f"{kind}_{what}" for kind in self._entries]
            return tuple(
                row(n, f"{n}_value").reshape(self._shapes[n])
                if n in self._besides
                else np.zeros(self._shapes[n])
                for n in names
            )

        return FlowStep(
            start=float(bounds[0]),
            end=float(bounds[1]),
            steady=bool(self._table("steady")[k]),
            own=row("own_unknown_value", "own_unknown"),
            own_storage=row("own_storage", "own_unknown"),
            outside=besides("outside"),
            link_flow=besides("link_flow"),
            state=besides("state"),
            face_flow=row("face_flow", "face"),
            term_flow=tuple(row(f"{kind}_flow", f"{kind}_entry") for kind in self._entries),
            period=int(self._table("period")[k]),
            order=int(self._table("order")[k]),
            joins=int(self._table("joined_steps")[k]),
            **{field: row(name, "cell") for name, (field, *_) in _OF_CELLS.items()},
        )

    def append(self, record: FlowStep) -> None:
        """Write one more record; it counts once it is there as a whole."""
        file, k = self._open(), len(self)
        self._resize(k + 1)
        try:
            self._table("time")[k] = record.end
            self._table("time_bounds")[k] = (record.start, record.end)
            flows = zip((f"{kind}_flow" for kind in self._entries), record.term_flow, strict=True)
            cells = ((name, getattr(record, field)) for name, (field, *_) in _OF_CELLS.items())
            besides = [
                (f"{kind}_{what}", np.ravel(values))
                for what in ("outside", "link_flow", "state")
                for kind, values in zip(self._entries, getattr(record, what), strict=True)
            ]
            for name, values in (
                ("own_unknown_value", record.own),
                ("own_storage", record.own_storage),
                *besides,
                ("face_flow", record.face_flow),
                *cells,
                *flows,
            ):
                if len(values):
                    self._table(name)[k] = values
            counts = (record.steady, record.period, record.order, record.joins)
            for name, value in zip(_OF_STEPS, counts, strict=True):
                self._table(name)[k] = int(value)
        except BaseException:
            self._resize(k)
            raise
        finally:
            file.flush()

    def close(self) -> None:
        """Let go of the file; it is opened again when asked."""
        if self._file is not None:
            self._tables.clear()
            self._file.close()
            self._file = None

    def __enter__(self) -> StepFile:
        return self

    def __exit__(self, *problem: object) -> None:
        self.close()


def _plain(kind: str) -> str:
    return kind.replace(" ", "_").replace("-", "_")
