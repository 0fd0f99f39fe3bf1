"""Addresses of the start page and the search."""

from django.urls import path

import wise_tally.web.request.addresses  # noqa: F401 - registers the "key" part of addresses
from wise_tally.pages.deals.today import calls, search, views

app_name = "today"
urlpatterns = [
    path("today/", views.today, name="today"),
    path("today/working/", views.working, name="working"),
    path("today/follow-up/", calls.follow, name="follow-up"),
    path("today/<key:key>/", views.update, name="update"),
    path("find/", search.find, name="find"),
]
