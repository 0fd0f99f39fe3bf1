"""The page of a hand-over: a rule and who takes over, what each would get, done and undone."""

from dataclasses import asdict
from typing import Any

from django.contrib import messages
from django.http import HttpResponse, QueryDict
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST

from wise_tally.book.store import books
from wise_tally.domain.deals.handover import (
    RULES,
    HandedOver,
    Portion,
    hand_over,
    mark_of,
    owned_by,
    portions_of,
    proposed,
    take_back,
)
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.models import Person
from wise_tally.web.request.permissions import all_needs
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest

LAST_DONE = "last_hand_over"
# So many takers fit side by side and in one's head.
MOST_TAKERS = 20


@require_http_methods(["GET", "HEAD", "POST"])
@all_needs(May.SET_ORGANISATION)
def page(request: PageRequest, key: str) -> HttpResponse:
    """What each would get; confirmed, it is handed over."""
    giver = _giver(key)
    data = request.POST if request.method == "POST" else request.GET
    rule = _rule(data.get("rule", "all"))
    others = Person.objects.exclude(pk=giver.pk).filter(active_to=None).order_by("name")
    takers = list(others.filter(key__in=data.getlist("taker")[:MOST_TAKERS]))
    portions = portions_of(giver, rule) if takers else []
    given = _given(portions, takers, data)
    wrong = "" if takers else "Choose at least one person who takes over." if "rule" in data else ""
    if request.method == "POST" and not wrong and data.get("what") != "preview":
        if data.get("mark") == mark_of(portions):
            return _hand_over(request, giver, portions, given)
        wrong = f"What {giver.name} owns was changed meanwhile. Look at the list again, then transfer."
    answer = {"giver": giver, "owned": owned_by(giver), "rule": rule, "rules": RULES, "others": others, "wrong": wrong}
    answer |= _preview(portions, takers, given)
    return render(request, "setup/hand_over.html", answer, status=422 if wrong else 200)


def _rule(text: str) -> str:
    if text not in RULES:
        raise Refused(f"“{text[:20]}” is not a way to transfer. Choose one of: {', '.join(RULES.values())}.")
    return text


def _given(portions: list[Portion], takers: list[Person], data: QueryDict) -> dict[str, Person]:
    """Who gets each portion: who was chosen, else who is proposed."""
    given = {portion.key: _chosen(takers, data.get(f"to:{portion.key}", "")) for portion in portions}
    for name, person in (proposed(portions, takers) if portions else {}).items():
        given[name] = given[name] or person
    return given


def _preview(portions: list[Portion], takers: list[Person], given: dict[str, Person]) -> dict[str, Any]:
    """The portions with who gets them, and what each taker would get in all."""
    return {
        "takers": takers,
        "portions": [(portion, given[portion.key]) for portion in portions],
        "sums": [(taker, *_sum(portions, given, taker)) for taker in takers],
        "mark": mark_of(portions),
    }


def _giver(key: str) -> Person:
    return get_object_or_404(Person, key=key)


def _chosen(takers: list[Person], key: str) -> Any:
    return next((taker for taker in takers if taker.key == key), None)


def _sum(portions: list[Portion], given: dict[str, Person], taker: Person) -> tuple[int, int, int, int]:
    """Deals, open amount, accounts and leads that a person would get."""
    mine = [portion for portion in portions if given[portion.key] == taker]
    amount = sum(one.amount_minor for one in mine)
    return (
        sum(len(one.deals) for one in mine),
        amount,
        sum(len(o.accounts) for o in mine),
        sum(len(o.leads) for o in mine),
    )


def _hand_over(request: PageRequest, giver: Person, portions: list[Portion], given: dict[str, Person]) -> HttpResponse:
    done = hand_over(request.viewer, giver, portions, given, now())
    request.session[LAST_DONE] = asdict(done)
    names = ", ".join(sorted({person.name for person in given.values()}))
    messages.success(request, f"{done.owned.words} went from {giver.name} to {names}.")
    return redirect("setup:entry", slug="people", key=giver.key)


@require_POST
@all_needs(May.SET_ORGANISATION)
def undo(request: PageRequest, key: str) -> HttpResponse:
    """Take the last hand-over of this session back."""
    giver, moved = _giver(key), request.session.get(LAST_DONE)
    if not moved or moved["giver"] != giver.key:
        raise Refused("There is no transfer of this person to undo.", 409)
    rows = {name: [tuple(row) for row in moved[name]] for name in ("deals", "accounts", "leads")}
    back = take_back(request.viewer, books.current().reference, HandedOver(giver.key, **rows), now())
    del request.session[LAST_DONE]
    messages.success(request, f"{back.words} are {giver.name}’s again.")
    return redirect("setup:entry", slug="people", key=giver.key)


def may_undo(request: PageRequest, key: str) -> bool:
    """Whether the last hand-over of this session was this person's."""
    return (request.session.get(LAST_DONE) or {}).get("giver") == key
