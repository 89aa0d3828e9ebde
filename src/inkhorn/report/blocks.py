"""What a report is made of: words, facts, tables, pictures, and what its reader may turn and slide."""

from __future__ import annotations

import base64
import gzip
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Block", "Facts", "Live", "Part", "Picture", "Source", "Table", "Words", "packed"]

_MOST_ROWS = 5000


class Block:
    """One thing in a part of a report; `kind` names how the page shows it."""

    kind: str = ""


@dataclass(frozen=True)
class Words(Block):
    """Lines of text, each a paragraph or a point of a list."""

    lines: tuple[str, ...]
    listed: bool = False
    kind = "words"


@dataclass(frozen=True)
class Facts(Block):
    """Names with a short answer each."""

    rows: tuple[tuple[str, str], ...]
    kind = "facts"


@dataclass(frozen=True)
class Source(Block):
    """A text as it stands in a file, folded away."""

    name: str
    text: str
    kind = "source"


@dataclass(frozen=True)
class Table(Block):
    """A table that can be sorted and saved.

    Attributes
    ----------
    name : str
        Of the file it is saved as.
    words : str
        What is in it.
    frame : DataFrame
        Of a very long one the first rows are shown.
    """

    name: str
    words: str
    frame: pd.DataFrame
    kind = "table"

    @property
    def left_out(self) -> int:
        """How many rows are not shown."""
        return max(len(self.frame) - _MOST_ROWS, 0)

    @property
    def numeric(self) -> list[bool]:
        """Which columns are numbers."""
        return [self.frame[c].dtype.kind in "fiu" for c in self.frame.columns]

    @property
    def data(self) -> dict[str, Any]:
        """What the page's script sorts and saves."""
        shown = self.frame.head(_MOST_ROWS)
        columns = [
            [_plain(v) for v in shown[name].tolist()] for name in shown.columns
        ]  # by column, as names do not repeat
        return {
            "name": self.name,
            "heads": [str(c) for c in shown.columns],
            "numeric": self.numeric,
            "columns": columns,
        }


def _plain(value: Any) -> Any:
    """A value as JSON has it: nothing where there is no number."""
    if value is None or (isinstance(value, float) and not np.isfinite(value)):
        return None if value is None or value != value else str(value)
    return value if isinstance(value, (bool, int, float)) else str(value)


@dataclass(frozen=True)
class Picture(Block):
    """A picture, its dots within the page."""

    name: str
    words: str
    dots: bytes
    kind = "picture"

    @classmethod
    def of(cls, path: Path, words: str) -> Picture:
        """Of a file."""
        return cls(path.name, words, path.read_bytes())

    @property
    def address(self) -> str:
        """What an image of a page takes as its source."""
        return "data:image/png;base64," + base64.b64encode(self.dots).decode("ascii")


@dataclass(frozen=True)
class Live(Block):
    """Something to be turned, slid or pointed at: the page's script draws it from its data.

    Attributes
    ----------
    way : str
        Of drawing it: a function of the script.
    words : str
        What it shows, also for those who do not see it.
    data : dict
        What it is drawn from; see `packed` for arrays.
    """

    way: str
    words: str
    data: dict[str, Any]
    kind = "live"


@dataclass
class Part:
    """A part of a report, under its heading."""

    title: str
    blocks: list[Block] = field(default_factory=list)

    @property
    def mark(self) -> str:
        """What its heading is called in links."""
        return "-".join("".join(c if c.isalnum() else " " for c in self.title.lower()).split())


def packed(values: NDArray[Any]) -> str:
    """Return an array as text: its bytes, lowest first, squeezed (gzip) and written in base 64.

    >>> len(packed(np.zeros(1000, dtype=np.uint16))) < 60
    True
    """
    ordered = np.ascontiguousarray(values).astype(values.dtype.newbyteorder("<"))
    return base64.b64encode(gzip.compress(ordered.tobytes(), 6, mtime=0)).decode("ascii")
