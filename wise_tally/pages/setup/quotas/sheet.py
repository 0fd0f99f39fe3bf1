"""The quota plan as a sheet: filled with what is there, filled in elsewhere, read back cell by cell."""

from wise_tally.pages.setup.quotas.grid import Typed, cell_name
from wise_tally.pages.setup.quotas.view import PlanNode, PlanView
from wise_tally.web.files.tables import Sheet
from wise_tally.web.files.uploads import UploadedTable, UploadRefused

FIXED = ("subject", "identifier", "name")


def headings(view: PlanView) -> list[str]:
    """One heading for each period: the month, or the custom period's days."""
    if view.by_month:
        return [f"{period.starts_on:%Y-%m}" for period in view.periods]
    return [f"{period.starts_on} to {period.ends_on}" for period in view.periods]


def plan_sheet(view: PlanView, nodes: list[PlanNode], values: dict[str, int | None]) -> Sheet:
    """The plan as it is kept."""
    rows = [
        (
            node.subject,
            node.key,
            node.name,
            *(_number(view, values[cell_name(node, period.starts_on)]) for period in view.periods),
        )
        for node in nodes
    ]
    money = frozenset(headings(view)) if view.kind.is_money else frozenset()
    return Sheet(f"quotas-{view.custom or view.year}", (*FIXED, *headings(view)), money, rows)


def _number(view: PlanView, value: int | None) -> float | int | None:
    """Money in minor units; of a number its hundredths as one."""
    if view.kind.is_money or value is None:
        return value
    return value / 100 if value % 100 else value // 100


def letters(column: int) -> str:
    """A column as spreadsheets name it: A, B, … AA."""
    name, number = "", column + 1
    while number:
        number, rest = divmod(number - 1, 26)
        name = chr(65 + rest) + name
    return name


def read_sheet(table: UploadedTable, view: PlanView, nodes: list[PlanNode]) -> tuple[Typed, dict[str, str]]:
    """Typed cells and faults by cell; an empty cell changes nothing. Raises UploadRefused for another header."""
    wanted = [*FIXED, *headings(view)]
    if table.header != wanted:
        index = next(
            (i for i, name in enumerate(wanted) if i >= len(table.header) or table.header[i] != name), len(wanted)
        )
        heading = table.header[index] if index < len(table.header) else "nothing"
        right = wanted[index] if index < len(wanted) else "nothing more"
        raise UploadRefused(
            f"Row 1, column {letters(index)} is “{heading[:60]}”, expected “{right}”."
            " Keep the header row of the downloaded file."
        )
    by_token = {node.token: node for node in nodes}
    typed: Typed = {}
    faults: dict[str, str] = {}
    for number, cells in table.rows:
        node = by_token.get(f"{cells[0].strip()}:{cells[1].strip()}")
        if node is None:
            faults[f"row {number}"] = f"“{cells[0][:20]}” is not in this plan. Delete the row or correct it."
            continue
        for index, period in enumerate(view.periods, len(FIXED)):
            text, name = cells[index].strip(), cell_name(node, period.starts_on)
            if not text:
                continue
            where = f"{letters(index)}{number}"
            if name in typed:
                faults[where] = f"{where}: {node.name} appears twice. Keep one row."
            typed[name] = text
            if text.startswith("="):
                faults[name] = f"{where} contains a formula. Replace it by its value."
            elif isinstance(wrong := view.typed(text), str):
                faults[name] = f"{where}: {wrong}"
            else:
                typed[name] = view.shown(wrong)
    return typed, faults
