"""Tools that fill the quota grid without saving: spread over the year or down the tree, roll up, copy last year."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date

from wise_tally.core.book import Book
from wise_tally.core.calendar import Period
from wise_tally.core.dashboard_counts import sums_by_period
from wise_tally.core.distribution import grown, spread
from wise_tally.core.errors import CoreError
from wise_tally.core.forecast import forecast
from wise_tally.core.lines import Filter
from wise_tally.domain.formats import currency_decimals, plural
from wise_tally.domain.targets.models import SeasonCurve
from wise_tally.domain.typed_numbers import typed_count, typed_percent
from wise_tally.pages.setup.quotas.grid import Typed, cell_name, read_holds, saved_values
from wise_tally.pages.setup.quotas.view import PlanNode, PlanView

TOOLS = ("spread-year", "spread-down", "roll-up", "copy-year")
STEPS = {"": 0, "100": 100, "1000": 1000}


def rows_below(nodes: Sequence[PlanNode], node: PlanNode) -> list[PlanNode]:
    """The rows that add up to a row."""
    index = nodes.index(node)
    return [child for child in nodes if child.parent == index]


@dataclass
class Filling:
    """The grid while a tool works: every cell's value, what is held, what was filled."""

    book: Book
    view: PlanView
    nodes: list[PlanNode]
    today: date
    posted: Mapping[str, str]
    values: dict[str, int | None]
    held: set[str]
    step: int

    def value(self, node: PlanNode, period: Period) -> int | None:
        """The value of a cell as typed or kept."""
        return self.values[cell_name(node, period.starts_on)]

    def put(self, node: PlanNode, period: Period, value: int) -> None:
        """Fill a cell that is not held."""
        name = cell_name(node, period.starts_on)
        if name not in self.held:
            self.values[name] = value

    def held_of(self, cells: list[tuple[PlanNode, Period]]) -> dict[int, int]:
        """Of these cells the held ones with their values, by place."""
        names = [cell_name(node, period.starts_on) for node, period in cells]
        return {index: self.values[name] or 0 for index, name in enumerate(names) if name in self.held}

    def children(self, node: PlanNode) -> list[PlanNode]:
        """The rows that add up to a row."""
        return rows_below(self.nodes, node)

    def row(self) -> PlanNode:
        """The row chosen in the form."""
        token = self.posted.get("row", "")
        row = next((node for node in self.nodes if node.token == token), None)
        if row is None:
            raise CoreError(f"“{token[:60]}” is not in this plan. Choose a row from the list.")
        return row


def fill(
    book: Book, view: PlanView, nodes: list[PlanNode], today: date, posted: Mapping[str, str], typed: Typed
) -> Typed:
    """All cells' texts after a tool has worked on them; raises CoreError with what is wrong and what is accepted."""
    saved = saved_values(book, view, nodes, today)
    values = {**saved}
    for name, text in typed.items():
        value = view.typed(text) if text else None
        if isinstance(value, str):
            raise CoreError(value)
        values[name] = value
    _, locked = read_holds(posted, view, nodes)
    step = STEPS.get(posted.get("step", ""), 0) * (10 ** currency_decimals() if view.kind.is_money else 100)
    names = {f"{subject}:{key}:{starts_on}" for subject, key, starts_on, _ in locked}
    filling = Filling(book, view, nodes, today, posted, values, names, step or (1 if view.kind.is_money else 100))
    tool = {"spread-year": _year, "spread-down": _down, "roll-up": _up, "copy-year": _copy}.get(posted.get("tool", ""))
    if tool is None:
        raise CoreError(f"This is not a tool of the plan. Choose one of: {', '.join(TOOLS)}.")
    tool(filling)
    return {
        name: view.shown(value) if value != saved[name] or name not in typed else typed[name]
        for name, value in filling.values.items()
    }


def _year(filling: Filling) -> None:
    """A year's total over the months by the season curve."""
    node = filling.row()
    total = filling.view.typed(filling.posted.get("total", "").strip())
    if isinstance(total, str):
        raise CoreError(f"The year's total: {total}")
    if not filling.view.by_month:
        raise CoreError("A custom period has only one value. Type it into the cell.")
    cells = [(node, period) for period in filling.view.periods]
    names = [period.starts_on.isoformat() for period in filling.view.periods]
    parts = spread(total, _season(filling), names, filling.step, filling.held_of(cells))
    for (_, period), part in zip(cells, parts, strict=True):
        filling.put(node, period, part)


def _season(filling: Filling) -> list[int]:
    """Twelve weights: equal, last year's won of each month, or a kept curve."""
    chosen = filling.posted.get("curve", "equal")
    if chosen == "equal":
        return [1] * len(filling.view.periods)
    if chosen == "last-year":
        months = filling.book.reference.fiscal.months_of(filling.view.year - 1)
        snapshot = filling.book.as_of(filling.today)
        return [row.won for row in sums_by_period(filling.book, snapshot, tuple(months), Filter())]
    curve = SeasonCurve.objects.filter(key=chosen).first()
    if curve is None:
        raise CoreError("This seasonal pattern does not exist. Choose one from the list.")
    return [int(share) for share in curve.months_bp]


def _down(filling: Filling) -> None:
    """Each month of a row over the rows below it, one level or all."""
    node = filling.row()
    given, chosen = filling.posted.get("given", "").strip(), filling.posted.get("weights", "equal")
    if given and chosen != "given":
        raise CoreError(
            f"The shares {given[:60]} are typed, but others are chosen. Choose custom, or clear the shares."
        )
    _down_from(filling, node, filling.posted.get("levels") == "all", chosen)


def _down_from(filling: Filling, node: PlanNode, deep: bool, by: str) -> None:
    """Typed shares are those of the first level; further down each level is divided equally."""
    children = filling.children(node)
    weights = _weights(filling, children, by)
    for period in filling.view.periods:
        value = filling.value(node, period)
        if value is None:
            continue
        cells = [(child, period) for child in children]
        if not children:
            raise CoreError(f"{node.name} has no rows below it. Choose another row.")
        parts = spread(value, weights, [child.token for child in children], filling.step, filling.held_of(cells))
        for child, part, weight in zip(children, parts, weights, strict=True):
            # Who has no share and no quota yet keeps none, instead of a quota of 0.
            if part or weight or filling.value(child, period) is not None:
                filling.put(child, period, part)
    for child in children:
        if deep and filling.children(child):
            _down_from(filling, child, deep, "equal" if by == "given" else by)


def _weights(filling: Filling, children: list[PlanNode], by: str) -> list[int]:
    """A weight for each row: equal, as typed, or last year's won."""
    if by == "given":
        return given_shares(filling.posted.get("given", ""), children)
    if by != "last-year":
        selling = [int(child.shares(filling.posted.get("managers", "with-deals"))) for child in children]
        return selling if any(selling) else [1] * len(children)
    period = filling.book.reference.fiscal.parse(f"FY{filling.view.year - 1}")
    snapshot = filling.book.as_of(filling.today)
    won: dict[tuple[str, int], int] = {}
    for subject in {child.subject for child in children}:
        if subject == "partner":
            raise CoreError("Last year’s results are not available per partner. Choose equal or custom shares.")
        rows = forecast(filling.book, snapshot, period, Filter(), subject)
        won |= {(subject, row.node): row.won for row in rows}
    return [won.get((child.subject, child.index), 0) for child in children]


def given_shares(text: str, children: Sequence[PlanNode]) -> list[int]:
    """Typed shares, one for each row, in hundredths; a semicolon divides them where it occurs, else a comma."""
    parts = [part.strip() for part in text.split(";" if ";" in text else ",") if part.strip()]
    names = ", ".join(child.name for child in children)
    if len(parts) != len(children):
        raise CoreError(
            f"{plural(len(parts), 'share')} for {plural(len(children), 'row')}. Enter one for each of {names}, for example 3, 2.5, 1."
        )
    weights = []
    for part in parts:
        value = typed_count(part)
        if isinstance(value, str):
            raise CoreError(value)
        weights.append(value)
    return weights


def _up(filling: Filling) -> None:
    """A row set to the sum of the rows below it, or all rows from the bottom up."""
    nodes = [filling.row()] if filling.posted.get("levels") != "all" else list(filling.nodes)
    for node in sorted(nodes, key=lambda n: -n.depth):
        children = filling.children(node)
        if not children:
            continue
        for period in filling.view.periods:
            known = [v for v in (filling.value(child, period) for child in children) if v is not None]
            if known:
                filling.put(node, period, sum(known))


def _copy(filling: Filling) -> None:
    """Every row's months from the year before, changed by a percentage."""
    text = filling.posted.get("percent", "").strip() or "0"
    percent = typed_percent(text.lstrip("+-"))
    if isinstance(percent, str):
        raise CoreError(percent)
    sign = -1 if text.startswith("-") else 1
    if not filling.view.by_month:
        raise CoreError("A custom period cannot be copied from last year. Choose a fiscal year.")
    months = tuple(filling.book.reference.fiscal.months_of(filling.view.year - 1))
    before = replace(filling.view, year=filling.view.year - 1, periods=months)
    saved = saved_values(filling.book, before, filling.nodes, filling.today)
    for node in filling.nodes:
        for period, month in zip(filling.view.periods, months, strict=True):
            value = saved[cell_name(node, month.starts_on)]
            if value is not None:
                filling.put(node, period, grown(value, sign * percent))
