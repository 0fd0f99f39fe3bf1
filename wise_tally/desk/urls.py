"""Addresses of the start page and the search."""

from django.urls import path

import wise_tally.ui.addresses  # noqa: F401 - registers the "key" part of addresses
from wise_tally.desk import views

app_name = "desk"
urlpatterns = [
    path("today/", views.today, name="today"),
    path("today/working/", views.working, name="working"),
    path("today/<key:key>/", views.update, name="update"),
    path("find/", views.find, name="find"),
]
