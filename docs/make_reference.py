"""Make the reference of the project file from its models: ``python docs/make_reference.py``.

Writes ``docs/project-file.md`` for readers and ``docs/project-file.schema.json`` for editors.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from inkhorn.files.project_file import ProjectFile

HERE = Path(__file__).parent
HEAD = """# The project file

A project is a TOML file; every number may carry its unit, as in `"650 mm/year"`, and one without is in the project's own
units. Unknown keys are refused. Paths are seen from the file. A variant (`variants/NAME.toml`) holds only the keys that
differ; entries of an array of tables are met by their `name`.

Editors that know JSON Schema check the file as you type with [project-file.schema.json](project-file.schema.json).
This page is made from the models the program reads with: `python docs/make_reference.py`.

"""


def schema() -> dict[str, Any]:
    """The JSON Schema of the project file."""
    made = ProjectFile.model_json_schema()
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **made, "title": "Inkhorn project"}


def words(kind: dict[str, Any]) -> str:
    """A type in words."""
    if "$ref" in kind:
        name = kind["$ref"].rsplit("/", 1)[1]
        return f"table [{name}](#{name.lower()})"
    if "description" in kind:
        return str(kind["description"])
    if "const" in kind:
        return f"`{json.dumps(kind['const'])}`"
    if "enum" in kind:
        return " or ".join(f"`{json.dumps(v)}`" for v in kind["enum"])
    if "anyOf" in kind:
        return " or ".join(dict.fromkeys(words(k) for k in kind["anyOf"] if k.get("type") != "null"))
    if kind.get("type") == "array":
        return f"list of {words(kind['items'])}" if "items" in kind else "list"
    if kind.get("type") == "object" and isinstance(kind.get("additionalProperties"), dict):
        return f"tables by name, each {words(kind['additionalProperties'])}"
    names = {"string": "text", "boolean": "true or false", "integer": "whole number", "object": "table"}
    return names.get(str(kind.get("type")), str(kind.get("type", "any value")))


def section(name: str, part: dict[str, Any]) -> str:
    """One table of the file."""
    lines = [f"## {name}", "", " ".join(str(part.get("description", "")).split()), ""]
    lines += ["| key | what | if not given |", "|---|---|---|"]
    needed = set(part.get("required", []))
    for key, kind in part.get("properties", {}).items():
        default = (
            "needed"
            if key in needed
            else ""
            if kind.get("default") in (None, [], {})
            else f"`{kind['default']}`"
        )
        lines.append(f"| `{key}` | {words(kind).replace('|', chr(92) + '|')} | {default} |")
    return "\n".join(lines) + "\n"


def page() -> str:
    """The reference as Markdown."""
    made = schema()
    parts = [section("The file", made)]
    parts += [section(name, part) for name, part in sorted(made["$defs"].items())]
    return HEAD + "\n".join(parts)


def main() -> None:
    """Write both files."""
    (HERE / "project-file.md").write_text(page(), encoding="utf-8")
    (HERE / "project-file.schema.json").write_text(
        json.dumps(schema(), indent=1, ensure_ascii=False) + "\n", encoding="utf-8"
    )


if __name__ == "__main__":
    main()
