"""Tables of a project file that say what is asked of a site: paths, transport, a fit, pictures."""

from __future__ import annotations

from typing import Literal

from inkhorn.files.parts import Diffusion, Length, Number, Part, Time, Whole, told

__all__ = ["DrawPart", "FitPart", "PathsPart", "TransportPart"]


class PathsPart(Part):
    """Particle paths from wells."""

    wells: list[str] = told("from or to which wells", ["hatchery"])
    direction: Literal["backward", "forward"] = told(
        "against the flow, or with it", "forward", default="backward"
    )
    longest: Time = told("travel time at which paths end", "100 years", default=200 * 365.25)
    mark: Time = told("between marks along paths", "5 years", default=3652.5)
    per_well: Whole = told("particles at each well", 48, default=24, ge=1)


class TransportPart(Part):
    """A dissolved species carried along."""

    species: str = told("which, one of [[species]]", "chloride")
    duration: Time = told("how long", "60 years")
    step: Time = told("in what steps", "0.5 years")
    outputs: Whole = told("times that are kept", 24, default=20, ge=1)
    dispersivity: Length = told("along the flow", "20 m", default=0.0)
    transverse_dispersivity: Length = told("sideways", "2 m", default=0.0)
    vertical_dispersivity: Length = told("up and down", "0.2 m", default=0.0)
    diffusion: Diffusion = told("in the water of the pores", "1e-9 m²/s", default=0.0)
    watch: list[str] = told("wells whose concentration is followed", ["hatchery"], default_factory=list)


class FitPart(Part):
    """Which parameters a fit may change, and how far."""

    conductivity_of: list[str] = told(
        "the conductivity of these layers", ["sand", "gravel"], default_factory=list
    )
    recharge: bool = told("all recharge, by one factor", True, default=False)
    widest_factor: Number = told("how far conductivities may go from what is stated", 10, default=30.0)
    recharge_factor: Number = told("how far recharge may go", 1.5, default=2.0)


class DrawPart(Part):
    """Where sections are cut, and a picture to lay under maps."""

    section: list[tuple[Length, Length]] | None = told(
        "x and y of the corners of a line", [[5050, 4050], [1300, 1300]], default=None, min_length=2
    )
    exaggeration: Number | None = told("of heights in sections", 25, default=None)
    picture: str | None = told("a georeferenced picture to lay under maps", "photo.png", default=None)
