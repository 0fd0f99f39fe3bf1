"""The words of tallies: spans, comparisons, drawings; those of what is counted stand in the register of figures."""

from wise_tally.core.tally import BUCKETS

BUCKET_WORDS = {
    "": "no time axis",
    "week": "by week of the period",
    "month": "by month of the period",
    "quarter": "by quarter of the period",
    "last_13_weeks": "last thirteen weeks",
    "last_12_months": "last twelve months",
    "last_8_quarters": "last eight quarters",
}
assert set(BUCKET_WORDS) == {"", *BUCKETS}
COMPARED = {"": "no comparison", "before": "previous period", "year": "same days last year"}
DRAWINGS = {
    "figure": "single figure",
    "bars": "bars",
    "ink": "bars against quota",
    "line": "line",
    "columns": "columns",
    "table": "table",
    "matrix": "heat table",
    "year": "year progress",
    "trend": "day by day",
    "week": "this week, by person",
}
