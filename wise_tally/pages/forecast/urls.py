"""Addresses of the forecast."""

from django.urls import path

import wise_tally.pages.forecast.pins  # noqa: F401 - registers how the figures of this place are counted
from wise_tally.pages.forecast import calls, changed, changed_working, outcomes, through, views, what_if

app_name = "forecast"
urlpatterns = [
    path("", views.page, name="page"),
    path("working/<str:figure>/", views.working, name="working"),
    path("deals/", views.not_counted, name="not-counted"),
    path("through/", through.page, name="through"),
    path("through/table.<str:kind>", through.table, name="through-table"),
    path("changed/", changed.page, name="changed"),
    path("changed/meeting/", changed.meeting, name="meeting"),
    path("changed/working/", changed_working.working, name="changed-working"),
    path("changed/table.<str:kind>", changed.table, name="changed-table"),
    path("range/", outcomes.page, name="range"),
    path("range/table.<str:kind>", outcomes.table, name="range-table"),
    path("what-if/", what_if.page, name="what-if"),
    path("calls/", calls.page, name="calls"),
    path("calls/table.<str:kind>", calls.table, name="calls-table"),
    path("columns/", views.columns, name="columns"),
    path("table.<str:kind>", views.table, name="table"),
]
