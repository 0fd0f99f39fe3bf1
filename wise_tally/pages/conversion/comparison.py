"""Two scopes side by side: the one of the filter line, and another that the reader chooses to hold it against."""

from dataclasses import dataclass, replace

from wise_tally.core.lines import Filter
from wise_tally.core.same_days import BEFORE, YEAR, same_days
from wise_tally.core.trees import NONE
from wise_tally.domain.org.access import Viewer, visible_teams
from wise_tally.pages.conversion.query import ConversionQuery
from wise_tally.web.filter_line import FilterLine, period_words
from wise_tally.web.request.refusals import Refused

LABELS = {BEFORE: "previous period", YEAR: "same period last year"}


@dataclass(frozen=True)
class Against:
    """The other scope: as a choice and in words, its line, and the parts of the address that differ."""

    label: str
    words: str
    line: FilterLine
    changes: dict[str, str | None]


def choices_of(line: FilterLine, viewer: Viewer) -> dict[str, Against]:
    """What the scope can be compared with: the same days of the period before or of the year before, the team of the person, everyone."""
    fiscal, reference = line.book.reference.fiscal, line.book.reference
    choices = {}
    for name in (BEFORE, YEAR):
        now, then = same_days(fiscal, line.period, line.as_of, name)
        if then is None:
            continue
        # The label of a running period, too, shows up to which day it counts.
        words = period_words(then) if now == line.period else f"{period_words(then)} for {period_words(now)}"
        choices[name] = Against(LABELS[name], words, replace(line, period=then), {"period": then.text})
    scope, day = line.scope, line.as_of
    visible = visible_teams(viewer, reference, day)
    team = reference.team_of(scope.person, day.toordinal()) if scope.person != NONE else NONE
    if team != NONE and (visible is None or team in visible):
        other = replace(line, scope=replace(scope, person=NONE, team=team))
        choices["team"] = Against(
            reference.teams[team].name, reference.teams[team].name, other, {"who": f"team:{reference.teams[team].key}"}
        )
    if scope.of_people and visible is None:
        everyone = replace(line, scope=Filter(scope.process, NONE, NONE, scope.territory))
        choices["everyone"] = Against("everyone", "everyone", everyone, {"who": None})
    return choices


def distinct(choices: dict[str, Against], chosen: str) -> dict[str, str]:
    """Name and label of each choice to offer; of a fiscal year the period before is the year before, and stands once."""
    first = {one.words: name for name, one in reversed(choices.items())}
    if chosen:
        first[choices[chosen].words] = chosen
    return {name: one.label for name, one in choices.items() if first[one.words] == name}


def read_against(query: ConversionQuery, viewer: Viewer) -> tuple[dict[str, Against], str]:
    """All choices, and the name of the one that the address asks for (empty for none); raises Refused."""
    choices, name = choices_of(query.line, viewer), query.against
    if name in (BEFORE, YEAR) and name not in choices:
        # Stepping on to a period that has not begun is no mistake.
        return choices, ""
    if name and name not in choices:
        raise Refused(f"“{name[:40]}” cannot be compared with this selection. Choose one of: {', '.join(choices)}.")
    return choices, name
