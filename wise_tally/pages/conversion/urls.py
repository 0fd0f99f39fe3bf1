"""Addresses of conversion."""

from django.urls import path

import wise_tally.pages.conversion.pins  # noqa: F401 - registers how the figures of this place are counted
from wise_tally.pages.conversion import (
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
    path("lead-conversion/", lead_conversion.page, name="leads"),
    path("lead-conversion/working/<str:figure>/", lead_conversion.working, name="leads-working"),
    path("lead-conversion/table.<str:kind>", lead_conversion.table, name="leads-table"),
    path("probability-check/", probability_check.page, name="probability-check"),
    path("probability-check/working/", probability_check.working, name="probability-check-working"),
    path("probability-check/back-test/<str:figure>/", probability_check.test_working, name="test-working"),
    path("probability-check/table.<str:kind>", tables.probability_check_table, name="probability-check-table"),
    path("loss-reasons/", loss_reasons.page, name="lost"),
    path("loss-reasons/working/", loss_reasons.working, name="lost-working"),
    path("loss-reasons/table.<str:kind>", loss_reasons.table, name="lost-table"),
    path("monthly-trend/", monthly_trend.page, name="over-time"),
    path("monthly-trend/working/<str:figure>/", monthly_trend.working, name="over-time-working"),
    path("monthly-trend/table.<str:kind>", monthly_trend.table, name="over-time-table"),
    path("working/<str:figure>/", views.working, name="working"),
    path("table.<str:kind>", tables.passing_table, name="table"),
]
