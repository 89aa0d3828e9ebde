"""How many figures of a number are told: decimals as people expect them, and more where all is small."""

from __future__ import annotations

import math

__all__ = ["area_in_words", "span_in_words", "three_figures", "with_decimals"]


def area_in_words(area: float, figures: int = 3) -> str:
    """Say an area [m²] in a unit that suits it.

    >>> area_in_words(19_512_000.0), area_in_words(600.0), area_in_words(0.006)
    ('19.5 km²', '600 m²', '60 cm²')
    """
    for unit, size in (("km²", 1e6), ("m²", 1.0)):
        if abs(area) >= 0.01 * size:
            return f"{area / size:.{figures}g} {unit}"
    return f"{1e4 * area:.{figures}g} cm²"


def with_decimals(value: float, decimals: int, *, sign: bool = False) -> str:
    """Say a number by some decimals; one of which these would leave less than two figures by two figures.

    >>> with_decimals(1.98765, 3), with_decimals(0.00061234, 3), with_decimals(-0.0, 2, sign=True)
    ('1.988', '0.00061', '+0.00')
    """
    value, how = value + 0.0, "+" if sign else ""
    few = 0.0 < abs(value) < 10.0 ** (1 - decimals)
    return f"{value:{how}.2g}" if few else f"{value:{how}.{decimals}f}"


def span_in_words(low: float, high: float, decimals: int = 2) -> str:
    """Say from where to where numbers go, by so many decimals that their span has three figures.

    >>> span_in_words(16.171, 16.924), span_in_words(0.161713, 0.169244)
    ('16.17 to 16.92', '0.16171 to 0.16924')
    """
    apart = high - low
    more = 2 - math.floor(math.log10(apart)) if 0.0 < apart < math.inf else 0
    decimals = min(max(decimals, more), 12) if apart < 0.5 else decimals
    return f"{low:.{decimals}f} to {high:.{decimals}f}"


def three_figures(value: float) -> str:
    """Say a number by three figures, and thousands without a power of ten.

    >>> three_figures(48.31), three_figures(1_223_456.0), three_figures(0.0)
    ('48.3', '1,220,000', '0')
    """
    if not 1e3 <= abs(value) < 1e9:
        return f"{value:.3g}"
    return f"{float(f'{value:.3g}'):,.0f}"
