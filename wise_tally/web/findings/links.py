"""Where a finding's figures and its action lead."""

from datetime import timedelta
from functools import cache
from urllib.parse import urlencode

from django.urls import reverse

from wise_tally.core.findings.finding import Finding
from wise_tally.core.findings.question import YEAR_DAYS, Question
from wise_tally.core.outlook.expected import CHANCE, MEAN
from wise_tally.core.reference_data import ReferenceData
from wise_tally.web.answers import PageAddress
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.nodes import scope_node

# Addresses that name no thing are the same for every finding of a page.
_at = cache(reverse)
FORECAST = (*MEAN.values(), *CHANCE.values(), "won", "quota", "gap", "weighted")


def opens(line: FilterLine, question: Question, finding: Finding, page: str = "brief:working") -> dict[str, str]:
    """The address of each figure of a finding, by its key: workings of the pages that show it, pages, and its own working."""
    subject, query = finding.subject, line.query()
    period = urlencode({**dict(line.given), "period": line.period.text})
    addresses = {"own": f"{_at(page)}?{period}&{urlencode({'finding': finding.key})}"}
    for figure in FORECAST:
        address = reverse("forecast:working", args=[figure])
        addresses[figure] = f"{address}?{period}&{urlencode({'node': scope_node(line)[2]})}"
        if subject.index >= 0 and subject.about in ("person", "team", "scope"):
            token = _token(line.book.reference, finding)
            addresses[f"{figure}@row"] = f"{address}?{period}&{urlencode({'node': token})}"
    since = urlencode({"from": question.earlier.as_of.isoformat()})
    pages = {
        "changed": f"{_at('forecast:changed')}?{period}&{since}",
        "calls": f"{_at('forecast:calls')}?{period}",
        "forecast": f"{_at('forecast:page')}?{period}",
        "accuracy": f"{_at('forecast:accuracy')}?{query}",
        "activities": f"{_at('attainment:page')}?measure=activities&{query}",
        "decides": f"{_at('forecast:outlook')}?{period}",
        "row": _row_page(line, finding, period),
        **_of_process(line, question, finding, query),
    }
    if finding.deals:
        key = line.book.deals.key[finding.deals[0]]
        pages |= {name: f"{reverse('deals:deal', args=[key])}?{line.day_query}" for name in ("deal", "deal_page")}
        addresses["chance"] = f"{reverse('deals:chance-working', args=[key])}?{period}"
    if subject.about == "customer":
        pages["customer"] = f"{reverse('customers:account', args=[subject.key])}?{line.day_query}"
    if finding.kind.key == "activity_below":
        addresses |= _activities(line, finding)
    return addresses | {name: PageAddress(address.removesuffix("?")) for name, address in pages.items()}


def _token(reference: ReferenceData, finding: Finding) -> str:
    if finding.subject.about == "team":
        return f"team:{finding.subject.key}"
    return f"person:{reference.people[finding.subject.index].key}"


def _row_page(line: FilterLine, finding: Finding, period: str) -> str:
    subject = finding.subject
    if subject.about == "team":
        return f"{_at('forecast:page')}?{line.query(who=f'team:{subject.key}')}"
    if subject.about in ("person", "scope") and subject.key:
        return f"{reverse('team:one-to-one', args=[subject.key])}?{line.query(who=None)}"
    return f"{_at('forecast:page')}?{period}"


def _activities(line: FilterLine, finding: Finding) -> dict[str, str]:
    month = line.book.reference.fiscal.containing(line.as_of, "month")
    addresses = {}
    for part in finding.sentence.parts.values():
        figure, _, kind = part.figure.partition("@")
        if figure in ("done", "to_date"):
            named = {"node": f"person:{finding.subject.key}", "by": "person", "measure": "activities", "kind": kind}
            address = reverse("attainment:working", args=["won" if figure == "done" else "to_date"])
            addresses[part.figure] = f"{address}?{line.query(period=month.text)}&{urlencode(named)}"
    return addresses


def _of_process(line: FilterLine, question: Question, finding: Finding, query: str) -> dict[str, str]:
    """Pages of conversion for the spans that findings about the process speak of."""
    year = f"{line.as_of - timedelta(days=YEAR_DAYS)}/{line.as_of}"
    lately, before = (period.text for period in question.lately)
    pages = {
        "leads": f"{_at('conversion:leads')}?{line.query(period=question.last_days(28).text)}",
        "leads@before": f"{_at('conversion:leads')}?{line.query(period=question.last_days(YEAR_DAYS, 28).text)}",
        "waiting": f"{_at('customers:leads')}?status=new",
        "target": _at("setup:quotas"),
        "win_rate": f"{_at('team:tally')}?show=win_rate&{line.query(period=lately)}",
        "win_rate@before": f"{_at('team:tally')}?show=win_rate&{line.query(period=before)}",
        "over_time": f"{_at('conversion:over-time')}?{query}",
    }
    for what in ("reason", "competitor"):
        for name, period in ((f"lost@{what}", lately), (f"lost_before@{what}", before)):
            pages[name] = f"{_at('conversion:lost')}?by={what}&{line.query(period=period)}"
    if finding.subject.about == "stage":
        process = line.book.reference.processes[line.book.reference.stages[finding.subject.index].process][0]
        check = f"{_at('conversion:probability-check')}?{line.query(period=year, process=process)}"
        pages |= dict.fromkeys(("stage", "seen", "set"), check)
    return pages


# The words of each action, and the figure whose address it opens ("deals": the list of the finding's deals).
ACTIONS: dict[str, tuple[str, str]] = {
    "call": ("Open deal", "deal"),
    "ask": ("Open deal", "deal"),
    "move": ("Open deal", "deal"),
    "meet": ("Open one-to-one", "row"),
    "deals": ("Show deals", "deals"),
    "changed": ("Show what changed", "changed"),
    "calls": ("Submitted forecasts", "calls"),
    "adopt": ("Compare and adopt", "stage"),
    "trend": ("Show monthly trend", "over_time"),
    "losses": ("Show losses", "losses"),
    "leads": ("Show leads", "leads"),
    "waiting": ("Show leads", "waiting"),
    "customer": ("Open customer", "customer"),
    "quotas": ("Open quotas", "target"),
}
# What is done on the spot, in words.
IN_PLACE = {"call": "Plan a call", "ask": "Ask for a next step", "move": "Move the date"}
# The same where the page is the person's own already.
OF_OWN_PERSON = {
    "calls_off": ("Show accuracy", "accuracy"),
    "activity_below": ("Show activities", "activities"),
    "will_miss": ("Show forecast", "forecast"),
}


def action_of(line: FilterLine, finding: Finding, addresses: dict[str, str]) -> tuple[str, str]:
    """The words and the address of a finding's action."""
    words, figure = ACTIONS[finding.kind.action]
    if finding.kind.key == "will_miss" and finding.subject.about == "team":
        words = "Show forecast"
    if figure == "row" and line.scope.person == finding.subject.index:
        words, figure = OF_OWN_PERSON.get(finding.kind.key, ("Show deals", "deals"))
    if figure == "losses":
        figure = next(part.figure for part in finding.sentence.parts.values() if part.figure.startswith("lost@"))
    if figure == "deals":
        return words, f"{_at('deals:page')}?{urlencode({'counted': addresses['own']})}"
    return words, addresses[figure]
