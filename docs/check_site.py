"""Whether a built site holds together: ``python docs/check_site.py SITE``.

Every link within it leads to a page and a place that are there, and nothing that a page is drawn with comes from a
network. Links to the rest of the world are only counted: whether these live cannot be known without a network.
"""

from __future__ import annotations

import sys
from html.parser import HTMLParser
from pathlib import Path
from urllib.parse import unquote, urlsplit

DRAWN_WITH = {"img": "src", "script": "src", "link": "href", "iframe": "src", "source": "src"}


class Page(HTMLParser):
    """What a page links to, what it is drawn with, and the places in it."""

    def __init__(self, path: Path) -> None:
        super().__init__()
        self.links: list[str] = []
        self.drawn_with: list[str] = []
        self.places: set[str] = set()
        self.feed(path.read_text(encoding="utf-8"))

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        said = {name: value for name, value in attrs if value}
        self.places.update(said[name] for name in ("id", "name") if name in said)
        if tag == "a" and "href" in said:
            self.links.append(said["href"])
        elif said.get(DRAWN_WITH.get(tag, "")) and said.get("rel") not in ("canonical", "author"):
            self.drawn_with.append(said[DRAWN_WITH[tag]])


def faults_of(site: Path) -> tuple[list[str], int, int]:
    """What is wrong in a site; the links within it, and those that leave it."""
    files = (path for path in sorted(site.rglob("*.html")) if "_static" not in path.relative_to(site).parts)
    pages = {
        path.resolve(): Page(path) for path in files
    }  # what stands in _static is no page, but a theme's own
    faults, within, leaving = [], 0, 0
    for path, page in pages.items():
        where = path.relative_to(site.resolve())
        for link in [*page.links, *page.drawn_with]:
            parts = urlsplit(link)
            if parts.scheme in ("data", "mailto", "javascript"):
                continue
            if parts.scheme or parts.netloc:
                leaving += 1
                if link in page.drawn_with:
                    faults.append(f"{where} is drawn with {link}, which needs a network")
                continue
            within += 1
            to = (path.parent / unquote(parts.path)).resolve() if parts.path else path
            to = to / "index.html" if to.is_dir() else to
            if not to.exists():
                faults.append(f"{where} links to {link}, which is not there")
            elif parts.fragment and to in pages and unquote(parts.fragment) not in pages[to].places:
                faults.append(f"{where} links to {link}: that page has no such place")
    return faults, within, leaving


def main() -> int:
    """Say what is wrong; 1 if anything is."""
    site = Path(sys.argv[1])
    faults, within, leaving = faults_of(site)
    print(*sorted(set(faults)), sep="\n", end="\n" if faults else "")
    print(f"{within} links within {site}, {len(set(faults))} of them broken; {leaving} lead out of it")
    return 1 if faults or not within else 0


if __name__ == "__main__":
    raise SystemExit(main())
