"""Pictures of a report over time: columns of its only row, or a line a row."""

from collections.abc import Sequence

from wise_tally.pages.team.tallies.result import FEW_LINES, Cell, Result, ResultRow
from wise_tally.web.charts import Chart, Layer, Point, marks_of

CLASSES = ("main", "weighted", "goal", "toward")


def report_chart(result: Result, drawing: str, key: str) -> Chart:
    """The picture of a result: `drawing` is columns or line; every value opens its working."""
    rows = result.rows[:1] if drawing == "columns" else result.rows[:FEW_LINES]
    factor = 100 if result.in_hundredths else 1
    shape = "count" if result.in_hundredths else result.shape
    largest = max([1e-9, *((cell.value or 0) / factor for row in rows for cell in row.cells)])
    ends = {row.name: result.write(row.cells[-1].value, is_short=True) for row in rows}
    return Chart(
        key=f"picture-{key}",
        conclusion=", ".join(f"{name} {words}" for name, words in ends.items()),
        points=[
            Point(
                head,
                [(row.name or "value", result.write(row.cells[index].value, is_short=True)) for row in rows],
                rows[0].cells[index].url,
                panel=True,
            )
            for index, head in enumerate(result.heads)
        ],
        layers=[_layer(row, index, drawing, factor) for index, row in enumerate(rows)],
        y_words=marks_of(shape, largest),
        x_words=_heads(result.heads),
        edges=drawing == "line",
        enter="shows how this figure is calculated",
        height=190,
    )


def _layer(row: ResultRow, index: int, drawing: str, factor: int) -> Layer:
    values = [_value(cell, factor) for cell in row.cells]
    if drawing == "columns":
        return Layer("columns", "soft", values)
    return Layer("line", CLASSES[index % len(CLASSES)], values, label=row.name)


def _value(cell: Cell, factor: int) -> float | None:
    return None if cell.value is None else cell.value / factor


def _heads(heads: Sequence[str]) -> list[tuple[float, str]]:
    return list(enumerate(heads))
