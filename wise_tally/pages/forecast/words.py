"""The words of forecast figures: labels, definitions and reasons."""

from wise_tally.core.measures import CLOSE, METRICS
from wise_tally.core.reference_data import ReferenceData
from wise_tally.core.trees import NONE
from wise_tally.pages.forecast.query import MEASURE_WORDS, PEOPLE, ForecastQuery

LABELS = {
    "won": "Won",
    "lost": "Lost",
    "open": "Open",
    "weighted_open": "Weighted open",
    "weighted": "Weighted",
    "commit_forecast": "Commit forecast",
    "best_case_forecast": "Best-case forecast",
    "overdue": "Overdue",
    "overdue_before": "Due before the period",
    "undated": "Undated",
    "quota": "Quota",
    "gap": "Gap to quota",
    "coverage": "Coverage",
    "attainment": "Attainment",
    "call": "Call",
    "pace": "Pace",
    "to_date": "To date",
    "chance": "Chance of quota",
    "chance_seen": "Chance of quota by seen rates",
    "seen": "Weighted by seen rates",
    "deals_won": "Deals won",
    "deals_open": "Deals open",
    "deals_lost": "Deals lost",
    "lost_share": "Lost of closed",
    "win_rate": "Win rate of closed",
    "mean_won": "Mean won amount",
}
DEFINITIONS = {
    "won": "Amounts of deals won in the period.",
    "lost": "Amounts of deals lost in the period.",
    "open": "Amounts of open deals of counted categories expected to close in the period.",
    "weighted_open": "For every open counted deal expected to close in the period: amount × probability, rounded per deal.",
    "weighted": "Won in the period plus, for every open counted deal expected to close in it, amount × probability, rounded per deal.",
    "commit_forecast": "Won plus open deals of the surest counted category.",
    "best_case_forecast": "Won plus open deals of the two surest counted categories.",
    "overdue": "Open counted deals of the period whose expected close is before the as-of day.",
    "overdue_before": "Open counted deals that were expected before the period began.",
    "undated": "Open counted deals without an expected close: in no period.",
    "quota": "The node's own quota where set, else the sum of its parts'; rows cut to the period by days.",
    "gap": "Quota minus won. Below 0 the quota is passed.",
    "chance_seen": "The share of all outcomes that reach the quota, each open counted deal won by the win rate seen of its stage. "
    "Independence of the deals is assumed.",
    "seen": "Won in the period plus, for every open counted deal expected to close in it, amount × the win rate seen of its "
    "stage in the four quarters before; a stage with fewer than 20 decided deals keeps its set probability.",
    "deals_won": "Number of deals won in the period, each once.",
    "deals_open": "Number of open deals of counted categories expected to close in the period, each once.",
    "deals_lost": "Number of deals lost in the period, each once.",
    "lost_share": "Deals lost divided by deals won or lost in the period, by number.",
    "win_rate": "Deals won divided by deals won or lost in the period, by number.",
    "mean_won": "Won divided by the number of deals won in the period.",
    "coverage": "Open divided by the gap; none where the gap is not above 0.",
    "attainment": "Won divided by quota. Open deals never count as achieved.",
    "call": "The latest call for exactly this subject and period; without one, the sum of the parts' calls, "
    "a person without a call standing at the weighted figure.",
    "pace": "The quota's rows cut off after the as-of day.",
    "to_date": "Won divided by pace: above 100 % the node is ahead of its quota so far.",
    "chance": "The share of all outcomes of the open counted deals, each won or not by its probability, "
    "that reach the quota. Independence of the deals is assumed.",
}
REASONS = {
    "won_here": "won in the period",
    "won_elsewhere": "won outside the period",
    "lost_here": "lost in the period",
    "lost_elsewhere": "lost outside the period",
    "due_before": "open, expected before the period",
    "other_period": "open, expected in another period",
    "undated": "open, without an expected close",
    "open": "open in category",
    "overdue": "overdue in category",
    "category": "in the uncounted category",
}


def label(figure: str, reference: ReferenceData) -> str:
    """The name of a figure; `category:N` is the money of category N."""
    if figure.startswith("category:"):
        return f"Open in {reference.categories[int(figure[9:])].name}"
    return LABELS[figure]


def definition(figure: str, reference: ReferenceData) -> str:
    """What a figure counts, in words."""
    if figure.startswith("category:"):
        name = reference.categories[int(figure[9:])].name
        return f"Amounts of open deals expected to close in the period in the forecast category “{name}”."
    return DEFINITIONS[figure]


def reason(code: str, category: int, reference: ReferenceData) -> str:
    """Why deals are not counted."""
    named = f" “{reference.categories[category].name}”" if category >= 0 else ""
    return REASONS[code] + named


def no_quota_reason(asked: ForecastQuery) -> str:
    """Why quota, gap and coverage are none in this question; empty where they are not."""
    line, none = asked.line, "so quota, gap and coverage are none here."
    if asked.basis != CLOSE:
        return f"Quotas are reached on the day of closing, not of payment, {none}"
    if asked.measure not in METRICS:
        return f"No target is of the {MEASURE_WORDS[asked.measure]}, {none}"
    if line.scope.process != NONE:
        return "Quotas are not set per process, so quota, gap and coverage are none under this filter."
    if line.scope.territory != NONE and asked.by == PEOPLE:
        return "People's quotas are not set per territory, so quota, gap and coverage are none under this filter."
    return ""
