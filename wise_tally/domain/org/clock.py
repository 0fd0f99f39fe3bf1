"""The one clock. `WISE_TALLY_TODAY` (YYYY-MM-DD) sets the day for demo and tests."""

import os
from datetime import UTC, date, datetime, time
from zoneinfo import ZoneInfo

from wise_tally.core.calendar import midnight_ending
from wise_tally.domain.org.models import Workspace


def now() -> datetime:
    """The present moment in UTC; on a set day noon of it."""
    if given := os.environ.get("WISE_TALLY_TODAY"):
        return datetime.combine(date.fromisoformat(given), time(12), UTC)
    return datetime.now(UTC)


def local_day(moment: datetime, time_zone: str = "") -> date:
    """The date of a moment in the workspace's time zone, which a caller with many moments gives."""
    return moment.astimezone(ZoneInfo(time_zone or Workspace.current().time_zone)).date()


def zone() -> ZoneInfo:
    """The workspace's time zone."""
    return ZoneInfo(Workspace.current().time_zone)


def end_of_today() -> datetime:
    """The local midnight that ends the present day: what every age runs to."""
    zone = Workspace.current().time_zone
    return datetime.fromtimestamp(midnight_ending(local_day(now(), zone), zone), UTC)


def today() -> date:
    """The present local date of the workspace."""
    return local_day(now())
