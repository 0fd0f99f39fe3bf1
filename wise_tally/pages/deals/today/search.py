"""The search over everything: deals, customers, people by words or number, and pages and actions by their names."""

from collections.abc import Iterable
from dataclasses import dataclass
from functools import reduce
from operator import and_, or_
from typing import Any
from urllib.parse import urlencode

from django.db.models import Q, QuerySet
from django.http import HttpResponse
from django.shortcuts import render
from django.urls import NoReverseMatch, reverse
from django.views.decorators.http import require_safe

from wise_tally.domain.deals.models import Lead
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.models import Person
from wise_tally.web.help import pages
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.telephone import digits_of, with_plain_phone
from wise_tally.web.visibility import Visibility, visible

MOST_RESULTS = 8
SHORTEST = 2
ACTIONS = (
    ("New deal", "deals:new"),
    ("New lead", "customers:new-lead"),
    ("New account", "customers:new-account"),
    ("Log a call", "today:today"),
)


@dataclass(frozen=True)
class Result:
    """A thing found: its kind, name, where to go, and what distinguishes it from others."""

    kind: str
    name: str
    url: str
    more: str = ""


@require_safe
def find(request: PageRequest) -> HttpResponse:
    """Deals, accounts, contacts, leads, people, pages and actions; only what the viewer may open."""
    text = request.GET.get("q", "").strip()[:200]
    results = _results(request, text) if len(text) >= SHORTEST else []
    return render(request, "today/find.html", {"text": text, "results": results, "short": 0 < len(text) < SHORTEST})


def _results(request: PageRequest, text: str) -> list[Result]:
    may_see, words = visible(request), text.split()
    return [
        *_of_deals(may_see, text, words),
        *_of_customers(may_see, text, words),
        *_of_people(may_see, text),
        *_of_pages(request.viewer, words),
    ]


def _all_words(words: Iterable[str], *fields: str) -> Q:
    """Every word in one of the fields, wherever in it."""
    return reduce(and_, (reduce(or_, (Q(**{f"{field}__icontains": word}) for field in fields)) for word in words))


def _of_deals(may_see: Visibility, text: str, words: list[str]) -> list[Result]:
    matching = _all_words(words, "name", "account__name") | Q(key__iexact=text)
    return [
        Result("deal", deal.name, reverse("deals:deal", args=[deal.key]), deal.account.name if deal.account else "")
        for deal in may_see.deals(matching, "account", at_most=MOST_RESULTS)
    ]


def _with_number(records: QuerySet[Any], text: str, matching: Q) -> QuerySet[Any]:
    """Those that a condition finds, or whose telephone number ends so, whatever stands between its digits."""
    digits = digits_of(text)
    return (
        with_plain_phone(records).filter(matching | Q(plain_phone__endswith=digits))
        if digits
        else records.filter(matching)
    )


def _of_customers(may_see: Visibility, text: str, words: list[str]) -> list[Result]:
    accounts = may_see.accounts().filter(_all_words(words, "name") | Q(key__iexact=text)).order_by("name")
    results = [
        Result("account", a.name, reverse("customers:account", args=[a.key]), a.industry)
        for a in accounts[:MOST_RESULTS]
    ]
    contacts = _with_number(may_see.contacts(), text, _all_words(words, "name", "email", "account__name"))
    results += [
        Result(
            "contact", c.name, reverse("customers:account", args=[c.account.key]), f"{c.account.name} {c.phone}".strip()
        )
        for c in contacts.select_related("account").order_by("name")[:MOST_RESULTS]
    ]
    matching = _all_words(words, "name", "customer", "email") | Q(key__iexact=text)
    leads = _with_number(may_see.leads(), text, matching).order_by("-created_at")
    return results + [_lead(lead) for lead in leads[:MOST_RESULTS]]


def _lead(lead: Lead) -> Result:
    return Result("lead", lead.name, reverse("customers:lead", args=[lead.key]), lead.customer or lead.status or "new")


def _of_people(may_see: Visibility, text: str) -> list[Result]:
    people = Person.objects.filter(Q(name__icontains=text) | Q(key__iexact=text)).order_by("name")
    if may_see.people is not None:
        people = people.filter(key__in=may_see.people)
    return [
        Result("person", p.name, f"{reverse('deals:page')}?{urlencode({'who': f'person:{p.key}'})}", "show deals")
        for p in people[:MOST_RESULTS]
    ]


def _of_pages(viewer: Viewer, words: list[str]) -> list[Result]:
    """Actions and pages whose names hold the beginning of every word."""
    results = [Result("action", title, reverse(name)) for title, name in ACTIONS if _begins(title, words)]
    results = results if viewer.may(May.CHANGE_OWN_DEALS) else []
    for page in pages():
        name = page.names[0]
        if _begins(page.title, words) and (viewer.may(May.SET_RULES) or not name.startswith("setup:")):
            try:
                results.append(Result("page", page.title, reverse(name), page.line))
            except NoReverseMatch:
                # The page of one thing, which its own name finds.
                continue
    return results[:MOST_RESULTS]


def _begins(title: str, words: Iterable[str]) -> bool:
    parts = title.casefold().split()
    return all(any(part.startswith(word.casefold()) for part in parts) for word in words)
