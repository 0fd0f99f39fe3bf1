"""The list of deals: filters, sort and paging on the book's columns, names read for one page."""

from dataclasses import dataclass
from urllib.parse import urlencode

import numpy as np
from django.http import HttpRequest

from wise_tally.core.calendar import NO_DAY
from wise_tally.core.deal_list import days_in_stage, list_totals, overstaying, slips
from wise_tally.core.ground import LOST, OPEN, WON
from wise_tally.core.lines import credited_lines
from wise_tally.core.money import Ints
from wise_tally.deals.models import Deal
from wise_tally.scope.line import ScopeLine
from wise_tally.ui.refusals import Refused

PAGE = 50
STATUSES = {"open": OPEN, "won": WON, "lost": LOST}
SORTS = ("amount", "weighted", "close", "stage", "owner", "created", "days")
BIG_SHARE = 10
# Quick sets with what each holds.
QUICK = {
    "closing this month": "open deals expected to close in the present month",
    "closing next month": "open deals expected to close in the month after",
    "overdue": "open deals whose expected close is past",
    "undated": "open deals without an expected close",
    "no next step": "deals without a next step",
    "overstaying": "open deals longer in their stage than its typical days",
    "slipped twice": "deals whose expected close moved later at least twice",
    "big": "the tenth of the listed deals with the largest amounts",
}


@dataclass(frozen=True)
class Listing:
    """One page of the list with its totals (minor units)."""

    places: list[int]
    total: int
    amount_minor: int
    weighted_minor: int
    page: int
    pages: int
    status: str
    sort: str
    find: str
    stage: str
    only: str

    def query(self, line: ScopeLine, **changes: str) -> str:
        """The list's own address with parts changed."""
        own = {"status": self.status, "sort": self.sort, "find": self.find, "stage": self.stage, "only": self.only}
        parts = {**own, **changes}
        return urlencode([*line.given, *((name, value) for name, value in parts.items() if value)])


def listing(line: ScopeLine, request: HttpRequest) -> Listing:
    """The deals of the scope that the filters keep. Raises Refused naming what is accepted."""
    status = _one_of("status", request.GET.get("status", "open"), (*STATUSES, "all", "period"))
    sort = _one_of("sort", request.GET.get("sort", "-amount"), tuple(f"{s}{n}" for n in SORTS for s in ("", "-")))
    only = _one_of("only", request.GET.get("only", ""), ("", *QUICK))
    find, stage = request.GET.get("find", "").strip()[:200], request.GET.get("stage", "")
    at = np.unique(credited_lines(line.book, line.standing, line.scope, "company").at)
    at = at[_kept(line, at, status, stage, only)]
    if find:
        numbers = set(Deal.objects.filter(name__icontains=find).values_list("key", flat=True))
        numbers |= set(Deal.objects.filter(account__name__icontains=find).values_list("key", flat=True))
        keys = line.book.deals.key
        at = at[np.fromiter((keys[int(d)] in numbers for d in line.standing.deal[at]), dtype=bool, count=len(at))]
    if only == "no next step":
        without = set(Deal.objects.filter(next_step="").values_list("key", flat=True))
        at = at[[line.book.deals.key[int(d)] in without for d in line.standing.deal[at]]] if len(at) else at
    if only == "big":
        largest = np.argsort(-line.standing.amount_minor[at], kind="stable")[: -(-len(at) // BIG_SHARE)]
        at = np.sort(at[largest])
    at = at[_order(line, at, sort)]
    pages = max(1, -(-len(at) // PAGE))
    number = request.GET.get("page", "1")
    page = min(int(number), pages) if number.isascii() and number.isdigit() and 0 < len(number) < 8 else 1
    page = max(page, 1)
    totals = list_totals(line.standing, at)
    return Listing(
        places=[int(place) for place in at[(page - 1) * PAGE : page * PAGE]],
        total=totals.deals,
        amount_minor=totals.amount_minor,
        weighted_minor=totals.weighted_minor,
        page=page,
        pages=pages,
        status=status,
        sort=sort,
        find=find,
        stage=stage,
        only=only,
    )


def _one_of(what: str, value: str, accepted: tuple[str, ...]) -> str:
    if value not in accepted:
        raise Refused(f"“{value[:40]}” is not accepted as {what}; accepted: {', '.join(a for a in accepted if a)}.")
    return value


def _kept(line: ScopeLine, at: Ints, status: str, stage: str, only: str) -> np.ndarray:
    standing, ground = line.standing, line.book.ground
    first, last = line.period.starts_on.toordinal(), line.period.ends_on.toordinal()
    keep = np.ones(len(at), dtype=bool)
    close, is_open = standing.expected_close[at], standing.kind[at] == OPEN
    if status in STATUSES:
        keep &= standing.kind[at] == STATUSES[status]
    elif status == "period":
        day = np.where(is_open, close, standing.closed_on[at])
        keep &= (day >= first) & (day <= last)
    if stage:
        index = next((i for i, s in enumerate(ground.stages) if s.key == stage), None)
        if index is None:
            raise Refused(
                f"There is no stage “{stage[:60]}”; accepted: {', '.join(s.key for s in ground.stages)}.", 404
            )
        keep &= standing.stage[at] == index
    if only == "overdue":
        keep &= is_open & (close != NO_DAY) & (close < line.as_of.toordinal())
    elif only == "undated":
        keep &= is_open & (close == NO_DAY)
    elif only == "overstaying":
        keep &= overstaying(line.book, standing, at)
    elif only == "slipped twice":
        keep &= slips(line.book, standing).count[standing.deal[at]] >= 2
    elif only in ("closing this month", "closing next month"):
        month = line.book.ground.fiscal.containing(line.as_of, "month")
        month = line.book.ground.fiscal.beside(month, 1) if only == "closing next month" else month
        keep &= is_open & (close >= month.starts_on.toordinal()) & (close <= month.ends_on.toordinal())
    return keep


def _order(line: ScopeLine, at: Ints, sort: str) -> Ints:
    standing, ground = line.standing, line.book.ground
    name = sort.removeprefix("-")
    stage_rank = np.array([stage.process * 1000 + stage.position for stage in ground.stages] or [0])
    names = sorted(range(len(ground.people)), key=lambda i: ground.people[i].name)
    owner_rank = np.zeros(max(1, len(names)), dtype=np.int64)
    owner_rank[names] = np.arange(len(names))
    value = {
        "amount": lambda: standing.amount_minor[at],
        "weighted": lambda: standing.weighted_minor[at],
        "close": lambda: standing.expected_close[at],
        "stage": lambda: stage_rank[standing.stage[at]],
        "owner": lambda: owner_rank[standing.owner[at]],
        "created": lambda: line.book.deals.created_at[standing.deal[at]],
        "days": lambda: days_in_stage(line.book, standing, at),
    }[name]()
    return np.argsort(-value if sort.startswith("-") else value, kind="stable")
