"""Models that several tests share."""

from __future__ import annotations

import json
import re
import signal
import subprocess
import sys
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
import shapely
import shapely.geometry

import inkhorn as ik
from inkhorn.cli import main
from inkhorn.demo import write_demo, write_new


@pytest.fixture(scope="session")
def quillmere_folder(tmp_path_factory):
    folder = tmp_path_factory.mktemp("demo") / "quillmere"
    write_demo(folder)
    return folder


@pytest.fixture(scope="session")
def quillmere(quillmere_folder):
    """The demo on cells of 250 m, water table active, solved as tightly as rounding allows."""
    site = ik.read_site(quillmere_folder / "site.toml")
    model = ik.place(site, ik.rectangles(site.boundary, cell=250))
    return ik.solve_flow(model, closure=1e-12)


@pytest.fixture
def first_project(tmp_path):
    """A copy of the project that `inkhorn new` makes, on coarser cells."""
    folder = tmp_path / "first"
    write_new(folder)
    site = folder / "site.toml"
    site.write_text(
        site.read_text(encoding="utf-8").replace('cell = "25 m"', 'cell = "100 m"'), encoding="utf-8"
    )
    return folder


@pytest.fixture(scope="session")
def begun():
    """Begin the command line as a process that signals reach, though the tests' own shell may have had them ignored."""

    def listening():
        for name in ("SIGINT", "SIGHUP"):
            signal.signal(getattr(signal, name), signal.SIG_DFL)

    def begin(*words: object) -> subprocess.Popen[str]:
        return subprocess.Popen(
            [sys.executable, "-m", "inkhorn", *map(str, words)],
            stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, preexec_fn=listening,
        )  # fmt: skip

    return begin


@pytest.fixture
def command(monkeypatch, capsys):
    """Run the command line as a shell would; return exit code, output and errors."""

    def run(*words: object) -> tuple[int, str, str]:
        monkeypatch.setattr(sys, "argv", ["inkhorn", *map(str, words)])
        monkeypatch.setenv("COLUMNS", "160")
        code = 0
        try:
            main()
        except SystemExit as end:
            code = int(end.code or 0)
        said = capsys.readouterr()
        return code, said.out, said.err

    return run


@pytest.fixture
def refused(command):
    """Check a project from the command line, which must refuse it in these words."""

    def check(site: Path, message: str, *words: object) -> None:
        code, out, err = command("check", site, *words)
        said = err or out  # findings stand in a table
        assert code == 2, said
        assert "Traceback" not in out + err
        assert re.search(message, said if err else " ".join(said.split()), re.DOTALL), said

    return check


def strip(n: int, length: float = 1000.0, width: float = 10.0, surfaces=(30.0, 0.0)) -> ik.Model:
    """A row of cells whose first and last centres are at 0 and `length`; no terms yet."""
    half = 0.5 * length / n
    mesh = ik.rectangles((-half, 0.0, length + half, width), count=(n + 1, 1))
    return ik.layered(mesh, list(surfaces))


def tree(folder: Path) -> dict[str, bytes]:
    """Every file below a folder, and what is in it."""
    return {str(p.relative_to(folder)): p.read_bytes() for p in sorted(folder.rglob("*")) if p.is_file()}


def rain(grid, rate: float) -> ik.terms.RechargeTerm:
    """The same recharge on every uppermost cell [m/day]."""
    cells = grid.uppermost
    return ik.terms.RechargeTerm(cells=cells, rate=rate, area=grid.cells.area[cells], feature_names=("rain",))


def held(cells, head) -> ik.terms.FixedHeadTerm:
    return ik.terms.FixedHeadTerm(cells=np.atleast_1d(cells), head=head, feature_names=("held",))


FULL = """
[time]
start = 2020-01-01
end = 2021-01-01
every = "month"
at_changes = false
steps = 2
growth = 1.2
warm_up_years = 1

[[edit]]
of = "horizontal_conductivity"
factor = 2
layers = ["sand"]
at = [[500, 500]]
reason = "a gravel lens seen in a pit"

[[edit]]
of = "river.stage"
add = "-5 cm"
within = { file = "boundary.geojson" }

[[seepage]]
name = "ground"
file = "boundary.geojson"

[[evapotranspiration]]
name = "trees"
file = "boundary.geojson"
rate = "1 mm/day"
depth = "2 m"

[[barrier]]
name = "wall"
file = "wall.geojson"
leakance = "1e-4 1/day"
layers = ["sand"]

[[spring]]
name = "spring"
file = "spring.geojson"
level = "15 m"
conductance = "30 m²/day"

[[head_dependent]]
name = "east"
file = "east.geojson"
head = "18 m"
conductivity = "5 m/day"
distance = "300 m"

[[collector]]
name = "gallery"
file = "gallery.geojson"
elevation = "10 m"
abstraction = { series = "gallery.csv", by = "who" }
"""


@pytest.fixture
def full_project(first_project):
    """The first project with features of every kind, values in time, a schedule and edits."""
    dates = pd.date_range("2020-01-01", "2021-01-01", freq="MS").strftime("%Y-%m-%d")
    days = pd.date_range("2020-01-01", "2021-01-01").strftime("%Y-%m-%d")
    tables = {
        "stages.csv": {"date": dates, "upper [m]": np.linspace(17, 17.4, 13), "lower [m]": 16.0},
        "rates.csv": {"name": "well 1", "date": dates[[0, 3]], "abstraction [m³/h]": [10, 14]},
        "gallery.csv": {"who": ["gallery", "other", "gallery"], "date": dates[[0, 0, 4]], "abstraction [l/s]": [1, 9, 2]},
        "weather.csv": {
            "Day": days,
            "P (mm/day)": np.where(np.arange(len(days)) % 5 == 0, 12.0, 0.0),
            "ET0 (mm)": 1.5,
        },
    }  # fmt: skip
    for name, columns in tables.items():
        pd.DataFrame(columns).to_csv(first_project / name, index=False)
    shapes = {
        "wall": shapely.LineString([(300, 100), (320, 800)]),
        "spring": shapely.Point(700, 700),
        "east": shapely.LineString([(990, 10), (990, 990)]),
        "gallery": shapely.LineString([(400, 400), (600, 450)]),
    }
    for name, shape in shapes.items():
        feature = {"type": "Feature", "properties": {}, "geometry": shapely.geometry.mapping(shape)}
        text = json.dumps({"type": "FeatureCollection", "features": [feature]})
        (first_project / f"{name}.geojson").write_text(text)
    site = first_project / "site.toml"
    text = site.read_text(encoding="utf-8")
    storage = '\nspecific_storage = "1e-5 1/m"\nspecific_yield = 0.2\n\n'
    for old, new in (
        ('stage = ["17 m", "16 m"]', 'stage = { series = "stages.csv", column = ["upper", "lower"] }'),
        (
            'rate = "250 mm/year"',
            'rate = { weather = "weather.csv", available_water = "80 mm", columns = '
            '{ date = "Day", rain = "P", evapotranspiration = "ET0" } }',
        ),
        ('file = "wells.csv"', 'file = "wells.csv"\nrates = "rates.csv"'),
        ("[material.gravel]", storage[1:] + "[material.gravel]"),
        ("porosity = 0.2\n", "porosity = 0.2" + storage),
    ):
        assert old in text
        text = text.replace(old, new)
    site.write_text(text + FULL, encoding="utf-8")
    return first_project
