"""The picture of the submitted forecasts: submitted, weighted and won week by week through the period."""

from django.urls import reverse

from wise_tally.core.calls import calls_in_force
from wise_tally.core.submitted_course import CoursePoint, submitted_course
from wise_tally.domain.formats import day, short
from wise_tally.web.charts import Chart, Layer, Mark, Point, day_words, money_marks
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.nodes import scope_node, working_query


def course_of(line: FilterLine) -> list[CoursePoint]:
    """The days of the period so far; none where nothing is submitted, or can be for the selection."""
    last = min(line.as_of, line.period.ends_on)
    by, index, _ = scope_node(line)
    if not calls_in_force(line.book.reference, last, line.period):
        return []
    course = submitted_course(line.book, line.period, last, line.scope, (by, index))
    return [one for one in course if one.submitted is not None]


def submitted_chart(line: FilterLine, course: list[CoursePoint], quota: int | None) -> Chart | None:
    """Submitted and weighted as lines above what was won, against quota."""
    if len(course) < 2:
        return None
    token, last = scope_node(line)[2], course[-1]
    days = [one.day.toordinal() for one in course]
    submitted = [one.submitted for one in course]
    working = reverse("forecast:working", args=["call"])
    return Chart(
        key="submitted",
        conclusion=f"Submitted {short(last.submitted)}, weighted {short(last.weighted)}, won {short(last.won)} by {day(last.day)}",
        points=[
            Point(
                day(one.day),
                [("submitted", short(one.submitted)), ("weighted", short(one.weighted)), ("won", short(one.won))],
                f"{working}?{working_query(line, token)}&as_of={one.day.isoformat()}",
                panel=True,
            )
            for one in course
        ],
        layers=[
            Layer("area", "won", [one.won for one in course], label=f"won · {short(last.won)}"),
            Layer("line", "weighted", [one.weighted for one in course], label=f"weighted · {short(last.weighted)}"),
            Layer("line", "submitted", submitted, label=f"submitted · {short(last.submitted)}"),
        ],
        y_words=money_marks(max(quota or 0, *(max(one.submitted or 0, one.weighted, one.won) for one in course), 1)),
        x_words=day_words(days[0], days[-1]),
        places=days,
        marks=[Mark("quota", f"quota {short(quota)}", level=quota)] if quota else [],
        edges=True,
        enter="shows how this figure is calculated",
    )
