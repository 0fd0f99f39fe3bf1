"""Addresses of accounts, contacts, leads, activities and notes."""

from django.urls import path

import wise_tally.web.request.addresses  # noqa: F401 - registers the "key" part of addresses
from wise_tally.pages.deals.customers import (
    accounts,
    activities,
    contacts,
    files,
    last_step,
    lead_page,
    leads,
    personal,
    several,
    sheet,
    vcards,
    workings,
)

app_name = "customers"
urlpatterns = [
    path("accounts/", accounts.page, name="accounts"),
    path("accounts/table.<str:kind>", accounts.table, name="table"),
    path("accounts/new/", accounts.new, name="new-account"),
    path("account/<key:key>/", sheet.account, name="account"),
    path("account/<key:key>/table.<str:kind>", files.account_table, name="account-table"),
    path("account/<key:key>/working/<str:figure>/", workings.of_account, name="figure"),
    path("account/<key:key>/change/", accounts.change, name="change-account"),
    path("account/<key:key>/merge/", accounts.merge, name="merge"),
    path("account/<key:key>/contacts/", contacts.new, name="new-contact"),
    path("account/<key:key>/contacts.vcf", vcards.out, name="vcards"),
    path("account/<key:key>/contacts/read-in/", vcards.read_in, name="read-vcards"),
    path("contact/<key:key>/", contacts.change, name="contact"),
    path("contact/<key:key>/write/", contacts.write, name="write"),
    path("contact/<key:key>/personal/", personal.of_contact, name="contact-data"),
    path("lead/<key:key>/personal/", personal.of_lead, name="lead-data"),
    path("leads/", leads.page, name="leads"),
    path("leads/table.<str:kind>", leads.table, name="leads-table"),
    path("several/", several.change, name="several"),
    path("leads/new/", lead_page.new, name="new-lead"),
    path("lead/<key:key>/", lead_page.lead, name="lead"),
    path("lead/<key:key>/working/", workings.of_lead, name="lead-figure"),
    path("lead/<key:key>/change/", lead_page.change, name="change-lead"),
    path("activities/", activities.add, name="add-activity"),
    path("activity/<key:key>/", activities.change, name="activity"),
    path("undo/<str:token>/", last_step.undo, name="undo"),
    path("notes/", activities.add_a_note, name="add-note"),
    path("note/<key:key>/", activities.note_away, name="note"),
]
