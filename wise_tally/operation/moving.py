"""A workspace moved from one database engine to the other: every row, under its own number, in one transaction on each side."""

from pathlib import Path
from typing import Any

from django.apps import apps
from django.conf import settings
from django.contrib.auth.models import User
from django.core.management.color import no_style
from django.db import connections, models, transaction

from wise_tally.domain.database.settings import database
from wise_tally.domain.org.models import BookNumber
from wise_tally.operation.own_process import migrate_other

SOURCE, TARGET = "default", "moved_to"
BATCH = 2_000
# What Django makes by itself in every database, or keeps of sign-ins that failed.
LEFT = ("contenttypes", "sessions", "axes", "auth.Permission", "auth.Group_permissions", "auth.User_user_permissions")


class MoveRefused(Exception):
    """The other database cannot take the workspace."""


def move_to(target: str) -> dict[str, int]:
    """Copy the workspace to `target`, a file or an address of PostgreSQL; how many rows of each table there are now.

    Nobody writes to the present database meanwhile; it stays as it is. Raises MoveRefused where the other is not empty, and
    what the databases raise: then nothing was written to the other one.
    """
    file, url = Path(target).absolute(), target if "://" in target else ""
    if (url or str(file)) in (settings.DATABASE_URL, "" if settings.DATABASE_URL else str(settings.DATABASE_FILE)):
        raise MoveRefused("This is the present database. Name another one.")
    if not url and not file.parent.is_dir():
        raise MoveRefused(f"There is no folder {file.parent}. Make it, or name another file.")
    other = database(file, 60.0, url)
    names = {"WISE_TALLY_DATABASE_URL": url} | ({} if url else {"WISE_TALLY_DATABASE": str(file)})
    if wrong := migrate_other(**names):
        raise MoveRefused(f"The other database could not be made ready: {wrong}")
    connections.databases[TARGET] = connections.configure_settings({SOURCE: {}, TARGET: other})[TARGET]
    try:
        holding: list[type[models.Model]] = [User, *apps.get_app_config("deals").get_models()]
        if any(model._base_manager.using(TARGET).exists() for model in holding):
            raise MoveRefused("The other database holds a workspace already. Name an empty one.")
        with transaction.atomic(SOURCE), transaction.atomic(TARGET):
            return _copied()
    finally:
        connections[TARGET].close()


def _copied() -> dict[str, int]:
    taken = [model for model in apps.get_models(include_auto_created=True) if not _is_left(model)]
    for model in reversed(taken):
        model._base_manager.using(TARGET).all().delete()
    counts = {model._meta.db_table: _copy(model) for model in taken}
    for statement in connections[TARGET].ops.sequence_reset_sql(no_style(), taken):
        with connections[TARGET].cursor() as cursor:
            cursor.execute(statement)
    # Whoever knows the present one by its number takes the other for newer.
    raised: dict[str, Any] = {name: models.F(name) + 1 for name in ("number", "ground", "epoch", "beside")}
    BookNumber.objects.using(TARGET).update(**raised)
    return counts


def _is_left(model: type[models.Model]) -> bool:
    return model._meta.label in LEFT or model._meta.app_label in LEFT


def _copy(model: type[models.Model]) -> int:
    rows = model._base_manager.using(SOURCE).order_by("pk").iterator(BATCH)
    batch: list[models.Model] = []
    count = 0
    for row in rows:
        batch.append(row)
        if len(batch) == BATCH:
            count += _put(model, batch)
            batch = []
    return count + _put(model, batch)


def _put(model: type[models.Model], batch: list[models.Model]) -> int:
    model._base_manager.using(TARGET).bulk_create(batch)
    return len(batch)
