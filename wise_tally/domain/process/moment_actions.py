"""What a firm asks before a deal enters a stage, what helps while it is there, what happens once it has entered."""

import re
from datetime import datetime

from django.db import transaction

from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.models import Person
from wise_tally.domain.org.records import as_text, save_record
from wise_tally.domain.process.check_language import KINDS, Check, CheckWrong, read_check
from wise_tally.domain.process.models import EntryCheck, Stage, StageFile, StageGuide, StageNotice
from wise_tally.domain.refusals import WriteRefused

MOST_FILE_BYTES = 5_000_000
PLANNED = re.compile(rf"({'|'.join(KINDS)}) after (\d{{1,3}}) days(?:: (.+))?")
RECIPIENTS = ("owner", "manager", "administrators")
PLACEHOLDERS = ("deal", "amount", "stage", "account", "owner", "expected_close")


def read_checks(text: str, own_fields: dict[str, str]) -> list[Check]:
    """All sentences, or WriteRefused with every fault."""
    people = frozenset(Person.objects.values_list("key", flat=True))
    checks, faults = [], []
    for number, line in enumerate(text.splitlines(), 1):
        if line.strip():
            try:
                checks.append(read_check(line, own_fields, people))
            except CheckWrong as wrong:
                faults.append(f"Line {number}: {wrong}")
    if faults:
        raise WriteRefused("\n".join(faults))
    return checks


def checks_of(stage: Stage) -> str:
    """The stage's entry checks, one a line."""
    return "\n".join(stage.checks.order_by("position").values_list("text", flat=True))


def guide_of(stage: Stage) -> dict[str, str]:
    """The stage guide's words, checklist and activities."""
    guide = StageGuide.objects.filter(stage=stage).first() or StageGuide()
    return {"text": guide.text, "checklist": guide.checklist, "activities": guide.activities}


def _require_expected(expected: str | None, now: str) -> None:
    """Refuse on a state that somebody changed meanwhile, showing what is there now."""
    if expected is not None and expected.replace("\r\n", "\n") != now:
        there = now.replace("\n", " / ") or "nothing"
        raise WriteRefused(f"Somebody else has changed this to “{there}”. Save again to overwrite.")


@transaction.atomic
def set_checks(
    viewer: Viewer, stage: Stage, text: str, own_fields: dict[str, str], now: datetime, expected: str | None = None
) -> None:
    """What is asked before a deal enters; raises WriteRefused with every line that cannot be read, or on an old state."""
    viewer.require(May.SET_RULES)
    checks = read_checks(text, own_fields)
    before = checks_of(stage)
    _require_expected(expected, before)
    stage.checks.all().delete()
    EntryCheck.objects.bulk_create(
        EntryCheck(stage=stage, position=index, text=check.text) for index, check in enumerate(checks, 1)
    )
    after = "\n".join(check.text for check in checks)
    audit(viewer, "entry criteria set", f"{stage.name} ({stage.key})", now, before, after)


@transaction.atomic
def set_guide(viewer: Viewer, stage: Stage, values: dict[str, str], now: datetime, expected: str | None = None) -> None:
    """What helps while a deal is in the stage: text, checklist, activities.

    Raises WriteRefused for an activity that cannot be read, or on an old state.
    """
    viewer.require(May.SET_RULES)
    wrong = [line for line in values["activities"].splitlines() if line.strip() and not PLANNED.fullmatch(line.strip())]
    if wrong:
        raise WriteRefused(
            f"“{wrong[0][:60]}” cannot be read. Write for example “phone after 3 days: ask for the plan”."
            f" Activities: {', '.join(KINDS)}."
        )
    before = guide_of(stage)
    _require_expected(expected, as_text(before))
    StageGuide.objects.update_or_create(stage=stage, defaults=values)
    audit(viewer, "stage guide set", f"{stage.name} ({stage.key})", now, as_text(before), as_text(values))


@transaction.atomic
def add_file(viewer: Viewer, stage: Stage, name: str, content: bytes, now: datetime) -> None:
    """A file that helps in the stage; one of the same name is replaced."""
    viewer.require(May.SET_RULES)
    if not content or len(content) > MOST_FILE_BYTES:
        raise WriteRefused(f"The file is too large or empty. The limit is {MOST_FILE_BYTES / 1e6:.0f} MB.")
    StageFile.objects.update_or_create(stage=stage, name=name[-200:], defaults={"content": content})
    audit(viewer, "stage file added", f"{stage.name} ({stage.key})", now, after=name[-200:])


@transaction.atomic
def remove_file(viewer: Viewer, stage: Stage, name: str, now: datetime) -> None:
    """Take a file away."""
    viewer.require(May.SET_RULES)
    StageFile.objects.filter(stage=stage, name=name).delete()
    audit(viewer, "stage file taken away", f"{stage.name} ({stage.key})", now, before=name)


def save_notice(viewer: Viewer, stage: Stage, key: str | None, values: dict[str, str], now: datetime) -> None:
    """A message sent once a deal has entered; raises WriteRefused for recipients or placeholders not known."""
    faults = []
    lines = [line.strip() for line in values["recipients"].splitlines() if line.strip()]
    people = set(Person.objects.values_list("key", flat=True))
    unknown = [line for line in lines if line not in RECIPIENTS and line not in people and "@" not in line]
    if not lines or unknown:
        who = f"“{unknown[0][:60]}” is nobody" if unknown else "Nobody receives it"
        faults.append(
            f"{who}; accepted, one a line: {', '.join(RECIPIENTS)}, a person's identifier, or a mail address."
        )
    if not values["subject"].strip():
        faults.append("Enter a subject.")
    names = re.findall(r"\{([^}]*)\}", values["subject"] + values["body"])
    if strange := [name for name in names if name not in PLACEHOLDERS]:
        right = ", ".join("{" + name + "}" for name in PLACEHOLDERS)
        faults.append(f"“{{{strange[0][:40]}}}” is not a field of a deal. Use one of: {right}.")
    if faults:
        raise WriteRefused("\n".join(faults))
    cleaned = {**values, "recipients": "\n".join(lines), "subject": values["subject"].strip()[:200]}
    if key is None:
        # The identifier is read from a name, which notices have not.
        _add_notice(viewer, stage, cleaned, now)
    else:
        save_record(viewer, StageNotice, key, cleaned, now)


@transaction.atomic
def _add_notice(viewer: Viewer, stage: Stage, values: dict[str, str], now: datetime) -> None:
    viewer.require(May.SET_RULES)
    number = StageNotice.objects.filter(key__startswith=f"{stage.key[:50]}_").count() + 1
    while StageNotice.objects.filter(key=f"{stage.key[:50]}_{number}").exists():
        number += 1
    StageNotice.objects.create(key=f"{stage.key[:50]}_{number}", stage=stage, **values)
    audit(viewer, "notice added", f"{stage.name} ({stage.key})", now, after=as_text(values))


@transaction.atomic
def remove_notice(viewer: Viewer, stage: Stage, key: str, now: datetime) -> None:
    """Take a notice away."""
    viewer.require(May.SET_RULES)
    notices = StageNotice.objects.filter(stage=stage, key=key)
    before = "; ".join(notices.values_list("subject", flat=True))
    notices.delete()
    audit(viewer, "notice taken away", f"{stage.name} ({stage.key})", now, before=before)
