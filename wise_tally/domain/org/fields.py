"""Column types: local days and moments as whole numbers, quick to load and exact."""

from datetime import UTC, date, datetime
from typing import Any

from django.db import models


class DayField(models.IntegerField):
    """A date kept as its proleptic ordinal."""

    _pyi_private_set_type: date  # type: ignore[assignment]
    _pyi_private_get_type: date  # type: ignore[assignment]
    _pyi_lookup_exact_type: date  # type: ignore[assignment]

    def from_db_value(self, value: int | None, *_: Any) -> date | None:
        """The date of an ordinal."""
        return None if value is None else date.fromordinal(value)

    def to_python(self, value: Any) -> date | None:
        """Dates pass, ordinals become dates."""
        return value if value is None or isinstance(value, date) else date.fromordinal(int(value))

    def get_prep_value(self, value: Any) -> int | None:
        """The ordinal of a date."""
        return value.toordinal() if isinstance(value, date) else value


class MomentField(models.BigIntegerField):
    """A moment kept as whole seconds since 1970-01-01 UTC."""

    _pyi_private_set_type: datetime  # type: ignore[assignment]
    _pyi_private_get_type: datetime  # type: ignore[assignment]
    _pyi_lookup_exact_type: datetime  # type: ignore[assignment]

    def from_db_value(self, value: int | None, *_: Any) -> datetime | None:
        """The moment in UTC."""
        return None if value is None else datetime.fromtimestamp(value, UTC)

    def to_python(self, value: Any) -> datetime | None:
        """Moments pass, seconds become moments."""
        return value if value is None or isinstance(value, datetime) else datetime.fromtimestamp(int(value), UTC)

    def get_prep_value(self, value: Any) -> int | None:
        """Whole seconds."""
        return int(value.timestamp()) if isinstance(value, datetime) else value


class KeyField(models.CharField):
    """An identifier: free text of at most 64 characters, unique in its table."""

    def __init__(self, **options: Any) -> None:
        super().__init__(**{"max_length": 64, "unique": True, **options})
