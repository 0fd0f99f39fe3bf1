"""Addresses of deals."""

from django.urls import path

import wise_tally.ui.addresses  # noqa: F401 - registers the "key" part of addresses
from wise_tally.deal_pages import views

app_name = "deals"
urlpatterns = [
    path("", views.page, name="page"),
    path("table.<str:kind>", views.table, name="table"),
    path("<key:key>/", views.deal, name="deal"),
    path("<key:key>/change/", views.change, name="change"),
]
