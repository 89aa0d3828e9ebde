"""What a look at a model finds, in plain words."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING

from inkhorn.errors import InputError
from inkhorn.shown import Shown

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Finding", "Findings"]

_GRAVITY = ("error", "warning", "note")


@dataclass(frozen=True)
class Finding:
    """One thing found: how grave, what, where, and what to do about it."""

    severity: str  # "error", "warning" or "note"
    what: str
    where: str
    remedy: str

    def __str__(self) -> str:
        return f"{self.severity}: {self.what} [{self.where}] {self.remedy}".rstrip()


@dataclass(frozen=True, repr=False)
class Findings(Shown):
    """What a check found, errors first."""

    rows: tuple[Finding, ...]

    @classmethod
    def of(cls, found: Iterable[Finding]) -> Findings:
        """Sort what was found by how grave it is."""
        return cls(tuple(sorted(found, key=lambda f: _GRAVITY.index(f.severity))))

    def __iter__(self) -> Iterator[Finding]:
        return iter(self.rows)

    def __len__(self) -> int:
        return len(self.rows)

    def __repr__(self) -> str:
        counts = {g: sum(f.severity == g for f in self.rows) for g in _GRAVITY}
        said = ", ".join(f"{n} {g}{'s' if n != 1 else ''}" for g, n in counts.items() if n)
        return f"Findings({said or 'nothing found'})"

    @property
    def errors(self) -> tuple[Finding, ...]:
        """Those that keep the model from being solved."""
        return tuple(f for f in self.rows if f.severity == "error")

    def table(self) -> pd.DataFrame:
        """Return them as a table of severity, what, where, remedy."""
        import pandas as pd

        columns = ["severity", "what", "where", "remedy"]
        return pd.DataFrame([asdict(f) for f in self.rows], columns=columns)

    def lines(self, most: int = 12) -> list[str]:
        """Return them as lines, gravest first; no more than so many, the last saying what it leaves out."""
        lines = [str(f) for f in self.rows]
        if len(lines) <= most:
            return lines
        return [*lines[: most - 1], f"and {len(lines) - most + 1} more"]

    def raise_errors(self) -> None:
        """Raise if there is any error.

        Raises
        ------
        InputError
            With all of the errors, a line each.
        """
        if self.errors:
            raise InputError("\n".join(str(f) for f in self.errors))

    def __str__(self) -> str:
        return "\n".join(str(f) for f in self.rows) or "nothing found"
