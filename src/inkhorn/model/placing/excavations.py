"""Where pits meet cells: their floor, and the air above it."""

from __future__ import annotations

import numpy as np

from inkhorn.model.placing.plan import Plan, Spot, places
from inkhorn.model.placing.traced import Traced, plain, where
from inkhorn.model.terms import ExcavationTerm
from inkhorn.site import Excavation, Schedule

_OPEN = 0.01  # of the height of a cell of air: what water has to pass there
_THIN = 0.02  # of the height of a cell: ground between the floor and its bottom counts as no less


def _begun_as_it_goes_on(floor: Traced, schedule: Schedule | None) -> Traced:
    """Floors of each period; in a steady beginning of no length, where others are means, that of the next."""
    if schedule is None or floor.ndim < 2 or len(schedule) < 2:
        return floor
    if not schedule.steady[0] or schedule.lengths[0] > 0.0:
        return floor
    return floor[np.concatenate([[1], np.arange(1, len(schedule))])]


@places(Excavation, ExcavationTerm)
def place_excavations(features: list[Excavation], plan: Plan) -> list[Spot]:
    """All cells below each polygon that are ever dug into, by area; drained at their bottom, or at the floor."""
    spots, of, number = [], plan.grid.cells, plan.grid.cell_number
    for feature, place in zip(features, plan.footprints(features), strict=True):
        floor = _begun_as_it_goes_on(plan.value(feature, "floor", place), plan.schedule)
        lowest = np.atleast_2d(plain(floor)).min(axis=0)
        layer, entry = np.nonzero(
            (number[:, place.plan] >= 0) & (of.top[number[:, place.plan]] > lowest[None])
        )
        cells = number[layer, place.plan[entry]]
        area, floor = place.size[entry], floor[..., entry]
        bottom, top, height = of.bottom[cells], of.top[cells], of.thickness[cells]
        dug, within = plain(floor) < top, (plain(floor) < top) & (plain(floor) > bottom)
        vertical = plan.properties["vertical_conductivity"][cells]
        ground = (
            where(within, (0.5 * (floor - bottom)).at_least(0.0), Traced(np.zeros(1))) + 0.5 * _THIN * height
        )
        passes = where(within, vertical / ground, vertical / (_OPEN * height))
        values = {
            "conductance": where(dug, passes, Traced(np.zeros(1))),
            "level": where(within, floor, Traced(np.where(dug, bottom, top))),
        }
        deep = len(np.unique(cells)) and float(of.top[cells].max() - lowest.min())
        spots.append(
            Spot(
                feature, cells, values, float(place.size.sum()), "m²", place.outside,
                f"up to {deep:.3g} m deep" if len(cells) else "", measure={"conductance": area},
            )
        )  # fmt: skip
    return spots
