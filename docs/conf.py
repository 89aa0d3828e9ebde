"""How the documentation is built: ``sphinx-build -W docs docs/_build/html``. Nothing of it needs a network."""

from __future__ import annotations

import ast
import sys
from importlib import import_module
from pathlib import Path
from typing import Any

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE))

import inkhorn  # noqa: E402

project = "Inkhorn"
author = "the Inkhorn developers"
copyright = "2026, the Inkhorn developers"
version = release = inkhorn.__version__

extensions = [
    "myst_parser",
    "sphinx.ext.autodoc",
    "sphinx.ext.napoleon",
    "sphinx_gallery.gen_gallery",
]
exclude_patterns = ["_build", "examples/*.ipynb", "examples/*.py", "screenshots", "sg_execution_times.rst"]
myst_enable_extensions = ["dollarmath", "deflist", "colon_fence"]
myst_heading_anchors = 3
suppress_warnings = ["ref.python"]  # shapes, as of (n_cells,), are no names to link to
html_theme = "pydata_sphinx_theme"
html_title = "Inkhorn"
html_theme_options = {
    "navigation_with_keys": True,
    "show_toc_level": 2,
    "use_edit_page_button": False,
    "footer_start": ["copyright"],
    "footer_end": [],
}
html_show_sourcelink = False
html_copy_source = False
html_math_renderer = "mathml"  # browsers draw it themselves: nothing is fetched

autodoc_member_order = "bysource"
autodoc_typehints = "none"  # types stand in the docstrings, with shapes and units
napoleon_google_docstring = False
napoleon_use_rtype = False
napoleon_use_ivar = True
napoleon_preprocess_types = False

sphinx_gallery_conf = {
    "examples_dirs": [str(HERE.parent / "examples")],
    "gallery_dirs": ["examples"],
    "filename_pattern": r"/\d\d_",
    "ignore_pattern": r"(__init__|make_data)\.py",
    "download_all_examples": False,
    "remove_config_comments": True,
    "min_reported_time": 1000,
    "show_memory": False,
    "write_computation_times": False,
    "image_scrapers": ("matplotlib",),
    "within_subsection_order": "FileNameSortKey",
}

PARTS = {  # of the reference, by the package that names come from
    "Space and grids": ["space"],
    "What is known of a site": ["site", "project"],
    "Models and terms": ["model"],
    "Flow": ["flow"],
    "Particle paths": ["paths"],
    "What is dissolved": ["transport"],
    "Fits": ["calibration"],
    "How sure: fields and many runs": ["fields", "ensemble"],
    "Local models": ["cuts"],
    "Runs, reports, exports": ["runs", "report", "exports"],
    "Files and units": ["files", "unit_choice", "errors"],
}


def names_by_package() -> dict[str, list[str]]:
    """What stands behind ``ik.``, by the package that it comes from, as the package itself declares it."""
    tree = ast.parse((Path(inkhorn.__file__).parent / "__init__.pyi").read_text(encoding="utf-8"))
    found: dict[str, list[str]] = {}
    for node in tree.body:
        if isinstance(node, ast.ImportFrom) and node.module:
            found.setdefault(node.module.split(".")[0], []).extend(a.asname or a.name for a in node.names)
    return found


def write_reference() -> None:
    """A page for each part of the reference."""
    folder = HERE / "reference"
    folder.mkdir(exist_ok=True)
    names = names_by_package()
    listed = [package for packages in PARTS.values() for package in packages]
    left = set(names) - set(listed) - {"draw"}
    if left:
        raise RuntimeError(f"these packages stand in no part of the reference: {sorted(left)}")
    pages = []
    for title, packages in PARTS.items():
        lines = [f"# {title}", ""]
        for name in sorted({n for p in packages for n in names.get(p, [])}, key=str.lower):
            thing = getattr(inkhorn, name)
            if isinstance(thing, type):
                lines += [f"```{{eval-rst}}\n.. autoclass:: inkhorn.{name}\n   :members:\n```", ""]
            elif callable(thing):
                lines += [f"```{{eval-rst}}\n.. autofunction:: inkhorn.{name}\n```", ""]
            else:
                lines += [
                    f"```{{eval-rst}}\n.. automodule:: {thing.__name__}\n   :members:\n   :imported-members:\n```",
                    "",
                ]
        pages.append(_written(folder / f"{packages[0]}.md", lines))
    lines = [
        "# Figures",
        "",
        "Each takes a result and, if wanted, Axes of Matplotlib, and returns the Axes.",
        "",
    ]
    draw = import_module("inkhorn.draw")
    lines += [
        f"```{{eval-rst}}\n.. autofunction:: inkhorn.draw.{n}\n```\n"
        for n in draw.__all__
        if callable(getattr(draw, n))
    ]
    pages.append(_written(folder / "draw.md", lines))
    index = [
        "# Python reference",
        "",
        "Made from the docstrings; everything stands behind `import inkhorn as ik`.",
        "",
    ]
    _written(folder / "index.md", [*index, "```{toctree}", ":maxdepth: 1", *pages, "```"])


def _written(path: Path, lines: list[str]) -> str:
    text = "\n".join(lines) + "\n"
    if not path.exists() or path.read_text(encoding="utf-8") != text:
        path.write_text(text, encoding="utf-8")
    return path.stem


def _mathml(writer: Any, node: Any, display: str) -> None:
    from docutils.nodes import SkipNode
    from latex2mathml.converter import convert

    writer.body.append(convert(node.astext(), display=display))
    raise SkipNode


def setup(app: Any) -> None:
    """Write what is made from the code, and let browsers draw formulas."""
    write_reference()
    app.add_html_math_renderer(
        "mathml",
        inline_renderers=(lambda writer, node: _mathml(writer, node, "inline"), None),
        block_renderers=(lambda writer, node: _mathml(writer, node, "block"), None),
    )
