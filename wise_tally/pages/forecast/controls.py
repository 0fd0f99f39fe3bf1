"""The line above the grid that says how it counts: rows, second level, measure, day, form, columns."""

from dataclasses import dataclass, replace

from wise_tally.core.figure import Figure
from wise_tally.core.measures import DEALS, IN_HUNDREDTHS, QUANTITY
from wise_tally.domain.formats import currency_sign
from wise_tally.domain.org.access import Viewer
from wise_tally.pages.forecast.columns import chosen_columns, columns_of
from wise_tally.pages.forecast.query import BASIS_WORDS, MEASURE_WORDS, ROWS, WITHIN, ForecastQuery
from wise_tally.web.breakdowns import choices, words_of


@dataclass(frozen=True)
class Control:
    """A picker: its name, its words, its entries as value and words, and the chosen one."""

    name: str
    words: str
    entries: list[tuple[str, str]]
    chosen: str


@dataclass(frozen=True)
class Controls:
    """All pickers, the parts of the address to keep, the columns to choose from, and the ways to fold rows."""

    pickers: list[Control]
    hidden_fields: list[tuple[str, str]]
    columns: list[tuple[Figure, bool]]
    by_words: str
    expand: str
    fold: str
    usual: str


def controls(query: ForecastQuery, viewer: Viewer) -> Controls:
    """The controls of a question."""
    shown = {column.key for column in chosen_columns(viewer, query)}
    pickers = [
        Control("by", "Group by", choices(ROWS), query.by),
        Control("within", "then by", [("", "nothing"), *choices(WITHIN, query.by)], query.within),
        Control("measure", "measured in", list(MEASURE_WORDS.items()), query.measure),
        Control("basis", "date used", list(BASIS_WORDS.items()), query.basis),
        Control("form", "for", [("", "this period"), ("year", "all periods of the year")], query.form),
    ]
    names = {picker.name for picker in pickers}
    every = columns_of(query.line.book.reference)
    if query.form == "year":
        money = [(c.key, c.head) for c in every.values() if c.takes_measures and c.key != "pace"]
        pickers.append(Control("figure", "showing", money, query.figure or "weighted"))
        names.add("figure")
    return Controls(
        pickers=pickers,
        hidden_fields=replace(query, open=(), shut=()).carried(*names),
        columns=[(column, column.key in shown) for column in every.values()],
        by_words=words_of(query.by),
        expand=query.fresh(rows="all"),
        fold=query.fresh(rows="none"),
        usual=query.fresh(rows=""),
    )


def unit_of(query: ForecastQuery) -> str:
    """The unit of the measure, as heads of columns write it."""
    return {DEALS: "deals", QUANTITY: "pieces"}.get(query.measure) or currency_sign()


def exported(query: ForecastQuery, column: Figure, value: int | float | None) -> int | float | None:
    """A value as table files hold it: numbers as such, money in minor units."""
    if query.measure in IN_HUNDREDTHS and column.kind == "money" and value is not None:
        return value / 100
    return value
