"""Addresses of setup."""

from django.urls import path

from wise_tally.setup import views

app_name = "setup"
urlpatterns = [
    path("", views.page, name="page"),
]
