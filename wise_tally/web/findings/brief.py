"""A brief: the headline figures and the few findings of a scope on a day, for a page, a mail or a meeting."""

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from functools import cached_property
from typing import Any

from django.urls import reverse

from wise_tally.book.store import books
from wise_tally.core.attainment import AttainmentRow
from wise_tally.core.daily_trend import trend
from wise_tally.core.derived import derived
from wise_tally.core.findings.finding import Finding
from wise_tally.core.findings.put_aside import not_aside, stays_away
from wise_tally.core.findings.question import Question
from wise_tally.core.findings.ranking import brief_of, findings
from wise_tally.core.outlook.expected import AS_SET, MEAN, expected
from wise_tally.core.targets import Target
from wise_tally.domain.briefs.actions import BriefContent, keep_brief
from wise_tally.domain.briefs.models import KeptBrief
from wise_tally.domain.briefs.selectors import asides_of, last_brief, saved_briefs
from wise_tally.domain.formats import day, percent, short, signed_short
from wise_tally.domain.org.access import May, Viewer
from wise_tally.web.expectation import expected_of
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.findings.question import question_of
from wise_tally.web.findings.wording import Shown, as_text, shown
from wise_tally.web.headlines import Headline
from wise_tally.web.nodes import scope_node, whole_attainment, working_query
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import Visibility

# The small lines show the last ten weeks; where the outlook stood is worked out for six of them, in a book of so many deals at most.
FRIDAY = 4
# How many saved briefs are read to find since when a finding has held.
MOST_BACK = 26
WEEKS, WEEKS_OF_OUTLOOK, MOST_DEALS = 10, 6, 20_000


@dataclass(frozen=True)
class Brief:
    """The findings of a filter line for a viewer, those put aside apart; `before` is the brief kept last, None where there is none."""

    line: FilterLine
    viewer: Viewer
    question: Question
    before: KeptBrief | None
    findings: tuple[Finding, ...]
    aside: tuple[Finding, ...]

    @cached_property
    def chosen(self) -> list[Shown]:
        """What the brief shows."""
        return shown(self.line, self.question, brief_of(self.findings), self.viewer)

    @cached_property
    def whole(self) -> AttainmentRow:
        """Attainment of the scope."""
        return whole_attainment(self.line)

    @cached_property
    def headlines(self) -> list[Headline]:
        """Won against pace, the likely outcome, what changed since the last brief."""
        return [
            _won(self.line, self.whole),
            _likely(self.line, self.question, self.whole.forecast.target),
            _changed(self),
        ]

    def saved_figures(self) -> list[tuple[str, str, str]]:
        """The headline figures as they are kept."""
        return [(headline.name, headline.text, headline.than) for headline in self.headlines]


def brief_for(line: FilterLine, viewer: Viewer, may_see: Visibility, since: date | None = None) -> Brief:
    """The brief of a filter line: compared with the day given, else with the brief kept last, else with a week before."""
    before = None if since else last_brief(viewer, line.who_value, line.as_of)
    question, everything = findings_for(line, may_see.viewer, before.as_of if before else since)
    asides = asides_of(viewer, line.ends_at)
    away = tuple(one for one in everything if stays_away(one, asides.get(one.key), line.as_of))
    return Brief(line, viewer, question, before, not_aside(everything, asides, line.as_of), away)


@derived(most=4)
def findings_for(line: FilterLine, viewer: Viewer, since: date | None) -> tuple[Question, tuple[Finding, ...]]:
    """What is asked for a viewer, and everything that is found."""
    question = question_of(line, Visibility(viewer, books.stored()), since)
    return question, tuple(findings(question))


def keep_todays(line: FilterLine, viewer: Viewer, may_see: Visibility, why: str, now: datetime) -> KeptBrief:
    """Freeze the brief of a filter line as of today, as a meeting is kept or a mail sent; one kept today for the same reason stays."""
    saved = saved_briefs(viewer, line.who_value).filter(as_of=line.as_of, why=why).first()
    if saved is not None:
        return saved
    brief = brief_for(line, viewer, may_see)
    content = as_text(line, brief.chosen, brief.saved_figures())
    return keep_brief(viewer, BriefContent(line.who_value, line.period.text, line.as_of, content), why, now)


def since_when(brief: Brief) -> dict[str, date]:
    """For each finding of a brief the day since which every saved brief of the scope has had it, without a gap."""
    since: dict[str, date] = {}
    still = {finding.key for finding in brief.findings}
    for saved in saved_briefs(brief.viewer, brief.line.who_value).filter(as_of__lt=brief.line.as_of)[:MOST_BACK]:
        still &= {point["finding"] for point in json.loads(saved.content)["findings"]}
        since |= dict.fromkeys(still, saved.as_of)
    return since


def acting(request: PageRequest, line: FilterLine) -> dict[str, Any]:
    """What rows of findings need to be acted on: by whom, with whom, from which page, on which day."""
    return {
        "may_act": not line.is_past and request.viewer.may(May.CHANGE_OWN_DEALS),
        "may_keep": not line.is_past and request.viewer.may(May.SET_RULES),
        "this_page": request.get_full_path(),
        "next_day": next_working_day(line.today),
        "people": [(one.value[7:], one.label) for one in line.choices_who if one.value.startswith("person:")],
    }


def next_working_day(day: date) -> date:
    """The first day after another that is no Saturday or Sunday."""
    return day + timedelta(days=3 if day.weekday() == FRIDAY else 2 if day.weekday() == FRIDAY + 1 else 1)


def _working(line: FilterLine, figure: str) -> str:
    return f"{reverse('forecast:working', args=[figure])}?{working_query(line, scope_node(line)[2])}"


def _won(line: FilterLine, whole: AttainmentRow) -> Headline:
    past = trend(line.book, line.period, line.as_of - timedelta(weeks=WEEKS), line.as_of, line.scope)
    behind = whole.behind
    against = (
        "no quota set"
        if behind is None
        else f"{short(abs(behind))} {'behind' if behind > 0 else 'ahead of'} target to date"
    )
    up = None if behind is None else behind <= 0
    return Headline("Won", short(whole.forecast.won), _working(line, "won"), against, up, past.won[::7].tolist())


def _likely(line: FilterLine, question: Question, quota: Target) -> Headline:
    outlook = expected_of(line, question.way, quota.value)
    low, high = (short(outlook.outcome.quantile(share)) for share in (0.1, 0.9))
    chance = outlook.outcome.chance_of(quota.value)
    than = f"{low} to {high}" + ("" if chance is None else f", {percent(chance, 0)} chance of quota")
    up = None if chance is None else chance >= 0.5
    address = _working(line, MEAN[question.way])
    return Headline(
        "Likely outcome", short(outlook.mean_minor), address, than, up, _course(line, question, outlook.mean_minor)
    )


def _course(line: FilterLine, question: Question, now: int) -> Sequence[float]:
    """Where the likely outcome stood on the last weeks' days like this one within the period, the oldest first."""
    if question.way == AS_SET or len(line.book.deals.key) > MOST_DEALS:
        return ()
    days = [line.as_of - timedelta(weeks=back) for back in range(WEEKS_OF_OUTLOOK - 1, 0, -1)]
    selection = (line.period, line.scope, question.by, question.way, None, 0)
    past = [
        expected(line.book, line.book.as_of(day), *selection).mean_minor for day in days if day >= line.period.starts_on
    ]
    return [*past, now] if past else ()


def _changed(brief: Brief) -> Headline:
    line, since = brief.line, brief.question.earlier.as_of
    first = min(since, line.as_of - timedelta(weeks=WEEKS))
    past = trend(line.book, line.period, first, line.as_of, line.scope)
    days = (line.as_of - since).days
    moved = past.weighted_moved(days) if days else 0
    words = f"since {'the last brief, ' if brief.before else ''}{day(since)}"
    address = f"{reverse('forecast:changed')}?{line.query(period=line.period.text)}&from={since}"
    up, course = (moved >= 0 if moved else None), past.weighted[-WEEKS * 7 - 1 :: 7].tolist()
    return Headline("Weighted forecast changed", signed_short(moved), address, words, up, course)
