"""Every link of the built site leads to a file that is there, and to a place in it. `make site` runs it."""

from __future__ import annotations

import re
import sys
from functools import cache
from html.parser import HTMLParser
from pathlib import Path
from urllib.parse import unquote, urlsplit


class Links(HTMLParser):
    """What a page links to, and the places that can be linked to in it."""

    def __init__(self) -> None:
        super().__init__()
        self.links: list[str] = []
        self.places: set[str] = set()

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        given = dict(attrs)
        if link := given.get("href") or given.get("src"):
            self.links.append(link)
        self.places |= {v for k in ("id", "name") if (v := given.get(k))}


@cache
def read(page: Path) -> Links:
    found = Links()
    found.feed(page.read_text(encoding="utf-8"))
    return found


def broken(site: Path) -> list[str]:
    out = []
    for page in sorted(p for p in site.rglob("*.html") if "_static" not in p.parts):
        for link in read(page).links:
            url = urlsplit(link)
            if url.scheme or url.netloc or link.startswith("data:"):
                continue
            target = (page.parent / unquote(url.path)).resolve() if url.path else page
            target = target / "index.html" if target.is_dir() else target
            lost = not target.exists() or (url.fragment and target.suffix == ".html" and unquote(url.fragment) not in read(target).places)
            if lost and not re.search(r"genindex|search\.html|py-modindex", link):
                out.append(f"{page.relative_to(site)}: {link}")
    return out


if __name__ == "__main__":
    wrong = broken(Path(sys.argv[1]))
    print("\n".join(wrong) or "every link leads somewhere")
    sys.exit(bool(wrong))
