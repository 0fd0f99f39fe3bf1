"""The words of tallies: measures in groups, buckets, comparisons, drawings."""

from dataclasses import dataclass

from wise_tally.core.tally import BUCKETS, OF_FORECAST


@dataclass(frozen=True)
class MeasureWords:
    """A measure as people read it: its words and how values are written."""

    words: str
    shape: str
    # Of a rate of whole deals: how its two parts are written, and their names.
    parts: tuple[str, str, str] = ("count", "deals counted", "of these won")


MONEY, COUNT, PERCENT, DAYS, TIMES = "money", "count", "percent", "days", "times"
MEASURES = {
    "won": MeasureWords("won", MONEY),
    "lost": MeasureWords("lost", MONEY),
    "open": MeasureWords("open", MONEY),
    "weighted": MeasureWords("weighted", MONEY),
    "weighted_open": MeasureWords("weighted open", MONEY),
    "commit_forecast": MeasureWords("won + commit", MONEY),
    "best_case_forecast": MeasureWords("won + commit + best case", MONEY),
    "overdue": MeasureWords("overdue", MONEY),
    "undated": MeasureWords("undated", MONEY),
    "quota": MeasureWords("quota", MONEY),
    "gap": MeasureWords("gap to quota", MONEY),
    "attainment": MeasureWords("attainment", PERCENT),
    "to_date": MeasureWords("attainment to date", PERCENT),
    "coverage": MeasureWords("coverage", TIMES),
    "deals_won": MeasureWords("deals won", COUNT),
    "deals_lost": MeasureWords("deals lost", COUNT),
    "deals_open": MeasureWords("deals open", COUNT),
    "mean_won": MeasureWords("average size won", MONEY),
    "win_rate": MeasureWords("win rate of closed", PERCENT),
    "created": MeasureWords("deals created", COUNT),
    "created_value": MeasureWords("value created", MONEY),
    "won_of_created": MeasureWords("win rate of created", PERCENT),
    "days_to_win": MeasureWords("days to win, median", DAYS),
    "mean_days_to_win": MeasureWords("days to win, mean", DAYS),
    "stage_open": MeasureWords("open, by stage", MONEY),
    "stage_deals": MeasureWords("open deals, by stage", COUNT),
    "stage_days": MeasureWords("days in stage, median", DAYS),
    "stage_overstaying": MeasureWords("overstaying, by stage", COUNT),
    "slips": MeasureWords("slips", COUNT),
    "overstaying": MeasureWords("overstaying deals", COUNT),
    "average_discount": MeasureWords("average discount", PERCENT, (MONEY, "list value", "discount")),
    "cash": MeasureWords("cash due", MONEY),
    "cash_won": MeasureWords("cash due from won deals", MONEY),
    "cash_open": MeasureWords("cash due from open deals", MONEY),
    "activities": MeasureWords("activities done", COUNT),
    "leads": MeasureWords("leads", COUNT),
}  # fmt: skip
BY_OWNER = "by owner on the day."
# What is counted by the measures that no other place explains.
DEFINITIONS = {
    "created": f"Deals by the local day of their creation, {BY_OWNER}",
    "created_value": f"Amounts, as of the day, of deals created in the period, {BY_OWNER}",
    "won_of_created": f"Of the deals created in the period those won by the as-of day, {BY_OWNER}",
    "days_to_win": "Days from creation to winning of deals won in the period, by the owner at the closing; the median.",
    "mean_days_to_win": "Days from creation to winning of deals won in the period, by the owner at the closing; the mean.",
    "stage_open": "Amounts of open deals in the stage they stand in, whatever their expected close.",
    "stage_deals": "Open deals in the stage they stand in, whatever their expected close.",
    "average_discount": "What discounts take off the list value (quantity × price) of the products of deals won in the period, "
    f"as a share of it; {BY_OWNER}",
    "slips": f"How often an expected close moved later in the period, both dates while open, {BY_OWNER}",
    "overstaying": f"Open deals beyond the typical days of their stage, {BY_OWNER}",
}
GROUPS = (
    ("Forecast", ("won", "open", "weighted", "weighted_open", "commit_forecast", "best_case_forecast", "lost", "overdue", "undated")),
    ("Targets", ("quota", "gap", "attainment", "to_date", "coverage")),
    ("Numbers of deals", ("deals_won", "deals_lost", "deals_open", "created", "created_value")),
    ("Rates and sizes", ("win_rate", "won_of_created", "mean_won", "average_discount")),
    ("Time", ("days_to_win", "mean_days_to_win", "stage_days")),
    ("By stage", ("stage_open", "stage_deals", "stage_overstaying")),
    ("Care", ("slips", "overstaying")),
    ("Work and leads", ("activities", "leads")),
    ("Cash", ("cash", "cash_won", "cash_open")),
)  # fmt: skip
BUCKET_WORDS = {
    "": "not over time",
    "week": "by week of the period",
    "month": "by month of the period",
    "quarter": "by quarter of the period",
    "last_13_weeks": "last thirteen weeks",
    "last_12_months": "last twelve months",
    "last_8_quarters": "last eight quarters",
}
assert set(BUCKET_WORDS) == {"", *BUCKETS}
COMPARED = {"": "nothing", "before": "the period before", "year": "the same days last year"}
DRAWINGS = {
    "figure": "one figure",
    "bars": "bars",
    "ink": "ink bars against quota",
    "line": "line",
    "columns": "columns",
    "table": "table",
    "matrix": "matrix",
    "year": "the year against quota",
    "week": "this week, by person",
}


def takes_counting(measure: str) -> bool:
    """Whether deals may count for something else than their amount."""
    return measure in OF_FORECAST and MEASURES[measure].shape == MONEY
