"""Renew the figures of docs/measures.md from the register; run it with the project's Python from the top folder."""

import json
from collections.abc import Iterable
from pathlib import Path

from wise_tally.core.breakdowns import REGISTER as BREAKDOWNS
from wise_tally.core.figure import Figure
from wise_tally.core.figures import GROUPS, REGISTER
from wise_tally.core.figures_of_deals import OF_ACCOUNT, OF_DEAL, OF_LIST
from wise_tally.core.figures_of_process import OF_PROCESS
from wise_tally.core.findings.finding import FAMILIES, KINDS
from wise_tally.core.findings.measured import WORDS

FINDINGS = Path(__file__).parent / "findings.json"
PAGE = Path(__file__).parent.parent / "docs" / "measures.md"
BEGIN, END = "<!-- figures: made by tools/measures_page.py -->\n", "<!-- end of figures -->\n"
BEGIN_FINDINGS, END_FINDINGS = "<!-- findings: made by tools/measures_page.py -->\n", "<!-- end of findings -->\n"
ELSEWHERE = {"Conversion and time": OF_PROCESS, "A list of deals": OF_LIST, "A deal": OF_DEAL, "A customer": OF_ACCOUNT}


def _line(figure: Figure, terms: Iterable[str]) -> str:
    said = [f"- **{', '.join(dict.fromkeys(terms))}** ({figure.kind}): {figure.definition}"]
    if figure.formula:
        first, *rest = (part.words for part in figure.formula)
        in_order = all(words[0] in "+−÷" for words in rest)
        said.append(f"*{' '.join([first, *rest])}*." if in_order else f"*{rest[0]} ÷ {first}*.")
    if figure.breakdowns:
        said.append(f"Rows: {', '.join(BREAKDOWNS[one].label for one in figure.breakdowns)}.")
    if figure.none or figure.of_quota:
        said.append(f"None: {' or '.join(filter(None, ('no quota' if figure.of_quota else '', figure.none)))}.")
    return " ".join(said)


def _lines(figures: Iterable[Figure]) -> list[str]:
    """A line a figure; those that are defined alike share one."""
    alike: dict[tuple[str, str], list[Figure]] = {}
    for figure in figures:
        alike.setdefault((figure.kind, figure.definition), []).append(figure)
    return [_line(found[0], (one.term for one in found)) for found in alike.values()]


def figures_text() -> str:
    """All figures of the register, by group."""
    unreported = [one for one in REGISTER.values() if not one.group]
    parts = {**GROUPS, "Forecast pages only": unreported, **{name: list(of.values()) for name, of in ELSEWHERE.items()}}
    return "\n".join(f"### {name}\n\n" + "\n".join(_lines(of)) + "\n" for name, of in parts.items())


def _rate(true: int, number: int) -> str:
    return f"{100 * true / number:.0f} %" if number else "–"


def findings_text() -> str:
    """Every kind of finding, and how often those that foretell came true (`./tally findings --format json > tools/findings.json`)."""
    families = {name: [kind for kind in KINDS.values() if kind.family == family] for family, name in FAMILIES.items()}
    lines = [
        f"- **{name}**: " + " ".join(f"*{one.name}*: {one.definition}" for one in of) for name, of in families.items()
    ]
    past = json.loads(FINDINGS.read_text(encoding="utf-8"))
    rows = [
        f"| {KINDS[kind].name} | {one['told']} | {_rate(one['true'], one['told'])} | {one['others']} "
        f"| {_rate(one['true_others'], one['others'])} | {WORDS[kind]} |"
        for kind, one in past["scores"].items()
    ]
    head = [
        f"Of the demo's {past['mondays']} Mondays up to 91 days before {past['as_of']}, a week apart so that they overlap: how many "
        "findings came true, beside what no finding told of.",
        "",
        "| finding | told | came true | others | came true | true means |",
        "|---|---|---|---|---|---|",
    ]
    return "\n".join([*lines, "", *head, *rows]) + "\n"


def renewed(page: str) -> str:
    """The page with its figures as the register has them."""
    before, _, rest = page.partition(BEGIN)
    page = f"{before}{BEGIN}\n{figures_text()}\n{END}{rest.partition(END)[2]}"
    before, _, rest = page.partition(BEGIN_FINDINGS)
    return f"{before}{BEGIN_FINDINGS}\n{findings_text()}\n{END_FINDINGS}{rest.partition(END_FINDINGS)[2]}"


if __name__ == "__main__":
    PAGE.write_text(renewed(PAGE.read_text(encoding="utf-8")), encoding="utf-8")
