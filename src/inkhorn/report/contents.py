"""What the report of a run shows, part by part; what a run has not made is left out."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from inkhorn.files.reading import reading_as
from inkhorn.report.blocks import Block, Facts, Live, Part, Picture, Source, Table, Words
from inkhorn.runs.run_files import FILES, RunFile, files_of

if TYPE_CHECKING:
    import pandas as pd

    from inkhorn.runs import Run

__all__ = ["parts_of"]

_MOST_PICTURES = 3_500_000  # bytes of pictures; those beyond are named
_HEADS, _PLUME, _BUDGET = "Heads", "What is dissolved", "Water budget"


def parts_of(run: Run) -> list[Part]:
    """Return the parts of a report that have something to show, in order."""
    named = dict.fromkeys(file.part for file in FILES.values() if file.part != "The run")
    made = {
        title: Part(title) for title in ("In short", "Inputs", "Layers and grid", *named, "How it was made")
    }
    made["In short"].blocks += _in_short(run)
    made["Inputs"].blocks += _inputs(run)
    made["Layers and grid"].blocks += _layers(run)
    for title, live in _live(run):
        made[title].blocks.append(live)
    room = _MOST_PICTURES
    for key, file in FILES.items():
        for block in _files(run, key, file):
            if isinstance(block, Picture):
                room -= len(block.dots)
                if room < 0:
                    block = Words((f"{block.words}: see {block.name} in the folder of the run.",))
            made[file.part].blocks.append(block)
    made["How it was made"].blocks += _how(run)
    return [part for part in made.values() if part.blocks]


def _said(run: Run) -> list[str]:
    """The lines that the run told, without the head of its log."""
    path = run.path / FILES["log"].name
    if not path.exists():
        return []
    return [line for line in path.read_text(encoding="utf-8").splitlines()[3:] if line.strip()]


def _in_short(run: Run) -> Iterator[Block]:
    about = run.about
    if run.project.asked.purpose:
        yield Words((run.project.asked.purpose,))
    what = {"run": "a run with the values stated", "fit": "a fit to what was measured", "vary": "many runs"}
    rows = [("what", what.get(str(about.get("kind")), str(about.get("kind"))))]
    rows += [(name, str(about[name])) for name in ("variant", "began") if about.get(name)]
    rows += [("grid", str(about["grid"]))] if about.get("grid", "grid") != "grid" else []
    rows += [("cells", f"{about['cells']:,}")] if about.get("cells") else []
    rows += [("steps", f"{about['steps']:,}")] if about.get("in time") else []
    rows += [("state", str(about.get("state")))] if about.get("state") != "whole" else []
    yield Facts(tuple(rows))
    told = [line for line in _said(run) if not line.startswith(("iteration ", "variant "))]
    if told:
        yield Words(tuple(told), listed=True)


def _inputs(run: Run) -> Iterator[Block]:
    import pandas as pd

    folder = run.path / FILES["inputs"].name
    sums = folder / "sha256.txt"
    digests = {}
    if sums.exists():
        lines = sums.read_text(encoding="utf-8").splitlines()
        digests = {name.strip(): digest for digest, _, name in (line.partition(" ") for line in lines)}
    differs = [line.partition(": ")[2] for line in _said(run) if line.startswith("variant ")]
    if differs:
        yield Words((f"What the variant {run.about.get('variant')} differs in:",))
        yield Words(tuple(differs), listed=True)
    rows = [
        (name, (folder / name).stat().st_size, digest)
        for name, digest in digests.items()
        if (folder / name).is_file()
    ]
    if rows:
        frame = pd.DataFrame(rows, columns=["file", "bytes", "SHA-256"])
        yield Table("inputs.csv", "every file as it was read", frame)
    project = folder / str(run.about.get("file", ""))
    if project.is_file():
        yield Source(project.name, project.read_text(encoding="utf-8"))


def _layers(run: Run) -> Iterator[Block]:
    from inkhorn.draw.notebook import materials_of
    from inkhorn.report.maps import block_of

    units, site, grid = run.project.shown_in, run.site, run.model.grid
    yield Words((f"{site!r}", f"{grid!r}"), listed=True)
    flow = run.flow if _has_flow(run) else None
    yield block_of(grid, units, None if flow is None else flow.water_table(-1))
    yield Table("layers.csv", "the layers of the grid", units.table(grid.table()))
    yield Table("materials.csv", "what the layers are made of, as stated", units.table(materials_of(site)))


def _has_flow(run: Run) -> bool:
    return run.about.get("kind") != "vary" and "flow" in run.about.get("done", {})


def _live(run: Run) -> Iterator[tuple[str, Block]]:
    """What the reader may slide, and which part it belongs to."""
    from inkhorn.report.maps import heads_of, plume_of

    if not _has_flow(run):
        return
    units = run.project.shown_in
    yield _HEADS, heads_of(run.flow, units)
    yield _BUDGET, _bars(units.table(run.flow.budget().reset_index()))
    for asked in run.project.asked.transport:
        if f"transport {asked.name}".strip() in run.about.get("done", {}):
            for plume in run.plumes(asked.name).values():
                yield _PLUME, plume_of(plume, units)


def _bars(budget: pd.DataFrame) -> Live:
    """What comes in and goes out, as bars."""
    name, *flows = budget.columns[:3]
    rows = budget[budget[name] != "total"]
    data = {
        "names": [str(v) for v in rows[name]],
        "in": rows[flows[0]].astype(float).tolist(),
        "out": rows[flows[1]].astype(float).tolist(),
        "label": str(flows[0]).partition(" ")[2].strip("[]"),
    }
    return Live("bars", "What comes into the aquifer and what goes out of it, at the end.", data)


def _files(run: Run, key: str, file: RunFile) -> Iterator[Block]:
    """The tables or pictures of a kind that the run has written."""
    import pandas as pd

    if not file.name.endswith((".csv", ".png")) or file.part == "The run":
        return
    for of, path in files_of(run.path, key).items():
        words = file.words + (f": {of}" if of else "")
        if file.name.endswith(".png"):
            if key != "heads picture":  # its maps are there to be slid
                yield Picture.of(path, words)
            continue
        with reading_as(path, "a table of a run"):
            frame = pd.read_csv(path)
        if len(frame):
            yield Table(path.name, words, frame.dropna(axis=1, how="all"))


def _how(run: Run) -> Iterator[Block]:
    about = run.about
    rows = [("Inkhorn", str(about.get("inkhorn", "not said"))), ("begun", str(about.get("began", "")))]
    rows += [("made by", str(about["again"]).removesuffix(" --go-on"))] if about.get("again") else []
    rows += [(f"digest of {key}", str(done.get("digest", ""))) for key, done in about.get("done", {}).items()]
    yield Facts(tuple(rows))
