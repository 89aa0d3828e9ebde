"""Tables from CSV files, with the unit in the header or the cell, and every bad row named."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, did_you_mean
from inkhorn.units import KINDS, METRES_AND_DAYS, UnitSystem, quantity, split_header, unit_factor

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Table", "read_table"]


@dataclass(frozen=True, eq=False)
class Table:
    """A table as it stands in the file: every cell is text.

    Attributes
    ----------
    path : Path
        The file.
    frame : pandas.DataFrame
        Columns by name, without their units.
    headers : dict of str to str
        The unit of each column, empty where its header gives none.
    units : UnitSystem
        Of numbers without a unit.
    """

    path: Path
    frame: pd.DataFrame
    headers: dict[str, str]
    units: UnitSystem

    def __len__(self) -> int:
        return len(self.frame)

    def has(self, column: str) -> bool:
        """Return whether there is such a column."""
        return column in self.frame.columns

    def row(self, index: int) -> str:
        """Return a row in words, as a text editor counts it."""
        return f"{self.path.name}, line {index + 2}"

    def text(self, column: str) -> list[str]:
        """Return a column of text.

        Raises
        ------
        InputError
            If the column is missing or a cell is empty.
        """
        if not self.has(column):
            found = list(self.frame.columns)
            raise InputError(
                f'{self.path.name} has no column "{column}"; it has {found}.{did_you_mean(column, found)} '
                f'Name one "{column}", if need be with its unit in brackets.'
            )
        values = [str(v).strip() for v in self.frame[column]]
        for k, value in enumerate(values):
            if not value:
                raise InputError(f'{self.row(k)}: "{column}" is empty. Fill it in or remove the row.')
        return values

    def numbers(self, column: str, kind: str, *, default: float | None = None) -> NDArray[np.float64]:
        """Return a column of numbers in metres, days and grams.

        Parameters
        ----------
        column : str
            Its name.
        kind : str
            What it measures, as in `inkhorn.units`.
        default : float, optional
            For a column that is missing or a cell that is empty; either is an error if not given.

        Raises
        ------
        InputError
            Naming the file, the line and the cell.
        """
        if default is not None and not self.has(column):
            return np.full(len(self), default)
        optional = default is not None
        cells = [str(v).strip() for v in self.frame[column]] if optional else self.text(column)
        unit = self.headers[column] or self.units.unit_of(kind)
        try:
            factor = unit_factor(unit, kind)
        except InputError as problem:
            raise InputError(f'{self.path.name}, line 1: column "{column}": {problem}') from None
        values = np.empty(len(cells))
        for k, cell in enumerate(cells):
            if not cell and default is not None:
                values[k] = default
                continue
            try:
                values[k] = float(cell) * factor
            except ValueError:
                try:
                    values[k] = quantity(cell, kind, units=self.units, what=f'"{column}"')
                except InputError as problem:
                    raise InputError(f"{self.row(k)}: {problem}") from None
            if not np.isfinite(values[k]):
                raise InputError(
                    f'{self.row(k)}: "{column}" is {cell}; expected a finite number, as in "{KINDS[kind][3]}".'
                )
        return values

    def dates(self, column: str) -> NDArray[np.datetime64]:
        """Return a column of dates, written year-month-day."""
        cells, values = self.text(column), []
        for k, cell in enumerate(cells):
            try:
                values.append(np.datetime64(cell, "s"))
            except ValueError:
                raise InputError(
                    f'{self.row(k)}: "{column}" is "{cell}"; expected a date as in 2021-05-31.'
                ) from None
        return np.array(values, dtype="datetime64[s]")


def read_table(path: Path, *, units: UnitSystem = METRES_AND_DAYS, asked_by: str = "") -> Table:
    """Read a CSV file (commas or semicolons).

    Parameters
    ----------
    path : Path
        The file.
    units : UnitSystem
        Of numbers without a unit.
    asked_by : str
        Who names the file, for messages.

    Raises
    ------
    InputError
        If the file is missing, is no table, or has no rows.
    """
    import pandas as pd

    asked = f" ({asked_by})" if asked_by else ""
    try:
        text = path.read_text(encoding="utf-8-sig")
    except OSError as problem:
        raise InputError(
            f'cannot read "{path}"{asked}: {problem.strerror}. Check the name and the folder.'
        ) from None
    except UnicodeDecodeError:
        raise InputError(f'"{path}"{asked} is not text in UTF-8. Save the table as CSV in UTF-8.') from None
    header = text.splitlines()[0] if text.strip() else ""
    separator = ";" if header.count(";") > header.count(",") else ","
    try:
        frame = pd.read_csv(
            path,
            dtype=str,
            keep_default_na=False,
            sep=separator,
            skip_blank_lines=False,
            encoding="utf-8-sig",
        )
    except (pd.errors.ParserError, pd.errors.EmptyDataError) as problem:
        raise InputError(f'"{path}"{asked} is not a table: {problem}. Expected CSV with a header.') from None
    split = [split_header(str(c)) for c in frame.columns]
    names = [name for name, _ in split]
    twice = sorted({n for n in names if names.count(n) > 1})
    if twice:
        raise InputError(f"{path.name}, line 1: columns appear twice: {twice}. Rename them.")
    while len(frame) and not "".join(frame.iloc[-1]).strip():
        frame = frame.iloc[:-1]
    if frame.empty:
        raise InputError(f'"{path}"{asked} has no rows. Expected at least one below the header.')
    frame.columns = pd.Index(names)
    return Table(path, frame, dict(split), units)
