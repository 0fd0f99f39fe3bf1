"""Addresses of the forecast."""

from django.urls import path

import wise_tally.pages.forecast.pins  # noqa: F401 - registers how the figures of this place are counted
from wise_tally.pages.forecast import calls, daily_trend, outcomes, views, what_changed, what_changed_working, what_if

app_name = "forecast"
urlpatterns = [
    path("", views.page, name="page"),
    path("working/<str:figure>/", views.working, name="working"),
    path("deals/", views.not_counted, name="not-counted"),
    path("through/", daily_trend.page, name="through"),
    path("through/table.<str:kind>", daily_trend.table, name="through-table"),
    path("changed/", what_changed.page, name="changed"),
    path("changed/meeting/", what_changed.meeting, name="meeting"),
    path("changed/working/", what_changed_working.working, name="changed-working"),
    path("changed/table.<str:kind>", what_changed.table, name="changed-table"),
    path("range/", outcomes.page, name="range"),
    path("range/table.<str:kind>", outcomes.table, name="range-table"),
    path("what-if/", what_if.page, name="what-if"),
    path("calls/", calls.page, name="calls"),
    path("calls/table.<str:kind>", calls.table, name="calls-table"),
    path("columns/", views.columns, name="columns"),
    path("table.<str:kind>", views.table, name="table"),
]
