"""Cells told one by one, for people who type cells instead of drawing shapes."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from inkhorn.errors import InputError, check_finite

__all__ = ["PickedCells"]


@dataclass(frozen=True, eq=False)
class PickedCells:
    """Where a feature is, instead of a shape: cells by number, or by layer and place.

    Numbers hold for one grid only; layers and places for any.

    Parameters
    ----------
    numbers : sequence of int
        Cell numbers, as `Grid` counts them.
    places : sequence of (str, float, float)
        A layer's name, x and y [m]: the cell of that layer there.

    Examples
    --------
    >>> PickedCells([3, 4])
    PickedCells(2 cells)
    >>> PickedCells(places=[("sand", 250.0, 130.0)])
    PickedCells(1 cell)
    """

    numbers: Any = ()
    places: Any = ()
    geom_type: ClassVar[str] = "Cells"

    def __post_init__(self) -> None:
        numbers = np.asarray(self.numbers)
        if numbers.ndim != 1 or (numbers.size and numbers.dtype.kind not in "iu"):
            raise InputError(f"cell numbers are {self.numbers!r}; expected whole numbers in a row.")
        if len(numbers) and len(self.places):
            raise InputError("cells are told by their numbers and by layers and places; give one of the two.")
        if not len(numbers) and not len(self.places):
            raise InputError("no cell is told; expected at least one number, or one layer and place.")
        places = []
        for place in self.places:
            if len(place) != 3 or not isinstance(place[0], str):
                raise InputError(f"the place of a cell is {place!r}; expected a layer's name, x and y.")
            check_finite(f'the place of a cell of "{place[0]}"', place[1:], unit="m")
            places.append((place[0], float(place[1]), float(place[2])))
        object.__setattr__(self, "numbers", numbers.astype(np.int64))
        object.__setattr__(self, "places", tuple(places))

    def __len__(self) -> int:
        return len(self.numbers) or len(self.places)

    def __repr__(self) -> str:
        return f"PickedCells({len(self)} cell{'s'[: len(self) != 1]})"

    def on_map(self) -> Any:
        """Return the places as a shapely MultiPoint [m].

        Raises
        ------
        InputError
            If cells are told by their numbers, which only a grid gives a place.
        """
        import shapely

        if not self.places:
            raise InputError(
                f"cells told by their numbers, as {self.numbers[0]}, have no place before there is a grid. Tell them "
                "by layer and place."
            )
        return shapely.MultiPoint([place[1:] for place in self.places])

    def refuse_repeats(self, where: str) -> None:
        """Refuse a cell that is told twice, whose values would add up or stand against each other."""
        often = Counter(self.places or self.numbers.tolist())
        again = next((one for one, times in often.items() if times > 1), None)
        if again is not None:
            said = (
                f"the cell {again}"
                if len(self.numbers)
                else 'the cell of "{}" at x={:.9g}, y={:.9g}'.format(*again)
            )
            raise InputError(f"{where} names {said} twice. Name each once.")
