"""Addresses of team."""

from django.urls import path

from wise_tally.team import views

app_name = "team"
urlpatterns = [
    path("", views.page, name="page"),
]
