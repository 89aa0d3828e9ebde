"""The report of a run: one page that needs nothing else, looked at as a browser shows it."""

from __future__ import annotations

import json
import re
import shutil
import time
from html.parser import HTMLParser

import pandas as pd
import pytest

import inkhorn as ik
from inkhorn.report import report
from inkhorn.runs.run_files import FILES

BROWSER = shutil.which("chromium") or shutil.which("chromium-browser")


class Page(HTMLParser):
    """What a page holds: its elements with their attributes, headings, and data."""

    def __init__(self, text):
        super().__init__()
        self.elements, self.headings, self.data, self.words = [], [], {}, []
        self._inside = []
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        self.elements.append((tag, dict(attrs)))
        self._inside.append((tag, dict(attrs)))

    def handle_endtag(self, tag):
        while self._inside and self._inside.pop()[0] != tag:
            pass

    def handle_data(self, text):
        tag, attrs = self._inside[-1] if self._inside else ("", {})
        if tag in ("h1", "h2"):
            self.headings.append(text)
        elif tag == "script" and attrs.get("type") == "application/json":
            self.data.setdefault(attrs["class"], []).append(json.loads(text))
        elif tag not in ("script", "style"):
            self.words.append(text)


@pytest.fixture(scope="module")
def made(tmp_path_factory):
    """A run of a small project, with a title that a page must not take for its own."""
    from inkhorn.demo import write_new

    folder = tmp_path_factory.mktemp("report") / "first"
    write_new(folder)
    site = folder / "site.toml"
    text = site.read_text(encoding="utf-8").replace('cell = "25 m"', 'cell = "100 m"')
    text = re.sub(
        r'title = ".*"',
        'title = "<b>Wet</b> & </script> wild"\npurpose = "Is 5 < 6 \\"enough\\"?"',
        text,
        count=1,
    )
    site.write_text(text, encoding="utf-8")
    run, _ = ik.run_project(ik.read_project(site))
    return run


@pytest.fixture(scope="module")
def page(made):
    return Page(report(ik.open_run(made)))


def test_a_report_needs_no_network_and_no_other_file(page, made):
    for tag, attrs in page.elements:
        for key in ("src", "href"):
            assert attrs.get(key, "#").startswith(("#", "data:image/png;base64,")), (tag, attrs)
    path = ik.write_report(ik.open_run(made))
    assert path == made / "report.html"
    assert 1e6 < path.stat().st_size < 1e7
    images = [attrs for tag, attrs in page.elements if tag == "img"]
    assert images
    assert all(len(attrs["alt"]) > 5 for attrs in images)
    live = [attrs for tag, attrs in page.elements if attrs.get("class") == "drawn"]
    assert len(live) >= 3
    assert all(len(attrs["aria-label"]) > 20 for attrs in live)


def test_what_is_written_in_a_project_cannot_change_the_page(page):
    assert "".join(page.headings).count("<b>Wet</b> & </script> wild") == 1
    assert 'Is 5 < 6 "enough"?' in page.words
    assert not any(tag == "b" for tag, _ in page.elements)


def test_parts_come_in_order_and_only_those_there_is_something_of(page, made):
    headings = page.headings[2:]
    named = list(dict.fromkeys(f.part for f in FILES.values() if f.part != "The run"))
    wanted = ["In short", "Inputs", "Layers and grid", *named, "How it was made"]
    assert headings == [h for h in wanted if h in headings]
    assert {"Heads", "Water budget", "Where features landed"} <= set(headings)
    assert not {"Fit to what was measured", "Many runs", "Conduits and springs"} & set(headings)


def test_tables_hold_the_numbers_of_their_files(page, made):
    tables = {table["name"]: table for table in page.data["rows"]}
    for name in ("budget.csv", "budget_by_feature.csv", "placed.csv", "solver.csv"):
        frame = pd.read_csv(made / name)
        table = tables[name]
        for head, column in zip(table["heads"], table["columns"], strict=True):
            found = pd.Series(column, dtype=frame[head].dtype)
            pd.testing.assert_series_equal(found, frame[head], check_names=False)
    assert {t["name"] for t in page.data["rows"]} >= {
        p.name for p in made.glob("*.csv") if len(pd.read_csv(p))
    }


def test_letters_can_be_read_on_their_ground_in_light_and_dark():
    from importlib.resources import files

    style = (files("inkhorn.report") / "assets" / "page.css").read_text(encoding="utf-8")

    def luminance(colour):
        parts = [int(colour[k : k + 2], 16) / 255.0 for k in (1, 3, 5)]
        red, green, blue = (p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts)
        return 0.2126 * red + 0.7152 * green + 0.0722 * blue

    themes = [
        dict(re.findall(r"--(\w+): (#[0-9a-f]{6})", block))
        for block in re.findall(r"\{([^{}]*--paper[^{}]*)\}", style)
    ]
    themes = [theme for theme in themes if len(theme) >= 6]
    assert len(themes) == 3  # light, dark if asked for, dark if the system is
    for theme in themes:
        for ink in ("ink", "soft", "accent"):
            for ground in ("paper", "shade", *(["mark"] if ink == "ink" else [])):
                low, high = sorted((luminance(theme[ink]), luminance(theme[ground])))
                assert (high + 0.05) / (low + 0.05) >= 4.5, (ink, ground, theme)


def test_the_command_writes_where_it_is_asked_to(made, tmp_path, command):
    out = tmp_path / "hand over" / "mine.html"
    code, said, _ = command("report", made, "--out", out)
    assert code == 0
    assert str(out) in said
    assert out.read_text(encoding="utf-8").startswith("<!DOCTYPE html>")
    for words in (("report", made, "--out", tmp_path / "mine.pdf"), ("report", tmp_path)):
        code, _, problem = command(*words)
        assert code == 2
        assert str(words[-1]) in problem


@pytest.mark.skipif(BROWSER is None, reason="there is no Chromium")
def test_a_browser_draws_sorts_and_saves_without_complaint(made, tmp_path):
    webdriver = pytest.importorskip("selenium.webdriver")
    options = webdriver.ChromeOptions()
    options.binary_location = BROWSER
    for word in (
        "headless=new", "no-sandbox", "disable-gpu", "disable-quic", "no-first-run", "enable-unsafe-swiftshader",
        "disable-background-networking", "disable-component-update", "disable-sync", "window-size=1280,900",
        f"user-data-dir={tmp_path / 'profile'}",
    ):  # fmt: skip
        options.add_argument(f"--{word}")
    options.add_experimental_option("prefs", {"download.default_directory": str(tmp_path)})
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = shutil.which("chromedriver")
    if driver is None:
        pytest.skip("there is no driver for Chromium")
    browser = webdriver.Chrome(options=options, service=webdriver.ChromeService(driver))
    try:
        ask = browser.execute_script
        browser.get(ik.write_report(ik.open_run(made), tmp_path / "page.html").as_uri())
        until(lambda: ask("return document.documentElement.dataset.drawn") == "all")
        assert (
            ask(
                "return document.querySelectorAll('.live .js-plotly-plot, .live .drawn.js-plotly-plot').length"
            )
            >= 3
        )
        # sorted by a click on a column, once more the other way
        rows = (
            "[...document.querySelectorAll('figure.table')].find(f => f.textContent.includes('budget.csv'))"
        )
        outflow = f"return [...{rows}.querySelectorAll('tbody tr')].map(r => r.cells[2].textContent)"
        for wanted in ("ascending", "descending"):
            ask(f"{rows}.querySelectorAll('th button')[2].click()")
            assert ask(f"return {rows}.querySelectorAll('th')[2].getAttribute('aria-sort')") == wanted
            found = [float(text.replace(",", "")) for text in ask(outflow)]
            assert found == sorted(found, reverse=wanted == "descending")
        ask(f"[...{rows}.querySelectorAll('button')].find(b => b.textContent === 'Save as CSV').click()")
        saved = tmp_path / "budget.csv"
        until(lambda: saved.exists() and saved.stat().st_size > 0)
        pd.testing.assert_frame_equal(pd.read_csv(saved), pd.read_csv(made / "budget.csv"))
        # another layer, dark, and a narrow screen, on which nothing stands over the side
        drawn = "document.querySelector('[data-way=map] .drawn').data[0].z"
        shown = f"return {drawn}.flat().reduce((a, v) => a + (v ?? 0), 0)"
        before = ask(shown)
        other = "const s = document.querySelector('[data-way=map] select'); s.value = 2;"
        ask(other + "s.dispatchEvent(new Event('change'))")
        until(lambda: ask(shown) != before)
        ask("document.getElementById('theme').click()")
        assert (
            ask("return getComputedStyle(document.body.parentElement).backgroundColor") == "rgb(20, 25, 29)"
        )
        browser.set_window_size(500, 900)
        assert ask("return document.documentElement.scrollWidth <= innerWidth")
        # on paper: light though the screen is dark, maps as wide as the sheet, a still of what is turned
        still = "document.querySelector('.still')"
        until(lambda: ask(f"return {still}.src.length > 10000 && {still}.complete"))
        browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": "print"})
        ask("window.dispatchEvent(new Event('beforeprint'))")
        wide = "return [...document.querySelectorAll('.main-svg')].every(s => s.getBoundingClientRect().width < 700)"
        until(lambda: ask(wide))
        assert ask(f"return getComputedStyle({still}).display") == "block"
        assert (
            ask("return getComputedStyle(document.querySelector('[data-way=block] .drawn')).display")
            == "none"
        )
        assert (
            ask("return getComputedStyle(document.body.parentElement).backgroundColor")
            == "rgb(255, 255, 255)"
        )
        assert ask("return [...document.images].every(i => i.naturalWidth > 0)")
        complaints = [line for line in browser.get_log("browser") if line["level"] == "SEVERE"]
        assert not complaints
    finally:
        browser.quit()


def until(holds):
    for _ in range(300):
        if holds():
            return
        time.sleep(0.1)
    raise AssertionError("it took too long")
