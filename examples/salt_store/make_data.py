"""Make the files of the salt store: an outline within the Quillmere, a pit, the wall around it. All made up."""

from __future__ import annotations

from pathlib import Path

import geopandas as gpd
import shapely

HERE = Path(__file__).parent


def save(name: str, shape: shapely.Geometry) -> None:
    (HERE / name).write_text(gpd.GeoSeries([shape]).to_json(indent=1) + "\n", encoding="utf-8")


def main() -> None:
    pit = shapely.affinity.rotate(shapely.box(4395, 3630, 4455, 3670), 20)
    corners = [
        (2850, 3250),
        (3350, 1600),
        (4650, 1600),
        (5300, 2300),
        (5250, 3200),
        (4600, 4100),
        (3000, 4200),
    ]
    save("outline.geojson", shapely.Polygon(corners))
    save("pit.geojson", pit)
    save("wall.geojson", shapely.LineString(pit.buffer(8.0, join_style="mitre").exterior.coords))
    floors = {
        "2027-01-04": 50.0,
        "2027-02-01": 46.0,
        "2027-02-15": 44.5,
        "2027-03-01": 43.5,
        "2028-01-01": 50.0,
    }
    lines = [f"{date},{floor}" for date, floor in floors.items()]
    (HERE / "pit.csv").write_text("date,floor [m]\n" + "\n".join(lines) + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
