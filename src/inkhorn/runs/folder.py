"""The folder of a run: what its files are called, and what is known of it."""

from __future__ import annotations

import json
import shutil
import time
from collections.abc import Sequence
from importlib.metadata import version
from pathlib import Path
from typing import TYPE_CHECKING, Any

from inkhorn.errors import InputError
from inkhorn.files import file_name, written_whole
from inkhorn.runs.run_files import FILES

if TYPE_CHECKING:
    from inkhorn.project import Project

__all__ = ["FORMAT", "RunFolder", "describe"]

FORMAT = 2


class RunFolder:
    """A run folder: names of its files, and what is known of the run.

    Attributes
    ----------
    path : Path
        Where it is.
    about : dict
        What was run, and what is done.
    """

    def __init__(self, path: Path, about: dict[str, Any] | None = None) -> None:
        self.path, self.about = path, about or {}
        self.used: list[str] = []  # files named since `making` began
        self.worth = False  # whether anything was done that an earlier folder does not hold

    @classmethod
    def opened(cls, path: Path) -> RunFolder:
        """Return a run folder that is there.

        Raises
        ------
        InputError
            If it is none, or of a later format.
        """
        file = path / FILES["about"].name
        try:
            about = json.loads(file.read_text(encoding="utf-8"))
            number = int(about.get("format", 0))
        except (OSError, ValueError, AttributeError, TypeError):
            raise InputError(
                f'"{path}" is no run folder: it has no {file.name} that can be read. Expected a folder that '
                "`inkhorn run` or `inkhorn fit` made."
            ) from None
        if number < 1:
            raise InputError(f'"{path}" was made before run folders had a format. Run it again.')
        if number != FORMAT:
            raise InputError(
                f'"{path}" is a run folder of format {number}; this version reads format {FORMAT}. Open it with the '
                f"version that made it ({about.get('inkhorn', 'not said')}), or run it again."
            )
        return cls(path, about)

    def file(self, key: str, of: str = "") -> Path:
        """Return the path of one of `FILES`, of a layer or a request where there are several."""
        pattern = FILES[key].name
        part = file_name(of) if of else ""
        name = pattern.format(
            part if pattern.startswith(("heads_", "iterate_")) else f"-{part}" if part else ""
        )
        if name not in self.used:
            self.used.append(name)
        return self.path / name

    def there(self, key: str, of: str = "") -> Path:
        """Return the path of a file that must be there.

        Raises
        ------
        InputError
            If it is not.
        """
        path = self.file(key, of)
        if not path.exists():
            raise InputError(f'"{self.path}" has no {path.name} ({FILES[key].words}).')
        return path

    def layer_pictures(self, layers: Sequence[str]) -> dict[str, Path]:
        """Return a picture's path for each layer, no two alike."""
        taken: set[str] = set()
        found = {}
        for layer in layers:
            plain = file_name(layer, taken)
            taken.add(plain.lower())
            found[layer] = self.file("heads picture", plain)
        return found

    @property
    def done(self) -> dict[str, Any]:
        """What is done: the digest of what it was made of, and its files."""
        done: dict[str, Any] = self.about.setdefault("done", {})
        return done

    def keep_about(self, **more: Any) -> None:
        """Write down what is known of the run."""
        self.about |= more
        with written_whole(self.path / FILES["about"].name) as beside:
            beside.write_text(json.dumps(self.about, indent=1, ensure_ascii=False), encoding="utf-8")

    def finished(self, key: str, digest: str) -> None:
        """Write down that a product is done, with the files that were named since `making`."""
        self.done[key] = {"digest": digest, "files": [f for f in self.used if (self.path / f).exists()]}
        self.keep_about()

    def taken_over(self, before: RunFolder, key: str, digest: str) -> bool:
        """Copy a product from an earlier folder if it is there and was made of the same."""
        kept = before.done.get(key)
        if kept is None or kept["digest"] != digest:
            return False
        if not all((before.path / name).is_file() for name in kept["files"]):
            return False
        for name in kept["files"]:
            shutil.copyfile(before.path / name, self.path / name)
        self.done[key] = kept
        self.keep_about()
        return True


def describe(folder: RunFolder, project: Project, kind: str, name: str, grid: str | None, again: str) -> None:
    """Write down what is being run."""
    folder.keep_about(
        format=FORMAT,
        inkhorn=version("inkhorn"),
        kind=kind,
        name=name,
        state="being made",
        began=time.strftime("%Y-%m-%d %H:%M:%S"),
        project=project.asked.title,
        file=project.path.name,
        variant=project.variant or "",
        grid=project.grid_name(grid) or "grid",
        again=again,
        **{"differs in": list(project.changes)},
    )
