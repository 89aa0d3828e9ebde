"""What shows itself in a notebook."""

from __future__ import annotations

from importlib import import_module

__all__ = ["Shown"]


class Shown:
    """Shows itself in a notebook as HTML: words, tables, a small picture.

    How is said where things are drawn, which is found when a notebook asks: nothing is imported before.
    """

    def _repr_html_(self) -> str:
        return str(import_module("inkhorn.draw.notebook").html_of(self))
