"""One species on its way: what it holds, what holds it, and where its mass went."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.conduits import PipeWater
from inkhorn.model import Model
from inkhorn.model.solutes import HELD, RATE, START
from inkhorn.site import (
    ReturnedWater,
    Species,
)
from inkhorn.threads import worth_sharing
from inkhorn.transport import _kernels
from inkhorn.transport.by_ground import by_ground
from inkhorn.transport.dispersion import Dispersion
from inkhorn.transport.holding import ImmobileWater, pores_of
from inkhorn.transport.inflow import Inflow
from inkhorn.transport.neighbours import Neighbours
from inkhorn.transport.network import InConduits
from inkhorn.transport.passing import Passing
from inkhorn.transport.record import DECAY, EDGE, JUMP, PRESSED, PRODUCTION, PlumeRecord
from inkhorn.transport.scheme import Crossing, Stepper

__all__ = ["Carried"]

Array = NDArray[np.float64]
Mask = NDArray[np.bool_]
Key = tuple[str, str]

_REPLACED = ("c", "mass", "retained", "immobile", "time", "highest", "rate", "conduits")  # by a step
_ADDED_TO = ("gained", "lost", "across", "rim")


class Carried:
    """State and budget of one species while it is carried.

    Parameters
    ----------
    model : Model
        Whose water carries it.
    near : Neighbours
        Of its grid.
    species : Species
        Which.
    dispersion : Dispersion
        Of it.
    concentration : ndarray of float, (n_cells,)
        At the begin [g/m³].
    start : datetime64, optional
        The date of day 0.
    left_out : ndarray of bool, (n_cells,)
        Cells that take no part; water comes from there with the background.
    immobile : ImmobileWater, optional
        Beside the water that flows.
    sharp : bool
        As of `Stepper`.
    """

    def __init__(
        self,
        model: Model,
        near: Neighbours,
        species: Species,
        dispersion: Dispersion,
        concentration: Array,
        start: np.datetime64 | None,
        *,
        left_out: Mask,
        immobile: ImmobileWater | None = None,
        sharp: bool = True,
    ) -> None:
        n = model.grid.n_cells
        self.model, self.near, self.species, self.sharp, self.start = model, near, species, sharp, start
        self.loops = _kernels.SHARED if worth_sharing(n) else _kernels.ALONE
        self.inflow = Inflow(model, species, start)
        self.pores = pores_of(model, species)
        self.porosity = model.input("porosity")
        self.sorbs = species.sorption is not None
        self.density = np.asarray(model.bulk_density) if self.sorbs else np.zeros(n)
        along, across, upwards, diffusion = dispersion.of_cells(model)
        if species.diffusion is not None:
            diffusion = by_ground(model, f"{species.name}: diffusion", species.diffusion)
        self.spread = along, across, upwards, diffusion
        self.solutes = [s for s in model.solutes if s.species == species.name]
        self.held, self.left_out = left_out.copy(), left_out
        self.c = concentration.copy()
        for s in self.solutes:
            if s.kind == START:
                self.c[s.cells] += s.share * (np.asarray(s.value) - self.c[s.cells])
            elif s.kind == HELD:
                self.held[s.cells] = True
        if left_out.any():
            self.c[left_out] = species.initial if species.background is None else species.background
        self.immobile_water = np.zeros(n)
        self.exchange = np.zeros(n)
        if immobile is not None:
            self.immobile_water = (
                by_ground(model, "immobile porosity", immobile.porosity) * model.grid.cells.volume
            )
            self.exchange = by_ground(model, "exchange with immobile water", immobile.exchange)
        self.immobile = self.immobile_water * self.c
        self.retained = np.zeros(n)
        self.mass = np.zeros(n)
        self.gained: dict[Key, float] = {}
        self.lost: dict[Key, float] = {}
        limit = species.limit is not None
        self.first_above = np.full(n if limit else 0, np.inf)
        self.last_above = np.full(n if limit else 0, np.inf)
        self.highest = float(self.c.max(initial=0.0))
        self.passing: Passing | None = None
        self.time = 0.0
        self.brings: dict[Key, float] = {}
        self.watch_times: list[float] = []  # since the last record
        self.watched: list[Array] = []
        self.last_watched = np.empty(0)
        self.rate = np.zeros(n)  # of change in the last step [g/m³/day]
        self._resumed: PlumeRecord | None = None
        self.conduits: InConduits | None = None
        self.steppers: dict[float, Stepper] = {}
        self.across = self.rim = np.empty(0)

    # --- what holds it ------------------------------------------------------------------------------

    def water(self, time: float) -> Array:
        """Return the water in the pores at a time [m³]."""
        assert self.passing is not None  # met before
        return self.porosity * self.passing.at(time)

    def ground(self, time: float) -> Array:
        """Return the ground that water stands in at a time [g]; 0 where nothing sorbs."""
        assert self.passing is not None
        return self.density * self.passing.at(time) if self.sorbs else self.density

    def _at_ends(self, of: Callable[[float], Array], begin: float, end: float) -> tuple[Array, Array]:
        """Return the water, or the ground, at both ends of a step."""
        assert self.passing is not None
        first = of(begin)
        return first, first if self.passing.still else of(end)

    def stored(self) -> Array:
        """Return the mass in each of `STORES` [g]."""
        assert self.passing is not None
        dissolved = self.water(self.time) * self.c
        return np.array(
            [
                dissolved.sum(),
                (self.mass - dissolved).sum(),
                self.retained.sum(),
                self.immobile.sum(),
                0.0 if self.conduits is None else self.conduits.stored,
            ]
        )

    def take_over(self, record: PlumeRecord, keys: Sequence[Key]) -> None:
        """Begin with the state and the budget of an earlier run's record."""
        self._resumed = record
        self.c = record.concentration.copy()
        self.gained = dict(zip(keys, record.gained.tolist(), strict=False))
        self.lost = dict(zip(keys, record.lost.tolist(), strict=False))
        if len(record.first_above):
            self.first_above, self.last_above = record.first_above.copy(), record.last_above.copy()
        if len(record.watched):
            self.last_watched = record.watched[-1]

    def _begin(self, passing: Passing, time: float) -> None:
        """Take up the state that a run begins with."""
        self.passing, self.time = passing, time
        self.mass = self.pores.mass(self.water(time), self.ground(time), self.c)
        if self._resumed is not None:
            for name in ("retained", "immobile"):
                kept = getattr(self._resumed, name)
                setattr(self, name, kept.copy() if len(kept) else np.zeros_like(self.c))
            return
        empty = np.maximum(self.model.grid.cells.volume - passing.at(time), 0.0)
        self.retained = empty * (passing.retained + self.density * self.pores.sorbed_over(self.c)) * self.c
        self.retained[self.held] = 0.0
        self._note(self.c, time, 0.0)

    # --- one step of the flow -----------------------------------------------------------------------

    def meet(self, passing: Passing, time: float) -> None:
        """Go over to another step of the flow, whose levels may begin elsewhere than where those before ended."""
        model, near = self.model, self.near
        if self.passing is None:
            self._begin(passing, time)
        assert self.passing is not None  # by now
        before = self.passing.at(self.time)
        self.passing, self.time = passing, time
        self._meet_conduits(passing, time)
        jump = passing.at(time) - before
        if np.abs(jump).max(initial=0.0) > 1e-12 * float(model.grid.cells.volume.max(initial=1.0)):
            self._jump(jump, before)
        height = passing.filled * model.grid.cells.thickness
        upright = near.w1.copy()
        _kernels.column_weights(
            near.first, near.middle, near.near, near.face, near.way, near.area, height, passing.wet, upright
        )
        m, n = len(near.a), model.grid.n_cells
        mixing, cross = np.zeros(m), np.zeros((m, 3))
        if any(values.any() for values in self.spread):
            self.loops.dispersive(
                near.a, near.b, near.n_sides, passing.across, near.area, near.normal, near.arm, near.share, height,
                passing.filled, passing.flux, self.porosity, *self.spread, passing.wet, mixing, cross,
            )  # fmt: skip
        if self.left_out.any():
            aside = self.left_out[near.a] | self.left_out[near.b]
            mixing[aside], cross[aside] = 0.0, 0.0
        self.rises = (
            np.diff(passing.saturated, axis=0)[0] / max(passing.length, 1e-300) * (passing.length > 0.0)
        )
        self.crossing = Crossing(
            passing.across, mixing, cross, height, passing.wet, self.held, np.empty(n), passing.links, upright
        )
        self.steppers = {}
        self._leave()
        self.carried_out, self.mixed_out = np.empty(n), np.empty(n)
        _kernels.outflows(
            near.first,
            near.face,
            near.way,
            passing.across,
            mixing,
            self.crossing.leaving,
            self.carried_out,
            self.mixed_out,
        )

    def _meet_conduits(self, passing: Passing, time: float) -> None:
        """Go over to another step of the flow in conduits; at first their water is as that in the rock about them."""
        network = passing.network
        if network is None:
            return
        parts = network.parts(passing.begin, passing.end, time)
        if self.conduits is None:
            self.conduits = InConduits(network, self.c[network.cells], *parts)
            if self._resumed is not None and len(self._resumed.conduits):
                self.conduits.water = PipeWater.unpacked(self._resumed.conduits, len(network.cells))
        else:
            self.conduits = self.conduits.copy()
            self._book(JUMP, self.conduits.meet(network, *parts))

    def _leave(self) -> None:
        """What leaves each cell at its own concentration, while levels move so."""
        passing = self.passing
        assert passing is not None
        falls = np.maximum(-self.rises, 0.0)
        self.kept_back = falls * (passing.retained + self.density * self.pores.sorbed_over(self.c))
        self.crossing.leaving[:] = (
            passing.leaving + self.species.taken_by_plants * passing.plants + passing.own + self.kept_back
        )

    def _jump(self, rise: Array, before: Array) -> None:
        """Levels that jump take along what was held back, or leave it behind; the rest has the cell's concentration."""
        assert self.passing is not None
        volume = self.model.grid.cells.volume
        over = self.pores.sorbed_over(self.c)
        up, down = np.maximum(rise, 0.0), np.maximum(-rise, 0.0)
        empty = np.maximum(volume - before, 0.0)
        back = self.retained * np.minimum(up / np.where(empty > 0.0, empty, 1.0), 1.0)
        left = down * (self.passing.retained + self.density * over) * self.c
        self.retained += left - back
        own = (self.porosity - self.passing.retained) * rise * self.c
        after = before + rise
        mass = self.mass + back - left + own
        c = self.pores.concentration(self.porosity * after, self.density * after, mass, self.c)
        c[self.held] = self.c[self.held]
        self._book(JUMP, float(own.sum()))
        self.c, self.mass = c, mass
        kept = self.pores.mass(self.porosity * after, self.density * after, c)
        for name, cells in self._holders():
            self._book(name, float((kept - mass)[cells].sum()))
            self.mass[cells] = kept[cells]

    def residence(self) -> tuple[Array, Array, Array]:
        """Return how long what cells hold stays, by what water carries off, and by all [day]; and that [m³]."""
        assert self.passing is not None
        low = self.passing.saturated.min(axis=0)
        # what sorbs by a curve may hold next to nothing more where there is much: only water counts
        straight = self.pores.kind == _kernels.LINEAR
        hold = low * (self.porosity + self.density * self.pores.one if straight else self.porosity)
        carried = np.maximum(self.carried_out, 1e-300)
        return hold / carried, hold / np.maximum(self.carried_out + self.mixed_out, 1e-300), hold

    # --- one step of the species --------------------------------------------------------------------

    def kept(self) -> dict[str, Any]:
        """Return what a step changes, to be given back to `take_back`."""
        state = {name: getattr(self, name) for name in _REPLACED}
        state |= {name: getattr(self, name).copy() for name in _ADDED_TO}
        return state

    def take_back(self, state: dict[str, Any]) -> None:
        """Be again as before a step."""
        for name, value in state.items():
            setattr(self, name, value)

    def arrive(self, begin: float, end: float, taken: dict[str, float]) -> None:
        """Find out what comes in between two days."""
        assert self.passing is not None
        self.into, self.brings, self.by_key, self.within = self.inflow.brought(
            self.passing, begin, end, taken
        )
        if self.conduits is not None and self.passing.network is not None:
            self.conduits.brings, brings, by_key = self.inflow.into_conduits(
                self.passing.network, begin, end, taken
            )
            self.brings |= brings
            self.by_key |= by_key
            self.highest = max([self.highest, *brings.values()])
        for s in self.solutes:
            if s.kind == RATE:
                rate = s.at(begin, end, self.start)
                np.add.at(self.into, s.cells, s.share * rate)
                key = (RATE, s.name)
                self.by_key[key] = self.by_key.get(key, 0.0) + float(np.sum(s.share * rate))
            elif s.kind == HELD:
                new = s.at(begin, end, self.start)
                self._hold(s.cells, np.broadcast_to(new, s.cells.shape), (HELD, s.name))
        highest = self.within[1][np.isfinite(self.within[1])]
        self.highest = max(self.highest, float(highest.max(initial=0.0)))

    def _hold(self, cells: NDArray[np.int64], new: Array, key: Key) -> None:
        c, before = self.c.copy(), float(self.mass[cells].sum())
        c[cells] = new
        self.c = c
        water, ground = self.water(self.time), self.ground(self.time)
        self.mass[cells] = self.pores.mass(water, ground, c)[cells]
        self._book(key, float(self.mass[cells].sum()) - before)

    def step(self, length: float) -> float:
        """Take a step; return the error of its implicit part, as a share of the highest concentration there was."""
        passing, begin = self.passing, self.time
        assert passing is not None
        end = begin + length
        water = self._at_ends(self.water, begin, end)
        ground = self._at_ends(self.ground, begin, end)
        if self.pores.kind != _kernels.LINEAR and (self.kept_back > 0.0).any():
            self._leave()
        key = round(length, 12)
        if key not in self.steppers:
            self.steppers = {
                key: Stepper(self.near, self.crossing, self.pores, *self.residence()[:2], length, self.sharp)
            }
        stepper = self.steppers[key]
        back, brought = self._given_back(begin, length), self.into
        made = self.species.production * 0.5 * (water[0] + water[1]) if self.species.production else None
        for more in (back, made):
            brought = brought if more is None else brought + more
        c0, within = self.c, self.within
        if self.conduits is not None:
            # at least so much is in what they take, if the cell gets none anew; the rest follows
            times = length / np.maximum(self.residence()[0], 1e-300)
            foreseen = c0 * -np.expm1(-times) / np.maximum(times, 1e-12)
            from_pipes, within = self._through_conduits(foreseen, length)
            brought = brought + from_pipes
        c1, mass, leaves = stepper.step(c0, self.mass, water, ground, brought, within)
        if self.conduits is not None:
            self.conduits.corrected(foreseen, leaves, length)
        self._account(leaves, back, made, length)
        held = self.held
        if held.any():
            kept = self.pores.mass(water[1], ground[1], c1)
            for name, cells in self._holders():
                self._book(name, float((kept - mass)[cells].sum()))
            mass[held] = kept[held]
        self.c, self.mass, self.time = c1, mass, end
        if len(self.across):
            self.across += length * stepper.across()
        self.highest = max(self.highest, float(c1.max(initial=0.0)))
        if not len(stepper.cells):
            return 0.0
        rate = (c1 - c0) / length
        bend = float(np.abs(rate - self.rate)[stepper.cells].max(initial=0.0))
        self.rate = rate
        return 0.5 * length * bend / max(self.highest, 1e-300)

    def _through_conduits(self, c: Array, length: float) -> tuple[Array, tuple[Array, Array]]:
        """What conduits give the rock in a step [g/day], and the bounds of concentrations in what comes in."""
        assert self.conduits is not None
        self.conduits = self.conduits.copy()
        made, network = self.conduits.carried(c, length), self.conduits.passing
        for key, mass in made.from_springs:
            self._book(key, -mass)
        rate = np.asarray(np.bincount(network.cells, made.to_rock, len(c))) / length
        gives = network.given > 0.0
        mean = made.to_rock[gives] / (network.given[gives] * length)
        least, most = self.within[0].copy(), self.within[1].copy()
        np.minimum.at(least, network.cells[gives], mean)
        np.maximum.at(most, network.cells[gives], mean)
        return rate, (least, most)

    def _given_back(self, begin: float, length: float) -> Array | None:
        """Return what was held back and rising water takes along [g/day], None where none rises."""
        passing = self.passing
        assert passing is not None
        if passing.still or not self.retained.any():
            return None
        empty = np.maximum(self.model.grid.cells.volume - passing.at(begin), 0.0)
        part = np.maximum(self.rises, 0.0) / np.where(empty > 0.0, empty, 1.0)
        back: Array = self.retained * np.minimum(part, 1.0 / max(length, 1e-300))
        return back

    def _holders(self) -> list[tuple[Key, Any]]:
        found: list[tuple[Key, Any]] = [((HELD, s.name), s.cells) for s in self.solutes if s.kind == HELD]
        if self.left_out.any():
            found.append((EDGE, np.flatnonzero(self.left_out)))
        return found

    def _account(self, leaves: Array, back: Array | None, made: Array | None, length: float) -> None:
        passing = self.passing
        assert passing is not None
        for key, rate in self.by_key.items():
            self._book(key, rate * length)
        taken = np.where(passing.takes_up, self.species.taken_by_plants, 1.0) * (passing.taking @ leaves)
        for key, rate in zip(passing.takers, taken.tolist(), strict=True):
            self._book(key, -rate * length)
        own = passing.own * leaves
        net, all_of_it = float(own.sum()), float(np.abs(own, out=own).sum())
        self.gained[PRESSED] = self.gained.get(PRESSED, 0.0) + 0.5 * length * (all_of_it - net)
        self.lost[PRESSED] = self.lost.get(PRESSED, 0.0) + 0.5 * length * (all_of_it + net)
        if made is not None:
            self._book(PRODUCTION, length * float(made.sum()))
        if not passing.still:
            self.retained = self.retained + length * self.kept_back * leaves
        if back is not None:
            self.retained = self.retained - length * back
        if len(self.rim):
            for key, outer, cells, inflow in passing.through_rim:
                concentration = np.where(inflow > 0.0, self.brings.get(key, 0.0), leaves[cells])
                np.add.at(self.rim, outer, length * inflow * concentration)

    def _book(self, key: Key, mass: float) -> None:
        self.gained[key] = self.gained.get(key, 0.0) + max(mass, 0.0)
        self.lost[key] = self.lost.get(key, 0.0) + max(-mass, 0.0)

    def book_decay(self, lost: float, gained: float) -> None:
        """Put down what decayed, and what came of what decays into it [g]."""
        self.lost[DECAY] = self.lost.get(DECAY, 0.0) + lost
        self.gained[DECAY] = self.gained.get(DECAY, 0.0) + gained

    @property
    def returns(self) -> bool:
        """Whether water taken somewhere is put in again elsewhere."""
        return any(isinstance(v, ReturnedWater) for v in self.inflow.known.values())

    def set_masses(self, mass: Array, retained: Array, immobile: Array) -> None:
        """Take over masses that reactions have changed."""
        self.mass, self.retained, self.immobile = mass, retained, immobile
        c = self.pores.concentration(self.water(self.time), self.ground(self.time), mass, self.c)
        c[self.held] = self.c[self.held]
        self.c = c

    def exchange_with_immobile(self, length: float) -> None:
        """Let the water that stands exchange with the one that flows, exactly, for a while."""
        assert self.passing is not None
        if not self.immobile_water.any():
            return
        hold = self.water(self.time) + self.ground(self.time) * self.pores.sorbed_over(self.c)
        other = self.immobile_water
        here = (hold > 0.0) & (other > 0.0) & ~self.held
        rate = self.exchange * self.passing.at(self.time)
        both = np.where(here, hold * other / np.where(here, hold + other, 1.0), 1.0)
        share = np.where(here, -np.expm1(-rate / both * length), 0.0)
        moves = share * both * (self.c - self.immobile / np.where(other > 0.0, other, 1.0))
        self.set_masses(self.mass - moves, self.retained, self.immobile + moves)

    def decay(self) -> Array | float:
        """Return how fast the mass of each cell decays [1/day]: one number where all of it does alike."""
        dissolved, sorbed = self.species.decay
        if dissolved == sorbed or self.species.sorption is None:
            return dissolved
        ground = self.density * self.pores.sorbed_over(self.c)
        return (dissolved * self.porosity + sorbed * ground) / (self.porosity + ground)

    def note(self, before: Array, length: float) -> None:
        """Note where the limit was passed in the step from some concentrations to those of now."""
        self._note(before, self.time - length, length)

    def _note(self, before: Array, begin: float, length: float) -> None:
        if self.species.limit is None:
            return
        if length == 0.0:
            above = self.c > self.species.limit
            self.first_above[above] = begin
            return
        _kernels.passed(
            before, self.c, begin, length, float(self.species.limit), self.first_above, self.last_above
        )

    def record(self, keys: Sequence[Key], since: float, length: float) -> PlumeRecord:
        """Return what is kept of now."""
        water = self.water(self.time)
        lasting = max(self.time - since, 1e-300)
        return PlumeRecord(
            time=self.time,
            concentration=self.c.copy(),
            retained=np.empty(0) if self.model.water_table.confined else self.retained.copy(),
            immobile=self.immobile.copy() if self.immobile_water.any() else np.empty(0),
            water=water,
            stored=self.stored(),
            gained=np.array([self.gained.get(k, 0.0) for k in keys]),
            lost=np.array([self.lost.get(k, 0.0) for k in keys]),
            across=self.across / lasting,
            rim=self.rim / lasting,
            conduits=np.empty(0) if self.conduits is None else self.conduits.water.packed,
            first_above=self.first_above.copy(),
            last_above=self.last_above.copy(),
            step_length=length,
            watch_times=np.array(self.watch_times),
            watched=np.array(self.watched).reshape(len(self.watch_times), -1),
        )
