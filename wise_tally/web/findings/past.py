"""Findings of past Mondays and their outcome."""

from dataclasses import replace
from datetime import date, timedelta

from wise_tally.core.findings.measured import DEAL_DAYS, NOTHING, RATE_DAYS, Later, Score, scores
from wise_tally.core.findings.question import Question
from wise_tally.core.findings.ranking import findings
from wise_tally.domain.org.access import Viewer
from wise_tally.web.filter_line import FilterLine, scope_of
from wise_tally.web.findings.question import question_of
from wise_tally.web.visibility import Visibility

MONDAYS = 26


def past_scores(viewer: Viewer, may_see: Visibility, today: date, mondays: int = MONDAYS) -> dict[str, Score]:
    """Of each kind how its findings of the last Mondays that lie far enough back came out, all of them together."""
    last = today - timedelta(days=RATE_DAYS + today.weekday())
    known: dict[str, Score] = {}
    for back in range(mondays):
        day = last - timedelta(weeks=back)
        line = scope_of(viewer, {"as_of": day.isoformat()})
        question = question_of(line, may_see)
        month = line.book.reference.fiscal.containing(day, "month")
        later = Later(
            *(
                _on(viewer, may_see, line, min(one, today))
                for one in (
                    day + timedelta(days=DEAL_DAYS),
                    day + timedelta(days=RATE_DAYS),
                    line.period.ends_on,
                    month.ends_on,
                )
            )
        )
        for kind, score in scores(question, later, findings(question)).items():
            known[kind] = known.get(kind, NOTHING) + score
    return known


def _on(viewer: Viewer, may_see: Visibility, line: FilterLine, day: date) -> Question:
    """The same scope and period on a later day."""
    later = scope_of(viewer, {"as_of": day.isoformat(), "period": line.period.text})
    return question_of(replace(later), may_see)
