"""Addresses of conversion."""

from django.urls import path

import wise_tally.pages.conversion.pins  # noqa: F401 - registers how the figures of this place are counted
from wise_tally.pages.conversion import (
    forecast_accuracy,
    lead_conversion,
    loss_reasons,
    monthly_trend,
    probability_check,
    tables,
    views,
)

app_name = "conversion"
urlpatterns = [
    path("", views.page, name="page"),
    path("time/", views.time, name="time"),
    path("time/table.<str:kind>", tables.time_table, name="time-table"),
    path("time/typical-days/", views.set_typical, name="typical"),
    path("leads/", lead_conversion.page, name="leads"),
    path("leads/working/<str:figure>/", lead_conversion.working, name="leads-working"),
    path("leads/table.<str:kind>", lead_conversion.table, name="leads-table"),
    path("set-and-seen/", probability_check.page, name="seen"),
    path("set-and-seen/working/", probability_check.working, name="seen-working"),
    path("set-and-seen/back-test/<str:figure>/", probability_check.test_working, name="test-working"),
    path("set-and-seen/table.<str:kind>", tables.seen_table, name="seen-table"),
    path("records/", forecast_accuracy.page, name="records"),
    path("records/working/<str:figure>/", forecast_accuracy.working, name="records-working"),
    path("records/table.<str:kind>", forecast_accuracy.table, name="records-table"),
    path("lost/", loss_reasons.page, name="lost"),
    path("lost/working/", loss_reasons.working, name="lost-working"),
    path("lost/table.<str:kind>", loss_reasons.table, name="lost-table"),
    path("over-time/", monthly_trend.page, name="over-time"),
    path("over-time/working/<str:figure>/", monthly_trend.working, name="over-time-working"),
    path("over-time/table.<str:kind>", monthly_trend.table, name="over-time-table"),
    path("working/<str:figure>/", views.working, name="working"),
    path("table.<str:kind>", tables.passing_table, name="table"),
]
