"""People typed or pasted many at once: read and checked as a whole, shown, then added all or none."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime

from django.core.exceptions import ValidationError
from django.core.validators import validate_email
from django.db import transaction

from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.first_run import Added
from wise_tally.domain.org.models import Person, Role, Team
from wise_tally.domain.org.people_actions import save_person
from wise_tally.domain.refusals import WriteRefused

COLUMNS = ("name", "e-mail", "team", "role")
HEADINGS = {
    "name": "name", "person": "name", "e-mail": "e-mail", "email": "e-mail", "mail": "e-mail", "team": "team", "role": "role"
}  # fmt: skip


@dataclass
class PastedPerson:
    """A line: who it names, whether they are there already, and what is wrong with it."""

    line: int
    name: str
    email: str
    team: str
    role: str
    is_there: bool = False
    faults: list[str] = field(default_factory=list)


def read_people(rows: Sequence[tuple[int, Sequence[str]]]) -> list[PastedPerson]:
    """The people of lines with name, mail address, team and role, in this order or under headings of these names."""
    order: Sequence[str] = COLUMNS
    teams = {team.name.casefold() for team in Team.objects.offered()}
    known = {person.name.casefold() for person in Person.objects.all()}
    mails = {mail.casefold() for mail in Person.objects.exclude(email="").values_list("email", flat=True)}
    people: list[PastedPerson] = []
    for number, typed in rows:
        cells = [cell.strip() for cell in typed]
        if not people and all(cell.casefold() in HEADINGS for cell in cells):
            order = [HEADINGS[cell.casefold()] for cell in cells]
            continue
        by_column = dict.fromkeys(COLUMNS, "") | dict(zip(order, cells, strict=False))
        name, role = by_column["name"], by_column["role"].casefold() or Role.REP
        person = PastedPerson(number, name, by_column["e-mail"], by_column["team"], role, name.casefold() in known)
        _check(person, teams, mails | {other.email.casefold() for other in people if other.email})
        if any(other.name.casefold() == person.name.casefold() for other in people):
            person.faults.append("This name appears twice.")
        if any(cells[len(order) :]):
            person.faults.append(f"There are more than {plural(len(order), 'column')}.")
        people.append(person)
    return people


def _check(person: PastedPerson, teams: set[str], mails: set[str]) -> None:
    """Note what is wrong with one person alone."""
    faults = person.faults
    if not any(letter.isalpha() for letter in person.name) or "@" in person.name:
        faults.append(f"“{person.name[:60]}” is not a name.")
    if person.email and not is_mail(person.email):
        faults.append(f"“{person.email[:60]}” is not an e-mail address.")
    elif not person.is_there and person.email.casefold() in mails - {""}:
        faults.append(f"Somebody else has the e-mail address {person.email[:60]}.")
    if person.team and person.team.casefold() not in teams:
        faults.append(f"The team “{person.team[:60]}” does not exist.")
    if person.role not in Role.values:
        faults.append(f"“{person.role[:40]}” is not a role. Choose one of: {', '.join(Role.values)}.")
    if len(person.name) > 200 or len(person.email) > 200:
        faults.append("Use at most 200 characters.")


def is_mail(text: str) -> bool:
    """Whether a text is a mail address as forms take one."""
    try:
        validate_email(text)
    except ValidationError:
        return False
    return True


@transaction.atomic
def add_people(viewer: Viewer, people: Sequence[PastedPerson], now: datetime) -> Added:
    """Add those who are not there yet; raises WriteRefused with the first fault, and then adds nobody."""
    viewer.require(May.SET_ORGANISATION)
    if wrong := next((person for person in people if person.faults), None):
        raise WriteRefused(f"Line {wrong.line}: {wrong.faults[0]}")
    new = [person for person in people if not person.is_there]
    for one in new:
        values = {"name": one.name, "email": one.email, "role": one.role, "active_from": None, "active_to": None}
        person = save_person(viewer, None, values, now)
        if team := Team.objects.offered().filter(name__iexact=one.team).first():
            Person.objects.filter(pk=person.pk).update(team=team)
            audit(viewer, "person put into a team", f"{person.name} ({person.key})", now, after=team.name)
            if one.role == Role.MANAGER and team.manager_id is None:
                Team.objects.filter(pk=team.pk).update(manager=person)
                audit(viewer, "team changed", f"{team.name} ({team.key})", now, after=f"managed by {person.name}")
    return Added(len(new), len(people) - len(new))
