"""Damaged and hostile projects: a small one that reads every format, mutated by seed and given to the command line.

Each mutation runs in a process of its own, forked from one that has everything loaded, under limits on CPU and memory.
"""

from __future__ import annotations

import io
import os
import random
import re
import resource
import shutil
import sys
import zipfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np

CPU, MEMORY = 20.0, 2e9  # seconds, bytes: what no file may take
LIMITS = {
    "INKHORN_MAX_MEMORY": "300MB",
    "INKHORN_MAX_STEPS": "300",
    "INKHORN_MAX_LAYERS": "50",
    "COLUMNS": "100",
}
_STAGES = ("read", "placed", "solved")

PROJECT = """title = "All formats"
[units]
length = "m"
[boundary]
file = "site.gpkg"
table = "boundary"
[grid]
cell = "100 m"
[grids.split]
kind = "split"
cell = "125 m"
near = [{ kinds = ["well"], size = "40 m" }]
[grids.cells]
kind = "voronoi"
cell = "120 m"
near = [{ features = ["brook"], size = "60 m" }]
[grids.own]
kind = "file"
file = "mesh.nc"
[grids.banded]
cell = "100 m"
growth = 1.4
band = [{ axis = "x", start = 400, end = 600, size = "50 m" }]
[local]
origin = [0, 0]
rotation = 0
[ground]
raster = "ground.tif"
[[layer]]
name = "sand"
material = "sand"
base = { points = "base.xlsx", z = "sand base", method = "linear" }
[[layer]]
name = "gravel"
material = "gravel"
parts = 2
base = { raster = "base.asc" }
[material.sand]
conductivity = "8 m/day"
vertical_ratio = 5
porosity = 0.25
specific_storage = "1e-4 1/m"
specific_yield = 0.2
[material.gravel]
conductivity = "40 m/day"
porosity = 0.2
specific_storage = "1e-5 1/m"
specific_yield = 0.2
[[river]]
name = "brook"
file = "brook.geojson"
stage = ["17 m", "16 m"]
bed = { column = "bed" }
width = "4 m"
bed_thickness = "0.5 m"
bed_conductivity = "1 m/day"
[[recharge]]
name = { column = "use" }
file = "use.shp"
rate = { column = "rain", unit = "mm/year" }
[[drain]]
name = "ditch"
at = [{ layer = "sand", x = 850, y = 450 }]
level = "18 m"
conductance = "20 m²/day"
[zones.soil]
raster = "soil.tif"
codes = { light = 1, heavy = 2 }
[[edit]]
of = "horizontal_conductivity"
factor = 0.5
zone = ["soil", "heavy"]
[wells]
file = "wells.csv"
[bores]
file = "bores.csv"
levels = "levels.csv"
[[species]]
name = "salt"
limit = "90 mg/l"
background = 0
[transport]
species = "salt"
duration = "2 years"
step_length = "0.5 years"
dispersivity = "5 m"
[paths]
wells = ["well 1"]
per_well = 4
[fit]
conductivity_of = ["sand"]
[draw]
picture = "photo.png"
"""
IN_TIME = """[time]
start = 2020-01-01
end = 2020-07-01
every = "month"
"""

NASTY = (
    "-1", "0", "1e300", "-1e300", "1e-300", "nan", "inf", "-9999", "99999999999", '"NaT"', '"today"', '"20240901"',
    '"5 kg"', '"5 furlongs"', '"1 m/s/s"', '"=1+1"', '""', '"\\u0000"', "[]", "{}", "[1, 2, 3]", "true", "[[[[]]]]",
    '"../../../../etc/passwd"', '"/dev/zero"', '"."', '"nowhere.csv"', '"12,5"', "9" * 400, '"' + "x" * 5000 + '"',
    "1e20", "1e-20", "1000000", '"650 mm/year"', '"10 km"', '"1 mm"', "2020-01-01", "3", "0.5", '"sand"', '"1 m³/day"',
    "25", "1.5", '"2 years"', '"5 m"', '"0.1 m/day"', "7", '"12 m"',
)  # fmt: skip
CELLS = (
    "", "nan", "inf", "-9999", "1e400", "x", "1,5", "1.234,5", "=cmd()", "2020-13-45", "NaT", "\x00", "é" * 50,
    "9" * 300, "x" * 200_000, "5 kg", "5 ft", "-5", "1e20", "sand", "2021-01-01", "12", "0.5",
)  # fmt: skip


def write_base(folder: Path) -> None:
    """Write the project and the files of every format that it reads."""
    import geopandas as gpd
    import openpyxl
    import rasterio
    import shapely
    import xarray as xr
    from rasterio.transform import from_origin

    crs = "EPSG:25832"
    folder.mkdir(parents=True)
    square = shapely.box(0, 0, 1000, 800)
    gpd.GeoDataFrame({"name": ["site"]}, geometry=[square], crs=crs).to_file(
        folder / "site.gpkg", layer="boundary"
    )
    brook = shapely.LineString([(50, 20), (120, 400), (60, 780)])
    gpd.GeoDataFrame({"name": ["brook"], "bed": [15.0]}, geometry=[brook], crs=crs).to_file(
        folder / "brook.geojson"
    )
    halves = [shapely.box(0, 0, 500, 800), shapely.box(500, 0, 1000, 800)]
    gpd.GeoDataFrame({"use": ["heath", "wood"], "rain": [250.0, 120.0]}, geometry=halves, crs=crs).to_file(
        folder / "use.shp"
    )
    x, y = np.meshgrid(np.arange(-50, 1101, 50.0), np.arange(850, -101, -50.0))
    place = from_origin(-75, 875, 50, 50)
    for name, values, driver, kind in (
        ("ground.tif", 20 + x / 500, "GTiff", "float32"),
        ("base.asc", -5 + y / 800, "AAIGrid", "float32"),
        ("soil.tif", np.where(x < 600, 1, 2), "GTiff", "uint8"),
    ):
        said = {
            "height": x.shape[0],
            "width": x.shape[1],
            "count": 1,
            "dtype": kind,
            "transform": place,
            "crs": crs,
        }
        if driver == "AAIGrid":
            rows = "\n".join(" ".join(f"{v:.3f}" for v in row) for row in values)
            head = (
                f"ncols {x.shape[1]}\nnrows {x.shape[0]}\nxllcorner -75\nyllcorner {875 - 50 * x.shape[0]}\n"
            )
            (folder / name).write_text(head + "cellsize 50\nNODATA_value -9999\n" + rows + "\n")
            continue
        with rasterio.open(folder / name, "w", driver=driver, **said) as file:
            file.write(values.astype(kind), 1)
    dots = np.full((3, 20, 25), 200, np.uint8)
    said = {"height": 20, "width": 25, "count": 3, "dtype": "uint8", "transform": from_origin(0, 800, 40, 40)}
    with rasterio.open(folder / "photo.png", "w", driver="PNG", **said) as file:
        file.write(dots)
    (folder / "photo.pgw").write_text("40\n0\n0\n-40\n20\n780\n")
    for extra in folder.glob("photo.png.aux.xml"):
        extra.unlink()
    book = openpyxl.Workbook()
    book.active.append(["x", "y", "sand base [m]"])
    for px in (0, 500, 1000):
        for py in (0, 400, 800):
            book.active.append([px, py, 8 + px / 1000])
    book.save(folder / "base.xlsx")
    nodes = [(px, py) for py in (0, 400, 800) for px in (0, 250, 500, 750, 1000)]
    faces = [[5 * r + c, 5 * r + c + 1, 5 * r + c + 6, 5 * r + c + 5] for r in range(2) for c in range(4)]
    topology = {
        "cf_role": "mesh_topology", "topology_dimension": 2, "node_coordinates": "node_x node_y",
        "face_node_connectivity": "face_nodes",
    }  # fmt: skip
    xr.Dataset(
        {
            "net": ((), 0, topology),
            "node_x": ("node", np.array(nodes)[:, 0] * 1.0),
            "node_y": ("node", np.array(nodes)[:, 1] * 1.0),
            "face_nodes": (("face", "corner"), np.array(faces), {"start_index": 0}),
        }
    ).to_netcdf(folder / "mesh.nc", engine="h5netcdf")
    tables = {
        "wells.csv": "name,x,y,screen_top [m],screen_bottom [m],radius [cm],abstraction [m³/h]\n"
        "well 1,620,540,7,-4,15,12\nwell 2,400,300,5,0,15,3\n",
        "rates.txt": "name\tdate\tabstraction [m³/h]\nwell 1\t2019-12-01\t12\n"
        "well 2\t2019-12-01\t3\nwell 1\t2020-03-01\t6\n",
        "bores.csv": "name;x;y;layer\nB1;300,5;700,25;sand\nB2;500;300;sand\n",
        "levels.csv": "name,date,level\nB1,2020-03-01,17.8\nB1,2020-06-01,17.6\nB2,2020-03-01,17.9\n",
    }
    for name, text in tables.items():
        (folder / name).write_text(text, encoding="utf-8")
    (folder / "site.toml").write_text(PROJECT, encoding="utf-8")


def _bytes_changed(data: bytes, rng: random.Random) -> bytes:
    """Flip, cut, repeat, blank or insert bytes."""
    if not data:
        return b"\x00"
    body, at = bytearray(data), rng.randrange(len(data))
    way = rng.choice(["flip", "flip", "flip", "cut", "blank", "insert", "repeat", "swap"])
    if way == "flip":
        for _ in range(rng.choice([1, 1, 3, 20])):
            body[rng.randrange(len(body))] ^= 1 << rng.randrange(8)
    elif way == "cut":
        del body[at:]
    elif way == "blank":
        end = min(at + rng.choice([4, 100, 4096]), len(body))
        body[at:end] = bytes([rng.choice([0, 255])]) * (end - at)
    elif way == "insert":
        body[at:at] = rng.choice([b"\xff\xfe", b"\x00" * 8, rng.randbytes(16), b"[" * 2000, b"\xef\xbb\xbf"])
    elif way == "repeat":
        body[at:at] = body[at : at + rng.choice([10, 200, 5000])]
    else:
        other = rng.randrange(len(data))
        body[at : at + 8], body[other : other + 8] = body[other : other + 8], body[at : at + 8]
    return bytes(body)


def _toml_changed(text: str, rng: random.Random) -> str:
    """Change a value or a key, take out, repeat or move a line."""
    lines = text.splitlines()
    k = rng.choice([n for n, line in enumerate(lines) if line.strip()])
    ways = "value value inner inner key out twice move table name" + 12 * " scale"
    way = rng.choice(ways.split())
    key, equals, value = lines[k].partition(" = ")
    if way == "value" and equals:
        lines[k] = f"{key} = {rng.choice(NASTY)}"
    elif way == "inner" and equals:
        parts = list(re.finditer(r'-?\d+(?:\.\d+)?(?:e-?\d+)?|"[^"]*"', value))
        if parts:
            one = rng.choice(parts)
            new = rng.choice(NASTY)
            new = f'"{new}"' if one[0].startswith('"') and rng.random() < 0.5 and '"' not in new else new
            lines[k] = f"{key} = {value[: one.start()]}{new}{value[one.end() :]}"
    elif way == "scale" and equals:  # a slip of units, or of the decimal point
        parts = list(re.finditer(r"(?<![\w-])\d+(?:\.\d+)?(?:e-?\d+)?(?![\w-])", value))
        if parts:
            one = rng.choice(parts)
            new = f"{float(one[0]) * 10.0 ** rng.uniform(-2, 2):.4g}"
            lines[k] = f"{key} = {value[: one.start()]}{new}{value[one.end() :]}"
    elif way == "key" and equals:
        other = rng.choice([line.partition(" = ")[0] for line in lines if " = " in line])
        lines[k] = f"{rng.choice([other, key + 's', key[:-1] or 'x'])} = {value}"
    elif way == "out":
        del lines[k]
    elif way == "twice":
        lines.insert(rng.randrange(len(lines)), lines[k])
    elif way == "move":
        lines.insert(rng.randrange(len(lines)), lines.pop(k))
    elif way == "table":
        lines.insert(
            k,
            rng.choice(["[time]", "[[river]]", "[x.y.z]", "[[layer]]", "[" * 500, "[solver]", "[[region]]"]),
        )
    else:
        lines[k] = lines[k].replace(
            rng.choice(["sand", "well", "brook", "salt"]), rng.choice(["", "sond", "well 2", "*"])
        )
    return "\n".join(lines) + "\n"


def _table_changed(text: str, rng: random.Random) -> str:
    lines = text.splitlines()
    mark = ";" if ";" in lines[0] else "\t" if "\t" in lines[0] else ","
    k = rng.randrange(len(lines))
    cells = lines[k].split(mark)
    way = rng.choice(3 * ["cell"] + 6 * ["scale"] + ["drop", "more", "row_out", "row_twice"])
    if way == "cell":
        cells[rng.randrange(len(cells))] = rng.choice(CELLS)
    elif way == "drop":
        del cells[rng.randrange(len(cells))]
    elif way == "more":
        cells.append(rng.choice(CELLS))
    elif way == "scale" and k:
        j = rng.randrange(len(cells))
        if re.fullmatch(r"-?\d+(\.\d+)?", cells[j]):
            cells[j] = f"{float(cells[j]) * 10.0 ** rng.uniform(-2, 2):.4g}"
    lines[k] = mark.join(cells)
    if way == "row_out":
        del lines[k]
    elif way == "row_twice":
        lines.insert(k, lines[k])
    return "\n".join(lines) + "\n"


def _json_changed(text: str, rng: random.Random) -> str:
    numbers = list(re.finditer(r"-?\d+\.?\d*", text))
    one = rng.choice(numbers)
    if rng.random() < 0.7:
        new = f"{float(one[0]) + rng.gauss(0, 30):.3f}"
        return text[: one.start()] + new + text[one.end() :]
    new = rng.choice(["1e400", "NaN", "null", '"x"', "[]", "-1e9", "1e308", "[[[[1,2]]]]", "12", "0", "{}"])
    return text[: one.start()] + new + text[one.end() :]


def _zip_changed(data: bytes, rng: random.Random) -> bytes:
    """Damage a part of a zipped file, not its wrapping."""
    made = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as new:
        names = old.namelist()
        spoilt = rng.choice(names)
        for name in names:
            part = old.read(name)
            new.writestr(name, _bytes_changed(part, rng) if name == spoilt else part)
    return made.getvalue()


def mutate(folder: Path, seed: int) -> str:
    """Change a copy of the project by seed, and return what was changed."""
    rng = random.Random(seed)
    project = folder / "site.toml"
    text = project.read_text(encoding="utf-8")
    lines = text.splitlines(keepends=True)
    if rng.random() < 0.25:
        lines.insert(0, f'use_grid = "{rng.choice(["split", "cells", "own", "banded"])}"\n')
    text = "".join(lines)
    if rng.random() < 0.2:
        text = text.replace('file = "wells.csv"', 'file = "wells.csv"\nrates = "rates.txt"') + IN_TIME
    if rng.random() < 0.55:
        for _ in range(rng.choice([1, 1, 1, 2])):
            text = _toml_changed(text, rng)
        project.write_text(text, encoding="utf-8")
        if rng.random() < 0.08:
            project.write_bytes(_bytes_changed(project.read_bytes(), rng))
        return "site.toml"
    project.write_text(text, encoding="utf-8")
    unread = () if "[time]" in text else ("rates.txt",)
    path = rng.choice(sorted(p for p in folder.iterdir() if p != project and p.name not in unread))
    data = path.read_bytes()
    inside = {
        ".csv": lambda: _table_changed(data.decode(), rng).encode(),
        ".txt": lambda: _table_changed(data.decode(), rng).encode(),
        ".geojson": lambda: _json_changed(data.decode(), rng).encode(),
        ".xlsx": lambda: _zip_changed(data, rng),
        ".asc": lambda: _json_changed(data.decode(), rng).encode(),
    }.get(path.suffix)
    path.write_bytes(inside() if inside is not None and rng.random() < 0.75 else _bytes_changed(data, rng))
    return path.name


@dataclass
class Outcome:
    """What came of a mutation.

    Attributes
    ----------
    seed : int
    changed : str
        The file that was mutated.
    stage : str
        How far it came: "read", "placed" or "solved".
    code : int
        Exit code; minus the signal that ended it.
    cpu, memory : float
        Seconds, bytes.
    said : str
        On standard error.
    """

    seed: int
    changed: str
    stage: str
    code: int
    cpu: float
    memory: float
    said: str

    @property
    def problem(self) -> str:
        """What is wrong with it, nothing if all is as it must be."""
        foreign = [
            line
            for line in self.said.splitlines()
            if not line.startswith(("error: ", "warning: ", "interrupted"))
        ]
        wrong = {
            "a traceback": "Traceback" in self.said,
            f"exit code {self.code}": self.code not in (0, 1, 2),
            f"{self.cpu:.0f} s of CPU": self.cpu > CPU,
            f"{self.memory / 1e9:.1f} GB": self.memory > MEMORY,
            f"printed by others: {foreign[:1]}": bool(foreign),
            "no words": self.code != 0 and not self.said.strip() and self.code != 2,
        }
        return "; ".join(words for words, is_so in wrong.items() if is_so)


def prepare(base: Path, work: Path) -> None:
    """Run the project once on each grid, so that all is loaded in the process that the others are forked from."""
    import contextlib

    import matplotlib

    matplotlib.use("Agg")
    from inkhorn import runs
    from inkhorn.project import read_project

    folder = work / f"warm-{os.getpid()}"
    shutil.copytree(base, folder)
    with contextlib.redirect_stdout(io.StringIO()):
        project = read_project(folder / "site.toml")
        for grid in ("split", "cells", "own", "banded"):
            runs.check_project(project, grid)
        runs.run_project(project)
    shutil.rmtree(folder)


def attempt(base: Path, work: Path, seed: int, *, solve: bool) -> Outcome:
    """Mutate a copy of the project, give it to the command line in a forked process, and tell what came of it."""
    folder = work / f"seed-{seed}"
    shutil.copytree(base, folder)
    changed = mutate(folder, seed)
    command = ["inkhorn", "run" if solve else "check", str(folder / "site.toml")]
    child = os.fork()
    if child == 0:
        _in_child(command, folder)
    _, status, used = os.wait4(child, 0)
    code = os.waitstatus_to_exitcode(status)
    said = (folder / "err").read_text(encoding="utf-8", errors="replace")
    stage = (folder / "stage").read_text() if (folder / "stage").exists() else _STAGES[0]
    cpu, memory = used.ru_utime + used.ru_stime, 1024.0 * used.ru_maxrss
    shutil.rmtree(folder, ignore_errors=True)
    return Outcome(seed, changed, stage, code, cpu, memory, said)


def _in_child(command: list[str], folder: Path) -> None:
    """Run the command line with limits, its output in files, and marks of how far it came; never returns."""
    code = 99
    try:
        os.environ.update(LIMITS)
        resource.setrlimit(resource.RLIMIT_CPU, (int(CPU) + 5, int(CPU) + 10))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
        for number, name in ((1, "out"), (2, "err")):
            file = os.open(folder / name, os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
            os.dup2(file, number)
        sys.stdout, sys.stderr = (open(n, "w", encoding="utf-8", closefd=False) for n in (1, 2))  # noqa: SIM115
        sys.argv = command
        import inkhorn.runs.checking as checking
        import inkhorn.runs.flow as flow
        import inkhorn.runs.making as making
        from inkhorn.cli import main

        def marking(function, stage):
            def marked(*given, **options):
                made = function(*given, **options)
                (folder / "stage").write_text(stage)
                return made

            return marked

        checking.placed = marking(checking.placed, "placed")
        if hasattr(making, "place"):
            making.place = marking(making.place, "placed")
        flow.solve_flow = marking(flow.solve_flow, "solved")
        try:
            main()
            code = 0
        except SystemExit as end:
            code = end.code if isinstance(end.code, int) else 0 if end.code is None else 1
    except BaseException:
        import traceback

        traceback.print_exc()
        code = 98
    finally:
        for stream in (sys.stdout, sys.stderr):
            stream.flush()
        os._exit(code)
