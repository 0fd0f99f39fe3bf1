"""Addresses of setup."""

from django.urls import path

import wise_tally.web.request.addresses  # noqa: F401 - registers the "key" part of addresses
from wise_tally.pages.setup import contact_intervals, organisation, start, views
from wise_tally.pages.setup.lists import views as lists
from wise_tally.pages.setup.people import hand_over
from wise_tally.pages.setup.people import views as people
from wise_tally.pages.setup.quotas import views as quotas
from wise_tally.pages.setup.quotas import working as quota_working
from wise_tally.pages.setup.records import downloads
from wise_tally.pages.setup.records import views as records
from wise_tally.pages.setup.stages import moments as stage_moments
from wise_tally.pages.setup.stages import processes, stage_page
from wise_tally.pages.setup.stages import views as stages

app_name = "setup"
urlpatterns = [
    path("", views.page, name="page"),
    path("start/", start.start, name="start"),
    path("processes/", processes.processes, name="processes"),
    path("stages/<key:process>/", stages.stages, name="stages"),
    path("stages/<key:process>/move/", stages.move, name="move"),
    path("stages/<key:process>/retire/", stage_page.retire, name="retire"),
    path("stages/<key:process>/<key:stage>/", stage_page.stage, name="stage"),
    path("stages/<key:process>/<key:stage>/files/<key:name>/", stage_moments.file, name="stage-file"),
    path("audit/", records.audit, name="audit"),
    path("audit/table.<str:kind>", records.audit_table, name="audit-table"),
    path("outbox/", records.outbox, name="outbox"),
    path("outbox/<int:number>/document/", records.document, name="outbox-document"),
    path("backups/", records.backups, name="backups"),
    path("backups/package.zip", downloads.package, name="package"),
    path("backups/<str:name>", downloads.backup_file, name="backup-file"),
    path("contact-intervals/", contact_intervals.page, name="contact-intervals"),
    path("organisation/", organisation.organisation, name="organisation"),
    path("order-of/<slug:slug>/", lists.order, name="order"),
    path("lists/<slug:slug>/", lists.entries, name="entries"),
    path("lists/<slug:slug>/<key:key>/", lists.entry, name="entry"),
    path("lists/<slug:slug>/<key:key>/remove/", lists.remove, name="remove"),
    path("lists/<slug:slug>/<key:key>/rate/", people.rate, name="rate"),
    path("tree/<slug:slug>/", people.tree, name="tree"),
    path("people/<key:key>/hand-over/", hand_over.page, name="hand-over"),
    path("people/<key:key>/hand-over/undo/", hand_over.undo, name="hand-over-undo"),
    path("people/<key:key>/", people.person, name="person"),
    path("quotas/", quotas.quotas, name="quotas"),
    path("quotas/sheet.<str:kind>", quotas.sheet, name="quota-sheet"),
    path("quotas/working/<str:what>/", quota_working.working, name="quota-working"),
    path("quotas/words/", quotas.words, name="quota-words"),
    path("quotas/undo/", quotas.undo, name="quota-undo"),
    path("quotas/parts/", quotas.parts, name="quota-parts"),
]
