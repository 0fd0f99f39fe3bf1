"""Addresses of conversion."""

from django.urls import path

import wise_tally.conversion.pins  # noqa: F401 - registers how the figures of this place are counted
from wise_tally.conversion import views

app_name = "conversion"
urlpatterns = [
    path("", views.page, name="page"),
    path("time/", views.time, name="time"),
    path("working/<str:figure>/", views.working, name="working"),
    path("table.<str:kind>", views.table, name="table"),
]
