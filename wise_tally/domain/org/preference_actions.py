"""How people like pages drawn: kept per person, no part of the audit."""

from django.db import transaction

from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.models import Person, Preference


def preference(viewer: Viewer, name: str) -> str:
    """What somebody chose; empty where nothing is kept."""
    value = Preference.objects.filter(person__key=viewer.key, name=name).values_list("value", flat=True).first()
    return value or ""


@transaction.atomic
def set_preference(viewer: Viewer, name: str, value: str) -> None:
    """Keep what somebody chose; an empty value goes back to the usual."""
    person = Person.objects.filter(key=viewer.key).first()
    if person is None:
        return
    if not value:
        Preference.objects.filter(person=person, name=name).delete()
        return
    Preference.objects.update_or_create(person=person, name=name, defaults={"value": value})
