"""Pictures that a second process draws while the first goes on."""

from __future__ import annotations

import threading
from functools import partial

import pytest
from PIL import Image

from inkhorn import draw
from inkhorn.runs.drawing import Drawing
from inkhorn.runs.product import Picture
from inkhorn.threads import processors
from inkhorn.unit_choice import UnitChoice

pytestmark = pytest.mark.skipif(processors() < 2, reason="there is one processor")


@pytest.fixture
def some(quillmere, tmp_path):
    """Pictures of the demo, one of which can only be drawn by the process that has it."""
    layers = quillmere.model.grid.layer_names
    found = [Picture.of(tmp_path / f"{k}.png", n, draw.heads, quillmere, n) for k, n in enumerate(layers)]
    return [*found, Picture(tmp_path / "own.png", "own", lambda figure: figure.subplots().set_title("own"))]


def drawn_here(drawing):
    names = []
    for picture in drawing.left():
        draw.save_figure(picture.path, picture.fill, units=UnitChoice(()))
        names.append(picture.path.stem)
    return names


def test_each_picture_is_drawn_once_by_one_of_two_processes(some, tmp_path):
    with Drawing(UnitChoice(()), 5000) as drawing:
        drawing.add(some[:-1])
        drawing.add(some[-1:])
        beside = threading.Event()
        for _ in range(200):  # the other has drawn one, while this one did something else
            if list(tmp_path.glob("*.png")):
                break
            beside.wait(0.1)
        here = drawn_here(drawing)
    assert "own" in here
    assert len(here) == len(set(here)) < len(some)
    assert {p.name for p in tmp_path.iterdir()} == {p.path.name for p in some}
    alone = tmp_path / "alone.png"
    draw.save_figure(alone, some[0].fill, units=UnitChoice(()))
    assert Image.open(alone).tobytes() == Image.open(some[0].path).tobytes()


def test_what_the_second_process_leaves_is_drawn_by_the_first(some, tmp_path):
    with Drawing(UnitChoice(()), 5000) as drawing:
        drawing.add([*some[:3], Picture(tmp_path / "bad.png", "bad", partial(draw.heads, None))])
        drawing._process.kill()
        here = set()
        for picture in drawing.left():
            here.add(picture.path.stem)
    assert here == {"0", "1", "2", "bad"}


def test_small_models_have_no_second_process(some):
    with Drawing(UnitChoice(()), 300) as drawing:
        drawing.add(some)
        assert drawing._process is None
        assert [p.path for p in drawing.left()] == [p.path for p in some]


def test_what_cannot_be_told_to_the_second_process_is_drawn_by_the_first(some, monkeypatch):
    """Nothing is waited for that will not come, whatever went wrong in the thread that sends."""

    def no_room(*_):
        raise MemoryError

    with Drawing(UnitChoice(()), 5000) as drawing:
        monkeypatch.setattr("inkhorn.runs.drawing._write", no_room)
        drawing.add(some[:-1])
        assert {p.path.stem for p in drawing.left()} == {p.path.stem for p in some[:-1]}
