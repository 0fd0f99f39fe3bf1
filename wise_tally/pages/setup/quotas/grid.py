"""The quota grid: nodes × months of a fiscal year, sums against set values with their difference."""

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date

from wise_tally.core.book import Book
from wise_tally.core.calendar import Period
from wise_tally.core.targets import Target, added, quotas, sums_of_parts
from wise_tally.domain.targets.actions import Held, QuotaCell, held_cells
from wise_tally.pages.setup.quotas.view import PlanNode, PlanView
from wise_tally.web.paging import Page, page_at

Typed = dict[str, str]


@dataclass(frozen=True)
class Cell:
    """One month of one node: the own quota as typed or kept; `difference` is own − parts, None where either is none."""

    name: str
    label: str
    value: str
    expected: str
    fault: str
    held: bool
    filled: bool
    difference: int | None


# From so many people on the plan shows those of one team at a time, from so many teams on those beside it.
MOST_PEOPLE, MOST_TEAMS = 60, 20
AT_ONCE = 25


@dataclass(frozen=True)
class Line:
    """One node: cells and quarter sums in turn, the year's own sum and the parts'."""

    node: PlanNode
    cells: list[Cell]
    quarters: list[int | None]
    year: Target

    @property
    def groups(self) -> list[tuple[list[Cell], int | None]]:
        """Three months and their quarter's sum, four times; one cell without a sum for a custom period."""
        if not self.quarters:
            return [(self.cells, None)]
        return [(self.cells[3 * i : 3 * i + 3], total) for i, total in enumerate(self.quarters)]


@dataclass(frozen=True)
class QuotaGrid:
    """The lines of a view, with what is typed over them."""

    view: PlanView
    lines: list[Line]
    faults: list[str]
    unsaved: int


def cell_name(node: PlanNode, starts_on: date) -> str:
    """How a form names a cell."""
    return f"{node.token}:{starts_on}"


def saved_values(book: Book, view: PlanView, nodes: list[PlanNode], today: date) -> dict[str, int | None]:
    """Own quotas of all cells as they are kept."""
    values: dict[str, int | None] = {}
    for period in view.periods:
        targets = quotas(book.reference, today, period, str(view.kind.metric), view.kind.filters)
        for node in nodes:
            values[cell_name(node, period.starts_on)] = targets.of(node.subject, node.index).own
    return values


def quota_grid(
    book: Book,
    view: PlanView,
    nodes: list[PlanNode],
    today: date,
    typed: Typed | None = None,
    faults: Typed | None = None,
) -> QuotaGrid:
    """The grid as kept, with typed values and faults over it; of a large plan the rows below the view's team, and every one with something
    typed or faulty.
    """
    typed, faults = typed or {}, faults or {}
    named = {name.rpartition(":")[0] for name in (*typed, *faults)}
    wanted = {node.token for node in (nodes if view.people is None else shown_nodes(nodes, view))} | named
    saved = [quotas(book.reference, today, p, str(view.kind.metric), view.kind.filters) for p in view.periods]
    targets = [[view.target(target, node) for node in nodes] for target in saved]
    columns = zip(view.periods, targets, strict=True)
    shown = [_typed_over(view, nodes, period, column, typed) for period, column in columns] if typed else targets
    locked = held_cells(view.kind)
    lines, unsaved = [], 0
    for index, node in enumerate(nodes):
        if node.token not in wanted:
            continue
        cells: list[Cell] = []
        row = [column[index] for column in shown]
        for period, column in zip(view.periods, targets, strict=True):
            name, expected = cell_name(node, period.starts_on), view.shown(column[index].own)
            value = typed.get(name, expected)
            unsaved += value != expected
            hold = (node.subject, node.key, period.starts_on, period.ends_on) in locked
            label = f"{node.name}, {period.starts_on:%b %Y}"
            marks = (faults.get(name, ""), hold, value != expected, row[len(cells)].difference)
            cells.append(Cell(name, label, value, expected, *marks))
        quarters = [added(row[i : i + 3]).own for i in range(0, 12, 3)] if view.by_month else []
        lines.append(Line(node, cells, quarters, added(row)))
    names = {cell.name: cell.label for line in lines for cell in line.cells}
    messages = [f"{names.get(name, name)}: {text}" if name else text for name, text in faults.items()]
    return QuotaGrid(view, lines, messages, unsaved)


def _typed_over(
    view: PlanView, nodes: list[PlanNode], period: Period, saved: list[Target], typed: Typed
) -> list[Target]:
    """The targets of a column as they would be with what is typed; what cannot be read counts as kept."""
    own = []
    for node, target in zip(nodes, saved, strict=True):
        text = typed.get(cell_name(node, period.starts_on))
        value = target.own if text is None else view.typed(text) if text else None
        own.append(target.own if isinstance(value, str) else value)
    parts = sums_of_parts(own, [node.parent for node in nodes])
    return [Target(*pair) for pair in zip(own, parts, strict=True)]


def read_cells(
    posted: Mapping[str, str], view: PlanView, nodes: list[PlanNode]
) -> tuple[list[QuotaCell], Typed, dict[str, str]]:
    """Changed cells, everything typed, and faults by cell."""
    cells: list[QuotaCell] = []
    typed: Typed = {}
    faults: dict[str, str] = {}
    for node in nodes:
        for period in view.periods:
            name = cell_name(node, period.starts_on)
            if f"q:{name}" not in posted:
                continue
            text, expected_text = posted[f"q:{name}"].strip(), posted.get(f"expected:{name}", "")
            typed[name] = text
            if text == expected_text:
                continue
            value = view.typed(text or "0")
            shown = view.typed(expected_text) if expected_text else None
            if isinstance(value, str) or isinstance(shown, str):
                faults[name] = (
                    value if isinstance(value, str) else "The value shown before is not a number. Load the page again."
                )
                continue
            cells.append(QuotaCell(node.subject, node.key, period.starts_on, period.ends_on, value, shown))
    return cells, typed, faults


def read_holds(posted: Mapping[str, str], view: PlanView, nodes: list[PlanNode]) -> tuple[Held, Held]:
    """The cells that the form held, and of them those ticked to be held: of a folded plan not every row is in it."""
    cells = ((node.subject, node.key, p.starts_on, p.ends_on) for node in nodes for p in view.periods)
    shown = {cell for cell in cells if f"expected:{cell[0]}:{cell[1]}:{cell[2]}" in posted}
    return shown, {cell for cell in shown if f"h:{cell[0]}:{cell[1]}:{cell[2]}" in posted}


def plan_page(nodes: list[PlanNode], view: PlanView) -> Page:
    """The page of a plan that is shown; people and teams fold instead and stand on one."""
    return page_at(view.page, len(nodes), max(1, len(nodes)) if view.tree == "people" else AT_ONCE)


def shown_nodes(nodes: list[PlanNode], view: PlanView) -> list[PlanNode]:
    """The rows that a page shows of a plan with more than sixty people: those below the view's team (its token).

    Of more than twenty teams those that hold people alone are folded, too, unless they stand below that team or, being few, beside
    it. Territories and partners are turned over, the whole first on each page.
    """
    if view.tree != "people":
        page = plan_page(nodes, view)
        return [node for node in nodes[: page.first] if node.subject == "company"] + nodes[page.first : page.last]
    people = view.people or ""
    number = Counter(node.subject for node in nodes)
    if number["person"] <= MOST_PEOPLE:
        return nodes
    above = {node.token: nodes[node.parent].token if node.parent >= 0 else "" for node in nodes}
    holding = {above[node.token] for node in nodes if node.subject == "team"}
    teams_beside = sum(node.subject == "team" and above[node.token] == above.get(people, "") for node in nodes)
    opened = {people, above.get(people, "")} if teams_beside <= MOST_TEAMS else {people}

    def is_shown(node: PlanNode) -> bool:
        if node.subject == "person":
            return above[node.token] == people
        return number["team"] <= MOST_TEAMS or node.token in holding | {people} or above[node.token] in opened

    return [node for node in nodes if is_shown(node)]
