"""When a finding that was put aside comes back."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import date

from wise_tally.core.findings.finding import Finding

# A quarter more money at stake than when it was put aside is a material change. Own choice.
MATERIAL = 1.25


@dataclass(frozen=True)
class Aside:
    """The money at stake when a finding was put aside, in minor units, and the day until which it was (None: until it changes)."""

    amount_minor: int
    until: date | None


def stays_away(finding: Finding, aside: Aside | None, today: date) -> bool:
    """Whether a finding stays away: put aside, its day not come, and no material change at stake."""
    if aside is None or (aside.until is not None and aside.until <= today):
        return False
    return finding.money_minor < MATERIAL * max(aside.amount_minor, 1)


def not_aside(findings: Iterable[Finding], asides: Mapping[str, Aside], today: date) -> tuple[Finding, ...]:
    """The findings that were not put aside, or have come back."""
    return tuple(finding for finding in findings if not stays_away(finding, asides.get(finding.key), today))
