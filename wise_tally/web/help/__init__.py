"""Help of each page and the words it uses: pages.toml is the one source of the dialog and of docs/guide.md."""

import tomllib
from dataclasses import dataclass
from functools import cache
from pathlib import Path

SOURCE = Path(__file__).parent / "pages.toml"


@dataclass(frozen=True)
class PageHelp:
    """What a newcomer needs on one page.

    ``names`` are the view names it belongs to, ``line`` says what the page shows, ``read`` how to read it in three
    sentences, ``todo`` what to do with it; ``words`` are pairs of a term and its meaning, ``picture`` a file of
    docs/screenshots or empty.
    """

    names: tuple[str, ...]
    title: str
    line: str
    read: tuple[str, ...]
    todo: str
    words: tuple[tuple[str, str], ...]
    picture: str


@cache
def pages() -> tuple[PageHelp, ...]:
    """All pages in the order of work. A word without a meaning raises `KeyError`."""
    source = tomllib.loads(SOURCE.read_text(encoding="utf-8"))
    meanings = source["words"]
    return tuple(
        PageHelp(
            names=(page["name"], *page.get("also", ())),
            title=page["title"],
            line=page["line"],
            read=tuple(page["read"]),
            todo=page["todo"],
            words=tuple((word, meanings[word]) for word in page["words"]),
            picture=page.get("picture", ""),
        )
        for page in source["page"]
    )


@cache
def _by_name() -> dict[str, PageHelp]:
    return {name: page for page in pages() for name in page.names}


def page_help(view_name: str) -> PageHelp | None:
    """Help of the page with this view name ("forecast:page"), None where a page has none."""
    return _by_name().get(view_name)
