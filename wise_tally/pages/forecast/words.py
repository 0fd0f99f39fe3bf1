"""Why deals are not counted and why quotas are none, in words."""

from wise_tally.core.measures import CLOSE, METRICS
from wise_tally.core.reference_data import ReferenceData
from wise_tally.core.trees import NONE
from wise_tally.pages.forecast.query import MEASURE_WORDS, PEOPLE, ForecastQuery

REASONS = {
    "won_here": "won in the period",
    "won_elsewhere": "won outside the period",
    "lost_here": "lost in the period",
    "lost_elsewhere": "lost outside the period",
    "due_before": "open, due before the period",
    "other_period": "open, due in another period",
    "undated": "open, no close date",
    "open": "open in category",
    "overdue": "overdue in category",
    "category": "in a category that is not in the forecast:",
}


def reason(code: str, category: int, reference: ReferenceData) -> str:
    """Why deals are not counted."""
    named = f" “{reference.categories[category].name}”" if category >= 0 else ""
    return REASONS[code] + named


def no_quota_reason(query: ForecastQuery) -> str:
    """Why quota, gap and coverage are none in this question; empty where they are not."""
    line, none = query.line, "so no quota, gap or coverage is shown."
    if query.basis != CLOSE:
        return f"Quotas are reached on the day of closing, not of payment, {none}"
    if query.measure not in METRICS:
        return f"There is no target for {MEASURE_WORDS[query.measure]}, {none}"
    if line.scope.process != NONE:
        return (
            "Quotas are not set per process, so no quota, gap or coverage is shown. Choose “all processes” to see them."
        )
    if line.scope.territory != NONE and query.by == PEOPLE:
        return "People’s quotas are not set per territory, so no quota, gap or coverage is shown."
    return ""
