"""The project file: typed tables that refuse unknown keys and say what they meant."""

from __future__ import annotations

import json
import tomllib
from collections.abc import Callable
from functools import cache
from importlib.metadata import entry_points
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, get_args

from pydantic import BaseModel, Field, ValidationError, create_model, field_validator

from inkhorn.errors import InputError
from inkhorn.files.reading import must_exist, text_of
from inkhorn.project.parts import Part, Units, told
from inkhorn.project.parts_asked import (
    DrawPart,
    LinePart,
    OneOrMore,
    PathsPart,
    RegionPart,
    SolverPart,
    TransportPart,
)
from inkhorn.project.parts_fit import FitPart, ForecastPart, MeasuredPart
from inkhorn.project.parts_grid import MESH_TAG, grid_part
from inkhorn.project.parts_site import (
    BoresPart,
    EditPart,
    SpeciesPart,
    TimePart,
    WellsPart,
    ZonesPart,
    feature_part,
    material_part,
)
from inkhorn.project.parts_space import BoundaryPart, CutPart, LayerPart, LocalPart, SurfacePart
from inkhorn.project.parts_vary import VaryPart
from inkhorn.project.places import Places
from inkhorn.project.region_run import RegionRun
from inkhorn.project.variants import merged
from inkhorn.site import Feature, Material, declared_fields, kinds, material_fields
from inkhorn.unit_choice import UnitChoice
from inkhorn.units import UnitSystem, quantity

__all__ = ["ProjectFile", "load_project_file", "project_model"]


_REGION_ALONE = (
    "cut_from", "use_grid", "grids", "fit", "vary", "paths", "transport", "region", "across", "draw",
    "forecast", "candidate",
)  # fmt: skip


class ProjectFile(Part):
    """A project: the site, its grid, and what is asked of it."""

    if TYPE_CHECKING:  # given with the kinds of meshes, materials and features that there are
        grid: Any
        grids: dict[str, Any]
        material: dict[str, Any]

    title: str = told("what the site is called", "Quillmere")
    purpose: str = told(
        "what the model is to answer, in a sentence or two: a report begins with it",
        "How large is the area to be protected around the hatchery's well?",
        default="",
    )
    use_grid: str | None = told("the grid to run on, one of [grids]", "fine", default=None)
    leave_out: list[str] = told("features that take no part, by name", ["ditch 3"], default_factory=list)
    units: Units = told("of numbers that carry none", default=Units())
    local: LocalPart | None = told("local coordinates", default=None)
    cut_from: CutPart | None = told("the region that this is a part of, of a local model", default=None)
    boundary: BoundaryPart = told("one polygon; nothing flows across it but by a feature")
    ground: SurfacePart = told("the uppermost surface")
    layer: list[LayerPart] = told("the layers, from the ground down", min_length=1)
    zones: dict[str, ZonesPart] = told("ways to divide the site, by name", default_factory=dict)
    edit: list[EditPart] = told("values changed where they were placed", default_factory=list)
    time: TimePart | None = told("flow through time; steady without it", default=None)
    wells: WellsPart | None = told("wells from a table", default=None)
    bores: BoresPart | None = told("bores and what was measured in them", default=None)
    species: list[SpeciesPart] = told("what is dissolved", default_factory=list)
    solver: SolverPart = told("how closely flow is solved", default=SolverPart())
    region: list[RegionPart] = told("regions whose water budget is wanted", default_factory=list)
    across: list[LinePart] = told("lines across which flow is wanted", default_factory=list)
    paths: Annotated[list[PathsPart], OneOrMore] = told(
        "particle paths that are asked for: a table, or several with names", default_factory=list
    )
    transport: Annotated[list[TransportPart], OneOrMore] = told(
        "transport that is asked for: a table, or several with names", default_factory=list
    )
    measured: list[MeasuredPart] = told("what was measured beside levels in bores", default_factory=list)
    forecast: list[ForecastPart] = told(
        "numbers whose certainty is wanted, with each fit", default_factory=list
    )
    candidate: list[ForecastPart] = told(
        "what might be measured next: by how much it would make forecasts surer", default_factory=list
    )
    fit: Annotated[list[FitPart], OneOrMore] = told(
        "what `inkhorn fit` may change: a table, or several with names", default_factory=list
    )
    vary: Annotated[list[VaryPart], OneOrMore] = told(
        "what `inkhorn vary` does: a table, or several with names", default_factory=list
    )
    draw: DrawPart = told("how pictures are drawn", default=DrawPart())

    @field_validator(
        "region",
        "across",
        "paths",
        "transport",
        "species",
        "layer",
        "measured",
        "fit",
        "forecast",
        "candidate",
        "vary",
    )
    @classmethod
    def _names_differ(cls, parts: list[Any]) -> list[Any]:
        names = [part.name for part in parts]
        for name in names:
            if names.count(name) > 1:
                words = f'two are called "{name}"' if name else "several need names"
                raise ValueError(f"{words}; give each a `name` of its own")
        return parts


def declared_elsewhere() -> None:
    """Import the packages that declare kinds of features or properties: their entry points ``inkhorn.kinds``."""
    for point in entry_points(group="inkhorn.kinds"):
        point.load()


def project_model(*, own: bool = False) -> type[ProjectFile]:
    """Return the model of the whole file, with a table for every kind of feature there is.

    Parameters
    ----------
    own : bool
        Leave out the kinds and properties of other packages.
    """
    wanted = [k for k in kinds().values() if not own or k.__module__.startswith("inkhorn.")]
    stated = declared_fields(Material) if own else material_fields()
    return _project_model(tuple(wanted), tuple(stated))


@cache
def _project_model(wanted: tuple[type[Feature], ...], of_materials: tuple[str, ...]) -> type[ProjectFile]:
    grid = grid_part()
    keys: dict[str, Any] = {
        "grid": (grid, told("the plan mesh")),
        "grids": (dict[str, grid], told("others, by name, for --grid NAME", default_factory=dict)),  # type: ignore[valid-type]
        "material": (dict[str, material_part(of_materials)], told("what layers are made of, by name")),  # type: ignore[misc]
    }
    for kind in wanted:
        words = (kind.__doc__ or kind.kind).strip().partition("\n")[0]
        keys[kind.table] = (list[feature_part(kind)], Field(default_factory=list, description=words))  # type: ignore[misc]
    made: type[ProjectFile] = create_model(  # of tables found at run time
        "Project", __base__=ProjectFile, __doc__=ProjectFile.__doc__, __module__=__name__, **keys
    )
    return made


def _what_it_is(path: tuple[Any, ...]) -> str:
    """What a key means, and an example, from the declaration of the table it belongs to; empty if it has none."""
    parts: list[type[BaseModel]] = [project_model()]
    for name in path[:-1]:
        of = [part.model_fields[name].annotation for part in parts if name in part.model_fields]
        parts = (
            [m for kind in of for m in _models_in(kind)] if of else parts
        )  # numbers and tags lead nowhere else
    said = next((part.model_fields[path[-1]] for part in parts if path[-1] in part.model_fields), None)
    if said is None or not said.description:
        return ""
    example = json.dumps(said.examples[0], ensure_ascii=False) if said.examples else "{"
    example = "" if "{" in example else f", as in {path[-1]} = {example}"  # a table is written otherwise
    return f": {said.description}{example}"


def _models_in(kind: Any) -> list[type[BaseModel]]:
    """The tables that a type is made of."""
    if isinstance(kind, type) and issubclass(kind, BaseModel):
        return [kind]
    return [found for part in get_args(kind) for found in _models_in(part)]


_MESSAGES: dict[str, Callable[[Any], str]] = {
    "greater_than_equal": lambda e: f"is {e['input']!r}; expected {e['ctx']['ge']} or more.",
    "too_short": lambda e: (
        f"has {e['ctx']['actual_length']} entries; expected {e['ctx']['min_length']} or more."
    ),
    "missing": lambda e: f'"{e["loc"][-1]}" is missing. Add it{_what_it_is(e["loc"])}.',
    "string_type": lambda e: f"is {e['input']!r}; expected text in quotes.",
    "list_type": lambda e: f"is {e['input']!r}; expected a list in square brackets.",
    "model_type": lambda e: f"is {e['input']!r}; expected a table of keys and values.",
    "dict_type": lambda e: f"is {e['input']!r}; expected a table of keys and values.",
    "bool_parsing": lambda e: f"is {e['input']!r}; expected true or false.",
    "literal_error": lambda e: f"is {e['input']!r}; expected {e['ctx']['expected']}.",
    "int_type": lambda e: f"is {e['input']!r}; expected one number, a whole one.",
    "int_parsing": lambda e: f"is {e['input']!r}; expected one number, a whole one.",
    "int_from_float": lambda e: f"is {e['input']!r}; expected a whole number.",
    "bool_type": lambda e: f"is {e['input']!r}; expected true or false.",
}


def _message(error: Any, places: Places) -> str:
    path = tuple(p for p in error["loc"] if not str(p).startswith(MESH_TAG))
    text = (
        _MESSAGES[error["type"]](error)
        if error["type"] in _MESSAGES
        else error["msg"].removeprefix("Value error, ")
    )
    if error["type"] == "union_tag_invalid":
        given = error["ctx"]["tag"].removeprefix(MESH_TAG)
        known = error["ctx"]["expected_tags"].replace(MESH_TAG, "")
        path, text = (*path, "kind"), f'is "{given}"; expected one of {known}.'
    key = error.get("ctx", {}).get("key")
    if key and error["type"] == "impossible":
        path, key = (*path, key), None
    place = places.at((*path, key) if key else path)
    shown = ".".join(f"{p}" if not isinstance(p, int) else f"#{p + 1}" for p in path)
    return f"{place}{f', {shown}' if shown else ''}: {text}"


def _read_toml(path: Path) -> tuple[dict[str, Any], Places]:
    try:
        must_exist(path)
    except InputError as problem:
        raise InputError(f"{problem} A project file can be made with `inkhorn new`.") from None
    text = text_of(path)
    try:
        return tomllib.loads(text), Places(text, path.name)
    except RecursionError:
        raise InputError(f"{path.name} nests its tables too deep to be read. Write it flatter.") from None
    except tomllib.TOMLDecodeError as problem:
        raise InputError(f"{path.name} is not TOML: {problem}.") from None


def _within_region(given: dict[str, Any], places: Places, region: RegionRun) -> tuple[dict[str, Any], Places]:
    """The project of a region as it was run, with that of a local model laid over what both share."""
    whole, below = _read_toml(region.project)
    below.name = f"{region.project.name} of {region.folder.name}"
    if region.variant is not None:
        differs, where = _read_toml(region.variant)
        whole, origin, _ = merged(whole, differs)
        where.name = f"variants/{region.variant.name} of {region.folder.name}"
        below.over.append((where, origin))
    units, own = whole.get("units", {}), given.get("units", {})
    for kind in ("length", "time", "concentration"):
        if isinstance(own, dict) and own.get(kind, units.get(kind)) != units.get(kind):
            raise InputError(
                f"{places.at(('units', kind))}: {kind} is in {own[kind]!r}, in the region's project in "
                f"{units.get(kind)!r}, whose numbers hold here, too. Leave it out."
            )
    if "boundary" in given:
        raise InputError(
            f"{places.at(('boundary',))}: the boundary of a local model is the `outline` of [cut_from]. Leave it out."
        )
    shared = {k: v for k, v in whole.items() if k not in _REGION_ALONE}
    made, origin, _ = merged(shared, given)
    below.over.append((places, origin))
    return made, below


def load_project_file(
    path: Path, variant: Path | None = None, region: RegionRun | None = None
) -> tuple[ProjectFile, Places, list[str]]:
    """Read and validate a project file, with a variant laid over it; that of a local model is laid over its region's.

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
    declared_elsewhere()
    given, places = _read_toml(path)
    changes: list[str] = []
    if region is not None:
        given, places = _within_region(given, places, region)
    if variant is not None:
        differs, where = _read_toml(variant)
        given, origin, changes = merged(given, differs)
        where.name = f"variants/{variant.name}"
        places.over.append((where, origin))
    try:
        units = Units.model_validate(given.get("units", {}))
        system = UnitSystem(units.length, units.time, units.concentration)
        for kind, unit in (
            ("length", units.length),
            ("time", units.time),
            ("concentration", units.concentration),
        ):
            quantity(1.0, kind, units=system, what=f'units.{kind} = "{unit}"')
        UnitChoice(units.results or ())
        return project_model().model_validate(given, context={"units": system}), places, changes
    except ValidationError as problem:
        raise InputError("\n".join(_message(e, places) for e in problem.errors())) from None
    except InputError as problem:
        raise InputError(f"{places.at(('units',))}: {problem}") from None
