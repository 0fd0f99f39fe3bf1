"""Addresses of conversion."""

from django.urls import path

import wise_tally.pages.conversion.pins  # noqa: F401 - registers how the figures of this place are counted
from wise_tally.pages.conversion import leads, lost, over_time, records, seen, tables, views

app_name = "conversion"
urlpatterns = [
    path("", views.page, name="page"),
    path("time/", views.time, name="time"),
    path("time/table.<str:kind>", tables.time_table, name="time-table"),
    path("time/typical-days/", views.set_typical, name="typical"),
    path("leads/", leads.page, name="leads"),
    path("leads/working/<str:figure>/", leads.working, name="leads-working"),
    path("leads/table.<str:kind>", leads.table, name="leads-table"),
    path("set-and-seen/", seen.page, name="seen"),
    path("set-and-seen/working/", seen.working, name="seen-working"),
    path("set-and-seen/back-test/<str:figure>/", seen.test_working, name="test-working"),
    path("set-and-seen/table.<str:kind>", tables.seen_table, name="seen-table"),
    path("records/", records.page, name="records"),
    path("records/working/<str:figure>/", records.working, name="records-working"),
    path("records/table.<str:kind>", records.table, name="records-table"),
    path("lost/", lost.page, name="lost"),
    path("lost/working/", lost.working, name="lost-working"),
    path("lost/table.<str:kind>", lost.table, name="lost-table"),
    path("over-time/", over_time.page, name="over-time"),
    path("over-time/working/<str:figure>/", over_time.working, name="over-time-working"),
    path("over-time/table.<str:kind>", over_time.table, name="over-time-table"),
    path("working/<str:figure>/", views.working, name="working"),
    path("table.<str:kind>", tables.passing_table, name="table"),
]
