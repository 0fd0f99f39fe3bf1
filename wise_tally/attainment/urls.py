"""Addresses of attainment."""

from django.urls import path

from wise_tally.attainment import views

app_name = "attainment"
urlpatterns = [
    path("", views.page, name="page"),
    path("table.<str:kind>", views.table, name="table"),
]
