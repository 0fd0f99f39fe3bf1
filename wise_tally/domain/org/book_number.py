"""The number of the book: every write transaction raises it, so that each reader sees what is newer."""

from django.db.models import F

from wise_tally.domain.org.models import BookNumber


def _raise(**columns: object) -> None:
    if not BookNumber.objects.filter(pk=1).update(number=F("number") + 1, **columns):
        BookNumber.objects.create(pk=1)
        BookNumber.objects.filter(pk=1).update(number=F("number") + 1, **columns)


def revisions_added() -> None:
    """New deals or revisions stand at the end; nothing old changed."""
    _raise()


def reference_changed() -> None:
    """Small tables changed: stages, people, trees, quotas, calls, credits."""
    _raise(ground=F("ground") + 1)


def attributes_changed() -> None:
    """What belongs to deals beside their revisions changed: lines, payments, own fields, what they refer to."""
    _raise(beside=F("beside") + 1)


def old_rows_changed() -> None:
    """Deals or revisions that were already there changed: everything is read anew."""
    _raise(ground=F("ground") + 1, epoch=F("epoch") + 1)


def present_number() -> BookNumber:
    """The number as it stands."""
    return BookNumber.objects.filter(pk=1).first() or BookNumber(pk=1)


def another_database(before: BookNumber) -> None:
    """The database was replaced: the number rises above any that a reader's book may have."""
    now = present_number()
    for name in ("number", "ground", "epoch", "beside"):
        setattr(now, name, max(getattr(before, name), getattr(now, name)) + 1)
    now.save()
