"""Concentrations in time as NetCDF (CF and UGRID conventions), written as they are made and read one by one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.files.layout import CellLayout
from inkhorn.files.reading import reading_as
from inkhorn.flow import FlowResult
from inkhorn.site import Species
from inkhorn.transport import STORES, PlumeRecord, TransportResult

__all__ = ["PlumeFile", "read_concentration", "write_concentration"]

Array = NDArray[np.float64]

_PACKED: dict[str, Any] = {"compression": "gzip", "compression_opts": 4, "shuffle": True}
_OF_CELLS = {  # of every record
    "pore_water": ("water", "m3", "water in the pores"),
    "mass_held_back": ("retained", "g", "mass held back above the water table"),
    "mass_immobile": ("immobile", "g", "mass in water that does not move"),
}
_OF_RUN = {  # of the last record alone
    "first_above": ("first_above", "days", "when the limit was first passed, infinite for never"),
    "last_above": ("last_above", "days", "when it was last fallen below again, infinite where it was not"),
}
_CACHE = 2.5e8  # bytes of records that are kept once they are read
_TAKEN = {
    "time", "layer", "x", "y", "plan", "mesh", "place", "store", "step_length", "stored", "mass_gained", "mass_lost",
    "mass_term", "mass_feature", "mass_key", "watch_time", "watch_end", "watched", "face", "outer_face", "mass_flow",
    "mass_inflow", "conduit_water", "conduit_value", *_OF_CELLS, *_OF_RUN,
}  # fmt: skip
_FLOWS = {
    "mass_flow": ("across", "face", "g d-1", "mean flow of mass since the time before"),
    "mass_inflow": ("rim", "outer_face", "g d-1", "mean flow of mass since the time before"),
    "conduit_water": ("conduits", "conduit_value", "1", "parcels of water in conduits, for runs that go on"),
}


class PlumeFile:
    """Records of a species in a file, as a list of `PlumeRecord`.

    Parameters
    ----------
    path : Path
        The file.
    flow : FlowResult
        What carries it.
    species : Species
        Which.
    made_of : str
        What says of what it is made, for a run that goes on.
    """

    def __init__(self, path: Path, flow: FlowResult, species: Species, *, made_of: str = "") -> None:
        self.path, self.flow, self.species, self.made_of = path, flow, species, made_of
        self.layout = CellLayout(flow.model.grid)
        odd = species.name in _TAKEN or "/" in species.name or not species.name.strip()
        self.named = "concentration" if odd else species.name  # of the variable
        self.keys: tuple[tuple[str, str], ...] = ()
        self.places: tuple[str, ...] = ()
        self.start: np.datetime64 | None = None
        self._count = 0
        self._kept: dict[int, PlumeRecord] = {}  # read last

    @classmethod
    def opened(cls, path: Path, flow: FlowResult, species: Species) -> PlumeFile:
        """Return a file that is there.

        Raises
        ------
        InputError
            If it is missing, is none, or of another grid or species.
        """
        made = cls(path, flow, species)
        with reading_as(path, "what `write_concentration` wrote"), made._file("r") as file:
            needed = {made.named, "mass_gained", "watched", "mass_term", "time"}
            fits = needed <= set(file.variables) and file[made.named].shape[1:] == made.layout.shape
            if not fits or _text(file.attrs.get("species", "")) != species.name:
                raise InputError(
                    f'"{path}" holds no {species.name} of this grid. Expected what `write_concentration` wrote.'
                )
            made.keys = tuple(zip(_names(file["mass_term"]), _names(file["mass_feature"]), strict=True))
            made.places = tuple(_names(file["place"]))
            since = _text(file["time"].attrs["units"]).partition(" since ")[2]
            made.start = np.datetime64(since.replace(" ", "T"), "s") if since else None
            made.made_of = _text(file.attrs.get("made_of", ""))
            made._count = int(file.attrs["records"])
        return made

    def _plain(self, mode: str) -> Any:
        """The file as HDF5, which is read and written much faster than by dimensions."""
        import h5py

        return h5py.File(self.path, mode)

    def _file(self, mode: str) -> Any:
        import h5netcdf

        return h5netcdf.File(self.path, mode, decode_vlen_strings=True)

    def begin(
        self, keys: Sequence[tuple[str, str]], places: Sequence[str], start: np.datetime64 | None
    ) -> None:
        """Be told what brings mass in or takes it out, where it is watched, and the date of day 0, before any record."""
        self.keys, self.places, self.start = tuple(keys), tuple(places), start

    def __len__(self) -> int:
        return self._count

    def __iter__(self) -> Iterator[PlumeRecord]:
        return (self[k] for k in range(self._count))

    def append(self, record: PlumeRecord, /) -> None:
        """Add a record after the last."""
        if self._count == 0:
            self._lay_out(record)
        k = self._count
        with self._plain("r+") as file:
            for name, axis in self._growing(file):
                file[name].resize(k + 1, axis)
            file["time"][k], file["step_length"][k] = record.time, record.step_length
            file[self.named][k] = self.layout(record.concentration)
            file["stored"][k] = record.stored
            file["mass_gained"][k], file["mass_lost"][k] = record.gained, record.lost
            for name, (own, _, _) in _OF_CELLS.items():
                if name in file:
                    file[name][k] = self.layout(getattr(record, own))
            for name, (own, _, _) in _OF_RUN.items():
                if name in file:
                    file[name][...] = self.layout(getattr(record, own))
            for name, (own, *_) in _FLOWS.items():
                if name in file:
                    file[name][k] = getattr(record, own)
            seen, more = len(file["watch_time"]), len(record.watch_times)
            for name in ("watch_time", "watched"):
                file[name].resize(seen + more, 0)
            if more:
                file["watch_time"][seen:] = record.watch_times
                file["watched"][seen:, : len(self.places)] = record.watched
            file["watch_end"][k] = seen + more
            file.attrs["records"] = k + 1
        self._count = k + 1

    def _growing(self, file: Any) -> list[tuple[str, int]]:
        """Tables that have a row for each record."""
        named = (
            "time", "step_length", self.named, "stored", "mass_gained", "mass_lost", "watch_end",
            *_OF_CELLS, *_FLOWS,
        )  # fmt: skip
        return [(name, 0) for name in named if name in file]

    def _lay_out(self, record: PlumeRecord) -> None:
        import h5py

        layout = self.layout
        base = layout.base
        conventions = "CF-1.11" if layout.even else "CF-1.11 UGRID-1.0"
        base.attrs = {
            "Conventions": conventions, "title": self.flow.model.name, "source": "Inkhorn, transport",
            "species": self.species.name, "made_of": self.made_of, "records": 0,
        }  # fmt: skip
        base.to_netcdf(self.path, engine="h5netcdf")
        start = self.start
        clock = "days" if start is None else f"days since {str(start).replace('T', ' ')}"
        with self._file("a") as file:
            sizes = {
                "time": None, "watch_time": None, "mass_key": max(len(self.keys), 1), "store": len(STORES),
                "place": max(len(self.places), 1), "face": max(len(record.across), 1),
                "outer_face": max(len(record.rim), 1), "conduit_value": max(len(record.conduits), 1),
            }  # fmt: skip
            for name, size in sizes.items():
                file.dimensions[name] = size

            def made(name: str, over: tuple[str, ...], kind: str = "f8", **said: str) -> None:
                chunks = tuple(
                    256
                    if d in ("time", "watch_time") and len(over) == 1
                    else (1 if d == "time" else 64 if d == "watch_time" else file.dimensions[d].size)
                    for d in over
                )
                growing = any(d in ("time", "watch_time") for d in over)
                options = {"chunks": chunks} if growing else {}
                variable = file.create_variable(
                    name, over, kind, **options, **(_PACKED if len(over) > 1 else {})
                )
                for key, value in said.items():
                    variable.attrs[key] = value

            made("time", ("time",), units=clock, long_name="time")
            made("step_length", ("time",), units="days", long_name="length of the last step")
            made(
                self.named, ("time", *layout.dims), units="g m-3",
                long_name=f"concentration of {self.species.name}", **layout.about,
            )  # fmt: skip
            for name, (own, units, words) in _OF_CELLS.items():
                if len(getattr(record, own)):
                    made(name, ("time", *layout.dims), units=units, long_name=words, **layout.about)
            for name, (own, units, words) in _OF_RUN.items():
                if len(getattr(record, own)):
                    made(name, tuple(layout.dims), units=units, long_name=words, **layout.about)
            for name, (own, over, units, words) in _FLOWS.items():
                if len(getattr(record, own)):
                    made(name, ("time", over), units=units, long_name=words)
            made("stored", ("time", "store"), units="g", long_name=f"mass: {'; '.join(STORES)}")
            made(
                "mass_gained",
                ("time", "mass_key"),
                units="g",
                long_name="mass brought in since the beginning",
            )
            made("mass_lost", ("time", "mass_key"), units="g", long_name="mass taken out since the beginning")
            made("watch_time", ("watch_time",), units=clock, long_name="time of every step")
            made("watch_end", ("time",), "i8", long_name="steps up to this time")
            made(
                "watched",
                ("watch_time", "place"),
                units="g m-3",
                long_name="concentration in wells and bores",
            )
            for name, along, texts in (
                ("mass_term", "mass_key", [kind for kind, _ in self.keys]),
                ("mass_feature", "mass_key", [feature for _, feature in self.keys]),
                ("place", "place", list(self.places)),
            ):
                text = file.create_variable(name, (along,), h5py.string_dtype())
                if texts:
                    text[:] = np.array(texts, dtype=object)

    def __getitem__(self, index: int, /) -> PlumeRecord:
        k = range(self._count)[index]
        if k not in self._kept:
            most = max(int(_CACHE / (50.0 * max(self.flow.model.grid.n_cells, 1))), 1)
            while len(self._kept) >= most:
                del self._kept[next(iter(self._kept))]
            self._kept[k] = self._read(k)
        return self._kept[k]

    def _read(self, k: int) -> PlumeRecord:
        with self._plain("r") as file:

            def of(name: str) -> Array:
                return np.asarray(file[name][k], dtype=np.float64) if name in file else np.empty(0)

            def cells(name: str, *, last: bool = False) -> Array:
                if name not in file:
                    return np.empty(0)
                block = file[name][...] if last else file[name][k]
                return self.layout.read(np.asarray(block, dtype=np.float64))

            first, until = int(file["watch_end"][k - 1]) if k else 0, int(file["watch_end"][k])
            return PlumeRecord(
                time=float(file["time"][k]),
                concentration=cells(self.named),
                stored=of("stored"),
                gained=of("mass_gained")[: len(self.keys)],
                lost=of("mass_lost")[: len(self.keys)],
                **{own: cells(name) for name, (own, _, _) in _OF_CELLS.items()},
                **{own: cells(name, last=True) for name, (own, _, _) in _OF_RUN.items()},
                **{own: of(name) for name, (own, *_) in _FLOWS.items()},
                step_length=float(file["step_length"][k]),
                watch_times=np.asarray(file["watch_time"][first:until], dtype=np.float64),
                watched=np.asarray(file["watched"][first:until], dtype=np.float64)[:, : len(self.places)],
            )

    def result(self, count: int | None = None) -> TransportResult:
        """Return the result that the records make, or the first of them."""
        records = self if count is None else [self[k] for k in range(count)]
        return TransportResult(self.flow, self.species, records, self.keys, self.places, self.start)


def _text(value: Any) -> str:
    return value.decode() if isinstance(value, bytes) else str(value)


def _names(variable: Any) -> list[str]:
    return [_text(v) for v in variable[...]]


def write_concentration(plume: TransportResult, path: Path) -> None:
    """Write concentrations in time as NetCDF (CF conventions), laid out as heads are by `write_flow`."""
    from inkhorn.files.whole import written_whole

    with written_whole(path) as beside:
        file = PlumeFile(beside, plume.flow, plume.species)
        file.begin(plume.keys, plume.places, plume.start)
        for record in plume.records:
            file.append(record)


def read_concentration(path: Path, flow: FlowResult, species: Species) -> TransportResult:
    """Read concentrations that `write_concentration` or a run wrote, on the flow that carried them.

    Raises
    ------
    InputError
        If the file is missing, is none, or of another grid or species.
    """
    return PlumeFile.opened(path, flow, species).result()
