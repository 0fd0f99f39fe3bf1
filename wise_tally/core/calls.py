"""Calls: what reps and managers say a period will bring, and their roll-up."""

from collections.abc import Mapping
from datetime import date, timedelta

from wise_tally.core.calendar import Period, midnight_ending
from wise_tally.core.reference_data import Call, ReferenceData
from wise_tally.core.trees import NONE


def calls_in_force(reference: ReferenceData, as_of: date, period: Period) -> dict[tuple[str, int], Call]:
    """For each subject the call that holds: the latest made by the end of `as_of` for exactly that period.

    A manager's call on a person (made by anybody else) goes before the person's own even if older; on other
    subjects the latest by anyone holds.
    """
    cut = midnight_ending(as_of, reference.time_zone)
    span = (period.starts_on.toordinal(), period.ends_on.toordinal())
    in_force: dict[tuple[str, int], Call] = {}
    for call in reference.calls:
        if (call.starts_on, call.ends_on) != span or call.made_at >= cut:
            continue
        subject = (call.subject, call.subject_index)
        if subject not in in_force or _strength(call) >= _strength(in_force[subject]):
            in_force[subject] = call
    return in_force


def _strength(call: Call) -> tuple[bool, int]:
    by_another = call.subject == "person" and call.made_by != call.subject_index
    return by_another, call.made_at


def last_due(today: date, weekday: int | None, period: Period) -> date | None:
    """The last day up to `today` by which calls were due (weekday, Monday 0); None where none is set or the period is over."""
    if weekday is None or period.ends_on < today:
        return None
    return today - timedelta(days=(today.weekday() - weekday) % 7)


def as_difference(call_minor: int | None, difference_minor: int) -> int:
    """The amount that a difference to what is called so far makes, in minor units."""
    return (call_minor or 0) + difference_minor


def submitted_amounts(
    reference: ReferenceData, as_of: date, period: Period, weighted_of_person: Mapping[int, int]
) -> dict[tuple[str, int], int | None]:
    """Submitted amounts, in minor units, of the company, every team, person and territory.

    A node without a call sums its children's; a person without one stands at the weighted figure
    (`weighted_of_person`). A territory with no call in or below it has none.
    """
    amounts = {subject: call.amount_minor for subject, call in calls_in_force(reference, as_of, period).items()}
    result: dict[tuple[str, int], int | None] = {}
    members: dict[int, int] = {}
    for index in range(len(reference.people)):
        amount = amounts.get(("person", index), weighted_of_person.get(index, 0))
        result["person", index] = amount
        team = reference.team_of(index, as_of.toordinal())
        members[team] = members.get(team, 0) + amount
    tree = reference.team_tree(as_of)
    for node in sorted(range(len(reference.teams)), key=lambda i: -len(tree.paths[i])):
        below = sum(result["team", child] or 0 for child in tree.children(node))
        result["team", node] = amounts.get(("team", node), below + members.get(node, 0))
    at_the_top = sum(result["team", root] or 0 for root in tree.children(NONE))
    result["company", NONE] = amounts.get(("company", NONE), at_the_top + members.get(NONE, 0))
    territory_tree = reference.territory_tree(as_of)
    for node in sorted(range(len(reference.territories)), key=lambda i: -len(territory_tree.paths[i])):
        parts = [result["territory", child] for child in territory_tree.children(node)]
        known = [part for part in parts if part is not None]
        result["territory", node] = amounts.get(("territory", node), sum(known) if known else None)
    return result
