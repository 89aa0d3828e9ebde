"""The project file: typed tables that refuse unknown keys and say what they meant."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Any, Literal

from pydantic import Field, ValidationError

from inkhorn.errors import InputError
from inkhorn.files.parts import Diffusion, Length, Number, Part, Time, Units
from inkhorn.files.parts_site import (
    BarrierPart,
    BoresPart,
    CollectorPart,
    DrainPart,
    EditPart,
    EvapotranspirationPart,
    FixedHeadPart,
    HeadDependentPart,
    MaterialPart,
    RechargePart,
    RiverPart,
    SeepagePart,
    SpeciesPart,
    SpringPart,
    TimePart,
    WellsPart,
)
from inkhorn.files.parts_space import BoundaryPart, GridPart, LayerPart, LocalPart, SurfacePart
from inkhorn.files.variants import merged
from inkhorn.units import UnitSystem, quantity

__all__ = ["Places", "ProjectFile", "load_project_file"]


class PathsPart(Part):
    wells: list[str]
    direction: Literal["backward", "forward"] = "backward"
    longest: Time = 200 * 365.25
    mark: Time = 3652.5
    per_well: int = Field(default=24, ge=1)


class TransportPart(Part):
    species: str
    duration: Time
    step: Time
    outputs: int = Field(default=20, ge=1)
    dispersivity: Length = 0.0
    transverse_dispersivity: Length = 0.0
    vertical_dispersivity: Length = 0.0
    diffusion: Diffusion = 0.0
    watch: list[str] = Field(default_factory=list)


class FitPart(Part):
    """Which parameters a fit may change, and how far."""

    conductivity_of: list[str] = Field(default_factory=list)
    recharge: bool = False
    widest_factor: Number = 30.0
    recharge_factor: Number = 2.0


class DrawPart(Part):
    """Where sections are cut: x and y of the line's corners; a georeferenced picture to lay under maps."""

    section: list[tuple[Length, Length]] | None = Field(default=None, min_length=2)
    exaggeration: Number | None = None
    picture: str | None = None


class ProjectFile(Part):
    """A project: the site, its grid, and what is asked of it."""

    title: str
    use_grid: str | None = None
    leave_out: list[str] = Field(default_factory=list)
    units: Units = Units()
    local: LocalPart | None = None
    boundary: BoundaryPart
    grid: GridPart
    grids: dict[str, GridPart] = Field(default_factory=dict)
    ground: SurfacePart
    layer: list[LayerPart] = Field(min_length=1)
    material: dict[str, MaterialPart]
    fixed_head: list[FixedHeadPart] = Field(default_factory=list)
    head_dependent: list[HeadDependentPart] = Field(default_factory=list)
    river: list[RiverPart] = Field(default_factory=list)
    drain: list[DrainPart] = Field(default_factory=list)
    spring: list[SpringPart] = Field(default_factory=list)
    seepage: list[SeepagePart] = Field(default_factory=list)
    recharge: list[RechargePart] = Field(default_factory=list)
    evapotranspiration: list[EvapotranspirationPart] = Field(default_factory=list)
    barrier: list[BarrierPart] = Field(default_factory=list)
    collector: list[CollectorPart] = Field(default_factory=list)
    edit: list[EditPart] = Field(default_factory=list)
    time: TimePart | None = None
    wells: WellsPart | None = None
    bores: BoresPart | None = None
    species: list[SpeciesPart] = Field(default_factory=list)
    paths: PathsPart | None = None
    transport: TransportPart | None = None
    fit: FitPart | None = None
    draw: DrawPart = DrawPart()


class Places:
    """Line numbers of the keys of a TOML text."""

    _TABLE = re.compile(r"^\s*\[(\[)?\s*([^\[\]]+?)\s*\]?\]\s*(?:#.*)?$")
    _KEY = re.compile(r"^\s*([A-Za-z0-9_\-\".]+)\s*=")

    def __init__(self, text: str, name: str) -> None:
        self.name = name
        self.variant: tuple[Places, dict[tuple[Any, ...], tuple[Any, ...]]] | None = None
        self.lines: dict[tuple[Any, ...], int] = {}
        here: tuple[Any, ...] = ()
        counts: dict[tuple[Any, ...], int] = {}
        for number, line in enumerate(text.splitlines(), start=1):
            if table := self._TABLE.match(line):
                here = tuple(part.strip().strip('"') for part in table[2].split("."))
                if table[1]:
                    counts[here] = counts.get(here, -1) + 1
                    here = (*here, counts[here])
                self.lines.setdefault(here, number)
            elif key := self._KEY.match(line):
                path = (*here, *(part.strip('"') for part in key[1].split(".")))
                self.lines.setdefault(path, number)

    def at(self, path: tuple[Any, ...]) -> str:
        """Return file and line of a key, in the variant if that is where it stands."""
        if self.variant is not None:
            places, origin = self.variant
            for length in range(len(path), 0, -1):
                if path[:length] in origin:
                    return places.at((*origin[path[:length]], *path[length:]))
        return f"{self.name}, line {self.of(path)}"

    def of(self, path: tuple[Any, ...]) -> int:
        """Return the line of a key, or of the nearest table around it."""
        for length in range(len(path), 0, -1):
            if path[:length] in self.lines:
                return self.lines[path[:length]]
        return 1


_MESSAGES: dict[str, Callable[[Any], str]] = {
    "missing": lambda e: f'"{e["loc"][-1]}" is missing. Add it.',
    "string_type": lambda e: f"is {e['input']!r}; expected text in quotes.",
    "list_type": lambda e: f"is {e['input']!r}; expected a list in square brackets.",
    "model_type": lambda e: f"is {e['input']!r}; expected a table of keys and values.",
    "dict_type": lambda e: f"is {e['input']!r}; expected a table of keys and values.",
    "bool_parsing": lambda e: f"is {e['input']!r}; expected true or false.",
    "literal_error": lambda e: f"is {e['input']!r}; expected {e['ctx']['expected']}.",
    "bool_type": lambda e: f"is {e['input']!r}; expected true or false.",
}


def _message(error: Any, places: Places) -> str:
    path = tuple(error["loc"])
    text = (
        _MESSAGES[error["type"]](error)
        if error["type"] in _MESSAGES
        else error["msg"].removeprefix("Value error, ")
    )
    key = error.get("ctx", {}).get("key")
    place = places.at((*path, key) if key else path)
    shown = ".".join(f"{p}" if not isinstance(p, int) else f"#{p + 1}" for p in path)
    return f"{place}{f', {shown}' if shown else ''}: {text}"


def _read_toml(path: Path) -> tuple[dict[str, Any], Places]:
    try:
        text = path.read_text(encoding="utf-8")
        return tomllib.loads(text), Places(text, path.name)
    except OSError as problem:
        raise InputError(
            f'cannot read "{path}": {problem.strerror}. Give the path of a project file, or make one with `inkhorn new`.'
        ) from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as problem:
        raise InputError(f"{path.name} is not TOML: {problem}.") from None


def load_project_file(path: Path, variant: Path | None = None) -> tuple[ProjectFile, Places, list[str]]:
    """Read and validate a project file, with a variant laid over it.

    Returns
    -------
    project : ProjectFile
        Numbers in metres, days and grams.
    places : Places
        Line numbers, for messages about what the keys name.
    changes : list of str
        What the variant differs in.

    Raises
    ------
    InputError
        With every problem found, a line each: file, line, table and key.
    """
    given, places = _read_toml(path)
    changes: list[str] = []
    if variant is not None:
        differs, where = _read_toml(variant)
        given, origin, changes = merged(given, differs)
        where.name = f"variants/{variant.name}"
        places.variant = (where, origin)
    try:
        units = Units.model_validate(given.get("units", {}))
        system = UnitSystem(units.length, units.time, units.concentration)
        for kind, unit in (
            ("length", units.length),
            ("time", units.time),
            ("concentration", units.concentration),
        ):
            quantity(1.0, kind, units=system, what=f'units.{kind} = "{unit}"')
        return ProjectFile.model_validate(given, context={"units": system}), places, changes
    except ValidationError as problem:
        raise InputError("\n".join(_message(e, places) for e in problem.errors())) from None
    except InputError as problem:
        raise InputError(f"{places.at(('units',))}: {problem}") from None
