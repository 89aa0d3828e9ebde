"""What a run makes of the flow, one module for each: asked, solved, written, read again, drawn, told."""

from __future__ import annotations

import json
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from hashlib import blake2b
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar, Generic, TypeVar

from inkhorn.flow import FlowResult
from inkhorn.model import Finding, Model, fingerprint
from inkhorn.project import Project
from inkhorn.runs.folder import RunFolder
from inkhorn.runs.journal import Journal

if TYPE_CHECKING:
    from matplotlib.figure import Figure

__all__ = ["Picture", "Product", "Work", "digest_of", "key_of"]

Made = TypeVar("Made")


@dataclass(frozen=True)
class Work:
    """What a product is made of, and whom it tells.

    Attributes
    ----------
    project : Project
        What is asked.
    model : Model
        As the flow was solved, of a fit the fitted one.
    flow : FlowResult
        The flow.
    folder : RunFolder
        Where files go.
    journal : Journal
        Told how it goes.
    before : RunFolder, optional
        That of a run which was stopped, and is gone on from.
    """

    project: Project
    model: Model
    flow: FlowResult
    folder: RunFolder
    journal: Journal
    before: RunFolder | None = None


@dataclass(frozen=True)
class Picture:
    """A picture to be drawn.

    Attributes
    ----------
    path : Path
        The file.
    what : str
        What it shows.
    fill : callable
        Fills the figure; in another process if it can be pickled.
    """

    path: Path
    what: str
    fill: Callable[[Figure], Any]

    @classmethod
    def of(cls, path: Path, what: str, paint: Callable[..., Any], *args: Any, **options: Any) -> Picture:
        """A picture of one plot."""
        return cls(path, what, partial(_painted, paint, args, options))


def _painted(
    paint: Callable[..., Any], args: tuple[Any, ...], options: dict[str, Any], figure: Figure
) -> Any:
    return paint(*args, ax=figure.subplots(), **options)


class Product(ABC, Generic[Made]):
    """One thing that a run makes: a new one is a module with a class like this, and its name in `making.PRODUCTS`.

    `table` is the table of the project file that asks for it, and what it is called in a run folder.
    """

    table: ClassVar[str]
    what: ClassVar[str]

    @abstractmethod
    def requests(self, project: Project, model: Model) -> Sequence[Any]:
        """Return what is asked for, one for each that is to be made; a `name` tells several apart."""

    def lacks(self, project: Project, model: Model, asked: Any) -> Iterator[Finding]:
        """Say, before anything is solved, what it needs and does not have: errors, and notes of what is left out."""
        return iter(())

    def possible(self, model: Model) -> bool:
        """Whether it can be made of such a model at all; if not, that was noted."""
        return True

    @abstractmethod
    def solve(self, work: Work, asked: Any) -> Made:
        """Make it."""

    @abstractmethod
    def write(self, work: Work, asked: Any, made: Made) -> None:
        """Write it into the folder."""

    @abstractmethod
    def read(self, work: Work, asked: Any) -> Made:
        """Read it from the folder again."""

    def draw(self, work: Work, asked: Any, made: Made) -> Iterator[Picture]:
        """Yield the pictures of it."""
        return iter(())

    def tell(self, work: Work, asked: Any, made: Made) -> Iterator[str]:
        """Say in a line or two what came out."""
        return iter(())


def key_of(product: Product[Any], asked: Any) -> str:
    """What a product is called in the list of what is done."""
    name = getattr(asked, "name", "")
    return f"{product.table} {name}".strip()


def digest_of(project: Project, model: Model, asked: Any) -> str:
    """Return a digest of all that a product is made of: the model, the species and what is asked."""
    parts: Mapping[str, str] = fingerprint(model, dissolved=True)
    said = [
        sorted(parts.items()),
        repr(asked),
        [vars(s) for s in project.site.species],
        [
            (b.name, b.x, b.y, b.layer, b.screen, b.levels.tolist(), b.dates.astype(str).tolist())
            for b in project.site.bores
        ],
        repr(project.asked.draw),
        repr(project.asked.region),
        repr(project.asked.across),
        {name: shape.wkb_hex for name, shape in project.starts.items()},
    ]
    return blake2b(json.dumps(said, default=str).encode(), digest_size=8).hexdigest()
