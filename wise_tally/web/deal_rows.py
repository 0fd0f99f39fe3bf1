"""Deals as pages show them: the state in the snapshot with names from the database, read for one page at a time."""

import math
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np

from wise_tally.core.book import Book
from wise_tally.core.calendar import NO_DAY
from wise_tally.core.deal_list import days_in_stage, days_over, slips
from wise_tally.core.reference_data import OPEN
from wise_tally.core.trees import NONE
from wise_tally.domain.database import among
from wise_tally.domain.deals.models import Account, Deal, DealRevision
from wise_tally.domain.org.access import Viewer, may_change_deal
from wise_tally.domain.process.models import Stage
from wise_tally.web.filter_line import FilterLine


@dataclass(frozen=True)
class DealRow:
    """A deal of the snapshot: identifiers for forms, names for reading."""

    key: str
    name: str
    account: str
    account_name: str
    process: str
    stage: str
    stage_name: str
    is_open: bool
    amount_minor: int
    weighted_minor: int
    probability_bp: int
    expected_close: int
    is_overdue: bool
    category: str
    category_name: str
    own_category: str
    owner_name: str
    territory_name: str
    closed_on: int
    days_in_stage: float
    overstays: bool
    days_over: float
    revision: int
    may_change: bool
    next_step: str
    no_history: bool = False
    slips: int = 0
    slipped_days: int = 0

    @property
    def shown_day(self) -> int:
        """The day that matters: of an open deal its expected close, of a closed one that of the closing; an ordinal, 0 for none."""
        return self.expected_close if self.is_open else self.closed_on


def deals_at(line: FilterLine, indices: Iterable[int], *related: str) -> dict[str, Deal]:
    """The deals at rows of the snapshot, which a computation over the scope gave, by identifier."""
    return named(line.book, line.snapshot.deal[list(indices)].tolist(), *related)


def named(book: Book, deals: Iterable[int], *related: str) -> dict[str, Deal]:
    """Deals of the book (indices that a computation gave) by identifier, a few at a time."""
    keys = among(book.deals.key[deal] for deal in deals)
    return {deal.key: deal for deal in Deal.objects.filter(key__in=keys).select_related(*related)}


def names_of(book: Book, deals: Iterable[int]) -> dict[str, str]:
    """Their names by identifier."""
    return {key: deal.name for key, deal in named(book, deals).items()}


def accounts_numbered(numbers: Iterable[int]) -> dict[int, Account]:
    """Accounts by row numbers that a computation over the scope gave, a few at a time."""
    return {account.pk: account for account in Account.objects.filter(pk__in=among(numbers))}


def deal_rows(line: FilterLine, indices: Iterable[int], viewer: Viewer | None = None) -> dict[int, DealRow]:
    """Rows by row of the snapshot, in the order given. `viewer` decides which may be changed."""
    wanted = list(dict.fromkeys(indices))
    keys = [line.book.deals.key[int(line.snapshot.deal[row])] for row in wanted]
    cut = datetime.fromtimestamp(line.snapshot.cut, UTC)
    deals = {deal.key: deal for deal in Deal.objects.filter(key__in=among(keys)).select_related("account")}
    # The revision shown, which a clock put back may have left behind: an edit stands on that one.
    numbers = among(deal.pk for deal in deals.values())
    shown = DealRevision.objects.filter(deal__in=numbers, void=False, effective_at__lt=cut)
    last = dict(shown.order_by("pk").values_list("deal_id", "pk"))
    indices = np.array(wanted, dtype=np.int64)
    spent = days_in_stage(line.book, line.snapshot, indices).tolist()
    over = days_over(line.book, line.snapshot, indices).tolist()
    rows = {}
    for row, key, *stay in zip(wanted, keys, spent, over, strict=True):
        if deal := deals.get(key):
            rows[row] = _row(line, row, deal, last.get(deal.pk, 0), (stay[0], stay[1]), viewer)
    return rows


def _row(
    line: FilterLine, snapshot_row: int, deal: Deal, revision: int, stay: tuple[float, float], viewer: Viewer | None
) -> DealRow:
    reference, snapshot, book = line.book.reference, line.snapshot, line.book
    stage = reference.stages[int(snapshot.stage[snapshot_row])]
    category, territory = int(snapshot.category[snapshot_row]), int(snapshot.territory[snapshot_row])
    row = int(snapshot.row[snapshot_row])
    own = int(book.revisions.category[row])
    close, amount = int(snapshot.expected_close[snapshot_row]), int(snapshot.amount_minor[snapshot_row])
    is_open = int(snapshot.kind[snapshot_row]) == OPEN
    owner, moved = int(snapshot.owner[snapshot_row]), slips(book, snapshot)
    return DealRow(
        key=deal.key,
        name=deal.name,
        account=deal.account.key if deal.account else "",
        account_name=deal.account.name if deal.account else "",
        process=reference.processes[stage.process][0],
        stage=stage.key,
        stage_name=stage.name,
        is_open=is_open,
        amount_minor=amount,
        weighted_minor=int(snapshot.weighted_minor[snapshot_row]),
        probability_bp=int(snapshot.probability_bp[snapshot_row]),
        expected_close=close,
        is_overdue=is_open and close != NO_DAY and close < line.as_of.toordinal(),
        category=reference.categories[category].key if category != NONE else "",
        category_name=reference.categories[category].name if category != NONE else "",
        own_category=reference.categories[own].key if own != NONE else "",
        owner_name=reference.people[owner].name,
        territory_name=reference.territories[territory].name if territory != NONE else "",
        closed_on=int(snapshot.closed_on[snapshot_row]),
        days_in_stage=stay[0],
        overstays=not math.isnan(stay[1]),
        days_over=stay[1],
        revision=revision,
        may_change=viewer is not None and may_change_deal(viewer, reference, line.today, owner),
        next_step=deal.next_step,
        slips=int(moved.count[snapshot.deal[snapshot_row]]),
        slipped_days=int(moved.days[snapshot.deal[snapshot_row]]),
        no_history=bool(book.deals.short_form[int(snapshot.deal[snapshot_row])]),
    )


def stage_choices() -> dict[str, list[Stage]]:
    """Unretired stages by process, in order."""
    stages: dict[str, list[Stage]] = {}
    for stage in Stage.objects.filter(retired=False).select_related("process").order_by("position", "key"):
        stages.setdefault(stage.process.key, []).append(stage)
    return stages
