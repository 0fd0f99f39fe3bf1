"""What is due today: each open deal of the scope once, with every reason why it wants a look, the most pressing first."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from datetime import datetime, timedelta

import numpy as np

from wise_tally.core.calendar import NO_DAY
from wise_tally.core.customer import contact_gap
from wise_tally.core.deal_list import days_in_stage, overstaying, slips
from wise_tally.core.ground import OPEN
from wise_tally.core.lines import credited_lines
from wise_tally.core.money import Ints
from wise_tally.core.statistics import DAY_SECONDS
from wise_tally.deals.models import Activity, Deal
from wise_tally.deals.selectors import last_contacts
from wise_tally.org.access import Viewer
from wise_tally.org.clock import now
from wise_tally.scope.deals import DealRow, deal_rows
from wise_tally.scope.line import ScopeLine
from wise_tally.shelf.book import shelf
from wise_tally.ui.templatetags.figures import as_words, day, days

# Contact gaps are read for at most so many open deals; a larger scope says that they are left out.
MOST_FOR_CONTACT = 2_000
SLIPPED_OFTEN = 2
# How pressing a reason is: what was promised for a day first.
PROMISED, CLOSING, LATE, LOOK = range(4)


@dataclass
class DueDeal:
    """A deal with the reasons it is due, and its planned activities that are due."""

    place: int
    reasons: list[tuple[int, str]] = field(default_factory=list)
    activities: list[Activity] = field(default_factory=list)
    row: DealRow | None = None
    deal: Deal | None = None


@dataclass(frozen=True)
class Due:
    """One page of due deals, how many there are, and whether contact gaps were left out."""

    deals: list[DueDeal]
    total: int
    open_deals: int
    without_contact: bool


def due_deals(line: ScopeLine, first: int, last: int, viewer: Viewer) -> Due:
    """The due deals of the scope from `first` up to `last`, the most pressing and then the largest first."""
    standing = line.standing
    at = np.unique(credited_lines(line.book, standing, line.scope, "company").at)
    at = at[standing.kind[at] == OPEN]
    found: dict[int, DueDeal] = {}

    def add(place: int, pressing: int, words: str) -> DueDeal:
        due = found.setdefault(place, DueDeal(place))
        due.reasons.append((pressing, words))
        return due

    _from_steps(line, at, add)
    _from_activities(line, at, add)
    _from_book(line, at, add)
    too_many = len(at) > MOST_FOR_CONTACT
    if not too_many:
        _from_contacts(line, at, add)
    order = sorted(
        found.values(), key=lambda due: (min(p for p, _ in due.reasons), -int(standing.amount_minor[due.place]))
    )
    shown = _with_rows(line, order[first:last], viewer)
    return Due(shown, len(order), len(at), too_many)


def _with_rows(line: ScopeLine, shown: list[DueDeal], viewer: Viewer) -> list[DueDeal]:
    rows = deal_rows(line, [due.place for due in shown], viewer)
    deals = {deal.key: deal for deal in Deal.objects.filter(key__in=[row.key for row in rows.values()])}
    for due in shown:
        due.row = rows.get(due.place)
        due.deal = deals.get(due.row.key) if due.row else None
        due.reasons.sort()
    return [due for due in shown if due.row is not None]


def _places(line: ScopeLine, at: Ints, numbers: Iterable[int]) -> dict[int, int]:
    """Place in the standing of each of these deals (row numbers) that is in the scope."""
    shelved, standing = shelf.shelved(), line.standing
    inside = set(at.tolist())
    found = {}
    for number in set(numbers):
        index = shelved.index_of(number)
        place = int(np.searchsorted(standing.deal, index)) if index is not None else len(standing.deal)
        if place < len(standing.deal) and int(standing.deal[place]) == index and place in inside:
            found[number] = place
    return found


Add = Callable[[int, int, str], DueDeal]


def _from_steps(line: ScopeLine, at: Ints, add: Add) -> None:
    rows = list(Deal.objects.filter(next_step_on__lte=line.today).values_list("pk", "next_step", "next_step_on"))
    places = _places(line, at, (row[0] for row in rows))
    for number, words, on in rows:
        if number in places and on is not None:
            late = "overdue since" if on < line.today else "due today,"
            add(places[number], PROMISED, f"next step {late} {day(on)}: {words or 'unnamed'}")


def _from_activities(line: ScopeLine, at: Ints, add: Add) -> None:
    end = datetime.fromtimestamp(line.standing.cut, now().tzinfo)
    rows = list(Activity.objects.filter(status="planned", at__lt=end, deal__isnull=False).order_by("at"))
    places = _places(line, at, (row.deal_id for row in rows if row.deal_id is not None))
    for row in rows:
        if row.deal_id in places:
            words = f"{as_words(row.kind)} planned for {day(row.at.date())}: {row.subject}"
            add(places[row.deal_id], PROMISED, words).activities.append(row)


def _from_book(line: ScopeLine, at: Ints, add: Add) -> None:
    standing, today = line.standing, line.today.toordinal()
    close = standing.expected_close[at]
    week_ends = (line.today + timedelta(days=6 - line.today.weekday())).toordinal()
    spent = days_in_stage(line.book, standing, at)
    rules = line.book.ground.rules_on(line.as_of)
    moved = slips(line.book, standing).count[standing.deal[at]]
    checks: list[tuple[np.ndarray, int]] = [
        ((close != NO_DAY) & (close >= today) & (close <= week_ends), CLOSING),
        ((close != NO_DAY) & (close < today), LATE),
        (overstaying(line.book, standing, at), LOOK),
        (moved >= SLIPPED_OFTEN, LOOK),
        (close == NO_DAY, LOOK),
    ]

    def words(check: int, i: int) -> str:
        typical = rules[int(standing.stage[at[i]])].typical_days or 0
        return (
            f"closes this week, {day(int(close[i]))}",
            f"expected close is past, {day(int(close[i]))}",
            f"{days(float(spent[i]) - typical)} over in its stage",
            f"slipped {int(moved[i])} times",
            "no expected close",
        )[check]

    for number, (flags, pressing) in enumerate(checks):
        for i in np.flatnonzero(flags).tolist():
            add(int(at[i]), pressing, words(number, i))


def _from_contacts(line: ScopeLine, at: Ints, add: Add) -> None:
    keys = {line.book.deals.key[int(line.standing.deal[place])]: place for place in at.tolist()}
    deals = list(Deal.objects.filter(key__in=keys).only("key", "account_id", "created_at"))
    last, moment = last_contacts(deals), now()
    for deal in deals:
        spent = (moment - (last[deal.pk] or deal.created_at)).total_seconds() / DAY_SECONDS
        if gap := contact_gap(spent):
            words = f"no contact for {days(spent)}" if last[deal.pk] else f"never contacted in {days(spent)}"
            add(keys[deal.key], LOOK, f"{words}, {gap} intervals missed")
