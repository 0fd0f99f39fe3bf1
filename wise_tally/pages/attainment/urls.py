"""Addresses of attainment."""

from django.urls import path

import wise_tally.web.request.addresses  # noqa: F401 - registers the "key" part of addresses
from wise_tally.pages.attainment import cash, commissions, period_comparison, views

app_name = "attainment"
urlpatterns = [
    path("", views.page, name="page"),
    path("table.<str:kind>", views.table, name="table"),
    path("year-progress/", views.year, name="year"),
    path("period-comparison/", period_comparison.page, name="compared"),
    path("period-comparison/table.<str:kind>", period_comparison.table, name="compared-table"),
    path("commissions/", commissions.page, name="commissions"),
    path("commissions/table.<str:kind>", commissions.table, name="commissions-table"),
    path("commissions/working/<str:figure>/", commissions.working, name="commissions-working"),
    path("commissions/of/<key:key>/hand-out/", commissions.issue, name="issue"),
    path("commissions/of/<key:key>/", commissions.statement, name="statement"),
    path("cash/", cash.page, name="cash"),
    path("cash/table.<str:kind>", cash.table, name="cash-table"),
    path("cash/working/<str:side>/", cash.working, name="cash-working"),
    path("working/<str:figure>/", views.working, name="working"),
]
