"""Addresses of the forecast."""

from django.urls import path

import wise_tally.pages.forecast.pins  # noqa: F401 - registers how the figures of this place are counted
from wise_tally.pages.forecast import (
    calls,
    daily_trend,
    forecast_accuracy,
    outlook,
    views,
    what_changed,
    what_changed_working,
    what_if,
)

app_name = "forecast"
urlpatterns = [
    path("", views.page, name="page"),
    path("working/<str:figure>/", views.working, name="working"),
    path("deals/", views.not_counted, name="not-counted"),
    path("trend/", daily_trend.page, name="through"),
    path("trend/table.<str:kind>", daily_trend.table, name="through-table"),
    path("changed/", what_changed.page, name="changed"),
    path("changed/meeting/", what_changed.meeting, name="meeting"),
    path("changed/working/", what_changed_working.working, name="changed-working"),
    path("changed/table.<str:kind>", what_changed.table, name="changed-table"),
    path("outlook/", outlook.page, name="outlook"),
    path("outlook/table.<str:kind>", outlook.table, name="outlook-table"),
    path("what-if/", what_if.page, name="what-if"),
    path("submitted/", calls.page, name="calls"),
    path("submitted/table.<str:kind>", calls.table, name="calls-table"),
    path("accuracy/", forecast_accuracy.page, name="accuracy"),
    path("accuracy/working/<str:figure>/", forecast_accuracy.working, name="accuracy-working"),
    path("accuracy/table.<str:kind>", forecast_accuracy.table, name="accuracy-table"),
    path("columns/", views.columns, name="columns"),
    path("table.<str:kind>", views.table, name="table"),
]
