"""The records of a flow run in a file: written as they are made, read one at a time, also while they are written."""

from __future__ import annotations

import json
import os
import re
import time
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from typing import Any, overload

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.files.reading import reading_as
from inkhorn.files.step_layout import FORMAT, LETTERS, NEWTON, OF_CELLS, OF_STEPS, StepLayout, lay_out, packed
from inkhorn.files.whole import free_beside
from inkhorn.flow import FlowStart, FlowStep, NewtonRow, SolverReport
from inkhorn.flow.record import HEADS_TO_BEGIN_WITH
from inkhorn.model import Model, differences, fingerprint

__all__ = ["StepFile", "StepReader", "records_kept"]

# files kept until Python ends, as h5py would try to close them, and complain, when they go
_REFUSED: list[Any] = []
_PATIENCE = 2.0  # s, for a file that is just being begun


class _StoredStep(FlowStep):
    """A record in a file, whose arrays are read when they are first asked for."""

    _from: tuple[StepReader, int]

    @classmethod
    def of(cls, reader: StepReader, number: int, **numbers: Any) -> _StoredStep:
        record = cls.__new__(cls)
        for name, value in {"_from": (reader, number), **numbers}.items():
            object.__setattr__(record, name, value)
        return record

    def __getattr__(self, name: str) -> Any:
        if name.startswith("_") or name not in FlowStep.__dataclass_fields__:
            raise AttributeError(name)
        reader, number = self._from
        value = reader.part(number, name)
        object.__setattr__(self, name, value)
        return value


class StepReader(Sequence[FlowStep]):
    """Records of flow in a NetCDF file (CF conventions), read one by one as they are asked for.

    Any number of processes may read a file, also while another writes it: its length then grows. Nothing is ever
    written, so that a disk that cannot be written on will do.

    Parameters
    ----------
    path : Path
        As `StepFile` wrote it.
    model : Model
        Whose cells, faces and terms the records are of.
    any_version : bool
        Take records of a model that differs in its numbers, but not in its sizes: `differs` tells in what.

    Attributes
    ----------
    differs : list of str
        In what the model given is not that of the records.

    Raises
    ------
    InputError
        If the file is missing or of another kind, of another model, or of a later format.
    """

    def __init__(self, path: Path | str, model: Model, *, any_version: bool = False) -> None:
        self.path, self.model = Path(path), model
        self.differs: list[str] = []
        self._writes = self._grows = self._ended = False
        self._layout = StepLayout(model)
        self._file: Any = None
        self._tables: dict[str, Any] = {}
        self._numbers: dict[str, NDArray[Any]] = {}  # one of each record, those known so far
        self._newton: tuple[NewtonRow, ...] = ()
        self._made_of: dict[str, str] | None = None
        self._check(any_version)

    # --- what is there ---------------------------------------------------------------------------

    def _open(self) -> Any:
        """The file; its tables are handled one by one, which is far quicker than by their common dimensions."""
        if self._file is None:
            self._file = _opened(self.path)
            self._grows = bool(self._file.swmr_mode)
        return self._file

    def _table(self, name: str) -> Any:
        """A table of the file, looked up once."""
        if name not in self._tables:
            self._tables[name] = self._open()[name]
        return self._tables[name]

    def _read(self, name: str, rows: Any = slice(None), *, until: int = 0) -> NDArray[Any]:
        """Read rows of a table, at least up to one; again if it was just being written by another process."""
        patience = time.monotonic() + _PATIENCE
        while True:
            try:
                table = self._table(name)
                if not self._writes and (isinstance(rows, slice) or table.shape[0] < until):
                    table.refresh()
                if table.shape[0] >= until:
                    values = np.asarray(table[rows])
                    if self._grows and not self._writes:
                        self.close()  # what h5py keeps of it grows old, for all who have it open here
                    return values
                problem = f"{name} ends too early"
            except (OSError, RuntimeError, KeyError) as found:
                problem = str(found)
            if self._writes or time.monotonic() > patience:
                raise InputError(f'cannot read "{self.path}": {problem}. Expected the flow.nc of a run.')
            self.close()
            time.sleep(0.01)

    def _check(self, any_version: bool) -> None:
        with reading_as(self.path, "the flow.nc of a run"):
            file = self._open()
            number = int(np.ravel(file.attrs.get("format_number", 0))[0])
            if number not in (0, FORMAT):
                raise InputError(
                    f'"{self.path}" is of format {number}; this version reads format {FORMAT}. Read it with the '
                    "version that wrote it, or run it again."
                )
            if not number or "joined_steps" not in file:
                raise InputError(
                    f'"{self.path}" does not hold the steps of a run. Expected the flow.nc of one.'
                )
            alike = all(
                name in file and file[name].shape[0] == max(size, 1)
                for name, size in self._layout.sizes.items()
            )
            found = differences(self.made_of, fingerprint(self.model))
            self.differs = [d for d in found if d != f"{HEADS_TO_BEGIN_WITH} (gone)"]
            if not alike or (self.differs and not any_version):
                what = "; ".join(self.differs) or "numbers of cells, faces or entries"
                raise InputError(
                    f'"{self.path}" holds records of another model; what differs: {what}. Go on with the model they were '
                    "made with, or begin anew."
                )

    def _known(self, name: str) -> NDArray[Any]:
        """A number of each record."""
        len(self)
        return self._numbers[name]

    def __len__(self) -> int:
        if self._ended:
            return len(self._numbers["joined_steps"])
        joins = self._read("joined_steps")
        ended = not (self._grows or self._writes)
        count = int(np.argmin(joins > 0)) if not (joins > 0).all() else len(joins)
        if count != len(self._numbers.get("joined_steps", ())):
            for name in (*OF_STEPS, "time_bounds"):
                self._numbers[name] = self._read(name, slice(count), until=count)
        self._ended = ended and "joined_steps" in self._numbers
        return count

    @property
    def reached(self) -> float:
        """The end of the last record [days since the start]; 0 without one."""
        return float(self._known("time_bounds")[-1, 1]) if len(self) else 0.0

    @property
    def made_of(self) -> dict[str, str]:
        """The fingerprint of the model that the records are of."""
        if self._made_of is None:
            self._made_of = json.loads(self._read("made_of").tobytes())
        return self._made_of

    @property
    def start(self) -> FlowStart | None:
        """What the run was begun with."""
        sizes = self._layout.sizes
        states = self._states("initial_state", self._read)
        return FlowStart(
            self._read("initial_head"),
            self._read("initial_extra")[: sizes["extra_unknown"]],
            states,
            self.made_of,
        )

    # --- records ---------------------------------------------------------------------------------

    @overload
    def __getitem__(self, index: int) -> FlowStep: ...
    @overload
    def __getitem__(self, index: slice) -> list[FlowStep]: ...
    def __getitem__(self, index: int | slice) -> FlowStep | list[FlowStep]:
        count = len(self)
        if isinstance(index, slice):
            return [self._record(k) for k in range(*index.indices(count))]
        k = index + count if index < 0 else index
        if not 0 <= k < count:
            raise IndexError(f"there are {count} records, counted from 0; asked for {index}")
        return self._record(k)

    def __iter__(self) -> Iterator[FlowStep]:
        for k in range(len(self)):
            yield self._record(k)

    def _record(self, k: int) -> FlowStep:
        numbers = self._numbers
        return _StoredStep.of(
            self,
            k,
            begin=float(numbers["time_bounds"][k, 0]),
            end=float(numbers["time_bounds"][k, 1]),
            steady=bool(numbers["steady"][k]),
            period=int(numbers["period"][k]),
            order=int(numbers["order"][k]),
            joins=int(numbers["joined_steps"][k]),
            next_step=float(numbers["next_step"][k]),
            made_of=self.made_of,
            report=self._report(k),
        )

    def _row(self, k: int, name: str) -> NDArray[np.float64]:
        size = self._layout.sizes[self._layout.over[name]]
        if size == 0:  # nothing of it is ever written
            return np.empty(0)
        return np.asarray(self._read(name, k, until=k + 1)[:size], dtype=np.float64)

    def _states(self, what: str, read: Any) -> tuple[NDArray[np.float64], ...]:
        shapes, besides = self._layout.shapes, self._layout.besides
        of = what.removeprefix("initial_")
        return tuple(
            np.asarray(read(f"{kind}_{what}")).reshape(shapes[f"{kind}_{of}"])
            if f"{kind}_{of}" in besides
            else np.zeros(shapes[f"{kind}_{of}"])
            for kind in self._layout.kinds
        )

    def part(self, k: int, name: str) -> Any:
        """Read one array of a record, or one of each term, by its name in `FlowStep`."""
        of_cells = {field: table for table, (field, *_) in OF_CELLS.items()}
        if name == "slope":
            return self._row(k, "head_slope") if self._numbers["slope_kept"][k] else np.empty(0)
        if name in of_cells:
            return self._row(k, of_cells[name])
        if name == "term_flow":
            return tuple(self._row(k, f"{kind}_flow") for kind in self._layout.kinds)
        if name in ("outside", "link_flow", "state"):
            return self._states(name, lambda table: self._row(k, table))
        return self._row(k, {"extra_unknowns": "extra_unknown_value"}.get(name, name))

    def _report(self, k: int) -> SolverReport:
        numbers = self._numbers
        begin = int(numbers["newton_end"][k - 1]) if k else 0
        end = int(numbers["newton_end"][k])
        if len(self._newton) < end:
            self._newton = self._newton_rows(int(numbers["newton_end"][-1]))
        rows = self._newton[begin:end]
        return SolverReport(
            rows,
            float(numbers["closure"][k]),
            int(numbers["unknowns"][k]),
            float(numbers["closing_error"][k]),
        )

    def _newton_rows(self, count: int) -> tuple[NewtonRow, ...]:
        """So many Newton steps, of all records there are."""
        columns = {name: self._read(f"newton_{name}", slice(count), until=count) for name in NEWTON}
        letters = np.ascontiguousarray(self._read("newton_place", slice(count), until=count))
        places: Any = letters.view(f"S{LETTERS}").ravel() if count else ()
        numbers = {name: c.tolist() for name, c in columns.items()}
        return tuple(
            NewtonRow(
                place=bytes(places[k]).decode(errors="ignore"), **{name: c[k] for name, c in numbers.items()}
            )
            for k in range(count)
        )

    def close(self) -> None:
        """Let go of the file; it is opened again when asked."""
        if self._file is not None:
            self._tables.clear()
            file, self._file = self._file, None
            file.close()

    def __enter__(self) -> Any:
        return self

    def __exit__(self, *problem: object) -> None:
        self.close()

    def __getstate__(self) -> dict[str, Any]:
        return {**self.__dict__, "_file": None, "_tables": {}, "_writes": False}


class StepFile(StepReader):
    """Records of flow in a NetCDF file, as a sequence that `solve_flow` adds to.

    Each record is on disk once it is added, so that memory does not grow with their number, and a run that was
    stopped, or killed, can go on from the last of them: give the file to `solve_flow` again. What is there is
    written anew beside it when the first is added, and takes its place.

    Parameters
    ----------
    path : Path
        A file that is there is read and added to; else it is begun.
    model : Model
        Whose cells, faces and terms the records are of.

    Raises
    ------
    InputError
        If the file is of another kind, of another model (naming what differs), or of a later format.
    """

    def __init__(self, path: Path | str, model: Model) -> None:
        self._given_up = False
        super().__init__(path, model)

    def _check(self, any_version: bool) -> None:
        if self.path.exists():
            super()._check(any_version)

    def __len__(self) -> int:
        if self._given_up:
            return len(self._numbers.get("joined_steps", ()))
        return super().__len__() if self._file is not None or self.path.exists() else 0

    @property
    def start(self) -> FlowStart | None:
        """What the run was begun with; None before it is."""
        return super().start if self._file is not None or self.path.exists() else None

    def begin(self, start: FlowStart) -> None:
        """Begin the file, as yet without a record."""
        with self._beside(start):
            pass

    @contextmanager
    def _beside(self, start: FlowStart) -> Iterator[None]:
        """Lay the file out anew, to be filled; it takes its place once others may read it while it grows."""
        import h5py

        beside = free_beside(self.path)
        try:
            with _refusals_of(self.path):
                file = h5py.File(beside, "w", libver="latest", locking=False)
                lay_out(file, self._layout, self.model, start)
                file.flush()
            self.close()
            self._write_to(file)
            yield
            if os.name == "nt":  # an open file cannot be renamed there
                self.close()
                os.replace(beside, self.path)
                self._write_to(h5py.File(self.path, "r+", libver="latest", locking=False))
            else:
                os.replace(beside, self.path)
        except BaseException:
            self.close()
            raise
        finally:
            beside.unlink(missing_ok=True)

    def _write_to(self, file: Any) -> None:
        file.swmr_mode = True
        self._file, self._writes, self._ended, self._made_of = file, True, False, None
        self._numbers.clear()
        self._newton = ()

    def append(self, record: FlowStep) -> None:
        """Write one more record; it counts once it is there as a whole.

        Without `begin` what the run was begun with is not known, NaN.
        """
        if not self._writes:
            unknown = FlowStart(
                np.full_like(record.heads, np.nan), np.full_like(record.extra_unknowns, np.nan),
                tuple(np.full_like(s, np.nan) for s in record.state), record.made_of,
            )  # fmt: skip
            self._written_anew(unknown)
        try:
            with _refusals_of(self.path):
                self._add(record)
        except OSError:
            self._give_up()
            raise

    def _give_up(self) -> None:
        """Leave a file that the disk refuses as it is: what is flushed can be read; to close it would fail."""
        _REFUSED.append((self._file, self._tables))
        self._file, self._tables, self._writes, self._given_up = None, {}, False, True

    def _add(self, record: FlowStep) -> None:
        k = len(self)
        rows = record.report.rows
        begin = int(self._numbers["newton_end"][-1]) if k else 0
        for name in NEWTON:
            self._put(f"newton_{name}", begin, [getattr(row, name) for row in rows])
        letters = np.array([row.place.encode()[:LETTERS] for row in rows], dtype=f"S{LETTERS}")
        self._put("newton_place", begin, letters.view("S1").reshape(len(rows), LETTERS))
        self._put("time", k, [record.end])
        self._put("time_bounds", k, [(record.begin, record.end)])
        kinds = self._layout.kinds
        values = {name: getattr(record, field) for name, (field, *_) in OF_CELLS.items()}
        values |= {
            "head_slope": record.slope,
            "extra_unknown_value": record.extra_unknowns,
            "extra_storage": record.extra_storage,
        }
        values["face_flow"] = record.face_flow
        values |= {f"{kind}_flow": q for kind, q in zip(kinds, record.term_flow, strict=True)}
        for what in ("outside", "link_flow", "state"):
            values |= {f"{kind}_{what}": q for kind, q in zip(kinds, getattr(record, what), strict=True)}
        self._put_packed(k, {name: np.ravel(v) for name, v in values.items() if np.size(v)})
        report = record.report
        numbers = (
            record.steady, record.period, record.order, report.closure, report.unknowns,
            report.closing_error_percent, record.next_step, len(record.slope) > 0, begin + len(rows), record.joins,
        )  # fmt: skip
        for name, value in zip(OF_STEPS, numbers, strict=True):
            if name == "joined_steps":  # all else is on disk before the record counts
                self._file.flush()
            self._put(name, k, [value])
        self._file.flush()

    def _put(self, name: str, at: int, values: Any) -> None:
        """Write some rows from a place on, where an earlier attempt may have left others."""
        table = self._table(name)
        table.resize(at + len(values), axis=0)
        if len(values):
            table[at:] = values

    def _put_packed(self, k: int, values: dict[str, NDArray[np.float64]]) -> None:
        """Write a row of each of these tables, packed by as many processors as there are."""
        places, chunks = [], []
        for name, of_record in values.items():
            table = self._table(name)
            table.resize(k + 1, axis=0)
            size = table.chunks[1]
            for begin in range(0, len(of_record), size):
                chunk = np.zeros(size)
                part = of_record[begin : begin + size]
                chunk[: len(part)] = part
                places.append((table, (k, begin)))
                chunks.append(chunk)
        with ThreadPoolExecutor() as pool:
            for (table, at), data in zip(places, pool.map(packed, chunks), strict=True):
                table.id.write_direct_chunk(at, data)

    def _written_anew(self, unknown: FlowStart) -> None:
        """Begin the file anew with the records of the one that is there, whose writer may have been killed."""
        if not self.path.exists():
            self.begin(unknown)
            return
        before = StepReader(self.path, self.model)
        with self._beside(before.start or unknown):
            for record in before:
                self.append(record)
        before.close()

    def close(self) -> None:
        """Let go of the file; it is opened again when asked."""
        with _refusals_of(self.path):
            super().close()
        self._writes = False


@contextmanager
def _refusals_of(path: Path) -> Iterator[None]:
    """Turn what h5py raises of a disk that refuses, as a full one, into the error of the system that it is."""
    try:
        yield
    except (OSError, RuntimeError) as problem:
        number = re.search(r"errno = (\d+)", str(problem))
        if number is None:
            raise
        raise OSError(int(number[1]), os.strerror(int(number[1])), str(path)) from None


def _opened(path: Path) -> Any:
    """Open a file to read, which another process may be writing."""
    import h5py

    until = time.monotonic() + _PATIENCE
    while True:
        for grows in (False, True):
            try:
                return h5py.File(path, "r", libver="latest", swmr=grows, locking=False)
            except OSError as problem:
                said = problem
        if not path.is_file() or time.monotonic() > until or "SWMR" not in str(said):
            raise InputError(f'cannot read "{path}": {said}. Expected the flow.nc of a run.') from None
        time.sleep(0.05)


def refused() -> bool:
    """Whether a disk has refused records, as a full one, so that their file cannot be closed."""
    return bool(_REFUSED)


def records_kept(path: Path) -> tuple[int, float]:
    """Return how many records a file holds, and up to which day; none where it is missing or cannot be read."""
    try:
        with _opened(path) as file:
            joins = np.asarray(file["joined_steps"][:])
            count = len(joins) if (joins > 0).all() else int(np.argmin(joins > 0))
            return count, float(file["time_bounds"][count - 1, 1]) if count else 0.0
    except (InputError, KeyError, OSError):
        return 0, 0.0
