"""The forecast of people within teams: rows of a team's members add up to the team."""

from wise_tally.core.book import Book, Standing
from wise_tally.core.calendar import Period
from wise_tally.core.forecast import (
    ForecastLines,
    ForecastRow,
    deals_by_node,
    figure_tables,
    forecast_lines,
    forecast_row,
    holding_nodes,
    targets_and_calls,
)
from wise_tally.core.lines import Filter, Grouping
from wise_tally.core.money import Ints
from wise_tally.core.targets import NO_TARGET
from wise_tally.core.trees import NONE


def member_lines(book: Book, standing: Standing, period: Period, scope: Filter) -> tuple[ForecastLines, Ints]:
    """The lines by team, and for each its member place: team × people + person (teams + 1 blocks, the last without a team)."""
    lines = forecast_lines(book, standing, period, scope, "team")
    team = lines.node.copy()
    team[team == NONE] = len(book.ground.teams)
    return lines, team * len(book.ground.people) + lines.lines.person


def forecast_members(
    book: Book, standing: Standing, period: Period, scope: Filter, calls: bool = False
) -> dict[tuple[int, int], ForecastRow]:
    """Rows by (team or -1, person) that hold something or are members on the day.

    A person's quota and call stand in the team of the as-of day only.
    """
    ground = book.ground
    people, teams = len(ground.people), len(ground.teams)
    lines, place = member_lines(book, standing, period, scope)
    keys = tuple(person.key for _ in range(teams + 1) for person in ground.people)
    names = tuple(person.name for _ in range(teams + 1) for person in ground.people)
    group = Grouping("member", keys, names, None)
    member = ForecastLines(lines.lines, place, lines.bucket, lines.amount_minor, lines.weighted_minor, lines.buckets)
    counts = deals_by_node(member, group)
    figures = figure_tables(member, group, counts)
    target, call = targets_and_calls(book, standing, period, scope, "person", calls)
    holding = holding_nodes(lines.buckets, counts)
    today = standing.as_of.toordinal()
    rows = {}
    for index in range(people):
        now_in = ground.team_of(index, today)
        for team in {now_in, *(t if t < teams else NONE for t in range(teams + 1) if holding[t * people + index])}:
            node = (teams if team == NONE else team) * people + index
            said = (target(index), call(index)) if team == now_in else (NO_TARGET, None)
            rows[team, index] = forecast_row(node, group, figures[node], said)
    return rows
