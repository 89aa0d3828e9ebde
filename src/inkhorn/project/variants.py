"""Variants: short files that say only what differs from a project file."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from inkhorn.errors import InputError, did_you_mean
from inkhorn.project.parts import value_keys

__all__ = ["merged", "variant_file"]

Key = tuple[Any, ...]


def variant_file(project: Path, name: str) -> Path:
    """Return the file of a variant: ``variants/NAME.toml`` beside the project file.

    Raises
    ------
    InputError
        If there is none.
    """
    folder = project.parent / "variants"
    path = folder / f"{name}.toml"
    if Path(name).name != name or not path.is_file():
        known = sorted(p.stem for p in folder.glob("*.toml"))
        raise InputError(
            f'{project.name} has no variant "{name}"; there are {known}.{did_you_mean(name, known)} Make one in '
            f"{folder / 'NAME.toml'}, with only what differs."
        )
    return path


def merged(base: dict[str, Any], variant: dict[str, Any]) -> tuple[dict[str, Any], dict[Key, Key], list[str]]:
    """Lay a variant over a project file, both as read from TOML.

    Tables are laid over tables, key by key. Of an array of tables, entries with a `name` that the base
    has are laid over that entry; others are added.

    Returns
    -------
    whole : dict
        The project as the variant has it.
    origin : dict of tuple to tuple
        Where keys of the whole stand in the variant, for messages.
    changes : list of str
        What differs, in words.
    """
    origin: dict[Key, Key] = {}
    changes: list[str] = []

    def tables(one: dict[str, Any], other: dict[str, Any], at: Key, there: Key, words: str) -> dict[str, Any]:
        whole = dict(one)
        for key, value in other.items():
            path, source = (*at, key), (*there, key)
            said = f"{words}.{key}" if words else str(key)
            before = one.get(key)
            if (
                isinstance(value, dict)
                and not _is_value(value)
                and (key not in one or isinstance(before, dict))
            ):
                if key not in one:
                    origin[path] = source
                whole[key] = tables(before or {}, value, path, source, said)
            elif _is_tables(value) and (key not in one or _is_tables(before)):
                whole[key] = arrays(before or [], value, path, source, said)
            else:
                whole[key] = value
                origin[path] = source
                was = f"{_short(before)} -> " if key in one else ""
                changes.append(f"{said}: {was}{_short(value)}")
        return whole

    def arrays(one: list[Any], other: list[Any], at: Key, there: Key, words: str) -> list[Any]:
        whole = list(one)
        names = [entry.get("name") for entry in one]
        for k, entry in enumerate(other):
            name = entry.get("name")
            if isinstance(name, str) and name in names:
                i = names.index(name)
                own = {key: v for key, v in entry.items() if key != "name"}
                whole[i] = tables(one[i], own, (*at, i), (*there, k), f'{words} "{name}"')
            else:
                origin[*at, len(whole)] = (*there, k)
                what = (
                    f" of {entry['of']}"
                    if "of" in entry
                    else f" of {entry['file']}"
                    if "file" in entry
                    else ""
                )
                what = f' "{name}"' if isinstance(name, str) else what
                changes.append(f"one more {words}{what}")
                whole.append(entry)
        return whole

    return tables(base, variant, (), (), ""), origin, changes


def _is_tables(value: Any) -> bool:
    return isinstance(value, list) and bool(value) and all(isinstance(v, dict) for v in value)


def _is_value(table: dict[str, Any]) -> bool:
    """Whether a table is one value, such as ``{ column = … }``, to be replaced as a whole."""
    return bool(value_keys() & set(table))


def _short(value: Any) -> str:
    text = f"{value}"
    return text if len(text) <= 60 else text[:57] + "..."
