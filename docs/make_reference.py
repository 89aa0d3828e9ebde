"""Make the reference of the project file from its models: ``python docs/make_reference.py``.

Writes ``docs/project-file.md`` and ``docs/run-folder.md`` for readers and ``docs/project-file.schema.json`` for editors.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from inkhorn.project.project_file import project_model
from inkhorn.runs.folder import FORMAT
from inkhorn.runs.run_files import FILES
from inkhorn.units import KINDS

HERE = Path(__file__).parent
HEAD = """# The project file

A project is a TOML file; every number may carry its unit, as in `"650 mm/year"`, and one without is in the project's own
units. Unknown keys are refused. Paths are seen from the file. A variant (`variants/NAME.toml`) holds only the keys that
differ; entries of an array of tables are met by their `name`.

Where a value may stand *in a column*, give `{ column = "rate", unit = "mm/year" }`, a column of the file's shapes; of a
line with a value at either end two of them, `{ column = ["upper", "lower"] }`. *In time* it stands in a table,
`{ series = "rates.csv", column = "rate" }`. *Along a line* there may be two values, for its ends, or one for each vertex.
*By cell*: of cells told one by one (`cells`, `at`) there may be one for each; where one is given in all, they share it.

Behind a kind of number stand, in the unit in brackets, which of them can be and which are usual: what cannot be is
refused, what seldom is is told. Besides, no length lies beyond 1e8 m, no elevation beyond 9000 m, and so on by kind.

A layer's name stands for all of its parts wherever it is used; `"sand 2"` is one part of a layer that is split.

Editors that know JSON Schema check the file as you type with [project-file.schema.json](project-file.schema.json).
This page is made from the declarations the program reads with: `python docs/make_reference.py`.

"""
_NAMES = {"string": "text", "boolean": "true or false", "integer": "whole number", "object": "table"}


def schema() -> dict[str, Any]:
    """The JSON Schema of the project file, with the kinds of features that come with Inkhorn."""
    made = project_model(own=True).model_json_schema()
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **made, "title": "Inkhorn project"}


def _unit(said: Any) -> str:
    """A kind of number with its unit inside, or one for each shape."""
    if isinstance(said, dict):
        return "; ".join(f"{shape}: {_unit(kind)}" for shape, kind in said.items())
    if said not in KINDS:
        return str(said)
    inside = KINDS[said].inside
    return f"{said} [{inside}]" if inside else "number"


def _range(key: dict[str, Any]) -> str:
    """Which numbers a key can be, and which are usual."""
    found = key.get("range") or next((k["range"] for k in key.get("anyOf", []) if k.get("range")), {})
    least, most, usual = (found.get(k) for k in ("least", "most", "usual"))
    said = []
    if least is not None and most is not None:
        said.append(f"{least:g} to {most:g}")
    elif least is not None or most is not None:
        said.append(f"from {least:g}" if least is not None else f"up to {most:g}")
    if usual:
        said.append(f"usual {usual[0]:g} to {usual[1]:g}" if usual[0] else f"usual up to {usual[1]:g}")
    return "; ".join(said)


def kind_of(key: dict[str, Any]) -> str:
    """What may stand there, in words."""
    if "unit" in key:
        words = _unit(key["unit"])
        ways = ["*along a line*"] * key.get("along", False) + ["*by cell*"] * key.get("by_cell", False)
        names = {"series": "*in time*", "column": "*in a column*", "weather": "*from daily rain*"}
        ways += [names[w] for w in key.get("ways", [])]
        return words + (f"; {', '.join(ways)}" if ways else "")
    if "$ref" in key:
        name = key["$ref"].rsplit("/", 1)[1]
        return f"table [{name}](#{name.lower()})"
    if "const" in key:
        return f"`{json.dumps(key['const'])}`"
    if "enum" in key:
        return " or ".join(f"`{json.dumps(v)}`" for v in key["enum"])
    for several in ("anyOf", "oneOf"):
        if several in key:
            return " or ".join(dict.fromkeys(kind_of(k) for k in key[several] if k.get("type") != "null"))
    if key.get("type") == "array":
        if "prefixItems" in key:
            return f"{len(key['prefixItems'])} of {kind_of(key['prefixItems'][0])}"
        return f"list of {kind_of(key['items'])}" if "items" in key else "list"
    if key.get("type") == "object" and isinstance(key.get("additionalProperties"), dict):
        return f"by name, {kind_of(key['additionalProperties'])}"
    return _NAMES.get(str(key.get("type")), str(key.get("type", "any value")))


def _toml(value: Any) -> str:
    """A value as it stands in a TOML file."""
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{k} = {_toml(v)}" for k, v in value.items()) + " }"
    if isinstance(value, (list, tuple)):
        return "[" + ", ".join(map(_toml, value)) + "]"
    return json.dumps(value, ensure_ascii=False)


def _default(key: dict[str, Any], needed: bool) -> str:
    if needed:
        return "needed"
    value = key.get("default")
    return "" if value in (None, [], {}) or isinstance(value, dict) else f"`{_toml(value)}`"


def section(title: str, part: dict[str, Any]) -> str:
    """One table of the file."""
    lines = [f"## {title}", "", " ".join(str(part.get("description", "")).split()), ""]
    lines += ["| key | what it is | how it stands there | if not given | example |", "|---|---|---|---|---|"]
    needed = set(part.get("required", []))
    for name, key in part.get("properties", {}).items():
        examples = key.get("examples") or [e for k in key.get("anyOf", []) for e in k.get("examples", [])]
        example = f"`{_toml(examples[0])}`" if examples else ""
        cells = [
            f"`{name}`",
            key.get("description", ""),
            kind_of(key) + (f" ({_range(key)})" if _range(key) else ""),
            _default(key, name in needed),
            example,
        ]
        lines.append("| " + " | ".join(c.replace("|", "\\|") for c in cells) + " |")
    return "\n".join(lines) + "\n"


def _headings(made: dict[str, Any]) -> Iterator[tuple[str, str]]:
    """The tables in the order of the file, and what each is headed with."""
    seen: set[str] = set()

    def names(key: Any) -> Iterator[str]:
        if isinstance(key, dict):
            if "$ref" in key:
                yield key["$ref"].rsplit("/", 1)[1]
            for value in key.values():
                yield from names(value)
        elif isinstance(key, list):
            for value in key:
                yield from names(value)

    for key, said in made["properties"].items():
        many = said.get("type") == "array"
        for name in names(said):
            if name not in seen:
                seen.add(name)
                by_name = said.get("type") == "object" and not many
                head = f"[[{key}]]" if many else f"[{key}.NAME]" if by_name else f"[{key}]"
                kind = made["$defs"][name].get("properties", {}).get("kind", {}).get("const")
                yield name, f'{head}, kind = "{kind}"' if kind and key == "grid" else head
    for name in made["$defs"]:
        if name not in seen:
            yield name, name.removesuffix("Part").lower()


def page() -> str:
    """The reference as Markdown."""
    made = schema()
    parts = [section("The file", made)]
    headings = list(_headings(made))
    parts += [section(f"`{head}`", made["$defs"][name]) for name, head in headings]
    text = HEAD + "\n".join(parts)
    for name, head in headings:  # links go to headings, by the names that readers of Markdown give these
        slug = re.sub(r"[^\w\- ]", "", head.lower()).replace(" ", "-")
        text = text.replace(f"(#{name.lower()})", f"(#{slug})")
    return text


RUN_HEAD = f"""# The run folder

`inkhorn run` and `inkhorn fit` leave a folder for each run, `run-VARIANT-GRID-001` and so on; an earlier one is never
touched. While it is being made it is hidden (`.run-….part`) and locked by its process. It ends in one of three ways:

- **whole**, under its name;
- **stopped**, as `stopped-…-001`, where the run was interrupted (Ctrl-C, SIGTERM, SIGHUP), failed, or met a full disk
  after something was solved: with every solved step, every iteration of a fit, and every product that was done.
  `--go-on FOLDER` takes all that over, makes the rest, and ends to the same bits as a run that was never stopped. A
  folder of another model is refused, naming what differs;
- **gone**, where nothing was solved yet.

A run that was killed (SIGKILL) cannot tidy up: the next run in the same place finds its hidden folder,
keeps what it solved as a stopped run, or clears it away, and says so.

In Python, `ik.open_run(FOLDER)` gives back the site, the model and the same results as when the run was made, each
read when it is first asked for: `run.flow`, `run.fit`, `run.levels`, `run.paths()`, `run.transport()`, and tables as
they stand by `run.table(NAME)`. It reads the folder of a run that is still going on, too. Folders have a format
number, now {FORMAT}; a later one is refused.

`inputs/` holds every file as it was read, so that `inkhorn run FOLDER/inputs/site.toml` makes the run again, with its
variant and grid, wherever the folder was moved; `sha256sum -c sha256.txt` checks them.

Names of layers, grids and requests become names of files with all but letters, digits, `-` and `_` turned into `_`.

"""


def run_page() -> str:
    """What is in a run folder, as Markdown."""
    shown = {"heads_{}.png": "heads_LAYER.png", "iterate_{}.nc": "iterate_NUMBER.nc"}
    said, part = RUN_HEAD, ""
    for file in FILES.values():
        if file.part != part:
            part = file.part
            said += f"\n## {part}\n\n| file | what is in it |\n|---|---|\n"
        said += f"| `{shown.get(file.name, file.name.replace('{}', '[-NAME]'))}` | {file.words} |\n"
    return said


def main() -> None:
    """Write the files."""
    (HERE / "run-folder.md").write_text(run_page(), encoding="utf-8")
    (HERE / "project-file.md").write_text(page(), encoding="utf-8")
    (HERE / "project-file.schema.json").write_text(
        json.dumps(schema(), indent=1, ensure_ascii=False) + "\n", encoding="utf-8"
    )


if __name__ == "__main__":
    main()
