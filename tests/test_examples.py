"""The examples run as they are."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

EXAMPLES = Path(__file__).parent.parent / "examples"


@pytest.mark.slow
@pytest.mark.parametrize(
    ("name", "said", "pictures"),
    [
        ("01_arrays_only.py", "giving back", ["01_arrays_only.png"]),
        ("04_seasons.py", "the stream loses up to", ["04_seasons.png"]),
        (
            "11_quillmere.py",
            "hatchery",
            [f"11_{k}.png" for k in ("heads", "section", "fit", "paths", "plume")],
        ),
    ],
)
def test_example(name, said, pictures, tmp_path):
    done = subprocess.run(
        [sys.executable, EXAMPLES / name], cwd=tmp_path, capture_output=True, text=True,
        env={**os.environ, "MPLBACKEND": "Agg"},
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert said in done.stdout
    assert all((tmp_path / p).stat().st_size > 10000 for p in pictures)


def test_the_plain_case_is_short():
    _, _, code = (EXAMPLES / "01_arrays_only.py").read_text(encoding="utf-8").split('"""')
    assert len(code.strip().splitlines()) <= 22
