"""The three moments of a stage: what is asked before, what helps while, what happens after."""

from collections.abc import Callable
from decimal import Decimal
from typing import Any

from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_safe

from wise_tally.domain.deals.entry import own_field_kinds
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.records import as_text
from wise_tally.domain.process.check_language import (
    ACCEPTED,
    KINDS,
    MOVER,
    QUESTION,
    SENTENCES,
    CheckWrong,
    sentence_of,
    subject_kinds,
)
from wise_tally.domain.process.models import Document, Stage, StageFile
from wise_tally.domain.process.moment_actions import (
    MOST_FILE_BYTES,
    PLACEHOLDERS,
    RECIPIENTS,
    add_file,
    checks_of,
    guide_of,
    remove_file,
    remove_notice,
    save_notice,
    set_checks,
    set_guide,
)
from wise_tally.domain.refusals import WriteRefused
from wise_tally.domain.typed_numbers import typed_count
from wise_tally.web.request.viewing import PageRequest

TYPED = (
    *("about", "asked", "asks", "bound"),
    *("checks", "text", "checklist", "activities", "recipients", "subject", "body", "document", "notice"),
)


def moments_of(stage: Stage, typed: dict[str, str] | None = None, wrong: str = "", moment: str = "") -> dict[str, Any]:
    """What the stage page shows of the three moments; what was typed into one and is `wrong` stands over what is kept."""
    guide, checks = guide_of(stage), checks_of(stage)
    shown = {"checks": checks, **guide}
    return {
        "expected_checks": checks,
        "expected_guide": as_text(guide),
        "typed": shown | (typed or {}),
        "wrong": {moment: [line for line in wrong.splitlines() if line]},
        "files": stage.files.order_by("name").only("name"),
        "notices": stage.notices.order_by("key"),
        "documents": Document.choices,
        "recipients": RECIPIENTS,
        "placeholders": ["{" + name + "}" for name in PLACEHOLDERS],
        "saved_checks": checks.splitlines(),
        "subjects": subject_kinds(own_field_kinds()),
        "sentences": SENTENCES,
        "kinds": KINDS,
        "accepted": ACCEPTED,
    }


def _checks(request: PageRequest, stage: Stage, typed: dict[str, str]) -> str:
    set_checks(request.viewer, stage, typed.get("checks", ""), own_field_kinds(), now(), request.POST.get("expected"))
    return "Entry criteria saved. They apply to deals that enter from now on."


def _add_check(request: PageRequest, stage: Stage, typed: dict[str, str]) -> str:
    """One more sentence, from the parts picked; a number may be typed as anywhere else."""
    picked, bound = typed.get("about", ""), typed.get("bound", "").strip()
    kind, _, name = picked.partition(":")
    subject = typed.get("asked", "") if kind in (QUESTION, MOVER) else name
    number = typed_count(bound) if bound else ""
    try:
        if isinstance(number, str) and bound:
            raise CheckWrong(number)
        plain = format(Decimal(number).scaleb(-2).normalize(), "f") if isinstance(number, int) else ""
        sentence = sentence_of(typed.get("asks", ""), subject, plain)
    except CheckWrong as wrong:
        raise WriteRefused(str(wrong)) from wrong
    checks = checks_of(stage)
    set_checks(request.viewer, stage, f"{checks}\n{sentence}", own_field_kinds(), now(), request.POST.get("expected"))
    return f"“{sentence}” was added. It applies to deals that enter from now on."


def _check_away(request: PageRequest, stage: Stage, typed: dict[str, str]) -> str:
    away, lines = request.POST.get("line", ""), checks_of(stage).splitlines()
    if away not in lines:
        raise WriteRefused("This rule is not there any more. The list below is as it is now.")
    lines.remove(away)
    set_checks(request.viewer, stage, "\n".join(lines), own_field_kinds(), now(), request.POST.get("expected"))
    return f"“{away}” was deleted."


def _guide(request: PageRequest, stage: Stage, typed: dict[str, str]) -> str:
    values = {name: typed.get(name, "") for name in ("text", "checklist", "activities")}
    set_guide(request.viewer, stage, values, now(), request.POST.get("expected"))
    return "Stage guide saved."


def _add_file(request: PageRequest, stage: Stage, typed: dict[str, str]) -> str:
    file = request.FILES.get("file")
    if file is None or not file.name or (file.size or 0) > MOST_FILE_BYTES:
        raise WriteRefused(f"Choose a file of up to {MOST_FILE_BYTES:,} bytes.")
    add_file(request.viewer, stage, file.name, file.read(), now())
    return f"{file.name} was added."


def _remove_file(request: PageRequest, stage: Stage, typed: dict[str, str]) -> str:
    remove_file(request.viewer, stage, request.POST.get("name", ""), now())
    return "File deleted."


def _notice(request: PageRequest, stage: Stage, typed: dict[str, str]) -> str:
    document = typed.get("document", "")
    if document not in Document.values:
        raise WriteRefused(f"Choose a document: {', '.join(str(v) or 'nothing' for v in Document.values)}.")
    values = {name: typed.get(name, "") for name in ("recipients", "subject", "body")}
    save_notice(request.viewer, stage, None, {**values, "document": document}, now())
    return "Notification added."


def _remove_notice(request: PageRequest, stage: Stage, typed: dict[str, str]) -> str:
    remove_notice(request.viewer, stage, typed.get("notice", ""), now())
    return "Notification deleted."


# What each button does, and the moment it belongs to, where what is wrong stands.
CHANGES: dict[str, tuple[str, Callable[[PageRequest, Stage, dict[str, str]], str]]] = {
    "checks": ("criteria", _checks),
    "add-check": ("criteria", _add_check),
    "check-away": ("criteria", _check_away),
    "guide": ("guide", _guide),
    "file": ("guide", _add_file),
    "file-away": ("guide", _remove_file),
    "notice": ("notices", _notice),
    "notice-away": ("notices", _remove_notice),
}


@require_safe
def file(request: PageRequest, process: str, stage: str, name: str) -> HttpResponse:
    """A file of the stage guide, always as a download."""
    stage_file = get_object_or_404(StageFile, stage__process__key=process, stage__key=stage, name=name)
    answer = HttpResponse(bytes(stage_file.content), content_type="application/octet-stream")
    answer["Content-Disposition"] = (
        f'attachment; filename="{name.encode("ascii", "replace").decode().replace(chr(34), "")}"'
    )
    return answer
