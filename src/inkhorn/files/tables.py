"""Tables from CSV, plain text and XLSX, with the unit in the header or the cell, and every bad row named."""

from __future__ import annotations

import csv
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, did_you_mean
from inkhorn.units import KINDS, METRES_AND_DAYS, UnitSystem, quantity, split_header, unit_factor

__all__ = ["Table", "read_table"]


@dataclass(frozen=True, eq=False)
class Table:
    """A table as it stands in the file: every cell is text.

    Attributes
    ----------
    path : Path
        The file.
    columns : dict of str to list of str
        Cells by column name, which has lost its unit.
    lines : list of int
        The line of each row in the file.
    headers : dict of str to str
        The unit of each column, empty where its header gives none.
    units : UnitSystem
        Of numbers without a unit.
    """

    path: Path
    columns: dict[str, list[str]]
    lines: list[int]
    headers: dict[str, str]
    units: UnitSystem
    sheet: str | None = None

    def __len__(self) -> int:
        return len(self.lines)

    def has(self, column: str) -> bool:
        """Return whether there is such a column."""
        return column in self.columns

    def row(self, index: int) -> str:
        """Return a row in words, as a text editor or a spreadsheet counts it."""
        if self.sheet is not None:
            return f'{self.path.name}, sheet "{self.sheet}", row {self.lines[index]}'
        return f"{self.path.name}, line {self.lines[index]}"

    def text(self, column: str) -> list[str]:
        """Return a column of text.

        Raises
        ------
        InputError
            If the column is missing or a cell is empty.
        """
        if not self.has(column):
            found = list(self.columns)
            raise InputError(
                f'{self.path.name} has no column "{column}"; it has {found}.{did_you_mean(column, found)} '
                f'Name one "{column}", if need be with its unit in brackets.'
            )
        values = self.columns[column]
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
        cells = self.columns[column] if optional else self.text(column)
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
                    f'{self.row(k)}: "{column}" is {cell}; expected a finite number, as in "{KINDS[kind].example}".'
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


_Rows = list[tuple[int, list[str]]]


def _text_rows(path: Path, asked: str) -> _Rows:
    """Rows of a text file: cells between commas or semicolons; but for CSV also between tabs or blanks."""
    try:
        text = path.read_text(encoding="utf-8-sig")
    except UnicodeDecodeError:
        raise InputError(f'"{path}"{asked} is not text in UTF-8. Save the table as CSV in UTF-8.') from None
    header = next((line for line in text.splitlines() if line.strip()), "")
    if path.suffix.lower() != ".csv" and not any(mark in header for mark in ",;"):
        lines = enumerate(text.splitlines(), start=1)
        if "\t" in header:
            return [(n, [c.strip() for c in line.split("\t")]) for n, line in lines if line.strip()]
        return [(n, line.split()) for n, line in lines if line.strip()]
    reader = csv.reader(text.splitlines(), delimiter=";" if header.count(";") > header.count(",") else ",")
    return [(reader.line_num, [cell.strip() for cell in row]) for row in reader if "".join(row).strip()]


def _sheet_rows(path: Path, sheet: str | None, asked: str) -> tuple[_Rows, str]:
    """Rows of a sheet of an XLSX file, values as they were last calculated."""
    import zipfile
    from datetime import datetime

    import openpyxl

    try:
        book = openpyxl.load_workbook(path, read_only=True, data_only=True)
    except (zipfile.BadZipFile, KeyError, ValueError, openpyxl.utils.exceptions.InvalidFileException):
        raise InputError(f'"{path}"{asked} is not an XLSX file that can be read.') from None
    names = book.sheetnames
    if sheet is None and len(names) > 1:
        raise InputError(f'"{path}"{asked} has several sheets: {names}. Say which with `sheet`.')
    if sheet is not None and sheet not in names:
        raise InputError(
            f'"{path}"{asked} has no sheet "{sheet}"; it has {names}.{did_you_mean(sheet, names)}'
        )

    def words(value: object) -> str:
        if isinstance(value, datetime):
            return value.isoformat()
        return "" if value is None else str(value).strip()

    name = sheet or names[0]
    rows = [
        (n, [words(v) for v in row]) for n, row in enumerate(book[name].iter_rows(values_only=True), start=1)
    ]
    book.close()
    rows = [(n, cells) for n, cells in rows if any(cells)]
    width = max((k + 1 for k, c in enumerate(rows[0][1]) if c), default=0) if rows else 0
    return [(n, cells[:width] if not any(cells[width:]) else cells) for n, cells in rows], name


def read_table(
    path: Path, *, units: UnitSystem = METRES_AND_DAYS, sheet: str | None = None, asked_by: str = ""
) -> Table:
    """Read a CSV file (commas or semicolons), plain text (tabs or blanks), or a sheet of an XLSX file.

    Parameters
    ----------
    path : Path
        The file; the first row names the columns.
    units : UnitSystem
        Of numbers without a unit.
    sheet : str, optional
        Which sheet; needed if there are several.
    asked_by : str
        Who names the file, for messages.

    Raises
    ------
    InputError
        If the file is missing, is no table, or has no rows.
    """
    asked = f" ({asked_by})" if asked_by else ""
    name = None
    try:
        if path.suffix.lower() == ".xlsx":
            rows, name = _sheet_rows(path, sheet, asked)
        else:
            rows = _text_rows(path, asked)
    except OSError as problem:
        raise InputError(
            f'cannot read "{path}"{asked}: {problem.strerror}. Check the name and the folder.'
        ) from None
    if sheet is not None and name is None:
        raise InputError(f'"{path}"{asked} has no sheets; `sheet` is for XLSX files. Leave it out.')
    if len(rows) < 2:
        raise InputError(f'"{path}"{asked} has no rows. Expected a header and at least one row below it.')
    split = [split_header(name) for name in rows[0][1]]
    names = [name for name, _ in split]
    twice = sorted({n for n in names if names.count(n) > 1})
    if twice:
        raise InputError(f"{path.name}, line {rows[0][0]}: columns appear twice: {twice}. Rename them.")
    for line, cells in rows[1:]:
        if len(cells) != len(names):
            raise InputError(
                f"{path.name}, line {line}: there are {len(cells)} cells; the header has {len(names)}. "
                "Put a cell that holds the separator in quotes; leave an empty one between separators."
            )
    columns = dict(zip(names, map(list, zip(*(cells for _, cells in rows[1:]), strict=True)), strict=True))
    return Table(path, columns, [line for line, _ in rows[1:]], dict(split), units, name)
