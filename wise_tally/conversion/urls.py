"""Addresses of conversion."""

from django.urls import path

from wise_tally.conversion import views

app_name = "conversion"
urlpatterns = [
    path("", views.page, name="page"),
]
