"""Tallies and dashboards that ship: there for everybody, copied before they are changed."""

from dataclasses import dataclass


@dataclass(frozen=True)
class ShippedTally:
    """A tally by the query that its page is asked by."""

    name: str
    query: str


@dataclass(frozen=True)
class ShippedBoard:
    """A dashboard: its tiles by tally and whether each is wide."""

    name: str
    tiles: tuple[tuple[str, bool], ...]


SHIPPED = {
    "won-and-quota": ShippedTally("Won vs quota", "draw=year"),
    "day-by-day": ShippedTally("Won and quota, day by day", "draw=trend"),
    "per-person": ShippedTally("Attainment by person", "by=person&draw=ink"),
    "won-by-source": ShippedTally("Won by source", "show=won&by=source"),
    "open-by-stage": ShippedTally("Open pipeline by stage", "show=stage_open&by=stage"),
    "created-by-month": ShippedTally("New deals by month", "show=created&bucket=last_12_months"),
    "days-to-win": ShippedTally("Days to win", "show=days_to_win&against=before"),
    "coverage-by-team": ShippedTally("Pipeline coverage by team", "show=coverage&by=team"),
    "weighted-by-month": ShippedTally("Weighted forecast by month", "show=weighted&bucket=month"),
    "slips-by-person": ShippedTally("Slipped close dates by person", "show=slips&by=person"),
    "overstaying-by-person": ShippedTally("Stalled deals by person", "show=overstaying&by=person"),
    "overdue-by-person": ShippedTally("Overdue deals by person", "show=overdue&by=person"),
    "open-by-territory": ShippedTally(
        "Open pipeline by territory and deal type", "show=open&by=territory&within=deal_type"
    ),
    "win-rate": ShippedTally("Win rate of closed deals", "show=win_rate&against=before"),
    "win-rate-by-quarter": ShippedTally("Win rate of closed deals by quarter", "show=win_rate&bucket=last_8_quarters"),
    "won-of-created-by-source": ShippedTally("Win rate of created deals by source", "show=won_of_created&by=source"),
    "days-in-stage": ShippedTally("Median days in stage", "show=stage_days&by=stage"),
    "size-by-quarter": ShippedTally("Average deal size won", "show=mean_won&bucket=last_8_quarters"),
    "leads-by-source": ShippedTally("Leads, by source", "show=leads&by=source"),
    "this-week": ShippedTally("This week by person", "draw=week"),
    "phone-by-person": ShippedTally("Phone calls by person", "show=activities&by=person&kind=phone"),
    "mail-by-person": ShippedTally("E-mails by person", "show=activities&by=person&kind=mail"),
    "created-by-week": ShippedTally("Deals created, by week", "show=created&bucket=last_13_weeks"),
}
BOARDS = {
    "team": ShippedBoard(
        "Team",
        (
            ("day-by-day", False),
            ("per-person", False),
            ("won-by-source", False),
            ("open-by-stage", False),
            ("created-by-month", False),
            ("days-to-win", False),
        ),
    ),
    "pipeline-health": ShippedBoard(
        "Pipeline health",
        (
            ("coverage-by-team", False),
            ("weighted-by-month", False),
            ("overstaying-by-person", False),
            ("slips-by-person", False),
            ("overdue-by-person", False),
            ("open-by-territory", False),
        ),
    ),
    "process": ShippedBoard(
        "Conversion",
        (
            ("win-rate", False),
            ("days-in-stage", False),
            ("won-of-created-by-source", False),
            ("win-rate-by-quarter", False),
            ("size-by-quarter", False),
            ("leads-by-source", False),
        ),
    ),
    "this-week": ShippedBoard(
        "This week",
        (
            ("this-week", True),
            ("phone-by-person", False),
            ("mail-by-person", False),
            ("created-by-week", True),
        ),
    ),
}
FIRST_BOARD = "team"
