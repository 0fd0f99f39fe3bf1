"""Write docs/guide.md from the help of the pages; run it with the project's Python from the top folder."""

from pathlib import Path

from wise_tally.web.help import PageHelp, pages

GUIDE = Path(__file__).parent.parent / "docs" / "guide.md"
HEAD = """# Guide

The pages in the order of work: what each shows, how to read it, what to do with it. The same text stands in the
application under *Help* (`?`) on each page. This file is made by `tools/guide_page.py`.
"""


def _section(page: PageHelp) -> str:
    words = "\n".join(f"- **{word}**: {meaning}" for word, meaning in page.words)
    picture = f"\n![{page.title}](screenshots/{page.picture})\n" if page.picture else ""
    reading = "\n".join(page.read)
    return f"## {page.title}\n\n*{page.line}*\n{picture}\n{reading}\n\n**What to do:** {page.todo}\n\n{words}\n"


def guide_text() -> str:
    """The whole guide."""
    return "\n".join((HEAD, *map(_section, pages())))


if __name__ == "__main__":
    GUIDE.write_text(guide_text(), encoding="utf-8")
