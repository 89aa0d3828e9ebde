"""Makes the files of the karst catchment of Averlow, which nobody will find on a map: ``python make_data.py``.

A stream from clay hills sinks into limestone at the swallow. Conduits carry its water below a dry valley to the spring,
with a side passage from the north, one from the south, and an old way beside the main one. A storm comes after two dry
days; dye is put into the stream as it begins to rise.
"""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np

HERE = Path(__file__).parent
rng = np.random.default_rng(71)

CONDUITS = {  # x, y and z of the axis; diameter, roughness, winding, exchange
    "main passage": ([(700, 1500, 231), (1500, 1580, 224.5), (2400, 1500, 216), (3300, 1620, 211), (4700, 1550, 208.5)],
                     0.9, 0.08, 1.3, 0.05),
    "old way": ([(2400, 1500, 216), (2750, 1280, 214.2), (3300, 1620, 211)], 0.6, 0.05, 1.3, 0.1),
    "north passage": ([(1900, 2800, 226), (2100, 2200, 220), (2400, 1500, 216)], 0.45, 0.03, 1.3, 0.2),
    "south passage": ([(2900, 350, 221), (3150, 900, 215), (3300, 1620, 211)], 0.4, 0.02, 1.3, 0.3),
}  # fmt: skip


def ground(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """A plateau that falls eastwards, with a dry valley along its middle and a bowl at the spring."""
    plateau = 262.0 - 0.0075 * x + 0.0015 * np.abs(y - 1500.0)
    valley = 14.0 * np.exp(-(((y - 1540.0) / 420.0) ** 2)) * np.clip(x / 2500.0, 0.0, 1.0)
    spring = 6.0 * np.exp(-(((x - 4750.0) / 350.0) ** 2) - ((y - 1550.0) / 300.0) ** 2)
    return plateau - valley - spring


def feature(kind: str, coordinates: object, **properties: object) -> dict:
    return {
        "type": "Feature",
        "properties": properties,
        "geometry": {"type": kind, "coordinates": coordinates},
    }


def save(name: str, features: list[dict]) -> None:
    text = json.dumps({"type": "FeatureCollection", "features": features}, indent=1)
    (HERE / name).write_text(text + "\n", encoding="utf-8")


def ring(points: list[tuple[float, float]]) -> list[list[tuple[float, float]]]:
    return [[*points, points[0]]]


def main() -> None:
    outline = [
        (0, 300),
        (900, 0),
        (3600, 0),
        (4800, 500),
        (4800, 2600),
        (4000, 3200),
        (1200, 3200),
        (0, 2500),
    ]
    save("catchment.geojson", [feature("Polygon", ring(outline), name="limestone")])
    hills = [(-2200, 700), (-300, 800), (500, 1300), (720, 1500), (500, 1750), (-300, 2300), (-2300, 2100)]
    save("hills.geojson", [feature("Polygon", ring(hills), name="clay hills")])
    save(
        "conduits.geojson",
        [
            feature("LineString", line, name=name, diameter=d, roughness=k, winding=w, exchange=e)
            for name, (line, d, k, w, e) in CONDUITS.items()
        ],
    )
    save("spring.geojson", [feature("Point", (4700, 1550), name="Averlow spring", level=211.4)])
    save("swallow.geojson", [feature("Point", (700, 1500), name="the swallow")])
    save("river.geojson", [feature("LineString", [(4800, 2600), (4800, 500)], name="Low river")])
    x, y = rng.uniform(-100, 4900, 160), rng.uniform(-100, 3300, 160)
    rows = [
        f"{a:.0f},{b:.0f},{c:.2f}"
        for a, b, c in zip(x, y, ground(x, y) + rng.normal(0.0, 0.3, 160), strict=True)
    ]
    (HERE / "ground.csv").write_text("x,y,ground\n" + "\n".join(rows) + "\n", encoding="utf-8")
    hours = np.arange(0, 14 * 24, 3)
    rain = 28.0 * np.exp(-(((hours - 54.0) / 7.0) ** 2)) + 11.0 * np.exp(
        -(((hours - 150.0) / 9.0) ** 2)
    )  # mm/day
    stream, quick = np.zeros(len(hours)), np.zeros(len(hours))
    wet, fast = 0.0, 0.0  # stores of the hills, of the soil over the limestone [mm]
    for k in range(len(hours)):
        wet += rain[k] / 8.0
        fast += 0.25 * rain[k] / 8.0
        stream[k], quick[k] = 0.9 * wet, 0.7 * fast  # mm/day
        wet -= stream[k] / 8.0
        fast -= quick[k] / 8.0
    inflow = 25.0 + stream / 1000.0 * 2.4e6 / 86.4  # l/s, from 2.4 km² of hills
    dye = np.where((hours >= 48) & (hours < 51), 60.0, 0.0)  # µg/l
    start = np.datetime64("2031-11-03T00:00")
    lines = ["date,inflow [l/s],quick [mm/day],dye [ug/l]"]
    for k, hour in enumerate(hours.tolist()):
        when = str(start + np.timedelta64(hour, "h")).replace("T", " ")
        lines.append(f"{when},{inflow[k]:.1f},{quick[k]:.3f},{dye[k]:.0f}")
    (HERE / "storm.csv").write_text("\n".join(lines) + "\n", encoding="utf-8")
    (HERE / "periods.csv").write_text("date,steady\n2031-11-04,yes\n2031-11-17,no\n", encoding="utf-8")


if __name__ == "__main__":
    main()
