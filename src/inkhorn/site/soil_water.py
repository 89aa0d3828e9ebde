"""Recharge from daily rain and evapotranspiration: the water balance of the root zone."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike

from inkhorn.errors import InputError, check_nonnegative, check_positive

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["soil_water_balance"]


def soil_water_balance(
    rain: ArrayLike,
    evapotranspiration: ArrayLike,
    *,
    available_water: float,
    easily_taken: float = 0.5,
    runoff: float = 0.0,
    crop_factor: float = 1.0,
    initial_deficit: float = 0.0,
) -> pd.DataFrame:
    """Return what rain leaves for the groundwater, day by day.

    A single store holds what roots can take. Rain less runoff fills it, plants empty it at the
    potential rate until the deficit passes what is easily taken, and in proportion to what is left
    beyond that. What it cannot hold becomes recharge on the same day.

    Parameters
    ----------
    rain, evapotranspiration : array_like of float, (n_days,)
        Rain and potential (reference) evapotranspiration [mm/day].
    available_water : float
        Between field capacity and wilting point over the depth of the roots [mm].
    easily_taken : float
        Share of it that plants take at the full rate, from 0 to 1.
    runoff : float
        Share of the rain that runs off, from 0 to 1.
    crop_factor : float
        Potential evapotranspiration of the plants over the reference.
    initial_deficit : float
        Missing to field capacity at the beginning [mm].

    Returns
    -------
    pandas.DataFrame
        One row per day: recharge, actual evapotranspiration, runoff and deficit at the day's end [mm]. Rain
        equals recharge, evapotranspiration, runoff and the fall of the deficit.

    Raises
    ------
    InputError
        If rain and evapotranspiration differ in length, or a number cannot be.

    References
    ----------
    Allen, R. G., Pereira, L. S., Raes, D. and Smith, M. (1998), Crop evapotranspiration, FAO Irrigation and
    Drainage Paper 56, chapter 8, eqs. 84 and 85 (reduction under water stress, daily balance).

    Examples
    --------
    >>> table = soil_water_balance([10, 0, 80], [2, 4, 1], available_water=60, initial_deficit=20)
    >>> table["recharge [mm]"].tolist()
    [0.0, 0.0, 63.0]
    """
    import pandas as pd

    p = np.atleast_1d(check_nonnegative("rain", rain, unit="mm/day"))
    e = np.atleast_1d(check_nonnegative("evapotranspiration", evapotranspiration, unit="mm/day"))
    if p.shape != e.shape:
        raise InputError(
            f"rain has {len(p)} days and evapotranspiration {len(e)}; expected as many. Cut both to the same days."
        )
    check_positive("available_water", available_water, unit="mm")
    check_nonnegative("crop_factor", crop_factor)
    for name, value, most in (
        ("easily_taken", easily_taken, 1.0),
        ("runoff", runoff, 1.0),
        ("initial_deficit", initial_deficit, available_water),
    ):
        if not 0.0 <= value <= most:
            raise InputError(f"{name} is {value:g}; expected 0 to {most:g}.")
    wanted, ran = crop_factor * e, runoff * p
    beyond = available_water * (1.0 - easily_taken)
    rows = np.empty((len(p), 4))
    deficit = initial_deficit
    for day in range(len(p)):
        deficit -= p[day] - ran[day]
        drained = max(-deficit, 0.0)
        deficit += drained
        # FAO 56, eq. 84: less is taken once the easily taken part is gone
        stress = 1.0 if beyond == 0.0 else min((available_water - deficit) / beyond, 1.0)
        taken = min(max(stress, 0.0) * wanted[day], available_water - deficit)
        deficit += taken
        back = min(drained, deficit)  # on a wet day plants drink before the water sinks
        drained, deficit = drained - back, deficit - back
        rows[day] = drained, taken, ran[day], deficit
    columns = ["recharge [mm]", "evapotranspiration [mm]", "runoff [mm]", "deficit [mm]"]
    return pd.DataFrame(rows, columns=columns)
