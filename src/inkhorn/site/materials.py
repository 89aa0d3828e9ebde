"""What layers are made of, and the properties of cells that follow from it.

A property is declared once, here or in another package by `declare_property`: materials, the project file, models,
edits, checks and model files know it by that.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import KW_ONLY, dataclass, field
from types import MappingProxyType
from typing import TYPE_CHECKING, Any

from inkhorn.errors import InputError, did_you_mean
from inkhorn.site.declaration import Quantity, declared_fields, quantity
from inkhorn.units import plain

if TYPE_CHECKING:
    from inkhorn.units import Given

__all__ = ["Material", "Property", "declare_property", "material_fields", "properties"]


@dataclass(frozen=True)
class Property:
    """A property that every cell has.

    Parameters
    ----------
    name : str
        Of the model's array.
    said : Quantity
        What it is.
    ways : tuple of (str, callable or None)
        Fields of a material that it follows from, the first that is given; the function takes that value, the
        thickness of the cells [m] and the properties made before. The field of its own name if none is given.
    """

    name: str
    said: Quantity
    ways: tuple[tuple[str, Callable[[Any, Any, Mapping[str, Any]], Any] | None], ...] = ()

    @property
    def fields(self) -> tuple[str, ...]:
        """Of a material, those that it may follow from."""
        return tuple(name for name, _ in self.ways) or (self.name,)


@dataclass(frozen=True)
class Material:
    """What a layer is made of.

    Parameters
    ----------
    conductivity : float, optional
        Horizontal conductivity, the greatest [m/day]. Or give a transmissivity; no model is made without either.
    vertical_ratio : float
        Horizontal over vertical conductivity; 1 is isotropic.
    porosity : float, optional
        Effective porosity, the share of the volume through which water moves; for travel times and transport.
    vertical_conductivity : float, optional
        Instead of the ratio [m/day].
    anisotropy : float
        Horizontal conductivity along `direction` over that at right angles to it.
    direction : float
        Anticlockwise from the x axis [degrees].
    specific_storage : float, optional
        Water given per volume and metre of head while full [1/m]; for transient flow. Or give a storativity.
    specific_yield : float, optional
        Share of the volume that drains; for transient flow with a water table.
    bulk_density : float, optional
        Of the dry ground [g/m³]; for sorption.
    transmissivity, storativity : float, optional
        Of the whole layer, whatever its thickness, instead of conductivity and specific storage [m²/day], [-].
    leakance : float, optional
        Flow through its base to what lies below, per area and head difference [1/day], instead of what follows
        from the vertical conductivities.
    further : mapping of str to float
        Properties that other packages declare, by name.
    """

    name: str
    conductivity: Given[float | None] = quantity(
        "horizontal conductivity, the greatest; or give a transmissivity",
        "conductivity",
        default=None,
        check="positive",
        most=1e8,
        example="8 m/day",
    )
    _: KW_ONLY
    vertical_ratio: Given[float] = quantity(
        "horizontal over vertical conductivity; 1 is isotropic",
        "number",
        default=1.0,
        check="positive",
        usual=(0.1, 1e4),
        most=1e9,
        example=5,
    )
    porosity: Given[float | None] = quantity(
        "effective porosity, the share of the volume through which water moves; for travel times and transport",
        "number",
        default=None,
        check="positive",
        usual=(1e-4, 0.9),
        most=1.0,
        example=0.25,
    )
    vertical_conductivity: Given[float | None] = quantity(
        "instead of the ratio", "conductivity", default=None, check="positive", example="0.8 m/day"
    )
    anisotropy: Given[float] = quantity(
        "horizontal conductivity along `direction` over that at right angles to it",
        "number",
        default=1.0,
        check="positive",
        usual=(1e-3, 1e3),
        most=1e6,
        example=3,
    )
    direction: Given[float] = quantity(
        "of the greatest horizontal conductivity, anticlockwise from the x axis",
        "angle",
        default=0.0,
        example="30 degrees",
    )
    specific_storage: Given[float | None] = quantity(
        "water given per volume and metre of head while full, for flow in time; or give a storativity",
        "per length",
        default=None,
        check="positive",
        usual=(1e-8, 1e-1),
        example="1e-5 1/m",
    )
    specific_yield: Given[float | None] = quantity(
        "share of the volume that drains, for flow in time with a water table",
        "number",
        default=None,
        check="positive",
        usual=(1e-3, 0.6),
        most=1.0,
        example=0.2,
    )
    bulk_density: Given[float | None] = quantity(
        "of the dry ground, for sorption",
        "density",
        default=None,
        check="positive",
        usual=(1e5, 5e6),
        example="1700 kg/m³",
    )
    transmissivity: Given[float | None] = quantity(
        "of the whole layer, whatever its thickness, instead of a conductivity",
        "conductance",
        default=None,
        check="positive",
        example="90 m²/day",
    )
    storativity: Given[float | None] = quantity(
        "of the whole layer, whatever its thickness, instead of a specific storage",
        "number",
        default=None,
        check="positive",
        usual=(1e-7, 0.6),
        most=10.0,
        example=1e-4,
    )
    leakance: Given[float | None] = quantity(
        "flow through its base per area and metre of head, instead of what follows from the vertical conductivities",
        "leakance",
        default=None,
        check="positive",
        example="1e-3 1/day",
    )
    further: Mapping[str, float] = field(default_factory=dict, hash=False)

    def __post_init__(self) -> None:
        what = f'material "{self.name}"'
        for name, said in material_fields().items():
            value = self.value(name)
            if value is not None:
                value = plain(value, said.dimension_on(""), f"{what}: {name}")
                said.checked(f"{what}: {name}", value)
                if name in self.further:
                    object.__setattr__(self, "further", {**self.further, name: value})
                else:
                    object.__setattr__(self, name, value)
        unknown = set(self.further) - set(material_fields())
        for name in sorted(unknown):
            known = list(material_fields())
            raise InputError(
                f"{what}: {name} is no property; expected one of {known}.{did_you_mean(name, known)}"
            )
        for one, other in (("conductivity", "transmissivity"), ("specific_storage", "storativity")):
            if getattr(self, one) is not None and getattr(self, other) is not None:
                raise InputError(f"{what}: both {one} and {other} are given; expected one of them.")
        if self.vertical_conductivity is not None and self.vertical_ratio != 1.0:
            raise InputError(
                f"{what}: both vertical_conductivity and vertical_ratio are given; expected one of them."
            )

    @property
    def conducts(self) -> bool:
        """Whether it says how well it lets water through."""
        return self.conductivity is not None or self.transmissivity is not None

    def value(self, name: str) -> float | None:
        """Return what it states of a field, None where it states nothing."""
        if name in self.further:
            return self.further[name]
        return getattr(self, name, None)


def _over_thickness(value: Any, thickness: Any, made: Mapping[str, Any]) -> Any:
    return value / thickness


def _below_horizontal(value: Any, thickness: Any, made: Mapping[str, Any]) -> Any:
    return made["horizontal_conductivity"] / value


def _of_material(name: str) -> Quantity:
    said = declared_fields(Material)[name][1]
    assert isinstance(said, Quantity)  # every number of a material is one
    return said


_KNOWN = {
    p.name: p
    for p in (
        Property(
            "horizontal_conductivity",
            Quantity(
                "conductivity along the layer, the greatest",
                "8 m/day",
                "conductivity",
                check="positive",
                most=1e8,
                usual=(1e-8, 1e4),
            ),
            (("conductivity", None), ("transmissivity", _over_thickness)),
        ),
        Property(
            "vertical_conductivity",
            Quantity(
                "conductivity across the layer",
                "0.8 m/day",
                "conductivity",
                check="positive",
                most=1e8,
                usual=(1e-9, 1e4),
            ),
            (("vertical_conductivity", None), ("vertical_ratio", _below_horizontal)),
        ),
        Property(
            "specific_storage",
            _of_material("specific_storage"),
            (("specific_storage", None), ("storativity", _over_thickness)),
        ),
        *(
            Property(name, _of_material(name))
            for name in ("porosity", "specific_yield", "bulk_density", "anisotropy", "direction", "leakance")
        ),
    )
}


def properties() -> Mapping[str, Property]:
    """Return the properties that cells have, by the names of the model's arrays; those of other packages included."""
    return MappingProxyType(_KNOWN)


def declare_property(made: Property) -> Property:
    """Let cells have one more property; a package does so once, when it is imported.

    Raises
    ------
    InputError
        If there is another of that name.
    """
    if made.name in _KNOWN or made.name in declared_fields(Material):
        raise InputError(f'there is a property "{made.name}" already. Give this one another name.')
    if made.ways:
        raise InputError(f"{made.name}: a property of another package stands in a material by its own name.")
    _KNOWN[made.name] = made
    return made


def material_fields() -> dict[str, Quantity]:
    """Return what a material may state, by name."""
    own = {k: said for k, (_, said) in declared_fields(Material).items() if isinstance(said, Quantity)}
    return own | {k: p.said for k, p in _KNOWN.items() if not p.ways and k not in own}
