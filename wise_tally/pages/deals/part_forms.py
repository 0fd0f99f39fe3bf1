"""What is typed into a part of a deal: rows of lines, payments, contacts or credit, and the details."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from django.db.models import QuerySet

from wise_tally.core.money import line_amount, line_margin, margin_of_lines
from wise_tally.core.number_reader import whole_number
from wise_tally.domain.deals.models import Deal, Product
from wise_tally.domain.formats import bare, currency_decimals, money_input, quantity
from wise_tally.domain.org.models import Person
from wise_tally.domain.org.typed_days import typed_day
from wise_tally.domain.typed_numbers import typed_money, typed_percent, typed_quantity
from wise_tally.web.forms.choices import Pair, key_of
from wise_tally.web.request.refusals import Refused

Choices = tuple[Pair, ...]
EMPTY_ROWS = 3
MOST_ROWS = 200
EVERY: Choices = (("", "once"), ("month", "every month"), ("quarter", "every quarter"), ("year", "every year"))


@dataclass(frozen=True)
class Column:
    """A column of a row form: its name in the saved value, label, kind and choices, of which `suggests` says what is suggested."""

    name: str
    label: str
    kind: str
    choices: Choices = ()
    required: bool = True
    suggests: str = ""


@dataclass(frozen=True)
class Cell:
    """What stands in one field of a row."""

    column: Column
    field: str
    typed: str
    wrong: bool = False


@dataclass
class RowForm:
    """The rows of a part as typed, with faults, and the kept value where there are none.

    `read` holds the values of the rows that are not empty, by place; None stands for what cannot be read.
    """

    name: str
    columns: tuple[Column, ...]
    rows: list[list[Cell]]
    faults: list[str] = field(default_factory=list)
    value: dict[str, Any] | None = None
    from_lines: bool = False
    read: dict[int, dict[str, Any]] = field(default_factory=dict)


def columns_of(name: str, deal: Deal) -> tuple[Column, ...]:
    """The columns of a part's rows."""
    if name == "lines":
        in_use = deal.lines.values_list("product__key", flat=True)
        offered = Product.objects.offered(*in_use).order_by("product_group", "name")
        products = _offered(offered)
        return (
            Column("product", "product", "record", products, suggests="products"),
            Column("quantity_10000ths", "quantity", "quantity"),
            Column("unit_price_minor", "unit price", "money", required=False),
            Column("unit_cost_minor", "unit cost", "money", required=False),
            Column("discount_bp", "discount, %", "percent", required=False),
        )
    if name == "payments":
        return (
            Column("due_on", "due on", "date"),
            Column("amount_minor", "amount", "money"),
            Column("every", "repeats", "word", EVERY, required=False),
            Column("times", "number of payments", "whole", required=False),
        )
    if name == "contacts":
        known = _offered(deal.account.contacts.order_by("name")) if deal.account else ()
        return (Column("contact", "contact", "record", known), Column("role", "role in the deal", "text"))
    people = _offered(Person.objects.order_by("name"))
    return (
        Column("person", "person", "record", people, suggests="colleagues"),
        Column("share_bp", "share, %", "percent"),
    )


def _offered(records: QuerySet[Any]) -> Choices:
    return (("", ""), *records.values_list("key", "name"))


def shown_form(name: str, deal: Deal, value: Mapping[str, Any]) -> RowForm:
    """The form of a part with what is kept, and a few empty rows."""
    columns = columns_of(name, deal)
    rows = [[_text(column, row.get(column.name)) for column in columns] for row in value["rows"]]
    rows += [[""] * len(columns) for _ in range(EMPTY_ROWS)]
    read = dict(enumerate(value["rows"]))
    return RowForm(name, columns, _cells(columns, rows), from_lines=bool(value.get("from_lines")), read=read)


def _cells(columns: tuple[Column, ...], rows: list[list[str]]) -> list[list[Cell]]:
    return [
        [Cell(column, f"{column.name}-{number}", text) for column, text in zip(columns, row, strict=True)]
        for number, row in enumerate(rows)
    ]


def _text(column: Column, value: Any) -> str:
    if value is None:
        return ""
    texts: dict[str, Callable[[Any], Any]] = {"money": money_input, "percent": bare, "quantity": quantity}
    return str(texts.get(column.kind, str)(value))


def read_rows(name: str, deal: Deal, posted: Mapping[str, str]) -> RowForm:
    """The rows typed; empty ones are left out. Faults name the row and what is accepted."""
    columns = columns_of(name, deal)
    first = columns[0].name
    count = sum(1 for key in posted if key.startswith(f"{first}-"))
    typed = [[posted.get(f"{c.name}-{n}", "").strip() for c in columns] for n in range(min(count, MOST_ROWS))]
    form = RowForm(name, columns, _cells(columns, typed), from_lines=posted.get("from_lines") == "yes")
    form.read = {
        number: _read_row(form, number, row) for number, row in enumerate(form.rows) if any(cell.typed for cell in row)
    }
    rows = list(form.read.values())
    _check_whole(form, rows)
    if not form.faults:
        form.value = {"from_lines": form.from_lines, "rows": rows} if name == "lines" else {"rows": rows}
    return form


def _read_row(form: RowForm, number: int, row: list[Cell]) -> dict[str, Any]:
    values: dict[str, Any] = {}
    for index, cell in enumerate(row):
        value = _read(cell) if cell.typed else "" if cell.column.kind in ("word", "text") else None
        wrong = ""
        if isinstance(value, Wrong):
            wrong, value = value.words, None
        elif cell.column.required and not cell.typed:
            wrong = "is empty. Enter a value or clear the whole row."
        if wrong:
            form.faults.append(f"Row {number + 1}, {cell.column.label}: {wrong}.".replace("..", "."))
            row[index] = replace(cell, wrong=True)
        values[cell.column.name] = value
    if form.name == "lines" and values["product"]:
        _fill_in_prices(values)
    return values


def _fill_in_prices(row: dict[str, Any]) -> None:
    """An empty price or cost is the product's."""
    product = Product.objects.get(key=row["product"])
    if row["unit_price_minor"] is None:
        row["unit_price_minor"] = product.unit_price_minor or 0
        if row["unit_cost_minor"] is None:
            row["unit_cost_minor"] = product.unit_cost_minor


@dataclass(frozen=True)
class Wrong:
    """Why a cell cannot be read."""

    words: str


def _chosen(cell: Cell) -> str | Wrong:
    choices = cell.column.choices
    try:
        key = key_of(choices, cell.typed)
    except Refused as several:
        return Wrong(str(several))
    return key if key in dict(choices) else Wrong(f"“{key[:40]}” was not found. Choose one from the list.")


def _read(cell: Cell) -> Any:
    kind, text = cell.column.kind, cell.typed
    if kind in ("record", "word"):
        return _chosen(cell)
    if kind == "date":
        day = typed_day(text)
        return Wrong(day) if isinstance(day, str) else day.isoformat()
    if kind == "whole":
        return whole_number(text, 999) or Wrong(f"“{text[:20]}” is not valid. Enter a whole number from 1 to 999.")
    if kind == "text":
        return text[:200]
    readers: dict[str, Callable[[str], int | str]] = {"percent": typed_percent, "quantity": typed_quantity}
    value = typed_money(text, currency_decimals()) if kind == "money" else readers[kind](text)
    return Wrong(value) if isinstance(value, str) else value


def _check_whole(form: RowForm, rows: list[dict[str, Any]]) -> None:
    """What only the rows together can have wrong."""
    if form.faults:
        return
    if form.name == "credits" and rows:
        total = sum(row["share_bp"] for row in rows)
        if total != 10_000:
            form.faults.append(f"The shares add up to {bare(total)} %. They must add up to 100 %.")
    for column in ("person", "contact"):
        values = [row[column] for row in rows if column in row]
        if len(values) != len(set(values)):
            form.faults.append("A person appears twice. Enter each person once.")
    if form.name == "payments":
        for number, row in enumerate(rows, 1):
            if row["times"] and not row["every"]:
                form.faults.append(f"Row {number}: a payment made once has no number of times; leave it empty.")


@dataclass(frozen=True)
class ShownLine:
    """A line as the page shows it, money in minor units."""

    product: str
    quantity_10000ths: int
    unit_price_minor: int
    unit_cost_minor: int | None
    discount_bp: int | None
    amount_minor: int
    margin_minor: int | None


@dataclass(frozen=True)
class ShownLines:
    """The lines of a deal with their sums; the margin is None where a line has no cost, or there is no line."""

    rows: tuple[ShownLine, ...]
    amount_minor: int
    margin_minor: int | None


def shown_lines(deal: Deal) -> ShownLines:
    """Lines with amount and margin of each, and of all."""
    lines = []
    for line in deal.lines.select_related("product").order_by("pk"):
        amount = line_amount(line.quantity_10000ths, line.unit_price_minor, line.discount_bp or 0)
        margin = line_margin(line.quantity_10000ths, amount, line.unit_cost_minor)
        columns = (line.quantity_10000ths, line.unit_price_minor, line.unit_cost_minor, line.discount_bp)
        lines.append(ShownLine(line.product.name, *columns, amount, margin))
    margin = margin_of_lines([line.margin_minor for line in lines])
    return ShownLines(tuple(lines), sum(line.amount_minor for line in lines), margin)
