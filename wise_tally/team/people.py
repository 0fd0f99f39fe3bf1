"""Each person against quota and pace in the period."""

from dataclasses import dataclass

from wise_tally.core.attainment import AttainmentRow, attainment
from wise_tally.scope.line import ScopeLine
from wise_tally.scope.nodes import working_query
from wise_tally.ui.ink import InkBar, ink_bar
from wise_tally.ui.templatetags.figures import short


@dataclass(frozen=True)
class PersonBar:
    """A person's record, bar and link."""

    record: AttainmentRow
    bar: InkBar
    working: str


def people_bars(line: ScopeLine) -> list[PersonBar]:
    """People with a quota or money in the period, the furthest behind pace first."""
    rows = attainment(line.book, line.standing, line.period, line.scope, "person")
    rows = tuple(r for r in rows if r.forecast.quota or r.forecast.won or r.forecast.open)
    counted = line.book.ground.surest_first
    largest = max([1, *(max(r.forecast.won + r.forecast.open, r.forecast.quota or 0) for r in rows)])
    bars = []
    for row in sorted(rows, key=lambda r: r.to_date if r.to_date is not None else 99.0):
        f = row.forecast
        bar = ink_bar(f.won, [f.categories[c] for c in counted], f.quota, row.pace, largest)
        words = f"{f.name}: won {short(f.won)}, quota {short(f.quota)}, pace {short(row.pace)}"
        drawn = InkBar(bar.segments, bar.quota, bar.pace, words)
        bars.append(PersonBar(row, drawn, working_query(line, f"person:{f.key}")))
    return bars
