"""What a finding is: its kind, whom or what it is about, its sentence, the money at stake and the action proposed."""

from dataclasses import dataclass, field
from datetime import date
from typing import Literal

from wise_tally.core.answers.answer import Answer, Part
from wise_tally.core.trees import NONE

Family = Literal["forecast", "deals", "people", "process", "customers", "data"]
Action = Literal[
    "call", "ask", "move", "meet", "deals", "changed", "calls", "adopt", "trend", "losses", "leads", "waiting", "customer", "quotas",
]  # fmt: skip
About = Literal["scope", "team", "person", "deal", "stage", "reason", "customer", "data"]


@dataclass(frozen=True)
class Kind:
    """A kind of finding: its family, name, what it means in a sentence, and how much a manager can still change of what is at stake
    (0 to 1; of deals their own chance decides, and this is the most). `action` is the one thing proposed: a call, a next step asked for
    or a date moved (in place), a one-to-one, or the page to act on.
    """

    key: str
    family: Family
    name: str
    definition: str
    changeable: float
    action: Action


@dataclass(frozen=True)
class Subject:
    """Whom or what a finding is about, by its identifier; `index` is its place in the book, -1 where it has none."""

    about: About
    key: str = ""
    index: int = NONE


@dataclass(frozen=True)
class Finding:
    """One thing worth acting on.

    `money_minor` is at stake, worked out as `terms` say (words with their parts); `changeable` is the share of it that can still be
    changed. `deals` are indices into the book, the largest first. `whose` is the person (index) whose matter it is. `also` are
    further things said of the same subject. `since` is the day from which it holds, None where no day can be told.
    """

    kind: Kind
    subject: Subject
    sentence: Answer
    money_minor: int
    terms: tuple[tuple[str, Part], ...]
    changeable: float
    deals: tuple[int, ...] = ()
    whose: int = NONE
    since: date | None = None
    also: tuple["Finding", ...] = field(default=())

    @property
    def key(self) -> str:
        """What makes it the same finding on another day: its kind and subject."""
        return f"{self.kind.key}:{self.subject.about}:{self.subject.key}"

    @property
    def score(self) -> float:
        """Money at stake times the share that can still be changed: findings rank by it."""
        return self.money_minor * self.changeable


_KINDS = (
    Kind("forecast_gap", "forecast", "Forecast against quota", "What the period is likely to bring against its quota, and what moved "
         "the weighted forecast since the last brief.", 0.5, "changed"),
    Kind("will_miss", "forecast", "Will miss quota", "A rep or team whose chance of reaching its quota is small.", 0.5, "meet"),
    Kind("ahead", "forecast", "Ahead of quota", "Reps who are likely to pass their quota.", 0.05, "meet"),
    Kind("decides", "deals", "Decides the period", "A deal that decides whether the quota is reached.", 1.0, "call"),
    Kind("claims", "deals", "Unlikely for its category", "A big deal in commit or best case that past deals make unlikely.", 1.0, "call"),
    Kind("stalled", "deals", "Stalled", "A big deal well past the typical days of its stage.", 0.25, "ask"),
    Kind("pushed", "deals", "Pushed again", "A big deal whose expected close was moved later several times.", 0.25, "call"),
    Kind("no_next_step", "deals", "No next step", "A big deal without a next step.", 0.25, "ask"),
    Kind("no_contact", "deals", "Not contacted", "A big deal whose customer nobody has contacted for several intervals.", 0.25, "call"),
    Kind("close_past", "deals", "Close date is past", "A big deal whose expected close is past.", 0.25, "move"),
    Kind("closes_late", "deals", "Closes in the last days", "A big deal that is to close in the last days of the period.", 1.0, "call"),
    Kind("likely", "deals", "Better than its category", "Deals outside commit and best case that are likely to be won.", 0.3, "deals"),
    Kind("unlikely", "people", "Unlikely commit", "A rep's deals in the surest categories that past deals make unlikely.", 0.8, "meet"),
    Kind("calls_off", "people", "Forecasts off the outcome", "A rep whose submitted forecasts ran above or below what was won, "
         "period after period.", 0.8, "meet"),
    Kind("stays_long", "people", "Deals stall", "A rep whose deals stall in a stage more often than those of others.", 0.8, "deals"),
    Kind("not_submitted", "people", "No forecast submitted", "Reps who submitted no forecast for the period.", 0.1, "calls"),
    Kind("activity_below", "people", "Activities below target", "A rep who did fewer activities this month than the target to "
         "date.", 0.05, "meet"),
    Kind("stage_off", "process", "Probability off", "A stage whose set probability is outside the likely range "
         "of the actual win rate.", 0.8, "adopt"),
    Kind("win_rate", "process", "Win rate changed", "The win rate of closed deals changed more than chance explains.", 0.4, "trend"),
    Kind("deal_size", "process", "Deal size changed", "The size of won deals changed more than chance explains.", 0.3, "trend"),
    Kind("days_to_win", "process", "Days to win changed", "The days to win changed more than chance explains.", 0.3, "trend"),
    Kind("losses", "process", "A loss reason grows", "One reason or competitor takes a larger part of the losses than before.",
         0.5, "losses"),
    Kind("fewer_deals", "process", "Fewer new deals", "Fewer deals are created than usual, less than chance explains.", 0.5, "trend"),
    Kind("fewer_leads", "process", "Fewer new leads", "Fewer leads come in than usual, less than chance explains.", 0.4, "leads"),
    Kind("leads_waiting", "customers", "Leads waiting", "New leads that waited longer than the limit for their first contact.",
         0.6, "waiting"),
    Kind("owes", "customers", "Overdue invoices", "A customer with overdue invoices beside an open deal.", 0.9, "customer"),
    Kind("sales_fall", "customers", "Sales fall", "A customer whose sales of twelve months fell.", 0.4, "customer"),
    Kind("silent", "customers", "Contact gaps", "Open deals whose customers waited longer than their contact interval.", 0.1, "deals"),
    Kind("undated", "data", "No close date", "Open deals without a close date. They are in no period’s forecast.", 0.2, "deals"),
    Kind("overdue", "data", "Close date past", "Open deals whose expected close is past.", 0.2, "deals"),
    Kind("no_amount", "data", "No amount", "Open deals without an amount. They add nothing to the forecast.", 0.2, "deals"),
    Kind("no_owner", "data", "Owner has left", "Open deals of people who have left.", 0.5, "deals"),
    Kind("twins", "data", "Entered twice", "Open deals of one customer with the same name and amount.", 0.5, "deals"),
    Kind("target_parts", "data", "Target and parts differ", "A target set that is not the sum of its parts.", 0.2, "quotas"),
)  # fmt: skip
KINDS = {kind.key: kind for kind in _KINDS}
FAMILIES: dict[str, str] = {
    "forecast": "Forecast",
    "deals": "Deals",
    "people": "People",
    "process": "Sales process",
    "customers": "Customers",
    "data": "Data",
}
