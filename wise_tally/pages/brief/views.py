"""The brief of the filter line, all findings, and how one was worked out."""

from dataclasses import dataclass, replace
from operator import itemgetter
from typing import Any

import numpy as np
from django.http import HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_safe

from wise_tally.core.findings.finding import FAMILIES, KINDS, Finding
from wise_tally.core.findings.ranking import together
from wise_tally.domain.formats import day, money
from wise_tally.web.answers import plain
from wise_tally.web.files.tables import Sheet, exports, sheet_response
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.findings.brief import Brief, acting, brief_for, since_when
from wise_tally.web.findings.wording import names_in, shown, terms_of
from wise_tally.web.footer import Footer
from wise_tally.web.forms.choices import Pair, key_of
from wise_tally.web.page_query import PageQuery, choice, text
from wise_tally.web.paging import neighbours, page_of
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible
from wise_tally.web.working.panel import Panel, PanelTerm, by_amount, panel_response

ON_A_PAGE = 25


def read_brief(request: PageRequest) -> Brief:
    """The brief of a request."""
    return brief_for(read_scope(request), request.viewer, visible(request))


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """What matters this week, the most money that can still be changed first."""
    brief = read_brief(request)
    answer = {
        **acting(request, brief.line),
        "brief": brief,
        "title": f"Brief, {brief.line.as_of:%A} {day(brief.line.as_of)}",
        "rows": brief.chosen,
        "more": len(brief.findings) - len(brief.chosen),
        "headlines": brief.headlines,
        "has_deals": len(brief.line.book.deals.key) > 0,
        "footer": Footer(len(brief.chosen), what="finding", exports=exports("brief:table", brief.line.query())),
    }
    return render(request, "brief/page.html", answer)


@dataclass(frozen=True)
class FindingsQuery(PageQuery):
    """All findings, or those of a family or kind, or of somebody; with those put aside."""

    family: str = choice(("", *FAMILIES))
    kind: str = choice(("", *KINDS))
    whose: str = text()
    aside: str = choice(("", "yes"))
    page: str = text()


@require_safe
def everything(request: PageRequest) -> HttpResponse:
    """All findings with filters."""
    brief = read_brief(request)
    query = _read_query(request, brief)
    chosen = _filtered(brief.aside if query.aside else brief.findings, query, brief.line)
    chosen = chosen if query.kind else list(together(chosen))
    sheet = page_of(request, len(chosen), ON_A_PAGE)
    files = exports("brief:table", f"{brief.line.query()}&all=yes")
    answer = {
        **acting(request, brief.line),
        **_filters(brief, query),
        "rows": shown(brief.line, brief.question, chosen[sheet.first : sheet.last], request.viewer),
        "first": sheet.first,
        "page": sheet,
        "footer": Footer(len(chosen), what="finding", exports=files),
        **neighbours(sheet, lambda number: query.query(page=str(number))),
    }
    return render(request, "brief/findings.html", answer)


def _filters(brief: Brief, query: FindingsQuery) -> dict[str, Any]:
    """What the findings are filtered by, and what else can be chosen."""
    kinds = {(one.kind.key, one.kind.name) for one in (*brief.findings, *brief.aside)}
    return {
        "page_query": query,
        "carried": query.carried("kind", "whose", "page"),
        "families": query.links("family", {"": "All", **FAMILIES}),
        "kinds": sorted(kinds, key=itemgetter(1)),
        "owners": _owners(brief),
        "aside": len(brief.aside),
        "aside_query": query.query(aside="yes" if not query.aside else None, page=None),
    }


def _read_query(request: PageRequest, brief: Brief) -> FindingsQuery:
    query = FindingsQuery.read(brief.line, request.GET)
    return replace(query, whose=key_of(_owners(brief), query.whose))


def _owners(brief: Brief) -> list[Pair]:
    """Whose findings there are, by name."""
    people = brief.line.book.reference.people
    owners = {
        (people[finding.whose].key, people[finding.whose].name) for finding in brief.findings if finding.whose >= 0
    }
    return sorted(owners, key=itemgetter(1))


def _filtered(findings: tuple[Finding, ...], query: FindingsQuery, line: FilterLine) -> list[Finding]:
    people = line.book.reference.people
    return [
        finding
        for finding in findings
        if query.family in ("", finding.kind.family)
        and query.kind in ("", finding.kind.key)
        and (not query.whose or (finding.whose >= 0 and people[finding.whose].key == query.whose))
    ]


def finding_named(request: PageRequest, key: str) -> tuple[Brief, Finding]:
    """The finding of an identifier as it stands now, put aside or not; raises Refused where it no longer holds."""
    brief = read_brief(request)
    finding = next((one for one in (*brief.findings, *brief.aside) if one.key == key), None)
    if finding is None:
        raise Refused("This finding no longer holds. Open the brief again.", 404)
    return brief, finding


@require_safe
def working(request: PageRequest) -> HttpResponse:
    """How the money at stake was worked out, what the kind means, and the deals of a finding."""
    brief, finding = finding_named(request, request.GET.get("finding", ""))
    back = f"{reverse('brief:page')}?{brief.line.query()}"
    return panel_response(request, brief.line, panel_of(brief, finding), back)


def panel_of(brief: Brief, finding: Finding) -> Panel:
    """The working of a finding."""
    line, since = brief.line, finding.since or since_when(brief).get(finding.key)
    rows = np.searchsorted(line.snapshot.deal, np.array(finding.deals, dtype=np.int64))
    names = names_in(line, [finding])
    holds_since = "" if since is None else f" It holds since {day(since)}."
    return Panel(
        title=finding.kind.name,
        definition=f"{plain(finding.sentence, names)} {finding.kind.definition}{holds_since}",
        terms=tuple(PanelTerm(words, value) for words, value in terms_of(finding, names)),
        total=money(finding.money_minor),
        total_words="at stake",
        note=f"Ranked by what is at stake × the share that can still be changed ({finding.changeable:.0%}).",
        **(by_amount(line, rows) if len(rows) else {}),
    )


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """The brief, or all findings, as a file."""
    brief = read_brief(request)
    rows = shown(brief.line, brief.question, brief.findings) if request.GET.get("all") else brief.chosen
    since = since_when(brief)
    header = ("kind", "family", "finding", "whose", "at stake", "deals", "since", "action")
    cells = [
        (
            row.finding.kind.name,
            row.family,
            row.text,
            row.whose,
            row.finding.money_minor,
            len(row.finding.deals),
            row.finding.since or since.get(row.key),
            row.action,
        )
        for row in rows
    ]
    return sheet_response(Sheet("brief", header, frozenset({"at stake"}), cells), kind)
