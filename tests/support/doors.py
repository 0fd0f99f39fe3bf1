"""Something of everything that belongs to one person, with words that nobody else's things hold."""

import re
from datetime import date, timedelta

from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection

from tests.conftest import NOW
from wise_tally.domain.dashboards.models import Dashboard, Tally
from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.handover import mark_of, portions_of
from wise_tally.domain.deals.last_step import rows_of
from wise_tally.domain.deals.models import (
    Account,
    Activity,
    Contact,
    Deal,
    DealRevision,
    KeptFile,
    Lead,
    Note,
    SavedView,
)
from wise_tally.domain.org.access import viewer_of
from wise_tally.domain.org.book_number import reference_changed, revisions_added
from wise_tally.domain.org.models import AgreedAction, ApiToken, CommissionRate, Person
from wise_tally.domain.org.records import as_text
from wise_tally.domain.org.token_actions import give_token
from wise_tally.domain.process.models import Source, Stage, StageFile, StageGuide, StageNotice, StageRule
from wise_tally.domain.targets.models import Call, Quota, QuotaChange
from wise_tally.pages.setup.imports.run import start_run
from wise_tally.pages.setup.stages.form import saved_rows
from wise_tally.web.files.uploads import UploadedTable

# Quota, call and rate of each, as digits: found in a page however they are written there.
NUMBERS = {"r01": ("7654321", "5432109", "1777"), "r08": ("8765432", "6543219", "1888")}
JANUARY = (date(2027, 1, 1), date(2027, 1, 31))

# What stands for an upload in a form, and what it holds.
FILES = {"FILE": b"name\nQuite New\n", "CARD": b"BEGIN:VCARD\r\nVERSION:4.0\r\nFN:Ann Other\r\nEND:VCARD\r\n"}

SEPARATORS = "[ .,\u00a0\u202f’']*"
# What is drawn by chance for each answer, the number of the request and the token of its forms, may hold any digits.
BY_CHANCE = re.compile(r"\b(?:[0-9a-f]{12}|\w{64})\b")


class Belongings:
    """What a person owns; `fill` puts its identifiers into an address or a form."""

    def __init__(self, owner, firm):
        self.firm = firm
        person, was = Person.objects.get(key=owner), NOW - timedelta(days=30)
        self.owner, self.mark, self.numbers = owner, f"Zwick{owner}", NUMBERS[owner]
        quota_minor, call_minor = (int(digits) * 100 for digits in self.numbers[:2])
        account = Account.objects.create(key=f"z_account_{owner}", name=f"{self.mark} Weir Board", owner=person)
        twin = Account.objects.create(key=f"z_twin_{owner}", name=f"{self.mark} Other Trust", owner=person)
        contact = Contact.objects.create(key=f"z_contact_{owner}", account=account, name=f"{self.mark} Mell",
                                         email="mell@weir.example")  # fmt: skip
        stage = Stage.objects.get(key="ns_offer")
        deal = Deal.objects.create(key=f"z_deal_{owner}", name=f"{self.mark} gauges", process=stage.process,
                                   created_at=was, account=account, next_step=f"{self.mark} step")  # fmt: skip
        state = {"deal": deal, "stage": stage, "owner": person, "expected_close": date(2026, 12, 20)}
        for days, amount in ((30, 7_000_000), (20, 8_000_000)):
            DealRevision.objects.create(**state, amount_minor=amount, effective_at=NOW - timedelta(days=days))
        lead = Lead.objects.create(key=f"z_lead_{owner}", name=f"{self.mark} Lead", owner=person, created_at=was,
                                   status="working", customer=f"{self.mark} Basin")  # fmt: skip
        fresh = Lead.objects.create(
            key=f"z_new_{owner}", name=f"{self.mark} New", owner=person, created_at=was, status="new"
        )
        about = {"account": account, "deal": deal, "person": person}
        self.activity = Activity.objects.create(key=f"z_act_{owner}", kind="phone", at=was, status="planned",
                                                subject=f"{self.mark} talk", **about)  # fmt: skip
        self.note = Note.objects.create(key=f"z_note_{owner}", at=was, text=f"{self.mark} note", **about)
        self.file = KeptFile.objects.create(key=f"z_file_{owner}", deal=deal, name="plan.txt", at=was, content=b"x")
        quota = {"subject": "person", "subject_key": owner, "starts_on": JANUARY[0], "ends_on": JANUARY[1]}
        Quota.objects.filter(**quota).delete()
        Quota.objects.create(**quota, metric="won_amount", value=quota_minor, set_at=was)
        cells = [["person", owner, "2027-01-01", "2027-01-31", 100, quota_minor]]
        kind = {"metric": "won_amount", "product_group": "", "deal_type": "", "source": "", "activity_kind": ""}
        change = QuotaChange.objects.create(at=was, what="typed", cells={"kind": kind, "cells": cells})
        # Of the quarter that runs, and of the one before, which records look back on.
        for first, last, made in ((date(2026, 10, 1), date(2026, 12, 31), was),
                                  (date(2026, 7, 1), date(2026, 9, 30), NOW - timedelta(days=101))):  # fmt: skip
            Call.objects.create(subject="person", subject_key=owner, starts_on=first, ends_on=last, made_at=made,
                                made_by=person, amount_minor=call_minor, reason=f"{self.mark} reason")  # fmt: skip
        CommissionRate.objects.filter(subject="person", subject_key=owner).delete()
        CommissionRate.objects.create(
            subject="person", subject_key=owner, from_on=date(2020, 1, 1), rate_bp=int(self.numbers[2])
        )
        self.names = firm.names | self.of_their_own(person, deal)
        self.names |= {"owner": owner, "account": account.key, "account_name": account.name, "twin": twin.key,
                      "contact": contact.key, "deal": deal.key, "revision": last_revision(deal).pk, "lead": lead.key, "fresh": fresh.key,
                      "owned": mark_of(portions_of(person, "all")),
                      "activity": self.activity.key, "note": self.note.key, "file": self.file.key,
                      "note_rows": [(None, rows_of(deal)[f"Note {self.note.pk}"])],
                      "change": change.pk, "quota": self.numbers[0]}  # fmt: skip
        revisions_added()
        reference_changed()

    def of_their_own(self, person, deal):
        """What is nobody else's business, nor that of those above; identifiers by name."""
        view = SavedView.objects.create(key=f"z_view_{self.owner}", name=f"{self.mark} view", owner=person)
        tally = Tally.objects.create(
            key=f"z_tally_{self.owner}", name=f"{self.mark} tally", owner=person, query="show=won"
        )
        board = Dashboard.objects.create(key=f"z_board_{self.owner}", name=f"{self.mark} board", owner=person)
        give_token(viewer_of(person), f"{self.mark} token", NOW)
        agreed = AgreedAction.objects.create(key=f"z_agreed_{self.owner}", person_key=self.owner, by=person,
                                             agreed_on=NOW.date(), text=f"{self.mark} agreed")  # fmt: skip
        step = {"next_step": deal.next_step, "next_step_on": None}
        return {"view": view.key, "tally": tally.key, "board": board.key, "agreed": agreed.key,
                "token": ApiToken.objects.get(person=person).pk, "step": as_text(step),
                "step_before": as_text(step | {"next_step": "Ask"})}  # fmt: skip

    def fill(self, body):
        """An address, or the values of a form, with this person's identifiers; what FILES names becomes an upload."""
        if isinstance(body, dict):
            filled = {name.format(**self.names): self.fill(value) for name, value in body.items()}
            return self.firm.stages | filled if "STAGES" in body else filled
        if isinstance(body, list):
            return [self.fill(one) for one in body]
        if not isinstance(body, str) or body in FILES:
            return SimpleUploadedFile("a.csv", FILES[body]) if isinstance(body, str) else body
        return self.names[body.lower()] if body in ("REVISION", "NOTE_ROWS") else body.format(**self.names)

    def shown_in(self, text):
        """Which of this person's words and numbers stand in a page, however numbers are written."""
        quota, call, rate = self.numbers
        written = re.compile("|".join(SEPARATORS.join(digits) for digits in (quota, call, f"{rate}%")))
        numbers = written.findall(BY_CHANCE.sub("", text)) if written.search(text) else []
        return [self.mark] * (self.mark in text) + numbers


class Firm:
    """What belongs to the firm: a source that nothing uses, a later rule, a guide's file, a notice, a file on its way in."""

    def __init__(self, admin):
        stage = Stage.objects.get(key="ns_offer")
        Source.objects.create(key="z_source", name="Unused")
        StageGuide.objects.create(stage=stage, checklist="Power or sun")
        StageFile.objects.create(stage=stage, name="z.txt", content=b"x")
        StageNotice.objects.create(key="z_notice", stage=stage, recipients="owner", subject="S", body="B")
        later = StageRule.objects.create(stage=stage, effective_at=NOW + timedelta(days=9), probability_bp=5_000)
        content = b"name\nQuite New\n"
        run = start_run(viewer_of(admin), "leads", "a.csv", content, UploadedTable(["name"], [(2, ["Quite New"])]), NOW)
        rows = saved_rows(list(stage.process.stages.filter(retired=False)), NOW)
        typed = {f"{name}:{row.stage.key}": value for row in rows for name, value in row.values.items()}
        self.stages = typed | {"probability:ns_offer": "51"}
        self.names = {"rule": later.pk, "run": run.pk}


# Who is there at all, and tries, is written down whatever the answer.
ALWAYS_WRITTEN = ("django_session", "axes_", "auth_user")


def written(work):
    """The answer of some work, and the tables that it wrote to."""
    tables = set()

    def watch(execute, sql, params, many, context):
        words = sql.replace('"', " ").split(maxsplit=4)
        if words[0] in ("INSERT", "UPDATE", "DELETE"):
            name = (
                words[1]
                if words[0] == "UPDATE"
                else next(w for w in words[1:] if w not in ("INTO", "FROM", "OR", "IGNORE"))
            )
            tables.update({name} if not name.startswith(ALWAYS_WRITTEN) else ())
        return execute(sql, params, many, context)

    with connection.execute_wrapper(watch):
        answer = work()
    return answer, tables
