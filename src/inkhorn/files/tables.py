"""Tables from CSV, plain text and XLSX, with the unit in the header or the cell, and every bad row named."""

from __future__ import annotations

import csv
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from inkhorn.dates import one_date
from inkhorn.errors import InputError, did_you_mean
from inkhorn.files.headers import Header, split_header
from inkhorn.files.reading import reading_as, text_of
from inkhorn.sizes import refuse_beyond
from inkhorn.units import (
    KINDS,
    METRES_AND_DAYS,
    UnitSystem,
    quantity,
    refuse_impossible,
    unit_factor,
)

__all__ = ["Table", "read_table"]

_MOST_TOLD = 20  # rows that a message names
_WITH_COMMA = re.compile(r"[+-]?\d+,\d+(?:[eE][+-]?\d+)?$")
_THOUSANDS = re.compile(r"[+-]?[1-9]\d{0,2},\d{3}$")


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
    headers : dict of str to Header
        What the header of each column says, its unit above all.
    units : UnitSystem
        Of numbers without a unit.
    remarks : list of str
        What was understood that may be told.
    rows_are : str
        What a row of the file is called: a line of text, a row of a GIS file.
    otherwise : str
        What else to do about a column that is missing, for messages.
    """

    path: Path
    columns: dict[str, list[str]]
    lines: list[int]
    headers: dict[str, Header]
    units: UnitSystem
    sheet: str | None = None
    remarks: list[str] = field(default_factory=list)
    rows_are: str = "line"
    otherwise: str = ""

    def __len__(self) -> int:
        return len(self.lines)

    def has(self, column: str) -> bool:
        """Return whether there is such a column."""
        return self._named(column) in self.columns

    def _named(self, column: str) -> str:
        """What a column is called here, which may be asked for by its whole header, too."""
        return column if column in self.columns else split_header(column).name

    def header(self, column: str) -> Header:
        """Return what the header of a column says."""
        return self.headers[self._named(column)]

    def renamed(self, columns: Mapping[str, str]) -> Table:
        """Return the same table with some columns called otherwise: theirs by the name that is expected."""
        theirs = {expected: self._named(named) for expected, named in columns.items()}
        own = {name: name for name in self.columns if name not in theirs and name not in theirs.values()}
        return replace(
            self,
            columns={name: self.columns[was] for name, was in (own | theirs).items()},
            headers={name: self.headers[was] for name, was in (own | theirs).items()},
        )

    def row(self, index: int) -> str:
        """Return a row in words, as a text editor or a spreadsheet counts it."""
        if self.sheet is not None and self.rows_are == "line":
            return f'{self.path.name}, sheet "{self.sheet}", row {self.lines[index]}'
        return f"{self.path.name}, {self.rows_are} {self.lines[index]}"

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
                f'Name one "{column}", if need be with its unit in brackets.{self.otherwise}'
            )
        values = self.columns[self._named(column)]
        empty = (k for k, value in enumerate(values) if not value)
        _refuse(f'{self.row(k)}: "{column}" is empty. Fill it in or remove the row.' for k in empty)
        return values

    def numbers(
        self,
        column: str,
        kind: str,
        *,
        default: float | None = None,
        unit: str | None = None,
        instead: str = " Count them upwards from the sea.",
        depths: bool = False,
    ) -> NDArray[np.float64]:
        """Return a column of numbers in metres, days and grams.

        Parameters
        ----------
        column : str
            Its name.
        kind : str
            What it measures, as in `inkhorn.units`.
        default : float, optional
            For a column that is missing or a cell that is empty; either is an error if not given.
        unit : str, optional
            Of the numbers; that of the column's header, or of the project, if not given.
        instead : str
            What to do where depths stand for elevations, for the message.
        depths : bool
            Whether they count from the ground down.

        Raises
        ------
        InputError
            Naming the file, the line and the cell.
        """
        if default is not None and not self.has(column):
            return np.full(len(self), default)
        optional = default is not None
        cells = self.columns[self._named(column)] if optional else self.text(column)
        header = self.header(column)
        if header.counts == "depth" and kind == "elevation":
            raise InputError(
                f'{self.path.name}: the header of "{column}" says that it holds depths below the ground; expected '
                f"elevations.{instead}"
            )
        if header.counts == "elevation" and depths:
            raise InputError(
                f'{self.path.name}: the header of "{column}" says that it holds elevations; expected depths, which count '
                "from the ground down."
            )
        if header.name.endswith(")") and not unit:
            taken = self.units.unit_of(kind).replace("(", "").replace(")", "").removesuffix("^1")
            remark = f'"{header.name}" is a name without a unit; its numbers are taken in {taken}'
            if remark not in self.remarks:
                self.remarks.append(remark)
        unit = unit or header.unit or self.units.unit_of(kind)
        try:
            factor = unit_factor(unit, kind)
        except InputError as problem:
            raise InputError(f'{self.path.name}, line 1: column "{column}": {problem}') from None
        values, problems = np.empty(len(cells)), []
        commas = self._decimal_commas(column, cells)
        for k, cell in enumerate(cells):
            if not cell and default is not None:
                values[k] = default
                continue
            try:
                values[k] = self._number(cell.replace(",", ".") if commas else cell, column, kind, factor)
            except InputError as problem:
                problems.append(f"{self.row(k)}: {problem}")
        _refuse(problems)
        return values

    def _number(self, cell: str, column: str, kind: str, factor: float) -> float:
        try:
            value = float(cell) * factor
        except ValueError:
            return quantity(cell, kind, units=self.units, what=f'"{column}"')
        if not np.isfinite(value):
            raise InputError(
                f'"{column}" is {cell}; expected a finite number, as in "{KINDS[kind].example}".'
            )
        refuse_impossible(f'"{column}"', value, kind)
        return value

    def _decimal_commas(self, column: str, cells: list[str]) -> bool:
        """Whether numbers of a column have a comma for a point, as where semicolons part the cells.

        Raises
        ------
        InputError
            If a comma may as well part thousands.
        """
        with_comma = [c for c in cells if _WITH_COMMA.match(c)]
        if not with_comma or any("." in c for c in cells):
            return False
        if all(_THOUSANDS.match(c) for c in with_comma):
            k = cells.index(with_comma[0])
            raise InputError(
                f'{self.row(k)}: "{column}" is {with_comma[0]}, of which the comma may be a decimal one or part '
                "thousands. Write numbers with a point, as in 1.25."
            )
        remark = f'decimal commas in "{column}"'
        if remark not in self.remarks:
            self.remarks.append(remark)
        return True

    def part_by_sign(self, column: str, negative: str, positive: str, kind: str) -> None:
        """Make two columns of one: of its negative numbers, counted upwards from 0, and of its positive ones."""
        if not self.has(column):
            self.text(column)  # says what is missing
        values = self.numbers(column, kind, default=0.0)
        for name, part in ((negative, np.maximum(-values, 0.0)), (positive, np.maximum(values, 0.0))):
            self.columns[name] = [repr(v) for v in part.tolist()]
            self.headers[name] = Header(name, KINDS[kind].inside)

    def dates(self, column: str) -> NDArray[np.datetime64]:
        """Return a column of dates, written year-month-day."""
        values, problems = [], []
        for k, cell in enumerate(self.text(column)):
            try:
                values.append(one_date(cell, f'"{column}"'))
            except InputError as problem:
                problems.append(f"{self.row(k)}: {problem}")
        _refuse(problems)
        return np.array(values, dtype="datetime64[s]")


def _refuse(problems: Iterable[str]) -> None:
    """Raise all problems at once, the first so many of them a line each."""
    lines = list(problems)
    if lines:
        more = [f"and {len(lines) - _MOST_TOLD} more such rows"] if len(lines) > _MOST_TOLD else []
        raise InputError("\n".join(lines[:_MOST_TOLD] + more))


_Rows = list[tuple[int, list[str]]]


def _text_rows(path: Path, asked: str) -> _Rows:
    """Rows of a text file: cells between commas or semicolons; but for CSV also between tabs or blanks."""
    text = text_of(path, asked)
    header = next((line for line in text.splitlines() if line.strip()), "")
    if path.suffix.lower() != ".csv" and not any(mark in header for mark in ",;"):
        lines = enumerate(text.splitlines(), start=1)
        if "\t" in header:
            return [(n, [c.strip() for c in line.split("\t")]) for n, line in lines if line.strip()]
        return [(n, line.split()) for n, line in lines if line.strip()]
    csv.field_size_limit(len(text) + 1)  # no cell is longer than its file
    reader = csv.reader(text.splitlines(), delimiter=";" if header.count(";") > header.count(",") else ",")
    return [(reader.line_num, [cell.strip() for cell in row]) for row in reader if "".join(row).strip()]


def _sheet_rows(path: Path, sheet: str | None, asked: str) -> tuple[_Rows, str]:
    """Rows of a sheet of an XLSX file, values as they were last calculated."""
    import zipfile
    from datetime import date, datetime

    import openpyxl

    with zipfile.ZipFile(path) as parts:
        unpacked = float(sum(part.file_size for part in parts.infolist()))
    whole = f'"{path}"{asked}, {unpacked / 1e6:.3g} MB when it is unpacked,'
    refuse_beyond("memory", 10.0 * unpacked, whole, "Leave out what is not needed, or save the sheet as CSV.")
    book = openpyxl.load_workbook(path, read_only=True, data_only=True)
    names = book.sheetnames
    if sheet is None and len(names) > 1:
        raise InputError(f'"{path}"{asked} has several sheets: {names}. Say which with `sheet`.')
    if sheet is not None and sheet not in names:
        raise InputError(
            f'"{path}"{asked} has no sheet "{sheet}"; it has {names}.{did_you_mean(sheet, names)}'
        )

    def words(value: object) -> str:
        if isinstance(value, (datetime, date)):
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
    if path.suffix.lower() == ".xlsx":
        with reading_as(path, "an XLSX file", asked):
            rows, name = _sheet_rows(path, sheet, asked)
    else:
        with reading_as(path, "a table", asked):
            rows = _text_rows(path, asked)
    if sheet is not None and name is None:
        raise InputError(f'"{path}"{asked} has no sheets; `sheet` is for XLSX files. Leave it out.')
    if len(rows) < 2:
        raise InputError(f'"{path}"{asked} has no rows. Expected a header and at least one row below it.')
    split = [split_header(name) for name in rows[0][1]]
    bare = [header.name for header in split]
    unclear = {header.name for header in split if not header.unit}
    names = [  # two that differ in their units alone, as of metres and feet, are called by their whole headers
        header.name if bare.count(header.name) == 1 or header.name in unclear else whole.strip()
        for header, whole in zip(split, rows[0][1], strict=True)
    ]
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
    headers = dict(zip(names, split, strict=True))
    return Table(path, columns, [line for line, _ in rows[1:]], headers, units, name)
