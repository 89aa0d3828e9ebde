"""Every snippet of the documentation, run as it stands there."""

from __future__ import annotations

import re
import shlex
import shutil
import tomllib
import warnings
from pathlib import Path

import matplotlib as mpl
import pytest

from inkhorn.demo import write_demo
from inkhorn.project.project_file import project_model
from inkhorn.units import UnitSystem

DOCS = Path(__file__).parent.parent / "docs"
PAGES = sorted([*DOCS.glob("how-to/*.md"), *DOCS.glob("tutorial/*.md"), DOCS / "start.md"])
BLOCK = re.compile(r"^```(python|console|toml)\n(.*?)^```$", re.M | re.S)

pytestmark = pytest.mark.slow


@pytest.fixture(scope="module")
def demo(tmp_path_factory):
    """The demo's project on coarse cells, so that commands take seconds."""
    folder = tmp_path_factory.mktemp("docs") / "quillmere"
    write_demo(folder)
    site = folder / "site.toml"
    text = site.read_text(encoding="utf-8").replace('cell = "100 m"', 'cell = "250 m"', 1)
    site.write_text(text, encoding="utf-8")
    return folder


def known_by_the_project(said, demo):
    """Whether a project file may say so: laid over that of the demo, table by table."""
    given = tomllib.loads((demo / "site.toml").read_text(encoding="utf-8"))
    for key, value in said.items():
        given[key] = {**given[key], **value} if isinstance(value, dict) and key in given else value
    project_model().model_validate(given, context={"units": UnitSystem()})


@pytest.mark.parametrize("page", PAGES, ids=lambda p: p.stem)
def test_snippets_do_what_they_say(page, demo, tmp_path, monkeypatch, command):
    shutil.copytree(demo, tmp_path / "quillmere")
    monkeypatch.chdir(tmp_path)
    names: dict[str, object] = {"__name__": "__main__"}
    blocks = BLOCK.findall(page.read_text(encoding="utf-8"))
    with mpl.rc_context({"backend": "agg", "figure.max_open_warning": 0}), warnings.catch_warnings():
        warnings.filterwarnings("ignore", message="'crs' was not provided")
        for kind, text in blocks:
            if kind == "python":
                exec(compile(text, str(page), "exec"), names)
            elif kind == "console":
                for line in re.findall(r"^\$ (?:inkhorn) (.*)$", text, re.M):
                    code, _, problem = command(*shlex.split(line, comments=True))
                    assert code == 0, f"{line}\n{problem}"
            else:
                head = re.match(r"# (site\.toml), (begun|added)\n", text)
                if head:  # part of a file that the page makes
                    with open(head[1], "a" if head[2] == "added" else "w", encoding="utf-8") as file:
                        file.write(text)
                if not text.startswith("# variants/"):  # of which only what differs is told
                    known_by_the_project(tomllib.loads(text), demo)
