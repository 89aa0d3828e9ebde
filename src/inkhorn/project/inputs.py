"""The files of a project as they were read: their bytes are kept, to stand beside the results made of them."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from inkhorn.errors import InputError
from inkhorn.files.names import file_name
from inkhorn.files.reading import MOST_BYTES

__all__ = ["Inputs"]

_OF_SHAPEFILES = (".shx", ".dbf", ".prj", ".cpg", ".qix", ".sbn", ".sbx", ".shp.xml")
_OF_RASTERS = (".prj", ".tfw", ".tifw", ".pgw", ".pngw", ".jgw", ".jpgw", ".wld")
_RASTERS = (".tif", ".tiff", ".asc", ".png", ".jpg", ".jpeg")
_AS_RUN, _DIGESTS = "inputs.json", "sha256.txt"


def _companions(path: Path) -> Iterator[Path]:
    """Files that are read along with one, whether they are there or not."""
    ending = path.suffix.lower()
    stem = path.with_suffix("")
    endings = _OF_SHAPEFILES if ending == ".shp" else _OF_RASTERS if ending in _RASTERS else ()
    for other in endings:
        yield Path(f"{stem}{other}")
        yield Path(f"{stem}{other.upper()}")
    yield Path(f"{path}.aux.xml")
    if ending == ".gpkg":  # what a GIS that has it open holds back
        yield Path(f"{path}-wal")


class Inputs:
    """Finds the files that a project file names, and keeps the bytes of each as they were when it was read.

    In the folder of inputs that a run keeps, files that came from elsewhere are found by what they were called.

    Parameters
    ----------
    project : Path
        The project file, from whose folder the others are seen.

    Attributes
    ----------
    as_run : dict
        Where the project file is one that a run kept: the ``variant`` and the ``grid`` of that run.
    """

    def __init__(self, project: Path) -> None:
        self.project, self.folder = project, project.parent
        self.beyond: Inputs | None = None  # those of a region's run, where files are looked for next
        self._bytes: dict[Path, bytes] = {}
        self._named: dict[str, Path] = {}  # what those are called that the folder of inputs would not lead to
        self.as_run: dict[str, Any] = {}
        self._elsewhere: dict[str, str] = {}
        try:
            kept = json.loads((self.folder / _AS_RUN).read_text(encoding="utf-8"))
        except (OSError, ValueError):
            return
        if isinstance(kept, dict) and kept.get("project") == project.name:
            self.as_run = {
                k: kept.get(k) for k in ("variant", "grid", "region") if k in kept or k != "region"
            }
            self._elsewhere = kept.get("elsewhere", {})

    def path(self, named: str | Path) -> Path:
        """Where a file stands that the project file names so."""
        own = self.folder / self._elsewhere.get(str(named), named)
        if self.beyond is not None and not own.exists():
            other = self.beyond.path(named)
            return other if other.exists() else own
        return own

    @property
    def files(self) -> tuple[Path, ...]:
        """Every file that was read, the project file first."""
        return tuple(self._bytes)

    @contextmanager
    def reading(self, named: str | Path) -> Iterator[Path]:
        """Give a file to read, and keep its bytes and those of the files that belong to it.

        Raises
        ------
        InputError
            If it was written while it was read.
        """
        path = self.path(named)
        there = [p for p in (path, *_companions(path)) if p.is_file()]
        parts = [
            p for p in there if p.stat().st_size <= MOST_BYTES
        ]  # larger ones are refused by their readers
        for part in parts:
            if part not in self._bytes:
                try:
                    self._bytes[part] = part.read_bytes()
                except OSError as problem:
                    raise InputError(f'cannot read "{part}": {problem.strerror}.') from None
        if parts and (not self._inside(path) or Path(named).is_absolute() or ".." in Path(named).parts):
            self._named[str(named)] = path
        yield path
        for part in parts:
            if part.read_bytes() != self._bytes[part]:
                raise InputError(
                    f'"{part}" was written while it was read, so that what was read is neither the one nor the other. '
                    "Let it rest, and run again."
                )

    def _inside(self, path: Path) -> bool:
        home = self.folder.resolve()
        return path.resolve().is_relative_to(home)

    def _goals(self) -> tuple[dict[Path, str], dict[str, str]]:
        """Where each file is kept, and how those from elsewhere are found there."""
        home = self.folder.resolve()
        goals: dict[Path, str] = {}
        for path in self._bytes:
            if self._inside(path):
                goals[path] = path.resolve().relative_to(home).as_posix()
        taken: set[str] = set()
        elsewhere: dict[str, str] = {}
        for named, path in self._named.items():
            if path not in goals:
                stem = file_name(path.stem, taken)
                taken.add(stem.lower())
                for part in (path, *_companions(path)):
                    if part in self._bytes:
                        goals[part] = f"elsewhere/{stem}{part.name[len(path.stem) :]}"
            elsewhere[named] = goals[path]
        return goals, elsewhere | {k: v for k, v in self._elsewhere.items() if k not in elsewhere}

    def digests(self) -> dict[str, str]:
        """Return the SHA-256 of every file as it was read, by the name it is kept under."""
        return {
            name: hashlib.sha256(self._bytes[path]).hexdigest() for path, name in self._goals()[0].items()
        }

    def write(self, folder: Path, *, variant: str | None, grid: str | None) -> None:
        """Write all files as they were read into a folder, from which the same run can be made again."""
        goals, elsewhere = self._goals()
        for path, name in goals.items():
            goal = folder / name
            goal.parent.mkdir(parents=True, exist_ok=True)
            goal.write_bytes(self._bytes[path])
        digests = [f"{sha}  {name}\n" for name, sha in self.digests().items()]
        as_run = {"project": self.project.name, "variant": variant, "grid": grid, "elsewhere": elsewhere}
        if self.beyond is not None:
            as_run["region"] = str(self.beyond.folder.parent.resolve())
        (folder / _AS_RUN).write_text(json.dumps(as_run, indent=1, ensure_ascii=False), encoding="utf-8")
        (folder / _DIGESTS).write_text("".join(digests), encoding="utf-8")
