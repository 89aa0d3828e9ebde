"""Make the pictures of the README from the demo: ``python docs/make_screenshots.py``.

The terminal's pictures are drawn with Matplotlib from what the commands print.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import textwrap
from pathlib import Path

HERE = Path(__file__).parent / "screenshots"
PICTURES = {
    "plume.png": "plume.png",
    "heads_gravel.png": "heads.png",
    "section.png": "section.png",
    "measured_against_computed.png": "fit.png",
    "paths.png": "paths.png",
}
GRIDS = ("banded", "split", "voronoi")
SITE = "quillmere/site.toml"
DRAWN = {
    ("plan", SITE, *(word for grid in GRIDS for word in ("--grid", grid))): "grids.png",
    ("block", SITE, "--grid", "split", "--open", "5050,4050 3700,2900 1300,1300"): "block.png",
}


def said(folder: Path, *words: str) -> str:
    """What a command prints on a terminal of 116 columns, with the prompt before it."""
    done = subprocess.run(
        [sys.executable, "-m", "inkhorn", *words],
        cwd=folder,
        capture_output=True,
        text=True,
        env={**os.environ, "COLUMNS": "116"},
    )
    return f"$ inkhorn {' '.join(words)}\n{done.stdout}{done.stderr}"


def picture_of_terminal(text: str, path: Path, columns: int = 118) -> None:
    """Draw text as a terminal shows it."""
    from matplotlib.figure import Figure

    lines = [
        part
        for line in text.splitlines()
        for part in textwrap.wrap(line, columns, subsequent_indent="    ", drop_whitespace=False) or [""]
    ]
    height = max(len(lines), 12) * 0.195 + 0.5
    figure = Figure(figsize=(12.8, height), dpi=100, facecolor="#16181d")
    for k, line in enumerate(lines):
        colour = "#8fd18f" if line.startswith("$") else "#ff8a80" if line.startswith("error") else "#e6e6e6"
        figure.text(
            0.018, 1.0 - (0.32 + 0.195 * k) / height, line, family="DejaVu Sans Mono", fontsize=9.6, color=colour,
            parse_math=False,
        )  # fmt: skip
    figure.savefig(path)


def picture_of_report(run: Path, path: Path, part: str) -> None:
    """Show a part of the report of a run as a browser does, if there is one."""
    browser, driver = shutil.which("chromium"), shutil.which("chromedriver")
    if browser is None or driver is None:
        print(f"{path.name} stays as it is: there is no Chromium")
        return
    from selenium import webdriver
    from selenium.webdriver.support.wait import WebDriverWait

    page = run / "report.html"
    subprocess.run([sys.executable, "-m", "inkhorn", "report", str(run), "--out", str(page)], check=True)
    options = webdriver.ChromeOptions()
    options.binary_location = browser
    for word in (
        "headless=new", "no-sandbox", "disable-gpu", "enable-unsafe-swiftshader", "hide-scrollbars", "disable-quic",
        "no-first-run", "disable-background-networking", "window-size=1280,940",
    ):  # fmt: skip
        options.add_argument(f"--{word}")
    shown = webdriver.Chrome(options=options, service=webdriver.ChromeService(driver))
    try:
        shown.get(page.as_uri())
        ready = "return document.documentElement.dataset.drawn === 'all'"
        WebDriverWait(shown, 60).until(lambda b: b.execute_script(ready))
        shown.execute_script(f"document.getElementById('{part}').scrollIntoView()")
        shown.save_screenshot(str(path))
    finally:
        shown.quit()


def local(run: Path, path: Path) -> None:
    """Draw the rim of a local model over its region, and the heads about its pit."""
    from matplotlib.figure import Figure

    import inkhorn as ik

    made = ik.open_run(run)
    figure = Figure(figsize=(15.0, 6.4), dpi=90, layout="constrained")
    left, right = figure.subplots(1, 2)
    ik.draw.rim(made.cut, ax=left)
    ax = ik.draw.heads(made.flow, "sand 3", ax=right)
    ax.set_xlim(4150, 4700)
    ax.set_ylim(3400, 3900)
    figure.savefig(path)


def conduits(run: Path, path: Path) -> None:
    """Draw the conduits of Averlow at the height of the storm: over heads, along their way, and the spring in time."""
    from matplotlib.figure import Figure

    import inkhorn as ik
    from inkhorn.draw import in_units

    made = ik.open_run(run)
    flow, springs = made.flow, made.flow.spring_discharge()
    step = int(springs.iloc[1:, -1].idxmax())
    figure = Figure(figsize=(12.8, 10.4), dpi=100, layout="constrained")
    above, below = figure.subfigures(2, 1, height_ratios=(1.35, 1.0))
    ik.draw.conduits(flow, step=step, ax=above.subplots())
    left, right = below.subplots(1, 2)
    ik.draw.conduit_profile(flow, step=step, ax=left)
    ik.draw.spring_discharge(flow, ax=right)
    in_units(figure, made.project.shown_in)
    figure.savefig(path)


def main() -> None:
    """Run the demo and the commands in a folder that is thrown away, and keep their pictures."""
    HERE.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        picture_of_terminal(said(folder, "demo"), HERE / "demo.png")
        for made, kept in PICTURES.items():
            shutil.copyfile(folder / "quillmere" / "runs" / "fit-001" / made, HERE / kept)
        picture_of_report(folder / "quillmere" / "runs" / "fit-001", HERE / "report.png", "layers-and-grid")
        for grid in GRIDS:
            said(folder, "run", "quillmere/site.toml", "--grid", grid)
        runs = ["fit-001", *(f"run-{grid}-001" for grid in GRIDS)]
        said(folder, "compare", *(str(folder / "quillmere" / "runs" / r) for r in runs), "--out", "both")
        shutil.copyfile(folder / "both" / "comparison-001" / "heads_at_bores.png", HERE / "compare.png")
        for words, kept in DRAWN.items():
            said(folder, "draw", *words, "--out", str(HERE / kept))
        said(folder, "fit", SITE, "--variant", "points")
        points = folder / "quillmere" / "runs" / "fit-points-001"
        shutil.copyfile(points / "field-conductivity_of_sand.png", HERE / "field.png")
        seasons, run = (
            folder / "quillmere" / "runs" / "run-seasons-001",
            said(folder, "run", SITE, "--variant", "seasons"),
        )
        shutil.copyfile(seasons / "levels.png", HERE / "levels.png")
        history = (seasons / "solver.csv").read_text(encoding="utf-8").splitlines()
        shown = "\n".join(["", "$ head -9 quillmere/runs/run-seasons-001/solver.csv", *history[:9]])
        picture_of_terminal(run + shown, HERE / "run.png")
        shutil.copytree(HERE.parents[1] / "examples" / "averlow", folder / "averlow")
        said(folder, "run", "averlow/site.toml")
        conduits(folder / "averlow" / "runs" / "run-001", HERE / "conduits.png")
        shutil.copytree(HERE.parents[1] / "examples" / "salt_store", folder / "salt_store")
        said(folder, "run", "salt_store/site.toml")
        local(folder / "salt_store" / "runs" / "run-001", HERE / "local.png")
        said(folder, "vary", SITE, "--variant", "chances")
        many = folder / "quillmere" / "runs" / "vary-chances-001"
        shutil.copyfile(many / "bands-chloride_at_the_hatchery.png", HERE / "vary.png")
        good = said(folder, "check", "quillmere/site.toml")
        site = folder / "quillmere" / "site.toml"
        text = site.read_text(encoding="utf-8")
        site.write_text(
            text.replace('conductivity = "25 m/day"', 'conductivty = "25 m/day"').replace(
                "550 mm/year", "550 mm"
            ),
            encoding="utf-8",
        )
        picture_of_terminal(good + "\n" + said(folder, "check", "quillmere/site.toml"), HERE / "check.png")


if __name__ == "__main__":
    main()
